package service

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dimlantern/folder"

	"dimlantern/api"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/intake/regular"
	"dimlantern/store"
)

// mostPut is how many alerts are named that a change ends.
const mostPut = 12

// Put is part of Lantern.
func (s *Service) Put(ctx context.Context, q api.PutQuery) (*api.Put, error) {
	p := &api.Put{Files: q.Files, Lines: []api.PutLine{}}
	if q.Rule != nil {
		var err error
		if p.Files, err = s.changeRule(q.Rule); err != nil {
			return nil, err
		}
		p.Title = q.Rule.Title()
	}
	var names []string
	for _, f := range p.Files {
		if err := s.ownFile(f.File); err != nil {
			return nil, err
		}
		names = append(names, filepath.Base(f.File))
	}
	if p.Title == "" {
		p.Title = "put " + strings.Join(names, ", ") + " to work"
	}
	s.mu.Lock()
	s.foresee(p)
	s.mu.Unlock()
	if !q.Do || p.Refused != "" {
		return p, nil
	}
	if err := s.writeAll(p.Files); err != nil {
		return nil, err
	}
	err := s.do(ctx, func() error {
		was := len(s.notices)
		s.putBy = &store.Action{By: q.Name(), From: q.From, Words: p.Title}
		defer func() { s.putBy = nil }()
		s.stamp, s.next, s.since = "", folder.Stamp(s.o.Settings, s.texts), time.Time{}
		s.checkSettings()
		if t := s.trouble["settings"]; t != "" {
			return fmt.Errorf("it is written, and not at work: %s", t)
		}
		var said []string
		for _, n := range s.notices[min(was, len(s.notices)):] {
			said = append(said, n.Text)
		}
		p.Done = strings.Join(said, "; ")
		return s.commitAt(entry.Of(time.Now()))
	})
	if p.Done == "" {
		p.Done = "it is written; no rule means anything else than before"
	}
	return p, err
}

// foresee says what a change would do. The caller holds the lock.
func (s *Service) foresee(p *api.Put) {
	texts := slices.Clone(s.texts)
	for _, f := range p.Files {
		if texts = folder.With(texts, f.File, f.Body); f.Gone {
			texts = slices.DeleteFunc(texts, func(t folder.Text) bool { return t.Name == f.File })
		}
	}
	put := func(word, text string, bad bool) {
		p.Lines = append(p.Lines, api.PutLine{Word: word, Text: text, Bad: bad})
	}
	settings, ds := s.check(texts)
	findings := 0
	for _, d := range ds {
		if !slices.ContainsFunc(p.Files, func(f api.BenchSave) bool { return f.File == d.Pos.File }) && d.Weight != lang.Err {
			continue
		}
		if d.Weight == lang.Err {
			at := fmt.Sprintf("%s:%d", filepath.Base(d.Pos.File), d.Pos.Line)
			put("error", at+": "+d.What+"; "+d.Mend, true)
			p.Refused = "errors come first: " + at + ": " + d.What
			continue
		}
		if findings++; findings <= 5 {
			put("finding", fmt.Sprintf("line %d: %s", d.Pos.Line, d.What), false)
		}
	}
	if p.Refused != "" {
		return
	}
	for _, r := range settings.Rules {
		old := s.settings.Rule(r.Name)
		switch {
		case r.On != nil && slices.Contains(r.On, lang.Itself):
		case old == nil:
			put("new", r.Name+", which begins to count with the next entry"+offWord(r), false)
		case old.Off != r.Off && r.Off:
			put("off", r.Name+" is written and checked, and does not run", false)
		case old.Off != r.Off:
			put("on", r.Name+" runs again", false)
		case matching(s.settings, old) != matching(settings, r):
			put("changed", r.Name+" matches or counts by something else; its state is built anew from what its logs said", false)
		case thresholds(old) != thresholds(r):
			put("changed", r.Name+" keeps what it has counted, and judges it by what is written now", false)
		}
	}
	for _, r := range s.settings.Rules {
		if settings.Rule(r.Name) == nil {
			put("gone", r.Name, false)
		}
	}
	passed, failed := 0, 0
	for _, o := range trial.Expects(settings) {
		if o.Failed {
			failed++
			put("test fails", o.Rule+o.Layout+": "+o.Expect.Title+": "+o.Why, true)
		} else {
			passed++
		}
	}
	switch {
	case failed == 0 && passed > 0:
		put("tests", countOf(passed, "test passes", "tests pass"), false)
	case passed == 0 && failed == 0:
		put("tests", "there are none", false)
	}
	ts, err := s.foreseen(settings)
	if err != nil {
		put("alerts", "what becomes of those that are open cannot be said: "+err.Error(), true)
		return
	}
	ends, opens := 0, 0
	for i := range ts {
		t := &ts[i]
		if t.Change == engine.Raised {
			if opens++; opens <= mostPut {
				put("opens", t.Rule+" "+strings.Join(t.Key, " ")+", by what was logged before", true)
			}
		}
		if t.Change != engine.Cleared {
			continue
		}
		if ends++; ends <= mostPut {
			line := t.Rule + " " + strings.Join(t.Key, " ")
			if t.First != entry.None && t.First != 0 {
				line += ", open since " + s.openSince(t)
			}
			put("ends", line, true)
		}
	}
	if opens > mostPut {
		put("opens", fmt.Sprintf("and %d more alerts", opens-mostPut), true)
	}
	if opens > 0 {
		put("told", countOf(opens, "alert that opens", "alerts that open")+" by what was logged before "+plural(opens, "is", "are")+" told in one summary", false)
	}
	if ends > mostPut {
		put("ends", fmt.Sprintf("and %d more alerts", ends-mostPut), true)
	}
	if ends == 0 {
		put("alerts", "none that is open ends by this", false)
	}
}

func offWord(r *lang.Rule) string {
	if r.Off {
		return " once it is no longer off"
	}
	return ""
}

// foreseen are the transitions that taking up settings would make, found on a copy of the
// engine.
func (s *Service) foreseen(settings *lang.Settings) ([]engine.Transition, error) {
	twin, err := engine.Decode(trial.Active(s.settings), s.engine.Encode())
	if err != nil {
		return nil, err
	}
	before := s.settings
	rules := trial.Active(settings)
	same := func(a, b *lang.Rule) bool { return meansSame(before, a, settings, b) }
	return twin.Edit(rules, same, s.rebuild(before, settings, rules, same), s.firstSeen(settings)), nil
}

// openSince is since when the alert of a transition has been open.
func (s *Service) openSince(t *engine.Transition) string {
	for _, k := range s.engine.Keys() {
		if k.Rule == t.Rule && slices.Equal(k.Key, t.Key) && k.Alert != "" {
			return clockWords(k.Raised)
		}
	}
	return clockWords(t.First)
}

func clockWords(t entry.Instant) string {
	at := time.Unix(0, int64(t))
	if time.Since(at) < 20*time.Hour {
		return at.Format("15:04:05")
	}
	return at.Format("2 Jan 15:04")
}

// changeRule does to the settings' files what is to be done to a rule.
func (s *Service) changeRule(c *api.RuleChange) ([]api.BenchSave, error) {
	s.mu.Lock()
	texts, settings := slices.Clone(s.texts), s.settings
	s.mu.Unlock()
	r := settings.Rule(c.Rule)
	if r == nil || filepath.Ext(r.Pos.File) != ".lantern" {
		return nil, fmt.Errorf("no rule of the settings folder is called %s", c.Rule)
	}
	if c.What == "copy" || c.What == "rename" {
		if !lang.IsName(c.Name) {
			return nil, fmt.Errorf("%q is no name: names begin with a letter and go on with letters, digits, -, _ and .", c.Name)
		}
		if settings.Rule(c.Name) != nil {
			return nil, fmt.Errorf("there is a rule %s already", c.Name)
		}
	}
	var out []api.BenchSave
	for _, t := range texts {
		if t.Table || c.What != "rename" && t.Name != r.Pos.File {
			continue
		}
		b, err := regular.Read(t.Name, folder.MaxFile)
		if err != nil {
			return nil, fmt.Errorf("%s cannot be read: %w", t.Name, folder.Reason(err))
		}
		f := lang.Parse(t.Name, b)
		if lang.Errors(f.Diagnostics()) {
			return nil, fmt.Errorf("%s has errors: they come first", filepath.Base(t.Name))
		}
		done := false
		switch c.What {
		case "copy":
			done = f.Copy("rule", c.Rule, c.Name)
		case "rename":
			done = f.Rename(c.Rule, c.Name) > 0
		case "off", "on":
			done = f.SetOff("rule", c.Rule, c.What == "off")
		case "delete":
			done = f.Remove("rule", c.Rule)
		default:
			return nil, fmt.Errorf("a rule is copied, renamed, switched off or on, or deleted, not %s", c.What)
		}
		if done {
			out = append(out, api.BenchSave{File: t.Name, Body: f.Format(), Was: string(b), Gone: f.Empty()})
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s no longer stands in %s", c.Rule, filepath.Base(r.Pos.File))
	}
	return out, nil
}

// changedByOthers says that a file has another text than the one that was opened.
func changedByOthers(path string) error {
	return &api.Problem{Code: api.Changed, What: filepath.Base(path) + " was changed by somebody else meanwhile: nothing is written",
		Mend: "leave it with esc and open it again"}
}

// writeAll writes settings files, none of them where one has been changed by somebody else.
func (s *Service) writeAll(files []api.BenchSave) error {
	for _, f := range files {
		if f.New {
			continue
		}
		now, err := regular.Read(f.File, folder.MaxFile)
		switch {
		case err != nil:
			return fmt.Errorf("%s cannot be read: %w", f.File, folder.Reason(err))
		case string(now) != f.Was:
			return changedByOthers(f.File)
		}
	}
	for _, f := range files {
		var err error
		switch {
		case f.New:
			err = folder.WriteNew(f.File, f.Body)
		case f.Gone:
			err = os.Remove(f.File)
		default:
			err = folder.Replace(f.File, f.Body)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// recordSettings records what has changed in the settings, and who did it.
func (s *Service) recordSettings(was, now []folder.Text, did string) {
	a := store.Action{By: "whoever wrote the file"}
	if s.putBy != nil {
		a = *s.putBy
	}
	a.What, a.At, a.Did = "settings", entry.Of(time.Now()), did
	body := func(list []folder.Text, name string) string {
		for _, t := range list {
			if t.Name == name {
				return t.Body
			}
		}
		return ""
	}
	seen := map[string]bool{}
	for _, t := range append(slices.Clone(was), now...) {
		if a, b := body(was, t.Name), body(now, t.Name); !t.Table && a != b && !seen[t.Name] {
			seen[t.Name] = true
		}
	}
	for _, t := range append(slices.Clone(was), now...) {
		if seen[t.Name] {
			seen[t.Name] = false
			a.Files = append(a.Files, store.FileChange{File: t.Name, Was: body(was, t.Name), Now: body(now, t.Name)})
		}
	}
	if len(a.Files) > 0 {
		s.batch.Actions = append(s.batch.Actions, a)
	}
}

// Past is part of Lantern.
func (s *Service) Past(_ context.Context, q api.PastQuery) (*api.PastPuts, error) {
	list, err := s.store.Actions("settings", 0, entry.Of(time.Now().Add(time.Hour)), min(max(q.Limit, 1), 500))
	if err != nil {
		return nil, err
	}
	out := &api.PastPuts{List: []api.PastPut{}}
	for _, a := range slices.Backward(list) {
		for _, f := range a.Files {
			out.List = append(out.List, api.PastPut{At: a.At, By: a.By, From: a.From, What: a.Words, Did: a.Did, File: f.File, Was: f.Was, Now: f.Now})
		}
	}
	return out, nil
}

// Tests is part of Lantern.
func (s *Service) Tests(_ context.Context, q api.BenchQuery) (*api.Put, error) {
	settings, _, _ := s.benchRule(q)
	p := &api.Put{Lines: []api.PutLine{}, Tests: true}
	passed, failed := 0, 0
	for _, o := range trial.Expects(settings) {
		if o.Failed {
			failed++
			p.Lines = append(p.Lines, api.PutLine{Word: "fails", Text: fmt.Sprintf("%s%s: %s: line %d: %s", o.Rule, o.Layout, o.Expect.Title, o.Step.Pos.Line, o.Why), Bad: true})
		} else {
			passed++
		}
	}
	for _, o := range trial.Expects(settings) {
		if !o.Failed {
			p.Lines = append(p.Lines, api.PutLine{Word: "passes", Text: o.Rule + o.Layout + ": " + o.Expect.Title, Bad: false})
		}
	}
	p.Title = fmt.Sprintf("%d passed, %d failed", passed, failed)
	return p, nil
}
