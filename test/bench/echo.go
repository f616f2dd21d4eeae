package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"time"

	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
	"dimlantern/core/trial"

	"github.com/creack/pty"
)

// letters are typed one after the other while they are measured, and at once.
const letters = 50

// echo measures how long a letter typed on the bench takes to stand on the screen, while each
// is tried on what Gullhaven's logs have said, and what the screens cost that nobody touches.
func echo() {
	writes := simulated()
	s := openScreen("./dimlantern", "demo")
	defer s.close()
	s.seen("lamp")
	s.idle()
	for _, room := range []struct{ key, name string }{{"1", "watch"}, {"3", "sources"}, {"2", "bench"}} {
		s.send(room.key)
		s.idle()
		all := s.cost(30 * time.Second)
		fmt.Printf("the screens open on Gullhaven, room %s: service and screens %.1f %% of a core (aim 1.5), "+
			"the simulator %.1f %%\n", room.name, all-writes, writes)
	}
	s.send("\r")
	s.idle()
	s.send("\x1b[F") // the line's end
	s.idle()
	s.send(" # ")
	s.idle()
	var took []time.Duration
	for i := range 2 * letters {
		letter := string("QZXJVYK"[i%7])
		start := time.Now()
		s.mark()
		s.send(letter)
		s.seen(letter)
		took = append(took, time.Since(start))
		time.Sleep(70 * time.Millisecond) // as people type
	}
	slices.Sort(took)
	fmt.Printf("a letter typed on the bench stands on the screen after %.1f ms, p99 %.1f ms (aim 30)\n",
		ms(took[len(took)/2]), ms(took[len(took)*99/100]))
	s.idle()
	start := time.Now()
	s.mark()
	s.send(strings.Repeat("W", letters-1) + "@")
	s.seen("@")
	fmt.Printf("%d letters at once: %.0f ms (aim 500)\n", letters, ms(time.Since(start)))
}

// screen is a program in a terminal of its own.
type screen struct {
	tty  *os.File
	cmd  *exec.Cmd
	mu   sync.Mutex
	out  []byte // since the mark
	last time.Time
	more chan struct{}
}

func openScreen(name string, args ...string) *screen {
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), "TERM=xterm-256color", "COLORTERM=truecolor")
	tty, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 47, Cols: 160})
	must(err)
	s := &screen{tty: tty, cmd: cmd, more: make(chan struct{}, 1)}
	go func() {
		b := make([]byte, 64<<10)
		for {
			n, err := tty.Read(b)
			if err != nil {
				return
			}
			s.mu.Lock()
			s.out, s.last = append(s.out, b[:n]...), time.Now()
			s.mu.Unlock()
			select {
			case s.more <- struct{}{}:
			default:
			}
		}
	}()
	return s
}

func (s *screen) close() {
	s.cmd.Process.Kill()
	s.cmd.Wait()
	s.tty.Close()
}

func (s *screen) send(keys string) { _, err := s.tty.WriteString(keys); must(err) }

// mark forgets what was written so far.
func (s *screen) mark() {
	s.mu.Lock()
	s.out = s.out[:0]
	s.mu.Unlock()
}

// seen waits until something was written since the mark.
func (s *screen) seen(text string) {
	deadline := time.After(20 * time.Second)
	for {
		s.mu.Lock()
		found := bytes.Contains(s.out, []byte(text))
		s.mu.Unlock()
		if found {
			return
		}
		select {
		case <-s.more:
		case <-deadline:
			must(fmt.Errorf("%q does not come", text))
		}
	}
}

// idle waits until what was asked for has come.
func (s *screen) idle() { time.Sleep(1500 * time.Millisecond) }

// cost is how much of a core the program takes, in percent.
func (s *screen) cost(over time.Duration) float64 {
	before := ticks(s.cmd.Process.Pid)
	time.Sleep(over)
	return float64(ticks(s.cmd.Process.Pid)-before) / over.Seconds() // a hundred ticks a second
}

// fromText measures how long 200 rules take from their text until a log can be judged by them.
func fromText() {
	text := rulesFor(kinds[0], 200, "/log")
	best := time.Hour
	for range 20 {
		start := time.Now()
		s, ds := lang.Check([]*lang.File{lang.Parse("bench", []byte(text))},
			lang.Env{Time: layout.CheckTime, ErrorsOnly: true})
		if lang.Errors(ds) {
			must(fmt.Errorf("%v", ds[0]))
		}
		match.NewPlan(s, s.Sources[0], trial.Active(s), time.UTC)
		best = min(best, time.Since(start))
	}
	fmt.Printf("\n200 rules of %d kB, from text to ready: %.1f ms (aim 8)\n", len(text)>>10, ms(best))
}

// simulated is what the simulator alone takes of a core, in percent.
func simulated() float64 {
	dir, err := os.MkdirTemp("", "dl-sim-")
	must(err)
	defer os.RemoveAll(dir)
	c := exec.Command("./dimlantern", "demo", "--no-screens", "--folder", dir)
	must(c.Start())
	defer c.Wait()
	defer c.Process.Kill()
	time.Sleep(10 * time.Second) // it writes the past first
	before := ticks(c.Process.Pid)
	time.Sleep(30 * time.Second)
	return float64(ticks(c.Process.Pid)-before) / 30
}
