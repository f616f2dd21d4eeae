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
		s, ds := lang.Check([]*lang.File{lang.Parse("x", fmt.Appendf(nil, "layout x {\n  pattern /^(?<at>%s) (?<text>.*)$/\n  time at like %q\n}\n", stamp, f.example))})
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
			return plain.glancePlain(slab, at, stop, len(slab), l.patterns[0].behind)
		}), "%s", slab)
	})
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

		g := glanced{at: uint64(rapid.IntRange(0, 40).Draw(t, "place")), first: 1<<64 - 1<<8, second: 1<<64 - 1<<32, least: 1 << 63, topLine: 1 << 63}
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
	})
}
