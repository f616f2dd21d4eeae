package query

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"dimlantern/api"
	"dimlantern/core/ask"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// viewOf is an answer as it is shown.
func viewOf(a *ask.Answer, settings *lang.Settings) *api.LedgerView {
	p := a.Plan
	v := &api.LedgerView{
		From:    p.Span.From,
		To:      p.Span.To,
		Per:     p.Per(),
		Bounds:  p.Span.Bounds,
		Fit:     a.Fit,
		Kept:    entry.None,
		Groups:  []api.LedgerGroup{},
		Entries: p.Q.Columns()[0].Fn == "entries",
	}
	if p.Q.Every != nil {
		v.Every = p.Q.Every.String()
	}
	if p.Q.Beside != nil {
		v.Beside = p.Q.Beside.String()
	}
	if s := settings.SourcesOf(p.Q); len(s) > 0 {
		v.Source = s[0].Name
	}
	for i, c := range p.Q.Columns() {
		v.Columns = append(v.Columns, api.LedgerColumn{Name: c.String(), Unit: p.Unit(i), Field: c.Field,
			Additive: c.Fn == "count" || c.Fn == "sum" || c.Fn == "rate"})
	}
	if v.Entries {
		for i := len(a.Entries) - 1; i >= 0 && len(v.Lines) < mostLines; i-- {
			v.Lines = append(v.Lines, foundEntry(&a.Entries[i], settings))
		}
		return v
	}
	totals := make([]float64, len(v.Columns))
	for _, g := range a.Groups {
		for i := range v.Columns {
			f, _ := g.Values[i].Float()
			totals[i] += math.Abs(f)
		}
	}
	for n := range a.Groups {
		g := &a.Groups[n]
		if n >= mostGroups && !g.Rest {
			v.More++
			continue
		}
		v.Groups = append(v.Groups, groupView(p, v, g, totals))
	}
	v.Limits = limits(p, settings)
	return v
}

// foundEntry is an entry as it is listed: one whose layout gives no text has said all in its fields.
func foundEntry(e *ask.Entry, settings *lang.Settings) api.FoundEntry {
	text, has := e.Get("text")
	raw := cmp.Or(e.Raw, text)
	if src := settings.Source(e.Source); e.Fits && src != nil && len(e.Fields) > 0 {
		given := slices.ContainsFunc(e.Fields, func(f entry.Field) bool { return f.Name == "text" })
		if l := settings.Layout(src.LayoutName()); l != nil && l.Divides() && !given {
			text, has = "", true
		}
	}
	if !has {
		text = raw
	}
	return api.FoundEntry{EntryView: api.EntryView{At: e.At, Text: text[:min(len(text), 8192)],
		Raw: raw[:min(len(raw), 8192)], Fields: e.Fields, Fits: e.Fits}, Source: e.Source, Origin: e.Origin,
		Offset: e.Offset}
}

func groupView(p *ask.Plan, v *api.LedgerView, g *ask.Group, totals []float64) api.LedgerGroup {
	out := api.LedgerGroup{Rest: g.Rest, Of: g.Of}
	for _, k := range g.Per {
		out.Key = append(out.Key, ask.Written(k))
	}
	diffs := ask.Difference(g.Values, g.Beside)
	for i := range v.Columns {
		x := api.LedgerValue{Value: p.Shown(g.Values[i], i)}
		if f, ok := g.Values[i].Float(); ok {
			x.Number = &f
			if v.Columns[i].Additive && totals[i] > 0 {
				x.Part = fmt.Sprintf("%.0f %%", 100*math.Abs(f)/totals[i])
			}
		}
		if g.Beside != nil {
			x.Beside, x.Difference = p.Shown(g.Beside[i], i), p.Shown(diffs[i], i)
		}
		best := ask.Value{}
		series := floats(g.Series, i, &best)
		out.Series = append(out.Series, series)
		out.Besides = append(out.Besides, floats(g.BesideSeries, i, new(ask.Value)))
		x.Peak = p.Shown(best, i)
		out.Values = append(out.Values, x)
	}
	for _, s := range g.Gaps {
		out.Gaps = append(out.Gaps, api.Span{From: s.From, To: s.To})
	}
	return out
}

// floats is a column of a series, and its greatest value.
func floats(series [][]ask.Value, column int, best *ask.Value) []*float64 {
	if series == nil {
		return nil
	}
	most := math.Inf(-1)
	out := make([]*float64, len(series))
	for k, row := range series {
		if column >= len(row) {
			continue
		}
		if f, ok := row[column].Float(); ok {
			out[k] = &f
			if f > most {
				most, *best = f, row[column]
			}
		}
	}
	return out
}

// limits are the thresholds of rules that look at the same entries and the same number over the same
// time as the periods of the question.
func limits(p *ask.Plan, s *lang.Settings) []api.LedgerLimit {
	q := p.Q
	if p.Span.Bounds == nil || q.Alerts || q.Join != nil {
		return nil
	}
	every := p.Span.Bounds[min(1, len(p.Span.Bounds)-1)].Sub(p.Span.Bounds[0])
	if q.Every != nil {
		every = q.Every.D
	}
	var out []api.LedgerLimit
	for _, r := range s.Rules {
		if r.Off || r.Problem == nil || !sameEntries(s, q, r) {
			continue
		}
		for i := range r.Raises {
			x := &r.Raises[i]
			for k, c := range q.Columns() {
				l := api.LedgerLimit{Rule: r.Name, Column: k, Severity: x.Severity}
				switch {
				case x.Hits() && x.In == every && c.Fn == "count" && x.Different == "" && x.Where == nil:
					l.Limit, l.Words = float64(x.At), fmt.Sprintf("raises at %d", x.At)
				case x.When != nil && x.When.In == every && x.When.Field == c.Field &&
					(x.When.Agg == c.Fn || x.When.Agg == "p50" && c.Fn == "median"):
					l.Limit = limitOf(x.When.Value)
					l.Words = "raises " + x.When.Op + " " + x.When.Value.String()
				default:
					continue
				}
				out = append(out, l)
			}
		}
	}
	return out
}

// limitOf is a value as a number of an answer: durations count in seconds.
func limitOf(v lang.Value) float64 {
	if v.Kind == lang.DurationValue {
		return v.Duration.Seconds()
	}
	r, ok := v.Number.Rat()
	if !ok {
		return 0
	}
	f, _ := r.Float64()
	return f
}

// sameEntries tells whether a rule's hits are the entries of a question.
func sameEntries(s *lang.Settings, q *lang.Question, r *lang.Rule) bool {
	if len(q.On) > 0 && !slices.ContainsFunc(q.On, r.LooksAt) {
		return false
	}
	if q.Where == nil {
		return false
	}
	problem := lang.Plain(r.Problem).String()
	where := lang.Plain(q.Where)
	if where.String() == problem {
		return true
	}
	and, ok := where.(*lang.And)
	return ok && slices.ContainsFunc(and.Of, func(x lang.Expr) bool { return x.String() == problem })
}
