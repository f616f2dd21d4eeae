package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The guide's steps do what it says, one after the other, in one shell: what stands in each block of text
// comes out of the commands before it.
func TestGuide(t *testing.T) {
	guide, err := os.ReadFile("../docs/guide.md")
	require.NoError(t, err)
	const mark = "=== the next step ==="
	script := "set -eumo pipefail\n"
	var want [][]string // of each step
	for i, part := range strings.Split(string(guide), "```") {
		kind, body, _ := strings.Cut(part, "\n")
		switch {
		case i%2 == 0:
		case kind == "sh":
			script += body + "echo '" + mark + "'\n"
			want = append(want, nil)
		case kind == "text":
			require.NotEmpty(t, want)
			want[len(want)-1] = strings.Split(strings.TrimSpace(body), "\n")
		}
	}
	require.Greater(t, len(want), 6)
	dir := t.TempDir()
	bash := exec.Command("bash", "-c", script)
	bash.Dir = dir
	bash.Env = append(os.Environ(), "PATH="+filepath.Dir(binary)+":"+os.Getenv("PATH"), "HOME="+dir, "TZ=UTC")
	bash.WaitDelay = 5 * time.Second
	stop := time.AfterFunc(3*patience, func() { bash.Process.Kill() })
	defer stop.Stop()
	out, err := bash.CombinedOutput()
	require.NoError(t, err, "%s", out)
	steps := strings.Split(string(out), mark)
	for i, lines := range want {
		for _, l := range lines {
			assert.Contains(t, steps[i], strings.TrimSpace(l), "step %d", i+1)
		}
	}
}
