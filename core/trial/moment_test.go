package trial

import (
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/entry"
)

const pumpSaid = `2026-11-24T10:01:10Z pump-03 pump 7: pressure low
2026-11-24T10:04:12Z pump-03 pump 7: pressure low
2026-11-24T10:05:00Z pump-03 pump 8: pressure low
2026-11-24T10:07:20Z pump-03 pump 7: pressure low
2026-11-24T10:08:20Z pump-03 pump 7: pressure low
2026-11-24T10:09:20Z pump-03 pump 7: pressure ok
`

const pumpRule = `layout pump {
  pattern /^(?<time>\S+) (?<host>\S+) (?<text>.*)$/
  time time rfc3339
}
source pumps {
  files "/var/log/pump.log"
  layout pump
}
rule low {
  on pumps
  problem /pump (?<pump>\d+): pressure low/
  recovery /pump (?<pump>\d+): pressure ok/
  per host, pump
  raise warning at 3 in 5m
  raise error when count >= 5 in 10m
  clear on recovery
  clear after 30m quiet
}
`

// What was missing at an instant is told in words: how many there were, and which ones
// the window had lost when.
func TestWhyAt(t *testing.T) {
	s := check(t, pumpRule)
	for _, c := range []struct {
		at, pump string
		want     []string
	}{
		{"10:06:30", "7", []string{"no alert is open", "1 of 3 hits in 5m: 10:04:12; the window lost 10:01:10 at " +
			"10:06:10", "count is 2"}},
		{"10:08:20", "7", []string{"warning, open since 10:08:20", "yes  raise warning: 3 hits in 5m",
			"3 of 3 hits in 5m: 10:04:12, 10:07:20, 10:08:20", "due at 10:38:20"}},
		{"10:06:10", "7", []string{"the window lost 10:01:10 at 10:06:10"}},
		{"10:06:09", "7", []string{"2 of 3 hits in 5m: 10:01:10, 10:04:12\n"}},
		{"10:09:20", "7", []string{"cleared   recovery"}},
		{"10:09:20", "8", []string{"1 of 3 hits in 5m: 10:05:00"}},
		{"10:09:20", "9", []string{"no entry up to then was anything for it", "pump-03 7, pump-03 8"}},
	} {
		when, err := time.Parse(time.RFC3339, "2026-11-24T"+c.at+"Z")
		require.NoError(t, err)
		at := entry.Of(when)
		in := &Input{Source: s.Sources[0], Path: "/var/log/pump.log", Host: "h",
			Files: []io.Reader{strings.NewReader(pumpSaid)}}
		clock := func(t entry.Instant) string { return t.Time().Format("15:04:05") }
		m, err := WhyAt(s, MomentQuery{Rule: s.Rules[0], Key: []string{"", c.pump}, At: at, Clock: clock},
			[]*Input{in}, Options{})
		require.NoError(t, err)
		for _, w := range c.want {
			assert.Contains(t, m.Text(clock), w, c.at)
		}
	}
}
