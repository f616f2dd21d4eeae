// Package test drives the built program as its users do: in a terminal, with
// files that grow and rotate, and with kills.
package test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var binary string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "dimlantern-test-")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "dimlantern")
	build := exec.Command("go", "build", "-o", binary, "../cmd/dimlantern")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%s", out)
		os.Exit(1)
	}
	os.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state")) // nothing is left in the user's folders
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// patience is how long a condition is waited for.
var patience = 20 * time.Second

func eventually(t *testing.T, what string, cond func() bool) {
	t.Helper()
	require.Eventually(t, cond, patience, 20*time.Millisecond, what)
}

func write(t *testing.T, path, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
}

func appendTo(t *testing.T, path, text string) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	require.NoError(t, err)
	_, err = f.WriteString(text)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

// run runs the program and returns its output, its errors and its exit status.
func run(t *testing.T, args ...string) (string, string, int) {
	t.Helper()
	c := exec.Command(binary, args...)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	err := c.Run()
	if err != nil {
		require.IsType(t, &exec.ExitError{}, err)
	}
	return out.String(), errs.String(), c.ProcessState.ExitCode()
}

const rules = `source app {
  files  "%s/app.log"
  begin  now
  layout app-line
}

layout app-line {
  pattern /^(?<at>\S+) (?<host>\S+) (?<text>.*)$/
  time    at rfc3339
}

rule pump-low {
  on       app
  problem  /pump (?<pump>\d+) low/
  recovery /pump (?<pump>\d+) fine/
  per      host, pump
  raise    warning at 2 in 5m
  raise    critical at 6 in 5m
  clear    after 30m quiet
  say      "Pump {pump}: {count} times"
  advise   "Look at the strainer."

  expect "two lows" {
    at 10:00 from "a" "pump 7 low"
    at 10:01 from "a" "pump 7 low"
    then raised warning host "a" pump "7"
    at 10:02 from "a" "pump 7 fine"
    then cleared
  }
}
`

// folder is a place with rules, a log and a data folder.
type folder struct{ dir, settings, data, log string }

func newFolder(t *testing.T) folder {
	t.Helper()
	dir, err := os.MkdirTemp("", "dl-") // short, for the socket's name
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	f := folder{dir, filepath.Join(dir, "settings"), filepath.Join(dir, "data"), filepath.Join(dir, "app.log")}
	write(t, filepath.Join(f.settings, "app.lantern"), fmt.Sprintf(rules, dir))
	return f
}

func stamp() string { return time.Now().UTC().Format("2006-01-02T15:04:05.000Z") }

// service is a running `dimlantern watch --json`.
type service struct {
	cmd  *exec.Cmd
	errs *bytes.Buffer
}

func (f folder) start(t *testing.T) *service {
	t.Helper()
	s := &service{cmd: exec.Command(binary, "watch", "--settings", f.settings, "--data", f.data, "--json"),
		errs: &bytes.Buffer{}}
	s.cmd.Stderr = s.errs
	require.NoError(t, s.cmd.Start())
	t.Cleanup(func() { s.cmd.Process.Kill(); s.cmd.Wait() })
	return s
}

// ready waits until the service follows the log.
func (f folder) ready(t *testing.T) {
	t.Helper()
	eventually(t, "the service takes up the log", func() bool {
		_, _, code := run(t, "history", "--data", f.data)
		if code != 0 {
			return false
		}
		return strings.Contains(f.sql(t, "SELECT group_concat(name) FROM sources"), "app")
	})
}

func (f folder) history(t *testing.T) []map[string]any {
	t.Helper()
	out, errs, code := run(t, "history", "--data", f.data, "--json")
	require.Equal(t, 0, code, errs)
	var all []map[string]any
	for s := bufio.NewScanner(strings.NewReader(out)); s.Scan(); {
		var m map[string]any
		require.NoError(t, json.Unmarshal(s.Bytes(), &m))
		delete(m, "untold") // a replay tells nobody anything
		all = append(all, m)
	}
	return all
}

func (f folder) waitFor(t *testing.T, change string, n int) []map[string]any {
	t.Helper()
	var all []map[string]any
	eventually(t, fmt.Sprintf("%d × %s", n, change), func() bool {
		all = f.history(t)
		k := 0
		for _, m := range all {
			if m["change"] == change {
				k++
			}
		}
		return k >= n
	})
	return all
}

func TestCommands(t *testing.T) {
	f := newFolder(t)
	out, _, code := run(t, "check", f.settings)
	assert.Equal(t, 0, code, out)
	out, _, code = run(t, "test", f.settings)
	assert.Equal(t, 0, code)
	assert.True(t, strings.HasSuffix(out, "1 passed, 0 failed\n"), out)
	_, errs, code := run(t, "check", f.dir+"/nowhere")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "nowhere cannot be read")
	_, errs, code = run(t, "chekc")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "check")
	broken := filepath.Join(f.dir, "broken.lantern")
	write(t, broken, "rule x {\n  problme \"a\"\n}\n")
	out, _, code = run(t, "check", broken)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "broken.lantern:2:3")
	out, _, code = run(t, "check", "--json", broken)
	assert.Equal(t, 1, code)
	var d map[string]any
	require.NoError(t, json.Unmarshal([]byte(strings.TrimSpace(out)), &d))
	assert.Equal(t, "unknown-clause", d["code"])
	_, _, code = run(t, "replay", "--rules", broken, f.log)
	assert.Equal(t, 1, code)
	out, _, code = run(t, "why", "--rules", f.settings, "--rule", "pump-low", stamp()+" a pump 7 low")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "is a hit")
	for _, c := range []string{"", "demo", "watch", "history", "check", "fmt", "test", "replay", "why", "clear"} {
		out, _, code := run(t, strings.Fields(c+" --help")...)
		assert.Equal(t, 0, code, c)
		assert.Contains(t, out, "Examples:", c)
	}
}

// What a test of a rule says when it fails: where, and what happened instead.
func TestExpectThatFails(t *testing.T) {
	f := newFolder(t)
	path := filepath.Join(f.settings, "app.lantern")
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	write(t, path, strings.Replace(string(b), `then raised warning host "a" pump "7"`, `then raised critical`, 1))
	out, _, code := run(t, "test", f.settings)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "app.lantern:26:5")
	assert.Contains(t, out, `raised warning host "a" pump "7"`)
	assert.True(t, strings.HasSuffix(out, "0 passed, 1 failed\n"), out)
}

// An alert rises and clears while the service runs, over a rotation; what
// happened live is what a replay of the files gives.
func TestLiveEqualsReplay(t *testing.T) {
	f := newFolder(t)
	write(t, f.log, stamp()+" a pump 7 low\n"+stamp()+" a pump 7 low\n")
	f.start(t)
	f.ready(t)
	assert.Empty(t, f.history(t), "what was there before is not taken")
	started, err := os.Stat(f.log)
	require.NoError(t, err)
	appendTo(t, f.log, stamp()+" a pump 7 low\n"+stamp()+" b pump 7 low\n"+stamp()+" a pump 7 low\n")
	f.waitFor(t, "raised", 1)
	require.NoError(t, os.Rename(f.log, f.log+".1"))
	appendTo(t, f.log+".1", stamp()+" b pump 7 low\n")
	appendTo(t, f.log, stamp()+" a pump 7 fine\n")
	f.waitFor(t, "cleared", 1)
	all := f.waitFor(t, "raised", 2)
	// The same lines, from where the service began.
	rest := filepath.Join(f.dir, "rest")
	for _, n := range []string{".1", ""} {
		b, err := os.ReadFile(f.log + n)
		require.NoError(t, err)
		if n == ".1" {
			b = b[started.Size():]
		}
		write(t, filepath.Join(rest, "app.log"+n), string(b))
	}
	out, errs, code := run(t, "replay", "--rules", f.settings, "--as", "app", "--json",
		filepath.Join(rest, "app.log.1"), filepath.Join(rest, "app.log"))
	require.Equal(t, 0, code, errs)
	var replayed []map[string]any
	for s := bufio.NewScanner(strings.NewReader(out)); s.Scan(); {
		var m map[string]any
		require.NoError(t, json.Unmarshal(s.Bytes(), &m))
		replayed = append(replayed, m)
	}
	for _, list := range [][]map[string]any{all, replayed} {
		for _, m := range list { // the place in the file differs, and the identifier with it
			delete(m, "alert")
			delete(m, "entry")
		}
	}
	assert.Equal(t, replayed, all)
	assert.Contains(t, errs, "hits 4, raised 2, cleared 1, open 1")
	cost, _, _ := run(t, "rules", "--data", f.data, "--json")
	assert.Contains(t, cost, `"keys":1,"open":1,"hits":4`, "what a recovery ended is known no more")
	// For people, a row an alert.
	out, _, _ = run(t, "replay", "--rules", f.settings, "--as", "app", filepath.Join(rest, "app.log.1"),
		filepath.Join(rest, "app.log"))
	rows := strings.Split(strings.TrimSpace(out), "\n")
	require.Len(t, rows, 3)
	assert.Regexp(t, `^RAISED +LASTED +WORST +RULE +KEY +HITS +ENDED BY$`, rows[0])
	assert.Regexp(t, ` a 7 +2 +recovery$`, rows[1])
	assert.Regexp(t, ` b 7 +2 +open$`, rows[2])
}

func TestEditsWhileRunning(t *testing.T) {
	f := newFolder(t)
	write(t, f.log, "")
	s := f.start(t)
	f.ready(t)
	path := filepath.Join(f.settings, "app.lantern")
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	appendTo(t, f.log, stamp()+" a pump 7 low\n"+stamp()+" a pump 7 low\n")
	f.waitFor(t, "raised", 1)
	// A broken edit changes nothing, loudly.
	write(t, path, strings.Replace(string(b), "problem", "problme", 1))
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGHUP))
	eventually(t, "the error is told", func() bool { return strings.Contains(s.errs.String(), "unknown-clause") })
	appendTo(t, f.log, strings.Repeat(stamp()+" a pump 7 low\n", 4))
	f.waitFor(t, "worsened", 1)
	// Another threshold keeps the alert; another pattern ends it with the reason.
	write(t, path, strings.Replace(string(b), "critical at 6", "critical at 60", 1))
	eventually(t, "taken up", func() bool { return strings.Contains(s.errs.String(), "1 rule changed") })
	assert.Len(t, f.history(t), 2)
	write(t, path, strings.Replace(string(b), "low/", "very low/", 1))
	all := f.waitFor(t, "cleared", 1)
	assert.Equal(t, "rule changed", all[len(all)-1]["why"])
}

// One broken file does not keep the others from watching.
func TestStartWithABrokenFile(t *testing.T) {
	f := newFolder(t)
	write(t, f.log, "")
	write(t, filepath.Join(f.settings, "broken.lantern"), "rule x {\n  problme \"a\"\n}\n")
	s := f.start(t)
	f.ready(t)
	appendTo(t, f.log, stamp()+" a pump 7 low\n"+stamp()+" a pump 7 low\n")
	f.waitFor(t, "raised", 1)
	assert.Contains(t, s.errs.String(), "unknown-clause")
}

func TestOneServiceAFolder(t *testing.T) {
	f := newFolder(t)
	write(t, f.log, "")
	s := f.start(t)
	f.ready(t)
	_, errs, code := run(t, "watch", "--settings", f.settings, "--data", f.data)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, fmt.Sprintf("in use by process %d", s.cmd.Process.Pid))
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, s.cmd.Wait(), "SIGTERM ends it cleanly")
}

func TestClearByHand(t *testing.T) {
	f := newFolder(t)
	write(t, f.log, "")
	f.start(t)
	f.ready(t)
	appendTo(t, f.log, stamp()+" a pump 7 low\n"+stamp()+" a pump 7 low\n")
	all := f.waitFor(t, "raised", 1)
	_, errs, code := run(t, "clear", all[0]["alert"].(string), "--data", f.data, "--words", "strainer cleaned")
	require.Equal(t, 0, code, errs)
	all = f.waitFor(t, "cleared", 1)
	assert.Equal(t, "hand", all[1]["why"])
	assert.Equal(t, "strainer cleaned", all[1]["words"])
	assert.NotEmpty(t, all[1]["by"])
	_, errs, code = run(t, "clear", "nosuchalert", "--data", f.data)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "nosuchalert")
}

// A log with nothing but trouble in it reaches no terminal as such.
func TestHostileLines(t *testing.T) {
	f := newFolder(t)
	write(t, f.log, "")
	f.start(t)
	f.ready(t)
	evil := "\x1b]0;owned\x07\x1b[2J \u202eevil \x00\x00 \xff\xfe"
	appendTo(t, f.log, strings.Repeat("x", 3<<20)+"\n")
	for range 2 {
		appendTo(t, f.log, stamp()+" a pump 7 low "+evil+"\r\n")
	}
	f.waitFor(t, "raised", 1)
	out, _, code := run(t, "history", "--data", f.data)
	assert.Equal(t, 0, code)
	for _, bad := range []string{"\x1b", "\x07", "\u202e", "\x00", "\xff"} {
		assert.NotContains(t, out, bad)
	}
	appendTo(t, f.log, stamp()+" a pump 7 fine\n")
	f.waitFor(t, "cleared", 1)
}

// Fields prints each entry with what it divides into, in three forms, and groups what
// does not fit by its reason; values that are masked are so here too.
func TestFieldsCommand(t *testing.T) {
	dir := t.TempDir()
	log := filepath.Join(dir, "pumps.log")
	write(t, log, "2026-11-24 05:32:28.114 pump-03 7 mira\n2026-11-24 05:32:29 pump-04 n/a, \"x\" ann\nstray\n")
	layout := `pattern /^(?<at>\S+ \S+) (?<host>\S+) (?<pump>.+) (?<who>\w+)$/ time at like "2026-11-24 05:32:28" ` +
		`type pump integer mask who keep first 1`
	out, errs, code := run(t, "fields", "--layout", layout, "--json", log)
	require.Equal(t, 0, code, errs)
	assert.Equal(t, []string{
		`{"at":"2026-11-24T05:32:28.114Z","fits":true,"fields":{"at":"2026-11-24 05:32:28.114","host":"pump-03",` +
			`"pump":"7","who":"m***"},"text":"2026-11-24 05:32:28.114 pump-03 7 m***"}`,
		`{"at":"2026-11-24T05:32:29.000Z","fits":true,"fields":{"at":"2026-11-24 05:32:29","host":"pump-04",` +
			`"pump":"n/a, \"x\"","who":"a***"},"text":"2026-11-24 05:32:29 pump-04 n/a, \"x\" a***","misfit":"` +
			"`pump` is not an integer: `n/a, \\\"x\\\"`" + `"}`,
		`{"at":"2026-11-24T05:32:29.000Z","fits":false,"fields":{},"text":"stray","misfit":"it does not begin with ` +
			"`at`" + `"}`,
	}, strings.Split(strings.TrimSpace(out), "\n"))
	assert.Contains(t, errs, "1 of 3: `pump` is not an integer: `n/a, \"x\"`")
	out, _, _ = run(t, "fields", "--layout", layout, "--csv", log)
	assert.Contains(t, out, "entry-time,at,host,pump,who,misfit,entry\r\n2026-11-24T05:32:28.114Z,2026-11-24 "+
		"05:32:28.114,pump-03,7,m***,,\r\n")
	assert.Contains(t, out, `,"n/a, ""x""",a***,`)
	out, _, _ = run(t, "fields", "--layout", layout, "--misfits", log)
	assert.NotContains(t, out, "pump-03")
	assert.Contains(t, out, "stray")
	_, errs, code = run(t, "fields", "--layout", "patern /x/", log)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "did you mean: pattern")
	out, _, code = run(t, "detect", log)
	assert.Equal(t, 0, code)
	write(t, filepath.Join(dir, "d.lantern"), out)
	_, errs, code = run(t, "check", filepath.Join(dir, "d.lantern"))
	assert.Equal(t, 0, code, errs)
	out, _, _ = run(t, "shapes", "--json", log)
	assert.Contains(t, out, `"shape":"stray","share":0.333`)
}
