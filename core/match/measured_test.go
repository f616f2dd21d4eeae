package match_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/core/verdict"
)

// BenchmarkMeasured reads a log of which each entry is divided and judged by three rules, with and without
// measuring what that takes.
func BenchmarkMeasured(b *testing.B) {
	const text = `source app { files "/x.log"
layout l }
layout l { pattern /^(?<at>\S+) (?<gate>\S+) (?<took>\d+ms) (?<text>.*)$/
time at rfc3339 }
rule a { problem /refused (?<n>\d+)/ 
per gate 
raise warning at 3 in 5m }
rule b { problem "gate" and took > 200ms
raise warning at 3 in 5m }
rule c { problem gate == "gate-7" and "refused"
raise warning at 3 in 5m }`
	s, ds := lang.Check([]*lang.File{lang.Parse("s", []byte(text))}, lang.Env{ErrorsOnly: true})
	if lang.Errors(ds) {
		b.Fatal(ds)
	}
	var log strings.Builder
	for i := range 2000 {
		fmt.Fprintf(&log, "2026-11-24T05:32:%02dZ gate-%d %dms the gate was refused %d times\n", i%60, i%9, i%400, i)
	}
	for _, measured := range []bool{false, true} {
		b.Run(fmt.Sprint(measured), func(b *testing.B) {
			p := match.NewPlan(s, s.Sources[0], s.Rules, time.UTC)
			if began := time.Now(); measured {
				p.Now = func() time.Duration { return time.Since(began) }
			}
			r := match.NewReader(p, "h:/x.log", "h", true)
			b.SetBytes(int64(log.Len()))
			for b.Loop() {
				r.Scan([]byte(log.String()), 0, entry.Of(time.Unix(1800000000, 0)), func(*verdict.Judged) {}, nil)
			}
		})
	}
}
