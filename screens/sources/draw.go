package sources

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/dustin/go-humanize"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/origin"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"
)

// Draw is part of room.Room.
func (r *Room) Draw(c *paint.Canvas, top, bottom int) {
	v, a, p := r.view, r.stage.Axis(), r.stage.Palette
	if v == nil {
		return
	}
	base := paint.Style{Fg: p.Text}
	if r.inside {
		r.drawInside(c, top, bottom, p, base)
		return
	}
	wide := c.W >= 110 && bottom-top >= 24
	split := bottom
	if wide {
		split = top + min(max(r.height()+3, 8), (bottom-top)*13/20)
	}
	r.head(c, top, v, a, p, base)
	list := top + 1
	if wide && v.Sources != nil {
		r.today(c, list, v, p, base)
		list++
	}
	r.list(c, list, split, a, p, base)
	if wide {
		r.drawDetail(c, split, bottom, p, base)
	}
}

func (r *Room) head(c *paint.Canvas, y int, v *api.SourcesView, a paint.Axis, p paint.Palette, base paint.Style) {
	origins, seen := 0, 0
	for _, s := range v.Sources {
		for _, o := range s.Origins {
			origins++
			if !o.Blind {
				seen++
			}
		}
	}
	x := c.Put(1, y, base.With(p.Strong).Strong(), room.Count(len(v.Sources), "source"))
	c.Cut(x+1, y, a.X-x-2, base.With(p.Dim), fmt.Sprintf("%s, %d seen", room.Count(origins, "origin"), seen))
	c.Labels(y, a, base.With(p.Dim), 0, 0)
	note := a.X + a.Columns
	if c.W >= 110 {
		c.Put(note, y, base.With(p.Dim), " a min   behind")
	}
}

// leastWhere is how much is said at least of where entries come from.
const leastWhere = 24

// busiest is how many sources are named that say most.
const busiest = 5

// today says how much was said since midnight, and by which sources most.
func (r *Room) today(c *paint.Canvas, y int, v *api.SourcesView, p paint.Palette, base paint.Style) {
	dim := base.With(p.Dim)
	all, bytes := int64(0), int64(0)
	list := make([]*api.SourceView, 0, len(v.Sources))
	for i := range v.Sources {
		all += v.Sources[i].Today
		bytes += v.Sources[i].Bytes
		if v.Sources[i].Today > 0 {
			list = append(list, &v.Sources[i])
		}
	}
	slices.SortStableFunc(list, func(a, b *api.SourceView) int { return cmp.Compare(b.Today, a.Today) })
	x := c.Put(1, y, dim, room.Count(all, "entry")+", "+humanize.Bytes(uint64(bytes))+" since midnight")
	for i, s := range list[:min(len(list), busiest)] {
		if i == 0 {
			x = c.Cut(x, y, c.W-x, dim, "; most by")
		}
		x = c.Cut(x+2, y, max(c.W-x-3, 0), base, s.Name)
		x = c.Cut(x+1, y, max(c.W-x-2, 0), dim, humanize.Comma(s.Today))
	}
}

// heads tells whether a row is a heading.
func (x *row) heads() bool { return x.origin == nil && x.out == nil }

// height is how many lines the list has with its gaps.
func (r *Room) height() int {
	n := 0
	for i, x := range r.rows {
		n++
		if x.heads() && i > 0 {
			n++
		}
	}
	return n
}

func (r *Room) list(c *paint.Canvas, top, bottom int, a paint.Axis, p paint.Palette, base paint.Style) {
	var lines []int
	for i, x := range r.rows {
		if x.heads() && i > 0 {
			lines = append(lines, -1)
		}
		lines = append(lines, i)
	}
	lines = room.Window(lines, r.index(), bottom-top, &r.top)
	r.lines, r.drawnAt = lines, top
	if len(r.rows) == 0 && r.filter == "" && r.stage.View != nil && r.stage.View.Shared {
		c.Put(1, top+1, base.With(p.Dim),
			"This machine itself reads no log: + brings one in, 5 shows its hosts.")
	}
	for k, i := range lines {
		if i >= 0 {
			r.draw(c, top+k, &r.rows[i], a, p, base)
		}
	}
}

func (r *Room) draw(c *paint.Canvas, y int, x *row, a paint.Axis, p paint.Palette, base paint.Style) {
	switch {
	case x.out != nil:
		r.drawOut(c, y, x.out, a, p, base)
		return
	case x.source == nil:
		c.Put(1, y, base.Strong(), x.head)
		return
	}
	if x.origin == nil {
		if x.name() != "" && x.name() == r.chosen {
			room.Choose(c, 0, y, p)
			c.Put(0, y, base.With(p.Severity[entry.Warning]), "▏")
		}
		at := c.Put(1, y, base.Strong(), x.source.Name)
		wide := c.W - at - 3
		if words := ansi.StringWidth(x.source.Words); words > 0 { // what is the matter goes before where it is
			wide = max(wide-words-4, min(leastWhere, wide))
		}
		at = c.Cut(at+2, y, wide, base.With(p.Dim), x.source.Where)
		if x.folded > 0 {
			at = c.Cut(at+3, y, c.W-at-4, base.With(p.Rule), fmt.Sprintf("%s not shown: gone, / finds them",
				room.Count(x.folded, "origin")))
		}
		if x.source.Words != "" {
			c.Cut(at+3, y, c.W-at-4, base.With(p.Blind), x.source.Words)
		}
		return
	}
	o := x.origin
	chosen := o.Name == r.chosen
	name := base
	if chosen {
		c.Fill(0, y, c.W, p.Chosen)
		c.Put(0, y, base.With(p.Severity[entry.Warning]), "▏")
		name = base.With(p.Strong).Strong()
	}
	file := label(x.source, o)
	if chosen && p.Mono {
		file = "› " + file
	}
	c.Cut(3, y, a.X-4, name, file)
	lamp := min(a.ColumnOf(a.Lamp), a.Columns-1)
	most := int64(1)
	for _, n := range o.Flow {
		most = max(most, n)
	}
	for k := 0; k <= lamp && k < len(o.Flow); k++ {
		mark := "·"
		style := base.With(p.Rule)
		if n := o.Flow[k]; n > 0 {
			mark, style = bars[min(int(n*int64(len(bars)-1)/most), len(bars)-1)], base.With(p.Tide)
		}
		c.Put(a.X+k, y, style, mark)
	}
	for _, d := range o.Dark {
		to := lamp
		if d.To != entry.None {
			to = min(a.ColumnOf(d.To), lamp)
		}
		for k := max(a.ColumnOf(d.From), 0); k <= to; k++ {
			c.Put(a.X+k, y, base.With(p.Blind), "╱")
		}
	}
	state, style := stateOf(o, p, base)
	x0 := a.X + a.Columns + 1
	if c.W < 110 {
		if state == "" {
			state = fmt.Sprintf("%d a min", o.Minute)
		}
		c.Cut(x0, y, c.W-x0, style, state)
		return
	}
	if !o.Blind {
		c.Put(x0, y, base, fmt.Sprintf("%6d", o.Minute))
		c.Put(x0+8, y, base.With(p.Dim), lagWords(o.State.Lag))
	}
	c.Cut(x0+15, y, c.W-x0-15, style, state)
}

// label is how an origin is called: the name of its file, with as many of its
// folders as tell it from others of its source.
func label(s *api.SourceView, o *api.OriginView) string {
	if o.Way != "" {
		return wayLabel(s, o)
	}
	parts := strings.Split(o.Path, "/")
	for n := 1; n < len(parts); n++ {
		name := strings.Join(parts[len(parts)-n:], "/")
		alone := true
		for _, x := range s.Origins {
			alone = alone && (x.Name == o.Name || !strings.HasSuffix(x.Path, "/"+name))
		}
		if alone {
			return name
		}
	}
	return o.Path
}

// wayLabel calls an origin by its channel, or by who sends; by both where that tells
// it from others.
func wayLabel(s *api.SourceView, o *api.OriginView) string {
	channel := strings.HasPrefix(s.Where, "channel ") && s.Where != "channel journal"
	one, both := o.Host, o.Host+" "+o.Way
	if channel {
		one = o.Way
	}
	for _, x := range s.Origins {
		if x.Name != o.Name && (channel && x.Way == o.Way || !channel && x.Host == o.Host) {
			return both
		}
	}
	return one
}

var bars = []string{"▁", "▂", "▃", "▄", "▅", "▆", "▇"}

// stateOf is what is the matter with an origin, in a word or two; "" where nothing
// is.
func stateOf(o *api.OriginView, p paint.Palette, base paint.Style) (string, paint.Style) {
	switch {
	case o.Blind:
		since := time.Since(o.State.Since).Truncate(time.Second)
		return string(o.State.Condition) + " " + entry.RoughSpan(since), base.With(p.Blind)
	case o.State.Condition == origin.Seen:
		return "", base.With(p.Dim)
	case o.State.Condition == origin.Waiting, o.State.Condition == origin.Resting:
		return string(o.State.Condition), base.With(p.Dim)
	}
	return string(o.State.Condition), base.With(p.Severity[entry.Warning])
}

func lagWords(d time.Duration) string {
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 3*time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 3*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	}
	return fmt.Sprintf("%d h", int(d.Hours()))
}
