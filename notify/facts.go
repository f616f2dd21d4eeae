package notify

import (
	"slices"
	"time"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
)

// facts are what keeps alerts quiet at a moment: as the loop knows it, or as a snapshot
// does.
type facts struct {
	settings *lang.Settings
	hushes   []api.ByHand
	openOf   func(rule string) [][]string // the keys of a rule that have an open alert
}

// because is why a transition is told nobody, besides that it lies in the past; "" where
// somebody is told.
func (f *facts) because(t *engine.Transition) engine.Untold {
	if t.Untold != "" {
		return t.Untold
	}
	if why := f.shadowed(t); why != "" {
		return why
	}
	x := *t
	if trial.MarkHushed(f.settings, &x); x.Untold != "" {
		return x.Untold
	}
	r := f.settings.Rule(t.Rule)
	now := entry.Of(time.Now()) // what comes late is kept quiet as well
	for i := range f.hushes {
		if h := &f.hushes[i]; h.Holds(now) && h.Covers(r, t.Alert, t.Rule, t.Fields, t.StateKey()) {
			return engine.ByHush
		}
	}
	return ""
}

// shadowed is the shadow in which an alert of a host stands: the host does not know what is open elsewhere.
func (f *facts) shadowed(t *engine.Transition) engine.Untold {
	r := f.settings.Rule(t.Rule)
	if t.Reporter == "" || r == nil {
		return ""
	}
	for _, u := range r.Unless {
		bigger := f.settings.Rule(u.Rule)
		if bigger == nil {
			continue
		}
		for _, key := range f.openOf(u.Rule) {
			own := len(key) == len(bigger.Per)
			if (own || key[len(key)-1] == t.Reporter) && lang.SameValues(u.Same, r, t.Key, bigger, key) {
				return engine.ShadowOf(u.Rule)
			}
		}
	}
	return ""
}

// still tells whether an open alert is kept quiet now.
func (f *facts) still(k *engine.KeyView, why engine.Untold, now time.Time) bool {
	r := f.settings.Rule(k.Rule)
	if r == nil {
		return false
	}
	if rule, shadowed := why.Shadow(); shadowed && f.inShadow(k, rule) {
		return true
	}
	t := &engine.Transition{At: entry.Of(now), Change: engine.Raised, Rule: k.Rule, Fields: r.Per, Key: k.Key,
		Severity: k.Severity, Alert: k.Alert}
	ofHost(t)
	return f.because(t) != ""
}

// inShadow tells whether an alert of a bigger rule is open with the fields that they share.
func (f *facts) inShadow(k *engine.KeyView, bigger string) bool {
	a, b := f.settings.Rule(k.Rule), f.settings.Rule(bigger)
	if a == nil || b == nil {
		return false
	}
	for _, u := range a.Unless {
		if u.Rule == bigger && slices.ContainsFunc(f.openOf(bigger),
			func(key []string) bool { return lang.SameValues(u.Same, a, k.Key, b, key) }) {
			return true
		}
	}
	return false
}
