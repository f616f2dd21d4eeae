package author

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/lang"
)

// While a kit is being taken into use, its name, its values and what it has to leave out are proposed.
func TestCompleteUse(t *testing.T) {
	kit := "kit pump {\n  needs program \"x\"\n  given logs \"/a\"\n  given slow 5s\n}\n" +
		"source pump-log { files \"{logs}/x\" }\nrule pump-slow {\n  on pump-log\n  problem \"slow\"\n  per host\n" +
		"  raise error\n  clear after 1h quiet\n}\n"
	s, ds := lang.Check([]*lang.File{lang.Parse("s", []byte("settings { use kit pump }\n")),
		lang.ParseKit("pump", "k", []byte(kit))}, lang.Env{Kits: []string{"postgres", "pump", "redis"},
		ErrorsOnly: true})
	require.Empty(t, ds)
	for typed, want := range map[string][]string{
		"  use ki":                      {"kit"},
		"  use kit p":                   {"postgres", "pump"},
		"  use kit pump w":              {"with"},
		"  use kit pump with sl":        {"slow"},
		"  use kit pump but n":          {"not"},
		"  use kit pump but not pump-s": {"pump-slow"},
		"  use kit pump but not pump-":  {"pump-log", "pump-slow"},
	} {
		words, n := Complete(s, nil, nil, "settings {\n"+typed+"\n}\n", 2, len(typed))
		assert.Equal(t, want, words, typed)
		assert.Positive(t, n)
	}
}
