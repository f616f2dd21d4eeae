package ask

import (
	"fmt"
	"slices"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Span is a half-open stretch of time, and the periods into which it is divided.
type Span struct {
	From, To entry.Instant
	// Bounds are where the periods begin, and where the last one ends; the first may begin before From,
	// the last end behind To. Nil is one number for the whole span.
	Bounds []entry.Instant
}

// Periods is how many periods there are, at least one.
func (s *Span) Periods() int { return max(len(s.Bounds)-1, 1) }

// Cut tells whether the span cuts a period.
func (s *Span) Cut(i int) bool {
	return s.Bounds != nil && (s.Bounds[i] < s.From || s.Bounds[i+1] > s.To)
}

// seconds is how long the part of a period is that lies in the span, or the span.
func (s *Span) length(i int) time.Duration {
	if s.Bounds == nil || i < 0 {
		return s.To.Sub(s.From)
	}
	return min(s.Bounds[i+1], s.To).Sub(max(s.Bounds[i], s.From))
}

// of is the period in which an instant of the span lies.
func (s *Span) of(at entry.Instant) int {
	if s.Bounds == nil {
		return 0
	}
	i, found := slices.BinarySearch(s.Bounds, at)
	if !found {
		i--
	}
	return min(max(i, 0), len(s.Bounds)-2)
}

// mostPeriods bounds the periods of a question.
const mostPeriods = 100_000

// spans finds the spans of a question.
func (p *Plan) spans(q *lang.Question, m Moment) error {
	var err error
	if p.Span, err = p.over(q.Over, m); err != nil {
		return err
	}
	every := q.Every
	if every == nil && m.Column > 0 && p.columns[0].Fn != "entries" {
		every = &lang.Period{D: m.Column}
		if m.Column > lang.Day && m.Column%lang.Day != 0 {
			every.D = lang.Day
		}
	}
	if every != nil {
		if p.Span.Bounds, err = p.periods(p.Span, every); err != nil {
			return err
		}
	}
	if q.Beside != nil {
		p.Beside = p.beside(q)
		if q.Beside.Before && q.Over != nil && (q.Over.Named == "last month" || q.Over.Named == "this month") &&
			every != nil {
			p.Beside.Bounds, err = p.periods(*p.Beside, every)
		}
		if p.Beside.To <= p.Beside.From {
			return &Trouble{"what stands beside is no time at all", "choose another shift"}
		}
	}
	if q.New > 0 {
		p.News = &Span{From: p.shift(p.Span.From, q.New), To: p.Span.From}
	}
	return err
}

// SpanOf is the span that somebody says, up to a lamp; nil is the 24 hours before it.
func SpanOf(o *lang.Over, lamp entry.Instant, zone *time.Location) (Span, error) {
	return (&Plan{zone: zone}).over(o, Moment{Lamp: lamp})
}

// over is the span that a question says, or the moment's.
func (p *Plan) over(o *lang.Over, m Moment) (Span, error) {
	lamp := m.Lamp
	day := func(offset int) entry.Instant { return p.day(lamp, offset) }
	var s Span
	switch {
	case o == nil:
		s = Span{From: m.From, To: m.To}
		if m.From == 0 && m.To == 0 {
			s = Span{From: lamp.Add(-lang.Day), To: lamp}
		}
	case o.D > 0:
		s = Span{From: lamp.Add(-o.D), To: lamp}
	case o.Named == "today":
		s = Span{From: day(0), To: lamp}
	case o.Named == "yesterday":
		s = Span{From: day(-1), To: day(0)}
	case o.Named == "this week":
		s = Span{From: day(-p.weekday(lamp)), To: lamp}
	case o.Named == "last week":
		s = Span{From: day(-p.weekday(lamp) - 7), To: day(-p.weekday(lamp))}
	case o.Named == "this month":
		s = Span{From: p.month(lamp, 0), To: lamp}
	case o.Named == "last month":
		s = Span{From: p.month(lamp, -1), To: p.month(lamp, 0)}
	default:
		s.From = p.time(o.From, lamp, entry.None)
		s.To = p.time(o.To, lamp, s.From)
		if s.To <= s.From {
			return s, &Trouble{
				fmt.Sprintf("%s is no time at all: it ends before it begins", o),
				"write the earlier time " +
					"first",
			}
		}
		if s.From >= lamp {
			return s, &Trouble{fmt.Sprintf("%s has not come yet", o), "the lamp stands at " +
				lamp.Time().In(p.zone).Format("2006-01-02 15:04") + ", and nothing is known behind it"}
		}
		s.To = min(s.To, lamp)
	}
	if s.To <= s.From {
		s.To = s.From + 1
	}
	return s, nil
}

// time is a time of a question, a time of day the last one up to the lamp, or the first behind the
// other end of the span.
func (p *Plan) time(t lang.Time, lamp, behind entry.Instant) entry.Instant {
	switch t.Is {
	case lang.OfDay:
		return p.start(t.Day.Year(), t.Day.Month(), t.Day.Day())
	case lang.OfClock:
		clock := func(of entry.Instant, days int) entry.Instant {
			d := of.Time().In(p.zone)
			return entry.Of(time.Date(d.Year(), d.Month(), d.Day()+days, 0, 0, int(t.Clock/time.Second), 0, p.zone))
		}
		if behind != entry.None {
			if at := clock(behind, 0); at > behind {
				return at
			}
			return clock(behind, 1)
		}
		if at := clock(lamp, 0); at <= lamp {
			return at
		}
		return clock(lamp, -1)
	}
	return t.At
}

// start is the first instant of a day, also where it does not begin at midnight.
func (p *Plan) start(y int, m time.Month, d int) entry.Instant {
	t := time.Date(y, m, d, 0, 0, 0, 0, p.zone)
	want := time.Date(y, m, d, 12, 0, 0, 0, time.UTC).Day()
	for range 4 {
		if t.Day() == want {
			break
		}
		t = t.Add(time.Hour)
	}
	return entry.Of(t)
}

// day is the begin of the day of an instant, or of one so many days later.
func (p *Plan) day(of entry.Instant, offset int) entry.Instant {
	t := of.Time().In(p.zone)
	return p.start(t.Year(), t.Month(), t.Day()+offset)
}

// weekday is how many days have passed since Monday.
func (p *Plan) weekday(of entry.Instant) int { return (int(of.Time().In(p.zone).Weekday()) + 6) % 7 }

// month is the begin of the month of an instant, or of one so many months later.
func (p *Plan) month(of entry.Instant, offset int) entry.Instant {
	t := of.Time().In(p.zone)
	return p.start(t.Year(), t.Month()+time.Month(offset), 1)
}

// shift is an instant D earlier; whole days go by the calendar.
func (p *Plan) shift(t entry.Instant, d time.Duration) entry.Instant {
	if d%lang.Day == 0 {
		return p.days(t, -int(d/lang.Day))
	}
	return t.Add(-d)
}

// days is the same time of day so many days later.
func (p *Plan) days(t entry.Instant, n int) entry.Instant {
	x := t.Time().In(p.zone)
	if p.day(t, 0) == t { // a day's begin stays one
		return p.start(x.Year(), x.Month(), x.Day()+n)
	}
	return entry.Of(
		time.Date(x.Year(), x.Month(), x.Day()+n, x.Hour(), x.Minute(), x.Second(), x.Nanosecond(), p.zone),
	)
}

// beside is the span that stands beside, with its periods.
func (p *Plan) beside(q *lang.Question) *Span {
	move := func(t entry.Instant) entry.Instant { return p.shift(t, q.Beside.D) }
	if q.Beside.Before {
		o := q.Over
		switch {
		case o != nil && (o.Named == "this month" || o.Named == "last month"):
			to := p.month(p.Span.From, 0)
			if o.Named == "this month" {
				x := p.Span.To.Time().In(p.zone)
				at := time.Date(
					x.Year(),
					x.Month()-1,
					x.Day(),
					x.Hour(),
					x.Minute(),
					x.Second(),
					x.Nanosecond(),
					p.zone,
				)
				to = min(to, entry.Of(at))
			}
			return &Span{From: p.month(p.Span.From, -1), To: to}
		case o != nil && (o.Named == "this week" || o.Named == "last week"):
			move = func(t entry.Instant) entry.Instant { return p.days(t, -7) }
		case o != nil && o.Named != "":
			move = func(t entry.Instant) entry.Instant { return p.days(t, -1) }
		case o != nil && o.D > 0:
			move = func(t entry.Instant) entry.Instant { return p.shift(t, o.D) }
		case p.day(p.Span.From, 0) == p.Span.From && p.day(p.Span.To, 0) == p.Span.To:
			n := int((p.Span.To.Sub(p.Span.From) + lang.Day/2) / lang.Day)
			move = func(t entry.Instant) entry.Instant { return p.days(t, -n) }
		default:
			d := p.Span.To.Sub(p.Span.From)
			move = func(t entry.Instant) entry.Instant { return t.Add(-d) }
		}
	}
	out := &Span{From: move(p.Span.From), To: move(p.Span.To)}
	for _, b := range p.Span.Bounds {
		t := move(b)
		if n := len(out.Bounds); n > 0 { // clocks may have been changed in between
			t = max(t, out.Bounds[n-1])
		}
		out.Bounds = append(out.Bounds, t)
	}
	return out
}

// periods are the bounds of the periods of a span.
func (p *Plan) periods(s Span, every *lang.Period) ([]entry.Instant, error) {
	var out []entry.Instant
	t := s.From.Time().In(p.zone)
	next := func(n int) entry.Instant { return p.start(t.Year(), t.Month(), t.Day()+n) }
	switch {
	case every.Unit == "month":
		next = func(n int) entry.Instant { return p.start(t.Year(), t.Month()+time.Month(n), 1) }
	case every.Unit == "week":
		first := t.Day() - p.weekday(s.From)
		next = func(n int) entry.Instant { return p.start(t.Year(), t.Month(), first+7*n) }
	case every.D >= lang.Day:
		days := int(every.D / lang.Day)
		since := int(time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC).Unix() / 86400)
		off := ((since % days) + days) % days
		next = func(n int) entry.Instant { return p.start(t.Year(), t.Month(), t.Day()-off+n*days) }
	default:
		if int64(s.To.Sub(s.From)/every.D) > mostPeriods {
			return nil, tooMany(every)
		}
		for day := 0; ; day++ { // they begin anew at each midnight
			from, to := next(day), next(day+1)
			for at := from; at < to; at = at.Add(every.D) {
				if at.Add(every.D) <= s.From && at.Add(every.D) < to {
					at = at.Add((s.From.Sub(at) / every.D) * every.D)
					if at >= to {
						break
					}
				}
				if min(at.Add(every.D), to) <= s.From {
					continue
				}
				if at >= s.To {
					return append(out, min(at, to)), nil
				}
				out = append(out, at)
			}
			if to >= s.To {
				return append(out, to), nil
			}
		}
	}
	for n := 0; ; n++ {
		if len(out) > mostPeriods {
			return nil, tooMany(every)
		}
		at := next(n)
		out = append(out, at)
		if at >= s.To {
			return out, nil
		}
	}
}

func tooMany(every *lang.Period) error {
	return &Trouble{fmt.Sprintf("every %s is more than %s periods over that span", every, short(mostPeriods)),
		"take a longer period, or a shorter span"}
}
