package engine

import (
	"slices"
	"sort"
	"strings"

	"dimlantern/core/entry"
)

// keyID joins values so that different keys have different ids.
func keyID(vals []string) string {
	if len(vals) == 1 {
		return vals[0]
	}
	var b strings.Builder
	for _, v := range vals {
		b.WriteByte(byte(len(v)))
		b.WriteByte(byte(len(v) >> 8))
		b.WriteByte(byte(len(v) >> 16))
		b.WriteString(v)
	}
	return b.String()
}

// Written is the key with ? for what is lacking.
func Written(key []string) []string {
	out := make([]string, len(key))
	for i, v := range key {
		if v == "" {
			v = "?"
		}
		out[i] = v
	}
	return out
}

// agreeing are the known keys that agree with one on all fields that it has, in their
// order.
func (r *rule) agreeing(key []string) []*state {
	if !slices.Contains(key, "") {
		if s := r.keys[keyID(key)]; s != nil {
			return []*state{s}
		}
		return nil
	}
	var out []*state
	for _, s := range r.keys {
		if agrees(s.key, key) {
			out = append(out, s)
		}
	}
	sort.Slice(out, func(i, j int) bool { return slices.Compare(out[i].key, out[j].key) < 0 })
	return out
}

func agrees(key, with []string) bool {
	for i, v := range with {
		if v != "" && v != key[i] {
			return false
		}
	}
	return true
}

// known finds the key, or makes it known.
func (e *Engine) known(r *rule, key []string, origin string) *state {
	if slices.Contains(key, "") {
		key = Written(key)
	}
	id := keyID(key)
	s := r.keys[id]
	if s != nil && s.alert == nil && !r.awaited(s) && e.clock.Sub(s.touched) >= r.forget {
		e.forgetKey(s)
		s = nil
	}
	if s == nil {
		e.sweep(r)
		key = slices.Clone(key)
		for i := range key { // an entry is not kept for the sake of its key
			key[i] = strings.Clone(key[i])
		}
		id = keyID(key)
		s = &state{rule: r, key: key, blindAt: entry.None, first: entry.None, last: entry.None, wait: noWait}
		s.armed = [3]entry.Instant{entry.None, entry.None, entry.None}
		s.zero = e.clock
		s.wins = r.newWindows(s.zero)
		if r.owns {
			s.own = make([]ownHits, len(r.Raises))
		}
		r.keys[id] = s
		for k := range r.whens {
			if s.ripens(k) || r.whens[k].K > 0 {
				e.rearm(s)
				break
			}
		}
	} else if s.alert == nil {
		r.unlink(s)
	}
	s.touched = e.clock
	e.changed(s)
	if s.alert == nil {
		r.link(s)
	}
	if origin != "" && !slices.Contains(s.origins, origin) && len(s.origins) < 64 {
		s.origins = append(s.origins, origin)
		if _, blind := e.blind[origin]; !blind {
			e.unblind(s, e.clock)
		}
	}
	return s
}

// forgetKey lets the key go.
func (e *Engine) forgetKey(s *state) {
	if s.alert == nil {
		s.rule.unlink(s)
	}
	delete(s.rule.keys, keyID(s.key))
	e.went(s)
	s.armed = [3]entry.Instant{entry.None, entry.None, entry.None}
}

// sweep lets go of keys that have been idle for too long, or are too many.
func (e *Engine) sweep(r *rule) {
	for s := r.oldest; s != nil && e.clock.Sub(s.touched) >= r.forget; {
		next := s.newer
		if !r.awaited(s) {
			e.forgetKey(s)
		}
		s = next
	}
	if len(r.keys) < e.MostKeys {
		return
	}
	for s := r.oldest; s != nil; s = s.newer {
		if !r.awaited(s) {
			e.Dropped++
			e.forgetKey(s)
			return
		}
	}
}

// awaited tells whether the key is one of the hosts that the rule names, or a log that it
// watches for blindness.
func (r *rule) awaited(s *state) bool {
	return r.watchful() || len(r.From) > 0 && len(s.key) == 1 && slices.Contains(r.From, s.key[0])
}

// link puts a key behind the other ones without an open alert.
func (r *rule) link(s *state) {
	s.older, s.newer = r.newest, nil
	if r.newest != nil {
		r.newest.newer = s
	} else {
		r.oldest = s
	}
	r.newest = s
}

func (r *rule) unlink(s *state) {
	if s.older == nil && r.oldest != s {
		return
	}
	if s.older != nil {
		s.older.newer = s.newer
	} else {
		r.oldest = s.newer
	}
	if s.newer != nil {
		s.newer.older = s.older
	} else {
		r.newest = s.older
	}
	s.older, s.newer = nil, nil
}
