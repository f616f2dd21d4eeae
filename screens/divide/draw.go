package divide

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"dimlantern/api"

	"github.com/charmbracelet/x/ansi"

	"dimlantern/core/entry"
	"dimlantern/screens/paint"
)

// Lines is how many lines are worth asking for.
func Lines(height int) int { return max(height, 40) }

// Draw draws the work into rows top to bottom of the canvas (bottom excluded).
func (w *Work) Draw(c *paint.Canvas, top, bottom int, p paint.Palette) {
	base := paint.Style{Fg: p.Text}
	dim, strong := base.With(p.Dim), base.With(p.Strong)
	v := w.View
	at := c.Put(1, top, strong.Strong(), "fields")
	at = c.Put(at+2, top, dim, "of "+w.Label)
	if v == nil {
		c.Put(at+3, top, dim, "reading its entries")
		return
	}
	w.head(c, at+3, top, p, base)
	// The lines above, the layout and the values below.
	wide := c.W >= 100
	text := strings.Count(v.Text, "\n")
	lower := min(max(text+3, 12), max((bottom-top)/2, 8))
	if w.Mode == Writing {
		lower = max(lower, (bottom-top)/2)
	}
	split := bottom - lower
	w.lines(c, top+2, split-1, p, base)
	middle := c.W
	if wide {
		middle = c.W * 55 / 100
	}
	if !wide && w.aside && w.Mode == Pointing {
		w.values(c, 1, split, bottom, p, base)
		return
	}
	w.text(c, split, bottom, middle, p, base)
	if wide {
		for y := split + 1; y < bottom; y++ {
			c.Put(middle, y, base.With(p.Rule), "│")
		}
		w.values(c, middle+2, split, bottom, p, base)
	}
}

// head says which lines are shown, and how many of all fit.
func (w *Work) head(c *paint.Canvas, x, y int, p paint.Palette, base paint.Style) {
	v := w.View
	dim := base.With(p.Dim)
	w.tabs = w.tabs[:0]
	w.drawnAt = y
	for i, name := range Whiches {
		style := dim
		label := name
		if i == w.which {
			style, label = base.With(p.Strong).Strong(), "‹"+name+"›"
		}
		w.tabs = append(w.tabs, [2]int{x, x + len(name) + 2})
		x = c.Put(x, y, style, label) + 2
	}
	what := "looked at"
	if w.wide {
		what = "looked through, all that is there"
	}
	words := fmt.Sprintf("%s %s, of %s", commas(v.Looked), what, shapesOf(v.Shapes))
	if w.filter != "" {
		words = fmt.Sprintf("%s have %s, of %s", commas(v.Looked), w.filter, shapesOf(v.Shapes))
	}
	switch n := v.Looked - v.Fits; {
	case v.Looked == 0:
	case n == 0:
		words += "; all fit"
	default:
		words += fmt.Sprintf("; %s do not fit", commas(n))
	}
	if v.Looked > 0 && v.Timed < v.Looked {
		if v.Timed == 0 {
			words += "; none has a time"
		} else {
			words += fmt.Sprintf("; %s have no time", commas(v.Looked-v.Timed))
		}
	}
	c.Cut(x+1, y, c.W-x-2, dim, words)
}

func shapesOf(n int) string {
	if n == 1 {
		return "one shape"
	}
	return commas(n) + " shapes"
}

// lines draws the entries with their fields; below the chosen one stand the names.
func (w *Work) lines(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	v := w.View
	if len(v.Lines) == 0 {
		words := "no entry has come yet"
		if Whiches[w.which] == "misfits" {
			words = "every entry fits"
		} else if Whiches[w.which] == "odd" {
			words = "no entry is odd: there are large shapes only"
		} else if w.filter != "" {
			words = "no entry has " + w.filter
		}
		c.Put(3, top, base.With(p.Dim), words)
		return
	}
	room := bottom - top - 1
	if w.line < w.top {
		w.top = w.line
	}
	w.top = max(min(w.top, w.line), w.line-room+1, 0)
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
func (w *Work) offset(line string, width int) int {
	_, _, end := w.Selected()
	at := ansi.StringWidth(entry.Visible(line[:min(end, len(line))]))
	if at < width-4 {
		return 0
	}
	return at - width + 8
}

func (w *Work) draw(c *paint.Canvas, y, i int, p paint.Palette, base paint.Style) {
	l := &w.View.Lines[i]
	dim := base.With(p.Dim)
	chosen := i == w.line
	start, end, off := -1, -1, 0
	if chosen {
		c.Ground(0, y, c.W, p.Chosen)
		c.Put(0, y, base.With(p.Severity[entry.Warning]), "▏")
		if p.Mono {
			c.Put(0, y, base, "›")
		}
		_, start, end = w.Selected()
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
func (w *Work) under(c *paint.Canvas, y int, l *api.FieldLine, p paint.Palette, base paint.Style) {
	if l.Misfit != "" {
		c.Cut(2, y, c.W-3, base.With(p.Severity[entry.Warning]), "why not: "+entry.Visible(l.Misfit))
		return
	}
	off := w.offset(l.Raw, c.W-4)
	free := 2
	at := w.FieldAt()
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
		if room := c.W - x - 1; room > 2 {
			c.Put(x, y, base.With(p.Rule), "└")
			free = c.Cut(x+1, y, room-1, style, s.Name)
		}
	}
	if words := fmt.Sprintf("%s of its shape", commas(l.Kin)); free < c.W-len(words)-6 {
		c.Put(c.W-len(words)-1, y, base.With(p.Dim), words)
	}
}

// text draws the layout as it will be written.
func (w *Work) text(c *paint.Canvas, top, bottom, width int, p paint.Palette, base paint.Style) {
	v := w.View
	dim := base.With(p.Dim)
	c.Rule(1, top, 2, base.With(p.Rule), false)
	title := "the layout, as it is written"
	if v.Changed {
		title = "the layout, as it will be written"
	}
	if w.Mode == Writing {
		title = "the layout, written by hand"
	}
	at := c.Put(4, top, base.With(p.Strong).Strong(), title)
	at = c.Cut(at+2, top, width-at-4, dim, "in "+v.File)
	c.Rule(at+1, top, width-at-2, base.With(p.Rule), false)
	y := top + 1
	words, style := w.Note, base.With(p.Severity[entry.Warning])
	if words == "" && len(v.Parts) > 0 && len(w.draft.marks) > 0 {
		var parts []string
		for _, e := range v.Parts {
			parts = append(parts, e.Words)
		}
		words, style = "found by: "+strings.Join(parts, ", then "), dim
	}
	note := 0
	if words != "" {
		note = min(strings.Count(ansi.Wrap(words, max(width-4, 20), ""), "\n")+1, 3)
	}
	if w.Mode == Writing {
		w.area.SetWidth(max(width-4, 20))
		w.area.SetHeight(max(bottom-y-note-1, 3))
		w.drawArea(c, y, bottom-note-1, width, p, base)
		y = bottom - note
	} else {
		lines := strings.Split(strings.TrimRight(v.Text, "\n"), "\n")
		for _, l := range lines {
			for i, part := range wrapped(l, width-4) {
				if y >= bottom-note {
					c.Put(2, bottom-note-1, dim, "…")
					break
				}
				if i == 0 {
					w.clause(c, 2, y, width-4, part, p, base)
				} else {
					c.Cut(2, y, width-4, base, part)
				}
				y++
			}
		}
		y = max(y+1, bottom-note)
		y = min(y, bottom-note)
	}
	if words != "" {
		for _, part := range strings.Split(ansi.Wrap(words, max(width-4, 20), ""), "\n") {
			if y < bottom {
				c.Cut(2, y, width-4, style, part)
				y++
			}
		}
	}
}

// wrapped cuts a line of the layout into what fits side by side; what goes on stands
// under the clause's argument.
func wrapped(line string, width int) []string {
	if ansi.StringWidth(line) <= width {
		return []string{line}
	}
	body := strings.TrimLeft(line, " ")
	hang := strings.Repeat(" ", len(line)-len(body)+2)
	if i := strings.IndexByte(body, ' '); i > 0 {
		hang = strings.Repeat(" ", len(line)-len(strings.TrimLeft(body[i:], " ")))
	}
	r := []rune(line)
	out := []string{string(r[:width])}
	for r = r[width:]; len(r) > 0; {
		n := min(len(r), max(width-len(hang), 8))
		out = append(out, hang+string(r[:n]))
		r = r[n:]
	}
	return out
}

// clause draws a line of the layout: its word, then the rest.
func (w *Work) clause(c *paint.Canvas, x, y, width int, line string, p paint.Palette, base paint.Style) {
	body := strings.TrimLeft(line, " ")
	indent := len(line) - len(body)
	word, rest, _ := strings.Cut(body, " ")
	if strings.HasPrefix(body, "#") {
		c.Cut(x, y, width, base.With(p.Dim), line)
		return
	}
	at := c.Cut(x+indent, y, width-indent, base.Strong(), word)
	if rest != "" {
		c.Cut(at+1, y, x+width-at-1, base, rest)
	}
}

// drawArea draws the text that is being written, with its cursor.
func (w *Work) drawArea(c *paint.Canvas, top, bottom, width int, p paint.Palette, base paint.Style) {
	lines := strings.Split(w.area.Value(), "\n")
	row, col := w.area.Line(), w.area.LineInfo().StartColumn+w.area.LineInfo().ColumnOffset
	room := max(bottom-top, 1)
	first := max(0, row-room+1)
	for i := first; i < len(lines) && i < first+room; i++ {
		y := top + i - first
		off := 0
		if i == row && col > width-8 {
			off = col - width + 8
		}
		r := []rune(lines[i])
		c.Cut(2, y, width-4, base, string(r[min(off, len(r)):]))
		if i == row {
			under := " "
			if col < len(r) {
				under = entry.Visible(string(r[col]))
			}
			style := paint.Style{Fg: p.Ground, Bg: p.Text}
			if p.Mono {
				style, under = base.Strong(), "_"
			}
			c.Put(2+col-off, y, style, under)
		}
	}
}

var steps = []string{"▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"}

// values draws the fields with how many entries have them, and the values of the one
// that is pointed at.
func (w *Work) values(c *paint.Canvas, x, top, bottom int, p paint.Palette, base paint.Style) {
	v := w.View
	dim, width := base.With(p.Dim), c.W-x-2
	c.Rule(x, top, 2, base.With(p.Rule), false)
	y := top + 1
	if f := v.Values; f != nil && f.Name == w.field {
		at := c.Put(x+3, top, base.With(p.Strong).Strong(), f.Name)
		c.Rule(at+1, top, c.W-at-2, base.With(p.Rule), false)
		words := fmt.Sprintf("%s, in %s of %s entries, %s different", f.Type, commas(f.Entries), commas(v.Looked),
			commas(f.Distinct))
		if f.More {
			words += " and more"
		}
		c.Cut(x, y, width, dim, words)
		y += 2
		if n := f.Numbers; n != nil && y+1 < bottom {
			at := x
			most := 1
			for _, k := range n.Histogram {
				most = max(most, k)
			}
			at = c.Put(at, y, dim, short(n.Min)+" ")
			for _, k := range n.Histogram {
				mark := "·"
				if k > 0 {
					mark = steps[min(k*len(steps)/most, len(steps)-1)]
				}
				at = c.Put(at, y, base.With(p.Tide), mark)
			}
			c.Cut(at, y, c.W-at-1, dim, fmt.Sprintf(" %s %s  quartiles %s, %s, %s", short(n.Max), n.Unit, short(n.Q1),
				short(n.Median), short(n.Q3)))
			y += 2
		}
		bar := 12
		rare := min(len(f.Rare), max((bottom-y)/3, 0))
		for _, t := range f.Top {
			if y >= bottom-rare-b2i(rare > 0) {
				break
			}
			share := float64(t.Count) / float64(max(f.Entries, 1))
			c.Cut(x, y, width-bar-18, base, entry.Visible(t.Value))
			c.Put(c.W-bar-18, y, dim, fmt.Sprintf("%8s %5.1f %%", commas(t.Count), 100*share))
			for k := range max(1, int(share*float64(bar)+0.5)) {
				c.Put(c.W-bar-1+k, y, base.With(p.Tide), "▇")
			}
			y++
		}
		if rare > 0 {
			c.Put(x, bottom-rare-1, dim, "rare")
			for i, t := range f.Rare[:rare] {
				at := c.Cut(x+2, bottom-rare+i, width/3, base, entry.Visible(t.Value))
				if len(t.Lines) > 0 {
					c.Cut(max(at+2, x+width/4), bottom-rare+i, c.W-max(at+2, x+width/4)-1, dim,
						entry.Visible(t.Lines[0].Text))
				}
			}
		}
		return
	}
	at := c.Put(x+3, top, base.With(p.Strong).Strong(), "its fields")
	c.Rule(at+1, top, c.W-at-2, base.With(p.Rule), false)
	if len(v.Fields) == 0 {
		c.Cut(x, y, width, dim, "none yet: point at a value and press enter, or d looks what fits")
		y++
	}
	for _, f := range v.Fields {
		if y >= bottom {
			break
		}
		c.Cut(x, y, 18, base, f.Name)
		c.Cut(x+19, y, 9, dim, f.Type)
		c.Cut(x+29, y, width-29, dim, fmt.Sprintf("%s have it, %s different", commas(f.Entries), commas(f.Distinct)))
		y++
	}
	y++
	for _, m := range v.Misfits {
		if y >= bottom {
			break
		}
		for i, part := range strings.Split(ansi.Wrap(fmt.Sprintf("%s of %s: %s: %s", commas(m.Count),
			commas(v.Looked), m.Reason, entry.Visible(m.Example)), width-2, ""), "\n") {
			if i < 3 && y < bottom {
				c.Cut(x+min(2*i, 2), y, width, base.With(p.Severity[entry.Warning]), part)
				y++
			}
		}
	}
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

func short(f float64) string { return strings.TrimSuffix(fmt.Sprintf("%.4g", f), ".0") }

func commas(n int) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// Click points at what was drawn there; ask tells that there is something to ask.
func (w *Work) Click(x, y, top int, extend bool) (ask bool) {
	if w.View == nil || w.Mode != Pointing {
		return false
	}
	if y == w.drawnAt {
		for i, t := range w.tabs {
			if x >= t[0] && x < t[1] && i != w.which {
				w.which, w.line, w.top = i, 0, 0
				return true
			}
		}
		return false
	}
	i := w.top + y - w.drawnAt - 2
	if i > w.line { // the names stand below the chosen line
		i--
	}
	if y < w.drawnAt+2 || i < 0 || i >= len(w.View.Lines) {
		return false
	}
	l := &w.View.Lines[i]
	off := 0
	if i == w.line {
		off = w.offset(l.Raw, 1<<20)
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
	w.keepTokens()
	if f := w.FieldAt(); f != "" && f != w.field {
		w.field = f
		return true
	}
	return false
}

// Keys are where one is, and the keys that matter there.
func (w *Work) Keys(narrow bool) (string, [][2]string) {
	switch w.Mode {
	case Writing:
		return "writing the layout", [][2]string{{"^s", "write it into the settings"}, {"esc", "back to the lines"}}
	case Pointing:
	default:
		return "", nil
	}
	if narrow {
		return "", [][2]string{{"←→", "value"}, {"enter", "name"}, {"v", "values"}, {"t", "type"}, {"u", "undo"},
			{"tab", "lines"}, {"^s", "write"}, {"?", "help"}, {"esc", "back"}}
	}
	return "pointing", [][2]string{{"←→", "value"}, {"shift", "longer"}, {"enter", "name it"}, {"x", "not this"},
		{"t", "type"}, {"d", "detect"}, {"e", "by hand"}, {"u", "undo"}, {"tab", "lines"}, {"/", "find"},
		{"^s", "write"}, {"esc", "back"}, {"?", "help"}}
}

// Asking is what is being typed, and for what; "" where nothing is.
func (w *Work) Asking() (what, input, hint string) {
	switch w.Mode {
	case Naming:
		line, start, end := w.Selected()
		what = "call " + entry.Visible(line[start:min(end, start+40)])
	case Typing:
		what = w.field + " is"
	case Finding:
		return "lines that have", w.Input, "enter show them   esc leave it"
	default:
		return "", "", ""
	}
	hint = "enter   esc leave it"
	if c := w.Completions(); len(c) > 0 {
		hint = "tab " + strings.Join(c[:min(len(c), 6)], ", ") + "   " + hint
	}
	return what, w.Input, hint
}
