package store

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
)

func open(t *testing.T) (*Store, string) {
	t.Helper()
	dir := t.TempDir()
	s, err := Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s, dir
}

func at(m int) entry.Instant {
	return entry.Of(time.Date(2026, 11, 24, 5, m, 0, 0, time.UTC))
}

func transition(change, alert string, m int, sev entry.Severity) engine.Transition {
	return engine.Transition{At: at(m), Change: change, Rule: "r", Fields: []string{"host"}, Key: []string{"a"},
		Severity: sev, Alert: alert, Count: 2, First: at(m), Last: at(m), Why: "recovery"}
}

// A batch is kept as a whole, and is there after the database was opened anew.
func TestBatchIsKept(t *testing.T) {
	s, dir := open(t)
	b := &Batch{Journal: []byte("j1"), Now: at(1), Sources: []string{"s"},
		Meta: map[string][]byte{"settings": []byte("x")},
		Transitions: []engine.Transition{transition(engine.Raised, "one", 1, entry.Warning),
			transition(engine.Worsened, "one", 2, entry.Critical),
			transition(engine.Cleared, "one", 3, entry.Critical), transition(engine.Raised, "two", 5, entry.Notice)},
		Hits: []Hit{{Rule: "r", Key: []string{"a"}, At: at(1), Origin: "h:/x", Offset: 7, Text: "low"},
			{Rule: "r", Key: []string{"a"}, At: at(3), Recovery: true, Origin: "h:/x", Text: "fine"}},
		Places: []Place{{Source: "s", Series: "/x", Origin: "h:/x", Data: []byte("{}")}},
		Ticks:  []Tick{{"h:/x", BucketOf(at(1)), 5, 9}, {"h:/x", BucketOf(at(1)), 2, 4}},
		Blind:  []Blind{{Origin: "h:/x", At: at(4), Words: "gone"}}}
	require.NoError(t, s.Commit(b))
	require.NoError(t, s.Commit(&Batch{Journal: []byte("j2"),
		Blind: []Blind{{Origin: "h:/x", At: at(6), Seen: true}}}))
	require.NoError(t, s.Close())
	s, err := Open(dir)
	require.NoError(t, err)
	defer s.Close()
	j, err := s.Journal()
	require.NoError(t, err)
	assert.Equal(t, [][]byte{[]byte("j1"), []byte("j2")}, j)
	assert.True(t, s.Knows("s"))
	assert.Equal(t, []byte("{}"), s.PlaceOf("s", "/x"))
	alerts, err := s.Alerts(at(0), at(10))
	require.NoError(t, err)
	require.Len(t, alerts, 2)
	assert.Equal(t, "two", alerts[0].Alert, "open ones first")
	assert.Equal(t, entry.None, alerts[0].Cleared)
	assert.Equal(t, at(3), alerts[1].Cleared)
	assert.Equal(t, entry.Critical, alerts[1].Severity)
	assert.Equal(t, []string{"a"}, alerts[1].Key)
	flow, err := s.Flow(BucketOf(at(0)), BucketOf(at(9)))
	require.NoError(t, err)
	assert.Equal(t, map[int64]int64{BucketOf(at(1)): 7}, flow)
	hits, err := s.HitsOf(s.KeyID("r", []string{"a"}), at(2), 10)
	require.NoError(t, err)
	require.Len(t, hits, 1, "what came later is not shown")
	assert.EqualValues(t, 7, hits[0].Offset)
	darks, err := s.Darks(at(5), at(9))
	require.NoError(t, err)
	assert.Equal(t, []Dark{{"h:/x", at(4), at(6), "gone"}}, darks)
	var lines []string
	require.NoError(t, s.Lines(0, at(3), func(_ int64, l string) { lines = append(lines, l) }))
	assert.Len(t, lines, 2)
}

// A snapshot takes the place of the journal before it, and of that of its own
// batch.
func TestSnapshotEndsTheJournal(t *testing.T) {
	s, _ := open(t)
	require.NoError(t, s.Commit(&Batch{Journal: []byte("a")}))
	require.NoError(t, s.Commit(&Batch{Journal: []byte("b"), Snapshot: []byte("state")}))
	require.NoError(t, s.Commit(&Batch{Journal: []byte("c")}))
	j, err := s.Journal()
	require.NoError(t, err)
	assert.Equal(t, [][]byte{[]byte("c")}, j)
	snap, err := s.Meta("snapshot")
	require.NoError(t, err)
	assert.Equal(t, []byte("state"), snap)
}

// The log of writes stays short though the writer never rests, and nothing of it is lost.
func TestLogOfWritesStaysShort(t *testing.T) {
	defer func(was int64) { longLog = was }(longLog)
	longLog = 1 << 20
	s, dir := open(t)
	stop, done := make(chan struct{}), make(chan int)
	go func() {
		n := 0
		for {
			select {
			case <-stop:
				done <- n
				return
			default:
			}
			n++
			assert.NoError(t, s.Commit(&Batch{Hits: []Hit{{Rule: "r", Key: []string{"k"}, At: at(n), Origin: "h:/f",
				Offset: int64(n), Text: string(make([]byte, 20<<10))}}}))
		}
	}()
	short, want := 0, 5
	if testing.Short() {
		want = 1
	}
	require.Eventually(t, func() bool {
		grown := s.Waiting() > longLog
		require.NoError(t, s.Checkpoint())
		if grown && s.Waiting() < longLog {
			short++
		}
		return short == want
	}, time.Minute, time.Millisecond)
	close(stop)
	n := <-done
	require.NoError(t, s.Close())
	s, err := Open(dir)
	require.NoError(t, err)
	defer s.Close()
	count := 0
	require.NoError(t, s.ask.QueryRow("SELECT count(*) FROM hits").Scan(&count))
	assert.Equal(t, n, count)
}

// A batch that cannot be kept leaves nothing behind, and can be tried again.
func TestBatchThatCannotBeKept(t *testing.T) {
	s, _ := open(t)
	_, err := s.db.Exec("PRAGMA max_page_count = 1")
	require.NoError(t, err)
	b := &Batch{Hits: []Hit{{Rule: "new", Key: []string{"k"}, At: at(1), Origin: "h:/new",
		Text: string(make([]byte, 1<<20))}}}
	require.Error(t, s.Commit(b))
	_, err = s.db.Exec("PRAGMA max_page_count = 1000000")
	require.NoError(t, err)
	require.NoError(t, s.Commit(b))
	hits, err := s.HitsOf(s.KeyID("new", []string{"k"}), at(9), 10)
	require.NoError(t, err)
	assert.Len(t, hits, 1)
}

// Evidence is bounded by the key, counts by time.
func TestTrim(t *testing.T) {
	s, _ := open(t)
	b := &Batch{Ticks: []Tick{{Origin: "o", Bucket: BucketOf(at(1)), N: 1},
		{Origin: "o", Bucket: BucketOf(at(50)), N: 1}}}
	for i := range perKey * 2 {
		b.Hits = append(b.Hits, Hit{Rule: "r", Key: []string{"a"}, At: at(1) + entry.Instant(i), Origin: "o",
			Text: fmt.Sprint(i)})
	}
	require.NoError(t, s.Commit(b))
	grown, err := s.Grown()
	require.NoError(t, err)
	require.Len(t, grown, 1)
	require.NoError(t, s.Trim(grown, at(30)))
	hits, err := s.HitsOf(s.KeyID("r", []string{"a"}), at(59), 10*perKey)
	require.NoError(t, err)
	assert.Len(t, hits, perKey)
	assert.Equal(t, fmt.Sprint(perKey*2-1), hits[0].Text, "the newest are kept")
	assert.Equal(t, at(50), s.First())
}

func TestOpenSaysWhatIsWrong(t *testing.T) {
	_, err := OpenToRead(t.TempDir())
	assert.ErrorContains(t, err, "no service has run there yet")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "lantern.db"), []byte("this is no database, but a text"),
		0o600))
	x, err := Open(dir)
	require.NoError(t, err)
	require.NotNil(t, x.Damage)
	assert.ErrorContains(t, x.Damage, "nothing of it can be read")
	aside, err := os.ReadFile(x.Damage.Aside)
	require.NoError(t, err)
	assert.Equal(t, "this is no database, but a text", string(aside), "nothing is thrown away")
	require.NoError(t, x.Close())
	s, dir := open(t)
	_, err = s.db.Exec("PRAGMA user_version = 99")
	require.NoError(t, err)
	s.Close()
	_, err = Open(dir)
	assert.ErrorContains(t, err, "newer version")
}

// The hits of an origin come newest first, each entry once, whatever rules and keys had it; and
// entries of the past that come late are noticed.
func TestHitsFromAnOrigin(t *testing.T) {
	s, _ := open(t)
	hit := func(rule string, m int, origin, text string) Hit {
		return Hit{Rule: rule, Key: []string{"a"}, At: at(m), Origin: origin, Offset: int64(m), Text: text}
	}
	late := s.Late()
	require.NoError(t, s.Commit(&Batch{Hits: []Hit{hit("r", 1, "h:/x", "low"), hit("r2", 1, "h:/x", "low"),
		hit("r", 2, "h:/y", "other"), hit("r", 3, "h:/x", "lower"), hit("r", 9, "h:/x", "later")},
		Ticks: []Tick{{Origin: "h:/x", Bucket: BucketOf(entry.Of(time.Now())), N: 5}}}))
	assert.Equal(t, late, s.Late())
	list, err := s.HitsFrom("h:/x", at(5), 10)
	require.NoError(t, err)
	var got []string
	for _, h := range list {
		got = append(got, h.Text)
	}
	assert.Equal(t, []string{"lower", "low"}, got)
	list, err = s.HitsFrom("h:/x", at(20), 1)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, []any{"later", "h:/x"}, []any{list[0].Text, list[0].Origin})
	list, err = s.HitsFrom("h:/nowhere", at(20), 10)
	require.NoError(t, err)
	assert.Empty(t, list)
	require.NoError(t, s.Commit(&Batch{Ticks: []Tick{{Origin: "h:/x", Bucket: BucketOf(at(1)), N: 5}}}))
	assert.Greater(t, s.Late(), late)
}

// Who looks into a database that is just being made does not keep it from being made.
func TestOpenWhileOthersLook(t *testing.T) {
	for range 100 {
		dir := t.TempDir()
		done := make(chan struct{})
		var lookers sync.WaitGroup
		for range 4 {
			lookers.Go(func() {
				for {
					if s, err := OpenToRead(dir); err == nil {
						s.SeriesOf("app")
						s.Close()
					}
					select {
					case <-done:
						return
					default:
					}
				}
			})
		}
		s, err := Open(dir)
		close(done)
		lookers.Wait()
		require.NoError(t, err)
		require.NoError(t, s.Close())
	}
}

// What is old goes in pieces; what is open stays, with its evidence and history, and so does what is newer.
func TestLetGo(t *testing.T) {
	s, _ := open(t)
	key := func(n int) []string { return []string{fmt.Sprint(n)} }
	for n := range 100 {
		raised := transition(engine.Raised, fmt.Sprint("a", n), 1, entry.Warning)
		cleared := transition(engine.Cleared, fmt.Sprint("a", n), 2, entry.Warning)
		raised.Key, cleared.Key = key(n), key(n)
		b := &Batch{Transitions: []engine.Transition{raised}, Around: map[string][]byte{raised.Alert: []byte("[]")},
			Hits: []Hit{{Rule: raised.Rule, Key: key(n), At: at(1), Origin: "o", Text: "low"}}}
		if n >= 10 { // ten stay open
			if n >= 90 { // ten ended later
				cleared.At = at(30)
			}
			b.Transitions = append(b.Transitions, cleared)
		}
		require.NoError(t, s.Commit(b))
	}
	pieces := 0
	for more := true; more; pieces++ {
		var err error
		more, err = s.LetGo(at(20), at(20), 7)
		require.NoError(t, err)
	}
	assert.Greater(t, pieces, 10)
	for query, want := range map[string]int{"SELECT count(*) FROM alerts": 20, "SELECT count(*) FROM around": 20,
		"SELECT count(*) FROM hits":        20,
		"SELECT count(*) FROM transitions": 10 + 10} { // raises of the open ones, and later ends
		var n int
		require.NoError(t, s.ask.QueryRow(query).Scan(&n))
		assert.Equal(t, want, n, query)
	}
	parts, _, err := s.Parts(at(40))
	require.NoError(t, err)
	assert.EqualValues(t, 20, parts["alerts"].Rows)
	assert.Positive(t, parts["history"].Bytes)
}
