package service

import (
	"context"
	"slices"
	"sync"
	"time"

	"dimlantern/folder"

	"dimlantern/api"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/store"
)

// meter adds up what rules and sources cost, over edits and by minute.
type meter struct {
	began   time.Time
	plans   map[string]*match.Plan
	rules   map[string]*metered
	sources map[string]time.Duration // of plans that are used no more
	minute  time.Time
}

type metered struct {
	judged  int64 // of plans that are used no more
	took    time.Duration
	last    time.Duration // what it had taken when the last minute ended
	minutes []time.Duration
}

// mostMinutes is how many minutes are remembered.
const mostMinutes = 24 * 60

func newMeter() meter {
	return meter{began: time.Now(), minute: time.Now(), plans: map[string]*match.Plan{}, rules: map[string]*metered{}, sources: map[string]time.Duration{}}
}

func (m *meter) now() time.Duration { return time.Since(m.began) }

func (m *meter) rule(name string) *metered {
	x := m.rules[name]
	if x == nil {
		x = &metered{}
		m.rules[name] = x
	}
	return x
}

// use takes up new plans; what the old ones have counted is kept.
func (s *Service) meterPlans(plans map[string]*match.Plan) {
	m := &s.meter
	for name, p := range m.plans {
		m.sources[name] += p.Scanned
		for _, c := range p.Costs() {
			if c.Judged > 0 {
				x := m.rule(s.meterNames[c.Rule])
				x.judged += c.Judged
				x.took += c.Took
			}
		}
	}
	m.plans = plans
	s.meterNames = nil
	for _, r := range s.engine.Rules() {
		s.meterNames = append(s.meterNames, r.Name)
	}
	for _, p := range plans {
		p.Now = m.now
	}
	s.engine.Now = m.now
}

// spent is what each rule has judged, and what it took, since measuring began.
func (s *Service) spent() (judged map[string]int64, took map[string]time.Duration) {
	judged, took = map[string]int64{}, map[string]time.Duration{}
	for name, x := range s.meter.rules {
		judged[name], took[name] = x.judged, x.took
	}
	for _, p := range s.meter.plans {
		for _, c := range p.Costs() {
			name := s.meterNames[c.Rule]
			judged[name] += c.Judged
			took[name] += c.Took
		}
	}
	for _, c := range s.engine.Costs() {
		took[c.Rule] += c.Took
	}
	return judged, took
}

// tickMeter ends a minute.
func (s *Service) tickMeter(now time.Time) {
	if now.Sub(s.meter.minute) < time.Minute {
		return
	}
	s.meter.minute = now
	_, took := s.spent()
	for name, t := range took {
		x := s.meter.rule(name)
		x.minutes = append(x.minutes, max(0, t-x.last))
		x.minutes = x.minutes[max(0, len(x.minutes)-mostMinutes):]
		x.last = t
	}
}

// dayFresh is how long the hits of the last day stand before they are counted anew.
const dayFresh = 15 * time.Second

// hitsOfDay are the hits of each rule in the last 24 hours.
func (s *Service) hitsOfDay() (map[string]int64, error) {
	s.day.mu.Lock()
	defer s.day.mu.Unlock()
	if time.Since(s.day.at) < dayFresh {
		return s.day.hits, nil
	}
	hits, err := s.store.HitsSince(store.BucketOf(entry.Of(time.Now().Add(-24 * time.Hour))))
	if err == nil {
		s.day.hits, s.day.at = hits, time.Now()
	}
	return hits, err
}

// dayHits are the hits of a day, as they were counted last.
type dayHits struct {
	mu   sync.Mutex
	at   time.Time
	hits map[string]int64
}

// countFindings counts what the linter has about each rule.
func (s *Service) countFindings(texts []folder.Text) {
	settings, ds := s.check(texts)
	s.findings = map[string]int{}
	for _, d := range ds {
		if d.Weight == lang.Err || d.Weight == lang.Note {
			continue
		}
		if r := ruleAt(settings, d.Pos.File, d.Pos.Line); r != nil {
			s.findings[r.Name]++
		}
	}
}

// Rules is part of Lantern.
func (s *Service) Rules(ctx context.Context, _ api.None) (*api.RulesView, error) {
	v := &api.RulesView{}
	day, err := s.hitsOfDay()
	if err != nil {
		return nil, err
	}
	err = s.do(ctx, func() error {
		judged, took := s.spent()
		v.Since = entry.Of(s.meter.began)
		for _, r := range s.settings.Rules {
			if builtIn(r) && s.follower.Empty()[lang.Itself] != "" { // nothing was noticed yet
				continue
			}
			c := api.RuleCost{Rule: r.Name, Off: r.Off, File: r.Pos.File, Line: r.Pos.Line, Last: entry.None, Judged: judged[r.Name], Took: took[r.Name], Sources: []string{}}
			for _, src := range s.settings.Sources {
				if r.LooksAt(src.Name) {
					c.Sources = append(c.Sources, src.Name)
				}
			}
			if x := s.meter.rules[r.Name]; x != nil && len(x.minutes) > 0 {
				m := slices.Sorted(slices.Values(x.minutes))
				c.P95, c.Most = m[(len(m)*95+99)/100-1], m[len(m)-1]
			}
			c.Day, c.Findings = day[r.Name], s.findings[r.Name]
			v.Rules = append(v.Rules, c)
		}
		for _, x := range s.engine.Costs() {
			if i := slices.IndexFunc(v.Rules, func(c api.RuleCost) bool { return c.Rule == x.Rule }); i >= 0 {
				c := &v.Rules[i]
				c.Keys, c.Open, c.Hits, c.Last = x.Keys, x.Open, x.Hits, x.Last
			}
		}
		for _, src := range s.settings.Sources {
			if src.Name == lang.Itself && s.follower.Empty()[lang.Itself] != "" {
				continue
			}
			c := api.SourceCost{Source: src.Name, Took: s.meter.sources[src.Name]}
			if p := s.meter.plans[src.Name]; p != nil {
				c.Took += p.Scanned
			}
			v.Sources = append(v.Sources, c)
		}
		return nil
	})
	return v, err
}
