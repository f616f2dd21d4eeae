package service

import (
	"context"
	"fmt"
	"math"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/intake"
)

// CurveQuery asks for the numbers over time of a rule and a key, at the end of each
// column of a view.
type CurveQuery struct {
	Rule    string        `json:"rule"`
	Key     []string      `json:"key"`
	From    entry.Instant `json:"from"` // the start of the first column
	Column  time.Duration `json:"column"`
	Columns int           `json:"columns"`
	At      entry.Instant `json:"at"` // nothing behind it; 0 is now
}

// Curves are the numbers that a rule compares, along the columns of a view.
type Curves struct {
	Rule string   `json:"rule"`
	Key  []string `json:"key"`
	List []Curve  `json:"list"`
}

// Curve is one number, and what it is compared with.
type Curve struct {
	Clause   string         `json:"clause"`
	Name     string         `json:"name"` // avg(temp)
	Op       string         `json:"op"`
	Limit    float64        `json:"limit"`
	Severity entry.Severity `json:"severity"` // that it raises; 0 is a clear
	Values   []*float64     `json:"values"`   // by column; nil where there is none
}

// Curve is part of Lantern. The logs of the key are read once more for it.
func (s *Service) Curve(ctx context.Context, q CurveQuery) (*Curves, error) {
	q.Columns = min(max(q.Columns, 1), maxColumns)
	q.Column = max(q.Column, time.Second)
	if q.At == 0 {
		q.At = entry.Of(time.Now())
	}
	s.mu.Lock()
	settings := s.settings
	r := settings.Rule(q.Rule)
	if r == nil || len(r.Whens()) == 0 {
		s.mu.Unlock()
		return nil, fmt.Errorf("%s compares no numbers over time", q.Rule)
	}
	from := q.From.Add(-2 * r.Longest())
	inputs, done := s.again(settings, from, []*lang.Rule{r}, intake.MostAgain, true)
	s.mu.Unlock()
	defer done()
	out, samples := curvesOf(r, q.Key, q)
	_, err := trial.Rebuild(settings, []*lang.Rule{r}, inputs, trial.Options{Zone: time.Local, From: max(from, 1), To: q.At + 1, Stop: ctx.Err, Samples: samples, Sample: out.take(r, q.Key)})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// curvesOf are the numbers that a rule compares, without their values yet, and the instants
// at which those are to be taken: the end of each column.
func curvesOf(r *lang.Rule, key []string, q CurveQuery) (*Curves, []entry.Instant) {
	out := &Curves{Rule: r.Name, Key: key}
	add := func(w *lang.When, severity entry.Severity) {
		c := Curve{Clause: w.String(), Name: w.Agg, Op: w.Op, Severity: severity, Values: make([]*float64, q.Columns)}
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

// take takes the values at a sample's instant.
func (k *Curves) take(r *lang.Rule, key []string) func(int, *engine.Engine) {
	return func(i int, e *engine.Engine) {
		for n, v := range e.Values(r.Name, key) {
			if !math.IsNaN(v) {
				k.List[n].Values[i] = &v
			}
		}
	}
}
