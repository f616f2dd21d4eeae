package layout

import (
	"bytes"
	"strings"

	"dimlantern/core/entry"
)

// A glance reads the time of an entry of an open format without dividing it: if the entry
// is of the format and has a time, it is that. It answers false where it would take more,
// as it does for the first entry of each minute.
type glance func(d *Divider, line []byte) (entry.Instant, bool)

// glancer is the glance of a layout; nil where it has none.
func glancer(l *Layout) glance {
	switch l.name {
	case "syslog":
		if l.time == nil {
			return (*Divider).glanceSyslog
		}
	case "clf", "combined":
		if l.time == nil {
			return (*Divider).glanceWeb
		}
	case "json", "logfmt":
		switch {
		case len(l.masks) > 0:
			return nil
		case l.time == nil: // it is guessed
			if len(l.steps) > 0 || len(l.types) > 0 {
				return nil
			}
		case len(l.timeIn) != 1 || l.types[l.timeIn[0]] != "" || l.retimed():
			return nil
		}
		if l.name == "json" {
			return (*Divider).glanceJSON
		}
		return (*Divider).glanceLogfmt
	}
	return nil
}

func (d *Divider) glanceSyslog(line []byte) (entry.Instant, bool) {
	b := line
	if len(b) > 0 && b[0] == '<' {
		pri, rest := priority(b)
		if pri < 0 {
			return 0, false
		}
		if b = rest; bytes.HasPrefix(b, []byte("1 ")) {
			b = b[2:]
			if len(b) < 11 || b[10] != 'T' {
				return 0, false
			}
		}
	}
	at, n, ok := d.cache.again(b)
	if !ok || n+1 >= len(b) || b[n] != ' ' {
		return 0, false
	}
	// Behind a time without a year that may be the year.
	return at, b[0] <= '9' || b[n+1] < '0' || b[n+1] > '9'
}

func (d *Divider) glanceWeb(line []byte) (entry.Instant, bool) {
	b := line
	for range 3 {
		k := bytes.IndexByte(b, ' ')
		if k <= 0 {
			return 0, false
		}
		b = b[k+1:]
	}
	if len(b) == 0 || b[0] != '[' {
		return 0, false
	}
	at, n, ok := d.cache.again(b[1:])
	return at, ok && bytes.HasPrefix(b[1+n:], []byte("] "))
}

// timeField is the field that holds the time of the entries of an open format; "" where it
// has not been guessed yet.
func (d *Divider) timeField() string {
	if d.Layout.time == nil {
		return d.guess.field
	}
	return d.Layout.timeIn[0]
}

func (d *Divider) glanceJSON(line []byte) (entry.Instant, bool) {
	s := jsonScan{d: d, b: bytes.TrimSpace(line), only: d.timeField()}
	s.bare = bytes.IndexByte(s.b, '\\') < 0
	if s.only == "" || len(s.b) < 2 || s.b[0] != '{' || (!s.object("", 0) || s.i != len(s.b)) && !s.sure {
		return 0, false
	}
	at, n, ok := d.cache.again(s.found)
	if ok = ok && n == len(s.found); ok && s.sure && s.n == 1 && len(s.b) == len(line) && s.b[s.i-1] == '"' {
		d.lead.set(s.b[:s.i-1-n], `"`, s.by)
	}
	return at, ok
}

// lead is what entries of an open format begin with that have their time in front, up to it.
type lead struct {
	text, behind string
	key          *keyed
}

func (l *lead) set(text []byte, behind string, key *keyed) {
	if l.text != string(text) || l.behind != behind || l.key != key {
		*l = lead{string(text), behind, key}
	}
}

// alone tells whether in lines that all begin with the lead no other key can give the same
// field and count more.
func (l *lead) alone(format string, lines []byte, n int) bool {
	if format == "logfmt" {
		return l.key.aloneInPairs(lines)
	}
	if bytes.IndexByte(lines, '\\') >= 0 && index(lines, []byte(`\u`)) >= 0 {
		return false
	}
	own := 0
	for _, x := range l.key.others {
		if m := count(lines, x); strings.Contains(l.text, string(x)) {
			own += m
		} else if m > 0 {
			return false
		}
	}
	return own == n
}

func (d *Divider) glanceLogfmt(line []byte) (entry.Instant, bool) {
	field := d.timeField()
	if field == "" {
		return 0, false
	}
	var found []byte
	var by *keyed
	p := pairScan{d: d, b: line}
	for p.next() {
		k := p.key
		if k.name != field || by != nil && !k.exact && k.raw != by.raw {
			continue
		}
		if found, by = p.value, k; p.escaped {
			found = nil
		}
		if found != nil && k.others != nil && k.aloneInPairs(line[p.i:]) {
			break
		}
	}
	if p.bad {
		return 0, false
	}
	at, n, ok := d.cache.again(found)
	if ok = ok && n == len(found); ok && p.n == 1 && p.i < len(line) && p.key.others != nil {
		if from := p.i - n; line[from] == found[0] {
			d.lead.set(line[:from], " ", by)
		} else {
			d.lead.set(line[:from-1], `"`, by)
		}
	}
	return at, ok
}
