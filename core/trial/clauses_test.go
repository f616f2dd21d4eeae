package trial

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every clause beyond plain thresholds, told as expects: each of them must pass.
func TestClauses(t *testing.T) {
	for _, c := range []struct{ name, rule, steps string }{
		{"different values, the newest hit of each", "problem \"refused\"\n per host\n raise warning at 2 " +
			"different account in 5m\n clear after 1h quiet", `
			at 10:00 with account "a" "refused"
			at 10:01 with account "a" "refused"
			at 10:02 with account "" "refused"
			then nothing
			at 10:06:30 with account "b" "refused"
			then nothing
			at 10:07 with account "a" "refused"
			then raised warning`},
		{"where restricts which hits count", "problem /took (?<ms>\\d+)/\n per host\n raise error at 2 in 5m " +
			"where ms > 100\n clear after 1h quiet", `
			at 10:00 "took 200"
			at 10:01 "took 50"
			then nothing
			at 10:02 "took 300"
			then raised error`},
		{"a log that has said nothing for it and cannot be seen", "problem \"low\"\n per host\n raise warning\n " +
			"blind raises error after 10m\n clear after 1h quiet", `
			at 10:00 from "h" "idle"
			blind from "h"
			wait 9m59s
			then nothing
			wait 1s
			then raised error host "h"
			seen from "h"
			then cleared`},
		{"a sequence: refused, then it worked", "problem \"refused\"\n per account\n raise warning at 3 in 10m\n " +
			"raise critical at 2 in 10m, then \"granted\" within 5m\n clear after 1h quiet", `
			at 10:00 with account "a" "refused"
			at 10:01 with account "a" "granted"
			then nothing
			at 10:02 with account "a" "refused"
			at 10:03 with account "b" "granted"
			then nothing
			at 10:07 with account "a" "granted"
			then nothing
			at 10:08 with account "a" "refused"
			then raised warning
			at 10:12:59 with account "a" "granted"
			then worsened critical
			at 10:12:59 with account "a" "granted"
			then nothing`},
		{"a recovery in between ends a sequence", "problem \"refused\"\n recovery \"fine\"\n per account\n raise " +
			"critical at 1, then \"granted\" within 5m", `
			at 10:00 with account "a" "refused"
			at 10:01 with account "a" "fine"
			at 10:02 with account "a" "granted"
			then nothing
			at 10:03 with account "a" "refused"
			at 10:03 with account "a" "granted"
			then raised critical
			at 10:04 "fine"
			then cleared`},
		{"a count over a window, and eased", "problem \"low\"\n per host\n raise warning when count >= 3 in 5m", `
			at 10:00 "low"
			at 10:01 "low"
			then nothing
			at 10:02 "low"
			then raised warning
			wait 2m59s
			then nothing
			wait 1s
			then cleared warning`},
		{"a window is half-open at its old end", "problem \"low\"\n per host\n raise warning when count >= 2 in " +
			"5m\n clear after 1h quiet", `
			at 10:00 "low"
			at 10:05 "low"
			then nothing
			at 10:09:59 "low"
			then raised`},
		{"averages are exact, and what is no number is left out", "problem /took (?<ms>\\S+)/\n per host\n raise " +
			"error when avg(ms) >= 0.2 in 10m, at least 3\n clear after 1h quiet", `
			at 10:00 "took 0.1"
			at 10:00 "took 0.2"
			at 10:00 "took n/a"
			then nothing
			at 10:01 "took 0.3"
			then raised error`},
		{"the 95th percentile", "problem /took (?<ms>\\d+)/\n per host\n raise error when p95(ms) > 100 in 10m\n " +
			"clear when p95(ms) < 50 in 10m", `
			at 10:00 "took 10"
			then nothing
			at 10:01 "took 200"
			then raised error
			at 10:02 "took 10"
			then nothing
			wait 8m59s
			then nothing
			wait 1s
			then cleared`},
		{"a share of all entries", "problem status >= 500\n among path != \"/health\"\n per host\n raise error " +
			"when share >= 50% in 5m, at least 4\n clear when share < 50% in 5m", `
			at 10:00 with status 500, path "/a" "x"
			at 10:00 with status 500, path "/a" "x"
			at 10:01 with status 200, path "/health" "x"
			at 10:01 with status 200, path "/a" "x"
			then nothing
			at 10:02 with status 200, path "/a" "x"
			then raised error
			at 10:03 with status 200, path "/a" "x"
			then cleared error`},
		{"the last minutes were empty: a count of nothing is 0", "problem \"beat\"\n per host\n raise warning " +
			"when count < 2 in 5m", `
			at 10:00 "beat"
			at 10:04 "beat"
			at 10:04:30 "beat"
			then nothing
			wait 4m29s
			then nothing
			wait 1s
			then raised warning
			at 10:09:10 "beat"
			then cleared`},
		{"empty counts as bad", "problem /temp (?<c>\\S+)/\n per host\n raise error when avg(c) > 5 in 5m\n empty " +
			"counts as bad", `
			at 10:00 "temp 1"
			then nothing
			wait 5m
			then raised error
			at 10:06 "temp 1"
			then cleared`},
		{"three periods in a row", "problem \"low\"\n per host\n raise warning when count > 1 in 1m, 3 in a row\n " +
			"clear after 1h quiet", `
			at 10:00:10 "low"
			at 10:00:20 "low"
			at 10:01:00 "low"
			at 10:01:59 "low"
			at 10:02:00 "low"
			at 10:02:10 "low"
			then nothing
			wait 49s
			then nothing
			wait 1s
			then raised warning`},
		{"a period that does not hold breaks the row, and two of three do not need one", "problem \"low\"\n per " +
			"host\n raise warning when count > 1 in 1m, 2 in a row\n raise error when count > 1 in 1m, 2 of 3\n " +
			"clear after 1h quiet", `
			at 10:00:10 "low"
			at 10:00:20 "low"
			at 10:02:10 "low"
			at 10:02:20 "low"
			wait 39s
			then nothing
			wait 1s
			then raised error`},
		{"grace waits for late entries", "problem \"low\"\n per host\n raise warning when count > 1 in 1m, 1 in a " +
			"row\n grace 30s\n clear after 1h quiet", `
			at 10:00:10 "low"
			at 10:01:20 "other"
			at 10:00:50 "low"
			then nothing
			wait 9s
			then nothing
			wait 1s
			then raised warning`},
		{"a heartbeat that stops", "awaits \"beat\"\n per host\n raise warning after 10m without\n raise error " +
			"after 20m without", `
			at 10:00 from "a" "beat"
			at 10:09 from "a" "beat"
			wait 9m59s
			then nothing
			wait 1s
			then raised warning host "a"
			wait 10m
			then worsened error
			at 10:30 from "a" "beat"
			then cleared
			wait 10m
			then raised`},
		{"what comes exactly then is too late", "awaits \"beat\"\n per host\n raise warning after 10m without", `
			at 10:00 "beat"
			at 10:10 "beat"
			then raised
			then cleared`},
		{"hosts that were never heard", "awaits \"beat\" from \"a\", \"b\"\n per host\n " +
			"raise error after 10m without", `
			at 10:00 from "c" "other"
			at 10:05 from "a" "beat"
			wait 5m
			then raised host "b"
			wait 5m
			then raised host "a"`},
		{"a goodbye ends the waiting", "awaits \"beat\"\n recovery \"shutting down\"\n per host\n raise error " +
			"after 10m without", `
			at 10:00 "beat"
			at 10:05 "shutting down"
			wait 1d
			then nothing
			at +1h "beat"
			wait 10m
			then raised`},
		{"a question without an answer", "once /copy (?<job>\\w+) begins/\n awaits /copy (?<job>\\w+) ends/\n per " +
			"host, job\n raise error after 2h without", `
			at 10:00 "copy a begins"
			at 10:30 "copy b begins"
			at 11:00 "copy a begins"
			at 11:30 "copy b ends"
			then nothing
			wait 30m
			then raised error job "a"
			at 12:30 "copy a ends"
			then cleared job "a"`},
		{"by a time of day", "awaits \"backup done\"\n per host\n raise error by 06:00 without", `
			at 05:00 "backup done"
			wait 1h
			then nothing
			wait 1d
			then raised error
			wait 1d
			then nothing
			at +1h "backup done"
			then cleared`},
		{"after it was open for so long", "problem \"low\"\n recovery \"fine\"\n per host\n raise warning\n raise " +
			"critical after 30m open", `
			at 10:00 "low"
			then raised warning
			wait 30m
			then worsened critical
			at 11:00 "fine"
			then cleared critical`},
		{"clear by age, whatever came", "problem \"low\"\n per host\n raise warning\n clear after 1h open", `
			at 10:00 "low"
			then raised
			at 10:59:59 "low"
			then nothing
			wait 1s
			then cleared
			wait 1h
			then nothing`},
		{"two recoveries are needed", "problem \"low\"\n recovery \"fine\"\n per host\n raise warning\n clear on " +
			"recovery at 2 in 5m", `
			at 10:00 "low"
			then raised
			at 10:01 "fine"
			then nothing
			at 10:02 "low"
			at 10:03 "fine"
			then nothing
			at 10:04 "fine"
			then cleared`},
		{"a flapping alert is one alert", "problem \"low\"\n recovery \"fine\"\n per host\n raise warning at 2\n " +
			"raise error at 3\n reopen within 10m", `
			at 10:00 "low"
			at 10:00 "low"
			then raised warning
			at 10:01 "fine"
			then cleared
			at 10:02 "low"
			then nothing
			at 10:10:59 "low"
			then reopened warning
			at 10:11 "fine"
			then cleared
			at 10:20 "low"
			at 10:21 "low"
			then raised`},
		{"blind raises, and seen clears", "problem \"low\"\n per host\n raise error\n clear after 1h quiet\n " +
			"blind raises notice after 5m", `
			at 10:00 from "a" "low"
			then raised error
			wait 1h
			then cleared
			blind
			wait 4m59s
			then nothing
			wait 1s
			then raised notice host "a"
			seen
			then cleared notice`},
		{"within hours only", "problem \"low\"\n per host\n raise error\n clear after 10m quiet\n during mon-fri " +
			"08:00-18:00", `
			at 07:59:59 "low"
			then nothing
			at 08:00 "low"
			then raised
			wait 10m
			then cleared
			at 18:00 "low"
			then nothing`},
		{"waiting stands still outside its hours", "awaits \"beat\"\n per host\n raise error after 2h without\n " +
			"during 08:00-18:00", `
			at 17:00 "beat"
			wait 14h
			then nothing
			wait 1h59m
			then nothing
			wait 1m
			then raised`},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := check(t, "rule r {\n "+c.rule+"\n expect \"it\" {"+c.steps+"\n}\n}\n")
			out := Expects(s)
			require.Len(t, out, 1)
			assert.False(t, out[0].Failed, "%s\n%s", out[0].Step.Line, out[0].Why)
		})
	}
}
