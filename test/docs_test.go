package test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/layout"
	"dimlantern/demo"
)

// What the documents show as rules checks clean, and its expects pass.
func TestDocumentsAreTrue(t *testing.T) {
	fence := regexp.MustCompile("(?s)```\n(.*?)```")
	for doc, shows := range map[string]int{"../README.md": 1, "../docs/rules.md": 8, "../docs/layouts.md": 1} {
		b, err := os.ReadFile(doc)
		require.NoError(t, err)
		found := 0
		for _, m := range fence.FindAllStringSubmatch(string(b), -1) {
			text := m[1]
			if !strings.Contains(text, "rule ") || !strings.Contains(text, "expect ") {
				continue
			}
			if _, here, ok := strings.Cut(text, "<<'END'\n"); ok {
				text, _, _ = strings.Cut(here, "END\n")
			}
			found++
			path := filepath.Join(t.TempDir(), "doc.lantern")
			write(t, path, text)
			out, _, code := run(t, "check", path)
			assert.Equal(t, 0, code, "%s: %s", doc, out)
			out, _, code = run(t, "test", path)
			assert.Equal(t, 0, code, "%s: %s", doc, out)
			out, _, code = run(t, "fmt", "--check", path)
			assert.Equal(t, 0, code, "%s is not in the canonical form %s", doc, out)
		}
		assert.Equal(t, shows, found, doc)
	}
}

// The questions of the document check clean with Gullhaven's settings, and are answered.
func TestQuestionsOfTheDocument(t *testing.T) {
	f := newFolder(t)
	h, err := demo.New(demo.Options{Folder: f.dir, Seed: 7, Now: time.Now(), Copies: 50})
	require.NoError(t, err)
	require.NoError(t, h.Past())
	b, err := os.ReadFile("../docs/ledger.md")
	require.NoError(t, err)
	name := regexp.MustCompile(`(?m)^ask ([\w-]+) \{`)
	text := ""
	for _, m := range regexp.MustCompile("(?s)```\n(.*?)```").FindAllStringSubmatch(string(b), -1) {
		text += m[1] + "\n"
	}
	path := filepath.Join(h.Settings(), "document.lantern")
	write(t, path, text)
	out, _, code := run(t, "check", h.Settings())
	require.Zero(t, code, out)
	f.settings = h.Settings()
	f.start(t)
	asked := 0
	for _, m := range name.FindAllStringSubmatch(text, -1) {
		eventually(t, m[1]+" is answered", func() bool {
			out, errs, code := run(t, "ask", "--settings", h.Settings(), "--data", f.data, "--csv", m[1])
			return code == 0 && strings.Count(out, "\n") > 1 && !strings.Contains(errs, "left nothing")
		})
		asked++
	}
	assert.Equal(t, 7, asked)
}

// What the document about measures and deliveries shows checks clean with Gullhaven's settings, and what it
// says of measures is what is given out.
func TestOutDocument(t *testing.T) {
	f := newFolder(t)
	h, err := demo.New(demo.Options{Folder: f.dir, Seed: 7, Now: time.Now(), Copies: 50})
	require.NoError(t, err)
	require.NoError(t, h.Past())
	b, err := os.ReadFile("../docs/out.md")
	require.NoError(t, err)
	text, at := "", freePort(t)
	for _, m := range regexp.MustCompile("(?s)```\n(.*?)```").FindAllStringSubmatch(string(b), -1) {
		if strings.Contains(m[1], " {\n") {
			text += m[1] + "\n"
		}
	}
	for _, c := range []string{`listen "127.0.0.1:7424"`, "keep alerts 365d", "keep results 90d", "keep history 730d",
		"keep at most 2 GiB"} {
		require.Contains(t, text, c)
	}
	own, err := os.ReadFile(filepath.Join(h.Settings(), "outward.lantern"))
	require.NoError(t, err)
	own = regexp.MustCompile(`(?s)settings \{.*?\n\}\n|deliver archive \{.*?\n\}\n`).ReplaceAll(own, nil)
	write(t, filepath.Join(h.Settings(), "outward.lantern"), string(own))
	text = strings.NewReplacer("127.0.0.1:7424", at, `"/archive`, `"`+f.dir+"/archive", "  keep at most 2 GiB\n", "",
		"as json zstd\n", "as json zstd\n  begin oldest\n").
		Replace(text)
	write(t, filepath.Join(h.Settings(), "document.lantern"), text)
	out, _, code := run(t, "check", h.Settings())
	require.Zero(t, code, out)
	f.settings = h.Settings()
	f.start(t)
	eventually(t, "measures are given", func() bool { return strings.Contains(page(t, at), "# TYPE refusals counter") })
	given := page(t, at)
	names := regexp.MustCompile("`(dimlantern_[a-z0-9_]+)`").FindAllStringSubmatch(string(b), -1)
	require.Greater(t, len(names), 15)
	for _, n := range names {
		if n[1] != "dimlantern_measure_left_out_total" && n[1] != "dimlantern_" { // which is there where there is one
			assert.Contains(t, given, "\n"+n[1], n[1])
		}
	}
	eventually(t, "the archive is written", func() bool {
		files, err := filepath.Glob(f.dir + "/archive/*/pump-logs/*.log")
		return err == nil && len(files) > 0
	})
}

// The vocabulary of fields is the one that completion proposes.
func TestFieldsDocument(t *testing.T) {
	b, err := os.ReadFile("../docs/fields.md")
	require.NoError(t, err)
	for _, w := range layout.Words {
		assert.Contains(t, string(b), "| `"+w.Name+"` | "+w.Means+" |\n")
	}
	assert.Equal(t, len(layout.Words), strings.Count(string(b), "\n| `"))
}
