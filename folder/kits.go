package folder

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"

	"dimlantern/core/lang"
	"dimlantern/kits"
)

// usesKit fits texts that may use a kit; others need not be parsed to know that they do not.
var usesKit = regexp.MustCompile(`\buse\s+kit\b`)

// KitsFolder is the folder in the settings folder in which kits of one's own lie, each in a folder of its name.
const KitsFolder = "kits"

// folderOf is the folder in which settings are: the path itself, or that of a file.
func folderOf(path string) string {
	if info, err := os.Stat(path); err == nil && !info.IsDir() {
		return filepath.Dir(path)
	}
	return path
}

// isKit tells whether a folder is called as the kit in it.
func isKit(path, kit string) bool {
	abs, err := filepath.Abs(folderOf(path))
	return err == nil && filepath.Base(abs) == kit
}

// kitIn is the kit that one of the texts says they are; "" where none does.
func kitIn(texts []Text) string {
	for _, t := range texts {
		if !strings.Contains(t.Body, "kit") {
			continue
		}
		if n := lang.Parse(t.Name, []byte(t.Body)).KitName(); n != "" {
			return n
		}
	}
	return ""
}

// kitsOf are the texts of the kits that settings use. One in the settings' own folder goes before one that comes
// with the program. A kit that does not exist has none, and checking tells it.
func kitsOf(path string, texts []Text) ([]Text, error) {
	var out []Text
	var bad []error
	seen := map[string]bool{}
	for _, t := range texts {
		if t.Kit != "" || t.Table || !usesKit.MatchString(t.Body) {
			continue
		}
		for _, u := range lang.Parse(t.Name, []byte(t.Body)).Uses() {
			if seen[u.Kit] {
				continue
			}
			seen[u.Kit] = true
			list, err := Kit(path, u.Kit)
			if err != nil {
				bad = append(bad, err)
			}
			out = append(out, list...)
		}
	}
	return out, errors.Join(bad...)
}

// Kit are the texts of a kit: of the one in the settings at the path, "" for none, else of the one that comes
// with the program; none where there is neither.
func Kit(settings, name string) ([]Text, error) {
	if dir := filepath.Join(folderOf(settings), KitsFolder, name); settings != "" && isFolder(dir) {
		texts, err := readPath(dir)
		for i := range texts {
			texts[i].Kit = name
		}
		return texts, err
	}
	var out []Text
	for _, f := range kits.Files(name) {
		out = append(out, Text{Name: f.Name, Body: f.Body, Kit: name})
	}
	return out, nil
}

// Kits are the names of all kits that there are for the settings at the path.
func Kits(settings string) []string {
	out := kits.Names()
	dirs, _ := filepath.Glob(filepath.Join(EscapeGlob(folderOf(settings)), KitsFolder, "*"))
	for _, d := range dirs {
		if n := filepath.Base(d); settings != "" && isFolder(d) && !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	sort.Strings(out)
	return out
}

func isFolder(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
}

// LoadKit reads and checks a kit by itself, with the values that it has.
func LoadKit(settings, name string) (*lang.Settings, []Text, []lang.Diagnostic, error) {
	texts, err := Kit(settings, name)
	if err != nil {
		return nil, nil, nil, err
	}
	if len(texts) == 0 {
		return nil, nil, nil, fmt.Errorf("there is no kit %q; dimlantern kits lists those that there are", name)
	}
	s, ds := Check(texts)
	return s, texts, ds, nil
}

// Blocks are all blocks of settings as they are at work, with the kits that they use, and those that are not.
func Blocks(texts []Text) ([]lang.Placed, []lang.Aside) {
	return lang.Together(parse(texts), lang.Env{})
}

// Kitted are texts with those of the kits that they use and without those of others. Texts of kits that are there
// already stay as they are; others are read from the settings folder, or come with the program.
func Kitted(settings string, texts []Text) []Text {
	used := map[string]bool{}
	var order []string
	for _, t := range texts {
		if t.Kit != "" || t.Table || !usesKit.MatchString(t.Body) {
			continue
		}
		for _, u := range lang.Parse(t.Name, []byte(t.Body)).Uses() {
			if !used[u.Kit] {
				used[u.Kit] = true
				order = append(order, u.Kit)
			}
		}
	}
	if len(used) == 0 && !slices.ContainsFunc(texts, func(t Text) bool { return t.Kit == "" && !t.Table }) {
		return texts // a kit by itself
	}
	there := map[string]bool{}
	out := slices.DeleteFunc(slices.Clone(texts), func(t Text) bool {
		there[t.Kit] = there[t.Kit] || t.Kit != ""
		return t.Kit != "" && !used[t.Kit]
	})
	for _, kit := range order {
		if !there[kit] {
			more, _ := Kit(settings, kit) // what cannot be read is told when the folder is read
			out = append(out, more...)
		}
	}
	return out
}

// Held are texts in which kits that come with the program stand as they did before, where they were in use; and
// the names of those kits that would have changed. So a new binary changes nothing before somebody has seen what.
func Held(texts, before []Text) (held []Text, changed []string) {
	was := map[string][]Text{}
	for _, t := range before {
		if kits.Inside(t.Name) {
			was[t.Kit] = append(was[t.Kit], t)
		}
	}
	now := map[string][]Text{}
	for _, t := range texts {
		if kits.Inside(t.Name) {
			now[t.Kit] = append(now[t.Kit], t)
		}
	}
	put := map[string]bool{}
	for _, t := range texts {
		old := was[t.Kit]
		if !kits.Inside(t.Name) || old == nil || Same(old, now[t.Kit]) {
			held = append(held, t)
			continue
		}
		if !put[t.Kit] {
			put[t.Kit] = true
			held, changed = append(held, old...), append(changed, t.Kit)
		}
	}
	return held, changed
}
