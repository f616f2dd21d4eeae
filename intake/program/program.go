// Package program runs programs whose standard output is a way in. A program and its arguments
// come in; entries go out, and how the program is. One that ends is started again, after waits
// that grow as long as it does not last; nothing goes through a shell.
package program

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/origin"
	"dimlantern/intake/feed"
	"dimlantern/intake/pipe"
)

// Feed runs one program. Its methods may be called concurrently.
type Feed struct {
	*feed.Queue
	feed.News
	words []string

	mu    sync.Mutex
	entry *lang.EntrySpec
	state origin.Way
}

// How long is waited before a program is started again: first, at most, and after it has run
// so long the first wait again.
const (
	firstWait = time.Second
	mostWait  = 5 * time.Minute
	lasted    = time.Minute
)

// mostErrors is how much of what a program says on its standard error is kept, in bytes.
const mostErrors = 4096

// New returns a feed of a program and its arguments, and which of its lines belong together;
// nil: each is an entry.
func New(words []string, e *lang.EntrySpec) *Feed {
	return &Feed{Queue: feed.NewQueue(), words: words, entry: e,
		state: origin.Way{Since: time.Now(), Senders: []origin.Sender{{Name: Way(words)}}}}
}

// Way is how a program is called as a way in.
func Way(words []string) string { return filepath.Base(words[0]) }

// State is part of feed.Feed.
func (f *Feed) State() origin.Way {
	f.mu.Lock()
	defer f.mu.Unlock()
	s := f.state
	s.Senders = append([]origin.Sender(nil), s.Senders...)
	s.Behind = f.Len() > 0
	return s
}

// Run is part of feed.Feed: the program ends with the context.
func (f *Feed) Run(ctx context.Context) {
	wait := firstWait
	for ctx.Err() == nil {
		began := time.Now()
		f.say("", "")
		words := f.once(ctx)
		if ctx.Err() != nil {
			return
		}
		if time.Since(began) >= lasted {
			wait = firstWait
		}
		f.ended(words, wait)
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		wait = min(2*wait, mostWait)
	}
}

// once runs the program until it ends, and says how it did.
func (f *Feed) once(ctx context.Context) string {
	c := exec.CommandContext(ctx, f.words[0], f.words[1:]...)
	c.WaitDelay = time.Second
	own(c)
	said := &tail{}
	c.Stderr = said
	out, err := c.StdoutPipe()
	if err == nil {
		err = c.Start()
	}
	if err != nil {
		return fmt.Sprintf("it cannot be started: %v", unwrapped(err))
	}
	_ = pipe.Entries(out, func() *lang.EntrySpec { return f.entry }, func(text []byte) { f.put(ctx, text) })
	err = c.Wait()
	words := "it has ended"
	var exit *exec.ExitError
	switch {
	case errors.As(err, &exit):
		words = "it has ended with " + exit.ProcessState.String()
	case err != nil:
		words = fmt.Sprintf("it has ended: %v", err)
	}
	if last := said.last(); last != "" {
		words += ": " + last
	}
	return words
}

func unwrapped(err error) error {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err
		}
		err = inner
	}
}

func (f *Feed) put(ctx context.Context, text []byte) {
	now := time.Now()
	f.Put(ctx, feed.Message{Way: Way(f.words), Arrived: entry.Of(now), Text: text})
	f.mu.Lock()
	defer f.mu.Unlock()
	f.state.Senders[0].Received++
	f.state.Senders[0].Last = now
}

func (f *Feed) say(words, mend string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.state.Words, f.state.Mend = words, mend
}

// ended notes that the program has ended, and when it is started again.
func (f *Feed) ended(words string, wait time.Duration) {
	name := Way(f.words)
	f.Tell(name + ": " + words)
	f.mu.Lock()
	defer f.mu.Unlock()
	f.state.Words = fmt.Sprintf("%s: %s; it is started again %s later", name, words, entry.Span(wait))
	f.state.Mend = "run it by hand: " + strings.Join(f.words, " ")
}

// tail keeps the end of what a program says.
type tail struct {
	mu   sync.Mutex
	kept []byte
}

func (t *tail) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.kept = append(t.kept, b[max(0, len(b)-mostErrors):]...)
	if n := len(t.kept) - mostErrors; n > 0 {
		t.kept = append(t.kept[:0], t.kept[n:]...)
	}
	return len(b), nil
}

// last is the last line of it.
func (t *tail) last() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	text := bytes.TrimSpace(t.kept)
	return entry.Visible(strings.ToValidUTF8(string(text[bytes.LastIndexByte(text, '\n')+1:]), "\uFFFD"))
}
