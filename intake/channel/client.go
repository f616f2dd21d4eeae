package channel

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"sync"
	"syscall"
	"time"

	"dimlantern/core/origin"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/intake/feed"
)

// request is what a client asks a host: one of its members is set.
type request struct {
	List bool  `json:"list,omitempty"`
	Read *read `json:"read,omitempty"`
}

// read asks for the events of a channel, and for those that come, as they come.
type read struct {
	Channel string `json:"channel"`
	Log     string `json:"log,omitempty"`   // with After: the log whose record that is
	After   int64  `json:"after,omitempty"` // the record behind which to begin
	From    string `json:"from,omitempty"`  // without After: "now", "oldest", or a time, RFC 3339
}

// answer is one line of a host; one of its members is set.
type answer struct {
	Channels []Info   `json:"channels,omitempty"`
	Begin    *begin   `json:"begin,omitempty"`
	Event    string   `json:"event,omitempty"` // the event's XML
	Record   int64    `json:"record,omitempty"`
	Log      string   `json:"log,omitempty"`
	Gap      int64    `json:"gap,omitempty"` // so many records went before they were read
	Cleared  bool     `json:"cleared,omitempty"`
	Idle     bool     `json:"idle,omitempty"` // everything that is there was sent
	Error    *problem `json:"error,omitempty"`
}

// begin says behind which record what follows begins.
type begin struct {
	Log    string `json:"log"`
	Record int64  `json:"record"`
}

type problem struct {
	Words string `json:"words"`
	Mend  string `json:"mend,omitempty"`
}

// silence is how long a host may say nothing: it says at least that it is idle.
const silence = 30 * time.Second

// maxAnswer bounds a line of a host.
const maxAnswer = 4 << 20

// follower is what the feeds of channels have in common.
type follower struct {
	feed.News
	*feed.Queue
	channels  []string
	begin     lang.Begin
	mu        sync.Mutex
	positions map[string]string
	state     origin.Way
	senders   map[string]*origin.Sender
	trouble   map[string]origin.Trouble
	busy      map[string]bool // it has not said yet that everything was sent
}

func newFollower(channels []string, begin lang.Begin, positions map[string]string) *follower {
	f := &follower{Queue: feed.NewQueue(), channels: channels, begin: begin, positions: map[string]string{},
		state:   origin.Way{Since: time.Now()},
		senders: map[string]*origin.Sender{}, trouble: map[string]origin.Trouble{}, busy: map[string]bool{}}
	for _, c := range channels {
		f.positions[c] = positions[c]
		f.senders[c] = &origin.Sender{Name: c}
		f.busy[c] = true
	}
	return f
}

// State is part of feed.Feed.
func (f *follower) State() origin.Way {
	f.mu.Lock()
	defer f.mu.Unlock()
	s := f.state
	s.Ways = map[string]origin.Trouble{}
	for _, c := range f.channels {
		if t, bad := f.trouble[c]; bad {
			s.Ways[c] = t
		} else if f.busy[c] {
			s.Behind = true
		}
		x := *f.senders[c]
		if x.Received == 0 && x.Note == "" && !f.busy[c] {
			x.Note = "no event has come of it: is it switched on at the host?"
		}
		s.Senders = append(s.Senders, x)
	}
	// The queue is asked last: an event is put into it before all is said to be sent.
	s.Behind = s.Behind || f.Len() > 0
	if len(s.Ways) == len(f.channels) { // none can be seen
		t := s.Ways[f.channels[0]]
		s.Words, s.Mend = t.Words, t.Mend
	}
	return s
}

// fail says that a channel cannot be seen; with no words, that it can.
func (f *follower) fail(channel, words, mend string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if words == "" {
		delete(f.trouble, channel)
		return
	}
	f.trouble[channel] = origin.Trouble{Words: words, Mend: mend}
	f.busy[channel] = true
}

func (f *follower) sent(channel string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.busy[channel] = false
}

// note remembers up to where a channel has been read.
func (f *follower) note(channel, position string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.positions[channel] = position
}

func (f *follower) position(channel string) string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.positions[channel]
}

// put hands an event on, with its place.
func (f *follower) put(ctx context.Context, channel string, event []byte, at string) bool {
	now := time.Now()
	if !f.Put(ctx, feed.Message{Host: Computer(event), Way: channel, Peer: at, Arrived: entry.Of(now), Text: event,
		Stream: channel, Position: at}) {
		return false
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.positions[channel] = at
	f.senders[channel].Received++
	f.senders[channel].Last = now
	return true
}

// client follows channels of a channel host.
type client struct {
	*follower
	at string
}

func newClient(at string, channels []string, begin lang.Begin, positions map[string]string) *client {
	return &client{newFollower(channels, begin, positions), at}
}

// Run is part of feed.Feed.
func (c *client) Run(ctx context.Context) {
	var all sync.WaitGroup
	for _, name := range c.channels {
		all.Go(func() {
			for wait := time.Second; ctx.Err() == nil; wait = min(2*wait, 15*time.Second) {
				began := time.Now()
				words, mend := c.follow(ctx, name)
				if ctx.Err() != nil {
					return
				}
				c.fail(name, words, mend)
				if time.Since(began) > time.Minute {
					wait = time.Second
				}
				select {
				case <-ctx.Done():
				case <-time.After(wait):
				}
			}
		})
	}
	all.Wait()
}

// follow reads a channel until that fails, and says why it did.
func (c *client) follow(ctx context.Context, name string) (words, mend string) {
	conn, err := dial(ctx, c.at)
	if err != nil {
		return unreached(c.at, err)
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	r := read{Channel: name}
	if p, ok := ParsePlace(c.position(name)); ok {
		r.Log, r.After = p.Log, p.Record
	} else {
		r.From = fromWords(c.begin)
	}
	conn.SetWriteDeadline(time.Now().Add(silence))
	if err := json.NewEncoder(conn).Encode(request{Read: &r}); err != nil {
		return unreached(c.at, err)
	}
	log := r.Log
	in := bufio.NewScanner(conn)
	in.Buffer(make([]byte, 64<<10), maxAnswer)
	for {
		conn.SetReadDeadline(time.Now().Add(silence))
		if !in.Scan() {
			err := in.Err()
			switch {
			case errors.Is(err, bufio.ErrTooLong):
				return fmt.Sprintf("the host at %s sent a line of more than %d MiB", c.at, maxAnswer>>20), ""
			case err == nil:
				return fmt.Sprintf("the host at %s ended the connection", c.at), ""
			}
			return unreached(c.at, err)
		}
		var a answer
		if err := json.Unmarshal(in.Bytes(), &a); err != nil {
			return fmt.Sprintf("the host at %s does not speak the channel protocol: %v", c.at, err),
				"see docs/channels.md"
		}
		if a.Error != nil {
			if a.Error.Words == "" {
				a.Error.Words = fmt.Sprintf("the host at %s cannot go on, and does not say why", c.at)
			}
			return short(a.Error.Words), short(a.Error.Mend)
		}
		c.fail(name, "", "")
		switch {
		case a.Begin != nil:
			log = a.Begin.Log
			at := Place{a.Begin.Log, a.Begin.Record}.String()
			c.note(name, at)
			if !c.Put(ctx, feed.Message{Way: name, Stream: name, Position: at}) {
				return "", ""
			}
		case a.Gap > 0:
			c.Tell(fmt.Sprintf("channel %s has wrapped: %d events went before they could be read", name, a.Gap))
		case a.Cleared:
			log = a.Log
			c.Tell(fmt.Sprintf("channel %s was cleared: its records begin anew", name))
		case a.Event != "":
			if len(a.Event) > match.MaxLine {
				a.Event = a.Event[:match.MaxLine]
			}
			if !c.put(ctx, name, []byte(a.Event), Place{log, a.Record}.String()) {
				return "", ""
			}
		case a.Idle:
			c.sent(name)
		}
	}
}

// short bounds what a host says.
func short(words string) string { return words[:min(len(words), 500)] }

func fromWords(b lang.Begin) string {
	switch b.How {
	case lang.BeginOldest:
		return "oldest"
	case lang.BeginAgo:
		return time.Now().Add(-b.Ago).UTC().Format(time.RFC3339Nano)
	case lang.BeginAt:
		return b.At.Time().Format(time.RFC3339Nano)
	}
	return "now"
}

// unreached says why a host cannot be reached, and what mends that.
func unreached(at string, err error) (words, mend string) {
	var ne net.Error
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Sprintf("no channel host is at %s", at),
			`start it, or name where it is: channel "…" at "HOST:PORT"`
	case errors.Is(err, fs.ErrPermission):
		return fmt.Sprintf("this user may not connect to %s", at), "look at the rights of the socket: ls -l " + at
	case errors.Is(err, syscall.ECONNREFUSED):
		return fmt.Sprintf("no channel host listens at %s", at), "is it running?"
	case errors.As(err, &ne) && ne.Timeout():
		return fmt.Sprintf("the channel host at %s says nothing", at), ""
	}
	return fmt.Sprintf("the channel host at %s is not reached: %v", at, err), ""
}

// listAt asks a channel host for its channels.
func listAt(ctx context.Context, at string) ([]Info, error) {
	conn, err := dial(ctx, at)
	if err != nil {
		words, mend := unreached(at, err)
		return nil, fmt.Errorf("%s; %s", words, mend)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(10 * time.Second))
	if err := json.NewEncoder(conn).Encode(request{List: true}); err != nil {
		return nil, err
	}
	in := bufio.NewScanner(conn)
	in.Buffer(make([]byte, 64<<10), maxAnswer)
	if !in.Scan() {
		return nil, fmt.Errorf("the channel host at %s does not answer", at)
	}
	var a answer
	if err := json.Unmarshal(in.Bytes(), &a); err != nil {
		return nil, fmt.Errorf("the host at %s does not speak the channel protocol: %w", at, err)
	}
	if a.Error != nil {
		return nil, errors.New(short(a.Error.Words))
	}
	return a.Channels, nil
}
