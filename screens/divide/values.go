package divide

import (
	"fmt"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/screens/paint"

	"github.com/charmbracelet/x/ansi"
	"github.com/dustin/go-humanize"
)

// drawText draws the layout as it will be written.
func (w *Page) drawText(c *paint.Canvas, top, bottom, width int, p paint.Palette, base paint.Style) {
	v := w.view
	dim := base.With(p.Dim)
	c.Rule(1, top, 2, base.With(p.Rule), false)
	title := "the layout, as it is written"
	if v.Changed {
		title = "the layout, as it will be written"
	}
	if w.writing {
		title = "the layout, written by hand"
	}
	at := c.Put(4, top, base.With(p.Strong).Strong(), title)
	at = c.Cut(at+2, top, width-at-4, dim, "in "+v.File)
	c.Rule(at+1, top, width-at-2, base.With(p.Rule), false)
	y := top + 1
	words, style := w.note, base.With(p.Severity[entry.Warning])
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
	if w.writing {
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
func (w *Page) clause(c *paint.Canvas, x, y, width int, line string, p paint.Palette, base paint.Style) {
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
func (w *Page) drawArea(c *paint.Canvas, top, bottom, width int, p paint.Palette, base paint.Style) {
	lines := strings.Split(w.area.Value(), "\n")
	row, col := w.area.Line(), w.area.LineInfo().StartColumn+w.area.LineInfo().ColumnOffset
	rows := max(bottom-top, 1)
	first := max(0, row-rows+1)
	for i := first; i < len(lines) && i < first+rows; i++ {
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

// drawValues draws the fields with how many entries have them, and the values of the one
// that is pointed at.
func (w *Page) drawValues(c *paint.Canvas, x, top, bottom int, p paint.Palette, base paint.Style) {
	v := w.view
	dim, width := base.With(p.Dim), c.W-x-2
	c.Rule(x, top, 2, base.With(p.Rule), false)
	y := top + 1
	if f := v.Values; f != nil && f.Name == w.field {
		at := c.Put(x+3, top, base.With(p.Strong).Strong(), f.Name)
		c.Rule(at+1, top, c.W-at-2, base.With(p.Rule), false)
		words := fmt.Sprintf("%s, in %s of %s entries, %s different", f.Type, humanize.Comma(int64(f.Entries)),
			humanize.Comma(int64(v.Looked)),
			humanize.Comma(int64(f.Distinct)))
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
			if y >= bottom-rare-min(rare, 1) {
				break
			}
			share := float64(t.Count) / float64(max(f.Entries, 1))
			c.Cut(x, y, width-bar-18, base, entry.Visible(t.Value))
			c.Put(c.W-bar-18, y, dim, fmt.Sprintf("%8s %5.1f %%", humanize.Comma(int64(t.Count)), 100*share))
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
		c.Cut(x+29, y, width-29, dim, fmt.Sprintf("%s have it, %s different", humanize.Comma(int64(f.Entries)),
			humanize.Comma(int64(f.Distinct))))
		y++
	}
	y++
	for _, m := range v.Misfits {
		if y >= bottom {
			break
		}
		for i, part := range strings.Split(ansi.Wrap(fmt.Sprintf("%s of %s: %s: %s", humanize.Comma(int64(m.Count)),
			humanize.Comma(int64(v.Looked)), m.Reason, entry.Visible(m.Example)), width-2, ""), "\n") {
			if i < 3 && y < bottom {
				c.Cut(x+min(2*i, 2), y, width, base.With(p.Severity[entry.Warning]), part)
				y++
			}
		}
	}
}

func short(f float64) string { return strings.TrimSuffix(fmt.Sprintf("%.4g", f), ".0") }
