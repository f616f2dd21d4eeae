package store

import (
	"database/sql"
	"encoding/json"
	"sync"
	"time"

	"dimlantern/intake/spool"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
)

// Meta returns a kept value, or nil.
func (s *Store) Meta(name string) ([]byte, error) {
	var v []byte
	err := s.ask.QueryRow("SELECT value FROM meta WHERE name = ?", name).Scan(&v)
	if err == sql.ErrNoRows {
		return nil, nil
	}
	return v, err
}

// Journal returns the engine's inputs since the snapshot, in their order.
func (s *Store) Journal() ([][]byte, error) {
	return column[[]byte](s.ask, "SELECT data FROM journal ORDER BY seq")
}

// PlaceOf returns the kept place of an origin, or nil.
func (s *Store) PlaceOf(source, series string) []byte {
	var v []byte
	if s.ask.QueryRow("SELECT data FROM places WHERE source = ? AND series = ?", source, series).Scan(&v) != nil {
		return nil
	}
	return v
}

// FirstSeen is when a source was first seen; None where it was not yet.
func (s *Store) FirstSeen(source string) entry.Instant {
	var at int64
	if s.ask.QueryRow("SELECT first_seen FROM sources WHERE name = ?", source).Scan(&at) != nil {
		return entry.None
	}
	return entry.Instant(at)
}

// SeriesOf are the series of a source of which places are kept.
func (s *Store) SeriesOf(source string) []string {
	list, _ := column[string](s.ask, "SELECT series FROM places WHERE source = ? ORDER BY series", source)
	return list
}

// column reads the only column of a query.
func column[T any](db *sql.DB, query string, args ...any) ([]T, error) {
	return rows(db, func(r *sql.Rows) (v T, err error) { return v, r.Scan(&v) }, query, args...)
}

// statement is a query of a database, prepared once.
type statement struct {
	db    *sql.DB
	query string
}

// statements are all that were prepared; there are few different ones.
var statements sync.Map // statement → *sql.Stmt

func prepared(db *sql.DB, query string) (*sql.Stmt, error) {
	key := statement{db, query}
	if s, known := statements.Load(key); known {
		return s.(*sql.Stmt), nil
	}
	s, err := db.Prepare(query)
	if err != nil {
		return nil, err
	}
	if had, known := statements.LoadOrStore(key, s); known {
		s.Close()
		return had.(*sql.Stmt), nil
	}
	return s, nil
}

// forgetStatements lets go of the statements of a database that is closed.
func forgetStatements(db *sql.DB) {
	statements.Range(func(k, s any) bool {
		if k.(statement).db == db {
			s.(*sql.Stmt).Close()
			statements.Delete(k)
		}
		return true
	})
}

// rows reads all rows of a query.
func rows[T any](db *sql.DB, scan func(*sql.Rows) (T, error), query string, args ...any) ([]T, error) {
	stmt, err := prepared(db, query)
	if err != nil {
		return nil, err
	}
	r, err := stmt.Query(args...)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var out []T
	for r.Next() {
		v, err := scan(r)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, r.Err()
}

// Lines calls visit with the kept transitions after seq and not before from, as
// JSON, in the order in which they were made.
func (s *Store) Lines(after int64, from entry.Instant, visit func(seq int64, line string)) error {
	r, err := s.ask.Query("SELECT seq, line FROM transitions WHERE seq > ? AND at >= ? ORDER BY seq", after,
		int64(from))
	if err != nil {
		return err
	}
	defer r.Close()
	for r.Next() {
		var seq int64
		var line string
		if err := r.Scan(&seq, &line); err != nil {
			return err
		}
		visit(seq, line)
	}
	return r.Err()
}

// Alert is an alert as the tables know it.
type Alert struct {
	Alert    string
	KeyID    int64
	Rule     string
	Key      []string
	Raised   entry.Instant
	Cleared  entry.Instant // None while it is open
	Why      string        // of its clear
	Severity entry.Severity
	Count    int
}

// Alerts returns the alerts that were open at some time in [from, to], the
// newest first, at most 2,000.
func (s *Store) Alerts(from, to entry.Instant) ([]Alert, error) {
	return rows(s.ask, func(r *sql.Rows) (Alert, error) {
		var a Alert
		var key string
		var cleared sql.NullInt64
		var why sql.NullString
		err := r.Scan(&a.Alert, &a.KeyID, &a.Rule, &key, &a.Raised, &cleared, &why, &a.Severity, &a.Count)
		json.Unmarshal([]byte(key), &a.Key)
		a.Cleared, a.Why = entry.None, why.String
		if cleared.Valid {
			a.Cleared = entry.Instant(cleared.Int64)
		}
		return a, err
	}, `SELECT alert, a.key, k.rule, k.key, raised, cleared, why, severity, count FROM alerts a
		JOIN keys k ON k.id = a.key
		WHERE raised <= ? AND (cleared IS NULL OR cleared >= ?) ORDER BY cleared IS NOT NULL,
			raised DESC LIMIT 2000`, int64(to), int64(from))
}

// scanTransition reads a kept transition: its line, and its instant as exactly as it was.
func scanTransition(r *sql.Rows) (t engine.Transition, err error) {
	var at entry.Instant
	var line []byte
	if err = r.Scan(&at, &line); err == nil {
		err = json.Unmarshal(line, &t)
		t.At = at
	}
	return t, err
}

// Changes returns the transitions of an alert, oldest first.
func (s *Store) Changes(alert string) ([]engine.Transition, error) {
	return rows(s.ask, scanTransition, "SELECT at, line FROM transitions WHERE alert = ? ORDER BY seq", alert)
}

// Around are the lines around the hits of an alert, as they were kept; nil where none
// were.
func (s *Store) Around(alert string) []byte {
	var b []byte
	if s.ask.QueryRow("SELECT lines FROM around WHERE alert = ?", alert).Scan(&b) != nil {
		return nil
	}
	return b
}

// bareLooked is how many of the newest transitions are looked at for alerts around
// whose hits no lines are kept.
const bareLooked = 5000

// Bare returns the newest raises of open alerts around whose hits no lines are kept.
func (s *Store) Bare() ([]engine.Transition, error) {
	return rows(s.ask, scanTransition, `SELECT t.at, t.line FROM transitions t JOIN alerts a ON a.alert = t.alert
		WHERE t.seq > (SELECT coalesce(max(seq), 0) FROM transitions) - ? AND t.change = 'raised' AND a.cleared IS NULL
		AND NOT EXISTS (SELECT 1 FROM around r WHERE r.alert = t.alert) ORDER BY t.seq DESC LIMIT 500`, bareLooked)
}

// KeptOf sums up what is kept of an origin.
func (s *Store) KeptOf(o spool.Origin) (entries, bytes int64, first entry.Instant) {
	s.ask.QueryRow("SELECT coalesce(sum(entries), 0), coalesce(sum(bytes), 0), coalesce(min(first), 0) FROM kept "+
		"WHERE source = ? AND host = ? AND way = ?",
		o.Source, o.Host, o.Way).Scan(&entries, &bytes, &first)
	return entries, bytes, first
}

// Step is a change of an alert's severity.
type Step struct {
	Alert    string
	At       entry.Instant
	Severity entry.Severity
}

// Steps returns the raises and worsenings of the alerts that were open at some
// time in [from, to], oldest first.
func (s *Store) Steps(from, to entry.Instant) ([]Step, error) {
	return rows(s.ask, func(r *sql.Rows) (x Step, err error) {
		return x, r.Scan(&x.Alert, &x.At, &x.Severity)
	}, `SELECT t.alert, t.at, t.severity FROM transitions t JOIN alerts a ON a.alert = t.alert
		WHERE t.change IN ('raised', 'worsened') AND a.raised <= ? AND (a.cleared IS NULL OR a.cleared >= ?)
			ORDER BY t.seq`, int64(to), int64(from))
}

// Mark counts the hits of a key in a bucket.
type Mark struct {
	KeyID  int64
	Bucket int64
	N      int
}

// Marks returns the hits of all keys in the buckets [from, to].
func (s *Store) Marks(from, to int64) ([]Mark, error) {
	return s.marks.in(from, to)
}

func (s *Store) readMarks(from, to int64) ([]Mark, error) {
	return rows(s.ask, func(r *sql.Rows) (m Mark, err error) {
		return m, r.Scan(&m.KeyID, &m.Bucket, &m.N)
	}, "SELECT key, bucket, n FROM marks WHERE bucket BETWEEN ? AND ? LIMIT 500000", from, to)
}

// Key is a key of a rule.
type Key struct {
	ID   int64
	Rule string
	Key  []string
}

// KeysOf returns the keys of which marks are, each once.
func (s *Store) KeysOf(marks []Mark) ([]Key, error) {
	s.names.mu.Lock()
	defer s.names.mu.Unlock()
	var out []Key
	seen := map[int64]bool{}
	for _, m := range marks {
		if seen[m.KeyID] {
			continue
		}
		seen[m.KeyID] = true
		k, known := s.names.by[m.KeyID]
		if !known { // all of them are read at once
			if err := s.readNames(); err != nil {
				return nil, err
			}
			if k, known = s.names.by[m.KeyID]; !known {
				continue
			}
		}
		out = append(out, k)
	}
	return out, nil
}

// readNames reads the keys that are not known yet. The caller holds the lock.
func (s *Store) readNames() error {
	list, err := rows(s.ask, func(r *sql.Rows) (Key, error) {
		var k Key
		var key string
		err := r.Scan(&k.ID, &k.Rule, &key)
		json.Unmarshal([]byte(key), &k.Key)
		return k, err
	}, "SELECT id, rule, key FROM keys WHERE id > ?", s.names.upTo)
	if err != nil {
		return err
	}
	if s.names.by == nil {
		s.names.by = map[int64]Key{}
	}
	for _, k := range list {
		s.names.by[k.ID] = k
		s.names.upTo = max(s.names.upTo, k.ID)
	}
	return nil
}

// KeyID returns the id of a key, or 0.
func (s *Store) KeyID(rule string, key []string) int64 {
	k, _ := json.Marshal(key)
	var id int64
	s.ask.QueryRow("SELECT id FROM keys WHERE rule = ? AND key = ?", rule, string(k)).Scan(&id)
	return id
}

// HasHit tells whether a hit of a key is noted that one entry was: of an own time, at a place of an origin, with a text
// as it is noted.
func (s *Store) HasHit(h *Hit) (bool, error) {
	key, _ := json.Marshal(h.Key)
	list, err := rows(s.ask, func(r *sql.Rows) (n int, err error) { return n, r.Scan(&n) },
		`SELECT 1 FROM hits WHERE key = (SELECT id FROM keys WHERE rule = ? AND key = ?) AND at = ? AND place = ? AND
		origin = (SELECT id FROM origins WHERE name = ?) AND text = ? AND NOT recovery LIMIT 1`, h.Rule, string(key),
		int64(h.At), h.Offset, h.Origin, h.Text)
	return len(list) > 0, err
}

// HitsOf returns the newest hits and recoveries of a key up to an instant,
// newest first.
func (s *Store) HitsOf(key int64, to entry.Instant, limit int) ([]Hit, error) {
	return rows(s.ask, func(r *sql.Rows) (h Hit, err error) {
		return h, r.Scan(&h.At, &h.Recovery, &h.Origin, &h.Offset, &h.Text, &h.Skew)
	}, `SELECT at, recovery, o.name, place, text, skew FROM hits h JOIN origins o ON o.id = h.origin
		WHERE key = ? AND at <= ? ORDER BY at DESC, seq DESC LIMIT ?`, key, int64(to), limit)
}

// HitsFrom returns the newest hits and recoveries that an origin had up to an instant, each
// entry once, newest first.
func (s *Store) HitsFrom(origin string, to entry.Instant, limit int) ([]Hit, error) {
	return rows(s.ask, func(r *sql.Rows) (h Hit, err error) {
		h.Origin = origin
		return h, r.Scan(&h.At, &h.Recovery, &h.Offset, &h.Text, &h.Skew)
	}, `SELECT at, min(recovery), place, text, max(skew) FROM hits WHERE
		origin = (SELECT id FROM origins WHERE name = ?) AND at <= ?
		GROUP BY at, place, text ORDER BY at DESC, max(seq) DESC LIMIT ?`, origin, int64(to), limit)
}

// SlotsOf returns in which slots of time, counted from 1970, a rule had hits from an
// instant on, in order.
func (s *Store) SlotsOf(rule string, from entry.Instant, width time.Duration) ([]int64, error) {
	return rows(s.ask, func(r *sql.Rows) (n int64, err error) { return n, r.Scan(&n) },
		"SELECT DISTINCT bucket / ? FROM marks WHERE key IN (SELECT id FROM keys WHERE rule = ?) AND bucket >= ? "+
			"ORDER BY 1", int64(width/Bucket), rule, BucketOf(from))
}

// Flow returns how many entries arrived in the buckets [from, to].
func (s *Store) Flow(from, to int64) (map[int64]int64, error) {
	out := map[int64]int64{}
	list, err := s.flow.in(from, to)
	for _, t := range list {
		out[t.Bucket] += t.N
	}
	return out, err
}

func (s *Store) readFlow(from, to int64) ([]Tick, error) {
	return rows(s.ask, func(r *sql.Rows) (t Tick, err error) { return t, r.Scan(&t.Bucket, &t.N) },
		"SELECT bucket, sum(n) FROM tide WHERE bucket BETWEEN ? AND ? GROUP BY bucket", from, to)
}

// Turn is when the last transition was made before an instant, or the first one behind it: of a key of a
// rule, of a rule where the key is nil, or of all where the rule is ""; None where there is none.
func (s *Store) Turn(rule string, key []string, at entry.Instant, after bool) (entry.Instant, error) {
	what, order := "max(at)", "at < ?"
	if after {
		what, order = "min(at)", "at > ?"
	}
	args := []any{int64(at)}
	of := ""
	switch {
	case rule != "" && key != nil:
		of, args = " AND key = ?", append(args, s.KeyID(rule, key))
	case rule != "":
		of, args = " AND key IN (SELECT id FROM keys WHERE rule = ?)", append(args, rule)
	}
	var v sql.NullInt64
	err := s.ask.QueryRow("SELECT "+what+" FROM transitions WHERE "+order+of, args...).Scan(&v)
	if err != nil || !v.Valid {
		return entry.None, err
	}
	return entry.Instant(v.Int64), nil
}

// StillOpen is how many of the newest buckets get entries that have just come.
const StillOpen = 6

// Late counts the commits with entries of older buckets than those: what was counted of the
// past holds as long as it stays the same.
func (s *Store) Late() int64 { return s.late.Load() }

// Flows returns how many entries of each origin arrived in the buckets [from, to].
func (s *Store) Flows(from, to int64) (map[string][]Tick, error) {
	out := map[string][]Tick{}
	list, err := s.flows.in(from, to)
	for _, t := range list {
		out[t.Origin] = append(out[t.Origin], t)
	}
	return out, err
}

func (s *Store) readFlows(from, to int64) ([]Tick, error) {
	return rows(s.ask, func(r *sql.Rows) (t Tick, err error) {
		return t, r.Scan(&t.Origin, &t.Bucket, &t.N, &t.Bytes)
	},
		"SELECT o.name, bucket, n, bytes FROM tide t JOIN origins o ON o.id = t.origin "+
			"WHERE bucket BETWEEN ? AND ?", from, to)
}

// Dark is a time in which an origin could not be seen.
type Dark struct {
	Origin string
	Since  entry.Instant
	Until  entry.Instant // None while it lasts
	Words  string
}

// Darks returns the times in [from, to] in which origins could not be seen.
func (s *Store) Darks(from, to entry.Instant) ([]Dark, error) {
	return rows(s.ask, func(r *sql.Rows) (Dark, error) {
		var d Dark
		var until sql.NullInt64
		err := r.Scan(&d.Origin, &d.Since, &until, &d.Words)
		d.Until = entry.None
		if until.Valid {
			d.Until = entry.Instant(until.Int64)
		}
		return d, err
	}, `SELECT o.name, since, until, words FROM blind b JOIN origins o ON o.id = b.origin
		WHERE since <= ? AND (until IS NULL OR until >= ?)`, int64(to), int64(from))
}

// OriginsOf returns the origins that gave a key its kept hits.
func (s *Store) OriginsOf(key int64) ([]string, error) {
	return column[string](s.ask, "SELECT DISTINCT o.name FROM hits h JOIN origins o ON o.id = h.origin WHERE key = ?",
		key)
}

// First is when the first entries arrived that are counted; None where none are.
func (s *Store) First() entry.Instant {
	var v sql.NullInt64
	s.ask.QueryRow("SELECT min(bucket) FROM tide").Scan(&v)
	if !v.Valid {
		return entry.None
	}
	return entry.Instant(v.Int64 * int64(Bucket))
}

// Grown returns the keys that hold more evidence than is kept of one.
func (s *Store) Grown() (map[int64]int, error) {
	list, err := column[int64](s.ask, "SELECT key FROM hits GROUP BY key HAVING count(*) > ?", perKey+perKey/2)
	out := map[int64]int{}
	for _, k := range list {
		out[k] = 1
	}
	return out, err
}

// HitsSince returns how many hits each rule had from a bucket on.
func (s *Store) HitsSince(bucket int64) (map[string]int64, error) {
	out := map[string]int64{}
	type hits struct {
		rule string
		n    int64
	}
	list, err := rows(s.ask, func(r *sql.Rows) (x hits, err error) { return x, r.Scan(&x.rule, &x.n) },
		"SELECT k.rule, sum(n) FROM marks m JOIN keys k ON k.id = m.key WHERE bucket >= ? GROUP BY k.rule", bucket)
	for _, x := range list {
		out[x.rule] = x.n
	}
	return out, err
}

// AlertOf returns an alert as the tables know it.
func (s *Store) AlertOf(id string) (Alert, bool) {
	var a Alert
	var key string
	var cleared sql.NullInt64
	var why sql.NullString
	err := s.ask.QueryRow("SELECT alert, a.key, k.rule, k.key, raised, cleared, why, severity, count FROM alerts "+
		"a JOIN keys k ON k.id = a.key WHERE alert = ?", id).
		Scan(&a.Alert, &a.KeyID, &a.Rule, &key, &a.Raised, &cleared, &why, &a.Severity, &a.Count)
	json.Unmarshal([]byte(key), &a.Key)
	a.Cleared, a.Why = entry.None, why.String
	if cleared.Valid {
		a.Cleared = entry.Instant(cleared.Int64)
	}
	return a, err == nil
}
