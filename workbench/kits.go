package workbench

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"dimlantern/core/lang"
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

var kitName = regexp.MustCompile(`^[a-z][a-z0-9_-]*$`)

// NewKit makes a kit of settings files, in the folder of kits of the settings. It answers with its file, and
// with what has to be said: what stayed out.
func NewKit(settings, name string, from []string) (file string, said []string, err error) {
	if !kitName.MatchString(name) {
		return "", nil, fmt.Errorf("%q is no name for a kit: write small letters, digits, - and _", name)
	}
	dir := filepath.Join(settings, folder.KitsFolder, name)
	if _, err := os.Stat(dir); err == nil {
		return "", nil, fmt.Errorf("the folder %s is there already: take another name, or edit what is in it", dir)
	}
	texts, err := folder.Read(from...)
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
	return file, said, folder.WriteNew(file, out.Format())
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
