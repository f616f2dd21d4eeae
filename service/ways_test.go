package service

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/entry"
	"dimlantern/store"
)

// running runs a service on settings until the test ends, or stop is called.
func running(t *testing.T, settings string, input io.Reader) (s *Service, data string, stop func()) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "settings"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "settings", "s.lantern"), []byte(settings), 0o644))
	data = filepath.Join(dir, "data")
	s, err := Open(Options{Settings: filepath.Join(dir, "settings"), Data: data, Input: input})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	once := false
	stop = func() {
		if !once {
			once = true
			cancel()
			require.NoError(t, <-ended)
		}
	}
	t.Cleanup(stop)
	return s, data, stop
}

const pipedRule = "source piped {\n input\n keep 1h\n}\nrule low {\n problem /low (?<n>\\d+)/\n per n\n raise error\n clear by hand\n}\n"

// The lines around a hit stay with its alert when the log itself has gone.
func TestEvidenceOutlivesItsLog(t *testing.T) {
	in, out := io.Pipe()
	defer out.Close()
	s, data, _ := running(t, pipedRule, in)
	_, err := io.WriteString(out, "one before\nlow 7\none behind\n")
	require.NoError(t, err)
	ask := func() *Detail {
		open, err := s.store.Alerts(0, entry.Of(time.Now()))
		require.NoError(t, err)
		if len(open) == 0 {
			return &Detail{}
		}
		d, err := s.Detail(context.Background(), DetailQuery{Rule: "low", Key: []string{"7"}, Alert: open[0].Alert, Lines: 50})
		require.NoError(t, err)
		return d
	}
	said := func(d *Detail) string {
		var all []string
		for _, l := range d.Lines {
			all = append(all, l.Text)
		}
		return strings.Join(all, "|")
	}
	require.Eventually(t, func() bool { return said(ask()) == "one behind|low 7|one before" }, 10*time.Second, 20*time.Millisecond)
	require.Eventually(t, func() bool { bare, err := s.store.Bare(); return err == nil && len(bare) == 0 }, 20*time.Second, 50*time.Millisecond)
	require.NoError(t, os.RemoveAll(filepath.Join(data, "kept")))
	d := ask()
	assert.Equal(t, "one behind|low 7|one before", said(d))
	assert.Contains(t, d.Unread, "kept with the alert")
	assert.True(t, d.Lines[1].Hit)
}

// Where entries cannot be kept, that is shown, a stream waits, and nothing of it is
// lost.
func TestWhatCannotBeKeptWaits(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := l.Addr().String()
	l.Close()
	s, data, stop := running(t, fmt.Sprintf("source boxes {\n listen syslog tcp %q\n}\nrule low {\n problem /low (?<n>\\d+)/\n per n\n raise error\n clear by hand\n}\n", at), nil)
	require.NoError(t, os.MkdirAll(filepath.Join(data, "kept"), 0o700))
	block := filepath.Join(data, "kept", "boxes")
	require.NoError(t, os.WriteFile(block, nil, 0o600)) // its folder cannot be made
	var c net.Conn
	require.Eventually(t, func() bool { c, err = net.Dial("tcp", at); return err == nil }, 5*time.Second, 5*time.Millisecond)
	const n = 60_000
	go func() {
		for i := range n {
			fmt.Fprintf(c, "<13>Nov 24 05:32:28 host-a pumpd: low %d\n", i)
		}
		c.Close()
	}()
	troubled := func() bool {
		v, err := s.View(context.Background(), ViewQuery{Column: time.Minute, Columns: 10})
		require.NoError(t, err)
		return strings.Contains(strings.Join(v.Trouble, "\n"), "cannot be kept")
	}
	if !assert.Eventually(t, troubled, 8*time.Second, 20*time.Millisecond) {
		v, _ := s.View(context.Background(), ViewQuery{Column: time.Minute, Columns: 10})
		w, _ := s.ways.view("boxes")
		t.Fatal(v.Trouble, w, s.ways.kept.Failed(), s.catching, s.failed)
	}
	v, err := s.Sources(context.Background(), ViewQuery{Column: time.Minute, Columns: 10})
	require.NoError(t, err)
	assert.Positive(t, v.Sources[0].Way.Waiting)
	require.NoError(t, os.Remove(block))
	require.Eventually(t, func() bool {
		v, err := s.Sources(context.Background(), ViewQuery{Column: time.Minute, Columns: 10})
		require.NoError(t, err)
		return len(v.Sources[0].Origins) == 1 && v.Sources[0].Origins[0].Entries == n
	}, 30*time.Second, 50*time.Millisecond)
	require.Eventually(t, func() bool { return !troubled() }, 10*time.Second, 20*time.Millisecond)
	stop()
	kept := store.OpenKept(data)
	last, ok := kept.Last(store.KeptOrigin{Source: "boxes", Host: "host-a", Way: "127.0.0.1"})
	require.True(t, ok)
	assert.Equal(t, fmt.Sprintf("<13>Nov 24 05:32:28 host-a pumpd: low %d", n-1), string(last.Text))
}

// A service that was joined answers as the one inside does.
func TestJoinedIsTheSame(t *testing.T) {
	in, out := io.Pipe()
	defer out.Close()
	s, data, _ := running(t, pipedRule, in)
	ctx, cancel := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- s.Serve(ctx) }()
	defer func() { cancel(); require.NoError(t, <-served) }()
	_, err := io.WriteString(out, "one before\nlow 7\nlow 8\none behind\n")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		v, err := s.View(ctx, ViewQuery{Column: time.Minute, Columns: 60})
		return err == nil && len(v.Open) == 2
	}, 10*time.Second, 10*time.Millisecond)
	now := entry.Of(time.Now())
	joined := Join(data)
	require.Eventually(t, func() bool {
		_, err := joined.View(ctx, ViewQuery{Column: time.Minute, Columns: 60})
		return err == nil
	}, 5*time.Second, 10*time.Millisecond)
	v, err := s.View(ctx, ViewQuery{At: now, Column: time.Minute, Columns: 60})
	require.NoError(t, err)
	alert := v.Open[0]
	origin := s.host + ":input"
	for name, ask := range map[string]func(l Lantern) (any, error){
		"view": func(l Lantern) (any, error) {
			v, err := l.View(ctx, ViewQuery{At: now, Column: time.Minute, Columns: 60})
			if v != nil {
				v.Now = 0
			}
			return v, err
		},
		"sources": func(l Lantern) (any, error) {
			return l.Sources(ctx, ViewQuery{At: now, Column: time.Minute, Columns: 60})
		},
		"entries": func(l Lantern) (any, error) { return l.Entries(ctx, EntriesQuery{Origin: origin, At: now, Lines: 10}) },
		"detail": func(l Lantern) (any, error) {
			return l.Detail(ctx, DetailQuery{Rule: alert.Rule, Key: alert.Key, Alert: alert.Alert, At: now, Lines: 10})
		},
		"bring": func(l Lantern) (any, error) { return l.Bring(ctx, BringQuery{Path: data + "/*"}) },
		"no such": func(l Lantern) (any, error) {
			_, err := l.Entries(ctx, EntriesQuery{Origin: "nobody"})
			return fmt.Sprint(err), nil
		},
		"clear": func(l Lantern) (any, error) { return fmt.Sprint(l.Clear(ctx, ClearQuery{Alert: "nonsense"})), nil },
	} {
		a, err := ask(s)
		require.NoError(t, err, name)
		b, err := ask(joined)
		require.NoError(t, err, name)
		x, err := json.Marshal(a)
		require.NoError(t, err)
		y, err := json.Marshal(b)
		require.NoError(t, err)
		assert.JSONEq(t, string(x), string(y), name)
	}
	require.NoError(t, joined.Clear(ctx, ClearQuery{Alert: alert.Alert, By: "mira"}))
	v, err = s.View(ctx, ViewQuery{Column: time.Minute, Columns: 60})
	require.NoError(t, err)
	assert.Len(t, v.Open, 1)
}
