//go:build !windows

package service

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/match"
)

// heap is how much memory is in use, in bytes.
func heapNow() uint64 {
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}

// Whatever a log holds and whatever receivers answer, all of it larger, longer or more than
// anybody expects: each alert is told, the service answers meanwhile, it stops when it is
// asked to, and its memory stays bounded.
func TestGauntletOutside(t *testing.T) {
	left := 25
	switch {
	case testing.Short():
		left = 5
	case os.Getenv("DIMLANTERN_LONG") != "":
		left = 1 << 30
	}
	rapid.Check(t, func(rt *rapid.T) {
		if left--; left < 0 {
			return
		}
		answers := rapid.SampledFrom([]string{"short", "long", "endless", "slow"}).Draw(rt, "answers")
		b := &box{}
		srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			body, _ := io.ReadAll(r.Body)
			b.put(string(body))
			switch answers {
			case "long":
				io.WriteString(w, strings.Repeat("yes ", 1<<20))
			case "endless":
				for i := 0; i < 1<<12; i++ {
					if _, err := io.WriteString(w, strings.Repeat("yes ", 1<<10)); err != nil {
						return
					}
				}
			case "slow":
				time.Sleep(50 * time.Millisecond)
			}
		}))
		defer srv.Close()
		p := &place{t: rt, dir: t.TempDir()}
		program := rapid.SampledFrom([]string{"/usr/bin/yes", "/bin/cat", "/bin/false"}).Draw(rt, "program")
		p.write("settings/app.lantern", fmt.Sprintf("source app {\n files %q\n begin oldest\n layout l\n}\nlayout "+
			"l {\n pattern /^(?<at>\\S+) (?<text>.*)$/\n time at rfc3339\n}\nrule long {\n problem /pump "+
			"(?<pump>.*): low/\n per pump\n raise error\n say \"{pump} is low {count} times\"\n clear by "+
			"hand\n}\nsettings {\n tell duty, door\n mail server \"127.0.0.1:1\" from "+
			"\"lantern@gullhaven.example\"\n}\ncontact duty {\n webhook %q\n mail "+
			"\"duty@gullhaven.example\"\n}\ncontact door {\n command %q \"{pump}\"\n}\n",
			filepath.Join(p.dir, "app.log"), srv.URL, program))
		p.write("settings/note.txt", "no settings")
		require.NoError(rt, syscall.Mkfifo(filepath.Join(p.dir, "settings", "pipe.lantern"), 0o644))
		p.append("")
		before := heapNow()
		s, err := Open(Options{Settings: filepath.Join(p.dir, "settings"), Data: filepath.Join(p.dir, "data")})
		require.NoError(rt, err)
		ctx, cancel := context.WithCancel(context.Background())
		ended := make(chan error, 1)
		go func() { ended <- s.Run(ctx) }()
		require.Eventually(rt, func() bool {
			caught := false
			return s.do(context.Background(), func() error { caught = s.decider.Caught; return nil }) == nil && caught
		}, patience, 10*time.Millisecond)
		piece := rapid.SampledFrom([]string{"x", "é", "\u202e", "\x1b[2J", "\x00", "\xff", "👩‍🚒", "a b", "{pump}",
			"%s", "\"]", "'; rm -rf /", "<b>", "=?utf-8?q?"}).Draw(rt, "piece")
		size := rapid.SampledFrom([]int{1, 100, 4095, 4096, 4097, 100_000, 1 << 20, 3 << 20}).Draw(rt, "size")
		many := rapid.IntRange(1, 8).Draw(rt, "many")
		for i := range many {
			p.append(fmt.Sprintf("%s pump %d%s: low\n", time.Now().UTC().Format("2006-01-02T15:04:05.000Z"), i,
				strings.Repeat(piece, max(1, size/len(piece)))))
		}
		p.append(time.Now().UTC().Format("2006-01-02T15:04:05.000Z") + " pump last: low\n")
		require.Eventually(rt, func() bool {
			asked := time.Now()
			st, err := s.query.Status(context.Background(), api.None{})
			require.NoError(rt, err)
			require.Less(rt, time.Since(asked), 5*time.Second, "it answers")
			require.Contains(rt, strings.Join(st.Trouble, "\n"), "pipe.lantern")
			return strings.Contains(strings.Join(b.all(), "\n"), `"pump":"last"`)
		}, 2*patience, 20*time.Millisecond)
		for _, x := range b.all() {
			require.Less(rt, len(x), 512<<10, "a message is bounded")
			var e struct {
				Data struct {
					Alerts []struct{ Key map[string]string }
				}
			}
			require.NoError(rt, json.Unmarshal([]byte(x), &e))
			for _, a := range e.Data.Alerts {
				require.LessOrEqual(rt, len(a.Key["pump"]), 4*entry.MostValue)
			}
		}
		asked := time.Now()
		cancel()
		require.NoError(rt, <-ended)
		require.Less(rt, time.Since(asked), 10*time.Second, "it stops when it is asked to")
		require.Less(rt, int64(heapNow())-int64(before), int64(200<<20), "memory is bounded")
	})
}

// Senders over UDP can be forged, in address and in name: who has a log of their own is
// bounded over all, the others share one, and the port goes on.
func TestForgedSenders(t *testing.T) {
	port := "127.0.0.1:" + freeUDP(t)
	s, data, stop := running(t, fmt.Sprintf("source boxes {\n listen syslog udp %q\n}\nrule low {\n problem /low "+
		"(?<n>\\d+)/\n per host, n\n raise error\n clear by hand\n}\n", port), nil)
	require.Eventually(t, func() bool { v, ok := s.ways.view("boxes"); return ok && v.State.Words == "" }, patience,
		10*time.Millisecond)
	send := func(from, text string) {
		c, err := (&net.Dialer{LocalAddr: &net.UDPAddr{IP: net.ParseIP(from)}}).Dial("udp", port)
		require.NoError(t, err)
		defer c.Close()
		_, err = io.WriteString(c, text)
		require.NoError(t, err)
	}
	for i := range 60 {
		for k := range 60 {
			send(fmt.Sprintf("127.0.1.%d", i+1), fmt.Sprintf("<12>1 - box-%d-%d gated - - - all is well", i, k))
		}
		require.Eventually(t, func() bool { v, _ := s.ways.view("boxes"); return !v.State.Behind }, patience,
			time.Millisecond)
	}
	send("127.0.2.1", "<12>1 - "+strings.Repeat("%C3%A9", 40)+" gated - - - a name longer than a file's may be")
	send("127.0.2.2", "<12>1 - lock-9 gated - - - low 7")
	require.Eventually(t, func() bool {
		list, err := s.store.Alerts(0, entry.Of(time.Now()))
		return err == nil && len(list) == 1 && list[0].Key[0] == "lock-9"
	}, 2*patience, 20*time.Millisecond, "the host of an entry in the shared log is its own")
	list, err := os.ReadDir(filepath.Join(data, "kept", "boxes"))
	require.NoError(t, err)
	assert.LessOrEqual(t, len(list), maxSenders+1)
	_, err = os.Stat(filepath.Join(data, "kept", "boxes", match.KeptFolder(match.Many, match.Many)))
	assert.NoError(t, err)
	v, _ := s.ways.view("boxes")
	assert.Contains(t, v.State.Note, "the others share one")
	stop()
}
