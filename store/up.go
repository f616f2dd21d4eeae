package store

import (
	"database/sql"

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
	err = s.ask.QueryRow("SELECT seq, sum, (SELECT min(seq) FROM up) FROM up ORDER BY seq DESC LIMIT 1").Scan(&newest, &sum,
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
