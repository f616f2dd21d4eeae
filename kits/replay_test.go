package kits_test

import (
	"compress/gzip"
	"flag"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
	"dimlantern/core/trial"
	"dimlantern/folder"
	"dimlantern/kits"
)

var update = flag.Bool("update", false, "write what kits raise into testdata/faults.txt")

// kept are the logs that the programs themselves wrote while they were tried (test/programs), of a stage: what is
// ordinary, and then what was broken as well. They come in series: a log, and before it its rotated copies.
func kept(t *testing.T, kit, stage string) map[string][]string {
	t.Helper()
	out := map[string][]string{}
	root := filepath.Join("testdata", kit, stage)
	filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return nil
		}
		rel, err := filepath.Rel(root, strings.TrimSuffix(path, ".gz"))
		require.NoError(t, err)
		series := strings.TrimRight(strings.TrimRight(rel, "0123456789"), ".")
		out[series] = append(out[series], path)
		return nil
	})
	for _, list := range out {
		slices.SortFunc(list, func(a, b string) int { return strings.Compare(b, a) }) // .1 before the newest
	}
	return out
}

// judged are the alerts that a kit would have raised on logs, as RULE SEVERITY, and how many entries there were.
// Each log is read as every source of the kit whose files have its name.
func judged(t *testing.T, kit string, logs map[string][]string) (alerts []string, entries int64) {
	t.Helper()
	s, _, _, err := folder.LoadKit("", kit)
	require.NoError(t, err)
	var inputs []*trial.Input
	for series, paths := range logs {
		for _, src := range s.Sources {
			if src != reader(s, series) {
				continue
			}
			in := &trial.Input{Source: src, Path: "/var/log/" + series, Host: "host-a",
				Near: entry.Of(time.Date(2026, 11, 29, 22, 0, 0, 0, time.UTC))}
			for _, p := range paths {
				f, err := os.Open(p)
				require.NoError(t, err)
				defer f.Close()
				z, err := gzip.NewReader(f)
				require.NoError(t, err)
				in.Files = append(in.Files, io.Reader(z))
			}
			inputs = append(inputs, in)
		}
	}
	require.NotEmpty(t, inputs, "%s: no source reads %v", kit, logs)
	slices.SortFunc(inputs, func(a, b *trial.Input) int { return strings.Compare(a.Path, b.Path) })
	seen := map[string]bool{}
	sum, err := trial.Replay(s, inputs, trial.Options{Zone: time.UTC, Emit: func(t *engine.Transition) {
		if t.Change == engine.Raised || t.Change == engine.Worsened || t.Change == engine.Reopened {
			seen[t.Rule+" "+t.Severity.String()] = true
		}
	}})
	require.NoError(t, err)
	for a := range seen {
		alerts = append(alerts, a)
	}
	slices.Sort(alerts)
	return alerts, sum.Entries
}

// reader is the source of a kit that a log is of: the one whose files are named most exactly as it.
func reader(s *lang.Settings, series string) (best *lang.Source) {
	longest := 0
	for _, src := range s.Sources {
		for _, glob := range src.Files {
			if n := len(filepath.Base(glob)); named(glob, series) && n > longest {
				best, longest = src, n
			}
		}
	}
	return best
}

// named tells whether the last part of a glob fits the name of a log.
func named(glob, series string) bool {
	for _, g := range braces(filepath.Base(glob)) {
		if ok, _ := filepath.Match(g, filepath.Base(series)); ok {
			return true
		}
	}
	return false
}

// braces are the globs for which one with {a,b} stands.
func braces(glob string) []string {
	before, rest, ok := strings.Cut(glob, "{")
	if !ok {
		return []string{glob}
	}
	within, after, _ := strings.Cut(rest, "}")
	var out []string
	for _, w := range strings.Split(within, ",") {
		out = append(out, before+w+after)
	}
	return out
}

// On what the programs wrote on an ordinary day, with restarts, reloads and rotations, no rule of their kit raises
// anything; on what they wrote when they were broken, exactly the rules that are about it do.
func TestKitsOnWhatProgramsWrote(t *testing.T) {
	broken, err := os.ReadFile("testdata/faults.txt")
	require.NoError(t, err)
	want := map[string][]string{}
	for line := range strings.Lines(string(broken)) {
		kit, alert, ok := strings.Cut(strings.TrimSpace(line), ": ")
		if ok && !strings.HasPrefix(line, "#") {
			want[kit] = append(want[kit], alert)
		}
	}
	tried := 0
	var now strings.Builder
	now.WriteString("# What the kits raise on what their programs wrote when they were broken: KIT: RULE " +
		"SEVERITY.\n" +
		"# go test ./kits -update writes it; look at what differs.\n")
	for _, kit := range kits.Names() {
		logs := kept(t, kit, "ordinary")
		if len(logs) == 0 {
			continue
		}
		t.Run(kit, func(t *testing.T) {
			alerts, entries := judged(t, kit, logs)
			assert.Empty(t, alerts, "on an ordinary day")
			assert.Positive(t, entries)
			alerts, more := judged(t, kit, kept(t, kit, "faults"))
			for _, a := range alerts {
				now.WriteString(kit + ": " + a + "\n")
			}
			if !*update {
				assert.Equal(t, want[kit], alerts)
			}
			assert.Greater(t, more, entries)
		})
		tried++
	}
	if *update {
		require.NoError(t, os.WriteFile("testdata/faults.txt", []byte(now.String()), 0o644))
	}
	require.GreaterOrEqual(t, tried, 15, "of the programs that are tried")
}

// What a program wrote is understood by the layout of its kit, but for heads and lines of a few words in between.
func TestKitsUnderstandWhatProgramsWrote(t *testing.T) {
	for _, kit := range kits.Names() {
		for series, paths := range kept(t, kit, "faults") {
			s, _, _, err := folder.LoadKit("", kit)
			require.NoError(t, err)
			for _, src := range s.Sources {
				if src != reader(s, series) {
					continue
				}
				misfits, of := misfitsIn(t, s, src, paths)
				assert.LessOrEqual(t, misfits*10, of, "%s: %s of %s", kit, series, src.Name)
			}
		}
	}
}

// misfitsIn counts the entries of logs that the layout of a source does not fit.
func misfitsIn(t *testing.T, s *lang.Settings, src *lang.Source, paths []string) (misfits, of int) {
	t.Helper()
	plan := match.NewPlan(s, src, nil, time.UTC)
	d := &layout.Divider{Layout: plan.Layout}
	near := entry.Of(time.Date(2026, 11, 29, 22, 0, 0, 0, time.UTC))
	for _, p := range paths {
		f, err := os.Open(p)
		require.NoError(t, err)
		defer f.Close()
		z, err := gzip.NewReader(f)
		require.NoError(t, err)
		b, err := io.ReadAll(z)
		require.NoError(t, err, p)
		plan.Entries(b, func(line []byte) {
			if len(strings.TrimSpace(string(line))) == 0 || d.See(line) {
				return
			}
			of++
			if x := d.Divide(line, near); !x.Fits {
				misfits++
			}
		})
	}
	return misfits, of
}
