package trial_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
	"dimlantern/core/trial"
)

// rulesText is a settings file of so many rules.
func rulesText(n int) string {
	var b strings.Builder
	b.WriteString("source s {\n  files \"/log\"\n  layout line\n}\nlayout line {\n  pattern /^(?<at>\\S+) (?<host>" +
		"\\S+) (?<text>.*)$/\n  time at rfc3339\n}\n")
	for i := range n {
		fmt.Fprintf(&b, "rule r%d {\n  on       s\n  problem  /pump %d: pressure low (?<n>\\d+)/\n  recovery "+
			"/pump %d: pressure fine (?<n>\\d+)/\n  per      host, n\n  raise    warning at 3 in 5m\n  clear    "+
			"after 10m quiet\n}\n", i, i, i)
	}
	return b.String()
}

// From the text of 200 rules to plans that are ready to judge by.
func BenchmarkReady(b *testing.B) {
	text := rulesText(200)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte(text))}, lang.Env{Time: layout.CheckTime,
			ErrorsOnly: true})
		if lang.Errors(ds) {
			b.Fatal(ds[0].What)
		}
		match.NewPlan(s, s.Sources[0], trial.Active(s), time.UTC)
	}
}
