package store

import (
	"fmt"
	"slices"
	"sync"
	"testing"

	"dimlantern/core/entry"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What is remembered of the buckets is what stands in the tables, whatever is committed or
// trimmed meanwhile.
func TestRememberedIsWhatIsKept(t *testing.T) {
	s, err := Open(t.TempDir())
	require.NoError(t, err)
	defer s.Close()
	sorted := func(list []Mark) []string {
		var out []string
		for _, m := range list {
			out = append(out, fmt.Sprint(m))
		}
		slices.Sort(out)
		return out
	}
	rapid.Check(t, func(t *rapid.T) {
		for range rapid.IntRange(1, 12).Draw(t, "steps") {
			bucket := func(name string) int64 { return rapid.Int64Range(100, 140).Draw(t, name) }
			switch rapid.IntRange(0, 4).Draw(t, "what") {
			case 0:
				require.NoError(t, s.Trim(nil, entry.Instant(bucket("before")*int64(Bucket))))
			case 1, 2:
				b := &Batch{}
				for range rapid.IntRange(1, 3).Draw(t, "hits") {
					at := entry.Instant(bucket("bucket") * int64(Bucket))
					b.Hits = append(b.Hits, Hit{Rule: "r",
						Key: []string{rapid.SampledFrom([]string{"a", "b", "c"}).Draw(t, "key")}, At: at,
						Origin: "o"})
					b.Ticks = append(b.Ticks, Tick{Origin: "o", Bucket: BucketOf(at), N: 1})
				}
				require.NoError(t, s.Commit(b))
			default:
				from := bucket("from")
				to := from + rapid.Int64Range(0, 20).Draw(t, "more")
				got, err := s.Marks(from, to)
				require.NoError(t, err)
				want, err := s.readMarks(from, to)
				require.NoError(t, err)
				require.Equal(t, sorted(want), sorted(got))
				keys, err := s.KeysOf(got)
				require.NoError(t, err)
				ids := map[int64]bool{}
				for _, m := range want {
					ids[m.KeyID] = true
				}
				require.Len(t, keys, len(ids))
				flow, err := s.Flow(from, to)
				require.NoError(t, err)
				direct, err := s.readFlow(from, to)
				require.NoError(t, err)
				require.Len(t, flow, len(direct))
				for _, x := range direct {
					require.Equal(t, x.N, flow[x.Bucket])
				}
			}
		}
	})
}

// A bucket that changes while it is read is read again.
func TestChangedWhileRead(t *testing.T) {
	kept := map[int64]int64{1: 1}
	var mu sync.Mutex
	begun, goOn := make(chan struct{}), make(chan struct{})
	slow := true
	r := recent[Tick]{bucketOf: func(t *Tick) int64 { return t.Bucket }}
	r.load = func(from, to int64) ([]Tick, error) {
		mu.Lock()
		out := []Tick{{Bucket: 1, N: kept[1]}}
		mu.Unlock()
		if slow {
			close(begun)
			<-goOn
		}
		return out, nil
	}
	done := make(chan []Tick)
	go func() { list, _ := r.in(1, 1); done <- list }()
	<-begun
	slow = false
	changed := map[int64]bool{1: true}
	r.changes(changed)
	mu.Lock()
	kept[1] = 2
	mu.Unlock()
	r.changes(changed)
	close(goOn)
	assert.Equal(t, []Tick{{Bucket: 1, N: 1}}, <-done, "it was so when it was asked")
	again, err := r.in(1, 1)
	require.NoError(t, err)
	assert.Equal(t, []Tick{{Bucket: 1, N: 2}}, again)
}
