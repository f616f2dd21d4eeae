package snapshot

import (
	"context"
	"sync/atomic"
	"time"

	"dimlantern/api"
)

// Window is where snapshots are published: one goroutine does, any may look. Its zero
// value is of no use; see NewWindow.
type Window struct {
	now  atomic.Pointer[Snapshot]
	news atomic.Pointer[chan struct{}] // closed when something is new
}

// NewWindow returns a window that shows a snapshot.
func NewWindow(first *Snapshot) *Window {
	w := &Window{}
	c := make(chan struct{})
	w.news.Store(&c)
	w.now.Store(first)
	return w
}

// Now is the newest snapshot. It is never nil.
func (w *Window) Now() *Snapshot { return w.now.Load() }

// Publish shows a snapshot, and wakes those who wait for news where there is some.
func (w *Window) Publish(s *Snapshot) {
	was := w.now.Swap(s)
	if was.Seq != s.Seq || was.Flow != s.Flow {
		next := make(chan struct{})
		close(*w.news.Swap(&next))
	}
}

// How long a question for news is held back: for more entries, so that not each of them is
// told, and at most.
const (
	newsFlow = 2 * time.Second
	newsMost = 10 * time.Second
)

// News answers once something is new, or nothing has been for a while. That entries have
// come alone is told every two seconds at most.
func (w *Window) News(ctx context.Context, q api.NewsQuery) (*api.News, error) {
	most, flow := time.NewTimer(newsMost), time.NewTimer(newsFlow)
	defer most.Stop()
	defer flow.Stop()
	late := false // entries alone suffice by now
	for {
		news := *w.news.Load() // before the snapshot, so that none is missed
		s := w.Now()
		now := &api.News{Seq: s.Seq, Flow: s.Flow}
		if now.Seq != q.Seq || late && now.Flow != q.Flow {
			return now, nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-most.C:
			return now, nil
		case <-flow.C:
			late = true
		case <-news:
		}
	}
}
