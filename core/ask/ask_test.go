package ask

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

var lamp = entry.Of(time.Date(2026, 11, 24, 14, 30, 0, 0, time.UTC))

// planned makes a question ready.
func planned(t require.TestingT, text string, change ...func(*Moment)) *Plan {
	s, ds := lang.Check([]*lang.File{lang.ParseQuestion("q", text)}, lang.Env{})
	require.False(t, lang.Errors(ds), "%s: %v", text, ds)
	m := Moment{Lamp: lamp, Zone: time.UTC, Alone: true}
	for _, c := range change {
		c(&m)
	}
	p, err := New(s.Ask(lang.Typed), m)
	require.NoError(t, err)
	return p
}

// line is an entry so long before the lamp, with fields as name value.
func line(ago time.Duration, text string, fields ...string) *entry.Entry {
	e := &entry.Entry{Origin: "host-a:/log", Host: "host-a", At: lamp.Add(-ago), Raw: text, Fits: true}
	for i := 0; i+1 < len(fields); i += 2 {
		e.Fields = append(e.Fields, entry.Field{Name: fields[i], Value: fields[i+1]})
	}
	return e
}

// table is an answer as a text, a row a line.
func answered(p *Plan, list ...*entry.Entry) string {
	a := NewAcc(p)
	for i, e := range list {
		a.Add(e, Place{Offset: int64(i)}, nil)
	}
	return written2(a.Answer(Unseen{Kept: entry.None}))
}

func written2(a *Answer) string {
	var out []string
	for r := range a.Rows() {
		var cells []string
		for _, k := range r.Per {
			cells = append(cells, Written(k))
		}
		if r.Rest {
			cells = append(cells, fmt.Sprintf("all others, %d", r.Of))
		}
		if r.Gap != nil {
			cells = append(cells, r.Gap.From.Time().Format("15:04:05")+" to "+r.Gap.To.Time().Format("15:04:05"))
		}
		for i, v := range r.Values {
			cells = append(cells, a.Plan.Shown(v, i))
		}
		out = append(out, strings.Join(cells, " "))
	}
	return strings.Join(out, "\n")
}

// Two entries that belong together are one: the oldest first half that still waits, less than D before, and
// one that completes a pair is nothing else.
func TestPairs(t *testing.T) {
	const q = `join /copy (?<job>\w+) begins/ to /copy (?<job>\w+) (begins|ends)/ by job within 10m ` +
		`show count, max(lasted), sum(lasted) per job over 2h`
	assert.Equal(t, "a 2 5m 8m\nb 1  0s", answered(planned(t, q),
		line(60*time.Minute, "copy a begins"),
		line(50*time.Minute, "copy b begins"), // its end comes exactly too late
		line(55*time.Minute, "copy a ends"),
		line(40*time.Minute, "copy b ends"),
		line(30*time.Minute, "copy a begins"),
		line(27*time.Minute, "copy a begins"), // completes the one before, and begins nothing
		line(26*time.Minute, "copy a ends")))
	p := planned(t, q, func(m *Moment) { m.Alone = false })
	a := NewAcc(p)
	a.Add(line(9*time.Minute, "copy a begins"), Place{}, nil)
	a.Add(line(11*time.Minute, "copy b begins"), Place{Offset: 1}, nil)
	x := a.Answer(Unseen{Kept: entry.None})
	assert.EqualValues(t, 1, x.Pending, "one may still be completed")
	assert.Equal(t, "b 1  0s", written2(x))
	assert.Equal(t, "2", answered(planned(t, `join "begins" to "ends" within 10m show count over 2h`),
		line(20*time.Minute, "ends"), line(15*time.Minute, "begins"), line(14*time.Minute, "begins"),
		line(13*time.Minute, "ends")), "of one origin, without a field")
}

// since is the difference to the group's very entry before, in the order of time, whatever the order in
// which entries come.
func TestSince(t *testing.T) {
	const q = `reckon d as (since(n)) reckon wait as (since(at)) show count, max(d), max(wait), sum(d) per word over 2h`
	list := []*entry.Entry{
		line(10*time.Minute, "x", "word", "a", "n", "7"),
		line(30*time.Minute, "x", "word", "a", "n", "1"),
		line(20*time.Minute, "x", "word", "a", "n", "-"),
		line(5*time.Minute, "x", "word", "a", "n", "9.5"),
		line(3*time.Minute, "x", "word", "b", "n", "100"),
	}
	assert.Equal(
		t,
		"a 4 2.5 10m 2.5\nb 1   0s",
		strings.Replace(answered(planned(t, q), list...), "b 1   0", "b 1   0s", 1),
	)
}

// Gaps are longer than D, the span's edges with them, and never what could not be seen.
func TestGaps(t *testing.T) {
	p := planned(t, "show gaps longer than 10m over 1h")
	assert.Equal(t, "14:10:00 to 14:30:00\n13:42:00 to 14:00:00", answered(p, line(50*time.Minute, "x"),
		line(48*time.Minute, "x"), line(30*time.Minute, "x"), line(20*time.Minute, "x")))
	a := NewAcc(p)
	a.Add(line(50*time.Minute, "x"), Place{}, nil)
	blind := []Stretch{{lamp.Add(-45 * time.Minute), lamp.Add(-15 * time.Minute)}}
	assert.Equal(t, "14:15:00 to 14:30:00", written2(a.Answer(Unseen{Blind: blind, Kept: entry.None})))
	assert.Equal(
		t,
		"13:50:00 to 14:15:00",
		written2(NewAcc(planned(t, "show gaps longer than 10m from 13:40 to 14:15")).
			Answer(Unseen{Kept: lamp.Add(-40 * time.Minute)})),
	)
	rapid.Check(t, func(t *rapid.T) { // in any order, in any parts
		p := planned(t, "show gaps longer than 7m over 2h")
		ages := rapid.SliceOfN(rapid.IntRange(0, 120*60), 0, 40).Draw(t, "ages")
		parts := []*Acc{NewAcc(p), NewAcc(p), NewAcc(p)}
		for i, s := range ages {
			e := line(time.Duration(s)*time.Second, "x")
			parts[rapid.IntRange(0, 2).Draw(t, "part")].Add(e, Place{Offset: int64(i)}, nil)
		}
		parts[0].Merge(parts[1])
		parts[2].Merge(parts[0])
		var times []entry.Instant
		for _, s := range ages {
			if at := lamp.Add(-time.Duration(s) * time.Second); at < lamp {
				times = append(times, at)
			}
		}
		slices.Sort(times)
		var want []string
		before := lamp.Add(-2 * time.Hour)
		for _, at := range append(times, lamp) {
			if at.Sub(before) > 7*time.Minute {
				want = append(
					[]string{before.Time().Format("15:04:05") + " to " + at.Time().Format("15:04:05")},
					want...)
			}
			before = at
		}
		require.Equal(t, strings.Join(want, "\n"), written2(parts[2].Answer(Unseen{Kept: entry.None})))
	})
}

// Reckoned numbers are exact where their decimals end; by zero is no number.
func TestReckoned(t *testing.T) {
	for calc, want := range map[string]string{
		"n * 3 - 1":         "20",
		"(n + 1) / 4":       "2",
		"n / 3":             "2.333333333333333333333333",
		"n / z":             "",
		"- n / 2":           "-3.5",
		"d / 1s":            "1.5",
		"d + 500ms":         "2",
		"length(w) * 2":     "8",
		"n - lacking":       "",
		"1 / n * n":         "0.9999999999999999999999999",
		"10 / 4 * 0.1 + n":  "7.25",
		"0.1 + 0.2 - 0.3":   "0",
		"n * n * n - n / n": "342",
	} {
		p := planned(t, "reckon x as ("+calc+") show max(x) over 1h")
		a := NewAcc(p)
		a.Add(line(time.Minute, "t", "n", "7", "z", "0", "d", "1s500ms", "w", "łódź"), Place{}, nil)
		got := a.Answer(Unseen{Kept: entry.None}).Groups[0].Values[0].Text
		if calc == "1 / n * n" { // exact: it is a fraction until its end
			want = "1"
		}
		if calc == "n / 3" {
			assert.Equal(t, want, strings.TrimRight(got[:26], ""), calc)
			continue
		}
		assert.Equal(t, want, got, calc)
	}
}

// Sketches keep their promise: percentiles within 1 % of the value, different values within 2 %, whatever
// was merged how.
func TestSketches(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for _, draw := range []func() float64{
		func() float64 { return math.Exp(r.NormFloat64() * 3) },
		func() float64 { return r.NormFloat64() * 1000 },
		func() float64 { return float64(r.IntN(50)) },
	} {
		var all []float64
		parts := [3]values{}
		for i := range parts {
			if i > 0 {
				parts[i].rough()
			}
			for range 10_000 {
				f := floatNum(draw())
				x, _ := f.float()
				all = append(all, x)
				parts[i].add(f)
			}
		}
		parts[0].merge(&parts[1])
		parts[2].merge(&parts[0])
		sort.Float64s(all)
		for _, percent := range []int{1, 50, 90, 95, 99, 100} {
			want := all[(len(all)*percent+99)/100-1]
			n, approx, _ := parts[2].percentile(percent, nil)
			got, _ := n.float()
			require.True(t, approx)
			require.LessOrEqual(
				t,
				math.Abs(got-want),
				0.01*math.Abs(want)+1e-12,
				"p%d is %v, and %v",
				percent,
				want,
				got,
			)
		}
	}
	within := 0
	for k := range 60 {
		n := []int{100, 3_000, 150_000}[k%3]
		var a, b distinct
		a.rough()
		for i := range n {
			d := digest(fmt.Sprint(k, " value ", i))
			if i%2 == 0 {
				a.add(d)
			} else {
				b.add(d)
			}
			if i%5 == 0 {
				b.add(d)
			}
		}
		b.merge(&a)
		got, approx := b.count()
		require.True(t, approx)
		if math.Abs(float64(got)-float64(n)) <= 0.02*float64(n) {
			within++
		}
	}
	assert.GreaterOrEqual(t, within, 57, "in 95 of 100 cases")
}

// Beyond their bounds numbers are sketched, and marked; groups beyond what there is room for count
// together, and are told.
func TestBounds(t *testing.T) {
	p := planned(t, "show different(n), median(n) over 1h")
	a := NewAcc(p)
	e := line(time.Minute, "x", "n", "")
	for i := range 120_000 {
		e.Fields[0].Value = fmt.Sprint(i)
		a.Add(e, Place{Offset: int64(i)}, nil)
	}
	v := a.Answer(Unseen{Kept: entry.None}).Groups[0].Values
	assert.True(t, v[0].Approx)
	assert.False(t, v[1].Approx, "less than 64 MiB of numbers are exact")
	assert.Equal(t, "59999", v[1].Text)
	assert.Equal(t, "≈", p.Shown(v[0], 0)[:3])

	p = planned(t, "show count per n over 1h most 3")
	a = NewAcc(p)
	for i := range 1_000_000 {
		e.Fields[0].Value = fmt.Sprint("a value of its own ", i)
		a.Add(e, Place{Offset: int64(i)}, nil)
	}
	x := a.Answer(Unseen{Kept: entry.None})
	assert.Positive(t, x.TooMany)
	total := int64(0)
	for _, g := range x.Groups {
		total += g.Count
	}
	assert.EqualValues(t, 1_000_000, total, "all of them count")
}

// Numbers are written for people in six digits at most, with their units.
func TestShown(t *testing.T) {
	p := planned(t, "show share(n > 1), sum(n), count over 1h")
	p.unit[1] = "duration"
	for _, x := range []struct {
		text string
		unit int
		want string
	}{{"0.0512345", 0, "5.12 %"}, {"1234567", 2, "1,234,567"}, {"3.14159265", 2, "3.14159"}, {"90", 1, "1m30s"},
		{"0.25", 1, "250ms"}, {"-3", 1, "-3s"}, {"0.00002", 1, "20µs"}, {"12.3456", 1, "12.3s"},
		{"-1234.5", 2, "-1,234.5"}} {
		assert.Equal(t, x.want, p.Shown(Value{Text: x.text, Number: true}, x.unit))
	}
}

// Spans are those of the calendar, up to the lamp.
func TestSpans(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	at := func(s string) string {
		x, err := time.ParseInLocation("2006-01-02 15:04", s, zone)
		require.NoError(t, err, s)
		return entry.Of(x).String()
	}
	in := func(m *Moment) { m.Zone = zone }
	for text, want := range map[string][2]string{ // the lamp stands at 14:30 on Tuesday
		"over 3h":                            {"2026-11-24 11:30", "2026-11-24 14:30"},
		"over today":                         {"2026-11-24 00:00", "2026-11-24 14:30"},
		"over yesterday":                     {"2026-11-23 00:00", "2026-11-24 00:00"},
		"over this week":                     {"2026-11-23 00:00", "2026-11-24 14:30"},
		"over last week":                     {"2026-11-16 00:00", "2026-11-23 00:00"},
		"over last month":                    {"2026-10-01 00:00", "2026-11-01 00:00"},
		"from 2026-11-20 to 2026-11-22":      {"2026-11-20 00:00", "2026-11-22 00:00"},
		"from 13:20 to 14:00":                {"2026-11-24 13:20", "2026-11-24 14:00"},
		"from 22:00 to 06:00":                {"2026-11-23 22:00", "2026-11-24 06:00"},
		"from 2026-11-24T10:00:00Z to 23:00": {"2026-11-24 10:00", "2026-11-24 14:30"},
	} {
		p := planned(t, "show count "+text, in)
		assert.Equal(
			t,
			[2]string{at(want[0]), at(want[1])},
			[2]string{p.Span.From.String(), p.Span.To.String()},
			text,
		)
	}
	for text, want := range map[string][2]string{
		"over last month beside before":               {"2026-09-01 00:00", "2026-10-01 00:00"},
		"over this week beside before":                {"2026-11-16 00:00", "2026-11-17 14:30"},
		"over yesterday beside 28d ago":               {"2026-10-26 00:00", "2026-10-27 00:00"},
		"over 2h beside before":                       {"2026-11-24 10:30", "2026-11-24 12:30"},
		"over 24h beside 1w ago":                      {"2026-11-16 14:30", "2026-11-17 14:30"},
		"from 2026-10-24 to 2026-10-27 beside before": {"2026-10-21 00:00", "2026-10-24 00:00"},
	} {
		p := planned(t, "show count "+text, in)
		assert.Equal(
			t,
			[2]string{at(want[0]), at(want[1])},
			[2]string{p.Beside.From.String(), p.Beside.To.String()},
			text,
		)
	}
	p := planned(t, "show count every 7h from 2026-10-25 to 2026-10-26", in) // a day of 25 hours
	assert.Len(t, p.Span.Bounds, 5)
	assert.Equal(t, at("2026-10-26 00:00"), p.Span.Bounds[4].String())
}
