package trial

import (
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

func check(t require.TestingT, src string) *lang.Settings {
	s, ds := lang.Check([]*lang.File{lang.Parse("t.lantern", []byte(src))}, lang.Env{Time: layout.CheckTime})
	for _, d := range ds {
		require.NotEqual(t, lang.Err, d.Weight, d.String())
	}
	return s
}

// What the clauses mean, told as expects: each of them must pass.
func TestMeaning(t *testing.T) {
	const head = "rule r {\n problem /pump (?<pump>\\w+) low/\n recovery /pump (?<pump>\\w+) fine/ or \"all " +
		"fine\"\n ignore \"test\"\n per host, pump\n"
	for _, c := range []struct{ name, rule, steps string }{
		{"N hits within less than D", head + "raise warning at 3 in 5m\n", `
			at 10:00 "pump 7 low"
			at 10:01 "pump 7 low"
			at 10:05 "pump 7 low"
			then nothing
			at 10:05:59 "pump 7 low"
			then raised warning pump "7"`},
		{"a gap of exactly D does not suffice", head + "raise warning at 2 in 5m\n", `
			at 10:00 "pump 7 low"
			at 10:05 "pump 7 low"
			then nothing
			at 10:09:59.999 "pump 7 low"
			then raised`},
		{"a late hit counts at its own time", head + "raise warning at 3 in 1m\n", `
			at 10:00:00 "pump 7 low"
			at 10:00:50 "pump 7 low"
			at 10:01:40 "pump 7 low"
			then nothing
			at 10:00:20 "pump 7 low"
			then raised`},
		{"of the newest 2N only", head + "raise warning at 2 in 10s\n", `
			at 10:00 "pump 7 low"
			at 10:01 "pump 7 low"
			at 10:02 "pump 7 low"
			at 10:03 "pump 7 low"
			at 09:00:00 "pump 7 low"
			at 09:00:01 "pump 7 low"
			then nothing
			at 10:03:05 "pump 7 low"
			then raised`},
		{"a number that eased is watched without a break", "rule r {\n problem /flow (?<n>\\d+)/\n per nothing\n " +
			"raise error when sum(n) < 10 in 5m\n", `
			at 10:00 "flow 20"
			wait 5m
			then raised error
			at 10:05:30 "flow 5"
			then nothing
			at 10:06 "flow 6"
			then cleared
			wait 4m29s
			then nothing
			wait 1s
			then raised error`},
		{"a recovery starts from zero where nothing was counted", "rule r {\n problem \"bad\"\n recovery " +
			"\"fine\"\n per nothing\n raise error when share >= 50% in 5m, at least 3\n", `
			at 10:00 "good"
			at 10:00:01 "good"
			at 10:00:02 "good"
			at 10:01 "fine"
			at 10:01:01 "bad"
			then nothing
			at 10:01:02 "bad"
			then raised error`},
		{"without a time it counts since zero", head + "raise error at 3\n", `
			at 01:00 "pump 7 low"
			at 09:00 "pump 7 low"
			at 23:00 "pump 7 low"
			then raised error
			at 23:01 "pump 7 fine"
			then cleared
			at 23:02 "pump 7 low"
			at 23:03 "pump 7 low"
			then nothing`},
		{"of raises that hold at once the highest", head + "raise warning at 1\nraise critical at 1\nraise error " +
			"at 1\n", `
			at 10:00 "pump 7 low"
			then raised critical`},
		{"it worsens at once and does not fall", head + "raise warning at 1\nraise critical at 3 in 1m\n", `
			at 10:00:00 "pump 7 low"
			then raised warning
			at 10:00:10 "pump 7 low"
			then nothing
			at 10:00:20 "pump 7 low"
			then worsened critical
			at 11:00 "pump 7 low"
			then nothing
			at 11:01 "pump 7 fine"
			then cleared critical`},
		{"each key has its own state", head + "raise warning at 2 in 5m\n", `
			at 10:00 from "a" "pump 7 low"
			at 10:00 from "b" "pump 7 low"
			at 10:00 from "a" "pump 8 low"
			then nothing
			at 10:01 from "b" "pump 7 low"
			then raised host "b" pump "7"`},
		{"a recovery without the key ends all that it can stand for", head + "raise warning at 1\n", `
			at 10:00 from "a" "pump 7 low"
			at 10:00 from "a" "pump 8 low"
			at 10:00 from "b" "pump 7 low"
			at 10:01 from "a" "all fine"
			then cleared host "a" pump "7"
			then cleared host "a" pump "8"
			at 10:02 from "b" "pump 8 fine"
			then nothing
			at 10:02 from "b" "pump 7 fine"
			then cleared host "b" pump "7"`},
		{"a recovery ends counts", head + "raise warning at 2 in 5m\n", `
			at 10:00 "pump 7 low"
			at 10:01 "pump 7 fine"
			then nothing
			at 10:02 "pump 7 low"
			then nothing`},
		{"what fits both is a recovery", head + "raise warning at 1\n", `
			at 10:00 "pump 7 low"
			then raised
			at 10:01 "pump 7 low, all fine"
			then cleared
			at 10:02 "pump 7 low, all fine"
			then nothing`},
		{"ignored is neither", head + "raise warning at 1\n", `
			at 10:00 "pump 7 low, a test"
			then nothing
			at 10:01 "pump 7 low"
			then raised
			at 10:02 "all fine, a test"
			then nothing`},
		{"a recovery acts at its place", head + "raise warning at 1\n", `
			at 10:10 "pump 7 low"
			then raised
			at 10:00 "pump 7 fine"
			then cleared
			at 10:05 "pump 7 low"
			then raised`},
		{"quiet runs from the newest hit", head + "raise warning at 1\nclear after 10m quiet\n", `
			at 10:00 "pump 7 low"
			then raised
			at 10:09:59 "pump 7 low"
			then nothing
			at 10:05 "pump 7 low"
			wait 9m
			then nothing
			wait 59s
			then nothing
			wait 1s
			then cleared`},
		{"but not from before it was raised", head + "raise warning at 2 in 1h\nclear after 10m quiet\n", `
			at 10:00 "pump 7 low"
			at 10:40 "nothing at all"
			at 10:00 "pump 7 low"
			then raised
			wait 9m
			then nothing
			wait 1m
			then cleared`},
		{"quiet comes before the entry of that instant", head + "raise warning at 1\nclear after 10m quiet\n", `
			at 10:00 "pump 7 low"
			at 10:10 "pump 7 low"
			then cleared
			then raised`},
		{"quiet ends no count", head + "raise warning at 2\nclear after 1m quiet\n", `
			at 10:00 "pump 7 low"
			at 12:00 "pump 7 low"
			then raised`},
		{"reminders count from the last that was told", head + "raise warning at 1\nraise error at 2\nremind " +
			"every 10m\n", `
			at 10:00 "pump 7 low"
			then raised
			wait 10m
			then repeated warning
			at 10:14 "pump 7 low"
			then worsened error
			wait 9m
			then nothing
			wait 1m
			then repeated error
			wait 30m
			then repeated
			then repeated
			then repeated`},
		{"a clear comes before a reminder of that instant", head + "raise warning at 1\nclear after 10m quiet\n" +
			"remind every 10m\n", `
			at 10:00 "pump 7 low"
			wait 10m
			then cleared`},
		{"quiet stands still while all is blind", head + "raise warning at 1\nclear after 10m quiet\n", `
			at 10:00 from "a" "pump 7 low"
			wait 4m
			blind
			wait 1h
			then nothing
			seen
			wait 5m
			then nothing
			wait 1m
			then cleared`},
		{"a lacking field is written ?", "rule r {\n problem \"low\"\n recovery \"fine\"\n per host, unit\n raise " +
			"error\n", `
			at 10:00 with unit "" "low"
			then raised unit "?"
			at 10:01 with unit "u1" "low"
			then raised unit "u1"
			at 10:02 with unit "u1" "fine"
			then cleared unit "u1"
			at 10:03 "fine"
			then cleared unit "?"`},
		{"per nothing is one state", "rule r {\n problem \"low\"\n per nothing\n raise error at 2 in 1m\n clear " +
			"by hand\n", `
			at 10:00:00 from "a" "low"
			at 10:00:30 from "b" "low"
			then raised error`},
		{"after a clear it starts from zero", head + "raise warning at 2 in 1h\n", `
			at 10:00 "pump 7 low"
			at 10:01 "pump 7 low"
			then raised
			at 10:02 "pump 7 fine"
			at 10:03 "pump 7 low"
			then nothing
			at 10:04 "pump 7 low"
			then raised`},
		{"an idle key is forgotten after seven days", head + "raise warning at 2\n", `
			at 10:00 "pump 7 low"
			wait 1w
			at +0ms "pump 7 low"
			then nothing
			at +1h "pump 7 low"
			then raised`},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := check(t, c.rule+"expect \"it\" {"+c.steps+"\n}\n}\n")
			out := Expects(s)
			require.Len(t, out, 1)
			assert.False(t, out[0].Failed, "%s\n%s", out[0].Step.Line, out[0].Why)
		})
	}
}

// An expect that is wrong fails, and says how.
func TestExpectsFail(t *testing.T) {
	for steps, why := range map[string]string{
		"at 10:00 \"x\"\nthen nothing": "nothing was expected, but this " +
			"happened: raised error",
		"at 10:00 \"y\"\nthen raised":                                         "nothing happened",
		"at 10:00 \"x\"\nthen raised warning":                                 "this did not happen",
		"at 10:00 \"x\"\nthen raised\nthen raised":                            "this did not happen",
		"at 10:00 \"x\"\nthen raised host \"b\"":                              "this did not happen",
		"at 10:00 \"x\"\nwait 1h\nthen cleared\nat 11:00 \"x\"\nthen cleared": "this did not happen",
	} {
		s := check(t, "rule r {\n problem \"x\"\n per host\n raise error\n clear after 1h quiet\n expect \"it\" {\n"+
			steps+"\n}\n}\n")
		out := Expects(s)
		require.True(t, out[0].Failed, steps)
		assert.Contains(t, out[0].Why, why, steps)
	}
}

const timed = "source s {\n files \"/x\"\n layout l\n}\nlayout l {\n pattern /^(?<at>\\S+) (?<text>.*)$/\n time " +
	"at rfc3339\n}\n"

// play replays texts as files, and returns what happened in short.
func play(t *testing.T, src string, o Options, files ...string) ([]string, Summary) {
	t.Helper()
	s := check(t, src)
	var inputs []*Input
	for i, f := range files {
		in := &Input{Path: fmt.Sprintf("/f%d", i), Host: "h", Near: entry.None}
		if len(s.Sources) > 0 {
			in.Source = s.Sources[0]
		}
		for _, m := range strings.Split(f, "---\n") {
			in.Files = append(in.Files, strings.NewReader(m))
		}
		inputs = append(inputs, in)
	}
	var out []string
	o.Emit = func(x *engine.Transition) {
		out = append(out, fmt.Sprintf("%s %s %s %d", x.At.Time().Format("15:04:05"), x.Change, x.Why, x.Count))
	}
	sum, err := Replay(s, inputs, o)
	require.NoError(t, err)
	return out, sum
}

func stamped(lines ...string) string {
	var b strings.Builder
	for _, l := range lines {
		at, text, _ := strings.Cut(l, " ")
		fmt.Fprintf(&b, "2026-11-24T%sZ %s\n", at, text)
	}
	return b.String()
}

func TestReplay(t *testing.T) {
	rule := timed + "rule r {\n problem \"low\"\n recovery \"fine\"\n per nothing\n raise error at 2 in 1m\n " +
		"clear after 10m quiet\n}\n"
	at := func(s string) entry.Instant {
		x, err := time.Parse(time.RFC3339, "2026-11-24T"+s+"Z")
		require.NoError(t, err)
		return entry.Of(x)
	}
	t.Run("files are merged by the time that each has reached", func(t *testing.T) {
		got, sum := play(t, rule, Options{}, stamped("10:00:00 low", "10:02:00 fine"),
			stamped("10:00:30 low", "10:03:00 x"))
		assert.Equal(t, []string{"10:00:30 raised 2 hits in 1m 2", "10:02:00 cleared recovery 2"}, got)
		assert.Equal(t, Summary{Entries: 4, Hits: 2, Raised: 1, Cleared: 1, First: at("10:00:00"),
			Clock: at("10:03:00")}, sum)
	})
	t.Run("equal ones go by the command line", func(t *testing.T) {
		got, _ := play(t, rule, Options{}, stamped("10:00:00 low", "10:00:10 low"), stamped("10:00:10 fine"))
		assert.Equal(t, []string{"10:00:10 raised 2 hits in 1m 2", "10:00:10 cleared recovery 2"}, got)
		got, _ = play(t, rule, Options{}, stamped("10:00:10 fine"), stamped("10:00:00 low", "10:00:10 low"))
		assert.Empty(t, got, "the recovery came first, and ended the count")
	})
	t.Run("it ends with its last entry", func(t *testing.T) {
		got, sum := play(t, rule, Options{}, stamped("10:00:00 low", "10:00:10 low", "10:10:09 x"))
		assert.Len(t, got, 1)
		assert.EqualValues(t, 1, sum.Open)
		got, _ = play(t, rule, Options{}, stamped("10:00:00 low", "10:00:10 low", "10:10:10 x"))
		assert.Equal(t, "10:10:10 cleared quiet 2", got[1])
	})
	t.Run("the clock follows what no rule cares about", func(t *testing.T) {
		got, _ := play(t, rule, Options{}, stamped("10:00:00 low", "10:05:00 x", "10:00:10 low", "10:05:01 x"))
		assert.Equal(t, []string{"10:05:00 raised 2 hits in 1m 2"}, got)
	})
	t.Run("bounds are half-open, and timers due at the end fire", func(t *testing.T) {
		log := stamped("10:00:00 low", "10:00:10 low", "10:00:20 low", "10:00:30 low")
		got, sum := play(t, rule, Options{From: at("10:00:10"), To: at("10:00:30")}, log)
		assert.Equal(t, []string{"10:00:20 raised 2 hits in 1m 2"}, got)
		assert.EqualValues(t, 2, sum.Entries)
		got, _ = play(t, rule, Options{To: at("10:10:10")}, stamped("10:00:00 low", "10:00:10 low"))
		assert.Equal(t, "10:10:10 cleared quiet 2", got[1])
		got, _ = play(t, rule, Options{To: at("10:10:09")}, stamped("10:00:00 low", "10:00:10 low"))
		assert.Len(t, got, 1)
	})
	t.Run("lines before the first time take the first", func(t *testing.T) {
		got, _ := play(t, rule, Options{}, "low\nlow\n"+stamped("10:00:00 x"))
		assert.Equal(t, []string{"10:00:00 raised 2 hits in 1m 2"}, got)
	})
	t.Run("a line without a time belongs to the one before", func(t *testing.T) {
		got, _ := play(t, rule, Options{}, stamped("10:00:00 x")+"low\n"+stamped("10:00:59 low"))
		assert.Equal(t, []string{"10:00:59 raised 2 hits in 1m 2"}, got)
	})
	t.Run("a log without times stands at 1970, and that is said", func(t *testing.T) {
		got, sum := play(t, strings.Replace(rule, " layout l\n", "", 1), Options{}, "low\nlow")
		assert.Equal(t, []string{"00:00:00 raised 2 hits in 1m 2"}, got)
		assert.Equal(t, []string{"/f0"}, sum.Untimed)
	})
	t.Run("members of a series follow each other, each with its own offsets", func(t *testing.T) {
		got, sum := play(t, rule, Options{}, strings.TrimSuffix(stamped("10:00:00 low"), "\n")+"---\n"+
			stamped("10:00:10 low"))
		assert.Len(t, got, 1)
		assert.EqualValues(t, 2, sum.Entries)
	})
	t.Run("a line longer than a slab is one entry", func(t *testing.T) {
		got, sum := play(t, rule, Options{}, stamped("10:00:00 low "+strings.Repeat("x", 700_000), "10:00:10 low"))
		assert.Len(t, got, 1)
		assert.EqualValues(t, 2, sum.Entries)
	})
}

// failing is a file that breaks off.
type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, io.ErrClosedPipe }

func TestReplayTellsWhatCannotBeRead(t *testing.T) {
	s := check(t, timed)
	_, err := Replay(s, []*Input{{Source: s.Sources[0], Files: []io.Reader{failing{}}}}, Options{})
	assert.ErrorIs(t, err, io.ErrClosedPipe)
}

// Why says of a line what it is, and of each part whether it holds, and how near
// it is.
func TestWhy(t *testing.T) {
	s := check(t, timed+"rule r {\n on s\n problem /pump (?<pump>\\d+): low/ and level >= error\n recovery "+
		"\"fine\"\n ignore \"test\"\n per pump\n raise error\n}\n")
	ask := func(line string) Reason {
		return Why(s, s.Rules[0], s.Sources[0], "h", "", line, time.UTC, 0)
	}
	assert.Equal(t, "recovery", ask("2026-11-24T10:00:00Z fine").Verdict)
	r := ask("2026-11-24T10:00:00Z pump 7: low")
	assert.Equal(t, "nothing", r.Verdict)
	assert.Contains(t, r.String(), "level is lacking")
	assert.Contains(t, ask("2026-11-24T10:00:00Z refined").String(), "inside a longer word")
	assert.Contains(t, ask("2026-11-24T10:00:00Z FINE").String(), "with other capitals")
	assert.Contains(t, ask("2026-11-24T10:00:00Z fine test").Because, "ignored")
	assert.Contains(t, ask("untimed").Because, "does not fit the layout")
}
