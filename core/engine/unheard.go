package engine

import (
	"maps"
	"slices"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// HostUnheard raises what a rule of a joined host makes of keys that cannot be seen: nothing is heard of the
// host, so nobody there decides it. Keys are without the host's name. An alert that is open is worsened.
type HostUnheard struct {
	Reporter string
	At       entry.Instant
	Rule     string
	Fields   []string
	Keys     [][]string
	Severity entry.Severity
	Why      string
}

// HostHeard ends what HostUnheard has raised: the host decides again.
type HostHeard struct {
	Reporter string
	At       entry.Instant
}

func (in HostUnheard) apply(e *Engine) bool {
	did := false
	e.clock = entry.Later(e.clock, in.At)
	for _, k := range in.Keys {
		if len(k) != len(in.Fields) {
			continue
		}
		r := e.relayedRule(in.Rule, in.Fields)
		key := append(slices.Clone(k), in.Reporter)
		s := r.keys[keyID(key)]
		if s != nil && s.alert.severity >= in.Severity {
			continue
		}
		change := Worsened
		if s == nil {
			change = Raised
			s = r.relayedKey(key, alertID(in.Reporter, in.Rule, key, e.clock, nil), e.clock)
			s.alert.first, s.alert.last, s.alert.blind = entry.None, entry.None, true
			s.alert.vars = []entry.Field{{Name: saidAs, Value: strings.TrimSpace(in.Rule+" "+strings.Join(k, " ")) +
				": nothing is heard of " + in.Reporter}}
		}
		a := s.alert
		a.severity, a.why = in.Severity, in.Why
		s.touched = e.clock
		e.changed(s)
		e.tell(s, change, e.clock, a.why, nil)
		did = true
	}
	return did
}

func (in HostHeard) apply(e *Engine) bool {
	did := false
	e.clock = entry.Later(e.clock, in.At)
	e.eachRelayed(in.Reporter, func(s *state) {
		if s.alert.blind {
			e.endUnheard(s)
			did = true
		}
	})
	return did
}

// endUnheard ends an alert that HostUnheard has raised.
func (e *Engine) endUnheard(s *state) {
	e.emit(s, Cleared, e.clock, "seen", nil)
	e.dropRelayed(s)
}

// Unheard are the hosts of which HostUnheard has raised alerts that are open, in order.
func (e *Engine) Unheard() []string {
	names := map[string]bool{}
	e.eachRelayed("", func(s *state) {
		if s.alert.blind {
			names[s.key[len(s.key)-1]] = true
		}
	})
	return slices.Sorted(maps.Keys(names))
}

// Blinding is what a rule of this machine makes of keys that cannot be seen.
type Blinding struct {
	Rule *lang.Rule // the rule says how bad that is, and after what time
	Keys [][]string // those that are known, in order
	More int        // keys beyond the bound
}

// Blindings are the rules that raise where they cannot be seen, with at most so many keys of each.
func (e *Engine) Blindings(most int) []Blinding {
	var out []Blinding
	for _, r := range e.rules {
		if r.Blind == 0 || r.Off {
			continue
		}
		b := Blinding{Rule: r.Rule}
		for _, s := range r.keys {
			b.Keys = append(b.Keys, slices.Clone(s.key))
		}
		slices.SortFunc(b.Keys, slices.Compare)
		if b.More = max(len(b.Keys)-most, 0); b.More > 0 {
			b.Keys = b.Keys[:most]
		}
		out = append(out, b)
	}
	return out
}

func (HostUnheard) kind() byte { return kindHostUnheard }
func (HostHeard) kind() byte   { return kindHostHeard }

func (in HostUnheard) write(w *writer) {
	w.str(in.Reporter)
	w.int(int64(in.At))
	w.str(in.Rule)
	w.strs(in.Fields)
	w.int(int64(in.Severity))
	w.str(in.Why)
	w.int(int64(len(in.Keys)))
	for _, k := range in.Keys {
		w.strs(k)
	}
}

func (in HostHeard) write(w *writer) {
	w.str(in.Reporter)
	w.int(int64(in.At))
}

func (r *reader) hostUnheard() HostUnheard {
	in := HostUnheard{Reporter: r.str(), At: r.instant(), Rule: r.str(), Fields: r.strs(),
		Severity: entry.Severity(r.int()), Why: r.str()}
	for range r.len() {
		in.Keys = append(in.Keys, r.strs())
	}
	return in
}
