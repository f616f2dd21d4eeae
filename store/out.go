package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"io/fs"
	"os"

	"dimlantern/core/entry"
	"dimlantern/core/measure"
)

// What goes out to others: series of measures, how far deliveries have come, and results of reports.
const outSchema = `
CREATE TABLE IF NOT EXISTS series(measure TEXT, labels TEXT, form TEXT NOT NULL, state BLOB NOT NULL,
	PRIMARY KEY(measure, labels)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS deliveries(name TEXT PRIMARY KEY, data BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS delivered(delivery TEXT, source TEXT, series TEXT, number INTEGER NOT NULL,
	data BLOB NOT NULL, PRIMARY KEY(delivery, source, series)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS files(delivery TEXT, path TEXT, data BLOB NOT NULL, PRIMARY KEY(delivery, path))
	WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS results(report TEXT, due INTEGER, made INTEGER NOT NULL, data BLOB NOT NULL,
	PRIMARY KEY(report, due)) WITHOUT ROWID;
`

// Series are the series of measures as they were kept.
func (s *Store) Series() ([]measure.Row, error) {
	return rows(s.ask, func(r *sql.Rows) (x measure.Row, err error) {
		return x, r.Scan(&x.Measure, &x.Labels, &x.Form, &x.State)
	}, "SELECT measure, labels, form, state FROM series")
}

// series keeps rows of measures.
func (w *writer) series(list []measure.Row) {
	for _, x := range list {
		if x.State == nil {
			w.exec("DELETE FROM series WHERE measure = ? AND labels = ? AND form = ?", x.Measure, x.Labels, x.Form)
		} else {
			w.exec("INSERT OR REPLACE INTO series(measure, labels, form, state) VALUES(?, ?, ?, ?)", x.Measure,
				x.Labels, x.Form, x.State)
		}
	}
}

// Cursor is how far a delivery has come in an origin.
type Cursor struct {
	Source, Series string
	Number         int64 // of the last entry that was handed over
	Data           []byte
}

// OutFile is a file that a delivery writes.
type OutFile struct {
	Path string
	Data []byte // nil: it is no longer written
}

// Delivered is what is kept when entries of a delivery have been handed over.
type Delivered struct {
	Name    string
	Data    []byte // of the delivery as a whole
	Cursors []Cursor
	Files   []OutFile
}

// Deliver keeps how far a delivery has come, as a whole or not at all. It may be called concurrently.
func (s *Store) Deliver(d *Delivered) error {
	return s.inTx(func(tx *sql.Tx) error {
		if _, err := tx.Exec("INSERT OR REPLACE INTO deliveries(name, data) VALUES(?, ?)", d.Name, d.Data); err != nil {
			return err
		}
		for _, c := range d.Cursors {
			if _, err := tx.Exec("INSERT OR REPLACE INTO delivered(delivery, source, series, number, data) "+
				"VALUES(?, ?, ?, ?, ?)", d.Name, c.Source, c.Series, c.Number, c.Data); err != nil {
				return err
			}
		}
		return putFiles(tx, d)
	})
}

// DeliverFiles keeps which files a delivery writes, and nothing besides.
func (s *Store) DeliverFiles(d *Delivered) error {
	return s.inTx(func(tx *sql.Tx) error { return putFiles(tx, d) })
}

func putFiles(tx *sql.Tx, d *Delivered) error {
	for _, f := range d.Files {
		var err error
		if f.Data == nil {
			_, err = tx.Exec("DELETE FROM files WHERE delivery = ? AND path = ?", d.Name, f.Path)
		} else {
			_, err = tx.Exec("INSERT OR REPLACE INTO files(delivery, path, data) VALUES(?, ?, ?)", d.Name, f.Path,
				f.Data)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Delivery is how far a delivery has come; nil Data where it has never handed anything over.
func (s *Store) Delivery(name string) (*Delivered, error) {
	d := &Delivered{Name: name}
	err := s.ask.QueryRow("SELECT data FROM deliveries WHERE name = ?", name).Scan(&d.Data)
	if err != nil && err != sql.ErrNoRows {
		return nil, err
	}
	d.Cursors, err = rows(s.ask, func(r *sql.Rows) (c Cursor, err error) {
		return c, r.Scan(&c.Source, &c.Series, &c.Number, &c.Data)
	}, "SELECT source, series, number, data FROM delivered WHERE delivery = ?", name)
	if err != nil {
		return nil, err
	}
	d.Files, err = rows(s.ask, func(r *sql.Rows) (f OutFile, err error) {
		return f, r.Scan(&f.Path, &f.Data)
	}, "SELECT path, data FROM files WHERE delivery = ?", name)
	return d, err
}

// DropDelivery forgets how far a delivery has come.
func (s *Store) DropDelivery(name string) error {
	return s.inTx(func(tx *sql.Tx) error {
		for _, q := range []string{"DELETE FROM deliveries WHERE name = ?", "DELETE FROM delivered WHERE delivery = ?",
			"DELETE FROM files WHERE delivery = ?"} {
			if _, err := tx.Exec(q, name); err != nil {
				return err
			}
		}
		return nil
	})
}

// Deliveries are the names of all deliveries that have come somewhere.
func (s *Store) Deliveries() ([]string, error) {
	return column[string](s.ask, "SELECT name FROM deliveries ORDER BY name")
}

// Result is what came of a report that was due.
type Result struct {
	Report  string        `json:"report"`
	Due     entry.Instant `json:"due"`  // when it was, or when somebody asked for it
	Made    entry.Instant `json:"made"` // when it was made last
	From    entry.Instant `json:"from"` // the span that it covers
	To      entry.Instant `json:"to"`
	Asked   bool          `json:"asked,omitempty"` // by a person
	Empty   bool          `json:"empty,omitempty"`
	Skipped bool          `json:"skipped,omitempty"` // since it was empty
	Failed  string        `json:"failed,omitempty"`  // why
	Files   []ResultFile  `json:"files,omitempty"`
	Text    string        `json:"text,omitempty"`  // the file with its text
	Brief   string        `json:"brief,omitempty"` // the same in a few lines
	Told    []ToldWay     `json:"told,omitempty"`
	// Outs are where its forms are written besides, as that was settled.
	Outs     map[string]string `json:"outs,omitempty"`
	Finished bool              `json:"finished"` // all of it has been done, or will not be
	Tries    int               `json:"tries,omitempty"`
}

// ResultFile is a form of a result.
type ResultFile struct {
	Form string `json:"form"`
	Path string `json:"path"` // in the data folder
	Size int64  `json:"size"`
	Out  string `json:"out,omitempty"` // where it was written besides
}

// ToldWay is a contact that gets a result, and by which messages.
type ToldWay struct {
	Contact string `json:"contact"`
	Message string `json:"message"` // the group of its messages
}

// ToldAs is how a group of messages stands: their worst state, what was said last, and when it was told; "" is
// that there is none any more.
func (s *Store) ToldAs(group string) (state, words string, at entry.Instant) {
	s.ask.QueryRow("SELECT state, words, told FROM messages WHERE grp = ? ORDER BY state = 'told', state LIMIT 1",
		group).Scan(&state, &words, &at)
	return state, words, at
}

// PutMeta keeps a value under a name. It may be called concurrently.
func (s *Store) PutMeta(name string, value []byte) error {
	return s.inTx(func(tx *sql.Tx) error {
		_, err := tx.Exec("INSERT OR REPLACE INTO meta(name, value) VALUES(?, ?)", name, value)
		return err
	})
}

// PutResult keeps a result. It may be called concurrently.
func (s *Store) PutResult(r *Result) error {
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return s.inTx(func(tx *sql.Tx) error {
		_, err := tx.Exec("INSERT OR REPLACE INTO results(report, due, made, data) VALUES(?, ?, ?, ?)", r.Report,
			int64(r.Due), int64(r.Made), b)
		return err
	})
}

// Results are the results of a report, the newest first; those of all reports where it is "".
func (s *Store) Results(report string) ([]Result, error) {
	return rows(s.ask, func(r *sql.Rows) (x Result, err error) {
		var b []byte
		if err = r.Scan(&b); err == nil {
			err = json.Unmarshal(b, &x)
		}
		return x, err
	}, "SELECT data FROM results WHERE ? IN (report, '') ORDER BY due DESC, report", report)
}

// DropResult forgets a result.
func (s *Store) DropResult(report string, due entry.Instant) error {
	return s.inTx(func(tx *sql.Tx) error {
		_, err := tx.Exec("DELETE FROM results WHERE report = ? AND due = ?", report, int64(due))
		return err
	})
}

// KeptIn is how many entries a file of kept entries has; 0 where that is not known yet.
func (s *Store) KeptIn(path string) (entries int64) {
	s.ask.QueryRow("SELECT entries FROM kept WHERE path = ?", path).Scan(&entries)
	return entries
}

// WaitingMessages is how many messages wait to be told.
func (s *Store) WaitingMessages() (n int64, err error) {
	return n, s.ask.QueryRow("SELECT count(*) FROM messages WHERE state = 'waiting'").Scan(&n)
}

// Size is how many bytes the database takes on the disk.
func (s *Store) Size() (int64, error) {
	var bytes int64
	for _, path := range []string{s.Path, s.Path + "-wal"} {
		info, err := os.Stat(path)
		switch {
		case err == nil:
			bytes += info.Size()
		case !errors.Is(err, fs.ErrNotExist):
			return 0, err
		}
	}
	return bytes, nil
}
