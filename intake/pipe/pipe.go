// Package pipe reads standard input, or another stream that somebody writes into:
// bytes come in, lines go out, joined to entries where the source says how they
// begin.
package pipe

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"dimlantern/core/origin"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/intake/feed"
)

// Feed reads a stream once. Its methods may be called concurrently.
type Feed struct {
	*feed.Queue
	r     io.Reader
	begin sync.Once

	mu    sync.Mutex
	entry *lang.EntrySpec
	state origin.Way
}

// New returns a feed of a stream; nil stands for none.
func New(r io.Reader) *Feed {
	f := &Feed{Queue: feed.NewQueue(), r: r, state: origin.Way{Since: time.Now()}}
	f.state.Senders = []origin.Sender{{Name: Way}}
	if r == nil {
		f.state.Words = "nothing is piped into it"
		f.state.Mend = "run: some-command | dimlantern watch …"
	}
	return f
}

// Way is how the stream is called as a way in.
const Way = "input"

// Join says which lines belong together; nil: each line is an entry.
func (f *Feed) Join(e *lang.EntrySpec) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.entry = e
}

func (f *Feed) joins() *lang.EntrySpec {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.entry
}

// State is part of feed.Feed.
func (f *Feed) State() origin.Way {
	f.mu.Lock()
	defer f.mu.Unlock()
	s := f.state
	s.Senders = append([]origin.Sender(nil), s.Senders...)
	s.Behind = f.Len() > 0
	return s
}

// Run is part of feed.Feed. What it has begun to read it goes on reading when it is
// run again.
func (f *Feed) Run(ctx context.Context) {
	f.begin.Do(func() {
		if f.r != nil {
			go f.read()
		}
	})
	<-ctx.Done()
}

// read reads lines until the stream ends.
func (f *Feed) read() { f.end(Entries(f.r, f.joins, f.put)) }

// Entries reads lines until a stream ends, and gives each entry: a line, or the lines that
// belong together by what joins says just then. It returns why the stream ended.
func Entries(stream io.Reader, joins func() *lang.EntrySpec, each func(text []byte)) error {
	lines := make(chan []byte)
	var failed error
	go func() {
		defer close(lines)
		r := bufio.NewReaderSize(stream, 64<<10)
		for {
			line, err := readLine(r)
			if len(line) > 0 || err == nil {
				lines <- line
			}
			if err != nil {
				failed = err
				return
			}
		}
	}()
	var held []byte // the entry that is being joined
	count := 0
	flush := func() {
		if len(bytes.TrimSpace(held)) > 0 {
			each(held)
		}
		held, count = nil, 0
	}
	for {
		var closed <-chan time.Time
		e := joins()
		if e != nil && count > 0 {
			closed = time.After(e.Closed)
		}
		select {
		case line, ok := <-lines:
			switch {
			case !ok:
				flush()
				return failed
			case e == nil:
				flush()
				held, count = line, 1
				flush()
			case count == 0 || e.Starts.Re().Match(line) || count >= e.Most || len(held) > match.MaxLine:
				flush()
				held, count = line, 1
			default:
				held = append(append(held, '\n'), line...)
				count++
			}
		case <-closed:
			flush()
		}
	}
}

func (f *Feed) put(text []byte) {
	now := time.Now()
	f.Put(context.Background(), feed.Message{Way: Way, Arrived: entry.Of(now), Text: text})
	f.mu.Lock()
	defer f.mu.Unlock()
	f.state.Senders[0].Received++
	f.state.Senders[0].Last = now
}

func (f *Feed) end(err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.state.Note, f.state.Ended = "it has ended", true
	f.state.Words, f.state.Mend = "what was piped in has ended",
		"start its writer and Dim Lantern anew: some-command | dimlantern watch …"
	if err != nil && !errors.Is(err, io.EOF) {
		f.state.Words = fmt.Sprintf("it cannot be read: %v", err)
	}
	f.state.Senders[0].Note = f.state.Note
}

// readLine reads a line without its end; what is behind the limit of an entry is
// passed over.
func readLine(r *bufio.Reader) ([]byte, error) {
	var line []byte
	for {
		part, err := r.ReadSlice('\n')
		if room := match.MaxLine - len(line); room > 0 {
			line = append(line, part[:min(len(part), room)]...)
		}
		if errors.Is(err, bufio.ErrBufferFull) {
			continue
		}
		return bytes.TrimRight(line, "\r\n"), err
	}
}
