// Package measure adds up numbers as entries come, for other systems: counters, gauges and spreads, each
// by the values of some fields. Verdicts of the matcher come in, families of series go out, and rows by
// which they are kept; Write says them in OpenMetrics.
//
// Nothing here reads or sends anything, and no clock is looked at: who adds says when.
package measure

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"math/big"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Stale is how long a gauge stands without an entry.
const Stale = time.Hour

// OtherGroup is the value of every label of the series that takes what comes beyond the most series.
const OtherGroup = "other"

// Rules are rules that judge what entries are something for measures, in their order: those for a
// [match.Plan] that reads entries for them. A verdict's hit is one more entry, its key the labels, its
// value the number.
func Rules(ms []*lang.Measure) []*lang.Rule {
	var out []*lang.Rule
	for _, m := range ms {
		r := &lang.Rule{
			Pos:     m.Pos,
			Name:    "measure " + m.Name,
			On:      m.On,
			Problem: m.Where,
			Ignore:  m.Ignore,
			Per:     m.Per,
			Off:     m.Off,
		}
		if r.Problem == nil {
			r.Problem = anything
		}
		if m.Field != "" {
			r.Raises = []lang.Raise{{When: &lang.When{Agg: "sum", Field: m.Field}}}
		}
		out = append(out, r)
	}
	return out
}

// anything holds for every entry.
var anything lang.Expr = &lang.Not{Of: &lang.Has{Field: "\x00"}}

// Exemplar is an entry that stands for what was counted.
type Exemplar struct {
	Where string // its origin and the place in it
	Value float64
	At    entry.Instant
}

// Series is what a measure counted of one group.
type Series struct {
	Labels []string // by the measure's fields; "" is lacking
	Count  int64    // entries that gave a number
	// Sum is that of their numbers, in seconds where they are durations; small is what it lacks.
	Sum, small float64
	Buckets    []int64 // of a spread: entries up to each bound and above the one before; the last has no bound
	Last       float64
	LastAt     entry.Instant // own time of the entry of Last
	// NoNumber and Negative are entries that were left out since their number could not be counted.
	NoNumber, Negative int64
	Began, Seen        entry.Instant // when the first and the last of them came
	Exemplars          []Exemplar    // of a counter one, of a spread one a bucket; Where is "" of none

	changed bool
}

// Table is all series of the measures that are. It belongs to one goroutine.
type Table struct {
	most     int
	families []*family
	series   int
	// Beyond is how many entries found no series of their own, as there are too many.
	Beyond int64
	left   []Row // rows that are to be forgotten
}

type family struct {
	of     *lang.Measure
	form   string
	series map[string]*Series
	other  *Series
}

// Row is a series as it is kept.
type Row struct {
	Measure string
	Form    string // of the measure: a series of another form is not gone on with
	Labels  string // as JSON
	State   []byte // as JSON; nil: it is no longer there
}

// form says what a measure counts: where it changes, counting begins anew.
func form(m *lang.Measure) string {
	text := func(x lang.Expr) string {
		if x == nil {
			return ""
		}
		return lang.Plain(x).String()
	}
	return strings.Join([]string{strings.Join(m.On, ","), text(m.Where), text(m.Ignore), strings.Join(m.Per, ","),
		m.Shown()}, "\n")
}

// New is a table of measures, which go on from the rows that were kept. Rows of other measures, and of
// what a measure was before, are among the next Changed, to be forgotten.
func New(ms []*lang.Measure, most int, kept []Row) *Table {
	t := &Table{most: most}
	byName := map[string]*family{}
	for _, m := range ms {
		f := &family{of: m, form: form(m), series: map[string]*Series{}}
		t.families = append(t.families, f)
		byName[m.Name] = f
	}
	for _, r := range kept {
		f := byName[r.Measure]
		s := &Series{}
		if f == nil || f.form != r.Form || json.Unmarshal(r.State, s.kept()) != nil || !f.fits(s) {
			t.left = append(t.left, Row{Measure: r.Measure, Form: r.Form, Labels: r.Labels})
			continue
		}
		t.series++
		f.series[strings.Join(s.Labels, "\x00")] = s
		if f.isOther(s) {
			f.other = s
		}
	}
	return t
}

func (f *family) fits(s *Series) bool {
	return len(s.Labels) == len(f.of.Per) && (f.of.Fn != "spread" || len(s.Buckets) == len(f.of.Bounds)+1)
}

// Use is a table of other measures, in which those that count the same go on.
func (t *Table) Use(ms []*lang.Measure, most int) *Table {
	var rows []Row
	for _, f := range t.families {
		for _, s := range f.series {
			rows = append(rows, f.row(s))
		}
	}
	out := New(ms, most, rows)
	for _, f := range out.families {
		for _, s := range f.series {
			s.changed = true // since it was kept, perhaps
		}
	}
	out.Beyond, out.left = t.Beyond, append(t.left, out.left...)
	return out
}

// Add counts an entry for a measure by its place, with the values of its fields and of the number, its
// own time, where it lies, and when it comes.
func (t *Table) Add(i int, key, values []string, own entry.Instant, where string, now entry.Instant) {
	f := t.families[i]
	s := t.of(f, key, now)
	s.Seen, s.changed = now, true
	x := 1.0
	if f.of.Fn != "count" {
		n, ok := number(values[0])
		switch {
		case !ok || math.IsInf(s.Sum+n, 0): // what is added up stays a number
			s.NoNumber++
			return
		case n < 0 && f.of.Fn != "last":
			s.Negative++
			return
		}
		x = n
	}
	s.Count++
	switch f.of.Fn {
	case "last":
		if own >= s.LastAt {
			s.Last, s.LastAt = x, own
		}
	case "spread":
		b, _ := slices.BinarySearch(f.of.Bounds, x)
		s.Buckets[b]++
		s.Exemplars[b] = Exemplar{where, x, own}
		s.add(x)
	default:
		s.Exemplars[0] = Exemplar{where, x, own}
		s.add(x)
	}
}

// add adds to the sum, and keeps what rounding took away.
func (s *Series) add(x float64) {
	sum := s.Sum + x
	if math.Abs(s.Sum) >= math.Abs(x) {
		s.small += s.Sum - sum + x
	} else {
		s.small += x - sum + s.Sum
	}
	s.Sum = sum
}

// Total is the sum of the numbers.
func (s *Series) Total() float64 { return s.Sum + s.small }

// of is the series of a group.
func (t *Table) of(f *family, key []string, now entry.Instant) *Series {
	id := strings.Join(key, "\x00")
	if s := f.series[id]; s != nil {
		return s
	}
	if t.series >= t.most {
		t.Beyond++
		if f.other != nil {
			return f.other
		}
		other := make([]string, len(key))
		for i := range other {
			other[i] = OtherGroup
		}
		key = other
		if s := f.series[strings.Join(key, "\x00")]; s != nil { // a group is really called so
			f.other = s
			return s
		}
	}
	s := f.fresh(slices.Clone(key), now)
	if t.series >= t.most {
		f.other = s
	}
	t.series++
	f.series[strings.Join(key, "\x00")] = s
	return s
}

func (f *family) fresh(labels []string, now entry.Instant) *Series {
	s := &Series{Labels: labels, Began: now, LastAt: entry.None}
	switch f.of.Fn {
	case "spread":
		s.Buckets = make([]int64, len(f.of.Bounds)+1)
		s.Exemplars = make([]Exemplar, len(f.of.Bounds)+1)
	case "count", "sum":
		s.Exemplars = make([]Exemplar, 1)
	}
	return s
}

// isOther tells whether a series is that of what comes beyond the most series.
func (f *family) isOther(s *Series) bool {
	return len(s.Labels) > 0 && !slices.ContainsFunc(s.Labels, func(l string) bool { return l != OtherGroup })
}

// number reads a value as a number; a duration is its seconds.
func number(v string) (float64, bool) {
	if n, ok := entry.ParseNumber(v); ok {
		r, ok := n.Rat()
		if !ok {
			return 0, false
		}
		return float(r), true
	}
	if d, err := entry.ParseDuration(v); err == nil {
		return float(big.NewRat(int64(d), 1e9)), true
	}
	return 0, false
}

func float(r *big.Rat) float64 {
	f, _ := r.Float64()
	return f
}

// Changed are the rows that have changed since it was asked last.
func (t *Table) Changed() []Row {
	out := t.left
	t.left = nil
	for _, f := range t.families {
		for _, s := range f.series {
			if s.changed {
				s.changed = false
				out = append(out, f.row(s))
			}
		}
	}
	return out
}

// saved is a series as it is kept.
type saved struct {
	Labels     *[]string
	Count      *int64
	Sum, Small *float64
	Buckets    *[]int64
	Last       *float64
	LastAt     *entry.Instant
	NoNumber   *int64
	Negative   *int64
	Began      *entry.Instant
	Seen       *entry.Instant
	Exemplars  *[]Exemplar
}

func (s *Series) kept() *saved {
	return &saved{&s.Labels, &s.Count, &s.Sum, &s.small, &s.Buckets, &s.Last, &s.LastAt, &s.NoNumber, &s.Negative,
		&s.Began, &s.Seen, &s.Exemplars}
}

func (f *family) row(s *Series) Row {
	labels, _ := json.Marshal(s.Labels)
	state, err := json.Marshal(s.kept())
	if err != nil {
		panic(fmt.Sprintf("a series cannot be written: %v", err)) // its numbers are finite
	}
	return Row{f.of.Name, f.form, string(labels), state}
}

// Counted is a measure with its series, in the order of their labels; nobody changes it any more.
type Counted struct {
	Of     *lang.Measure
	Series []Series
}

// Copy is what has been counted until now. Gauges of which nothing came for [Stale] are not among it.
func (t *Table) Copy(now entry.Instant) []Counted {
	var out []Counted
	for _, f := range t.families {
		c := Counted{Of: f.of}
		for _, id := range slices.Sorted(maps.Keys(f.series)) {
			s := *f.series[id]
			if f.of.Fn == "last" && (s.Count == 0 || now.Sub(s.Seen) > Stale) {
				continue
			}
			s.Labels, s.Buckets = slices.Clone(s.Labels), slices.Clone(s.Buckets)
			s.Exemplars = slices.Clone(s.Exemplars)
			c.Series = append(c.Series, s)
		}
		slices.SortStableFunc(c.Series, func(a, b Series) int { return slices.Compare(a.Labels, b.Labels) })
		out = append(out, c)
	}
	slices.SortStableFunc(out, func(a, b Counted) int { return cmp.Compare(a.Of.Name, b.Of.Name) })
	return out
}

// Names are those of the rules that judge for the table's measures, in their order.
func (t *Table) Names() []string {
	var out []string
	for _, f := range t.families {
		out = append(out, ruleName(f.of))
	}
	return out
}

func ruleName(m *lang.Measure) string { return "measure " + m.Name }

// Sum is what a measure has counted in all.
type Sum struct {
	Name    string
	Series  int
	Entries int64
}

// Sums are what the table's measures have counted in all, in their order.
func (t *Table) Sums() []Sum {
	var out []Sum
	for _, f := range t.families {
		x := Sum{Name: f.of.Name, Series: len(f.series)}
		for _, s := range f.series {
			x.Entries += s.Count
		}
		out = append(out, x)
	}
	return out
}
