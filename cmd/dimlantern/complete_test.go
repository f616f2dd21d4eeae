package main

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every command has a page of the manual, with its examples and nothing of the machine that wrote it; and
// shells complete the names that the settings have.
func TestManAndCompletions(t *testing.T) {
	run := func(args ...string) string {
		root := newRoot()
		var out bytes.Buffer
		root.SetOut(&out)
		root.SetErr(&out)
		root.SetArgs(args)
		require.NoError(t, root.Execute(), "%v: %s", args, &out)
		return out.String()
	}
	dir := filepath.Join(t.TempDir(), "man1")
	run("man", dir)
	home, err := os.UserHomeDir()
	require.NoError(t, err)
	for _, c := range newRoot().Commands() {
		page, err := os.ReadFile(filepath.Join(dir, "dimlantern-"+c.Name()+".1"))
		if c.Hidden {
			continue
		}
		require.NoError(t, err)
		assert.Contains(t, string(page), strings.ReplaceAll(c.Short, "-", "-")[:10])
		assert.NotContains(t, string(page), home+"/", c.Name())
		if c.Example != "" {
			assert.Contains(t, string(page), "EXAMPLE", c.Name())
		}
	}
	assert.Regexp(t, `^dimlantern \S+.*\(go`, run("--version"))

	settings := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(settings, "a.lantern"), []byte(`source pumps { files "/x" }
contact duty { command "/bin/true" }
rule pump-low {
  problem "low"
  raise warning
  clear by hand
}
rule gate-held {
  problem "held"
  raise warning
  clear by hand
}
`), 0o644))
	assert.Contains(t, run("__complete", "tell", "--settings", settings, "--if", "pu"), "pump-low\n")
	assert.NotContains(t, run("__complete", "tell", "--settings", settings, "--if", "pu"), "gate-held")
	assert.Contains(t, run("__complete", "tell", "--settings", settings, "--test", ""), "duty\tcommand")
	assert.Contains(t, run("__complete", "why", "--rules", settings, "--rule", ""), "gate-held")
	assert.Contains(t, run("__complete", "tell", "--severity", ""), "critical")
	for _, shell := range []string{"bash", "zsh", "fish"} {
		assert.Contains(t, run("completion", shell), "dimlantern")
	}
}
