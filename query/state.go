package query

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// Status is how the service is.
func (s *Asker) Status(ctx context.Context, _ api.None) (*api.Status, error) {
	hushes, err := s.Hushes(ctx, api.None{})
	if err != nil {
		return nil, err
	}
	sn := s.Window.Now()
	out := &api.Status{Host: sn.Host, Started: sn.Began.String(), Settings: sn.House.Settings,
		Open: map[string]int{}, Blind: []string{},
		Trouble: sn.Troubles(), Reading: sn.Reading || sn.Catching, Taken: len(sn.Taken)}
	for _, h := range hushes.List {
		if h.Holds {
			out.Hushes++
		}
	}
	for _, r := range sn.Settings.Rules {
		if !r.Off && !snapshot.BuiltIn(r) {
			out.Rules++
		}
	}
	for _, src := range sn.Settings.Sources {
		if !src.Off && src.Name != lang.Itself {
			out.Sources++
		}
	}
	for _, o := range sn.Origins {
		if o.Source.Name == lang.Itself {
			continue
		}
		out.Origins++
		if o.Condition.Blind() {
			out.Blind = append(out.Blind, o.Name+": "+o.Words)
		}
	}
	sort.Strings(out.Blind)
	sn.Engine.Open(func(k *engine.KeyView) bool {
		out.Open[k.Severity.String()]++
		return true
	})
	for _, x := range sn.Waiting {
		out.Waiting += x.Waiting
	}
	return out, nil
}

// Handover is what happened in a stretch of time.
func (s *Asker) Handover(ctx context.Context, q api.ShiftQuery) (*api.Shift, error) {
	if q.To == 0 {
		q.To = entry.Of(time.Now())
	}
	out := &api.Shift{From: q.From, To: q.To, Host: s.Window.Now().Host}
	alerts, err := s.Store.Alerts(q.From, q.To)
	if err != nil {
		return nil, err
	}
	for _, a := range alerts {
		x := api.ShiftAlert{Alert: a.Alert, Rule: a.Rule, Key: a.Key, Severity: a.Severity, Raised: a.Raised,
			Cleared: a.Cleared, Why: a.Why, Count: a.Count, Before: a.Raised < q.From}
		if a.Cleared != entry.None && a.Cleared > q.To {
			x.Cleared, x.Why = entry.None, ""
		}
		changes, err := s.Store.Changes(a.Alert)
		if err != nil {
			return nil, err
		}
		for _, t := range changes {
			if t.At > q.To {
				continue
			}
			x.Say = t.Say
			switch t.Change {
			case engine.Taken:
				x.Taken = t.By
			case engine.Noted:
				if t.LetGo {
					x.Taken = ""
				}
				x.Notes = append(x.Notes, fmt.Sprintf("%s %s: %s", api.Moment(t.At), t.By, t.Words))
			case engine.Cleared:
				if t.By != "" && t.Words != "" {
					x.Notes = append(x.Notes, fmt.Sprintf("%s %s cleared it: %s", api.Moment(t.At), t.By, t.Words))
				}
			}
		}
		out.Alerts = append(out.Alerts, x)
	}
	slices.SortStableFunc(out.Alerts, func(a, b api.ShiftAlert) int {
		openA, openB := a.Cleared == entry.None, b.Cleared == entry.None
		switch {
		case openA != openB:
			if openA {
				return -1
			}
			return 1
		case a.Severity != b.Severity:
			return int(b.Severity) - int(a.Severity)
		}
		return compareInstants(a.Raised, b.Raised)
	})
	hushes, err := s.Hushes(ctx, api.None{})
	if err != nil {
		return nil, err
	}
	for _, h := range hushes.List {
		if h.Holds {
			out.Hushes = append(out.Hushes, h)
		}
	}
	actions, err := s.Store.Actions("", q.From, q.To, 2000)
	if err != nil {
		return nil, err
	}
	for _, a := range actions {
		x := api.Action{At: a.At, By: a.By, From: a.From, What: a.What, Alert: a.Alert, Words: a.Words,
			Until: a.Until, Did: a.Did}
		for _, f := range a.Files {
			x.Files = append(x.Files, api.FileChange(f))
		}
		out.Actions = append(out.Actions, x)
	}
	told, err := s.Store.ToldBetween(q.From, q.To)
	if err != nil {
		return nil, err
	}
	by := map[string]*api.ShiftTold{}
	for _, t := range told {
		x := by[t.Contact]
		if x == nil {
			x = &api.ShiftTold{Contact: t.Contact}
			by[t.Contact] = x
		}
		switch {
		case t.Dropped != "" || t.Change == "caught up" && t.State == "":
		case t.State == store.Told:
			x.Told++
		case t.State == store.GivenUp:
			x.Failed++
			x.Words = t.Words
		default:
			x.Waiting++
			if t.Tries > 0 {
				x.Words = t.Words
			}
		}
	}
	for _, x := range by {
		out.Told = append(out.Told, *x)
	}
	slices.SortFunc(out.Told, func(a, b api.ShiftTold) int { return strings.Compare(a.Contact, b.Contact) })
	out.Trouble = s.Window.Now().Troubles()
	return out, nil
}
