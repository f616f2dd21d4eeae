package core

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// allowed says what of this module each part of it may import, besides what stands in its
// own folder: imports go one way. Where two parts need the same thing it sinks to the lower
// one. "core" stands for every package of the core but those that are named.
var allowed = map[string]string{
	"core/entry":     "",
	"core/origin":    "core/entry",
	"core/lang":      "core/entry core/steps",
	"core/steps":     "core/entry",
	"core/layout":    "core/entry core/lang core/steps",
	"core/verdict":   "core/entry core/lang",
	"core/match":     "core/entry core/lang core/steps core/layout core/verdict",
	"core/engine":    "core/entry core/lang core/verdict",
	"core/trial":     "core/entry core/lang core/layout core/match core/engine core/verdict",
	"core/author":    "core",
	"core/ask":       "core/entry core/lang core/match",
	"core/measure":   "core/entry core/lang",
	"intake":         "core",
	"store":          "core intake/spool",
	"folder":         "core intake/regular kits",
	"hosts":          "core folder hosts",
	"kits":           "core/lang",
	"api":            "core/entry core/origin core/lang core/layout",
	"draw":           "core api",
	"snapshot":       "core intake folder store api hosts",
	"export":         "core intake store api snapshot",
	"report":         "core store api snapshot query draw export notify/via",
	"query":          "core intake folder store api snapshot draw hosts",
	"workbench":      "core intake folder kits store api snapshot query hosts",
	"notify":         "core intake store api snapshot draw notify/via",
	"notify/via":     "core intake/regular",
	"service":        "core intake folder store api snapshot query workbench notify export report hosts",
	"screens":        "core api",
	"demo":           "core intake folder api hosts",
	"docs":           "",
	"cmd/dimlantern": everything,
	"test":           everything,
}

const everything = "core intake folder store api snapshot query workbench notify export report service " +
	"screens demo docs draw kits hosts"

// Imports go one way, and screens know the API and the core alone.
func TestImportsGoOneWay(t *testing.T) {
	files := 0
	require.NoError(t, filepath.WalkDir("..", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && strings.HasPrefix(d.Name(), ".") && d.Name() != ".." {
			if d != nil && d.IsDir() && err == nil {
				return fs.SkipDir
			}
			return err
		}
		if !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return nil
		}
		files++
		own := path.Dir(strings.TrimPrefix(filepath.ToSlash(name), "../"))
		part, may := partOf(own)
		if !assert.NotEmpty(t, part, "%s is of no part that is known here", own) {
			return nil
		}
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ImportsOnly)
		require.NoError(t, err)
		for _, i := range f.Imports {
			p, _ := strconv.Unquote(i.Path.Value)
			p, ours := strings.CutPrefix(p, "dimlantern/")
			if ours && p != part && !strings.HasPrefix(p, part+"/") {
				assert.True(t, within(p, may), "%s imports %s", name, p)
			}
		}
		return nil
	}))
	require.Greater(t, files, 150)
}

// partOf is the part to which a folder belongs, and what it may import.
func partOf(folder string) (part, may string) {
	for p := folder; p != "."; p = path.Dir(p) {
		if may, known := allowed[p]; known {
			return p, may
		}
	}
	return "", ""
}

func within(p, may string) bool {
	for _, m := range strings.Fields(may) {
		if p == m || strings.HasPrefix(p, m+"/") {
			return true
		}
	}
	return false
}
