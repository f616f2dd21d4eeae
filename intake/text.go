package intake

import (
	"github.com/bmatcuk/doublestar/v4"

	"dimlantern/core/lang"
)

// Fits tells whether a path is one of the source's files.
func Fits(s *lang.Source, path string) bool {
	for _, x := range s.Except {
		if ok, _ := doublestar.Match(x, path); ok {
			return false
		}
	}
	for _, g := range s.Files {
		if ok, _ := doublestar.Match(g, path); ok {
			return true
		}
	}
	return false
}
