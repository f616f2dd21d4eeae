package engine_test

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"
	"testing"
	"time"

	"dimlantern/core/verdict"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
)

// The reference evaluator: slow and obvious, written from the meaning of the
// language alone. It keeps every hit, and finds what is due by looking at
// everything each time.

type refRule struct {
	name    string
	perHost bool // per host, pump; else per pump
	ignore  bool
	recover bool
	quiet   int64
	remind  int64
	raises  []refRaise
}

type refRaise struct {
	sev int
	n   int
	in  int64
}

type refHit struct{ at int64 }

type refAlert struct {
	sev          int
	raised, told int64
	count        int
	first, last  int64
}

type refKey struct {
	vals  []string
	hits  []refHit // since zero, in sequence
	alert *refAlert
}

type refEngine struct {
	rules []refRule
	keys  []map[string]*refKey
	clock int64
	began bool
	out   []string
}

type refEntry struct {
	at   int64
	host string
	text string
}

var problemLine = regexp.MustCompile(`pump (\w+) low`)
var recoveryLine = regexp.MustCompile(`pump (\w+) fine|all fine`)

func newRef(rules []refRule) *refEngine {
	r := &refEngine{rules: rules}
	for range rules {
		r.keys = append(r.keys, map[string]*refKey{})
	}
	return r
}

func (r *refEngine) say(rule int, k *refKey, change, why string, at int64) {
	a := k.alert
	r.out = append(r.out, fmt.Sprintf("%d %s %s %v sev%d count%d first%d last%d %s",
		at, change, r.rules[rule].name, k.vals, a.sev, a.count, a.first, a.last, why))
}

// quietDue is when an open alert clears by quiet.
func (r *refEngine) quietDue(rule int, k *refKey) (int64, bool) {
	if k.alert == nil || r.rules[rule].quiet == 0 {
		return 0, false
	}
	newest := k.alert.raised
	for _, h := range k.hits {
		newest = max(newest, h.at)
	}
	return newest + r.rules[rule].quiet, true
}

// due finds the first timer that is due at t or before, by instant, class, rule
// and key.
func (r *refEngine) due(t int64) (rule int, k *refKey, class int, at int64, found bool) {
	type candidate struct {
		at    int64
		class int
		rule  int
		key   *refKey
	}
	var all []candidate
	for i := range r.rules {
		for _, k := range r.keys[i] {
			if at, ok := r.quietDue(i, k); ok && at <= t {
				all = append(all, candidate{at, 0, i, k})
			}
			if k.alert != nil && r.rules[i].remind > 0 && k.alert.told+r.rules[i].remind <= t {
				all = append(all, candidate{k.alert.told + r.rules[i].remind, 2, i, k})
			}
		}
	}
	if len(all) == 0 {
		return
	}
	sort.Slice(all, func(i, j int) bool {
		a, b := all[i], all[j]
		if a.at != b.at {
			return a.at < b.at
		}
		if a.class != b.class {
			return a.class < b.class
		}
		if a.rule != b.rule {
			return a.rule < b.rule
		}
		return slices.Compare(a.key.vals, b.key.vals) < 0
	})
	c := all[0]
	return c.rule, c.key, c.class, c.at, true
}

func (r *refEngine) fire(t int64) {
	for {
		rule, k, class, at, ok := r.due(t)
		if !ok {
			return
		}
		if r.began {
			at = max(at, r.clock)
		}
		r.clock = at
		if class == 0 {
			r.say(rule, k, "cleared", "quiet", at)
			delete(r.keys[rule], strings.Join(k.vals, "|"))
			continue
		}
		r.say(rule, k, "repeated", fmt.Sprintf("open for %s", entry.Span(time.Duration(at-k.alert.raised))), at)
		k.alert.told = at
	}
}

func (r *refEngine) take(e refEntry) {
	r.fire(e.at)
	if !r.began || e.at > r.clock {
		r.clock = e.at
	}
	r.began = true
	for i := range r.rules {
		rule := &r.rules[i]
		if rule.ignore && strings.Contains(e.text, "test") {
			continue
		}
		rec := recoveryLine.FindStringSubmatch(e.text)
		if rule.recover && rec != nil {
			r.recovery(i, e, rec[1])
			continue
		}
		if m := problemLine.FindStringSubmatch(e.text); m != nil {
			r.hit(i, e, m[1])
		}
	}
	r.fire(r.clock)
}

func (r *refEngine) recovery(i int, e refEntry, pump string) {
	var agree []*refKey
	for _, k := range r.keys[i] {
		v := k.vals
		if r.rules[i].perHost {
			if v[0] != e.host {
				continue
			}
			v = v[1:]
		}
		if pump == "" || pump == v[0] {
			agree = append(agree, k)
		}
	}
	sort.Slice(agree, func(a, b int) bool { return slices.Compare(agree[a].vals, agree[b].vals) < 0 })
	for _, k := range agree {
		if k.alert != nil {
			r.say(i, k, "cleared", "recovery", r.clock)
		}
		delete(r.keys[i], strings.Join(k.vals, "|"))
	}
}

// window looks for N hits within less than D of each other among the newest 2N,
// the newest of them that hold the last one; it returns the own times of the
// first and the last.
func window(hits []refHit, a refRaise) (first, last int64, ok bool) {
	if a.in == 0 {
		if len(hits) < a.n {
			return 0, 0, false
		}
		first, last = hits[0].at, hits[0].at
		for _, h := range hits {
			first, last = min(first, h.at), max(last, h.at)
		}
		return first, last, true
	}
	type kept struct {
		at  int64
		seq int
	}
	var all []kept
	for i, h := range hits {
		all = append(all, kept{h.at, i})
	}
	sort.Slice(all, func(i, j int) bool {
		return all[i].at < all[j].at || all[i].at == all[j].at && all[i].seq < all[j].seq
	})
	all = all[max(0, len(all)-2*a.n):]
	for i := len(all) - a.n; i >= 0; i-- {
		holds := all[i+a.n-1].at-all[i].at < a.in
		with := false
		for _, k := range all[i : i+a.n] {
			with = with || k.seq == len(hits)-1
		}
		if holds && with {
			return all[i].at, all[i+a.n-1].at, true
		}
	}
	return 0, 0, false
}

func (r *refEngine) hit(i int, e refEntry, pump string) {
	rule := &r.rules[i]
	vals := []string{pump}
	if rule.perHost {
		vals = []string{e.host, pump}
	}
	id := strings.Join(vals, "|")
	k := r.keys[i][id]
	if k == nil {
		k = &refKey{vals: vals}
		r.keys[i][id] = k
	}
	k.hits = append(k.hits, refHit{e.at})
	if k.alert != nil {
		k.alert.count++
		k.alert.first = min(k.alert.first, e.at)
		k.alert.last = max(k.alert.last, e.at)
	}
	best := -1
	var first, last int64
	for j, a := range rule.raises {
		f, l, ok := window(k.hits, a)
		if ok && (k.alert == nil || a.sev > k.alert.sev) && (best < 0 || a.sev > rule.raises[best].sev) {
			best, first, last = j, f, l
		}
	}
	if best < 0 {
		return
	}
	a := rule.raises[best]
	why := (&lang.Raise{At: a.n, In: time.Duration(a.in)}).Why()
	change := "worsened"
	if k.alert == nil {
		change = "raised"
		k.alert = &refAlert{raised: r.clock, count: a.n, first: first, last: last}
	}
	k.alert.sev = a.sev
	r.say(i, k, change, why, r.clock)
	k.alert.told = r.clock
}

// Random rules and entries.

const second = int64(time.Second)

func drawRules(t *rapid.T) ([]refRule, string) {
	var rules []refRule
	var src strings.Builder
	n := rapid.IntRange(1, 3).Draw(t, "rules")
	for i := range n {
		r := refRule{name: fmt.Sprintf("r%d", i)}
		r.perHost = rapid.Bool().Draw(t, "per host")
		r.ignore = rapid.Bool().Draw(t, "ignore")
		r.recover = rapid.Bool().Draw(t, "recovery")
		if !r.recover || rapid.Bool().Draw(t, "quiet") {
			r.quiet = rapid.SampledFrom([]int64{5, 10, 30}).Draw(t, "quiet after") * second
		}
		if rapid.Bool().Draw(t, "remind") {
			r.remind = rapid.SampledFrom([]int64{5, 7, 20}).Draw(t, "remind every") * second
		}
		fmt.Fprintf(&src, "rule %s {\n  problem /pump (?<pump>\\w+) low/\n", r.name)
		if r.recover {
			src.WriteString("  recovery /pump (?<pump>\\w+) fine/ or \"all fine\"\n")
		}
		if r.ignore {
			src.WriteString("  ignore \"test\"\n")
		}
		if r.perHost {
			src.WriteString("  per host, pump\n")
		} else {
			src.WriteString("  per pump\n")
		}
		for range rapid.IntRange(1, 3).Draw(t, "raises") {
			a := refRaise{sev: rapid.IntRange(1, 4).Draw(t, "severity"), n: rapid.IntRange(1, 4).Draw(t, "at")}
			if rapid.Bool().Draw(t, "in") {
				a.in = rapid.SampledFrom([]int64{3, 5, 10}).Draw(t, "within") * second
			}
			r.raises = append(r.raises, a)
			fmt.Fprintf(&src, "  raise %s at %d", entry.Severity(a.sev), a.n)
			if a.in > 0 {
				fmt.Fprintf(&src, " in %s", entry.Span(time.Duration(a.in)))
			}
			src.WriteString("\n")
		}
		if r.quiet > 0 {
			fmt.Fprintf(&src, "  clear after %s quiet\n", entry.Span(time.Duration(r.quiet)))
		}
		if r.remind > 0 {
			fmt.Fprintf(&src, "  remind every %s\n", entry.Span(time.Duration(r.remind)))
		}
		src.WriteString("}\n")
		rules = append(rules, r)
	}
	return rules, src.String()
}

// drawEntries draws entries whose times mostly grow, often by nothing or by just
// a window, and sometimes are late.
func drawEntries(t *rapid.T) []refEntry {
	var out []refEntry
	now := int64(1000) * second
	for range rapid.IntRange(1, 40).Draw(t, "entries") {
		now += rapid.SampledFrom([]int64{0, 0, 1, 1, 2, 3, 4, 5, 5, 10, 29}).Draw(t, "later by") * second
		if rapid.IntRange(0, 9).Draw(t, "off the grid") == 0 {
			now += rapid.Int64Range(-1, 1).Draw(t, "by")
		}
		at := now
		if rapid.IntRange(0, 4).Draw(t, "late") == 0 {
			at -= rapid.SampledFrom([]int64{1, 2, 3, 5, 10, 30}).Draw(t, "late by") * second
		}
		text := rapid.SampledFrom([]string{"pump a low", "pump a low", "pump b low", "pump a low", "pump b low",
			"pump a fine", "pump b fine", "all fine", "pump a low test", "nothing at all",
			"pump a low, all fine"}).Draw(t, "text")
		out = append(out, refEntry{at, rapid.SampledFrom([]string{"x", "y"}).Draw(t, "host"), text})
	}
	return out
}

func settings(t require.TestingT, src string) *lang.Settings {
	s, ds := lang.Check([]*lang.File{lang.Parse("test.lantern", []byte(src))}, lang.Env{})
	for _, d := range ds {
		require.NotEqual(t, lang.Err, d.Weight, "%s\n%s", d, src)
	}
	return s
}

func judged(rules []*lang.Rule, e refEntry, reached int64) *verdict.Judged {
	x := &entry.Entry{Origin: e.host + ":log", Host: e.host, Raw: e.text, At: entry.Instant(e.at), Fits: true}
	j := &verdict.Judged{Entry: x, Reached: entry.Instant(reached)}
	for i, r := range rules {
		if v, ok := match.Judge(r, x, match.MayAll, nil); ok {
			v.Rule = i
			j.Verdicts = append(j.Verdicts, v)
		}
	}
	return j
}

func line(t engine.Transition) string {
	return fmt.Sprintf("%d %s %s %v sev%d count%d first%d last%d %s", t.At, t.Change, t.Rule, t.Key,
		t.Severity, t.Count, t.First, t.Last, t.Why)
}

// The engine gives the transitions of the reference, also when its state is
// written out and read back in the middle, and however often and coarsely a
// clock drives it in between.
func TestEngineEqualsReference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		refRules, src := drawRules(t)
		rules := settings(t, src).Rules
		entries := drawEntries(t)
		ref, e := newRef(refRules), engine.New(rules)
		var got []string
		note := func(ts []engine.Transition) {
			for _, x := range ts {
				got = append(got, line(x))
			}
		}
		reached := int64(0)
		for _, x := range entries {
			ref.take(x)
			if x.at > reached {
				if reached > 0 && rapid.Bool().Draw(t, "tick") {
					note(apply(e, engine.Advance{At: entry.Instant(rapid.Int64Range(reached, x.at).Draw(t,
						"tick at"))}))
				}
				reached = x.at
			}
			note(apply(e, engine.Entry{Judged: judged(rules, x, reached)}))
			if rapid.IntRange(0, 5).Draw(t, "restart") == 0 {
				saved := e.Encode()
				again, err := engine.Decode(rules, saved)
				require.NoError(t, err)
				require.True(t, bytes.Equal(saved, again.Encode()), "state changes when it is read back")
				e = again
			}
		}
		ref.fire(reached + 40*second)
		note(apply(e, engine.Advance{At: entry.Instant(reached + 40*second)}))
		require.Equal(t, ref.out, got, src)
	})
}

func TestDecodeRefusesWhatIsNoState(t *testing.T) {
	src := "rule r {\n  problem \"x\"\n  raise error\n  clear after 1m quiet\n}\n"
	rules := settings(t, src).Rules
	e := engine.New(rules)
	apply(e, engine.Entry{Judged: judged(rules, refEntry{5 * second, "h", "x"}, 5*second)})
	good := e.Encode()
	for n := range good {
		_, err := engine.Decode(rules, good[:n])
		require.ErrorIs(t, err, engine.ErrState, "cut to %d bytes", n)
	}
	_, err := engine.Decode(nil, good)
	require.ErrorIs(t, err, engine.ErrState)
}
