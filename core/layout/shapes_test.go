package layout_test

import (
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"testing"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
