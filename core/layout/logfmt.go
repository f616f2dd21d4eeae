package layout

import (
	"bytes"
	"strings"

	"dimlantern/core/entry"
)

// logfmt divides pairs of key=value, with blanks between them. A value with blanks
// stands in quotes, in which \ stands before quotes and itself; a key without a value
// is true. A line without any pair is none, and so is one with a stray quote.
func (d *Divider) logfmt(line []byte, near entry.Instant) Division {
	out := Division{}
	f := d.owned(12)
	p := pairScan{d: d, b: line}
	for p.next() {
		if k := p.key; k.wanted && len(f.f) < maxFields {
			value := "true"
			switch {
			case p.escaped:
				value = unescape(p.value)
			case p.value != nil:
				value = valid(p.value)
			}
			if value != "" || f.f.get(k.name) != "" {
				f.put(k, value)
			}
		}
	}
	if p.bad || p.pairs == 0 {
		return out
	}
	out.Fits, out.Fields = true, f.f
	d.keep(&f)
	d.guessTime(&out, near)
	return out
}

// pairScan reads one pair of logfmt after the other.
type pairScan struct {
	d       *Divider
	b       []byte
	i, n    int
	pairs   int  // those that had a =
	bad     bool // it is no logfmt
	key     *keyed
	value   []byte // without its quotes; nil where there is none
	escaped bool   // something in the value is
}

// next reads the next pair; false where there is none.
func (p *pairScan) next() bool {
	b, i := p.b, p.i
	for i < len(b) && (b[i] == ' ' || b[i] == '\t') {
		i++
	}
	if i == len(b) {
		return false
	}
	from := i
	for i < len(b) && b[i] > ' ' && b[i] != '=' && b[i] != '"' {
		i++
	}
	key := b[from:i]
	if len(key) == 0 || i < len(b) && b[i] == '"' {
		p.bad = true
		return false
	}
	p.key = p.d.key(p.n, "", key)
	p.n++
	p.value, p.escaped = nil, false
	if i < len(b) && b[i] == '=' {
		p.pairs++
		i++
		from = i
		if i < len(b) && b[i] == '"' {
			end := i + 1
			for end < len(b) && b[end] != '"' {
				if b[end] == '\\' {
					p.escaped = true
					end++
				}
				end++
			}
			if end >= len(b) || end+1 < len(b) && b[end+1] > ' ' {
				p.bad = true
				return false
			}
			p.value = b[from+1 : end]
			i = end + 1
		} else {
			for i < len(b) && b[i] > ' ' && b[i] != '"' {
				i++
			}
			if i < len(b) && b[i] == '"' {
				p.bad = true
				return false
			}
			p.value = b[from:i]
		}
	}
	p.i = i
	return true
}

// aloneInPairs is alone for pairs of logfmt, in one line or in several, of which the first
// key may be this one.
func (k *keyed) aloneInPairs(rest []byte) bool {
	for _, x := range k.others {
		name := x[1 : len(x)-1] // without its quotes
		for _, blank := range []byte(" \t") {
			if blank == '\t' && bytes.IndexByte(rest, blank) < 0 {
				continue
			}
			word := append([]byte{blank}, name...)
			for at := 0; ; {
				i := index(rest[at:], word)
				if i < 0 {
					break
				}
				at += i
				behind := rest[at+len(word):]
				if (len(behind) == 0 || behind[0] == '=' || behind[0] <= ' ') && !quotedAt(rest, at) {
					return false
				}
				at++
			}
		}
	}
	return true
}

// quotedAt tells whether a place of a line that is logfmt surely lies within quotes. The line
// may be one of several, and begins where the text does or behind a line end.
func quotedAt(text []byte, at int) bool {
	line := text[bytes.LastIndexByte(text[:at], '\n')+1 : at]
	return bytes.Count(line, []byte{'"'})%2 == 1 && bytes.IndexByte(line, '\\') < 0
}

// clf divides an entry of a web server's common log: host ident authuser [date]
// "request" status bytes.
func (d *Divider) clf(line []byte, near entry.Instant) Division {
	out, rest := d.web(line, near)
	if rest != "" {
		return Division{}
	}
	return out
}

// combined is clf with "referrer" "user agent" behind; what else stands there belongs
// to no field.
func (d *Divider) combined(line []byte, near entry.Instant) Division {
	out, rest := d.web(line, near)
	if !out.Fits || rest == "" {
		return Division{}
	}
	f := fields(out.Fields)
	for _, name := range []string{"referrer", "agent"} {
		v, after, ok := quotedWord(rest)
		if !ok {
			return Division{}
		}
		if v != "-" {
			f.add(name, v)
		}
		rest = after
	}
	out.Fields = f
	return out
}

var webTime = mustTime("24/Nov/2026:05:32:28 +0000")

// web divides what both web logs have in common, and returns what is behind it.
func (d *Divider) web(line []byte, near entry.Instant) (Division, string) {
	out := Division{}
	s := valid(line)
	f := d.fields(14)
	for _, name := range []string{"client", "ident", "account"} {
		w, rest, ok := strings.Cut(s, " ")
		if !ok || w == "" {
			return out, ""
		}
		if w != "-" {
			f.add(name, w)
		}
		s = rest
	}
	stamp, rest, ok := strings.Cut(strings.TrimPrefix(s, "["), "] ")
	if !ok || s[0] != '[' || len(stamp) > 40 {
		return out, ""
	}
	if t, n, ok := d.cache.again([]byte(stamp)); ok && n == len(stamp) {
		out.At, out.Timed = t, true
	} else if out.At, out.Timed = webTime.Parse(stamp, d.Layout.zone, near); out.Timed {
		d.cache.keep(stamp, out.At, true, d.Layout.zone)
	} else {
		return out, ""
	}
	f.add("at", stamp)
	request, rest, ok := quotedWord(rest)
	if !ok {
		return out, ""
	}
	if request != "-" {
		f.add("request", request)
		if parts := strings.Split(request, " "); len(parts) == 2 || len(parts) == 3 {
			f.add("method", parts[0])
			path, query, _ := strings.Cut(parts[1], "?")
			f.add("path", path)
			f.add("query", query)
			if len(parts) == 3 {
				f.add("protocol", parts[2])
			}
		}
	}
	status, rest, _ := strings.Cut(rest, " ")
	size, rest, _ := strings.Cut(rest, " ")
	if (len(status) != 3 || digits(status, 0) != 3) && status != "-" || size == "" || digits(size, 0) != len(size) &&
		size != "-" {
		return out, ""
	}
	if status != "-" {
		f.add("status", status)
	}
	if size != "-" {
		f.add("bytes", size)
	}
	out.Fits, out.Fields = true, f
	return out, rest
}

// quotedWord cuts "…", in which \ stands before quotes and itself, and the blank behind.
func quotedWord(s string) (v, rest string, ok bool) {
	if s == "" || s[0] != '"' {
		return "", s, false
	}
	for i := 1; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case '"':
			rest = s[i+1:]
			if rest != "" && rest[0] != ' ' {
				continue
			}
			v = s[1:i]
			if strings.IndexByte(v, '\\') >= 0 {
				v = strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(v)
			}
			return v, strings.TrimPrefix(rest, " "), true
		}
	}
	return "", s, false
}
