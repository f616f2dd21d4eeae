package query

import (
	"context"
	"fmt"
	"math"
	"time"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/intake"
)

// Curve are the numbers over time that a rule compares for a key. The logs of the key are read once more for it.
func (s *Asker) Curve(ctx context.Context, q api.CurveQuery) (*api.Curves, error) {
	q.Columns = min(max(q.Columns, 1), MaxColumns)
	q.Column = max(q.Column, time.Second)
	if q.At == 0 {
		q.At = entry.Of(time.Now())
	}
	sn := s.Window.Now()
	settings := sn.Settings
	r := settings.Rule(q.Rule)
	if r == nil || len(r.Whens()) == 0 {
		return nil, fmt.Errorf("%s compares no numbers over time", q.Rule)
	}
	from := q.From.Add(-2 * r.Longest())
	inputs, done := sn.Again(settings, from, []*lang.Rule{r}, intake.MostAgain, true)
	defer done()
	out, samples := CurvesOf(r, q.Key, q)
	_, err := trial.Rebuild(settings, []*lang.Rule{r}, inputs,
		trial.Options{Zone: time.Local, From: max(from, 1), To: q.At + 1, Stop: ctx.Err, Samples: samples,
			Sample: TakeCurves(out, r, q.Key)})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// CurvesOf are the numbers that a rule compares, without their values yet, and the instants
// at which those are to be taken: the end of each column.
func CurvesOf(r *lang.Rule, key []string, q api.CurveQuery) (*api.Curves, []entry.Instant) {
	out := &api.Curves{Rule: r.Name, Key: key}
	add := func(w *lang.When, severity entry.Severity) {
		c := api.Curve{Clause: w.String(), Name: w.Agg, Op: w.Op, Severity: severity,
			Values: make([]*float64, q.Columns)}
		if w.Field != "" {
			c.Name += "(" + w.Field + ")"
		}
		if c.Limit = engine.Limit(w); math.IsNaN(c.Limit) {
			c.Limit = 0
		}
		out.List = append(out.List, c)
	}
	for i := range r.Raises {
		if w := r.Raises[i].When; w != nil {
			add(w, r.Raises[i].Severity)
		}
	}
	for i := range r.ClearWhens {
		add(&r.ClearWhens[i], 0)
	}
	var samples []entry.Instant
	for n := 0; n < q.Columns && q.From.Add(time.Duration(n)*q.Column) < q.At; n++ {
		samples = append(samples, min(q.From.Add(time.Duration(n+1)*q.Column), q.At))
	}
	return out, samples
}

// TakeCurves takes the values at a sample's instant.
func TakeCurves(k *api.Curves, r *lang.Rule, key []string) func(int, *engine.Engine) {
	return func(i int, e *engine.Engine) {
		for n, v := range e.Values(r.Name, key) {
			if !math.IsNaN(v) {
				k.List[n].Values[i] = &v
			}
		}
	}
}
