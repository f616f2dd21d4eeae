//go:build !windows

package intake

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// `begin now` begins behind the last whole line, whatever the size of the file: of an odd
// one, in the middle of a long line, and where room was made behind what is written.
func TestBeginNowAnywhere(t *testing.T) {
	for _, c := range []struct{ name, there, more, want string }{
		{"an odd size over a block", strings.Repeat("x", 65_536) + "\nhalf", " line\nline b\n", "half line|line b"},
		{"an odd size under a block", strings.Repeat("line\n", 13_107), "line b\n", "line b"},
		{"a long line that is not finished", "line\nline " + strings.Repeat("y", 300_001), "z\nline b\n",
			"line " + strings.Repeat("y", 300_001) + "z|line b"},
		{"in a line that is longer than an entry may be", "line\n" + strings.Repeat("y", 3<<20), "line\nline b\n",
			"line b"},
		{"room that was made", "line\nline a\n" + strings.Repeat("\x00", 200_001), "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "a.log")
			write(t, path, c.there)
			r := newRig(t, path, "now")
			defer func() { r.f.Close() }()
			r.step(time.Second)
			require.Empty(t, r.sink.lines)
			if c.more != "" {
				(&fileModel{dir: filepath.Dir(path), name: "a.log"}).append(t, c.more)
			} else {
				f, err := os.OpenFile(path, os.O_WRONLY, 0)
				require.NoError(t, err)
				_, err = f.WriteAt([]byte("line b\n"), int64(len("line\nline a\n")))
				require.NoError(t, err)
				require.NoError(t, f.Close())
				c.want = "line b"
			}
			r.step(time.Second)
			assert.Equal(t, c.want, strings.Join(r.sink.lines, "|"))
		})
	}
}

// A hole hides nothing of what stands behind it, however large it is.
func TestHole(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.log")
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	_, err = f.WriteString("line 1\n")
	require.NoError(t, err)
	r := newRig(t, path, "oldest")
	defer func() { r.f.Close() }()
	r.step(time.Second)
	_, err = f.WriteString(strings.Repeat("line\n", 500_000))
	require.NoError(t, err)
	r.step(time.Second)
	for n := range 3 { // copied away and cut, under a writer that goes on at its place
		require.NoError(t, os.Truncate(path, 0))
		_, err = fmt.Fprintf(f, "line behind %d\n", n)
		require.NoError(t, err)
		r.step(time.Second)
		assert.Equal(t, fmt.Sprintf("line behind %d", n), r.sink.lines[len(r.sink.lines)-1])
	}
	assert.Len(t, r.sink.lines, 500_004)
	assert.Zero(t, r.origin().Behind())
}

// Copies that vanished while nobody looked hold nothing up: what is new is read at the second
// look, and what went with them is told.
func TestVanishedCopiesHoldNothingUp(t *testing.T) {
	dir := t.TempDir()
	m := &fileModel{dir: dir}
	m.lines(t, 1, "\n")
	r := newRig(t, m.path(), "oldest")
	defer func() { r.f.Close() }()
	r.step(0)
	for i := range 6 { // seen, and not read
		m.lines(t, 3, "\n")
		r.f.again = true
		r.f.Look(r.now)
		require.NoError(t, os.Rename(m.path(), fmt.Sprintf("%s.%d", m.path(), 9-i)))
	}
	m.lines(t, 1, "\n")
	r.f.again = true
	r.f.Look(r.now)
	r.commit()
	for i := range 6 {
		require.NoError(t, os.Remove(fmt.Sprintf("%s.%d", m.path(), 9-i)))
	}
	r.restart()
	r.step(0)
	r.step(0)
	last := m.written[len(m.written)-1]
	assert.Equal(t, last, r.sink.lines[len(r.sink.lines)-1])
	size := 0
	for _, l := range m.written[1 : len(m.written)-1] {
		size += len(l) + 1
	}
	r.step(time.Second)
	assert.EqualValues(t, size, r.origin().State(r.now).Gaps, "%v", r.told)
}

// Links that lead back are followed once, whatever their number.
func TestLinksThatLeadBack(t *testing.T) {
	top := t.TempDir()
	dir := filepath.Join(top, "deep", "a", "b")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	write(t, filepath.Join(dir, "x.log"), "line 1\n")
	require.NoError(t, os.Symlink("../..", filepath.Join(dir, "loop")))
	require.NoError(t, os.Symlink(filepath.Join(top, "deep"), filepath.Join(top, "deep", "self")))
	outside := t.TempDir()
	write(t, filepath.Join(outside, "y.log"), "line 2\n")
	require.NoError(t, os.Symlink(outside, filepath.Join(top, "elsewhere")))
	list, err := glob(filepath.Join(top, "**", "*.log"))
	require.NoError(t, err)
	assert.Equal(t, []string{filepath.Join(dir, "x.log"), filepath.Join(top, "elsewhere", "y.log")}, list)
	_, err = glob(filepath.Join(top, "**", "[x"))
	assert.Error(t, err)
}

// A file keeps its log whatever it is renamed to, and whoever compresses it then.
func TestRenamedToAnything(t *testing.T) {
	for _, name := range []string{"app.1.log", "app-2026-11-28.1.log", "app_2026-11-28_20.0.log", "app.log.bak",
		"old-app.log", "app-1795911182.log"} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			m := &fileModel{dir: dir, name: "app.log"}
			m.lines(t, 3, "\n")
			r := newRig(t, filepath.Join(dir, "*app*"), "oldest")
			defer func() { r.f.Close() }()
			r.step(time.Second)
			m.lines(t, 2, "\n")
			require.NoError(t, os.Rename(m.path(), filepath.Join(dir, name)))
			m.lines(t, 2, "\n")
			r.step(time.Second)
			r.restart()
			r.step(time.Minute)
			r.step(time.Minute)
			assert.Equal(t, m.written, r.sink.lines)
			assert.Len(t, r.f.Origins(), 1)
		})
	}
}
