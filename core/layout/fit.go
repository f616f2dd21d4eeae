package layout

import (
	"fmt"
	"strings"
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

// Times watches whether the times of entries can be read, and when they are. The zero value
// has seen none.
type Times struct {
	Fits    int    // entries that fit a layout which gives a time
	Read    int    // of them of which it was read
	Example string // the time of one of which it was not
	First   entry.Instant
	Last    entry.Instant
}

// Add takes what became of an entry.
func (t *Times) Add(l *Layout, v *Division) {
	if !v.Fits || !l.Timed() {
		return
	}
	t.Fits++
	if !v.Timed {
		if t.Example == "" {
			var parts []string
			for _, name := range l.timeIn {
				if x := fields(v.Fields).get(name); x != "" {
					parts = append(parts, v.Hide(x))
				}
			}
			t.Example = strings.Join(parts, " ")
		}
		return
	}
	if t.Read++; t.Read == 1 || v.At < t.First {
		t.First = v.At
	}
	if t.Read == 1 || v.At > t.Last {
		t.Last = v.At
	}
}

// Unread says of how many entries the time cannot be read; "" where that is one in twenty at
// most.
func (t *Times) Unread() string {
	n := t.Fits - t.Read
	if 20*n <= t.Fits || t.Example == "" && t.Read > 0 {
		return ""
	}
	words := fmt.Sprintf("%d of %d entries have a time that cannot be read", n, t.Fits)
	if t.Example != "" {
		words += ", such as `" + t.Example + "`"
	} else {
		words = fmt.Sprintf("%d of %d entries have no time", n, t.Fits)
	}
	return words
}

// farAway is how far times may lie from when their log was written, before that is told.
const farAway = 330 * 24 * time.Hour

// Far says in which years the times lie, where all of them lie about a year or more from an
// instant, or one lies more than a day behind it; else it is "".
func (t *Times) Far(near entry.Instant) string {
	if t.Read == 0 || near == entry.None {
		return ""
	}
	first, last := t.First.Time().UTC(), t.Last.Time().UTC()
	switch {
	case near.Sub(t.Last) > farAway:
		return fmt.Sprintf("the newest time is of %s", last.Format("2006-01-02"))
	case t.Last.Sub(near) > 24*time.Hour:
		return fmt.Sprintf("times reach from %s to %s, which is still to come", first.Format("2006-01-02"),
			last.Format("2006-01-02"))
	}
	return ""
}
