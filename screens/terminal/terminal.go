//go:build unix

// Package terminal shows canvases on the terminal that the program runs in. Canvases come in,
// as often as something has changed, and only what differs goes out, at once and never more
// often than the terminal takes it. Keys are not its business, and nothing wakes it up but a
// canvas.
package terminal

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"sync"
	"syscall"

	"dimlantern/screens/paint"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"golang.org/x/term"
)

// Terminal is an open terminal. Its methods may be called concurrently.
type Terminal struct {
	in, out *os.File
	was     *term.State
	profile colorprofile.Profile
	next    chan *paint.Canvas // what is to be shown; the newest alone
	spare   chan *paint.Canvas // what is shown no longer
	quit    chan struct{}      // closed by Close

	mu    sync.Mutex
	away  bool          // the terminal is somebody else's
	ends  bool          // Close was called
	shown *paint.Canvas // nil is anything
	sgr   map[paint.Style]string
	buf   []byte
}

// enter and leave are the modes that the screens need, and the way back: the alternate screen
// without a cursor, mouse reports with drags in decimal numbers (DEC private modes 1049, 25,
// 1002, 1006), and pasted text told from typed (2004).
const (
	enter = ansi.SetModeAltScreenSaveCursor + ansi.ResetModeTextCursorEnable + ansi.SetModeMouseButtonEvent +
		ansi.SetModeMouseExtSgr + ansi.SetModeBracketedPaste
	leave = ansi.ResetStyle + ansi.ResetModeBracketedPaste + ansi.ResetModeMouseExtSgr +
		ansi.ResetModeMouseButtonEvent + ansi.ResetBackgroundColor + ansi.SetModeTextCursorEnable +
		ansi.ResetModeAltScreenSaveCursor
)

// Open takes a terminal over: its input in raw mode, its output as another screen under a
// title, to which Close puts an end. The terminal is asked for its background colour; the
// answer comes by its input. Where in or out is no terminal, the error says so.
func Open(in, out *os.File, title string) (*Terminal, error) {
	for _, f := range []*os.File{in, out} {
		if !term.IsTerminal(int(f.Fd())) {
			return nil, fmt.Errorf("%s is no terminal", f.Name())
		}
	}
	t := &Terminal{in: in, out: out, profile: colorprofile.Detect(out, os.Environ()),
		next:  make(chan *paint.Canvas, 1),
		spare: make(chan *paint.Canvas, 1), quit: make(chan struct{}), sgr: map[paint.Style]string{}}
	if err := t.take(); err != nil {
		return nil, err
	}
	t.write(ansi.SetWindowTitle(title) + ansi.RequestBackgroundColor)
	go t.paint()
	return t, nil
}

// take puts the terminal into the modes that are needed.
func (t *Terminal) take() (err error) {
	if t.was, err = term.MakeRaw(int(t.in.Fd())); err != nil {
		return fmt.Errorf("the terminal cannot be put into raw mode: %w", err)
	}
	t.write(enter)
	t.shown = nil
	return nil
}

// give puts the terminal back to how it was.
func (t *Terminal) give() error {
	t.write(leave)
	return term.Restore(int(t.in.Fd()), t.was)
}

func (t *Terminal) write(s string) { _, _ = io.WriteString(t.out, s) }

// Size is how many columns and rows the terminal has.
func (t *Terminal) Size() (w, h int, err error) { return term.GetSize(int(t.out.Fd())) }

// Resized tells whenever the size of the terminal may have changed, until stop is called.
func (t *Terminal) Resized() (changes <-chan os.Signal, stop func()) {
	ch := make(chan os.Signal, 1)
	signal.Notify(ch, syscall.SIGWINCH)
	return ch, func() { signal.Stop(ch); close(ch) }
}

// Canvas returns an empty canvas to draw on.
func (t *Terminal) Canvas(w, h int, ground paint.Color) *paint.Canvas {
	select {
	case c := <-t.spare:
		return c.Clear(w, h, ground)
	default:
		return paint.New(w, h, ground)
	}
}

// Show shows a canvas, which is the terminal's from now on. It does not wait: where the
// terminal is slower, what was to be shown before is passed over.
func (t *Terminal) Show(c *paint.Canvas) {
	for {
		select {
		case t.next <- c:
			return
		default:
		}
		select {
		case old := <-t.next:
			t.reuse(old)
		default:
		}
	}
}

// reuse keeps a canvas to be drawn on again.
func (t *Terminal) reuse(c *paint.Canvas) {
	select {
	case t.spare <- c:
	default:
	}
}

func (t *Terminal) paint() {
	for {
		select {
		case <-t.quit:
			return
		case c := <-t.next:
			t.mu.Lock()
			if !t.away && !t.ends {
				t.draw(c)
			}
			t.mu.Unlock()
		}
	}
}

// draw writes what differs, as one update (DEC private mode 2026).
func (t *Terminal) draw(c *paint.Canvas) {
	b := append(t.buf[:0], ansi.SetModeSynchronizedOutput...)
	if t.shown != nil && (t.shown.W != c.W || t.shown.H != c.H) {
		t.shown = nil
	}
	if t.shown == nil {
		b = append(b, ansi.ResetStyle+ansi.EraseEntireScreen...)
	}
	if ground := c.Ground.Hex(); t.profile > colorprofile.ASCII && ground != "" &&
		(t.shown == nil || t.shown.Ground != c.Ground) {
		b = append(b, ansi.SetBackgroundColor(ground)...)
	}
	head := len(b)
	b = c.AppendChanges(b, t.shown, func(s paint.Style) string {
		seq, ok := t.sgr[s]
		if !ok {
			seq = s.SGR(t.profile)
			t.sgr[s] = seq
		}
		return seq
	})
	if t.shown != nil {
		t.reuse(t.shown)
	}
	t.buf, t.shown = b, c
	if len(b) > head {
		_, _ = t.out.Write(append(b, ansi.ResetModeSynchronizedOutput...))
	}
}

// Close gives the terminal back, with what was on it before. It may be called again.
func (t *Terminal) Close() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.ends {
		return nil
	}
	t.ends = true
	close(t.quit)
	return t.give()
}

// Lent is a command to which the terminal is lent while it runs.
type Lent struct {
	*exec.Cmd
	t *Terminal
}

// Lend returns the command as one that gets the terminal as it was before Open, until it
// ends.
func (t *Terminal) Lend(cmd *exec.Cmd) *Lent { return &Lent{cmd, t} }

// Run runs the command.
func (l *Lent) Run() error {
	t := l.t
	t.mu.Lock()
	t.away = true
	err := t.give()
	t.mu.Unlock()
	if err == nil {
		err = l.Cmd.Run()
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	again := t.take()
	t.away = false
	if err == nil {
		err = again
	}
	return err
}

// SetStdin is the command's input, where it has none yet.
func (l *Lent) SetStdin(r io.Reader) {
	if l.Stdin == nil {
		l.Stdin = r
	}
}

// SetStdout is the command's output, where it has none yet.
func (l *Lent) SetStdout(w io.Writer) {
	if l.Stdout == nil {
		l.Stdout = w
	}
}

// SetStderr is where the command says what is wrong, where it has no place for that yet.
func (l *Lent) SetStderr(w io.Writer) {
	if l.Stderr == nil {
		l.Stderr = w
	}
}
