// Package folder reads, checks and writes the settings folder: its *.lantern files, and the
// tables that they name. What they mean, core/lang says; nothing here runs or is kept.
package folder

import (
	"cmp"
	"encoding/json"
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
	"dimlantern/kits"
)

// WriteNew writes a settings file that is not there yet.
func WriteNew(name, text string) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return fmt.Errorf("the settings folder %s cannot be made: %w", filepath.Dir(name), Reason(err))
	}
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		if os.IsExist(err) {
			err = fs.ErrExist
		}
		return fmt.Errorf("%s cannot be written: %w", name, Reason(err))
	}
	_, err = f.WriteString(text)
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", name, Reason(err))
	}
	return nil
}

// With puts a text in the place of a file's. Kits that the texts use with it come in, others go.
func With(texts []Text, name, body string) []Text {
	texts = slices.Clone(texts)
	i := slices.IndexFunc(texts, func(t Text) bool { return t.Name == name })
	was := ""
	if i < 0 {
		texts = append(texts, Text{Name: name, Body: body})
	} else {
		was, texts[i].Body = texts[i].Body, body
	}
	if usesKit.MatchString(body) || usesKit.MatchString(was) {
		texts = Kitted(filepath.Dir(name), texts)
	}
	return texts
}

// Stamp changes whenever a settings file does.
func Stamp(path string, texts []Text) string {
	names := []string{path}
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		names, _ = filepath.Glob(filepath.Join(EscapeGlob(path), "*.lantern"))
	}
	own, _ := filepath.Glob(filepath.Join(EscapeGlob(folderOf(path)), KitsFolder, "*", "*.lantern"))
	names = append(names, own...)
	var b strings.Builder
	for _, t := range texts {
		if !t.Table && strings.Contains(t.Body, "from file") {
			names = append(names, lang.Parse(t.Name, []byte(t.Body)).Tables()...)
		}
	}
	for _, n := range names {
		if info, err := os.Stat(n); err == nil {
			fmt.Fprintf(&b, "%s %d %d\n", n, info.Size(), info.ModTime().UnixNano())
		}
	}
	return b.String()
}

func Encode(texts []Text) []byte {
	b, _ := json.Marshal(texts)
	return b
}

func Decode(b []byte) ([]Text, error) {
	var out []Text
	return out, json.Unmarshal(b, &out)
}

func Same(a, b []Text) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

// Text is one settings file as it was read, or a table that one names.
type Text struct {
	Name  string `json:"name"`
	Body  string `json:"body"`
	Table bool   `json:"table,omitempty"`
	Kit   string `json:"kit,omitempty"` // that it belongs to; "" is none
}

// MaxFile bounds the size of one settings file, in bytes.
const MaxFile = 4 << 20

// Read reads settings files: each path is a file, or a folder with
// *.lantern files. With an error, which says what cannot be read and what would mend
// it, the texts are those that can.
func Read(paths ...string) ([]Text, error) {
	var out []Text
	var bad []error
	for _, p := range paths {
		texts, err := readPath(p)
		if err != nil {
			bad = append(bad, err)
		}
		more, err := kitsOf(p, texts)
		if err != nil {
			bad = append(bad, err)
		}
		out = append(append(out, texts...), more...)
	}
	return append(out, tables(out)...), errors.Join(bad...)
}

// readPath reads a settings file, or those of a folder. A folder that says of itself that it is a kit is one.
func readPath(p string) ([]Text, error) {
	var out []Text
	var bad []error
	info, err := os.Stat(p)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", p, Reason(err))
	}
	names := []string{p}
	if info.IsDir() {
		if names, err = filepath.Glob(filepath.Join(EscapeGlob(p), "*.lantern")); err != nil {
			return nil, err
		}
		if _, err := os.ReadDir(p); err != nil {
			bad = append(bad, fmt.Errorf("the folder %s cannot be read: %w", p, Reason(err)))
		}
		sort.Strings(names)
	}
	for _, n := range names {
		if info, err := os.Stat(n); err == nil && info.IsDir() {
			continue
		}
		b, err := regular.Read(n, MaxFile)
		switch {
		case errors.Is(err, regular.ErrTooLong):
			bad = append(bad, fmt.Errorf("%s is longer than %d MiB, and settings files are no longer: is it "+
				"a log?", n, MaxFile>>20))
		case errors.Is(err, regular.ErrNoFile):
			bad = append(bad, fmt.Errorf("%s cannot be read: %w; take it away, or call it otherwise than "+
				"*.lantern", n, Reason(err)))
		case err != nil:
			bad = append(bad, fmt.Errorf("%s cannot be read: %w", n, Reason(err)))
		default:
			out = append(out, Text{Name: n, Body: string(b)})
		}
	}
	if kit := kitIn(out); kit != "" && isKit(p, kit) {
		for i := range out {
			out[i].Kit = kit
		}
	}
	return out, errors.Join(bad...)
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
			if b, err := regular.Read(name, MaxFile); err == nil {
				out = append(out, Text{Name: name, Body: string(b), Table: true})
			}
		}
	}
	return out
}

func EscapeGlob(p string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(p)
}

// Reason takes the operation and the path out of an error, which the sentence
// around it says already.
func Reason(err error) error {
	if pe, ok := err.(*fs.PathError); ok {
		return pe.Err
	}
	return err
}

// Check parses and checks settings.
func Check(texts []Text) (*lang.Settings, []lang.Diagnostic) {
	return check(texts, lang.Env{Zone: Zone, Time: layout.Zones(Zone).CheckTime})
}

// CheckErrors is Check for those who want to know of errors alone, which takes half as long.
func CheckErrors(texts []Text) (*lang.Settings, []lang.Diagnostic) {
	return check(texts, lang.Env{Zone: Zone, Time: layout.Zones(Zone).CheckTime, ErrorsOnly: true})
}

// CheckTyped checks settings with a question that is typed. The diagnostics are those of the question,
// and its errors; it is nil where it cannot be.
func CheckTyped(texts []Text, question string) (*lang.Settings, *lang.Question, []lang.Diagnostic) {
	s, ds := check(texts, lang.Env{Zone: Zone, Time: layout.Zones(Zone).CheckTime, ErrorsOnly: true},
		lang.ParseQuestion(lang.Typed, question))
	ds = slices.DeleteFunc(ds, func(d lang.Diagnostic) bool { return d.Pos.File != lang.Typed })
	if lang.Errors(ds) {
		return s, nil, ds
	}
	return s, s.Ask(lang.Typed), ds
}

func check(texts []Text, env lang.Env, files ...*lang.File) (*lang.Settings, []lang.Diagnostic) {
	env.Kits = kits.Names()
	s, ds := lang.Check(append(files, parse(texts)...), env)
	for _, src := range append(slices.Clip(s.Sources), s.SentSources...) {
		if z := cmp.Or(src.Zone, s.Zone); z != "" {
			src.Location = Zone(z)
		}
	}
	days := time.Local
	if s.Zone != "" {
		days = Zone(s.Zone)
	}
	for _, r := range s.EveryRule() {
		r.Zone = days
	}
	for _, q := range s.Asks {
		q.Zone = days
	}
	for _, r := range s.Reports {
		r.Zone = days
	}
	for _, d := range s.Delivers {
		d.Zone = days
	}
	return s, ds
}

// parse reads the texts into their trees.
func parse(texts []Text) []*lang.File {
	var files []*lang.File
	for _, t := range texts {
		switch {
		case t.Table:
			files = append(files, lang.Table(t.Name, []byte(t.Body)))
		case t.Kit != "":
			files = append(files, lang.ParseKit(t.Kit, t.Name, []byte(t.Body)))
		default:
			files = append(files, lang.Parse(t.Name, []byte(t.Body)))
		}
	}
	return files
}

// Zone looks up a zone; nil where there is none of that name.
func Zone(name string) *time.Location {
	loc, err := time.LoadLocation(name)
	if err != nil || name == "Local" {
		return nil
	}
	return loc
}

// Replace writes a file beside the old one and puts it in its place, so that
// a crash leaves either the one or the other.
func Replace(name, body string) error {
	mode := os.FileMode(0o644)
	if info, err := os.Stat(name); err == nil {
		mode = info.Mode().Perm()
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".dimlantern-*")
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", name, Reason(err))
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
		return fmt.Errorf("%s cannot be written: %w", name, Reason(err))
	}
	return nil
}

// Parts are the blocks of texts as they are written, by kind and name, those of kits with the kit's before; and
// their order.
func Parts(texts []Text) (parts map[string]string, order []string) {
	parts = map[string]string{}
	for _, t := range texts {
		if t.Table {
			continue
		}
		for _, b := range lang.Parse(t.Name, []byte(t.Body)).Written() {
			id := b.Kind
			if b.Name != "" {
				id += " " + b.Name
			}
			if t.Kit != "" {
				id += " of kit " + t.Kit
			}
			if _, twice := parts[id]; !twice {
				order = append(order, id)
			}
			parts[id] += b.Text
		}
	}
	return parts, order
}
