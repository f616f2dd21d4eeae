package lang

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const byHand = `# The harbour.


source pumps {files "/p.log"}   # by hand

# right above low
rule low {
      on    pumps
  problem   "low"      # so it says

  raise warning   at 3 in 5m
  clear after 1h quiet
}
# apart

rule   high { on pumps
  problem "high"
  raise error
  clear after 1h quiet }
# the end
`

// A change of one line is a change of one line; comments, blank lines and spacing elsewhere stay.
func TestEditedTouchesNothingElse(t *testing.T) {
	differs := func(a, b string) (gone, come []string) {
		had := map[string]int{}
		for _, l := range strings.Split(a, "\n") {
			had[l]++
		}
		for _, l := range strings.Split(b, "\n") {
			if had[l]--; had[l] < 0 {
				come = append(come, l)
			}
		}
		for l, n := range had {
			for ; n > 0; n-- {
				gone = append(gone, l)
			}
		}
		return gone, come
	}
	f := Parse("t", []byte(byHand))
	assert.Equal(t, byHand, f.Edited())
	require.True(t, f.SetOff("rule", "low", true))
	gone, come := differs(byHand, f.Edited())
	assert.Empty(t, gone)
	assert.Equal(t, []string{"  off"}, come)
	f = Parse("t", []byte(byHand))
	require.Positive(t, f.Rename("rule", "low", "lower"))
	gone, come = differs(byHand, f.Edited())
	assert.Equal(t, []string{"rule low {"}, gone)
	assert.Equal(t, []string{"rule lower {"}, come)
	f = Parse("t", []byte(byHand))
	require.True(t, f.Remove("rule", "low"))
	_, come = differs(byHand, f.Edited())
	assert.Empty(t, come)
	assert.NotContains(t, f.Edited(), "right above low")
	assert.Contains(t, f.Edited(), "# apart\n\nrule   high { on pumps\n")
	f = Parse("t", []byte(byHand))
	require.True(t, f.Copy("rule", "high", "higher"))
	gone, come = differs(byHand, f.Edited())
	assert.Empty(t, gone)
	assert.Contains(t, come, "rule higher {")
	now := strings.Replace(byHand, "at 3 in", "at 4 in", 1)
	gone, come = differs(byHand, Tidied(byHand, now))
	assert.Equal(t, []string{"  raise warning   at 3 in 5m"}, gone)
	assert.Equal(t, []string{"  raise   warning at 4 in 5m"}, come)
}

// Whatever is done to blocks, the text means what the edited file means, and what was not touched stands
// there byte for byte.
func TestEditedMeansTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var text strings.Builder
		names := []string{"a", "b", "c", "d"}
		raw := map[string]string{}
		for _, n := range names {
			text.WriteString(rapid.SampledFrom([]string{"", "\n", "\n\n", "# over " + n + "\n",
				"# apart\n\n"}).Draw(t, "gap"))
			pad := rapid.SampledFrom([]string{" ", "  ", "    ", "\t"}).Draw(t, "pad")
			raw[n] = "rule " + n + " {\n" + pad + "problem" + pad + "\"low " + n + "\"" +
				rapid.SampledFrom([]string{"", "  # said"}).Draw(t, "trail") + "\n" +
				rapid.SampledFrom([]string{"", "\n", pad + "# inside\n"}).Draw(t, "blank") + pad +
				"raise warning\n" + pad +
				"clear after 1h quiet\n}"
			text.WriteString(raw[n] + "\n")
		}
		was := text.String()
		f := Parse("t", []byte(was))
		require.False(t, Errors(f.Diagnostics()), was)
		touched := map[string]bool{}
		for range rapid.IntRange(0, 3).Draw(t, "edits") {
			n := rapid.SampledFrom(names).Draw(t, "which")
			touched[n] = true
			switch rapid.SampledFrom([]string{"off", "rename", "remove", "copy", "set", "put"}).Draw(t, "what") {
			case "off":
				f.SetOff("rule", n, true)
			case "rename":
				f.Rename("rule", n, n+"-2")
			case "remove":
				f.Remove("rule", n)
			case "copy":
				f.Copy("rule", n, n+"-copy")
			case "set":
				f.SetClause("rule", n, "note \"x\"")
			case "put":
				f.Put("rule", n, Parse("o", []byte("rule "+n+" {\n  problem \"other\"\n  raise error\n"+
					"  clear by hand\n}\n")))
			}
		}
		got := f.Edited()
		bare := func(s string) string { // comments and blanks apart
			g := Parse("t", []byte(s))
			require.False(t, Errors(g.Diagnostics()), s)
			var out []string
			for _, b := range g.blocks {
				for _, l := range printed(b, false) {
					if l = strings.Join(strings.Fields(l), " "); !strings.HasPrefix(l, "#") && l != "" {
						out = append(out, l)
					}
				}
			}
			return strings.Join(out, "\n")
		}
		require.Equal(t, bare(f.Format()), bare(got), "of\n%s", was)
		for _, n := range names {
			if !touched[n] {
				require.Contains(t, got, raw[n], "of\n%s", was)
			}
		}
		require.Equal(t, got, Tidied(got, got))
	})
}
