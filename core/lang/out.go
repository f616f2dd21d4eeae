package lang

import (
	"fmt"
	"sort"
	"strconv"
	"strings"
	"time"

	"dimlantern/core/entry"
)

// Report is answers to questions that are put on paper again and again.
type Report struct {
	Pos    Pos
	Name   string
	Title  string    // "" is the name
	Asks   []string  // questions, or [Handover]
	Every  *Schedule // nil: only when somebody wants one
	Covers *Over     // instead of the questions' spans; nil leaves them
	As     []string  // pdf, html, csv, json
	Tell   []string  // contacts
	Write  string    // a folder; "" is none
	Skip   bool      // when empty
	Keep   int       // how many results; 0 is DefaultResults
	Note   string
	About  []string
	Off    bool
	For    []string // the groups of hosts that it is for; nil: it is for this machine
	// Zone is the settings' zone; set by who reads settings, nil is the machine's.
	Zone *time.Location

	tells []token
}

// Handover is what a report asks for what happened in a shift.
const Handover = "handover"

// DefaultResults is how many results of a report are kept where nothing is said.
const DefaultResults = 12

// ReportForms are the forms of a report.
var ReportForms = []string{"pdf", "html", "csv", "json"}

// Results is how many of the report's results are kept.
func (r *Report) Results() int {
	if r.Keep == 0 {
		return DefaultResults
	}
	return r.Keep
}

// Heading is the title, or the name where it has none.
func (r *Report) Heading() string {
	if r.Title != "" {
		return r.Title
	}
	return r.Name
}

// Forms are the forms of its results: html where it says none.
func (r *Report) Forms() []string {
	if len(r.As) == 0 {
		return []string{"html"}
	}
	return r.As
}

// Schedule says when something is due again and again, in the settings' zone.
type Schedule struct {
	Days  Days          // of the week, 0 being all; where neither Month nor D is set
	Month int           // a day of each month, from 1; the last one where the month is shorter
	D     time.Duration // each multiple of it from the local midnight, and At later
	At    time.Duration // of the day, since midnight
}

// String writes the schedule as reports write it.
func (s Schedule) String() string {
	out := "day"
	switch {
	case s.D > 0 && s.At == 0:
		return entry.Span(s.D)
	case s.D > 0:
		out = entry.Span(s.D)
	case s.Month > 0:
		out = fmt.Sprintf("month on %d", s.Month)
	case s.Days != 0:
		out = s.Days.words()
	}
	return out + " at " + clockOf(s.At)
}

// Next is the first instant behind another at which something is due. A time of day that a clock
// change leaves out is the next instant that there is; of one that comes twice it is the first.
func (s Schedule) Next(after entry.Instant, zone *time.Location) entry.Instant {
	day := after.Time().In(zone)
	for i := -1; i < 400; i++ {
		d := time.Date(day.Year(), day.Month(), day.Day()+i, 12, 0, 0, 0, time.UTC)
		if at, ok := s.on(d, after, zone); ok {
			return at
		}
	}
	return entry.None
}

// on is the first instant of a day behind another at which something is due.
func (s Schedule) on(d time.Time, after entry.Instant, zone *time.Location) (entry.Instant, bool) {
	if s.D > 0 {
		for t := s.At % s.D; t < Day; t += s.D {
			if at := wallClock(d, t, zone); at > after {
				return at, true
			}
		}
		return 0, false
	}
	last := time.Date(d.Year(), d.Month()+1, 0, 0, 0, 0, 0, time.UTC).Day()
	if s.Month > 0 && d.Day() != min(s.Month, last) || !s.Days.Has(d.Weekday()) {
		return 0, false
	}
	at := wallClock(d, s.At, zone)
	return at, at > after
}

// wallClock is when the clocks of a zone show a time on a day: where they leave it out, the first
// instant behind; where they show it twice, the first time.
func wallClock(d time.Time, t time.Duration, zone *time.Location) entry.Instant {
	want := time.Date(d.Year(), d.Month(), d.Day(), 0, 0, 0, 0, time.UTC).Add(t)
	shown := func(u time.Time) time.Time { // what the clocks show, as if it were UTC
		_, offset := u.In(zone).Zone()
		return u.Add(time.Duration(offset) * time.Second)
	}
	// Of the offsets around it, the greatest gives the earliest instant; a clock change lies between.
	_, before := want.Add(-Day).In(zone).Zone()
	_, behind := want.Add(Day).In(zone).Zone()
	lo := want.Add(-time.Duration(max(before, behind)) * time.Second)
	hi := want.Add(-time.Duration(min(before, behind)) * time.Second)
	switch {
	case shown(lo).Equal(want):
		return entry.Of(lo)
	case shown(hi).Equal(want):
		return entry.Of(hi)
	}
	n := sort.Search(int(hi.Sub(lo)/time.Second), func(i int) bool {
		return !shown(lo.Add(time.Duration(i) * time.Second)).Before(want)
	})
	return entry.Of(lo.Add(time.Duration(n) * time.Second))
}

// Measure is a number that is counted as entries come, and given to other systems.
type Measure struct {
	Pos     Pos
	Name    string
	On      []string // sources; nil is all
	Where   Expr     // nil is all entries
	Ignore  Expr     // nil is none
	Per     []string
	Fn      string    // count, sum, last or spread
	Field   string    // of all but count
	Bounds  []float64 // of spread, ascending
	Seconds bool      // the field is a duration
	Note    string
	About   []string
	Off     bool
	For     []string // the groups of hosts that it is for; nil: it is for this machine
}

// MeasureWords are the words with which the number of a measure begins.
var MeasureWords = []string{"count", "sum", "last", "spread"}

// Shown writes the measure's number as it is written in settings.
func (m *Measure) Shown() string {
	switch {
	case m.Fn == "count":
		return m.Fn
	case m.Fn == "spread":
		var at []string
		for _, b := range m.Bounds {
			at = append(at, strconv.FormatFloat(b, 'f', -1, 64))
		}
		return "spread(" + m.Field + ") at " + strings.Join(at, ", ")
	}
	return m.Fn + "(" + m.Field + ")"
}

// OutName is a name as other systems know it: - and . are _.
func OutName(s string) string { return strings.NewReplacer("-", "_", ".", "_").Replace(s) }

// Deliver hands entries on to another system.
type Deliver struct {
	Pos    Pos
	Name   string
	On     []string // sources; nil is all
	Where  Expr     // nil is all entries
	Ignore Expr     // nil is none
	To     Target
	Begin  Begin
	// Buffer is how many bytes, and Entries how many entries, may wait of what exists nowhere else;
	// 0 is DefaultBuffer, and any number.
	Buffer  int64
	Entries int64
	Note    string
	About   []string
	Off     bool
	For     []string // the groups of hosts that it is for; nil: it is for this machine
	// Zone is the settings' zone; set by who reads settings, nil is the machine's.
	Zone *time.Location
}

// DefaultBuffer is how many bytes may wait for a delivery where nothing is said.
const DefaultBuffer = 1 << 30

// Waiting is how many bytes may wait.
func (d *Deliver) Waiting() int64 {
	if d.Buffer == 0 {
		return DefaultBuffer
	}
	return d.Buffer
}

// Target is where entries are delivered to.
type Target struct {
	Kind    string // syslog, otlp, files or nats
	Proto   string // of syslog: udp, tcp or tls
	Address string // of syslog HOST:PORT, of otlp and nats a URL
	Trust   string // a file with the authorities that are trusted, whole; "" is the system's
	Subject string // of nats, with {fields}
	Path    string // of files, with {fields}
	As      string // of files: lines, json or csv; "" is lines
	Packed  bool   // files that are finished are compressed with zstd
	Arrival bool   // dates are those of arrival
	// A new file is begun after a time, so many entries, or so many bytes; 0 is never.
	NewAfter   time.Duration
	NewEntries int64
	NewSize    int64
}

// String is the target in words, such as syslog tls collector:6514.
func (t Target) String() string {
	switch t.Kind {
	case "syslog":
		return "syslog " + t.Proto + " " + t.Address
	case "files":
		return "files " + t.Path
	case "nats":
		return "nats " + t.Subject + " at " + t.Address
	}
	return strings.TrimSpace(t.Kind + " " + t.Address)
}

// Report returns the report of that name, or nil.
func (s *Settings) Report(name string) *Report {
	for _, x := range s.Reports {
		if x.Name == name {
			return x
		}
	}
	return nil
}

// Deliver returns the delivery of that name, or nil.
func (s *Settings) Deliver(name string) *Deliver {
	for _, x := range s.Delivers {
		if x.Name == name {
			return x
		}
	}
	return nil
}

// Measures are where measures are given.
type Measures struct {
	Listen string        // HOST:PORT at which they are answered; "" is nowhere
	To     string        // a URL to which they are sent; "" is nowhere
	Every  time.Duration // how often
	Most   int           // series; 0 is DefaultSeries
}

// DefaultSeries is how many series all measures have at most where nothing is said.
const DefaultSeries = 10_000

// MostSeries is how many series all measures have at most.
func (m *Measures) MostSeries() int {
	if m.Most == 0 {
		return DefaultSeries
	}
	return m.Most
}

// Stays says how long what has been is kept; 0 is as long as by itself.
type Stays struct {
	Alerts  time.Duration // that are over, with their evidence
	History time.Duration // transitions
	Results time.Duration // of reports
}
