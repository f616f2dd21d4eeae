package match

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/verdict"

	"github.com/stretchr/testify/require"
)

// What 200 rules cost in lines of which none is anything to them, by how they are written.
func BenchmarkUntouched(b *testing.B) {
	for _, f := range []struct{ name, layout, line string }{
		{"JSON", "layout l {\n  json\n  time at like \"2026-11-24T05:32:28.114Z\"\n}\n",
			`{"at":"%s","host":"pump-%02d","pid":%d,"text":"pressure is 4.5 bar behind the strainer, all else as ` +
				`usual"}`},
		{"JSON, time guessed", "layout l {\n  json\n}\n",
			`{"level":"info","ts":"%s","host":"pump-%02d","pid":%d,"msg":"pressure is 4.5 bar behind the strainer"}`},
		{"logfmt", "layout l {\n  logfmt\n  time at like \"2026-11-24T05:32:28.114Z\"\n}\n",
			`at=%s host=pump-%02d pid=%d msg="pressure is 4.5 bar behind the strainer, all else as usual"`},
	} {
		b.Run(f.name, func(b *testing.B) {
			text := f.layout + "source s {\n  files \"/v/a.log\"\n  layout l\n}\n"
			for i := range 200 {
				text += fmt.Sprintf("rule r%d {\n  problem /pump %d: pressure low/\n  raise warning\n}\n", i, 1000+i)
			}
			s, ds := lang.Check([]*lang.File{lang.Parse("x", []byte(text))}, lang.Env{})
			require.False(b, lang.Errors(ds), "%v", ds)
			var log strings.Builder
			at := time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC)
			for i := range 20_000 {
				at = at.Add(7 * time.Millisecond)
				fmt.Fprintf(&log, f.line+"\n", at.Format("2006-01-02T15:04:05.000Z07:00"), i%40, 100+i%900)
			}
			slab := []byte(log.String())
			r := NewReader(NewPlan(s, s.Source("s"), s.Rules, time.UTC), "host-a:/v/a.log", "host-a", false)
			b.SetBytes(int64(len(slab)))
			for b.Loop() {
				r.Last, r.Reached = entry.None, entry.None
				r.Scan(slab, 0, entry.Of(at), func(*verdict.Judged) { b.Fatal("none is a hit") }, nil)
			}
		})
	}
}
