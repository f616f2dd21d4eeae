package channel

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/lang"
	"dimlantern/intake/feed"
)

func event(n int) string {
	return fmt.Sprintf(`<Event xmlns="x"><System><EventID>%d</EventID><EventRecordID>%d</EventRecordID><Channel>`+
		`Berths</Channel><Computer>lock-1</Computer></System><EventData><Data Name="Gate">3</Data></EventData>`+
		`</Event>`, 2310+n%2, n)
}

// hosting serves a host on a socket of its own.
func hosting(t require.TestingT, dir string, h *Host) (at string, stop func()) {
	at = filepath.Join(dir, "h.sock")
	l, err := ListenAt(at)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	go h.Serve(ctx, l)
	return at, cancel
}

// take takes messages until there are n events, or time is up.
func take(t require.TestingT, f feed.Feed, n int) (records []string, position string) {
	deadline := time.Now().Add(10 * time.Second)
	for len(records) < n && time.Now().Before(deadline) {
		for _, m := range f.Take(1000) {
			if m.Text != nil {
				records = append(records, element(m.Text, "EventRecordID"))
			}
			if m.Position != "" {
				position = m.Position
			}
		}
		time.Sleep(time.Millisecond)
	}
	return records, position
}

// Whatever is added, however often a reader comes back with its place: every event is
// read once, in order, but for those that had gone, which are counted, and a log
// that was cleared begins anew.
func TestHostEqualsModel(t *testing.T) {
	base, err := os.MkdirTemp("", "ch-")
	require.NoError(t, err)
	defer os.RemoveAll(base)
	rapid.Check(t, func(t *rapid.T) {
		const most = 20
		dir, err := os.MkdirTemp(base, "")
		require.NoError(t, err)
		h := NewHost("lock-1")
		h.Open("Berths", most)
		at, stop := hosting(t, dir, h)
		defer stop()
		var log []string // what stands in the channel, by record
		position := ""
		begin := lang.Begin{How: lang.BeginOldest}
		n, readTo := 0, 0 // readTo counts within log
		for range rapid.IntRange(1, 6).Draw(t, "times") {
			if rapid.IntRange(0, 4).Draw(t, "clear") == 0 {
				h.Clear("Berths")
				log, readTo = nil, 0
			}
			for range rapid.IntRange(0, 30).Draw(t, "events") {
				n++
				text := event(n)
				h.Add("Berths", time.Now(), func(int64) string { return text })
				log = append(log, fmt.Sprint(n))
			}
			from := max(readTo, len(log)-most)
			want := log[min(from, len(log)):]
			ctx, cancel := context.WithCancel(context.Background())
			f := newClient(at, []string{"Berths"}, begin, map[string]string{"Berths": position})
			go f.Run(ctx)
			require.Eventually(t, func() bool { return !f.busy1("Berths") }, 10*time.Second, time.Millisecond)
			got, p := take(t, f, len(want))
			cancel()
			require.Equal(t, len(want), len(got))
			if len(want) > 0 {
				require.Equal(t, want, got)
			}
			if p != "" {
				position = p
			}
			readTo = len(log)
		}
	})
}

func (f *follower) busy1(channel string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.busy[channel]
}

// A folder's files are the same events, however they grow, and in whatever form.
func TestFolderInPieces(t *testing.T) {
	base := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp(base, "")
		require.NoError(t, err)
		defer os.RemoveAll(dir)
		f := newFolder(dir, []string{"Berths"}, lang.Begin{How: lang.BeginOldest}, nil)
		ctx := context.Background()
		wide := rapid.Bool().Draw(t, "UTF-16")
		text := "<Events>\n"
		var want []string
		for i := range rapid.IntRange(1, 12).Draw(t, "events") {
			text += event(i) + rapid.SampledFrom([]string{"", "\r\n", " <!-- x -->\n"}).Draw(t, "between")
			want = append(want, fmt.Sprint(i))
		}
		raw := []byte(text)
		if wide {
			raw = []byte{0xff, 0xfe}
			for _, r := range text {
				raw = append(raw, byte(r), byte(r>>8))
			}
		}
		var got []string
		position := ""
		for len(raw) > 0 {
			n := rapid.IntRange(1, len(raw)).Draw(t, "piece")
			file, err := os.OpenFile(filepath.Join(dir, "a.xml"), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
			require.NoError(t, err)
			_, err = file.Write(raw[:n])
			require.NoError(t, err)
			require.NoError(t, file.Close())
			raw = raw[n:]
			for f.look(ctx) {
			}
			for _, m := range f.Take(1000) {
				if m.Text != nil {
					got = append(got, element(m.Text, "EventRecordID"))
				}
				if m.Position != "" {
					position = m.Position
				}
			}
			if rapid.Bool().Draw(t, "restart") {
				f = newFolder(dir, []string{"Berths"}, lang.Begin{How: lang.BeginOldest},
					map[string]string{stream: position})
			}
		}
		require.Equal(t, want, got)
	})
}

func TestInfoSays(t *testing.T) {
	h := NewHost("lock-1")
	h.Open("Berths", 10)
	h.Open("Valves", 10)
	h.Open("Wages", 10)
	h.SwitchOff("Valves")
	h.Forbid("Wages", "the account dimlantern may not read it")
	h.Add("Berths", time.Now(), func(int64) string { return event(1) })
	var said []string
	for _, x := range h.list() {
		said = append(said, x.Name+": "+x.Say())
	}
	assert.Equal(t, []string{"Berths: it may be read", "Valves: it may be read, and has no event: it is switched " +
		"off at its host",
		"Wages: the account dimlantern may not read it"}, said)
}

// FuzzHost: whatever a host answers, the client says what is wrong, or goes on.
func FuzzHost(f *testing.F) {
	f.Add([]byte("{\"begin\":{\"log\":\"a\",\"record\":3}}\n{\"event\":\"<Event/>\",\"record\":4}\n{\"idle\":true}\n"))
	f.Add([]byte("{\"cleared\":true,\"log\":\"b c\"}\n{\"gap\":-1}\nnonsense"))
	f.Add([]byte("{\"error\":{\"words\":\"no\"}}"))
	f.Fuzz(func(t *testing.T, answers []byte) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer l.Close()
		go func() {
			c, err := l.Accept()
			if err != nil {
				return
			}
			c.Write(answers)
			c.Close()
		}()
		c := newClient(l.Addr().String(), []string{"Berths"}, lang.Begin{}, nil)
		words, _ := c.follow(context.Background(), "Berths")
		require.NotEmpty(t, words)
		c.State()
	})
}

// FuzzEvents: no file breaks the finding of events in it.
func FuzzEvents(f *testing.F) {
	f.Add([]byte("<Events>"+event(1)+event(2)+"</Events>"), 0)
	f.Add([]byte("\xff\xfe<\x00E\x00v\x00e\x00n\x00t\x00>\x00"), 1)
	f.Add([]byte(strings.Repeat("<Event ", 100)), 2)
	f.Fuzz(func(t *testing.T, file []byte, wide int) {
		text, width := decode(file, (wide%3+3)%3)
		require.LessOrEqual(t, width(text), max(len(file), 3*len(text)))
		for done := 0; ; {
			from, to := nextEvent(text[done:])
			require.GreaterOrEqual(t, from, 0)
			if to < 0 {
				return
			}
			require.Less(t, from, to)
			require.True(t, bytes.HasPrefix(text[done+from:], []byte("<Event")))
			Computer(text[done+from : done+to])
			done += to
		}
	})
}
