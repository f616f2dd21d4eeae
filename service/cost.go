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
	sources map[string]*metered // reading them
	layouts map[string]*metered // dividing their entries, by source
	hour    int                 // of the day, of the newest slow entries
	minute  time.Time
	names   []string        // of the rules, by their places in the plans
	read    map[string]said // by source, since the service began
}

type metered struct {
	judged  int64 // of plans that are used no more
	took    time.Duration
	last    time.Duration // what it had taken when the last minute ended
	before  int64         // what it had judged then
	lately  int64         // judged in the last minute that has ended
	minutes []time.Duration
	p95     time.Duration // of the minutes
	most    time.Duration
	slow    [24]match.Slow // the slowest entries of the last hours, by the hour of the day
}

// minute ends a minute, up to which it had judged so many entries and taken so long.
func (x *metered) minute(judged int64, took time.Duration) {
	x.lately, x.before = max(0, judged-x.before), judged
	x.minutes = append(x.minutes, max(0, took-x.last))
	x.minutes = x.minutes[max(0, len(x.minutes)-mostMinutes):]
	x.last = took
	sorted := slices.Sorted(slices.Values(x.minutes))
	x.p95, x.most = sorted[(len(sorted)*95+99)/100-1], sorted[len(sorted)-1]
}

// slowest is the slowest entry of the last day; its Took is 0 where there is none.
func (x *metered) slowest() (out match.Slow) {
	for _, s := range x.slow {
		if s.Took > out.Took {
			out = s
		}
	}
	return out
}

// mostMinutes is how many minutes are remembered.
const mostMinutes = 24 * 60

func newMeter() meter {
	return meter{began: time.Now(), since: time.Now(), minute: time.Now(), plans: map[string]*match.Plan{},
		rules: map[string]*metered{}, read: map[string]said{},
		sources: map[string]*metered{}, layouts: map[string]*metered{}}
}

func (m *meter) now() time.Duration { return time.Since(m.began) }

func (m *meter) rule(name string) *metered { return meteredOf(m.rules, name) }

func meteredOf(in map[string]*metered, name string) *metered {
	x := in[name]
	if x == nil {
		x = &metered{}
		in[name] = x
	}
	return x
}

// use takes up new plans; what the old ones have counted is kept.
func (s *Service) meterPlans(plans map[string]*match.Plan) {
	m := &s.meter
	for name, p := range m.plans {
		s.noteSlow(name, p, time.Now())
		meteredOf(m.sources, name).took += p.Scanned
		l := meteredOf(m.layouts, name)
		l.judged, l.took = l.judged+p.Divided.Judged, l.took+p.Divided.Took
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
	for _, r := range s.feeds {
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
		x.last, x.before, x.minutes = 0, 0, nil
	}
}

// tickMeter ends a minute.
func (s *Service) tickMeter(now time.Time) {
	if now.Sub(s.meter.minute) < time.Minute {
		return
	}
	s.meter.minute = now
	judged, took := s.spent()
	for name, t := range took {
		s.meter.rule(name).minute(judged[name], t)
	}
	for name, p := range s.meter.plans {
		s.noteSlow(name, p, now)
		reading, dividing := s.readingOf(name)
		meteredOf(s.meter.sources, name).minute(dividing.Judged, reading)
		meteredOf(s.meter.layouts, name).minute(dividing.Judged, dividing.Took)
	}
}

// readingOf is what reading a source has taken, and dividing its entries.
func (s *Service) readingOf(name string) (reading time.Duration, dividing match.Cost) {
	x, l := meteredOf(s.meter.sources, name), meteredOf(s.meter.layouts, name)
	reading, dividing.Judged, dividing.Took = x.took, l.judged, l.took
	if p := s.meter.plans[name]; p != nil {
		reading += p.Scanned
		dividing.Judged, dividing.Took = dividing.Judged+p.Divided.Judged, dividing.Took+p.Divided.Took
	}
	return reading, dividing
}

// noteSlow takes in the slowest entries that a plan has seen.
func (s *Service) noteSlow(source string, p *match.Plan, now time.Time) {
	m := &s.meter
	hour := now.Hour()
	if hour != m.hour { // what is a day old goes
		m.hour = hour
		for _, all := range []map[string]*metered{m.rules, m.layouts} {
			for _, x := range all {
				x.slow[hour] = match.Slow{}
			}
		}
	}
	p.Slowest(func(rule int, slow match.Slow) {
		x := meteredOf(m.layouts, source)
		if rule >= 0 {
			x = m.rule(m.names[rule])
		}
		if slow.Took > x.slow[hour].Took {
			x.slow[hour] = slow
		}
	})
}

// spentNow is what rules and sources have cost until now.
func (s *Service) spentNow() *snapshot.Spent {
	x := &snapshot.Spent{Since: entry.Of(s.meter.since), Sources: map[string]snapshot.SourceSpent{},
		Minute: map[string]int64{}, P95: map[string]time.Duration{},
		Most: map[string]time.Duration{}, Slow: map[string]match.Slow{}}
	x.Judged, x.Took = s.spent()
	for name, p := range s.meter.plans {
		s.noteSlow(name, p, time.Now())
	}
	for name, m := range s.meter.rules {
		x.Minute[name], x.P95[name], x.Most[name] = m.lately, m.p95, m.most
		if slow := m.slowest(); slow.Took > 0 {
			x.Slow[name] = slow
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
		reading, dividing := s.readingOf(src.Name)
		r, l := meteredOf(s.meter.sources, src.Name), meteredOf(s.meter.layouts, src.Name)
		x.Sources[src.Name] = snapshot.SourceSpent{Reading: reading, P95: r.p95, Most: r.most, Entries: dividing.Judged,
			Minute: l.lately, Dividing: dividing.Took, DividingP95: l.p95, DividingMost: l.most, Slow: l.slowest()}
	}
	return x
}
