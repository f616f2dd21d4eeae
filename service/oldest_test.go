package service

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/store"
)

// A source that begins again from its oldest entry comes to what it would have come to, had it been
// read from there: what is open stays the same alert, what began and ended in the past stands where
// it was and is told nobody, the tide has every entry once; and a restart changes nothing of it.
func TestBeginsAgainFromTheOldest(t *testing.T) {
	logs := t.TempDir()
	path := filepath.Join(logs, "pump.log")
	const text = `layout pump {
  pattern /^(?<at>\S+) (?<text>.*)$/
  time at rfc3339
}
source pumps {
  files %q
  layout pump
}
rule low {
  problem /pump (?<pump>\d+) low/
  recovery /pump (?<pump>\d+) fine/
  per pump
  raise warning at 2 in 1h
}
`
	began := time.Now().UTC().Truncate(time.Second).Add(-3 * time.Hour)
	at := began
	write := func(path string, lines ...string) {
		f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		require.NoError(t, err)
		for _, l := range lines {
			at = at.Add(5 * time.Minute)
			fmt.Fprintln(f, at.Format(time.RFC3339), l)
		}
		require.NoError(t, f.Close())
	}
	write(path+".1", "pump 1 low", "pump 1 low", "pump 1 fine", "pump 2 low")
	require.NoError(t, os.Chtimes(path+".1", at, at))
	write(path, "pump 2 low", "pump 3 low", "idle")
	settings := fmt.Sprintf(text, logs+"/*.log")
	s, data, stop := running(t, settings, nil)
	ctx := context.Background()
	entries := func(n int64) {
		t.Helper()
		require.Eventually(t, func() bool {
			flows, err := s.store.Flows(0, store.BucketOf(entry.Of(time.Now()))+10)
			require.NoError(t, err)
			sum := int64(0)
			for _, list := range flows {
				for _, x := range list {
					sum += x.N
				}
			}
			return sum == n
		}, 10*time.Second, 5*time.Millisecond)
	}
	require.Eventually(t, func() bool {
		v, err := s.query.Sources(ctx, api.ViewQuery{Column: time.Minute, Columns: 10})
		require.NoError(t, err)
		return len(v.Sources[0].Origins) == 1
	}, 10*time.Second, 5*time.Millisecond)
	write(path, "pump 3 low", "pump 4 low", "pump 4 low")
	entries(3)
	open := func() map[string]string {
		v, err := s.query.View(ctx, api.ViewQuery{Column: time.Minute, Columns: 10})
		require.NoError(t, err)
		out := map[string]string{}
		for _, a := range v.Open {
			out[a.Key[0]] = a.Alert
		}
		return out
	}
	require.Eventually(t, func() bool { return len(open()) == 1 }, 10*time.Second, 5*time.Millisecond)
	before := open()

	q := api.PutQuery{Again: "pumps"}
	p, err := s.bench.Put(ctx, q)
	require.NoError(t, err)
	assert.Empty(t, p.Refused)
	said := fmt.Sprint(p.Lines)
	for _, want := range []string{"of 2 files", "low counts anew", "5 hits", "1 alert that began and ended", "low 2"} {
		assert.Contains(t, said, want)
	}
	assert.Equal(t, before, open(), "nothing is done before it is to be")
	q.Do = true
	p, err = s.bench.Put(ctx, q)
	require.NoError(t, err)
	assert.Contains(t, p.Done, "1 alert began and ended in it")
	check := func() {
		t.Helper()
		entries(10)
		now := open()
		assert.Equal(t, []string{"2", "3", "4"}, slices.Sorted(maps.Keys(now)))
		assert.Equal(t, before["4"], now["4"])
		list, err := s.store.Alerts(0, entry.Of(time.Now()))
		require.NoError(t, err)
		var past []string
		for _, a := range list {
			if a.Key[0] != "1" {
				continue
			}
			changes, err := s.store.Changes(a.Alert)
			require.NoError(t, err)
			for _, x := range changes {
				past = append(past, fmt.Sprint(x.At.Time().Sub(began), x.Change, x.Untold))
			}
		}
		assert.Equal(t, []string{"10m0sraised" + string(engine.CatchingUp), "15m0scleared" + string(engine.CatchingUp)},
			past)
		marks, err := s.store.Marks(0, store.BucketOf(entry.Of(time.Now())))
		require.NoError(t, err)
		hits := 0
		for _, m := range marks {
			hits += m.N
		}
		assert.Equal(t, 8, hits)
		p, err := s.bench.Put(ctx, api.PutQuery{Again: "pumps"})
		require.NoError(t, err)
		assert.Contains(t, p.Refused, "its oldest entry has been read")
	}
	check()
	write(path, "pump 2 fine")
	require.Eventually(t, func() bool { return len(open()) == 2 }, 10*time.Second, 5*time.Millisecond)
	write(path, "pump 2 low", "pump 2 low")
	entries(13)
	stop()
	s, err = Open(Options{Settings: filepath.Join(filepath.Dir(data), "settings"), Data: data})
	require.NoError(t, err)
	ended := make(chan error, 1)
	run, end := context.WithCancel(ctx)
	go func() { ended <- s.Run(run) }()
	entries(13)
	assert.Equal(t, []string{"2", "3", "4"}, slices.Sorted(maps.Keys(open())))
	end()
	require.NoError(t, <-ended)
}
