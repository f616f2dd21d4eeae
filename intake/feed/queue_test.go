package feed

import (
	"context"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Who puts waits for room, so that nothing is lost, and goes when told to.
func TestQueueWaits(t *testing.T) {
	q := NewQueue()
	ctx, cancel := context.WithCancel(context.Background())
	const n = maxQueued + 3000
	ended := make(chan bool)
	go func() {
		for i := range n {
			q.Put(ctx, Message{Text: []byte(strconv.Itoa(i))})
		}
		ended <- true
	}()
	require.Eventually(t, func() bool { return q.Len() == maxQueued }, 5*time.Second, time.Millisecond)
	for got := 0; got < n; {
		<-q.Ready()
		for _, m := range q.Take(700) {
			require.Equal(t, strconv.Itoa(got), string(m.Text))
			got++
		}
	}
	<-ended
	big := Message{Text: make([]byte, maxQueuedBytes)}
	require.True(t, q.Put(ctx, big))
	go func() { ended <- q.Put(ctx, big) }()
	select {
	case <-ended:
		t.Fatal("it did not wait")
	case <-time.After(20 * time.Millisecond):
	}
	cancel()
	assert.False(t, <-ended)
	assert.Len(t, q.Take(10), 1)
}
