// Package store keeps what must outlive the process, in one SQLite database in
// the data folder: positions, the engine's state, alerts, transitions, evidence,
// and the counts that the screens draw. What a batch did comes in as one Batch
// and is one transaction; questions of the screens are answered from the tables.
package store

import (
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"dimlantern/core/entry"
)

// Bucket is the width of the buckets that hits and entries are counted in.
const Bucket = 10 * time.Second

// BucketOf is the bucket of an instant.
func BucketOf(t entry.Instant) int64 {
	n := int64(t) / int64(Bucket)
	if int64(t)%int64(Bucket) < 0 {
		n--
	}
	return n
}

const schemaVersion = 6

const schema = `
CREATE TABLE IF NOT EXISTS meta(name TEXT PRIMARY KEY, value BLOB) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS journal(seq INTEGER PRIMARY KEY, data BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS sources(name TEXT PRIMARY KEY, first_seen INTEGER NOT NULL) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS places(source TEXT, series TEXT, data BLOB NOT NULL, PRIMARY KEY(source, series))
	WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS keys(id INTEGER PRIMARY KEY, rule TEXT NOT NULL, key TEXT NOT NULL, UNIQUE(rule, key));
CREATE TABLE IF NOT EXISTS origins(id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE,
	source TEXT NOT NULL DEFAULT '', series TEXT NOT NULL DEFAULT '');
CREATE TABLE IF NOT EXISTS transitions(
  seq INTEGER PRIMARY KEY, at INTEGER NOT NULL, change TEXT NOT NULL, alert TEXT NOT NULL, key INTEGER NOT NULL,
  severity INTEGER NOT NULL, written INTEGER NOT NULL, line TEXT NOT NULL, untold TEXT NOT NULL DEFAULT '');
CREATE INDEX IF NOT EXISTS transitions_at ON transitions(at);
CREATE INDEX IF NOT EXISTS transitions_alert ON transitions(alert);
CREATE TABLE IF NOT EXISTS alerts(
  alert TEXT PRIMARY KEY, key INTEGER NOT NULL, raised INTEGER NOT NULL, cleared INTEGER, why TEXT,
	severity INTEGER NOT NULL, count INTEGER NOT NULL) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS alerts_cleared ON alerts(cleared);
CREATE TABLE IF NOT EXISTS hits(
  seq INTEGER PRIMARY KEY, key INTEGER NOT NULL, at INTEGER NOT NULL, recovery INTEGER NOT NULL,
  origin INTEGER NOT NULL, place INTEGER NOT NULL, text TEXT NOT NULL, skew INTEGER NOT NULL DEFAULT 0);
CREATE INDEX IF NOT EXISTS hits_key ON hits(key, at);
CREATE TABLE IF NOT EXISTS marks(key INTEGER, bucket INTEGER, n INTEGER NOT NULL, PRIMARY KEY(key, bucket))
	WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS marks_bucket ON marks(bucket, key);
CREATE TABLE IF NOT EXISTS tide(bucket INTEGER, origin INTEGER, n INTEGER NOT NULL, bytes INTEGER NOT NULL DEFAULT 0,
	PRIMARY KEY(bucket,
	origin)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS around(alert TEXT PRIMARY KEY, lines BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS up(seq INTEGER PRIMARY KEY, written INTEGER NOT NULL, sum TEXT NOT NULL, prev TEXT NOT NULL,
	facts BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS held(host TEXT, seq INTEGER, body BLOB NOT NULL, PRIMARY KEY(host, seq)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS kept(
  path TEXT PRIMARY KEY, source TEXT NOT NULL, host TEXT NOT NULL, way TEXT NOT NULL, first INTEGER NOT NULL,
	last INTEGER NOT NULL,
  entries INTEGER NOT NULL, bytes INTEGER NOT NULL) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS blind(origin INTEGER, since INTEGER, until INTEGER, words TEXT NOT NULL,
	PRIMARY KEY(origin, since)) WITHOUT ROWID;
`

// Store is an open database. One goroutine writes; any may ask.
type Store struct {
	Path   string
	db     *sql.DB // the writer's, one connection
	ask    *sql.DB
	points *sql.DB // makes checkpoints
	// writing is held by who writes, and by a checkpoint that lets nobody write meanwhile.
	writing sync.Mutex
	ready   map[string]*sql.Stmt // the writer's statements, prepared once
	known   map[string]bool      // sources that have been seen
	marks   recent[Mark]
	flow    recent[Tick] // of all origins together
	flows   recent[Tick]
	names   struct {
		mu   sync.Mutex
		by   map[int64]Key
		upTo int64
	}
	keys    map[string]int64
	origins map[string]int64
	seq     int64
	file    os.FileInfo // the database's, as it was opened
	// Damage is what became of the database that was here before; nil where it is as it was
	// left.
	Damage *Damage
	late   atomic.Int64 // see Late
}

// Open opens the database in a data folder, and makes it where there is none. One that is
// damaged, or has gone, is never begun anew in silence: Damage says what became of it.
func Open(dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder %s cannot be made: %w", dir, err)
	}
	path := filepath.Join(dir, "lantern.db")
	found := look(dir, path)
	if found == nil {
		s, err := openAt(path)
		if err == nil || !damaged(err) {
			if err == nil {
				err = mark(dir)
			}
			return s, err
		}
		found = &Damage{What: path + " is damaged (" + err.Error() + ")"}
	}
	var err error
	if found.Aside, err = setAside(dir, path, time.Now()); err != nil {
		return nil, fmt.Errorf("the database %s, and it cannot be set aside: %w", found.What, err)
	}
	s, err := openAt(path)
	if err != nil {
		return nil, err
	}
	s.Damage = found
	if found.Aside != "" {
		if found.Rows = s.salvage(found.Aside); found.Rows > 0 {
			err = s.prepare()
		}
	}
	return s, errors.Join(err, mark(dir))
}

// patience is how long others may look into the database before it is said that it cannot be used.
const patience = 10 * time.Second

// busy tells whether somebody else holds the database just now: how it is written cannot be said
// meanwhile, and that does not wait by itself.
func busy(err error) bool {
	var e *sqlite.Error
	return errors.As(err, &e) && e.Code()&0xff == sqlite3.SQLITE_BUSY
}

func openAt(path string) (*Store, error) {
	s := &Store{Path: path, keys: map[string]int64{}, origins: map[string]int64{}, known: map[string]bool{},
		ready: map[string]*sql.Stmt{}}
	s.marks = recent[Mark]{load: s.readMarks, bucketOf: func(m *Mark) int64 { return m.Bucket }}
	s.flow = recent[Tick]{load: s.readFlow, bucketOf: func(t *Tick) int64 { return t.Bucket }}
	s.flows = recent[Tick]{load: s.readFlows, bucketOf: func(t *Tick) int64 { return t.Bucket }}
	// Nobody else may read it: what is beside it gets the same rights.
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the database %s cannot be used: %w", path, err)
	}
	f.Close()
	if s.db, err = sql.Open("sqlite", dsn(path, false)); err != nil {
		return nil, err
	}
	s.db.SetMaxOpenConns(1)
	err = s.prepare()
	for began := time.Now(); busy(err) && time.Since(began) < patience; err = s.prepare() {
		time.Sleep(10 * time.Millisecond) // somebody looks into it just now
	}
	if err != nil {
		s.db.Close()
		return nil, fmt.Errorf("the database %s cannot be used: %w", path, err)
	}
	if s.ask, err = sql.Open("sqlite", dsn(path, true)); err != nil {
		s.db.Close()
		return nil, err
	}
	s.ask.SetMaxOpenConns(4)
	// A checkpoint gives up soon where others are in its way, so that the writer does not wait for them.
	points := strings.Replace(dsn(path, false), "busy_timeout(10000)", "busy_timeout(50)", 1)
	if s.points, err = sql.Open("sqlite", points); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	s.points.SetMaxOpenConns(1)
	s.file, err = os.Stat(path)
	return s, err
}

// OpenToRead opens an existing database to ask it only, beside a service that
// may be writing.
func OpenToRead(dir string) (*Store, error) {
	path := filepath.Join(dir, "lantern.db")
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("there is no data in %s: no service has run there yet", dir)
	}
	ask, err := sql.Open("sqlite", dsn(path, true))
	if err != nil {
		return nil, err
	}
	tables := 0
	err = ask.QueryRow("SELECT count(*) FROM sqlite_schema WHERE name = 'transitions'").Scan(&tables)
	if err == nil && tables == 0 {
		err = fmt.Errorf("there is no data in %s yet: a service is just beginning there", dir)
	}
	if err != nil {
		return nil, errors.Join(err, ask.Close())
	}
	return &Store{Path: path, ask: ask}, nil
}

func dsn(path string, read bool) string {
	escaped := strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(path)
	s := "file:" + escaped + "?_pragma=busy_timeout(10000)&_pragma=synchronous(normal)&_pragma=temp_store(memory)"
	if read { // how it is written is the writer's to say, for which nobody else may look
		return s + "&_pragma=query_only(1)"
	}
	// Checkpoints wait for the disk; Checkpoint makes them beside the writer.
	return s + "&_pragma=journal_mode(wal)&_pragma=wal_autocheckpoint(0)&_pragma=cache_size(-8000)"
}

func (s *Store) prepare() error {
	var version int
	if err := s.db.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		return err
	}
	if version > schemaVersion {
		return fmt.Errorf("it was written by a newer version of Dim Lantern (its form is %d, this one knows "+
			"up to %d)", version, schemaVersion)
	}
	for _, x := range []struct{ table, column, as, then string }{ // what earlier forms had not
		{"hits", "skew", "INTEGER NOT NULL DEFAULT 0", ""},
		{"tellings", "severity", "INTEGER NOT NULL DEFAULT 0", ""},
		{"messages", "severity", "INTEGER NOT NULL DEFAULT 0", ""},
		{"messages", "alert", "TEXT NOT NULL DEFAULT ''", ""},
		{"tide", "bytes", "INTEGER NOT NULL DEFAULT 0", ""},
		{"transitions", "untold", "TEXT NOT NULL DEFAULT ''",
			"UPDATE transitions SET untold = coalesce(json_extract(line, '$.untold'), '')"},
	} {
		columns, err := column[string](s.db, "SELECT name FROM pragma_table_info(?)", x.table)
		if err == nil && len(columns) > 0 && !slices.Contains(columns, x.column) {
			_, err = s.db.Exec("ALTER TABLE " + x.table + " ADD COLUMN " + x.column + " " + x.as + ";" + x.then)
		}
		if err != nil {
			return err
		}
	}
	if _, err := s.db.Exec(schema + actionsSchema + outboxSchema + outSchema +
		fmt.Sprintf("PRAGMA user_version=%d", schemaVersion)); err != nil {
		return err
	}
	if err := s.load("SELECT id, rule || char(0) || key FROM keys", s.keys); err != nil {
		return err
	}
	if err := s.load("SELECT id, name FROM origins", s.origins); err != nil {
		return err
	}
	seen := map[string]int64{}
	if err := s.load("SELECT 1, name FROM sources", seen); err != nil {
		return err
	}
	for n := range seen {
		s.known[n] = true
	}
	return s.db.QueryRow("SELECT coalesce(max(seq), 0) FROM journal").Scan(&s.seq)
}

func (s *Store) load(query string, into map[string]int64) error {
	rows, err := s.db.Query(query)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var name string
		if err := rows.Scan(&id, &name); err != nil {
			return err
		}
		into[name] = id
	}
	return rows.Err()
}

// Waiting is how many bytes the log of writes has, moved into the database file already or
// not; 0 where that cannot be found out.
func (s *Store) Waiting() int64 {
	info, err := os.Stat(s.Path + "-wal")
	if err != nil {
		return 0
	}
	return info.Size()
}

// longLog is how long the log of writes may get before the writer has to wait for a moment, in bytes. Tests make it
// shorter.
var longLog = int64(64 << 20)

// Checkpoint moves what was committed from the log of writes into the database file, without keeping the writer from
// going on. It may be called beside it. A writer that never rests would let the log grow without end, since it can only
// be begun anew where all of it was moved: one that has grown long is cut while the writer waits for what little has
// come meanwhile.
func (s *Store) Checkpoint() error {
	_, err := s.points.Exec("PRAGMA wal_checkpoint(PASSIVE)")
	if err != nil || s.Waiting() < longLog {
		return err
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	var busy, pages, moved int
	return s.points.QueryRow("PRAGMA wal_checkpoint(TRUNCATE)").Scan(&busy, &pages, &moved)
}

// Close closes the database.
func (s *Store) Close() error {
	var err error
	if s.points != nil {
		err = s.points.Close()
	}
	if s.db != nil {
		err = errors.Join(err, s.db.Close())
	}
	forgetStatements(s.db)
	forgetStatements(s.ask)
	return errors.Join(err, s.ask.Close())
}

// Knows tells whether a source has been seen before. It belongs to the writer.
func (s *Store) Knows(source string) bool { return s.known[source] }

// Trim lets go of evidence beyond what is kept of each key, and of counts from
// before an instant.
func (s *Store) Trim(keys map[int64]int, before entry.Instant) error {
	tx, err := s.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for key := range keys {
		if _, err := tx.Exec("DELETE FROM hits WHERE key = ? AND (at, seq) <= (SELECT at, seq FROM hits WHERE "+
			"key = ? ORDER BY at DESC, seq DESC LIMIT 1 OFFSET ?)", key, key, perKey); err != nil {
			return err
		}
	}
	went := int64(0)
	for _, q := range []string{"DELETE FROM tide WHERE bucket < ?", "DELETE FROM marks WHERE bucket < ?"} {
		r, err := tx.Exec(q, BucketOf(before))
		if err != nil {
			return err
		}
		n, _ := r.RowsAffected() // the driver knows it always
		went += n
	}
	if went > 0 {
		defer s.marks.forget()
		defer s.flow.forget()
		defer s.flows.forget()
	}
	return tx.Commit()
}

// Patience sets how long a commit waits for another writer; it is 10 s at first.
func (s *Store) Patience(d time.Duration) error {
	_, err := s.db.Exec(fmt.Sprintf("PRAGMA busy_timeout = %d", d.Milliseconds()))
	return err
}
