package match

import (
	"bytes"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

// Plan is how the entries of one source are judged by the rules that look at
// it. Only one goroutine at a time may read by it, since what is searched for is chosen
// while reading; Divide and Wants may be called by others, with a Divider each.
type Plan struct {
	Source   string
	Layout   *layout.Layout
	rules    []planned
	lits     []literal
	always   []int // conditions that need no literal, in the order of the rules
	search   *searcher
	layout   *lang.Layout
	constant map[string]bool // fields that do not stand in the entries
	heard    []byte          // the text that the choice of literals will go by
	chosen   int             // how much text it went by
	entry    *lang.EntrySpec
	encoding string // the source's word for it
	kept     bool   // entries stand with when they arrived, and from whom
	only     lang.Expr
	source   *lang.Source
	secret   []byte
	// take tells that entries are handed on instead of verdicts, text that their text is wanted.
	take, text bool

	// Now measures time where it is set: one of costEvery judgements is timed.
	Now   func() time.Duration
	costs []Cost // by the place in rules
	turn  int
	// Scanned is how long reading has taken in all, as who reads has noted it.
	Scanned time.Duration
	// Divided is what dividing entries into fields has cost: how many were, and what it took.
	Divided Cost
}

// Cost is what a rule has cost in the entries of a plan's source.
type Cost struct {
	Rule   int           // its place in the engine
	Judged int64         // entries that were tried against its expressions
	Took   time.Duration // that it took, measured on a sample
	Slow   Slow          // the slowest entry since [Plan.Slowest] was asked last
}

// Slow is an entry that took long: of those that were timed, all long ones among them, the slowest.
type Slow struct {
	Took   time.Duration // 0 of none
	At     entry.Instant // when the entry was
	Origin string
	Offset int64
	Text   string // its begin, masked
}

// How long an entry has to be to be timed always, and how much is remembered of one, in bytes.
const (
	longEntry = 4 << 10
	slowText  = 300
)

// note takes an entry that took so long, if none has taken longer.
func (x *Slow) note(took time.Duration, e *entry.Entry) {
	if took <= x.Took {
		return
	}
	text := strings.Clone(e.Raw[:min(len(e.Raw), slowText)])
	*x = Slow{took, e.At, e.Origin, e.Offset, strings.ToValidUTF8(text, "")}
}

// Slowest are the slowest entries since it was asked last, for each rule, by its place in the engine, and
// for the layout as -1.
func (p *Plan) Slowest(each func(rule int, s Slow)) {
	for i := range p.costs {
		if c := &p.costs[i]; c.Slow.Took > 0 {
			each(c.Rule, c.Slow)
			c.Slow = Slow{}
		}
	}
	if p.Divided.Slow.Took > 0 {
		each(-1, p.Divided.Slow)
		p.Divided.Slow = Slow{}
	}
}

// costEvery is how many judgements stand for each that is timed.
const costEvery = 32

// Costs are what the rules have cost so far.
func (p *Plan) Costs() []Cost { return p.costs }

// Timed tells whether entries have a time of their own: by their layout, or by when
// they arrived, where that was kept.
func (p *Plan) Timed() bool { return p.kept || p.Layout.Timed() }

// EncodingOf is the encoding of a file of the source, by its first bytes.
func (p *Plan) EncodingOf(head []byte) Encoding { return EncodingOf(p.encoding, head) }

// Closed is how long the last entry of a file waits for further lines; 0 where
// each line is an entry.
func (p *Plan) Closed() time.Duration {
	if p.entry == nil {
		return 0
	}
	return p.entry.Closed
}

// planned is a rule with its place among all rules.
type planned struct {
	rule  *lang.Rule
	index int
	vars  []string // fields that its texts name
	// shares tells that every entry counts for it.
	shares bool
	// summed tells which of the fields that it measures are taken as numbers.
	summed []bool
}

// kinds is how many conditions a rule can have: what Roles has bits for. Conditions are
// numbered kinds × place in rules, plus the place of the role's bit.
const kinds = 4

// NewPlan plans how rules, which are all that the engine knows in its order,
// judge the entries of a source; a nil source stands for lines of none.
func NewPlan(s *lang.Settings, source *lang.Source, rules []*lang.Rule, zone *time.Location) *Plan {
	p := &Plan{}
	name := ""
	var l *lang.Layout
	constant := map[string]bool{}
	if source != nil {
		name = source.Name
		l = s.Layout(source.LayoutName())
		p.entry, p.encoding = source.Entry, source.Encoding
		p.source, p.only, p.kept = source, source.Only, source.Kept()
		if source.Location != nil {
			zone = source.Location
		}
		for _, f := range source.Fields {
			constant[f.Name] = true
		}
	}
	p.Source = name
	p.Layout = layout.Compile(l, zone, s.TokensOf(l))
	p.secret = s.Secret
	if source != nil {
		p.Layout.Tell(source.Message == "essentials", source.Account)
	}
	p.layout, p.constant = l, constant
	for i, r := range rules {
		if r.Off || name != "" && !r.LooksAt(name) {
			continue
		}
		p.rules = append(p.rules, planned{rule: r, index: i, vars: r.Vars(), shares: r.Shares(), summed: summed(r)})
		p.costs = append(p.costs, Cost{Rule: i})
	}
	if len(rules) > 0 {
		p.Layout.Narrow(p.asked())
	}
	return p
}

// NewWhole plans how one rule judges the entries of a source, each with all of its fields.
func NewWhole(s *lang.Settings, source *lang.Source, r *lang.Rule, zone *time.Location) *Plan {
	p := NewPlan(s, source, nil, zone)
	p.rules = []planned{{rule: r, vars: r.Vars()}}
	p.costs = []Cost{{}}
	return p
}

// summed tells which of the fields that a rule measures are taken as numbers, in their
// order; of the others only whether they differ counts.
func summed(r *lang.Rule) []bool {
	var out []bool
	for _, f := range r.Measured() {
		out = append(out, slices.ContainsFunc(r.Whens(),
			func(w *lang.When) bool { return w.Field == f && w.Agg != "different" }))
	}
	return out
}

// conditions are the expressions of a rule that make an entry something for it, by the
// bits of their roles.
func conditions(r *lang.Rule) [kinds]lang.Expr {
	out := [kinds]lang.Expr{r.Problem, r.Recovery, r.Once}
	if r.Awaits != nil {
		out[0] = r.Awaits
	}
	for i := range r.Raises {
		if x := r.Raises[i].Then; x != nil && out[3] == nil {
			out[3] = x
		} else if x != nil {
			out[3] = &lang.Or{Of: []lang.Expr{out[3], x}}
		}
	}
	return out
}

// asked are the fields that the rules of the plan look at, so that no others need be
// divided off.
func (p *Plan) asked() []string {
	out := []string{"text", "host"}
	look := func(x lang.Expr) {
		lang.Walk(x, func(part lang.Expr, _ bool) {
			switch part := part.(type) {
			case *lang.Match:
				out = append(out, part.Field)
			case *lang.Compare:
				out = append(out, part.Field)
			case *lang.In:
				out = append(out, part.Field)
			case *lang.Has:
				out = append(out, part.Field)
			}
		})
	}
	look(p.only)
	for _, r := range p.rules {
		for _, x := range r.rule.Exprs() {
			look(x.Expr)
		}
		out = append(append(append(out, r.rule.Per...), r.vars...), r.rule.Measured()...)
	}
	return out
}

// translated tells whether a field of an open format may stand in an entry in another form
// than the field has: what syslog and the journal write as numbers, and almost all that is
// in an event.
func translated(format, field string) bool {
	switch format {
	case "syslog", "journal":
		return slices.Contains([]string{"facility", "level", "at"}, field)
	case "event-xml":
		return !slices.Contains([]string{"program", "pid", "record"}, field)
	}
	return false
}

// Constants are the fields that every entry of a log has, by the log's path and host.
func (p *Plan) Constants(path, host string) []entry.Field {
	if p.source == nil {
		return nil
	}
	return constants(p.source, path, host)
}

// mostHeard is how much text the choice of what is searched for goes by, in bytes, and
// countedIn how much of it literals are counted in.
const mostHeard, countedIn = 64 << 10, 16 << 10

// Prepare chooses what is searched for, by what is rare in the text that comes: as long as
// there was little of it, it chooses anew when there is several times as much.
func (p *Plan) Prepare(text []byte) {
	if p.search != nil && p.chosen >= mostHeard {
		return
	}
	if p.search == nil && len(text) >= mostHeard {
		p.decide(text)
		return
	}
	p.heard = append(p.heard, text[:min(len(text), mostHeard)]...)
	if p.search == nil || len(p.heard) >= 4*p.chosen && len(p.heard) > 1<<10 {
		p.decide(p.heard)
	}
	if p.chosen >= mostHeard {
		p.heard = nil
	}
}

// decide chooses the literals that are searched for, and how.
func (p *Plan) decide(sample []byte) {
	p.chosen = max(len(sample), 1)
	p.always, p.lits = nil, nil
	l := p.layout
	typed := func(field string) bool {
		if p.constant[field] || l == nil {
			return p.constant[field]
		}
		from, computed := l.Trace(field)
		return computed || slices.ContainsFunc(from,
			func(f string) bool { return p.constant[f] || translated(l.Format, f) })
	}
	escapes := p.kept || p.Layout.Escapes()
	pick := p.picker(sample, escapes)
	index := map[lang.Literal]int{}
	for at := range p.rules {
		r := p.rules[at].rule
		for k, x := range conditions(r) {
			if x == nil && !(p.take && k == 0) {
				continue
			}
			cond := kinds*at + k
			if k == 0 && (x == nil || r.Shares()) { // every entry counts
				p.always = append(p.always, cond)
				continue
			}
			needs := needsOf(x, typed, pick)
			// What is masked is kept in a form that nobody can read, and taken in another than it has.
			if (p.kept || p.take) && l != nil && len(l.Masks) > 0 {
				needs = nil
			}
			// any character may be written as a number
			if l != nil && (l.Format == "json" || l.Format == "journal") && needs != nil {
				needs = append(slices.Clone(needs), lang.Literal{Text: `\u00`})
			}
			if escapes {
				needs = plainly(needs)
			}
			if needs != nil && l != nil && l.Format == "journal" { // a text that is none is an array of its bytes
				needs = append(slices.Clone(needs), lang.Literal{Text: ":["}, lang.Literal{Text: ": ["})
			}
			if needs == nil {
				p.always = append(p.always, cond)
				continue
			}
			for _, n := range needs {
				j, ok := index[n]
				if !ok {
					j = len(p.lits)
					index[n] = j
					p.lits = append(p.lits, literal{text: n.Text, fold: n.Fold})
				}
				if c := p.lits[j].cond; len(c) == 0 || c[len(c)-1] != cond {
					p.lits[j].cond = append(p.lits[j].cond, cond)
				}
			}
		}
	}
	p.search = newSearcher(p.lits, sample)
}

// picker returns what picks one of several sets of literals: that of which least stands in
// a sample, of those the one whose shortest literal is longest, then the smallest.
func (p *Plan) picker(sample []byte, escapes bool) func([][]lang.Literal) []lang.Literal {
	sample = sample[:min(len(sample), countedIn)]
	low := bytes.ToLower(sample)
	known := map[lang.Literal]int{}
	count := func(l lang.Literal) int {
		n, ok := known[l]
		if !ok {
			if l.Fold {
				n = bytes.Count(low, []byte(l.Text))
			} else {
				n = bytes.Count(sample, []byte(l.Text))
			}
			known[l] = n
		}
		return n
	}
	return func(sets [][]lang.Literal) (best []lang.Literal) {
		if len(sets) == 1 {
			return sets[0]
		}
		least, length := 0, 0
		for _, set := range sets {
			written := set
			if escapes {
				written = plainly(set)
			}
			if written == nil {
				continue
			}
			sum := 0
			for _, l := range written {
				sum += count(l)
			}
			n := min(shortest(written), 16)
			if best == nil || sum < least || sum == least && (n > length || n == length && len(set) < len(best)) {
				best, least, length = set, sum, n
			}
		}
		return best
	}
}
