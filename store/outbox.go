package store

import (
	"database/sql"
	"errors"
	"slices"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
)

// Telling is something that a contact is to be told. It is decided in the commit of the
// transition that it is about.
type Telling struct {
	Seq     int64
	Contact string
	Alert   string // "" where it is about no alert of its own
	Change  string
	Made    entry.Instant // when it was decided
	Due     entry.Instant // not before
	// Severity is how soon its turn comes: that of its alert, the worst first.
	Severity entry.Severity
	// Only says on what it depends when it is due: open, untaken or told; "" is nothing.
	Only string
	Line string // the transition as JSON, or what else is told
}

// On what a telling may depend.
const (
	OnlyOpen    = "open"    // its alert is still open
	OnlyUntaken = "untaken" // and nobody has taken it
	OnlyTold    = "told"    // the contact has been told of the alert before
)

// Message is what goes out to a contact on one of its ways. Its body is made once, so that
// each try says the same.
type Message struct {
	ID      string
	Group   string // the same on all ways
	Contact string
	Way     int // the place of the way in the contact
	// Alert is what it is about; "" where it is about several, or none.
	Alert    string
	Severity entry.Severity // how soon its turn comes
	Made     entry.Instant
	State    string // waiting, told, given up
	Tries    int
	Next     entry.Instant // not tried before
	Told     entry.Instant // 0: not yet
	Words    string        // why the last try failed, or what the receiver said
	Body     []byte
}

// The states of a message.
const (
	Waiting = "waiting"
	Told    = "told"
	GivenUp = "given up"
)

const outboxSchema = `
CREATE TABLE IF NOT EXISTS tellings(
  seq INTEGER PRIMARY KEY, contact TEXT NOT NULL, alert TEXT NOT NULL, change TEXT NOT NULL,
	made INTEGER NOT NULL, due INTEGER NOT NULL,
  only_if TEXT NOT NULL, line TEXT NOT NULL, message TEXT, dropped TEXT, severity INTEGER NOT NULL DEFAULT 0);
CREATE INDEX IF NOT EXISTS tellings_waiting ON tellings(contact, due) WHERE message IS NULL AND dropped IS NULL;
CREATE INDEX IF NOT EXISTS tellings_turn ON tellings(contact, severity DESC, due, seq) WHERE message IS NULL
	AND dropped IS NULL;
CREATE INDEX IF NOT EXISTS tellings_alert ON tellings(alert, contact);
CREATE INDEX IF NOT EXISTS tellings_message ON tellings(message);
CREATE TABLE IF NOT EXISTS messages(
  id TEXT PRIMARY KEY, grp TEXT NOT NULL, contact TEXT NOT NULL, way INTEGER NOT NULL, made INTEGER NOT NULL,
	state TEXT NOT NULL,
  tries INTEGER NOT NULL, next INTEGER NOT NULL, told INTEGER NOT NULL, words TEXT NOT NULL, body BLOB NOT NULL,
  severity INTEGER NOT NULL DEFAULT 0, alert TEXT NOT NULL DEFAULT '') WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS messages_state ON messages(state, contact);
CREATE INDEX IF NOT EXISTS messages_waiting ON messages(contact, way, severity DESC, made, id)
	WHERE state = 'waiting';
CREATE INDEX IF NOT EXISTS messages_alert ON messages(alert) WHERE state = 'waiting' AND alert <> '';
CREATE INDEX IF NOT EXISTS messages_group ON messages(grp);
CREATE INDEX IF NOT EXISTS messages_made ON messages(contact, made);
CREATE TABLE IF NOT EXISTS quiet(alert TEXT PRIMARY KEY, line BLOB NOT NULL) WITHOUT ROWID;
`

// telling writes a telling. What waits about the same alert is as urgent as it, so that
// their order stays.
func (w *writer) telling(t *Telling) {
	w.exec("INSERT INTO tellings(contact, alert, change, made, due, only_if, line, severity) VALUES(?, ?, ?, ?, "+
		"?, ?, ?, ?)",
		t.Contact, t.Alert, t.Change, int64(t.Made), int64(t.Due), t.Only, t.Line, int(t.Severity))
	if t.Alert != "" && t.Change != engine.Raised {
		w.exec("UPDATE tellings SET severity = ? WHERE alert = ? AND contact = ? AND severity < ? AND message IS "+
			"NULL AND dropped IS NULL",
			int(t.Severity), t.Alert, t.Contact, int(t.Severity))
	}
}

const tellingColumns = "SELECT seq, contact, alert, change, made, due, only_if, line, severity FROM tellings " +
	"WHERE contact = ? AND message IS NULL AND dropped IS NULL "

// Waits returns what a contact is to be told and is in no message yet, oldest first, at
// most limit of them.
func (s *Store) Waits(contact string, limit int) ([]Telling, error) {
	return rows(s.ask, scanTelling, tellingColumns+"ORDER BY due, seq LIMIT ?", contact, limit)
}

// Urgent is like Waits of what is due at an instant, the worst first; of one alert the
// oldest first.
func (s *Store) Urgent(contact string, due entry.Instant, limit int) ([]Telling, error) {
	return rows(s.ask, scanTelling, tellingColumns+"AND due <= ? ORDER BY severity DESC, due, seq LIMIT ?", contact,
		int64(due), limit)
}

func scanTelling(r *sql.Rows) (t Telling, err error) {
	return t, r.Scan(&t.Seq, &t.Contact, &t.Alert, &t.Change, &t.Made, &t.Due, &t.Only, &t.Line, &t.Severity)
}

// WaitingContacts are the contacts that something waits for: to be put into a message, or
// to be sent. The instant is that of the first telling that is due later than now, or None.
func (s *Store) WaitingContacts(now entry.Instant) (names []string, due entry.Instant, err error) {
	due = entry.None
	type waits struct {
		contact string
		later   sql.NullInt64
	}
	list, err := rows(s.ask, func(r *sql.Rows) (w waits, err error) { return w, r.Scan(&w.contact, &w.later) },
		`SELECT contact, min(CASE WHEN due > ? THEN due END) FROM tellings
		WHERE message IS NULL AND dropped IS NULL GROUP BY contact
		UNION ALL SELECT DISTINCT contact, NULL FROM messages WHERE state = 'waiting'`, int64(now))
	for _, w := range list {
		if !slices.Contains(names, w.contact) {
			names = append(names, w.contact)
		}
		if at := entry.Instant(w.later.Int64); w.later.Valid && (due == entry.None || at < due) {
			due = at
		}
	}
	return names, due, err
}

// Drop notes why tellings are not told after all.
func (s *Store) Drop(seqs []int64, why string) error {
	return s.inTx(func(tx *sql.Tx) error {
		for _, n := range seqs {
			if _, err := tx.Exec("UPDATE tellings SET dropped = ? WHERE seq = ?", why, n); err != nil {
				return err
			}
		}
		return nil
	})
}

// Made is a group of messages, one for each way of their contact, and the tellings that it
// is made of.
type Made struct {
	Messages []Message
	Tellings []int64
	Alerts   []string // that it is about
}

// PutMessages keeps groups of messages together. What waits about the same alerts is as
// urgent as they are, so that their order stays.
func (s *Store) PutMessages(list []Made) error {
	return s.inTx(func(tx *sql.Tx) error {
		put, err := tx.Prepare("INSERT OR IGNORE INTO messages(id, grp, contact, way, made, state, tries, next, " +
			"told, words, body, severity, alert) VALUES(?, ?, ?, ?, ?, 'waiting', 0, ?, 0, '', ?, ?, ?)")
		if err != nil {
			return err
		}
		defer put.Close()
		raise, err := tx.Prepare("UPDATE messages SET severity = ? WHERE alert = ? AND alert <> '' AND contact = " +
			"? AND severity < ? AND state = 'waiting'")
		if err != nil {
			return err
		}
		defer raise.Close()
		mark, err := tx.Prepare("UPDATE tellings SET message = ? WHERE seq = ?")
		if err != nil {
			return err
		}
		defer mark.Close()
		for _, x := range list {
			first := &x.Messages[0]
			for _, a := range x.Alerts {
				if _, err := raise.Exec(int(first.Severity), a, first.Contact, int(first.Severity)); err != nil {
					return err
				}
			}
			for _, m := range x.Messages {
				if _, err := put.Exec(m.ID, m.Group, m.Contact, m.Way, int64(m.Made), int64(m.Made), m.Body,
					int(m.Severity), m.Alert); err != nil {
					return err
				}
			}
			for _, n := range x.Tellings {
				if _, err := mark.Exec(first.Group, n); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

func (s *Store) inTx(do func(*sql.Tx) error) error {
	s.writing.Lock()
	defer s.writing.Unlock()
	tx, err := s.db.Begin()
	if err != nil {
		return err
	}
	if err := do(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// UnsentWays returns on which ways of a contact messages wait to be sent.
func (s *Store) UnsentWays(contact string) ([]int, error) {
	return column[int](s.ask, "SELECT DISTINCT way FROM messages WHERE state = 'waiting' AND contact = ? "+
		"ORDER BY way", contact)
}

// Unsent returns messages that may be sent now on a way of a contact, the worst first, of one
// alert the oldest first, at most limit of them. What is behind one about the same alert
// that is to be tried later waits as well.
func (s *Store) Unsent(contact string, way int, now entry.Instant, limit int) ([]Message, error) {
	return rows(s.ask, scanMessage, messageColumns+`INDEXED BY messages_waiting WHERE state = 'waiting'
		AND contact = ? AND way = ? AND next <= ? AND NOT EXISTS (SELECT 1 FROM messages b INDEXED BY messages_alert
		WHERE b.state = 'waiting' AND b.alert = messages.alert AND b.alert <> '' AND b.contact = messages.contact
			AND b.way = messages.way AND b.next > ? AND b.made < messages.made)
		ORDER BY severity DESC, made, id LIMIT ?`, contact, way, int64(now), int64(now), limit)
}

const messageColumns = "SELECT id, grp, contact, way, made, state, tries, next, told, words, body, severity, " +
	"alert FROM messages "

func scanMessage(r *sql.Rows) (m Message, err error) {
	return m, r.Scan(&m.ID, &m.Group, &m.Contact, &m.Way, &m.Made, &m.State, &m.Tries, &m.Next, &m.Told, &m.Words,
		&m.Body, &m.Severity, &m.Alert)
}

// Tried notes what became of tries to send messages.
func (s *Store) Tried(list []*Message) error {
	return s.inTx(func(tx *sql.Tx) error {
		for _, m := range list {
			if _, err := tx.Exec("UPDATE messages SET state = ?, tries = ?, next = ?, told = ?, words = ? WHERE "+
				"id = ?",
				m.State, m.Tries, int64(m.Next), int64(m.Told), m.Words, m.ID); err != nil {
				return err
			}
		}
		return nil
	})
}

// GroupsSince counts the groups of messages that were made for a contact from an instant
// on, and answers when the oldest of the newest n of them was made.
func (s *Store) GroupsSince(contact string, from entry.Instant, n int) (count int, oldest entry.Instant, err error) {
	list, err := column[int64](s.ask, "SELECT min(made) FROM messages WHERE contact = ? AND made > ? GROUP BY grp "+
		"ORDER BY 1 DESC", contact, int64(from))
	if err != nil || len(list) == 0 {
		return 0, 0, err
	}
	return len(list), entry.Instant(list[min(n, len(list))-1]), nil
}

// FirstGroup is the group of the first message in which a contact was told of an alert; ""
// where there is none.
func (s *Store) FirstGroup(contact, alert string) string {
	var g string
	s.ask.QueryRow("SELECT message FROM tellings WHERE contact = ? AND alert = ? AND message IS NOT NULL ORDER BY "+
		"seq LIMIT 1", contact, alert).Scan(&g)
	return g
}

// ToldOf is that a contact was told of an alert, or was to be.
type ToldOf struct {
	Contact, Change, State, Words string
	Way                           int
	Made, Told                    entry.Instant
	Tries                         int
	Dropped                       string // why it was not told after all
}

// ToldAbout returns who was told of an alert, oldest first.
func (s *Store) ToldAbout(alert string) ([]ToldOf, error) {
	return rows(s.ask, scanToldOf, `SELECT t.contact, t.change, coalesce(m.state, ''), coalesce(m.words, ''),
		coalesce(m.way, 0), t.made, coalesce(m.told, 0), coalesce(m.tries, 0), coalesce(t.dropped, '')
		FROM tellings t LEFT JOIN messages m ON m.grp = t.message WHERE t.alert = ? ORDER BY t.seq`, alert)
}

func scanToldOf(r *sql.Rows) (t ToldOf, err error) {
	return t, r.Scan(&t.Contact, &t.Change, &t.State, &t.Words, &t.Way, &t.Made, &t.Told, &t.Tries, &t.Dropped)
}

// ToldBetween returns what was told, or could not be, of what was decided in [from, to].
func (s *Store) ToldBetween(from, to entry.Instant) ([]ToldOf, error) {
	return rows(s.ask, scanToldOf, `SELECT t.contact, t.change, coalesce(m.state, ''), coalesce(m.words, ''),
		coalesce(m.way, 0), t.made, coalesce(m.told, 0), coalesce(m.tries, 0), coalesce(t.dropped, '')
		FROM tellings t LEFT JOIN messages m ON m.grp = t.message WHERE t.made >= ? AND t.made <= ?
			ORDER BY t.seq`, int64(from), int64(to))
}

// Outgoing sums up what waits for a contact.
type Outgoing struct {
	Contact  string        `json:"contact"`
	Waiting  int           `json:"waiting"` // messages that have not gone out
	Oldest   entry.Instant `json:"-"`
	Tries    int           `json:"tries"` // of the one that was tried most
	Words    string        `json:"words"` // why the last try failed
	Tellings int           `json:"tellings"`
}

// Outgoings returns the contacts whose messages have not gone out yet.
func (s *Store) Outgoings() ([]Outgoing, error) {
	return rows(s.ask, func(r *sql.Rows) (o Outgoing, err error) {
		return o, r.Scan(&o.Contact, &o.Waiting, &o.Oldest, &o.Tries, &o.Words)
	}, "SELECT contact, count(*), min(made), max(tries), max(words) FROM messages WHERE state = 'waiting' GROUP "+
		"BY contact ORDER BY contact")
}

// Quiet returns the open alerts that were kept quiet, as their commits had them.
func (s *Store) Quiet() (map[string][]byte, error) {
	type kept struct {
		alert string
		line  []byte
	}
	out := map[string][]byte{}
	list, err := rows(s.ask, func(r *sql.Rows) (k kept, err error) { return k, r.Scan(&k.alert, &k.line) },
		"SELECT alert, line FROM quiet")
	for _, k := range list {
		out[k.alert] = k.line
	}
	return out, err
}

// Newest is the number of the newest transition.
func (s *Store) Newest() (seq int64, err error) {
	err = s.ask.QueryRow("SELECT coalesce(max(seq), 0) FROM transitions").Scan(&seq)
	return seq, err
}

// CaughtUp returns the transitions behind one, and up to another, that were not told since
// the present had not been reached, oldest first.
func (s *Store) CaughtUp(after, upTo int64) ([]engine.Transition, error) {
	return rows(s.ask, scanTransition, "SELECT at, line FROM transitions WHERE seq > ? AND seq <= ? AND untold = "+
		"? ORDER BY seq", after, upTo, string(engine.CatchingUp))
}

// LastRaise returns the newest raise, worsening or reopening of an alert; false where there
// is none.
func (s *Store) LastRaise(alert string) (engine.Transition, bool) {
	list, err := rows(s.ask, scanTransition, "SELECT at, line FROM transitions WHERE alert = ? AND change IN "+
		"('raised', 'worsened', 'reopened') ORDER BY seq DESC LIMIT 1", alert)
	if err != nil || len(list) == 0 {
		return engine.Transition{}, false
	}
	return list[0], true
}

// TrimOutbox lets go of what was told, or given up, before an instant.
func (s *Store) TrimOutbox(before entry.Instant) error {
	return s.inTx(func(tx *sql.Tx) error {
		if _, err := tx.Exec("DELETE FROM tellings WHERE made < ? AND (dropped IS NOT NULL OR message IN (SELECT "+
			"grp FROM messages WHERE state <> 'waiting'))", int64(before)); err != nil {
			return err
		}
		_, err := tx.Exec("DELETE FROM messages WHERE made < ? AND state <> 'waiting'", int64(before))
		return err
	})
}

// WayTold is how a way of a contact goes.
type WayTold struct {
	Contact          string
	Way              int
	Waiting, GivenUp int
	Told, Failed     entry.Instant // None: never
	Answer, Error    string
}

// WaysTold returns how all ways of all contacts go, as far as messages of them are kept.
func (s *Store) WaysTold() ([]WayTold, error) {
	type key struct {
		contact string
		way     int
	}
	by := map[key]*WayTold{}
	list, err := rows(s.ask, func(r *sql.Rows) (w WayTold, err error) {
		return w, r.Scan(&w.Contact, &w.Way, &w.Waiting, &w.GivenUp)
	}, "SELECT contact, way, sum(state = 'waiting'), sum(state = 'given up') FROM messages GROUP BY contact, way")
	if err != nil {
		return nil, err
	}
	for i := range list {
		list[i].Told, list[i].Failed = entry.None, entry.None
		by[key{list[i].Contact, list[i].Way}] = &list[i]
	}
	newest := func(query string, set func(w *WayTold, at entry.Instant, words string)) error {
		_, err := rows(s.ask, func(r *sql.Rows) (x struct{}, err error) {
			var k key
			var at entry.Instant
			var words string
			if err = r.Scan(&k.contact, &k.way, &at, &words); err == nil && by[k] != nil {
				set(by[k], at, words)
			}
			return x, err
		}, query)
		return err
	}
	// Of max() alone SQLite gives the other columns of the row that has it.
	if err := newest("SELECT contact, way, max(told), words FROM messages WHERE state = 'told' GROUP BY contact, way",
		func(w *WayTold, at entry.Instant, words string) { w.Told, w.Answer = at, words }); err != nil {
		return nil, err
	}
	err = newest("SELECT contact, way, max(made), words FROM messages WHERE state <> 'told' AND tries > 0 "+
		"GROUP BY contact, way", func(w *WayTold, at entry.Instant, words string) { w.Failed, w.Error = at, words })
	return list, err
}

// Undecided counts, by contact, what is to be told and is in no message yet.
func (s *Store) Undecided() (map[string]int, error) {
	out := map[string]int{}
	_, err := rows(s.ask, func(r *sql.Rows) (x struct{}, err error) {
		var name string
		var n int
		if err = r.Scan(&name, &n); err == nil {
			out[name] = n
		}
		return x, err
	}, "SELECT contact, count(*) FROM tellings WHERE message IS NULL AND dropped IS NULL GROUP BY contact")
	return out, err
}
