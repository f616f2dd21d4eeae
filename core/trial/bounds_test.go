package trial

import (
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
)

// With bounds, blocks that lie within them are scanned as a whole, and give what looking at
// line by line gives.
func TestBoundsByTheBlock(t *testing.T) {
	s := check(t, "layout l {\n pattern /^(?<at>\\S+) (?<host>\\w+) (?<text>.*)$/\n time at rfc3339\n}\nsource s "+
		"{\n files \"/x\"\n layout l\n}\nrule r {\n problem \"low\"\n recovery \"fine\"\n per host\n raise error "+
		"at 2 in 1m\n}\n")
	rapid.Check(t, func(t *rapid.T) {
		start := time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC)
		at, from, to := start, start, start
		var text strings.Builder
		n := rapid.IntRange(1, 60).Draw(t, "lines")
		for i := range n {
			at = at.Add(time.Duration(rapid.SampledFrom([]int{0, 0, 1, 300, 1000, 5000, 40000, -2000}).Draw(t,
				"later")) * time.Millisecond)
			line := at.Format("2006-01-02T15:04:05.000Z07:00") + " " +
				rapid.SampledFrom([]string{"a", "b"}).Draw(t, "host") + " " +
				rapid.SampledFrom([]string{"low", "fine", "idle"}).Draw(t, "text")
			if rapid.IntRange(0, 9).Draw(t, "torn") == 0 {
				line = "  torn low"
			}
			text.WriteString(line + "\n")
			if i == n/4 {
				from = at
			}
			to = at
		}
		o := Options{From: entry.Of(from.Add(time.Duration(rapid.IntRange(-3, 3).Draw(t, "from")) * time.Second))}
		if rapid.Bool().Draw(t, "with an end") {
			o.To = entry.Of(to.Add(time.Duration(rapid.IntRange(-9, 3).Draw(t, "to")) * time.Second))
		}
		run := func(slowly bool) []string {
			lineByLine = slowly
			defer func() { lineByLine = false }()
			var out []string
			o.Emit = func(x *engine.Transition) {
				b, _ := x.MarshalJSON()
				out = append(out, string(b))
			}
			in := &Input{Source: s.Sources[0], Path: "/x", Host: "h",
				Files: []io.Reader{strings.NewReader(text.String())}, Near: entry.None}
			sum, err := Replay(s, []*Input{in}, o)
			require.NoError(t, err)
			return append(out, fmt.Sprint(sum.Entries, sum.Hits, sum.Clock))
		}
		require.Equal(t, run(true), run(false), text.String())
	})
}
