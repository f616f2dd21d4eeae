package engine

import (
	"maps"
	"slices"

	"dimlantern/core/entry"
)

// View is what an engine knew at a moment. It never changes, and may be read by several
// goroutines; so whoever looks needs not wait for the engine, nor the engine for them. The
// zero value knows nothing.
type View struct {
	Clock  entry.Instant // see Engine.Clock
	Costs  []Cost        // in the engine's order
	blind  map[string]entry.Instant
	chunks []*chunk
}

// chunk is a piece of the list of all keys; places of keys that went are nil.
type chunk [chunkSize]*KeyView

const chunkSize = 256

// Keys visits all keys that are known, open ones and others, in no order, until visit
// answers false.
func (v *View) Keys(visit func(*KeyView) bool) {
	for _, c := range v.chunks {
		for _, k := range c {
			if k != nil && !visit(k) {
				return
			}
		}
	}
}

// Find returns the key with that open alert.
func (v *View) Find(alert string) (KeyView, bool) {
	return v.first(func(k *KeyView) bool { return k.Alert == alert && alert != "" })
}

// KeyOf returns a key of a rule.
func (v *View) KeyOf(rule string, key []string) (KeyView, bool) {
	return v.first(func(k *KeyView) bool { return k.Rule == rule && slices.Equal(k.Key, key) })
}

func (v *View) first(is func(*KeyView) bool) (out KeyView, found bool) {
	v.Keys(func(k *KeyView) bool {
		if found = is(k); found {
			out = *k
		}
		return !found
	})
	return out, found
}

// Open visits the keys that have an open alert, until visit answers false.
func (v *View) Open(visit func(*KeyView) bool) {
	v.Keys(func(k *KeyView) bool { return k.Alert == "" || visit(k) })
}

// IsBlind tells whether an origin could not be seen.
func (v *View) IsBlind(origin string) bool {
	_, blind := v.blind[origin]
	return blind
}

// shown is what the last View was made of, so that the next one is made anew only where
// something has changed. It is nil as long as nobody has looked.
type shown struct {
	chunks []*chunk
	free   []int    // places of keys that went, but for those in gone
	gone   []int    // places of keys that went since the last View
	stale  []*state // keys that have changed since
	next   int      // places that were given so far
}

// View returns what the engine knows now. The first one takes time for each key, the
// following ones for each that has changed since.
func (e *Engine) View() *View {
	if e.shown == nil {
		e.shown = &shown{}
		for r := range e.every {
			for _, s := range r.keys {
				s.place, s.stale = 0, false
				e.changed(s)
			}
		}
	}
	x := e.shown
	x.chunks = slices.Clone(x.chunks) // those of the last View stay as they are
	fresh := map[int]bool{}           // chunks that are ours alone
	set := func(place int, k *KeyView) {
		n := place / chunkSize
		if n == len(x.chunks) {
			x.chunks = append(x.chunks, new(chunk))
			fresh[n] = true
		}
		if !fresh[n] {
			c := *x.chunks[n]
			x.chunks[n], fresh[n] = &c, true
		}
		x.chunks[n][place%chunkSize] = k
	}
	for _, p := range x.gone {
		set(p, nil)
	}
	x.free, x.gone = append(x.free, x.gone...), x.gone[:0]
	for _, s := range x.stale {
		s.stale = false
		if s.place < 0 {
			continue // it went
		}
		if s.place == 0 {
			s.place = x.takePlace()
		}
		k := e.view(s)
		k.Hits, k.Origins = slices.Clone(k.Hits), slices.Clone(k.Origins) // the engine goes on with its own
		set(s.place-1, &k)
	}
	clear(x.stale)
	x.stale = x.stale[:0]
	return &View{Clock: e.clock, Costs: e.Costs(), blind: maps.Clone(e.blind), chunks: x.chunks}
}

// takePlace is a free place, counted from 1.
func (x *shown) takePlace() int {
	if n := len(x.free); n > 0 {
		p := x.free[n-1]
		x.free = x.free[:n-1]
		return p + 1
	}
	x.next++
	return x.next
}

// changed notes that the next View must show a key anew.
func (e *Engine) changed(s *state) {
	if e.shown != nil && !s.stale {
		s.stale = true
		e.shown.stale = append(e.shown.stale, s)
	}
}

// went notes that a key is known no more.
func (e *Engine) went(s *state) {
	if e.shown != nil && s.place > 0 {
		e.shown.gone = append(e.shown.gone, s.place-1)
	}
	s.place = -1
}
