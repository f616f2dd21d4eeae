package engine

import (
	"fmt"
	"math"
	"math/big"
	"slices"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Standing is how one key of a rule stands at the engine's clock: what each of its
// clauses has, and what it lacks.
type Standing struct {
	Rule     string          `json:"rule"`
	Fields   []string        `json:"fields"` // of the key
	Key      []string        `json:"key"`    // their values as written
	Alert    string          `json:"alert,omitempty"`
	Severity *entry.Severity `json:"severity,omitempty"` // of the open alert
	Since    entry.Instant   `json:"-"`                  // when it was raised or reopened
	Says     []StandingSays  `json:"clauses"`
	Notes    []string        `json:"notes,omitempty"` // what else bears on it, in words
}

// StandingSays is what one clause comes to.
type StandingSays struct {
	Clause string `json:"clause"` // raise or clear, and what it says
	Holds  bool   `json:"holds"`
	Text   string `json:"text"` // what there is of what it wants, in words
}

// Standings are the keys of a rule that agree with some values, of which "" agrees with
// all, in their order. Clock writes instants.
func (e *Engine) Standings(rule string, key []string, clock func(entry.Instant) string) []Standing {
	var out []Standing
	for _, r := range e.rules {
		if r.Name != rule {
			continue
		}
		var list []*state
		for _, s := range r.keys {
			if agrees(s.key, key) {
				list = append(list, s)
			}
		}
		slices.SortFunc(list, func(a, b *state) int { return slices.Compare(a.key, b.key) })
		for _, s := range list {
			out = append(out, e.standing(s, clock))
		}
	}
	return out
}

func (e *Engine) standing(s *state, clock func(entry.Instant) string) Standing {
	r, a := s.rule, s.alert
	out := Standing{Rule: r.Name, Fields: r.Per, Key: s.key}
	if a != nil {
		severity := a.severity
		out.Alert, out.Severity, out.Since = a.id, &severity, a.since
	}
	for i := range r.Raises {
		x := &r.Raises[i]
		holds, text := e.raiseStands(s, i, clock)
		if a != nil && x.Severity <= a.severity {
			text += "; it changes nothing while the alert is open as " + a.severity.String()
		}
		out.Says = append(out.Says, StandingSays{"raise " + x.Severity.String() + ": " + x.Why(), holds, text})
	}
	if r.Blind > 0 {
		text := "its logs can be seen"
		if s.blindAt != entry.None {
			text = fmt.Sprintf("blind since %s; raises at %s", clock(s.blindAt), clock(s.blindAt.Add(r.BlindIn)))
		}
		out.Says = append(out.Says, StandingSays{"raise " + r.Blind.String() + ": blind for " + entry.Span(r.BlindIn),
			s.blindAt != entry.None && e.clock >= s.blindAt.Add(r.BlindIn), text})
	}
	out.Says = append(out.Says, e.clearStands(s, clock)...)
	if s.blindAt != entry.None && r.Blind == 0 {
		out.Notes = append(out.Notes, "its logs cannot be seen since "+clock(s.blindAt)+": quiet stands still")
	}
	if since, rests := e.rests(s); rests {
		out.Notes = append(out.Notes, "its source is off since "+clock(since)+
			": nothing is raised or cleared, and no time passes")
	}
	if by := e.shadow(s); by != "" {
		out.Notes = append(out.Notes, "an alert of "+by+" is open: this one stands in its shadow, and is not told")
	}
	if p := s.past; p != nil && a == nil && e.clock.Sub(p.cleared) < r.Reopen {
		out.Notes = append(out.Notes, "cleared at "+clock(p.cleared)+": a raise before "+
			clock(p.cleared.Add(r.Reopen))+" opens the same alert again")
	}
	if len(r.During) > 0 && !r.Inside(e.clock) {
		out.Notes = append(out.Notes, "it is outside the rule's hours")
	}
	return out
}

// raiseStands says what a raise has of what it wants.
func (e *Engine) raiseStands(s *state, i int, clock func(entry.Instant) string) (bool, string) {
	r := s.rule
	x := &r.Raises[i]
	switch {
	case x.When != nil:
		return e.whenStands(s, slices.Index(r.raiseOf, i), clock)
	case x.Without > 0 || x.By != nil:
		return e.waitStands(s, i, clock)
	case x.Open > 0:
		if s.alert == nil {
			return false, "no alert is open"
		}
		due := s.alert.since.Add(x.Open)
		return e.clock >= due, "open since " + clock(s.alert.since) + "; due at " + clock(due)
	}
	what := "hits"
	at, total, first := s.hits, s.count, s.first
	if r.own[i] {
		h := &s.own[i]
		at, total, first = h.at, h.count, h.first
		if x.Different != "" {
			what, total = "different "+x.Different, len(h.at)
		}
	}
	if x.In == 0 {
		text := fmt.Sprintf("%d of %d %s", min(total, x.At), x.At, what)
		if total > 0 {
			text += " since " + clock(first)
		}
		holds := total >= x.At
		return e.sequence(s, i, holds, text, clock)
	}
	from := e.clock.Add(-x.In)
	n := len(at)
	for n > 0 && at[n-1] > from {
		n--
	}
	in := at[n:]
	text := fmt.Sprintf("%d of %d %s in %s", min(len(in), x.At), x.At, what, entry.Span(x.In))
	if len(in) > 0 && x.Different == "" {
		text += ": " + clocks(in, clock)
	} else if len(in) > 0 {
		text += ": " + strings.Join(s.own[i].value[n:], ", ")
	}
	if len(in) < x.At && n > 0 {
		lost := at[max(0, n-x.At):n]
		text += "; the window lost " + clocks(lost, clock) + " at " + clock(lost[len(lost)-1].Add(x.In))
	}
	if len(in) == 0 && total == 0 {
		text += "; it had none since it is known"
		if s.zero != entry.None {
			text += ", " + clock(s.zero)
		}
	}
	return e.sequence(s, i, len(in) >= x.At, text, clock)
}

// mostClocks is how many instants are listed, the newest ones.
const mostClocks = 5

func clocks(at []entry.Instant, clock func(entry.Instant) string) string {
	var out []string
	if n := len(at) - mostClocks; n > 0 {
		out = append(out, fmt.Sprintf("%d more", n))
		at = at[n:]
	}
	for _, t := range at {
		out = append(out, clock(t))
	}
	return strings.Join(out, ", ")
}

// sequence adds what a raise with `then` waits for.
func (e *Engine) sequence(s *state, i int, holds bool, text string, clock func(entry.Instant) string) (bool, string) {
	x := &s.rule.Raises[i]
	if x.Then == nil {
		return holds, text
	}
	waits := s.own[i].waits
	for len(waits) > 0 && waits[0].at.Add(x.Within) <= e.clock {
		waits = waits[1:]
	}
	if len(waits) == 0 {
		return false, text + "; nothing waits for what is to follow"
	}
	return false, text + "; waits for " + x.Then.String() + " until " + clock(waits[len(waits)-1].at.Add(x.Within))
}

// waitStands says how long something has not come.
func (e *Engine) waitStands(s *state, i int, clock func(entry.Instant) string) (bool, string) {
	w := &s.wait
	switch {
	case w.aged:
		return false, "the waiting has ended by age; it begins again when it is heard"
	case !w.waits && s.rule.Once != nil:
		return false, "nothing has asked"
	case !w.waits:
		return false, "it does not wait: it was told that nothing will come"
	}
	text := "never heard"
	if w.heard != entry.None {
		text = "heard last at " + clock(w.heard)
	} else if s.rule.Once != nil {
		text = "asked at " + clock(w.asked)
	}
	if s.alert != nil && s.rule.Raises[i].Severity <= s.alert.severity {
		return true, text
	}
	due := s.without(i)
	if due == entry.None {
		return false, text
	}
	return e.clock >= due, text + "; due at " + clock(due)
}

// whenStands says what a number over time is.
func (e *Engine) whenStands(s *state, k int, clock func(entry.Instant) string) (bool, string) {
	r := s.rule
	w, x := r.whens[k], &s.wins[k]
	if w.K > 0 {
		n := 0
		for _, y := range x.results {
			if y.holds {
				n++
			}
		}
		text := fmt.Sprintf("it held in %d of the last %d periods that were judged, and %d of %d are wanted", n,
			len(x.results), w.K, w.M)
		if len(x.periods) > 0 {
			p := &x.periods[len(x.periods)-1]
			text += "; the period from " + clock(r.startOf(w, p.index)) + " has " + p.tally.describe(w) + " so far"
		}
		return x.said, text
	}
	now := x.now(w, e.clock)
	text := now.describe(w)
	v := r.weigh(w, &now, r.raiseOf[k] >= 0, e.clock.Add(-w.In) >= s.zero)
	n := now.hits
	if w.Agg == "share" {
		n = now.entries
	}
	switch {
	case v == unjudged:
		text += "; it is judged once it is known for " + entry.Span(w.In) + ", at " + clock(s.zero.Add(w.In))
	case n < w.AtLeast:
		text += fmt.Sprintf("; at least %d are wanted", w.AtLeast)
	case v == neither:
		text += "; without any it stays as it is"
	}
	return v == holds, text
}

// now is what a sliding window holds that has not left it by an instant.
func (x *window) now(w *lang.When, at entry.Instant) tally {
	var out tally
	for _, y := range x.runs {
		if y.at.Add(w.In) > at {
			out.take(w, y.entries, y.hits, y.values, 1)
		}
	}
	return out
}

// Values are what the comparisons of numbers of a rule, in the order of its Whens, have of
// a key at the engine's clock; where a comparison is by periods, of the newest one that
// has entries. NaN stands for what has no value.
func (e *Engine) Values(rule string, key []string) []float64 {
	for _, r := range e.rules {
		if r.Name != rule {
			continue
		}
		s := r.keys[keyID(key)]
		out := make([]float64, len(r.whens))
		for k, w := range r.whens {
			out[k] = math.NaN()
			if s == nil {
				continue
			}
			t := tally{}
			if x := &s.wins[k]; w.K == 0 {
				t = x.now(w, e.clock)
			} else if n := len(x.periods); n > 0 {
				t = x.periods[n-1].tally
			} else {
				continue
			}
			if v, ok := t.value(w); ok {
				out[k], _ = v.Float64()
			}
		}
		return out
	}
	return nil
}

// Limit is the number that a comparison names, as Values has them.
func Limit(w *lang.When) float64 {
	r, ok := limit(w).Rat()
	if !ok {
		return math.NaN()
	}
	f, _ := r.Float64()
	return f
}

// value is what entries are together for a comparison; false where there are none of
// which it could be said.
func (t *tally) value(w *lang.When) (*big.Rat, bool) {
	of := func(n, d int) *big.Rat { return new(big.Rat).SetFrac64(int64(n), int64(d)) }
	switch w.Agg {
	case "count":
		return of(t.hits, 1), true
	case "different":
		return of(len(t.values), 1), true
	case "sum":
		if t.sum == nil {
			return of(0, 1), true
		}
		return t.sum, true
	case "avg":
		if t.hits == 0 || t.sum == nil {
			return nil, false
		}
		return new(big.Rat).Quo(t.sum, of(t.hits, 1)), true
	case "share":
		if t.entries == 0 {
			return nil, false
		}
		return of(100*t.hits, t.entries), true
	}
	if len(t.sorted) == 0 {
		return nil, false
	}
	i := 0
	switch w.Agg {
	case "min":
	case "max":
		i = len(t.sorted) - 1
	default:
		percent := map[string]int{"p50": 50, "p95": 95, "p99": 99}[w.Agg]
		i = max((len(t.sorted)*percent+99)/100, 1) - 1
	}
	return t.sorted[i].Rat()
}

// describe says what a number is, and of how many entries.
func (t *tally) describe(w *lang.When) string {
	name := w.Agg
	if w.Field != "" {
		name += "(" + w.Field + ")"
	}
	v, ok := t.value(w)
	if !ok {
		return name + " of no entries"
	}
	text := name + " is " + decimals(v)
	if w.Value.Kind == lang.DurationValue && w.Agg != "count" && w.Agg != "share" && w.Agg != "different" {
		text += " ms"
	}
	switch w.Agg {
	case "count", "different":
		return text
	case "share":
		return fmt.Sprintf("%s %%: %d hits of %d entries", text, t.hits, t.entries)
	}
	return fmt.Sprintf("%s over %d", text, t.hits)
}

// decimals writes a number with at most three decimals.
func decimals(v *big.Rat) string {
	s := v.FloatString(3)
	if strings.Contains(s, ".") {
		s = strings.TrimRight(strings.TrimRight(s, "0"), ".")
	}
	return s
}

// clearStands says what the clauses come to that end an alert.
func (e *Engine) clearStands(s *state, clock func(entry.Instant) string) []StandingSays {
	r, a := s.rule, s.alert
	var out []StandingSays
	add := func(clause string, holds bool, text string) {
		out = append(out, StandingSays{"clear " + clause, holds, text})
	}
	if r.OnRecovery && r.Recovery != nil {
		switch {
		case r.RecoverAt > 1 && r.RecoverIn > 0:
			n := 0
			for _, t := range s.recovered {
				if t > e.clock.Add(-r.RecoverIn) {
					n++
				}
			}
			add(fmt.Sprintf("on recovery at %d in %s", r.RecoverAt, entry.Span(r.RecoverIn)), false,
				fmt.Sprintf("%d of %d recoveries", n, r.RecoverAt))
		case r.RecoverAt > 1:
			add(fmt.Sprintf("on recovery at %d", r.RecoverAt), false,
				fmt.Sprintf("%d of %d recoveries", len(s.recovered), r.RecoverAt))
		case a != nil:
			add("on recovery", false, "none has come since "+clock(a.since))
		}
	}
	for k, i := range r.raiseOf {
		if i < 0 {
			if a == nil {
				add("when "+r.whens[k].String(), false, "no alert is open, so it is not looked at")
				continue
			}
			holds, text := e.whenStands(s, k, clock)
			add("when "+r.whens[k].String(), holds, text)
		}
	}
	if a == nil {
		return out
	}
	if r.Eases() {
		add("when no raise holds any more", s.eased(), "see the raises")
	}
	if r.Quiet > 0 {
		text := "quiet stands still: it is blind"
		if due := s.quiet(); due != entry.None {
			text = "the newest hit was at " + clock(entry.Later(s.last, a.since)) + "; due at " + clock(due)
		}
		add("after "+entry.Span(r.Quiet)+" quiet", false, text)
	}
	if r.Age > 0 {
		add("after "+entry.Span(r.Age)+" open", false, "open since "+clock(a.since)+"; due at "+
			clock(a.since.Add(r.Age)))
	}
	if r.Awaits != nil {
		add("when it comes", false, r.Awaits.String())
	}
	if len(out) == 0 {
		add("by hand", false, "nothing else ends it")
	}
	return out
}
