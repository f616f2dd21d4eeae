package watch

import (
	"fmt"
	"slices"
	"strings"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	"github.com/charmbracelet/x/ansi"
)

// drawDetail draws the chosen row's clears, story and evidence side by side.
func (r *Room) drawDetail(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	x, d := r.Chosen(), r.detail
	if x == nil {
		return
	}
	rule := base.With(p.Rule)
	c.Rule(1, top, 2, rule, false)
	at := c.Put(4, top, base.With(p.Strong).Strong(), x.Rule)
	at = c.Cut(at+2, top, 40, base.With(p.Dim), strings.Join(x.Key, " "))
	long := d != nil && ansi.StringWidth(d.Advise) > c.W-at-12
	if d != nil && !long {
		at = c.Cut(at+4, top, c.W-at-12, base.With(p.Dim), d.Advise)
	}
	c.Rule(at+1, top, c.W-at-3, rule, false)
	if d == nil {
		return
	}
	middle := c.W * 36 / 100
	for y := top + 1; y < bottom; y++ {
		c.Put(middle, y, rule, "│")
	}
	y := top + 2
	if long {
		c.Put(1, y, base.With(p.Dim), "first")
		for _, part := range room.Wrap(d.Advise, middle-12) {
			if y < bottom {
				c.Cut(10, y, middle-11, base, part)
				y++
			}
		}
		y++
	}
	r.left(c, 1, y, middle-2, bottom, x, d, p, base)
	r.evidence(c, middle+3, top+1, c.W-middle-4, bottom, d, p, base)
}

// left draws what will clear the alert, and its story.
func (r *Room) left(c *paint.Canvas, x0, y, width, bottom int, x *api.Row, d *api.Detail, p paint.Palette,
	base paint.Style) int {
	over := base.With(p.Over)
	label := "clears"
	if x.Origin != "" {
		label = "why"
		over = base.With(p.Blind)
	}
	for i, s := range d.Clears {
		if y >= bottom {
			return y
		}
		if i == 0 {
			c.Put(x0, y, base.With(p.Dim), label)
		} else if x.Origin == "" {
			s = "or " + s
		}
		for _, part := range room.Wrap(s, width-9) {
			if y < bottom {
				c.Cut(x0+9, y, width-9, over, part)
				y++
			}
		}
	}
	y++
	for _, e := range d.Story {
		if y >= bottom {
			break
		}
		style := base.With(p.Dim)
		switch e.Change {
		case engine.Raised, engine.Worsened:
			style = base.With(p.Severity[min(int(e.Severity), 4)])
		case engine.Cleared:
			style = base.With(p.Over)
		}
		c.Put(x0, y, base.With(p.Dim), room.Clock(e.At))
		end := c.Cut(x0+9, y, width-9, style, e.Text)
		if e.Why != "" && e.Change != engine.Cleared || e.Why != "" {
			c.Cut(max(end+2, x0+32), y, x0+width-max(end+2, x0+32), style, e.Why)
		}
		y++
	}
	if d.RuleAt != "" && y+1 < bottom {
		c.Cut(x0, bottom-1, width, base.With(p.Dim), "rule "+d.RuleAt)
	}
	return y
}

// mostLines is how many lines of an entry are shown.
const mostLines = 12

// litIn are the stretches that lie in the first so many bytes.
func litIn(lit [][2]int, n int) [][2]int {
	var out [][2]int
	for _, m := range lit {
		if m[0] < n {
			out = append(out, [2]int{m[0], min(m[1], n)})
		}
	}
	return out
}

// evidence draws the lines around the hits, newest first, with matches lit.
func (r *Room) evidence(c *paint.Canvas, x0, y, width, bottom int, d *api.Detail, p paint.Palette, base paint.Style) {
	if len(d.Lines) == 0 {
		if d.Unread != "" {
			c.Cut(x0, y, width, base.With(p.Dim), d.Unread)
		}
		return
	}
	// The newest hit stands first; what was said after it lies above.
	hit := max(slices.IndexFunc(d.Lines, func(l api.Evidence) bool { return l.Hit || l.Recovery }), 0)
	r.scroll = min(max(r.scroll, -hit), len(d.Lines)-1-hit)
	head := "what " + d.Host + " said, newest first"
	if above := hit + r.scroll; above > 0 {
		head += fmt.Sprintf("; %d newer above", above)
	}
	if d.Unread != "" {
		head += "; " + d.Unread
	}
	c.Cut(x0, y, width, base.With(p.Dim), head)
	y++
	for _, l := range d.Lines[hit+r.scroll:] {
		if y >= bottom {
			return
		}
		style := base.With(p.Dim)
		switch {
		case l.Hit:
			c.Put(x0, y, base.With(p.Strong).Strong(), "›")
			style = base
		case l.Recovery:
			c.Put(x0, y, base.With(p.Over).Strong(), "›")
			style = base
		}
		c.Cut(x0+2, y, width-2, style, room.Clock(l.At))
		lit := base.With(p.Strong).Strong()
		if l.Recovery {
			lit = base.With(p.Over).Strong()
		}
		for i, text := range strings.Split(l.Text, "\n") { // many lines stay lines
			if y >= bottom || i == mostLines {
				break
			}
			if i == 0 {
				room.DrawLit(c, x0+11, y, width-11, text, litIn(l.Lit, len(text)), style, lit)
			} else {
				c.Cut(x0+13, y, width-13, style, text)
			}
			y++
		}
	}
}

// drawDrawer draws the chosen row's story and evidence over a small screen.
func (r *Room) drawDrawer(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	x, d := r.Chosen(), r.detail
	if x == nil {
		return
	}
	at := c.Put(0, top, base.With(p.Strong).Strong(), x.Rule)
	c.Cut(at+1, top, c.W-at-1, base.With(p.Dim), strings.Join(x.Key, " "))
	if d == nil {
		return
	}
	y := top + 1
	if d.Advise != "" {
		lines := room.Wrap(d.Advise, c.W)
		for _, part := range lines[:min(len(lines), 3)] {
			c.Cut(0, y, c.W, base.With(p.Dim), part)
			y++
		}
	}
	rows := bottom - y
	y = r.left(c, 0, y, c.W, min(bottom, y+rows/2), x, &api.Detail{Clears: d.Clears, Story: d.Story}, p, base)
	r.evidence(c, 0, min(y+1, bottom-2), c.W, bottom, d, p, base)
}
