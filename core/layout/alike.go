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
	end     fixed
}

type member struct {
	before fixed // from the end of the value before
	quoted bool
	time   bool
	value  int // in Lean.Values; -1 is none
}

// keep learns from an object that was taken apart; members hold places in it.
func (a *alike) keep(b []byte, members []memberAt) {
	a.members = a.members[:0]
	at := 0
	for _, m := range members {
		a.members = append(a.members, member{newFixed(string(b[at:m.from])), m.quoted, m.time, m.value})
		at = m.to
	}
	a.end = newFixed(string(b[at:]))
}

// fixed is a text that is compared with others. One of up to 16 bytes is so in two words: its first and its
// last eight bytes, which may be the same in part.
type fixed struct {
	text        string
	first, last uint64
	mask        uint64 // of first
	lastAt      int
}

func newFixed(text string) fixed {
	f := fixed{text: text, mask: ^uint64(0), lastAt: max(len(text)-8, 0)}
	var b [8]byte
	if copy(b[:], text); len(text) < 8 {
		f.mask = 1<<(8*len(text)) - 1
	}
	f.first = binary.LittleEndian.Uint64(b[:])
	if f.last = f.first; len(text) > 8 {
		f.last = binary.LittleEndian.Uint64([]byte(text[f.lastAt:]))
	}
	return f
}

// begins tells whether a text begins with it.
func (f *fixed) begins(b []byte) bool {
	if len(f.text) > 16 || len(b) < f.lastAt+8 {
		return len(b) >= len(f.text) && string(b[:len(f.text)]) == f.text
	}
	return binary.LittleEndian.Uint64(b)&f.mask == f.first && binary.LittleEndian.Uint64(b[f.lastAt:])&f.mask == f.last
}

// memberAt is where the value of a member stands in an object.
type memberAt struct {
	from, to, value int
	quoted, time    bool
}

// Ahead takes the fields and the time out of the line that a text begins with, where it shows without
// looking for the line's end that it is as usual; n is how long it is then with its line end, else 0.
func (x *Lean) Ahead(text []byte) (n int) {
	if len(x.known.members) == 0 {
		return 0
	}
	switch n = x.alike(text); {
	case n < 0:
		return 0
	case n < len(text):
		if text[n] != '\n' {
			return 0
		}
		n++
	}
	return n
}

// alike takes the fields out of an object that a text begins with and that is written like the one before, and
// returns where it ends; -1 where it is not, or is not plain.
func (x *Lean) alike(b []byte) int {
	a, i := &x.known, 0
	if len(a.members) == 0 {
		return -1
	}
	for k := range a.members {
		m := &a.members[k]
		if !m.before.begins(b[i:]) {
			return -1
		}
		i += len(m.before.text)
		from := i
		switch {
		case m.time:
			at, n, ok := x.d.cache.again(b[i:])
			if i += n; !ok || m.quoted && (i >= len(b) || b[i] != '"') {
				return -1
			}
			x.At = at
		case m.quoted:
			i = plainEnd(b, i)
		default:
			i = scalarEnd(b, i)
		}
		if i < 0 {
			return -1
		}
		if m.value >= 0 {
			x.Values[m.value] = b[from:i]
			if i == from || !x.usual(m.value) {
				return -1
			}
		}
	}
	if !a.end.begins(b[i:]) {
		return -1
	}
	return i + len(a.end.text)
}

// plainEnd is where the string ends that begins at i: at its closing quote, with nothing but printable ASCII and
// nothing escaped before it; -1 where that is not so.
func plainEnd(b []byte, i int) int {
	if wide {
		if i += markAt(b[i:]); i < len(b) && b[i] == '"' {
			return i
		}
	}
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
