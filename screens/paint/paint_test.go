package paint

import (
	"strings"
	"testing"
	"time"

	"dimlantern/api"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
)

// plain is what a canvas shows, without its colours.
func text(c *Canvas) []string { return strings.Split(ansi.Strip(c.String()), "\n") }

func at(m int) entry.Instant {
	return entry.Of(time.Date(2026, 11, 24, 5, m, 0, 0, time.UTC))
}

// A lifeline tells what happened, column by column.
func TestLifeline(t *testing.T) {
	axis := Axis{X: 0, Columns: 20, From: at(0), Column: time.Minute, Lamp: at(19)}
	hits := func(m map[int]int) []int {
		out := make([]int, 20)
		for k, n := range m {
			out[k] = n
		}
		return out
	}
	steps := func(m int, s entry.Severity) []api.Step { return []api.Step{{At: at(m), Severity: s}} }
	for _, c := range []struct {
		name string
		life api.Life
		mono bool
		want string
	}{
		{"quiet", api.Life{Hits: hits(nil)}, false, "····················"},
		{"stirring", api.Life{Hits: hits(map[int]int{2: 1, 4: 2, 6: 3, 8: 9})}, false, "··⡀·⡄·⡆·⡇···········"},
		{"open", api.Life{Hits: hits(map[int]int{10: 1, 12: 4}),
			Alerts: []api.Span{{From: at(10), To: entry.None, Steps: steps(10, entry.Warning)}}}, false,
			"··········▄▂█▂▂▂▂▂▂▂"},
		{"over by recovery", api.Life{Hits: hits(map[int]int{3: 4}),
			Alerts: []api.Span{{From: at(3), To: at(6), Why: "recovery", Steps: steps(3, entry.Error)}}}, false,
			"···█▂▂┃·············"},
		{"over by quiet", api.Life{Hits: hits(map[int]int{3: 4}),
			Alerts: []api.Span{{From: at(3), To: at(6), Why: "quiet", Steps: steps(3, entry.Error)}}}, false,
			"···█▂▂┊·············"},
		{"over within a column", api.Life{Hits: hits(map[int]int{3: 4}),
			Alerts: []api.Span{{From: at(3), To: at(3) + 1, Why: "recovery", Steps: steps(3, entry.Error)}}}, false,
			"···█┃···············"},
		{"over in the lamp's own column", api.Life{Hits: hits(map[int]int{19: 4}),
			Alerts: []api.Span{{From: at(19), To: at(19), Why: "recovery", Steps: steps(19, entry.Error)}}}, false,
			"···················┃"},
		{"worsened, without colours", api.Life{Hits: hits(map[int]int{3: 4, 5: 4}),
			Alerts: []api.Span{{From: at(3), To: entry.None,
				Steps: append(steps(3, entry.Notice), steps(5, entry.Critical)...)}}}, true, "···█▂▲▂▂▂▂▂▂▂▂▂▂▂▂▂▂"},
		{"blind", api.Life{Hits: hits(nil), Dark: []api.Span{{From: at(5), To: at(8)},
			{From: at(18), To: entry.None}}}, false, "·····╱╱╱╱·········╱╱"},
		{"in a shadow", api.Life{Hits: hits(map[int]int{3: 4, 6: 1}),
			Untold: []api.Span{{From: at(5), To: at(8)}, {From: at(15), To: entry.None}},
			Alerts: []api.Span{{From: at(3), To: entry.None, Steps: steps(3, entry.Error)}}}, false,
			"···█▂░░░▂▂▂▂▂▂▂░░░░░"},
		{"from before", api.Life{Hits: hits(nil), Alerts: []api.Span{{From: at(0) - 1, To: at(2), Why: "hand",
			Steps: []api.Step{{At: at(0) - 1, Severity: entry.Error}}}}}, false, "▂▂┊·················"},
	} {
		p := Dark()
		p.Mono = c.mono
		cv := New(20, 1, p.Ground)
		cv.Lifeline(0, axis, c.life, p, Style{})
		assert.Equal(t, c.want, text(cv)[0], c.name)
	}
	// What lies behind the lamp was not known then.
	axis.Lamp = at(9)
	cv := New(20, 1, Color{})
	cv.Lifeline(0, axis, api.Life{Hits: hits(map[int]int{12: 1})}, Dark(), Style{})
	assert.Equal(t, "··········          ", text(cv)[0])
}

// A curve stands on the columns of its instants; its threshold is a line where nothing
// reaches it.
func TestCurve(t *testing.T) {
	of := func(v ...float64) (out []*float64) {
		for i := range v {
			out = append(out, &v[i])
		}
		return append(out, nil)
	}
	cv := New(50, 3, Color{})
	axis := Axis{X: 20, Columns: 8, From: at(0), Column: time.Minute, Lamp: at(6)}
	cv.Curve(0, 3, axis, api.Curve{Name: "avg(temp)", Op: ">", Limit: 20, Severity: entry.Warning,
		Values: of(-10, 5, 20, 35)}, Dark(), Style{})
	got := text(cv)
	assert.Equal(t, "   avg(temp)           ▆", strings.TrimRight(got[0], " "))
	assert.Equal(t, "   is 35            ─▁▇█───  > 20 warning", strings.TrimRight(got[1], " "))
	assert.Equal(t, "                    ▂███", strings.TrimRight(got[2], " "))
}

func TestTide(t *testing.T) {
	axis := Axis{X: 0, Columns: 5, From: at(0), Column: time.Minute, Lamp: at(4)}
	c := New(5, 2, Color{})
	c.Tide(1, 2, axis, []int64{0, 1, 8, 16, 12}, Dark(), Style{})
	assert.Equal(t, []string{"   █▄", " ▁███"}, text(c))
}

// Whatever is written where, the canvas keeps its size, and nothing of it is a
// command to the terminal.
func TestCanvasIsSafe(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := New(rapid.IntRange(1, 30).Draw(t, "w"), rapid.IntRange(1, 4).Draw(t, "h"), Color{})
		c.Plain = rapid.Bool().Draw(t, "plain")
		for range rapid.IntRange(0, 8).Draw(t, "puts") {
			s := rapid.OneOf(rapid.String(), rapid.SampledFrom([]string{"\x1b[2J", "日本語", "e\u0301", "\u202e", "\xff",
				"👍🏽", "a\tb\n"})).Draw(t, "text")
			c.Put(rapid.IntRange(-3, 32).Draw(t, "x"), rapid.IntRange(-1, 5).Draw(t, "y"),
				Style{Bold: rapid.Bool().Draw(t, "bold")}, s)
		}
		out := c.String()
		lines := strings.Split(ansi.Strip(out), "\n")
		if len(lines) != c.H {
			t.Fatalf("%d lines of %d: %q", len(lines), c.H, out)
		}
		for _, l := range lines {
			if w := ansi.StringWidth(l); w > c.W {
				t.Fatalf("%d wide of %d: %q", w, c.W, l)
			}
			if strings.ContainsAny(l, "\x1b\x07\x00\r\u202e") {
				t.Fatalf("not harmless: %q", l)
			}
		}
	})
}

func TestPlainMarks(t *testing.T) {
	c := New(12, 1, Color{})
	c.Plain = true
	c.Put(0, 0, Style{}, "▋ ·⡀▂█┃╱ é")
	assert.Equal(t, "I .._#]/ ?  ", text(c)[0])
}
