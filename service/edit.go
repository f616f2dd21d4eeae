package service

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dimlantern/folder"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/core/trial"
	"dimlantern/intake"
)

// use takes up settings: the engine, the plans and the follower.
func (s *Service) use(settings *lang.Settings, texts []folder.Text) {
	before := s.settings
	rules := trial.Active(settings)
	plans := map[string]*match.Plan{}
	for _, src := range settings.Sources {
		plans[src.Name] = match.NewPlan(settings, src, rules, time.Local)
	}
	s.follower.Use(s.ways.readable(settings.Sources), plans)
	same := func(a, b *lang.Rule) bool { return meansSame(before, a, settings, b) }
	changes := s.engine.Edit(rules, same, s.rebuild(before, settings, rules, same), s.firstSeen(settings))
	s.engine.MostKeys = settings.Keys()
	s.meterPlans(plans)
	s.noteEdit(changes)
	s.restOff(settings)
	cleared := 0
	for i := range changes {
		if changes[i].Change == engine.Cleared {
			cleared++
		}
	}
	if cleared > 0 {
		s.notice(fmt.Sprintf("settings changed: %s cleared", countOf(cleared, "alert", "alerts")))
	}
	s.ways.use(settings)
	s.settings, s.texts = settings, texts
	s.countFindings(texts)
	s.begun = -1 // a rule that is new has to be told which logs there are
	s.setMeta("settings", folder.Encode(texts))
	s.seq++
}

// firstSeen says from when on a rule may find in its logs what opens an alert: nothing that
// lay before its sources were first seen.
func (s *Service) firstSeen(settings *lang.Settings) func(*lang.Rule) entry.Instant {
	return func(r *lang.Rule) entry.Instant {
		first := entry.None
		for _, src := range settings.Sources {
			if r.LooksAt(src.Name) && src.Name != lang.Itself {
				first = max(first, s.store.FirstSeen(src.Name))
			}
		}
		return first
	}
}

// noteEdit takes in what an edit did. What it finds to have opened in the past is told in
// one summary, once it is committed.
func (s *Service) noteEdit(changes []engine.Transition) {
	past := slices.ContainsFunc(changes, func(t engine.Transition) bool { return t.Change != engine.Cleared })
	if past {
		s.telling.caught = s.telling.caught && s.catching
	}
	s.telling.editing = true
	s.note(changes)
	s.telling.editing = false
}

// restOff lets what is off rest: its origins, and the rules that look at nothing else.
func (s *Service) restOff(settings *lang.Settings) {
	var x engine.Rest
	for _, src := range settings.Sources {
		if !src.Off {
			continue
		}
		for _, series := range s.store.SeriesOf(src.Name) {
			name, _ := trial.OriginOf(src, series, s.host)
			x.Origins = append(x.Origins, name)
		}
	}
	for _, r := range settings.Rules {
		off, on := 0, 0
		for _, src := range settings.Sources {
			switch {
			case !r.LooksAt(src.Name) || src.Name == lang.Itself:
			case src.Off:
				off++
			default:
				on++
			}
		}
		if off > 0 && on == 0 {
			x.Rules = append(x.Rules, r.Name)
		}
	}
	at := s.engine.Clock()
	if !s.catching || at == entry.None { // else what is behind is still to come
		at = entry.Later(entry.Of(time.Now()), at)
	}
	x.At = at
	s.apply(x)
}

// rebuild runs the rules that match differently now over what their logs have said, from
// before their oldest open alert and as long as they look back: so an edit ends no alert
// that would be open under the new rule. It is nil where no rule needs it.
func (s *Service) rebuild(before, settings *lang.Settings, rules []*lang.Rule, same func(a, b *lang.Rule) bool) *engine.Engine {
	var again []*lang.Rule
	from := s.engine.Clock()
	for _, r := range rules {
		old := before.Rule(r.Name)
		if old == nil || old.Off || same(old, r) {
			continue
		}
		again = append(again, r)
		begins := s.engine.Clock()
		for _, k := range s.engine.Keys() {
			if k.Rule == r.Name && k.Alert != "" {
				begins = min(begins, k.Raised)
			}
		}
		from = min(from, begins.Add(-max(r.Longest(), old.Longest())))
	}
	if len(again) == 0 || s.engine.Clock() == entry.None {
		return nil
	}
	inputs, done := s.again(settings, from, again, intake.MostAgain, false)
	defer done()
	built, err := trial.Rebuild(settings, again, inputs, trial.Options{Zone: time.Local, From: max(from, 1)})
	if err != nil {
		s.o.Log.Warn("the logs could not be read once more for rules that were changed", "reason", err)
		return nil
	}
	return built
}

// again opens what the logs have said from an instant on that some rules look at; before
// tells that what lay there at first sight is wanted as well. The
// caller holds the lock, and calls done when they have been read.
func (s *Service) again(settings *lang.Settings, from entry.Instant, rules []*lang.Rule, most int64, before bool) (inputs []*trial.Input, done func()) {
	var open []*intake.Again
	for _, o := range s.follower.Origins() {
		src := settings.Source(o.Source.Name)
		if src == nil || !slices.ContainsFunc(rules, func(r *lang.Rule) bool { return r.LooksAt(src.Name) }) {
			continue
		}
		said := o.Again(from, most, before)
		open = append(open, said)
		inputs = append(inputs, &trial.Input{Source: src, Path: o.Series, Host: o.Host, Origin: o.Name, Files: said.Files, Near: said.Near, Header: said.Header, Skew: o.Skew()})
	}
	return inputs, func() {
		for _, x := range open {
			x.Close()
		}
	}
}

// sayErrors remembers what is wrong in the settings, for the screens.
func (s *Service) sayErrors(ds []lang.Diagnostic, then string) {
	delete(s.trouble, "settings")
	var first *lang.Diagnostic
	n := 0
	for i := range ds {
		if ds[i].Weight == lang.Err {
			n++
			if first == nil {
				first = &ds[i]
			}
			s.o.Log.Error(ds[i].What, "at", ds[i].Pos.String(), "code", ds[i].Code)
		}
	}
	if first != nil {
		more := ""
		if n > 1 {
			more = fmt.Sprintf(" (and %d more)", n-1)
		}
		s.trouble["settings"] = fmt.Sprintf("%s:%d: %s%s; Dim Lantern %s", filepath.Base(first.Pos.File), first.Pos.Line, first.What, more, then)
	}
}

// meansSame tells whether a rule matches and counts by the same as before, so
// that its state can be kept.
func meansSame(oldS *lang.Settings, a *lang.Rule, newS *lang.Settings, b *lang.Rule) bool {
	return matching(oldS, a) == matching(newS, b)
}

func matching(s *lang.Settings, r *lang.Rule) string {
	var b strings.Builder
	for _, c := range r.Exprs() {
		if c.Word != "raise" {
			b.WriteString(c.Word + " " + c.Expr.String())
			b.WriteByte(0)
		}
	}
	fmt.Fprintf(&b, "%q %q %v %q %v %v", r.Per, r.On, r.OnRecovery, r.From, r.During, r.Arrival)
	for _, src := range s.Sources {
		if !r.LooksAt(src.Name) { // one that is off rests, and is looked at as before
			continue
		}
		fmt.Fprintf(&b, "\n%s %q %q %s %v %s", src.Name, src.Files, src.Except, src.Host, src.HostFrom, waysIn(src))
		if l := s.Layout(src.LayoutName()); l != nil {
			b.WriteString(l.Meaning())
		}
	}
	return b.String()
}

// waysIn is what of a source decides which entries come and what they say.
func waysIn(s *lang.Source) string {
	only := ""
	if s.Only != nil {
		only = s.Only.String()
	}
	way := ""
	if s.Kept() {
		way = specOf(s)
	}
	return fmt.Sprintf("%s %q %s %s %s %s %v", way, s.LayoutName(), s.Message, s.Account, s.Zone, only, s.Fields)
}

func containsString(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

// checkSettings reads the settings again where the folder has changed. With an
// error in them the last good ones go on.
func (s *Service) checkSettings() {
	stamp := folder.Stamp(s.o.Settings, s.texts)
	asked := s.stamp == "" // by a person
	if stamp == s.stamp {
		s.next = ""
		if s.settings.ByHand {
			delete(s.trouble, "apply")
		}
		return
	}
	if s.settings.ByHand && !asked {
		s.trouble["apply"] = "the settings have changed, and are taken up by hand only: dimlantern apply, or SIGHUP, does it"
		s.seq++
		return
	}
	delete(s.trouble, "apply")
	// A file is often emptied before it is written: only what stays is taken up.
	if now := time.Now(); stamp != s.next {
		s.next, s.since = stamp, now
		s.checked = time.Time{}
		return
	} else if now.Sub(s.since) < settled {
		s.checked = time.Time{}
		return
	}
	s.stamp, s.next = stamp, ""
	texts, err := folder.Read(s.o.Settings)
	if err != nil {
		s.trouble["settings"] = err.Error() + "; the last good settings go on"
		s.seq++
		return
	}
	if folder.Same(texts, s.texts) {
		delete(s.trouble, "settings")
		s.seq++
		return
	}
	settings, ds := s.check(texts)
	if lang.Errors(ds) {
		s.sayErrors(ds, "goes on with the last good settings")
		s.seq++
		return
	}
	delete(s.trouble, "settings")
	if why := s.doubtful(texts, settings); why != "" && !asked {
		s.trouble["apply"] = why + appliedByHand
		s.notice(s.trouble["apply"])
		return
	}
	changed, added, removed := compareRules(s.settings, settings)
	was := s.texts
	s.use(settings, texts)
	s.snapshot = true
	did := fmt.Sprintf("%s, %d added, %d removed", countOf(changed, "rule changed", "rules changed"), added, removed)
	s.notice("new settings: " + did)
	s.recordSettings(was, texts, did)
}

// appliedByHand is what is said behind a doubt.
const appliedByHand = "; the last good settings go on until that is confirmed: dimlantern apply, or SIGHUP, does it"

// doubtful says why new settings may be a mishap rather than meant: a file that was emptied,
// or more than half of all rules gone; "" where they are not. Files without a rule in them,
// and settings that had none, are never in doubt.
func (s *Service) doubtful(texts []folder.Text, settings *lang.Settings) string {
	for _, was := range s.texts {
		if was.Table || blank(was.Body) {
			continue
		}
		for _, now := range texts {
			if now.Name == was.Name && blank(now.Body) {
				return fmt.Sprintf("%s was emptied", filepath.Base(now.Name))
			}
		}
	}
	_, added, removed := compareRules(s.settings, settings)
	if 2*(removed-added) > len(s.settings.Rules)-s.ownRules() { // one that was renamed is no loss
		return fmt.Sprintf("%d of %s went out of the settings", removed, countOf(len(s.settings.Rules)-s.ownRules(), "rule", "rules"))
	}
	return ""
}

// blank tells whether a settings file says nothing, but for comments.
func blank(body string) bool {
	for line := range strings.Lines(body) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			return false
		}
	}
	return true
}

// ownRules is how many of the rules come with Dim Lantern.
func (s *Service) ownRules() int {
	n := 0
	for _, r := range s.settings.Rules {
		if builtIn(r) {
			n++
		}
	}
	return n
}

func compareRules(a, b *lang.Settings) (changed, added, removed int) {
	for _, r := range b.Rules {
		old := a.Rule(r.Name)
		switch {
		case old == nil:
			added++
		case matching(a, old) != matching(b, r) || thresholds(old) != thresholds(r):
			changed++
		}
	}
	for _, r := range a.Rules {
		if b.Rule(r.Name) == nil {
			removed++
		}
	}
	return changed, added, removed
}

// thresholds is what of a rule decides when it raises and clears, and its words.
func thresholds(r *lang.Rule) string {
	var b strings.Builder
	for i := range r.Raises {
		fmt.Fprint(&b, r.Raises[i].Severity, " ", r.Raises[i].Why(), r.Raises[i].Within, ";")
	}
	for i := range r.ClearWhens {
		fmt.Fprint(&b, r.ClearWhens[i].String(), ";")
	}
	fmt.Fprint(&b, r.Quiet, r.Age, r.RecoverAt, r.RecoverIn, r.ByHand, r.Remind, r.Empty, r.Blind, r.BlindIn, r.Reopen, r.Grace, r.Say, r.Advise, r.Off)
	for _, u := range r.Unless {
		fmt.Fprint(&b, u.Rule, u.Same)
	}
	return b.String()
}

func countOf(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// settled is how long settings files must not have changed before they are taken
// up.
const settled = 300 * time.Millisecond
