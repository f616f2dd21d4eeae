package measure

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

func measures(t require.TestingT, text string) []*lang.Measure {
	s, ds := lang.Check([]*lang.File{lang.Parse("s", []byte(text))}, lang.Env{ErrorsOnly: true})
	require.False(t, lang.Errors(ds), "%v", ds)
	return s.Counts
}

const four = `
measure a-count { show count
  per gate, ship }
measure b-sum_bytes { show sum(n)
  per gate }
measure c-last { show last(n) }
measure d-spread_seconds { show spread(n) at 200ms, 0.8, 3
  per gate }
source any { files "/x/*.log"
  layout json }
`

// What is counted is what a list of all entries says, whatever is kept and taken up again between.
func TestTableEqualsAList(t *testing.T) {
	ms := measures(t, four)
	type said struct {
		measure    int
		key        []string
		value      string
		own, comes entry.Instant
	}
	values := []string{"1", "0.1", "200ms", "800ms", "3", "1e300", "-2", "much", "", "1e400"}
	rapid.Check(t, func(t *rapid.T) {
		table := New(ms, 1000, nil)
		kept := map[string]Row{}
		keep := func() {
			for _, r := range table.Changed() {
				if r.State == nil {
					delete(kept, r.Measure+r.Labels)
				} else {
					kept[r.Measure+r.Labels] = r
				}
			}
		}
		var all []said
		for now := range rapid.IntRange(0, 60).Draw(t, "entries") {
			x := said{measure: rapid.IntRange(0, 3).Draw(t, "measure"), comes: entry.Instant(now) * 1e9,
				own:   entry.Instant(rapid.IntRange(0, 5).Draw(t, "own")) * 1e9,
				value: rapid.SampledFrom(values).Draw(t, "value"),
			}
			for range ms[x.measure].Per {
				x.key = append(x.key, rapid.SampledFrom([]string{"a", "b", ""}).Draw(t, "key"))
			}
			all = append(all, x)
			table.Add(x.measure, x.key, []string{x.value}, x.own, "o:1", x.comes)
			switch rapid.IntRange(0, 9).Draw(t, "then") {
			case 0: // it is killed, and had kept everything
				keep()
				var rows []Row
				for _, r := range kept {
					rows = append(rows, r)
				}
				table = New(ms, 1000, rows)
			case 1:
				keep()
			case 2:
				table = table.Use(ms, 1000)
			}
		}
		for i, c := range table.Copy(0) {
			for _, s := range c.Series {
				var count, none, negative int64
				sum, last, lastAt := 0.0, 0.0, entry.None
				up := make([]int64, len(c.Of.Bounds)+1)
				for _, x := range all {
					if x.measure != i || !slices.Equal(x.key, s.Labels) {
						continue
					}
					n, ok := number(x.value)
					switch {
					case c.Of.Fn == "count":
						n = 1
					case !ok || math.IsInf(n, 0):
						none++
						continue
					case n < 0 && c.Of.Fn != "last":
						negative++
						continue
					}
					count, sum = count+1, sum+n
					if x.own >= lastAt {
						last, lastAt = n, x.own
					}
					for b := range up {
						if (b == len(c.Of.Bounds) || n <= c.Of.Bounds[b]) && (b == 0 || n > c.Of.Bounds[b-1]) {
							up[b]++
						}
					}
				}
				require.Equal(
					t,
					[]int64{count, none, negative},
					[]int64{s.Count, s.NoNumber, s.Negative},
					c.Of.Name,
				)
				switch c.Of.Fn {
				case "last":
					require.Equal(t, last, s.Last)
				case "spread":
					require.Equal(t, up, s.Buckets)
					fallthrough
				case "sum":
					require.InEpsilon(t, sum+1, s.Total()+1, 1e-12)
				}
			}
		}
		var page strings.Builder
		require.NoError(t, Write(&page, Families(table.Copy(0))))
		wellFormed(t, page.String())
	})
}

// Beyond the most series the rest is one group, and that is counted; a gauge goes when nothing comes.
func TestTableIsBounded(t *testing.T) {
	ms := measures(t, four)
	table := New(ms, 3, nil)
	for i := range 10 {
		table.Add(0, []string{"g" + strconv.Itoa(i), "s"}, nil, 0, "", 0)
	}
	c := table.Copy(0)[0]
	require.Len(t, c.Series, 4)
	assert.Equal(t, []string{OtherGroup, OtherGroup}, c.Series[3].Labels)
	assert.EqualValues(t, 7, c.Series[3].Count)
	assert.EqualValues(t, 7, table.Beyond)
	table = New(ms, 3, table.Changed())
	table.Add(0, []string{"new", "s"}, nil, 0, "", 0)
	assert.EqualValues(t, 8, table.Copy(0)[0].Series[3].Count, "also after a restart")

	table = New(ms, 10, nil)
	table.Add(2, []string{}, []string{"5"}, 0, "", 0)
	assert.Len(t, table.Copy(entry.Of(entry.Instant(0).Time().Add(Stale)))[2].Series, 1)
	assert.Empty(t, table.Copy(entry.Of(entry.Instant(0).Time().Add(Stale + 1)))[2].Series)
}

// A measure that counts something else begins anew, and what it was is forgotten.
func TestAnotherMeasureBeginsAnew(t *testing.T) {
	table := New(measures(t, four), 10, nil)
	table.Add(1, []string{"a"}, []string{"5"}, 0, "", 0)
	was := table.Changed()
	table = table.Use(measures(t, strings.Replace(four, "sum(n)", "sum(m)", 1)), 10)
	assert.Empty(t, table.Copy(0)[1].Series)
	now := table.Changed()
	require.Len(t, now, 1)
	assert.Nil(t, now[0].State)
	assert.Equal(t, was[0].Form, now[0].Form)
}

// The page is what OpenMetrics asks for, also of names and values that need care.
func TestPage(t *testing.T) {
	ms := measures(t, four)
	table := New(ms, 10, nil)
	at := entry.Of(entry.Instant(0).Time().AddDate(56, 0, 0))
	table.Add(0, []string{"a\"\\\n\xff", ""}, nil, at, "gates:/var/log/g.log at 12", at)
	table.Add(3, []string{"a"}, []string{"250ms"}, at, "gates:"+strings.Repeat("x", 200), at)
	table.Add(3, []string{"a"}, []string{"-1"}, at, "", at)
	var page strings.Builder
	require.NoError(t, Write(&page, Families(table.Copy(at))))
	wellFormed(t, page.String())
	assert.Equal(t, `# TYPE a_count counter
# HELP a_count count
a_count_total{gate="a\"\\\n`+"\uFFFD"+`"} 1 # {entry="gates:/var/log/g.log at 12"} 1 1767225600.000
a_count_created{gate="a\"\\\n`+"\uFFFD"+`"} 1767225600.000
# TYPE b_sum_bytes counter
# UNIT b_sum_bytes bytes
# HELP b_sum_bytes sum(n)
# TYPE c_last gauge
# HELP c_last last(n)
# TYPE d_spread_seconds histogram
# UNIT d_spread_seconds seconds
# HELP d_spread_seconds spread(n) at 0.2, 0.8, 3
d_spread_seconds_bucket{gate="a",le="0.2"} 0
d_spread_seconds_bucket{gate="a",le="0.8"} 1
d_spread_seconds_bucket{gate="a",le="3.0"} 1
d_spread_seconds_bucket{gate="a",le="+Inf"} 1
d_spread_seconds_sum{gate="a"} 0.25
d_spread_seconds_count{gate="a"} 1
d_spread_seconds_created{gate="a"} 1767225600.000
# TYPE dimlantern_measure_left_out counter
dimlantern_measure_left_out_total{measure="d-spread_seconds",why="negative"} 1
# EOF
`, strings.Replace(
		page.String(),
		"# HELP dimlantern_measure_left_out Entries that a measure left out since their number is none, "+
			"or is negative\n",
		"",
		1,
	))
}
