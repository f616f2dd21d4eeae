package workbench

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/trial"
	"dimlantern/query"
)

// Why answers what is asked about a text that is being typed; everything else the query
// answers.
func (s *Workbench) Why(ctx context.Context, q api.WhyQuery) (*api.Why, error) {
	switch {
	case q.Typed == nil:
		return s.Query.Why(ctx, q)
	case q.Origin == "" && q.Source == "":
		return s.whyTyped(ctx, q)
	}
	settings, r, _ := s.benchRule(*q.Typed)
	if r == nil { // with errors in it, it is as it was
		settings = s.Window.Now().Settings
	}
	return s.Query.WhyEntry(q, settings, r)
}

// whyTyped says how the rule that is being typed would stand for a key at an instant, had it
// been at work over the sample.
func (s *Workbench) whyTyped(ctx context.Context, q api.WhyQuery) (*api.Why, error) {
	settings, r, at := s.benchRule(*q.Typed)
	if r == nil {
		return nil, fmt.Errorf("the rule has errors: they come first")
	}
	from := at.Add(-q.Typed.Span)
	b, err := s.benchSampleOf(ctx, settings, r, *q.Typed, from, at)
	if err != nil {
		return nil, err
	}
	if len(q.Typed.Files) > 0 {
		from, at = 0, entry.None
	}
	if q.At != 0 {
		at = q.At
	}
	var inputs []*trial.Input
	for _, d := range b.said {
		if r.LooksAt(d.Source.Name) {
			in := d.Input
			in.Source = settings.Source(d.Source.Name)
			inputs = append(inputs, &in)
		}
	}
	m, err := trial.WhyAt(settings, trial.MomentQuery{Rule: r, Key: q.Key, At: at, Clock: api.Moment}, inputs,
		trial.Options{Zone: time.Local, From: bounded(from), Stop: ctx.Err})
	if err != nil {
		return nil, err
	}
	when := ""
	if at != entry.None {
		when = " at " + api.Moment(at)
	}
	out := &query.Answer{Title: "why, for " + strings.TrimSpace(r.Name+" "+strings.Join(q.Key, " ")) + when +
		", had it been at work"}
	out.Standings(&m, api.Moment)
	if len(m.Changes) > 0 {
		out.Add(api.WhyMore, "", "")
		out.Add(api.WhyHead, "", "what would have come of it, newest first")
		for _, t := range slices.Backward(m.Changes) {
			out.Add(api.WhyMore, api.Moment(t.At), t.Change+", "+t.Severity.String()+"; "+t.Why)
		}
	}
	if len(m.Entries) > 0 {
		out.Add(api.WhyMore, "", "")
		out.Add(api.WhyHead, "", "what came for it, newest first")
		for _, e := range slices.Backward(m.Entries) {
			kind := api.WhyMore
			switch e.Is {
			case "hit":
				kind = api.WhyHit
			case "recovery", "awaited":
				kind = api.WhyOver
			}
			out.Lines = append(out.Lines, api.WhyLine{Kind: kind, Word: api.Moment(e.Time()), Text: e.Text})
		}
	}
	return (*api.Why)(out), nil
}
