package lang

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"
)

// Question is what is asked of entries that are there already.
type Question struct {
	Pos    Pos
	Name   string
	On     []string // sources; nil is all
	Alerts bool     // of the alerts that were, instead of entries
	Where  Expr     // nil is all entries
	Ignore Expr     // nil is none
	Join   *Join    // instead of Where; nil is none
	Reckon []Reckon
	Show   []Column // nil is the entries themselves
	Per    []string
	Each   bool    // instead of Per: every field's values at once
	Every  *Period // nil is one number for the span
	Over   *Over   // nil is what the asker takes
	Beside *Shift  // nil is nothing
	Having *Having // nil is every group
	Most   *Most   // nil is every group
	New    time.Duration
	Note   string
	About  []string
	Off    bool
	For    []string // the groups of hosts that it is for; nil: it is for this machine
	// Zone is the settings' zone, in which days begin; set by who reads settings, nil is the machine's.
	Zone *time.Location
	// Hosts are those that rules on its sources await by name: each is a group where per is host
	// alone.
	Hosts []string
	// Units are the units of fields that have one, as types of layouts say: "duration".
	Units map[string]string
}

// Join makes one of two entries that agree on fields.
type Join struct {
	First, Second Expr
	By            []string // nil: of one origin
	Within        time.Duration
}

// Reckon is a field that is reckoned out of others.
type Reckon struct {
	Pos   Pos
	Field string
	Calc  *Calc
}

// Column is a number, or several, of a group.
type Column struct {
	Pos    Pos
	Fn     string // count, sum, avg, …, rate, share, entries, gaps
	Field  string // of most of them
	Expr   Expr   // of share
	Longer time.Duration
}

// String writes the column as questions write it.
func (c Column) String() string {
	switch {
	case c.Fn == "share":
		return "share(" + c.Expr.String() + ")"
	case c.Fn == "gaps":
		return "gaps longer than " + entry.Span(c.Longer)
	case c.Field != "":
		return c.Fn + "(" + c.Field + ")"
	}
	return c.Fn
}

// Numeric tells whether the column is always a number, or none.
func (c Column) Numeric() bool {
	return c.Fn != "entries" && c.Fn != "gaps" && c.Fn != "first" && c.Fn != "last"
}

// ofField are the functions of a field's values, others those that stand alone.
var (
	ofField = []string{"sum", "avg", "min", "max", "median", "p50", "p90", "p95", "p99", "different", "first", "last"}
	others  = []string{"count", "rate", "share", "entries", "gaps"}
)

// ColumnWords are the words with which a column begins.
func ColumnWords() []string { return append(slices.Clone(others), ofField...) }

// Period is how long the periods are into which a span is divided: a duration of less than a day, whole
// days, or a week or a month of the calendar.
type Period struct {
	D    time.Duration // of less than a day, or whole days
	Unit string        // "", or "week" or "month" instead of D
}

// String writes the period as questions write it.
func (p Period) String() string {
	switch {
	case p.Unit != "":
		return p.Unit
	case p.D == Day:
		return "day"
	}
	return entry.Span(p.D)
}

// Day is a day of 24 hours.
const Day = 24 * time.Hour

// Over is the span of a question: the last D up to the lamp, a stretch of the calendar by its name, or
// from one time to another.
type Over struct {
	D        time.Duration
	Src      string // of D, as written
	Named    string // today, yesterday, this week, last week, this month, last month
	From, To Time   // where neither of the others is set
}

// String writes the clause as questions write it.
func (o Over) String() string {
	switch {
	case o.D > 0:
		return "over " + o.Src
	case o.Named != "":
		return "over " + o.Named
	}
	return "from " + o.From.Src + " to " + o.To.Src
}

// stretches are the names of stretches of the calendar.
var stretches = []string{"today", "yesterday", "this week", "last week", "this month", "last month"}

// Time is a time in a question: an instant, a day, or a time of day.
type Time struct {
	Src   string
	At    entry.Instant // where it is RFC 3339
	Day   time.Time     // of a day, its date in UTC; zero where it is none
	Clock time.Duration // of a time of day, since midnight
	Is    TimeKind
}

// TimeKind says how a time is written.
type TimeKind uint8

// The kinds of times.
const (
	Instantly TimeKind = iota
	OfDay
	OfClock
)

// Shift is how much earlier the span lies that stands beside.
type Shift struct {
	D      time.Duration
	Before bool // the span just before
}

func (s Shift) String() string {
	if s.Before {
		return "before"
	}
	return entry.Span(s.D) + " ago"
}

// Having keeps the groups whose column compares so over the span.
type Having struct {
	Column Column
	Op     string
	Value  Value
}

func (h Having) String() string { return h.Column.String() + " " + h.Op + " " + h.Value.String() }

// Most keeps the greatest groups, or the least.
type Most struct {
	N          int
	Least      bool
	By         *Column // nil is the first column of the question
	Difference bool    // by how much it differs from what stands beside
}

func (m Most) String() string {
	s := "most "
	if m.Least {
		s = "least "
	}
	s += fmt.Sprint(m.N)
	switch {
	case m.Difference:
		s += " by difference"
	case m.By != nil:
		s += " by " + m.By.String()
	}
	return s
}

// Columns are the columns of the question: what is written, else the entries.
func (q *Question) Columns() []Column {
	if len(q.Show) == 0 {
		return []Column{{Fn: "entries"}}
	}
	return q.Show
}

// Exprs are the question's expressions with the words of their clauses.
func (q *Question) Exprs() []Clause {
	var out []Clause
	add := func(word string, x Expr) {
		if x != nil {
			out = append(out, Clause{word, x})
		}
	}
	add("where", q.Where)
	add("ignore", q.Ignore)
	if q.Join != nil {
		add("join", q.Join.First)
		add("join", q.Join.Second)
	}
	for _, c := range q.Shown() {
		add("show", c.Expr)
	}
	return out
}

// Shown are all columns that have to be found out, those of having and most among them.
func (q *Question) Shown() []Column {
	out := slices.Clone(q.Columns())
	if q.Having != nil {
		out = append(out, q.Having.Column)
	}
	if q.Most != nil && q.Most.By != nil {
		out = append(out, *q.Most.By)
	}
	return out
}

// Captures are the fields that the question's own expressions give to its entries.
func (q *Question) Captures() []string {
	out := Captures(q.Where)
	if q.Join != nil {
		out = append(out, Captures(q.Join.First)...)
		for _, c := range append(Captures(q.Join.Second), "began", "ended", "lasted") {
			if !contains(out, c) {
				out = append(out, c)
			}
		}
	}
	return out
}

// Fields are the fields of entries that the question looks at outside of its expressions, and those of
// its own that it reckons.
func (q *Question) Fields() []string {
	var out []string
	add := func(f string) {
		if f != "" && !contains(out, f) {
			out = append(out, f)
		}
	}
	for _, c := range q.Shown() {
		add(c.Field)
	}
	for _, f := range q.Per {
		add(f)
	}
	for _, r := range q.Reckon {
		r.Calc.Walk(func(c *Calc) { add(c.Field) })
	}
	if q.Join != nil {
		for _, f := range q.Join.By {
			add(f)
		}
	}
	return out
}

// Reckoned tells whether a field is one that the question reckons.
func (q *Question) Reckoned(field string) bool {
	return slices.ContainsFunc(q.Reckon, func(r Reckon) bool { return r.Field == field })
}

// OrderMatters tells whether the entries have to be seen in the order of their times.
func (q *Question) OrderMatters() bool {
	since := false
	for _, r := range q.Reckon {
		r.Calc.Walk(func(c *Calc) { since = since || c.Op == "since" })
	}
	return since || q.Join != nil
}

// String writes the question in one line.
func (q *Question) String() string { return strings.Join(q.Clauses(), " ") }

// Clauses writes the question, one clause each.
func (q *Question) Clauses() []string {
	var out []string
	add := func(word, s string) { out = append(out, word+" "+s) }
	switch {
	case q.Alerts:
		add("on", "alerts")
	case len(q.On) > 0:
		add("on", strings.Join(q.On, ", "))
	}
	if q.Where != nil {
		add("where", q.Where.String())
	}
	if q.Ignore != nil {
		add("ignore", q.Ignore.String())
	}
	if j := q.Join; j != nil {
		by := ""
		if len(j.By) > 0 {
			by = " by " + strings.Join(j.By, ", ")
		}
		add("join", j.First.String()+" to "+j.Second.String()+by+" within "+entry.Span(j.Within))
	}
	for _, r := range q.Reckon {
		add("reckon", r.Field+" as ("+r.Calc.String()+")")
	}
	if len(q.Show) > 0 {
		var cols []string
		for _, c := range q.Show {
			cols = append(cols, c.String())
		}
		add("show", strings.Join(cols, ", "))
	}
	switch {
	case q.Each:
		add("per", "each field")
	case len(q.Per) > 0:
		add("per", strings.Join(q.Per, ", "))
	}
	if q.Every != nil {
		add("every", q.Every.String())
	}
	if q.Over != nil {
		out = append(out, q.Over.String())
	}
	if q.Beside != nil {
		add("beside", q.Beside.String())
	}
	if q.Having != nil {
		add("having", q.Having.String())
	}
	if q.Most != nil {
		out = append(out, q.Most.String())
	}
	if q.New > 0 {
		add("new", "since "+entry.Span(q.New)+" ago")
	}
	return out
}

// Calc is a calculation: an operation with its parts, a field, a function of a field, or a number.
type Calc struct {
	Op    string // + - * / neg, length, since; "" is a field or a number
	Parts [2]*Calc
	Field string
	Value Value // of a number, or a duration
	Pos   Pos
}

// Walk calls visit for the calculation and all its parts.
func (c *Calc) Walk(visit func(*Calc)) {
	if c == nil {
		return
	}
	visit(c)
	c.Parts[0].Walk(visit)
	c.Parts[1].Walk(visit)
}

// binding is how tight an operation binds.
func (c *Calc) binding() int {
	switch c.Op {
	case "+", "-":
		return 1
	case "*", "/":
		return 2
	}
	return 3
}

// String writes the calculation as questions write it.
func (c *Calc) String() string {
	part := func(p *Calc, tight bool) string {
		s := p.String()
		if b := p.binding(); b < c.binding() || tight && b == c.binding() {
			s = "(" + s + ")"
		}
		return s
	}
	switch c.Op {
	case "+", "-", "*", "/":
		return part(c.Parts[0], false) + " " + c.Op + " " + part(c.Parts[1], true)
	case "neg":
		return "- " + part(c.Parts[0], true)
	case "length", "since":
		return c.Op + "(" + c.Field + ")"
	}
	if c.Field != "" {
		return c.Field
	}
	return c.Value.Src
}

// Only is what of a settings text are blocks of some kinds, each in the lines in which it stands.
func Only(body string, kinds ...string) string {
	lines := strings.Split(body, "\n")
	out := make([]string, len(lines))
	some := false
	for _, p := range Parse("", []byte(body)).Places() {
		if contains(kinds, p.Kind) {
			copy(out[p.First-1:min(p.Last, len(lines))], lines[p.First-1:])
			some = true
		}
	}
	if !some {
		return ""
	}
	return strings.Join(out, "\n")
}
