package layout

import (
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
)

func at(s string) entry.Instant {
	t, err := time.Parse(time.RFC3339Nano, s)
	if err != nil {
		panic(err)
	}
	return entry.Of(t)
}

// An example of a time reads the times that are written like it, and no others.
func TestTimeLike(t *testing.T) {
	near := at("2026-11-24T12:00:00Z")
	for _, c := range []struct{ like, order, value, want string }{
		{"2026-11-24 05:32:28.114", "", "2026-11-24 05:32:28.114", "2026-11-24T05:32:28.114Z"},
		{"2026-11-24 05:32:28.114", "", "2026-11-24 05:32:28", "2026-11-24T05:32:28Z"},
		{"2026-11-24 05:32:28", "", "2026-11-24 05:32:28,123456789123", "2026-11-24T05:32:28.123456789Z"},
		{"2026-11-24 05:32:28", "", "2026-11-24 05:32:28 extra", ""},
		{"2026-11-24 05:32:28", "", "2026-02-29 05:32:28", ""},
		{"2024-02-29 05:32:28", "", "2024-02-29 05:32:28", "2024-02-29T05:32:28Z"},
		{"2026-11-24T05:32:28Z", "", "2026-11-24T05:32:28+02:30", "2026-11-24T03:02:28Z"},
		{"2026-11-24T05:32:28+01:00", "", "2026-11-24T05:32:28Z", "2026-11-24T05:32:28Z"},
		{"2026-11-24T05:32:28Z", "", "2026-11-24T05:32:28", ""},
		{"Nov 24 05:32:28", "", "Nov  3 05:32:28", "2026-11-03T05:32:28Z"},
		{"Nov 24 05:32:28", "", "Jan 02 05:32:28", "2027-01-02T05:32:28Z"},
		{"Nov 24 05:32:28", "", "Feb 29 05:32:28", ""},
		{"24/Nov/2026:05:32:28 +0000", "", "03/Nov/2026:05:32:28 -0130", "2026-11-03T07:02:28Z"},
		{"24.11.2026 05:32:28", "", "03.04.2026 05:32:28", "2026-04-03T05:32:28Z"},
		{"11/24/2026 05:32:28 PM", "", "03/04/2026 12:32:28 am", "2026-03-04T00:32:28Z"},
		{"03/04/2026 05:32:28", "day", "03/04/2026 05:32:28", "2026-04-03T05:32:28Z"},
		{"03/04/2026 05:32:28", "month", "03/04/2026 05:32:28", "2026-03-04T05:32:28Z"},
		{"Tue Nov 24 05:32:28 2026", "", "Mon Nov 2 05:32:28 2026", "2026-11-02T05:32:28Z"},
		{"24 November 2026 05:32", "", "3 May 2026 05:32", "2026-05-03T05:32:00Z"},
		{"20261124T053228Z", "", "20261103T053228Z", "2026-11-03T05:32:28Z"},
		{"20261124053228", "", "20261103053229", "2026-11-03T05:32:29Z"},
		{"1795498348", "", "1795498348.5", "2026-11-24T05:32:28.5Z"},
		{"1795498348", "", "1795498348114", "2026-11-24T05:32:28.114Z"},
		{"1795498348114000", "", "1795498348114000", "2026-11-24T05:32:28.114Z"},
		{"2026-11-24 05:32:28", "", "2026-11-24 25:32:28", ""},
		{"2026-11-24 05:32:28 UTC", "", "2026-11-24 05:32:28 GMT", "2026-11-24T05:32:28Z"},
	} {
		f, err := TimeLike(c.like, c.order)
		require.NoError(t, err, c.like)
		got, ok := f.Parse(c.value, time.UTC, near)
		if c.want == "" {
			assert.False(t, ok, "%q like %q is %s", c.value, c.like, got)
			continue
		}
		assert.True(t, ok, "%q like %q", c.value, c.like)
		assert.Equal(t, at(c.want), got, "%q like %q is %s", c.value, c.like, got)
	}
	for _, bad := range []string{"", "05:32:28", "2026-11-24", "03/04/2026 05:32:28", "yesterday", "2026-13-24 05:32:28"} {
		_, err := TimeLike(bad, "")
		assert.Error(t, err, bad)
	}
}

// parts of patterns and of lines, from which pairs are put together that often
// fit and often nearly do.
var patternParts = []string{`(?<a>\S+)`, `(?<b>\w+)`, `(?<c>\d+)`, ` `, ` +`, `\[`, `\]`, `: `, `x?`, `(?:\[(?<d>\d+)\])?`, `(?<e>[^,]*)`, `,`, `.`,
	`(?<f>.*)`, `$`, `-`, `(?: y)?`, `ab`, `é`, `[a-c]*`, `(?<g>-?[\d.]+)`}
var lineParts = []string{"a", "ab", "1", "22", " ", "  ", "[", "]", ": ", "x", ",", "-", "é", "\xff", ".", "_", " y", "[7]", "-1.5"}

// The hand-made matcher gives exactly what the regular expression gives.
func TestStepsEqualRegexp(t *testing.T) {
	compared := 0
	rapid.Check(t, func(t *rapid.T) {
		src := "^"
		names := map[string]bool{}
		for _, p := range rapid.SliceOfN(rapid.SampledFrom(patternParts), 1, 8).Draw(t, "pattern") {
			if names[p] && len(p) > 4 && p[1] == '?' && p[2] == '<' || p == `(?:\[(?<d>\d+)\])?` && names[p] {
				continue
			}
			names[p] = true
			src += p
		}
		line := ""
		for _, p := range rapid.SliceOfN(rapid.SampledFrom(lineParts), 0, 12).Draw(t, "line") {
			line += p
		}
		if same(t, src, line) {
			compared++
		}
	})
	assert.Positive(t, compared)
}

func same(t require.TestingT, src, line string) bool {
	re, err := regexp.Compile(src)
	if err != nil {
		return false
	}
	s := compileSteps(src, re.SubexpNames())
	if s == nil {
		return false
	}
	spans := make([]int, 2*len(re.SubexpNames()))
	want := re.FindSubmatchIndex([]byte(line))
	got := s.match([]byte(line), spans, -1)
	require.Equal(t, want != nil, got, "%q on %q", src, line)
	if got {
		require.Equal(t, want[2:], spans[2:], "%q on %q", src, line)
	}
	return true
}

func FuzzSteps(f *testing.F) {
	f.Add(`^(?<at>\S+ \S+) (?<host>\S+) (?<program>[\w-]+)\[(?<pid>\d+)\]: (?<text>.*)$`, "2026-11-24 05:32:28.114 pump-03 pumpd[418]: low")
	f.Add(`^time=(?<at>\S+)( bay=(?<bay>\d+))?$`, "time=x bay=7")
	f.Fuzz(func(t *testing.T, src, line string) {
		if len(src) > 200 || len(line) > 1000 {
			return
		}
		for _, c := range line {
			if c == '\n' {
				return
			}
		}
		same(t, src, line)
	})
}

func TestTyped(t *testing.T) {
	for in, want := range map[[2]string]string{
		{"007", "integer"}: "7", {"-00", "integer"}: "0", {"-07", "integer"}: "-7", {"n/a", "integer"}: "n/a", {"+-1", "integer"}: "+-1",
		{"0:0::1", "address"}: "::1", {"YES", "boolean"}: "true", {"maybe", "boolean"}: "maybe", {"1.50", "decimal"}: "1.50",
	} {
		got, _ := Typed(in[0], in[1], "")
		assert.Equal(t, want, got, in)
	}
}
