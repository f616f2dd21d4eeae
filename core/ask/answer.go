package ask

import (
	"cmp"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Value is what stands in a column. The zero value is nothing.
type Value struct {
	Text   string // a decimal without exponent, or any text
	Number bool
	Approx bool // it comes of a sketch
}

// Float is the number, for pictures; false where it is none.
func (v Value) Float() (float64, bool) {
	if !v.Number {
		return 0, false
	}
	r, ok := new(big.Rat).SetString(v.Text)
	if !ok {
		return 0, false
	}
	f, _ := r.Float64()
	return f, true
}

// compare compares two numbers; what is none is less.
func (v Value) compare(o Value) int {
	switch {
	case !v.Number || !o.Number:
		if v.Number != o.Number {
			if v.Number {
				return 1
			}
			return -1
		}
		return 0
	}
	if a, ok := plainNum(v.Text); ok { // as almost all are
		if b, ok := plainNum(o.Text); ok {
			return a.compare(b)
		}
	}
	a, _ := new(big.Rat).SetString(v.Text)
	b, _ := new(big.Rat).SetString(o.Text)
	return a.Cmp(b)
}

// Group is a group of an answer.
type Group struct {
	Per    []string // its values; nil of the one that is all others
	Rest   bool     // all others
	Of     int      // of how many groups
	Count  int64    // entries
	Values []Value  // over the span, by column
	Beside []Value  // nil where nothing stands beside
	// Series are the values by period, nil where there are none; so BesideSeries.
	Series, BesideSeries [][]Value
	Gaps                 []Stretch // where the question is about gaps; the longest first, by period nil
	gapsIn               map[int][]Stretch
	gapAt                int
}

// Answer is what a question gave so far.
type Answer struct {
	Plan    *Plan
	Columns []string
	Groups  []Group // the greatest first, all others last
	Entries []Entry // instead of groups, where those are asked for; by time
	Basis
}

// Basis is what an answer rests on.
type Basis struct {
	Looked, Fit int64
	NoNumber    map[string]int64  // entries that gave no number, by field
	Lacked      map[string]int64  // of those, how many lack the field
	NotNumber   map[string]string // one that is no number, by field
	Pending     int64             // first halves whose second may still come
	Dropped     int64             // entries that are not in Entries, for want of room
	TooMany     int64             // entries of groups for which there was no room, which count together
	TooMuch     bool              // more entries would have had to be kept than there is room for
	EmptiedBy   string            // the clause that left nothing; "" where something is left
}

// Unseen is what could not be seen while the span lasted, and from when on all is there.
type Unseen struct {
	Blind []Stretch     // of all that is asked, in order
	Kept  entry.Instant // nothing is there of before; None is that all is
}

// Answer is the answer as it stands. It may be asked for at any moment, and again.
func (a *Acc) Answer(u Unseen) *Answer {
	src, pending := a, int64(0)
	if a.Plan.ordered {
		src, pending = a.inOrder()
		pending += a.withApart(src)
	}
	p := a.Plan
	out := &Answer{Plan: p, Columns: p.Columns()}
	t := src.main
	out.Basis = Basis{Looked: a.Looked, Fit: src.fit, NoNumber: t.noNum, Lacked: t.lacked, NotNumber: t.misfit,
		Pending: pending, Dropped: src.dropped, TooMany: t.extras, TooMuch: a.tooMuch}
	if p.columns[0].Fn == "entries" {
		src.entriesInto(out)
	} else {
		src.groupsInto(out, u)
	}
	if !a.tooMuch {
		out.EmptiedBy = src.emptied(out)
	}
	return out
}

func (a *Acc) entriesInto(out *Answer) {
	a.thin()
	out.Entries, out.Dropped = a.rows, a.dropped
	if a.old == nil {
		return
	}
	var left []Entry
	var key []byte
	for _, e := range a.rows {
		key = key[:0]
		for i, v := range e.Per {
			if i > 0 {
				key = append(key, 0)
			}
			key = append(key, v...)
		}
		if _, old := a.old[string(key)]; !old {
			left = append(left, e)
		}
	}
	out.Entries = left
}

// emptied is the clause that left nothing.
func (a *Acc) emptied(out *Answer) string {
	q := a.Plan.Q
	if len(out.Entries) > 0 || a.beside != nil && len(a.beside.groups) > 0 ||
		slices.ContainsFunc(out.Groups, func(g Group) bool { return g.Count > 0 || len(g.Gaps) > 0 }) {
		return ""
	}
	word := "where"
	if q.Join != nil {
		word = "join"
	}
	switch {
	case a.fit > 0 && q.Having != nil:
		return "having"
	case a.fit > 0 && q.New > 0:
		return "new"
	case a.Looked == 0:
		return "on"
	case a.fitted == 0 && a.Plan.Condition() != nil:
		return word
	case a.fitted > 0 && a.ignored == a.fitted:
		return "ignore"
	case q.Over != nil && q.Over.D == 0 && q.Over.Named == "":
		return "from"
	}
	return "over"
}

// groupsInto makes the groups.
func (a *Acc) groupsInto(out *Answer, u Unseen) {
	p := a.Plan
	names := map[string]bool{}
	for k := range a.main.groups {
		names[k] = true
	}
	for _, h := range p.Q.Hosts {
		names[h] = true
	}
	if a.beside != nil {
		for k := range a.beside.groups {
			names[k] = true
		}
	}
	if len(p.per) == 0 {
		names[""] = true
	}
	x := &answering{p: p, main: a.main, beside: a.beside, unseen: unseenIn(u, &p.Span)}
	var list []*made
	for k := range names {
		if _, old := a.old[k]; old {
			continue
		}
		m := &made{key: k, main: a.main.groups[k]}
		if m.main == nil {
			m.main = &group{key: k}
		}
		if a.beside != nil {
			if m.beside = a.beside.groups[k]; m.beside == nil {
				m.beside = &group{key: k}
			}
		}
		m.values = x.values(m.main, a.main)
		if p.having >= 0 && !p.holds(m.values[p.having]) {
			continue
		}
		list = append(list, m)
	}
	defer a.main.unchanged()()
	if a.beside != nil {
		defer a.beside.unchanged()()
	}
	rest := &made{key: "", main: &group{}}
	if a.beside != nil {
		rest.beside = &group{}
	}
	others := 0
	if m := p.Q.Most; m != nil {
		x.choose(list, m)
		if len(list) > m.N {
			others = len(list) - m.N
			for _, g := range list[m.N:] {
				x.mergeRest(rest, g)
			}
			list = list[:m.N]
		}
	}
	for _, t := range []*table{a.main, a.beside} { // those for which there was no room
		if t == nil || t.extra == nil {
			continue
		}
		if t == a.main {
			x.main.mergeGroup(rest.main, copied(t.extra))
		} else {
			x.beside.mergeGroup(rest.beside, copied(t.extra))
		}
		others = max(others, 1)
	}
	slices.SortFunc(list, func(g, h *made) int {
		return cmp.Or(h.values[0].compare(g.values[0]), strings.Compare(g.key, h.key))
	})
	for _, m := range list {
		g := x.group(m)
		g.Per = []string{}
		if len(p.per) > 0 {
			g.Per = strings.Split(m.key, "\x00")
		}
		out.Groups = append(out.Groups, g)
	}
	if others > 0 {
		rest.values = x.values(rest.main, a.main)
		g := x.group(rest)
		g.Rest, g.Of = true, others
		out.Groups = append(out.Groups, g)
	}
}

// unchanged returns what lets a table take no more room than before, since what was made meanwhile is
// not kept.
func (t *table) unchanged() func() {
	bytes, values, room := t.bytes, t.values, t.room
	return func() { t.bytes, t.values, t.room = bytes, values, room }
}

// made is a group while its answer is made.
type made struct {
	key          string
	main, beside *group
	values       []Value
}

// answering makes the values of groups.
type answering struct {
	p            *Plan
	main, beside *table
	unseen       []Stretch
	room         []float64 // for whoever needs it
}

// unseenIn is what could not be seen of a span, in order.
func unseenIn(u Unseen, s *Span) []Stretch {
	out := slices.Clone(u.Blind)
	if u.Kept != entry.None && u.Kept > s.From {
		out = append(out, Stretch{s.From, min(u.Kept, s.To)})
	}
	slices.SortFunc(out, func(a, b Stretch) int { return cmp.Compare(a.From, b.From) })
	return out
}

// holds tells whether the value compares as having says.
func (p *Plan) holds(v Value) bool {
	if !v.Number {
		return false
	}
	h := p.Q.Having
	r, _ := new(big.Rat).SetString(v.Text)
	bound := new(big.Rat)
	switch {
	case h.Value.Kind == lang.DurationValue:
		bound.SetFrac64(int64(h.Value.Duration), 1e9)
	default:
		b, ok := h.Value.Number.Rat()
		if !ok {
			return false
		}
		bound.Set(b)
		if h.Column.Fn == "share" && strings.HasSuffix(h.Value.Src, "%") {
			bound.Quo(bound, big.NewRat(100, 1))
		}
	}
	return entry.Holds(r.Cmp(bound), h.Op)
}

// choose puts the groups that are wanted first.
func (x *answering) choose(list []*made, m *lang.Most) {
	value := func(g *made) Value { return g.values[x.p.by] }
	if m.Difference {
		value = func(g *made) Value {
			return difference(g.values[0], x.values(g.beside, x.beside)[0])
		}
	}
	known := map[*made]Value{}
	for _, g := range list {
		known[g] = value(g)
	}
	slices.SortFunc(list, func(a, b *made) int {
		va, vb := known[a], known[b]
		if va.Number != vb.Number { // what has no number comes last, whichever is wanted
			return -va.compare(vb)
		}
		c := vb.compare(va)
		if m.Least {
			c = -c
		}
		return cmp.Or(c, strings.Compare(a.key, b.key))
	})
}

// mergeRest counts a group among all others.
func (x *answering) mergeRest(rest, g *made) {
	x.main.mergeGroup(rest.main, copied(g.main))
	if rest.beside != nil {
		x.beside.mergeGroup(rest.beside, copied(g.beside))
	}
}

// copied is a group whose parts may be taken over by another.
func copied(g *group) *group {
	out := &group{key: g.key, cells: slices.Clone(g.cells)}
	return out
}

// whole is a group's cells as one.
func (t *table) whole(g *group) *cell {
	switch len(g.cells) {
	case 0:
		return &cell{}
	case 1:
		return &g.cells[0]
	}
	out := &cell{parts: make([]part, t.p.parts())}
	bytes, values := t.bytes, t.values // it is no part of the answer that is kept
	for i := range g.cells {
		c := &g.cells[i]
		out.n += c.n
		for k := range c.parts {
			t.mergePart(&out.parts[k], &c.parts[k], &t.p.columns[k])
		}
	}
	t.bytes, t.values = bytes, values
	return out
}

// values are the columns of a group over the span.
func (x *answering) values(g *group, t *table) []Value { return x.valuesOf(t.whole(g), g, t, -1) }

// valuesOf are the columns of a cell of a group, in a period, or over the span where that is negative.
func (x *answering) valuesOf(c *cell, g *group, t *table, period int) []Value {
	out := make([]Value, len(x.p.columns))
	for i := range x.p.columns {
		col := &x.p.columns[i]
		var q *part
		if len(c.parts) > 0 {
			q = &c.parts[i]
		}
		switch col.Fn {
		case "gaps":
			if period < 0 {
				out[i] = whole(int64(len(x.gaps(g, i, t))))
			}
		case "rate":
			out[i] = number(ratOrZero(c.n, t.span.length(period)))
		case "count":
			out[i] = whole(c.n)
		default:
			out[i] = x.valueOf(col, q, c.n)
		}
	}
	return out
}

func ratOrZero(n int64, d time.Duration) *big.Rat {
	if d <= 0 {
		return new(big.Rat)
	}
	return new(big.Rat).Quo(big.NewRat(n, 1), big.NewRat(int64(d), 1e9))
}

func whole(n int64) Value { return Value{Text: strconv.FormatInt(n, 10), Number: true} }

// number is a fraction with twelve significant digits.
func number(r *big.Rat) Value { return Value{Text: rounded(r, 12), Number: true} }

func (x *answering) valueOf(col *lang.Column, q *part, n int64) Value {
	if q == nil {
		q = &part{}
	}
	switch col.Fn {
	case "share":
		if n == 0 {
			return Value{}
		}
		return number(big.NewRat(q.n, n))
	case "different":
		if q.set == nil {
			return Value{Text: "0", Number: true}
		}
		k, approx := q.set.count()
		v := whole(k)
		v.Approx = approx
		return v
	case "sum":
		if q.sum == nil {
			return Value{Text: "0", Number: true}
		}
		return Value{Text: ratString(q.sum.rat()), Number: true}
	case "avg":
		if q.n == 0 {
			return Value{}
		}
		return number(new(big.Rat).Quo(q.sum.rat(), new(big.Rat).SetInt64(q.n)))
	case "min", "max":
		if q.n == 0 {
			return Value{}
		}
		return Value{Text: q.least.String(), Number: true}
	case "first", "last":
		if q.stamp == nil {
			return Value{}
		}
		v := Value{Text: q.stamp.value}
		if k, ok := parseNum(v.Text); ok {
			if s := k.String(); s == v.Text || !isPlain(v.Text) {
				v.Text, v.Number = s, true
			}
		}
		return v
	}
	if q.values == nil {
		return Value{}
	}
	k, approx, room := q.values.percentile(percents[col.Fn], x.room)
	x.room = room
	return Value{Text: k.String(), Number: true, Approx: approx}
}

// isPlain tells whether a text is a number without a unit, which may be written so on purpose.
func isPlain(s string) bool { return strings.Trim(s, "+-0123456789.eE") == "" }

var percents = map[string]int{"median": 50, "p50": 50, "p90": 90, "p95": 95, "p99": 99}

// gaps are those of a group, the newest first.
func (x *answering) gaps(g *group, column int, t *table) []Stretch {
	whole := cover{longer: x.p.columns[column].Longer}
	for i := range g.cells {
		if c := g.cells[i].parts[column].cover; c != nil {
			whole.merge(c)
		}
	}
	whole.longer = x.p.columns[column].Longer
	unseen := x.unseen
	if t != x.main {
		unseen = nil
	}
	out := whole.gaps(t.span, whole.longer, unseen)
	slices.Reverse(out)
	return out
}

// group is a group of the answer.
func (x *answering) group(m *made) Group {
	p := x.p
	g := Group{Values: m.values[:p.shown], gapAt: -1}
	for i := range m.main.cells {
		g.Count += m.main.cells[i].n
	}
	for i, c := range p.columns[:p.shown] {
		if c.Fn == "gaps" {
			g.Gaps, g.gapAt = x.gaps(m.main, i, x.main), i
			if p.Span.Bounds != nil {
				g.gapsIn = map[int][]Stretch{}
				for _, s := range g.Gaps {
					k := p.Span.of(s.From)
					g.gapsIn[k] = append(g.gapsIn[k], s)
				}
			}
		}
	}
	if m.beside != nil {
		g.Beside = x.values(m.beside, x.beside)[:p.shown]
	}
	if p.Span.Bounds == nil {
		return g
	}
	g.Series = x.series(m.main, x.main, p.Span.Periods())
	if g.gapAt >= 0 {
		for k, row := range g.Series {
			row = slices.Clone(row)
			row[g.gapAt] = whole(int64(len(g.gapsIn[k])))
			g.Series[k] = row
		}
	}
	if m.beside != nil {
		beside := x.series(m.beside, x.beside, min(p.Beside.Periods(), len(g.Series)))
		g.BesideSeries = append(beside, make([][]Value, len(g.Series)-len(beside))...)
	}
	return g
}

// series are the columns of a group by period. Of those without entries there may be very many.
func (x *answering) series(g *group, t *table, periods int) [][]Value {
	out := make([][]Value, periods)
	none := x.valuesOf(&cell{}, g, t, 0)[:x.p.shown]
	for k := range out {
		out[k] = none
	}
	for i := range g.cells {
		if c := &g.cells[i]; c.n > 0 && int(c.period) < periods {
			out[c.period] = x.valuesOf(c, g, t, int(c.period))[:x.p.shown]
		}
	}
	return out
}

// Longest is the longest gap of the group, in a period where that is not negative; 0 is none.
func (g *Group) Longest(period int) time.Duration {
	list := g.Gaps
	if period >= 0 {
		list = g.gapsIn[period]
	}
	d := time.Duration(0)
	for _, s := range list {
		d = max(d, s.To.Sub(s.From))
	}
	return d
}

// Difference is how much values differ from those beside them; nothing where one is no number.
func Difference(values, beside []Value) []Value {
	out := make([]Value, len(values))
	for i := range values {
		if i < len(beside) {
			out[i] = difference(values[i], beside[i])
		}
	}
	return out
}

func difference(v, b Value) Value {
	if !v.Number || !b.Number {
		return Value{}
	}
	x, _ := new(big.Rat).SetString(v.Text)
	y, _ := new(big.Rat).SetString(b.Text)
	return Value{Text: ratString(x.Sub(x, y)), Number: true, Approx: v.Approx || b.Approx}
}
