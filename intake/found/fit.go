package found

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"dimlantern/core/lang"
	"dimlantern/intake"
)

// has tells whether something is here, in words: whether it is at work, or at least there.
func (m *Machine) has(k *lang.Kit, w lang.Wanted) (words string, works bool) {
	name := k.Fill(w)
	switch w.Kind {
	case "program":
		for _, p := range m.Programs {
			if p.Name == name {
				return name + " runs", true
			}
		}
		if m.bin[name] {
			return name + " is installed", false
		}
	case "files":
		if list := m.glob(name); len(list) > 0 {
			words = list[0] + " is there"
			if len(list) > 1 {
				words = list[0] + " and others are there"
			}
			return words, slices.ContainsFunc(list, m.lives)
		}
	case "unit":
		if m.Journal != nil && slices.Contains(m.Journal.Units, name) {
			return "the unit " + name + " speaks", true
		}
	case "channel":
		if name == "journal" && m.Journal != nil {
			return "the journal is there", true
		}
		if slices.Contains(m.Channels, name) {
			return "the channel " + name + " is there", true
		}
	}
	return "", false
}

// lives tells whether somebody writes a file, or the system itself has it.
func (m *Machine) lives(path string) bool {
	info, err := os.Lstat(m.at(path))
	return err == nil && (strings.HasPrefix(path, "/proc/") || info.Mode().IsRegular() && info.Size() > 0 &&
		m.now.Sub(info.ModTime()) < recent && !strings.HasPrefix(path, "/etc/"))
}

// Missing says what a kit wants that this machine does not have; "" where it fits.
func (m *Machine) Missing(k *lang.Kit) string {
	for _, n := range k.Needs {
		if words, _ := m.hasAny(k, n); words == "" {
			filled := make(lang.Need, len(n))
			for i, w := range n {
				filled[i] = lang.Wanted{Kind: w.Kind, Name: k.Fill(w)}
			}
			return filled.String()
		}
	}
	return ""
}

func (m *Machine) hasAny(k *lang.Kit, n lang.Need) (words string, works bool) {
	for _, w := range n {
		if s, at := m.has(k, w); s != "" && (words == "" || at && !works) {
			words, works = s, at
		}
	}
	return words, works
}

// fit tries whether a kit fits.
func (m *Machine) fit(k Kit, now *lang.Settings) {
	f := Fit{Kit: k.Name, Note: k.Note, Used: now != nil && now.Kit(k.Name) != nil}
	var why []string
	for _, n := range k.Needs {
		words, works := m.hasAny(k.Kit, n)
		if words == "" {
			return
		}
		why, f.Runs = append(why, words), f.Runs || works
	}
	if len(why) == 0 {
		return
	}
	f.Why = strings.Join(why, ", ")
	m.choose(&f, k)
	m.Fits = append(m.Fits, f)
}

// choose leaves out sources of a kit that say here what another one says: the same programs speak into the
// journal and into files, and one of both is enough.
func (m *Machine) choose(f *Fit, k Kit) {
	s := k.Settings
	reads := m.Journal != nil && m.Journal.Words == ""
	for _, a := range s.Sources {
		if !a.Journal() {
			continue
		}
		var others []string
		files := false
		for _, b := range s.Sources {
			if b != a && len(b.Files) > 0 && instead(s, a.Name, b.Name) {
				others = append(others, b.Name)
				files = files || slices.ContainsFunc(b.Files, func(g string) bool { return len(m.glob(g)) > 0 })
			}
		}
		switch {
		case reads:
			f.But = append(f.But, others...)
		case files || m.Journal == nil:
			f.But = append(f.But, a.Name)
		}
	}
	for _, src := range s.Sources {
		if slices.Contains(f.But, src.Name) {
			continue
		}
		if src.Journal() && m.Journal != nil && m.Journal.Words != "" {
			f.Words, f.Mend = m.Journal.Words, m.Journal.Mend
		}
		for _, g := range src.Files {
			list := m.glob(g)
			if len(list) == 0 && m.there(filepath.Dir(base(g))) {
				if _, err := os.ReadDir(m.at(base(g))); errors.Is(err, fs.ErrPermission) {
					words, mend := intake.Denied(m.at(base(g)), err)
					f.Words, f.Mend = base(g)+": "+words, mend
				}
			}
			for _, p := range list[:min(len(list), 20)] {
				if words, mend := intake.Unreadable(m.at(p)); words != "" && !intake.IsCopy(p) {
					f.Words, f.Mend = p+": "+words, mend
				}
			}
		}
	}
}

// base is the folder below which everything lies that a pattern fits.
func base(glob string) string {
	b, _ := doublestar.SplitPattern(glob)
	return b
}

// instead tells whether every rule that looks at the journal looks at a source of files as well, or at another
// one of them, so that both say the same.
func instead(s *lang.Settings, journal, files string) bool {
	any := false
	for _, r := range s.Rules {
		if slices.Contains(r.On, files) {
			if !slices.Contains(r.On, journal) {
				return false
			}
			any = true
		}
	}
	return any
}
