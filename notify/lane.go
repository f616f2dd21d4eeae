package notify

import (
	"context"
	"encoding/json"
	"slices"
	"sync"
	"time"

	"dimlantern/core/entry"
	"dimlantern/notify/via"
	"dimlantern/store"
)

// lane is one way of one contact, as it is told. It belongs to one goroutine at a time.
type lane struct {
	// failing are messages that a receiver would not have, by identifier: what they are
	// about waits for them, and nothing else does.
	failing map[string]failing
	// refused is how many were refused since one was taken: after refusedAll in a row it is
	// the receiver rather than what it is sent.
	refused int
	pauses  int // of the whole lane, since something was taken
	until   entry.Instant
}

type failing struct {
	alerts []string
	next   entry.Instant
}

// Bounds of telling one way.
const (
	sendAtOnce = 64 // messages that are looked at together
	refusedAll = 5
	abreast    = 4 // webhooks are posted to so many at once
)

func (o *Outbox) lane(key string) *lane {
	o.mu.Lock()
	defer o.mu.Unlock()
	l := o.lanes[key]
	if l == nil {
		l = &lane{failing: map[string]failing{}}
		o.lanes[key] = l
	}
	return l
}

// outgoing is a message on its way.
type outgoing struct {
	*store.Message
	body   via.Message
	alerts []string
	err    error // of the try
	broken bool  // it cannot be read
}

// send tells a way what waits for it, until nothing does that may be told now. What cannot
// be told keeps waiting only what is about the same alerts, unless the way itself is shut.
func (o *Outbox) send(ctx context.Context, name string, place int, way via.Way, l *lane) {
	for ctx.Err() == nil {
		now := entry.Of(time.Now())
		if l.until > now {
			o.wakeAt(ctx, l.until)
			return
		}
		list, err := o.Store.Unsent(name, place, now, sendAtOnce)
		if err != nil || len(list) == 0 {
			break
		}
		chains := l.chains(list, now)
		if len(chains) == 0 {
			break
		}
		if l.pauses > 0 { // one shows whether the way is open again
			chains = [][]*outgoing{chains[0][:1]}
		}
		if !o.sendAll(ctx, name, way, l, chains) {
			break
		}
	}
	soon := entry.None
	for _, f := range l.failing {
		if soon == entry.None || f.next < soon {
			soon = f.next
		}
	}
	if soon != entry.None {
		o.wakeAt(ctx, soon)
	}
}

// wakeAt lets the outbox look again at an instant.
func (o *Outbox) wakeAt(ctx context.Context, at entry.Instant) {
	d := max(at.Sub(entry.Of(time.Now())), time.Millisecond)
	if d > tellEvery || ctx.Err() != nil { // it looks by itself then
		return
	}
	time.AfterFunc(d, o.Wake)
}

// chains puts messages about the same alerts behind each other, the most urgent chains
// first, and leaves out what has to wait for a message that failed.
func (l *lane) chains(list []store.Message, now entry.Instant) [][]*outgoing {
	waits := map[string]bool{}
	for id, f := range l.failing {
		if f.next > now {
			for _, a := range f.alerts {
				waits[a] = true
			}
		} else if !slices.ContainsFunc(list, func(m store.Message) bool { return m.ID == id }) {
			delete(l.failing, id) // somebody else has dealt with it
		}
	}
	var out [][]*outgoing
	at := map[string]int{} // the chain of an alert
	for i := range list {
		m := &outgoing{Message: &list[i]}
		if err := json.Unmarshal(m.Body, &m.body); err != nil {
			m.err, m.broken = err, true
		}
		for _, a := range m.body.Alerts {
			m.alerts = append(m.alerts, a.Alert)
		}
		chain, held := -1, false
		for _, a := range m.alerts {
			held = held || waits[a]
			if c, ok := at[a]; ok && chain < 0 {
				chain = c
			}
		}
		for _, a := range m.alerts { // others that it is about follow it from now on
			if c, ok := at[a]; ok && c != chain {
				out[chain] = append(out[chain], out[c]...)
				out[c] = nil
				for b, d := range at {
					if d == c {
						at[b] = chain
					}
				}
			}
		}
		if held {
			for _, a := range m.alerts {
				waits[a] = true
			}
			continue
		}
		if chain < 0 {
			chain = len(out)
			out = append(out, nil)
		}
		for _, a := range m.alerts {
			at[a] = chain
		}
		out[chain] = append(out[chain], m)
	}
	return slices.DeleteFunc(out, func(c []*outgoing) bool { return len(c) == 0 })
}

// sendAll sends chains, and notes what became of each message as soon as it can be; it
// answers false where the rest has to wait.
func (o *Outbox) sendAll(ctx context.Context, name string, way via.Way, l *lane, chains [][]*outgoing) bool {
	n := 1
	if w, ok := way.(interface{ Abreast() bool }); ok && w.Abreast() {
		n = min(abreast, len(chains))
	}
	work := make(chan []*outgoing)
	done := make(chan *outgoing, sendAtOnce)
	var all sync.WaitGroup
	stop, shut := context.WithCancel(ctx) // no further message is begun
	defer shut()
	begun, end := graced(ctx)
	defer end()
	for range n {
		all.Go(func() {
			for chain := range work {
				for _, m := range chain {
					if stop.Err() != nil {
						break
					}
					o.try(begun, way, m)
					if begun.Err() != nil { // it is told after the next start, under the same identifier
						break
					}
					done <- m
					if m.State == store.Waiting {
						break
					}
				}
			}
		})
	}
	go func() {
		defer close(done)
		defer all.Wait()
		defer close(work)
		for _, c := range chains {
			select {
			case work <- c:
			case <-stop.Done():
				return
			}
		}
	}()
	for m := range done {
		list := []*outgoing{m}
		for more := true; more && len(list) < sendAtOnce; {
			select {
			case x, ok := <-done:
				if more = ok; ok {
					list = append(list, x)
				}
			default:
				more = false
			}
		}
		if !o.noteAll(name, way, l, list) || l.until > entry.Of(time.Now()) {
			shut()
		}
	}
	return stop.Err() == nil
}

// grace is how long a message that is being sent may take yet when the service ends: its yes is worth
// waiting for, since what nobody knows of is told again after the next start.
const grace = 2 * time.Second

// graced is a context that ends that much later.
func graced(ctx context.Context) (context.Context, func()) {
	out, end := context.WithCancel(context.WithoutCancel(ctx))
	forget := context.AfterFunc(ctx, func() { time.AfterFunc(grace, end) })
	return out, func() {
		forget()
		end()
	}
}

// try sends one message.
func (o *Outbox) try(ctx context.Context, way via.Way, m *outgoing) {
	m.Tries++
	switch {
	case m.broken:
		m.State, m.Words = store.GivenUp, "it cannot be read any more: "+m.err.Error()
		return
	case way == nil:
		m.State, m.Words = store.GivenUp, "the contact has no such way any more"
		return
	}
	answer, err := way.Tell(ctx, &m.body)
	m.err = err
	if err == nil {
		o.Told.Add(1)
	} else if via.Refused(err) {
		o.Refused.Add(1)
	}
	now := time.Now()
	switch {
	case err == nil:
		m.State, m.Told, m.Words = store.Told, entry.Of(now), answer
	case entry.Of(now).Sub(m.Made) > giveUpAfter:
		m.State, m.Words = store.GivenUp, err.Error()
	default:
		m.Words = err.Error()
	}
}

// noteAll notes what became of messages; it answers false where that cannot be kept.
func (o *Outbox) noteAll(name string, way via.Way, l *lane, list []*outgoing) bool {
	var kept []*store.Message
	for _, m := range list {
		kept = append(kept, m.Message)
		l.came(m)
	}
	if err := o.Store.Tried(kept); err != nil {
		o.Log.Warn("what became of a message cannot be noted; it may be sent once more", "reason", err)
		return false
	}
	for _, m := range list {
		o.notice(name, way, m.Message, m.err, entry.Of(time.Now()).Sub(m.Made))
		if m.err != nil && m.State == store.Waiting {
			o.Log.Warn("a contact could not be told", "contact", name, "way", way.String(), "tries", m.Tries,
				"reason", m.err)
		}
	}
	return true
}

// came takes in what became of a message, and says when one that failed is tried again.
func (l *lane) came(m *outgoing) {
	if m.State != store.Waiting {
		delete(l.failing, m.ID)
		if m.err == nil {
			l.refused, l.pauses, l.until = 0, 0, 0
		}
		return
	}
	now := time.Now()
	after := via.After(m.err)
	if via.Refused(m.err) && after == 0 {
		if l.refused++; l.refused < refusedAll {
			m.Next = entry.Of(now.Add(pauseFrom(refusedPause, m.Tries)))
			l.failing[m.ID] = failing{m.alerts, m.Next}
			return
		}
	}
	l.pauses++
	l.until = entry.Of(now.Add(max(after, pauseAfter(l.pauses))))
	m.Next = l.until
	l.failing[m.ID] = failing{m.alerts, m.Next}
}
