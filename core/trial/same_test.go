package trial

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
)

// What a trial shows is what a replay would do: each alert of each key, when it rose, when
// it worsened, when and why it ended. (That a replay is what happens live, the service's
// own tests hold.)
func TestTrialIsReplay(t *testing.T) {
	clauses := []string{
		"problem \"low\"\n  recovery \"fine\"\n  per host\n  raise warning at 2 in 5m\n  raise critical at 4 in 10m",
		"problem /low (?<pump>\\d)/\n  recovery \"fine\"\n  per host, pump\n  raise notice\n  clear after 7m " +
			"quiet\n  reopen within 5m",
		"among not \"idle\"\n  problem \"low\"\n  per nothing\n  raise error when share >= 50% in 6m, at least " +
			"3\n  clear when share < 30% in 6m",
		"awaits \"fine\"\n  per host\n  raise error after 6m without",
		"problem /low (?<pump>\\d)/\n  per host\n  raise warning when avg(pump) > 4 in 8m, at least 2",
		"once \"low\"\n  awaits \"fine\"\n  per host\n  raise warning after 4m without",
	}
	rapid.Check(t, func(t *rapid.T) {
		var logs [2]strings.Builder
		at := time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC)
		for range rapid.IntRange(1, 60).Draw(t, "lines") {
			at = at.Add(time.Duration(rapid.SampledFrom([]int{0, 1, 30, 60, 119, 300, 420}).Draw(t,
				"gap")) * time.Second)
			i := rapid.IntRange(0, 1).Draw(t, "log")
			fmt.Fprintf(&logs[i], "%s h%d %s %d\n", at.Format(time.RFC3339), rapid.IntRange(0, 1).Draw(t, "host"),
				rapid.SampledFrom([]string{"low", "low", "fine", "idle"}).Draw(t, "word"),
				rapid.IntRange(1, 9).Draw(t, "pump"))
		}
		s := check(t, "source app {\n  files \"/a.log\", \"/b.log\"\n  layout app\n}\nlayout app {\n  pattern "+
			"/^(?<at>\\S+) (?<host>\\S+) (?<text>.*)$/\n  time at rfc3339\n}\nrule r {\n  on app\n  "+
			rapid.SampledFrom(clauses).Draw(t, "rule")+"\n}\n")
		r := s.Rule("r")
		var said []*Said
		var inputs []*Input
		for i, path := range []string{"/a.log", "/b.log"} {
			in := Input{Source: s.Source("app"), Path: path, Host: "x"}
			said = append(said, &Said{in})
			said[i].Data = []byte(logs[i].String())
			if rapid.Bool().Draw(t, "known") {
				said[i].Know(s, time.UTC)
			}
			in.Files = []io.Reader{bytes.NewReader([]byte(logs[i].String()))}
			inputs = append(inputs, &in)
		}
		var replayed []string
		_, err := Replay(s, inputs, Options{Emit: func(x *engine.Transition) {
			if x.Change != engine.Repeated {
				replayed = append(replayed, fmt.Sprint(x.Key, x.At, x.Severity, x.Change == engine.Cleared,
					x.Why != "" && x.Change == engine.Cleared,
					map[bool]string{true: x.Why}[x.Change == engine.Cleared]))
			}
		}})
		assert.NoError(t, err)
		o := Options{}
		if rapid.Bool().Draw(t, "recalled") { // of a rule that raises otherwise
			o.Recall = &Recall{}
			other := *r
			other.Raises = slices.Clone(r.Raises)
			other.Raises[0].Severity, other.Raises[0].At, other.Quiet = entry.Critical, 1, time.Minute
			_, err = TryRule(s, &other, said, o)
			assert.NoError(t, err)
			assert.NotEmpty(t, o.Recall.sign)
		}
		tried, err := TryRule(s, r, said, o)
		assert.NoError(t, err)
		var shown []string
		for _, row := range tried.Rows {
			for _, a := range row.Alerts {
				worst := entry.Severity(0)
				for _, st := range a.Steps {
					shown = append(shown, fmt.Sprint(row.Key, st.At, st.Severity, false, false, ""))
					worst = st.Severity
				}
				if a.To != entry.None {
					shown = append(shown, fmt.Sprint(row.Key, a.To, worst, true, true, a.Why))
				}
			}
		}
		slices.Sort(replayed)
		slices.Sort(shown)
		assert.Equal(t, replayed, shown)
	})
}
