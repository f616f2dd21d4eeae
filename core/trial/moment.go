package trial

import (
	"fmt"
	"slices"
	"strings"

	"dimlantern/core/verdict"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Moment is how a rule stood for a key at an instant, and what had led to it.
type Moment struct {
	At        string              `json:"at"`
	Rule      string              `json:"rule"`
	Standings []engine.Standing   `json:"keys"`
	More      int                 `json:"more,omitempty"` // keys that agree and are not among them
	Entries   []MomentEntry       `json:"entries"`        // of the key, the newest last
	Changes   []engine.Transition `json:"changes"`        // of the key, the newest last
	// Beside are keys that did give entries, where none agrees with the one asked for.
	Beside []string `json:"beside,omitempty"`
}

// MomentEntry is an entry that was something for the key.
type MomentEntry struct {
	At     string `json:"at"`
	at     entry.Instant
	Is     string `json:"is"` // hit, recovery, awaited, question, counted or follower
	Origin string `json:"origin"`
	Offset int64  `json:"offset"`
	Text   string `json:"text"`
}

// Time is the own time of the entry.
func (e *MomentEntry) Time() entry.Instant { return e.at }

// The bounds of a moment: how many keys, entries and transitions it tells of.
const (
	momentKeys    = 5
	momentEntries = 12
	momentChanges = 12
	momentBeside  = 12
)

// MomentQuery says of what a moment is wanted.
type MomentQuery struct {
	Rule *lang.Rule
	Key  []string      // in the order of the rule's key; "" agrees with every value
	At   entry.Instant // entries of this own time are in it; entry.None is the end
	// Clock writes instants for people; nil writes RFC 3339.
	Clock func(entry.Instant) string
}

// WhyAt runs a rule over inputs up to an instant, and tells how it stood then. Rules in
// whose shadow it may stand run along.
func WhyAt(s *lang.Settings, q MomentQuery, inputs []*Input, o Options) (Moment, error) {
	if q.Clock == nil {
		q.Clock = entry.Instant.String
	}
	out := Moment{Rule: q.Rule.Name}
	beside := map[string]bool{}
	o.Saw = func(rule string, v *verdict.Verdict, x *entry.Entry) {
		if rule != q.Rule.Name {
			return
		}
		mine := false
		for i, key := range v.Keys() { // the first one is a hit's own: nothing in it agrees by lacking
			mine = mine || key != nil && agreesWith(key, q.Key, i > 0 || v.Awaited)
		}
		if !mine {
			if k := strings.Join(engine.Written(v.Key), " "); v.Hit && len(beside) < 1000 {
				beside[k] = true
			}
			return
		}
		out.Entries = append(out.Entries, MomentEntry{v.At.String(), v.At, is(v), x.Origin, x.Offset, x.Raw})
		if len(out.Entries) > 4*momentEntries {
			out.Entries = slices.Delete(out.Entries, 0, len(out.Entries)-momentEntries)
		}
	}
	o.Emit = func(t *engine.Transition) {
		if t.Rule == q.Rule.Name && agreesWith(t.Key, q.Key, false) {
			out.Changes = append(out.Changes, *t)
			if len(out.Changes) > 4*momentChanges {
				out.Changes = slices.Delete(out.Changes, 0, len(out.Changes)-momentChanges)
			}
		}
	}
	if q.At != entry.None {
		o.To = q.At + 1
	}
	e, err := Rebuild(s, shadowing(s, q.Rule), inputs, o)
	if err != nil {
		return out, err
	}
	if q.At == entry.None {
		q.At = e.Clock()
	}
	out.At = q.At.String()
	all := e.Standings(q.Rule.Name, q.Key, q.Clock)
	out.Standings = all[:min(len(all), momentKeys)]
	out.More = len(all) - len(out.Standings)
	out.Entries = out.Entries[max(0, len(out.Entries)-momentEntries):]
	out.Changes = out.Changes[max(0, len(out.Changes)-momentChanges):]
	if len(out.Entries) == 0 && len(all) == 0 {
		for k := range beside {
			out.Beside = append(out.Beside, k)
		}
		slices.Sort(out.Beside)
		out.Beside = out.Beside[:min(len(out.Beside), momentBeside)]
	}
	return out, nil
}

// agreesWith tells whether a key has all values that are wanted.
func agreesWith(key, want []string, lacking bool) bool {
	for i, v := range want {
		if v != "" && (i >= len(key) || key[i] != v && !(key[i] == "" && (lacking || v == "?"))) {
			return false
		}
	}
	return true
}

// shadowing are a rule and those in whose shadow it may stand, in their order.
func shadowing(s *lang.Settings, r *lang.Rule) []*lang.Rule {
	names := map[string]bool{}
	var add func(r *lang.Rule)
	add = func(r *lang.Rule) {
		if r == nil || names[r.Name] {
			return
		}
		names[r.Name] = true
		for _, u := range r.Unless {
			add(s.Rule(u.Rule))
		}
	}
	add(r)
	var out []*lang.Rule
	for _, x := range s.EveryRule() {
		if names[x.Name] && (!x.Off || x == r) {
			out = append(out, x)
		}
	}
	return lang.Ordered(out)
}

// is says what a verdict is, in the order in which the engine asks.
func is(v *verdict.Verdict) string {
	switch {
	case v.Recovery:
		return "recovery"
	case v.Hit:
		return "hit"
	case v.Awaited:
		return "awaited"
	case v.Question:
		return "question"
	case len(v.Follows) > 0:
		return "follower"
	}
	return "counted"
}

// Text writes the moment for people. Clock writes instants.
func (m *Moment) Text(clock func(entry.Instant) string) string {
	var b strings.Builder
	if len(m.Standings) == 0 {
		fmt.Fprintf(&b, "%s knows nothing of this key at that time", m.Rule)
		switch {
		case len(m.Changes) > 0:
			last := m.Changes[len(m.Changes)-1]
			fmt.Fprintf(&b, ": it started from zero when its alert was cleared at %s (%s)", clock(last.At), last.Why)
		case len(m.Entries) > 0:
			b.WriteString(": its entries are listed below, and it started from zero behind them")
		case len(m.Beside) > 0:
			b.WriteString(": no entry up to then was anything for it; hits came for " + strings.Join(m.Beside, ", "))
		default:
			b.WriteString(": no entry up to then was a hit of any key")
		}
		b.WriteString("\n")
	}
	for i := range m.Standings {
		s := &m.Standings[i]
		if i > 0 {
			b.WriteString("\n")
		}
		b.WriteString(m.Rule)
		for k, f := range s.Fields {
			fmt.Fprintf(&b, " %s %s", f, lang.Quote(s.Key[k]))
		}
		if s.Severity != nil {
			fmt.Fprintf(&b, ": %s, open since %s\n", s.Severity, clock(s.Since))
		} else {
			b.WriteString(": no alert is open\n")
		}
		for _, c := range s.Says {
			fmt.Fprintf(&b, "  %s%s\n         %s\n", mark(c.Holds), c.Clause, c.Text)
		}
		for _, n := range s.Notes {
			fmt.Fprintf(&b, "  note   %s\n", n)
		}
	}
	if m.More > 0 {
		fmt.Fprintf(&b, "\n%d more keys agree: name more of the key\n", m.More)
	}
	if len(m.Entries) > 0 {
		b.WriteString("\nwhat it had been given\n")
		for _, x := range m.Entries {
			fmt.Fprintf(&b, "  %s  %-9s %s\n", clock(x.at), x.Is, x.Text)
		}
	}
	if len(m.Changes) > 0 {
		b.WriteString("\nwhat had come of it\n")
		for _, t := range m.Changes {
			fmt.Fprintf(&b, "  %s  %-9s %s\n", clock(t.At), t.Change, t.Why)
		}
	}
	return b.String()
}
