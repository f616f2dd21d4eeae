package ask

import (
	"slices"
	"sort"
	"time"

	"dimlantern/core/entry"
)

// Stretch is a stretch of time, half-open.
type Stretch struct{ From, To entry.Instant }

// cover are the stretches in which entries lie no farther apart than the length of a gap. Entries may
// come in any order.
type cover struct {
	longer time.Duration
	list   []Stretch // of first and last entry, in order, more than longer apart
}

func (c *cover) add(at entry.Instant) { c.put(Stretch{at, at}) }

func (c *cover) put(x Stretch) {
	n := len(c.list)
	if n > 0 && x.From >= c.list[n-1].From && x.From <= c.list[n-1].To.Add(c.longer) { // as almost all
		c.list[n-1].To = max(c.list[n-1].To, x.To)
		return
	}
	i := sort.Search(n, func(i int) bool { return c.list[i].To.Add(c.longer) >= x.From })
	j := i
	for ; j < n && c.list[j].From <= x.To.Add(c.longer); j++ {
		x.From, x.To = min(x.From, c.list[j].From), max(x.To, c.list[j].To)
	}
	c.list = slices.Replace(c.list, i, j, x)
}

func (c *cover) merge(o *cover) {
	c.longer = o.longer
	for _, x := range o.list {
		c.put(x)
	}
}

// gaps are the stretches of a span without an entry, longer than the length of a gap, but for what
// could not be seen.
func (c *cover) gaps(s *Span, longer time.Duration, unseen []Stretch) []Stretch {
	var out []Stretch
	begin, end := s.From, entry.None
	keep := func(from, to entry.Instant) {
		for _, x := range without(Stretch{from, to}, unseen) {
			if x.To.Sub(x.From) > longer {
				out = append(out, x)
			}
		}
	}
	for _, x := range c.list {
		keep(begin, x.From)
		begin, end = x.To, x.To
	}
	if end == entry.None || end < s.To {
		keep(begin, s.To)
	}
	return out
}

// without is a stretch without others, which are in order.
func without(x Stretch, others []Stretch) []Stretch {
	var out []Stretch
	for _, o := range others {
		if o.To <= x.From || o.From >= x.To {
			continue
		}
		if o.From > x.From {
			out = append(out, Stretch{x.From, o.From})
		}
		x.From = max(x.From, o.To)
	}
	if x.From < x.To {
		out = append(out, x)
	}
	return out
}
