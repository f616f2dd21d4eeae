package layout

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// seen is what a look at all lines comes to: how many there are, the latest time with the
// line that has it first, and the earliest second.
type seen struct {
	lines, at, end int
	top, low       entry.Instant
}

// glanceAll looks at every line, in stretches where that goes.
func glanceAll(d *Divider, slab []byte, most int, run func(at, stop int) Run) (s seen) {
	s.top, s.low = entry.None, 1<<62
	take := func(r Run) {
		s.lines += r.Lines
		if r.Top > s.top {
			s.top, s.at, s.end = r.Top, r.At, r.End
		}
		s.low = min(s.low, r.Low-r.Low%1e9)
	}
	for at := 0; at < len(slab); {
		if r := run(at, len(slab)); r.Lines > 0 {
			take(r)
			at = r.Next
			continue
		}
		end := at + bytes.IndexByte(slab[at:], '\n')
		t, ok, _ := d.Glance(slab[at:end], 0)
		if ok {
			take(Run{Lines: 1, Top: t, Low: t, At: at, End: end})
		} else {
			s.lines++
		}
		at = end + 1
	}
	return s
}

// A look at many lines with wide instructions finds what a look at each line finds.
func TestGlancesAreGlance(t *testing.T) {
	formats := []struct{ example, layout string }{
		{"2026-11-24 05:32:28.114", "2006-01-02 15:04:05.000"},
		{"2026-11-24T05:32:28.114321+00:00", "2006-01-02T15:04:05.000000-07:00"},
		{"2026-11-24T05:32:28Z", "2006-01-02T15:04:05Z07:00"},
		{"2026-11-24 05:32:28", "2006-01-02 15:04:05"},
		{"2026-11-24T05:32:28.114321987Z", "2006-01-02T15:04:05.000000000Z07:00"},
	}
	rapid.Check(t, func(t *rapid.T) {
		f := rapid.SampledFrom(formats).Draw(t, "format")
		stamp := `\S+`
		if strings.Contains(f.example, " ") {
			stamp = `\S+ \S+`
		}
		s, ds := lang.Check([]*lang.File{lang.Parse("x", fmt.Appendf(nil, "layout x {\n  pattern /^(?<at>%s) "+
			"(?<text>.*)$/\n  time at like %q\n}\n", stamp, f.example))}, lang.Env{Time: CheckTime})
		require.False(t, lang.Errors(ds), "%v", ds)
		l := Compile(s.Layout("x"), time.UTC, nil)
		at := time.Date(2026, 11, 24, 5, 58, 30, 0, time.UTC)
		var slab []byte
		step := rapid.SampledFrom([]int{1, 1000, 40_000}).Draw(t, "step")
		n := rapid.IntRange(1, 300).Draw(t, "lines")
		for range n {
			at = at.Add(time.Duration(rapid.IntRange(-step/4, step).Draw(t, "ms")) * time.Millisecond)
			written := at.Format(f.layout)
			switch rapid.IntRange(0, 60).Draw(t, "odd") {
			case 0:
				written = strings.Replace(written, "5", "x", 1)
			case 1:
				written = at.Format("2006-01-02 15:04:05")
			case 2:
				written = written[:rapid.IntRange(0, len(written)).Draw(t, "cut")]
			case 3:
				written = strings.Replace(written, ":", "\n", 1)
			}
			slab = fmt.Appendf(slab, "%s %s\n", written, strings.Repeat("-", rapid.IntRange(0, 90).Draw(t, "length")))
		}
		if rapid.IntRange(0, 9).Draw(t, "long") == 0 {
			slab = fmt.Appendf(slab, "%s %s\n", at.Format(f.layout), strings.Repeat("-", 40<<10))
		}
		one, each := &Divider{Layout: l}, &Divider{Layout: l}
		want := glanceAll(one, slab, len(slab), func(at, _ int) Run { return Run{} })
		most := rapid.IntRange(1, 400).Draw(t, "most")
		assert.Equal(t, want, glanceAll(each, slab, len(slab), func(at, stop int) Run {
			r := each.GlanceOn(slab, at, stop, most)
			assert.LessOrEqual(t, r.Lines, most)
			return r
		}), "%s", slab)
		plain := &Divider{Layout: l}
		assert.Equal(t, want, glanceAll(plain, slab, len(slab), func(at, stop int) Run {
			if plain.cache.n < 10 {
				return Run{}
			}
			return plain.glanceEach(slab, at, stop, len(slab))
		}), "%s", slab)
	})
}

// What a glance at an entry of an open format says is what dividing it says, unless that
// finds no time in it, or the entry is not of the format.
func TestGlancesOfFormats(t *testing.T) {
	type form struct {
		layout string
		write  []string // %s is the time; what stands behind | is how that is written
	}
	forms := []form{
		{"syslog", []string{"%s pump-03 pumpd[418]: low|Jan _2 15:04:05", "%s 10.0.0.7 low|Jan _2 15:04:05",
			"%s 2025 low|Jan _2 15:04:05", "%s: low|Jan _2 15:04:05", "%s UTC low|Jan _2 15:04:05",
			"<34>%s pump-03 low|Jan _2 15:04:05", "<34>1 %s pump-03 pumpd 418 - - low|2006-01-02T15:04:05.000Z07:00",
			"<3>1 %s pump-03 pumpd 418 - [x low|2006-01-02T15:04:05Z07:00",
			"<34>1 %s|2006-01-02T15:04:05Z07:00", "%s pump-03 low|2006-01-02T15:04:05.000000-07:00",
			"%s pump-03 low|2006-01-02 15:04:05", "<34>%s pump-03 low|2006-01-02 15:04:05.000",
			"12: *%s low|Jan _2 15:04:05.000", "%s pump low|Jan _2 2006 15:04:05", "%s low|Jan 2 15:04:05",
			"<34>1 - pump-03 - - - - low|", "no time|", "%s|Jan _2 15:04:05"}},
		{"clf", []string{`10.0.0.7 - - [%s] "GET / HTTP/1.1" 200 7|02/Jan/2006:15:04:05 -0700`,
			`10.0.0.7 - - [%s] nothing|02/Jan/2006:15:04:05 -0700`,
			`10.0.0.7 - [%s] - [%[1]s] "GET /" 200 7|02/Jan/2006:15:04:05 -0700`}},
		{"j", []string{`{"at":"%s","text":"low"}|2006-01-02T15:04:05.000Z07:00`,
			`{"text":"at", "x":{"at":"2026-11-24T09:00:00Z"},"at":"%s"}|2006-01-02T15:04:05Z07:00`,
			`{"at":"%s","at":"2026-11-24T09:09:09Z"}|2006-01-02T15:04:05Z07:00`,
			`{"at":"%s","AT":"2026-11-24T09:09:09Z"}|2006-01-02T15:04:05Z07:00`,
			`{"at":"%s","\u0061t":"2026-11-24T09:09:09Z"}|2006-01-02T15:04:05Z07:00`,
			`{"at":"%s","at":null}|2006-01-02T15:04:05Z07:00`, `{"at":"%s"|2006-01-02T15:04:05Z07:00`,
			`{"l":["%s"],"text":"low"}|2006-01-02T15:04:05Z07:00`, `{"at":"\u0032026%s"}|-01-02T15:04:05Z07:00`,
			`{"at":["%s"]}|2006-01-02T15:04:05Z07:00`, `{"@at":"%s","at":"2026-11-24T09:09:09Z"}|` +
				`2006-01-02T15:04:05Z07:00`,
			`{"at":"%s","@at":"2026-11-24T09:09:09Z"}|2006-01-02T15:04:05Z07:00`,
			`{"@at":"%s","@AT":"2026-11-24T09:09:09Z"}|2006-01-02T15:04:05Z07:00`,
			`{"@at":"%s","@at":"2026-11-24T09:09:09Z"}|2006-01-02T15:04:05Z07:00`,
			`{"@at":"%s","text":"a \\ and \"at\" here"}|2006-01-02T15:04:05Z07:00`,
			`{"x":{"at":"2026-11-24T09:09:09Z"},"at":"%s","n":1}|2006-01-02T15:04:05Z07:00`}},
		{"json", []string{`{"level":"info","ts":"%s","msg":"low"}|2006-01-02T15:04:05.000Z07:00`,
			`{"ts":"%s","time":"2026-11-24T09:09:09Z"}|2006-01-02T15:04:05Z07:00`, `{"level":"info"}|`,
			`{"time":"2026-11-24T09:09:09Z","ts":"%s"}|2006-01-02T15:04:05Z07:00`, `{"ts":"no"}|`,
			`{"@timestamp":"%s","timestamp":7}|2006-01-02T15:04:05Z07:00`}},
		{"logfmt", []string{`ts=%s level=info msg="it is ts"|2006-01-02T15:04:05.000Z07:00`,
			`level=info ts="%s"|2006-01-02T15:04:05.000Z07:00`, `time=%s ts=2026-11-24T09:09:09Z|` +
				`2006-01-02T15:04:05Z07:00`,
			`level=info|`, `@ts=%s ts=2026-11-24T09:09:09Z|2006-01-02T15:04:05Z07:00`}},
		{"lf", []string{`at=%s text="low at=7"|2006-01-02T15:04:05.000Z07:00`,
			`text=low at="%s"|2006-01-02T15:04:05Z07:00`, `at=%s at=2026-11-24T09:09:09Z|2006-01-02T15:04:05Z07:00`,
			`at=%s at|2006-01-02T15:04:05Z07:00`, `at=%s at="\2026"|2006-01-02T15:04:05Z07:00`,
			`at=%s "low"|2006-01-02T15:04:05Z07:00`, `@at=%s at=2026-11-24T09:09:09Z|2006-01-02T15:04:05Z07:00`,
			`at=%s @at=2026-11-24T09:09:09Z|2006-01-02T15:04:05Z07:00`, `at=%s text="it is at"|` +
				`2006-01-02T15:04:05Z07:00`,
			`at=%s a="b at=7 c" at=2026-11-24T09:09:09Z|2006-01-02T15:04:05Z07:00`,
			`at=%s a="\" at=2026-11-24T09:09:09Z|2006-01-02T15:04:05Z07:00`,
			`at=%s a="b" at=2026-11-24T09:09:09Z d="e"|2006-01-02T15:04:05Z07:00`,
			`@at=%s @AT=2026-11-24T09:09:09Z|2006-01-02T15:04:05Z07:00`, `at= %s|2006-01-02T15:04:05Z07:00`}},
	}
	s, ds := lang.Check([]*lang.File{lang.Parse("x", []byte("layout j {\n  json\n  time at like "+
		"\"2026-11-24T05:32:28Z\"\n}\nlayout lf {\n  logfmt\n  time at like \"2026-11-24T05:32:28Z\"\n}\n"))},
		lang.Env{Time: CheckTime})
	require.False(t, lang.Errors(ds), "%v", ds)
	glanced, wides := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		f := rapid.SampledFrom(forms).Draw(t, "format")
		l := Compile(s.Layout(f.layout), time.UTC, nil)
		require.NotNil(t, l.glance, f.layout)
		mostly := rapid.SampledFrom(f.write).Draw(t, "mostly")
		at := time.Date(2026, 11, rapid.SampledFrom([]int{3, 24}).Draw(t, "day"), 5, 58, 30, 0, time.UTC)
		near := entry.Of(at)
		var lines []string
		for range rapid.IntRange(2, 60).Draw(t, "lines") {
			at = at.Add(time.Duration(rapid.IntRange(-300, 1000).Draw(t, "ms")) * time.Millisecond)
			how := mostly
			if rapid.IntRange(0, 5).Draw(t, "other") == 0 {
				how = rapid.SampledFrom(f.write).Draw(t, "how")
			}
			line, form, _ := strings.Cut(how, "|")
			if strings.Contains(line, "%") {
				line = fmt.Sprintf(line, at.Format(form))
			}
			lines = append(lines, line+rapid.SampledFrom([]string{"", "", "", "\r"}).Draw(t, "end"))
		}
		slab := []byte(strings.Join(lines, "\n") + "\n" +
			strings.Repeat(" ", rapid.SampledFrom([]int{0, glanceReach}).Draw(t, "behind")))
		end := len(strings.Join(lines, "\n")) + 1
		d, each := &Divider{Layout: l}, &Divider{Layout: l}
		most := rapid.SampledFrom([]int{1, 3, 100}).Draw(t, "most")
		for at, i := 0, 0; at < end; {
			r := d.GlanceOn(slab, at, end, most)
			glanced += r.Lines
			if d.look.n > 0 && r.Lines > 0 {
				wides++
			}
			top := Run{Top: entry.None}
			all := true
			for range r.Lines {
				x := each.Divide([]byte(strings.TrimSuffix(lines[i], "\r")), near)
				all = all && x.Timed
				if x.Timed {
					require.LessOrEqual(t, r.Low, x.At, lines[i])
				}
				if x.Timed && x.At > top.Top {
					top.Top, top.At, top.End = x.At, at, at+len(lines[i])
				}
				at += len(lines[i]) + 1
				i++
			}
			if r.Lines > 0 {
				require.Equal(t, at, r.Next)
				require.LessOrEqual(t, top.Top, r.Top, "%s", lines)
			}
			if r.Lines > 0 && all {
				require.Equal(t, top, Run{Top: r.Top, At: r.At, End: r.End}, "%s", lines)
			}
			if r.Lines == 0 {
				line := []byte(strings.TrimSuffix(lines[i], "\r"))
				x := each.Divide(line, near)
				if at, ok, sure := d.Glance(line, near); sure && x.Timed {
					require.True(t, ok)
					require.Equal(t, x.At, at, lines[i])
				}
				d.Divide(line, near)
				at += len(lines[i]) + 1
				i++
			}
		}
	})
	assert.Positive(t, glanced)
	assert.True(t, !wide || wides > 0)
}

// What is done with wide instructions is what is done without them.
func TestWideIsPlain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b := bytes.Repeat([]byte{'-'}, rapid.IntRange(0, 4000).Draw(t, "size"))
		for range rapid.IntRange(0, 200).Draw(t, "ends") {
			if len(b) > 0 {
				b[rapid.IntRange(0, len(b)-1).Draw(t, "at")] = '\n'
			}
		}
		room := rapid.IntRange(startsReach, 200).Draw(t, "room")
		got, want := make([]uint32, room), make([]uint32, room)
		n, seen := lineStarts(b, got)
		m, saw := lineStartsPlain(b, want)
		require.Equal(t, want[:m], got[:n])
		require.Equal(t, saw, seen)

		g := glanced{at: uint64(rapid.IntRange(0, 40).Draw(t, "place")), first: 1<<64 - 1<<8, second: 1<<64 - 1<<32,
			least: 1 << 63, topLine: 1 << 63}
		for i := range g.low {
			g.low[i] = byte(rapid.SampledFrom([]int{0, 0, 0, '0'}).Draw(t, "low"))
			g.high[i] = byte(rapid.SampledFrom([]int{255, 255, 255, '9'}).Draw(t, "high"))
		}
		text := []byte(rapid.StringOfN(rapid.SampledFrom([]rune("0123456789")), 200, 400, -1).Draw(t, "text"))
		if rapid.Bool().Draw(t, "odd") {
			text[rapid.IntRange(0, len(text)-1).Draw(t, "odd at")] = byte(rapid.IntRange(0, 255).Draw(t, "byte"))
		}
		starts := make([]uint32, rapid.IntRange(0, 20).Draw(t, "lines"))
		for i := range starts {
			starts[i] = uint32(rapid.IntRange(0, len(text)-glanceReach).Draw(t, "start"))
		}
		h := g
		require.Equal(t, glancesPlain(text, starts, &g), glances(text, starts, &h))
		require.Equal(t, g, h)

		word := []byte(rapid.StringOfN(rapid.SampledFrom([]rune("ab\"")), 2, 6, -1).Draw(t, "word"))
		in := []byte(rapid.StringOfN(rapid.SampledFrom([]rune("aab\"\"")), 0, 300, -1).Draw(t, "in"))
		dist := rapid.IntRange(1, 40).Draw(t, "dist")
		place, seen := nextPair(in, dist, word[0], word[1])
		wantPlace, wantSeen := nextPairPlain(in, dist, word[0], word[1])
		require.Equal(t, [2]int{wantPlace, wantSeen}, [2]int{place, seen})
		require.Equal(t, bytes.Index(in, word), index(in, word))
		require.Equal(t, bytes.Count(in, word), count(in, word))
	})
}
