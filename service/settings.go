package service

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/intake/regular"
	"dimlantern/tell"
)

// Text is one settings file as it was read, or a table that one names.
type Text struct {
	Name  string `json:"name"`
	Body  string `json:"body"`
	Table bool   `json:"table,omitempty"`
}

// maxSettings bounds the size of one settings file, in bytes.
const maxSettings = 4 << 20

// ReadSettings reads settings files: each path is a file, or a folder with
// *.lantern files. With an error, which says what cannot be read and what would mend
// it, the texts are those that can.
func ReadSettings(paths ...string) ([]Text, error) {
	var out []Text
	var bad []error
	for _, p := range paths {
		info, err := os.Stat(p)
		if err != nil {
			bad = append(bad, fmt.Errorf("%s cannot be read: %w", p, reason(err)))
			continue
		}
		names := []string{p}
		if info.IsDir() {
			if names, err = filepath.Glob(filepath.Join(escapeGlob(p), "*.lantern")); err != nil {
				return nil, err
			}
			if _, err := os.ReadDir(p); err != nil {
				bad = append(bad, fmt.Errorf("the folder %s cannot be read: %w", p, reason(err)))
			}
			sort.Strings(names)
		}
		for _, n := range names {
			if info, err := os.Stat(n); err == nil && info.IsDir() {
				continue
			}
			b, err := regular.Read(n, maxSettings)
			switch {
			case errors.Is(err, regular.ErrTooLong):
				bad = append(bad, fmt.Errorf("%s is longer than %d MiB, and settings files are no longer: is it a log?", n, maxSettings>>20))
			case errors.Is(err, regular.ErrNoFile):
				bad = append(bad, fmt.Errorf("%s cannot be read: %w; take it away, or call it otherwise than *.lantern", n, reason(err)))
			case err != nil:
				bad = append(bad, fmt.Errorf("%s cannot be read: %w", n, reason(err)))
			default:
				out = append(out, Text{Name: n, Body: string(b)})
			}
		}
	}
	return append(out, tables(out)...), errors.Join(bad...)
}

// tables are the files in which the settings' words for values stand; one that
// cannot be read is left out, and checking tells it.
func tables(texts []Text) []Text {
	var out []Text
	for _, t := range texts {
		if !strings.Contains(t.Body, "from file") {
			continue
		}
		for _, name := range lang.Parse(t.Name, []byte(t.Body)).Tables() {
			if slices.ContainsFunc(out, func(x Text) bool { return x.Name == name }) {
				continue
			}
			if b, err := regular.Read(name, maxSettings); err == nil {
				out = append(out, Text{name, string(b), true})
			}
		}
	}
	return out
}

func escapeGlob(p string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(p)
}

// reason takes the operation and the path out of an error, which the sentence
// around it says already.
func reason(err error) error {
	if pe, ok := err.(*fs.PathError); ok {
		return pe.Err
	}
	return err
}

// CheckSettings parses and checks settings.
func CheckSettings(texts []Text) (*lang.Settings, []lang.Diagnostic) {
	var files []*lang.File
	for _, t := range texts {
		if t.Table {
			files = append(files, lang.Table(t.Name, []byte(t.Body)))
		} else {
			files = append(files, lang.Parse(t.Name, []byte(t.Body)))
		}
	}
	s, ds := lang.Check(files)
	for _, src := range s.Sources {
		if z := cmp.Or(src.Zone, s.Zone); z != "" {
			src.Location = zone(z)
		}
	}
	days := time.Local
	if s.Zone != "" {
		days = zone(s.Zone)
	}
	for _, r := range s.Rules {
		r.Zone = days
	}
	return s, ds
}

func init() {
	lang.CheckZone = func(name string) bool { return zone(name) != nil }
	layout.ZoneOf = zone
}

// zone looks up a zone; nil where there is none of that name.
func zone(name string) *time.Location {
	loc, err := time.LoadLocation(name)
	if err != nil || name == "Local" {
		return nil
	}
	return loc
}

// ReplaceFile writes a file beside the old one and puts it in its place, so that
// a crash leaves either the one or the other.
func ReplaceFile(name, body string) error {
	mode := os.FileMode(0o644)
	if info, err := os.Stat(name); err == nil {
		mode = info.Mode().Perm()
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".dimlantern-*")
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", name, reason(err))
	}
	defer os.Remove(f.Name())
	_, err = f.WriteString(body)
	if err == nil {
		err = f.Chmod(mode)
	}
	if err == nil {
		err = keepOwner(f, name)
	}
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", name, reason(err))
	}
	return nil
}

// templateStamp changes whenever a template of messages in a folder does.
func templateStamp(dir string) string {
	var b strings.Builder
	for _, n := range []string{tell.SubjectFile, tell.TextFile, tell.HTMLFile} {
		if info, err := os.Stat(filepath.Join(dir, n)); err == nil {
			fmt.Fprintf(&b, "%s %d %d\n", n, info.Size(), info.ModTime().UnixNano())
		}
	}
	return b.String()
}
