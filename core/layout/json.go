package layout

import (
	"bytes"
	"strconv"
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
// null is lacking; of a member that comes twice the last one counts.
func (d *Divider) json(line []byte, near entry.Instant) Division {
	out := Division{}
	s := &jsonScan{d: d, b: bytes.TrimSpace(line), f: d.fields(16)}
	if len(s.b) < 2 || s.b[0] != '{' || !s.object("", 0) || s.i != len(s.b) {
		return out
	}
	if d.Reuse {
		d.reuse = s.f
	}
	out.Fits, out.Fields = true, s.f
	d.guessTime(&out, near)
	return out
}

type jsonScan struct {
	d *Divider
	b []byte
	i int
	f fields
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
		key, escaped, ok := s.str()
		if !ok || s.space() != ':' {
			return false
		}
		s.i++
		if !s.value(prefix, key, escaped, depth) {
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

// name is the field's name of a member.
func (s *jsonScan) name(prefix string, key []byte, escaped bool) string {
	d := s.d
	if prefix == "" && !escaped {
		if n, ok := d.keys[string(key)]; ok {
			return n
		}
	}
	k := string(key)
	if escaped {
		k = unescape(key)
	}
	n := Name(prefix + k)
	if prefix == "" && !escaped && len(d.keys) < maxFields {
		if d.keys == nil {
			d.keys = map[string]string{}
		}
		d.keys[k] = n
	}
	return n
}

func (s *jsonScan) value(prefix string, key []byte, escaped bool, depth int) bool {
	l := s.d.Layout
	c := s.space()
	if c == '{' {
		k := string(key)
		if escaped {
			k = unescape(key)
		}
		return s.object(prefix+k+".", depth+1)
	}
	name := s.name(prefix, key, escaped)
	wanted := name != "" && len(s.f) < maxFields && (l.wants == nil || l.wants[name] || l.time == nil && timeRank(name) >= 0)
	put := func(v string) {
		if !wanted {
			return
		}
		for i := range s.f {
			if s.f[i].Name == name {
				s.f[i].Value = v
				return
			}
		}
		s.f = append(s.f, entry.Field{Name: name, Value: v})
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
		ok := false
		switch c := s.space(); {
		case c == '"':
			_, _, ok = s.str()
		case c == '[':
			ok = s.array(depth + 1)
		case c == '{':
			ok = s.pass(depth + 1)
		case c == 't':
			ok = s.word("true")
		case c == 'f':
			ok = s.word("false")
		case c == 'n':
			ok = s.word("null")
		default:
			ok = s.number()
		}
		if !ok {
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

// pass passes an object in an array.
func (s *jsonScan) pass(depth int) bool {
	inner := &jsonScan{d: &Divider{Layout: nothing}, b: s.b, i: s.i}
	ok := inner.object("", depth)
	s.i = inner.i
	return ok
}

// nothing is a layout that asks for no field.
var nothing = &Layout{wants: map[string]bool{}, time: RFC3339}

// str reads a string, without its quotes and with its escapes.
func (s *jsonScan) str() (v []byte, escaped, ok bool) {
	from := s.i + 1
	for at := from; ; {
		k := bytes.IndexByte(s.b[at:], '"')
		if k < 0 {
			return nil, false, false
		}
		if bytes.IndexByte(s.b[at:at+k], '\\') < 0 {
			s.i = at + k + 1
			return s.b[from : at+k], escaped, true
		}
		escaped = true
		// The quote may be escaped: walk.
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
