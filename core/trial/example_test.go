package trial_test

import (
	"fmt"
	"io"
	"strings"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/trial"
)

const pumps = `source pumps {
  files "/var/log/pumps.log"
  layout line
}
layout line {
  pattern /^(?<at>\S+) (?<text>.*)$/
  time at rfc3339
}
rule low {
  problem  /pump (?<pump>\d+) low/
  recovery /pump (?<pump>\d+) fine/
  per      pump
  raise    warning at 2 in 5m
  clear    on recovery
}
`

func pumpSettings() *lang.Settings {
	s, _ := lang.Check([]*lang.File{lang.Parse("pumps", []byte(pumps))}, lang.Env{Time: layout.CheckTime})
	return s
}

// A log is run through the rules as it would have been live.
func ExampleReplay() {
	log := `2026-11-24T05:00:00Z pump 7 low
2026-11-24T05:01:00Z pump 7 low
2026-11-24T05:09:00Z pump 7 fine
`
	settings := pumpSettings()
	_, err := trial.Replay(settings, []*trial.Input{{Source: settings.Source("pumps"), Path: "/var/log/pumps.log",
		Host:  "host-a",
		Files: []io.Reader{strings.NewReader(log)}, Near: entry.None}},
		trial.Options{Zone: time.UTC, Emit: func(t *engine.Transition) {
			fmt.Println(t.At, t.Change, t.Rule, t.Key, t.Severity)
		}})
	if err != nil {
		fmt.Println(err)
	}
	// Output:
	// 2026-11-24T05:01:00.000Z raised low [7] warning
	// 2026-11-24T05:09:00.000Z cleared low [7] warning
}

// Why an entry is something for a rule, or nothing.
func ExampleWhy() {
	settings := pumpSettings()
	for _, text := range []string{"2026-11-24T05:00:00Z pump 7 low", "2026-11-24T05:00:00Z pump 7 LOW"} {
		r := trial.Why(settings, settings.Rule("low"), settings.Source("pumps"), "host-a",
			"host-a:/var/log/pumps.log", text, time.UTC, 0)
		fmt.Println(r.Verdict+":", r.Because)
	}
	// Output:
	// hit: the problem fits, and nothing of it is ignored
	// nothing: neither problem nor recovery fits
}
