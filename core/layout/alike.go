package layout

import (
	"bytes"
	"encoding/binary"
	"math/bits"
)

// alike is how the objects of a log are written that have the same members in the same order: of each value what
// stands before it, and what stands at the end. An object that is written so is taken apart without looking at its
// keys.
type alike struct {
	members []member
	end     string
}

type member struct {
	before string // from the end of the value before
	quoted bool
	time   bool
	value  int // in Lean.Values; -1 is none
}

// keep learns from an object that was taken apart; members hold places in it.
func (a *alike) keep(b []byte, members []memberAt) {
	a.members = a.members[:0]
	at := 0
	for _, m := range members {
		a.members = append(a.members, member{string(b[at:m.from]), m.quoted, m.time, m.value})
		at = m.to
	}
	a.end = string(b[at:])
}

// memberAt is where the value of a member stands in an object.
type memberAt struct {
	from, to, value int
	quoted, time    bool
}

// alike takes the fields out of an object that is written like the one before; false where it is not, or is not plain.
func (x *Lean) alike(b []byte) bool {
	a, i := &x.known, 0
	if len(a.members) == 0 {
		return false
	}
	for k := range a.members {
		m := &a.members[k]
		n := len(m.before)
		if len(b)-i < n || string(b[i:i+n]) != m.before {
			return false
		}
		i += n
		from := i
		if m.quoted {
			i = plainEnd(b, i)
		} else {
			i = scalarEnd(b, i)
		}
		if i < 0 {
			return false
		}
		if m.value >= 0 {
			x.Values[m.value] = b[from:i]
			if i == from || !x.usual(m.value) {
				return false
			}
		}
		if m.time {
			at, n, ok := x.d.cache.again(b[from:i])
			if !ok || n != i-from {
				return false
			}
			x.At = at
		}
	}
	return string(b[i:]) == a.end
}

// plainEnd is where the string ends that begins at i: at its closing quote, with nothing but printable ASCII and
// nothing escaped before it; -1 where that is not so.
func plainEnd(b []byte, i int) int {
	for ; i+8 <= len(b); i += 8 {
		w := binary.LittleEndian.Uint64(b[i:])
		quote, slash := w^0x22*ones, w^0x5c*ones
		// The lowest bit that is set is exact, which is the only one that is looked at.
		if odd := ((quote-ones)&^quote | (slash-ones)&^slash | (w-0x20*ones)&^w | w) & highs; odd != 0 {
			if i += bits.TrailingZeros64(odd) / 8; b[i] == '"' {
				return i
			}
			return -1
		}
	}
	for ; i < len(b); i++ {
		switch c := b[i]; {
		case c == '"':
			return i
		case c < 0x20 || c >= 0x80 || c == '\\':
			return -1
		}
	}
	return -1
}

// scalarEnd is where a number, true or false ends that begins at i; -1 where there is none.
func scalarEnd(b []byte, i int) int {
	switch {
	case i >= len(b):
		return -1
	case b[i] == '-', b[i]-'0' <= 9:
		return jsonNumber(b, i)
	case bytes.HasPrefix(b[i:], []byte("true")):
		return i + 4
	case bytes.HasPrefix(b[i:], []byte("false")):
		return i + 5
	}
	return -1
}
