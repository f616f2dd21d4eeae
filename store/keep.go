package store

import (
	"database/sql"
	"fmt"
	"time"

	"dimlantern/core/entry"
)

// LetGo lets go of at most so many alerts that ended before an instant, with the evidence of theirs, and
// of so many transitions from before another; 0 lets go of none. It answers true where more is left. What
// is open stays, with all that belongs to it.
func (s *Store) LetGo(alerts, history entry.Instant, most int) (more bool, err error) {
	var gone int64
	err = s.inTx(func(tx *sql.Tx) error {
		run := func(query string, args ...any) error {
			r, err := tx.Exec(query, args...)
			if err != nil {
				return err
			}
			n, _ := r.RowsAffected() // the driver knows it always
			more = more || n >= int64(most)
			gone += n
			return nil
		}
		if alerts > 0 {
			const old = "(SELECT alert FROM alerts WHERE cleared < ? ORDER BY cleared LIMIT ?)"
			_, err := tx.Exec(`DELETE FROM hits WHERE at < ? AND key IN (SELECT key FROM alerts WHERE cleared < ?
				ORDER BY cleared LIMIT ?) AND key NOT IN (SELECT key FROM alerts WHERE cleared IS NULL)`, int64(alerts),
				int64(alerts), most)
			if err != nil {
				return err
			}
			for _, q := range []string{"DELETE FROM around WHERE alert IN " + old,
				"DELETE FROM quiet WHERE alert IN " + old, "DELETE FROM alerts WHERE alert IN " + old} {
				if err := run(q, int64(alerts), most); err != nil {
					return err
				}
			}
		}
		if history > 0 {
			return run(`DELETE FROM transitions WHERE seq IN (SELECT seq FROM transitions INDEXED BY transitions_at
				WHERE at < ? AND alert NOT IN (SELECT alert FROM alerts WHERE cleared IS NULL) ORDER BY at LIMIT ?)`,
				int64(history), most)
		}
		return nil
	})
	return more, err
}

// Part is a part of what is kept in the database.
type Part struct {
	Bytes  int64
	Rows   int64
	Oldest entry.Instant // 0 where there is none
	Week   int64         // rows of the last seven days
}

// Parts are what the database holds: alerts with their evidence, history, counts, messages, measures and
// deliveries, and the rest; free is what may be used again.
func (s *Store) Parts(now entry.Instant) (parts map[string]Part, free int64, err error) {
	bytes := map[string]int64{}
	r, err := s.ask.Query("SELECT s.tbl_name, sum(d.pgsize) FROM dbstat d JOIN sqlite_schema s ON s.name = d.name " +
		"GROUP BY s.tbl_name")
	if err != nil {
		return nil, 0, err
	}
	defer r.Close()
	for r.Next() {
		var name string
		var n int64
		if err := r.Scan(&name, &n); err != nil {
			return nil, 0, err
		}
		bytes[name] = n
	}
	if err := r.Err(); err != nil {
		return nil, 0, err
	}
	week := now.Add(-7 * 24 * time.Hour)
	parts = map[string]Part{}
	for _, x := range []struct {
		part, table, at string
		unit            int64
		also            []string
	}{
		{"alerts", "alerts", "raised", 1, []string{"around", "hits", "quiet"}},
		{"history", "transitions", "at", 1, []string{"actions"}},
		{"counts", "tide", "bucket", int64(Bucket), []string{"marks", "keys", "origins"}},
		{"messages", "messages", "made", 1, []string{"tellings"}},
	} {
		var p Part
		var oldest sql.NullInt64
		q := fmt.Sprintf("SELECT count(*), min(%s), coalesce(sum(%[1]s >= ?), 0) FROM %s", x.at, x.table)
		if err := s.ask.QueryRow(q, int64(week)/x.unit).Scan(&p.Rows, &oldest, &p.Week); err != nil {
			return nil, 0, err
		}
		p.Oldest = entry.Instant(oldest.Int64 * x.unit)
		for _, t := range append(x.also, x.table) {
			p.Bytes += bytes[t]
			delete(bytes, t)
		}
		parts[x.part] = p
	}
	var rest Part
	for _, n := range bytes {
		rest.Bytes += n
	}
	parts["state"] = rest
	var pages, size int64
	if err := s.ask.QueryRow("PRAGMA freelist_count").Scan(&pages); err != nil {
		return nil, 0, err
	}
	if err := s.ask.QueryRow("PRAGMA page_size").Scan(&size); err != nil {
		return nil, 0, err
	}
	return parts, pages * size, nil
}

// KeptFiles is what is kept of entries that exist nowhere else: by source, how many bytes and entries, since
// when, and how many bytes of them came from an instant on.
func (s *Store) KeptFiles(from entry.Instant) (map[string]Part, map[string]int64, error) {
	out, late := map[string]Part{}, map[string]int64{}
	r, err := s.ask.Query("SELECT source, sum(bytes), sum(entries), min(first), coalesce(sum(CASE WHEN last >= ? THEN "+
		"bytes END), 0) FROM kept GROUP BY source", int64(from))
	if err != nil {
		return nil, nil, err
	}
	defer r.Close()
	for r.Next() {
		var name string
		var p Part
		var n int64
		if err := r.Scan(&name, &p.Bytes, &p.Rows, &p.Oldest, &n); err != nil {
			return nil, nil, err
		}
		out[name], late[name] = p, n
	}
	return out, late, r.Err()
}
