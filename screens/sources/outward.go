package sources

import (
	"cmp"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"
)

// What goes out to other systems stands below what comes in.

// outName is by what something that goes out is chosen.
func outName(o *api.OutView) string { return o.Kind + " " + o.Name }

// takeOut makes the rows of what goes out.
func (r *Room) takeOut() {
	headed := false
	for i := range r.view.Out {
		o := &r.view.Out[i]
		if r.inside || r.filter != "" && !strings.Contains(strings.ToLower(o.Kind+" "+o.Name+" "+o.Where+" "+o.State),
			strings.ToLower(r.filter)) {
			continue
		}
		if !headed {
			headed = true
			r.rows = append(r.rows, row{head: "going out"})
		}
		r.rows = append(r.rows, row{out: o})
	}
}

// chosenOut is what goes out that is chosen; nil where something else is.
func (r *Room) chosenOut() *api.OutView {
	if i := r.index(); i >= 0 {
		return r.rows[i].out
	}
	return nil
}

// block is the block of the settings that is chosen, and whether it is off; "" is none.
func (r *Room) block() (kind, name string, off bool) {
	if o := r.chosenOut(); o != nil {
		return o.Kind, o.Name, o.Off
	}
	if s, _ := r.Chosen(); s != nil {
		return "source", s.Name, s.Off
	}
	return "", "", false
}

// leastState is how much is said at least of how something that goes out stands.
const leastState = 26

// drawOut draws a row of what goes out: what it is, where to, and how it stands.
func (r *Room) drawOut(c *paint.Canvas, y int, o *api.OutView, a paint.Axis, p paint.Palette, base paint.Style) {
	name := base
	if outName(o) == r.chosen {
		c.Fill(0, y, c.W, p.Chosen)
		c.Put(0, y, base.With(p.Severity[entry.Warning]), "▏")
		name = base.With(p.Strong).Strong()
	}
	label := o.Name
	if outName(o) == r.chosen && p.Mono {
		label = "› " + label
	}
	c.Cut(3, y, a.X-4, name, label)
	state := base.With(p.Dim)
	if o.Trouble {
		state = base.With(p.Severity[entry.Warning])
	}
	wide := a.Columns
	if c.W < 110 { // how it stands goes before where to
		wide = max(c.W-a.X-3-min(ansi.StringWidth(o.State), leastState), 8)
	}
	where := c.Cut(a.X, y, wide, base.With(p.Dim), o.Where)
	x := max(a.X+a.Columns+1, where+2)
	if c.W < 110 || o.Trouble { // what is the matter needs room
		x = where + 2
	}
	c.Cut(x, y, c.W-x-1, state, o.State)
}

// drawOutDetail draws what is known of what goes out.
func drawOutDetail(c *paint.Canvas, y, bottom int, o *api.OutView, p paint.Palette, base paint.Style) {
	kind := map[string]string{"deliver": "a delivery", "measure": "a measure"}[o.Kind]
	room.DrawHead(c, y, o.Name, kind, p)
	y += 2
	trouble := base.With(p.Severity[entry.Warning])
	style := base
	if o.Trouble {
		style = trouble
	}
	lines := []struct {
		label, text string
		style       paint.Style
	}{{"what", o.Where, base}, {"state", cmp.Or(o.Words, o.State), style}, {"mend", o.Mend, base.With(p.Over)}}
	for _, f := range o.Facts {
		lines = append(lines, struct {
			label, text string
			style       paint.Style
		}{"", f, base.With(p.Dim)})
	}
	for _, x := range lines {
		for i, part := range room.Wrap(x.text, c.W-12) {
			if x.text == "" || y >= bottom {
				break
			}
			if i == 0 {
				c.Put(1, y, base.With(p.Dim), x.label)
			}
			c.Cut(10, y, c.W-11, x.style, part)
			y++
		}
	}
}
