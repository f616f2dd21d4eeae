package workbench

import (
	"fmt"
	"path/filepath"
	"strings"

	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

// SourceName makes a source's name of a file's.
func SourceName(path string) string { return sourceName(path, nil) }

// Proposed writes a proposal as a settings file has it: the source, and the layout
// where it is not built in.
func Proposed(p *layout.Proposal, name string, paths []string) string {
	var files []string
	for _, path := range paths {
		if path == "-" {
			continue
		}
		if abs, err := filepath.Abs(path); err == nil {
			path = abs
		}
		files = append(files, lang.Quote(path))
	}
	return proposed(p, name, ownLayout(&lang.Settings{}, name), files, "now")
}

// ownLayout is a layout's name that no other layout has, and none that is built in.
func ownLayout(settings *lang.Settings, name string) string {
	own := name
	for n := 2; own == "plain" || settings.Layout(own) != nil; n++ {
		own = fmt.Sprintf("%s-%d", name, n)
	}
	return own
}

// proposed writes it for files that are quoted; with none the source is standard
// input.
func proposed(p *layout.Proposal, name, own string, files []string, begin string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "source %s {\n", name)
	if files == nil {
		b.WriteString("input\n")
	} else {
		fmt.Fprintf(&b, "files %s\nbegin %s\n", strings.Join(files, ", "), begin)
	}
	if p.Starts != "" {
		fmt.Fprintf(&b, "entry starts %s\n", (&lang.Pattern{Source: p.Starts}).String())
	}
	if p.Name != "" {
		fmt.Fprintf(&b, "layout %s\n}\n", p.Name)
	} else {
		fmt.Fprintf(&b, "layout %s\n}\n\nlayout %s {\n%s\n}\n", own, own, strings.Join(p.Clauses, "\n"))
	}
	return lang.Parse("", []byte(b.String())).Format()
}
