package workbench

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"dimlantern/core/author"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/intake"
)

// Format is how the entries of some files divide.
type Format struct {
	Proposals []layout.Proposal // the best first, plain last
	Files     []string          // that are written so, as they were given
	lines     []string          // of the first of them
	near      entry.Instant
}

// mostSampled is how many files are looked at to find their formats. Further ones count to the
// format that most of them have.
const mostSampled = 60

// FormatsOf looks at the starts and the ends of files, and puts those together that are
// written in one form; the form that most files have comes first. Files with nothing in them
// count to it. It fails where a file cannot be read.
func FormatsOf(files []string) ([]*Format, error) { return new(looks).formatsOf(files) }

// looks remembers what was found in files, so that they need not be looked at again with each
// letter of a path. The zero value remembers nothing.
type looks struct {
	mu   sync.Mutex
	list map[look]*Format
}

// look is a file as it was when it was looked at.
type look struct {
	path string
	size int64
	mod  time.Time
}

// mostLooks is how many are remembered.
const mostLooks = 400

// at looks at a file; nil where nothing is in it.
func (k *looks) at(file string) (*Format, error) {
	var key look
	if info, err := os.Stat(file); err == nil {
		key = look{file, info.Size(), info.ModTime()}
		k.mu.Lock()
		f := k.list[key]
		k.mu.Unlock()
		if f != nil {
			return f, nil
		}
	}
	lines, near, err := intake.Ends(file)
	if err != nil || !slices.ContainsFunc(lines, func(l string) bool { return strings.TrimSpace(l) != "" }) {
		return nil, err
	}
	f := &Format{Proposals: layout.Detect(lines, near), lines: lines, near: near}
	if key.path != "" {
		k.mu.Lock()
		if k.list == nil || len(k.list) >= mostLooks {
			k.list = map[look]*Format{}
		}
		k.list[key] = f
		k.mu.Unlock()
	}
	return f, nil
}

func (k *looks) formatsOf(files []string) ([]*Format, error) {
	var out []*Format
	var rest []string
	for i, file := range files {
		if i >= mostSampled {
			rest = append(rest, file)
			continue
		}
		found, err := k.at(file)
		if err != nil {
			return nil, err
		}
		if found == nil {
			rest = append(rest, file)
			continue
		}
		if f := formatFor(out, &found.Proposals[0], found.lines, found.near); f != nil {
			f.Files = append(f.Files, file)
			continue
		}
		own := *found
		own.Files = []string{file}
		out = append(out, &own)
	}
	slices.SortStableFunc(out, func(a, b *Format) int { return len(b.Files) - len(a.Files) })
	if len(out) == 0 {
		out = []*Format{{Proposals: layout.Detect(nil, entry.Of(time.Now()))}}
	}
	out[0].Files = append(out[0].Files, rest...)
	return out, nil
}

// formatFor is the format of those that were found which lines are written in, for which a
// proposal was made: it fits them, and gives the same fields; nil where they are in none.
func formatFor(found []*Format, own *layout.Proposal, lines []string, near entry.Instant) *Format {
	l, _ := own.Layout()
	for _, f := range found {
		p := &f.Proposals[0]
		other, ok := p.Layout()
		switch {
		case !ok || (p.Name == "plain") != (own.Name == "plain") || (p.Starts == "") != (own.Starts == ""):
			continue
		case own.Name == "plain":
			return f
		case !slices.Equal(sorted(l.Fields()), sorted(other.Fields())):
			continue
		}
		fit := layout.FitOf(layout.Compile(other, time.UTC, nil), layout.EntriesOf(lines, p.Starts), near)
		if 20*fit.Fits >= 19*own.Fits && 10*fit.Timed >= 9*own.Timed {
			return f
		}
	}
	return nil
}

func sorted(names []string) []string { return slices.Sorted(slices.Values(names)) }

// Text is what a settings file says of a format: a source with the name, for files that are
// quoted, and its layout where that is not built in.
func (f *Format) Text(name, own string, files []string, begin string) string {
	return author.SourceText(&f.Proposals[0], name, own, files, begin)
}

// filesOf writes which files the sources of several formats have, that were found by one
// pattern: the first one all but those of the others, unless most are of others.
func filesOf(formats []*Format, i int, glob string) []string {
	if i > 0 {
		var out []string
		for _, f := range formats[i].Files {
			out = append(out, lang.Quote(f))
		}
		return out
	}
	if len(formats) == 1 {
		return []string{lang.Quote(glob)}
	}
	var own, others []string
	for _, f := range formats[0].Files {
		own = append(own, lang.Quote(f))
	}
	for _, f := range formats[1:] {
		for _, path := range f.Files {
			if intake.Copies(path) > 0 { // which the glob fits as well
				path += "*"
			}
			others = append(others, lang.Quote(path))
		}
	}
	if len(others) > len(own) {
		return own
	}
	return []string{lang.Quote(glob) + " except " + strings.Join(others, ", ")}
}

// Formats says of which formats files are, in words; "" where there is one.
func Formats(formats []*Format) string {
	if len(formats) < 2 {
		return ""
	}
	n := 0
	for _, f := range formats {
		n += len(f.Files)
	}
	return fmt.Sprintf("%d files in %d formats: each gets a source of its own", n, len(formats))
}
