package service

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/store"
)

// However late its layout reads the times of a log, the tide, its bytes and the kept evidence stand
// where they would, had it been read so from the first entry on: across rotated members, with what
// comes while it is counted, and after a crash in the midst of it.
func TestTimesReadLateMoveEverything(t *testing.T) {
	logs := t.TempDir()
	path := filepath.Join(logs, "pump.log")
	const layout = "layout pump {\n pattern /^(?<at>\\S+) (?<text>.*)$/\n time at rfc3339\n}\n"
	source := fmt.Sprintf("source pumps {\n files %q\n begin oldest\n", logs+"/*.log")
	const rule = "}\nrule low {\n problem /low (?<n>\\d+)/\n per n\n raise error\n clear by hand\n}\n"
	settings := func(with bool) string {
		if with {
			return layout + source + " layout pump\n" + rule
		}
		return source + rule
	}
	at := time.Now().Add(-5 * time.Hour).UTC()
	n := 0
	write := func(path string, lines int) {
		f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		require.NoError(t, err)
		for range lines {
			at = at.Add(97 * time.Second)
			fmt.Fprintf(f, "%s low %d\n  of the second pump\n", at.Format(time.RFC3339), n%3)
			n++
		}
		require.NoError(t, f.Close())
	}
	write(path+".1", 40)
	require.NoError(t, os.Chtimes(path+".1", at, at))
	write(path, 30)
	late := store.BucketOf(entry.Of(at)) + 1
	type counted struct {
		tide map[int64][2]int64
		hits map[string]bool
	}
	of := func(s *Service) counted {
		out := counted{map[int64][2]int64{}, map[string]bool{}}
		flows, err := s.store.Flows(0, store.BucketOf(entry.Of(time.Now()))+100)
		require.NoError(t, err)
		for _, ticks := range flows {
			for _, x := range ticks {
				b := min(x.Bucket, late) // what comes late lies where the log had been
				y := out.tide[b]
				out.tide[b] = [2]int64{y[0] + x.N, y[1] + x.Bytes}
			}
		}
		for k := range 3 {
			key := s.store.KeyID("low", []string{fmt.Sprint(k)})
			list, err := s.store.HitsOf(key, entry.Of(time.Now().Add(time.Hour)), 1000)
			require.NoError(t, err)
			for _, h := range list {
				out.hits[fmt.Sprint(h.At, h.Text)] = true
			}
		}
		return out
	}
	read := func(s *Service) func() bool {
		return func() bool {
			v, err := s.query.Sources(context.Background(), api.ViewQuery{Column: time.Minute, Columns: 10})
			require.NoError(t, err)
			return len(v.Sources[0].Origins) == 1 && v.Sources[0].Origins[0].Entries == int64(2*n)
		}
	}
	s, data, stop := running(t, settings(false), nil)
	require.Eventually(t, read(s), 10*time.Second, 5*time.Millisecond)
	plain := of(s)
	file := filepath.Join(filepath.Dir(data), "settings", "s.lantern")
	require.NoError(t, os.WriteFile(file, []byte(settings(true)), 0o644))
	_, err := s.takeUpNow(context.Background(), store.Action{By: "mira"}, "")
	require.NoError(t, err)
	write(path, 5)
	require.Eventually(t, read(s), 10*time.Second, 5*time.Millisecond)

	fresh, _, _ := running(t, settings(true), nil)
	require.Eventually(t, read(fresh), 10*time.Second, 5*time.Millisecond)
	var want counted
	require.Eventually(t, func() bool { want = of(fresh); return len(want.hits) == n }, 10*time.Second,
		5*time.Millisecond)
	assert.NotEqual(t, plain.tide, want.tide)
	same := func(s *Service) {
		t.Helper()
		if !assert.Eventually(t, func() bool { return assert.ObjectsAreEqual(want, of(s)) }, 10*time.Second,
			10*time.Millisecond) {
			got := of(s)
			t.Fatal(len(want.tide), len(got.tide), len(want.hits), len(got.hits))
		}
	}
	same(s)
	// Cut off before it was counted: it goes on after the next start.
	stop()
	gone := store.BucketOf(entry.Of(time.Now().AddDate(0, 0, -2)))
	db, err := store.Open(data)
	require.NoError(t, err)
	require.NoError(t, db.Commit(&store.Batch{Meta: map[string][]byte{metaRecount: []byte(`["pumps"]`)},
		Retold: []store.Retold{{Origin: s.house.Host + ":" + path, Ticks: []store.Tick{{Bucket: gone, N: 7}}}}}))
	require.NoError(t, db.Close())
	s, err = Open(Options{Settings: filepath.Dir(file), Data: data})
	require.NoError(t, err)
	ended := make(chan error, 1)
	run, end := context.WithCancel(context.Background())
	go func() { ended <- s.Run(run) }()
	want.tide[gone] = [2]int64{7, 0} // from before what can be read: it stays
	same(s)
	end()
	require.NoError(t, <-ended)
}
