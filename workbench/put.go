package workbench

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/folder"
	"dimlantern/intake/regular"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// mostPut is how many alerts are named that a change ends.
const mostPut = 12

// Put says what a change of the settings would do, and does it where that is asked for.
func (s *Workbench) Put(ctx context.Context, q api.PutQuery) (*api.Put, error) {
	p := &api.Put{Files: q.Files, Lines: []api.PutLine{}}
	if q.Block != nil {
		var err error
		if p.Files, err = s.changeBlock(q.Block); err != nil {
			return nil, err
		}
		p.Title = q.Block.Title()
	}
	if q.Ask != nil {
		var err error
		if p.Files, err = s.keepAsk(q.Ask); err != nil {
			return nil, err
		}
		p.Title = "keep the question " + q.Ask.Name
		if q.Ask.Kind == "report" {
			p.Title = "make a report " + q.Ask.Name
		}
	}
	if len(q.Kits) > 0 {
		var err error
		if p.Files, err = s.useKits(ctx, q.Kits); err != nil {
			return nil, err
		}
		p.Title = "use " + english.PluralWord(len(q.Kits), "the kit ", "the kits ") + strings.Join(q.Kits, ", ")
	}
	if q.Newer {
		if p.Title = "take up what has changed in kits with this version"; len(p.Files) > 0 {
			return nil, errors.New("kits are taken up without any other change")
		}
		return s.putNewer(ctx, p, q)
	}
	if q.Again != "" {
		if p.Title = "begin " + q.Again + " again from its oldest entry"; len(p.Files) > 0 {
			return nil, errors.New("a source begins again without any other change")
		}
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
	if err := s.foresee(ctx, p, q.Again); err != nil {
		return nil, err
	}
	if !q.Do || p.Refused != "" {
		return p, nil
	}
	if err := s.writeAll(p.Files); err != nil {
		return nil, err
	}
	said, err := s.TakeUp(ctx, store.Action{By: q.Name(), From: q.From, Words: p.Title}, q.Again)
	if p.Done = strings.Join(said, "; "); p.Done == "" {
		p.Done = "it is written; no rule means anything else than before"
	}
	return p, err
}

// Foresee says what a change would do.
func (s *Workbench) Foresee(ctx context.Context, p *api.Put) error { return s.foresee(ctx, p, "") }

// foresee is Foresee, with a source that begins again from its oldest entry; "" is none.
func (s *Workbench) foresee(ctx context.Context, p *api.Put, again string) error {
	sn := s.Window.Now()
	texts := slices.Clone(sn.Texts)
	for _, f := range p.Files {
		if texts = folder.With(texts, f.File, f.Body); f.Gone {
			texts = slices.DeleteFunc(texts, func(t folder.Text) bool { return t.Name == f.File })
		}
	}
	return s.foreseeTexts(ctx, p, texts, again)
}

// goesTo are the groups of hosts that something in files is sent to from here; none where this is no centre.
func goesTo(s *lang.Settings, files []api.BenchSave) []string {
	if !s.Hosts.IsCentre() {
		return nil
	}
	to := map[string]bool{}
	add := func(at lang.Pos, groups []string) {
		if slices.ContainsFunc(files, func(f api.BenchSave) bool { return f.File == at.File }) {
			for _, g := range groups {
				to[g] = true
			}
		}
	}
	sources := slices.Concat(s.Sources, s.SentSources)
	for _, src := range sources {
		add(src.Pos, src.For)
	}
	for _, r := range s.EveryRule() {
		add(r.Pos, r.For)
		for _, src := range sources {
			if r.AtCentre && r.LooksAt(src.Name) {
				add(r.Pos, src.For)
			}
		}
	}
	return slices.Sorted(maps.Keys(to))
}

// foreseeTexts is foresee of settings as they will be.
func (s *Workbench) foreseeTexts(ctx context.Context, p *api.Put, texts []folder.Text, again string) error {
	sn := s.Window.Now()
	put := func(word, text string, bad bool) {
		p.Lines = append(p.Lines, api.PutLine{Word: word, Text: text, Bad: bad})
	}
	settings, ds := sn.Check(texts)
	if foreseeFindings(p, ds, put); p.Refused != "" {
		return nil
	}
	foreseeSources(sn, settings, put)
	if p.Goes = goesTo(settings, p.Files); len(p.Goes) > 0 {
		put("hosts", "what is for "+english.OxfordWordSeries(p.Goes, "and")+" goes there when it is rolled out", false)
	}
	if again != "" {
		if foreseeAgain(p, sn, again, put); p.Refused != "" {
			return nil
		}
	}
	foreseeRules(sn.Settings, settings, put)
	if again == "" {
		foreseeTests(settings, put)
	}
	ts, past, err := s.foreseen(ctx, sn, settings, again)
	if err != nil {
		put("alerts", "what becomes of those that are open cannot be said: "+err.Error(), true)
		return nil
	}
	foreseeAlerts(sn, ts, put)
	if past != nil {
		foreseePast(past, put)
	}
	return ctx.Err()
}

// foreseeFindings says what the check finds in the files of a change, and refuses it for errors.
func foreseeFindings(p *api.Put, ds []lang.Diagnostic, put func(word, text string, bad bool)) {
	findings := 0
	for _, d := range ds {
		if !slices.ContainsFunc(p.Files, func(f api.BenchSave) bool { return f.File == d.Pos.File }) &&
			d.Weight != lang.Err {
			continue
		}
		if d.Weight == lang.Err {
			at := fmt.Sprintf("%s:%d", filepath.Base(d.Pos.File), d.Pos.Line)
			put("error", at+": "+d.What+"; "+d.Mend, true)
			p.Refused = "errors come first: " + at + ": " + d.What
			continue
		}
		if findings++; findings <= 5 {
			put(d.Weight.String(), fmt.Sprintf("line %d: %s", d.Pos.Line, d.What), false)
		}
	}
}

// foreseeRules says which rules come, go, change their meaning, or keep what they counted.
func foreseeRules(old, settings *lang.Settings, put func(word, text string, bad bool)) {
	kits := map[string][]string{}
	for _, r := range settings.Rules {
		before := old.Rule(r.Name)
		kit := settings.KitOf(r.Pos)
		switch {
		case before == nil && kit != "":
			kits[kit] = append(kits[kit], r.Name)
		case r.On != nil && slices.Contains(r.On, lang.Itself):
		case before == nil:
			put("new", r.Name+", which begins to count with the next entry"+offWord(r), false)
		case before.Off != r.Off && r.Off:
			put("off", r.Name+" is written and checked, and does not run", false)
		case before.Off != r.Off:
			put("on", r.Name+" runs again", false)
		case !trial.MeansSame(old, before, settings, r):
			put("changed", r.Name+" matches or counts by something else; its state is built anew from what its "+
				"logs said", false)
		case trial.Thresholds(before) != trial.Thresholds(r):
			put("changed", r.Name+" keeps what it has counted, and judges it by what is written now", false)
		}
	}
	for _, k := range settings.Kits {
		if names := kits[k.Name]; len(names) > 0 {
			put("new", fmt.Sprintf("%s of the kit %s, which begin to count with the next entry: %s",
				english.Plural(len(names), "rule", "rules"), k.Name, strings.Join(names, ", ")), false)
		}
	}
	for _, r := range old.Rules {
		if settings.Rule(r.Name) == nil {
			put("gone", r.Name, false)
		}
	}
}

// foreseeTests runs the tests that stand in the settings.
func foreseeTests(settings *lang.Settings, put func(word, text string, bad bool)) {
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
		put("tests", english.Plural(passed, "test passes", "tests pass"), false)
	case passed == 0 && failed == 0 && len(settings.Kits) == 0: // those of kits hold for their own values
		put("tests", "there are none", false)
	}
}

// foreseeAlerts names the alerts that a change opens and ends.
func foreseeAlerts(sn *snapshot.Snapshot, ts []engine.Transition, put func(word, text string, bad bool)) {
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
				line += ", open since " + openSince(sn, t)
			}
			put("ends", line, true)
		}
	}
	if opens > mostPut {
		put("opens", fmt.Sprintf("and %d more alerts", opens-mostPut), true)
	}
	if opens > 0 {
		put("told", english.Plural(opens, "alert that opens", "alerts that open")+" by what was logged before "+
			english.PluralWord(opens, "is", "are")+" told in one summary", false)
	}
	if ends > mostPut {
		put("ends", fmt.Sprintf("and %d more alerts", ends-mostPut), true)
	}
	if ends == 0 {
		put("alerts", "none that is open ends by this", false)
	}
}

// foreseeSources says what becomes of the sources.
func foreseeSources(sn *snapshot.Snapshot, settings *lang.Settings, put func(word, text string, bad bool)) {
	followed := func(name string) string {
		n := 0
		for _, o := range sn.Origins {
			if o.Source.Name == name {
				n++
			}
		}
		if n == 1 {
			return "its origin"
		}
		return fmt.Sprintf("its %d origins", n)
	}
	for _, src := range settings.Sources {
		old := sn.Settings.Source(src.Name)
		switch {
		case src.Name == lang.Itself:
		case old == nil:
			put("new source", src.Name+", which reads "+src.Where(), false)
		case old.Off != src.Off && src.Off:
			put("off", src.Name+" is not read any more; open alerts of "+followed(src.Name)+" stay as they are", false)
		case old.Off != src.Off:
			put("on", src.Name+" is read again, from where it was left", false)
		case old.Where() != src.Where():
			put("source", src.Name+" reads "+src.Where()+" instead of "+old.Where(), false)
		case old.LayoutName() != src.LayoutName():
			put("source", src.Name+" is divided by "+src.LayoutName()+" instead of "+old.LayoutName(), false)
		}
	}
	for _, src := range sn.Settings.Sources {
		if settings.Source(src.Name) == nil && src.Name != lang.Itself {
			put("gone source", src.Name+", and "+followed(src.Name)+"; what was kept of it stays", false)
		}
	}
}

// foreseeAgain says what it means that a source begins again from its oldest entry, or why it cannot.
func foreseeAgain(p *api.Put, sn *snapshot.Snapshot, name string, put func(word, text string, bad bool)) {
	src := sn.Settings.Source(name)
	switch {
	case src == nil:
		p.Refused = "there is no source " + name
	case src.Kept():
		p.Refused = "nothing of " + name + " lies in files: what came before it was watched was not kept"
	case src.Off:
		p.Refused = "the source " + name + " is off: switch it on first"
	}
	if p.Refused != "" {
		return
	}
	files, size := 0, int64(0)
	for _, o := range sn.Origins {
		if o.Source.Name == name {
			n, b := o.Before()
			files, size = files+n, size+b
		}
	}
	if files == 0 {
		p.Refused = "nothing lies before what was read of " + name + ": its oldest entry has been read"
		return
	}
	put("reads", fmt.Sprintf("%s of %s that lay there before it was watched", humanize.Bytes(uint64(size)),
		english.Plural(files, "file", "files")), false)
	var rules []string
	for _, r := range trial.Active(sn.Settings) {
		if r.LooksAt(name) && !snapshot.BuiltIn(r) {
			rules = append(rules, r.Name)
		}
	}
	switch {
	case len(rules) == 0:
		put("rules", "none looks at it; the tide shows what it said", false)
	case len(rules) > mostPut:
		put("rules", fmt.Sprintf("%s and %d more count anew, from its oldest entry on",
			strings.Join(rules[:mostPut], ", "), len(rules)-mostPut), false)
	default:
		put("rules", strings.Join(rules, ", ")+" "+english.PluralWord(len(rules), "counts", "count")+
			" anew, from its oldest entry on", false)
	}
}

// foreseePast says what rules would have made of what lay there.
func foreseePast(past *snapshot.Past, put func(word, text string, bad bool)) {
	if past.Untimed {
		put("past", "its entries say no time, so that nothing of them has a place in the past: give it a layout with "+
			"their time first", false)
		return
	}
	raised := 0
	for i := range past.Transitions {
		if past.Transitions[i].Change == engine.Raised {
			raised++
		}
	}
	hits := 0
	for _, c := range past.Counts {
		hits += c.N
	}
	put("past", fmt.Sprintf("%s, and %s that began and ended before it was watched: shown, and told nobody",
		english.Plural(hits, "hit", "hits"), english.Plural(raised, "alert", "alerts")), false)
}

func offWord(r *lang.Rule) string {
	if r.Off {
		return " once it is no longer off"
	}
	return ""
}

// foreseen are the transitions that taking up settings would make, found on a copy of the
// engine.
func (s *Workbench) foreseen(ctx context.Context, sn *snapshot.Snapshot,
	settings *lang.Settings, again string) ([]engine.Transition, *snapshot.Past, error) {
	state, err := s.State(ctx)
	if err != nil {
		return nil, nil, err
	}
	twin, err := engine.Decode(trial.Active(sn.Settings), state)
	if err != nil {
		return nil, nil, err
	}
	rules := trial.Active(settings)
	built, err := sn.Rebuild(ctx, settings, rules, again)
	if err != nil {
		return nil, nil, err
	}
	if again != "" && twin.Clock() == entry.None {
		twin.Apply(engine.Reach{At: entry.Of(time.Now())})
	}
	same := func(a, b *lang.Rule) bool {
		return trial.MeansSame(sn.Settings, a, settings, b) && (again == "" || !b.LooksAt(again))
	}
	return twin.Edit(rules, engine.Change{SameMatch: same, Built: built.Engine(),
		First: s.Store.SeenBefore(settings, again)}), built.Past, nil
}

// openSince is since when the alert of a transition has been open.
func openSince(sn *snapshot.Snapshot, t *engine.Transition) string {
	if k, ok := sn.Engine.KeyOf(t.Rule, t.Key); ok && k.Alert != "" {
		return api.Moment(k.Raised)
	}
	return api.Moment(t.First)
}

// placeOf is where a block of a kind stands; false where none is called so.
func placeOf(settings *lang.Settings, kind, name string) (lang.Pos, bool) {
	switch kind {
	case "rule":
		if r := settings.Rule(name); r != nil {
			return r.Pos, true
		}
	case "source":
		if src := settings.Source(name); src != nil {
			return src.Pos, true
		}
	case "report":
		if r := settings.Report(name); r != nil {
			return r.Pos, true
		}
	case "deliver":
		if d := settings.Deliver(name); d != nil {
			return d.Pos, true
		}
	case "measure":
		for _, m := range settings.Counts {
			if m.Name == name {
				return m.Pos, true
			}
		}
	}
	return lang.Pos{}, false
}

// changeBlock does to the settings' files what is to be done to a rule or a source.
func (s *Workbench) changeBlock(c *api.BlockChange) ([]api.BenchSave, error) {
	sn := s.Window.Now()
	texts, settings := sn.Texts, sn.Settings
	at, there := placeOf(settings, c.Kind, c.Of)
	if !there || filepath.Ext(at.File) != ".lantern" {
		return nil, fmt.Errorf("no %s of the settings folder is called %s", c.Kind, c.Of)
	}
	if kit := settings.KitOf(at); kit != "" {
		return s.changeKit(sn, c, kit)
	}
	if c.What == "copy" || c.What == "rename" {
		if !lang.IsName(c.Name) {
			return nil, lang.NotAName(c.Name)
		}
		if _, taken := placeOf(settings, c.Kind, c.Name); taken {
			return nil, fmt.Errorf("there is a %s %s already", c.Kind, c.Name)
		}
	}
	var out []api.BenchSave
	for _, t := range texts {
		if t.Table || c.What != "rename" && t.Name != at.File {
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
			done = f.Copy(c.Kind, c.Of, c.Name)
		case "rename":
			done = f.Rename(c.Kind, c.Of, c.Name) > 0
		case "off", "on":
			done = f.SetOff(c.Kind, c.Of, c.What == "off")
		case "delete":
			done = f.Remove(c.Kind, c.Of)
		default:
			return nil, fmt.Errorf("a %s is copied, renamed, switched off or on, or deleted, not %s", c.Kind, c.What)
		}
		if done {
			out = append(out, api.BenchSave{File: t.Name, Body: f.Edited(), Was: string(b), Gone: f.Empty()})
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s no longer stands in %s", c.Of, filepath.Base(at.File))
	}
	return out, nil
}

// changedByOthers says that a file has another text than the one that was opened.
func changedByOthers(path string) error {
	return &api.Problem{Code: api.Changed, What: filepath.Base(path) +
		" was changed by somebody else meanwhile: nothing is written",
		Mend: "leave it with esc and open it again"}
}

// writeAll writes settings files, none of them where one has been changed by somebody else.
func (s *Workbench) writeAll(files []api.BenchSave) error {
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

// Tests says which tests pass, with the text being typed among the settings.
func (s *Workbench) Tests(_ context.Context, q api.BenchQuery) (*api.Put, error) {
	settings, _, _ := s.benchRule(q)
	p := &api.Put{Lines: []api.PutLine{}, Tests: true}
	passed, failed := 0, 0
	for _, o := range trial.Expects(settings) {
		if o.Failed {
			failed++
			p.Lines = append(p.Lines, api.PutLine{Word: "fails",
				Text: fmt.Sprintf("%s%s: %s: line %d: %s", o.Rule, o.Layout, o.Expect.Title, o.Step.Pos.Line, o.Why),
				Bad:  true})
		} else {
			passed++
		}
	}
	for _, o := range trial.Expects(settings) {
		if !o.Failed {
			p.Lines = append(p.Lines, api.PutLine{Word: "passes", Text: o.Rule + o.Layout + ": " + o.Expect.Title,
				Bad: false})
		}
	}
	p.Title = fmt.Sprintf("%d passed, %d failed", passed, failed)
	return p, nil
}

// The settings files in which new questions and reports are kept.
const (
	asksFile    = "asks.lantern"
	reportsFile = "reports.lantern"
)

// keepAsk writes a question, or a report, into the settings file in which one of its name stands, else into
// one for those.
func (s *Workbench) keepAsk(k *api.KeptAsk) ([]api.BenchSave, error) {
	kind := cmp.Or(k.Kind, "ask")
	if !lang.IsName(k.Name) {
		return nil, lang.NotAName(k.Name)
	}
	sn := s.Window.Now()
	file := filepath.Join(sn.Folder(), asksFile)
	if kind == "report" {
		file = filepath.Join(sn.Folder(), reportsFile)
		if _, taken := placeOf(sn.Settings, kind, k.Name); taken {
			return nil, fmt.Errorf("there is a report %s already", k.Name)
		}
	}
	if q := sn.Settings.Ask(k.Name); kind == "ask" && q != nil && !q.BuiltIn() {
		file = q.Pos.File
	} else if info, err := os.Stat(sn.House.Settings); err == nil && !info.IsDir() {
		file = sn.House.Settings
	}
	block := kind + " " + k.Name + " {\n" + k.Text + "\n}\n"
	b, err := regular.Read(file, folder.MaxFile)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("%s cannot be read: %w", file, folder.Reason(err))
	}
	f := lang.Parse(file, b)
	if lang.Errors(f.Diagnostics()) {
		return nil, fmt.Errorf("%s has errors: they come first", filepath.Base(file))
	}
	save := api.BenchSave{File: file, Was: string(b), New: err != nil}
	f.Put(kind, k.Name, lang.Parse("", []byte(block)))
	save.Body = f.Edited()
	return []api.BenchSave{save}, nil
}
