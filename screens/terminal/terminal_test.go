//go:build unix

package terminal

import (
	"bytes"
	"os"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"dimlantern/screens/paint"

	"github.com/charmbracelet/x/ansi"
	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/term"
)

// screen is what came out at the other side of a terminal.
type screen struct {
	mu  sync.Mutex
	out bytes.Buffer
}

func (s *screen) Write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.out.Write(b)
}

func (s *screen) text() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.out.String()
}

func (s *screen) sees(t *testing.T, want string) {
	t.Helper()
	require.Eventually(t, func() bool { return strings.Contains(s.text(), want) }, 10*time.Second, time.Millisecond,
		"never seen: %q", want)
}

func canvas(text string) *paint.Canvas {
	c := paint.New(40, 3, paint.Hex("#101010"))
	c.Put(0, 1, paint.Style{}, text)
	return c
}

// A terminal is taken over, shows what differs alone, is lent to a command, and is given back
// as it was.
func TestTakenLentAndGivenBack(t *testing.T) {
	t.Setenv("TERM", "xterm-256color")
	far, near, err := pty.Open()
	require.NoError(t, err)
	defer far.Close()
	defer near.Close()
	require.NoError(t, pty.Setsize(far, &pty.Winsize{Rows: 3, Cols: 40}))
	seen := &screen{}
	go seen.readFrom(far)
	before, err := term.GetState(int(near.Fd()))
	require.NoError(t, err)

	tty, err := Open(near, near, "Gullhaven")
	require.NoError(t, err)
	w, h, err := tty.Size()
	require.NoError(t, err)
	assert.Equal(t, [2]int{40, 3}, [2]int{w, h})
	tty.Show(canvas("the sluice is shut"))
	seen.sees(t, "the sluice is shut")
	tty.Show(canvas("the sluice is open"))
	seen.sees(t, "\x1b[2;15H") // that word alone
	seen.sees(t, "open")

	lent := tty.Lend(exec.Command("sh", "-c", "stty -a; echo from the other"))
	lent.SetStdin(near)
	lent.SetStdout(near)
	lent.SetStderr(near)
	require.NoError(t, lent.Run())
	seen.sees(t, "from the other")
	assert.NotContains(t, seen.text(), "-icanon", "it gets the terminal as it was")
	tty.Show(canvas("back"))
	seen.sees(t, "back")

	require.NoError(t, tty.Close())
	require.NoError(t, tty.Close())
	tty.Show(canvas("too late"))
	seen.sees(t, ansi.ResetModeAltScreenSaveCursor)
	after, err := term.GetState(int(near.Fd()))
	require.NoError(t, err)
	assert.Equal(t, before, after)
	assert.NotContains(t, seen.text(), "too late")
	require.Eventually(t, func() bool { // what was taken was given back, each time
		return strings.Count(seen.text(), ansi.SetModeAltScreenSaveCursor) == 2 &&
			strings.Count(seen.text(), ansi.ResetModeAltScreenSaveCursor) == 2
	}, 10*time.Second, time.Millisecond)
}

func (s *screen) readFrom(f *os.File) {
	b := make([]byte, 1<<12)
	for {
		n, err := f.Read(b)
		s.Write(b[:n])
		if err != nil {
			return
		}
	}
}

// What is no terminal is said.
func TestNoTerminal(t *testing.T) {
	f, err := os.Open(os.DevNull)
	require.NoError(t, err)
	defer f.Close()
	_, err = Open(f, f, "")
	require.ErrorContains(t, err, "/dev/null is no terminal")
}
