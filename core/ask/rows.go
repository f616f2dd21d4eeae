package ask

import (
	"cmp"
	"iter"
	"math/big"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"
)

// Row is a row of an answer as a table.
type Row struct {
	At         entry.Instant // of its period; None where there are none
	Cut        bool          // the span cuts the period
	Per        []string      // nil of all others
	Rest       bool
	Of         int
	Values     []Value
	Beside     []Value // nil where nothing stands beside
	Difference []Value
	Gap        *Stretch // where the rows are gaps
	Gaps       int      // their number, where they are counted
	Longest    time.Duration
	HasGaps    bool
	Entry      *Entry // where the rows are entries
}

// Rows are the answer as a table: by time, then the greatest first, all others last. There may be
// very many: one lasts until the next.
func (a *Answer) Rows() iter.Seq[*Row] {
	return func(yield func(*Row) bool) {
		switch {
		case a.Plan.columns[0].Fn == "entries":
			for i := range a.Entries {
				e := &a.Entries[i]
				if !yield(&Row{At: entry.None, Per: e.Per, Entry: e}) {
					return
				}
			}
		case a.GapRows():
			for _, r := range a.gapRows() {
				if !yield(&r) {
					return
				}
			}
		default:
			a.groupRows(yield)
		}
	}
}

// gapRows are the gaps of all groups, the newest first.
func (a *Answer) gapRows() []Row {
	var out []Row
	for _, g := range a.Groups {
		for _, s := range g.Gaps {
			out = append(out, Row{At: entry.None, Per: g.Per, Rest: g.Rest, Of: g.Of, Gap: &s})
		}
	}
	slices.SortStableFunc(out, func(x, y Row) int { return cmp.Compare(y.Gap.From, x.Gap.From) })
	return out
}

// groupRows gives a row for each group in each period.
func (a *Answer) groupRows(yield func(*Row) bool) {
	p := a.Plan
	periods := 1
	if p.Span.Bounds != nil {
		periods = p.Span.Periods()
	}
	rows := make([]Row, 0, len(a.Groups))
	for k := range periods {
		rows = rows[:0]
		for i := range a.Groups {
			g := &a.Groups[i]
			r := Row{At: entry.None, Per: g.Per, Rest: g.Rest, Of: g.Of, Values: g.Values, Beside: g.Beside,
				HasGaps: g.gapAt >= 0, Gaps: len(g.Gaps), Longest: g.Longest(-1)}
			if p.Span.Bounds != nil {
				r.At, r.Cut = p.Span.Bounds[k], p.Span.Cut(k)
				r.Values = g.Series[k]
				if r.HasGaps {
					r.Gaps, r.Longest = len(g.gapsIn[k]), g.Longest(k)
				}
				if g.Beside != nil {
					r.Beside = g.BesideSeries[k]
				}
			}
			if g.Beside != nil {
				r.Difference = Difference(r.Values, r.Beside)
			}
			rows = append(rows, r)
		}
		slices.SortStableFunc(rows, func(x, y Row) int {
			if x.Rest != y.Rest {
				if x.Rest {
					return 1
				}
				return -1
			}
			return cmp.Or(y.Values[0].compare(x.Values[0]), strings.Compare(strings.Join(x.Per, "\x00"),
				strings.Join(y.Per, "\x00")))
		})
		for i := range rows {
			if !yield(&rows[i]) {
				return
			}
		}
	}
}

// GapRows tells whether the answer's rows are gaps.
func (a *Answer) GapRows() bool {
	p := a.Plan
	return p.shown == 1 && p.columns[0].Fn == "gaps" && p.Span.Bounds == nil
}

// Unit is the unit of a column's numbers: "duration", in seconds; "share", of 1; "rate", a second; or
// "".
func (p *Plan) Unit(column int) string { return p.unit[column] }

// Shown writes a value for people: with six digits at most, thousands apart, a duration in words, a
// share in percent.
func (p *Plan) Shown(v Value, column int) string {
	s := p.shownValue(v, p.unit[column])
	if v.Approx && s != "" {
		s = "≈" + s
	}
	return s
}

func (p *Plan) shownValue(v Value, unit string) string {
	if !v.Number {
		return v.Text
	}
	r, ok := new(big.Rat).SetString(v.Text)
	if !ok {
		return v.Text
	}
	switch unit {
	case "share":
		return grouped(rounded(new(big.Rat).Mul(r, big.NewRat(100, 1)), 3)) + " %"
	case "duration":
		return spanWords(r)
	}
	return grouped(rounded(r, max(6, wholeDigits(r))))
}

// wholeDigits is how many digits stand before the point, up to 15: whole numbers are written whole.
func wholeDigits(r *big.Rat) int {
	if !r.IsInt() {
		return 0
	}
	n := len(new(big.Int).Abs(r.Num()).String())
	if n > 15 {
		return 0
	}
	return n
}

// grouped writes the thousands of a decimal apart.
func grouped(s string) string {
	whole, rest, point := strings.Cut(s, ".")
	sign := ""
	if strings.HasPrefix(whole, "-") {
		sign, whole = "-", whole[1:]
	}
	for i := len(whole) - 3; i > 0; i -= 3 {
		whole = whole[:i] + "," + whole[i:]
	}
	if point {
		whole += "." + rest
	}
	return sign + whole
}

// spanWords writes seconds as a duration.
func spanWords(r *big.Rat) string {
	f, _ := r.Float64()
	switch sign := ""; {
	case f < 0:
		sign = "-"
		return sign + spanWords(new(big.Rat).Neg(r))
	case f == 0:
		return "0s"
	case f < 0.001:
		return rounded(new(big.Rat).Mul(r, big.NewRat(1e6, 1)), 3) + "µs"
	case f < 1:
		return rounded(new(big.Rat).Mul(r, big.NewRat(1000, 1)), 3) + "ms"
	case f < 60:
		return rounded(r, 3) + "s"
	case f < 1e9:
		return entry.RoughSpan(time.Duration(f * 1e9).Round(time.Second))
	}
	return rounded(r, 6) + "s"
}
