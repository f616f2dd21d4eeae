package store

import (
	"database/sql"
	"encoding/json"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/measure"
	"dimlantern/intake/spool"
)

// Hit is a hit or a recovery, as evidence.
type Hit struct {
	Rule     string
	Key      []string
	At       entry.Instant
	Recovery bool
	Origin   string
	Offset   int64
	Text     string
	Skew     time.Duration // how far its writer's clock was found to lie back; At has it taken off
	Counted  bool          // the batch counts it apart
}

// Place is where reading an origin stopped.
type Place struct {
	Source, Series, Origin string
	Data                   []byte
}

// Tick counts entries of an origin in a bucket.
type Tick struct {
	Origin string
	Bucket int64
	N      int64
	Bytes  int64 // of their files
}

// Blind says that an origin could not be seen since then, or that it can be again.
type Blind struct {
	Origin string
	At     entry.Instant
	Seen   bool
	Words  string
}

// Batch is what one round of reading did; it is kept as a whole or not at all.
type Batch struct {
	Journal     []byte // the engine's inputs
	Snapshot    []byte // the engine's whole state after them, or nil
	Transitions []engine.Transition
	Hits        []Hit
	Places      []Place
	Ticks       []Tick
	Retold      []Retold  // before the ticks
	Redated     []Redated // before the hits
	Counts      []Count
	Oldest      []string // sources that have begun again from the oldest entry
	Blind       []Blind
	Sources     []string          // that have been seen now
	Around      map[string][]byte // by alert, the lines around its hits, as JSON
	Kept        *spool.Index      // nil: as it was
	Meta        map[string][]byte // further values
	Actions     []Action
	Tellings    []Telling
	Series      []measure.Row     // of measures, of one series the last counts
	Up          []Up              // what a centre is to be told of it
	HeldIn      []HeldRow         // that wait for their turn
	HeldOut     []HeldRow         // of which nothing waits any more
	Renamed     [][2]string       // hosts, from and to
	Quiet       map[string][]byte // alerts that are kept quiet from now on, with whatever tells why; nil: no longer
	Now         entry.Instant
}

// SetMeta lets a value be kept under a name; nil takes it away.
func (b *Batch) SetMeta(name string, value []byte) {
	if b.Meta == nil {
		b.Meta = map[string][]byte{}
	}
	b.Meta[name] = value
}

// Empty tells whether there is nothing to keep.
func (b *Batch) Empty() bool {
	return len(b.Journal) == 0 && b.Snapshot == nil && len(b.Transitions) == 0 && len(b.Hits) == 0 &&
		len(b.Places) == 0 &&
		len(b.Ticks) == 0 && len(b.Retold) == 0 && len(b.Redated) == 0 &&
		len(b.Counts) == 0 && len(b.Oldest) == 0 && len(b.Blind) == 0 && len(b.Sources) == 0 && len(b.Meta) == 0 &&
		len(b.Around) == 0 && b.Kept == nil && len(b.Actions) == 0 && len(b.Tellings) == 0 && len(b.Quiet) == 0 &&
		len(b.Series) == 0 && len(b.Up) == 0 && len(b.Renamed) == 0 &&
		len(b.HeldIn) == 0 && len(b.HeldOut) == 0
}

// perKey is how many hits of a key are kept as evidence.
const perKey = 400

// bucketsOf returns what notes which buckets a batch changes.
func (s *Store) bucketsOf(b *Batch) (changes func()) {
	marks, ticks := map[int64]bool{}, map[int64]bool{}
	for i := range b.Hits {
		if !b.Hits[i].Recovery && !b.Hits[i].Counted {
			marks[BucketOf(b.Hits[i].At)] = true
		}
	}
	late := false
	for _, t := range b.Ticks {
		ticks[t.Bucket] = true
		late = late || t.Bucket < BucketOf(entry.Of(time.Now()))-StillOpen
	}
	return func() {
		if len(b.Retold) > 0 || len(b.Redated) > 0 || len(b.Counts) > 0 {
			s.marks.forget()
			s.flow.forget()
			s.flows.forget()
			s.late.Add(1)
		}
		s.marks.changes(marks)
		s.flow.changes(ticks)
		s.flows.changes(ticks)
		if late {
			s.late.Add(1)
		}
	}
}

// Commit keeps a batch in one transaction.
func (s *Store) Commit(b *Batch) (err error) {
	s.writing.Lock()
	defer s.writing.Unlock()
	changes := s.bucketsOf(b)
	changes()
	defer changes()
	tx, err := s.db.Begin()
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			tx.Rollback()
		}
	}()
	w := &writer{s: s, tx: tx, stmts: map[string]*sql.Stmt{}}
	defer w.close()
	if len(b.Journal) > 0 {
		s.seq++
		w.exec("INSERT INTO journal(seq, data) VALUES(?, ?)", s.seq, b.Journal)
	}
	if b.Snapshot != nil {
		w.exec("INSERT OR REPLACE INTO meta(name, value) VALUES('snapshot', ?)", b.Snapshot)
		w.exec("DELETE FROM journal")
	}
	for name, value := range b.Meta {
		if value == nil {
			w.exec("DELETE FROM meta WHERE name = ?", name)
			continue
		}
		w.exec("INSERT OR REPLACE INTO meta(name, value) VALUES(?, ?)", name, value)
	}
	for _, r := range b.Renamed {
		w.rename(r[0], r[1])
	}
	for i := range b.HeldIn {
		w.exec("INSERT OR REPLACE INTO held(host, seq, body) VALUES(?, ?, ?)", b.HeldIn[i].Host, b.HeldIn[i].Seq,
			b.HeldIn[i].Body)
	}
	for i := range b.HeldOut {
		w.exec("DELETE FROM held WHERE host = ? AND seq = ?", b.HeldOut[i].Host, b.HeldOut[i].Seq)
	}
	for i := range b.Up {
		u := &b.Up[i]
		w.exec("INSERT INTO up(seq, written, sum, prev, facts) VALUES(?, ?, ?, ?, ?)", u.Seq, int64(b.Now), u.Sum,
			u.Prev,
			u.Facts)
	}
	for alert, lines := range b.Around {
		w.exec("INSERT OR REPLACE INTO around(alert, lines) VALUES(?, ?)", alert, lines)
	}
	if b.Kept != nil {
		for _, x := range b.Kept.Changed {
			w.exec("INSERT OR REPLACE INTO kept(path, source, host, way, first, last, entries, bytes) VALUES(?, "+
				"?, ?, ?, ?, ?, ?, ?)",
				x.Path, x.Origin.Source, x.Origin.Host, x.Origin.Way, int64(x.First), int64(x.Last), x.Entries,
				x.Bytes)
		}
		for _, path := range b.Kept.Gone {
			w.exec("DELETE FROM kept WHERE path = ?", path)
		}
	}
	for _, n := range b.Sources {
		w.exec("INSERT OR IGNORE INTO sources(name, first_seen) VALUES(?, ?)", n, int64(b.Now))
	}
	for _, p := range b.Places {
		w.exec("INSERT OR REPLACE INTO places(source, series, data) VALUES(?, ?, ?)", p.Source, p.Series, p.Data)
		if _, known := s.origins[p.Origin]; !known {
			id := w.origin(p.Origin)
			w.exec("UPDATE origins SET source = ?, series = ? WHERE id = ?", p.Source, p.Series, id)
		}
	}
	for _, n := range b.Oldest {
		w.exec("UPDATE sources SET first_seen = 0 WHERE name = ?", n)
	}
	for i := range b.Counts {
		c := &b.Counts[i]
		w.count(w.key(c.Rule, c.Key), c.Bucket, c.N)
	}
	for i := range b.Redated {
		w.redate(&b.Redated[i])
	}
	for i := range b.Hits {
		h := &b.Hits[i]
		key := w.key(h.Rule, h.Key)
		w.exec("INSERT INTO hits(key, at, recovery, origin, place, text, skew) VALUES(?, ?, ?, ?, ?, ?, ?)", key,
			int64(h.At), h.Recovery, w.origin(h.Origin), h.Offset, h.Text, int64(h.Skew))
		if !h.Recovery && !h.Counted {
			w.count(key, BucketOf(h.At), 1)
		}
	}
	for i := range b.Transitions {
		w.transition(&b.Transitions[i], b.Now)
	}
	for i := range b.Actions {
		w.action(&b.Actions[i])
	}
	for i := range b.Tellings {
		w.telling(&b.Tellings[i])
	}
	w.series(b.Series)
	for alert, line := range b.Quiet {
		if line == nil {
			w.exec("DELETE FROM quiet WHERE alert = ?", alert)
		} else {
			w.exec("INSERT OR REPLACE INTO quiet(alert, line) VALUES(?, ?)", alert, line)
		}
	}
	for i := range b.Retold {
		w.retell(&b.Retold[i])
	}
	for _, t := range b.Ticks {
		w.exec("INSERT INTO tide(bucket, origin, n, bytes) VALUES(?, ?, ?, ?) ON CONFLICT(bucket, origin) DO UPDATE "+
			"SET n = n + excluded.n, bytes = bytes + excluded.bytes", t.Bucket, w.origin(t.Origin), t.N, t.Bytes)
	}
	for _, x := range b.Blind {
		id := w.origin(x.Origin)
		if x.Seen {
			w.exec("UPDATE blind SET until = ? WHERE origin = ? AND until IS NULL", int64(x.At), id)
		} else {
			w.exec("INSERT OR REPLACE INTO blind(origin, since, until, words) VALUES(?, ?, NULL, ?)", id, int64(x.At),
				x.Words)
		}
	}
	if w.err != nil {
		w.forget()
		return w.err
	}
	if err = tx.Commit(); err != nil {
		w.forget()
		return err
	}
	for _, q := range w.anew { // for the next batches; not before the writer's one connection is free again
		if st, err := prepared(s.db, q); err == nil {
			s.ready[q] = st
		}
	}
	for _, n := range b.Sources {
		s.known[n] = true
	}
	if w.renamed {
		s.names.mu.Lock()
		s.names.by, s.names.upTo = nil, 0
		s.names.mu.Unlock()
	}
	return nil
}

// writer is the state of one transaction.
type writer struct {
	s     *Store
	tx    *sql.Tx
	stmts map[string]*sql.Stmt
	anew  []string // statements that were not ready
	err   error
	fresh []string // keys and origins that are new
	// renamed tells that keys and origins are called otherwise: what is known of them is read once more.
	renamed bool
}

func (w *writer) close() {
	for _, st := range w.stmts {
		st.Close()
	}
}

// forget drops the ids that a failed transaction gave out.
func (w *writer) forget() {
	for _, n := range w.fresh {
		delete(w.s.keys, n)
		delete(w.s.origins, n)
	}
}

func (w *writer) exec(query string, args ...any) sql.Result {
	if w.err != nil {
		return nil
	}
	st := w.stmts[query]
	if st == nil {
		if ready := w.s.ready[query]; ready != nil {
			st = w.tx.Stmt(ready)
		} else if st, w.err = w.tx.Prepare(query); w.err != nil {
			return nil
		} else {
			w.anew = append(w.anew, query)
		}
		w.stmts[query] = st
	}
	var r sql.Result
	r, w.err = st.Exec(args...)
	return r
}

func (w *writer) insert(into map[string]int64, name, query string, args ...any) int64 {
	if id, ok := into[name]; ok {
		return id
	}
	r := w.exec(query, args...)
	if r == nil {
		return 0
	}
	id, err := r.LastInsertId()
	if err != nil {
		w.err = err
		return 0
	}
	into[name] = id
	w.fresh = append(w.fresh, name)
	return id
}

func (w *writer) key(rule string, key []string) int64 {
	k, _ := json.Marshal(key)
	return w.insert(w.s.keys, rule+"\x00"+string(k), "INSERT INTO keys(rule, key) VALUES(?, ?)", rule, string(k))
}

func (w *writer) origin(name string) int64 {
	return w.insert(w.s.origins, name, "INSERT INTO origins(name) VALUES(?)", name)
}

func (w *writer) transition(t *engine.Transition, now entry.Instant) {
	line, err := t.MarshalJSON()
	if err != nil && w.err == nil {
		w.err = err
	}
	key := w.key(t.Rule, t.StateKey())
	w.exec("INSERT INTO transitions(at, change, alert, key, severity, written, line, untold) VALUES(?, ?, ?, ?, "+
		"?, ?, ?, ?)",
		int64(t.At), t.Change, t.Alert, key, int(t.Severity), int64(now), string(line), string(t.Untold))
	switch t.Change {
	case engine.Raised:
		w.exec("INSERT OR REPLACE INTO alerts(alert, key, raised, severity, count) VALUES(?, ?, ?, ?, ?)", t.Alert,
			key, int64(t.At), int(t.Severity), t.Count)
	case engine.Taken, engine.Noted, engine.Hushed, engine.Unhushed: // what people did changes no number
	case engine.Cleared:
		w.exec("UPDATE alerts SET cleared = ?, why = ?, count = ? WHERE alert = ?", int64(t.At), t.Why, t.Count,
			t.Alert)
	default:
		w.exec("UPDATE alerts SET severity = max(severity, ?), count = ? WHERE alert = ?", int(t.Severity), t.Count,
			t.Alert)
	}
}
