package engine

import (
	"slices"
	"strconv"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// candidate is what may raise: the highest raise above the alert's severity that holds
// now, of several the first written.
type candidate struct {
	raise       int
	count       int
	first, last entry.Instant
	blind       bool   // it is the blind clause: raise means nothing
	note        string // what is said besides what the raise saw; of blind, all of it
}

// why says what was seen.
func (c *candidate) why(r *rule) string {
	if c.blind {
		return c.note
	}
	return r.Raises[c.raise].Why() + c.note
}

var none = candidate{raise: -1}

// noHit is the place of an entry that is no hit.
const noHit = -3

func (s *state) candidate(at int, owned []int, judged []bool) candidate {
	best := none
	for i := range s.rule.Raises {
		c, ok := s.raises(i, at, owned, judged)
		if ok && (best.raise < 0 || s.rule.Raises[i].Severity > s.rule.Raises[best.raise].Severity) {
			best = c
		}
	}
	return best
}

// raises tells whether a raise holds with the hit at place at, and what it saw.
func (s *state) raises(i, at int, owned []int, judged []bool) (candidate, bool) {
	r := s.rule
	x := &r.Raises[i]
	if s.alert != nil && x.Severity <= s.alert.severity || x.Then != nil {
		return none, false
	}
	switch {
	case x.When != nil:
		k := slices.Index(r.raiseOf, i)
		if k < 0 || judged == nil || !judged[k] || !s.wins[k].said {
			return none, false
		}
		n, first, last := s.saw(k)
		return candidate{raise: i, count: n, first: first, last: last}, true
	case !x.Hits() || at == noHit:
		return none, false
	case r.own[i]:
		if owned[i] == notCounted {
			return none, false
		}
		first, last, ok := s.own[i].window(x, owned[i])
		return candidate{raise: i, count: x.At, first: first, last: last}, ok
	}
	w, ok := s.window(x, at)
	c := candidate{raise: i, count: x.At, first: s.first, last: s.last}
	if ok && x.In > 0 {
		c.first, c.last = s.hits[w], s.hits[w+x.At-1]
	}
	return c, ok
}

// add counts a hit of that own time, and returns where it stands among the kept
// ones: -1 where it is not kept.
func (s *state) add(t entry.Instant) int {
	if s.count == 0 {
		s.first, s.last = t, t
	}
	s.count++
	s.first, s.last = min(s.first, t), max(s.last, t)
	if s.rule.most == 0 {
		return -1
	}
	i := len(s.hits)
	for i > 0 && s.hits[i-1] > t {
		i--
	}
	if i == 0 && len(s.hits) >= s.rule.most {
		return -1
	}
	s.hits = slices.Insert(s.hits, i, t)
	if n := len(s.hits) - s.rule.most; n > 0 {
		s.hits = slices.Delete(s.hits, 0, n)
		i -= n
	}
	return i
}

// window finds the newest N kept hits around the one at place at that lie within
// less than D of each other, and returns where they begin.
func (s *state) window(r *lang.Raise, at int) (int, bool) {
	if r.In == 0 {
		return 0, s.count >= r.At
	}
	return windowOf(s.hits, r, at)
}

func windowOf(hits []entry.Instant, r *lang.Raise, at int) (int, bool) {
	low := max(0, len(hits)-2*r.At) // of which the newest 2N are this raise's
	if at < low {
		return 0, false
	}
	for i := min(at, len(hits)-r.At); i >= max(low, at-r.At+1); i-- {
		if hits[i+r.At-1].Sub(hits[i]) < r.In {
			return i, true
		}
	}
	return 0, false
}

// rise raises or worsens where something holds that does more.
func (e *Engine) rise(s *state, c candidate, x *entry.Entry, vars []entry.Field) {
	if from := s.wait.asked; s.rule.Awaits != nil && !c.blind {
		if s.rule.Once == nil {
			from = entry.Later(from, s.rule.began)
		}
		if from != entry.None {
			since := entry.Field{Name: awaitedSince, Value: strconv.FormatInt(int64(from), 10)}
			vars = append(vars[:len(vars):len(vars)], since)
		}
	}
	if c.raise < 0 && !c.blind {
		return
	}
	r := s.rule
	severity := r.Blind
	if !c.blind {
		severity = r.Raises[c.raise].Severity
	}
	if a := s.alert; a != nil {
		a.blind = a.blind && c.blind
		if severity <= a.severity {
			return
		}
		a.severity, a.why = severity, c.why(r)
		e.tell(s, Worsened, e.clock, a.why, x)
		return
	}
	a := &alert{severity: severity, raised: e.clock, since: e.clock, count: c.count, first: c.first, last: c.last,
		vars: vars, why: c.why(r), blind: c.blind}
	change := Raised
	if p := s.past; p != nil && r.Reopen > 0 && e.clock.Sub(p.cleared) < r.Reopen {
		change = Reopened
		a.id, a.raised, a.count = p.id, p.raised, p.count+c.count
		if p.first != entry.None {
			a.first = p.first
		}
		a.last = entry.Later(a.last, p.last)
	} else {
		a.id = alertID(e.Reporter, r.Name, s.key, e.clock, x)
	}
	r.unlink(s)
	s.alert = a
	s.recovered = nil
	r.open++
	if len(r.ClearWhens) > 0 {
		s.begin(e.clock)
	}
	e.tell(s, change, e.clock, a.why, x)
	e.rearm(s)
}
