package layout

import (
	"bytes"
	"strings"
	"time"

	"dimlantern/core/entry"
)

// The times of syslog without a year, as RFC 3164, section 4.1.2, has them, and as
// boxes write them that know better.
var (
	stampTime     = mustTime("Nov 24 05:32:28")
	stampYear     = mustTime("Nov 24 2026 05:32:28")
	stampYearLast = mustTime("Nov 24 05:32:28 2026")
	stampSpace    = mustTime("2026-11-24 05:32:28")
	stampLocal    = mustTime("2026-11-24T05:32:28")
)

func mustTime(example string) *TimeFormat {
	f, err := TimeLike(example, "")
	if err != nil {
		panic(err)
	}
	return f
}

// syslog divides a message by RFC 5424, or, where it is none, by RFC 3164 as it is
// really sent.
func (d *Divider) syslog(line []byte, near entry.Instant) Division {
	pri, rest := priority(line)
	var f fields
	if pri >= 0 {
		f.add("facility", facilities[pri/8])
		f.add("level", severities[pri%8])
		if bytes.HasPrefix(rest, []byte("1 ")) {
			if out, ok := d.syslog5424(f, rest[2:]); ok {
				return out
			}
		}
	}
	return d.syslog3164(f, rest, near, pri >= 0)
}

// priority reads <PRI>, and returns what follows; -1 where there is none.
func priority(line []byte) (int, []byte) {
	end := bytes.IndexByte(line[:min(len(line), 5)], '>')
	if end < 2 || line[0] != '<' {
		return -1, line
	}
	n := 0
	for _, c := range line[1:end] {
		if c < '0' || c > '9' {
			return -1, line
		}
		n = n*10 + int(c-'0')
	}
	if n > 191 || line[1] == '0' && end > 2 {
		return -1, line
	}
	return n, line[end+1:]
}

// word cuts the characters up to the next space. They are printable ASCII, as RFC
// 5424, section 6, has it, and - stands for none.
func word(b []byte) (w string, rest []byte, ok bool) {
	end := bytes.IndexByte(b, ' ')
	if end < 0 {
		end = len(b)
	}
	for _, c := range b[:end] {
		if c < 33 || c > 126 {
			return "", b, false
		}
	}
	if end == 0 {
		return "", b, false
	}
	rest = b[end:]
	if len(rest) > 0 {
		rest = rest[1:]
	}
	if w = string(b[:end]); w == "-" {
		w = ""
	}
	return w, rest, true
}

// syslog5424 divides what follows the version. It answers false where the header
// or the structured data are not to the letter.
func (d *Divider) syslog5424(f fields, b []byte) (Division, bool) {
	out := Division{Fits: true}
	stamp, b, ok := word(b)
	if !ok {
		return out, false
	}
	if stamp != "" {
		if len(stamp) < 11 || stamp[10] != 'T' || strings.ContainsAny(stamp, "z,") {
			return out, false
		}
		if out.At, out.Timed = d.cache.parse(RFC3339, stamp, d.Layout.zone, 0); !out.Timed {
			return out, false
		}
		d.yearless = false
		f.add("at", stamp)
	}
	for _, x := range []struct {
		name string
		most int
	}{{"host", 255}, {"program", 48}, {"pid", 128}, {"msgid", 32}} {
		var w string
		if len(b) == 0 {
			return out, false
		}
		if w, b, ok = word(b); !ok || len(w) > x.most {
			return out, false
		}
		f.add(x.name, w)
	}
	b, ok = structured(&f, b)
	if !ok || len(b) > 0 && b[0] != ' ' {
		return out, false
	}
	if len(b) > 0 {
		b = bytes.TrimPrefix(b[1:], []byte("\xef\xbb\xbf"))
	}
	out.Fields = append(f, entry.Field{Name: "text", Value: valid(b)})
	return out, true
}

// structured reads the structured data, RFC 5424, section 6.3. Each parameter is a
// field of its own name, where nothing else has that, and one of the name
// ID.PARAMETER.
func structured(f *fields, b []byte) ([]byte, bool) {
	if len(b) > 0 && b[0] == '-' {
		return b[1:], true
	}
	if len(b) == 0 || b[0] != '[' {
		return b, false
	}
	for len(b) > 0 && b[0] == '[' {
		id, rest := sdName(b[1:])
		if id == "" {
			return b, false
		}
		b = rest
		for len(b) > 0 && b[0] == ' ' {
			name, rest := sdName(b[1:])
			if name == "" || !bytes.HasPrefix(rest, []byte(`="`)) {
				return b, false
			}
			value, rest, ok := sdValue(rest[2:])
			if !ok {
				return b, false
			}
			b = rest
			f.extra(name, "sd-", value)
			f.extra(strings.ToLower(id)+"."+name, "sd-", value)
		}
		if len(b) == 0 || b[0] != ']' {
			return b, false
		}
		b = b[1:]
	}
	return b, true
}

// sdName cuts a name of structured data: up to 32 printable ASCII characters, but
// = space ] and ".
func sdName(b []byte) (string, []byte) {
	i := 0
	for i < len(b) && b[i] > 32 && b[i] < 127 && b[i] != '=' && b[i] != ']' && b[i] != '"' {
		i++
	}
	if i > 32 {
		return "", b
	}
	return string(b[:i]), b[i:]
}

// sdValue reads a value up to its closing quote; \ stands before " \ and ].
func sdValue(b []byte) (string, []byte, bool) {
	end := 0
	escaped := false
	for ; end < len(b) && b[end] != '"'; end++ {
		if b[end] == ']' {
			return "", b, false // it must be escaped
		}
		if b[end] == '\\' {
			escaped = true
			end++
		}
	}
	if end >= len(b) {
		return "", b, false
	}
	v := b[:end]
	if escaped {
		out := make([]byte, 0, len(v))
		for i := 0; i < len(v); i++ {
			if v[i] == '\\' && i+1 < len(v) && (v[i+1] == '"' || v[i+1] == '\\' || v[i+1] == ']') {
				i++
			}
			out = append(out, v[i])
		}
		v = out
	}
	return valid(v), b[end+1:], true
}

func valid(b []byte) string { return strings.ToValidUTF8(string(b), "\uFFFD") }

// syslog3164 divides a message as boxes send it that follow RFC 3164, more or less:
// the time may lack, have a year, decimals, a zone or a mark in front; the host may
// lack, and so may the program. What remains is the text.
func (d *Divider) syslog3164(f fields, b []byte, near entry.Instant, fits bool) Division {
	out := Division{}
	b = sequence(b)
	if stamp, at, rest, closed, ok := d.stamp(b, near); ok {
		f.add("at", stamp)
		out.At, out.Timed, fits = at, true, true
		b = rest
		// A host follows, unless the time ended with :, or the program follows: that one
		// ends with : or has [ in it.
		if w, rest, ok := word(b); !closed && ok && len(rest) > 0 && w != "" && !strings.HasSuffix(w, ":") &&
			!strings.Contains(w, "[") {
			f.add("host", w)
			b = rest
		}
	}
	if program, pid, rest, ok := tag(b); ok {
		f.add("program", program)
		f.add("pid", pid)
		b = rest
	}
	if !fits {
		return Division{}
	}
	out.Fits = true
	out.Fields = append(f, entry.Field{Name: "text", Value: valid(b)})
	return out
}

// sequence passes a number that some boxes put in front of the time, and a mark
// that says how sure they are of it.
func sequence(b []byte) []byte {
	i := 0
	for i < len(b) && b[i] >= '0' && b[i] <= '9' {
		i++
	}
	if i > 0 && i < 11 && bytes.HasPrefix(b[i:], []byte(": ")) {
		b = b[i+2:]
	}
	if len(b) > 1 && (b[0] == '*' || b[0] == '.') {
		b = b[1:]
	}
	return b
}

// stamp reads the time that a message begins with.
func (d *Divider) stamp(b []byte, near entry.Instant) (written string, at entry.Instant, rest []byte, closed,
	ok bool) {
	if len(b) < 15 {
		return
	}
	if b[0] >= '0' && b[0] <= '9' {
		end := bytes.IndexByte(b, ' ')
		if end == 10 && len(b) > 19 { // a space between date and time
			if k := bytes.IndexByte(b[11:], ' '); k > 0 {
				end += 1 + k
				written = string(b[:end])
				at, ok = d.cache.parse(stampSpace, written, d.Layout.zone, near)
				d.yearless = d.yearless && !ok
				return written, at, b[end+1:], false, ok
			}
		}
		if end < 19 {
			return
		}
		written = string(b[:end])
		if at, ok = d.cache.parse(RFC3339, written, d.Layout.zone, near); !ok {
			at, ok = d.cache.parse(stampLocal, written, d.Layout.zone, near)
		}
		d.yearless = d.yearless && !ok
		return written, at, b[end+1:], false, ok
	}
	// A month's name; the longest form that fits is it.
	if b[0] < 'A' || b[0] > 'z' {
		return
	}
	spaces := []int{}
	for i := 0; i < len(b) && i < 40 && len(spaces) < 5; i++ {
		if b[i] == ' ' && (i == 0 || b[i-1] != ' ') {
			spaces = append(spaces, i)
		}
	}
	for n := len(spaces) - 1; n >= 2; n-- {
		written = string(bytes.TrimRight(b[:spaces[n]], ":"))
		for _, form := range []*TimeFormat{stampTime, stampYear, stampYearLast} {
			if at, ok = form.Parse(written, d.Layout.zone, near); ok {
				d.yearless = form == stampTime
				if d.yearless {
					d.cache.keep(written, at, false, d.Layout.zone)
				}
				return written, at, b[spaces[n]+1:], len(written) < spaces[n], true
			}
		}
	}
	return
}

// tag reads "program[pid]: " or "program: ".
func tag(b []byte) (program, pid string, rest []byte, ok bool) {
	i := 0
	for i < len(b) && i < 128 && b[i] > 32 && b[i] < 127 && b[i] != '[' && b[i] != ':' {
		i++
	}
	if i == 0 || i == len(b) {
		return
	}
	program = string(b[:i])
	b = b[i:]
	if b[0] == '[' {
		end := bytes.IndexByte(b[:min(len(b), 130)], ']')
		if end < 0 {
			return
		}
		pid = string(b[1:end])
		b = b[end+1:]
	}
	if len(b) == 0 || b[0] != ':' {
		return "", "", nil, pid != "" && len(b) > 0 && b[0] == ' '
	}
	b = b[1:]
	if len(b) > 0 && b[0] == ' ' {
		b = b[1:]
	}
	return program, pid, b, true
}

// SyslogHost is the host that a message names, without dividing it; "" where it
// names none.
func SyslogHost(line []byte) string {
	d := Divider{Layout: &Layout{format: (*Divider).syslog, zone: time.UTC}}
	out := d.syslog(line, 0)
	for _, f := range out.Fields {
		if f.Name == "host" {
			return f.Value
		}
	}
	return ""
}
