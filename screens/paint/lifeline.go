package paint

import (
	"time"

	"dimlantern/api"

	"dimlantern/core/entry"
)

// Axis is the time axis of a screen: which instants stand in which columns.
type Axis struct {
	X       int // where its first column stands
	Columns int
	From    entry.Instant
	Column  time.Duration
	Lamp    entry.Instant
}

// ColumnOf is the column of an instant, counted from the axis's first; it may
// lie outside.
func (a Axis) ColumnOf(t entry.Instant) int {
	if t < a.From {
		return -1
	}
	return int(t.Sub(a.From) / a.Column)
}

// At is the instant at which a column ends, or the lamp's where that is earlier.
func (a Axis) At(column int) entry.Instant {
	return a.From.Add(time.Duration(column+1) * a.Column)
}

var bars = []string{"▂", "▃", "▄", "▅", "▆", "▇", "█"}
var stirs = []string{"⡀", "⡄", "⡆", "⡇"}

// Lifeline draws what happened to a key: dots while all was quiet and seen, small
// dots for hits that did not suffice, a bar from raised to cleared, higher where
// more hits fell and brighter from where it worsened, and the mark of how it
// ended.
func (c *Canvas) Lifeline(y int, a Axis, l api.Life, p Palette, base Style) {
	lamp := min(a.ColumnOf(a.Lamp), a.Columns-1)
	most := 4
	for _, n := range l.Hits {
		most = max(most, n)
	}
	hits := func(k int) int {
		if k < len(l.Hits) {
			return l.Hits[k]
		}
		return 0
	}
	for k := 0; k <= lamp; k++ {
		switch n := hits(k); {
		case n > 0:
			c.Put(a.X+k, y, base.With(p.Stir), stirs[min(n, len(stirs))-1])
		default:
			c.Put(a.X+k, y, base.With(p.Rule), "·")
		}
	}
	for _, d := range l.Dark {
		to := lamp
		if d.To != entry.None {
			to = min(a.ColumnOf(d.To), lamp)
		}
		for k := max(a.ColumnOf(d.From), 0); k <= to; k++ {
			c.Put(a.X+k, y, base.With(p.Blind), "╱")
		}
	}
	for _, s := range l.Alerts {
		c.alert(y, a, s, lamp, hits, most, l.Untold, p, base)
	}
}

// within tells whether a column lies in one of some stretches of time, up to the lamp.
func (a Axis) within(k int, spans []api.Span) bool {
	for _, s := range spans {
		if a.ColumnOf(s.From) <= k && (s.To == entry.None || k < max(a.ColumnOf(s.To), a.ColumnOf(s.From)+1)) {
			return true
		}
	}
	return false
}

func (c *Canvas) alert(y int, a Axis, s api.Span, lamp int, hits func(int) int, most int, untold []api.Span,
	p Palette, base Style) {
	from, to := a.ColumnOf(s.From), lamp
	over := s.To != entry.None && s.To <= a.Lamp
	if over {
		if to = a.ColumnOf(s.To); to > from {
			to--
		}
		to = min(to, lamp)
	}
	before := entry.Severity(0)
	for k := max(from, 0); k <= to; k++ {
		sev := entry.Severity(0)
		for _, st := range s.Steps {
			if a.ColumnOf(st.At) <= k {
				sev = max(sev, st.Severity)
			}
		}
		if sev == 0 && len(s.Steps) > 0 {
			sev = s.Steps[0].Severity
		}
		mark := bars[0]
		if n := hits(k); n > 0 {
			mark = bars[1+min((len(bars)-2)*n/most, len(bars)-2)]
		}
		if p.Mono && before > 0 && sev > before {
			mark = "▲"
		}
		style := base.With(p.Severity[sev])
		if a.within(k, untold) {
			mark, style = "░", base.With(p.Severity[sev].Mix(p.Ground))
		}
		c.Put(a.X+k, y, style, mark)
		before = sev
	}
	// What ended in the lamp's own column has its mark there.
	if end := min(to+1, lamp); over && end >= 0 && a.ColumnOf(s.To) <= lamp {
		mark := "┊"
		if s.Why == "recovery" || s.Why == "heard" || s.Why == "eased" {
			mark = "┃"
		}
		c.Put(a.X+end, y, base.With(p.Over), mark)
	}
}

var heights = []string{" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"}

// Tide draws how many entries arrived when, in rows rows above y (y is the lowest
// one). What lies behind the lamp is only hinted at.
func (c *Canvas) Tide(y, rows int, a Axis, tide []int64, p Palette, base Style) {
	most := int64(1)
	for _, n := range tide {
		most = max(most, n)
	}
	lamp := a.ColumnOf(a.Lamp)
	for k, n := range tide {
		if n == 0 {
			continue
		}
		s := base.With(p.Tide)
		if k > lamp {
			s = base.With(p.Rule)
		}
		level := max(1, int(n*int64(8*rows)/most))
		for r := range rows {
			if l := min(max(level-8*r, 0), 8); l > 0 {
				c.Put(a.X+k, y-r, s, heights[l])
			}
		}
	}
}

// steps are the distances of an axis's labels.
var steps = []time.Duration{time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 20 * time.Minute,
	30 * time.Minute,
	time.Hour, 2 * time.Hour, 3 * time.Hour, 6 * time.Hour, 12 * time.Hour, 24 * time.Hour, 48 * time.Hour,
	7 * 24 * time.Hour, 28 * 24 * time.Hour}

// Tick is a label of an axis.
type Tick struct {
	Column int
	Text   string
}

// Ticks are the labels of the axis, at least that many columns apart, at whole
// times of day in the machine's zone.
func (a Axis) Ticks(apart int) []Tick {
	step := steps[len(steps)-1]
	for _, s := range steps {
		if int(s/a.Column) >= apart {
			step = s
			break
		}
	}
	first := time.Unix(0, int64(a.From))
	midnight := time.Date(first.Year(), first.Month(), first.Day(), 0, 0, 0, 0, time.Local)
	var out []Tick
	for t := midnight; ; t = t.Add(step) {
		k := a.ColumnOf(entry.Of(t))
		if k >= a.Columns {
			return out
		}
		if k < 0 || k == 0 && t.Before(first) {
			continue
		}
		text := t.Format("15:04")
		if step >= 24*time.Hour {
			text = t.Format("2 Jan")
		}
		out = append(out, Tick{k, text})
	}
}

// Labels writes the axis's labels into a row, and leaves the columns [from, to) to others.
func (c *Canvas) Labels(y int, a Axis, s Style, from, to int) {
	free := a.X
	for _, t := range a.Ticks(14) {
		x := a.X + t.Column - 2
		if x < to && x+len(t.Text) > from {
			continue
		}
		if x >= free && x+len(t.Text) <= a.X+a.Columns {
			free = c.Put(x, y, s, t.Text) + 1
		}
	}
}

// Line draws the axis itself, with its ticks.
func (c *Canvas) Line(y int, a Axis, s Style) {
	c.Rule(a.X, y, a.Columns, s, false)
	for _, t := range a.Ticks(14) {
		c.Put(a.X+t.Column, y, s, "┬")
	}
}
