package test

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// terminal is a program in a real terminal.
var terminals atomic.Int64

type terminal struct {
	t    *testing.T
	sock string
}

// open runs a command in a terminal of that size.
func open(t *testing.T, w, h int, env string, args ...string) *terminal {
	t.Helper()
	// a server takes a moment to go
	term := &terminal{t, fmt.Sprintf("dl-%d-%s-%d", os.Getpid(), strings.ToLower(t.Name()), terminals.Add(1))}
	quoted := env
	for _, a := range append([]string{binary}, args...) {
		quoted += " '" + a + "'"
	}
	c := exec.Command("tmux", "-L", term.sock, "-f", "/dev/null", "new-session", "-d", "-s", "s", "-x", fmt.Sprint(w),
		"-y", fmt.Sprint(h), quoted)
	c.Env = append(os.Environ(), "LANG=C.UTF-8", "TERM=xterm-256color")
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	t.Cleanup(func() { exec.Command("tmux", "-L", term.sock, "kill-server").Run() })
	return term
}

func (x *terminal) screen() string {
	out, _ := exec.Command("tmux", "-L", x.sock, "capture-pane", "-p", "-t", "s").Output()
	return string(out)
}

func (x *terminal) keys(keys ...string) {
	x.t.Helper()
	for _, k := range keys {
		require.NoError(x.t, exec.Command("tmux", "-L", x.sock, "send-keys", "-t", "s", k).Run())
	}
}

func (x *terminal) typed(text string) {
	x.t.Helper()
	require.NoError(x.t, exec.Command("tmux", "-L", x.sock, "send-keys", "-t", "s", "-l", "--", text).Run())
}

// until waits until the screen satisfies a condition, and shows it if it never
// does.
func (x *terminal) until(what string, cond func(screen string) bool) {
	x.t.Helper()
	end := time.Now().Add(patience)
	for !cond(x.screen()) {
		if time.Now().After(end) {
			require.FailNow(x.t, "never on the screen: "+what, x.screen())
		}
		time.Sleep(30 * time.Millisecond)
	}
}

func (x *terminal) see(text string) {
	x.t.Helper()
	x.until(text, func(s string) bool { return strings.Contains(s, text) })
}

// under tells whether a row stands below the heading of a band, and above the
// next one.
func under(screen, band, row string) bool {
	in := false
	for _, l := range strings.Split(screen, "\n") {
		for _, b := range []string{"open  worst", "stirring  hits", "blind  not seen", "over  within"} {
			if strings.Contains(l, " "+b) {
				in = strings.HasPrefix(b, band)
			}
		}
		if strings.HasPrefix(l, " ── ") && !strings.HasPrefix(l, " ──  ──") { // the chosen one's own heading
			return false
		}
		if in && strings.Contains(l, row) {
			return true
		}
	}
	return false
}

// A person's own log and rule: the alert rises on the screen when the problem
// line comes, and goes when the recovery line comes, in a file that was rotated
// meanwhile.
func TestOwnLogOnTheScreen(t *testing.T) {
	f := newFolder(t)
	write(t, f.log, stamp()+" a old line\n")
	x := open(t, 160, 47, "", "--settings", f.settings, "--data", f.data)
	x.see("all is quiet")
	appendTo(t, f.log, stamp()+" a pump 7 low\n")
	x.until("stirring", func(s string) bool { return under(s, "stirring", "pump-low") })
	appendTo(t, f.log, stamp()+" a pump 7 low\n")
	x.until("open", func(s string) bool { return under(s, "open", "pump-low") })
	x.see("raised, a warning")
	x.see("Look at the strainer.")
	x.see("› ")
	require.NoError(t, os.Rename(f.log, f.log+".1"))
	appendTo(t, f.log, stamp()+" a pump 7 fine\n")
	x.until("over", func(s string) bool { return under(s, "over", "pump-low") })
	x.see("the recovery came")
	// Back in time, and live again.
	x.keys("[", "[")
	x.see("actions are off")
	x.until("open then", func(s string) bool { return under(s, "open", "pump-low") })
	x.keys("Space")
	x.until("live", func(s string) bool { return strings.Contains(s, "lamp live") && under(s, "over", "pump-low") })
	// Found by a word, and by none.
	x.keys("/")
	x.typed("nosuchthing")
	x.see("nothing here has nosuchthing")
	x.keys("Escape")
	x.see("pump-low")
	x.keys("?")
	x.see("ended by its recovery")
	x.keys("Escape")
	// Cleared by hand, with words.
	appendTo(t, f.log, strings.Repeat(stamp()+" b pump 3 low\n", 2))
	x.until("open", func(s string) bool { return under(s, "open", "b 3") })
	x.keys("Home", "c")
	x.typed("all is well")
	x.keys("Enter")
	x.until("over", func(s string) bool { return under(s, "over", "b 3") })
	assert.Equal(t, "hand", f.history(t)[len(f.history(t))-1]["why"])
	x.keys("q")
	x.until("the program ends", func(s string) bool { return !strings.Contains(s, "dim lantern") })
}

// Why is asked about a key, now and where the lamp is held, and about an entry.
func TestWhyOnTheScreen(t *testing.T) {
	f := newFolder(t)
	write(t, f.log, "")
	x := open(t, 120, 40, "", "--settings", f.settings, "--data", f.data)
	x.see("all is quiet")
	appendTo(t, f.log, stamp()+" a pump 7 low\n"+stamp()+" a pump 7 resting\n")
	x.until("stirring", func(s string) bool { return under(s, "stirring", "pump-low") })
	x.keys("y")
	x.see("no alert is open")
	x.see("1 of 2 hits in")
	x.keys("Escape")
	appendTo(t, f.log, stamp()+" a pump 7 low\n")
	x.until("open", func(s string) bool { return under(s, "open", "pump-low") })
	x.keys("y")
	x.see("warning, open since")
	x.see("2 of 2 hits in")
	x.keys("Escape")
	x.see("choosing alerts")
	x.keys("[")
	x.see("actions are off")
	x.keys("y") // its log is read once more
	x.see("warning, open since")
	x.keys("Escape")
	x.see("looking back")
	x.keys("Space", "3")
	x.see("its newest entries")
	x.keys("Enter")
	x.see("newest first, 3 of the last 3 entries")
	x.keys("Down", "y") // the one that is no hit
	x.see("it is nothing for the one rule")
	x.see("problem   no")
	x.keys("Escape")
	x.see("reading entries")
	x.keys("Down", "y")
	x.see("pump-low: a hit")
}

// A rule is opened on the bench, changed, tried at once on what the log has said, saved, and
// taken up.
func TestBenchOnTheScreen(t *testing.T) {
	f := newFolder(t)
	write(t, f.log, "")
	x := open(t, 160, 47, "", "--settings", f.settings, "--data", f.data)
	x.see("all is quiet")
	appendTo(t, f.log, strings.Repeat(stamp()+" a pump 7 low\n", 2)+stamp()+" a pump 9 lame\n")
	x.until("open", func(s string) bool { return under(s, "open", "pump-low") })
	x.keys("2")
	x.see("1 rule  enter opens one")
	x.keys("Enter")
	x.see("would have    raised 1 alert")
	x.see("had 2 hits")
	x.keys("Escape") // to the shapes
	x.see("choosing kinds")
	x.until("the kind of the other line is chosen", func(s string) bool {
		x.keys("Down")
		return strings.Contains(s, "one of 1") && strings.Contains(s, "pump 9 lame")
	})
	x.keys("p")
	x.see("had 3 hits")
	x.see("changed, not saved")
	x.keys("u")
	x.see("had 2 hits")
	x.keys("p")
	x.see("had 3 hits")
	x.keys("C-s")
	x.see("is written and at work")
	b, err := os.ReadFile(filepath.Join(f.settings, "app.lantern"))
	require.NoError(t, err)
	assert.Contains(t, string(b), "lame")
	x.keys("Enter")
	x.typed("#")
	x.see("changed, not saved")
	x.keys("Escape") // to the shapes
	x.see("choosing kinds")
	x.keys("Escape")
	x.see("esc once more leaves it")
	x.keys("Escape")
	x.see("of a core")
	b, err = os.ReadFile(filepath.Join(f.settings, "app.lantern"))
	require.NoError(t, err)
	assert.NotContains(t, string(b), "#")
}

// A first start has nothing to show, says so, and writes a first settings file
// for a path that is typed.
func TestFirstStart(t *testing.T) {
	f := newFolder(t)
	require.NoError(t, os.RemoveAll(f.settings))
	log := filepath.Join(f.dir, "harbour.log")
	write(t, log, "one\n")
	x := open(t, 120, 40, "", "--settings", f.settings, "--data", f.data)
	x.see("Nothing is watched yet")
	x.keys("d")
	x.see("gullhaven")
	x.see("choosing alerts")
	x.keys("q")
	x.see("back from Gullhaven")
	x.keys("+")
	x.typed(log)
	x.see("this will be written")
	x.see("usual")
	x.keys("Enter")
	x.see("1 origin, 1 seen")
	appendTo(t, log, "the first entry that arrives\n")
	x.keys("Enter")
	x.see("the first entry that arrives")
	x.keys("Escape")
	x.see("choosing origins")
	x.keys("1")
	x.see("no rule is written yet")
	x.keys("3", "r")
	x.see("the first entry that arrives")
	x.see("problem /the first entry that arrives/")
	x.keys("Right")
	x.see("raise   error")
	x.keys("Enter")
	x.see("is written, and taken up")
	x.see("rules   first-entry-arrives")
	appendTo(t, log, "the first entry that arrives\n")
	x.keys("1")
	x.until("open", func(s string) bool { return under(s, "open", "first") })
	b, err := os.ReadFile(filepath.Join(f.settings, "harbour.lantern"))
	require.NoError(t, err)
	assert.Contains(t, string(b), log)
	_, _, code := run(t, "check", f.settings)
	assert.Equal(t, 0, code)
}

// The room sources says how each log can be seen, with the mend, and shows its
// entries, also those of an earlier moment.
func TestSourcesRoom(t *testing.T) {
	f := newFolder(t)
	write(t, f.log, "")
	x := open(t, 160, 47, "", "--settings", f.settings, "--data", f.data)
	x.see("all is quiet")
	x.keys("3")
	x.see("waiting for its first entry")
	appendTo(t, f.log, stamp()+" a pump 6 fine\n"+stamp()+" a pump 7 low\x1b[2J\n")
	x.see("pump 7 low␛[2J")
	x.keys("Enter")
	x.see("newest first, 2 of the last 2 entries")
	x.keys("/")
	x.typed("fine")
	x.see("1 entry with the words fine; all 2 entries were looked through")
	x.keys("Enter", "Escape")
	x.see("2 of the last 2 entries")
	x.keys("Escape")
	x.see("1 origin, 1 seen")
	require.NoError(t, os.Remove(f.log))
	x.see("the file " + f.log + " is gone")
	x.see("taken up again when it comes back")
	write(t, f.log, stamp()+" a pump 7 back\n")
	x.see("pump 7 back")
	out, _, code := run(t, "sources", "--data", f.data, "--json")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, f.log)
	out, _, code = run(t, "check", "--reach", f.settings)
	assert.Equal(t, 0, code, out)
	assert.Contains(t, out, "well: it can be read")
}

// What may not be read says so, with a command that mends it.
func TestUnreadableLog(t *testing.T) {
	setpriv, err := exec.LookPath("setpriv")
	if os.Getuid() != 0 || err != nil {
		t.Skip("only root can become somebody else")
	}
	f := newFolder(t)
	shut := filepath.Join(f.dir, "shut", "app.log")
	write(t, f.log, "one\n")
	write(t, shut, "one\n")
	write(t, filepath.Join(f.settings, "more.lantern"), fmt.Sprintf("source shut { files %q }\n", shut))
	require.NoError(t, os.Chmod(f.log, 0o600))
	require.NoError(t, os.Chmod(filepath.Dir(shut), 0o700))
	require.NoError(t, os.Chmod(f.dir, 0o755))
	mine := filepath.Join(f.dir, "dimlantern")
	b, err := os.ReadFile(binary)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(mine, b, 0o755))
	out, err := exec.Command(setpriv, "--reuid=65534", "--regid=65534", "--clear-groups", mine, "check", "--reach",
		f.settings).Output()
	require.ErrorContains(t, err, "exit status 1")
	assert.Contains(t, string(out), "its owner is root, and nobody may not read it (rw-------)")
	assert.Contains(t, string(out), "setfacl -m u:nobody:r "+f.log)
	assert.Contains(t, string(out), "the folder "+filepath.Dir(shut)+" may not be entered by nobody")
	assert.Contains(t, string(out), "setfacl -m u:nobody:x "+filepath.Dir(shut))
}

// A second window joins the service that runs, and shows the same.
func TestJoin(t *testing.T) {
	f := newFolder(t)
	write(t, f.log, "")
	f.start(t)
	f.ready(t)
	x := open(t, 80, 24, "NO_COLOR=1", "--settings", f.settings, "--data", f.data)
	x.see("0 open")
	appendTo(t, f.log, strings.Repeat(stamp()+" a pump 7 low\n", 2))
	x.see("1 open")
	x.keys("Enter")
	x.see("raised, a warning")
}

func TestSmallWindow(t *testing.T) {
	f := newFolder(t)
	x := open(t, 50, 10, "", "--settings", f.settings, "--data", f.data)
	x.see("Dim Lantern needs 60×16")
}

// No line of a log changes the terminal that shows it, on any screen that shows
// entries: not by escapes, nor by bytes that are no text, nor by its length.
func TestHostileLinesOnTheScreen(t *testing.T) {
	f := newFolder(t)
	write(t, f.log, "")
	x := open(t, 160, 47, "", "--settings", f.settings, "--data", f.data)
	x.see("all is quiet")
	evil := " \x1b[2J\x1b]0;owned\x07\x1b[31m \u202e\x00 \xff"
	appendTo(t, f.log, strings.Repeat("x", 8<<20)+evil+"\n"+strings.Repeat(stamp()+" a pump 7 low"+evil+"\n", 2))
	unharmed := func(sign string) {
		t.Helper()
		x.see(sign)
		screen := x.screen()
		assert.Contains(t, strings.Split(screen, "\n")[0], "dim lantern", "the frame stands where it stood")
		assert.NotRegexp(t, "[\x00-\x09\x0b-\x1f\u202e]", screen)
		title, err := exec.Command("tmux", "-L", x.sock, "display-message", "-p", "-t", "s", "#{pane_title}").Output()
		require.NoError(t, err)
		assert.NotContains(t, string(title), "owned")
	}
	unharmed("pump 7 low ␛[2J")
	x.keys("3")
	x.see("its newest entries")
	unharmed("pump 7 low ␛[2J")
	x.keys("Enter")
	x.see("newest first")
	unharmed("pump 7 low ␛[2J")
	x.keys("f")
	x.see("divided")
	unharmed("pump 7 low ␛[2J")
	x.keys("m")
	unharmed("do not fit the layout")
	x.keys("Escape")
	x.see("choosing origins")
	x.keys("r")
	x.see("begin a rule")
	unharmed("pump 7 low ␛[2J")
	unharmed("this will be written")
	x.keys("Escape")
	x.see("choosing origins")
	x.keys("+")
	x.typed(f.log)
	x.see("usual")
	unharmed("␛[2J")
}

// Screens that have joined a service go on when it has been started anew.
func TestJoinedOverARestart(t *testing.T) {
	f := newFolder(t)
	write(t, f.log, "")
	s := f.start(t)
	f.ready(t)
	x := open(t, 120, 30, "NO_COLOR=1", "--settings", f.settings, "--data", f.data)
	x.see("joined: service on")
	require.NoError(t, s.cmd.Process.Kill())
	s.cmd.Wait()
	x.see("does not answer")
	f.start(t)
	appendTo(t, f.log, strings.Repeat(stamp()+" a pump 7 low\n", 2))
	x.see("1 open")
	x.until("the trouble is over", func(screen string) bool { return !strings.Contains(screen, "does not answer") })
}

// An event of a channel raises and clears on the screen, by its identifier.
func TestEventOnTheScreen(t *testing.T) {
	x := open(t, 150, 45, "NO_COLOR=1", "demo", "--pace", "10")
	x.see("choosing alerts")
	x.keys("/")
	x.typed("gate-position")
	x.keys("Enter")
	x.until("gate 3 is raised", func(screen string) bool { // at this pace it may be over by now
		return under(screen, "open", "gate-position-lost") || under(screen, "over", "gate-position-lost")
	})
	x.until("gate 3 is over", func(screen string) bool {
		return under(screen, "over", "gate-position-lost") && !under(screen, "open", "gate-position-lost")
	})
	x.keys("3")
	x.see("Harbour-Control/Operational")
	x.see("is it switched on at the host?")
	x.keys("+")
	x.see("channel NAME")
	x.typed("channel Gullhaven-B")
	x.see("301 info")
	x.keys("Right")
	x.see("this will be written")
	x.keys("Enter")
	x.see("is written, and taken up")
	x.see("gullhaven-berths-fenders")
}

// What somebody sends to a port does nothing to the screens that show it, whole,
// divided or in full.
func TestHostileMessagesOnTheScreen(t *testing.T) {
	at := freePort(t)
	f := newWays(t, fmt.Sprintf("source boxes {\n listen syslog udp %q\n}\nrule low {\n problem /low "+
		"(?<n>\\S+)/\n per n\n raise error\n clear by hand\n}\n", at))
	f.start(t)
	eventually(t, "it listens", func() bool {
		out, _, _ := run(t, "sources", "--data", f.data)
		return strings.Contains(out, "nothing has come yet")
	})
	c, err := net.Dial("udp", at)
	require.NoError(t, err)
	defer c.Close()
	for _, text := range []string{
		"<11>1 - \x1b[2Jhost - - - [a@1 \x1b]0;owned\x07=\"x\"] low \x1b[2J\x1b[31m",
		"<11>1 - host-a pumpd - - [a@1 b=\"\u202e\x1b[5A\"] low \u202eesrever\x00\xff",
		"<11>1 - host-a pumpd - - - low " + strings.Repeat("x", 60_000),
		"<11>Nov 24 05:32:28 host-a pumpd: low \x1b[1;1H\x9b2J\r\n\n\nx",
	} {
		_, err := c.Write([]byte(text))
		require.NoError(t, err)
	}
	eventually(t, "all are judged", func() bool { return f.sql(t, "SELECT count(*) FROM transitions") == "4" })
	x := open(t, 100, 30, "NO_COLOR=1", "--settings", f.settings, "--data", f.data)
	frame := func(what string) {
		t.Helper()
		x.until(what, func(screen string) bool {
			lines := strings.Split(screen, "\n")
			return strings.Contains(lines[0], "dim lantern") && strings.Contains(screen, what) &&
				strings.Contains(screen, "tide") && !strings.ContainsAny(screen, "\x1b\u202e\x00")
		})
	}
	frame("4 open")
	x.keys("Enter", "Down", "Enter")
	frame("raised, an error")
	x.keys("Escape")
	frame("enter story")
	x.keys("3")
	frame("1 source")
	x.keys("Down", "Enter")
	frame("newest first, 3")
	x.keys("f")
	frame("facility user")
}

// Fields by pointing alone: a value is chosen on a real line, named, and counted; its
// type is said; what was made is undone, made again, and written with the settings'
// comments kept; and a rule that uses the field is what it was made for.
func TestFieldsOnTheScreen(t *testing.T) {
	f := newWays(t, "source gates { # two of them\n  files \"DIR/gates.log\"\n  begin oldest\n}\n")
	var b strings.Builder
	for i := range 40 {
		fmt.Fprintf(&b, "%s gate %d moved in %d ms\n", stamp(), i%4, 700+i)
	}
	write(t, filepath.Join(f.dir, "gates.log"), b.String())
	term := open(t, 160, 47, "", "--settings", f.settings, "--data", f.data)
	term.see("all is quiet")
	term.keys("3")
	term.see("gates.log")
	term.keys("l")
	term.see("pointing")
	term.see("none has a time")
	term.keys("Enter")
	term.see("call 20") // the time, for which a name is proposed
	term.keys("Enter")
	term.see(`time at like "20`)
	term.keys("Right", "Right", "Enter")
	term.see("call ")
	term.typed("gate")
	term.keys("Enter")
	term.see("in 40 of 40 entries, 4 different")
	term.keys("End", "Left", "Enter")
	term.see("call 7")
	term.typed("took")
	term.keys("Enter")
	term.see("40 different")
	term.keys("t")
	term.see("took is")
	term.typed("duration in ms")
	term.keys("Enter")
	term.see("type took duration in ms")
	term.keys("u")
	term.until("undone", func(s string) bool {
		return !strings.Contains(s, "type took") &&
			!strings.Contains(s, "type  took")
	})
	term.keys("t")
	term.see("took is")
	term.typed("duration in ms")
	term.keys("Enter")
	term.see("as it will be written")
	term.until("the type", func(s string) bool { return strings.Contains(s, "took duration in ms") })
	term.keys("C-s")
	term.see("is written into")
	body, err := os.ReadFile(filepath.Join(f.settings, "ways.lantern"))
	require.NoError(t, err)
	for _, part := range []string{"# two of them", "layout gates\n", "layout gates {\n", "(?<gate>\\d+)",
		"took duration in ms"} {
		assert.Contains(t, string(body), part)
	}
	term.keys("Enter")
	term.see("took")
	out, errs, code := run(t, "check", f.settings)
	assert.Equal(t, 0, code, out+errs)
}
