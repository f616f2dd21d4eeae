package lang

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dimlantern/core/entry"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// ruleWith is what a rule with some clauses is checked to.
func ruleWith(t require.TestingT, clauses ...string) (*Settings, *Rule, []Diagnostic) {
	text := "source s {\n  files \"/v/a.log\"\n}\nrule bigger {\n  problem \"x\"\n  raise error\n  clear after 1h " +
		"quiet\n}\n" +
		"contact crew {\n  webhook \"https://crew.example\"\n}\nrule r {\n  " + strings.Join(clauses, "\n  ") + "\n}\n"
	s, ds := Check([]*File{Parse("x.lantern", []byte(text))}, Env{})
	return s, s.Rule("r"), ds
}

// What each form of a raise is checked to, and that it is printed as it was written.
func TestRaises(t *testing.T) {
	sev := entry.Warning
	for text, want := range map[string]Raise{
		"raise warning":                          {At: 1},
		"raise warning at 3":                     {At: 3},
		"raise warning at 3 in 5m":               {At: 3, In: 5 * time.Minute},
		"raise warning at 3 different pid in 1h": {At: 3, In: time.Hour, Different: "pid"},
		"raise warning after 1h open":            {Open: time.Hour},
		"raise warning after 90m open untaken":   {Open: 90 * time.Minute, Untaken: true},
		"raise warning when count > 5 in 10m":    {When: &When{Agg: "count", Op: ">", In: 10 * time.Minute}},
		"raise warning when avg(pid) <= -2.5 in 1h, at least 7": {When: &When{Agg: "avg", Field: "pid", Op: "<=",
			In: time.Hour, AtLeast: 7}},
		"raise warning when p95(pid) >= 3 in 5m, 2 of 4": {When: &When{Agg: "p95", Field: "pid", Op: ">=",
			In: 5 * time.Minute, K: 2, M: 4}},
		"raise warning when max(pid) > 3 in 5m, at least 2, 3 in a row": {When: &When{Agg: "max", Field: "pid", Op: ">",
			In: 5 * time.Minute, AtLeast: 2, K: 3, M: 3, Row: true}},
	} {
		t.Run(text, func(t *testing.T) {
			_, r, ds := ruleWith(t, `problem /(?<pid>\d+)/`, "per pid", "raise notice at 1 in 1m", text,
				"clear after 1h quiet")
			require.False(t, Errors(ds), "%v", ds)
			require.NotNil(t, r)
			got := r.Raises[1]
			assert.Equal(t, sev, got.Severity)
			if want.Open == 0 && want.When == nil {
				assert.Equal(t, want.At, got.At)
			}
			assert.Equal(t, want.In, got.In)
			assert.Equal(t, want.Different, got.Different)
			assert.Equal(t, want.Open, got.Open)
			assert.Equal(t, want.Untaken, got.Untaken)
			assert.Equal(t, want.When == nil && want.Open == 0, got.Hits())
			if w := want.When; w != nil {
				require.NotNil(t, got.When)
				assert.Equal(t, []any{w.Agg, w.Field, w.Op, w.In, w.AtLeast, w.K, w.M, w.Row}, []any{got.When.Agg,
					got.When.Field,
					got.When.Op, got.When.In, got.When.AtLeast, got.When.K, got.When.M, got.When.Row})
			}
		})
	}
}

// What ends an alert, of each form of clear, alone and together.
func TestClears(t *testing.T) {
	for clauses, want := range map[string]Rule{
		"recovery \"fine\"": {OnRecovery: true, RecoverAt: 1},
		"recovery \"fine\"|clear on recovery at 2 in 10m": {OnRecovery: true, RecoverAt: 2,
			RecoverIn: 10 * time.Minute},
		"clear after 1h quiet":                     {Quiet: time.Hour, RecoverAt: 1},
		"clear after 1d open":                      {Age: 24 * time.Hour, RecoverAt: 1},
		"clear by hand":                            {ByHand: true, RecoverAt: 1},
		"clear after 1h quiet|clear after 1w open": {Quiet: time.Hour, Age: 7 * 24 * time.Hour, RecoverAt: 1},
		"recovery \"fine\"|clear after 10m quiet":  {Quiet: 10 * time.Minute, RecoverAt: 1, OnRecovery: true},
		"clear after 1h quiet|reopen within 10m":   {Quiet: time.Hour, Reopen: 10 * time.Minute, RecoverAt: 1},
		"clear after 1h quiet|remind every 3m":     {Quiet: time.Hour, Remind: 3 * time.Minute, RecoverAt: 1},
		"clear after 1h quiet|unless bigger open":  {Quiet: time.Hour, RecoverAt: 1},
	} {
		t.Run(clauses, func(t *testing.T) {
			list := append([]string{`problem "x"`, "raise warning"}, strings.Split(clauses, "|")...)
			_, r, ds := ruleWith(t, list...)
			require.False(t, Errors(ds), "%v", ds)
			assert.Equal(t, []any{want.OnRecovery, want.RecoverAt, want.RecoverIn, want.Quiet, want.Age, want.ByHand,
				want.Reopen, want.Remind}, []any{r.OnRecovery, r.RecoverAt, r.RecoverIn, r.Quiet, r.Age, r.ByHand,
				r.Reopen, r.Remind})
		})
	}
}

// Parts of a problem bind as they are written: and before or, not before and.
func TestPrecedence(t *testing.T) {
	for text, want := range map[string]string{
		`"a" or "b" and "c"`:       `"a" or ("b" and "c")`,
		`"a" and "b" or "c"`:       `("a" and "b") or "c"`,
		`not "a" and "b"`:          `(not "a") and "b"`,
		`("a" or "b") and not "c"`: `("a" or "b") and (not "c")`,
		`"a" and ("b" or not "c")`: `"a" and ("b" or (not "c"))`,
	} {
		_, a, ds := ruleWith(t, "problem "+text, "raise warning", "clear after 1h quiet")
		require.False(t, Errors(ds), "%s: %v", text, ds)
		_, b, ds := ruleWith(t, "problem "+want, "raise warning", "clear after 1h quiet")
		require.False(t, Errors(ds), "%s: %v", want, ds)
		assert.Equal(t, b.Problem.String(), a.Problem.String(), text)
		_, c, ds := ruleWith(t, "problem "+a.Problem.String(), "raise warning", "clear after 1h quiet")
		require.False(t, Errors(ds), "%s: %v", a.Problem, ds)
		assert.Equal(t, a.Problem.String(), c.Problem.String(), "it is read as it is printed")
	}
}

// Whatever expressions are made of, what they are printed as is read as the same.
func TestExpressionsThereAndBack(t *testing.T) {
	var expr func(depth int) *rapid.Generator[string]
	expr = func(depth int) *rapid.Generator[string] {
		return rapid.Custom(func(t *rapid.T) string {
			n := 7
			if depth == 0 {
				n = 4
			}
			switch rapid.IntRange(0, n).Draw(t, "kind") {
			case 0:
				return Quote(rapid.StringMatching(`[a-z" \\.]{1,8}`).Draw(t, "text"))
			case 1:
				return rapid.SampledFrom([]string{`/lo+w/`, `/pump (\d+)/`, `/a\/b/`, `/x/i`}).Draw(t, "pattern")
			case 2:
				return "host " + rapid.SampledFrom([]string{"==", "!="}).Draw(t, "op") + " " +
					Quote(rapid.StringMatching(`[a-z]{1,5}`).Draw(t, "value"))
			case 3:
				return "level " + rapid.SampledFrom([]string{">=", "<", "=="}).Draw(t, "op") + " " +
					fmt.Sprint(rapid.IntRange(-5, 5000).Draw(t, "number"))
			case 4:
				return "host in (\"a\", \"b\")"
			case 5:
				return "not (" + expr(depth-1).Draw(t, "of") + ")"
			default:
				return "(" + expr(depth-1).Draw(t, "a") + ") " + rapid.SampledFrom([]string{"and", "or"}).Draw(t,
					"join") + " (" +
					expr(depth-1).Draw(t, "b") + ")"
			}
		})
	}
	read := 0
	rapid.Check(t, func(t *rapid.T) {
		text := expr(3).Draw(t, "expr")
		_, r, ds := ruleWith(t, "problem "+text, "raise warning", "clear after 1h quiet")
		if r == nil || Errors(ds) {
			return
		}
		read++
		said := r.Problem.String()
		_, again, ds := ruleWith(t, "problem "+said, "raise warning", "clear after 1h quiet")
		require.False(t, Errors(ds), "%s is printed as %s: %v", text, said, ds)
		require.Equal(t, said, again.Problem.String(), text)
	})
	assert.Greater(t, read, 50, "most of them are right")
}

// A mistake in one rule leaves the others as they are, wherever it stands, and is told with
// where it is and what to write instead.
func TestMistakesStayWhereTheyAre(t *testing.T) {
	good := func(i int) string {
		return fmt.Sprintf("rule good-%d {\n  problem \"x%d\"\n  raise warning\n  clear after 1h quiet\n}\n", i, i)
	}
	bad := []string{"rule bad {\n  problem\n}\n", "rule bad {\n  problem \"x\n}\n", "rule {\n}\n",
		"rule bad {\n  raise worst\n}\n",
		"rule bad {\n  problem /(/\n  raise warning\n}\n", "rule bad {\n  per\n", "sauce s {\n  files \"/x\"\n}\n",
		"rule good-0 {\n  problem \"y\"\n  raise error\n  clear by hand\n}\n", "}\n", "\"text\"\n",
		"rule bad { problem \"x\" }}\n"}
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 5).Draw(t, "rules")
		at := rapid.IntRange(0, n).Draw(t, "at")
		mistake := rapid.SampledFrom(bad).Draw(t, "mistake")
		var text strings.Builder
		line := 0
		for i := range n + 1 {
			if i == at {
				line = strings.Count(text.String(), "\n") + 1
				text.WriteString(mistake)
			}
			if i < n {
				text.WriteString(good(i))
			}
		}
		s, ds := Check([]*File{Parse("x.lantern", []byte(text.String()))}, Env{})
		require.True(t, Errors(ds), text.String())
		for _, d := range ds {
			if d.Weight != Err {
				continue
			}
			require.Equal(t, "x.lantern", d.Pos.File)
			require.NotEmpty(t, d.Code)
			require.NotEmpty(t, d.What)
			require.Positive(t, d.Pos.Line)
			require.LessOrEqual(t, d.Pos.Line, strings.Count(text.String(), "\n")+1)
		}
		for i := range at { // what stands before it is what it was
			if mistake != bad[7] || i > 0 {
				require.NotNil(t, s.Rule(fmt.Sprintf("good-%d", i)), "line %d\n%s", line, text.String())
			}
		}
	})
}
