package notify

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

	open []string // the alerts of Open
}

// fate is what became of an alert while the present had not been reached.
type fate struct {
	engine.Transition // the newest
	key               []string
	raised, cleared   json.RawMessage
}

// CaughtUp tells, once the present has been reached and what came before is committed,
// what is open still; and, after the program was down, what was raised and cleared meanwhile.
func (s *Decider) CaughtUp() error {
	if s.Caught || s.Catching {
		return nil
	}
	b, err := s.Store.Meta("caught")
	if err != nil {
		return err
	}
	var after int64
	fmt.Sscan(string(b), &after)
	newest, err := s.Store.Newest()
	if err != nil {
		return err
	}
	if len(s.Settings.Contacts) > 0 {
		list, err := s.Store.CaughtUp(after, newest)
		if err != nil {
			return err
		}
		by := map[string]*caughtUp{}
		for _, f := range s.fates(list) {
			s.putCaught(by, f, b == nil)
		}
		if err := s.tellAllCaught(by); err != nil {
			return err
		}
	}
	s.Batch.SetMeta("caught", []byte(fmt.Sprint(newest)))
	s.Caught = true
	s.Wake()
	return nil
}

// fates are what became of the alerts of some kept transitions, in the order in which they
// came.
func (s *Decider) fates(list []engine.Transition) []*fate {
	by := map[string]*fate{}
	var out []*fate
	for _, t := range list {
		f := by[t.Alert]
		if f == nil {
			f = &fate{key: keyNow(s.Settings, &t)}
			by[t.Alert] = f
			out = append(out, f)
		}
		f.Transition = t
		line, err := t.MarshalJSON()
		if err != nil {
			continue
		}
		switch t.Change {
		case engine.Raised, engine.Reopened, engine.Worsened:
			f.raised = line
		case engine.Cleared:
			f.cleared = line
		}
	}
	return out
}

// putCaught adds an alert to what contacts are told: one that is open still, unless it is
// kept quiet; and one that is over, but not what lay before first sight.
func (s *Decider) putCaught(by map[string]*caughtUp, f *fate, first bool) {
	r := s.Settings.Rule(f.Rule)
	k, open := s.openAlert(f.Alert, f.Rule, f.key)
	line := f.raised
	if !open {
		line = f.cleared
	}
	if r == nil || line == nil || !open && first {
		return
	}
	t := &engine.Transition{At: entry.Of(time.Now()), Change: engine.Raised, Rule: f.Rule, Fields: r.Per, Key: f.key,
		Alert: f.Alert, Severity: f.Severity}
	ofHost(t)
	if open {
		t.Severity = k.Severity
		why := s.quietBecause(t)
		for _, u := range r.Unless {
			if why == "" && s.facts().inShadow(&k, u.Rule) {
				why = engine.ShadowOf(u.Rule)
			}
		}
		if why != "" { // told when that ends
			s.keepQuiet(f.Alert, &quietAlert{why, f.Rule, f.key})
			return
		}
	}
	for _, x := range s.recipients(r, t, t.At) {
		u := by[x.contact]
		switch {
		case x.only == store.OnlyUntaken:
			if open {
				s.Batch.Tellings = append(s.Batch.Tellings,
					store.Telling{Contact: x.contact, Alert: f.Alert, Change: engine.Raised, Severity: t.Severity,
						Made: t.At, Due: x.due, Only: x.only, Line: string(line)})
			}
			continue
		case u == nil:
			u = &caughtUp{}
			by[x.contact] = u
		}
		if open {
			u.Open = append(u.Open, line)
			u.open = append(u.open, f.Alert)
		} else {
			u.Ended = append(u.Ended, line)
		}
	}
}

// tellAllCaught writes into the batch what each contact is told.
func (s *Decider) tellAllCaught(by map[string]*caughtUp) error {
	now := entry.Of(time.Now())
	for _, name := range slices.Sorted(maps.Keys(by)) {
		line, err := json.Marshal(by[name])
		if err != nil {
			return err
		}
		due := s.opensAt(s.Settings.Contact(name), now)
		s.Batch.Tellings = append(s.Batch.Tellings,
			store.Telling{Contact: name, Change: "caught up", Severity: entry.Error, Made: now, Due: due,
				Line: string(line)})
		for _, alert := range by[name].open { // who knows that it is open is told its end
			s.Batch.Tellings = append(s.Batch.Tellings,
				store.Telling{Contact: name, Alert: alert, Change: "caught up", Severity: entry.Error, Made: now,
					Due: due, Line: "{}"})
		}
	}
	return nil
}
