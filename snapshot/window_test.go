package snapshot

import (
	"context"
	"sync"
	"testing"
	"time"

	"dimlantern/api"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Who waits for news hears of each change of what a screen shows at once, however many wait;
// of entries alone a little later; and who has the newest already waits.
func TestNews(t *testing.T) {
	w := NewWindow(&Snapshot{Seq: 1, Flow: 1})
	n, err := w.News(context.Background(), api.NewsQuery{})
	require.NoError(t, err)
	assert.Equal(t, &api.News{Seq: 1, Flow: 1}, n, "all is new to who knows nothing")

	var waiting sync.WaitGroup
	heard := make(chan *api.News, 50)
	for range cap(heard) {
		waiting.Go(func() {
			n, err := w.News(context.Background(), api.NewsQuery{Seq: 1, Flow: 1})
			if err == nil {
				heard <- n
			}
		})
	}
	w.Publish(&Snapshot{Seq: 2, Flow: 1})
	waiting.Wait()
	require.Len(t, heard, cap(heard))
	assert.Equal(t, int64(2), (<-heard).Seq)

	began := time.Now()
	done := make(chan *api.News)
	go func() {
		n, _ := w.News(context.Background(), api.NewsQuery{Seq: 2, Flow: 1})
		done <- n
	}()
	for i := range 20 { // entries, which come one by one
		w.Publish(&Snapshot{Seq: 2, Flow: int64(2 + i)})
	}
	assert.Equal(t, int64(21), (<-done).Flow, "they are told together")
	assert.GreaterOrEqual(t, time.Since(began), newsFlow)

	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = w.News(ctx, api.NewsQuery{Seq: 2, Flow: 21})
	assert.ErrorIs(t, err, context.Canceled)
}

// What is published is seen by all who look, whole, while others publish.
func TestPublishedWhole(t *testing.T) {
	w := NewWindow(&Snapshot{})
	stop := make(chan struct{})
	var looking sync.WaitGroup
	for range 4 {
		looking.Go(func() {
			last := int64(0)
			for {
				s := w.Now()
				if s.Seq != s.Flow || s.Seq < last {
					t.Errorf("half a snapshot: %d and %d behind %d", s.Seq, s.Flow, last)
					return
				}
				last = s.Seq
				select {
				case <-stop:
					return
				default:
				}
			}
		})
	}
	for i := range int64(20_000) {
		w.Publish(&Snapshot{Seq: i, Flow: i})
	}
	close(stop)
	looking.Wait()
}
