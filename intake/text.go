package intake

import (
	"path/filepath"
	"slices"

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
			return Inside(s, path)
		}
	}
	return false
}

// Inside tells whether a path lies, by its name and in truth, where the source's files have to lie.
func Inside(s *lang.Source, path string) bool {
	if s.Within == nil {
		return true
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		real = path
	}
	for _, p := range []string{path, real} {
		if !slices.ContainsFunc(s.Within, func(g string) bool { ok, _ := doublestar.Match(g, p); return ok }) {
			return false
		}
	}
	return true
}
