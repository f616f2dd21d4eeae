package trial

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// Clauses that fit no entry of a sample are told, each part of an or for itself, with
// the entry that they fit nearly.
func TestSampler(t *testing.T) {
	s := check(t, `source pumps {
  files "/var/log/pump.log"
}
rule low {
  problem /pressure low/ or "flow lost" or "idle"
  recovery /pressure fine/
  ignore "test run"
  per origin
  raise warning
}
`)
	x := NewSampler(s, s.Sources[0], time.UTC, 0)
	for _, l := range []string{"pump 7: Pressure Low", "pump 7 idle", "pump 8: flow lostness",
		"pump 9: pressure fine"} {
		x.Add("h", l)
	}
	var got []string
	for _, d := range x.Findings() {
		got = append(got, d.What+"; "+d.Mend)
	}
	assert.Equal(t, []string{
		`problem /pressure low/ of low fits none of 4 entries of pumps; nearly: "pump 7: Pressure Low"; there, ` +
			`/pressure low/   ("pressure low" is there only with other capitals) does not fit`,
		`problem "flow lost" of low fits none of 4 entries of pumps; nearly: "pump 8: flow lostness"; there, ` +
			`"flow lost"   (it stands there, but inside a longer word) does not fit`,
		`ignore "test run" of low fits none of 4 entries of pumps; `,
	}, got, strings.Join(got, "\n"))
}
