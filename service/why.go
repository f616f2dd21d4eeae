package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/api"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/intake"
)

// Why is part of Lantern.
func (s *Service) Why(ctx context.Context, q api.WhyQuery) (*api.Why, error) {
	switch {
	case q.Origin != "" || q.Source != "":
		return s.whyEntry(q)
	case q.Typed != nil:
		return s.whyTyped(ctx, q)
	}
	return s.whyKey(ctx, q)
}

// whyEntry asks every rule that looks at an entry.
func (s *Service) whyEntry(q api.WhyQuery) (*api.Why, error) {
	s.mu.Lock()
	settings := s.settings
	var src *lang.Source
	host := ""
	for _, o := range s.follower.Origins() {
		if o.Name == q.Origin {
			src, host = settings.Source(o.Source.Name), o.Host
		}
	}
	s.mu.Unlock()
	var typed *lang.Rule
	if q.Typed != nil {
		if with, r, _ := s.benchRule(*q.Typed); r != nil {
			settings, typed = with, r
		}
	}
	if q.Source != "" {
		src = settings.Source(q.Source)
	}
	if src == nil {
		return nil, fmt.Errorf("no origin is called %s", q.Origin)
	}
	at := q.At
	if at == 0 {
		at = entry.Of(time.Now())
	}
	out := &answer{Title: "why, for this entry of " + src.Name}
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
			out.add(api.WhyHead, "", "no rule looks at "+src.Name)
		case 1:
			out.add(api.WhyHead, "", "it is nothing for the one rule that looks at "+src.Name)
		default:
			out.add(api.WhyHead, "", fmt.Sprintf("it is nothing for any of the %d rules that look at %s", len(not), src.Name))
		}
		out.add(api.WhyText, "", q.Text)
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

// answer is a Why being made.
type answer api.Why

func (w *answer) add(kind, word, text string) {
	w.Lines = append(w.Lines, api.WhyLine{Kind: kind, Word: word, Text: text})
}

// reason adds what a rule says of an entry.
func (w *answer) reason(r *trial.Reason) {
	verdict := r.Verdict
	switch verdict {
	case "hit", "recovery", "question", "follower":
		verdict = "a " + verdict
	}
	if len(w.Lines) > 0 {
		w.add(api.WhyMore, "", "")
	}
	w.add(api.WhyHead, "", fmt.Sprintf("%s: %s, since %s", r.Rule, verdict, r.Because))
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
			w.add(api.WhyMore, "key", k[0]+" "+lang.Quote(k[1]))
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
			w.add(kind, head, indent+strings.TrimLeft(rest[min(3, len(rest)):], " "))
		}
		for _, f := range c.Captured {
			w.add(api.WhyMore, "", "     "+f[0]+" is "+lang.Quote(f[1]))
		}
	}
}

// whyKey says how a rule stands for a key: now as the engine has it, earlier as its logs
// say it.
func (s *Service) whyKey(ctx context.Context, q api.WhyQuery) (*api.Why, error) {
	clock := func(t entry.Instant) string {
		x := time.Unix(0, int64(t))
		if day := x.Format("Jan 2 "); day != time.Now().Format("Jan 2 ") {
			return day + x.Format("15:04:05")
		}
		return x.Format("15:04:05")
	}
	s.mu.Lock()
	r := s.settings.Rule(q.Rule)
	if r == nil {
		s.mu.Unlock()
		return nil, fmt.Errorf("the rule %s is not in the settings any more", q.Rule)
	}
	if q.At == 0 {
		at := s.engine.Clock()
		now := s.engine.Standings(q.Rule, q.Key, clock)
		s.mu.Unlock()
		m := trial.Moment{Rule: q.Rule, Standings: now, At: at.String()}
		return s.moment(ctx, &m, q, clock, at)
	}
	s.mu.Unlock()
	m, err := s.whyThen(ctx, r, q, clock)
	if err != nil {
		return nil, err
	}
	return s.moment(ctx, m, q, clock, q.At)
}

// whyTyped says how the rule that is being typed would stand for a key at an instant, had it
// been at work over the sample.
func (s *Service) whyTyped(ctx context.Context, q api.WhyQuery) (*api.Why, error) {
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
	m, err := trial.WhyAt(settings, trial.MomentQuery{Rule: r, Key: q.Key, At: at, Clock: clockWords}, inputs, trial.Options{Zone: time.Local, From: bounded(from), Stop: ctx.Err})
	if err != nil {
		return nil, err
	}
	when := ""
	if at != entry.None {
		when = " at " + clockWords(at)
	}
	out := &answer{Title: "why, for " + strings.TrimSpace(r.Name+" "+strings.Join(q.Key, " ")) + when + ", had it been at work"}
	out.standings(&m, clockWords)
	if len(m.Changes) > 0 {
		out.add(api.WhyMore, "", "")
		out.add(api.WhyHead, "", "what would have come of it, newest first")
		for _, t := range slices.Backward(m.Changes) {
			out.add(api.WhyMore, clockWords(t.At), t.Change+", "+t.Severity.String()+"; "+t.Why)
		}
	}
	if len(m.Entries) > 0 {
		out.add(api.WhyMore, "", "")
		out.add(api.WhyHead, "", "what came for it, newest first")
		for _, e := range slices.Backward(m.Entries) {
			kind := api.WhyMore
			switch e.Is {
			case "hit":
				kind = api.WhyHit
			case "recovery", "awaited":
				kind = api.WhyOver
			}
			out.Lines = append(out.Lines, api.WhyLine{Kind: kind, Word: clockWords(e.Time()), Text: e.Text})
		}
	}
	return (*api.Why)(out), nil
}

// whyThen runs the rule over what its logs said up to an instant.
func (s *Service) whyThen(ctx context.Context, r *lang.Rule, q api.WhyQuery, clock func(entry.Instant) string) (*trial.Moment, error) {
	from := q.At.Add(-max(2*r.Longest(), time.Hour))
	if changes, err := s.store.Changes(q.Alert); err == nil && len(changes) > 0 {
		from = min(from, changes[0].At.Add(-r.Longest()))
	}
	s.mu.Lock()
	settings := s.settings
	inputs, done := s.again(settings, from, []*lang.Rule{r}, intake.MostAgain, true)
	s.mu.Unlock()
	defer done()
	m, err := trial.WhyAt(settings, trial.MomentQuery{Rule: r, Key: q.Key, At: q.At, Clock: clock}, inputs, trial.Options{Zone: time.Local, From: max(from, 1), Stop: ctx.Err})
	return &m, err
}

// moment adds what is known of a key besides: its newest hits and its transitions.
func (s *Service) moment(ctx context.Context, m *trial.Moment, q api.WhyQuery, clock func(entry.Instant) string, at entry.Instant) (*api.Why, error) {
	out := &answer{Title: "why, for " + strings.TrimSpace(q.Rule+" "+strings.Join(q.Key, " ")) + " at " + clock(at)}
	out.standings(m, clock)
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
			out.add(api.WhyMore, "", "")
			out.add(api.WhyHead, "", "what came for it, newest first")
		}
		out.Lines = append(out.Lines, api.WhyLine{Kind: kind, Word: clock(e.At), Text: e.Text, Lit: e.Lit})
	}
	return (*api.Why)(out), nil
}

// standings adds how a rule stands for the keys that were asked for.
func (out *answer) standings(m *trial.Moment, clock func(entry.Instant) string) {
	if len(m.Standings) == 0 {
		out.add(api.WhyHead, "", "it starts from zero: nothing that came lately counts for anything")
	}
	for i := range m.Standings {
		x := &m.Standings[i]
		head := "no alert is open"
		if x.Severity != nil {
			head = x.Severity.String() + ", open since " + clock(x.Since)
		}
		out.add(api.WhyHead, "", head)
		for _, c := range x.Says {
			kind := api.WhyNo
			if c.Holds {
				kind = api.WhyYes
			}
			out.add(kind, "", c.Clause)
			out.add(api.WhyMore, "", "     "+c.Text)
		}
		for _, n := range x.Notes {
			out.add(api.WhyMore, "note", n)
		}
	}
}
