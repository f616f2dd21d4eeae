package engine

import (
	"container/heap"
	"maps"
	"slices"

	"dimlantern/core/verdict"

	"dimlantern/core/entry"
)

// The classes of timers, in the order in which they act at one instant.
const (
	classClear = iota
	classRaise
	classRemind
)

// timer is a deadline of a key. It is void where the key is armed otherwise.
type timer struct {
	due   entry.Instant
	class int
	s     *state
}

type timers []timer

func (t timers) Len() int { return len(t) }
func (t timers) Less(i, j int) bool {
	a, b := &t[i], &t[j]
	switch {
	case a.due != b.due:
		return a.due < b.due
	case a.class != b.class:
		return a.class < b.class
	case a.s.rule.index != b.s.rule.index:
		return a.s.rule.index < b.s.rule.index
	}
	return slices.Compare(a.s.key, b.s.key) < 0
}
func (t timers) Swap(i, j int) { t[i], t[j] = t[j], t[i] }
func (t *timers) Push(x any)   { *t = append(*t, x.(timer)) }
func (t *timers) Pop() any {
	old := *t
	x := old[len(old)-1]
	*t = old[:len(old)-1]
	return x
}

// arm sets a deadline. One that was set before and is earlier stays in the heap,
// and is put off when it comes up.
func (e *Engine) arm(s *state, class int, due entry.Instant) {
	if had := s.armed[class]; had != entry.None && had <= due {
		return
	}
	s.armed[class] = due
	heap.Push(&e.timers, timer{due, class, s})
}

// rearm sets all deadlines of a key.
func (e *Engine) rearm(s *state) {
	for class := classClear; class <= classRemind; class++ {
		if due := s.deadline(class); due != entry.None {
			if _, held := e.held[s.rule.index]; !held { // what is past when it is set falls due at once
				due = entry.Later(due, e.clock)
			}
			e.arm(s, class, due)
		}
	}
}

// earlier is the earlier of two deadlines, of which either may be None.
func earlier(a, b entry.Instant) entry.Instant {
	if a == entry.None || b != entry.None && b < a {
		return b
	}
	return a
}

// deadline is when a timer of that class is really due; None where it is not.
func (s *state) deadline(class int) entry.Instant {
	r, a := s.rule, s.alert
	due := entry.None
	switch class {
	case classClear:
		if a == nil {
			return due
		}
		due = s.quiet()
		if r.Age > 0 {
			due = earlier(due, a.since.Add(r.Age))
		}
		for k, i := range r.raiseOf {
			if (i < 0 || r.eases) && !s.wins[k].fresh { // a fresh one is the raises' to look at
				due = earlier(due, s.event(k))
			}
		}
	case classRaise:
		for k, i := range r.raiseOf {
			if i >= 0 {
				due = earlier(due, s.event(k))
			}
		}
		for i := range r.Raises {
			switch x := &r.Raises[i]; {
			case x.Open > 0:
				if a != nil && x.Severity > a.severity && !(x.Untaken && a.taken) {
					due = earlier(due, a.since.Add(x.Open))
				}
			case x.Without > 0 || x.By != nil:
				due = earlier(due, s.without(i))
			}
		}
		if r.Blind > 0 && s.blindAt != entry.None && (a == nil || a.severity < r.Blind) {
			due = earlier(due, s.blindAt.Add(r.BlindIn))
		}
	case classRemind:
		if a != nil && r.Remind > 0 && !a.taken {
			return a.told.Add(r.Remind)
		}
	}
	return due
}

// fire lets every timer act that is due at t or before, and tells whether any did.
func (e *Engine) fire(t entry.Instant) (acted bool) {
	for len(e.timers) > 0 && e.timers[0].due <= t {
		x := heap.Pop(&e.timers).(timer)
		s := x.s
		if s.armed[x.class] != x.due {
			continue
		}
		if _, rests := e.rests(s); rests { // it is set anew when that ends
			s.armed[x.class] = entry.None
			continue
		}
		if bound, held := e.held[s.rule.index]; held && x.due > bound {
			e.aside = append(e.aside, x)
			continue
		}
		s.armed[x.class] = entry.None
		due := s.deadline(x.class)
		switch {
		case due == entry.None:
			continue
		case due > x.due:
			e.arm(s, x.class, due)
			continue
		}
		at := x.due // it was never set to an instant before the clock
		e.clock, acted = entry.Later(e.clock, at), true
		e.changed(s)
		switch x.class {
		case classClear:
			e.clears(s, at)
		case classRaise:
			e.rises(s, at)
		case classRemind:
			e.tell(s, Repeated, at, "open for "+entry.Span(at.Sub(s.alert.since)), nil)
		}
		if s.rule.keys[keyID(s.key)] == s {
			e.rearm(s)
		}
	}
	return acted
}

// clears ends an alert where a deadline says so.
func (e *Engine) clears(s *state, at entry.Instant) {
	r, a := s.rule, s.alert
	eased := false
	any := false
	for k, i := range r.raiseOf {
		if i >= 0 && !r.eases {
			continue
		}
		if due := s.event(k); due == entry.None || due > at {
			continue
		}
		if !s.wins[k].fresh {
			s.pass(k, at)
		}
		any = any || i >= 0 && s.wins[k].fresh
		if i < 0 {
			eased = eased || s.wins[k].fresh && s.wins[k].said
			s.wins[k].fresh = false
		}
	}
	why := ""
	switch {
	case s.quiet() != entry.None && s.quiet() <= at:
		why = "quiet"
	case eased:
		why = "eased"
	case r.eases && any && s.eased(): // the number is watched without a break: nothing starts from zero
		e.clear(s, at, "eased", nil)
	case r.Age > 0 && a.since.Add(r.Age) <= at:
		why = "age"
		s.wait.aged = true
		s.wait.waits = s.wait.waits && r.Once == nil
	}
	if why != "" {
		e.clear(s, at, why, nil)
		e.restart(s)
	}
}

// rises raises or worsens where a deadline says so.
func (e *Engine) rises(s *state, at entry.Instant) {
	r := s.rule
	best := none
	better := func(c candidate, severity entry.Severity) {
		have := entry.Severity(0)
		switch {
		case best.blind:
			have = r.Blind
		case best.raise >= 0:
			have = r.Raises[best.raise].Severity
		}
		if (s.alert == nil || severity > s.alert.severity) && severity > have {
			best = c
		}
	}
	blind := ""
	if s.blindAt != entry.None {
		blind = "; it is blind"
	}
	judgedBy := false
	for i := range r.Raises {
		x := &r.Raises[i]
		c := candidate{raise: i, first: entry.None, last: entry.None}
		switch {
		case x.When != nil:
			k := slices.Index(r.raiseOf, i)
			due := s.event(k)
			if due == entry.None || due > at {
				continue
			}
			if !s.wins[k].fresh {
				s.pass(k, at)
			}
			fresh := s.wins[k].fresh
			s.wins[k].fresh = false
			if fresh && s.wins[k].said {
				c.count, c.first, c.last = s.saw(k)
				better(c, x.Severity)
			}
		case x.Open > 0:
			if a := s.alert; a != nil && a.since.Add(x.Open) <= at && !(x.Untaken && a.taken) {
				better(c, x.Severity)
			}
		case x.Without > 0 || x.By != nil:
			due := s.without(i)
			if due == entry.None || due > at {
				continue
			}
			c.note = blind
			if x.Without > 0 || s.misses(i, due) {
				better(c, x.Severity)
			}
			judgedBy = judgedBy || x.By != nil
		}
	}
	if judgedBy {
		s.wait.by = at
	}
	if r.Blind > 0 && s.blindAt != entry.None && s.blindAt.Add(r.BlindIn) <= at {
		why := "blind"
		if r.BlindIn > 0 {
			why = "blind for " + entry.Span(r.BlindIn)
		}
		better(candidate{raise: -1, blind: true, first: entry.None, last: entry.None, note: why}, r.Blind)
	}
	e.rise(s, best, nil, nil)
}

// hold takes the place of what was held before.
func (e *Engine) hold(bounds map[int]entry.Instant) {
	e.held = maps.Clone(bounds)
	e.release()
}

// Held is what was given to Hold, as far as entries have taken it since.
func (e *Engine) Held() map[int]entry.Instant { return e.held }

// follow moves the bounds of held rules with the entry that is something for them.
func (e *Engine) follow(j *verdict.Judged) {
	moved := false
	for i := range e.held {
		if at := slices.IndexFunc(j.Verdicts, func(v verdict.Verdict) bool { return v.Rule == i }); at >= 0 &&
			j.Reached > e.held[i] {
			e.held[i] = j.Reached
			moved = true
		}
	}
	if moved {
		e.release()
	}
}

func (e *Engine) release() {
	for _, x := range e.aside {
		heap.Push(&e.timers, x)
	}
	e.aside = e.aside[:0]
}

// Next is when the next timer may act; None where none is set.
func (e *Engine) Next() entry.Instant {
	if len(e.timers) == 0 {
		return entry.None
	}
	return e.timers[0].due
}

// Due are the places of the rules of which a timer is due at t or before, and
// which are not held: before it acts, their origins can be looked at once more.
func (e *Engine) Due(t entry.Instant) []int {
	seen := map[int]bool{}
	var visit func(i int)
	visit = func(i int) {
		if i >= len(e.timers) || e.timers[i].due > t {
			return
		}
		x := &e.timers[i]
		if _, held := e.held[x.s.rule.index]; !held && x.s.armed[x.class] == x.due {
			if due := x.s.deadline(x.class); due != entry.None && due <= t {
				seen[x.s.rule.index] = true
			}
		}
		visit(2*i + 1)
		visit(2*i + 2)
	}
	visit(0)
	return slices.Sorted(maps.Keys(seen))
}

// blinded lets quiet stand still for keys all of whose origins are blind.
func (e *Engine) blinded(b Blind) {
	e.fire(b.At)
	if _, already := e.blind[b.Origin]; already {
		return
	}
	e.blind[b.Origin] = b.At
	e.each(b.Origin, func(s *state) {
		if s.blindAt == entry.None && e.allBlind(s) {
			s.blindAt = b.At
			e.changed(s)
			e.rearm(s)
		}
	})
	e.fire(b.At)
}

// IsBlind tells whether an origin cannot be seen.
func (e *Engine) IsBlind(origin string) bool {
	_, blind := e.blind[origin]
	return blind
}

func (e *Engine) seen(origin string, t entry.Instant) {
	delete(e.blind, origin)
	e.each(origin, func(s *state) { e.unblind(s, t) })
}

// unblind tells that a key can be seen again from t on.
func (e *Engine) unblind(s *state, t entry.Instant) {
	a, from := s.alert, s.blindAt
	s.blindAt = entry.None
	e.changed(s)
	switch {
	case from == entry.None || a == nil:
	case a.blind:
		e.clock = entry.Later(e.clock, t)
		e.clear(s, e.clock, "seen", nil)
		e.restart(s)
	case s.rule.Quiet > 0:
		a.darks = slices.DeleteFunc(a.darks, func(d [2]entry.Instant) bool { return d[1] <= a.since })
		if t > from {
			a.darks = append(a.darks, [2]entry.Instant{from, t})
		}
		if n := len(a.darks) - mostDarks; n > 0 {
			a.darks = slices.Delete(a.darks, 0, n)
		}
		e.rearm(s)
	}
}

// mostDarks is how many times of blindness an alert remembers.
const mostDarks = 100

// quiet is when an open alert clears by quiet; None where it does not. Time in which the
// key could not be seen does not count.
func (s *state) quiet() entry.Instant {
	a := s.alert
	if a == nil || s.rule.Quiet == 0 || s.blindAt != entry.None {
		return entry.None
	}
	from := entry.Later(s.last, a.since)
	due := from.Add(s.rule.Quiet)
	for _, d := range a.darks {
		if start := entry.Later(d[0], from); start < due && start < d[1] {
			due = due.Add(d[1].Sub(start))
		}
	}
	return due
}

// each visits the keys that an origin gave an entry, in their order.
func (e *Engine) each(origin string, visit func(*state)) {
	for _, r := range e.rules {
		var list []*state
		for _, s := range r.keys {
			if slices.Contains(s.origins, origin) {
				list = append(list, s)
			}
		}
		slices.SortFunc(list, func(a, b *state) int { return slices.Compare(a.key, b.key) })
		for _, s := range list {
			visit(s)
		}
	}
}

func (e *Engine) allBlind(s *state) bool {
	for _, o := range s.origins {
		if _, blind := e.blind[o]; !blind {
			return false
		}
	}
	return len(s.origins) > 0
}
