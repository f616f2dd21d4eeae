package layout

import (
	"bytes"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"dimlantern/core/entry"
)

// The bounds of an entry of JSON: how deep objects nest, and how many fields it has.
const (
	maxNesting = 32
	maxFields  = 2000
)

// json divides an entry that is one object of JSON, RFC 8259. Members of an object
// in it have the names of both with a point between; an array stays as it is written.
// null is lacking; of a member that comes twice the last one counts. See owned for members
// whose names become the same.
func (d *Divider) json(line []byte, near entry.Instant) Division {
	out := Division{}
	s := &jsonScan{d: d, b: bytes.TrimSpace(line), owned: d.owned(16)}
	s.bare = bytes.IndexByte(s.b, '\\') < 0
	if len(s.b) < 2 || s.b[0] != '{' || !s.object("", 0) || s.i != len(s.b) {
		return out
	}
	out.Fits, out.Fields = true, s.f
	d.keep(&s.owned)
	d.guessTime(&out, near)
	return out
}

// owned are fields by the keys that gave them their names. A key that is written as its
// name counts more than one that only becomes it, as @time becomes time; of several of
// those the first counts, and of a key that comes twice the last.
type owned struct {
	f    fields
	from []*keyed
}

// put sets the field of a key.
func (n *owned) put(k *keyed, value string) {
	for i := range n.f {
		if n.f[i].Name != k.name {
			continue
		}
		if was := n.from[i]; k.exact || k.raw == was.raw && k.parent == was.parent {
			n.f[i].Value, n.from[i] = value, k
		}
		return
	}
	n.f, n.from = append(n.f, entry.Field{Name: k.name, Value: value}), append(n.from, k)
}

// owned has room for so many fields; keep lets it be used again where the fields may be.
func (d *Divider) owned(room int) owned { return owned{d.fields(room), d.from[:0]} }

func (d *Divider) keep(n *owned) {
	if d.from = n.from; d.Reuse {
		d.reuse = n.f
	}
}

type jsonScan struct {
	d *Divider
	b []byte
	i int
	n int // names so far
	// bare tells that nothing in the line is escaped.
	bare bool
	owned
	// Where only one field is looked for, its name, and the text that was found. Sure tells
	// that what stands behind it need not be read.
	only  string
	found []byte
	by    *keyed
	sure  bool
}

func (s *jsonScan) space() byte {
	for s.i < len(s.b) {
		switch c := s.b[s.i]; c {
		case ' ', '\t', '\r', '\n':
			s.i++
		default:
			return c
		}
	}
	return 0
}

// object reads { members }, whose names get prefix in front.
func (s *jsonScan) object(prefix string, depth int) bool {
	if depth > maxNesting {
		return false
	}
	s.i++
	if s.space() == '}' {
		s.i++
		return true
	}
	for {
		if s.space() != '"' {
			return false
		}
		key, _, ok := s.str()
		if !ok || s.space() != ':' {
			return false
		}
		s.i++
		if !s.value(prefix, key, depth) {
			return false
		}
		switch s.space() {
		case ',':
			s.i++
		case '}':
			s.i++
			return true
		default:
			return false
		}
	}
}

// keyed is what is known of a name that entries give.
type keyed struct {
	raw, parent string // as it is written, and what stands in front of it
	name        string // the field's
	inner       string // what stands in front of the names of its members
	wanted      bool
	exact       bool // it is written as the field is called
	// others is what stands in an entry where another key may give the same field, and count
	// more; nil is that anything may.
	others [][]byte
}

// alone tells whether no key in what stands behind this one, at the same depth of JSON, can
// give the same field and count more.
func (k *keyed) alone(rest []byte) bool {
	if k.others == nil || bytes.IndexByte(rest, '\\') >= 0 && index(rest, []byte(`\u`)) >= 0 {
		return false
	}
	for _, x := range k.others {
		if index(rest, x) >= 0 {
			return false
		}
	}
	return true
}

// key finds out about a name; n is the how many-th of the entry it is.
func (d *Divider) key(n int, parent string, raw []byte) *keyed {
	if n < len(d.order) {
		if k := d.order[n]; k.raw == string(raw) && k.parent == parent {
			return k
		}
	}
	k, ok := d.keys[string(raw)]
	if !ok || k.parent != parent {
		s := string(raw)
		if bytes.IndexByte(raw, '\\') >= 0 {
			s = unescape(raw)
		}
		k = &keyed{raw: string(raw), parent: parent, inner: parent + s + ".", name: Name(parent + s)}
		l := d.Layout
		if k.exact = k.name == parent+s; !strings.Contains(k.name, ".") { // else it may be nested as well
			k.others = append(k.others, []byte(`"`+k.name+`"`))
			if !k.exact {
				k.others = append(k.others, []byte(`"`+k.raw+`"`))
			}
		}
		k.wanted = k.name != "" && (l.wants == nil || l.wants[k.name] || l.time == nil && timeRank(k.name) >= 0)
		if d.keys == nil {
			d.keys = map[string]*keyed{}
		}
		if len(d.keys) < maxFields {
			d.keys[k.raw] = k
		}
	}
	switch {
	case n < len(d.order):
		d.order[n] = k
	case n == len(d.order) && n < maxFields:
		d.order = append(d.order, k)
	}
	return k
}

func (s *jsonScan) value(parent string, key []byte, depth int) bool {
	k := s.d.key(s.n, parent, key)
	s.n++
	c := s.space()
	if c == '{' {
		return s.object(k.inner, depth+1)
	}
	if s.only != "" {
		is := k.name == s.only && (s.by == nil || k.exact || k.raw == s.by.raw && k.parent == s.by.parent)
		if is {
			s.by = k
		}
		ok := s.pick(is, c, depth)
		s.sure = ok && is && depth == 0 && s.found != nil && k.alone(s.b[s.i:])
		return ok && !s.sure
	}
	wanted := k.wanted && len(s.f) < maxFields
	put := func(v string) {
		if wanted {
			s.put(k, v)
		}
	}
	switch {
	case c == '"':
		v, escaped, ok := s.str()
		if !ok {
			return false
		}
		switch {
		case !wanted:
		case escaped:
			put(unescape(v))
		default:
			put(valid(v))
		}
		return true
	case c == '[':
		from := s.i
		if !s.array(depth + 1) {
			return false
		}
		if wanted {
			put(valid(s.b[from:s.i]))
		}
		return true
	case c == 't' && s.word("true"):
		put("true")
		return true
	case c == 'f' && s.word("false"):
		put("false")
		return true
	case c == 'n' && s.word("null"):
		put("")
		return true
	}
	from := s.i
	if !s.number() {
		return false
	}
	if wanted {
		put(string(s.b[from:s.i]))
	}
	return true
}

// pick passes a value, and keeps its text where that is wanted, and written as it is.
func (s *jsonScan) pick(wanted bool, c byte, depth int) bool {
	from := s.i
	if c == '"' {
		v, escaped, ok := s.str()
		if wanted {
			s.found = nil
			if !escaped {
				s.found = v
			}
		}
		return ok
	}
	if c == '[' {
		if !s.array(depth + 1) {
			return false
		}
	} else if !s.element(depth) {
		return false
	}
	if wanted {
		s.found = s.b[from:s.i]
	}
	return true
}

func (s *jsonScan) word(w string) bool {
	if len(s.b)-s.i < len(w) || string(s.b[s.i:s.i+len(w)]) != w {
		return false
	}
	s.i += len(w)
	return true
}

// number passes a number, RFC 8259, section 6.
func (s *jsonScan) number() bool {
	from := s.i
	if s.i < len(s.b) && s.b[s.i] == '-' {
		s.i++
	}
	n := s.digits()
	if n == 0 || n > 1 && s.b[s.i-n] == '0' {
		s.i = from
		return false
	}
	if s.i < len(s.b) && s.b[s.i] == '.' {
		s.i++
		if s.digits() == 0 {
			return false
		}
	}
	if s.i < len(s.b) && s.b[s.i]|0x20 == 'e' {
		s.i++
		if s.i < len(s.b) && (s.b[s.i] == '+' || s.b[s.i] == '-') {
			s.i++
		}
		if s.digits() == 0 {
			return false
		}
	}
	return true
}

func (s *jsonScan) digits() int {
	from := s.i
	for s.i < len(s.b) && s.b[s.i]-'0' <= 9 {
		s.i++
	}
	return s.i - from
}

// array passes an array.
func (s *jsonScan) array(depth int) bool {
	if depth > maxNesting {
		return false
	}
	s.i++
	if s.space() == ']' {
		s.i++
		return true
	}
	for {
		if !s.element(depth) {
			return false
		}
		switch s.space() {
		case ',':
			s.i++
		case ']':
			s.i++
			return true
		default:
			return false
		}
	}
}

// element passes a value in an array.
func (s *jsonScan) element(depth int) bool {
	switch c := s.space(); {
	case c == '"':
		_, _, ok := s.str()
		return ok
	case c == '[':
		return s.array(depth + 1)
	case c == '{':
		return s.pass(depth + 1)
	case c == 't':
		return s.word("true")
	case c == 'f':
		return s.word("false")
	case c == 'n':
		return s.word("null")
	}
	return s.number()
}

// pass passes an object in an array.
func (s *jsonScan) pass(depth int) bool {
	if depth > maxNesting {
		return false
	}
	s.i++
	if s.space() == '}' {
		s.i++
		return true
	}
	for {
		if s.space() != '"' {
			return false
		}
		if _, _, ok := s.str(); !ok || s.space() != ':' {
			return false
		}
		s.i++
		if !s.element(depth) {
			return false
		}
		switch s.space() {
		case ',':
			s.i++
		case '}':
			s.i++
			return true
		default:
			return false
		}
	}
}

// str reads a string, without its quotes and with its escapes.
func (s *jsonScan) str() (v []byte, escaped, ok bool) {
	from := s.i + 1
	k := bytes.IndexByte(s.b[from:], '"')
	if k < 0 {
		return nil, false, false
	}
	if s.bare || bytes.IndexByte(s.b[from:from+k], '\\') < 0 {
		s.i = from + k + 1
		return s.b[from : from+k], false, true
	}
	at := from // the quote may be escaped: walk
	for at < len(s.b) && s.b[at] != '"' {
		if s.b[at] == '\\' {
			at++
		}
		at++
	}
	if at >= len(s.b) {
		return nil, false, false
	}
	s.i = at + 1
	return s.b[from:at], true, true
}

// unescape resolves the escapes of a string, RFC 8259, section 7. An escape that
// there is not stays as it is.
func unescape(b []byte) string {
	out := make([]byte, 0, len(b))
	for i := 0; i < len(b); i++ {
		if b[i] != '\\' || i+1 == len(b) {
			out = append(out, b[i])
			continue
		}
		i++
		switch c := b[i]; c {
		case 'n':
			out = append(out, '\n')
		case 't':
			out = append(out, '\t')
		case 'r':
			out = append(out, '\r')
		case 'b':
			out = append(out, '\b')
		case 'f':
			out = append(out, '\f')
		case '"', '\\', '/':
			out = append(out, c)
		case 'u':
			r, n := hex4(b[i+1:])
			if n == 0 {
				out = append(out, '\\', 'u')
				continue
			}
			i += n
			if utf16.IsSurrogate(r) {
				r2, n := rune(0), 0
				if i+2 < len(b) && b[i+1] == '\\' && b[i+2] == 'u' {
					r2, n = hex4(b[i+3:])
				}
				if r = utf16.DecodeRune(r, r2); r != utf8.RuneError && n > 0 {
					i += 2 + n
				}
			}
			out = utf8.AppendRune(out, r)
		default:
			out = append(out, '\\', c)
		}
	}
	return valid(out)
}

func hex4(b []byte) (rune, int) {
	if len(b) < 4 {
		return 0, 0
	}
	n, err := strconv.ParseUint(string(b[:4]), 16, 32)
	if err != nil {
		return 0, 0
	}
	return rune(n), 4
}
