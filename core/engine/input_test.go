package engine_test

import (
	"fmt"
	"slices"
	"testing"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// apply tells an engine one thing, where whether it did something does not matter.
func apply(e *engine.Engine, in engine.Input) []engine.Transition {
	ts, _ := e.Apply(in)
	return ts
}

// drawInput is any input about a few origins, alerts and rules.
func drawInput(t *rapid.T, rules []*lang.Rule, at int64, alerts []string) engine.Input {
	when := entry.Instant(at)
	origin := rapid.SampledFrom([]string{"x:log", "y:log"}).Draw(t, "origin")
	alert := "none"
	if len(alerts) > 0 {
		alert = rapid.SampledFrom(alerts).Draw(t, "alert")
	}
	words := rapid.String().Draw(t, "words")
	switch rapid.IntRange(0, 14).Draw(t, "kind") {
	case 0:
		return engine.Advance{At: when}
	case 1:
		return engine.Reach{At: when}
	case 2:
		return engine.Hold{Bounds: map[int]entry.Instant{rapid.IntRange(0, len(rules)-1).Draw(t, "rule"): when}}
	case 3:
		return engine.Hold{Bounds: map[int]entry.Instant{}}
	case 4:
		return engine.Blind{Origin: origin, At: when}
	case 5:
		return engine.Seen{Origin: origin, At: when}
	case 6:
		return engine.Forget{Origin: origin, At: when}
	case 7:
		return engine.Begin{At: when, Origins: []engine.Origin{{Name: origin, Source: "s", Host: origin[:1]}}}
	case 8:
		return engine.Rest{At: when, Origins: rapid.SampledFrom([][]string{nil, {origin}}).Draw(t, "rests")}
	case 9:
		return engine.Clear{Alert: alert, At: when, By: "mira", Words: words}
	case 10:
		return engine.Act{Alert: alert, At: when, Change: rapid.SampledFrom([]string{engine.Taken, engine.Noted,
			engine.Hushed, engine.Unhushed}).Draw(t, "change"),
			By: "mira", Words: words, Until: when, LetGo: rapid.Bool().Draw(t, "let go")}
	}
	text := rapid.SampledFrom([]string{"pump a low 1", "pump b low 2", "pump a fine", "pump a burst",
		"pump a beats"}).Draw(t, "text")
	return engine.Entry{Judged: judged(rules, refEntry{at, origin[:1], text}, at)}
}

// seen is a view, and what the engine itself said when it was made.
type seen struct {
	view *engine.View
	keys []string
}

func keysOf(e *engine.Engine) []string {
	var out []string
	for _, k := range e.Keys() {
		out = append(out, fmt.Sprintf("%+v", k))
	}
	slices.Sort(out)
	return out
}

func viewed(v *engine.View) []string {
	var out []string
	v.Keys(func(k *engine.KeyView) bool {
		out = append(out, fmt.Sprintf("%+v", *k))
		return true
	})
	slices.Sort(out)
	return out
}

// What is journalled is what was done: an engine that is given the inputs as they are read
// back does the same, and is the same. What did nothing need not be given to it.
func TestJournalIsWhatWasDone(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		src := ""
		for i := range rapid.IntRange(1, 3).Draw(t, "rules") {
			src += drawRule(t, fmt.Sprintf("r%d", i))
		}
		parsed, ds := lang.Check([]*lang.File{lang.Parse("test.lantern", []byte(src))}, lang.Env{})
		if lang.Errors(ds) {
			t.Skip("clauses that do not go together")
		}
		rules := lang.Ordered(parsed.Rules)
		live, again := engine.New(rules), engine.New(rules)
		var journal []byte
		var did, redone, alerts []string
		var looked []seen
		now := int64(1000) * second
		for range rapid.IntRange(1, 40).Draw(t, "inputs") {
			now += rapid.Int64Range(0, 20).Draw(t, "later") * second
			in := drawInput(t, rules, now, alerts)
			written := engine.AppendInput(nil, in)
			ts, ok := live.Apply(in)
			if rapid.IntRange(0, 3).Draw(t, "look") == 0 {
				looked = append(looked, seen{live.View(), keysOf(live)})
			}
			for _, x := range ts {
				require.True(t, ok, "%T has transitions and is not kept", in)
				did = append(did, slowLine(x))
				alerts = append(alerts, x.Alert)
			}
			if ok {
				journal = append(journal, written...)
			}
		}
		for rest := journal; len(rest) > 0; {
			in, left, err := engine.ReadInput(rest)
			require.NoError(t, err)
			require.Equal(t, rest[:len(rest)-len(left)], engine.AppendInput(nil, in), "written again as it was read")
			rest = left
			for _, x := range apply(again, in) {
				redone = append(redone, slowLine(x))
			}
		}
		for _, x := range looked { // what was seen once is what it was, whatever came of it
			require.Equal(t, x.keys, viewed(x.view), src)
		}
		require.Equal(t, did, redone, src)
		require.Equal(t, live.Encode(), again.Encode(), src)
	})
}

// Bytes that are no journal are refused, wherever they are cut or changed.
func FuzzReadInput(f *testing.F) {
	rules := settings(f, "rule r {\n  problem \"x\"\n  raise error\n  clear after 1m quiet\n}\n").Rules
	f.Add(engine.AppendInput(nil, engine.Entry{Judged: judged(rules, refEntry{5 * second, "h", "x"}, 5*second)}))
	f.Add(engine.AppendInput(nil, engine.Act{Alert: "a", Change: engine.Taken, By: "mira"}))
	f.Add(engine.AppendInput(nil, engine.Hold{Bounds: map[int]entry.Instant{1: 2}}))
	f.Fuzz(func(t *testing.T, b []byte) {
		in, rest, err := engine.ReadInput(b)
		if err != nil {
			require.ErrorIs(t, err, engine.ErrInput)
			return
		}
		assert.LessOrEqual(t, len(rest), len(b)-1)
		again, left, err := engine.ReadInput(engine.AppendInput(nil, in))
		require.NoError(t, err)
		assert.Empty(t, left)
		assert.Equal(t, in, again)
	})
}
