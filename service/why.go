package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/intake"
)

// WhyQuery asks about an entry of an origin, or about a rule and a key.
type WhyQuery struct {
	At     entry.Instant `json:"at"` // 0 is now
	Rule   string        `json:"rule,omitempty"`
	Key    []string      `json:"key,omitempty"`
	Alert  string        `json:"alert,omitempty"` // that stood there
	Origin string        `json:"origin,omitempty"`
	Text   string        `json:"text,omitempty"` // the entry, as it may be shown
}

// Why answers what was asked, in words.
type Why struct {
	Title string    `json:"title"`
	Lines []WhyLine `json:"lines"`
}

// The kinds of lines of an answer.
const (
	WhyHead = "head" // a rule, and what came of it
	WhyText = "text" // what was looked at; Lit is what matched
	WhyYes  = "yes"  // a part that holds
	WhyNo   = "no"   // a part that does not
	WhyMore = "more" // what belongs to the line above
	WhyHit  = "hit"  // an entry that was a hit; Word is its time, Lit what matched
	WhyOver = "over" // one that was a recovery
)

// WhyLine is a line of an answer.
type WhyLine struct {
	Kind string   `json:"kind"`
	Word string   `json:"word,omitempty"` // the clause, or an instant
	Text string   `json:"text"`
	Lit  [][2]int `json:"lit,omitempty"` // stretches of Text in bytes that matched
}

// Why is part of Lantern.
func (s *Service) Why(ctx context.Context, q WhyQuery) (*Why, error) {
	if q.Origin != "" {
		return s.whyEntry(q)
	}
	return s.whyKey(ctx, q)
}

// whyEntry asks every rule that looks at an entry.
func (s *Service) whyEntry(q WhyQuery) (*Why, error) {
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
	if src == nil {
		return nil, fmt.Errorf("no origin is called %s", q.Origin)
	}
	at := q.At
	if at == 0 {
		at = entry.Of(time.Now())
	}
	out := &Why{Title: "why, for this entry of " + src.Name}
	var is, not []trial.Reason
	for _, r := range trial.Active(settings) {
		if !r.LooksAt(src.Name) {
			continue
		}
		w := trial.Why(settings, r, src, host, q.Origin, q.Text, time.Local, at)
		if w.Verdict != "nothing" {
			is = append(is, w)
		} else {
			not = append(not, w)
		}
	}
	for _, w := range is {
		out.reason(&w)
	}
	if len(is) == 0 {
		switch len(not) {
		case 0:
			out.add(WhyHead, "", "no rule looks at "+src.Name)
		case 1:
			out.add(WhyHead, "", "it is nothing for the one rule that looks at "+src.Name)
		default:
			out.add(WhyHead, "", fmt.Sprintf("it is nothing for any of the %d rules that look at %s", len(not), src.Name))
		}
		out.add(WhyText, "", q.Text)
	}
	slices.SortStableFunc(not, func(a, b trial.Reason) int { return held(&b) - held(&a) })
	for i := range not {
		out.reason(&not[i])
	}
	return out, nil
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

func (w *Why) add(kind, word, text string) {
	w.Lines = append(w.Lines, WhyLine{Kind: kind, Word: word, Text: text})
}

// reason adds what a rule says of an entry.
func (w *Why) reason(r *trial.Reason) {
	verdict := r.Verdict
	switch verdict {
	case "hit", "recovery", "question", "follower":
		verdict = "a " + verdict
	}
	if len(w.Lines) > 0 {
		w.add(WhyMore, "", "")
	}
	w.add(WhyHead, "", fmt.Sprintf("%s: %s, since %s", r.Rule, verdict, r.Because))
	if r.Verdict != "nothing" {
		line := WhyLine{Kind: WhyText, Text: r.Text}
		for _, c := range r.Clauses {
			if c.Holds {
				line.Lit = append(line.Lit, c.Marks...)
			}
		}
		slices.SortFunc(line.Lit, func(a, b [2]int) int { return a[0] - b[0] })
		w.Lines = append(w.Lines, line)
		for _, k := range r.Key {
			w.add(WhyMore, "key", k[0]+" "+lang.Quote(k[1]))
		}
	}
	for _, c := range r.Clauses {
		word, _, _ := strings.Cut(c.Clause, " ")
		for i, p := range c.Parts {
			rest := strings.TrimLeft(p, " ")
			indent := p[:len(p)-len(rest)]
			kind, head := WhyNo, ""
			if strings.HasPrefix(rest, "yes") {
				kind = WhyYes
			}
			if i == 0 {
				head = word
			}
			w.add(kind, head, indent+strings.TrimLeft(rest[min(3, len(rest)):], " "))
		}
		for _, f := range c.Captured {
			w.add(WhyMore, "", "     "+f[0]+" is "+lang.Quote(f[1]))
		}
	}
}

// whyKey says how a rule stands for a key: now as the engine has it, earlier as its logs
// say it.
func (s *Service) whyKey(ctx context.Context, q WhyQuery) (*Why, error) {
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

// whyThen runs the rule over what its logs said up to an instant.
func (s *Service) whyThen(ctx context.Context, r *lang.Rule, q WhyQuery, clock func(entry.Instant) string) (*trial.Moment, error) {
	from := q.At.Add(-max(2*r.Longest(), time.Hour))
	if changes, err := s.store.Changes(q.Alert); err == nil && len(changes) > 0 {
		from = min(from, changes[0].At.Add(-r.Longest()))
	}
	s.mu.Lock()
	settings := s.settings
	inputs, done := s.again(settings, from, []*lang.Rule{r}, intake.MostAgain)
	s.mu.Unlock()
	defer done()
	m, err := trial.WhyAt(settings, trial.MomentQuery{Rule: r, Key: q.Key, At: q.At, Clock: clock}, inputs, trial.Options{Zone: time.Local, From: max(from, 1), Stop: ctx.Err})
	return &m, err
}

// moment adds what is known of a key besides: its newest hits and its transitions.
func (s *Service) moment(ctx context.Context, m *trial.Moment, q WhyQuery, clock func(entry.Instant) string, at entry.Instant) (*Why, error) {
	out := &Why{Title: "why, for " + strings.TrimSpace(q.Rule+" "+strings.Join(q.Key, " ")) + " at " + clock(at)}
	if len(m.Standings) == 0 {
		out.add(WhyHead, "", "it starts from zero: nothing that came lately counts for anything")
	}
	for i := range m.Standings {
		x := &m.Standings[i]
		head := "no alert is open"
		if x.Severity != nil {
			head = x.Severity.String() + ", open since " + clock(x.Since)
		}
		out.add(WhyHead, "", head)
		for _, c := range x.Says {
			kind := WhyNo
			if c.Holds {
				kind = WhyYes
			}
			out.add(kind, "", c.Clause)
			out.add(WhyMore, "", "     "+c.Text)
		}
		for _, n := range x.Notes {
			out.add(WhyMore, "note", n)
		}
	}
	d, err := s.Detail(ctx, DetailQuery{At: q.At, Rule: q.Rule, Key: q.Key, Alert: q.Alert, Lines: 500})
	if err != nil {
		return nil, err
	}
	said := false
	for _, e := range d.Lines {
		kind := WhyHit
		switch {
		case e.Recovery:
			kind = WhyOver
		case !e.Hit:
			continue
		}
		if !said {
			said = true
			out.add(WhyMore, "", "")
			out.add(WhyHead, "", "what came for it, newest first")
		}
		out.Lines = append(out.Lines, WhyLine{Kind: kind, Word: clock(e.At), Text: e.Text, Lit: e.Lit})
	}
	return out, nil
}
