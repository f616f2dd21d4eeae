package query

import (
	"context"
	"slices"
	"sync"
	"time"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// dayFresh is how long the hits of the last day stand before they are counted anew.
const dayFresh = 15 * time.Second

// hitsOfDay are the hits of each rule in the last 24 hours.
func (s *Asker) hitsOfDay() (map[string]int64, error) {
	s.day.mu.Lock()
	defer s.day.mu.Unlock()
	if time.Since(s.day.at) < dayFresh {
		return s.day.hits, nil
	}
	hits, err := s.Store.HitsSince(store.BucketOf(entry.Of(time.Now().Add(-24 * time.Hour))))
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

// weekFresh is how long the alerts of the last week stand before they are counted anew.
const weekFresh = time.Minute

// weekAlerts are how many alerts each rule raised in a week, and how many of them were taken.
type weekAlerts struct {
	mu            sync.Mutex
	at            time.Time
	raised, taken map[string]int
}

// alertsOfWeek counts the alerts of the last seven days.
func (s *Asker) alertsOfWeek() (raised, taken map[string]int, err error) {
	s.week.mu.Lock()
	defer s.week.mu.Unlock()
	if time.Since(s.week.at) < weekFresh {
		return s.week.raised, s.week.taken, nil
	}
	now := entry.Of(time.Now())
	list, err := Alerts(s.Store, now.Add(-7*24*time.Hour), now)
	if err != nil {
		return nil, nil, err
	}
	raised, taken = map[string]int{}, map[string]int{}
	for i := range list {
		rule, _ := list[i].Get("rule")
		raised[rule]++
		if _, ok := list[i].Get("taken-by"); ok {
			taken[rule]++
		}
	}
	s.week.raised, s.week.taken, s.week.at = raised, taken, time.Now()
	return raised, taken, nil
}

// Rules is what the rules do, and what they cost.
func (s *Asker) Rules(_ context.Context, _ api.None) (*api.RulesView, error) {
	day, err := s.hitsOfDay()
	if err != nil {
		return nil, err
	}
	raised, taken, err := s.alertsOfWeek()
	if err != nil {
		return nil, err
	}
	sn := s.Window.Now()
	spent := sn.Spent
	v := &api.RulesView{Since: spent.Since}
	quiet := sn.Empty[lang.Itself] != "" // nothing was noticed yet
	for _, r := range sn.Settings.EveryRule() {
		if snapshot.BuiltIn(r) && quiet {
			continue
		}
		c := api.RuleCost{Rule: r.Name, Off: r.Off, File: r.Pos.File, Line: r.Pos.Line, Last: entry.None,
			Sources: []string{}, Judged: spent.Judged[r.Name], Minute: spent.Minute[r.Name],
			Took: spent.Took[r.Name], P95: spent.P95[r.Name], Most: spent.Most[r.Name], Day: day[r.Name],
			Findings: sn.Findings[r.Name], Week: raised[r.Name], Taken: taken[r.Name]}
		for _, src := range sn.Settings.LookedAt(r) {
			c.Sources = append(c.Sources, src.Name)
		}
		if i := slices.IndexFunc(sn.Engine.Costs, func(x engine.Cost) bool { return x.Rule == r.Name }); i >= 0 {
			x := sn.Engine.Costs[i]
			c.Keys, c.Open, c.Hits, c.Last = x.Keys, x.Open, x.Hits, x.Last
		}
		if c.For = r.For; len(r.For) > 0 && !r.AtCentre {
			sn.Engine.Open(func(k *engine.KeyView) bool {
				if k.Rule == r.Name && len(k.Key) == len(r.Per)+1 {
					c.Open++
				}
				return true
			})
		}
		c.Slow = slowEntry(spent.Slow[r.Name])
		v.Rules = append(v.Rules, c)
	}
	for _, src := range sn.Settings.Sources {
		if src.Name != lang.Itself || !quiet {
			v.Sources = append(v.Sources, *sourceCost(src, spent))
		}
	}
	return v, nil
}

func slowEntry(s match.Slow) *api.SlowEntry {
	if s.Took == 0 {
		return nil
	}
	return &api.SlowEntry{Took: s.Took, At: s.At, Origin: s.Origin, Place: s.Offset, Text: s.Text}
}

// sourceCost is what reading a source has cost.
func sourceCost(src *lang.Source, spent *snapshot.Spent) *api.SourceCost {
	x := spent.Sources[src.Name]
	return &api.SourceCost{Source: src.Name, Took: x.Reading, P95: x.P95, Most: x.Most, Layout: src.LayoutName(),
		Entries: x.Entries, Minute: x.Minute, Dividing: x.Dividing,
		DividingP95: x.DividingP95, DividingMost: x.DividingMost, Slow: slowEntry(x.Slow)}
}
