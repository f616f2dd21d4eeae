package test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the documents show as a settings file checks clean, and its expects pass.
func TestDocumentsAreTrue(t *testing.T) {
	fence := regexp.MustCompile("(?s)```\n(.*?)```")
	for doc, shows := range map[string]int{"../README.md": 1, "../docs/rules.md": 2} {
		b, err := os.ReadFile(doc)
		require.NoError(t, err)
		found := 0
		for _, m := range fence.FindAllStringSubmatch(string(b), -1) {
			text := m[1]
			if !strings.Contains(text, "rule ") || !strings.Contains(text, "source ") {
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
