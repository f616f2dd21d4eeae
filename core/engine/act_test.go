package engine_test

import (
	"fmt"
	"testing"
	"time"

	"dimlantern/core/verdict"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
)

const actRules = `rule r {
  problem "low"
  recovery "fine"
  per host
  raise warning
  raise critical after 10m open untaken
  remind every 3m
  clear after 1h quiet
}
`

// What people do keeps reminders and what is for untaken alerts off, from then on and no
// longer than the alert lasts; the rest of what happens is the same as without them.
func TestActs(t *testing.T) {
	s := settings(t, actRules)
	at := func(m int) entry.Instant {
		return entry.Of(time.Date(2026, 11, 24, 5, m, 0, 0, time.UTC))
	}
	e := engine.New(s.Rules)
	judged := func(m int, hit bool) []engine.Transition {
		v := verdict.Verdict{At: at(m), Hit: hit, Recovery: !hit, Key: []string{"a"}, RecoveryKey: []string{"a"}}
		return apply(e, engine.Entry{Judged: &verdict.Judged{Entry: &entry.Entry{Host: "a", Origin: "a:/x", At: at(m),
			Raw: "low"}, Reached: at(m), Verdicts: []verdict.Verdict{v}}})
	}
	ts := judged(0, true)
	require.Len(t, ts, 1)
	id := ts[0].Alert
	_, ok := e.Apply(engine.Act{Alert: "nothing", Change: engine.Taken, At: at(1)})
	assert.False(t, ok)
	ts, ok = e.Apply(engine.Act{Alert: id, Change: engine.Taken, By: "mira", Words: "mine", At: at(1)})
	require.True(t, ok)
	assert.Equal(t, []string{"taken", "mira", "mine"}, []string{ts[0].Change, ts[0].By, ts[0].Words})
	assert.Empty(t, apply(e, engine.Reach{At: at(20)}), "neither told again nor worse")
	_, ok = e.Apply(engine.Act{Alert: id, Change: engine.Noted, By: "mira", Words: "let go", LetGo: true, At: at(20)})
	require.True(t, ok)
	var got []string
	for _, x := range apply(e, engine.Reach{At: at(24)}) {
		got = append(got, fmt.Sprint(x.At.Sub(at(0)), x.Change, x.Severity))
	}
	assert.Equal(t, []string{"20m0sworsenedcritical", "23m0srepeatedcritical"}, got,
		"what was due meanwhile is due at once, and reminders count anew")
	require.NotEmpty(t, judged(25, false))
	require.NotEmpty(t, judged(26, true))
	assert.NotEmpty(t, apply(e, engine.Reach{At: at(30)}), "the next alert is nobody's")
}

// Written out and read back at any time, an engine goes on as if it had not been, whatever
// people have done.
func TestActsOutliveARestart(t *testing.T) {
	s := settings(t, actRules)
	rapid.Check(t, func(t *rapid.T) {
		whole, cut := engine.New(s.Rules), engine.New(s.Rules)
		now := entry.Of(time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC))
		id := ""
		for range rapid.IntRange(1, 25).Draw(t, "steps") {
			now = now.Add(time.Duration(rapid.IntRange(0, 400).Draw(t, "gap")) * time.Second)
			what := rapid.SampledFrom([]string{"hit", "fine", "take", "let go", "note", "wait"}).Draw(t, "what")
			do := func(e *engine.Engine) (out []string) {
				var ts []engine.Transition
				if what != "hit" && what != "fine" {
					for _, x := range apply(e, engine.Advance{At: now}) {
						out = append(out, fmt.Sprint(x.At, x.Change))
					}
				}
				switch what {
				case "hit", "fine":
					v := verdict.Verdict{At: now, Hit: what == "hit", Recovery: what == "fine", Key: []string{"a"},
						RecoveryKey: []string{"a"}}
					ts = apply(e, engine.Entry{Judged: &verdict.Judged{Entry: &entry.Entry{Host: "a", Origin: "a:/x",
						At: now, Raw: what}, Reached: now, Verdicts: []verdict.Verdict{v}}})
				case "wait":
					ts = apply(e, engine.Reach{At: now})
				case "take":
					ts, _ = e.Apply(engine.Act{Alert: id, Change: engine.Taken, By: "mira", At: now})
				case "note":
					ts, _ = e.Apply(engine.Act{Alert: id, Change: engine.Noted, By: "mira", Words: "x", At: now})
				default:
					ts, _ = e.Apply(engine.Act{Alert: id, Change: engine.Noted, By: "mira", Words: "let go",
						LetGo: true, At: now})
				}
				for _, x := range ts {
					b, err := x.MarshalJSON()
					require.NoError(t, err)
					out = append(out, string(b))
					if x.Change == engine.Raised {
						id = x.Alert
					}
				}
				return out
			}
			was := id
			a := do(whole)
			id = was
			assert.Equal(t, a, do(cut))
			if rapid.Bool().Draw(t, "restart") {
				var err error
				cut, err = engine.Decode(s.Rules, cut.Encode())
				require.NoError(t, err)
			}
		}
	})
}
