package layout

import (
	"bytes"
	"encoding/binary"
	"slices"
	"unicode/utf8"

	"dimlantern/core/entry"
)

// Lean takes a few fields out of lines, as bytes of the line, and makes nothing else of them. What is not
// as usual it leaves to Divide.
type Lean struct {
	// Values are those of the fields, in their order; nil is lacking. They hold until the next line. Text is
	// the entry's text, where that is wanted.
	Values [][]byte
	Text   []byte
	At     entry.Instant
	// Plain says that the lines that come are known to be nothing but ASCII.
	Plain bool

	d      *Divider
	fields []string
	own    []bool   // lacking, there is another value of that name
	types  []string // as Layout.types has them
	groups []int    // of a pattern
	text   int      // the group of the text; -1 is none, where it is not wanted -2
	timed  bool
	turn   int // of the time cache, when a line with what is in it was matched; 0 is never

	known  alike // of JSON, how objects are written lately, and how many since were not
	missed int
	found  []memberAt
}

// Lean returns what takes some fields out of the lines of a layout, and with text the text of entries; nil
// where that takes a Divide, since fields are changed, masked or made.
func (d *Divider) Lean(fields []string, text bool) *Lean {
	l := d.Layout
	x := &Lean{d: d, fields: fields, Values: make([][]byte, len(fields)), text: -2, timed: l.Timed()}
	if len(l.steps) > 0 || len(l.names) > 0 || len(l.masks) > 0 || l.columns != nil {
		return nil
	}
	for _, f := range fields {
		switch f {
		case "", "text", "origin", "source", "at", "arrived", "fits", "weekday", "hour":
			return nil
		}
		if l.types[f] != "" && l.types[f] != "integer" && l.types[f] != "decimal" {
			return nil
		}
		x.own, x.types = append(x.own, f == "host"), append(x.types, l.types[f])
	}
	switch {
	case text && l.types["text"] != "":
		return nil
	case l.format != nil && l.name == "json" && !text:
		return x
	case l.format != nil || len(l.patterns) != 1 || l.patterns[0].steps == nil:
		return nil
	}
	c := &l.patterns[0]
	if x.timed && c.timeAt < 0 {
		return nil
	}
	x.groups = make([]int, len(fields))
	for i, f := range fields {
		x.groups[i] = slices.Index(c.names, f)
	}
	if text {
		x.text = slices.Index(c.names, "text")
	}
	return x
}

// ByPattern tells whether lines are divided by a pattern.
func (x *Lean) ByPattern() bool { return x.groups != nil }

// Divide takes the fields and the time out of a line; false where only a Divide knows them.
func (x *Lean) Divide(line []byte, near entry.Instant) bool {
	if !x.ByPattern() {
		return x.alike(line) == len(line) || plainASCII(line) && x.json(line)
	}
	if !x.Plain && !ascii(line) && !utf8.Valid(line) {
		return false
	}
	c := &x.d.Layout.patterns[0]
	spans := x.d.room(c)
	if !x.again(line, c, spans) && (!c.steps.MatchLine(line, spans) || !x.time(line, c, spans, near)) {
		return false
	}
	for i, g := range x.groups {
		x.Values[i] = nil
		if g >= 0 && spans[2*g] >= 0 && spans[2*g] < spans[2*g+1] {
			x.Values[i] = line[spans[2*g]:spans[2*g+1]]
		}
		if !x.usual(i) {
			return false
		}
	}
	switch {
	case x.text == -1:
		x.Text = line
	case x.text >= 0 && spans[2*x.text] < spans[2*x.text+1]:
		x.Text = line[spans[2*x.text]:spans[2*x.text+1]]
	case x.text >= 0:
		return false
	}
	return true
}

// again matches a line that begins with a time of the minute, and of the form, of one that was matched before:
// its time needs no matching. It is false where that is not so.
func (x *Lean) again(line []byte, c *compiled, spans []int) bool {
	if c.past == nil || !x.timed || x.turn != x.d.cache.turn || len(line) <= len(c.lead) ||
		string(line[:len(c.lead)]) != c.lead {
		return false
	}
	at, n, ok := x.d.cache.again(line[len(c.lead):])
	n += len(c.lead)
	if !ok || n >= len(line) || int(line[n]) != c.behind || !c.past.MatchFrom(line, n, spans) {
		return false
	}
	x.At, spans[2*c.timeAt], spans[2*c.timeAt+1] = at, len(c.lead), n
	return true
}

// time reads the time of a line that was matched.
func (x *Lean) time(line []byte, c *compiled, spans []int, near entry.Instant) bool {
	if !x.timed {
		return true
	}
	if spans[2*c.timeAt] < 0 {
		return false
	}
	written := line[spans[2*c.timeAt]:spans[2*c.timeAt+1]]
	at, n, ok := x.d.cache.again(written)
	if !ok || n != len(written) {
		if at, ok = x.d.cache.parse(x.d.Layout.time, string(written), x.d.Layout.zone, near); !ok {
			return false
		}
	}
	if tc := &x.d.cache; bytes.HasPrefix(written, tc.prefix[:tc.n]) {
		x.turn = tc.turn
	}
	x.At = at
	return true
}

// usual tells whether a value stands for itself: it is there where another would take its place, and is
// a plain number where it has to be one.
func (x *Lean) usual(i int) bool {
	v := x.Values[i]
	if v == nil {
		return !x.own[i]
	}
	typ := x.types[i]
	if typ == "" {
		return true
	}
	digits := bytes.TrimPrefix(v, []byte("-"))
	if len(digits) == 0 || digits[0] == '0' && string(digits) != "0" && (typ == "integer" || digits[min(1,
		len(digits)-1)] != '.') || len(digits) < len(v) && digits[0] == '0' {
		return false
	}
	points := 0
	for k, c := range digits {
		if c == '.' && typ == "decimal" && k > 0 && k < len(digits)-1 {
			points++
		} else if c-'0' > 9 {
			return false
		}
	}
	return points < 2
}

// json takes the fields out of an object without objects and lists in it, in which nothing is escaped,
// and whose keys are written as fields are called.
func (x *Lean) json(b []byte) bool {
	time := x.d.timeField()
	for i := range x.Values {
		x.Values[i] = nil
	}
	if len(b) < 2 || b[0] != '{' {
		return false
	}
	i, timed := 1, false
	x.found = x.found[:0]
	for {
		if i >= len(b) || b[i] != '"' {
			return false
		}
		n := bytes.IndexByte(b[i+1:], '"')
		if n < 0 {
			return false
		}
		key := b[i+1 : i+1+n]
		if i += n + 2; i+1 >= len(b) || b[i] != ':' {
			return false
		}
		if i++; b[i] == ' ' {
			i++
		}
		if i >= len(b) {
			return false
		}
		from, to := i, 0
		switch c := b[i]; {
		case c == '"':
			n := bytes.IndexByte(b[i+1:], '"')
			if n < 0 {
				return false
			}
			from, to = i+1, i+1+n
			i = to + 1
		case c == '-', c-'0' <= 9:
			if i = jsonNumber(b, i); i < 0 {
				return false
			}
			to = i
		case bytes.HasPrefix(b[i:], []byte("null")):
			i += 4
			to = from
		default:
			if i = scalarEnd(b, i); i < 0 {
				return false
			}
			to = i
		}
		value := b[from:to]
		m := memberAt{from: from, to: to, value: -1, quoted: b[from-1] == '"'}
		for k, f := range x.fields {
			if string(key) == f {
				if x.Values[k] != nil { // which of two counts is not for here
					return false
				}
				x.Values[k], m.value = value, k
			}
		}
		if string(key) == time {
			at, n, ok := x.d.cache.again(value)
			if !ok || n != len(value) || timed {
				return false
			}
			x.At, timed, m.time = at, true, true
		}
		if m.quoted || to > from { // null stands for no value, and is part of what is between others
			x.found = append(x.found, m)
		}
		if i >= len(b) {
			return false
		}
		if b[i] == '}' {
			break
		}
		if b[i] != ',' {
			return false
		}
		if i++; i < len(b) && b[i] == ' ' {
			i++
		}
	}
	if i != len(b)-1 || !timed {
		return false
	}
	for k := range x.Values {
		if v := x.Values[k]; len(v) == 0 || !x.usual(k) { // another key may become it
			return false
		}
	}
	if x.missed++; x.missed > seldom || len(x.known.members) == 0 {
		x.known.keep(b, x.found)
		x.missed = 0
	}
	return true
}

// seldom is after how many objects that are written otherwise the newest of them is what others are compared with.
const seldom = 4

// jsonNumber is where a number ends that begins at i (RFC 8259, section 6), without an exponent; -1
// where there is none.
func jsonNumber(b []byte, i int) int {
	if b[i] == '-' {
		i++
	}
	from := i
	for i < len(b) && b[i]-'0' <= 9 {
		i++
	}
	if i == from || b[from] == '0' && i > from+1 {
		return -1
	}
	if i < len(b) && b[i] == '.' {
		from = i + 1
		for i++; i < len(b) && b[i]-'0' <= 9; i++ {
		}
		if i == from {
			return -1
		}
	}
	if i < len(b) && b[i]|0x20 == 'e' {
		return -1
	}
	return i
}

const highs, ones = 0x8080808080808080, 0x0101010101010101

// ascii tells whether a line is nothing but ASCII.
func ascii(b []byte) bool {
	for ; len(b) >= 32; b = b[32:] {
		if (binary.LittleEndian.Uint64(b)|binary.LittleEndian.Uint64(b[8:])|
			binary.LittleEndian.Uint64(b[16:])|binary.LittleEndian.Uint64(b[24:]))&highs != 0 {
			return false
		}
	}
	for ; len(b) >= 8; b = b[8:] {
		if binary.LittleEndian.Uint64(b)&highs != 0 {
			return false
		}
	}
	for _, c := range b {
		if c >= 0x80 {
			return false
		}
	}
	return true
}

// plainASCII tells whether a line is nothing but printable ASCII without a backslash.
func plainASCII(b []byte) bool {
	for ; len(b) >= 8; b = b[8:] {
		w := binary.LittleEndian.Uint64(b)
		slash := w ^ 0x5c5c5c5c5c5c5c5c
		if (w|(w-0x20*ones)|(slash-ones)&^slash)&highs != 0 {
			return false
		}
	}
	for _, c := range b {
		if c >= 0x80 || c < 0x20 || c == '\\' {
			return false
		}
	}
	return true
}
