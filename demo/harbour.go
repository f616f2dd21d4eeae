// Package demo is Gullhaven, a made-up tidal harbour whose machines write their
// logs as such machines do: pumping stations, lock gates, ferry desks, cold
// stores, level gauges, barges, and a mast with a beacon. What happens is drawn
// from a seed, so that it can be repeated; incidents play out over minutes, and
// the logs rotate.
package demo

import (
	"container/heap"
	"context"
	"embed"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"dimlantern/intake/channel"
)

//go:embed settings/*.lantern
var settings embed.FS

// root is where the logs lie in the settings as they are written.
const root = "/var/log/gullhaven"

// outRoot is where what leaves the house is written, and measuresAt where measures are asked for, in the
// settings as they are written.
const (
	outRoot    = "/var/lib/gullhaven"
	measuresAt = "127.0.0.1:7424"
)

// freeAddress is an address of this machine at which nobody listens: there may be several harbours.
func freeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", fmt.Errorf("no address is free for the measures of Gullhaven: %w", err)
	}
	return l.Addr().String(), l.Close()
}

// Options of a harbour.
type Options struct {
	Folder string  // an existing folder, in which logs and settings are written
	Seed   uint64  // another one makes another history
	Pace   float64 // how many times faster than real time the story goes; 0 is 1
	// Past is how much has happened before the start; 0 is three hours.
	Past time.Duration
	// Copies is how many older copies each log keeps when it rotates; 0 is 3.
	Copies int
	// Now is when the story is live; the zero value is the machine's clock.
	Now time.Time
}

// Harbour writes the logs of Gullhaven.
type Harbour struct {
	o     Options
	start time.Time // when the story is live
	queue queue
	files map[string]*logFile
	seq   int
	host  *channel.Host // of its control system
}

// New makes the folder's settings, and a harbour that has written nothing yet.
func New(o Options) (*Harbour, error) {
	if o.Pace == 0 {
		o.Pace = 1
	}
	if o.Past == 0 {
		o.Past = 3 * time.Hour
	}
	if o.Copies == 0 {
		o.Copies = 3
	}
	if o.Now.IsZero() {
		o.Now = time.Now()
	}
	h := &Harbour{o: o, start: o.Now, files: map[string]*logFile{}}
	measured, err := freeAddress()
	if err != nil {
		return nil, err
	}
	names, err := settings.ReadDir("settings")
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(h.Settings(), 0o755); err != nil {
		return nil, fmt.Errorf("the demo's settings cannot be written: %w", err)
	}
	for _, n := range names {
		b, err := settings.ReadFile("settings/" + n.Name())
		if err != nil {
			return nil, err
		}
		body := strings.NewReplacer(root, h.Logs(), outRoot, filepath.Join(o.Folder, "out"), measuresAt,
			measured).Replace(string(b))
		if err := os.WriteFile(filepath.Join(h.Settings(), n.Name()), []byte(body), 0o644); err != nil {
			return nil, fmt.Errorf("the demo's settings cannot be written: %w", err)
		}
	}
	h.machines()
	h.incidents()
	return h, nil
}

// Settings is the folder of the harbour's rules.
func (h *Harbour) Settings() string { return filepath.Join(h.o.Folder, "settings") }

// Logs is the folder of its logs.
func (h *Harbour) Logs() string { return filepath.Join(h.o.Folder, "logs") }

// act is something that happens at a moment of the story, counted from its live
// start; it answers when it happens again, or with 0 never.
type act struct {
	at  time.Duration
	seq int
	do  func(at time.Duration) time.Duration
}

type queue []*act

func (q queue) Len() int { return len(q) }
func (q queue) Less(i, j int) bool {
	return q[i].at < q[j].at || q[i].at == q[j].at && q[i].seq < q[j].seq
}
func (q queue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *queue) Push(x any)   { *q = append(*q, x.(*act)) }
func (q *queue) Pop() any {
	old := *q
	x := old[len(old)-1]
	*q = old[:len(old)-1]
	return x
}

func (h *Harbour) add(at time.Duration, do func(at time.Duration) time.Duration) {
	h.seq++
	heap.Push(&h.queue, &act{at, h.seq, do})
}

// rng returns a source of chance of its own for a machine, so that one machine
// does not change what another does.
func (h *Harbour) rng(name string) *rand.Rand {
	x := h.o.Seed
	for _, c := range name {
		x = x*1099511628211 + uint64(c)
	}
	return rand.New(rand.NewPCG(h.o.Seed, x))
}

// when is the time that a moment of the story is written with. The past went at
// its own pace; what is live goes faster with the pace.
func (h *Harbour) when(at time.Duration) time.Time {
	if at > 0 {
		at = time.Duration(float64(at) / h.o.Pace)
	}
	return h.start.Add(at)
}

// Past writes what happened before the start.
func (h *Harbour) Past() error {
	for len(h.queue) > 0 && h.queue[0].at <= 0 {
		h.next()
	}
	return h.flush()
}

// next lets the next act happen.
func (h *Harbour) next() {
	a := heap.Pop(&h.queue).(*act)
	if d := a.do(a.at); d > 0 {
		a.at += d
		heap.Push(&h.queue, a)
	}
}

// Live goes on in real time until the context ends.
func (h *Harbour) Live(ctx context.Context) error {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for len(h.queue) > 0 {
		wait := time.Until(h.when(h.queue[0].at))
		if wait > 0 {
			timer.Reset(wait)
			select {
			case <-ctx.Done():
				return nil
			case <-timer.C:
			}
		}
		for len(h.queue) > 0 && !h.when(h.queue[0].at).After(time.Now()) {
			if ctx.Err() != nil {
				return nil
			}
			h.next()
		}
		if err := h.flush(); err != nil {
			return err
		}
	}
	return nil
}

// logFile is a log that rotates.
type logFile struct {
	path  string
	most  int64 // bytes after which it rotates
	copy  bool  // by copy and truncate
	size  int64
	lines []byte
	keep  int // older copies
	gone  bool
	kept  bool // its writer keeps the lines back for now
	mode  os.FileMode
}

// log returns the log of that name below the logs' folder.
func (h *Harbour) log(name string, most int64, byCopy bool) *logFile {
	path := filepath.Join(h.Logs(), name)
	if f := h.files[path]; f != nil {
		return f
	}
	f := &logFile{path: path, most: most, copy: byCopy, keep: h.o.Copies, mode: 0o644}
	h.files[path] = f
	return f
}

func (f *logFile) line(format string, args ...any) {
	f.lines = fmt.Appendf(f.lines, format+"\n", args...)
	if len(f.lines) > 64<<10 {
		f.flush()
	}
}

func (h *Harbour) flush() error {
	for _, f := range h.files {
		if err := f.flush(); err != nil {
			return fmt.Errorf("the logs of Gullhaven cannot be written: %w", err)
		}
	}
	return nil
}

// flush writes the lines that wait, and rotates where the log is full.
func (f *logFile) flush() error {
	if f.kept {
		return nil
	}
	if len(f.lines) == 0 || f.gone {
		f.lines = f.lines[:0]
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(f.path), 0o755); err != nil {
		return err
	}
	if f.size > 0 && f.size+int64(len(f.lines)) > f.most {
		if err := f.rotate(); err != nil {
			return err
		}
	}
	w, err := os.OpenFile(f.path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, f.mode)
	if err != nil {
		return err
	}
	n, err := w.Write(f.lines)
	f.size += int64(n)
	f.lines = f.lines[:0]
	if e := w.Close(); err == nil {
		err = e
	}
	return err
}

// absent lets a log be away with its file for as long as that holds.
func (f *logFile) absent(away bool) {
	if away && !f.gone {
		f.flush()
		f.gone = true
		os.Remove(f.path)
	}
	if !away && f.gone {
		f.gone, f.size = false, 0
	}
}

func (f *logFile) rotate() error {
	for i := f.keep; i > 1; i-- {
		os.Rename(fmt.Sprintf("%s.%d", f.path, i-1), fmt.Sprintf("%s.%d", f.path, i))
	}
	f.size = 0
	if !f.copy {
		return os.Rename(f.path, f.path+".1")
	}
	b, err := os.ReadFile(f.path)
	if err == nil {
		err = os.WriteFile(f.path+".1", b, 0o644)
	}
	if err == nil {
		err = os.Truncate(f.path, 0)
	}
	return err
}
