package trial

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What follows the problem of a key, and seldom comes otherwise, is proposed to end it;
// what follows each single hit, comes all the time, or speaks of another key, is not.
func TestProposeRecovery(t *testing.T) {
	s := check(t, `source app {
  files  "/app.log"
  layout app
}
layout app {
  pattern /^(?<at>\S+) (?<host>\S+) (?<text>.*)$/
  time    at rfc3339
}
rule low {
  on      app
  problem /pump (?<pump>\d+) low/
  per     host, pump
  raise   warning at 3 in 10m
  clear   after 1h quiet
}
`)
	var b strings.Builder
	at := time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC)
	say := func(after time.Duration, format string, a ...any) {
		at = at.Add(after)
		fmt.Fprintf(&b, "%s %s\n", at.Format(time.RFC3339), fmt.Sprintf(format, a...))
	}
	for i := range 20 {
		host, pump := fmt.Sprintf("h%d", i%2), 5+i%3
		for range 3 {
			say(time.Minute, "%s pump %d low", host, pump)
			say(time.Second, "%s pump %d tried again", host, pump) // follows each hit
			say(time.Second, "%s clock set", host)                 // speaks of no pump
			say(time.Second, "h9 pump %d fine", pump)              // of another host
		}
		if i != 7 {
			say(5*time.Minute, "%s pump %d fine, at %d bar", host, pump, i)
		}
		say(30*time.Minute, "%s all is well", host)
	}
	list, err := ProposeRecovery(s, s.Rule("low"),
		[]*Said{{Input: Input{Source: s.Source("app"), Path: "/app.log", Host: "h", Data: []byte(b.String())}}},
		Options{})
	require.NoError(t, err)
	require.NotEmpty(t, list)
	assert.Contains(t, list[0].Text, "fine, at")
	assert.Equal(t, []int{19, 0}, []int{list[0].Ended, list[0].Idle})
	assert.Equal(t, 7*time.Minute+9*time.Second, list[0].Median)
	for _, x := range list {
		assert.NotContains(t, x.Text, "clock")
		assert.NotContains(t, x.Text, "well")
	}
}
