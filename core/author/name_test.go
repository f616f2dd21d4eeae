package author_test

import (
	"strings"
	"testing"

	"dimlantern/core/author"
	"dimlantern/core/entry"
	"dimlantern/core/lang"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// naming names the stretch of a text that holds a value, in a rule with a problem, and returns the
// problem then.
func naming(t require.TestingT, problem, text string, others []string, from, to int) (string, error) {
	body := "rule r {\n  problem " + problem + "\n  raise warning\n  clear by hand\n}\n"
	s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte(body))}, lang.Env{})
	require.False(t, lang.Errors(ds), "%s: %v", problem, ds)
	out, _, err := author.NameValue(s.Rule("r"), body, &entry.Entry{Raw: text}, others, from, to, "it")
	if err != nil {
		return "", err
	}
	s, ds = lang.Check([]*lang.File{lang.Parse("t", []byte(out))}, lang.Env{})
	require.False(t, lang.Errors(ds), "%s: %v", out, ds)
	m := lang.Matches(s.Rule("r"))[0].Pattern
	got := m.Re().FindStringSubmatch(text)
	require.NotNil(t, got, "%s on %q", m.Source, text)
	require.Equal(t, text[from:to], got[m.Re().SubexpIndex("it")])
	for _, o := range others {
		require.True(t, m.Re().MatchString(o), "%s on %q", m.Source, o)
	}
	return m.Source, nil
}

// What a person points at gets its name: what was left open, a part of that, and words that were not.
func TestNameValue(t *testing.T) {
	for _, c := range []struct{ problem, text, value, want string }{
		{`/pump \d+ low/`, "pump 7 low", "7", `pump (?<it>\d+) low`},
		{`/refused \S+ by gate/`, "refused user=anna, by gate", "anna", `refused user=(?<it>[^\s\,]+), by gate`},
		{`/from [\d.:,]+ closed/`, "from 10.0.0.7:5432 closed", "5432", `from [\d.:,]*?:(?<it>\d+) closed`},
		{`/from [\d.:,]+ closed/`, "from 10.0.0.7:5432 closed", "10.0.0.7", `from (?<it>[\d.:,]+):[\d.:,]* closed`},
		{`/for maestro\d+ from/`, "for maestro7 from", "maestro7", `for (?<it>\S+) from`},
		{`/for maestro from (?<ip>\S+)/`, "for maestro from 10.0.0.7", "maestro", `for (?<it>\S+) from (?<ip>\S+)`},
		{`/job "[^"]+" failed/`, `job "copy of cold-2" failed`, "copy of cold-2", `job "(?<it>[^"]+)" failed`},
		{`/job "[^"]+" failed/`, `job "copy of cold-2" failed`, "cold-2", `job "copy of (?<it>[^\s\"]+)" failed`},
		{`/^a b$/i`, "A B", "B", `(?i)^a (?<it>\S+)$`},
	} {
		from := strings.LastIndex(c.text, c.value)
		got, err := naming(t, c.problem, c.text, nil, from, from+len(c.value))
		require.NoError(t, err, c.problem)
		assert.Equal(t, c.want, got)
	}
	for problem, want := range map[string]string{
		`/pump (?<n>\d+) low/`: "a field there already", `/low/`: "does not look there", `/high/`: "p makes one of it",
		`/pump 7|pump 8/`: "write it by hand"} {
		_, err := naming(t, problem, "pump 7 low", nil, 5, 6)
		assert.ErrorContains(t, err, want, problem)
	}
}

// Whatever is pointed at in an entry of which a pattern was made: it gets the name, and the pattern fits
// all that it fitted; or it is said that it cannot be.
func TestNamedPatternFitsAll(t *testing.T) {
	named := 0
	rapid.Check(t, func(t *rapid.T) {
		texts := builtAlike(t, 0)
		pattern, _ := author.PatternOver(texts)
		from := rapid.IntRange(0, len(texts[0])-1).Draw(t, "from")
		to := rapid.IntRange(from+1, len(texts[0])).Draw(t, "to")
		if !strings.Contains(texts[0], "ö") {
			if _, err := naming(t, pattern, texts[0], texts[1:], from, to); err == nil {
				named++
			}
		}
	})
	assert.Positive(t, named)
}
