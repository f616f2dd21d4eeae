package store

import (
	"database/sql"
	"encoding/json"

	"dimlantern/core/entry"
)

// Action is what a person did, or what happened to the settings.
type Action struct {
	Seq   int64         `json:"seq,omitempty"`
	At    entry.Instant `json:"-"`
	By    string        `json:"by"`
	From  string        `json:"from,omitempty"` // the machine and terminal
	What  string        `json:"what"`           // take, hand over, hush, unhush, note, clear, settings
	Alert string        `json:"alert,omitempty"`
	Words string        `json:"words,omitempty"`
	// Until is when a hush ends.
	Until entry.Instant `json:"-"`
	// Files are the settings files that a change wrote.
	Files []FileChange `json:"files,omitempty"`
	// Did is what came of it, in words.
	Did string `json:"did,omitempty"`
}

// FileChange is what a settings file was, and what it is now.
type FileChange struct {
	File string `json:"file"`
	Was  string `json:"was"`
	Now  string `json:"now"`
}

const actionsSchema = `
CREATE TABLE IF NOT EXISTS actions(
  seq INTEGER PRIMARY KEY, at INTEGER NOT NULL, what TEXT NOT NULL, alert TEXT NOT NULL,
	until INTEGER NOT NULL, line TEXT NOT NULL);
CREATE INDEX IF NOT EXISTS actions_at ON actions(at);
CREATE INDEX IF NOT EXISTS actions_alert ON actions(alert);
`

func (w *writer) action(a *Action) {
	line, err := json.Marshal(a)
	if err != nil && w.err == nil {
		w.err = err
	}
	w.exec("INSERT INTO actions(at, what, alert, until, line) VALUES(?, ?, ?, ?, ?)", int64(a.At), a.What, a.Alert,
		int64(a.Until), string(line))
}

// Actions returns the actions of a kind, or of all kinds where it is "", in [from, to],
// oldest first, of them the newest limit.
func (s *Store) Actions(what string, from, to entry.Instant, limit int) ([]Action, error) {
	return rows(s.ask, scanAction, `SELECT * FROM (SELECT seq, at, until, line FROM actions
		WHERE (? = '' OR what = ?) AND at >= ? AND at <= ?
		ORDER BY seq DESC LIMIT ?) ORDER BY seq`, what, what, int64(from), int64(to), limit)
}

func scanAction(r *sql.Rows) (Action, error) {
	var a Action
	var line string
	var seq int64
	var at, until entry.Instant
	err := r.Scan(&seq, &at, &until, &line)
	if err == nil {
		err = json.Unmarshal([]byte(line), &a)
	}
	a.Seq, a.At, a.Until = seq, at, until
	return a, err
}
