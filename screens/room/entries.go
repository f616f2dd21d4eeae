package room

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"

	"github.com/charmbracelet/x/ansi"
)

// EntryList are entries as they look wherever they are listed: their time, with the date where
// it is not today's, the fields that differ most between them, and what they say, as wide as
// there is room.
type EntryList struct {
	Lines  []api.EntryView
	Origin func(i int) string // what an entry is of; nil where all are of one
	Chosen int                // the entry that is chosen; -1 is none
	First  int                // the one on the first row

	Now    time.Time
	widths map[string]int
}

// mostWeighed is how many entries decide on the columns.
const mostWeighed = 300

// widestField is how wide a column is at most.
const widestField = 24

// Draw draws the entries below a line that names the columns.
func (l *EntryList) Draw(c *paint.Canvas, x, y, width, bottom int, p paint.Palette) {
	base := paint.Style{Fg: p.Text}
	dim := base.With(p.Dim)
	shown := l.Lines[min(l.First, len(l.Lines)):]
	if len(shown) == 0 || y >= bottom {
		return
	}
	stamp := l.stamp()
	texts := slices.ContainsFunc(l.Lines[:min(len(l.Lines), mostWeighed)], func(e api.EntryView) bool {
		return e.Text != ""
	})
	room := width - len(stamp) - 2
	if l.Origin != nil {
		room -= widestField + 2
	}
	var fields []string
	if texts {
		fields = l.columns(room / 2)
	}
	at := c.Put(x, y, dim, "at") + len(stamp)
	if l.Origin != nil {
		c.Put(at, y, dim, "of")
		at += widestField + 2
	}
	for _, f := range fields {
		c.Cut(at, y, l.widths[f], dim, f)
		at += l.widths[f] + 2
	}
	if texts {
		c.Put(at, y, dim, "text")
	}
	y++
	for i := range shown {
		if y >= bottom {
			return
		}
		e := &shown[i]
		if l.First+i == l.Chosen {
			Choose(c, x-1, y, p)
		}
		style := base
		if !e.Fits {
			style = base.With(p.Severity[entry.Warning])
		}
		if e.At != entry.None {
			c.Put(x, y, dim, e.At.Time().In(time.Local).Format(stamp))
		}
		at := x + len(stamp) + 2
		if l.Origin != nil {
			c.Cut(at, y, widestField, dim, l.Origin(l.First+i))
			at += widestField + 2
		}
		for _, f := range fields {
			c.Cut(at, y, l.widths[f], dim, valueOf(e, f))
			at += l.widths[f] + 2
		}
		if e.Text == "" && e.Fits {
			l.pairs(c, at, y, x+width-at, e, base, p)
		} else {
			drawText(c, at, y, x+width-at, e.Text, style, dim)
		}
		y++
	}
}

// stamp is how the times are written: with the date where some are not of today.
func (l *EntryList) stamp() string {
	year, day := l.Now.Year(), l.Now.YearDay()
	for i := range l.Lines {
		if t := l.Lines[i].At; t != entry.None {
			if at := t.Time().In(l.Now.Location()); at.Year() != year {
				return "2006-01-02 15:04:05"
			} else if at.YearDay() != day {
				return "Jan 02 15:04:05"
			}
		}
	}
	return "15:04:05"
}

// drawText draws the first line of a text, and how many more there are.
func drawText(c *paint.Canvas, x, y, width int, text string, style, dim paint.Style) {
	first, rest, many := strings.Cut(strings.TrimSpace(text), "\n")
	more := ""
	if many {
		more = fmt.Sprintf("+%d lines", strings.Count(rest, "\n")+1)
		if !strings.Contains(rest, "\n") {
			more = "+1 line"
		}
		width -= len(more) + 1
	}
	end := c.Cut(x, y, width, style, entry.Visible(first))
	if more != "" {
		c.Put(end+1, y, dim, more)
	}
}

// pairs draws the fields of an entry that has no text by name.
func (l *EntryList) pairs(c *paint.Canvas, x, y, width int, e *api.EntryView, base paint.Style, p paint.Palette) {
	end := x + width
	for _, f := range l.order() {
		v := valueOf(e, f)
		if v == "" || v == "-" {
			continue
		}
		if x+ansi.StringWidth(f)+2 >= end {
			return
		}
		x = c.Cut(x, y, end-x, base.With(p.Dim), f) + 1
		x = c.Cut(x, y, max(end-x, 0), base, entry.Visible(v)) + 2
	}
}

func valueOf(e *api.EntryView, name string) string {
	for _, f := range e.Fields {
		if f.Name == name {
			return f.Value
		}
	}
	return ""
}

// columns are the fields for which there is room, those first that say most.
func (l *EntryList) columns(room int) []string {
	l.widths = map[string]int{}
	var out []string
	for _, w := range l.weighed() {
		if w.distinct < 2 || len(out) == 5 ||
			slices.ContainsFunc(out, func(other string) bool { return l.same(w.name, other) }) {
			continue
		}
		if room -= w.width + 2; room < 0 {
			break
		}
		l.widths[w.name] = w.width
		out = append(out, w.name)
	}
	return out
}

// same tells whether two fields have the same values.
func (l *EntryList) same(a, b string) bool {
	lines := l.Lines[:min(len(l.Lines), mostWeighed)]
	for i := range lines {
		if valueOf(&lines[i], a) != valueOf(&lines[i], b) {
			return false
		}
	}
	return true
}

// order are the fields, those first that say most.
func (l *EntryList) order() []string {
	var out []string
	for _, w := range l.weighed() {
		out = append(out, w.name)
	}
	return out
}

// weight is how much a field says in a list of entries.
type weight struct {
	name            string
	entries         int
	distinct, width int
	score           float64
}

// telling are the fields that people look at first, of those that differ.
var telling = []string{"level", "status", "method", "path", "event", "host", "program", "unit", "account", "client"}

// Values says of the fields that say most how many different values they have.
func (l *EntryList) Values(most int) (names []string, different []int) {
	for _, w := range l.weighed() {
		if w.distinct > 0 && len(names) < most {
			names, different = append(names, w.name), append(different, w.distinct)
		}
	}
	return names, different
}

// weighed are the fields of the entries but for their time and text. Those say most that
// differ; what differs each time, such as an identifier or a size, says little.
func (l *EntryList) weighed() []weight {
	by := map[string]*weight{}
	seen := map[string]map[string]bool{}
	var order []*weight
	lines := l.Lines[:min(len(l.Lines), mostWeighed)]
	for i := range lines {
		for _, f := range lines[i].Fields {
			if f.Name == "text" || f.Name == "at" || f.Value == "" || timeLike(f.Value) {
				continue
			}
			w := by[f.Name]
			if w == nil {
				w = &weight{name: f.Name, width: ansi.StringWidth(f.Name)}
				by[f.Name], seen[f.Name] = w, map[string]bool{}
				order = append(order, w)
			}
			w.entries++
			w.width = min(max(w.width, ansi.StringWidth(f.Value)), widestField)
			seen[f.Name][f.Value] = true
		}
	}
	var out []weight
	for i, w := range order {
		if w.name == "request" && by["path"] != nil { // its parts say it
			continue
		}
		w.distinct = len(seen[w.name])
		w.score = float64(w.entries) / float64(len(lines))
		if w.distinct > 1 {
			w.score++
		}
		if k := slices.Index(telling, w.name); k >= 0 {
			w.score += 1 - 0.05*float64(k)
		} else if w.entries > 8 && 10*w.distinct > 9*w.entries {
			w.score -= 0.8
		}
		w.score -= 0.001 * float64(i)
		out = append(out, *w)
	}
	slices.SortStableFunc(out, func(a, b weight) int { return cmp.Compare(b.score, a.score) })
	return out
}

// timeLike tells whether a value is a time as entries have theirs.
func timeLike(v string) bool {
	digits, colons := 0, 0
	whole, _, _ := strings.Cut(v, ".")
	for i := range len(v) {
		switch c := v[i]; {
		case c >= '0' && c <= '9':
			digits++
		case c == ':':
			colons++
		}
	}
	return digits >= 8 && colons >= 2 && len(v) < 40 ||
		strings.Trim(v, "0123456789.") == "" && (len(whole) == 10 || len(whole) == 13)
}

// DrawEntry draws one entry in full from a row on, as far as it lies between top and bottom:
// when it was, each field by name, and what it is as it was written. It returns the row behind
// it.
func DrawEntry(c *paint.Canvas, x, y, width, top, bottom int, e *api.EntryView, p paint.Palette) int {
	base := paint.Style{Fg: p.Text}
	dim := base.With(p.Dim)
	widest := len("as it stands")
	for _, f := range e.Fields {
		widest = min(max(widest, ansi.StringWidth(f.Name)), 24)
	}
	put := func(name, value string, style paint.Style) {
		first := true
		for line := range strings.SplitSeq(value, "\n") {
			for _, part := range strings.Split(ansi.Hardwrap(entry.Visible(line), max(width-widest-3, 10), true),
				"\n") {
				if y >= top && y < bottom {
					if first {
						c.Cut(x, y, widest, dim, name)
					}
					c.Cut(x+widest+2, y, width-widest-2, style, part)
				}
				first = false
				y++
			}
		}
	}
	if e.At != entry.None {
		put("when", e.At.Time().In(time.Local).Format("Monday 2006-01-02 15:04:05.000"), base)
	}
	if !e.Fits {
		put("fits", "it does not fit its layout", base.With(p.Severity[entry.Warning]))
	}
	for _, f := range e.Fields {
		if f.Value != "" {
			put(f.Name, f.Value, base)
		}
	}
	y++
	put("as it stands", e.Raw, dim)
	return y
}
