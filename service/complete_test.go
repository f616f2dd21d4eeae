package service

import (
	"strings"
	"testing"

	"dimlantern/core/author"

	"dimlantern/folder"

	"github.com/stretchr/testify/assert"

	"dimlantern/core/entry"
	"dimlantern/core/layout"
	"dimlantern/core/trial"
)

// What is being typed is completed by what may stand there.
func TestComplete(t *testing.T) {
	s, _ := folder.Check([]folder.Text{{Name: "t", Body: "source pump-logs {\n  files \"/x\"\n  layout " +
		"json\n}\nsource gates {\n  files \"/y\"\n}\nrule big {\n  problem \"x\"\n  " +
		"raise error\n  clear by hand\n}\n"}})
	kinds := []trial.KindSays{
		{Kind: trial.Kind{Shape: &layout.Shape{Count: 3}},
			Fields: []entry.Field{{Name: "state", Value: "shut"}, {Name: "temp", Value: "4"}}},
		{Kind: trial.Kind{Shape: &layout.Shape{Count: 9}}, Fields: []entry.Field{{Name: "state", Value: "open"}}},
	}
	for typed, want := range map[string]string{
		"  re":                     "recovery remind reopen",
		"  on p":                   "pump-logs",
		"  on gates, p":            "pump-logs",
		"  raise cr":               "critical",
		"  raise error at 3 i":     "in",
		"  raise error when av":    "avg",
		"  raise error when avg(t": "temp text",
		"  problem st":             "state",
		"  problem state == \"":    "open shut",
		"  problem state == \"s":   "shut",
		"  unless b":               "big",
		"  per h":                  "host",
		"  # re":                   "",
		"  say \"re":               "",
	} {
		body := "rule r {\n" + typed + "\n}\n"
		words, _ := author.Complete(s, nil, kinds, body, 2, len([]rune(typed)))
		assert.Equal(t, want, strings.Join(words, " "), typed)
	}
	words, n := author.Complete(s, nil, nil, "ru\n", 1, 2)
	assert.Equal(t, []any{[]string{"rule"}, 2}, []any{words, n})
}
