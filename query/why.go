package query

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/intake"
)

// Why says why an entry is something for rules or nothing, or how a rule stands for a key.
func (s *Asker) Why(ctx context.Context, q api.WhyQuery) (*api.Why, error) {
	if q.Origin != "" || q.Source != "" {
		return s.WhyEntry(q, s.Window.Now().Settings, nil)
	}
	return s.whyKey(ctx, q)
}

// WhyEntry asks every rule of some settings that looks at an entry; the one that is being
// typed, where there is one, is what is asked about.
func (s *Asker) WhyEntry(q api.WhyQuery, settings *lang.Settings, typed *lang.Rule) (*api.Why, error) {
	var src *lang.Source
	host := ""
	if o := s.Window.Now().Origin(q.Origin); o != nil {
		src, host = settings.Source(o.Source.Name), o.Host
	}
	if q.Source != "" {
		src = settings.Source(q.Source)
	}
	if src == nil {
		return nil, NoOrigin(q.Origin)
	}
	at := q.At
	if at == 0 {
		at = entry.Of(time.Now())
	}
	out := &Answer{Title: "why, for this entry of " + src.Name}
	var is, not []trial.Reason
	for _, r := range trial.Active(settings) {
		if !r.LooksAt(src.Name) {
			continue
		}
		w := trial.Why(settings, r, src, host, q.Origin, q.Text, time.Local, at)
		if typed != nil && r.Name == typed.Name { // it is what is asked about
			out.reason(&w)
			continue
		}
		if w.Verdict != "nothing" {
			is = append(is, w)
		} else {
			not = append(not, w)
		}
	}
	for _, w := range is {
		out.reason(&w)
	}
	if len(is) == 0 && typed == nil {
		switch len(not) {
		case 0:
			out.Add(api.WhyHead, "", "no rule looks at "+src.Name)
		case 1:
			out.Add(api.WhyHead, "", "it is nothing for the one rule that looks at "+src.Name)
		default:
			out.Add(api.WhyHead, "", fmt.Sprintf("it is nothing for any of the %d rules that look at %s", len(not),
				src.Name))
		}
		out.Add(api.WhyText, "", q.Text)
	}
	slices.SortStableFunc(not, func(a, b trial.Reason) int { return held(&b) - held(&a) })
	for i := range not {
		out.reason(&not[i])
	}
	return (*api.Why)(out), nil
}

// held counts the parts that hold of a reason: the more, the nearer.
func held(r *trial.Reason) int {
	n := 0
	for _, c := range r.Clauses {
		for _, p := range c.Parts {
			if strings.HasPrefix(strings.TrimSpace(p), "yes") {
				n++
			}
		}
	}
	return n
}

// Answer is a Why being made.
type Answer api.Why

func (w *Answer) Add(kind, word, text string) {
	w.Lines = append(w.Lines, api.WhyLine{Kind: kind, Word: word, Text: text})
}

// reason adds what a rule says of an entry.
func (w *Answer) reason(r *trial.Reason) {
	verdict := r.Verdict
	switch verdict {
	case "hit", "recovery", "question", "follower":
		verdict = "a " + verdict
	}
	if len(w.Lines) > 0 {
		w.Add(api.WhyMore, "", "")
	}
	w.Add(api.WhyHead, "", fmt.Sprintf("%s: %s, since %s", r.Rule, verdict, r.Because))
	if r.Verdict != "nothing" {
		line := api.WhyLine{Kind: api.WhyText, Text: r.Text}
		for _, c := range r.Clauses {
			if c.Holds {
				line.Lit = append(line.Lit, c.Marks...)
			}
		}
		slices.SortFunc(line.Lit, func(a, b [2]int) int { return a[0] - b[0] })
		w.Lines = append(w.Lines, line)
		for _, k := range r.Key {
			w.Add(api.WhyMore, "key", k[0]+" "+lang.Quote(k[1]))
		}
	}
	for _, c := range r.Clauses {
		word, _, _ := strings.Cut(c.Clause, " ")
		for i, p := range c.Parts {
			rest := strings.TrimLeft(p, " ")
			indent := p[:len(p)-len(rest)]
			kind, head := api.WhyNo, ""
			if strings.HasPrefix(rest, "yes") {
				kind = api.WhyYes
			}
			if i == 0 {
				head = word
			}
			w.Add(kind, head, indent+strings.TrimLeft(rest[min(3, len(rest)):], " "))
		}
		for _, f := range c.Captured {
			w.Add(api.WhyMore, "", "     "+f[0]+" is "+lang.Quote(f[1]))
		}
	}
}

// whyKey says how a rule stands for a key: now as the engine has it, earlier as its logs
// say it.
func (s *Asker) whyKey(ctx context.Context, q api.WhyQuery) (*api.Why, error) {
	clock := func(t entry.Instant) string {
		x := time.Unix(0, int64(t))
		if day := x.Format("Jan 2 "); day != time.Now().Format("Jan 2 ") {
			return day + x.Format("15:04:05")
		}
		return x.Format("15:04:05")
	}
	r := s.Window.Now().Settings.Rule(q.Rule)
	if r == nil {
		return nil, &api.Problem{Code: api.Unknown, What: "the rule " + q.Rule + " is not in the settings any more"}
	}
	if q.At == 0 {
		m := trial.Moment{Rule: q.Rule}
		at := entry.None
		err := s.Do(ctx, func(e *engine.Engine) {
			at = e.Clock()
			m.At, m.Standings = at.String(), e.Standings(q.Rule, q.Key, clock)
		})
		if err != nil {
			return nil, err
		}
		return s.moment(ctx, &m, q, clock, at)
	}
	m, err := s.whyThen(ctx, r, q, clock)
	if err != nil {
		return nil, err
	}
	return s.moment(ctx, m, q, clock, q.At)
}

// whyThen runs the rule over what its logs said up to an instant.
func (s *Asker) whyThen(ctx context.Context, r *lang.Rule, q api.WhyQuery,
	clock func(entry.Instant) string) (*trial.Moment, error) {
	from := q.At.Add(-max(2*r.Longest(), time.Hour))
	if changes, err := s.Store.Changes(q.Alert); err == nil && len(changes) > 0 {
		from = min(from, changes[0].At.Add(-r.Longest()))
	}
	sn := s.Window.Now()
	settings := sn.Settings
	inputs, done := sn.Again(settings, from, []*lang.Rule{r}, intake.MostAgain, true)
	defer done()
	m, err := trial.WhyAt(settings, trial.MomentQuery{Rule: r, Key: q.Key, At: q.At, Clock: clock}, inputs,
		trial.Options{Zone: time.Local, From: max(from, 1), Stop: ctx.Err})
	return &m, err
}

// moment adds what is known of a key besides: its newest hits and its transitions.
func (s *Asker) moment(ctx context.Context, m *trial.Moment, q api.WhyQuery, clock func(entry.Instant) string,
	at entry.Instant) (*api.Why, error) {
	out := &Answer{Title: "why, for " + strings.TrimSpace(q.Rule+" "+strings.Join(q.Key, " ")) + " at " + clock(at)}
	out.Standings(m, clock)
	d, err := s.Detail(ctx, api.DetailQuery{At: q.At, Rule: q.Rule, Key: q.Key, Alert: q.Alert, Lines: 500})
	if err != nil {
		return nil, err
	}
	said := false
	for _, e := range d.Lines {
		kind := api.WhyHit
		switch {
		case e.Recovery:
			kind = api.WhyOver
		case !e.Hit:
			continue
		}
		if !said {
			said = true
			out.Add(api.WhyMore, "", "")
			out.Add(api.WhyHead, "", "what came for it, newest first")
		}
		out.Lines = append(out.Lines, api.WhyLine{Kind: kind, Word: clock(e.At), Text: e.Text, Lit: e.Lit})
	}
	return (*api.Why)(out), nil
}

// Standings adds how a rule stands for the keys that were asked for.
func (out *Answer) Standings(m *trial.Moment, clock func(entry.Instant) string) {
	if len(m.Standings) == 0 {
		out.Add(api.WhyHead, "", "it starts from zero: nothing that came lately counts for anything")
	}
	for i := range m.Standings {
		x := &m.Standings[i]
		head := "no alert is open"
		if x.Severity != nil {
			head = x.Severity.String() + ", open since " + clock(x.Since)
		}
		out.Add(api.WhyHead, "", head)
		for _, c := range x.Says {
			kind := api.WhyNo
			if c.Holds {
				kind = api.WhyYes
			}
			out.Add(kind, "", c.Clause)
			out.Add(api.WhyMore, "", "     "+c.Text)
		}
		for _, n := range x.Notes {
			out.Add(api.WhyMore, "note", n)
		}
	}
}
