package service

import (
	"encoding/json"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
)

// bareAlert is an alert around whose hits no lines are kept yet.
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
	aroundAtOnce = 2
	keptBefore   = 8 << 10 // bytes before the newest hit
	keptAfter    = 4 << 10
	maxBare      = 1000
)

// noteBare remembers alerts of entries that exist nowhere else: the lines around
// them are kept with them, since the log itself goes after a while.
func (s *Service) noteBare(t *engine.Transition) {
	if t.Change != engine.Raised || t.Entry == nil || len(s.bare) >= maxBare || !s.isKept(t.Entry.Origin) {
		return
	}
	if s.bare == nil {
		if s.bare == nil {
			s.bare = map[string]bareAlert{}
		}
	}
	s.bare[t.Alert] = bareAlert{t.Rule, t.Key, time.Now().Add(aroundWait)}
}

func (s *Service) isKept(origin string) bool {
	for _, o := range s.follower.Origins() {
		if o.Name == origin {
			return o.Source.Kept()
		}
	}
	return false
}

// bareWait is how long after a start the service looks for such alerts: there is more
// urgent work first.
const bareWait = time.Second

// findBare takes up the alerts whose lines could not be kept before a crash.
func (s *Service) findBare() {
	list, err := s.store.Bare()
	if err != nil || len(list) == 0 {
		return
	}
	alerts := map[string]bool{}
	for _, t := range list {
		alerts[t.Alert] = true
	}
	s.bare = map[string]bareAlert{}
	due := time.Now().Add(aroundWait)
	for _, k := range s.engine.Keys() {
		if _, known := s.bare[k.Alert]; alerts[k.Alert] && !known {
			s.bare[k.Alert] = bareAlert{k.Rule, k.Key, due}
		}
	}
}

// keepAround keeps the lines around the hits of alerts for which it is time.
func (s *Service) keepAround(now time.Time) {
	left := aroundAtOnce
	for alert, b := range s.bare {
		if now.Before(b.due) {
			continue
		}
		if left--; left < 0 {
			return
		}
		delete(s.bare, alert)
		hits, err := s.store.HitsOf(s.store.KeyID(b.rule, b.key), entry.Of(now), aroundLines)
		if err != nil || len(hits) == 0 {
			continue
		}
		src, path := s.holding(hits[0])
		if path == "" || !src.Kept() {
			continue
		}
		lines, err := around(s.settings, src, path, hits[0], hits, entry.Of(now), keptBefore, keptAfter)
		if err != nil {
			continue
		}
		if s.batch.Around == nil {
			s.batch.Around = map[string][]byte{}
		}
		s.batch.Around[alert], _ = json.Marshal(lines[:min(len(lines), aroundLines)])
	}
}
