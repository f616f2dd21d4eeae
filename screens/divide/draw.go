package divide

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/dustin/go-humanize"
)

// Draw is part of room.Room.
func (w *Page) Draw(c *paint.Canvas, top, bottom int) {
	p := w.stage.Palette
	base := paint.Style{Fg: p.Text}
	dim, strong := base.With(p.Dim), base.With(p.Strong)
	v := w.view
	at := c.Put(1, top, strong.Strong(), "fields")
	at = c.Put(at+2, top, dim, "of "+w.label)
	if v == nil {
		c.Put(at+3, top, dim, "reading its entries")
		return
	}
	w.head(c, at+3, top, p, base)
	// The lines above, the layout and the values below.
	wide := c.W >= 100
	text := strings.Count(v.Text, "\n")
	lower := min(max(text+3, 12), max((bottom-top)/2, 8))
	if w.writing {
		lower = max(lower, (bottom-top)/2)
	}
	split := bottom - lower
	w.lines(c, top+2, split-1, p, base)
	middle := c.W
	if wide {
		middle = c.W * 55 / 100
	}
	if !wide && w.aside && !w.writing {
		w.drawValues(c, 1, split, bottom, p, base)
		return
	}
	w.drawText(c, split, bottom, middle, p, base)
	if wide {
		for y := split + 1; y < bottom; y++ {
			c.Put(middle, y, base.With(p.Rule), "│")
		}
		w.drawValues(c, middle+2, split, bottom, p, base)
	}
}

// head says which lines are shown, and how many of all fit.
func (w *Page) head(c *paint.Canvas, x, y int, p paint.Palette, base paint.Style) {
	v := w.view
	dim := base.With(p.Dim)
	w.drawn.tabs, w.drawn.y, w.drawn.w = w.drawn.tabs[:0], y, c.W
	for i, name := range samples {
		style := dim
		label := name
		if i == w.sample {
			style, label = base.With(p.Strong).Strong(), "‹"+name+"›"
		}
		w.drawn.tabs = append(w.drawn.tabs, [2]int{x, x + len(name) + 2})
		x = c.Put(x, y, style, label) + 2
	}
	what := "looked at"
	if w.wide {
		what = "looked through, all that is there"
	}
	words := fmt.Sprintf("%s %s, of %s", humanize.Comma(int64(v.Looked)), what, room.Count(v.Shapes, "shape"))
	if w.filter != "" {
		words = fmt.Sprintf("%s have %s, of %s", humanize.Comma(int64(v.Looked)), w.filter, room.Count(v.Shapes,
			"shape"))
	}
	switch n := v.Unfit; {
	case v.Looked == 0:
	case n == 0:
		words += "; all fit"
	default:
		words += fmt.Sprintf("; %s do not fit", humanize.Comma(int64(n)))
	}
	if v.Looked > 0 && v.Timed < v.Looked {
		if v.Timed == 0 {
			words += "; none has a time"
		} else {
			words += fmt.Sprintf("; %s have no time", humanize.Comma(int64(v.Looked-v.Timed)))
		}
	}
	c.Cut(x+1, y, c.W-x-2, dim, words)
}

// lines draws the entries with their fields; below the chosen one stand the names.
func (w *Page) lines(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	v := w.view
	if len(v.Lines) == 0 {
		words := "no entry has come yet"
		if samples[w.sample] == "misfits" {
			words = "every entry fits"
		} else if samples[w.sample] == "odd" {
			words = "no entry is odd: there are large shapes only"
		} else if w.filter != "" {
			words = "no entry has " + w.filter
		}
		c.Put(3, top, base.With(p.Dim), words)
		return
	}
	rows := bottom - top - 1
	if w.line < w.top {
		w.top = w.line
	}
	w.top = max(min(w.top, w.line), w.line-rows+1, 0)
	y := top
	for i := w.top; i < len(v.Lines) && y < bottom; i++ {
		w.draw(c, y, i, p, base)
		y++
		if i == w.line && y < bottom {
			w.under(c, y, &v.Lines[i], p, base)
			y++
		}
	}
}

// width is how much of a line is shown at once, and from where on the chosen one is.
func (w *Page) offset(line string, width int) int {
	_, _, end := w.selected()
	at := ansi.StringWidth(entry.Visible(line[:min(end, len(line))]))
	if at < width-4 {
		return 0
	}
	return at - width + 8
}

func (w *Page) draw(c *paint.Canvas, y, i int, p paint.Palette, base paint.Style) {
	l := &w.view.Lines[i]
	dim := base.With(p.Dim)
	chosen := i == w.line
	start, end, off := -1, -1, 0
	if chosen {
		c.Fill(0, y, c.W, p.Chosen)
		c.Put(0, y, base.With(p.Severity[entry.Warning]), "▏")
		if p.Mono {
			c.Put(0, y, base, "›")
		}
		_, start, end = w.selected()
		off = w.offset(l.Raw, c.W-4)
	}
	x := 2 - off
	for k := 0; k < len(l.Raw); {
		in := ""
		next := len(l.Raw)
		for _, s := range l.Spans {
			switch {
			case s.Start <= k && k < s.End:
				if in == "" || s.Name == w.field {
					in = s.Name
				}
				next = min(next, s.End)
			case s.Start > k:
				next = min(next, s.Start)
			}
		}
		if start > k {
			next = min(next, start)
		} else if end > k {
			next = min(next, end)
		}
		style := dim
		switch {
		case in != "" && in == w.field:
			style = base.With(p.Strong).Strong()
		case in != "":
			style = base
		}
		if !l.Fits {
			style = base.With(p.Severity[entry.Warning])
		}
		if chosen && k >= start && k < end {
			style = paint.Style{Fg: p.Ground, Bg: p.Text}
			if p.Mono {
				style = base.Strong()
			}
		}
		text := entry.Visible(l.Raw[k:next])
		if p.Mono && chosen && k == start {
			text = "[" + text
		}
		if p.Mono && chosen && next == end {
			text += "]"
		}
		for _, r := range text {
			if x >= 2 && x < c.W-1 {
				c.Put(x, y, style, string(r))
			}
			x += ansi.StringWidth(string(r))
		}
		k = next
	}
	if x >= c.W-1 {
		c.Put(c.W-1, y, dim, "…")
	}
	if off > 0 {
		c.Put(1, y, dim, "…")
	}
}

// under draws the names of the fields below their values, or why the line does not
// fit.
func (w *Page) under(c *paint.Canvas, y int, l *api.FieldLine, p paint.Palette, base paint.Style) {
	if l.Misfit != "" {
		c.Cut(2, y, c.W-3, base.With(p.Severity[entry.Warning]), "why not: "+entry.Visible(l.Misfit))
		return
	}
	off := w.offset(l.Raw, c.W-4)
	free := 2
	at := w.fieldAt()
	spans := slices.Clone(l.Spans)
	slices.SortStableFunc(spans, func(a, b api.FieldSpan) int { return cmp.Or(a.Start-b.Start, b.End-a.End) })
	for _, s := range spans {
		x := 2 - off + ansi.StringWidth(entry.Visible(l.Raw[:s.Start]))
		if x < free {
			continue
		}
		style := base.With(p.Dim)
		if s.Name == at {
			style = base.With(p.Strong)
		}
		if left := c.W - x - 1; left > 2 {
			c.Put(x, y, base.With(p.Rule), "└")
			free = c.Cut(x+1, y, left-1, style, s.Name)
		}
	}
	if words := fmt.Sprintf("%s of its shape", humanize.Comma(int64(l.Kin))); free < c.W-len(words)-6 {
		c.Put(c.W-len(words)-1, y, base.With(p.Dim), words)
	}
}

// point points at what was drawn there; extend takes what lies between as well.
func (w *Page) point(x, y int, extend bool) tea.Cmd {
	if w.view == nil || w.writing {
		return nil
	}
	if y == w.drawn.y {
		for i, t := range w.drawn.tabs {
			if x >= t[0] && x < t[1] && i != w.sample {
				return w.show(i)
			}
		}
		return nil
	}
	i := w.top + y - w.drawn.y - 2
	if i > w.line { // the names stand below the chosen line
		i--
	}
	if y < w.drawn.y+2 || i < 0 || i >= len(w.view.Lines) {
		return nil
	}
	l := &w.view.Lines[i]
	off := 0
	if i == w.line {
		off = w.offset(l.Raw, w.drawn.w-4)
	}
	w.line = i
	col := x - 2 + off
	for k, t := range tokens(l.Raw) {
		from := ansi.StringWidth(entry.Visible(l.Raw[:t.start]))
		to := ansi.StringWidth(entry.Visible(l.Raw[:t.end]))
		if col >= from && col < to {
			if extend && k >= w.from {
				w.to = k + 1
			} else if extend {
				w.from = k
			} else {
				w.from, w.to = k, k+1
			}
		}
	}
	return w.pointed()
}
