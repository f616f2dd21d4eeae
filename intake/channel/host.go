package channel

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"sort"
	"strings"
	"sync"
	"time"
)

// Host is a channel host that keeps the newest events of its channels in memory. It
// stands for a control or operating system where none is at hand. Its methods may be
// called concurrently.
type Host struct {
	Computer string

	mu       sync.Mutex
	channels map[string]*hosted
	clears   int
}

// hosted is a channel at a host.
type hosted struct {
	log    string
	first  int64 // the record of events[0]
	events []string
	times  []time.Time
	most   int
	secret string // why it may not be read
	off    bool
	grown  chan struct{} // closed when something changes
}

// NewHost returns a host without channels.
func NewHost(computer string) *Host { return &Host{Computer: computer, channels: map[string]*hosted{}} }

// Open makes a channel that keeps its newest events, as many as most.
func (h *Host) Open(name string, most int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.channels[name] = &hosted{log: h.newLog(), first: 1, most: most, grown: make(chan struct{})}
}

// newLog names a log as no other one was named.
func (h *Host) newLog() string {
	h.clears++
	return fmt.Sprintf("%x-%d", time.Now().UnixNano(), h.clears)
}

// Forbid makes a channel one that may not be read, and says why; "" allows it.
func (h *Host) Forbid(name, why string) { h.change(name, func(c *hosted) { c.secret = why }) }

// SwitchOff makes a channel one to which nothing is written.
func (h *Host) SwitchOff(name string) { h.change(name, func(c *hosted) { c.off = true }) }

// Clear takes all events out of a channel; its records begin anew.
func (h *Host) Clear(name string) {
	h.change(name, func(c *hosted) { c.log, c.first, c.events, c.times = h.newLog(), 1, nil, nil })
}

func (h *Host) change(name string, do func(*hosted)) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if c := h.channels[name]; c != nil {
		do(c)
		close(c.grown)
		c.grown = make(chan struct{})
	}
}

// Add writes an event into a channel. Write makes its XML, given the record that it
// becomes.
func (h *Host) Add(name string, at time.Time, write func(record int64) string) {
	h.change(name, func(c *hosted) {
		if c.off {
			return
		}
		c.events = append(c.events, write(c.first+int64(len(c.events))))
		c.times = append(c.times, at)
		if over := len(c.events) - c.most; over > 0 {
			c.events, c.times, c.first = c.events[over:], c.times[over:], c.first+int64(over)
		}
	})
}

// Serve answers clients until the context ends.
func (h *Host) Serve(ctx context.Context, l net.Listener) error {
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	var all sync.WaitGroup
	defer all.Wait()
	for {
		conn, err := l.Accept()
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		all.Go(func() {
			defer conn.Close()
			stop := context.AfterFunc(ctx, func() { conn.Close() })
			defer stop()
			h.serve(ctx, conn)
		})
	}
}

func (h *Host) serve(ctx context.Context, conn net.Conn) {
	in := bufio.NewScanner(conn)
	in.Buffer(nil, 64<<10)
	out := json.NewEncoder(conn)
	out.SetEscapeHTML(false)
	for in.Scan() {
		var r request
		err := json.Unmarshal(in.Bytes(), &r)
		switch {
		case err != nil:
			out.Encode(answer{Error: &problem{"this is no request: " + err.Error(), "see docs/channels.md"}})
			return
		case r.List:
			if out.Encode(answer{Channels: h.list()}) != nil {
				return
			}
		case r.Read != nil:
			h.read(ctx, conn, out, *r.Read)
			return
		}
	}
}

func (h *Host) list() []Info {
	h.mu.Lock()
	defer h.mu.Unlock()
	d := reader()
	var out []Info
	for name, c := range h.channels {
		t := tally{info: Info{Name: name, Words: c.secret, Off: c.off}}
		if c.secret == "" {
			for _, e := range c.events[max(0, len(c.events)-2000):] {
				t.add(d, []byte(e))
			}
			t.info.Records = int64(len(c.events))
		}
		out = append(out, t.done())
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

// idleEvery is how often a host says that there is nothing more.
const idleEvery = 5 * time.Second

// read sends the events of a channel until the client goes.
func (h *Host) read(ctx context.Context, conn net.Conn, out *json.Encoder, r read) {
	say := func(a answer) bool {
		conn.SetWriteDeadline(time.Now().Add(time.Minute))
		return out.Encode(a) == nil
	}
	h.mu.Lock()
	c := h.channels[r.Channel]
	h.mu.Unlock()
	if c == nil {
		say(answer{Error: &problem{Words: noSuch(r.Channel, h.list())}})
		return
	}
	at := Place{r.Log, r.After}
	if r.Log == "" {
		var err error
		if at, err = h.beginning(c, r.From); err != nil {
			say(answer{Error: &problem{Words: err.Error()}})
			return
		}
		if !say(answer{Begin: &begin{at.Log, at.Record}}) {
			return
		}
	}
	for ctx.Err() == nil {
		events, from, log, grown, secret := h.behind(c, at)
		if secret != "" {
			say(answer{Error: &problem{secret, "let the host's administrator allow it"}})
			return
		}
		if log != at.Log {
			if !say(answer{Cleared: true, Log: log}) {
				return
			}
			at = Place{log, 0}
			continue
		}
		if gap := from - at.Record - 1; gap > 0 {
			if !say(answer{Gap: gap}) {
				return
			}
			at.Record = from - 1
		}
		for _, e := range events {
			at.Record++
			if !say(answer{Event: e, Record: at.Record}) {
				return
			}
		}
		if len(events) > 0 {
			continue
		}
		if !say(answer{Idle: true}) {
			return
		}
		select {
		case <-ctx.Done():
		case <-grown:
		case <-time.After(idleEvery):
		}
	}
}

// beginning is the place behind which a new reader begins.
func (h *Host) beginning(c *hosted, from string) (Place, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	switch from {
	case "", "now":
		return Place{c.log, c.first + int64(len(c.events)) - 1}, nil
	case "oldest":
		return Place{c.log, c.first - 1}, nil
	}
	t, err := time.Parse(time.RFC3339Nano, from)
	if err != nil {
		return Place{}, errors.New(`from is "now", "oldest" or a time, RFC 3339`)
	}
	i := sort.Search(len(c.times), func(i int) bool { return !c.times[i].Before(t) })
	return Place{c.log, c.first + int64(i) - 1}, nil
}

// behind are the events behind a place, some at a time.
func (h *Host) behind(c *hosted, at Place) (events []string, from int64, log string, grown <-chan struct{},
	secret string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	from = max(c.first, at.Record+1)
	if at.Log == c.log {
		i := min(max(from-c.first, 0), int64(len(c.events)))
		events = c.events[i:min(i+500, int64(len(c.events)))]
	}
	return events, from, c.log, c.grown, c.secret
}

// ListenAt opens the socket, or the port, of a host.
func ListenAt(at string) (net.Listener, error) {
	if strings.HasPrefix(at, "/") {
		os.Remove(at)
		l, err := net.Listen("unix", at)
		if err != nil {
			return nil, err
		}
		return l, os.Chmod(at, 0o600)
	}
	return net.Listen("tcp", at)
}
