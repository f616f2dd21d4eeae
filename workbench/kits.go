package workbench

import (
	"cmp"
	"context"
	"dimlantern/api"
	"dimlantern/intake"
	"dimlantern/kits"
	"dimlantern/snapshot"
	"dimlantern/store"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/dustin/go-humanize/english"

	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/folder"
	"dimlantern/intake/found"
	"dimlantern/intake/regular"
)

// KitsFile is the settings file into which kits are taken into use.
const KitsFile = "kits.lantern"

// LookAround looks at this machine for what could be watched, and which of all kits fit it. Settings are the
// path of the settings folder, where there is one.
func LookAround(ctx context.Context, settings, channels string) (*found.Machine, []string, error) {
	o := found.Options{Channels: channels}
	names := folder.Kits(settings)
	for _, name := range names {
		s, _, ds, err := folder.LoadKit(settings, name)
		if err != nil {
			return nil, nil, err
		}
		if len(s.Kits) > 0 && !lang.Errors(ds) {
			o.Kits = append(o.Kits, found.Kit{Kit: s.Kits[0], Settings: s})
		}
	}
	if texts, err := folder.Read(settings); err == nil {
		o.Settings, _ = folder.CheckErrors(texts)
	}
	return found.Look(ctx, o), names, nil
}

// KitsText is what the file of kits has to be to take some into use, with its name; those that fit, where none
// is named. It is "" where all of them are in use.
func KitsText(settings string, m *found.Machine, names []string) (file, text string, err error) {
	file = filepath.Join(settings, KitsFile)
	body, err := regular.Read(file, folder.MaxFile)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", "", fmt.Errorf("%s cannot be read: %w", file, folder.Reason(err))
	}
	var fits []found.Fit
	for _, f := range m.Fits {
		if !f.Used && (len(names) == 0 && f.Runs || slices.Contains(names, f.Kit)) {
			fits = append(fits, f)
		}
	}
	texts, _ := folder.Read(settings)
	used := map[string]bool{}
	for _, t := range texts {
		for _, u := range lang.Parse(t.Name, []byte(t.Body)).Uses() {
			used[u.Kit] = true
		}
	}
	for _, n := range names {
		if !slices.ContainsFunc(m.Fits, func(f found.Fit) bool { return f.Kit == n }) && !used[n] {
			fits = append(fits, found.Fit{Kit: n})
		}
	}
	if len(fits) == 0 {
		return file, "", nil
	}
	f := lang.Parse(file, body)
	if f.Empty() {
		f = lang.Parse(file,
			[]byte("# The kits that this machine uses. What a kit says: dimlantern kits show NAME.\n"+
				"# A block of the same kind and name here stands in the place of the kit's.\nsettings {\n}\n"))
	}
	for _, x := range fits {
		if !f.AddClause("settings", "", x.Clause()) {
			f.Put("settings", "", lang.Parse(file, []byte("settings {\n"+x.Clause()+"\n}\n")))
		}
	}
	return file, f.Format(), nil
}

// Here says what is found on this machine.
func (s *Workbench) Here(ctx context.Context, _ api.HereQuery) (*api.Here, error) {
	sn := s.Window.Now()
	m, _, err := LookAround(ctx, sn.Folder(), sn.Channels)
	if err != nil {
		return nil, err
	}
	out := &api.Here{Kits: []api.HereKit{}, Logs: []api.HereLog{}, Programs: len(m.Programs), Channels: m.Channels,
		Cron: len(m.Cron), Cut: m.Cut, Took: m.Took}
	for _, f := range m.Fits {
		out.Kits = append(out.Kits, api.HereKit{Name: f.Kit, Note: f.Note, Why: f.Why, Runs: f.Runs, Used: f.Used,
			Words: f.Words, Mend: f.Mend})
	}
	slices.SortStableFunc(out.Kits, func(a, b api.HereKit) int { return cmp.Compare(rank(a), rank(b)) })
	for _, l := range m.Logs {
		out.Logs = append(out.Logs, api.HereLog{Path: l.Path, Size: l.Size, Daily: l.Daily, Mod: l.Mod, Kit: l.Kit,
			Source: l.Source, Words: l.Words, Mend: l.Mend})
	}
	if j := m.Journal; j != nil {
		out.Journal, out.Mend = english.Plural(len(j.Units), "unit speaks", "units speak"), j.Mend
		if j.Words != "" {
			out.Journal = j.Words
		}
	}
	return out, nil
}

// rank puts kits that are at work before those that are only there, and those in use last.
func rank(k api.HereKit) int {
	switch {
	case k.Used:
		return 2
	case !k.Runs:
		return 1
	}
	return 0
}

// useKits are the settings files that take kits into use.
func (s *Workbench) useKits(ctx context.Context, names []string) ([]api.BenchSave, error) {
	sn := s.Window.Now()
	m, all, err := LookAround(ctx, sn.Folder(), sn.Channels)
	if err != nil {
		return nil, err
	}
	for _, n := range names {
		if !slices.Contains(all, n) {
			return nil, fmt.Errorf("there is no kit %q", n)
		}
	}
	file, text, err := KitsText(sn.Folder(), m, names)
	if err != nil {
		return nil, err
	}
	if text == "" {
		return nil, errors.New("all of them are in use already")
	}
	was, err := regular.Read(file, folder.MaxFile)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s cannot be read: %w", file, folder.Reason(err))
	}
	return []api.BenchSave{{File: file, Body: text, Was: string(was), New: err != nil}}, nil
}

// putNewer says what changes with the kits of this version, and has them taken up where that is asked for.
func (s *Workbench) putNewer(ctx context.Context, p *api.Put, q api.PutQuery) (*api.Put, error) {
	sn := s.Window.Now()
	texts, err := folder.Read(sn.House.Settings)
	if err != nil {
		return nil, err
	}
	_, changed := folder.Held(texts, sn.Texts)
	if len(changed) == 0 {
		return nil, errors.New("no kit that is in use has changed with this version")
	}
	var lines []api.PutLine
	for _, t := range texts {
		if slices.Contains(changed, t.Kit) && kits.Inside(t.Name) {
			lines = append(lines, api.PutLine{Word: "kit", Text: t.Name})
			for _, l := range api.Diff(bodyOf(sn.Texts, t.Name), t.Body) {
				lines = append(lines, api.PutLine{Text: l})
			}
		}
	}
	if err := s.foreseeTexts(ctx, p, texts, ""); err != nil {
		return nil, err
	}
	p.Lines = append(p.Lines, lines...)
	if !q.Do || p.Refused != "" {
		return p, nil
	}
	said, err := s.TakeUpAll(ctx, store.Action{By: q.Name(), From: q.From, Words: p.Title})
	if p.Done = strings.Join(said, "; "); p.Done == "" {
		p.Done = "taken up; no rule means anything else than before"
	}
	return p, err
}

func bodyOf(texts []folder.Text, name string) string {
	for _, t := range texts {
		if t.Name == name {
			return t.Body
		}
	}
	return ""
}

// openKit opens a copy of a kit's block, as it is at work, in a file of the settings' own that is not there yet.
func (s *Workbench) openKit(sn *snapshot.Snapshot, q api.BenchFile, kit string) (*api.BenchFile, error) {
	placed, _ := folder.Blocks(sn.Texts)
	var at *lang.Placed
	for i, b := range placed {
		if b.Pos.File == q.File && b.Pos.Line <= q.Line && (at == nil || b.Pos.Line > at.Pos.Line) {
			at = &placed[i]
		}
	}
	if at == nil {
		return nil, fmt.Errorf("nothing of the kit %s stands there any more", kit)
	}
	name := at.Name
	for n := 2; ; n++ {
		file := filepath.Join(sn.Folder(), name+".lantern")
		if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
			return &api.BenchFile{File: file, Line: 1, Body: at.Text, New: true,
				Says: fmt.Sprintf("a copy of what the kit "+
					"%s says: once it is written it stands in its place", kit)}, nil
		}
		name = fmt.Sprintf("%s-%d", at.Name, n)
	}
}

// changeKit does to a block of a kit what is to be done: it is left out, or copied.
func (s *Workbench) changeKit(sn *snapshot.Snapshot, c *api.BlockChange, kit string) ([]api.BenchSave, error) {
	switch c.What {
	case "off", "delete":
	default:
		return nil,
			fmt.Errorf("%s comes from the kit %s: enter opens a copy, which stands in its place; o leaves it out",
				c.Of, kit)
	}
	file := sn.Settings.Kit(kit).UsedAt().File
	b, err := regular.Read(file, folder.MaxFile)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", file, folder.Reason(err))
	}
	f := lang.Parse(file, b)
	if !f.LeaveOut(kit, c.Of) {
		return nil, fmt.Errorf("%s no longer uses the kit %s", filepath.Base(file), kit)
	}
	return []api.BenchSave{{File: file, Body: f.Edited(), Was: string(b)}}, nil
}

var kitName = regexp.MustCompile(`^[a-z][a-z0-9_-]*$`)

// NewKit makes a kit of settings files, or of logs, in the folder of kits of the settings. It answers with its file,
// and with what has to be said: what stayed out.
func NewKit(settings, name string, from []string) (file string, said []string, err error) {
	if !kitName.MatchString(name) {
		return "", nil, fmt.Errorf("%q is no name for a kit: write small letters, digits, - and _", name)
	}
	dir := filepath.Join(settings, folder.KitsFolder, name)
	if _, err := os.Stat(dir); err == nil {
		return "", nil, fmt.Errorf("the folder %s is there already: take another name, or edit what is in it", dir)
	}
	texts, err := textsOf(from)
	if err != nil {
		return "", nil, err
	}
	texts = slices.DeleteFunc(texts, func(t folder.Text) bool { return t.Table || t.Kit != "" })
	s, ds := folder.CheckErrors(texts)
	for _, d := range ds {
		if d.Weight == lang.Err && d.Code != "unknown-name" { // names of others stand elsewhere
			return "", nil, fmt.Errorf("%s: %s", d.Pos, d.What)
		}
	}
	logs, globs := logsFolder(s)
	var b strings.Builder
	fmt.Fprintf(&b, "kit %s {\n", name)
	fmt.Fprintf(&b, "note %s\n", lang.Quote("made of "+strings.Join(baseNames(from), ", ")))
	if len(globs) > 0 {
		var needs []string
		for _, g := range globs {
			needs = append(needs, "files "+lang.Quote(inFolder(g, logs)))
		}
		fmt.Fprintf(&b, "needs %s\n", strings.Join(needs, " or "))
	}
	if logs != "" {
		fmt.Fprintf(&b, "given logs %s\n", lang.Quote(logs))
	}
	b.WriteString("}\n")
	for _, t := range texts {
		f := lang.Parse(t.Name, []byte(t.Body))
		for _, p := range f.Places() {
			switch p.Kind {
			case "settings", "contact", "hush", "group", "kit", "deliver":
				said = append(said, fmt.Sprintf("%s:%d: %s stays out: it is this machine's own", t.Name, p.First,
					strings.TrimSpace(p.Kind+" "+p.Name)))
				continue
			case "rule":
				if f.DropClause(p.Kind, p.Name, "tell") {
					said = append(said, fmt.Sprintf("%s:%d: whom %s tells stays out: who uses the kit says it",
						t.Name, p.First, p.Name))
				}
			}
			text := f.Block(p.Kind, p.Name)
			if p.Kind == "source" && logs != "" {
				text = strings.ReplaceAll(text, `"`+logs+"/", `"{logs}/`)
			}
			b.WriteString("\n" + text)
		}
	}
	file = filepath.Join(dir, name+".lantern")
	out := lang.ParseKit(name, file, []byte(b.String()))
	if _, ds := lang.Check([]*lang.File{out}, lang.Env{ErrorsOnly: true}); lang.Errors(ds) {
		for _, d := range ds {
			if d.Weight == lang.Err {
				said = append(said, fmt.Sprintf("%d:%d: %s; %s", d.Pos.Line, d.Pos.Col, d.What, d.Mend))
			}
		}
	}
	return file, said, folder.WriteNew(file, lang.Parse(file, []byte(b.String())).Format())
}

// textsOf are the settings of which a kit is made: files of them, and of a log those that fit it.
func textsOf(from []string) ([]folder.Text, error) {
	var settings []string
	var out []folder.Text
	for _, path := range from {
		if info, err := os.Stat(path); err != nil || info.IsDir() || filepath.Ext(path) == ".lantern" {
			settings = append(settings, path)
			continue
		}
		lines, near, err := intake.Ends(path)
		if err != nil {
			return nil, err
		}
		name := sourceName(path, nil)
		found := layout.Detect(lines, near)
		out = append(out, folder.Text{Name: path, Body: Proposed(&found[0], name, []string{path})})
	}
	if len(settings) == 0 {
		return out, nil
	}
	texts, err := folder.Read(settings...)
	return append(texts, out...), err
}

func baseNames(paths []string) []string {
	var out []string
	for _, p := range paths {
		out = append(out, filepath.Base(p))
	}
	return out
}

// logsFolder is the folder in which most globs of the sources begin, and all globs.
func logsFolder(s *lang.Settings) (logs string, globs []string) {
	n := map[string]int{}
	for _, src := range s.Sources {
		for _, g := range src.Files {
			globs = append(globs, g)
			dir := filepath.Dir(g)
			for strings.ContainsAny(dir, "*?[{") {
				dir = filepath.Dir(dir)
			}
			if n[dir]++; n[dir] > n[logs] {
				logs = dir
			}
		}
	}
	return logs, globs
}

func inFolder(glob, logs string) string {
	if rest, ok := strings.CutPrefix(glob, logs+"/"); ok && logs != "" {
		return "{logs}/" + rest
	}
	return glob
}
