package watch

import (
	"fmt"
	"strings"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"
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
	if d != nil {
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
	r.left(c, 1, top+2, middle-2, bottom, x, d, p, base)
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

// evidence draws the lines around the hits, newest first, with matches lit.
func (r *Room) evidence(c *paint.Canvas, x0, y, width, bottom int, d *api.Detail, p paint.Palette, base paint.Style) {
	if len(d.Lines) == 0 {
		if d.Unread != "" {
			c.Cut(x0, y, width, base.With(p.Dim), d.Unread)
		}
		return
	}
	head := "what " + d.Host + " said, newest first"
	if r.scroll > 0 {
		head += fmt.Sprintf("; %d newer above", min(r.scroll, len(d.Lines)-1))
	}
	if d.Unread != "" {
		head += "; " + d.Unread
	}
	c.Cut(x0, y, width, base.With(p.Dim), head)
	y++
	r.scroll = min(max(r.scroll, 0), max(len(d.Lines)-1, 0))
	for _, l := range d.Lines[r.scroll:] {
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
		room.DrawLit(c, x0+11, y, width-11, l.Text, l.Lit, style, lit)
		y++
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
		c.Cut(0, y, c.W, base.With(p.Dim), d.Advise)
		y++
	}
	room := bottom - y
	y = r.left(c, 0, y, c.W, min(bottom, y+room/2), x, &api.Detail{Clears: d.Clears, Story: d.Story}, p, base)
	r.evidence(c, 0, min(y+1, bottom-2), c.W, bottom, d, p, base)
}
