package intake

import (
	"os"
	"path/filepath"
	"sort"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// mostWalked bounds how many files and folders a tree may have that is looked through.
const mostWalked = 1_000_000

// glob lists the paths that fit a pattern, in their order. In a tree each folder is looked
// into once, whatever links lead to it: by its own path, else by that of the first link.
func glob(pattern string) ([]string, error) {
	if !strings.Contains(pattern, "**") {
		list, err := doublestar.FilepathGlob(pattern)
		sort.Strings(list)
		return list, err
	}
	if !doublestar.ValidatePathPattern(pattern) {
		return nil, doublestar.ErrBadPattern
	}
	base, _ := doublestar.SplitPattern(pattern)
	w := walk{pattern: pattern, seen: map[Identity]bool{}}
	roots := []string{base}
	if strings.ContainsAny(base, "*?[{") {
		roots, _ = doublestar.FilepathGlob(base)
	}
	for _, root := range roots {
		if info, err := os.Stat(root); err == nil && info.IsDir() {
			w.folder(root, info)
		}
	}
	for len(w.links) > 0 { // behind all folders that are there themselves
		path := w.links[0]
		w.links = w.links[1:]
		if info, err := os.Stat(path); err == nil {
			w.folder(path, info)
		}
	}
	sort.Strings(w.found)
	return w.found, nil
}

// walk is the state of a look through a tree.
type walk struct {
	pattern string
	seen    map[Identity]bool // folders
	links   []string          // to folders
	found   []string
	n       int
}

func (w *walk) folder(dir string, info os.FileInfo) {
	if id := identity(dir, info); w.seen[id] {
		return
	} else {
		w.seen[id] = true
	}
	list, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	for _, e := range list {
		if w.n++; w.n > mostWalked {
			return
		}
		path := filepath.Join(dir, e.Name())
		switch info, err := e.Info(); {
		case err != nil:
		case info.IsDir():
			w.folder(path, info)
		case info.Mode()&os.ModeSymlink != 0:
			to, err := os.Stat(path)
			switch {
			case err != nil:
			case to.IsDir():
				w.links = append(w.links, path)
			default:
				w.fits(path)
			}
		default:
			w.fits(path)
		}
	}
}

func (w *walk) fits(path string) {
	if ok, _ := doublestar.PathMatch(w.pattern, path); ok {
		w.found = append(w.found, path)
	}
}
