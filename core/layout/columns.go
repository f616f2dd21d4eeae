package layout

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// columns says how a delimiter divides.
type columns struct {
	by     string
	names  []string // of none the header names them
	header bool
	drop   string
	guess  bool // the time is to be found by a column's name
}

func newColumns(d *lang.Delimited) *columns {
	return &columns{by: d.By, names: d.Columns, header: d.Header, drop: d.Drop, guess: len(d.Columns) == 0}
}

// head is what a header says.
type head struct {
	of    string // the header
	names []string
	date  string // of w3c: the day of entries that give none
}

// Headed tells whether some lines name the columns of those behind them, so that See
// has to be shown every line.
func (l *Layout) Headed() bool { return l.name == "w3c" || l.columns != nil && l.columns.header }

// See looks whether a line is a header, remembers it, and answers true where it is
// one: such a line is no entry. It is shown the lines of a log one after the other,
// each before it is divided.
func (d *Divider) See(line []byte) bool {
	l := d.Layout
	switch {
	case l.name == "w3c":
		if len(line) > 0 && line[0] == '#' {
			d.directive(valid(line))
			return true
		}
	case l.columns != nil && l.columns.header:
		if d.isHeader(line) {
			d.Header = valid(line)
			return true
		}
	}
	return false
}

// isHeader tells whether a line names columns. The first line does, unless it holds
// what no name is; a later one does where it names at least half of the columns that
// are known, and holds nothing but names.
func (d *Divider) isHeader(line []byte) bool {
	c := d.Layout.columns
	first := strings.TrimLeft(string(line[:min(len(line), 4)]), " \"'#@\ufeff")
	if r, _ := utf8.DecodeRuneInString(first); !unicode.IsLetter(r) && r != '_' {
		return false
	}
	names := headerNames(c, valid(line))
	if len(names) == 0 || c.names != nil && len(names) != len(c.names) && d.Header == "" &&
		!overlaps(names, c.names) {
		return false
	}
	for i, n := range names {
		if n == "" || slices.Contains(names[:i], n) {
			return false
		}
	}
	known := d.columnsNow()
	if known == nil {
		return true
	}
	return overlaps(names, known)
}

// overlaps tells whether at least half of the known names stand among the others.
func overlaps(names, known []string) bool {
	same := 0
	for _, n := range names {
		if slices.Contains(known, n) || slices.ContainsFunc(known,
			func(k string) bool { return bareName(k) == bareName(n) }) {
			same++
		}
	}
	return 2*same >= len(known)
}

// headerNames are the names in a line; nil where some cell is no name.
func headerNames(c *columns, line string) []string {
	var out []string
	for _, v := range c.split(nil, strings.TrimPrefix(line, "\ufeff")) {
		v := strings.TrimSpace(v.text(c.drop))
		if v == "" || len(v) > 60 {
			return nil
		}
		if r, _ := utf8.DecodeRuneInString(strings.TrimLeft(v, "#@_ ")); !unicode.IsLetter(r) {
			return nil
		}
		if strings.ContainsAny(v, "=\"{}<>") {
			return nil
		}
		out = append(out, Name(v))
	}
	return out
}

// columnsNow are the columns of the lines that come; nil where nothing has named them.
func (d *Divider) columnsNow() []string {
	c := d.Layout.columns
	if d.Header == "" {
		return c.names
	}
	if d.heads.of != d.Header {
		d.heads = head{of: d.Header, names: headerNames(c, d.Header)}
		for i, n := range d.heads.names { // names of the settings are those that rules use
			for _, ours := range c.names {
				if bareName(ours) == bareName(n) {
					d.heads.names[i] = ours
				}
			}
		}
		if c.names != nil && len(c.names) == len(d.heads.names) && !overlaps(d.heads.names, c.names) {
			d.heads.names = c.names
		}
	}
	return d.heads.names
}

// cell is one column's value in a line.
type cell struct {
	s      string
	quoted bool // quotes stood around it, and "" in it stands for "
}

func (v cell) text(drop string) string {
	s := v.s
	if v.quoted && strings.Contains(s, `""`) {
		s = strings.ReplaceAll(s, `""`, `"`)
	}
	if drop != "" && strings.ContainsAny(s, drop) {
		s = strings.Map(func(r rune) rune {
			if strings.ContainsRune(drop, r) {
				return -1
			}
			return r
		}, s)
	}
	return s
}

// split cuts a line at its delimiters, RFC 4180: a cell that begins with a quote goes
// on to the quote that ends it. Of blanks as delimiters several count as one.
func (c *columns) split(out []cell, line string) []cell {
	blank := c.by == " "
	for {
		if blank {
			line = strings.TrimLeft(line, " ")
		}
		s := line
		if !blank && c.by != "\t" {
			s = strings.TrimLeft(s, " ")
		}
		if s != "" && s[0] == '"' {
			if end := quoteEnd(s, c.by); end > 0 {
				out = append(out, cell{s[1:end], true})
				rest := strings.TrimLeft(s[end+1:], " ")
				if blank {
					rest = s[end+1:]
				}
				if rest == "" {
					return out
				}
				line = rest[len(c.by):]
				continue
			}
		}
		i := strings.Index(line, c.by)
		if i < 0 {
			if c.by != "\t" {
				line = strings.Trim(line, " ")
			}
			if blank && line == "" && len(out) > 0 {
				return out
			}
			return append(out, cell{line, false})
		}
		v := line[:i]
		if c.by != "\t" {
			v = strings.Trim(v, " ")
		}
		out = append(out, cell{v, false})
		line = line[i+len(c.by):]
	}
}

// quoteEnd is where the quote stands that ends a cell; 0 where none does.
func quoteEnd(s, by string) int {
	for i := 1; i < len(s); i++ {
		if s[i] != '"' {
			continue
		}
		if i+1 < len(s) && s[i+1] == '"' {
			i++
			continue
		}
		rest := s[i+1:]
		if by != " " {
			rest = strings.TrimLeft(rest, " ")
		}
		if rest == "" || strings.HasPrefix(rest, by) {
			return i
		}
		return 0
	}
	return 0
}

// delimited divides a line into its columns.
func (d *Divider) delimited(line []byte, near entry.Instant) Division {
	c := d.Layout.columns
	s := valid(line)
	if s == "" {
		return Division{}
	}
	if c.header && d.isHeader(line) {
		return Division{Fits: true, Header: true}
	}
	names := d.columnsNow()
	if names == nil {
		return Division{Misfits: []Misfit{{Reason: "no header has named the columns yet"}}}
	}
	d.cells = c.split(d.cells[:0], s)
	cells := d.cells
	for len(cells) > len(names) && cells[len(cells)-1].s == "" {
		cells = cells[:len(cells)-1]
	}
	if len(cells) != len(names) {
		return Division{Misfits: []Misfit{{Reason: fmt.Sprintf("it has %s, and the layout %d", columnsOf(len(cells)),
			len(names))}}}
	}
	f := d.fields(len(names) + 1)
	for i, v := range cells {
		if name := names[i]; d.Layout.wanted(name) || c.guess && timeRank(name) >= 0 {
			f.add(name, v.text(c.drop))
		}
	}
	if d.Reuse {
		d.reuse = f
	}
	out := Division{Fits: true, Fields: f}
	if c.guess {
		d.guessColumns(&out, near)
	}
	return out
}

func columnsOf(n int) string {
	if n == 1 {
		return "1 column"
	}
	return fmt.Sprintf("%d columns", n)
}

// guessColumns finds the time of columns that a header names: also where day and time
// of day stand apart.
func (d *Divider) guessColumns(out *Division, near entry.Instant) {
	f := fields(out.Fields)
	date, clock := f.get("date"), f.get("time")
	if date != "" && clock != "" && d.Layout.time == nil {
		if form := d.Layout.zones.AnyTime(date + " " + clock); form != nil {
			out.At, out.Timed = form.Parse(date+" "+clock, d.Layout.zone, near)
			return
		}
	}
	d.guessTime(out, near)
}

// directive reads a line of a W3C extended log that begins with #.
func (d *Divider) directive(line string) {
	name, value, _ := strings.Cut(line, ":")
	value = strings.TrimSpace(value)
	switch strings.ToLower(name) {
	case "#fields":
		date := d.w3cHead().date
		d.Header = line
		if date != "" {
			d.Header += "\n" + date
		}
	case "#date":
		if len(value) >= 10 && digits(value, 0) == 4 {
			fields, _, _ := strings.Cut(d.Header, "\n")
			d.Header = fields + "\n" + value[:10]
		}
	}
}

// w3cHead is what the directives have said so far.
func (d *Divider) w3cHead() *head {
	if d.heads.of != d.Header || d.heads.names == nil {
		d.heads = head{of: d.Header}
		fields, date, _ := strings.Cut(d.Header, "\n")
		d.heads.date = date
		_, list, _ := strings.Cut(fields, ":")
		for _, n := range strings.Fields(list) {
			d.heads.names = append(d.heads.names, Name(n))
		}
	}
	return &d.heads
}

var (
	w3cTime  = mustTime("2026-11-24 05:32:28")
	w3cBlank = &columns{by: " "}
)

// w3c divides an entry of a W3C extended log, whose #Fields line names the columns.
// Times are UTC; - is lacking.
func (d *Divider) w3c(line []byte, near entry.Instant) Division {
	s := valid(line)
	if s == "" {
		return Division{}
	}
	if s[0] == '#' {
		return Division{Fits: true, Header: true}
	}
	h := d.w3cHead()
	if len(h.names) == 0 {
		return Division{Misfits: []Misfit{{Reason: "no #Fields line has named the columns yet"}}}
	}
	by := w3cBlank
	if strings.IndexByte(s, '\t') >= 0 && strings.IndexByte(s, ' ') < 0 {
		by = &columns{by: "\t"}
	}
	d.cells = by.split(d.cells[:0], s)
	if len(d.cells) != len(h.names) {
		return Division{Misfits: []Misfit{{Reason: fmt.Sprintf("it has %s, and #Fields names %d",
			columnsOf(len(d.cells)), len(h.names))}}}
	}
	f := d.fields(len(h.names) + 1)
	date, clock := h.date, ""
	for i, v := range d.cells {
		x := v.text("")
		switch h.names[i] {
		case "date":
			date = x
		case "time":
			clock = x
		}
		if x != "-" && h.names[i] != "" && d.Layout.wanted(h.names[i]) {
			f.add(h.names[i], x)
		}
	}
	out := Division{Fits: true, Fields: f}
	if date != "" && clock != "" && d.Layout.time == nil {
		out.At, out.Timed = w3cTime.Parse(date+" "+clock, nil, near)
	}
	if d.Reuse {
		d.reuse = f
	}
	return out
}
