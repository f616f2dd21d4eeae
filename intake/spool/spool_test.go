package spool

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/entry"
	"dimlantern/core/match"
)

const capacity = 1 << 30

func nothing(string) bool { return false }

var quay = Origin{"boxes", "lock-3", "192.0.2.7"}

func keep(t *testing.T, k *Spool, now time.Time, texts ...string) string {
	t.Helper()
	var es []Entry
	for _, s := range texts {
		es = append(es, Entry{entry.Of(now), "192.0.2.7:514", []byte(s)})
	}
	path, err := k.Write(quay, es, now)
	require.NoError(t, err)
	return path
}

// Entries are kept one a line, a segment an hour, and what a crash left half is
// taken away; the compressed ones are read by everybody's tools.
func TestKept(t *testing.T) {
	dir := t.TempDir()
	k := Open(dir)
	now := time.Date(2026, 11, 24, 5, 33, 10, 114_208_000, time.UTC)
	first := keep(t, k, now, "one", "two\nwith a second line")
	assert.Equal(t, first, keep(t, k, now.Add(time.Second), "three"))
	o, ok := k.OriginOf(first)
	require.True(t, ok)
	assert.Equal(t, quay, o)
	require.NoError(t, k.Close())
	b, err := os.ReadFile(first)
	require.NoError(t, err)
	assert.Equal(t, "2026-11-24T05:33:10.114208Z 192.0.2.7:514 one\n2026-11-24T05:33:10.114208Z 192.0.2.7:514 "+
		"two\vwith a second line\n2026-11-24T05:33:11.114208Z 192.0.2.7:514 three\n", string(b))
	require.NoError(t, os.WriteFile(first, append(b, "2026-11-24T05:33:12"...), 0o600))
	k = Open(dir)
	assert.Equal(t, first, keep(t, k, now.Add(2*time.Second), "four"), "a segment is gone on with")
	last, ok := k.Last(quay)
	require.True(t, ok)
	assert.Equal(t, "four", string(last.Text))
	second := keep(t, k, now.Add(time.Hour), "five")
	assert.NotEqual(t, first, second)
	later := time.Now().Add(10 * time.Minute)
	_, err = k.Tidy(nil, capacity, nothing, later)
	require.NoError(t, err)
	assert.NoFileExists(t, first)
	out, err := exec.Command("zstdcat", first+".zst").Output()
	if err == nil { // where zstd is installed
		assert.Equal(t, 4, strings.Count(string(out), "\n"))
	}
	last, _ = k.Last(quay)
	assert.Equal(t, "five", string(last.Text))
	arrived, peer, text, ok := match.CutKept([]byte(strings.Split(string(b), "\n")[1]))
	require.True(t, ok)
	assert.Equal(t, entry.Of(now), arrived)
	assert.Equal(t, "192.0.2.7:514", string(peer))
	assert.Equal(t, "two\nwith a second line", string(match.Unkept(text)))
}

// The oldest segments go first where there is no room, and those that are older
// than their source keeps them.
func TestKeptRoom(t *testing.T) {
	k := Open(t.TempDir())
	start := time.Now().Add(-5 * time.Hour).Truncate(time.Hour).UTC()
	var paths []string
	for h := range 4 {
		at := start.Add(time.Duration(h) * time.Hour)
		for i := range 200 {
			p := keep(t, k, at, fmt.Sprintf("entry %d of %d: %x", i, h, time.Now().UnixNano()))
			if i == 0 {
				paths = append(paths, p)
			}
		}
		require.NoError(t, k.Close())
		require.NoError(t, os.Chtimes(paths[h], at, at))
	}
	info, err := os.Stat(paths[0])
	require.NoError(t, err)
	over, err := k.Tidy(nil, 3*info.Size()+10, nothing, time.Now())
	require.NoError(t, err)
	assert.Equal(t, info.Size(), over)
	assert.NoFileExists(t, paths[0])
	list, _ := filepath.Glob(filepath.Dir(paths[0]) + "/*.zst")
	assert.Len(t, list, 3)
	_, err = k.Tidy(map[string]Retention{"boxes": {For: 3 * time.Hour}}, capacity, nothing, time.Now())
	require.NoError(t, err)
	list, _ = filepath.Glob(filepath.Dir(paths[0]) + "/*")
	assert.Less(t, len(list), 3)
}

// Where nothing can be written, nothing is there by half, and it goes on afterwards.
func TestKeptDiskFull(t *testing.T) {
	dir := t.TempDir()
	k := Open(dir)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "kept"), nil, 0o600)) // a file in the way
	_, err := k.Write(quay, []Entry{{Text: []byte("x")}}, time.Now())
	require.Error(t, err)
	assert.Error(t, k.Failed())
	require.NoError(t, os.Remove(filepath.Join(dir, "kept")))
	keep(t, k, time.Now(), "y")
	assert.NoError(t, k.Failed())
}

// However much is written while it is tidied, everything that was kept and did not have
// to go is there, once and in its order, compressed or not; and what is there stays
// within the capacity, but for what is being written.
func TestTidyBesideWriting(t *testing.T) {
	dir := t.TempDir()
	k := Open(dir)
	o := Origin{"boxes", "lock-3", "192.0.2.7"}
	const n = 3000
	done := make(chan struct{})
	go func() {
		defer close(done)
		for i := range n {
			_, err := k.Write(o, []Entry{{entry.Of(time.Now()), "-", []byte(fmt.Sprintf("entry %d", i))}}, time.Now())
			assert.NoError(t, err)
		}
	}()
	for tidying := true; tidying; {
		select {
		case <-done:
			tidying = false
		default:
		}
		k.CloseAll()
		_, err := k.Tidy(nil, capacity, nothing, time.Now().Add(3*time.Minute)) // everything counts as settled
		require.NoError(t, err)
	}
	require.NoError(t, k.Close())
	seen := 0
	for _, path := range Segments(k.Folder(o)) {
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		if strings.HasSuffix(path, ".zst") {
			z, err := zstd.NewReader(nil)
			require.NoError(t, err)
			b, err = z.DecodeAll(b, nil)
			require.NoError(t, err)
		}
		for _, line := range strings.Split(strings.TrimSuffix(string(b), "\n"), "\n") {
			require.True(t, strings.HasSuffix(line, fmt.Sprintf(" entry %d", seen)), "%s is not entry %d", line, seen)
			seen++
		}
	}
	assert.Equal(t, n, seen)
}

// What all origins write takes no more than the capacity, also within an hour.
func TestCapacityWithinAnHour(t *testing.T) {
	k := Open(t.TempDir())
	defer k.Close()
	now := time.Date(2026, 11, 24, 5, 10, 0, 0, time.UTC)
	const most = 4 << 20
	over := int64(0)
	for i := range 200 {
		now = now.Add(time.Second)
		for h := range 8 {
			o := Origin{"boxes", fmt.Sprint("host-", h), "192.0.2.7"}
			_, err := k.Write(o, []Entry{{entry.Of(now), "-", bytes.Repeat([]byte{'x'}, 10_000)}}, now)
			require.NoError(t, err)
		}
		if i%10 == 9 {
			n, err := k.Tidy(nil, most, nothing, now)
			require.NoError(t, err)
			over += n
		}
	}
	total := int64(0)
	for h := range 8 {
		for _, path := range Segments(k.Folder(Origin{"boxes", fmt.Sprint("host-", h), "192.0.2.7"})) {
			info, err := os.Stat(path)
			require.NoError(t, err)
			total += info.Size()
		}
	}
	assert.LessOrEqual(t, total, int64(most))
	assert.Greater(t, total, int64(most/2), "no more goes than has to")
	assert.Positive(t, over)
}

// FuzzSegment: whatever a crash left in a segment, it is gone on with behind its last
// whole line, and nothing breaks.
func FuzzSegment(f *testing.F) {
	f.Add([]byte("2026-11-24T05:33:10.114208Z 192.0.2.7:514 one\n2026-11-24T05:33:1"))
	f.Add([]byte("\x00\x00\n\x00"))
	f.Add([]byte(""))
	f.Fuzz(func(t *testing.T, left []byte) {
		dir := t.TempDir()
		now := time.Date(2026, 11, 24, 5, 40, 0, 0, time.UTC)
		o := Origin{"boxes", "lock-3", "192.0.2.7"}
		k := Open(dir)
		defer k.Close()
		path := filepath.Join(k.Folder(o), Base+"-2026-11-24T053300.log")
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, left, 0o600))
		written, err := k.Write(o, []Entry{{entry.Of(now), "-", []byte("new")}}, now)
		require.NoError(t, err)
		require.Equal(t, path, written)
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		whole := left[:bytes.LastIndexByte(left, '\n')+1]
		require.Equal(t, string(whole)+"2026-11-24T05:40:00.000000Z - new\n", string(b))
		last, ok := k.Last(o)
		require.True(t, ok)
		require.Equal(t, "new", string(last.Text))
		x := k.Index()
		require.Len(t, x.Changed, 1)
		require.EqualValues(t, bytes.Count(b, []byte("\n")), x.Changed[0].Entries)
		require.Nil(t, k.Index())
	})
}
