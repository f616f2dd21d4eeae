package test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/demo"
)

// The harbour's whole past, read by a service that is killed again and again on the way,
// gives the transitions that a replay of its files gives: all rules of all kinds.
func TestGullhavenLiveEqualsReplay(t *testing.T) {
	f := newFolder(t)
	seed := uint64(time.Now().UnixNano())
	past, times := 3*time.Hour, 6
	if d, err := time.ParseDuration(os.Getenv("DIMLANTERN_PAST")); err == nil {
		past, times = d, 40
		defer func(was time.Duration) { patience = was }(patience)
		patience = 10 * time.Minute
	}
	h, err := demo.New(demo.Options{Folder: f.dir, Seed: seed, Now: time.Now(), Pace: 1, Past: past, Copies: 1000})
	require.NoError(t, err)
	require.NoError(t, h.Past())
	f.settings = h.Settings()
	var files []string
	require.NoError(t, filepath.WalkDir(h.Logs(), func(path string, d fs.DirEntry, err error) error {
		// Of some nothing is read that was there.
		if err == nil && !d.IsDir() && !strings.Contains(path, "buoys") && !strings.Contains(path, "locks") {
			files = append(files, path)
		}
		return err
	}))
	out, errs, code := run(t, append([]string{"replay", "--rules", f.settings, "--json"}, files...)...)
	require.Zero(t, code, errs)
	var want []string
	latest := ""
	for s := bufio.NewScanner(strings.NewReader(out)); s.Scan(); {
		want = append(want, told(t, s.Text(), &latest))
	}
	require.Greater(t, len(want), 10)

	r := rand.New(rand.NewPCG(seed, 4))
	kills := 0
	for range times {
		s := f.start(t)
		time.Sleep(time.Duration(20+r.IntN(250)) * time.Millisecond) // the instant is the point
		require.NoError(t, s.cmd.Process.Kill())
		s.cmd.Wait()
		kills++
	}
	f.start(t)
	var got []string
	eventually(t, "the past is read", func() bool {
		got = nil
		out, _, code := run(t, "history", "--data", f.data, "--json")
		for s := bufio.NewScanner(strings.NewReader(out)); s.Scan(); {
			var none string
			if line := told(t, s.Text(), &none); none <= latest { // what timers did since is not in the files
				got = append(got, line)
			}
		}
		return code == 0 && len(got) >= len(want)
	})
	assert.Equal(t, want, got, "seed %d, %d kills", seed, kills)
}

// told is a transition without what differs when nobody is told, or the files rotated
// meanwhile; its instant is noted where it is later.
func told(t *testing.T, line string, latest *string) string {
	t.Helper()
	var m map[string]any
	require.NoError(t, json.Unmarshal([]byte(line), &m))
	*latest = max(*latest, fmt.Sprint(m["at"]))
	delete(m, "untold")
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	var b strings.Builder
	for _, k := range keys {
		v, _ := json.Marshal(m[k])
		fmt.Fprintf(&b, "%s=%s ", k, v)
	}
	return b.String()
}
