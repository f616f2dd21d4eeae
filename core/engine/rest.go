package engine

import (
	"maps"
	"slices"

	"dimlantern/core/entry"
)

// ofRule marks a rule among what rests; no origin is called so.
const ofRule = "\x00rule "

// sleep lets origins and rules rest, in place of those that did before. It answers true
// where those are others.
func (e *Engine) sleep(x Rest) bool {
	next := map[string]entry.Instant{}
	for _, o := range x.Origins {
		next[o] = x.At
	}
	for _, r := range x.Rules {
		next[ofRule+r] = x.At
	}
	for o := range next {
		if since, rests := e.rest[o]; rests {
			next[o] = since
		}
	}
	if maps.Equal(next, e.rest) || len(next)+len(e.rest) == 0 {
		return false
	}
	var woken []*state
	var since []entry.Instant
	for _, r := range e.rules {
		for _, s := range r.keys {
			if from, rests := e.rests(s); rests {
				woken, since = append(woken, s), append(since, from)
			}
		}
	}
	e.rest, e.shown = next, nil // what rests shows in every key
	for i, s := range woken {
		if _, rests := e.rests(s); !rests {
			e.wake(s, since[i], x.At)
		}
	}
	return true
}

// rests tells whether a key rests, and since when.
func (e *Engine) rests(s *state) (since entry.Instant, rests bool) {
	if len(e.rest) == 0 {
		return 0, false
	}
	if since, rests = e.rest[ofRule+s.rule.Name]; rests || len(s.origins) == 0 {
		return since, rests
	}
	for _, o := range s.origins {
		from, rests := e.rest[o]
		if !rests {
			return 0, false
		}
		since = max(since, from)
	}
	return since, true
}

// wake lets a key go on that has rested: what has passed meanwhile does not count.
func (e *Engine) wake(s *state, from, at entry.Instant) {
	if a := s.alert; a != nil {
		a.told = entry.Later(a.told, at)
		if s.rule.Quiet > 0 && at > from {
			a.darks = append(a.darks, [2]entry.Instant{from, at})
		}
	}
	if s.wait.waits {
		s.wait.asked, s.wait.by = entry.Later(s.wait.asked, at), entry.Later(s.wait.by, at)
	}
	if len(s.wins) > 0 {
		s.zero = entry.Later(s.zero, at)
		s.wins = s.rule.newWindows(s.zero)
	}
	e.rearm(s)
}

// rest writes what rests.
func (w *writer) rest(rest map[string]entry.Instant) {
	w.int(int64(len(rest)))
	for _, o := range slices.Sorted(maps.Keys(rest)) {
		w.str(o)
		w.int(int64(rest[o]))
	}
}

// forgetOrigin takes back a name of what had never been seen.
func (e *Engine) forgetOrigin(f Forget) {
	e.fire(f.At)
	delete(e.blind, f.Origin)
	e.each(f.Origin, func(s *state) {
		e.changed(s)
		s.origins = slices.DeleteFunc(s.origins, func(o string) bool { return o == f.Origin })
		if len(s.origins) > 0 && e.allBlind(s) {
			return
		}
		e.unblind(s, f.At)
		if i := slices.Index(s.rule.Per, "origin"); i < 0 || s.key[i] != f.Origin || s.rule.keys[keyID(s.key)] != s {
			return
		}
		if s.alert != nil {
			e.clock = entry.Later(e.clock, f.At)
			e.clear(s, e.clock, "seen", nil)
		}
		e.forgetKey(s)
	})
}
