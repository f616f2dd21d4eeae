package engine

import (
	"container/heap"
	"slices"
	"sort"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Change is how rules are edited.
type Change struct {
	// SameMatch tells whether a rule still matches and counts by the same: then it keeps
	// its state. Unchanged tells besides that nothing of it has changed at all but its
	// place; nil stands for no.
	SameMatch, Unchanged func(old, new *lang.Rule) bool
	// Built has the state of rules that match differently now, found in what their logs have
	// said; nil stands for none.
	Built *Engine
	// First says before which instant nothing that Built has raised counts, since the
	// rule's log was not watched yet; nil stands for never.
	First func(*lang.Rule) entry.Instant
}

// Edit takes up new rules, which must be in the order in which they are judged. A rule
// of which only words or thresholds changed keeps its state. Where it matches
// differently now, its state is the one that was built: what is open in both stays the same
// alert, and what is open no more is cleared with the reason.
func (e *Engine) Edit(rules []*lang.Rule, c Change) []Transition {
	e.out = e.out[:0]
	if c.Built == nil && slices.Equal(rules, e.Rules()) {
		return nil
	}
	next := New(rules)
	next.clock, next.blind, next.rest, next.shown, next.encoded = e.clock, e.blind, e.rest, e.shown, e.encoded
	next.Dropped, next.Hits, next.Recoveries, next.MostKeys = e.Dropped, e.Hits, e.Recoveries, e.MostKeys
	next.relayed, next.Reporter = e.relayed, e.Reporter
	byName := map[string]*rule{}
	for _, r := range next.rules {
		byName[r.Name] = r
	}
	whole := map[*rule]bool{} // those that are taken over as they are
	for _, old := range e.rules {
		now := byName[old.Name]
		why := ""
		switch {
		case now == nil:
			why = "rule removed"
		case !c.SameMatch(old.Rule, now.Rule):
			why = "rule changed"
		case c.Unchanged != nil && c.Unchanged(old.Rule, now.Rule):
			old.Rule, old.index = now.Rule, now.index
			next.rules[now.index], whole[old] = old, true
			continue
		default:
			e.carry(old, now, next)
			continue
		}
		still := e.rebuilt(old, now, c.Built, next, c.First)
		var open []*state
		for id, s := range old.keys {
			e.went(s)
			if s.alert != nil && !still[id] {
				open = append(open, s)
			}
		}
		sort.Slice(open, func(i, j int) bool { return less(open[i].key, open[j].key) })
		for _, s := range open {
			e.emit(s, Cleared, e.clock, why, nil)
		}
	}
	for _, x := range append(e.timers, e.aside...) {
		if whole[x.s.rule] {
			next.timers = append(next.timers, x)
		}
	}
	heap.Init(&next.timers)
	out, now := e.out, e.Now
	*e = *next
	e.out, e.Now = out, now
	return out
}

// rebuilt gives a rule the state that another engine has of it, and answers which keys
// still have the alert that they had.
func (e *Engine) rebuilt(old, now *rule, built, next *Engine, first func(*lang.Rule) entry.Instant) map[string]bool {
	if now == nil {
		return nil
	}
	now.began, now.hits, now.last, now.took = old.began, old.hits, old.last, old.took
	if built == nil {
		return nil
	}
	i := slices.IndexFunc(built.rules, func(r *rule) bool { return r.Name == now.Name })
	if i < 0 || len(built.rules[i].Per) != len(now.Per) {
		return nil
	}
	var list []*state
	for s := built.rules[i].oldest; s != nil; s = s.newer {
		list = append(list, s)
	}
	var open []*state
	for _, s := range built.rules[i].keys {
		if s.alert != nil {
			open = append(open, s)
		}
	}
	sort.Slice(open, func(i, j int) bool { return less(open[i].key, open[j].key) })
	still := map[string]bool{}
	for _, s := range append(list, open...) {
		s.older, s.newer, s.rule, s.blindAt = nil, nil, now, entry.None
		if e.allBlind(s) {
			s.blindAt = e.clock
		}
		if a := s.alert; a != nil {
			id := keyID(s.key)
			if had := old.keys[id]; had != nil && had.alert != nil && slices.Equal(old.Per, now.Per) {
				still[id] = true
				was := had.alert
				a.id, a.raised, a.since, a.told, a.taken = was.id, was.raised, was.since, was.told, was.taken
				a.count = max(a.count, was.count)
				a.first, a.last = earlier(a.first, was.first), entry.Later(a.last, was.last)
				if a.severity > was.severity {
					e.emit(s, Worsened, e.clock, a.why, nil)
					a.told = e.clock
				}
				a.severity = max(a.severity, was.severity)
			} else if first != nil && a.since < first(now.Rule) {
				continue
			} else {
				a.raised, a.since, a.told = e.clock, e.clock, e.clock
				e.emit(s, Raised, e.clock, a.why, nil)
			}
		}
		next.adopt(now, s)
	}
	return still
}

func less(a, b []string) bool {
	for i := range a {
		if a[i] != b[i] {
			return a[i] < b[i]
		}
	}
	return false
}

// carry moves the state of a rule's keys to its new form: open alerts, kept hits
// and the beginnings of deadlines.
func (e *Engine) carry(old, now *rule, next *Engine) {
	var list []*state
	for s := old.oldest; s != nil; s = s.newer {
		list = append(list, s)
	}
	for _, s := range old.keys {
		if s.alert != nil {
			list = append(list, s)
		}
	}
	now.began, now.hits, now.last, now.took = old.began, old.hits, old.last, old.took
	for _, s := range list {
		s.older, s.newer = nil, nil
		if now.most == 0 {
			s.hits = nil
		} else if n := len(s.hits) - now.most; n > 0 {
			s.hits = s.hits[n:]
		}
		s.own, s.wins = now.carryOwn(old, s), now.carryWindows(old, s)
		if now.Reopen == 0 {
			s.past = nil
		}
		next.adopt(now, s)
	}
}

// carryOwn keeps the hits that a raise keeps for itself, where the rule still has it.
func (r *rule) carryOwn(old *rule, s *state) []ownHits {
	if !r.owns {
		return nil
	}
	out := make([]ownHits, len(r.Raises))
	used := map[int]bool{}
	for i := range r.Raises {
		x := &r.Raises[i]
		for k := range s.own {
			o := &old.Raises[k]
			if r.own[i] && old.own[k] && !used[k] && x.Why() == o.Why() && x.Within == o.Within {
				out[i], used[k] = s.own[k], true
				break
			}
		}
	}
	return out
}

// carryWindows keeps the windows of comparisons that the rule still has.
func (r *rule) carryWindows(old *rule, s *state) []window {
	out := r.newWindows(s.zero)
	used := map[int]bool{}
	for i, w := range r.whens {
		for k, o := range old.whens {
			if !used[k] && w.String() == o.String() && (r.raiseOf[i] < 0) == (old.raiseOf[k] < 0) {
				out[i], used[k] = s.wins[k], true
				break
			}
		}
	}
	return out
}
