package service

import (
	"context"
	"encoding/json"
	"time"

	"dimlantern/query"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/intake"
	"dimlantern/snapshot"
)

// bare are alerts around whose hits no lines are kept yet. The lines around alerts of
// entries that exist nowhere else are kept with them, since the log itself goes after a
// while; they are read beside the loop.
type bare struct {
	alerts  map[string]bareAlert
	look    time.Time // when to look for those whose lines could not be kept before a crash; zero is never
	reading bool      // beside the loop, just now
}

type bareAlert struct {
	rule string
	key  []string
	due  time.Time
}

// Some lines behind a hit are waited for before they are kept with its alert.
const (
	aroundWait  = 5 * time.Second
	aroundLines = 60
	// A storm of alerts does not keep others waiting: so many at once, and no more than
	// so many that wait.
	aroundAtOnce = 20
	keptBefore   = 8 << 10 // bytes before the newest hit
	keptAfter    = 4 << 10
	maxBare      = 1000
)

// bareWait is how long after a start is looked for such alerts: there is more urgent work
// first.
const bareWait = time.Second

// remember remembers the alert of a transition, where its entry exists nowhere else.
func (b *bare) remember(origins []*intake.Origin, t *engine.Transition) {
	if t.Change != engine.Raised || t.Entry == nil {
		return
	}
	for _, o := range origins {
		if o.Name == t.Entry.Origin && o.Source.Kept() {
			b.add(t.Alert, t.Rule, t.Key)
		}
	}
}

func (b *bare) add(alert, rule string, key []string) {
	if b.alerts == nil {
		b.alerts = map[string]bareAlert{}
	}
	if _, known := b.alerts[alert]; !known && len(b.alerts) < maxBare {
		b.alerts[alert] = bareAlert{rule, key, time.Now().Add(aroundWait)}
	}
}

// due takes out alerts for which it is time.
func (b *bare) due(now time.Time) map[string]bareAlert {
	out := map[string]bareAlert{}
	for alert, x := range b.alerts {
		if len(out) < aroundAtOnce && !now.Before(x.due) {
			out[alert] = x
			delete(b.alerts, alert)
		}
	}
	return out
}

// keepAround has the lines around hits read beside the loop, where it is time for some.
func (s *Service) keepAround(now time.Time) {
	b := &s.bare
	if b.reading {
		return
	}
	look := !b.look.IsZero() && now.After(b.look)
	due := b.due(now)
	if !look && len(due) == 0 {
		return
	}
	if look {
		b.look = time.Time{}
	}
	b.reading = true
	sn := s.window.Now()
	s.beside.start(func(ctx context.Context) {
		lines := s.linesAround(sn, due)
		var missed []engine.KeyView
		if look {
			missed = s.missedBare(sn)
		}
		s.do(ctx, func() error {
			b.reading = false
			for alert, l := range lines {
				if s.batch.Around == nil {
					s.batch.Around = map[string][]byte{}
				}
				s.batch.Around[alert] = l
			}
			for _, k := range missed {
				b.add(k.Alert, k.Rule, k.Key)
			}
			return nil
		})
	})
}

// linesAround are the lines around the hits of alerts, as far as they can be read.
func (s *Service) linesAround(sn *snapshot.Snapshot, alerts map[string]bareAlert) map[string][]byte {
	out := map[string][]byte{}
	now := entry.Of(time.Now())
	for alert, b := range alerts {
		hits, err := s.store.HitsOf(s.store.KeyID(b.rule, b.key), now, aroundLines)
		if err != nil || len(hits) == 0 {
			continue
		}
		src, path := query.Holding(sn.Origins, hits[0])
		if path == "" || !src.Kept() {
			continue
		}
		lines, err := query.Around(sn.Settings, src, path, hits[0], hits, now, keptBefore, keptAfter)
		if err != nil {
			continue
		}
		out[alert], _ = json.Marshal(lines[:min(len(lines), aroundLines)])
	}
	return out
}

// missedBare are the open alerts whose lines could not be kept before a crash.
func (s *Service) missedBare(sn *snapshot.Snapshot) []engine.KeyView {
	list, err := s.store.Bare()
	if err != nil {
		return nil
	}
	var out []engine.KeyView
	for _, t := range list {
		if k, open := sn.Engine.Find(t.Alert); open {
			out = append(out, k)
		}
	}
	return out
}
