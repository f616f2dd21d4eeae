package layout_test

import (
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What is one value is one mark.
func TestShapeValues(t *testing.T) {
	for line, want := range map[string]string{
		"update failed with 0x80072ee2":                     "update failed with <id>",
		"token dGhlIHNsdWljZSBpcyBPcGVuIDQy= refused":       "token <id> refused",
		"Access denied for 'keeper'@'10.0.0.7'":             "Access denied for '<text>'@'<text>'",
		"the gate can't open, it's shut":                    "the gate can't open, it's shut",
		"can't find `pump 7' in 'north basin'":              "can't find `<text>` in '<text>'",
		"session 7d444840-9dc0-11d1-b245-5ffdce74fad2 ends": "session <id> ends",
		"from fe80::1 to 10.0.0.7:22":                       "from <address> to <address>",
		"read /srv/gullhaven/Gates/north in 4.5 ms":         "read /srv/gullhaven/Gates/north in <number> ms",
		"commit 3f9a1c0d52e7 of gates":                      "commit <id> of gates",
		"Gates.openAllOfTheNorthernBasin was called":        "Gates.openAllOfTheNorthernBasin was called",
	} {
		assert.Equal(t, want, layout.ShapeOf(line), line)
	}
}

// Lines that differ in identifiers alone are of few shapes, however these are written; what
// stands between blanks is a name where it is another one each time.
func TestShapesOfIdentifiers(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	s := layout.NewShaper()
	for i := range 400 {
		raw := make([]byte, 18+r.IntN(12))
		for k := range raw {
			raw[k] = byte(r.IntN(256))
		}
		s.Add(fmt.Appendf(nil, "job 0x%08x of %s failed: see /srv/%c/lib-%c%d/part.%d", r.Uint32(),
			base64.StdEncoding.EncodeToString(raw), 'a'+i%26, 'a'+i%11, i%7, i))
	}
	assert.LessOrEqual(t, len(s.Shapes()), 20)
}

// Shapes of entries are made of what they say, where their lines are columns or name their
// fields.
func TestShapesOfEntries(t *testing.T) {
	for text, lines := range map[string][]string{
		"layout x {\n delimited \",\" columns at, pump, text\n time at like \"2026-11-24 05:32:28\"\n}": {
			`2026-11-24 05:32:28,7,"pressure low, 3 bar"`, `2026-11-24 05:32:29,north,"pressure low, 4 bar"`},
		`layout x { json }`: {`{"at":"2026-11-24T05:32:28Z","text":"pressure low, 3 bar","pump":"a"}`,
			`{"text":"pressure low, 4 bar","zone":"north","at":"2026-11-24T05:32:28Z"}`},
		"layout x {\n pattern /^(?<at>\\S+) (?<host>\\S+) (?<text>.*)$/\n time at like \"2026-11-24T05:32:28Z\"\n}": {
			`2026-11-24T05:32:28Z lock pressure low, 3 bar`, `2026-11-24T05:32:29Z quay pressure low, 4 bar`},
	} {
		settings, ds := lang.Check([]*lang.File{lang.Parse("t", []byte(text))}, lang.Env{Time: layout.CheckTime})
		require.False(t, lang.Errors(ds), "%v", ds)
		s := layout.NewEntryShaper(layout.Compile(settings.Layout("x"), nil, nil))
		for _, l := range lines {
			s.Add([]byte(l))
		}
		require.Len(t, s.Shapes(), 1, text)
		shape := s.Shapes()[0]
		assert.Equal(t, "pressure low, <number> bar", shape.Text)
		assert.Equal(t, lines[0], shape.Samples[0].Text, "its lines stay whole")
	}
}

// A layout tells which of its times cannot be read, and which are far away.
func TestTimes(t *testing.T) {
	settings, ds := lang.Check([]*lang.File{lang.Parse("t", []byte(
		"layout x {\n pattern /^(?<at>\\S+) (?<text>.*)$/\n time at like \"2026-11-24T05:32:28Z\"\n}"))},
		lang.Env{Time: layout.CheckTime})
	require.False(t, lang.Errors(ds), "%v", ds)
	l := layout.Compile(settings.Layout("x"), nil, nil)
	see := func(lines ...string) *layout.Times {
		var x layout.Times
		d := layout.Divider{Layout: l}
		for _, line := range lines {
			v := d.Divide([]byte(line), 0)
			x.Add(l, &v)
		}
		return &x
	}
	good := see("2026-11-24T05:32:28Z pump 7", "2026-11-24T05:32:29Z pump 7")
	assert.Equal(t, []string{"", ""}, []string{good.Unread(), good.Far(good.Last)})
	assert.Contains(t, good.Far(good.Last.Add(400*24*3600e9)), "2026-11-24")
	assert.Contains(t, good.Far(good.Last.Add(-48*3600e9)), "still to come")
	assert.Equal(t, "1 of 2 entries have a time that cannot be read, such as `24.11.2026`",
		see("2026-11-24T05:32:28Z pump 7", "24.11.2026 pump 7").Unread())
	fit := layout.FitOf(l, []string{"2026-11-24T05:32:28Z pump 7", "24.11.2026 pump 7", "x"}, entry.Instant(0))
	assert.Equal(t, []int{3, 2, 1}, []int{fit.Of, fit.Fits, fit.Timed})
}

// Levels that programs write compare by what they mean, and nothing else does.
func TestLevelsWritten(t *testing.T) {
	for word, like := range map[string]string{"Note": "notice", "SEVERE": "error", "FINE": "debug", "LOG": "info",
		"I": "info",
		"w": "warning", "E": "error", "F": "fatal", "*": "notice", "#": "warning", "-": "debug", "DEBUG3": "debug",
		"STATEMENT": "info", "WARN": "warning", "Emerg": "panic"} {
		assert.Equal(t, entry.Level(like), entry.LevelWritten(word), word)
	}
	for _, word := range []string{"", "fin", "7", "x", "lowly", "**", "--", "errors"} {
		assert.Zero(t, entry.LevelWritten(word), word)
	}
}

// What a pattern was built of may be lacking on some lines, and what stands in front of the time
// is told where it can be.
func TestDetectedHeads(t *testing.T) {
	near := entry.Of(time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC))
	for _, c := range []struct{ lines, has, hasNot string }{
		{"2026-11-24 05:32:28 [7] [client 10.0.0.1] low|2026-11-24 05:32:29 [8] fine|2026-11-24 05:32:30 [8] " +
			"[client fe80::1] fine",
			`(?<client>`, `.*?`},
		{"pump-control 2026-11-24 05:32:28: low|gate-control 2026-11-24 05:32:29: fine", `^(?<program>`, `(?<host>`},
		{"the keeper came at 2026-11-24 05:32:28 home|a keeper left on 2026-11-24 05:32:29 again", `.*?(?<at>`,
			`(?<program>`},
		{"2026-11-24 05:32:28 fine weather|2026-11-24 05:32:29 fine weather|2026-11-24 05:32:30 fine", `(?<text>`,
			`(?<level>`},
		{"2026-11-24 05:32:28 FINE x|2026-11-24 05:32:29 SEVERE y", `(?<level>\w+) `, `(?<program>`},
		{"2026-11-24 05:32:28 gate(mira): shut|2026-11-24 05:32:29 gate: open|2026-11-24 05:32:30 pump(tolan): low",
			`(?<account>`, `(?<host>`},
	} {
		p := layout.Detect(strings.Split(c.lines, "|"), near)[0]
		text := p.Text("x")
		assert.Contains(t, text, c.has, c.lines)
		assert.NotContains(t, text, c.hasNot, c.lines)
		assert.Equal(t, p.Of, p.Fits, text)
		assert.Equal(t, p.Of, p.Timed, text)
	}
}

// What is proposed is never one whose times cannot be read, however well it fits.
func TestDetectedTimesAreRead(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var lines []string
		for range rapid.IntRange(1, 30).Draw(t, "lines") {
			lines = append(lines, rapid.StringMatching(`(20\d\d-1[0-9]-[0-3]\d [0-2]\d:[0-9]\d:\d\d |\d{10} |`+
				`[A-Z][a-z]{2} \d\d )?`+
				`(\[[A-Za-z]{4,7}\] |[a-z]+: |key: "x"; k: y)?[ -~]{0,30}`).Draw(t, "line"))
		}
		for _, p := range layout.Detect(lines, entry.Of(time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC))) {
			if strings.Contains(p.Text("x"), "\n  time ") {
				require.Positive(t, p.Timed, p.Text("x"))
			}
			require.LessOrEqual(t, p.Timed, p.Of)
			_, ok := p.Layout()
			require.True(t, ok, p.Text("x"))
		}
	})
}
