package author_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dimlantern/core/ask"
	"dimlantern/core/author"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

const fuzzGates = `source gates { files "/g/*.log"
layout json }
kind drill { where "self test" or /exercise (?<what>\w+)/ }`

// Whatever is typed as a question is read, told in words and completed without harm; what can be asked is
// written so that it is the same question again, and can be made ready for any moment.
func FuzzQuestion(f *testing.F) {
	for _, q := range []string{
		`on gates where "open refused" show count per gate every 10m over 24h beside 7d ago most 10`,
		`on alerts show count, median(taken-after) per rule having count > 5 least 3 by median(taken-after)`,
		`join /copy (?<job>\w+) begins/ to /copy (?<job>\w+) ends/ by job within 2h show p95(lasted) per job`,
		`reckon b as (bytes / (pages + 1) - 3) reckon n as (length(text) * 2 + since(at)) show sum(n), avg(b)`,
		"where is drill ignore has new\nshow gaps longer than 1h per host new since 7d ago over last week",
		`show count, share(n > 5%) per each field from 2026-11-20 to 13:20`,
		`show count every month over last month beside before most 5 by difference per weekday, hour`,
	} {
		f.Add(q, 5, uint16(7))
	}
	env := lang.Env{Time: layout.CheckTime}
	read := func(src string) (*lang.Settings, *lang.Question, []lang.Diagnostic) {
		s, ds := lang.Check([]*lang.File{lang.Parse("s", []byte(fuzzGates)), lang.ParseQuestion(lang.Typed, src)}, env)
		return s, s.Ask(lang.Typed), ds
	}
	zone, err := time.LoadLocation("Europe/Berlin")
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, src string, col int, days uint16) {
		file := lang.ParseQuestion(lang.Typed, src)
		file.TypedClauses()
		lines := file.TypedText()
		s, q, ds := read(src)
		for _, d := range ds {
			_ = d.String()
		}
		author.CompleteQuestion(s, []string{"gate", "n"}, src, 1+max(col, 0)%3, 1+max(col, 0)%(len(src)+1))
		author.SetClauses(src, "per gate", "every 1h")
		author.OnlyWhere(src, "gate", "a\"1")
		if q == nil || lang.Errors(ds) {
			return
		}
		q.Words()
		once := q.String()
		_, again, ds := read(once)
		require.NotNil(t, again, "%q became %q: %v", src, once, ds)
		require.Equal(t, once, again.String(), src)
		if _, in, ds := read(lines); !strings.Contains(src, "#") {
			require.NotNil(t, in, "%q became %q: %v", src, lines, ds)
			require.Equal(t, once, in.String(), "in lines: %q", lines)
		}
		lamp := entry.Of(time.Date(2026, 1, 1, 12, 0, 0, 0, zone).AddDate(0, 0, int(days)))
		p, err := ask.New(q, ask.Moment{Lamp: lamp, Zone: zone, From: lamp.Add(-time.Hour), To: lamp})
		if err != nil {
			return
		}
		if p.Span.Bounds != nil && p.Span.Periods() > 100_000 {
			return
		}
		a := ask.NewAcc(p).Answer(ask.Unseen{Kept: entry.None})
		n := 0
		for range a.Rows() {
			if n++; n > 1000 {
				break
			}
		}
	})
}
