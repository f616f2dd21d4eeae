package service

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/store"
)

// caughtUp is what a contact is told once the present has been reached.
type caughtUp struct {
	Open  []json.RawMessage `json:"open"`  // what is open still
	Ended []json.RawMessage `json:"ended"` // what was raised and cleared meanwhile
}

// tellCaughtUp tells, once the present has been reached and what came before is committed,
// what is open still; and, after the program was down, what was raised and cleared meanwhile.
func (s *Service) tellCaughtUp() error {
	if s.telling.caught || s.catching {
		return nil
	}
	b, err := s.store.Meta("caught")
	if err != nil {
		return err
	}
	var after int64
	fmt.Sscan(string(b), &after)
	lines, newest, err := s.store.CaughtUp(after)
	if err != nil {
		return err
	}
	type fate struct {
		raised, cleared json.RawMessage
		rule            string
		key             []string
	}
	fates, order := map[string]*fate{}, []string(nil)
	for _, l := range lines {
		var t kept
		if json.Unmarshal([]byte(l), &t) != nil {
			continue
		}
		f := fates[t.Alert]
		if f == nil {
			f = &fate{rule: t.Rule, key: s.keyOf(&t)}
			fates[t.Alert] = f
			order = append(order, t.Alert)
		}
		switch t.Change {
		case engine.Raised, engine.Reopened, engine.Worsened:
			f.raised = json.RawMessage(l)
		case engine.Cleared:
			f.cleared = json.RawMessage(l)
		}
	}
	by := map[string]*caughtUp{}
	for _, id := range order {
		f := fates[id]
		_, open := s.openAlert(id, f.rule, f.key)
		line := f.raised
		if !open {
			line = f.cleared
		}
		if line == nil || !open && b == nil { // of what lay before first sight only what is open still
			continue
		}
		for _, name := range s.contactsOf(line, open) {
			if by[name] == nil {
				by[name] = &caughtUp{}
			}
			if open {
				by[name].Open = append(by[name].Open, line)
			} else {
				by[name].Ended = append(by[name].Ended, line)
			}
		}
	}
	now := entry.Of(time.Now())
	for _, name := range slices.Sorted(maps.Keys(by)) {
		line, err := json.Marshal(by[name])
		if err != nil {
			return err
		}
		c := s.settings.Contact(name)
		s.batch.Tellings = append(s.batch.Tellings, store.Telling{Contact: name, Change: "caught up", Made: now, Due: s.opensAt(c, now), Line: string(line)})
		// What is open was told of: its end is told to who knows of it.
		for _, l := range by[name].Open {
			var t struct{ Alert string }
			json.Unmarshal(l, &t)
			s.batch.Tellings = append(s.batch.Tellings, store.Telling{Contact: name, Alert: t.Alert, Change: "caught up", Made: now, Due: s.opensAt(c, now), Line: "{}"})
		}
	}
	for id, q := range s.telling.quiet {
		if q.why == "catching up" {
			delete(s.telling.quiet, id)
			s.batch.Released = append(s.batch.Released, id)
		}
	}
	s.setMeta("caught", []byte(fmt.Sprint(newest)))
	s.telling.caught = true
	s.wakeTelling()
	return nil
}

// contactsOf are the contacts that are told of a transition that is kept as a line; those
// in whose shadow or hush it lies now are told nothing.
func (s *Service) contactsOf(line json.RawMessage, open bool) []string {
	var l kept
	if json.Unmarshal(line, &l) != nil {
		return nil
	}
	r := s.settings.Rule(l.Rule)
	if r == nil {
		return nil
	}
	t := &engine.Transition{Rule: l.Rule, Change: engine.Raised, Alert: l.Alert}
	t.Severity = entry.SeverityOf(l.Severity)
	if open {
		k, ok := s.openAlert(l.Alert, l.Rule, s.keyOf(&l))
		if !ok {
			return nil
		}
		x, _ := s.asItIs(&k, time.Now())
		if x == nil || s.quietBecause(x) != "" {
			return nil
		}
		for _, u := range r.Unless {
			if s.inShadow(&k, u.Rule) {
				return nil
			}
		}
		t = x
	}
	kept := s.batch.Tellings
	s.batch.Tellings = nil
	s.decide(t)
	var out []string
	for _, x := range s.batch.Tellings {
		switch {
		case x.Only != store.OnlyUntaken:
			out = append(out, x.Contact)
		case open:
			kept = append(kept, x)
		}
	}
	s.batch.Tellings = kept
	return out
}
