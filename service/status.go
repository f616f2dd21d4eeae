package service

import (
	"context"
	"fmt"
	"net"
	"os"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"dimlantern/api"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/store"
	"dimlantern/tell"
)

// StatusNow is part of Lantern.
func (s *Service) Status(ctx context.Context, _ api.None) (*api.Status, error) {
	hushes, err := s.Hushes(ctx, api.None{})
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	out := &api.Status{Host: s.host, Started: entry.Of(s.began).String(), Since: entry.Of(s.began), Settings: s.o.Settings, Open: map[string]int{}, Blind: []string{}, Trouble: s.troubles(), Reading: s.reading, Taken: len(s.telling.taken)}
	for _, h := range hushes.List {
		if h.Holds {
			out.Hushes++
		}
	}
	for _, r := range s.settings.Rules {
		if !r.Off && !builtIn(r) {
			out.Rules++
		}
	}
	for _, src := range s.settings.Sources {
		if !src.Off && src.Name != lang.Itself {
			out.Sources++
		}
	}
	for _, o := range s.follower.Origins() {
		if o.Source.Name == lang.Itself {
			continue
		}
		out.Origins++
		if o.Condition.Blind() {
			out.Blind = append(out.Blind, o.Name+": "+o.Words)
		}
	}
	sort.Strings(out.Blind)
	for _, k := range s.engine.Keys() {
		if k.Alert != "" {
			out.Open[k.Severity.String()]++
		}
	}
	for _, x := range s.telling.out {
		out.Waiting += x.Waiting
	}
	return out, nil
}

// troubles are what keeps the service from doing all of its work. The caller holds the lock.
func (s *Service) troubles() []string {
	out := []string{}
	for _, t := range s.trouble {
		out = append(out, t)
	}
	out = append(out, waitingWords(s.telling.out)...)
	out = append(out, s.telling.held...)
	out = append(out, s.troublesOfLogs(time.Now())...)
	sort.Strings(out)
	return out
}

// beats posts the heartbeat as often as the settings say, as long as the service works: one
// that hangs sends none.
func (s *Service) beats(ctx context.Context) {
	var next time.Time
	for t := time.NewTicker(200 * time.Millisecond); ; {
		select {
		case <-ctx.Done():
			t.Stop()
			return
		case <-t.C:
		}
		now := time.Now()
		if now.Before(next) || now.Sub(time.Unix(0, s.lastRound.Load())) > hangs || !s.mu.TryLock() {
			continue
		}
		h, trouble, host := s.settings.Heartbeat, s.troubles(), s.host
		s.mu.Unlock()
		if h == nil {
			continue
		}
		next = now.Add(h.Every)
		err := tell.Beat(ctx, h.URL, host, h.Every, trouble, s.o.Roots)
		s.mu.Lock()
		if delete(s.trouble, "heartbeat"); err != nil && ctx.Err() == nil {
			s.trouble["heartbeat"] = "the heartbeat does not go out: " + err.Error()
		}
		s.mu.Unlock()
	}
}

// hangs is how long the service may take for a round before it counts as hanging.
const hangs = 30 * time.Second

// watchdog tells systemd that the service is there, and again and again that it works
// (sd_notify(3), WatchdogSec= in systemd.service(5)).
func (s *Service) watchdog(ctx context.Context) {
	address := os.Getenv("NOTIFY_SOCKET")
	if address == "" {
		return
	}
	if strings.HasPrefix(address, "@") { // a socket without a file
		address = "\x00" + address[1:]
	}
	c, err := net.DialUnix("unixgram", nil, &net.UnixAddr{Name: address, Net: "unixgram"})
	if err != nil {
		s.o.Log.Warn("systemd cannot be told that the service works", "reason", err)
		return
	}
	defer c.Close()
	c.Write([]byte("READY=1\nSTATUS=watching\n"))
	every := 10 * time.Second
	if us, err := strconv.Atoi(os.Getenv("WATCHDOG_USEC")); err == nil && us > 0 {
		every = time.Duration(us) * time.Microsecond / 3
	}
	for t := time.NewTicker(every); ; {
		select {
		case <-ctx.Done():
			t.Stop()
			c.Write([]byte("STOPPING=1\n"))
			return
		case <-t.C:
			if time.Since(time.Unix(0, s.lastRound.Load())) < hangs {
				c.Write([]byte("WATCHDOG=1\n"))
			}
		}
	}
}

// Handover is part of Lantern.
func (s *Service) Handover(ctx context.Context, q api.ShiftQuery) (*api.Shift, error) {
	if q.To == 0 {
		q.To = entry.Of(time.Now())
	}
	out := &api.Shift{From: q.From, To: q.To, Host: s.host}
	alerts, err := s.store.Alerts(q.From, q.To)
	if err != nil {
		return nil, err
	}
	for _, a := range alerts {
		x := api.ShiftAlert{Alert: a.Alert, Rule: a.Rule, Key: a.Key, Severity: a.Severity, Raised: a.Raised, Cleared: a.Cleared, Why: a.Why, Count: a.Count, Before: a.Raised < q.From}
		if a.Cleared != entry.None && a.Cleared > q.To {
			x.Cleared, x.Why = entry.None, ""
		}
		changes, err := s.store.Changes(a.Alert)
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
				x.Notes = append(x.Notes, fmt.Sprintf("%s %s: %s", clockWords(t.At), t.By, t.Words))
			case engine.Cleared:
				if t.By != "" && t.Words != "" {
					x.Notes = append(x.Notes, fmt.Sprintf("%s %s cleared it: %s", clockWords(t.At), t.By, t.Words))
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
	actions, err := s.store.Actions("", q.From, q.To, 2000)
	if err != nil {
		return nil, err
	}
	for _, a := range actions {
		x := api.Action{At: a.At, By: a.By, From: a.From, What: a.What, Alert: a.Alert, Words: a.Words, Until: a.Until, Did: a.Did}
		for _, f := range a.Files {
			x.Files = append(x.Files, api.FileChange(f))
		}
		out.Actions = append(out.Actions, x)
	}
	told, err := s.store.ToldBetween(q.From, q.To)
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
	s.mu.Lock()
	out.Trouble = s.troubles()
	s.mu.Unlock()
	return out, nil
}
