package store

import (
	"sync"
)

// Bounds of what is remembered of the tables of buckets: of a longer time, or of more rows,
// nothing is.
const (
	mostBuckets = 20_000
	mostRows    = 400_000
)

// recent remembers the rows of a table of buckets, so that of what was asked for before only
// the buckets that have changed since are read again. It may be used concurrently.
type recent[T any] struct {
	load     func(from, to int64) ([]T, error) // in [from, to]
	bucketOf func(*T) int64

	mu      sync.Mutex
	rows    map[int64][]T
	n       int             // rows in all
	turn    int64           // grows with each change
	changed map[int64]int64 // buckets that changed, at which turn, since something was begun to be read
	reading int
}

// changes notes that buckets change, or have. It must be said before they do and behind.
func (r *recent[T]) changes(buckets map[int64]bool) {
	if len(buckets) == 0 {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.turn++
	for b := range buckets {
		r.n -= len(r.rows[b])
		delete(r.rows, b)
		if r.reading > 0 {
			if r.changed == nil {
				r.changed = map[int64]int64{}
			}
			r.changed[b] = r.turn
		}
	}
}

// forget lets go of everything.
func (r *recent[T]) forget() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.rows, r.n = nil, 0
	r.turn++
	if r.reading > 0 { // what is being read now is not kept
		r.changed = map[int64]int64{everything: r.turn}
	}
}

// everything stands for all buckets.
const everything = -1 << 63

// in returns the rows of the buckets in [from, to], in no order.
func (r *recent[T]) in(from, to int64) ([]T, error) {
	if to-from >= mostBuckets {
		return r.load(from, to)
	}
	var out []T
	var gaps [][2]int64
	r.mu.Lock()
	turn := r.turn
	r.reading++
	n := 0
	for b := from; b <= to; b++ {
		n += len(r.rows[b])
	}
	out = make([]T, 0, n+n/8)
	for b := from; b <= to; b++ {
		rows, known := r.rows[b]
		out = append(out, rows...)
		if known {
			continue
		}
		if n := len(gaps) - 1; n >= 0 && gaps[n][1] == b-1 {
			gaps[n][1] = b
		} else {
			gaps = append(gaps, [2]int64{b, b})
		}
	}
	r.mu.Unlock()
	var err error
	for _, g := range gaps {
		var rows []T
		if rows, err = r.load(g[0], g[1]); err != nil {
			break
		}
		out = append(out, rows...)
		r.keep(g[0], g[1], rows, turn)
	}
	r.mu.Lock()
	if r.reading--; r.reading == 0 {
		r.changed = nil
	}
	if len(r.rows) > 2*mostBuckets || r.n > mostRows {
		r.rows, r.n = nil, 0
	}
	r.mu.Unlock()
	return out, err
}

// keep remembers rows that were read from a turn on, where their buckets have not changed
// since.
func (r *recent[T]) keep(from, to int64, rows []T, turn int64) {
	by := map[int64][]T{}
	for i := range rows {
		b := r.bucketOf(&rows[i])
		by[b] = append(by[b], rows[i])
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.rows == nil {
		r.rows = map[int64][]T{}
	}
	for b := from; b <= to; b++ {
		if r.changed[b] > turn || r.changed[everything] > turn {
			continue
		}
		r.n += len(by[b]) - len(r.rows[b])
		r.rows[b] = by[b]
	}
}
