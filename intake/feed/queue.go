package feed

import (
	"context"
	"sync"
)

// The bounds of a queue.
const (
	maxQueued      = 20_000
	maxQueuedBytes = 16 << 20
)

// Queue keeps messages until they are taken. Who puts waits for room, so that
// nothing is dropped.
type Queue struct {
	mu    sync.Mutex
	room  *sync.Cond
	list  []Message
	bytes int
	ready chan struct{}
}

// NewQueue returns an empty queue.
func NewQueue() *Queue {
	q := &Queue{ready: make(chan struct{}, 1)}
	q.room = sync.NewCond(&q.mu)
	return q
}

// Put adds a message, and waits for room; it answers false where the context ended
// before there was any.
func (q *Queue) Put(ctx context.Context, m Message) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.full() {
		stop := context.AfterFunc(ctx, func() {
			q.mu.Lock()
			q.room.Broadcast()
			q.mu.Unlock()
		})
		defer stop()
		for q.full() {
			if ctx.Err() != nil {
				return false
			}
			q.room.Wait()
		}
	}
	q.list = append(q.list, m)
	q.bytes += len(m.Text)
	q.signal()
	return true
}

func (q *Queue) full() bool {
	return len(q.list) >= maxQueued || q.bytes >= maxQueuedBytes
}

func (q *Queue) signal() {
	select {
	case q.ready <- struct{}{}:
	default:
	}
}

// Ready delivers when there is something to take.
func (q *Queue) Ready() <-chan struct{} { return q.ready }

// Take takes the oldest messages, at most so many.
func (q *Queue) Take(most int) []Message {
	q.mu.Lock()
	defer q.mu.Unlock()
	out := q.list[:min(most, len(q.list))]
	q.list = q.list[len(out):]
	for _, m := range out {
		q.bytes -= len(m.Text)
	}
	if len(q.list) > 0 {
		q.signal()
	} else {
		q.list = nil
	}
	q.room.Broadcast()
	return out
}

// Len is how many messages wait.
func (q *Queue) Len() int {
	q.mu.Lock()
	defer q.mu.Unlock()
	return len(q.list)
}

// News is what a feed has to tell people once. It may be used concurrently; the zero value has
// nothing to tell.
type News struct {
	mu    sync.Mutex
	words []string
}

// mostNews is how much waits to be told.
const mostNews = 20

// Tell adds words; while much waits already they are passed over.
func (n *News) Tell(words string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if len(n.words) < mostNews {
		n.words = append(n.words, words)
	}
}

// Told is part of Teller: what was not told yet.
func (n *News) Told() []string {
	n.mu.Lock()
	defer n.mu.Unlock()
	out := n.words
	n.words = nil
	return out
}
