package query

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/ask"
	"dimlantern/core/entry"
	"dimlantern/folder"
	"dimlantern/intake/reread"
)

// A phrase that is looked for in what is taken out of lines gives what whole entries give.
func TestPhrasesInLeanLines(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.log")
	fit := 0
	rapid.Check(t, func(rt *rapid.T) {
		begin := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
		var b strings.Builder
		for i := range rapid.IntRange(1, 60).Draw(rt, "lines") {
			at := begin.Add(time.Duration(i+rapid.IntRange(-3, 3).Draw(rt, "late")) * time.Second)
			text := strings.Join(
				rapid.SliceOfN(rapid.SampledFrom([]string{"open", "refused", "open refused", "reopen",
					"refuseds", "é", "\xff", "open  refused", "", "Open refused"}), 0, 4).Draw(rt, "words"),
				" ",
			)
			switch rapid.IntRange(0, 6).Draw(rt, "kind") {
			case 0:
				fmt.Fprintf(&b, "no time here, open refused %d\n", i)
			case 1:
				fmt.Fprintf(&b, "%s open refused\n", at.Format(time.DateTime))
			case 2:
				fmt.Fprintf(&b, "%s open_refused %d open refused\n", at.Format(time.DateTime), i)
			default:
				fmt.Fprintf(&b, "%s gate-%d %d %s\n", at.Format(time.DateTime), i%3, i, text)
			}
		}
		require.NoError(rt, os.WriteFile(path, []byte(b.String()), 0o644))
		answer := func(where string) string {
			settings, q, ds := Typed([]folder.Text{{Name: "s", Body: "source book { files \"" + path + "\"\n" +
				" layout line }\nlayout line {\n pattern /^(?<at>\\S+ \\S+) (?<host>\\S+) (?<n>\\d+) (?<text>.*)$/\n" +
				"time at like \"2026-11-24 05:32:28\"\n type n integer }"}},
				"on book where "+where+" show count, max(n) per host every 10s over 1h")
			require.NotNil(rt, q, ds)
			p, err := ask.New(q, ask.Moment{Lamp: entry.Of(begin.Add(30 * time.Minute)), Zone: time.UTC})
			require.NoError(rt, err)
			x := &Asking{Settings: settings, Plan: p, Notes: reread.NewNotes(""), Logs: []reread.Log{
				{Name: "a", Series: path, Host: "host-a", Source: settings.Sources[0]},
			}}
			a, err := x.Answer(context.Background())
			require.NoError(rt, err)
			var out strings.Builder
			require.NoError(rt, a.WriteCSV(&out))
			fit += int(a.Fit)
			return fmt.Sprintf("%d %d %v\n%s", a.Looked, a.Fit, a.NoNumber, out.String())
		}
		require.Equal(
			rt,
			answer(`"open refused" and not text == "nothing says so"`),
			answer(`"open refused"`),
			b.String(),
		)
	})
	require.Greater(t, fit, 100)
}
