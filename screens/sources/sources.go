// Package sources is the room that shows what is watched: sources with their
// origins on the common time axis, each with its entries a minute, how far behind
// it is, and its state in words with the mend; and the entries of one of them.
//
// Views come in, drawings go out. It asks nothing itself.
package sources

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dimlantern/api"

	"dimlantern/core/origin"

	"github.com/charmbracelet/x/ansi"

	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/watch"
)

// Room is the room's own state. The zero value is ready.
type Room struct {
	Filter  string
	Inside  bool // the entries of the chosen origin are shown alone
	Full    bool // entries in full, not divided
	Misfits bool // only entries that do not fit the layout
	Scroll  int  // inside, the entry that is chosen
	chosen  string
	first   int // inside, the entry on the first line
	top     int
	rows    []row
	lines   []int // row of each line as it was last drawn, -1 for none
	drawnAt int
}

// row is a source's heading, or an origin.
type row struct {
	source *api.SourceView
	origin *api.OriginView // nil: the heading
}

// Take takes a new view in.
func (r *Room) Take(v *api.SourcesView) {
	r.rows = r.rows[:0]
	for i := range v.Sources {
		s := &v.Sources[i]
		r.rows = append(r.rows, row{source: s})
		for k := range s.Origins {
			o := &s.Origins[k]
			if !r.Inside && r.Filter != "" && !strings.Contains(strings.ToLower(s.Name+" "+o.Name+" "+
				string(o.State.Condition)), strings.ToLower(r.Filter)) {
				continue
			}
			r.rows = append(r.rows, row{s, o})
		}
	}
	if r.index() < 0 {
		for _, x := range r.rows {
			if x.origin != nil {
				r.chosen = x.origin.Name
				break
			}
		}
	}
}

func (r *Room) index() int {
	return slices.IndexFunc(r.rows, func(x row) bool { return x.origin != nil && x.origin.Name == r.chosen })
}

// Chosen is the chosen origin with its source; nil where there is none.
func (r *Room) Chosen() (*api.SourceView, *api.OriginView) {
	if i := r.index(); i >= 0 {
		return r.rows[i].source, r.rows[i].origin
	}
	return nil, nil
}

// Label is how the chosen origin is called on the screen; "" where there is none.
func (r *Room) Label() string {
	if s, o := r.Chosen(); o != nil {
		return label(s, o)
	}
	return ""
}

// Move chooses the origin that many rows below.
func (r *Room) Move(by int) {
	var list []string
	at := 0
	for _, x := range r.rows {
		if x.origin != nil {
			if x.origin.Name == r.chosen {
				at = len(list)
			}
			list = append(list, x.origin.Name)
		}
	}
	if len(list) > 0 {
		r.chosen, r.Scroll = list[min(max(at+by, 0), len(list)-1)], 0
	}
}

// Click chooses the origin that was drawn there; it answers false where none was.
func (r *Room) Click(y int) bool {
	i := y - r.drawnAt
	if i < 0 || i >= len(r.lines) || r.lines[i] < 0 || r.lines[i] >= len(r.rows) || r.rows[r.lines[i]].origin == nil {
		return false
	}
	r.chosen, r.Scroll = r.rows[r.lines[i]].origin.Name, 0
	return true
}

// Draw draws the room into rows top to bottom of the canvas (bottom excluded).
func (r *Room) Draw(c *paint.Canvas, top, bottom int, v *api.SourcesView, e *api.Entries, a paint.Axis,
	p paint.Palette) {
	base := paint.Style{Fg: p.Text}
	if r.Inside {
		r.inside(c, top, bottom, e, p, base)
		return
	}
	wide := c.W >= 110 && bottom-top >= 24
	split := bottom
	if wide {
		split = top + min(max(r.height()+2, 8), (bottom-top)*13/20)
	}
	r.head(c, top, v, a, p, base)
	r.list(c, top+1, split, a, p, base)
	if wide {
		r.detail(c, split, bottom, e, p, base)
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
	x := c.Put(1, y, base.With(p.Strong).Strong(), countOf(len(v.Sources), "source"))
	c.Cut(x+1, y, a.X-x-2, base.With(p.Dim), fmt.Sprintf("%s, %d seen", countOf(origins, "origin"), seen))
	c.Labels(y, a, base.With(p.Dim), 0, 0)
	note := a.X + a.Columns
	if c.W >= 110 {
		c.Put(note, y, base.With(p.Dim), " a min   behind")
	}
}

func countOf(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// height is how many lines the list has with its gaps.
func (r *Room) height() int {
	n := 0
	for i, x := range r.rows {
		n++
		if x.origin == nil && i > 0 {
			n++
		}
	}
	return n
}

func (r *Room) list(c *paint.Canvas, top, bottom int, a paint.Axis, p paint.Palette, base paint.Style) {
	var lines []int
	for i, x := range r.rows {
		if x.origin == nil && i > 0 {
			lines = append(lines, -1)
		}
		lines = append(lines, i)
	}
	height := bottom - top
	if len(lines) > height { // without gaps it may fit
		lines = slices.DeleteFunc(lines, func(i int) bool { return i < 0 })
	}
	at := slices.Index(lines, r.index())
	if len(lines) <= height {
		r.top = 0
	} else if at >= 0 {
		r.top = min(max(r.top, at-height+2), max(at-1, 0), len(lines)-height)
	}
	lines = lines[min(max(r.top, 0), len(lines)):]
	lines = lines[:min(len(lines), max(height, 0))]
	r.lines, r.drawnAt = lines, top
	for k, i := range lines {
		if i >= 0 {
			r.draw(c, top+k, &r.rows[i], a, p, base)
		}
	}
}

func (r *Room) draw(c *paint.Canvas, y int, x *row, a paint.Axis, p paint.Palette, base paint.Style) {
	if x.origin == nil {
		at := c.Put(1, y, base.Strong(), x.source.Name)
		at = c.Cut(at+2, y, c.W-at-3, base.With(p.Dim), x.source.Where)
		if x.source.Words != "" {
			c.Cut(at+3, y, c.W-at-4, base.With(p.Blind), x.source.Words)
		}
		return
	}
	o := x.origin
	chosen := o.Name == r.chosen
	name := base
	if chosen {
		c.Ground(0, y, c.W, p.Chosen)
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
		return string(o.State.Condition) + " " + ago(o.State.Since), base.With(p.Blind)
	case o.State.Condition == origin.Seen:
		return "", base.With(p.Dim)
	case o.State.Condition == origin.Waiting, o.State.Condition == origin.Resting:
		return string(o.State.Condition), base.With(p.Dim)
	}
	return string(o.State.Condition), base.With(p.Severity[entry.Warning])
}

func ago(t time.Time) string {
	d := time.Since(t)
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%ds", int(d.Seconds()))
	case d < 100*time.Minute:
		return fmt.Sprintf("%dm", int(d.Minutes()))
	}
	return fmt.Sprintf("%dh", int(d.Hours()))
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

// detail draws what is known of the chosen origin, and its newest entries.
func (r *Room) detail(c *paint.Canvas, top, bottom int, e *api.Entries, p paint.Palette, base paint.Style) {
	s, o := r.Chosen()
	if o == nil {
		return
	}
	rule, dim := base.With(p.Rule), base.With(p.Dim)
	c.Rule(1, top, 2, rule, false)
	at := c.Put(4, top, base.With(p.Strong).Strong(), label(s, o))
	at = c.Put(at+2, top, dim, "of "+s.Name)
	c.Rule(at+2, top, c.W-at-4, rule, false)
	middle := c.W * 49 / 100
	for y := top + 1; y < bottom; y++ {
		c.Put(middle, y, rule, "│")
	}
	r.facts(c, top+2, bottom, middle, s, o, p, base)
	if e == nil || e.Origin != o.Name {
		return
	}
	y := top + 1
	x := middle + 3
	head := "its newest entries"
	if len(e.Fields) > 0 {
		head += ", by " + e.Layout
	}
	c.Cut(x, y, c.W-x-1, dim, head)
	room := bottom - y - 2
	values := min(len(e.Fields), 4)
	r.entries(c, x, y+1, c.W-x-1, y+1+max(room-values-2, 3), e, p, base)
	y = bottom - values - 1
	if values > 0 && y > top+6 {
		c.Put(x, y, dim, fmt.Sprintf("values in the last %d entries", e.Looked))
		for i, f := range e.Fields[:values] {
			c.Cut(x, y+1+i, 12, base, f)
			c.Put(x+13, y+1+i, dim, fmt.Sprintf("%d different", e.Values[f]))
		}
	}
}

func (r *Room) facts(c *paint.Canvas, y, bottom, middle int, s *api.SourceView, o *api.OriginView, p paint.Palette,
	base paint.Style) {
	dim := base.With(p.Dim)
	put := func(label string, style paint.Style, text string) {
		first := true
		for _, part := range strings.Split(ansi.Wrap(text, max(middle-12, 20), ""), "\n") {
			if y >= bottom {
				return
			}
			if first {
				c.Put(1, y, dim, label)
			}
			first = false
			c.Cut(9, y, middle-10, style, part)
			y++
		}
	}
	if state, style := stateOf(o, p, base); state != "" {
		words := o.State.Words
		if words == "" {
			words = state
		}
		put("state", style, words)
		if o.State.Mend != "" {
			put("mend", base.With(p.Over), o.State.Mend)
		}
	}
	if s.Way != nil {
		wayFacts(put, s.Way, o, p, base)
	} else {
		put("file", base, o.Path)
	}
	put("read", dim, o.Read)
	if o.Began != "" {
		put("began", dim, o.Began)
	}
	if !o.State.WorstAt.IsZero() {
		put("behind", dim, fmt.Sprintf("%s from written to read; worst %s at %s", lagWords(o.State.Lag),
			lagWords(o.State.Worst), o.State.WorstAt.Format("15:04:05")))
	}
	if o.State.Skew != 0 {
		put("clock", base.With(p.Severity[entry.Warning]),
			fmt.Sprintf("%s behind ours; taken off its entries' times", entry.RoughSpan(o.State.Skew)))
	}
	fits := s.Layout
	if o.State.Looked > 0 && o.State.Misfits == 0 {
		fits += ": fits the newest " + fmt.Sprint(o.State.Looked) + " entries that were looked at"
	}
	put("layout", base, fits)
	if o.State.Misfits > 0 {
		put("", base.With(p.Severity[entry.Warning]), fmt.Sprintf("%d of the newest %d entries that were looked "+
			"at do not fit (m shows them), such as %s", o.State.Misfits, o.State.Looked, o.State.Misfit))
	}
	if o.State.Gaps > 0 {
		put("lost", base.With(p.Severity[entry.Warning]),
			fmt.Sprintf("%d bytes went before they could be read", o.State.Gaps))
	}
	if o.State.Cut > 0 {
		put("cut", base.With(p.Severity[entry.Warning]),
			fmt.Sprintf("%d entries were longer than 1 MiB, and were cut", o.State.Cut))
	}
	rules := "none yet"
	if len(s.Rules) > 0 {
		rules = strings.Join(s.Rules, ", ")
	}
	put("rules", dim, rules)
}

// named draws an entry with all that it says by name, and returns the next line.
func named(c *paint.Canvas, x, y, width, bottom int, l *api.EntryView, p paint.Palette, base paint.Style) int {
	for i, part := range strings.Split(ansi.Wrap(watch.Clock(l.At)+"  "+entry.Visible(l.Text), max(width-2, 10), ""),
		"\n") {
		if y >= bottom {
			return y
		}
		if i == 0 {
			c.Put(x, y, base.With(p.Rule), "·")
		}
		c.Cut(x+2, y, width-2, base, part)
		y++
	}
	at := x + 4
	for _, f := range l.Fields {
		value := entry.Visible(f.Value)
		if f.Name == "text" || f.Name == "at" || value == "" {
			continue
		}
		need := ansi.StringWidth(f.Name) + 1 + ansi.StringWidth(value)
		if at > x+4 && at+need > x+width {
			y, at = y+1, x+4
		}
		if y >= bottom {
			return y
		}
		at = c.Cut(at, y, x+width-at, base.With(p.Dim), f.Name) + 1
		at = c.Cut(at, y, x+width-at, base, value) + 3
	}
	return y + 2
}

// wayFacts says how the entries of an origin come that exist nowhere else.
func wayFacts(put func(string, paint.Style, string), w *api.WayView, o *api.OriginView, p paint.Palette,
	base paint.Style) {
	warn := base.With(p.Severity[entry.Warning])
	put("from", base, o.Way)
	for _, x := range w.State.Senders {
		if x.Name != o.Way {
			continue
		}
		words := fmt.Sprintf("%d came since the start", x.Received)
		if x.Streams > 0 {
			words += fmt.Sprintf("; %d connections are open", x.Streams)
		}
		if x.Note != "" {
			words += "; " + x.Note
		}
		put("", base.With(p.Dim), words)
		if x.Dropped > 0 {
			put("lost", warn, fmt.Sprintf("%d were dropped for want of room", x.Dropped))
		}
	}
	if w.State.Lost > 0 {
		put("lost", warn, fmt.Sprintf("%d datagrams were dropped by the system before they could be read; from "+
			"whom is not known", w.State.Lost))
	}
	if w.Waiting > 0 {
		put("waiting", warn, fmt.Sprintf("%d entries wait until they can be kept", w.Waiting))
	}
	where := "in " + filepath.Dir(o.Path)
	if k := o.Kept; k != nil && k.Entries > 0 {
		where = fmt.Sprintf("%d entries since %s, %d kB, %s", k.Entries,
			time.Unix(0, int64(k.First)).Format("2006-01-02 15:04"), (k.Bytes+999)/1000, where)
	}
	put("kept", base.With(p.Dim), where)
}

// entries draws entries newest first: their time, their fields, their text.
func (r *Room) entries(c *paint.Canvas, x, y, width, bottom int, e *api.Entries, p paint.Palette, base paint.Style) {
	if len(e.Lines) == 0 {
		c.Cut(x, y, width, base.With(p.Dim), e.Words)
		return
	}
	fields := e.Fields
	if width < 60 || r.Full {
		fields = nil
	}
	if len(fields) > 3 {
		fields = fields[:3]
	}
	widths := map[string]int{}
	for _, l := range e.Lines[:min(len(e.Lines), 200)] {
		for _, f := range l.Fields {
			widths[f.Name] = min(max(widths[f.Name], ansi.StringWidth(f.Value), len(f.Name)), 14)
		}
	}
	r.Scroll = min(max(r.Scroll, 0), max(len(e.Lines)-1, 0))
	if rows := bottom - y - 1; r.Full || !r.Inside {
		r.first = r.Scroll
	} else {
		r.first = max(min(r.first, r.Scroll), r.Scroll-rows+1, 0)
	}
	lines := e.Lines[min(r.first, len(e.Lines)-1):]
	if !r.Full {
		at := c.Put(x, y, base.With(p.Dim), "at") + 8
		for _, f := range fields {
			c.Cut(at, y, widths[f], base.With(p.Dim), f)
			at += widths[f] + 2
		}
		c.Put(at, y, base.With(p.Dim), "text")
		y++
	}
	for row, l := range lines {
		if y >= bottom {
			return
		}
		if r.Inside && r.first+row == r.Scroll {
			c.Ground(0, y, c.W, p.Chosen)
			if p.Mono {
				c.Put(0, y, base.Strong(), "›")
			}
		}
		style := base
		if !l.Fits {
			style = base.With(p.Severity[entry.Warning])
		}
		if r.Full && e.Named && l.Fits {
			y = named(c, x, y, width, bottom, &l, p, base)
			continue
		}
		if r.Full {
			for i, part := range strings.Split(ansi.Hardwrap(entry.Visible(l.Raw), max(width-2, 10), true), "\n") {
				if y >= bottom {
					return
				}
				if i == 0 {
					c.Put(x, y, base.With(p.Rule), "·")
				}
				c.Cut(x+2, y, width-2, style, part)
				y++
			}
			continue
		}
		c.Put(x, y, base.With(p.Dim), watch.Clock(l.At))
		at := x + 10
		for _, f := range fields {
			for _, v := range l.Fields {
				if v.Name == f {
					c.Cut(at, y, widths[f], base.With(p.Dim), v.Value)
				}
			}
			at += widths[f] + 2
		}
		c.Cut(at, y, x+width-at, style, l.Text)
		y++
	}
}

// Entry is the entry that is chosen among those of an origin; nil where there is none.
func (r *Room) Entry(e *api.Entries) *api.EntryView {
	if e == nil || len(e.Lines) == 0 {
		return nil
	}
	return &e.Lines[min(max(r.Scroll, 0), len(e.Lines)-1)]
}

// Keep lets the chosen entry stay chosen where newer ones have come before it.
func (r *Room) Keep(old, now *api.Entries) {
	if !r.Inside || r.Scroll == 0 || old == nil || now == nil || old.Origin != now.Origin {
		return
	}
	was := r.Entry(old)
	if was == nil {
		return
	}
	for i := range now.Lines {
		if x := &now.Lines[i]; i >= r.Scroll && x.At == was.At && x.Raw == was.Raw {
			r.first += i - r.Scroll
			r.Scroll = i
			return
		}
	}
}

// inside draws the entries of the chosen origin alone.
func (r *Room) inside(c *paint.Canvas, top, bottom int, e *api.Entries, p paint.Palette, base paint.Style) {
	s, o := r.Chosen()
	if o == nil {
		return
	}
	at := c.Put(1, top, base.With(p.Strong).Strong(), label(s, o))
	at = c.Put(at+2, top, base.With(p.Dim), "of "+s.Name)
	if e == nil || e.Origin != o.Name {
		return
	}
	words := fmt.Sprintf("newest first, %d of the last %d entries", e.Shown, e.Looked)
	if r.Misfits {
		words += " do not fit the layout " + e.Layout
	}
	if r.Filter != "" {
		words += " have " + r.Filter
	}
	if r.first > 0 {
		words += fmt.Sprintf("; %d newer above", r.first)
	}
	c.Cut(at+3, top, c.W-at-4, base.With(p.Dim), words)
	r.entries(c, 1, top+2, c.W-2, bottom, e, p, base)
}
