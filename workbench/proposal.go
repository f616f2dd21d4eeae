package workbench

import (
	"context"
	"fmt"
	"time"

	"github.com/dustin/go-humanize/english"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/folder"
	"dimlantern/query"
)

// proposeMost is how much of a sample is looked through for proposals, in bytes.
const proposeMost = 24 << 20

// Propose proposes for the rule at the cursor, where that has no
// recovery yet.
func (s *Workbench) Propose(ctx context.Context, q api.BenchQuery) (*api.Proposals, error) {
	settings, r, at := s.benchRule(q)
	out := &api.Proposals{List: []api.Proposal{}}
	if r == nil || r.Problem == nil || r.Recovery != nil || r.Awaits != nil {
		return out, nil
	}
	out.Rule = r.Name
	from, until := at.Add(-q.Span), at+1
	if len(q.Files) > 0 {
		from, until = 0, 0
	}
	b, err := s.benchSampleOf(ctx, settings, r, q, from, at)
	if err != nil {
		return nil, err
	}
	list, err := trial.ProposeRecovery(settings, r, newestPart(b.said, proposeMost),
		trial.Options{Zone: time.Local, From: bounded(from), To: until, Stop: ctx.Err})
	if err != nil {
		return nil, err
	}
	for _, x := range list {
		out.List = append(out.List, api.Proposal{Source: x.Source, Shape: x.Shape, Text: x.Text, Example: x.Example,
			Words: ProposalWords(&x)})
	}
	return out, nil
}

// ProposalWords are the figures of a proposal.
func ProposalWords(x *trial.Recovery) string {
	words := fmt.Sprintf("came after %d of %s, median %s", x.Ended, english.Plural(x.Cases, "case", "cases"),
		entry.RoughSpan(x.Median))
	if x.Idle > 0 {
		words += fmt.Sprintf(", and %d times without one", x.Idle)
	}
	return words
}

// benchRule is the rule at the cursor of a text, among the settings with that text in them.
func (s *Workbench) benchRule(q api.BenchQuery) (*lang.Settings, *lang.Rule, entry.Instant) {
	at := q.At
	if at == 0 {
		at = entry.Of(time.Now())
	}
	sn := s.Window.Now()
	settings, _ := sn.CheckErrors(folder.With(sn.Texts, q.File, q.Body))
	return settings, settings.RuleNear(q.File, q.Line), at
}

// benchCurves are the numbers over time that a rule compares, for the key that stands
// first among its lifelines.
func benchCurves(settings *lang.Settings, r *lang.Rule, key []string, said []*trial.Said, q api.BenchQuery,
	o trial.Options, at entry.Instant) (*api.Curves, error) {
	out, samples := query.CurvesOf(r, key, api.CurveQuery{Rule: r.Name, Key: key, From: q.From, Column: q.Column,
		Columns: q.Columns, At: at})
	o.Samples, o.Sample = samples, query.TakeCurves(out, r, key)
	_, err := trial.TryRule(settings, r, said, o)
	return out, err
}
