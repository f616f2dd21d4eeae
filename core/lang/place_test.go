package lang_test

import (
	"fmt"
	"strings"
	"testing"

	"dimlantern/core/lang"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const placed = `# about pumps
source app {
  files "/a", "/b"
}

rule low { problem "low"
  per host,
      pump
  expect "one low" {
    line "low"
    then raised warning
  }
  raise warning
}
rule fine {
  problem "fine"
`

// Where blocks and clauses stand comes from the parser: however a rule is laid out, whether it
// is closed yet or not.
func TestPlaces(t *testing.T) {
	f := lang.Parse("t", []byte(placed))
	var got []string
	for _, p := range f.Places() {
		got = append(got, fmt.Sprint(p.Kind, " ", p.Name, " ", p.First, "-", p.Last))
	}
	assert.Equal(t, []string{"source app 2-4", "rule low 6-14", "rule fine 15-17"}, got)
	low := f.Places()[1]
	got = nil
	for _, c := range low.Clauses {
		got = append(got, fmt.Sprint(c.Word, " ", c.Words, " ", c.First, "-", c.Last))
	}
	assert.Equal(t, []string{`problem ["low"] 6-6`, `per [host pump] 7-8`, `expect ["one low"] 9-12`,
		`raise [warning] 13-13`}, got)
	assert.Equal(t, []int{9, 12}, []int{low.Clauses[2].Nested.First, low.Clauses[2].Nested.Last})
	for line, want := range map[int]string{1: "", 2: "", 3: "source", 4: "", 5: "", 7: "rule", 10: "expect",
		12: "rule", 13: "rule", 14: "", 16: "rule"} {
		assert.Equal(t, want, f.Within(line), "line %d", line)
	}
	for line, want := range map[int]string{1: "low", 5: "low", 6: "low", 14: "low", 15: "fine", 99: "fine"} {
		p, found := f.RuleNear(line)
		require.True(t, found)
		assert.Equal(t, want, p.Name)
	}
}

// Whatever is typed, blocks lie within the text, one behind the other, and clauses within
// their block.
func TestPlacesLieWithinTheText(t *testing.T) {
	pieces := []string{"rule a {", "}", "  problem \"x\"", "  per host,", "pump", "  expect \"e\" {", "  line \"x\"",
		"source s {", "# note", "", "layout", "{", "  names n {"}
	rapid.Check(t, func(t *rapid.T) {
		lines := rapid.SliceOfN(rapid.SampledFrom(pieces), 0, 14).Draw(t, "lines")
		f := lang.Parse("t", []byte(strings.Join(lines, "\n")))
		last := 0
		for _, p := range f.Places() {
			require.Greater(t, p.First, last)
			require.LessOrEqual(t, p.First, p.Last)
			require.LessOrEqual(t, p.Last, len(lines)+1)
			at := p.First
			for _, c := range p.Clauses {
				require.GreaterOrEqual(t, c.First, at)
				require.LessOrEqual(t, c.Last, p.Last)
				at = c.First
			}
			last = p.Last
		}
		for n := range len(lines) + 2 {
			f.Within(n) // says something of every line
		}
	})
}
