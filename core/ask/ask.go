// Package ask answers questions about entries that are there already. Entries come in, in any order and
// from anywhere, each once; out comes an answer, which can be looked at at any moment. What was added
// up apart can be merged: the answer is that of all of it together.
//
// Nothing is read here, and no clock: who asks says where the lamp stands.
package ask

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
)

// Moment is when a question is asked, and from where.
type Moment struct {
	Lamp entry.Instant // up to which a span goes
	// From and To are the span of a question that says none.
	From, To entry.Instant
	Zone     *time.Location // in which days begin; nil is UTC
	// Column is the period of a question that says none, where its answer is drawn on an axis; 0 is no
	// period.
	Column time.Duration
	// Alone tells that what is asked are files that are there as they are: nothing of it is still to
	// come.
	Alone bool
	// Reporter is the value of the field reporter: the machine whose logs are asked.
	Reporter string
	// Within leaves out what is not of a group; nil is nothing.
	Within *Within
}

// Within is a group of some fields, by their values as they are written: ? is lacking.
type Within struct{ Per, Key []string }

// Plan is a question made ready for a moment. It is not changed any more, and may be used by several
// goroutines at once.
type Plan struct {
	Q      *lang.Question
	Span   Span
	Beside *Span // nil where nothing stands beside
	News   *Span // before the span; entries in it say which groups are old
	Lamp   entry.Instant
	// Newest is how many entries are kept where the question is about entries themselves; 0 is as many as
	// there is room for. It may be set before anything is added up.
	Newest int

	within  *Within
	named   string // see Moment.Reporter
	zone    *time.Location
	columns []lang.Column // of the question, then those of having and most
	shown   int           // how many of them are the question's
	having  int           // which of them is having's, most's; -1 is none
	by      int
	per     []string
	ordered bool
	alone   bool
	matched entry.Instant // up to where second halves are looked for
	longest time.Duration
	unit    []string // of the columns
	text    bool     // the text of entries is looked at
	since   []string // fields whose value of the entry before is wanted
}

// Trouble is why a question cannot be answered: what, and what to do instead.
type Trouble struct{ What, Mend string }

func (t *Trouble) Error() string { return t.What + "; " + t.Mend }

// New makes a question ready. An error is a *Trouble.
func New(q *lang.Question, m Moment) (*Plan, error) {
	p := &Plan{Q: q, Lamp: m.Lamp, zone: m.Zone, columns: q.Shown(), shown: len(q.Columns()), having: -1, by: 0,
		per: q.Per, ordered: q.OrderMatters(), alone: m.Alone, within: m.Within, named: m.Reporter}
	if p.zone == nil {
		p.zone = time.UTC
	}
	at := p.shown
	if q.Having != nil {
		p.having, at = at, at+1
	}
	if q.Most != nil && q.Most.By != nil {
		p.by = at
	}
	if q.Each {
		p.per = []string{"field", "value"}
	}
	if err := p.spans(q, m); err != nil {
		return nil, err
	}
	p.matched = p.Span.To
	if q.Join != nil {
		p.longest = q.Join.Within
		p.matched = min(p.Span.To.Add(p.longest), max(m.Lamp, p.Span.To))
		if m.Alone {
			p.matched = p.Span.To.Add(p.longest)
		}
	}
	fields := p.Fields()
	p.text = fields == nil || slices.Contains(fields, "") || slices.Contains(fields, "text")
	for _, c := range p.columns {
		p.unit = append(p.unit, unitOf(q, c))
	}
	for _, r := range q.Reckon {
		r.Calc.Walk(func(c *lang.Calc) {
			if c.Op == "since" && !slices.Contains(p.since, c.Field) {
				p.since = append(p.since, c.Field)
			}
		})
	}
	return p, nil
}

// Piece is the plan for a part of the span, half-open, of a question about entries themselves; with every,
// for their number in each such period of it, in nanoseconds. It is nil where a part of the span is not
// answered as it is in the whole: entries are then joined, or compared with the one before, or with others.
func (p *Plan) Piece(from, to entry.Instant, every time.Duration) (*Plan, error) {
	if p.ordered || p.columns[0].Fn != "entries" || p.Q.New > 0 || p.Q.Alerts || p.shown > 1 {
		return nil, nil
	}
	q := *p.Q
	q.Over, q.Every = nil, nil
	if every > 0 {
		q.Show, q.Per, q.Every = []lang.Column{{Fn: "count"}}, nil, &lang.Period{D: every}
	}
	return New(&q, Moment{Lamp: p.Lamp, From: from, To: to, Zone: p.zone, Alone: p.alone, Within: p.within})
}

// unitOf is the unit of a column's numbers: "duration", "share", "rate" or "".
func unitOf(q *lang.Question, c lang.Column) string {
	switch c.Fn {
	case "share", "rate":
		return c.Fn
	case "count", "different", "entries", "gaps":
		return ""
	}
	return q.Units[c.Field]
}

// Reach is the stretch of time in which entries can matter to the answer, half-open.
func (p *Plan) Reach() (from, to entry.Instant) {
	from, to = p.Span.From, max(p.Span.To, p.matched)
	for _, s := range []*Span{p.Beside, p.News} {
		if s != nil {
			from, to = min(from, s.From), max(to, s.To)
		}
	}
	if p.Beside != nil && p.longest > 0 {
		to = max(to, p.Beside.To.Add(p.longest))
	}
	return from, to
}

// Wants tells whether an entry of a time can matter to the answer: it lies in one of the spans.
func (p *Plan) Wants(at entry.Instant) bool {
	return at >= p.Span.From && at < p.matched || p.Beside != nil && at >= p.Beside.From &&
		at < p.Beside.To.Add(p.longest) || p.News != nil && at >= p.News.From && at < p.News.To
}

// Touches tells whether some of the times from least to greatest, both with it, can matter.
func (p *Plan) Touches(least, greatest entry.Instant) bool {
	in := func(s *Span, to entry.Instant) bool { return s != nil && least < to && greatest >= s.From }
	return in(&p.Span, p.matched) || p.Beside != nil && in(p.Beside, p.Beside.To.Add(p.longest)) ||
		p.News != nil && in(p.News, p.News.To)
}

// Condition is the expression that an entry fits that the question is about, whatever its time; nil is
// every entry.
func (p *Plan) Condition() lang.Expr {
	if j := p.Q.Join; j != nil {
		return &lang.Or{Of: []lang.Expr{j.First, j.Second}}
	}
	return p.Q.Where
}

// Fields are the fields that have to be divided off for the question, "" among them where its text is
// wanted; nil is all of them.
func (p *Plan) Fields() []string {
	if p.Q.Each || p.columns[0].Fn == "entries" {
		return nil
	}
	out := append([]string{}, p.Q.Fields()...)
	if p.within != nil {
		out = append(out, p.within.Per...)
	}
	for _, c := range p.Q.Exprs() {
		lang.Walk(c.Expr, func(part lang.Expr, _ bool) {
			switch part := part.(type) {
			case *lang.Match:
				out = append(out, part.Field)
			case *lang.Phrase:
				out = append(out, "")
			case *lang.Compare:
				out = append(out, part.Field)
			case *lang.In:
				out = append(out, part.Field)
			case *lang.Has:
				out = append(out, part.Field)
			}
		})
	}
	return out
}

// Columns are the names of the columns that are shown.
func (p *Plan) Columns() []string {
	var out []string
	for _, c := range p.columns[:p.shown] {
		out = append(out, c.String())
	}
	return out
}

// Per are the names of what groups are made by.
func (p *Plan) Per() []string { return p.per }

// Place is where an entry lies, by which those of one time have an order.
type Place struct {
	Log, File int32
	Offset    int64
}

func (a Place) before(b Place) bool {
	if a.Log != b.Log {
		return a.Log < b.Log
	}
	if a.File != b.File {
		return a.File < b.File
	}
	return a.Offset < b.Offset
}

// subject is an entry as the question sees it.
type subject struct {
	match.Subject
	p        *Plan
	at       entry.Instant
	place    Place
	reckoned []reckoned
	lasted   entry.Instant // of a pair, in nanoseconds; None where it lacks it
	pair     bool
	lean     []byte // instead of all else the value of the one field that is asked for; nil is none
}

type reckoned struct {
	field string
	value num
	ok    bool
}

// get is the value of a field, and what the question reckons and the calendar gives besides.
func (s *subject) get(field string) (string, bool) {
	if s.Entry == &noEntry {
		return string(s.lean), len(s.lean) > 0
	}
	for i := len(s.reckoned) - 1; i >= 0; i-- {
		if s.reckoned[i].field == field {
			if !s.reckoned[i].ok {
				return "", false
			}
			return s.reckoned[i].value.String(), true
		}
	}
	v, ok := s.Get(field)
	if !ok {
		switch field {
		case "reporter":
			return s.p.named, s.p.named != ""
		case "weekday":
			return strings.ToLower(s.at.Time().In(s.p.zone).Weekday().String()[:3]), true
		case "hour":
			h := s.at.Time().In(s.p.zone).Hour()
			return hours[h], true
		}
	}
	return v, ok
}

var hours = func() (out [24]string) {
	for h := range out {
		out[h] = fmt.Sprintf("%02d", h)
	}
	return out
}()

// number is the value of a field as a number, and whether there is any value at all.
func (s *subject) number(field string) (n num, ok, there bool) {
	for i := len(s.reckoned) - 1; i >= 0; i-- {
		if s.reckoned[i].field == field {
			return s.reckoned[i].value, s.reckoned[i].ok, s.reckoned[i].ok
		}
	}
	if s.Entry == &noEntry {
		if n, ok := plainNum(s.lean); ok {
			return n, true, true
		}
	}
	if s.pair && field == "lasted" && s.lasted != entry.None {
		return num{m: int64(s.lasted), e: -9}.tidy(), true, true
	}
	v, there := s.get(field)
	if !there {
		return num{}, false, false
	}
	n, ok = parseNum(v)
	return n, ok, true
}

// key is what the group of the entry is called, appended to b.
func (s *subject) key(b []byte) []byte {
	for i, f := range s.p.per {
		v, _ := s.get(f)
		if v == "?" {
			v = ""
		}
		if i > 0 {
			b = append(b, 0)
		}
		if strings.IndexByte(v, 0) >= 0 {
			v = strings.ReplaceAll(v, "\x00", "␀")
		}
		b = append(b, entry.Bounded(v)...)
	}
	return b
}

// inside tells whether the entry is of the group that alone is wanted.
func (s *subject) inside() bool {
	w := s.p.within
	if w == nil {
		return true
	}
	for i, f := range w.Per {
		if v, _ := s.get(f); i >= len(w.Key) || Written(entry.Bounded(v)) != w.Key[i] {
			return false
		}
	}
	return true
}

// Written is a group's value as it is shown: what is lacking is ?.
func Written(v string) string {
	if v == "" {
		return "?"
	}
	return v
}

// short writes a whole number with the thousands apart.
func short(n int64) string {
	s := strconv.FormatInt(n, 10)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
