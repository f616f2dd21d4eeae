//go:build unix

package program_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/core/lang"
	"dimlantern/intake/program"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// runs runs a shell script as a way in until stop is called.
func runs(t *testing.T, script string, e *lang.EntrySpec) (f *program.Feed, stop func()) {
	path := filepath.Join(t.TempDir(), "tide-gauge")
	require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\n"+script), 0o755))
	f = program.New([]string{path, "--basin", "north; echo not a shell"}, e)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { defer close(ended); f.Run(ctx) }()
	return f, func() { cancel(); <-ended }
}

// takes waits for so many entries.
func takes(t *testing.T, f *program.Feed, n int) (texts []string) {
	t.Helper()
	require.Eventually(t, func() bool {
		for _, m := range f.Take(100) {
			texts = append(texts, string(m.Text))
		}
		return len(texts) >= n
	}, 20*time.Second, 5*time.Millisecond)
	return texts
}

// What a program says comes line by line, or joined to entries; its arguments stay whole.
func TestWhatAProgramSays(t *testing.T) {
	f, stop := runs(t, "echo \"$2\"; echo '2026 low'; echo '  at the north basin'; echo '2026 fine'; exec sleep 1000",
		nil)
	assert.Equal(t, []string{"north; echo not a shell", "2026 low", "  at the north basin", "2026 fine"}, takes(t, f,
		4))
	assert.Empty(t, f.State().Words)
	assert.EqualValues(t, 4, f.State().Senders[0].Received)
	stop()

	s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte("source s {\n  command \"/x\"\n  entry starts "+
		"/^2026/\n}\n"))},
		lang.Env{})
	require.False(t, lang.Errors(ds), "%v", ds)
	f, stop = runs(t, "echo '2026 low'; echo '  at the north basin'; echo '2026 fine'; exec sleep 1000", s.Source(
		"s").Entry)
	defer stop()
	assert.Equal(t, []string{"2026 low\n  at the north basin", "2026 fine"}, takes(t, f, 2))
}

// A program that ends is started again, and it is said how it ended; one that cannot be
// started is said as well.
func TestAProgramThatEnds(t *testing.T) {
	f, stop := runs(t, "echo started\necho 'the gauge is broken' >&2\nexit 3", nil)
	assert.Equal(t, []string{"started", "started"}, takes(t, f, 2))
	require.Eventually(t, func() bool {
		return strings.Contains(f.State().Words, "it has ended with exit status 3: the gauge is broken; it is "+
			"started again")
	}, 20*time.Second, 5*time.Millisecond)
	assert.Contains(t, f.Told()[0], "tide-gauge: it has ended with exit status 3")
	assert.Contains(t, f.State().Mend, "tide-gauge --basin")
	stop()

	f = program.New([]string{"/nowhere/tide-gauge"}, nil)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go f.Run(ctx)
	require.Eventually(t, func() bool { return strings.Contains(f.State().Words, "cannot be started: no such file") },
		20*time.Second, 5*time.Millisecond)
}

// What a program has started ends with it.
func TestAProgramEndsWhole(t *testing.T) {
	mark := filepath.Join(t.TempDir(), "alive")
	f, stop := runs(t, "(while :; do date > "+mark+"; sleep 0.02; done) &\necho here\nwait", nil)
	takes(t, f, 1)
	stop()
	require.NoError(t, os.RemoveAll(mark))
	require.Never(t, func() bool { _, err := os.Stat(mark); return err == nil }, 300*time.Millisecond,
		20*time.Millisecond)
}
