package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"strings"

	"dimlantern/core/entry"
)

// Up is what one commit of a joined machine tells its centre. Rows are numbered from 1, without gaps.
type Up struct {
	Seq   int64
	Sum   string // of the facts and the sum before
	Prev  string // the sum of the row before
	Facts []byte
}

// UpAfter are the rows for the centre behind a number, at most so many.
func (s *Store) UpAfter(after int64, most int) ([]Up, error) {
	rows, err := s.ask.Query("SELECT seq, sum, prev, facts FROM up WHERE seq > ? ORDER BY seq LIMIT ?", after, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Up
	size := 0
	for rows.Next() {
		var u Up
		if err := rows.Scan(&u.Seq, &u.Sum, &u.Prev, &u.Facts); err != nil {
			return nil, err
		}
		out = append(out, u)
		if size += len(u.Facts); size > mostUpBytes {
			break
		}
	}
	return out, rows.Err()
}

// mostUpBytes is about how many bytes of facts UpAfter answers with.
const mostUpBytes = 16 << 20

// UpEnds are the oldest and the newest row for the centre, and the sum of that; zeros where there is none.
func (s *Store) UpEnds() (oldest, newest int64, sum string, err error) {
	err = s.ask.QueryRow("SELECT seq, sum, (SELECT min(seq) FROM up) FROM up ORDER BY seq DESC LIMIT 1").Scan(&newest,
		&sum,
		&oldest)
	if err == sql.ErrNoRows {
		err = nil
	}
	return oldest, newest, sum, err
}

// LetGoUp lets go of rows up to a number that are older, but never of the newest.
func (s *Store) LetGoUp(upTo int64, before entry.Instant) error {
	_, err := s.db.Exec("DELETE FROM up WHERE seq <= ? AND written < ? AND seq < (SELECT max(seq) FROM up)", upTo,
		int64(before))
	return err
}

// MetaAll are the kept values whose names begin so, by what follows.
func (s *Store) MetaAll(prefix string) (map[string][]byte, error) {
	rows, err := s.ask.Query("SELECT name, value FROM meta WHERE name >= ? AND name < ?", prefix, prefix+"\xff")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string][]byte{}
	for rows.Next() {
		var name string
		var value []byte
		if err := rows.Scan(&name, &value); err != nil {
			return nil, err
		}
		out[name[len(prefix):]] = value
	}
	return out, rows.Err()
}

// rename gives what a host has reported to it under another name: its keys and its origins.
func (w *writer) rename(from, to string) {
	if w.err != nil {
		return
	}
	type named struct {
		id   int64
		text string
	}
	change := func(query, update string, renamed func(string) (string, bool)) {
		if w.err != nil {
			return
		}
		rows, err := w.tx.Query(query)
		if err != nil {
			w.err = err
			return
		}
		var list []named
		for rows.Next() {
			var n named
			if err := rows.Scan(&n.id, &n.text); err != nil {
				w.err = err
				break
			}
			if text, ok := renamed(n.text); ok {
				list = append(list, named{n.id, text})
			}
		}
		if err := rows.Close(); err != nil && w.err == nil {
			w.err = err
		}
		for _, n := range list {
			w.exec(update, n.text, n.id)
		}
	}
	change("SELECT k.id, k.key FROM keys k WHERE EXISTS (SELECT 1 FROM transitions t WHERE t.key = k.id AND "+
		"json_extract(t.line, '$.reporter') IS NOT NULL)", "UPDATE OR IGNORE keys SET key = ? WHERE id = ?",
		func(text string) (string, bool) {
			var key []string
			if json.Unmarshal([]byte(text), &key) != nil || len(key) == 0 || key[len(key)-1] != from {
				return "", false
			}
			key[len(key)-1] = to
			b, _ := json.Marshal(key)
			return string(b), true
		})
	change("SELECT id, name FROM origins", "UPDATE OR IGNORE origins SET name = ? WHERE id = ?",
		func(text string) (string, bool) {
			rest, ok := strings.CutPrefix(text, from+":")
			if text == "\x01"+from {
				return "\x01" + to, true
			}
			return to + ":" + rest, ok
		})
	w.exec("UPDATE transitions SET line = json_set(line, '$.reporter', ?) WHERE json_extract(line, '$.reporter') = ?",
		to, from)
	w.renamed = true
	for _, of := range []struct {
		into  map[string]int64
		query string
	}{{w.s.keys, "SELECT rule || char(0) || key, id FROM keys"}, {w.s.origins, "SELECT name, id FROM origins"}} {
		clear(of.into)
		if w.err != nil {
			return
		}
		rows, err := w.tx.Query(of.query)
		if err != nil {
			w.err = err
			return
		}
		for rows.Next() {
			var name string
			var id int64
			if err := rows.Scan(&name, &id); err != nil {
				w.err = err
				break
			}
			of.into[name] = id
		}
		if err := rows.Close(); err != nil && w.err == nil {
			w.err = err
		}
	}
}

// HeldRow is a row of a host some of whose entries wait at the centre for their turn.
type HeldRow struct {
	Host string // its identifier
	Seq  int64
	Body []byte
}

// Held are all rows of which something waits.
func (s *Store) Held() ([]HeldRow, error) {
	return rows(s.ask, func(r *sql.Rows) (h HeldRow, err error) { return h, r.Scan(&h.Host, &h.Seq, &h.Body) },
		"SELECT host, seq, body FROM held ORDER BY host, seq")
}

// CopyTo writes the database as it is committed now into a file that is not there yet.
func (s *Store) CopyTo(path string) error {
	db, err := sql.Open("sqlite", dsn(s.Path, false)) // which only reads it, but may write beside it
	if err != nil {
		return err
	}
	_, err = db.Exec("VACUUM INTO ?", path)
	return errors.Join(err, db.Close())
}
