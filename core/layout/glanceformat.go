package layout

import (
	"bytes"

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
		if l.time == nil || len(l.timeIn) != 1 || l.types[l.timeIn[0]] != "" || len(l.masks) > 0 || l.retimed() {
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

func (d *Divider) glanceJSON(line []byte) (entry.Instant, bool) {
	s := jsonScan{d: d, b: bytes.TrimSpace(line), only: d.Layout.timeIn[0]}
	s.bare = bytes.IndexByte(s.b, '\\') < 0
	if len(s.b) < 2 || s.b[0] != '{' || !s.object("", 0) || s.i != len(s.b) {
		return 0, false
	}
	at, n, ok := d.cache.again(s.found)
	return at, ok && n == len(s.found)
}

func (d *Divider) glanceLogfmt(line []byte) (entry.Instant, bool) {
	var found []byte
	p := pairScan{d: d, b: line}
	for p.next() {
		if p.key.name != d.Layout.timeIn[0] {
			continue
		}
		if found = p.value; p.escaped {
			found = nil
		}
	}
	if p.bad {
		return 0, false
	}
	at, n, ok := d.cache.again(found)
	return at, ok && n == len(found)
}
