package engine

import (
	"container/heap"
	"maps"
	"slices"

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

// deadline is when a timer of that class is really due; None where it is not.
func (s *state) deadline(class int) entry.Instant {
	switch {
	case s.alert == nil:
	case class == classClear:
		if s.blindAt == entry.None {
			return s.alert.quiet
		}
	case class == classRemind && s.rule.Remind > 0:
		return s.alert.told.Add(s.rule.Remind)
	}
	return entry.None
}

// fire lets every timer act that is due at t or before.
func (e *Engine) fire(t entry.Instant) {
	for len(e.timers) > 0 && e.timers[0].due <= t {
		x := heap.Pop(&e.timers).(timer)
		s := x.s
		if s.armed[x.class] != x.due {
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
		e.clock = entry.Later(e.clock, at)
		switch x.class {
		case classClear:
			e.clear(s, at, "quiet", nil)
			e.forgetKey(s)
		case classRemind:
			e.tell(s, Repeated, at, "open for "+entry.Span(at.Sub(s.alert.raised)), nil)
		}
	}
}

// Hold says up to when the origins of some rules have been read, by the rules'
// places; the others' have been read up to now. A timer of a held rule that falls
// due later than that waits, and acts, with its own deadline, once the rule is
// held no more, or an entry that is something for it has come from then or later.
func (e *Engine) Hold(bounds map[int]entry.Instant) {
	e.held = maps.Clone(bounds)
	e.release()
}

// Held is what was given to Hold, as far as entries have taken it since.
func (e *Engine) Held() map[int]entry.Instant { return e.held }

// follow moves the bounds of held rules with the entry that is something for them.
func (e *Engine) follow(j *Judged) {
	moved := false
	for i := range e.held {
		if at := slices.IndexFunc(j.Verdicts, func(v Verdict) bool { return v.Rule == i }); at >= 0 && j.Reached > e.held[i] {
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

// Blind tells that an origin cannot be seen from t on. Quiet stands still for
// keys all of whose origins are blind.
func (e *Engine) Blind(origin string, t entry.Instant) []Transition {
	e.out = e.out[:0]
	e.fire(t)
	if _, already := e.blind[origin]; already {
		return e.out
	}
	e.blind[origin] = t
	e.each(origin, func(s *state) {
		if s.blindAt == entry.None && e.allBlind(s) {
			s.blindAt = t
		}
	})
	return e.out
}

// IsBlind tells whether an origin cannot be seen.
func (e *Engine) IsBlind(origin string) bool {
	_, blind := e.blind[origin]
	return blind
}

// Seen tells that an origin can be seen again from t on.
func (e *Engine) Seen(origin string, t entry.Instant) []Transition {
	e.out = e.out[:0]
	e.fire(t)
	e.seen(origin, t)
	return e.out
}

func (e *Engine) seen(origin string, t entry.Instant) {
	delete(e.blind, origin)
	e.each(origin, func(s *state) {
		if s.blindAt == entry.None {
			return
		}
		if a := s.alert; a != nil && a.quiet != entry.None {
			a.quiet = a.quiet.Add(t.Sub(entry.Later(s.blindAt, a.raised)))
			s.blindAt = entry.None
			e.arm(s, classClear, a.quiet)
		}
		s.blindAt = entry.None
	})
}

// each visits the keys that an origin gave an entry.
func (e *Engine) each(origin string, visit func(*state)) {
	for _, r := range e.rules {
		for _, s := range r.keys {
			if slices.Contains(s.origins, origin) {
				visit(s)
			}
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
