package engine_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// drawRule writes a random rule of one of the kinds, with clauses that go together.
func drawRule(t *rapid.T, name string) string {
	var b strings.Builder
	pick := func(label string, of ...string) string { return rapid.SampledFrom(of).Draw(t, label) }
	maybe := func(label string, s string) {
		if rapid.Bool().Draw(t, label) {
			b.WriteString("  " + s + "\n")
		}
	}
	some := func(label string) string { return pick(label, "3s", "5s", "10s", "20s") }
	severity := func() string { return pick("severity", "notice", "warning", "error", "critical") }
	compare := func(clear bool) string {
		op := pick("op", ">", ">=", "<", "<=", "==", "!=")
		s := pick("aggregate", "count "+op+" 2", "count "+op+" 0", "sum(n) "+op+" 5", "avg(n) "+op+" 2.5", "min(n) "+
			op+" 2", "max(n) "+op+" 3", "p50(n) "+op+" 2",
			"p95(n) "+op+" 3", "different(n) "+op+" 2", "share "+op+" 50%", "share "+op+" 20%") + " in " + some("in")
		if rapid.IntRange(0, 3).Draw(t, "at least") == 0 {
			s += ", at least " + pick("n", "1", "2", "3")
		}
		switch rapid.IntRange(0, 4).Draw(t, "periods") {
		case 0:
			s += ", " + pick("k", "1", "2", "3") + " in a row"
		case 1:
			s += ", " + pick("k of m", "1 of 2", "2 of 3", "2 of 4")
		}
		return s
	}
	fmt.Fprintf(&b, "rule %s {\n", name)
	kind := pick("kind", "hits", "hits", "numbers", "numbers", "again", "once")
	b.WriteString("  " + pick("per", "per host, pump", "per pump", "per host", "per nothing") + "\n")
	maybe("ignore", `ignore "test"`)
	open := func() {
		if rapid.IntRange(0, 2).Draw(t, "open") == 0 {
			fmt.Fprintf(&b, "  raise %s after %s open\n", severity(), some("open for"))
		}
		maybe("remind", "remind every "+some("remind"))
		maybe("reopen", "reopen within "+some("reopen"))
		if rapid.IntRange(0, 3).Draw(t, "blind") == 0 {
			fmt.Fprintf(&b, "  blind raises %s%s\n", severity(), pick("blind after", "", " after 3s", " after 10s"))
		}
	}
	recovers := func() {
		if rapid.Bool().Draw(t, "recovery") {
			b.WriteString("  recovery /pump (?<pump>\\w+) fine/ or \"all fine\"\n")
			maybe("recoveries", "clear on recovery at 2"+pick("recoveries in", "", " in 5s"))
		}
		maybe("quiet", "clear after "+some("quiet")+" quiet")
		maybe("age", "clear after "+some("age")+" open")
	}
	switch kind {
	case "hits":
		b.WriteString("  problem /pump (?<pump>\\w+) low (?<n>\\w*)/\n")
		for range rapid.IntRange(1, 3).Draw(t, "raises") {
			fmt.Fprintf(&b, "  raise %s at %s%s%s%s%s\n", severity(), pick("at", "1", "2", "3"),
				pick("different", "", "", " different n"),
				pick("in", "", " in 3s", " in 5s", " in 10s"), pick("where", "", "", " where n >= 2"),
				pick("then", "", "", ", then /pump (?<pump>\\w+) burst/ within 5s", `, then "all burst" within 3s`))
		}
		recovers()
		open()
	case "numbers":
		b.WriteString("  problem /pump (?<pump>\\w+) low (?<n>\\w*)/\n")
		before := b.Len()
		for range rapid.IntRange(1, 2).Draw(t, "raises") {
			fmt.Fprintf(&b, "  raise %s when %s\n", severity(), compare(false))
		}
		for range rapid.IntRange(0, 2).Draw(t, "clears") {
			fmt.Fprintf(&b, "  clear when %s\n", compare(true))
		}
		if rapid.IntRange(0, 2).Draw(t, "ways back") == 0 {
			recovers()
		}
		maybe("empty", "empty counts as "+pick("empty as", "good", "bad", "neither"))
		if rapid.IntRange(0, 3).Draw(t, "a threshold as well") == 0 {
			fmt.Fprintf(&b, "  raise %s at 2 in 5s\n", severity())
		}
		if rest := b.String()[before:]; strings.Contains(rest, "share") {
			maybe("among", "among /pump (?<pump>\\w+)/")
		}
		if rest := b.String()[before:]; strings.Contains(rest, "row") || strings.Contains(rest, " of ") {
			maybe("grace", "grace 2s")
		}
		open()
	case "again":
		b.WriteString("  awaits /pump (?<pump>\\w+) beats/")
		if strings.Contains(b.String(), "per host\n") && rapid.Bool().Draw(t, "from") {
			b.WriteString(` from "x", "z"`)
		}
		b.WriteString("\n")
		for range rapid.IntRange(1, 2).Draw(t, "raises") {
			fmt.Fprintf(&b, "  raise %s after %s without\n", severity(), some("without"))
		}
		if rapid.IntRange(0, 2).Draw(t, "by") == 0 {
			fmt.Fprintf(&b, "  raise %s by 00:%s%s without\n", severity(), pick("minutes", "17", "18", "00:30"),
				pick("on", "", " on mon-fri", " on thu"))
		}
		maybe("goodbye", "recovery /pump (?<pump>\\w+) fine/ or \"all fine\"")
		maybe("age", "clear after "+some("age")+" open")
		open()
	case "once":
		b.WriteString("  once /pump (?<pump>\\w+) starts/\n  awaits /pump (?<pump>\\w+) beats/ or \"all beat\"\n")
		fmt.Fprintf(&b, "  raise %s after %s without\n", severity(), some("without"))
		if rapid.IntRange(0, 2).Draw(t, "by") == 0 {
			fmt.Fprintf(&b, "  raise %s by 00:%s without\n", severity(), pick("minutes", "17", "18"))
		}
		maybe("goodbye", "recovery /pump (?<pump>\\w+) fine/ or \"all fine\"")
		maybe("age", "clear after "+some("age")+" open")
		open()
	}
	b.WriteString("}\n")
	return b.String()
}

func slowLine(x engine.Transition) string {
	text := func(t entry.Instant) string {
		if t == entry.None {
			return "-"
		}
		return fmt.Sprint(int64(t))
	}
	return fmt.Sprintf("%d %s %s %v sev%d count%d first%s last%s %s", x.At, x.Change, x.Rule, x.Key, x.Severity,
		x.Count, text(x.First), text(x.Last), x.Why)
}

// Rules of all kinds mean in the engine what they mean in the slow evaluator: with late
// entries, equal instants, gaps of exactly the times of the rules, origins that cannot be
// seen, clocks that drive the engine in between, and states written out and read back.
func TestAllClausesEqualTheSlowEvaluator(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var src strings.Builder
		for i := range rapid.IntRange(1, 2).Draw(t, "rules") {
			src.WriteString(drawRule(t, fmt.Sprintf("r%d", i)))
		}
		parsed, ds := lang.Check([]*lang.File{lang.Parse("test.lantern", []byte(src.String()))}, lang.Env{})
		if lang.Errors(ds) {
			t.Skip("clauses that do not go together")
		}
		rules := lang.Ordered(parsed.Rules)
		now := int64(1000) * second
		ref, e := newSlow(rules, now), engine.New(rules)
		apply(e, engine.Begin{At: entry.Instant(now)})
		var got []string
		note := func(ts []engine.Transition) {
			for _, x := range ts {
				got = append(got, slowLine(x))
			}
		}
		reached := now
		var story strings.Builder
		for range rapid.IntRange(1, 30).Draw(t, "entries") {
			now += rapid.SampledFrom([]int64{0, 0, 1, 1, 2, 3, 4, 5, 5, 10, 19, 33}).Draw(t, "later by") * second
			if rapid.IntRange(0, 9).Draw(t, "off the grid") == 0 {
				now += rapid.Int64Range(-1, 1).Draw(t, "by")
			}
			at := now
			if rapid.IntRange(0, 4).Draw(t, "late") == 0 {
				at -= rapid.SampledFrom([]int64{1, 2, 3, 5, 10, 30}).Draw(t, "late by") * second
			}
			at = max(at, 1000*second)
			text := rapid.SampledFrom([]string{"pump a low 1", "pump a low 2", "pump b low 3", "pump a low 4",
				"pump b low", "pump a low x", "pump a fine", "pump b fine", "all fine",
				"pump a low 1 test", "pump a idle", "pump b idle", "pump a burst", "pump b burst", "all burst",
				"pump a beats", "pump b beats", "pump a beats", "all beat", "pump a starts", "pump b starts",
				"pump a low 2, all fine"}).Draw(t, "text")
			x := refEntry{at, rapid.SampledFrom([]string{"x", "x", "y"}).Draw(t, "host"), text}
			if at > reached {
				if rapid.Bool().Draw(t, "tick") {
					tick := rapid.Int64Range(reached, at-1).Draw(t, "tick at")
					note(apply(e, engine.Advance{At: entry.Instant(tick)}))
					ref.fire(tick)
				}
				reached = at
			}
			switch rapid.IntRange(0, 11).Draw(t, "sight") {
			case 0:
				fmt.Fprintf(&story, "%v blind %s\n", time.Duration(reached-1000*second), x.host)
				note(apply(e, engine.Blind{Origin: x.host + ":log", At: entry.Instant(reached)}))
				ref.goBlind(x.host+":log", reached)
			case 1:
				fmt.Fprintf(&story, "%v seen %s\n", time.Duration(reached-1000*second), x.host)
				note(apply(e, engine.Seen{Origin: x.host + ":log", At: entry.Instant(reached)}))
				ref.fire(reached)
				ref.seen(x.host+":log", reached)
			}
			fmt.Fprintf(&story, "%v %s %s\n", time.Duration(at-1000*second), x.host, text)
			j := judged(rules, x, reached)
			if rapid.Bool().Draw(t, "written down") {
				again, rest, err := engine.ReadInput(engine.AppendInput(nil, engine.Entry{Judged: j}))
				require.NoError(t, err)
				require.Empty(t, rest)
				j = again.(engine.Entry).Judged
			}
			note(apply(e, engine.Entry{Judged: j}))
			ref.take(j)
			if rapid.IntRange(0, 5).Draw(t, "restart") == 0 {
				saved := e.Encode()
				again, err := engine.Decode(rules, saved)
				require.NoError(t, err)
				require.True(t, bytes.Equal(saved, again.Encode()), "state changes when it is read back")
				e = again
			}
			if rapid.IntRange(0, 9).Draw(t, "edit of words") == 0 {
				if rapid.Bool().Draw(t, "seen before") {
					e.View()
				}
				require.Empty(t, e.Edit(again(rules),
					engine.Change{SameMatch: yes, Unchanged: rapid.SampledFrom([]func(a, b *lang.Rule) bool{yes, no,
						nil}).Draw(t, "unchanged")}))
				require.Equal(t, keysOf(e), viewed(e.View()), "what is seen after an edit")
			}
			require.Equal(t, ref.out, got, "%s\n%s", src.String(), story.String())
		}
		ref.fire(reached + 40*second)
		note(apply(e, engine.Advance{At: entry.Instant(reached + 40*second)}))
		require.Equal(t, ref.out, got, "at the end: %s\n%s", src.String(), story.String())
	})
}

func yes(a, b *lang.Rule) bool { return true }
func no(a, b *lang.Rule) bool  { return false }

// again are the same rules as others: as they are after they were read once more.
func again(rules []*lang.Rule) []*lang.Rule {
	out := make([]*lang.Rule, len(rules))
	for i, r := range rules {
		c := *r
		out[i] = &c
	}
	return out
}
