package store

import (
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// Damage is what happened to a database that is not as it was left: it is begun anew, with
// what could still be read of it.
type Damage struct {
	What  string // in words, what was found
	Aside string // where the old one lies; "" where there is none
	Rows  int64  // that were taken over
}

func (d *Damage) Error() string {
	s := "the database " + d.What
	switch {
	case d.Aside == "":
		s += ": state and history begin anew"
	case d.Rows == 0:
		s += ": nothing of it can be read, so state and history begin anew; it lies at " + d.Aside
	default:
		s += fmt.Sprintf(": what can be read of it was taken over (%d rows), the rest begins anew; it lies at %s",
			d.Rows, d.Aside)
	}
	return s
}

// The files that say that a database was here, and that it is damaged.
const (
	markFile    = "lantern.id"
	damagedFile = "lantern.damaged"
)

// look says what is the matter with the database of a folder that was used before; nil
// where nothing is known to be.
func look(dir, path string) *Damage {
	if _, err := os.Stat(filepath.Join(dir, markFile)); err != nil {
		return nil
	}
	switch info, err := os.Stat(path); {
	case errors.Is(err, os.ErrNotExist):
		return &Damage{What: path + " is gone"}
	case err == nil && info.Size() == 0:
		return &Damage{What: path + " was emptied"}
	}
	if b, err := os.ReadFile(filepath.Join(dir, damagedFile)); err == nil {
		return &Damage{What: path + " is damaged (" + strings.TrimSpace(string(b)) + ")"}
	}
	return nil
}

// mark remembers that a database is here.
func mark(dir string) error {
	path := filepath.Join(dir, markFile)
	if _, err := os.Stat(path); err == nil {
		return nil
	}
	return os.WriteFile(path, []byte(rand.Text()+"\n"), 0o600)
}

// setAside gives a damaged database another name.
func setAside(dir, path string, now time.Time) (string, error) {
	aside := path + ".damaged-" + now.UTC().Format("20060102T150405")
	for _, end := range []string{"-wal", "-shm", ""} {
		if err := os.Rename(path+end, aside+end); err != nil && !errors.Is(err, os.ErrNotExist) {
			return "", err
		}
	}
	err := os.Remove(filepath.Join(dir, damagedFile))
	if errors.Is(err, os.ErrNotExist) {
		err = nil
	}
	if _, e := os.Stat(aside); e != nil {
		return "", err
	}
	return aside, err
}

// damaged tells whether an error says that a file is no database, or a damaged one.
func damaged(err error) bool {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return false
	}
	code := e.Code() & 0xff
	return code == sqlite3.SQLITE_CORRUPT || code == sqlite3.SQLITE_NOTADB
}

// Check looks at the whole database as it lies on the disk, beside the work, and says what
// is the matter with it; nil where nothing is.
func (s *Store) Check() *Damage {
	info, err := os.Stat(s.Path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return &Damage{What: s.Path + " was taken away while Dim Lantern runs"}
	case err != nil:
		return nil // it cannot be seen just now
	case s.file != nil && !os.SameFile(s.file, info):
		return &Damage{What: s.Path + " was put in the place of another while Dim Lantern runs"}
	case info.Size() == 0 && s.file != nil:
		return &Damage{What: s.Path + " was emptied while Dim Lantern runs"}
	}
	db, err := sql.Open("sqlite", dsn(s.Path, true))
	if err != nil {
		return nil
	}
	defer db.Close()
	list, err := column[string](db, "PRAGMA quick_check(1)")
	what := ""
	switch {
	case damaged(err):
		what = err.Error()
	case err == nil && len(list) > 0 && list[0] != "ok":
		what = list[0]
	default:
		return nil
	}
	what = strings.Join(strings.Fields(what), " ")
	// The next start begins anew with what can be read.
	os.WriteFile(filepath.Join(filepath.Dir(s.Path), damagedFile), []byte(what+"\n"), 0o600)
	return &Damage{What: s.Path + " is damaged (" + what + ")"}
}

// salvage takes over what can be read of a damaged database, and answers how many rows
// that were. The engine's state is taken whole or not at all.
func (s *Store) salvage(from string) int64 {
	db, err := sql.Open("sqlite", dsn(from, true))
	if err != nil {
		return 0
	}
	defer db.Close()
	tables, err := column[string](s.db, "SELECT name FROM sqlite_master WHERE type = 'table'")
	if err != nil {
		return 0
	}
	rows := int64(0)
	state := true
	for _, t := range tables {
		n, whole := s.salvageTable(db, t)
		rows += n
		if !whole && (t == "meta" || t == "journal" || t == "places") {
			state = false
		}
	}
	if !state {
		s.db.Exec("DELETE FROM journal")
		s.db.Exec("DELETE FROM meta WHERE name = 'snapshot'")
	}
	return rows
}

// salvageTable copies the rows of a table from both of its ends, as far as they can be read.
func (s *Store) salvageTable(from *sql.DB, table string) (n int64, whole bool) {
	mine, err := column[string](s.db, "SELECT name FROM pragma_table_info(?)", table)
	if err != nil {
		return 0, false
	}
	theirs, err := column[string](from, "SELECT name FROM pragma_table_info(?)", table)
	if err != nil || len(theirs) == 0 {
		return 0, false
	}
	columns := slices.DeleteFunc(mine, func(c string) bool { return !slices.Contains(theirs, c) })
	first, err := column[string](s.db, "SELECT name FROM pragma_table_info(?) WHERE pk = 1", table)
	if err != nil || len(first) == 0 {
		return 0, false
	}
	put := fmt.Sprintf("INSERT OR IGNORE INTO %s(%s) VALUES(?%s)", table, strings.Join(columns, ", "),
		strings.Repeat(", ?", len(columns)-1))
	whole = true
	for _, order := range []string{"ASC", "DESC"} {
		err := s.inTx(func(tx *sql.Tx) error {
			rows, err := from.Query(fmt.Sprintf("SELECT %s FROM %s ORDER BY %s %s", strings.Join(columns, ", "),
				table, first[0], order))
			if err != nil {
				whole = false
				return nil
			}
			defer rows.Close()
			values := make([]any, len(columns))
			into := make([]any, len(columns))
			for i := range values {
				into[i] = &values[i]
			}
			for rows.Next() {
				if err := rows.Scan(into...); err != nil {
					whole = false
					return nil
				}
				r, err := tx.Exec(put, values...)
				if err != nil {
					continue // what is no row of it any more
				}
				k, _ := r.RowsAffected()
				n += k
			}
			if rows.Err() != nil {
				whole = false
			}
			return nil
		})
		if err != nil || whole {
			break
		}
	}
	return n, whole
}
