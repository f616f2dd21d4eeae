package service

import (
	"slices"
	"time"

	"dimlantern/snapshot"

	"dimlantern/core/entry"
	"dimlantern/core/match"
)

// meter adds up what rules and sources cost, over edits and by minute, from when the present was reached
// on: what it took to catch up says nothing of what goes on.
type meter struct {
	began   time.Time // its clock
	since   time.Time // from when on is counted
	judged0 map[string]int64
	took0   map[string]time.Duration
	plans   map[string]*match.Plan
	rules   map[string]*metered
	sources map[string]time.Duration // of plans that are used no more
	minute  time.Time
	names   []string        // of the rules, by their places in the plans
	read    map[string]said // by source, since the service began
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
	return meter{began: time.Now(), since: time.Now(), minute: time.Now(), plans: map[string]*match.Plan{},
		rules: map[string]*metered{}, read: map[string]said{},
		sources: map[string]time.Duration{}}
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
				x := m.rule(s.meter.names[c.Rule])
				x.judged += c.Judged
				x.took += c.Took
			}
		}
	}
	m.plans = plans
	s.meter.names = nil
	for _, r := range s.engine.Rules() {
		s.meter.names = append(s.meter.names, r.Name)
	}
	s.meter.names = append(s.meter.names, s.countNames()...)
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
			name := s.meter.names[c.Rule]
			judged[name] += c.Judged
			took[name] += c.Took
		}
	}
	for _, c := range s.engine.Costs() {
		took[c.Rule] += c.Took
	}
	for name, n := range s.meter.judged0 {
		judged[name] = max(0, judged[name]-n)
	}
	for name, t := range s.meter.took0 {
		took[name] = max(0, took[name]-t)
	}
	return judged, took
}

// meterAnew counts from now on.
func (s *Service) meterAnew() {
	s.meter.judged0, s.meter.took0 = nil, nil
	s.meter.judged0, s.meter.took0 = s.spent()
	s.meter.since = time.Now()
	for _, x := range s.meter.rules {
		x.last, x.minutes = 0, nil
	}
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

// spentNow is what rules and sources have cost until now.
func (s *Service) spentNow() *snapshot.Spent {
	x := &snapshot.Spent{Since: entry.Of(s.meter.since), Sources: map[string]time.Duration{},
		P95: map[string]time.Duration{}, Most: map[string]time.Duration{}}
	x.Judged, x.Took = s.spent()
	for name, m := range s.meter.rules {
		if len(m.minutes) > 0 {
			sorted := slices.Sorted(slices.Values(m.minutes))
			x.P95[name], x.Most[name] = sorted[(len(sorted)*95+99)/100-1], sorted[len(sorted)-1]
		}
	}
	for _, c := range s.counted.Sums() {
		x.Counted = append(x.Counted, snapshot.Counted(c))
	}
	x.Entries, x.Bytes = map[string]int64{}, map[string]int64{}
	for name, n := range s.meter.read {
		x.Entries[name], x.Bytes[name] = n.entries, n.bytes
	}
	for _, src := range s.settings.Sources {
		x.Sources[src.Name] = s.meter.sources[src.Name]
		if p := s.meter.plans[src.Name]; p != nil {
			x.Sources[src.Name] += p.Scanned
		}
	}
	return x
}
