package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/core/measure"
	"dimlantern/core/trial"
	"dimlantern/folder"
	"dimlantern/snapshot"
	"dimlantern/store"

	"github.com/dustin/go-humanize/english"
)

// edits is how the settings folder is watched, and new settings taken up.
type edits struct {
	checked time.Time // when the folder was last looked at
	stamp   string    // of the folder, when it was last read; "" where somebody asks for it
	next    string    // another one that was seen since, but may not have settled yet
	since   time.Time
	asked   []asked     // who waits for an answer
	again   string      // the source that is to begin again from its oldest entry; "" is none
	wrong   string      // what is wrong in the settings since the service began with them; "" is nothing
	making  *draft      // is being made ready beside the loop; nil where none is
	ready   chan *draft // that were made
}

// asked is somebody who wants settings taken up now, and to know what came of it.
type asked struct {
	by     *store.Action // who, and what they do; nil where a file changed
	kits   bool          // kits that have changed with the program are taken up as well
	answer chan taken
}

type taken struct {
	said []string
	err  error
}

// soon tells whether the folder has to be looked at again soon.
func (e *edits) soon() bool { return e.checked.IsZero() || e.making != nil }

// draft is settings that are to be taken up. Making them ready takes long, since logs may
// have to be read once more, and is done beside the loop.
type draft struct {
	texts    []folder.Text
	settings *lang.Settings
	ds       []lang.Diagnostic
	err      error  // what was read cannot be used
	same     bool   // nothing is different
	doubt    string // why they may be a mishap
	findings map[string]int
	rules    []*lang.Rule
	plans    map[string]*match.Plan
	again    *snapshot.Rebuilding
	anew     string // the source that begins again from its oldest entry; "" is none
	// unchanged are the rules of which nothing is different.
	unchanged map[string]bool
	before    *snapshot.Snapshot // from which it was made
	asked     []asked
	newer     []string // kits that came with the program and have changed, and are not taken up yet
}

// read reads the folder, and checks what stands there.
func (d *draft) read(now *snapshot.Snapshot) {
	d.before = now
	if d.texts, d.err = now.House.Read(); d.err != nil {
		return
	}
	if !slices.ContainsFunc(d.asked, func(a asked) bool { return a.kits }) {
		d.texts, d.newer = folder.Held(d.texts, now.Texts)
	}
	if d.same = folder.Same(d.texts, now.Texts) && d.anew == ""; d.same {
		return
	}
	d.settings, d.ds = now.Check(d.texts)
	if !lang.Errors(d.ds) {
		d.doubt = doubtful(now.Texts, now.Settings, d.texts, d.settings)
	}
}

// make makes everything that follows from the settings.
func (d *draft) make(ctx context.Context, now *snapshot.Snapshot) {
	d.before = now
	d.findings = findings(d.settings, d.ds)
	d.rules = trial.Active(d.settings)
	d.plans = map[string]*match.Plan{}
	judging := append(slices.Clone(d.rules), feedsOf(d.settings)...) // behind the rules, and measures behind those
	judging = append(judging, measure.Rules(d.settings.Counts)...)
	for _, src := range d.settings.Sources {
		d.plans[src.Name] = match.NewPlan(d.settings, src, judging, time.Local)
	}
	d.unchanged = unchanged(now.Texts, now.Settings, d.texts, d.settings)
	d.again, d.err = now.Rebuild(ctx, d.settings, d.rules, d.anew)
}

// unchanged are the rules that stand in new settings as they did before, and look at what they
// did.
func unchanged(was []folder.Text, had *lang.Settings, texts []folder.Text, settings *lang.Settings) map[string]bool {
	before, after := blocksOf(was), blocksOf(texts)
	out := map[string]bool{}
	for _, r := range trial.Active(settings) {
		old := had.Rule(r.Name)
		out[r.Name] = old != nil && !old.Off && before("rule", r.Name) == after("rule", r.Name) &&
			sameZone(old.Zone, r.Zone) && trial.MeansSame(had, old, settings, r)
	}
	return out
}

// blocksOf gives the blocks of settings as they are at work, by their kind and name.
func blocksOf(texts []folder.Text) func(kind, name string) string {
	out := map[[2]string]string{}
	placed, _ := folder.Blocks(texts)
	for _, b := range placed {
		out[[2]string{b.Kind, b.Name}] = b.Text
	}
	return func(kind, name string) string { return out[[2]string{kind, name}] }
}

func sameZone(a, b *time.Location) bool {
	return a == b || a != nil && b != nil && a.String() == b.String()
}

// How far behind the loop state that was built anew may be when it is handed over, in bytes
// of logs, and how often it tries to come nearer.
const (
	nearEnough = 256 << 10
	mostSteps  = 20
)

// startDraft makes new settings ready beside the loop.
func (s *Service) startDraft() {
	d := &draft{asked: s.edits.asked, anew: s.edits.again}
	s.edits.asked, s.edits.again, s.edits.making = nil, "", d
	s.beside.start(func(ctx context.Context) {
		d.read(s.window.Now())
		if d.err == nil && !d.same && !lang.Errors(d.ds) && (d.doubt == "" || len(d.asked) > 0) {
			d.make(ctx, s.window.Now())
			for n := 0; n < mostSteps && d.err == nil && d.again.Behind(s.window.Now()) > nearEnough; n++ {
				d.err = d.again.CatchUp(ctx, s.window.Now())
			}
		}
		s.edits.ready <- d
	})
}

// takeUp takes up settings that were made ready, where they are right. With an error in
// them the last good ones go on.
func (s *Service) takeUp(ctx context.Context, d *draft) {
	s.edits.making = nil
	was := len(s.notices)
	err := s.takeUpDraft(ctx, d)
	var said []string
	for _, n := range s.notices[min(was, len(s.notices)):] {
		said = append(said, n.Text)
	}
	if len(d.asked) > 0 && err == nil { // who asked knows that it is at work once it is kept
		err = s.commitAt(entry.Of(time.Now()))
	}
	s.seq++
	s.publish(time.Now())
	for _, a := range d.asked {
		a.answer <- taken{said, err}
	}
	if len(s.edits.asked) > 0 { // somebody else asked meanwhile
		s.edits.checked = time.Time{}
	}
}

func (s *Service) takeUpDraft(ctx context.Context, d *draft) error {
	if d.err == nil && !d.same && lang.Errors(d.ds) {
		s.sayErrors(d.ds, "goes on with the last good settings")
		return errors.New(s.trouble["settings"])
	}
	if d.err == nil && d.again != nil {
		d.err = d.again.CatchUp(ctx, s.look(time.Now()))
	}
	if d.err != nil {
		s.trouble["settings"] = d.err.Error() + "; the last good settings go on"
		return errors.New(s.trouble["settings"])
	}
	delete(s.trouble, "settings")
	s.tellNewer(d.newer)
	if d.same {
		if s.edits.wrong != "" {
			s.trouble["settings"] = s.edits.wrong
		}
		return nil
	}
	if d.doubt != "" && len(d.asked) == 0 {
		s.trouble["apply"] = d.doubt + appliedByHand
		s.notice(s.trouble["apply"])
		return nil
	}
	s.edits.wrong = ""
	changed, added, removed := trial.Compare(s.settings, d.settings)
	before := s.texts
	if err := s.use(d); err != nil {
		return err
	}
	if d.anew != "" {
		s.begunAgain(d)
		if folder.Same(before, d.texts) {
			return nil
		}
	}
	did := fmt.Sprintf("%s, %d added, %d removed", english.Plural(changed, "rule changed", "rules changed"), added,
		removed)
	s.notice("new settings: " + did)
	var by *store.Action
	for _, a := range d.asked {
		by = cmp.Or(by, a.by)
	}
	s.recordSettings(before, d.texts, did, by)
	return nil
}

// tellNewer says which kits have changed with the program and are not taken up yet.
func (s *Service) tellNewer(kits []string) {
	if delete(s.trouble, "kits"); len(kits) > 0 {
		s.trouble["kits"] = fmt.Sprintf("this version has other rules in %s %s; those that were in use go on: "+
			"dimlantern kits changes shows what differs, dimlantern apply takes it up",
			english.PluralWord(len(kits), "the kit", "the kits"), strings.Join(kits, ", "))
	}
}

// use lets the engine, the follower and the ways go by new settings.
func (s *Service) use(d *draft) error {
	before, settings := s.settings, d.settings
	first := s.store.SeenBefore(settings, d.anew)
	if d.anew != "" && s.engine.Clock() == entry.None { // nothing has come yet, and it has to be some time
		s.reached(entry.Of(time.Now()))
	}
	if d.again.Engine() != nil || !slices.Equal(d.rules, s.engine.Rules()) {
		if err := s.journalEdit(d, first); err != nil {
			return err
		}
	}
	s.feeds = feedsOf(settings)
	s.follower.Use(s.ways.readable(settings.Sources), d.plans)
	changes := s.editEngine(settings, d.rules, d.again.Engine(), d.unchanged, first, d.anew)
	if err := s.countBy(settings); err != nil {
		return err
	}
	s.meterPlans(d.plans)
	s.decider.Settings, s.decider.Engine, s.decider.Catching = before, s.engine, s.catching
	s.noteEdit(changes)
	s.decider.Settings = settings
	s.restOff(settings)
	cleared := 0
	for i := range changes {
		if changes[i].Change == engine.Cleared {
			cleared++
		}
	}
	if cleared > 0 {
		s.notice(fmt.Sprintf("settings changed: %s cleared", english.Plural(cleared, "alert", "alerts")))
	}
	s.ways.use(settings)
	s.useCentre(settings)
	s.openDoor(settings)
	s.settings, s.texts, s.findings = settings, d.texts, d.findings
	if s.delivering {
		s.deliver.Use(delivers(settings), blocksOf(d.texts))
	}
	s.countLater(retimed(before, settings))
	s.begun = -1 // a rule that is new has to be told which logs there are
	s.seq++
	return nil
}

// noteEdit takes in what an edit did. What it finds to have opened in the past is told in
// one summary, once it is committed.
func (s *Service) noteEdit(changes []engine.Transition) {
	if slices.ContainsFunc(changes, func(t engine.Transition) bool { return t.Change != engine.Cleared }) {
		s.decider.SumUp()
	}
	s.decider.Editing = true
	s.record(changes)
	s.decider.Editing = false
}

// restOff lets what is off rest: its origins, and the rules that look at nothing else.
func (s *Service) restOff(settings *lang.Settings) {
	var x engine.Rest
	for _, src := range settings.Sources {
		if !src.Off {
			continue
		}
		for _, series := range s.store.SeriesOf(src.Name) {
			name, _ := trial.OriginOf(src, series, s.house.Host)
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
		s.trouble["settings"] = fmt.Sprintf("%s:%d: %s%s; Dim Lantern %s", filepath.Base(first.Pos.File),
			first.Pos.Line, first.What, more, then)
	}
}

// findings counts what the linter has about each rule.
func findings(settings *lang.Settings, ds []lang.Diagnostic) map[string]int {
	out := map[string]int{}
	for _, d := range ds {
		if d.Weight == lang.Err || d.Weight == lang.Note {
			continue
		}
		if r := settings.RuleAt(d.Pos.File, d.Pos.Line); r != nil {
			out[r.Name]++
		}
	}
	return out
}

// settled is how long settings files must not have changed before they are taken up.
const settled = 300 * time.Millisecond

// checkSettings has the settings made ready where the folder has changed.
func (s *Service) checkSettings() {
	e := &s.edits
	if e.making != nil {
		return // one at a time
	}
	stamp := s.stamp(s.texts)
	wanted := e.stamp == "" // by a person
	if stamp == e.stamp {
		e.next = ""
		if s.settings.ByHand {
			delete(s.trouble, "apply")
		}
		return
	}
	if s.settings.ByHand && !wanted {
		const words = "the settings have changed, and are taken up by hand only: dimlantern apply, or SIGHUP, does it"
		if s.trouble["apply"] != words {
			s.trouble["apply"] = words
			s.seq++
		}
		return
	}
	delete(s.trouble, "apply")
	// A file is often emptied before it is written: only what stays is taken up.
	if now := time.Now(); stamp != e.next && len(e.asked) == 0 {
		e.next, e.since = stamp, now
		e.checked = time.Time{}
		return
	} else if now.Sub(e.since) < settled && len(e.asked) == 0 {
		e.checked = time.Time{}
		return
	}
	if wanted && len(e.asked) == 0 { // by a signal, which waits for no answer
		e.asked = []asked{{kits: true, answer: make(chan taken, 1)}}
	}
	e.stamp, e.next = stamp, ""
	s.startDraft()
}

// takeUpNow has the settings taken up as they stand in the folder, and answers what was
// said of it.
// A source that is named begins again from its oldest entry with them.
func (s *Service) takeUpNow(ctx context.Context, by store.Action, again string) ([]string, error) {
	return s.takeUpAsked(ctx, asked{by: &by, answer: make(chan taken, 1)}, again)
}

// takeUpAll is takeUpNow, with kits that have changed with the program.
func (s *Service) takeUpAll(ctx context.Context, by store.Action) ([]string, error) {
	return s.takeUpAsked(ctx, asked{by: &by, kits: true, answer: make(chan taken, 1)}, "")
}

func (s *Service) takeUpAsked(ctx context.Context, who asked, again string) ([]string, error) {
	answer := who.answer
	err := s.do(ctx, func() error {
		s.edits.stamp, s.edits.checked = "", time.Time{}
		s.edits.asked = append(s.edits.asked, who)
		s.edits.again = again
		return nil
	})
	if err != nil {
		return nil, err
	}
	select {
	case t := <-answer:
		if t.err != nil {
			return nil, &settingsProblem{t.err}
		}
		return t.said, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// settingsProblem is what is wrong with settings that were to be taken up.
type settingsProblem struct{ err error }

func (p *settingsProblem) Error() string { return "it is written, and not at work: " + p.err.Error() }
func (p *settingsProblem) Unwrap() error { return p.err }

// appliedByHand is what is said behind a doubt.
const appliedByHand = "; the last good settings go on until that is confirmed: dimlantern apply, or SIGHUP, does it"

// doubtful says why new settings may be a mishap rather than meant: a file that was emptied,
// or more than half of all rules gone; "" where they are not. Files without a rule in them,
// and settings that had none, are never in doubt.
func doubtful(before []folder.Text, had *lang.Settings, texts []folder.Text, settings *lang.Settings) string {
	for _, was := range before {
		if was.Table || blank(was.Body) {
			continue
		}
		for _, now := range texts {
			if now.Name == was.Name && blank(now.Body) {
				return fmt.Sprintf("%s was emptied", filepath.Base(now.Name))
			}
		}
	}
	own := 0
	for _, r := range had.Rules {
		if !snapshot.BuiltIn(r) {
			own++
		}
	}
	_, added, removed := trial.Compare(had, settings)
	if 2*(removed-added) > own { // one that was renamed is no loss
		return fmt.Sprintf("%d of %s went out of the settings", removed, english.Plural(own, "rule", "rules"))
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

// recordSettings records what has changed in the settings, and who did it; nil is whoever
// wrote the file.
func (s *Service) recordSettings(was, now []folder.Text, did string, by *store.Action) {
	act := store.Action{By: "whoever wrote the file"}
	if by != nil {
		act = *by
	}
	act.What, act.At, act.Did = "settings", entry.Of(time.Now()), did
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
			act.Files = append(act.Files, store.FileChange{File: t.Name, Was: a, Now: b})
		}
	}
	if len(act.Files) > 0 {
		s.batch.Actions = append(s.batch.Actions, act)
	}
}
