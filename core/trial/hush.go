package trial

import (
	"slices"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
)

// Hushes tells whether a hush of the settings is about a key of a rule.
func Hushes(h *lang.Hush, r *lang.Rule, key []string) bool {
	named := slices.Contains(h.Rules, r.Name) || slices.ContainsFunc(h.Words,
		func(w string) bool { return slices.Contains(r.About, w) })
	if len(h.Rules)+len(h.Words) > 0 && !named {
		return false
	}
	if h.Where == nil {
		return true
	}
	e := &entry.Entry{}
	for i, f := range r.Per {
		if i < len(key) && key[i] != "?" {
			e.Fields = append(e.Fields, entry.Field{Name: f, Value: key[i]})
			switch f {
			case "host":
				e.Host = key[i]
			case "origin":
				e.Origin = key[i]
			case "source":
				e.Source = key[i]
			}
		}
	}
	if n := len(r.Per); len(key) == n+1 { // the joined host that reported it
		e.Fields = append(e.Fields, entry.Field{Name: engine.ReporterField, Value: key[n]})
		if e.Host == "" {
			e.Host = key[n]
		}
	}
	return match.Eval(h.Where, &match.Subject{Entry: e})
}

// HushHolds tells whether a hush of the settings holds at an instant; its hours are in a
// zone.
func HushHolds(h *lang.Hush, at entry.Instant, zone *time.Location) bool {
	if h.Off {
		return false
	}
	if h.From != 0 {
		return at >= h.From && at < h.To
	}
	return (&lang.Rule{During: h.Hours, Zone: zone}).Inside(at)
}

// MarkHushed notes on a transition that it is not told, where a hush of the settings keeps
// quiet what it is about. What people did is told nobody anyway.
func MarkHushed(s *lang.Settings, t *engine.Transition) {
	if t.Untold != "" || len(s.Hushes) == 0 || t.Change == engine.Taken || t.Change == engine.Noted ||
		t.Change == engine.Hushed || t.Change == engine.Unhushed {
		return
	}
	r := s.Rule(t.Rule)
	if r == nil {
		return
	}
	for _, h := range s.Hushes {
		if HushHolds(h, t.At, r.Zone) && Hushes(h, r, t.StateKey()) {
			t.Untold = engine.ByHush
			return
		}
	}
}
