package intake

import (
	"fmt"
	"os"
	"time"

	"dimlantern/core/origin"

	"dimlantern/core/entry"
)

// lag is how far behind its writing an origin is judged.
type lag struct {
	last, worst time.Duration // from an entry's own time to its arrival
	worstAt     time.Time
	arrivals    [8]time.Time // when something came, the newest last
	amounts     [8]int64
}

// came notes that entries arrived whose newest has that own time.
func (l *lag) came(at entry.Instant, n int64, now time.Time) {
	if at != entry.None {
		l.last = max(entry.Of(now).Sub(at), 0)
		if l.last >= l.worst || now.Sub(l.worstAt) > time.Hour {
			l.worst, l.worstAt = l.last, now
		}
	}
	if k := len(l.arrivals) - 1; now.Sub(l.arrivals[k]) < time.Second {
		l.arrivals[k] = now
		l.amounts[k] += n
		return
	}
	copy(l.arrivals[:], l.arrivals[1:])
	copy(l.amounts[:], l.amounts[1:])
	l.arrivals[len(l.arrivals)-1], l.amounts[len(l.amounts)-1] = now, n
}

// bursts tells whether entries come in heaps with long pauses between them: the
// writer keeps them back.
func (l *lag) bursts() bool {
	if l.arrivals[0].IsZero() {
		return false
	}
	total := int64(0)
	for i := 1; i < len(l.arrivals); i++ {
		if l.arrivals[i].Sub(l.arrivals[i-1]) < 5*time.Second {
			return false
		}
		total += l.amounts[i]
	}
	return total >= 10*int64(len(l.arrivals)-1)
}

// catching is how many bytes an origin is behind when it is catching up.
const catching = 1 << 20

// pace is how fast a backlog is read.
type pace struct {
	from  time.Time
	bytes float64
}

// came notes that so many bytes were read.
func (p *pace) came(n int, now time.Time) {
	if p.from.IsZero() {
		p.from = now
	}
	p.bytes += float64(n)
	if d := now.Sub(p.from); d > 20*time.Second { // what is long ago counts less
		p.from, p.bytes = now.Add(-d/2), p.bytes/2
	}
}

// left is how long so many bytes still take; 0 where that is not known yet.
func (p *pace) left(n int64, now time.Time) time.Duration {
	d := now.Sub(p.from)
	if p.bytes == 0 || d < time.Second {
		return 0
	}
	return time.Duration(float64(d) * float64(n) / p.bytes)
}

// State says in words how the origin can be seen. Of what is the matter, the worst
// comes first.
func (o *Origin) State(now time.Time) origin.State {
	s := origin.State{Condition: o.Condition, Words: o.Words, Mend: o.Mend, Since: o.Since, Behind: o.Behind(),
		Lag: o.lag.last, Skew: o.place.Skew,
		Worst: o.lag.worst, WorstAt: o.lag.worstAt, Misfits: int64(o.fit.misfits), Looked: int64(o.fit.n),
		Misfit: o.fit.example, Gaps: o.place.Gaps, Cut: o.CutLines}
	timed := o.reader.Plan.Timed()
	switch {
	case o.Condition != origin.Seen:
	case s.Behind > catching:
		s.Condition, s.Words = origin.Catching, fmt.Sprintf("catching up: %d MB still to go", s.Behind/1e6)
		if s.Left = o.pace.left(s.Behind, now); s.Left > 0 {
			s.Words += ", about " + entry.RoughSpan(max(s.Left.Round(time.Second), time.Second))
		}
	case o.place.Entries == 0:
		s.Condition, s.Words = origin.Waiting, "waiting for its first entry since "+o.Since.Format("15:04:05")
	case o.place.Skew != 0:
		s.Condition, s.Words = origin.WrongClock, clockWords(o.place.Skew)
		s.Mend = "set the clock of that host, or the zone of the source"
	case o.reader.Future > 0:
		s.Condition, s.Words = origin.WrongClock, fmt.Sprintf("its clock is %s ahead: its entries are judged by "+
			"their arrival", entry.RoughSpan(o.reader.Ahead))
		s.Mend = "set the clock of that host"
	case o.fit.no():
		s.Condition, s.Words = origin.NoFit, fmt.Sprintf("it no longer fits: %d of its newest %d entries do not, "+
			"such as: %s", o.fit.misfits, o.fit.n, o.fit.example)
		s.Mend = "look at the layout's pattern, or give the source another layout"
	case o.lag.bursts():
		s.Condition, s.Words = origin.Bursts, "it writes in bursts: its writer keeps lines back"
		s.Mend = "let the program flush each line"
	case timed && s.Lag > 10*time.Second && now.Sub(o.lag.arrivals[len(o.lag.arrivals)-1]) < time.Minute:
		s.Condition, s.Words = origin.Late, fmt.Sprintf("late: %s from written to read, %s at worst",
			entry.RoughSpan(s.Lag.Truncate(time.Second)), entry.RoughSpan(s.Worst.Truncate(time.Second)))
	}
	return s
}

// ReadTo is the instant up to which is known what the origin's writer wrote: now
// where it was just read to its end, or cannot be seen.
func (o *Origin) ReadTo(now time.Time) entry.Instant {
	if o.Condition.Blind() {
		return entry.Of(now)
	}
	if o.pending {
		return o.place.Reached
	}
	for _, m := range o.place.Members {
		if m.missing > 0 && m.Size > m.Offset { // it has a rest, and no name at this moment
			return o.place.Reached
		}
	}
	if o.Source.Every > 0 && !o.polled.IsZero() {
		return min(entry.Of(o.polled), entry.Of(now))
	}
	return entry.Of(now)
}

// Behind is how many bytes are there and not judged yet.
func (o *Origin) Behind() int64 {
	n := int64(0)
	for _, m := range o.place.Members {
		n += max(0, m.Size-m.Offset)
	}
	return n
}

// Lost is how many bytes are known to have gone without being read, when the last of them
// did, and why.
func (o *Origin) Lost() (bytes int64, at time.Time, why string) {
	return o.place.Gaps, time.Unix(0, o.place.LostAt), o.place.LostWhy
}

// Entries counts the entries that have been read of the origin.
func (o *Origin) Entries() int64 { return o.place.Entries }

// Newest is the path of the newest member that is there, else where it should be.
func (o *Origin) Newest() string {
	if _, err := os.Lstat(o.base); err != nil {
		if files := o.members(); len(files) > 0 {
			return files[len(files)-1].path
		}
	}
	return o.base
}

// Read says in words what has been read.
func (o *Origin) Read() string {
	older := 0
	for _, d := range o.place.Finished {
		if d.ID != (Identity{}) {
			older++
		}
	}
	s := "nothing yet"
	if n := len(o.place.Members); n > 0 {
		m := o.place.Members[n-1]
		switch {
		case m.Offset >= m.Size:
			s = fmt.Sprintf("all %d bytes", m.Size)
		default:
			s = fmt.Sprintf("%d of %d bytes", m.Offset, m.Size)
		}
	}
	if older == 1 {
		s += "; one older copy is known"
	} else if older > 1 {
		s += fmt.Sprintf("; %d older copies are known", older)
	}
	return s
}

// Began says in words where reading began.
func (o *Origin) Began() string { return o.place.Began }

// Skew is how far the clock of its writer lies back; own times have it taken off.
func (o *Origin) Skew() time.Duration { return o.place.Skew }

// Reached is the latest own time of the origin's entries.
func (o *Origin) Reached() entry.Instant { return o.place.Reached }

// Late is since when the origin has something that was not read, where it has been read to its end
// before; 0 where it has nothing.
func (o *Origin) Late(now time.Time) time.Duration {
	if o.Behind() == 0 || o.ended.IsZero() {
		return 0
	}
	return max(0, now.Sub(o.ended))
}
