package demo

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func past(t *testing.T, seed uint64) map[string]string {
	t.Helper()
	h, err := New(Options{Folder: t.TempDir(), Seed: seed, Now: time.Date(2026, 11, 24, 5, 32, 28, 0, time.UTC)})
	require.NoError(t, err)
	require.NoError(t, h.Past())
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(h.Logs(), func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		name, _ := filepath.Rel(h.Logs(), path)
		out[name] = string(b)
		return err
	}))
	return out
}

// The same seed and moment give the same logs, to the byte; another seed gives
// others.
func TestTheHarbourRepeatsItself(t *testing.T) {
	a, b, c := past(t, 7), past(t, 7), past(t, 8)
	assert.Equal(t, a, b)
	assert.NotEqual(t, a, c)
	assert.Contains(t, a, "pumps/pump-03.log")
	assert.Contains(t, a, "pumps/pump-03.log.1", "logs rotate")
}

// A log can be read as its settings say: nearly every line that the harbour writes fits the
// layout of its source, and every rule of the demo's settings is tested by an expect or built
// on what the harbour does.
func TestTheHarbourFitsItsSettings(t *testing.T) {
	h, err := New(Options{Folder: t.TempDir(), Seed: 7, Now: time.Date(2026, 11, 24, 5, 32, 28, 0, time.UTC)})
	require.NoError(t, err)
	require.NoError(t, h.Past())
	var files []*lang.File
	names, err := filepath.Glob(filepath.Join(h.Settings(), "*.lantern"))
	require.NoError(t, err)
	for _, n := range names {
		b, err := os.ReadFile(n)
		require.NoError(t, err)
		files = append(files, lang.Parse(n, b))
	}
	s, ds := lang.Check(files, lang.Env{Time: layout.CheckTime})
	require.False(t, lang.Errors(ds), "%v", ds)
	read := 0
	for _, src := range s.Sources {
		plan := match.NewPlan(s, src, nil, time.UTC)
		for _, pattern := range src.Files {
			logs, err := filepath.Glob(pattern)
			require.NoError(t, err)
			for _, l := range logs {
				b, err := os.ReadFile(l)
				require.NoError(t, err)
				n, fits := 0, 0
				d := &layout.Divider{Layout: plan.Layout}
				plan.All(b, func(line []byte) {
					if len(line) == 0 || d.See(line) {
						return
					}
					n++
					if x, _ := plan.Divide(d, line, 0); x.Fits {
						fits++
					}
				})
				read += n
				assert.GreaterOrEqual(t, 100*fits, 95*n, "%s: %d of %d lines fit", l, fits, n)
			}
		}
	}
	assert.Greater(t, read, 5000)
}
