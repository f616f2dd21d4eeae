package engine

import (
	"cmp"
	"math/big"
	"slices"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// window is what one comparison of a number over time works on: the entries of the
// last D, or those of the periods that are not closed yet.
type window struct {
	runs    []run    // by own time; of a sliding window
	tally   tally    // of runs
	periods []period // that have entries and are not closed; sorted
	next    int64    // the first period that is not closed
	results []result // of the last M that were judged
	said    bool     // whether it held when it was judged last
	ripe    bool     // it was judged once D had passed since the key started from zero
	fresh   bool     // it was judged at freshAt, and what follows was not done yet
	freshAt entry.Instant
}

// run are the entries of one own time.
type run struct {
	at      entry.Instant
	entries int
	hits    int
	values  []string
}

// period is what fell into one period.
type period struct {
	index       int64
	tally       tally
	first, last entry.Instant // own times of hits
}

// result is what came of a period.
type result struct {
	holds       bool
	hits        int
	first, last entry.Instant
}

// tally is what is known of entries together.
type tally struct {
	entries, hits int
	sum           *big.Rat
	sorted        []entry.Number // of min, max and percentiles
	values        map[string]int // of different
	list          []string       // of a period, as they came
}

// take counts an entry in, or, with a sign of -1, out.
func (t *tally) take(w *lang.When, entries, hits int, values []string, sign int) {
	t.entries += sign * entries
	t.hits += sign * hits
	for _, v := range values {
		switch w.Agg {
		case "different":
			if t.values == nil {
				t.values = map[string]int{}
			}
			if t.values[v] += sign; t.values[v] == 0 {
				delete(t.values, v)
			}
		case "sum", "avg":
			n, _ := numberOf(v)
			r, ok := n.Rat()
			if !ok {
				continue
			}
			if t.sum == nil {
				t.sum = new(big.Rat)
			}
			if sign > 0 {
				t.sum.Add(t.sum, r)
			} else {
				t.sum.Sub(t.sum, r)
			}
		default:
			n, _ := numberOf(v)
			i, found := slices.BinarySearchFunc(t.sorted, n, entry.Number.Compare)
			if sign > 0 {
				t.sorted = slices.Insert(t.sorted, i, n)
			} else if found {
				t.sorted = slices.Delete(t.sorted, i, i+1)
			}
		}
	}
}

// numberOf reads a value as a number: a duration is its milliseconds.
func numberOf(v string) (entry.Number, bool) {
	if n, ok := entry.ParseNumber(v); ok {
		return n, true
	}
	if d, err := entry.ParseDuration(v); err == nil {
		return numberOfDuration(d), true
	}
	return entry.Number{}, false
}

func numberOfDuration(d time.Duration) entry.Number {
	n, _ := entry.ParseNumber(new(big.Rat).SetFrac64(int64(d), 1e6).FloatString(6))
	return n
}

// limit is the number that a comparison names.
func limit(w *lang.When) entry.Number {
	if w.Value.Kind == lang.DurationValue {
		return numberOfDuration(w.Value.Duration)
	}
	return w.Value.Number
}

// holds compares what the entries are together with the limit; with no entries it is
// not asked, but for counts, sums and different values, which are then 0.
func (t *tally) holds(w *lang.When) bool {
	against := limit(w)
	bound, ok := against.Rat()
	if !ok {
		return false
	}
	var c int
	switch w.Agg {
	case "count":
		c = new(big.Rat).SetInt64(int64(t.hits)).Cmp(bound)
	case "different":
		c = new(big.Rat).SetInt64(int64(len(t.values))).Cmp(bound)
	case "sum":
		sum := t.sum
		if sum == nil {
			sum = new(big.Rat)
		}
		c = sum.Cmp(bound)
	case "avg":
		c = t.sum.Cmp(new(big.Rat).Mul(bound, new(big.Rat).SetInt64(int64(t.hits))))
	case "share": // hits of entries, in percent
		c = new(big.Rat).SetInt64(100 * int64(t.hits)).Cmp(new(big.Rat).Mul(bound,
			new(big.Rat).SetInt64(int64(t.entries))))
	case "min":
		c = t.sorted[0].Compare(against)
	case "max":
		c = t.sorted[len(t.sorted)-1].Compare(against)
	default: // the smallest value with at least so many percent at or below it
		percent := map[string]int{"p50": 50, "p95": 95, "p99": 99}[w.Agg]
		n := (len(t.sorted)*percent + 99) / 100
		c = t.sorted[max(n, 1)-1].Compare(against)
	}
	return entry.Holds(c, w.Op)
}

// finding is what judging a window came to.
type finding uint8

const (
	unjudged finding = iota // it cannot be judged yet
	neither                 // no change
	holds
	fails
)

// judge says whether a comparison holds. Wholly tells that what it looks at lies
// wholly after the key was first seen or last started from zero.
func (r *rule) weigh(w *lang.When, t *tally, raises, wholly bool) finding {
	n := t.hits
	if w.Agg == "share" {
		n = t.entries
	}
	counts := w.Agg == "count" || w.Agg == "sum" || w.Agg == "different"
	as := func(b bool) finding {
		if b {
			return holds
		}
		return fails
	}
	if n == 0 {
		switch {
		case !wholly:
			return unjudged
		case r.Empty == "good":
			return as(!raises)
		case r.Empty == "bad":
			return as(raises)
		case r.Empty == "neither":
			return neither
		case w.AtLeast > 0:
			return fails
		case !counts:
			return neither
		}
	}
	switch {
	case counts && w.Op != ">" && w.Op != ">=" && !wholly:
		return unjudged
	case n < w.AtLeast:
		return fails
	}
	return as(t.holds(w))
}

// enter takes an entry into a window; it answers false where it does not enter.
func (s *state) enter(k int, at, clock entry.Instant, hit bool, value string) bool {
	r := s.rule
	w, x := r.whens[k], &s.wins[k]
	hits := 0
	if hit {
		hits = 1
	}
	var values []string
	if w.Field != "" {
		if !hit || value == "" {
			return false
		}
		if w.Agg != "different" {
			if _, ok := numberOf(value); !ok {
				return false
			}
		}
		values = []string{value}
	}
	if !hit && w.Agg != "share" {
		return false
	}
	if s.alert == nil && r.raiseOf[k] < 0 { // it is not judged now: what fell out leaves here
		x.drop(w, clock)
		if w.K > 0 {
			s.skip(k, clock.Add(-r.Grace))
		}
	}
	if w.K > 0 {
		p := r.periodOf(w, at)
		if p < x.next {
			return false
		}
		i, found := slices.BinarySearchFunc(x.periods, p,
			func(a period, b int64) int { return cmp.Compare(a.index, b) })
		if !found {
			x.periods = slices.Insert(x.periods, i, period{index: p, first: entry.None, last: entry.None})
		}
		y := &x.periods[i]
		y.tally.take(w, 1, hits, values, 1)
		y.tally.list = append(y.tally.list, values...)
		if hit {
			if y.first == entry.None || at < y.first {
				y.first = at
			}
			y.last = entry.Later(y.last, at)
		}
		return false // it is judged when the period closes
	}
	if at <= clock.Add(-w.In) {
		return false
	}
	i := len(x.runs)
	for i > 0 && x.runs[i-1].at > at {
		i--
	}
	if i > 0 && x.runs[i-1].at == at {
		i--
	} else {
		x.runs = slices.Insert(x.runs, i, run{at: at})
	}
	y := &x.runs[i]
	y.entries++
	y.hits += hits
	y.values = append(y.values, values...)
	x.tally.take(w, 1, hits, values, 1)
	return true
}

// periodOf is the number of the period in which an instant lies.
func (r *rule) periodOf(w *lang.When, at entry.Instant) int64 {
	if days := int64(w.In / (24 * time.Hour)); w.In%(24*time.Hour) == 0 {
		return floorDiv(dayNumber(r, at), days)
	}
	return floorDiv(int64(at), int64(w.In))
}

// startOf is when a period begins.
func (r *rule) startOf(w *lang.When, index int64) entry.Instant {
	if days := int64(w.In / (24 * time.Hour)); w.In%(24*time.Hour) == 0 {
		noon := entry.Instant(index*days*int64(24*time.Hour) + int64(12*time.Hour))
		// Noon in UTC lies on the day before or behind in some zones.
		at := r.Midnight(noon, 0)
		return r.Midnight(at, int(index*days-dayNumber(r, at)))
	}
	return entry.Instant(index * int64(w.In))
}

// dayNumber counts the calendar days of the rule's zone since 1970-01-01.
func dayNumber(r *rule, at entry.Instant) int64 {
	_, offset := at.Time().In(zoneOf(r)).Zone()
	return floorDiv(int64(at)/1e9+int64(offset), 86400)
}

func zoneOf(r *rule) *time.Location {
	if r.Zone == nil {
		return time.UTC
	}
	return r.Zone
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// event is when a window is to be judged next; None where it is not.
func (s *state) event(k int) entry.Instant {
	r := s.rule
	w, x := r.whens[k], &s.wins[k]
	switch {
	case x.fresh:
		return x.freshAt
	case w.K > 0:
		return r.startOf(w, x.next+1).Add(r.Grace)
	}
	due := entry.None
	if len(x.runs) > 0 {
		due = x.runs[0].at.Add(w.In)
	}
	if !x.ripe && s.ripens(k) {
		if z := s.zero.Add(w.In); due == entry.None || z < due {
			due = z
		}
	}
	return due
}

// ripens tells whether a comparison is judged once D has passed since zero.
func (s *state) ripens(k int) bool {
	w := s.rule.whens[k]
	counts := w.Agg == "count" || w.Agg == "sum" || w.Agg == "different"
	return counts || s.rule.Empty != ""
}

// pass lets a window reach an instant: what falls out leaves, a period closes; then it
// is judged.
func (s *state) pass(k int, at entry.Instant) {
	r := s.rule
	w, x := r.whens[k], &s.wins[k]
	x.fresh, x.freshAt = true, at
	if w.K > 0 {
		s.close(k, at)
		return
	}
	x.drop(w, at)
	if s.zero.Add(w.In) <= at {
		x.ripe = true
	}
	s.say(k, r.weigh(w, &x.tally, r.raiseOf[k] >= 0, at.Add(-w.In) >= s.zero))
}

// drop lets the entries leave that have fallen out by an instant.
func (x *window) drop(w *lang.When, at entry.Instant) {
	n := 0
	for n < len(x.runs) && x.runs[n].at.Add(w.In) <= at {
		y := &x.runs[n]
		x.tally.take(w, y.entries, y.hits, y.values, -1)
		n++
	}
	x.runs = slices.Delete(x.runs, 0, n)
}

// begin lets the windows of the clears go on from a raise: while nothing was open they
// were not judged.
func (s *state) begin(clock entry.Instant) {
	for k, i := range s.rule.raiseOf {
		if i >= 0 {
			continue
		}
		w, x := s.rule.whens[k], &s.wins[k]
		x.drop(w, clock)
		x.results, x.said, x.fresh = nil, false, false
		x.ripe = s.zero.Add(w.In) <= clock
		if w.K > 0 {
			s.skip(k, clock)
		}
	}
}

// skip passes over the periods that ended before an instant, without judging them.
func (s *state) skip(k int, clock entry.Instant) {
	x := &s.wins[k]
	if now := s.rule.periodOf(s.rule.whens[k], clock); now > x.next {
		x.next = now
		x.periods = slices.DeleteFunc(x.periods, func(p period) bool { return p.index < now })
	}
}

// say notes what judging came to.
func (s *state) say(k int, v finding) {
	x := &s.wins[k]
	switch v {
	case holds:
		x.said = true
	case fails:
		x.said = false
	default:
		x.fresh = false
	}
}

// close judges the period that ended.
func (s *state) close(k int, at entry.Instant) {
	r := s.rule
	w, x := r.whens[k], &s.wins[k]
	var p period
	p.first, p.last = entry.None, entry.None
	if len(x.periods) > 0 && x.periods[0].index == x.next {
		p = x.periods[0]
		x.periods = slices.Delete(x.periods, 0, 1)
	}
	v := r.weigh(w, &p.tally, r.raiseOf[k] >= 0, r.startOf(w, x.next) >= s.zero)
	x.next++
	if v == holds || v == fails {
		x.results = append(x.results, result{v == holds, p.tally.hits, p.first, p.last})
		if n := len(x.results) - w.M; n > 0 {
			x.results = slices.Delete(x.results, 0, n)
		}
	} else {
		x.fresh = false
		return
	}
	n := 0
	for _, y := range x.results {
		if y.holds {
			n++
		}
	}
	x.said = n >= w.K
}

// saw are the hits that a comparison worked on, and the own times of the first and the
// last.
func (s *state) saw(k int) (hits int, first, last entry.Instant) {
	x := &s.wins[k]
	first, last = entry.None, entry.None
	note := func(n int, a, b entry.Instant) {
		hits += n
		if n > 0 {
			if first == entry.None || a < first {
				first = a
			}
			last = entry.Later(last, b)
		}
	}
	for _, y := range x.results {
		note(y.hits, y.first, y.last)
	}
	for _, y := range x.runs {
		note(y.hits, y.at, y.at)
	}
	return hits, first, last
}

// newWindows are the windows of a key that starts from zero.
func (r *rule) newWindows(zero entry.Instant) []window {
	if len(r.whens) == 0 {
		return nil
	}
	out := make([]window, len(r.whens))
	for k, w := range r.whens {
		if w.K > 0 {
			out[k].next = r.periodOf(w, zero)
		}
	}
	return out
}

// eased tells whether no comparison of a raise says any more that it holds.
func (s *state) eased() bool {
	for k, i := range s.rule.raiseOf {
		if i >= 0 && s.wins[k].said {
			return false
		}
	}
	return true
}
