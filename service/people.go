package service

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/api"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/hosts"
	"dimlantern/store"
)

// Act does what a person does to an alert, or to what is kept quiet.
func (s *Service) Act(ctx context.Context, q api.ActQuery) (*api.ActDone, error) {
	done := &api.ActDone{}
	err := s.do(ctx, func() (err error) {
		at := entry.Of(time.Now())
		if err := s.mayHandle(ctx, q.Alert, q.Hush); err != nil {
			return err
		}
		a := store.Action{At: at, By: q.Name(), From: q.From, What: q.What, Alert: q.Alert, Words: q.Words}
		switch q.What {
		case "take":
			err = s.actOn(engine.Act{Alert: q.Alert, Change: engine.Taken, By: q.Name(), Words: q.Words}, at)
			done.Words = q.Name() + " has it now"
		case "hand over":
			if strings.TrimSpace(q.To) == "" {
				return fmt.Errorf("it does not say to whom")
			}
			words := "handed over by " + q.Name()
			if q.Words != "" {
				words += ": " + q.Words
			}
			a.Words = "to " + q.To
			if q.Words != "" {
				a.Words += ": " + q.Words
			}
			err = s.actOn(engine.Act{Alert: q.Alert, Change: engine.Taken, By: q.To, Words: words}, at)
			done.Words = q.To + " has it now"
		case "let go":
			if s.decider.Taken[q.Alert] == "" {
				return fmt.Errorf("nobody has taken %s", q.Alert)
			}
			words := "let go"
			if q.Words != "" {
				words += ": " + q.Words
			}
			err = s.actOn(engine.Act{Alert: q.Alert, Change: engine.Noted, By: q.Name(), Words: words, LetGo: true},
				at)
			done.Words = "nobody has it now"
		case "note":
			if strings.TrimSpace(q.Words) == "" {
				return fmt.Errorf("a note has words")
			}
			err = s.actOn(engine.Act{Alert: q.Alert, Change: engine.Noted, By: q.Name(), Words: q.Words}, at)
			done.Words = "noted"
		case "hush":
			done.Words, done.Hush, err = s.hush(q, &a, at)
		case "unhush":
			done.Words, err = s.unhush(q, &a, at)
		default:
			err = fmt.Errorf("one takes, hands over, lets go, notes, hushes or unhushes, not %q", q.What)
		}
		if err != nil {
			return err
		}
		a.Did = done.Words
		s.batch.Actions = append(s.batch.Actions, a)
		s.seq++
		return s.commitAt(at)
	})
	return done, err
}

// actOn lets the engine do what a person does to an alert, and notes it for a restart.
func (s *Service) actOn(a engine.Act, at entry.Instant) error {
	s.apply(engine.Advance{At: at}) // what is due before comes before
	a.At = at
	if host, _ := s.ofHost(a.Alert); host != "" {
		if err := s.passOn(host, hosts.Act{Alert: a.Alert, Change: a.Change, At: at, By: a.By, Words: a.Words,
			Until: a.Until, LetGo: a.LetGo}); err != nil {
			return err
		}
	}
	if _, ok := s.apply(a); !ok {
		return notOpen(a.Alert)
	}
	return nil
}

func notOpen(alert string) error {
	return &api.Problem{Code: api.Unknown, What: fmt.Sprintf("no alert %q is open: it may be over already", alert)}
}

// hush begins to keep something quiet.
func (s *Service) hush(q api.ActQuery, a *store.Action, at entry.Instant) (words, id string, err error) {
	if q.Hush == nil {
		return "", "", fmt.Errorf("it does not say what is hushed")
	}
	h := *q.Hush
	given := 0
	for _, v := range []string{h.Alert, h.Rule, h.About, h.Host} {
		if v != "" {
			given++
		}
	}
	switch {
	case given != 1:
		return "", "", fmt.Errorf("a hush is of an alert, of a rule, of what rules are about, or of a host: of " +
			"one of them")
	case h.Until != 0 && h.Until <= at:
		return "", "", fmt.Errorf("the hush would end before it begins")
	case h.Rule != "" && s.settings.Rule(h.Rule) == nil:
		return "", "", fmt.Errorf("there is no rule %s", h.Rule)
	case h.About != "" && !slices.ContainsFunc(s.settings.EveryRule(),
		func(r *lang.Rule) bool { return slices.Contains(r.About, h.About) }):
		return "", "", fmt.Errorf("no rule is about %s", h.About)
	}
	if h.Alert != "" {
		k, ok := s.engine.Find(h.Alert)
		if !ok {
			return "", "", notOpen(h.Alert)
		}
		h.Of = strings.TrimSpace(k.Rule + " " + strings.Join(k.Key, " "))
	}
	var random [5]byte
	rand.Read(random[:])
	h.ID = "h-" + strings.ToLower(base32.HexEncoding.EncodeToString(random[:]))
	h.By, h.From, h.Since, h.Why = q.Name(), q.Person.From, at, q.Words
	for _, k := range s.hushedBy(&h) {
		if err := s.actOn(engine.Act{Alert: k.Alert, Change: engine.Hushed, By: h.By, Words: h.Why, Until: h.Until},
			at); err != nil {
			return "", "", err
		}
	}
	s.decider.Hushes = append(s.decider.Hushes, h)
	s.decider.KeepHushes()
	a.Alert, a.Until, a.Words = h.Alert, h.Until, strings.TrimSuffix(h.What()+": "+h.Why, ": ")
	words = h.What() + " is hushed"
	if h.Until != 0 {
		words += " until " + api.Moment(h.Until)
	}
	return words, h.ID, nil
}

// hushedBy are the open alerts that a hush keeps quiet, in the order of their identifiers.
func (s *Service) hushedBy(h *api.ByHand) []engine.KeyView {
	var out []engine.KeyView
	for _, k := range s.engine.Keys() {
		if r := s.settings.Rule(k.Rule); k.Alert != "" && r != nil && h.Covers(r, k.Alert, k.Rule, r.Per, k.Key) {
			out = append(out, k)
		}
	}
	slices.SortFunc(out, func(a, b engine.KeyView) int { return strings.Compare(a.Alert, b.Alert) })
	return out
}

// unhush ends a hush by hand.
func (s *Service) unhush(q api.ActQuery, a *store.Action, at entry.Instant) (string, error) {
	if q.Hush == nil {
		return "", fmt.Errorf("it does not say which hush ends")
	}
	i := slices.IndexFunc(s.decider.Hushes, func(h api.ByHand) bool { return h.ID == q.Hush.ID })
	if i < 0 {
		for _, h := range s.settings.Hushes {
			if h.Name == q.Hush.ID {
				return "", fmt.Errorf("the hush %s stands in the settings: it ends there, %s:%d", h.Name, h.Pos.File,
					h.Pos.Line)
			}
		}
		return "", fmt.Errorf("there is no hush %s: it may have ended already", q.Hush.ID)
	}
	h := s.decider.Hushes[i]
	s.endHush(i, q.Name(), q.Words, at)
	a.Alert, a.Words = h.Alert, strings.TrimSuffix(h.What()+": "+q.Words, ": ")
	return h.What() + " is no longer hushed", nil
}

// endHush ends a hush; what it kept quiet is told by releaseQuiet, if it is open still.
func (s *Service) endHush(i int, by, words string, at entry.Instant) {
	h := s.decider.Hushes[i]
	s.decider.Hushes = slices.Delete(s.decider.Hushes, i, i+1)
	for _, k := range s.hushedBy(&h) {
		s.actOn(engine.Act{Alert: k.Alert, Change: engine.Unhushed, By: by, Words: words}, at)
	}
	s.decider.KeepHushes()
}

// endHushes ends the hushes whose time has come.
func (s *Service) endHushes(now time.Time) {
	at := entry.Of(now)
	for i := len(s.decider.Hushes) - 1; i >= 0; i-- {
		if h := &s.decider.Hushes[i]; h.Until != 0 && h.Until <= at {
			s.endHush(i, "", "its time has come", at)
		}
	}
}

// Clear ends an alert by hand.
func (s *Service) Clear(ctx context.Context, q api.ClearQuery) (*api.None, error) {
	return nil, s.do(ctx, func() error {
		at := entry.Of(time.Now())
		if err := s.mayHandle(ctx, q.Alert, nil); err != nil {
			return err
		}
		s.apply(engine.Advance{At: at})               // what is due before comes before
		if host, _ := s.ofHost(q.Alert); host != "" { // it is over when the host has ended it
			if err := s.passOn(host, hosts.Act{Alert: q.Alert, Change: engine.Cleared, At: at, By: q.Name(),
				Words: q.Words}); err != nil {
				return err
			}
		} else if _, ok := s.apply(engine.Clear{Alert: q.Alert, At: at, By: q.Name(), Words: q.Words}); !ok {
			return notOpen(q.Alert)
		}
		s.batch.Actions = append(s.batch.Actions, store.Action{At: at, By: q.Name(), From: q.Person.From,
			What: "clear", Alert: q.Alert, Words: q.Words})
		return s.commitAt(at)
	})
}

// Apply takes up the settings as they stand in the folder.
func (s *Service) Apply(ctx context.Context, _ api.None) (*api.None, error) {
	_, err := s.takeUpAll(ctx, store.Action{By: "whoever wrote the file"})
	var wrong *settingsProblem
	if errors.As(err, &wrong) {
		return nil, wrong.err
	}
	if err != nil {
		return nil, err
	}
	return nil, s.do(ctx, func() error {
		if s.trouble["anew"] == "" {
			return nil
		}
		delete(s.trouble, "anew") // somebody knows by now
		s.batch.SetMeta("anew", []byte{})
		return s.commitAt(entry.Of(time.Now()))
	})
}

// commitAt writes down what a person did at an instant.
func (s *Service) commitAt(at entry.Instant) error {
	s.batch.Now = at
	err := s.commit()
	if err != nil {
		s.failed = time.Now()
	}
	return err
}

// quietEvery is how often it is looked whether what keeps alerts quiet has ended.
const quietEvery = time.Second

// releaseQuiet ends the hushes whose time has come, and tells of what they kept quiet.
func (s *Service) releaseQuiet(now time.Time) {
	if s.catching || now.Sub(s.decider.Looked()) < quietEvery {
		return
	}
	s.endHushes(now)
	s.decider.Release(now)
}

// mayHandle refuses who may handle alerts of some groups of hosts alone, where it is about others.
func (s *Service) mayHandle(ctx context.Context, alert string, hush *api.ByHand) error {
	r := api.RightsOf(ctx)
	if r.All >= api.Handle {
		return nil
	}
	if hush != nil && hush.ID != "" {
		if i := slices.IndexFunc(s.decider.Hushes, func(h api.ByHand) bool { return h.ID == hush.ID }); i >= 0 {
			hush = &s.decider.Hushes[i]
		}
	}
	if hush != nil && hush.Alert != "" {
		alert = hush.Alert
	}
	host := ""
	if alert != "" {
		host, _ = s.ofHost(alert)
	} else if hush != nil {
		host = hush.Host
	}
	var groups []string
	if n := s.centre; n != nil && n.now != nil {
		if h := n.now.Host(host); h != nil {
			groups = h.Groups
		}
	}
	if r.On(groups) < api.Handle {
		return api.Forbidden(api.Rights{Name: r.Name, All: r.On(groups)}, api.Handle)
	}
	return nil
}
