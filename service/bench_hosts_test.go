package service

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/s2"
	"github.com/stretchr/testify/require"

	"dimlantern/api"
	"dimlantern/hosts"
)

// What is for hosts is tried on what their logs have said: a rule at the centre as one machine that read all of them, a
// rule of hosts on those of each by themselves. What is masked stays on the hosts, and a host that is away is named.
func TestTriedOnHosts(t *testing.T) {
	centre := newMachine(t, "mast", "")
	var globs []string
	pumps := []*machine{newMachine(t, "pump-1", ""), newMachine(t, "pump-2", "")}
	at := time.Now().Add(-30 * time.Minute).UTC().Truncate(time.Second)
	for i, p := range pumps {
		p.write("settings/own.lantern", fmt.Sprintf("settings { centre may read %q }\n", p.dir+"/**"))
		globs = append(globs, fmt.Sprintf("%q", p.dir+"/app.log"))
		for n := range 3 {
			p.log("%s pin 47%d11 pump 7 low\n", at.Add(time.Duration(2*n+i)*time.Minute).Format(time.RFC3339), i)
		}
	}
	settings := fmt.Sprintf(`settings { centre listen "127.0.0.1:0" }
group pumps { hosts "pump-*" }
source app {
  files  %s
  begin  oldest
  layout line
  for    pumps
}
layout line {
  pattern /^(?<at>\S+) (?<text>.*)$/
  time    at rfc3339
  mask    /pin \d+/
}
`, strings.Join(globs, ", "))
	centre.write("settings/own.lantern", settings)
	centre.takesIn(pumps...)
	centre.until("all run it", func() bool {
		return len(centre.host("pump-1").State.Origins) > 0 && len(centre.host("pump-2").State.Origins) > 0
	})
	span := time.Hour
	try := func(clauses string) *api.BenchView {
		rule := "rule typed {\n  on app\n  problem /pump (?<pump>\\d+) low/\n  per pump\n" + clauses + "}\n"
		now := time.Now()
		v, err := centre.s.bench.Bench(context.Background(), api.BenchQuery{File: "typed.lantern", Body: rule, Line: 1,
			Span: span, Column: time.Minute, Columns: 60, From: centre.s.window.Now().Began - 3600e9})
		require.NoError(t, err)
		require.Zero(t, v.Errors, v.Findings)
		require.NotNil(t, v.Tried)
		require.Less(t, time.Since(now), 8*time.Second)
		return v
	}
	v := try("  raise error at 4 in 10m\n  clear after 30m quiet\n  at centre\n")
	require.EqualValues(t, []int64{6, 6, 1}, []int64{v.Tried.Entries, v.Tried.Hits, v.Tried.Raised})
	require.Equal(t, []string{"7"}, v.Rows[0].Key)
	require.Empty(t, v.Notes)
	v = try("  raise error at 3 in 10m\n  clear after 30m quiet\n  for pumps\n")
	require.EqualValues(t, []int64{6, 6, 2}, []int64{v.Tried.Entries, v.Tried.Hits, v.Tried.Raised})
	require.Equal(t, [][]string{{"7", "pump-1"}, {"7", "pump-2"}}, [][]string{v.Rows[0].Key, v.Rows[1].Key})
	require.Len(t, v.Kinds, 1)

	b, err := pumps[0].s.bench.ForHost(context.Background(), []byte(`{"sample":1000,"on":["app"],"from":0}`))
	require.NoError(t, err)
	var sent hosts.SampleAnswer
	require.NoError(t, json.Unmarshal(b, &sent))
	text, err := s2.Decode(nil, sent.Logs[0].Text)
	require.NoError(t, err)
	require.Equal(t, 3, strings.Count(string(text), "pump 7 low"))
	require.NotContains(t, string(text), "47011")
	_, err = pumps[0].s.bench.ForHost(context.Background(), []byte(`{"sample":1000,"on":["own"],"from":0}`))
	require.ErrorContains(t, err, "it has none of the sources own")

	pumps[1].stop()
	v = try("  raise error at 2 in 10m\n  clear after 20m quiet\n  for pumps\n")
	require.EqualValues(t, 2, v.Tried.Raised, "the sample is as it was read a moment ago")
	span = 2 * time.Hour
	v = try("  raise error at 2 in 10m\n  clear after 20m quiet\n  for pumps\n")
	require.EqualValues(t, 1, v.Tried.Raised)
	require.Contains(t, strings.Join(v.Notes, "\n"), "Tried without the logs of pump-2: it cannot be reached.")
}
