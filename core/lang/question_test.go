package lang

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// typedQuestion reads a question over settings.
func typedQuestion(t *testing.T, settings, text string) (*Question, []Diagnostic) {
	t.Helper()
	s, ds := Check([]*File{Parse("s.lantern", []byte(settings)), ParseQuestion("typed", text)}, Env{})
	return s.Ask(Typed), ds
}

// A question in one line is divided into its clauses, and written as it was meant.
func TestQuestionsThereAndBack(t *testing.T) {
	for _, same := range []string{
		`on gates where "open refused" show count per gate every 10m over 24h`,
		`on gates where /open refused: levels differ by (?<difference>[\d.]+)/ and level >= error show count, ` +
			`max(difference), share(difference > 0.4) per gate every 10m over 24h beside 7d ago most 10`,
		`on alerts show count, median(taken-after) per rule having count > 5 least 3 by median(taken-after)`,
		`join /copy (?<job>\w+) begins/ to /copy (?<job>\w+) ends/ by job within 2h show p95(lasted) per job`,
		`reckon bytes-each as (bytes / (pages + 1) - 3) reckon n as (length(text) * 2) show sum(n), avg(bytes-each)`,
		`show gaps longer than 1h per host new since 7d ago`,
		`show count per each field over last week`,
		`where to == 3 show max(by) per to, on from 2026-11-20 to 2026-11-21`,
		`where has new ignore not has show show count per show`,
		`show count every month over last month beside before most 5 by difference per host`,
		`reckon wait as (since(at) - 250ms) show max(wait) per host every week from 13:20 to 15:00`,
	} {
		q, ds := typedQuestion(t, anyGates, same)
		require.NotNil(t, q, "%s: %v", same, ds)
		once := q.String()
		again, ds := typedQuestion(t, anyGates, once)
		require.NotNil(t, again, "%s: %v", once, ds)
		assert.Equal(t, once, again.String())
		for _, w := range strings.Fields(same) {
			assert.Contains(t, once, w, same)
		}
		f := ParseQuestion("typed", same)
		assert.Equal(t, once, reordered(t, f.TypedText()), "in lines")
		block := "ask x { " + same + " }"
		formed := Parse("f", []byte(block)).Format()
		assert.Equal(t, formed, Parse("f", []byte(formed)).Format())
	}
}

func reordered(t *testing.T, lines string) string {
	q, ds := typedQuestion(t, anyGates, lines)
	require.NotNil(t, q, "%s: %v", lines, ds)
	return q.String()
}

const anyGates = `source gates { files "/g/*.log"
layout json }`

const gatesSettings = `
source gates { files "/g/*.log"
  layout gate }
source pumps { files "/p/*.log" }
layout gate {
  pattern /^(?<at>\S+) (?<gate>\S+) (?<took>\S+) (?<n>\S+) (?<text>.*)$/
  time at rfc3339
  type took duration in ms
  type n integer
}
kind drill { where "self test" or /exercise (?<what>\w+)/ }
`

// What cannot be is told with what to write instead.
func TestQuestionsThatCannotBe(t *testing.T) {
	for text, want := range map[string]string{
		`on gats show count`:                                                  "did you mean: gates",
		`on gates show count per gatee`:                                       "gives the field gatee",
		`on gates show sum(gates)`:                                            "gives the field gates",
		`on gates show p95(took) per gate having p95(took) > 5`:               "write 5s, or 5ms",
		`on gates show p95(n) per gate having p95(n) > 5s`:                    "is a number, and 5s a duration",
		`on gates reckon x as (took + 5) show max(x)`:                         "give the number its unit",
		`on gates show count per gate every 10m beside 25m ago`:               "no multiple of the periods of 10m",
		`on gates show count every 36h`:                                       "no whole days",
		`on gates show count most 5`:                                          "there is one group only",
		`on gates show count, count`:                                          "shown twice",
		`on gates show entries every 1h`:                                      "entries are not counted by periods",
		`on gates join /a (?<x>\d)/ to /b (?<x>[a-f])/ by x within 5m`:        "never meet",
		`on gates join /a (?<x>\d)/ to /b/ by x within 5m`:                    "only one half has a x",
		`on gates join "a" to "a" by gate within 5m`:                          "both halves are the same entries",
		`on gates where is drll show count`:                                   "did you mean: drill",
		`on gates show count from 15:00 to 15:00`:                             "no time at all",
		`on gates show gaps`:                                                  "write: gaps longer than 1h",
		`on gates show took`:                                                  "write: last(took)",
		`on alerts show count per gatee`:                                      "alerts have no field gatee",
		`on alerts, gates show count`:                                         "not asked together",
		`on gates show count over today over 3h`:                              "over is written twice",
		`on gates show count per gate most 3 by difference`:                   "nothing stands beside",
		`on gates show count per text`:                                        "almost every entry has a text",
		`on gates where gate == "x" and show count`:                           "after the field show a comparison",
		`on gates reckon a as (took / ) show count`:                           "a field or a number was expected",
		`on gates show count per each field every 1h show max(n)`:             "show is written twice",
		`on gates show max(n) per each field`:                                 "only count and rate make sense",
		"on gates\nwhere \"x\"\nshow count per gate\nevry 5m":                 "did you mean: every",
		`on gates show count per gate every 1h over 24h beside 1w ago most 0`: "from 1 to",
	} {
		_, ds := typedQuestion(t, gatesSettings, text)
		var said []string
		for _, d := range ds {
			if d.Pos.File == "typed" {
				said = append(said, d.What+"; "+d.Mend)
			}
		}
		assert.Contains(t, strings.Join(said, "\n"), want, text)
	}
}

// A kind is what stands in it, wherever it is used, and never made of itself.
func TestKinds(t *testing.T) {
	s, ds := Check([]*File{Parse("s", []byte(gatesSettings+`
kind odd { where is drill and gate == "a1" }
rule r { on gates
 problem /refused (?<x>\d+)/
 ignore is odd
 per gate
 raise warning
 clear after 1h quiet }`))}, Env{})
	require.False(t, Errors(ds), "%v", ds)
	assert.Equal(t, `is odd`, s.Rules[0].Ignore.String())
	assert.Equal(t, `("self test" or /exercise (?<what>\w+)/) and gate == "a1"`, Plain(s.Rules[0].Ignore).String())
	assert.Equal(t, []string{"what"}, Captures(s.Rules[0].Ignore))

	_, ds = Check([]*File{Parse("s", []byte("kind a { where is b }\nkind b { where \"x\" or is c }\n"+
		"kind c { where is a }\nkind d { where is d }\n"))}, Env{})
	n := 0
	for _, d := range ds {
		if d.Code == "kind-circle" {
			n++
		}
	}
	assert.Equal(t, 2, n, "%v", ds)
}

// In words, two questions of different meaning differ.
func TestQuestionInWords(t *testing.T) {
	q, _ := typedQuestion(
		t,
		gatesSettings,
		`on gates where "open refused" and level >= error show count, max(n) per gate `+
			`every 10m over 24h beside 7d ago most 10`,
	)
	assert.Equal(
		t,
		[]string{`How many entries of gates there are where the text has the words "open refused" and level ` +
			`is at least error, and the greatest n, for each gate, every 10 minutes, of the last 24 hours; ` +
			`beside it the ` +
			`same 1 week before.`, "The 10 groups of the most by the number of entries, and all others together."},
		q.Words(),
	)
}
