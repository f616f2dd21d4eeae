package trial

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
)

// What a rule would have hit and what it makes of the kinds of entries never contradict each other,
// however seldom the hit is among entries that look alike, and in whatever form they are.
func TestHitsAreOfAKind(t *testing.T) {
	forms := map[string]func(host, text string, level int, n int) string{
		"plain": func(_, text string, level, n int) string { return fmt.Sprintf("%s took %d of %d", text, level, n) },
		"json": func(host, text string, level, n int) string {
			return fmt.Sprintf(`{"host":%q,"text":%q,"took":%d}`, host, text, level)
		},
		"logfmt": func(host, text string, level, n int) string {
			return fmt.Sprintf(`host=%s text=%q took=%d`, host, text, level)
		},
		"syslog": func(host, text string, level, n int) string {
			return fmt.Sprintf("<13>Nov 24 05:%02d:28 %s app[%d]: %s took %d", n%60, host, n, text, level)
		},
		"event-xml": func(host, text string, level, n int) string {
			return fmt.Sprintf("<Event><System><EventID>7</EventID><Computer>%s</Computer>"+
				"<EventRecordID>%d</EventRecordID></System><EventData><Data Name=\"took\">%d</Data></EventData>"+
				"<RenderingInfo><Message>%s</Message>"+
				"</RenderingInfo></Event>", host, n, level, text)
		},
	}
	rapid.Check(t, func(t *rapid.T) {
		form := rapid.SampledFrom([]string{"plain", "json", "logfmt", "syslog", "event-xml"}).Draw(t, "form")
		problem := rapid.SampledFrom([]string{`"gate"`, `took > 90`, `/gate (held|open)/`, `/took (?<x>9\d)/`,
			`/9[0-4]/`, `host == "b"`}).Draw(t, "problem")
		var log strings.Builder
		many := rapid.SampledFrom([]int{3, 30, 600}).Draw(t, "many")
		seldom := rapid.IntRange(0, many-1).Draw(t, "seldom")
		for i := range many {
			level := rapid.SampledFrom([]int{1, 2, 33}).Draw(t, "level")
			if i == seldom {
				level = 93
			}
			log.WriteString(forms[form](rapid.SampledFrom([]string{"a", "a", "b"}).Draw(t, "host"),
				rapid.SampledFrom([]string{"pump low", "gate held", "idle"}).Draw(t, "text"), level, i) + "\n")
		}
		s := check(t, "source app {\n  files \"/a.log\"\n  layout "+form+"\n}\nrule r {\n  on app\n  problem "+problem+
			"\n  per nothing\n  raise warning\n  clear by hand\n}\n")
		said := []*Said{{Input{Source: s.Source("app"), Path: "/a.log", Host: "x"}}}
		said[0].Data = []byte(log.String())
		tried, err := TryRule(s, s.Rule("r"), said, Options{})
		require.NoError(t, err)
		kinds, err := KindsOf(s, said, time.UTC, nil)
		require.NoError(t, err)
		caught := 0
		for _, k := range SaysOf(s, s.Rule("r"), kinds, tried.Some.Of, time.UTC, entry.Of(time.Now())) {
			if k.Is == KindProblem {
				caught += k.Shape.Count
				require.NotEmpty(t, k.Example)
			}
		}
		require.GreaterOrEqual(t, int64(caught), tried.Hits, "%s\n%.300s", problem, log.String())
		if tried.Hits == 0 {
			require.Zero(t, caught)
		}
	})
}
