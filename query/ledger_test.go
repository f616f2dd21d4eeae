package query

import (
	"testing"
	"time"

	"dimlantern/core/ask"
	"dimlantern/core/entry"
	"dimlantern/folder"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const lockRules = `
source locks { files "/var/log/locks/book.log"
  layout passage }
layout passage {
  logfmt
  time time rfc3339
  type took duration
  type keel decimal }
rule passages-slow {
  on      locks
  problem result == "passed"
  per     gate
  raise   notice when p95(took) > 150s in 1h
}
rule passages-refused {
  on      locks
  problem result == "refused"
  per     gate
  raise   warning when count > 8 in 1h
}
rule passages-shallow {
  on      locks
  problem result == "passed" and gate == "gate-c1"
  raise   notice when min(keel) < 0.25 in 30m
}
`

// The thresholds beside an answer are those of the rules that look at the same number of the same entries
// over the same time, in the answer's units.
func TestThresholdsOfRules(t *testing.T) {
	for text, want := range map[string]string{
		`on locks where result == "passed" show p95(took) per gate every 1h over 9h`:                   "raises > 150s",
		`on locks where result == "refused" show max(keel), count per gate every 1h over 9h`:           "raises > 8",
		`on locks where result == "passed" and gate == "gate-c1" show min(keel) every 30m over 9h`:     "raises < 0.25",
		`on locks where result == "passed" show p95(took) per gate every 30m over 9h`:                  "",
		`on locks where result == "passed" show p99(took) per gate every 1h over 9h`:                   "",
		`on locks where result == "refused" show p95(took) per gate every 1h over 9h`:                  "",
		`on alerts show count every 1h over 9h`:                                                        "",
		`join result == "refused" to result == "passed" by gate within 1h show count every 1h over 9h`: "",
	} {
		settings, q, ds := Typed([]folder.Text{{Name: "s", Body: lockRules}}, text)
		require.NotNil(t, q, "%s: %v", text, ds)
		p, err := ask.New(q, ask.Moment{Lamp: entry.Of(time.Now()), Zone: time.UTC})
		require.NoError(t, err, text)
		got := limits(p, settings)
		if want == "" {
			assert.Empty(t, got, text)
			continue
		}
		require.Len(t, got, 1, text)
		assert.Equal(t, want, got[0].Words, text)
		assert.Equal(t, map[string]float64{"raises > 150s": 150, "raises > 8": 8, "raises < 0.25": 0.25}[want],
			got[0].Limit, text)
		assert.Equal(t, len(q.Columns())-1, got[0].Column, text)
	}
}
