// Package layout divides entries into fields. A line and the layout of its
// source come in; its fields, its own time and whether it fits go out. A line
// that does not fit stays whole. No clock is read here: where a time lacks its
// year, the caller says near which instant it lies.
package layout

import (
	"bytes"
	"net/netip"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Layout is a compiled layout. It may be used by several goroutines at once,
// each with a Divider of its own.
type Layout struct {
	patterns []compiled
	time     *TimeFormat // nil where the layout gives no time
	timeIn   []string
	types    map[string]string
	zone     *time.Location
	host     bool   // a pattern gives the field host
	format   format // nil where patterns divide
	// How the events of a channel are told.
	essentials bool
	account    string
	names      []lang.Names
}

type compiled struct {
	pattern *lang.Pattern
	steps   *steps // nil where only the regular expression serves
	names   []string
	timeAt  int // the group that holds the whole time, or -1
	// behind is the byte that ends the time's group, where the line begins with
	// that group and its last run holds digits, points and commas, but not that
	// byte; -1 where it is not so.
	behind int
}

// Compile makes a layout of its settings; nil stands for plain. Times without a
// zone are read in zone.
func Compile(l *lang.Layout, zone *time.Location) *Layout {
	out := &Layout{zone: zone}
	if l == nil {
		return out
	}
	out.names = l.Names
	if out.format = formats[l.Format]; out.format != nil {
		out.host = true
		return out
	}
	if l.Time != nil {
		out.timeIn = l.Time.Fields
		if l.Time.RFC339 {
			out.time = RFC3339
		} else {
			out.time, _ = TimeLike(l.Time.Like, l.Time.Order)
		}
	}
	out.types = l.Types
	for _, p := range l.Patterns {
		c := compiled{pattern: p, names: p.Re.SubexpNames(), timeAt: -1, behind: -1}
		c.steps = compileSteps(p.Source, c.names)
		for i, n := range c.names {
			if n == "host" {
				out.host = true
			}
			if n != "" && len(out.timeIn) == 1 && n == out.timeIn[0] {
				c.timeAt = i
			}
		}
		if c.steps != nil && c.timeAt > 0 && out.types[c.names[c.timeAt]] == "" {
			c.behind = c.steps.behind(c.timeAt)
		}
		out.patterns = append(out.patterns, c)
	}
	return out
}

// Timed tells whether the layout gives entries a time of their own.
func (l *Layout) Timed() bool { return l.time != nil || l.format != nil }

// Tell says how the events of a channel are told: of their messages the essentials
// alone, and their accounts by "id", "name" or "both".
func (l *Layout) Tell(essentials bool, account string) { l.essentials, l.account = essentials, account }

// Plain tells whether the layout gives no fields at all.
func (l *Layout) Plain() bool { return len(l.patterns) == 0 && l.format == nil }

// GivesHost tells whether the layout gives the field host.
func (l *Layout) GivesHost() bool { return l.host }

// Zoned tells whether the times that the layout reads say their zone.
func (l *Layout) Zoned() bool { return l.time == nil || l.time.HasZone() }

// Divider divides the lines of one origin. It is not for several goroutines at
// once. The zero value with a Layout is ready.
type Divider struct {
	Layout *Layout
	spans  []int
	cache  timeCache
}

// Division is what became of one line.
type Division struct {
	Fields []entry.Field
	At     entry.Instant
	Timed  bool // At was found and read
	Fits   bool
}

// Divide divides a line. Near is where a time without a year, or an hour that
// occurs twice, is to be looked for.
//
// An entry of many lines that no pattern fits as a whole is divided by its first
// line; the further ones then belong to the field text, where the first line ends
// with it.
func (d *Divider) Divide(line []byte, near entry.Instant) Division {
	out := d.whole(line, near)
	for _, n := range d.Layout.names {
		for _, f := range out.Fields {
			if word := n.Words[f.Value]; f.Name == n.Field && word != "" {
				out.Fields = append(out.Fields, entry.Field{Name: n.Name(), Value: word})
				break
			}
		}
	}
	return out
}

func (d *Divider) whole(line []byte, near entry.Instant) Division {
	out := d.divide(line, near)
	if out.Fits {
		return out
	}
	if i := bytes.IndexByte(line, '\n'); i >= 0 {
		if out = d.divide(line[:i], near); out.Fits {
			for k := range out.Fields {
				if f := &out.Fields[k]; f.Name == "text" && strings.HasSuffix(string(line[:i]), f.Value) {
					f.Value += strings.ToValidUTF8(string(line[i:]), "\uFFFD")
				}
			}
		}
	}
	return out
}

func (d *Divider) divide(line []byte, near entry.Instant) Division {
	l := d.Layout
	if l.Plain() {
		return Division{Fits: true}
	}
	if l.format != nil {
		return l.format(d, line, near)
	}
	for i := range l.patterns {
		c := &l.patterns[i]
		spans := d.match(c, line, -1)
		if spans == nil {
			continue
		}
		out := Division{Fits: true, Fields: make([]entry.Field, 0, len(c.names)-1)}
		for g, name := range c.names {
			if name != "" && spans[2*g] >= 0 {
				v := strings.ToValidUTF8(string(line[spans[2*g]:spans[2*g+1]]), "\uFFFD")
				if t := l.types[name]; t != "" {
					v = Typed(v, t)
				}
				out.Fields = append(out.Fields, entry.Field{Name: name, Value: v})
			}
		}
		if l.time != nil {
			out.At, out.Timed = d.time(out.Fields, near)
		}
		return out
	}
	return Division{}
}

func (d *Divider) match(c *compiled, line []byte, stop int) []int {
	if c.steps == nil {
		return c.pattern.Re.FindSubmatchIndex(line)
	}
	if n := 2 * len(c.names); cap(d.spans) < n {
		d.spans = make([]int, n)
	} else {
		d.spans = d.spans[:n]
	}
	if !c.steps.match(line, d.spans, stop) {
		return nil
	}
	return d.spans
}

func (d *Divider) time(fields []entry.Field, near entry.Instant) (entry.Instant, bool) {
	var parts []string
	for _, name := range d.Layout.timeIn {
		for _, f := range fields {
			if f.Name == name && f.Value != "" {
				parts = append(parts, f.Value)
			}
		}
	}
	if len(parts) != len(d.Layout.timeIn) {
		return 0, false
	}
	return d.cache.parse(d.Layout.time, strings.Join(parts, " "), d.Layout.zone, near)
}

// Glance reads the time of a line without dividing it. Sure tells that the
// line's time, if it fits and has one, can be no other; else only Divide knows.
func (d *Divider) Glance(line []byte, near entry.Instant) (at entry.Instant, ok, sure bool) {
	l := d.Layout
	if len(l.patterns) != 1 || l.time == nil {
		return 0, false, false
	}
	c := &l.patterns[0]
	if c.steps == nil || c.timeAt < 0 || l.types[c.names[c.timeAt]] != "" {
		return 0, false, false
	}
	if n := d.cache.n; n > 0 && c.behind >= 0 && len(line) > n && string(d.cache.prefix[:n]) == string(line[:n]) {
		nano, end := 0, n
		if line[n] == '.' || line[n] == ',' {
			nano, end = fraction(line, n+1)
		}
		if end < len(line) && int(line[end]) == c.behind {
			return d.cache.base + entry.Instant(nano), true, true
		}
	}
	spans := d.match(c, line, c.timeAt)
	if spans == nil || spans[2*c.timeAt+1] < 0 {
		return 0, false, true
	}
	at, ok = d.cache.parse(l.time, string(line[spans[2*c.timeAt]:spans[2*c.timeAt+1]]), l.zone, near)
	return at, ok, true
}

// Run is a stretch of lines whose times could be read at a glance.
type Run struct {
	Next  int // where the first line begins that does not belong to it
	Lines int
	// Top is the latest time, in the line from At up to its line end at End; they
	// mean nothing where there are no lines.
	Top     entry.Instant
	At, End int
}

// GlanceOn glances at lines from at on, as long as they share their second with
// the line that was read last, begin before stop, and are no more than most. It
// is Glance for many lines at once.
func (d *Divider) GlanceOn(slab []byte, at, stop, most int) Run {
	r := Run{Next: at, Top: entry.None}
	l := d.Layout
	if len(l.patterns) != 1 || l.time == nil || d.cache.n == 0 {
		return r
	}
	behind := l.patterns[0].behind
	prefix := string(d.cache.prefix[:d.cache.n])
	n, top := len(prefix), -1
	for r.Next < stop && r.Lines < most {
		line := slab[r.Next:]
		if len(line) < n+5 || string(line[:n]) != prefix {
			break
		}
		nano, end := 0, n
		if line[n] == '.' || line[n] == ',' {
			nano, end = fraction(line, n+1)
		}
		if end >= len(line) || int(line[end]) != behind {
			break
		}
		k := bytes.IndexByte(line[end:], '\n')
		if k < 0 {
			break
		}
		if nano > top {
			top, r.At, r.End = nano, r.Next, r.Next+end+k
		}
		r.Next += end + k + 1
		r.Lines++
	}
	if r.Lines > 0 {
		r.Top = d.cache.base + entry.Instant(top)
	}
	return r
}

var powers = [10]int{1e9, 1e8, 1e7, 1e6, 1e5, 1e4, 1e3, 100, 10, 1}

// fraction reads the decimals of a second that begin at i, and returns where they
// end; 0 where there are none, or more than nine.
func fraction(b []byte, i int) (nano, end int) {
	v, n := 0, 0
	for i+n < len(b) && n < 10 {
		c := b[i+n] - '0'
		if c > 9 {
			break
		}
		v = v*10 + int(c)
		n++
	}
	if n == 0 || n > 9 {
		return 0, 0
	}
	return v * powers[n], i + n
}

// Typed writes a value in the one form of its type, so that keys agree: 007 is
// the integer 7. A value that its type does not fit stays as it is.
func Typed(v, typ string) string {
	switch typ {
	case "integer":
		neg := strings.HasPrefix(v, "-")
		n := strings.TrimLeft(v, "+-")
		if n == "" || len(v)-len(n) > 1 || digits(n, 0) != len(n) {
			return v
		}
		if n = strings.TrimLeft(n, "0"); n == "" {
			return "0"
		}
		if neg {
			return "-" + n
		}
		return n
	case "address":
		if a, err := netip.ParseAddr(v); err == nil {
			return a.String()
		}
		if p, err := netip.ParsePrefix(v); err == nil {
			return p.String()
		}
	case "boolean":
		switch strings.ToLower(v) {
		case "true", "yes", "on", "1":
			return "true"
		case "false", "no", "off", "0":
			return "false"
		}
	}
	return v
}
