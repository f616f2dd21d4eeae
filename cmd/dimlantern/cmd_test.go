package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"dimlantern/core/engine"
	"dimlantern/core/lang"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const harbourRules = `source harbour {
  files  "LOG"
  layout pump-line
}

layout pump-line {
  pattern /^(?<at>\S+) (?<host>\S+) pump (?<pump>\d+): (?<text>.*)$/
  time    at like "2026-11-24T05:32:28Z"
}

rule pump-low {
  on       harbour
  problem  "low"
  recovery "fine"
  per      host, pump
  raise    warning at 2 in 5m
  clear    on recovery
  say      "pump {pump} is low"

  expect "two are enough" {
    line "2026-11-24T05:00:00Z lock-3 pump 7: low"
    line "2026-11-24T05:01:00Z lock-3 pump 7: low"
    then raised warning
  }
}
`

const harbourLog = `2026-11-24T05:00:00Z lock-3 pump 7: low
2026-11-24T05:00:30Z lock-3 pump 8: low, 2.1 bar
2026-11-24T05:01:00Z lock-3 pump 7: low
2026-11-24T05:02:00Z lock-3 pump 7: LOW
2026-11-24T05:03:00Z lock-3 pump 7: fine
2026-11-24T05:04:00Z lock-3 pump 7: low
2026-11-24T05:05:00Z lock-3 pump 7: low
2026-11-24T05:06:00Z lock-3 pump 7: fine
nobody knows
`

// desk is a folder with settings and a log, and a hand on the command line.
type desk struct {
	t                  *testing.T
	dir, settings, log string
	out, err           string
}

func newDesk(t *testing.T) *desk {
	d := &desk{t: t, dir: t.TempDir()}
	d.settings, d.log = filepath.Join(d.dir, "settings"), filepath.Join(d.dir, "pump.log")
	require.NoError(t, os.Mkdir(d.settings, 0o755))
	d.write("settings/harbour.lantern", strings.Replace(harbourRules, "LOG", d.log, 1))
	d.write("pump.log", harbourLog)
	return d
}

func (d *desk) write(name, text string) string {
	path := filepath.Join(d.dir, name)
	require.NoError(d.t, os.WriteFile(path, []byte(text), 0o644))
	return path
}

// run runs a command, in which SETTINGS and LOG stand for the desk's, and returns its exit
// status.
func (d *desk) run(line string) int {
	var out, errs bytes.Buffer
	root := newRoot()
	root.SetOut(&out)
	root.SetErr(&errs)
	root.SetArgs(strings.Fields(strings.NewReplacer("SETTINGS", d.settings, "LOG", d.log, "DIR", d.dir).Replace(line)))
	err := root.Execute()
	d.out, d.err = out.String(), ""
	var f failed
	switch {
	case err == nil:
		return exitWell
	case errors.As(err, &f):
		d.err = f.msg
		return exitFailed
	}
	d.err = err.Error()
	return exitMisused
}

// What is asked is answered on standard output, with the exit status that scripts go by.
func TestCommands(t *testing.T) {
	d := newDesk(t)
	broken := d.write("broken.lantern", "rule r {\n  problem\n}\n")
	ugly := d.write("ugly.lantern", "rule   r {\nproblem \"x\"\n raise warning\nclear after 1h quiet }\n")
	failing := d.write("failing.lantern", strings.Replace(strings.Replace(harbourRules, "LOG", d.log, 1),
		"then raised warning", "then raised critical", 1))
	for _, c := range []struct {
		line   string
		status int
		says   []string // on standard output
		fails  string   // why
	}{
		{"check SETTINGS", exitWell, []string{"1 file: 0 errors, "}, ""},
		{"check " + broken, exitFailed, []string{broken + ":2:", "1 error"}, ""},
		{"check", exitMisused, nil, "check needs a PATH"},
		{"check DIR/nowhere", exitMisused, nil, "nowhere"},
		{"fmt " + ugly, exitWell, []string{"rule r {\n  problem \"x\"\n  raise   warning\n  clear   after 1h " +
			"quiet\n}\n"}, ""},
		{"fmt --check " + ugly, exitFailed, []string{ugly + "\n"}, ""},
		{"fmt --check SETTINGS", exitWell, nil, ""},
		{"test SETTINGS", exitWell, []string{"1 passed, 0 failed"}, ""},
		{"test -v SETTINGS", exitWell, []string{"pass pump-low: two are enough"}, ""},
		{"test --run nothing SETTINGS", exitWell, []string{"0 passed, 0 failed"}, ""},
		{"test " + failing, exitFailed, []string{"FAIL pump-low: two are enough", "0 passed, 1 failed"}, ""},
		{"replay --rules SETTINGS LOG", exitWell, []string{"pump-low", "lock-3 7", "recovery"}, ""},
		{"replay --rules SETTINGS --from 2026-11-24T06:00:00Z LOG", exitWell, nil, ""},
		{"replay --rules SETTINGS --as nothing LOG", exitMisused, nil, "nothing"},
		{"replay --rules SETTINGS DIR/gone.log", exitMisused, nil, "gone.log"},
		{"replay --rules SETTINGS --from noon LOG", exitMisused, nil, "--from"},
		{"replay LOG", exitMisused, nil, "replay needs --rules"},
		{"near --rules SETTINGS --rule pump-low LOG", exitWell, []string{"LOW", "does not fit"}, ""},
		{"near --rules SETTINGS --rule nothing LOG", exitMisused, nil, "nothing"},
		{"propose recovery --rules SETTINGS --rule nothing LOG", exitMisused, nil, "nothing"},
		{"why --rules SETTINGS --rule pump-low --key host=lock-3 --key pump=7 --at 2026-11-24T05:02:00Z LOG", exitWell,
			[]string{"warning", "05:01:00"}, ""},
		{"why --rules SETTINGS --rule pump-low --key colour=red LOG", exitMisused, nil, "colour"},
		{"why --rules SETTINGS --rule pump-low --key pump=7 LOG", exitWell, []string{"what had come of it",
			"05:05:00.000  raised    2 hits in 5m"}, ""},
		{"shapes LOG", exitWell, []string{"9 lines of 5 shapes", "pump <number>: low"}, ""},
		{"shapes DIR/gone.log", exitMisused, nil, "gone.log"},
		{"detect LOG", exitWell, []string{"layout ", "pattern"}, ""},
		{"fields --rules SETTINGS --as harbour LOG", exitWell, []string{"lock-3", "low, 2.1 bar"}, ""},
		{"fields --rules SETTINGS --as harbour --csv --only pump,text LOG", exitWell, []string{
			"entry-time,pump,text,misfit,entry\r\n", "8,\"low, 2.1 bar\""},
			""},
		{"fields --rules SETTINGS --as harbour --values --only pump LOG", exitWell, []string{"pump", "7", "8"}, ""},
		{"fields --rules SETTINGS --as harbour --misfits LOG", exitWell, []string{"nobody knows"}, ""},
		{"fields --rules SETTINGS --as harbour --only pump --where pump==8 --from 2026-11-24T05:03:00Z LOG", exitWell,
			[]string{"pump"}, ""},
		{"fields --rules SETTINGS --as harbour --where pomp==8 LOG", exitMisused, nil, "no layout of its sources " +
			"gives"},
		{"fields --rules SETTINGS --as harbour --where low LOG", exitMisused, nil, "is no expression"},
		{"find pump==8 --settings SETTINGS --on harbour", exitWell, []string{"pump 8"}, ""},
		{"find LOW LOG", exitWell, []string{"LOW", "low, 2.1 bar"}, ""},
		{"find low DIR/gone.log", exitMisused, nil, "gone.log"},
		{"find low --settings SETTINGS --on nothing", exitMisused, nil, "no source nothing"},
		{"find low --from noon LOG", exitMisused, nil, "--from"},
		{"fields --layout nothing LOG", exitFailed, nil, "the settings have errors"},
		{"history --data DIR/none", exitMisused, nil, "none"},
		{"hurry", exitMisused, nil, "there is no command \"hurry\""},
		{"chek", exitMisused, nil, "did you mean check?"},
		{"clear --data DIR/none", exitMisused, nil, "clear needs one ALERT, and was given 0"},
		{"clear --data DIR/none k3", exitFailed, nil, "no service runs on"},
		{"status --data DIR/none", exitMisused, nil, "no service runs"},
	} {
		t.Run(c.line, func(t *testing.T) {
			d.t = t
			assert.Equal(t, c.status, d.run(c.line), "%s%s", d.out, d.err)
			for _, want := range c.says {
				assert.Contains(t, d.out, want)
			}
			if assert.Contains(t, d.err, c.fails); c.fails != "" {
				assert.Empty(t, d.out, "what went wrong is no answer")
			}
		})
	}
}

// JSON is one object a line, in whatever command.
func TestJSONLines(t *testing.T) {
	d := newDesk(t)
	for line, names := range map[string][]string{
		"check --json SETTINGS":                            nil,
		"test --json SETTINGS":                             nil,
		"replay --json --rules SETTINGS LOG":               {"at", "change", "rule", "key"},
		"fields --json --rules SETTINGS --as harbour LOG":  {"text"},
		"shapes --json LOG":                                {"count"},
		"find --json low LOG":                              {"at", "origin", "fields", "text"},
		"detect --json --all LOG":                          nil,
		"near --json --rules SETTINGS --rule pump-low LOG": nil,
		"why --json --rules SETTINGS --rule pump-low low":  nil,
	} {
		t.Run(line, func(t *testing.T) {
			d.t = t
			d.run(line)
			for _, l := range strings.Split(strings.TrimSpace(d.out), "\n") {
				if l == "" {
					continue
				}
				var x map[string]any
				require.NoError(t, json.Unmarshal([]byte(l), &x), l)
				for _, n := range names {
					assert.Contains(t, x, n)
				}
			}
		})
	}
	require.Equal(t, exitWell, d.run("replay --json --rules SETTINGS LOG"))
	assert.Equal(t, 4, strings.Count(d.out, "\n"), "two alerts, raised and cleared: %s", d.out)
}

// Fmt changes files only where that is said, and what is changed is settled.
func TestFmtWrites(t *testing.T) {
	d := newDesk(t)
	path := d.write("settings/ugly.lantern", "# why\nrule r {\nproblem \"x\"\nraise warning\nclear after 1h quiet }\n")
	require.Equal(t, exitWell, d.run("fmt --write SETTINGS"))
	assert.Equal(t, path+"\n", d.out)
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "# why\nrule r {\n  problem \"x\"\n  raise   warning\n  clear   after 1h quiet\n}\n", string(b))
	require.Equal(t, exitWell, d.run("fmt --write SETTINGS"))
	assert.Empty(t, d.out)
}

// A replay says of which rule the recovery ended nothing, once that is no chance.
func TestARecoveryThatEndsNothing(t *testing.T) {
	s := &lang.Settings{}
	for _, name := range []string{"deaf", "well", "few", "by-hand"} {
		s.Rules = append(s.Rules, &lang.Rule{Name: name, Recovery: &lang.Phrase{Text: "fine"}})
	}
	s.Rules[3].Recovery = nil
	e := ended{}
	tell := func(rule, change, why string, n int) {
		for range n {
			e.take(&engine.Transition{Rule: rule, Change: change, Why: why})
		}
	}
	tell("deaf", engine.Raised, "", 3)
	tell("deaf", engine.Cleared, "quiet", 2)
	tell("well", engine.Raised, "", 9)
	tell("well", engine.Cleared, "recovery", 1)
	tell("few", engine.Raised, "", 2)
	tell("by-hand", engine.Raised, "", 9)
	require.Equal(t, []string{"deaf raised 3 alerts, and its recovery ended none of them: ask whether any entry " +
		"fits it: where \"fine\""}, e.never(s))
}
