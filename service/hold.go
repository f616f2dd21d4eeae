package service

import (
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/origin"

	"dimlantern/core/entry"
	"dimlantern/store"
)

// sourcesOf names the sources at which rules look.
func (s *Service) sourcesOf(rules []int) map[string]bool {
	out := map[string]bool{}
	all := s.engine.Rules()
	for _, i := range rules {
		for _, src := range s.settings.Sources {
			if all[i].LooksAt(src.Name) {
				out[src.Name] = true
			}
		}
	}
	return out
}

// hold tells the engine which rules have origins that were not read up to now: a
// source that is looked at only now and then, or a file that waits for another.
func (s *Service) hold(now time.Time) {
	behind := map[string]entry.Instant{} // by source
	for _, o := range s.follower.Origins() {
		if to := o.ReadTo(now); to < entry.Of(now) {
			if had, ok := behind[o.Source.Name]; !ok || to < had {
				behind[o.Source.Name] = to
			}
		}
	}
	for _, src := range s.settings.Sources {
		if src.Kept() && s.ways.behind(src.Name, now) {
			to := entry.Of(now)
			for _, o := range s.follower.Origins() {
				if o.Source.Name == src.Name {
					to = min(to, o.Reached())
				}
			}
			if had, ok := behind[src.Name]; !ok || to < had {
				behind[src.Name] = to
			}
		}
	}
	var bounds map[int]entry.Instant
	if len(behind) > 0 {
		bounds = map[int]entry.Instant{}
		for i, r := range s.engine.Rules() {
			for name, to := range behind {
				if had, ok := bounds[i]; r.LooksAt(name) && (!ok || to < had) {
					bounds[i] = to
				}
			}
		}
	}
	if n := s.centre; n != nil && n.joins() {
		mark, holds := n.release(now)
		for i, r := range s.engine.Rules() {
			if !r.AtCentre || !holds {
				continue
			}
			if bounds == nil {
				bounds = map[int]entry.Instant{}
			}
			if had, ok := bounds[i]; !ok || mark < had {
				bounds[i] = mark
			}
		}
	}
	s.apply(engine.Hold{Bounds: bounds})
}

// conditions hands on which origins can be seen and which cannot.
func (s *Service) conditions(now time.Time) {
	at := entry.Of(now)
	s.ways.conditions(s.follower, s.settings.Sources, now)
	s.seeUnseen(now)
	delete(s.trouble, "kept")
	if err := s.ways.kept.Failed(); err != nil {
		s.trouble["kept"] = err.Error() + "; ports and channels wait, and nothing that was confirmed is lost"
	}
	for _, o := range s.follower.Changed() {
		blind := o.Condition.Blind()
		s.seq++
		switch {
		case blind:
			s.apply(engine.Blind{Origin: o.Name, At: at})
		case s.engine.IsBlind(o.Name):
			s.apply(engine.Seen{Origin: o.Name, At: at})
		case o.Condition != origin.Seen:
			continue
		}
		s.decider.Blind(o.Name, string(o.Condition), blind)
		s.batch.Blind = append(s.batch.Blind, store.Blind{Origin: o.Name, At: at, Seen: !blind,
			Words: string(o.Condition)})
	}
}

// begin tells rules that await which logs there are, where that is new to them.
func (s *Service) begin(at entry.Instant) {
	origins := s.awaitedOrigins()
	if len(origins) == s.begun {
		return
	}
	s.begun = len(origins)
	s.apply(engine.Begin{At: at, Origins: origins})
}
