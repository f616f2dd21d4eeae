package engine

import (
	"slices"

	"dimlantern/core/verdict"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// ownHits are the hits that one raise keeps for itself: those for which its where
// holds, or the newest one of each value; and the waits for what is to follow.
type ownHits struct {
	at    []entry.Instant // sorted, at most the newest 2N
	value []string        // of each, where values are counted
	count int             // since the key started from zero
	first entry.Instant
	last  entry.Instant
	waits []await // the newest 2N, by their own times
}

// await is a hit that met a threshold, behind which something is to follow.
type await struct {
	at          entry.Instant
	first, last entry.Instant // of the hits that met it
}

// notCounted is the place of a hit that a raise does not count.
const notCounted = -2

// addOwn counts a hit for the raises that keep their own, and returns its place in each:
// -1 where it is not kept, notCounted where it does not count.
func (s *state) addOwn(r *rule, v *verdict.Verdict) []int {
	if !r.owns {
		return nil
	}
	out := make([]int, len(r.Raises))
	for i := range r.Raises {
		x := &r.Raises[i]
		out[i] = notCounted
		if !r.own[i] || x.Where != nil && v.Where&(1<<i) == 0 {
			continue
		}
		value := ""
		if k := r.differs[i]; k >= 0 {
			if value = v.Values[k]; value == "" {
				continue
			}
		}
		out[i] = s.own[i].add(x, v.At, value)
	}
	return out
}

func (h *ownHits) add(x *lang.Raise, at entry.Instant, value string) int {
	if h.count == 0 {
		h.first, h.last = at, at
	}
	h.count++
	h.first, h.last = min(h.first, at), max(h.last, at)
	if x.Different != "" {
		if k := slices.Index(h.value, value); k >= 0 {
			if h.at[k] > at { // a newer one of this value is kept
				return notCounted
			}
			h.at, h.value = slices.Delete(h.at, k, k+1), slices.Delete(h.value, k, k+1)
		}
	}
	i := len(h.at)
	for i > 0 && h.at[i-1] > at {
		i--
	}
	if i == 0 && len(h.at) >= 2*x.At {
		return -1
	}
	h.at = slices.Insert(h.at, i, at)
	h.value = slices.Insert(h.value, i, value)
	if n := len(h.at) - 2*x.At; n > 0 {
		h.at, h.value = slices.Delete(h.at, 0, n), slices.Delete(h.value, 0, n)
		i -= n
	}
	return i
}

// window tells whether N hits, or values, lie within less than D of each other around
// the one at place at, and the own times of the first and the last of them.
func (h *ownHits) window(x *lang.Raise, at int) (first, last entry.Instant, ok bool) {
	if x.In == 0 {
		if x.Different != "" {
			if len(h.at) < x.At {
				return 0, 0, false
			}
			return h.at[0], h.at[len(h.at)-1], true
		}
		return h.first, h.last, h.count >= x.At
	}
	i, ok := windowOf(h.at, x, at)
	if !ok {
		return 0, 0, false
	}
	return h.at[i], h.at[i+x.At-1], true
}

// begins lets each hit that stands in a window wait for what is to follow.
func (e *Engine) begins(s *state, owned []int, at entry.Instant) {
	if owned == nil || s.own == nil {
		return
	}
	for i := range s.rule.Raises {
		x := &s.rule.Raises[i]
		if x.Then == nil || owned[i] == notCounted {
			continue
		}
		h := &s.own[i]
		first, last, ok := h.window(x, owned[i])
		if !ok {
			continue
		}
		k := len(h.waits)
		for k > 0 && h.waits[k-1].at > at {
			k--
		}
		h.waits = slices.Insert(h.waits, k, await{at, first, last})
		if n := len(h.waits) - 2*x.At; n > 0 {
			h.waits = slices.Delete(h.waits, 0, n)
		}
	}
}

// followed completes the sequences that wait for an entry. It answers false where none
// does.
func (e *Engine) followed(r *rule, v *verdict.Verdict, x *entry.Entry) bool {
	var all []*state
	best := map[*state]candidate{}
	for _, f := range v.Follows {
		raise := &r.Raises[f.Raise]
		for _, s := range r.agreeing(f.Key) {
			h := &s.own[f.Raise]
			var completed *await
			h.waits = slices.DeleteFunc(h.waits, func(w await) bool {
				fits := v.At >= w.at && v.At.Sub(w.at) < raise.Within
				if fits {
					c := w
					completed = &c
				}
				return fits
			})
			if completed == nil {
				continue
			}
			c := candidate{raise: f.Raise, count: raise.At, first: completed.first, last: completed.last}
			had, some := best[s]
			if !some {
				all = append(all, s)
			}
			if !some || raise.Severity > r.Raises[had.raise].Severity {
				best[s] = c
			}
		}
	}
	slices.SortFunc(all, func(a, b *state) int { return slices.Compare(a.key, b.key) })
	for _, s := range all {
		s.touched = e.clock
		e.changed(s)
		e.rise(s, best[s], x, v.Vars)
	}
	return len(all) > 0
}
