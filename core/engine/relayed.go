package engine

import (
	"slices"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// ReporterField is the field by which keys of alerts that joined hosts have reported differ from each other.
const ReporterField = "reporter"

// Relayed is a transition that a joined host has decided. The engine keeps which alerts of hosts are open, and
// decides nothing about them: no timer is theirs.
type Relayed struct{ Transition }

// HostGone ends all alerts that a host has reported: it is joined no more.
type HostGone struct {
	Reporter string
	At       entry.Instant
}

// HostRenamed gives a host's open alerts to it under another name.
type HostRenamed struct{ From, To string }

// StateKey is the key under which the alert is kept: that of the transition, and of one that a host reported
// the host's name behind it.
func (t *Transition) StateKey() []string {
	if t.Reporter == "" {
		return t.Key
	}
	return append(slices.Clone(t.Key), t.Reporter)
}

// relayedName tells rules of hosts apart; those of other hosts may count by other fields.
func relayedName(name string, fields []string) string {
	return name + "\x00" + strings.Join(fields, "\x00")
}

// relayedRule is what stands for a rule that hosts judge.
func (e *Engine) relayedRule(name string, fields []string) *rule {
	id := relayedName(name, fields)
	r := e.relayed[id]
	if r == nil {
		per := append(slices.Clone(fields), ReporterField)
		r = &rule{Rule: &lang.Rule{Name: name, Per: per}, index: -1, keys: map[string]*state{}}
		if e.relayed == nil {
			e.relayed = map[string]*rule{}
		}
		e.relayed[id] = r
	}
	return r
}

// relay takes over what a host has decided. It answers false where it changes nothing that is known.
func (e *Engine) relay(t Transition) bool {
	r := e.relayedRule(t.Rule, t.Fields)
	key := t.StateKey()
	s := r.keys[keyID(key)]
	switch {
	case s != nil && s.alert.id != t.Alert && (t.Change == Raised || t.Change == Reopened):
		if s.alert.blind {
			e.clock = entry.Later(e.clock, t.At)
			e.endUnheard(s)
		} else {
			e.dropRelayed(s) // its end was lost with what the host had
		}
		r, s = e.relayedRule(t.Rule, t.Fields), nil
	case s == nil && t.Change != Raised && t.Change != Reopened && t.Change != Worsened && t.Change != Repeated:
		return false
	case s != nil && s.alert.id != t.Alert:
		return false
	}
	if s == nil {
		s = r.relayedKey(key, t.Alert, t.At)
	}
	a := s.alert
	switch t.Change {
	case Taken:
		a.taken = true
	case Noted, Hushed, Unhushed:
		a.taken = a.taken && !t.LetGo
	default:
		a.severity, a.count, a.first, a.last, a.why = t.Severity, t.Count, t.First, t.Last, t.Why
		a.told = t.At
	}
	a.vars = []entry.Field{{Name: saidAs, Value: t.Say}}
	s.touched, s.last, s.count = t.At, t.Last, t.Count
	e.changed(s)
	if t.Change == Cleared {
		e.dropRelayed(s)
	}
	if t.Untold != CatchingUp { // whom else to tell is decided here
		t.Untold = ""
	}
	e.out = append(e.out, t)
	return true
}

// relayedKey is a new key, with an alert that is open since then.
func (r *rule) relayedKey(key []string, alertID string, at entry.Instant) *state {
	s := &state{rule: r, key: key, zero: entry.None, first: entry.None, last: entry.None, blindAt: entry.None,
		armed: [3]entry.Instant{entry.None, entry.None, entry.None},
		alert: &alert{id: alertID, raised: at, since: at, told: at}}
	s.wait.heard, s.wait.asked, s.wait.by = entry.None, entry.None, entry.None
	r.keys[keyID(key)] = s
	r.open++
	return s
}

// saidAs is the name of the variable of a host's alert that holds what it says.
const saidAs = " say"

func (e *Engine) dropRelayed(s *state) {
	delete(s.rule.keys, keyID(s.key))
	s.rule.open--
	if n := len(s.rule.Per) - 1; s.rule.open == 0 {
		delete(e.relayed, relayedName(s.rule.Name, s.rule.Per[:n]))
	}
	e.went(s)
}

// eachRelayed visits the open alerts of a host in the order of rules and keys; "" is all hosts.
func (e *Engine) eachRelayed(reporter string, visit func(*state)) {
	var list []*state
	for _, r := range e.relayed {
		for _, s := range r.keys {
			if reporter == "" || s.key[len(s.key)-1] == reporter {
				list = append(list, s)
			}
		}
	}
	slices.SortFunc(list, func(a, b *state) int {
		if c := strings.Compare(a.rule.Name, b.rule.Name); c != 0 {
			return c
		}
		return slices.Compare(a.key, b.key)
	})
	for _, s := range list {
		visit(s)
	}
}

func (in Relayed) apply(e *Engine) bool { return e.relay(in.Transition) }

func (in HostGone) apply(e *Engine) bool {
	did := false
	e.clock = entry.Later(e.clock, in.At)
	e.eachRelayed(in.Reporter, func(s *state) {
		did = true
		e.emit(s, Cleared, e.clock, "host gone", nil)
		e.dropRelayed(s)
	})
	return did
}

func (in HostRenamed) apply(e *Engine) bool {
	did := false
	e.eachRelayed(in.From, func(s *state) {
		did = true
		delete(s.rule.keys, keyID(s.key))
		s.key = slices.Clone(s.key)
		s.key[len(s.key)-1] = in.To
		s.rule.keys[keyID(s.key)] = s
		e.changed(s)
	})
	return did
}

func (Relayed) kind() byte     { return kindRelayed }
func (HostGone) kind() byte    { return kindHostGone }
func (HostRenamed) kind() byte { return kindHostRenamed }

func (in Relayed) write(w *writer) {
	b, _ := in.MarshalJSON() // which cannot fail: all is text and numbers
	w.str(string(b))
}

func (in HostGone) write(w *writer) {
	w.str(in.Reporter)
	w.int(int64(in.At))
}

func (in HostRenamed) write(w *writer) {
	w.str(in.From)
	w.str(in.To)
}

func (r *reader) relayed() Relayed {
	var x Relayed
	if x.UnmarshalJSON([]byte(r.str())) != nil {
		r.bad = true
	}
	return x
}

// relayedStates writes the open alerts of hosts.
func (w *writer) relayedStates(e *Engine) {
	n := 0
	e.eachRelayed("", func(*state) { n++ })
	w.int(int64(n))
	e.eachRelayed("", func(s *state) {
		w.str(s.rule.Name)
		w.strs(s.rule.Per[:len(s.rule.Per)-1])
		w.state(s)
	})
}

func (r *reader) relayedStates(e *Engine) {
	for range r.len() {
		rule := e.relayedRule(r.str(), r.strs())
		s := r.state(rule)
		if r.bad || s.alert == nil || len(s.key) != len(rule.Per) {
			r.bad = true
			return
		}
		s.rule = rule
		s.armed = [3]entry.Instant{entry.None, entry.None, entry.None}
		rule.keys[keyID(s.key)] = s
		rule.open++
		e.changed(s)
	}
}
