package screens

import (
	"os"
	"path/filepath"
	"strings"

	"dimlantern/api"

	"github.com/charmbracelet/x/ansi"
)

// complete goes on with a path as far as the files that are there agree.
func complete(path string) string {
	dir, part := filepath.Split(path)
	if dir == "" || strings.ContainsAny(dir, "*?[{") {
		return path
	}
	list, err := os.ReadDir(dir)
	if err != nil {
		return path
	}
	common, n := "", 0
	folder := false
	for _, e := range list {
		name := e.Name()
		if !strings.HasPrefix(name, part) {
			continue
		}
		if n++; n == 1 {
			common, folder = name, e.IsDir()
			continue
		}
		for !strings.HasPrefix(name, common) {
			common = common[:len(common)-1]
		}
	}
	switch {
	case n == 0:
		return path
	case n == 1 && folder:
		common += "/"
	}
	return dir + common
}

func wrapText(s string, width int) string { return ansi.Wrap(s, max(width, 10), "") }

// chosenOrEmpty is the chosen row, or one with nothing in it.
func (m *Model) chosenOrEmpty() *api.Row {
	if x := m.room.Chosen(); x != nil {
		return x
	}
	return &api.Row{}
}
