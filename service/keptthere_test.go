package service

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dimlantern/hosts"
	"dimlantern/intake/spool"
	"dimlantern/query"
)

// Entries of a source with `keep at centre` are kept there too, each once, masked; what is kept stands for a host
// that does not answer, or is no more, and is called as the host is called.
func TestKeptAtCentre(t *testing.T) {
	centre, pump := newMachine(t, "mast", ""), newMachine(t, "pump-1", "")
	pump.write("settings/own.lantern", fmt.Sprintf("settings { centre may read %q }\n", pump.dir+"/**"))
	at := time.Now().Add(-time.Hour).UTC().Truncate(time.Second)
	line := func(n int) string {
		return fmt.Sprintf("%s pin 47%d took %d ms\n", at.Add(time.Duration(n)*time.Second).Format(time.RFC3339), n, n)
	}
	for n := range 300 {
		pump.log("%s", line(n))
	}
	centre.write("settings/own.lantern", fmt.Sprintf(`settings { centre listen "127.0.0.1:0" }
group pumps { hosts "pump-*", "well-*" }
source app {
  files  %q
  begin  oldest
  layout line
  for    pumps
  keep at centre 30d
}
layout line {
  pattern /^(?<at>\S+) (?<who>.+) took (?<ms>\d+) ms$/
  time    at rfc3339
  type    ms integer
  mask    /pin \d+/
}
`, pump.dir+"/app.log"))
	centre.takesIn(pump)
	kept := func() (lines []string) {
		for _, o := range centre.s.ways.kept.Origins("app") {
			for _, p := range spool.Segments(centre.s.ways.kept.Folder(o)) {
				b, err := os.ReadFile(p)
				require.NoError(t, err)
				lines = append(lines, strings.Split(strings.TrimSpace(string(b)), "\n")...)
			}
		}
		return lines
	}
	centre.until("all is kept", func() bool { return len(kept()) == 300 })
	pump.stop()
	require.NoError(t, os.RemoveAll(filepath.Join(pump.data(), "kept"))) // not even that is needed
	for n := 300; n < 500; n++ {
		pump.log("%s", line(n))
	}
	pump.log("%s\n%s\n%s\n", strings.Repeat("\x01", 1<<20), strings.Repeat("\xff", 1<<20), strings.Repeat("x", 3<<20))
	pump.start()
	centre.until("what came meanwhile is kept", func() bool { return len(kept()) >= 503 })
	seen, odd := map[string]bool{}, 0
	for _, l := range kept() {
		if !strings.Contains(l, " took ") {
			odd++
			continue
		}
		_, ms, _ := strings.Cut(l, " took ")
		require.False(t, seen[ms], l)
		seen[ms] = true
		require.NotContains(t, l, "pin 47")
	}
	require.Len(t, seen, 500)
	require.Equal(t, 3, odd, "lines that are too long, and bytes that are no text, hold nothing up")

	answer := func() (string, string) {
		v := centre.answered("on app show count, sum(ms) per reporter over 1d")
		var rows []string
		for _, g := range v.Groups {
			rows = append(rows, fmt.Sprint(g.Key, g.Values[0].Value, " ", g.Values[1].Value))
		}
		return strings.Join(rows, "; "), strings.Join(v.Rests, "; ")
	}
	centre.until("it runs that", func() bool { return centre.host("pump-1").State.Runs.Number == 1 })
	rows, rests := answer()
	require.Equal(t, "[pump-1]503 124,750", rows, rests)
	require.NotContains(t, rests, "kept here")
	pump.stop()
	rows, rests = answer()
	require.Equal(t, "[pump-1]503 124,750", rows, rests)
	require.Contains(t, rests, "of pump-1 what is kept here")
	require.NoError(t, centre.s.Rename(context.Background(), "pump-1", "well-1"))
	rows, _ = answer()
	require.Equal(t, "[well-1]503 124,750", rows)
	require.NoError(t, centre.s.Forget(context.Background(), "well-1"))
	centre.until("it is gone", func() bool { return len(centre.s.window.Now().Hosts.List) == 0 })
	rows, rests = answer()
	require.Equal(t, "[well-1]503 124,750", rows, rests)

	id := strings.TrimPrefix(strings.Fields(centre.s.ways.kept.Origins("app")[0].Way)[1], query.KeptFrom)
	for _, bad := range []hosts.KeptEntry{{ID: "x"}, {ID: "a b-1"}} {
		err := centre.s.centre.KeepEntries(id, "well-1", &hosts.KeptEntries{Source: "app",
			Entries: []hosts.KeptEntry{bad}})
		require.ErrorContains(t, err, "is none")
	}
	err := centre.s.centre.KeepEntries(id, "well-1", &hosts.KeptEntries{Source: "other"})
	require.ErrorContains(t, err, "keep nothing of the source other")
}
