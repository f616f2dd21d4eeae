package workbench

import (
	"path/filepath"

	"dimlantern/core/author"

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
	return author.SourceText(p, name, author.OwnLayout(&lang.Settings{}, name), files, "now")
}
