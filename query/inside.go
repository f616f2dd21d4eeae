package query

import (
	"cmp"
	"context"
	"slices"
	"time"

	"dimlantern/api"
	"dimlantern/core/ask"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Inside answers what is in a part of an answer.
func (l *Ledger) Inside(ctx context.Context, q api.InsideQuery) (*api.Inside, error) {
	sn := l.asker.Window.Now()
	settings, question, err := askable(sn, q.Text)
	if err != nil {
		return nil, err
	}
	lamp := cmp.Or(q.At, entry.Of(time.Now()))
	bare := *question
	bare.Show, bare.Every, bare.Beside, bare.Having, bare.Most, bare.New, bare.Over = nil, nil, nil, nil, nil, 0, nil
	bare.Each = false
	moment := ask.Moment{Lamp: lamp, From: q.From, To: min(q.To, lamp), Zone: zoneOf(question),
		Reporter: reporterName(sn)}
	if q.Group != nil {
		moment.Within = &ask.Within{Per: question.Per, Key: q.Group}
		if question.Each {
			return nil, &api.Problem{Code: api.Refused, What: "of every field at once no entries are shown"}
		}
	}
	run := func(change func(*lang.Question), newest int) (*Asked, error) {
		one := bare
		change(&one)
		p, err := ask.New(&one, moment)
		if err != nil {
			return nil, err
		}
		p.Newest = newest
		return l.asking(sn, settings, p, moment).Answer(ctx)
	}
	out := &api.Inside{Values: []api.LedgerShare{}, Lines: []api.FoundEntry{}}
	lines, err := run(func(*lang.Question) {}, cmp.Or(q.Lines, 50))
	if err != nil {
		return nil, err
	}
	out.Count = lines.Fit
	for i := len(lines.Entries) - 1; i >= 0; i-- {
		out.Lines = append(out.Lines, foundEntry(&lines.Entries[i], settings))
	}
	out.Fields = likely(question, lines.Entries)
	out.Field = cmp.Or(q.Field, first(out.Fields))
	if out.Field == "" {
		return out, nil
	}
	values, err := run(func(x *lang.Question) {
		x.Per, x.Show = []string{out.Field}, []lang.Column{{Fn: "count"}}
		x.Most = &lang.Most{N: 30}
	}, 0)
	if err != nil {
		return nil, err
	}
	for _, g := range values.Groups {
		if g.Rest {
			out.Others, out.OthersCount = g.Of, g.Count
			continue
		}
		s := api.LedgerShare{Field: out.Field, Value: ask.Written(g.Per[0]), Count: g.Count}
		if out.Count > 0 {
			s.Share = float64(g.Count) / float64(out.Count)
		}
		out.Values = append(out.Values, s)
	}
	numbers, err := run(func(x *lang.Question) {
		x.Per = nil
		for _, fn := range []string{"min", "median", "p95", "max", "avg"} {
			x.Show = append(x.Show, lang.Column{Fn: fn, Field: out.Field})
		}
	}, 0)
	if err != nil {
		return nil, err
	}
	if len(numbers.Groups) > 0 {
		for i, name := range []string{"least", "median", "p95", "greatest", "average"} {
			if s := numbers.Plan.Shown(numbers.Groups[0].Values[i], i); s != "" {
				out.Numbers = append(out.Numbers, name+" "+s)
			}
		}
	}
	return out, nil
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

// likely are the fields of entries, those that the question is about first, then those with few values.
func likely(q *lang.Question, list []ask.Entry) []string {
	different := map[string]map[string]bool{}
	var names []string
	for i := range list {
		for _, f := range list[i].Fields {
			if f.Value == "" || f.Name == "text" || f.Name == "at" || f.Name == "began" || f.Name == "ended" {
				continue
			}
			if different[f.Name] == nil {
				different[f.Name] = map[string]bool{}
				names = append(names, f.Name)
			}
			different[f.Name][f.Value] = true
		}
	}
	own := append(q.Captures(), q.Fields()...)
	rank := func(f string) int {
		switch {
		case slices.Contains(own, f) && !slices.Contains(q.Per, f):
			return 0
		case slices.Contains(q.Per, f):
			return 1
		case len(different[f]) > 1 && len(different[f]) < max(len(list)/2, 3):
			return 2
		}
		return 3
	}
	slices.SortStableFunc(names, func(a, b string) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(len(different[a]), len(different[b])))
	})
	if !slices.Contains(names, "host") {
		names = append(names, "host")
	}
	return names
}
