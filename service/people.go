package service

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/api"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/store"
)

// Act is part of Lantern.
func (s *Service) Act(ctx context.Context, q api.ActQuery) (*api.ActDone, error) {
	done := &api.ActDone{}
	err := s.do(ctx, func() (err error) {
		at := entry.Of(time.Now())
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
			if s.telling.taken[q.Alert] == "" {
				return fmt.Errorf("nobody has taken %s", q.Alert)
			}
			words := "let go"
			if q.Words != "" {
				words += ": " + q.Words
			}
			err = s.actOn(engine.Act{Alert: q.Alert, Change: engine.Noted, By: q.Name(), Words: words, LetGo: true}, at)
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
		return "", "", fmt.Errorf("a hush is of an alert, of a rule, of what rules are about, or of a host: of one of them")
	case h.Until != 0 && h.Until <= at:
		return "", "", fmt.Errorf("the hush would end before it begins")
	case h.Rule != "" && s.settings.Rule(h.Rule) == nil:
		return "", "", fmt.Errorf("there is no rule %s", h.Rule)
	case h.About != "" && !slices.ContainsFunc(s.settings.Rules, func(r *lang.Rule) bool { return slices.Contains(r.About, h.About) }):
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
		if err := s.actOn(engine.Act{Alert: k.Alert, Change: engine.Hushed, By: h.By, Words: h.Why, Until: h.Until}, at); err != nil {
			return "", "", err
		}
	}
	s.telling.hushes = append(s.telling.hushes, h)
	s.keepHushes()
	a.Alert, a.Until, a.Words = h.Alert, h.Until, strings.TrimSuffix(h.What()+": "+h.Why, ": ")
	words = h.What() + " is hushed"
	if h.Until != 0 {
		words += " until " + clockWords(h.Until)
	}
	return words, h.ID, nil
}

// hushedBy are the open alerts that a hush keeps quiet.
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
	i := slices.IndexFunc(s.telling.hushes, func(h api.ByHand) bool { return h.ID == q.Hush.ID })
	if i < 0 {
		for _, h := range s.settings.Hushes {
			if h.Name == q.Hush.ID {
				return "", fmt.Errorf("the hush %s stands in the settings: it ends there, %s:%d", h.Name, h.Pos.File, h.Pos.Line)
			}
		}
		return "", fmt.Errorf("there is no hush %s: it may have ended already", q.Hush.ID)
	}
	h := s.telling.hushes[i]
	s.endHush(i, q.Name(), q.Words, at)
	a.Alert, a.Words = h.Alert, strings.TrimSuffix(h.What()+": "+q.Words, ": ")
	return h.What() + " is no longer hushed", nil
}

// endHush ends a hush; what it kept quiet is told by releaseQuiet, if it is open still.
func (s *Service) endHush(i int, by, words string, at entry.Instant) {
	h := s.telling.hushes[i]
	s.telling.hushes = slices.Delete(s.telling.hushes, i, i+1)
	for _, k := range s.hushedBy(&h) {
		s.actOn(engine.Act{Alert: k.Alert, Change: engine.Unhushed, By: by, Words: words}, at)
	}
	s.keepHushes()
}

// endHushes ends the hushes whose time has come.
func (s *Service) endHushes(now time.Time) {
	at := entry.Of(now)
	for i := len(s.telling.hushes) - 1; i >= 0; i-- {
		if h := &s.telling.hushes[i]; h.Until != 0 && h.Until <= at {
			s.endHush(i, "", "its time has come", at)
		}
	}
}

func (s *Service) keepHushes() {
	b, _ := json.Marshal(s.telling.hushes)
	s.setMeta("hushes", b)
}

// HushesNow is part of Lantern.
func (s *Service) Hushes(context.Context, api.None) (*api.HushList, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := &api.HushList{List: []api.HushView{}}
	now := entry.Of(time.Now())
	for i := range s.telling.hushes {
		h := &s.telling.hushes[i]
		v := api.HushView{ID: h.ID, What: h.What(), By: h.By, Since: h.Since, Until: h.Until, Why: h.Why, Holds: h.Holds(now), Hand: true, Keeps: []string{}}
		v.When = "since " + clockWords(h.Since) + ", until somebody ends it"
		if h.Until != 0 {
			v.When = "since " + clockWords(h.Since) + ", until " + clockWords(h.Until)
		}
		for _, k := range s.hushedBy(h) {
			v.Keeps = append(v.Keeps, strings.TrimSpace(k.Rule+" "+strings.Join(k.Key, " ")))
		}
		out.List = append(out.List, v)
	}
	for _, h := range s.settings.Hushes {
		if h.Off {
			continue
		}
		v := api.HushView{ID: h.Name, What: h.Name, By: fmt.Sprintf("%s:%d", baseName(h.Pos.File), h.Pos.Line), Why: h.Why, Keeps: []string{}, When: h.When()}
		if h.From != 0 {
			v.Since, v.Until = h.From, h.To
		}
		v.Holds = trial.HushHolds(h, now, s.zone())
		for _, k := range s.engine.Keys() {
			if r := s.settings.Rule(k.Rule); v.Holds && k.Alert != "" && r != nil && trial.Hushes(h, r, k.Key) {
				v.Keeps = append(v.Keeps, strings.TrimSpace(k.Rule+" "+strings.Join(k.Key, " ")))
			}
		}
		slices.Sort(v.Keeps)
		out.List = append(out.List, v)
	}
	return out, nil
}

func baseName(path string) string { return path[strings.LastIndexByte(path, '/')+1:] }
