package query_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/folder"
	"dimlantern/query"
	"dimlantern/store"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// around reads the lines around hits of a log.
func around(t *testing.T, clauses, text string, hits ...store.Hit) []api.Evidence {
	path := filepath.Join(t.TempDir(), "harbour.log")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	settings, ds := folder.Check([]folder.Text{{Name: "t", Body: "source s {\n  files \"" + path + "\"\n" + clauses}})
	require.Empty(t, ds)
	for i := range hits {
		if hits[i].Origin == "" {
			hits[i].Origin = "a:" + path
			hits[i].Offset = int64(strings.Index(text, hits[i].Text))
		}
	}
	out, err := query.Around(settings, settings.Source("s"), path, hits[0], hits,
		entry.Of(time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC)), 48<<10, 16<<10)
	require.NoError(t, err)
	return out
}

func on(second int) entry.Instant {
	return entry.Of(time.Date(2026, 11, 24, 5, 32, second, 0, time.UTC))
}

// The lines around a hit stand newest first, an entry of many lines as one, hits of other logs
// where they belong by their time, and none of them is empty.
func TestAround(t *testing.T) {
	const timed = "  entry starts /^2026/\n  layout l\n}\nlayout l {\n  pattern /^(?<at>\\S+) (?<text>.*)$/\n" +
		"  time at like \"2026-11-24T05:32:28Z\"\n}\n"
	text := "2026-11-24T05:32:01Z pump 7 fine\n2026-11-24T05:32:03Z pump 7 low\n  at the north basin\n\n" +
		"2026-11-24T05:32:05Z pump 8 fine\n"
	out := around(t, timed, text, store.Hit{At: on(3), Text: "2026-11-24T05:32:03Z pump 7 low\n  at the north basin\n"},
		store.Hit{At: on(2), Text: "2026-11-24T05:32:02Z pump 7 low elsewhere", Origin: "b:/v/other.log"},
		store.Hit{At: on(0), Text: "2026-11-24T05:32:00Z pump 7 low before", Origin: "b:/v/other.log", Recovery: true})
	var got []string
	for _, e := range out {
		got = append(got, strings.TrimRight(e.Text, "\n"))
		assert.NotEmpty(t, strings.TrimSpace(e.Text))
	}
	assert.Equal(t, []string{"pump 8 fine", "pump 7 low\n  at the north basin", "pump 7 low elsewhere", "pump 7 fine",
		"pump 7 low before"}, got)
	assert.Equal(t, []bool{false, true, true, false, false}, []bool{out[0].Hit, out[1].Hit, out[2].Hit, out[3].Hit,
		out[4].Hit})
	assert.True(t, out[4].Recovery)
}

// Web logs and JSON without a text show what they say.
func TestAroundWithoutText(t *testing.T) {
	for _, c := range [][3]string{
		{"combined", `10.0.0.1 - mira [24/Nov/2026:05:32:03 +0000] "GET /tickets?day=3 HTTP/1.1" 503 12 "-" "x"`,
			"10.0.0.1 mira GET /tickets?day=3 HTTP/1.1 503 12"},
		{"json", `{"time":"2026-11-24T05:32:03Z","gate":"a1","state":"shut"}`, "gate a1  state shut"},
		{"logfmt", `time=2026-11-24T05:32:03Z gate=a1 state=shut`, "gate a1  state shut"},
	} {
		out := around(t, "  layout "+c[0]+"\n}\n", c[1]+"\n", store.Hit{At: on(3), Text: c[1]})
		require.Len(t, out, 1, c[0])
		assert.Equal(t, c[2], out[0].Text)
		assert.True(t, out[0].Hit)
	}
}
