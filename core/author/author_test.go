package author_test

import (
	"regexp"
	"strings"
	"testing"

	"dimlantern/core/author"
	"dimlantern/core/lang"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// compiled is a pattern as it stands between slashes.
func compiled(t require.TestingT, pattern string) *regexp.Regexp {
	re, err := regexp.Compile(strings.ReplaceAll(pattern[1:len(pattern)-1], `\/`, "/"))
	require.NoError(t, err, pattern)
	return re
}

var saying = rapid.Custom(func(t *rapid.T) string {
	words := rapid.SliceOfN(rapid.SampledFrom([]string{"pump", "7", "low", "pressure:", "4.5", "/var/log/x", "a+b",
		"(two)", "id=42", "[ok]", "höhe", "12:30:01", "$5", "\\n", "**", "****"}), 1, 8)
	return strings.Join(words.Draw(t, "words"), " ")
})

// A pattern that is made of an entry fits it, and is one of the language.
func TestPatternFitsItsEntry(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := saying.Draw(t, "text")
		pattern, named := author.PatternOver([]string{text})
		re := compiled(t, pattern)
		require.True(t, re.MatchString(text), "%s on %q", pattern, text)
		if named != "" {
			require.Contains(t, re.SubexpNames(), named)
		}
		_, ds := lang.Check([]*lang.File{lang.Parse("t", []byte("rule r {\n  problem "+pattern+
			"\n  raise warning\n  clear by hand\n}\n"))}, lang.Env{})
		require.False(t, lang.Errors(ds), "%s: %v", pattern, ds)
	})
}

// builtAlike are a text and at least so many more of the same build.
func builtAlike(t *rapid.T, more int) []string {
	words := strings.Split(saying.Draw(t, "text"), " ")
	texts := []string{strings.Join(words, " ")}
	for range rapid.IntRange(more, 4).Draw(t, "others") {
		other := append([]string(nil), words...)
		for i := range other {
			if rapid.IntRange(0, 2).Draw(t, "differs") == 0 {
				other[i] = rapid.SampledFrom([]string{"north", "south-2", "17", "x=1"}).Draw(t, "word")
			}
		}
		texts = append(texts, strings.Join(other, " "))
	}
	return texts
}

// A pattern over several entries of one build fits all of them.
func TestPatternOverFitsAll(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		texts := builtAlike(t, 1)
		pattern, _ := author.PatternOver(texts)
		re := compiled(t, pattern)
		for _, x := range texts {
			require.True(t, re.MatchString(x), "%s on %q, of %q", pattern, x, texts)
		}
	})
}

// A clause is written where its kind stands, comments stay, and the text is in its form.
func TestInsertClause(t *testing.T) {
	body := "# pumps\nrule low {\n  on      app\n  problem \"low\"  # so it says\n  raise   warning\n}\n"
	text, line, err := author.InsertClause(body, 4, "recovery", `"fine"`)
	require.NoError(t, err)
	assert.Equal(t, "  recovery \"fine\"", strings.Split(text, "\n")[line-1])
	assert.Contains(t, text, "# pumps\n")
	assert.Contains(t, text, "# so it says")
	assert.Less(t, strings.Index(text, "problem"), strings.Index(text, "recovery"))
	again, _, err := author.InsertClause(text, 4, "ignore", `"test"`)
	require.NoError(t, err)
	f := lang.Parse("t", []byte(again))
	assert.Equal(t, again, f.Format())
	_, _, err = author.InsertClause("source s {\n}\n", 1, "problem", `"x"`)
	assert.ErrorContains(t, err, "in no rule")
	assert.Equal(t, "rule a {\n  per host, pump\n}", author.WithKey("rule a {\n  per host\n}", 2, "pump"))
	assert.Equal(t, body, author.WithKey(body, 2, "pump"), "a rule with a problem has its key")
}
