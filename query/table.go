package query

import (
	"fmt"
	"strings"
	"time"

	"dimlantern/core/ask"
	"dimlantern/core/entry"
)

// Table is an answer as people read it.
type Table struct {
	Head  []string
	Right []bool // columns whose cells stand at the right
	Rows  [][]string
	Bars  []float64 // the first number of each row; nil where there is none
	More  int       // rows that are not among them
}

// Table is the answer's rows, most of them at most, 0 being all, with times in a zone. Its cells may hold
// whatever entries hold.
func (a *Asked) Table(zone *time.Location, most int) *Table {
	t := &Table{}
	p := a.Plan
	gaps, entries := a.GapRows(), p.Columns()[0] == "entries"
	column := func(name string, right bool) { t.Head, t.Right = append(t.Head, name), append(t.Right, right) }
	if p.Span.Bounds != nil || entries {
		column("at", false)
	}
	for _, n := range p.Per() {
		column(n, false)
	}
	switch {
	case entries:
		column("text", false)
	case gaps:
		column("began", false)
		column("ended", false)
		column("lasted", true)
	default:
		a.numberColumns(column)
	}
	for r := range a.Rows() {
		if most > 0 && len(t.Rows) >= most {
			t.More++
			continue
		}
		cells := a.places(r, zone)
		switch {
		case entries:
			text := r.Entry.Text()
			if text == "" {
				text = r.Entry.Raw
			}
			cells = append(cells, text)
		case gaps:
			cells = append(cells, stampOf(r.Gap.From, zone, time.DateTime), stampOf(r.Gap.To, zone, time.DateTime),
				entry.RoughSpan(r.Gap.To.Sub(r.Gap.From)))
		default:
			cells = a.numbers(cells, r)
			f := 0.0
			if len(r.Values) > 0 {
				f, _ = r.Values[0].Float()
			}
			t.Bars = append(t.Bars, f)
		}
		t.Rows = append(t.Rows, cells)
	}
	return t
}

func stampOf(t entry.Instant, zone *time.Location, form string) string {
	return t.Time().In(zone).Format(form)
}

// numberColumns are the columns of numbers.
func (a *Asked) numberColumns(column func(name string, right bool)) {
	for _, c := range a.Columns {
		column(c, true)
		switch {
		case strings.HasPrefix(c, "gaps "):
			column("longest", true)
		case a.Plan.Beside != nil:
			column("beside", true)
			column("difference", true)
		}
	}
}

// places are when a row is, and of which group.
func (a *Asked) places(r *ask.Row, zone *time.Location) (cells []string) {
	form := "2006-01-02 15:04:05"
	const minute = entry.Instant(time.Minute)
	if b := a.Plan.Span.Bounds; b != nil && b[0]%minute == 0 && b[1]%minute == 0 {
		form = "2006-01-02 15:04"
	}
	switch {
	case r.Entry != nil:
		cells = append(cells, stampOf(r.Entry.At, zone, form))
	case r.At != entry.None:
		at := stampOf(r.At, zone, form)
		if r.Cut {
			at += " cut"
		}
		cells = append(cells, at)
	}
	for i := range a.Plan.Per() {
		switch {
		case r.Rest && i == 0:
			cells = append(cells, fmt.Sprintf("all others, %d", r.Of))
		case r.Rest:
			cells = append(cells, "")
		default:
			cells = append(cells, ask.Written(r.Per[i]))
		}
	}
	return cells
}

// numbers are the numbers of a row, with what stands beside them.
func (a *Asked) numbers(cells []string, r *ask.Row) []string {
	p := a.Plan
	for i, c := range a.Columns {
		if strings.HasPrefix(c, "gaps ") {
			longest := ""
			if r.Longest > 0 {
				longest = entry.RoughSpan(r.Longest)
			}
			cells = append(cells, fmt.Sprint(r.Gaps), longest)
			continue
		}
		cells = append(cells, p.Shown(r.Values[i], i))
		if p.Beside == nil {
			continue
		}
		b, d := "", ""
		if i < len(r.Beside) {
			b, d = p.Shown(r.Beside[i], i), p.Shown(r.Difference[i], i)
			if d != "" && !strings.HasPrefix(strings.TrimPrefix(d, "≈"), "-") && d != "0" {
				d = "+" + d
			}
		}
		cells = append(cells, b, d)
	}
	return cells
}

// Totals is the answer's groups over the whole span, where its rows are by period.
func (a *Asked) Totals() *Table {
	t := &Table{}
	column := func(name string, right bool) { t.Head, t.Right = append(t.Head, name), append(t.Right, right) }
	for _, n := range a.Plan.Per() {
		column(n, false)
	}
	a.numberColumns(column)
	for i := range a.Groups {
		g := &a.Groups[i]
		r := &ask.Row{At: entry.None, Per: g.Per, Rest: g.Rest, Of: g.Of, Values: g.Values, Beside: g.Beside,
			Gaps: len(g.Gaps), Longest: g.Longest(-1)}
		if g.Beside != nil {
			r.Difference = ask.Difference(r.Values, r.Beside)
		}
		t.Rows = append(t.Rows, a.numbers(a.places(r, time.UTC), r))
		f := 0.0
		if len(r.Values) > 0 {
			f, _ = r.Values[0].Float()
		}
		t.Bars = append(t.Bars, f)
	}
	return t
}
