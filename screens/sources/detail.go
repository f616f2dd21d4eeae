package sources

import (
	"cmp"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	"github.com/charmbracelet/x/ansi"
)

// drawDetail draws what is known of the chosen origin, and its newest entries.
func (r *Room) drawDetail(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	if out := r.chosenOut(); out != nil {
		drawOutDetail(c, top, bottom, out, p, base)
		return
	}
	s, o := r.Chosen()
	e := r.entries
	if s != nil && o == nil {
		drawBare(c, top, bottom, s, p, base)
	}
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
	if len(e.Lines) > 0 && e.Words != "" {
		head = e.Words
	}
	c.Cut(x, y, c.W-x-1, dim, head)
	free := bottom - y - 2
	names, _ := (&room.EntryList{Lines: e.Lines}).Values(4)
	r.drawEntries(c, x, y+1, c.W-x-1, y+1+max(free-len(names)-2, 3), e, p, base)
	y = bottom - len(names) - 1
	if len(names) > 0 && y > top+6 {
		c.Put(x, y, dim, fmt.Sprintf("values in the last %d entries", e.Looked))
		for i, f := range names {
			c.Cut(x, y+1+i, 12, base, f)
			c.Put(x+13, y+1+i, dim, fmt.Sprintf("%d different", e.Values[f]))
		}
	}
}

// drawBare draws what is known of a source of which nothing is read.
func drawBare(c *paint.Canvas, y, bottom int, s *api.SourceView, p paint.Palette, base paint.Style) {
	room.DrawHead(c, y, s.Name, "", p)
	y += 2
	for _, x := range []struct {
		label, text string
		style       paint.Style
	}{{"reads", s.Where, base}, {"state", cmp.Or(s.Words, "nothing has come of it yet"), base.With(p.Blind)},
		{"mend", s.Mend, base.With(p.Over)}, {"layout", s.Layout, base},
		{"rules", cmp.Or(strings.Join(s.Rules, ", "), "none yet"), base.With(p.Dim)}} {
		for i, part := range room.Wrap(x.text, c.W-12) {
			if x.text == "" || y >= bottom {
				break
			}
			if i == 0 {
				c.Put(1, y, base.With(p.Dim), x.label)
			}
			c.Cut(9, y, c.W-10, x.style, part)
			y++
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
			fmt.Sprintf("%s behind ours; taken off its entries' times",
				entry.RoughSpan(o.State.Skew.Truncate(time.Second))))
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
	if k := s.Cost; k != nil && k.Most > 0 {
		short := func(d time.Duration) time.Duration { return d.Round(10 * time.Microsecond) }
		put("cost", dim, fmt.Sprintf("%s a minute to read, %s at most; of that %s to divide its entries", short(k.P95),
			short(k.Most), short(k.DividingP95)))
		if x := k.Slow; x != nil {
			put("slowest", dim, fmt.Sprintf("%s for %s", x.Took.Round(time.Microsecond), entry.Visible(x.Text)))
		}
	}
	rules := "none yet"
	if len(s.Rules) > 0 {
		rules = strings.Join(s.Rules, ", ")
	}
	put("rules", dim, rules)
}

// named draws an entry with all that it says by name, and returns the next line.
func named(c *paint.Canvas, x, y, width, bottom int, l *api.EntryView, p paint.Palette, base paint.Style) int {
	for i, part := range strings.Split(ansi.Wrap(room.Clock(l.At)+"  "+entry.Visible(l.Text), max(width-2, 10), ""),
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

// drawEntries draws entries newest first.
func (r *Room) drawEntries(c *paint.Canvas, x, y, width, bottom int, e *api.Entries, p paint.Palette,
	base paint.Style) {
	if len(e.Lines) == 0 {
		c.Cut(x, y, width, base.With(p.Dim), e.Words)
		return
	}
	r.scroll = min(max(r.scroll, 0), max(len(e.Lines)-1, 0))
	if rows := bottom - y - 1; r.full || !r.inside {
		r.first = r.scroll
	} else {
		r.first = max(min(r.first, r.scroll), r.scroll-rows+1, 0)
	}
	if !r.full {
		list := room.EntryList{Lines: e.Lines, First: r.first, Chosen: -1, Now: time.Now()}
		if r.inside {
			list.Chosen = r.scroll
			list.Origin = r.search.origins()
		}
		list.Draw(c, x, y, width, bottom, p)
		return
	}
	for _, l := range e.Lines[r.first:] {
		if y >= bottom {
			return
		}
		style := base
		if !l.Fits {
			style = base.With(p.Severity[entry.Warning])
		}
		if e.Named && l.Fits {
			y = named(c, x, y, width, bottom, &l, p, base)
			continue
		}
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
	}
}

// drawInside draws the entries of the chosen origin alone, or those that were found.
func (r *Room) drawInside(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	s, o := r.Chosen()
	if o == nil {
		return
	}
	at := 1
	if r.search == nil || r.search.where == api.InOrigin {
		at = c.Put(at, top, base.With(p.Strong).Strong(), label(s, o))
		at = c.Put(at+2, top, base.With(p.Dim), "of "+s.Name)
	}
	e := r.listed()
	if e == nil || e.Origin != o.Name {
		return
	}
	if r.search != nil {
		r.search.drawHead(c, at, top, s.Name, p, base)
		r.drawEntries(c, 1, top+2, c.W-2, bottom, e, p, base)
		return
	}
	words := fmt.Sprintf("newest first, %d of the last %d entries", e.Shown, e.Looked)
	if r.misfits {
		words += " do not fit the layout " + e.Layout
	}
	if len(e.Lines) > 0 && e.Words != "" {
		words = e.Words
	}
	if r.first > 0 {
		words += fmt.Sprintf("; %d newer above", r.first)
	}
	c.Cut(at+3, top, c.W-at-4, base.With(p.Dim), words)
	r.drawEntries(c, 1, top+2, c.W-2, bottom, e, p, base)
}
