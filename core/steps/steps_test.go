package steps

import (
	"regexp"
	"regexp/syntax"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// parts of patterns and of lines, from which pairs are put together that often
// fit and often nearly do.
var patternParts = []string{`(?<a>\S+)`, `(?<b>\w+)`, `(?<c>\d+)`, ` `, ` +`, `\[`, `\]`, `: `, `x?`,
	`(?:\[(?<d>\d+)\])?`, `(?<e>[^,]*)`, `,`, `.`,
	`(?<f>.*)`, `$`, `-`, `(?: y)?`, `ab`, `é`, `[a-c]*`, `(?<g>-?[\d.]+)`}
var lineParts = []string{"a", "ab", "1", "22", " ", "  ", "[", "]", ": ", "x", ",", "-", "é", "\xff", ".", "_", " y",
	"[7]", "-1.5", "\n", "ab ab", "abcabcabca",
	"1.0.2,3-4x", "\x01", "\t"}

// The hand-made matcher gives exactly what the regular expression gives.
func TestStepsEqualRegexp(t *testing.T) {
	compared := 0
	rapid.Check(t, func(t *rapid.T) {
		src := rapid.SampledFrom([]string{"^", "ab", "(?<h>x)", " "}).Draw(t, "begins")
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
	names := re.SubexpNames()
	spans := make([]int, 2*len(names))
	want := re.FindSubmatchIndex([]byte(line))
	tree := treeOf(t, src)
	whole, part := Compile(tree, names), CompileAnywhere(tree, names)
	if whole != nil && !strings.Contains(line, "\n") {
		got := whole.Match([]byte(line), spans, -1)
		require.Equal(t, want != nil, got, "%q on %q", src, line)
		if got {
			require.Equal(t, want[2:], spans[2:], "%q on %q", src, line)
		}
		require.Equal(t, got, whole.MatchLine([]byte(line), spans), "%q on the line %q", src, line)
		if got {
			require.Equal(t, want[2:], spans[2:], "%q on the line %q", src, line)
		}
	}
	if part == nil {
		return whole != nil
	}
	got, sure := part.Find(line, spans)
	if sure {
		require.Equal(t, want != nil, got, "%q in %q", src, line)
	}
	if got {
		require.Equal(t, want, spans, "%q in %q", src, line)
	}
	return sure
}

func FuzzSteps(f *testing.F) {
	f.Add(`^(?<at>\S+ \S+) (?<host>\S+) (?<program>[\w-]+)\[(?<pid>\d+)\]: (?<text>.*)$`,
		"2026-11-24 05:32:28.114 pump-03 pumpd[418]: low")
	f.Add(`low \((?<bar>[\d.]+) bar`, "low (x) low (1.2 bar)")
	f.Add(`^time=(?<at>\S+)( bay=(?<bay>\d+))?$`, "time=x bay=7")
	f.Fuzz(func(t *testing.T, src, line string) {
		if len(src) > 200 || len(line) > 1000 {
			return
		}
		same(t, src, line)
	})
}

// A pattern that reads far in vain, again and again, is given up for the regular expression,
// which is linear.
func TestFindIsLinear(t *testing.T) {
	p := CompileAnywhere(treeOf(t, `a[ab]*c`), []string{""})
	require.NotNil(t, p)
	text := strings.Repeat("ab", 1<<20)
	_, sure := p.Find(text, make([]int, 2))
	assert.False(t, sure)
	ok, sure := p.Find(text+"c", make([]int, 2))
	assert.True(t, ok && sure)
}

func treeOf(t require.TestingT, src string) *syntax.Regexp {
	tree, err := syntax.Parse(src, syntax.Perl)
	require.NoError(t, err)
	return tree
}

// Behind a group a line is matched as a whole match of it does, whichever digits the group has, and however
// many decimals.
func TestPastIsTheRestOfAMatch(t *testing.T) {
	times := [][2]string{{`\S+ \S+`, "1-23 12:31"}, {`\S+`, "1-3Z"}, {`[^|>]+`, "12 a 3"}, {`[^ ]+ -[^ ]+`, "12 -1x"},
		{`\d+:\d+`, "12:31"}, {`1\S+`, "13"}, {`-[\d.,:-]+`, "-1:3-"}, {`x?[^ >]+`, "x12"}, {`(?<u>\S+) \S+`, "1 3"},
		{`\S+ \d+`, "x3 12"}, {`\S+ [\d.,]*`, "12 1"}, {`\S+ 1[\d.,]*`, "3 12"}}
	rests := [][2]string{{"", ""}, {`=(?<n>\d+)`, "=7"}, {`(?<text>.*)$`, " ab"}, {"!", "!"}, {"$", ""}}
	compared := 0
	rapid.Check(t, func(t *rapid.T) {
		draw := func(name string, parts ...string) string { return rapid.SampledFrom(parts).Draw(t, name) }
		time, rest := rapid.SampledFrom(times).Draw(t, "time"), rapid.SampledFrom(rests).Draw(t, "rest")
		between := draw("behind", " ", ">", "|", "> ")
		src := "^" + draw("lead", "", "<", " ") + "(?<t>" + time[0] + ")" + regexp.QuoteMeta(between) + `(?<host>\w+)` +
			rest[0]
		names := regexp.MustCompile(src).SubexpNames()
		s := Compile(treeOf(t, src), names)
		if s == nil || s.Past(1) == nil {
			return
		}
		lead, _ := s.Behind(1)
		line := func(time string) []byte {
			return []byte(lead + time + between + "ab" + rest[1] + draw("more", "", "", "7", " "))
		}
		spans, got := make([]int, 2*len(names)), make([]int, 2*len(names))
		if !s.MatchLine(line(time[1]), spans) || spans[3] != len(lead)+len(time[1]) {
			return
		}
		other := strings.NewReplacer("1", "9", "3", "0").Replace(time[1])
		digit := strings.LastIndexAny(time[1], "123") + 1
		other = other[:digit] + draw("decimals", "", ".5", ",077", "..", "12") + other[digit:]
		text := line(other)
		whole := s.MatchLine(text, spans)
		require.Equal(t, whole, s.Past(1).MatchFrom(text, len(lead)+len(other), got), "%q on %q", src, text)
		if whole {
			compared++
			copy(got[2:], []int{len(lead), len(lead) + len(other)})
			require.Equal(t, spans[2:], got[2:], "%q on %q", src, text)
		}
	})
	assert.Greater(t, compared, 5)
}
