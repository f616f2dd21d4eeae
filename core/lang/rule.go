package lang

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"
)

// Rule is what a problem looks like, what says that it is over, per what it is
// counted, how many within what time, and how bad it is.
type Rule struct {
	Pos      Pos
	Name     string
	On       []string
	Problem  Expr
	Recovery Expr // nil where there is none
	Ignore   Expr // nil where there is none
	Among    Expr // the entries that a share is a share of; nil: all that are not ignored
	Awaits   Expr // nil where nothing is awaited
	From     []string
	Once     Expr // what awaiting starts with; nil: again and again
	Per      []string
	Raises   []Raise

	OnRecovery bool
	RecoverAt  int           // recoveries that clear; 1 where nothing is said
	RecoverIn  time.Duration // within which they come; 0: since the last hit or raise
	Quiet      time.Duration // 0 where it does not clear by quiet
	Age        time.Duration // 0 where it does not clear by age
	ClearWhens []When
	ByHand     bool

	Empty   string         // "", "good", "bad" or "neither"
	Blind   entry.Severity // what an unseen origin raises; 0 holds
	BlindIn time.Duration  // after which
	Reopen  time.Duration  // 0: each alert is a new one
	Unless  []Unless
	During  []Hours
	Arrival bool // an entry's time is that of its arrival
	Grace   time.Duration
	Remind  time.Duration // 0 where nobody is reminded
	Tells   []Tell
	Say     string
	Advise  string
	About   []string
	Note    string
	Off     bool
	For     []string // the groups of hosts that it is sent to; nil: it is judged here
	// AtCentre tells that it is judged at the centre, with the entries of all hosts that it is sent to.
	AtCentre bool
	// Feeds tells that it is judged elsewhere: what is something for it is handed on; set by who reads settings.
	Feeds   bool
	Expects []*Expect
	// Zone is the settings' zone, in which days begin; set by who reads settings, nil
	// is UTC.
	Zone *time.Location

	clearOn, clearHand *token // where those clauses stand
}

// Raise is a threshold and the severity that it raises. Of When, Without, By and Open
// at most one is set; else it is a threshold of hits.
type Raise struct {
	Pos      Pos
	Severity entry.Severity

	At        int           // hits, from 1
	In        time.Duration // 0: since the key last started from zero
	Different string        // values of this field instead of hits; "" is hits
	Where     Expr          // of the hits for which it holds
	Then      Expr          // what follows
	Within    time.Duration // with Then

	When    *When
	Without time.Duration // of an awaited entry that did not come
	By      *By
	Open    time.Duration // so long after it was raised
	Untaken bool          // with Open
}

// When compares a number over a window, or over periods in a row.
type When struct {
	Pos     Pos
	Agg     string // count, sum, avg, min, max, p50, p95, p99, different, share
	Field   string // of what; "" with count and share
	Op      string
	Value   Value // a number
	In      time.Duration
	AtLeast int // entries
	K, M    int // K of the last M periods; 0 is a sliding window
	Row     bool
}

// By is a time of day by which an awaited entry is to come, on some days.
type By struct {
	At   time.Duration // since midnight
	Days Days
}

// Days are days of the week, by time.Weekday; 0 is every day.
type Days uint8

// Has tells whether a day is one of them.
func (d Days) Has(w time.Weekday) bool { return d == 0 || d&(1<<w) != 0 }

// Hours are a span of time on some days. It belongs to the day on which it begins.
type Hours struct {
	Days     Days
	From, To time.Duration // since midnight; To may lie on the next day
}

// Unless names the bigger alert in whose shadow this one stands.
type Unless struct {
	Rule string
	Same []string
	pos  token
}

// Tell says who is told.
type Tell struct {
	Pos      Pos
	Contacts []string
	From     entry.Severity // 0: of any
	On       []string       // changes; nil: all
	Untaken  time.Duration  // told only where nobody has taken it in that time

	names []token
}

// Aggregates lists the words for numbers over time.
var Aggregates = []string{"count", "sum", "avg", "min", "max", "p50", "p95", "p99", "different", "share"}

// Hits tells whether the raise is a threshold of hits.
func (r *Raise) Hits() bool {
	return r.When == nil && r.Without == 0 && r.By == nil && r.Open == 0
}

// Why says in words what a raise saw, such as "3 hits in 5m".
func (r *Raise) Why() string {
	switch {
	case r.When != nil:
		return r.When.String()
	case r.Without > 0:
		return "nothing heard for " + entry.Span(r.Without)
	case r.By != nil:
		return "nothing heard by " + clockOf(r.By.At)
	case r.Open > 0:
		s := "open for " + entry.Span(r.Open)
		if r.Untaken {
			s += ", and nobody has taken it"
		}
		return s
	}
	s := fmt.Sprintf("%d hits", r.At)
	switch {
	case r.Different != "":
		s = fmt.Sprintf("%d different %s", r.At, r.Different)
	case r.At == 1:
		s = "1 hit"
	}
	if r.In > 0 {
		s += " in " + entry.Span(r.In)
	}
	if r.Where != nil {
		s += " where " + r.Where.String()
	}
	if r.Then != nil {
		s += ", then " + r.Then.String()
	}
	return s
}

func clockOf(d time.Duration) string {
	s := fmt.Sprintf("%02d:%02d", d/time.Hour, d/time.Minute%60)
	if d%time.Minute > 0 {
		s += fmt.Sprintf(":%02d", d/time.Second%60)
	}
	return s
}

// String writes the comparison as rules write it.
func (w *When) String() string {
	s := w.Agg
	if w.Field != "" {
		s += "(" + w.Field + ")"
	}
	s += " " + w.Op + " " + w.Value.String() + " in " + entry.Span(w.In)
	if w.AtLeast > 0 {
		s += fmt.Sprintf(", at least %d", w.AtLeast)
	}
	switch {
	case w.Row && w.K > 0:
		s += fmt.Sprintf(", %d in a row", w.K)
	case w.K > 0:
		s += fmt.Sprintf(", %d of %d", w.K, w.M)
	}
	return s
}

// Whens are all comparisons of numbers: those of the raises, then those of the clears.
func (r *Rule) Whens() []*When {
	var out []*When
	for i := range r.Raises {
		if r.Raises[i].When != nil {
			out = append(out, r.Raises[i].When)
		}
	}
	for i := range r.ClearWhens {
		out = append(out, &r.ClearWhens[i])
	}
	return out
}

// Eases tells whether an alert clears when none of its numbers holds any more, since
// no other way is written.
func (r *Rule) Eases() bool {
	whens := 0
	for i := range r.Raises {
		switch x := &r.Raises[i]; {
		case x.When != nil:
			whens++
		case x.Open == 0:
			return false
		}
	}
	return whens > 0 && !r.OnRecovery && r.Quiet == 0 && r.Age == 0 && len(r.ClearWhens) == 0 && !r.ByHand
}

// Shares tells whether every entry counts, not hits alone.
func (r *Rule) Shares() bool {
	return slices.ContainsFunc(r.Whens(), func(w *When) bool { return w.Agg == "share" })
}

// Longest is the longest time that the rule looks back.
func (r *Rule) Longest() time.Duration {
	d := max(r.Quiet, r.Remind, r.RecoverIn, r.Reopen, r.BlindIn, r.Age, r.Grace)
	for i := range r.Raises {
		x := &r.Raises[i]
		d = max(d, x.In, x.In+x.Within, x.Without, x.Open)
		if x.By != nil {
			d = max(d, 24*time.Hour)
		}
	}
	for _, w := range r.Whens() {
		d = max(d, w.In*time.Duration(max(w.K, w.M, 1)))
	}
	return d
}

// completeRule tells what a rule lacks, or has that does not go together.
func (k *checker) completeRule(f *File, b *block, n *Rule) {
	if n.Per == nil {
		n.Per = []string{"origin"}
	}
	if n.RecoverAt == 0 {
		n.RecoverAt = 1
	}
	wrong := func(word, code, what, mend string) { k.clause(f, b, word, "", Err, code, what, mend) }
	switch {
	case n.Problem == nil && n.Awaits == nil && !n.Shares() && n.Blind == 0:
		f.report(Err, "incomplete", b.name, fmt.Sprintf("the rule %s does not say what the problem is", n.Name),
			"write: problem /…/, problem \"…\", or awaits /…/")
	case n.Problem != nil && n.Awaits != nil:
		wrong("awaits", "problem-and-awaits", "a rule has a problem, or it awaits something", "make two rules of it")
		return
	case n.Problem == nil && n.Awaits == nil && n.Shares():
		f.report(Err, "incomplete", b.name, "a share needs a problem: the entries whose share it is",
			"write: problem EXPR")
	case len(n.Raises) == 0 && n.Blind == 0:
		f.report(Err, "incomplete", b.name, fmt.Sprintf("the rule %s raises nothing", n.Name),
			"write: raise warning, or raise warning at 3 in 5m")
	}
	if n.clearOn != nil && n.Recovery == nil {
		f.report(Err, "no-recovery", *n.clearOn, "nothing says what the recovery is",
			"write: recovery /…/, or clear after 30m quiet")
	}
	if n.ByHand && (n.OnRecovery || n.Quiet > 0 || n.Age > 0 || len(n.ClearWhens) > 0) {
		f.report(Err, "clear-by-hand", *n.clearHand, "clear by hand means nothing but a person, and another way "+
			"to clear stands beside it", "keep one of them")
	}
	if n.Once != nil && n.Awaits == nil {
		wrong("once", "once-without-awaits", "once says after what something is awaited, and nothing is",
			"write: awaits /…/")
	}
	if n.Among != nil && !n.Shares() {
		wrong("among", "does-not-apply", "among is for shares, and this rule has none",
			"take the clause out, or write: raise error when share >= 5% in 5m")
	}
	if len(n.From) > 0 && (n.Once != nil || !slices.Equal(n.Per, []string{"host"})) {
		wrong("awaits", "from-needs-host", "hosts that are awaited by name need per host alone, and no once",
			"write: per host")
	}
	if n.Grace > 0 && !slices.ContainsFunc(n.Whens(), func(w *When) bool { return w.K > 0 }) {
		wrong("grace", "does-not-apply", "grace is for periods, and this rule has none",
			"take the clause out, or write: …, 3 in a row")
	}
	if n.Empty != "" && len(n.Whens()) == 0 {
		wrong("empty", "does-not-apply", "empty is for numbers over time, and this rule has none",
			"take the clause out")
	}
	for i := range n.Raises {
		x := &n.Raises[i]
		tell := func(code, what, mend string) { k.tell(f, Err, code, x.Pos, len("raise"), what, mend) }
		switch {
		case n.Awaits == nil && (x.Without > 0 || x.By != nil):
			tell("without-awaits", "nothing is awaited that could fail to come",
				"write: awaits /…/ instead of problem")
		case n.Awaits != nil && x.Without == 0 && x.By == nil && x.Open == 0:
			tell("awaits-raises", "a rule that awaits raises after a time without, by a time, or after a time open",
				"write: raise "+x.Severity.String()+" after 10m without")
		}
	}
	if n.Awaits != nil && (n.Quiet > 0 || len(n.ClearWhens) > 0 || n.ByHand) {
		wrong("clear", "awaits-clears", "what is awaited clears the alert when it comes; besides that only a "+
			"recovery and an age do", "take the clause out")
	}
	for _, u := range n.Unless {
		for _, s := range u.Same {
			if !contains(n.Per, s) {
				f.report(Err, "unknown-field", u.pos, fmt.Sprintf("%s is not in the key of this rule", s),
					meant(s, n.Per))
			}
		}
	}
}

// shadows resolves the rules that `unless` names, and refuses circles.
func (k *checker) shadows() {
	s := k.settings
	for _, r := range s.Rules {
		f := k.file[r]
		for _, u := range r.Unless {
			other := s.Rule(u.Rule)
			if other == nil {
				if !contains(k.names["rule"], u.Rule) {
					f.report(Err, "unknown-name", u.pos, fmt.Sprintf("there is no rule %q", u.Rule),
						meant(u.Rule, k.names["rule"]))
				}
				continue
			}
			for _, same := range u.Same {
				if !contains(other.Per, same) {
					f.report(Err, "unknown-field", u.pos, fmt.Sprintf("%s is not in the key of %s", same, other.Name),
						meant(same, other.Per))
				}
			}
			if k.shadowed(other, r.Name, map[string]bool{}) {
				f.report(Err, "unless-circle", u.pos, fmt.Sprintf("%s and %s stand in each other's shadow", r.Name,
					u.Rule), "take one unless out")
			}
		}
	}
}

func (k *checker) shadowed(r *Rule, by string, seen map[string]bool) bool {
	if r.Name == by {
		return true
	}
	if seen[r.Name] {
		return false
	}
	seen[r.Name] = true
	for _, u := range r.Unless {
		if o := k.settings.Rule(u.Rule); o != nil && k.shadowed(o, by, seen) {
			return true
		}
	}
	return false
}

// Exprs are the expressions of the rule with the words of their clauses.
func (r *Rule) Exprs() []Clause {
	var out []Clause
	add := func(word string, x Expr) {
		if x != nil {
			out = append(out, Clause{word, x})
		}
	}
	add("problem", r.Problem)
	add("recovery", r.Recovery)
	add("ignore", r.Ignore)
	add("among", r.Among)
	add("awaits", r.Awaits)
	add("once", r.Once)
	for i := range r.Raises {
		add("raise", r.Raises[i].Where)
		add("raise", r.Raises[i].Then)
	}
	return out
}

// Clause is an expression, and the word of the clause in which it stands.
type Clause struct {
	Word string
	Expr Expr
}

// Ordered are rules in the order in which they are judged: by name, but one that
// `unless` names comes just before the first that needs it.
func Ordered(rules []*Rule) []*Rule {
	list := slices.Clone(rules)
	slices.SortStableFunc(list, func(a, b *Rule) int { return strings.Compare(a.Name, b.Name) })
	var out []*Rule
	done := map[string]bool{}
	var put func(r *Rule)
	put = func(r *Rule) {
		if done[r.Name] {
			return
		}
		done[r.Name] = true
		var needs []string
		for _, u := range r.Unless {
			needs = append(needs, u.Rule)
		}
		slices.Sort(needs)
		for _, n := range needs {
			if i := slices.IndexFunc(list, func(x *Rule) bool { return x.Name == n }); i >= 0 {
				put(list[i])
			}
		}
		out = append(out, r)
	}
	for _, r := range list {
		put(r)
	}
	return out
}

// Measured are the fields whose values the rule's thresholds look at, each once.
func (r *Rule) Measured() []string {
	var out []string
	add := func(f string) {
		if f != "" && !contains(out, f) {
			out = append(out, f)
		}
	}
	for i := range r.Raises {
		add(r.Raises[i].Different)
	}
	for _, w := range r.Whens() {
		add(w.Field)
	}
	return out
}

// zone is the zone in which days begin.
func (r *Rule) zone() *time.Location {
	if r.Zone == nil {
		return time.UTC
	}
	return r.Zone
}

// Midnight is the start of the day, so many days on, in which an instant lies.
func (r *Rule) Midnight(at entry.Instant, days int) entry.Instant {
	t := at.Time().In(r.zone())
	return entry.Of(time.Date(t.Year(), t.Month(), t.Day()+days, 0, 0, 0, 0, r.zone()))
}

// OnDay is a time of day on the day, so many days on, in which an instant lies.
func (r *Rule) OnDay(at entry.Instant, days int, clock time.Duration) entry.Instant {
	t := at.Time().In(r.zone())
	return entry.Of(time.Date(t.Year(), t.Month(), t.Day()+days, int(clock/time.Hour), int(clock/time.Minute%60),
		int(clock/time.Second%60), int(clock%time.Second), r.zone()))
}

// Weekday is the day of the week in which an instant lies.
func (r *Rule) Weekday(at entry.Instant) time.Weekday { return at.Time().In(r.zone()).Weekday() }

// Inside tells whether an instant lies in the rule's hours.
func (r *Rule) Inside(at entry.Instant) bool {
	if len(r.During) == 0 {
		return true
	}
	for _, h := range r.During {
		for back := 0; back >= -1; back-- { // it may have begun the day before
			if from := r.OnDay(at, back, h.From); h.Days.Has(r.Weekday(from)) && at >= from &&
				at < r.OnDay(at, back, h.To) {
				return true
			}
		}
	}
	return false
}

// Lasting is the first instant at which so much time inside the rule's hours has
// passed since from.
func (r *Rule) Lasting(from entry.Instant, d time.Duration) entry.Instant {
	if len(r.During) == 0 {
		return from.Add(d)
	}
	at := from
	for day := 0; day < 4000; day++ { // spans of one day, in their order
		var spans [][2]entry.Instant
		for _, h := range r.During {
			for back := 0; back >= -1; back-- {
				if a := r.OnDay(at, back, h.From); h.Days.Has(r.Weekday(a)) {
					spans = append(spans, [2]entry.Instant{a, r.OnDay(at, back, h.To)})
				}
			}
		}
		slices.SortFunc(spans, func(a, b [2]entry.Instant) int { return int(min(1, max(-1, a[0]-b[0]))) })
		for _, s := range spans {
			start := max(s[0], at)
			if s[1] <= start {
				continue
			}
			if left := s[1].Sub(start); d <= left {
				return start.Add(d)
			} else {
				d -= left
			}
			at = s[1]
		}
		at = max(at, r.Midnight(at, 1))
	}
	return at
}

// SameValues tells whether two keys have the same values of some fields.
func SameValues(fields []string, ra *Rule, a []string, rb *Rule, b []string) bool {
	for _, f := range fields {
		i, j := slices.Index(ra.Per, f), slices.Index(rb.Per, f)
		if i < 0 || j < 0 || i >= len(a) || j >= len(b) || a[i] != b[j] {
			return false
		}
	}
	return true
}

// RuleAt is the rule of a file in which a line lies, or the one before it; nil where there is
// none.
func (s *Settings) RuleAt(file string, line int) *Rule {
	var best *Rule
	for _, r := range s.EveryRule() {
		if r.Pos.File == file && r.Pos.Line <= line && (best == nil || r.Pos.Line > best.Pos.Line) {
			best = r
		}
	}
	return best
}

// RuleNear is RuleAt, or else the first rule of the file.
func (s *Settings) RuleNear(file string, line int) *Rule {
	best := s.RuleAt(file, line)
	if best != nil {
		return best
	}
	for _, r := range s.Rules {
		if r.Pos.File == file && (best == nil || r.Pos.Line < best.Pos.Line) {
			best = r
		}
	}
	return best
}

// Vars are the fields that the rule's texts name and its key does not hold.
func (r *Rule) Vars() []string {
	var out []string
	seen := map[string]bool{"count": true, "span": true, "first": true, "last": true, "severity": true}
	for _, p := range r.Per {
		seen[p] = true
	}
	for _, t := range []string{r.Say, r.Advise} {
		for _, p := range Template(t) {
			if p.Field != "" && !seen[p.Field] {
				seen[p.Field] = true
				out = append(out, p.Field)
			}
		}
	}
	return out
}
