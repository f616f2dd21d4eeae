package bench

import (
	"fmt"
	"path/filepath"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"
	"dimlantern/screens/typing"

	"github.com/charmbracelet/x/ansi"
)

// drawText draws the file that is open, with what is wrong below its lines.
func (r *Room) drawText(c *paint.Canvas, x0, top, width, bottom int, p paint.Palette, base paint.Style) {
	name := filepath.Base(r.text.file)
	state := "as it is in the file"
	if r.text.fresh {
		state = "new, not saved"
	} else if r.text.Changed() {
		state = "changed, not saved"
	}
	at := x0
	if v := r.view; v != nil && v.Rule != "" {
		at = c.Cut(x0, top, width/2, base.With(p.Strong).Strong(), v.Rule) + 2
	}
	c.Cut(at, top, x0+width-at, base.With(p.Dim), name+", "+state)
	lines := strings.Split(strings.TrimRight(r.text.Body(), "\n"), "\n")
	cursor := r.text.area.Line
	if cursor >= len(lines) {
		lines = append(lines, make([]string, cursor-len(lines)+1)...)
	}
	notes := map[int][]note{}
	if r.view != nil {
		for _, f := range r.view.Findings {
			what := f.What
			if f.Mend != "" {
				what += "; " + f.Mend
			}
			indent := 5 + min(max(f.Col-1, 0), 12)
			for k, part := range room.Wrap(what, width-indent-3) {
				if k < 3 && (k == 0 || f.Line-1 == cursor) { // in full at the cursor's line
					notes[f.Line-1] = append(notes[f.Line-1], note{part, indent, k == 0, f.Error})
				}
			}
		}
	}
	rows := bottom - top - 1
	least := cursor // the cursor's line is seen, with its findings
	for used := 1 + len(notes[cursor]); least > 0; least-- {
		if used += 1 + len(notes[least-1]); used > rows {
			break
		}
	}
	r.text.top = max(min(r.text.top, cursor), least)
	y := top + 1
	r.geo.textX, r.geo.textY, r.geo.textW = x0, y, width
	drawn := func(line int) { r.geo.lines = append(r.geo.lines, line) }
	rule := r.ruleAt(cursor + 1)
	for i := r.text.top; i < len(lines) && y < bottom; i++ {
		drawn(i)
		number := fmt.Sprintf("%4d ", i+1)
		c.Put(x0, y, base.With(p.Rule), number)
		x := x0 + len(number)
		room := x0 + width - x
		shift := 0
		at := 0                                // where the cursor stands, in cells
		if i == cursor && r.pane == ruleText { // a long line moves along with the cursor
			at = typing.CellsBefore(lines[i], r.text.area.Col)
			shift = max(at-room+2, 0)
		}
		typing.DrawCode(c, x, y, room, lines[i], shift, i+1 >= rule.First && i+1 <= rule.Last, p, base)
		if i == cursor && r.pane == ruleText {
			under := " "
			if runes := []rune(lines[i]); r.text.area.Col < len(runes) {
				under = string(runes[r.text.area.Col])
			}
			style := paint.Style{Fg: p.Ground, Bg: p.Text}
			if p.Mono {
				under, style = "▏", base.Strong()
			}
			c.Put(x+at-shift, y, style, under)
		}
		if i == cursor && i == r.othersAt && r.others != "" {
			from := x + ansi.StringWidth(lines[i]) + 4
			c.Cut(from, y, x0+width-from, base.With(p.Dim), r.others)
		}
		y++
		if words := r.proposed(); i == cursor && len(words) > 0 && y < bottom {
			drawn(-1)
			from := x + max(at-shift-r.view.Typed, 0)
			end := c.Put(from, y, base.With(p.Strong), words[0])
			c.Cut(end+2, y, x0+width-end-2, base.With(p.Dim), strings.Join(words[1:], "  ")+"   tab takes the first")
			y++
		}
		for _, f := range notes[i] {
			if y >= bottom {
				break
			}
			style := base.With(p.Severity[entry.Notice])
			if f.isError {
				style = base.With(p.Severity[entry.Error])
			}
			if f.first {
				c.Put(x0+f.indent, y, style, "╰")
			}
			c.Cut(x0+f.indent+2, y, width-f.indent-3, style, f.text)
			drawn(-1)
			y++
		}
	}
}

// note is a line of what is wrong with a line of the text.
type note struct {
	text           string
	indent         int
	first, isError bool
}
