package store

import (
	"context"

	"dimlantern/core/entry"
)

// Retold is what an origin said, counted anew: it stands for all that was counted of it from a bucket
// on.
type Retold struct {
	Origin string
	From   int64
	Ticks  []Tick
}

// Redated is a hit or a recovery that is kept, and has another own time than it was thought to have.
type Redated struct {
	Seq      int64 // of the hit
	Key      int64
	Recovery bool
	Was, At  entry.Instant
}

// Redate asks for the own time of each kept hit and recovery, and returns those of which it is another
// than it was.
func (s *Store) Redate(ctx context.Context,
	own func(origin string, at entry.Instant, text string) entry.Instant) ([]Redated, error) {
	list, err := s.ask.QueryContext(ctx,
		"SELECT h.seq, key, recovery, at, text, o.name FROM hits h JOIN origins o ON o.id = h.origin")
	if err != nil {
		return nil, err
	}
	defer list.Close()
	var out []Redated
	for list.Next() {
		var x Redated
		var text, origin string
		if err := list.Scan(&x.Seq, &x.Key, &x.Recovery, &x.Was, &text, &origin); err != nil {
			return nil, err
		}
		if x.At = own(origin, x.Was, text); x.At != x.Was {
			out = append(out, x)
		}
	}
	return out, list.Err()
}

// redate gives a hit its time; one that has been let go of stays so.
func (w *writer) redate(x *Redated) {
	w.exec("UPDATE hits SET at = ? WHERE seq = ?", int64(x.At), x.Seq)
	if x.Recovery {
		return
	}
	w.exec("UPDATE marks SET n = n - 1 WHERE key = ? AND bucket = ?", x.Key, BucketOf(x.Was))
	w.exec("DELETE FROM marks WHERE key = ? AND bucket = ? AND n <= 0", x.Key, BucketOf(x.Was))
	w.count(x.Key, BucketOf(x.At), 1)
}

// Count is how many hits a key had in a bucket, beside those that are kept.
type Count struct {
	Rule   string
	Key    []string
	Bucket int64
	N      int
}

// count adds hits to a bucket.
func (w *writer) count(key, bucket int64, n int) {
	w.exec("INSERT INTO marks(key, bucket, n) VALUES(?, ?, ?) ON CONFLICT(key, bucket) DO UPDATE SET n = n + "+
		"excluded.n", key, bucket, n)
}

// retell replaces what was counted of an origin.
func (w *writer) retell(x *Retold) {
	id := w.origin(x.Origin)
	w.exec("DELETE FROM tide WHERE origin = ? AND bucket >= ?", id, x.From)
	for _, t := range x.Ticks {
		w.exec("INSERT INTO tide(bucket, origin, n, bytes) VALUES(?, ?, ?, ?)", t.Bucket, id, t.N, t.Bytes)
	}
}
