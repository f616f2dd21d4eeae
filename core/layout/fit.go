package layout

import (
	"fmt"
	"time"

	"dimlantern/core/entry"
)

// Fit is how well a layout divides entries.
type Fit struct {
	Of    int           // entries
	Fits  int           // of them that the layout divides
	Timed int           // of them of which a time was read
	First entry.Instant // the earliest of those times, and
	Last  entry.Instant // the latest; both entry.None where there is none
}

// FitOf divides entries by a layout, one after the other. Near is about when they were
// written; what names the columns of others is no entry.
func FitOf(l *Layout, entries []string, near entry.Instant) Fit {
	d := &Divider{Layout: l}
	f := Fit{First: entry.None, Last: entry.None}
	var v Division
	for _, e := range entries {
		if l.Headed() && d.See([]byte(e)) {
			continue
		}
		f.Of++
		d.DivideInto(&v, []byte(e), near)
		if v.Fits {
			f.Fits++
		}
		if v.Timed {
			f.Timed++
			if f.First == entry.None || v.At < f.First {
				f.First = v.At
			}
			f.Last = entry.Later(f.Last, v.At)
		}
	}
	return f
}

// In puts a fit into words, with times of a zone: how many entries fit, how many of them
// have a time, and in which span.
func (f Fit) In(zone *time.Location) string {
	return fmt.Sprintf("%d of %d entries fit, %s", f.Fits, f.Of, f.Times(zone))
}

// Times says how many entries have a time, and in which span, in a zone; "" where there is no
// entry.
func (f Fit) Times(zone *time.Location) string {
	switch {
	case f.Of == 0:
		return ""
	case f.Timed == 0:
		return "none has a time"
	}
	first, last := f.First.Time().In(zone), f.Last.Time().In(zone)
	const day, minute = "2006-01-02", "15:04"
	span := first.Format(day + " " + minute)
	if end := last.Format(day + " " + minute); end != span {
		if last.Format(day) == first.Format(day) {
			end = last.Format(minute)
		}
		span += " to " + end
	}
	how := fmt.Sprintf("%d have a time", f.Timed)
	if f.Timed == f.Of {
		how = "all have a time"
	}
	return how + ", " + span
}
