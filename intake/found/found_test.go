package found

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/lang"
)

// machine is a made-up machine: files by their paths; "PROC" ones are processes, by their programs.
func machine(t *testing.T, files map[string]string, programs ...string) string {
	t.Helper()
	root := t.TempDir()
	write := func(path, text string) {
		path = filepath.Join(root, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	for path, text := range files {
		write(path, text)
	}
	for i, p := range programs {
		dir := fmt.Sprintf("/proc/%d", 100+i)
		write(dir+"/cmdline", p+"\x00--flag\x00")
		require.NoError(t, os.Symlink(p, filepath.Join(root, dir, "exe")))
	}
	return root
}

func kit(t *testing.T, text string) Kit {
	t.Helper()
	f := lang.Parse("k", []byte(text))
	s, ds := lang.Check([]*lang.File{lang.ParseKit(f.KitName(), "k", []byte(text))}, lang.Env{ErrorsOnly: true})
	require.Empty(t, ds)
	return Kit{s.Kits[0], s}
}

const tideKit = `kit tide {
  note "tides"
  needs program "tided" or files "{logs}/tide.log"
  given logs "/var/log/tide"
}
source tide-log { files "{logs}/*.log" }
source journal { channel journal }
rule tide-high {
  on      tide-log, journal
  problem "high"
  per     host
  raise   error
  clear   after 1h quiet
}
`

// What a kit needs is found as a program that runs, as one that is installed, or as a log that somebody writes.
// Without a journal here the kit's source for it is left out.
func TestFits(t *testing.T) {
	for name, x := range map[string]struct {
		root      string
		fits, run bool
		why       string
	}{
		"it runs":         {machine(t, nil, "/usr/sbin/tided"), true, true, "tided runs"},
		"it is installed": {machine(t, map[string]string{"/usr/sbin/tided": "x"}), true, false, "tided is installed"},
		"it has written": {machine(t, map[string]string{"/var/log/tide/tide.log": "high\n"}), true, true,
			"/var/log/tide/tide.log is there"},
		"an empty log": {machine(t, map[string]string{"/var/log/tide/tide.log": ""}), true, false,
			"/var/log/tide/tide.log is there"},
		"nothing of it": {machine(t, map[string]string{"/var/log/other.log": "x\n"}, "/usr/bin/other"), false,
			false, ""},
	} {
		m := Look(context.Background(), Options{Root: x.root, Kits: []Kit{kit(t, tideKit)}, NoJournal: true,
			Channels: t.TempDir()})
		if !x.fits {
			require.Empty(t, m.Fits, name)
			require.Equal(t, `program "tided" or files "/var/log/tide/tide.log"`, m.Missing(kit(t, tideKit).Kit))
			continue
		}
		require.Len(t, m.Fits, 1, name)
		assert.Equal(t, x.why, m.Fits[0].Why, name)
		assert.Equal(t, x.run, m.Fits[0].Runs, name)
		assert.Equal(t, "use kit tide but not journal", m.Fits[0].Clause(), name)
	}
}

// Logs are what somebody writes: no copies, nothing packed, nothing of which links lead away, and no files for
// machines. How fast one grows is told by when its last copy was made.
func TestLogs(t *testing.T) {
	root := machine(t, map[string]string{"/var/log/tide/tide.log": "0123456789", "/var/log/tide/tide.log.1": "old",
		"/var/log/tide/tide.log.2.gz": "old", "/var/log/wtmp": "x", "/var/log/journal/x/system.journal": "x",
		"/var/log/empty.log": "", "/outside/secret.log": "x", "/var/log/old.log": "x"})
	require.NoError(t, os.Symlink(root+"/outside", root+"/var/log/link"))
	require.NoError(t, os.Symlink(root+"/outside/secret.log", root+"/var/log/secret.log"))
	now := time.Now()
	require.NoError(t, os.Chtimes(root+"/var/log/tide/tide.log.1", now, now.Add(-12*time.Hour)))
	require.NoError(t, os.Chtimes(root+"/var/log/old.log", now, now.Add(-30*24*time.Hour)))
	m := Look(context.Background(), Options{Root: root, Kits: []Kit{kit(t, tideKit)}, NoJournal: true,
		Channels: t.TempDir()})
	require.Len(t, m.Logs, 1, "%v", m.Logs)
	require.Equal(t, "/var/log/tide/tide.log", m.Logs[0].Path)
	require.Equal(t, "tide", m.Logs[0].Kit)
	require.InDelta(t, 20, m.Logs[0].Daily, 2)
}

// On a machine with very many files it is quick, and what it had no time for is told.
func TestManyFiles(t *testing.T) {
	if testing.Short() {
		t.Skip("the time that it takes is the point")
	}
	root := t.TempDir()
	for d := range 200 {
		dir := fmt.Sprintf("%s/var/log/app%d", root, d)
		require.NoError(t, os.MkdirAll(dir, 0o755))
		for f := range 500 {
			require.NoError(t, os.WriteFile(fmt.Sprintf("%s/x%d.log", dir, f), []byte("x\n"), 0o644))
		}
	}
	walk := func() time.Duration { // the least that it takes to see all of them
		began := time.Now()
		n := 0
		require.NoError(t, filepath.WalkDir(root, func(_ string, d fs.DirEntry, _ error) error {
			if n++; d.Type().IsRegular() {
				_, err := d.Info()
				return err
			}
			return nil
		}))
		require.Greater(t, n, 100_000)
		return time.Since(began)
	}
	before := walk()
	began := time.Now()
	m := Look(context.Background(), Options{Root: root, Kits: []Kit{kit(t, tideKit)}, NoJournal: true,
		Channels: t.TempDir()})
	took := time.Since(began)
	least := max(before, walk())
	t.Logf("100,000 files in %s, to walk over them takes %s", took, least)
	require.Less(t, took, 12*least)
	require.Len(t, m.Logs, mostLogs)
	require.Empty(t, m.Cut)

	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	m = Look(ctx, Options{Root: root, NoJournal: true, Channels: t.TempDir()})
	require.NotEmpty(t, m.Cut)
}

// This very program is found among those that run, and a log that it has open elsewhere among the logs.
func TestOpenElsewhere(t *testing.T) {
	if _, err := os.Stat("/proc/self/exe"); err != nil {
		t.Skip("a system without /proc")
	}
	dir, err := os.MkdirTemp("/var/tmp", "found-")
	if err != nil {
		t.Skip(err)
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "harbour.log")
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	require.NoError(t, err)
	defer f.Close()
	f.WriteString("the tide rises\n")
	m := Look(context.Background(), Options{NoJournal: true, Channels: t.TempDir()})
	self, _ := os.Executable()
	i := slices.IndexFunc(m.Programs, func(p Program) bool { return p.Name == filepath.Base(self) })
	require.GreaterOrEqual(t, i, 0)
	require.Contains(t, m.Programs[i].Logs, path)
	require.True(t, slices.ContainsFunc(m.Logs, func(l Log) bool { return l.Path == path }))
}
