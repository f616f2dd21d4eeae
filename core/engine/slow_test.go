package engine_test

import (
	"fmt"
	"math/big"
	"slices"
	"sort"
	"strings"
	"time"

	"dimlantern/core/verdict"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// The slow evaluator of all clauses: written from the meaning of the language, for a
// rule and the verdicts of its entries. It keeps every entry since a key started from
// zero, and finds what is due by looking at everything each time.

const never = int64(1) << 62

type slow struct {
	rules   []*lang.Rule
	keys    []map[string]*slowKey
	clock   int64
	watched int64 // when watching began
	blind   map[string]int64
	out     []string
	seq     int
}

type item struct {
	at, seq      int64
	hit, counted bool
	where        uint64
	values       map[string]string
	entered      []bool // by when
}

type slowKey struct {
	rule    int
	vals    []string
	zero    int64
	items   []item // in sequence, since zero
	recov   []int64
	waits   [][]slowWait // by raise
	said    []bool
	mark    []int64 // by when: up to where fall-outs, or periods, were judged
	ripe    []bool
	results [][]slowResult
	fresh   []bool // judged by a clear at this instant, and not by the raises yet
	origins map[string]bool
	dark    int64 // never: it is seen
	awaits  struct {
		on, aged         bool
		asked, heard, by int64
	}
	alert *slowAlert
	past  *slowAlert
	ended int64 // when past was cleared
}

type slowWait struct{ at, first, last int64 }
type slowResult struct {
	holds bool
	hits  []item
}

type slowAlert struct {
	sev           entry.Severity
	raised, since int64
	told          int64
	count         int
	first, last   int64 // never: absent
	blind         bool
	darks         [][2]int64
}

func newSlow(rules []*lang.Rule, watched int64) *slow {
	e := &slow{rules: rules, blind: map[string]int64{}, watched: watched, clock: watched}
	for range rules {
		e.keys = append(e.keys, map[string]*slowKey{})
	}
	for i, r := range rules {
		for _, h := range r.From {
			e.wait(e.key(i, []string{h}, ""))
		}
		if r.Awaits != nil && r.Once == nil && len(r.Per) == 0 {
			e.wait(e.key(i, nil, ""))
		}
	}
	return e
}

func (e *slow) wait(k *slowKey) { k.awaits.on, k.awaits.by = true, e.watched }

// key finds or makes a key.
func (e *slow) key(rule int, vals []string, origin string) *slowKey {
	vals = engine.Written(vals)
	id := strings.Join(vals, "\x00")
	k := e.keys[rule][id]
	if k == nil {
		k = &slowKey{rule: rule, vals: vals, dark: never, origins: map[string]bool{},
			waits: make([][]slowWait, len(e.rules[rule].Raises))}
		k.awaits.asked, k.awaits.heard, k.awaits.by = -never, -never, -never
		e.reset(k)
		e.keys[rule][id] = k
	}
	if origin != "" && !k.origins[origin] {
		k.origins[origin] = true
		if _, blind := e.blind[origin]; !blind {
			e.lit(k, e.clock)
		}
	}
	return k
}

// reset lets a key start from zero.
func (e *slow) reset(k *slowKey) {
	r := e.rules[k.rule]
	n := len(r.Whens())
	k.zero, k.items, k.recov, k.waits = e.clock, nil, nil, make([][]slowWait, len(r.Raises))
	k.said, k.mark, k.ripe, k.fresh = make([]bool, n), make([]int64, n), make([]bool, n), make([]bool, n)
	k.results = make([][]slowResult, n)
	for i, w := range r.Whens() {
		k.mark[i] = k.zero
		if w.K > 0 {
			k.mark[i] = periodStart(w, k.zero)
		}
	}
}

func periodStart(w *lang.When, at int64) int64 { return at - at%int64(w.In) }

func (e *slow) say(k *slowKey, change, why string, at int64) {
	a := k.alert
	text := func(t int64) string {
		if t == never {
			return "-"
		}
		return fmt.Sprint(t)
	}
	e.out = append(e.out, fmt.Sprintf("%d %s %s %v sev%d count%d first%s last%s %s", at, change, e.rules[k.rule].Name,
		k.vals, a.sev, a.count, text(a.first), text(a.last), why))
}

func (e *slow) end(k *slowKey, why string) {
	e.over(k, why)
	e.reset(k)
}

// over clears an alert of which nothing starts from zero.
func (e *slow) over(k *slowKey, why string) {
	e.say(k, "cleared", why, e.clock)
	k.past, k.ended, k.alert = k.alert, e.clock, nil
}

// raise raises, reopens or worsens.
func (e *slow) raise(k *slowKey, sev entry.Severity, count int, hits []item, why string, blind bool) {
	r := e.rules[k.rule]
	if a := k.alert; a != nil {
		a.blind = a.blind && blind
		if sev > a.sev {
			a.sev = sev
			e.say(k, "worsened", why, e.clock)
			a.told = e.clock
		}
		return
	}
	a := &slowAlert{sev: sev, raised: e.clock, since: e.clock, told: e.clock, count: count, first: never, last: never,
		blind: blind}
	for _, h := range hits {
		a.note(h.at)
	}
	change := "raised"
	if k.past != nil && r.Reopen > 0 && e.clock-k.ended < int64(r.Reopen) {
		change = "reopened"
		a.count += k.past.count
		a.raised = k.past.raised
		if k.past.first != never {
			a.first = k.past.first
			a.last = max(k.past.last, a.lastOr(k.past.last))
		}
	}
	k.alert = a
	k.recov = nil
	for i, w := range r.Whens() {
		if i >= raises(r) {
			k.said[i], k.results[i], k.mark[i], k.ripe[i] = false, nil, e.clock, k.zero+int64(w.In) <= e.clock
			if w.K > 0 {
				k.mark[i] = periodStart(w, e.clock)
			}
		}
	}
	e.say(k, change, why, e.clock)
}

func (a *slowAlert) lastOr(t int64) int64 {
	if a.last == never {
		return t
	}
	return a.last
}

func (a *slowAlert) note(at int64) {
	if a.first == never || at < a.first {
		a.first = at
	}
	if a.last == never || at > a.last {
		a.last = at
	}
}

// raises is how many of the whens are those of raises.
func raises(r *lang.Rule) int { return len(r.Whens()) - len(r.ClearWhens) }

// whenOf is the place among the whens of a raise.
func whenOf(r *lang.Rule, raise int) int {
	n := 0
	for i := range raise {
		if r.Raises[i].When != nil {
			n++
		}
	}
	return n
}

// The numbers.

// judgeSet says what a set of entries comes to: 1 it holds, 0 it does not, -1 no change,
// -2 it cannot be judged.
func (e *slow) judgeSet(r *lang.Rule, w *lang.When, raising bool, set []item, wholly bool) int {
	is := func(b bool) int {
		if b {
			return 1
		}
		return 0
	}
	counting := w.Agg == "count" || w.Agg == "sum" || w.Agg == "different"
	if len(set) == 0 {
		if !wholly {
			return -2
		}
		switch r.Empty {
		case "good":
			return is(!raising)
		case "bad":
			return is(raising)
		case "neither":
			return -1
		}
		if w.AtLeast > 0 {
			return 0
		}
		if !counting {
			return -1
		}
	}
	if counting && w.Op != ">" && w.Op != ">=" && !wholly {
		return -2
	}
	if len(set) < w.AtLeast {
		return 0
	}
	var x *big.Rat
	limit, _ := new(big.Rat).SetString(strings.TrimSuffix(w.Value.Src, "%"))
	var nums []*big.Rat
	different := map[string]bool{}
	hits := 0
	for _, y := range set {
		if y.hit {
			hits++
		}
		if w.Field != "" {
			different[y.values[w.Field]] = true
			if n, ok := new(big.Rat).SetString(y.values[w.Field]); ok {
				nums = append(nums, n)
			}
		}
	}
	sort.Slice(nums, func(i, j int) bool { return nums[i].Cmp(nums[j]) < 0 })
	sum := new(big.Rat)
	for _, n := range nums {
		sum.Add(sum, n)
	}
	whole := func(n int) *big.Rat { return new(big.Rat).SetInt64(int64(n)) }
	switch w.Agg {
	case "count":
		x = whole(hits)
	case "different":
		x = whole(len(different))
	case "sum":
		x = sum
	case "avg":
		x = sum.Quo(sum, whole(len(nums)))
	case "min":
		x = nums[0]
	case "max":
		x = nums[len(nums)-1]
	case "share":
		x = new(big.Rat).Quo(whole(100*hits), whole(len(set)))
	default:
		var pct int
		fmt.Sscanf(w.Agg, "p%d", &pct)
		for _, n := range nums { // the smallest with at least so many percent at or below it
			at := 0
			for _, m := range nums {
				if m.Cmp(n) <= 0 {
					at++
				}
			}
			if 100*at >= pct*len(nums) {
				x = n
				break
			}
		}
	}
	c := x.Cmp(limit)
	return is(map[string]bool{"==": c == 0, "!=": c != 0, "<": c < 0, "<=": c <= 0, ">": c > 0, ">=": c >= 0}[w.Op])
}

// belongs tells whether an entry is one that a number is about.
func belongs(w *lang.When, x item) bool {
	if w.Agg == "share" {
		return x.counted
	}
	if !x.hit || w.Field == "" {
		return x.hit
	}
	if w.Agg == "different" {
		return x.values[w.Field] != ""
	}
	_, ok := new(big.Rat).SetString(x.values[w.Field])
	return ok
}

func (e *slow) windowAt(k *slowKey, i int, at int64) []item {
	w := e.rules[k.rule].Whens()[i]
	var out []item
	for _, x := range k.items {
		if x.entered[i] && x.at > at-int64(w.In) && x.at <= at {
			out = append(out, x)
		}
	}
	return out
}

func (e *slow) note(k *slowKey, i, v int) {
	if v >= 0 {
		k.said[i] = v == 1
	}
}

// nextJudged is when a number is judged next without an entry.
func (e *slow) nextJudged(k *slowKey, i int) int64 {
	r := e.rules[k.rule]
	w := r.Whens()[i]
	if w.K > 0 {
		return k.mark[i] + int64(w.In) + int64(r.Grace)
	}
	due := never
	for _, x := range k.items {
		if out := x.at + int64(w.In); x.entered[i] && out > k.mark[i] {
			due = min(due, out)
		}
	}
	counting := w.Agg == "count" || w.Agg == "sum" || w.Agg == "different"
	if !k.ripe[i] && (counting || r.Empty != "") {
		due = min(due, k.zero+int64(w.In))
	}
	return due
}

// judgeAt judges a number because time has passed; it answers whether that says anything.
func (e *slow) judgeAt(k *slowKey, i int, at int64) bool {
	r := e.rules[k.rule]
	w := r.Whens()[i]
	raising := i < raises(r)
	if w.K == 0 {
		k.mark[i] = at
		k.ripe[i] = k.ripe[i] || k.zero+int64(w.In) <= at
		v := e.judgeSet(r, w, raising, e.windowAt(k, i, at), at-int64(w.In) >= k.zero)
		e.note(k, i, v)
		return v >= 0
	}
	start := k.mark[i]
	k.mark[i] += int64(w.In)
	var set []item
	for _, x := range k.items {
		if x.entered[i] && x.at >= start && x.at < k.mark[i] {
			set = append(set, x)
		}
	}
	v := e.judgeSet(r, w, raising, set, start >= k.zero)
	if v < 0 {
		return false
	}
	k.results[i] = append(k.results[i], slowResult{v == 1, set})
	k.results[i] = k.results[i][max(0, len(k.results[i])-w.M):]
	n := 0
	for _, x := range k.results[i] {
		if x.holds {
			n++
		}
	}
	k.said[i] = n >= w.K
	return true
}

// worked are the hits that a number worked on.
func (e *slow) worked(k *slowKey, i int, at int64) []item {
	var set, out []item
	if e.rules[k.rule].Whens()[i].K > 0 {
		for _, x := range k.results[i] {
			set = append(set, x.hits...)
		}
	} else {
		set = e.windowAt(k, i, at)
	}
	for _, x := range set {
		if x.hit {
			out = append(out, x)
		}
	}
	return out
}

// Timers.

func (e *slow) quietDue(k *slowKey) int64 {
	r, a := e.rules[k.rule], k.alert
	if a == nil || r.Quiet == 0 || k.dark != never {
		return never
	}
	from := a.since
	for _, x := range k.items {
		if x.hit {
			from = max(from, x.at)
		}
	}
	// Walk on until so much seen time has passed.
	left, at := int64(r.Quiet), from
	for {
		next := never
		var until int64
		for _, d := range a.darks {
			if d[1] > at && d[0] < next {
				next, until = max(d[0], at), d[1]
			}
		}
		if next == never || at+left <= next {
			return at + left
		}
		left -= next - at
		at = until
	}
}

func (e *slow) without(k *slowKey, i int) int64 {
	r := e.rules[k.rule]
	x := &r.Raises[i]
	if !k.awaits.on || k.alert != nil && x.Severity <= k.alert.sev {
		return never
	}
	if x.Without > 0 {
		from := k.awaits.asked
		if r.Once == nil {
			from = max(from, e.watched)
		}
		if k.awaits.aged {
			return never
		}
		return int64(r.Lasting(entry.Instant(from), x.Without))
	}
	const day = int64(24 * time.Hour)
	for at := max(k.awaits.by, e.watched) / day * day; ; at += day {
		if t := at + int64(x.By.At); t > max(k.awaits.by, e.watched) &&
			x.By.Days.Has(entry.Instant(t).Time().Weekday()) {
			return t
		}
	}
}

// deadline is when a timer of a class acts; class 0 clears, 1 raises, 2 reminds.
func (e *slow) deadline(k *slowKey, class int) int64 {
	r, a := e.rules[k.rule], k.alert
	due := never
	switch class {
	case 0:
		if a == nil {
			return never
		}
		due = e.quietDue(k)
		if r.Age > 0 {
			due = min(due, a.since+int64(r.Age))
		}
		for i := range r.Whens() {
			if i >= raises(r) || r.Eases() {
				due = min(due, e.nextJudged(k, i))
			}
		}
	case 1:
		for i := range r.Raises {
			switch x := &r.Raises[i]; {
			case x.When != nil:
				if k.fresh[whenOf(r, i)] {
					due = e.clock
				}
				due = min(due, e.nextJudged(k, whenOf(r, i)))
			case x.Open > 0:
				if a != nil && x.Severity > a.sev {
					due = min(due, a.since+int64(x.Open))
				}
			case x.Without > 0 || x.By != nil:
				due = min(due, e.without(k, i))
			}
		}
		if r.Blind > 0 && k.dark != never && (a == nil || a.sev < r.Blind) {
			due = min(due, k.dark+int64(r.BlindIn))
		}
	case 2:
		if a != nil && r.Remind > 0 {
			due = a.told + int64(r.Remind)
		}
	}
	return due
}

func (e *slow) fire(t int64) {
	for {
		best, class := never, 0
		var key *slowKey
		for c := range 3 {
			for i := range e.rules {
				for _, id := range sorted(e.keys[i]) {
					k := e.keys[i][id]
					due := e.deadline(k, c)
					if due > t {
						continue
					}
					if due = max(due, e.clock); due < best {
						best, class, key = due, c, k
					}
				}
			}
		}
		if key == nil {
			return
		}
		e.clock = max(e.clock, best)
		switch class {
		case 0:
			e.clears(key)
		case 1:
			e.rises(key)
		case 2:
			e.say(key, "repeated", "open for "+entry.Span(time.Duration(e.clock-key.alert.since)), e.clock)
			key.alert.told = e.clock
		}
	}
}

func sorted(m map[string]*slowKey) []string {
	var out []string
	for id := range m {
		out = append(out, id)
	}
	sort.Slice(out, func(i, j int) bool { return slices.Compare(m[out[i]].vals, m[out[j]].vals) < 0 })
	return out
}

func (e *slow) none(k *slowKey) bool {
	return !slices.Contains(k.said[:raises(e.rules[k.rule])], true)
}

func (e *slow) clears(k *slowKey) {
	r, at := e.rules[k.rule], e.clock
	eased, some := false, false
	for i := range r.Whens() {
		raising := i < raises(r)
		if raising && !r.Eases() || e.nextJudged(k, i) > at {
			continue
		}
		spoke := e.judgeAt(k, i, at)
		if raising {
			k.fresh[i] = k.fresh[i] || spoke
			some = some || spoke
		} else {
			eased = eased || spoke && k.said[i]
		}
	}
	switch {
	case e.quietDue(k) <= at:
		e.end(k, "quiet")
	case eased:
		e.end(k, "eased")
	case some && e.none(k):
		e.over(k, "eased")
	case r.Age > 0 && k.alert.since+int64(r.Age) <= at:
		k.awaits.aged = true
		k.awaits.on = k.awaits.on && r.Once == nil
		e.end(k, "age")
	}
}

func (e *slow) rises(k *slowKey) {
	r, at := e.rules[k.rule], e.clock
	type found struct {
		sev   entry.Severity
		hits  []item
		why   string
		blind bool
	}
	var best found
	take := func(f found) {
		if (k.alert == nil || f.sev > k.alert.sev) && f.sev > best.sev {
			best = f
		}
	}
	dark := ""
	if k.dark != never {
		dark = "; it is blind"
	}
	by := k.awaits.by
	for i := range r.Raises {
		x := &r.Raises[i]
		switch {
		case x.When != nil:
			w := whenOf(r, i)
			spoke := k.fresh[w]
			if !spoke && e.nextJudged(k, w) <= at {
				spoke = e.judgeAt(k, w, at)
			}
			k.fresh[w] = false
			if spoke && k.said[w] {
				take(found{x.Severity, e.worked(k, w, at), x.Why(), false})
			}
		case x.Open > 0:
			if k.alert != nil && k.alert.since+int64(x.Open) <= at {
				take(found{x.Severity, nil, x.Why(), false})
			}
		case x.Without > 0:
			if e.without(k, i) <= at {
				take(found{x.Severity, nil, x.Why() + dark, false})
			}
		case x.By != nil:
			due := e.without(k, i)
			if due > at {
				continue
			}
			by = at
			day := due - due%int64(24*time.Hour)
			if r.Once != nil || k.awaits.heard < day && !(k.awaits.heard == -never && e.watched >= day) {
				take(found{x.Severity, nil, x.Why() + dark, false})
			}
		}
	}
	k.awaits.by = by
	if r.Blind > 0 && k.dark != never && k.dark+int64(r.BlindIn) <= at {
		why := "blind"
		if r.BlindIn > 0 {
			why += " for " + entry.Span(r.BlindIn)
		}
		take(found{r.Blind, nil, why, true})
	}
	if best.sev > 0 {
		e.raise(k, best.sev, len(best.hits), best.hits, best.why, best.blind)
	}
}

// Blindness.

func (e *slow) goBlind(origin string, t int64) {
	e.fire(t)
	if _, was := e.blind[origin]; !was {
		e.blind[origin] = t
		e.all(origin, func(k *slowKey) {
			for o := range k.origins {
				if _, blind := e.blind[o]; !blind {
					return
				}
			}
			if k.dark == never {
				k.dark = t
			}
		})
	}
	e.fire(t)
}

func (e *slow) seen(origin string, t int64) {
	delete(e.blind, origin)
	e.all(origin, func(k *slowKey) { e.lit(k, t) })
}

func (e *slow) lit(k *slowKey, t int64) {
	from := k.dark
	k.dark = never
	if from == never || k.alert == nil {
		return
	}
	if k.alert.blind {
		e.clock = max(e.clock, t)
		e.end(k, "seen")
		return
	}
	if t > from {
		k.alert.darks = append(k.alert.darks, [2]int64{from, t})
	}
}

func (e *slow) all(origin string, f func(*slowKey)) {
	for i := range e.rules {
		for _, id := range sorted(e.keys[i]) {
			if k := e.keys[i][id]; k.origins[origin] {
				f(k)
			}
		}
	}
}

// Entries.

func (e *slow) agreeing(rule int, key []string) []*slowKey {
	var out []*slowKey
	for _, id := range sorted(e.keys[rule]) {
		k := e.keys[rule][id]
		same := true
		for i, v := range key {
			same = same && (v == "" || v == k.vals[i])
		}
		if same {
			out = append(out, k)
		}
	}
	return out
}

func (e *slow) take(j *verdict.Judged) {
	e.fire(int64(j.Reached))
	e.clock = max(e.clock, int64(j.Reached))
	if _, blind := e.blind[j.Entry.Origin]; blind {
		e.seen(j.Entry.Origin, e.clock)
	}
	for i := range j.Verdicts {
		v := &j.Verdicts[i]
		r := e.rules[v.Rule]
		switch {
		case e.follower(r, v):
		case v.Recovery && r.OnRecovery:
			if !e.recovery(r, v) && v.Counted {
				e.entry(r, v, j, false)
			}
		case v.Hit:
			e.entry(r, v, j, true)
		case v.Awaited && r.Once != nil:
			for _, k := range e.agreeing(v.Rule, v.Key) {
				k.awaits.on, k.awaits.aged = false, false
				if k.alert != nil {
					e.end(k, "heard")
				}
			}
		case v.Awaited:
			e.heard(r, v, j)
		case v.Question:
			if k := e.key(v.Rule, v.Key, j.Entry.Origin); !k.awaits.on {
				k.awaits.on, k.awaits.aged, k.awaits.asked, k.awaits.by = true, false, int64(v.At), e.clock
			}
		case v.Counted:
			e.entry(r, v, j, false)
		}
	}
	e.fire(e.clock)
}

func (e *slow) heard(r *lang.Rule, v *verdict.Verdict, j *verdict.Judged) {
	shortest := never
	for i := range r.Raises {
		if d := int64(r.Raises[i].Without); d > 0 {
			shortest = min(shortest, d)
		}
	}
	k := e.key(v.Rule, v.Key, j.Entry.Origin)
	if !k.awaits.on && k.awaits.heard == -never {
		k.awaits.by = e.clock
	}
	k.awaits.on, k.awaits.aged = true, false
	k.awaits.asked, k.awaits.heard = max(k.awaits.asked, int64(v.At)), max(k.awaits.heard, int64(v.At))
	if k.alert != nil && e.clock-int64(v.At) <= shortest {
		e.end(k, "heard")
	}
}

func (e *slow) follower(r *lang.Rule, v *verdict.Verdict) bool {
	type done struct {
		raise int
		wait  slowWait
	}
	best := map[*slowKey]done{}
	for _, f := range v.Follows {
		x := &r.Raises[f.Raise]
		for _, k := range e.agreeing(v.Rule, f.Key) {
			var left []slowWait
			var hit *slowWait
			for _, w := range k.waits[f.Raise] {
				if int64(v.At) >= w.at && int64(v.At)-w.at < int64(x.Within) {
					hit = &slowWait{w.at, w.first, w.last}
				} else {
					left = append(left, w)
				}
			}
			k.waits[f.Raise] = left
			if hit == nil {
				continue
			}
			if b, some := best[k]; !some || x.Severity > r.Raises[b.raise].Severity {
				best[k] = done{f.Raise, *hit}
			}
		}
	}
	for _, k := range e.agreeing(v.Rule, make([]string, len(r.Per))) {
		if d, some := best[k]; some {
			x := &r.Raises[d.raise]
			e.raise(k, x.Severity, x.At, []item{{at: d.wait.first}, {at: d.wait.last}}, x.Why(), false)
		}
	}
	return len(best) > 0
}

func (e *slow) recovery(r *lang.Rule, v *verdict.Verdict) bool {
	ended := false
	for _, k := range e.agreeing(v.Rule, v.RecoveryKey) {
		if r.RecoverAt > 1 {
			k.recov = append(k.recov, int64(v.At))
			kept := append([]int64(nil), k.recov...)
			slices.Sort(kept)
			kept = kept[max(0, len(kept)-2*r.RecoverAt):]
			enough := r.RecoverIn == 0 && len(kept) >= r.RecoverAt
			for i := 0; r.RecoverIn > 0 && i+r.RecoverAt <= len(kept); i++ {
				enough = enough || kept[i+r.RecoverAt-1]-kept[i] < int64(r.RecoverIn)
			}
			if !enough {
				continue
			}
		}
		hits := slices.ContainsFunc(k.items, func(x item) bool { return x.hit })
		ended = ended || r.RecoverAt > 1 || !r.Shares() || k.alert != nil || hits || k.awaits.on
		k.awaits.on = false
		if k.alert != nil {
			e.end(k, "recovery")
		} else {
			e.reset(k)
		}
	}
	return ended
}

// entry takes a hit, or an entry that a share counts.
func (e *slow) entry(r *lang.Rule, v *verdict.Verdict, j *verdict.Judged, hit bool) {
	k := e.key(v.Rule, v.Key, j.Entry.Origin)
	e.seq++
	x := item{at: int64(v.At), seq: int64(e.seq), hit: hit, counted: v.Counted, where: v.Where,
		values: map[string]string{}}
	for i, f := range r.Measured() {
		if hit {
			x.values[f] = v.Values[i]
		}
	}
	judged := make([]bool, len(r.Whens()))
	for i, w := range r.Whens() {
		enters := belongs(w, x)
		if w.K == 0 {
			enters = enters && x.at > e.clock-int64(w.In)
		} else {
			open := max(k.mark[i], k.zero-k.zero%int64(w.In))
			if i >= raises(r) && k.alert == nil { // closed ones take nothing, judged or not
				if now := e.clock - int64(r.Grace); now > 0 {
					open = max(open, periodStart(w, now))
				}
			}
			enters = enters && x.at >= open
		}
		x.entered = append(x.entered, enters)
		judged[i] = enters && w.K == 0
	}
	k.items = append(k.items, x)
	if hit {
		k.recov = nil
		if k.alert != nil {
			k.alert.count++
			k.alert.note(x.at)
		}
	}
	any, eased := false, false
	for i, w := range r.Whens() {
		if !judged[i] || i >= raises(r) && k.alert == nil {
			judged[i] = false
			continue
		}
		vd := e.judgeSet(r, w, i < raises(r), e.windowAt(k, i, e.clock), e.clock-int64(w.In) >= k.zero)
		e.note(k, i, vd)
		judged[i] = vd >= 0
		if judged[i] && i < raises(r) {
			any = true
		} else if judged[i] {
			eased = eased || k.said[i]
		}
	}
	switch {
	case k.alert != nil && eased:
		e.end(k, "eased")
		return
	case k.alert != nil && r.Eases() && any && e.none(k):
		e.over(k, "eased")
		return
	}
	var sev entry.Severity
	var count int
	var hits []item
	var why string
	for i := range r.Raises {
		a := &r.Raises[i]
		set, ok := e.holds(r, k, i, x, judged)
		if a.Then != nil {
			if ok {
				w := slowWait{at: x.at, first: set[0].at, last: set[len(set)-1].at}
				k.waits[i] = append(k.waits[i], w)
				sort.SliceStable(k.waits[i], func(p, q int) bool { return k.waits[i][p].at < k.waits[i][q].at })
				k.waits[i] = k.waits[i][max(0, len(k.waits[i])-2*a.At):]
			}
			continue
		}
		if ok && (k.alert == nil || a.Severity > k.alert.sev) && a.Severity > sev {
			sev, hits, why, count = a.Severity, set, a.Why(), a.At
			if a.When != nil {
				count = len(set)
			}
		}
	}
	if sev > 0 {
		e.raise(k, sev, count, hits, why, false)
	}
}

// holds tells whether a raise holds with the entry x, and of which hits.
func (e *slow) holds(r *lang.Rule, k *slowKey, i int, x item, judged []bool) ([]item, bool) {
	a := &r.Raises[i]
	if a.When != nil {
		w := whenOf(r, i)
		return e.worked(k, w, e.clock), judged[w] && k.said[w]
	}
	counts := func(y item) bool {
		return y.hit && (a.Where == nil || y.where&(1<<i) != 0) && (a.Different == "" || y.values[a.Different] != "")
	}
	if !a.Hits() || !counts(x) {
		return nil, false
	}
	var list []item
	for _, y := range k.items {
		if counts(y) {
			list = append(list, y)
		}
	}
	sort.SliceStable(list, func(p, q int) bool { return list[p].at < list[q].at })
	if a.Different != "" { // the newest of each value
		last := map[string]int64{}
		for _, y := range list {
			last[y.values[a.Different]] = y.seq
		}
		list = slices.DeleteFunc(list, func(y item) bool { return last[y.values[a.Different]] != y.seq })
		if !slices.ContainsFunc(list, func(y item) bool { return y.seq == x.seq }) {
			return nil, false
		}
	}
	if a.In == 0 && a.Different == "" {
		return list, len(list) >= a.At
	}
	list = list[max(0, len(list)-2*a.At):]
	if a.In == 0 {
		return list, len(list) >= a.At
	}
	for n := len(list) - a.At; n >= 0; n-- {
		set := list[n : n+a.At]
		if set[a.At-1].at-set[0].at < int64(a.In) &&
			slices.ContainsFunc(set, func(y item) bool { return y.seq == x.seq }) {
			return set, true
		}
	}
	return nil, false
}
