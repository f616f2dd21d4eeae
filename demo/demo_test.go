package demo

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

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
