package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pasted types a text as a person pastes it.
func (x *terminal) pasted(text string) {
	x.t.Helper()
	require.NoError(x.t, exec.Command("tmux", "-L", x.sock, "set-buffer", text).Run())
	require.NoError(x.t, exec.Command("tmux", "-L", x.sock, "paste-buffer", "-p", "-t", "s").Run())
}

// chosenKind tells whether the entry that is shown in full has some words.
func chosenKind(screen, words string) bool {
	for _, l := range strings.Split(screen, "\n") {
		if strings.HasPrefix(l, "  one of ") {
			return strings.Contains(l, words)
		}
	}
	return false
}

// From a log that nobody has seen to a rule that works, with a recovery, a key, a threshold
// and a test: in less than 40 keystrokes, and no word of the language is typed.
func TestFromAnUnknownLogToARule(t *testing.T) {
	f := newFolder(t)
	require.NoError(t, os.RemoveAll(f.settings))
	log := filepath.Join(f.dir, "sluice.log")
	var b strings.Builder
	at := time.Now().Add(-70 * time.Minute)
	for i := range 12 {
		gate := 1 + i%3
		say := func(format string, a ...any) {
			at = at.Add(50 * time.Second)
			fmt.Fprintf(&b, "%s sluice-%d %s\n", at.Format("2006-01-02 15:04:05"), 1+i%2, fmt.Sprintf(format, a...))
		}
		say("gate %d: seal leaks %d l", gate, 3+i)
		say("gate %d: seal leaks %d l", gate, 4+i)
		say("gate %d: oil at %d degrees", gate, 20+i)
		say("gate %d: seal holds again after %d s", gate, 60+i)
	}
	write(t, log, b.String())
	x := open(t, 160, 47, "", "--settings", f.settings, "--data", f.data)
	pressed := 0
	press := func(keys ...string) {
		x.keys(keys...)
		pressed += len(keys)
	}
	x.see("Nothing is watched yet")
	press("+")
	x.pasted(log) // as one does who has it in another window
	pressed++
	x.see("this will be written")
	x.see("usual")
	press("Enter")
	x.see("1 origin, 1 seen")
	press("Enter")
	x.see("seal holds again")
	x.until("the newest problem is chosen", func(s string) bool {
		for _, l := range strings.Split(s, "\n") {
			if strings.Contains(l, "seal leaks") {
				return true
			}
		}
		return false
	})
	press("Down", "Down") // past what holds and the oil
	press("n")
	x.see("had 24 hits")
	press("Escape")
	x.see("choosing kinds")
	x.see("ends it? came after 12 of 12 cases")
	x.until("what ends it is chosen", func(s string) bool {
		if chosenKind(s, "seal holds again") {
			return true
		}
		press("Down")
		x.until("another kind is chosen", func(now string) bool { return now != s })
		return false
	})
	press("o")
	x.see("over now      12")
	press("Enter")
	x.see("typing a rule")
	// The threshold: the raise's line is found by its word, and 2 hits are written behind it.
	press("C-f")
	x.pasted("raise")
	pressed++
	press("Enter")
	x.until("the cursor is at the raise", func(s string) bool {
		return strings.Contains(s,
			"at 2 in 5m gives 12 alerts")
	})
	press("End")
	x.pasted(" at 2 in 5m")
	pressed++
	x.see("less than 5 minutes are a warning")
	x.see("raised 12 alerts")
	press("Escape")
	x.see("choosing kinds")
	// A test: two problems and what ends them.
	x.until("the problem is chosen", func(s string) bool {
		if chosenKind(s, "seal leaks") {
			return true
		}
		press("Up")
		x.until("another kind is chosen", func(now string) bool { return now != s })
		return false
	})
	press("a", "a")
	x.see("brings raised warning")
	press("k")
	x.see("tests that pass: 1")
	press("C-p")
	x.see("which begins to count with the next entry")
	x.see("1 test passes")
	press("Enter")
	x.see("1 added")
	assert.Less(t, pressed, 40)
	t.Logf("%d keystrokes", pressed)

	// It works: the alert rises on new lines, and goes.
	now := time.Now().Format("2006-01-02 15:04:05")
	appendTo(t, log, now+" sluice-2 gate 8: seal leaks 3 l\n"+now+" sluice-2 gate 8: seal leaks 5 l\n")
	x.keys("1")
	x.until("open", func(s string) bool { return under(s, "open", "8") })
	appendTo(t, log, now+" sluice-2 gate 8: seal holds again after 2 s\n")
	x.until("over", func(s string) bool { return under(s, "over", "8") })
	_, _, code := run(t, "check", f.settings)
	assert.Equal(t, 0, code)
	out, _, code := run(t, "test", f.settings)
	assert.Equal(t, 0, code, out)
}

// What is done to rules is shown before it is done, is recorded with who did it, and has a
// way back.
func TestPutToWorkAndBack(t *testing.T) {
	f := newFolder(t)
	write(t, f.log, "")
	x := open(t, 160, 47, "EDITOR='sed -i s/strainer/sieve/'", "--settings", f.settings, "--data", f.data)
	x.see("all is quiet")
	appendTo(t, f.log, strings.Repeat(stamp()+" a pump 7 low\n", 2))
	x.until("open", func(s string) bool { return under(s, "open", "pump-low") })
	file := filepath.Join(f.settings, "app.lantern")
	was, err := os.ReadFile(file)
	require.NoError(t, err)
	x.keys("b") // its rule on the bench
	x.see("would have    raised 1 alert")
	x.keys("Escape")
	x.see("choosing kinds")
	x.keys("E")
	x.see("sieve")
	x.keys("C-p")
	x.see("keeps what it has counted")
	x.see("none that is open ends by this")
	x.keys("Enter")
	x.see("1 rule changed")
	x.keys("Escape")
	x.see("1 rule  enter opens one")
	x.keys("o")
	x.see("switch pump-low off")
	x.see("open since")
	x.keys("Enter")
	x.see("1 alert cleared")
	x.keys("r")
	x.keys("C-u")
	x.typed("pumps-are-low")
	x.keys("Enter")
	x.see("rename pump-low to pumps-are-low")
	x.keys("Enter")
	x.until("the new name", func(s string) bool {
		return strings.Contains(s, " pumps-are-low ") && strings.Contains(s, "enter opens one")
	})
	x.keys("b")
	x.see("rename pump-low to pumps-are-low: ")
	x.see("+ rule pumps-are-low {")
	x.keys("Down", "Down") // the first change, back to what was before it
	x.see("- ")
	x.keys("Enter")
	x.see("the text from before")
	x.keys("C-p")
	x.see("gone          pumps-are-low")
	x.keys("Enter")
	require.Eventually(t, func() bool {
		now, err := os.ReadFile(file)
		return err == nil && string(was) == string(now)
	}, patience, 50*time.Millisecond)
	x.see("pump-low")
	out, _, code := run(t, "history", "--actions", "--data", f.data)
	require.Equal(t, 0, code)
	require.Equal(t, 4, strings.Count(out, "settings"), out)
}
