package ask

import (
	"strings"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
)

// table has the groups of one span, with what was added up of each in each period.
type table struct {
	p      *Plan
	span   *Span
	groups map[string]*group
	last   *group // the one that came last, and its key
	key    []byte
	lately [1 << latelyBits]*group // by slotOf
	noNum  map[string]int64        // by field, how many entries gave no number
	misfit map[string]string
	lacked map[string]int64 // of those, how many lack the field

	bytes  int64 // that values take of which percentiles are wanted
	values int64 // different ones, while they are exact
	rough  bool  // percentiles are sketched
	vague  bool  // so are different values
	room   int64 // that groups and cells take, about, in bytes
	extra  *group
	extras int64 // entries of groups for which there was no room

	from, to entry.Instant // the period of the entry that came last
	at       int
}

// Bounds of what an answer keeps.
const (
	latelyBits    = 6
	mostValues    = 64 << 20 // bytes of numbers, before percentiles are sketched
	mostDifferent = 100_000  // values, before they are sketched
	mostRoom      = 128 << 20
	groupRoom     = 220
	cellRoom      = 56
	partRoom      = 112
)

func newTable(p *Plan, s *Span) *table {
	return &table{p: p, span: s, groups: map[string]*group{}}
}

// group is a group of entries.
type group struct {
	key   string
	cells []cell // by period, in order
	was   []was  // of the entry before, for since
}

type was struct {
	n  num
	ok bool
}

// cell is what was added up of a group in a period.
type cell struct {
	period int32
	n      int64
	parts  []part
}

// part is what a column is made of.
type part struct {
	n      int64 // numbers, or entries for which a share holds
	sum    *total
	least  num // or greatest
	values *values
	set    *distinct
	cover  *cover
	stamp  *stamp
}

// stamp is the first or the last value of a field.
type stamp struct {
	at    entry.Instant
	place Place
	value string
}

// group is the group of an entry.
func (t *table) group(s *subject) *group {
	t.key = s.key(t.key[:0])
	if t.last != nil && t.last.key == string(t.key) {
		return t.last
	}
	g := t.named(string(t.key))
	t.last = g
	return g
}

// named is the group of a key; the one for all where there is no room for another.
func (t *table) named(key string) *group {
	g := t.groups[key]
	if g == nil {
		if t.room > mostRoom {
			if t.extra == nil {
				t.extra = &group{}
			}
			return t.extra
		}
		g = &group{key: key}
		t.groups[key] = g
		t.room += groupRoom + 2*int64(len(key))
	}
	return g
}

// cell is the cell of a group in a period.
func (t *table) cell(g *group, period int) *cell {
	n := len(g.cells)
	if n > 0 && g.cells[n-1].period == int32(period) {
		return &g.cells[n-1]
	}
	i := n
	for i > 0 && g.cells[i-1].period > int32(period) { // entries may be late, seldom by much
		i--
		if n-i > 8 {
			lo, hi := 0, i
			for lo < hi {
				if m := (lo + hi) / 2; g.cells[m].period < int32(period) {
					lo = m + 1
				} else {
					hi = m
				}
			}
			i = lo
			break
		}
	}
	if i < n && g.cells[i].period == int32(period) {
		return &g.cells[i]
	}
	if i > 0 && g.cells[i-1].period == int32(period) {
		return &g.cells[i-1]
	}
	g.cells = append(g.cells, cell{})
	copy(g.cells[i+1:], g.cells[i:])
	g.cells[i] = cell{period: int32(period)}
	if parts := t.p.parts(); parts > 0 {
		g.cells[i].parts = make([]part, parts)
	}
	t.room += cellRoom + partRoom*int64(t.p.parts())
	return &g.cells[i]
}

// parts is how many parts a cell has: none where entries are only counted.
func (p *Plan) parts() int {
	for _, c := range p.columns {
		if c.Fn != "count" && c.Fn != "rate" && c.Fn != "entries" {
			return len(p.columns)
		}
	}
	return 0
}

// period is the period of an instant of the span.
func (t *table) period(at entry.Instant) int {
	if t.span.Bounds == nil {
		return 0
	}
	if at < t.from || at >= t.to {
		t.at = t.span.of(at)
		t.from, t.to = t.span.Bounds[t.at], t.span.Bounds[t.at+1]
	}
	return t.at
}

// add adds an entry of the span.
func (t *table) add(s *subject) {
	if t.p.Q.Each {
		t.each(s)
		return
	}
	g := t.group(s)
	if len(t.p.since) > 0 {
		t.remember(g, s)
	}
	t.count(g, s)
}

// count adds an entry to its group.
func (t *table) count(g *group, s *subject) {
	if g == t.extra {
		t.extras++
	}
	c := t.cell(g, t.period(s.at))
	c.n++
	for i := range c.parts {
		t.part(&c.parts[i], &t.p.columns[i], s)
	}
}

func (t *table) part(x *part, c *lang.Column, s *subject) {
	switch c.Fn {
	case "share":
		if match.Eval(c.Expr, t.seen(s)) {
			x.n++
		}
		return
	case "gaps":
		if x.cover == nil {
			x.cover = &cover{longer: c.Longer}
		}
		x.cover.add(s.at)
		return
	case "different":
		if v, ok := s.get(c.Field); ok {
			if x.set == nil {
				x.set = &distinct{sketched: t.vague}
			}
			if x.set.add(digest(v)) {
				t.values++
				t.bound()
			}
		}
		return
	case "first", "last":
		v, ok := s.get(c.Field)
		if ok && (x.stamp == nil || x.stamp.later(s.at, s.place, c.Fn == "first")) {
			x.stamp = &stamp{s.at, s.place, strings.Clone(entry.Bounded(v))}
		}
		return
	case "count", "rate", "entries":
		return
	}
	n, ok, there := s.number(c.Field)
	if !ok {
		t.noNumber(c.Field, there, s)
		return
	}
	t.numbered(x, c, n)
}

// numbered adds a number to a part of a column that is made of numbers.
func (t *table) numbered(x *part, c *lang.Column, n num) {
	x.n++
	switch c.Fn {
	case "sum", "avg":
		if x.sum == nil {
			x.sum = &total{}
		}
		x.sum.add(n)
	case "min":
		if x.n == 1 || n.compare(x.least) < 0 {
			x.least = n
		}
	case "max":
		if x.n == 1 || n.compare(x.least) > 0 {
			x.least = n
		}
	default:
		t.valuesOf(x).add(n)
		if n.r != nil {
			t.took(64)
		}
		t.took(valueBytes)
	}
}

// valuesOf are those of a part that keeps them.
func (t *table) valuesOf(x *part) *values {
	if x.values == nil {
		x.values = &values{}
		if t.rough {
			x.values.rough()
		}
	}
	return x.values
}

// took counts room that a value takes, in bytes.
func (t *table) took(n int64) {
	if t.rough {
		return
	}
	if t.bytes += n; t.bytes >= mostValues {
		t.bound()
	}
}

// later tells whether an entry is the later one, or the earlier one where first is set.
func (a *stamp) later(at entry.Instant, place Place, first bool) bool {
	if at != a.at {
		return (at > a.at) != first
	}
	return a.place.before(place) != first
}

// seen is the entry as an expression sees it, what is reckoned not.
func (t *table) seen(s *subject) *match.Subject {
	return &match.Subject{Entry: s.Entry, Captures: s.Captures[:len(s.Captures):len(s.Captures)]}
}

// noNumber notes that an entry gave no number.
func (t *table) noNumber(field string, there bool, s *subject) {
	if t.noNum == nil {
		t.noNum, t.misfit, t.lacked = map[string]int64{}, map[string]string{}, map[string]int64{}
	}
	t.noNum[field]++
	if !there {
		t.lacked[field]++
	} else if v, ok := s.get(field); ok && t.misfit[field] == "" {
		t.misfit[field] = strings.Clone(entry.Bounded(v))
	}
}

// bound sketches what has become too much.
func (t *table) bound() {
	if !t.rough && t.bytes >= mostValues {
		t.sketchValues()
	}
	if !t.vague && t.values > mostDifferent {
		t.sketchSets()
	}
}

func (t *table) sketchValues() {
	t.rough = true
	t.each1(func(x *part) {
		if x.values != nil {
			x.values.rough()
		}
	})
}

func (t *table) sketchSets() {
	t.vague = true
	t.each1(func(x *part) {
		if x.set != nil {
			x.set.rough()
		}
	})
}

// each1 calls f for each part of the table.
func (t *table) each1(f func(*part)) {
	all := func(g *group) {
		for i := range g.cells {
			for k := range g.cells[i].parts {
				f(&g.cells[i].parts[k])
			}
		}
	}
	for _, g := range t.groups {
		all(g)
	}
	if t.extra != nil {
		all(t.extra)
	}
}

// merge adds what another table of the same span has, which must not be used any more.
func (t *table) merge(o *table) {
	if o.rough && !t.rough {
		t.sketchValues()
	}
	if o.vague && !t.vague {
		t.sketchSets()
	}
	for key, g := range o.groups {
		if t.groups[key] == nil && t.room <= mostRoom { // it can be had as it is
			t.groups[key] = g
			t.room += groupRoom + 2*int64(len(key)) + int64(len(g.cells))*(cellRoom+partRoom*int64(t.p.parts()))
			t.grow(g)
			continue
		}
		into := t.named(key)
		if into == t.extra {
			for i := range g.cells {
				t.extras += g.cells[i].n
			}
		}
		t.mergeGroup(into, g)
	}
	if o.extra != nil {
		if t.extra == nil {
			t.extra = &group{}
		}
		t.mergeGroup(t.extra, o.extra)
		t.extras += o.extras
	}
	for f, n := range o.noNum {
		if t.noNum == nil {
			t.noNum, t.misfit, t.lacked = map[string]int64{}, map[string]string{}, map[string]int64{}
		}
		t.noNum[f] += n
		t.lacked[f] += o.lacked[f]
		if t.misfit[f] == "" {
			t.misfit[f] = o.misfit[f]
		}
	}
	t.bound()
}

// grow takes a whole group's values into account.
func (t *table) grow(g *group) {
	for i := range g.cells {
		for k := range g.cells[i].parts {
			x := &g.cells[i].parts[k]
			if x.values != nil {
				if t.rough {
					x.values.rough()
				}
				t.bytes += int64(x.values.size())
			}
			if x.set != nil {
				if t.vague {
					x.set.rough()
				}
				t.values += int64(len(x.set.set))
			}
		}
	}
}

func (t *table) mergeGroup(into, g *group) {
	for i := range g.cells {
		from := &g.cells[i]
		c := t.cell(into, int(from.period))
		c.n += from.n
		for k := range from.parts {
			t.mergePart(&c.parts[k], &from.parts[k], &t.p.columns[k])
		}
	}
}

func (t *table) mergePart(x, o *part, c *lang.Column) {
	switch {
	case c.Fn == "min" && o.n > 0 && (x.n == 0 || o.least.compare(x.least) < 0),
		c.Fn == "max" && o.n > 0 && (x.n == 0 || o.least.compare(x.least) > 0):
		x.least = o.least
	case o.sum != nil:
		if x.sum == nil {
			x.sum = &total{}
		}
		x.sum.merge(o.sum)
	case o.values != nil:
		if x.values == nil {
			x.values = &values{}
		}
		if t.rough {
			x.values.rough()
		}
		t.bytes += int64(o.values.size())
		x.values.merge(o.values)
	case o.set != nil:
		if x.set == nil {
			x.set = &distinct{}
		}
		if t.vague {
			x.set.rough()
		}
		t.values += int64(x.set.merge(o.set))
	case o.cover != nil:
		if x.cover == nil {
			x.cover = &cover{}
		}
		x.cover.merge(o.cover)
	case o.stamp != nil:
		if x.stamp == nil || x.stamp.later(o.stamp.at, o.stamp.place, c.Fn == "first") {
			x.stamp = o.stamp
		}
	}
	x.n += o.n
}

// each counts the values of all fields of an entry.
func (t *table) each(s *subject) {
	for _, f := range s.Entry.Fields {
		if f.Value == "" || f.Name == "text" || f.Name == "at" {
			continue
		}
		t.valueOf(s, f.Name, f.Value)
	}
	for _, c := range s.Captures {
		t.valueOf(s, c.Name, c.Value)
	}
	for _, name := range [...]string{"source", "origin"} {
		if v, ok := s.Entry.Get(name); ok {
			t.valueOf(s, name, v)
		}
	}
	if v, ok := s.Entry.Get("host"); ok && s.Entry.Host == v {
		t.valueOf(s, "host", v)
	}
}

func (t *table) valueOf(s *subject, name, value string) {
	if value == "" {
		return
	}
	t.key = append(append(append(t.key[:0], name...), 0), entry.Bounded(value)...)
	g := t.groups[string(t.key)]
	if g == nil {
		g = t.named(string(t.key))
	}
	t.count(g, s)
}
