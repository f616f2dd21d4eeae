package service

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"dimlantern/core/author"

	"dimlantern/intake/spool"

	"dimlantern/folder"

	"dimlantern/api"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/intake/channel"
	"dimlantern/intake/feed"
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

const pipedRule = "source piped {\n input\n keep 1h\n}\nrule low {\n problem /low (?<n>\\d+)/\n per n\n raise " +
	"error\n clear by hand\n}\n"

// The lines around a hit stay with its alert when the log itself has gone.
func TestEvidenceOutlivesItsLog(t *testing.T) {
	in, out := io.Pipe()
	defer out.Close()
	s, data, _ := running(t, pipedRule, in)
	_, err := io.WriteString(out, "one before\nlow 7\none behind\n")
	require.NoError(t, err)
	ask := func() *api.Detail {
		open, err := s.store.Alerts(0, entry.Of(time.Now()))
		require.NoError(t, err)
		if len(open) == 0 {
			return &api.Detail{}
		}
		d, err := s.query.Detail(context.Background(),
			api.DetailQuery{Rule: "low", Key: []string{"7"}, Alert: open[0].Alert, Lines: 50})
		require.NoError(t, err)
		return d
	}
	said := func(d *api.Detail) string {
		var all []string
		for _, l := range d.Lines {
			all = append(all, l.Text)
		}
		return strings.Join(all, "|")
	}
	require.Eventually(t, func() bool { return said(ask()) == "one behind|low 7|one before" }, 10*time.Second,
		20*time.Millisecond)
	require.Eventually(t, func() bool { bare, err := s.store.Bare(); return err == nil && len(bare) == 0 },
		20*time.Second, 50*time.Millisecond)
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
	s, data, stop := running(t, fmt.Sprintf("source boxes {\n listen syslog tcp %q\n}\nrule low {\n problem /low "+
		"(?<n>\\d+)/\n per n\n raise error\n clear by hand\n}\n", at), nil)
	require.NoError(t, os.MkdirAll(filepath.Join(data, "kept"), 0o700))
	block := filepath.Join(data, "kept", "boxes")
	require.NoError(t, os.WriteFile(block, nil, 0o600)) // its folder cannot be made
	var c net.Conn
	require.Eventually(t, func() bool { c, err = net.Dial("tcp", at); return err == nil }, 5*time.Second,
		5*time.Millisecond)
	const n = 60_000 / slowness
	go func() {
		for i := range n {
			fmt.Fprintf(c, "<13>Nov 24 05:32:28 host-a pumpd: low %d\n", i)
		}
		c.Close()
	}()
	troubled := func() bool {
		v, err := s.query.View(context.Background(), api.ViewQuery{Column: time.Minute, Columns: 10})
		require.NoError(t, err)
		return strings.Contains(strings.Join(v.Trouble, "\n"), "cannot be kept")
	}
	if !assert.Eventually(t, troubled, 8*time.Second, 20*time.Millisecond) {
		v, _ := s.query.View(context.Background(), api.ViewQuery{Column: time.Minute, Columns: 10})
		w, _ := s.ways.view("boxes")
		t.Fatal(v.Trouble, w, s.ways.kept.Failed(), s.catching, s.failed)
	}
	v, err := s.query.Sources(context.Background(), api.ViewQuery{Column: time.Minute, Columns: 10})
	require.NoError(t, err)
	assert.Positive(t, v.Sources[0].Way.Waiting)
	require.NoError(t, os.Remove(block))
	require.Eventually(t, func() bool {
		v, err := s.query.Sources(context.Background(), api.ViewQuery{Column: time.Minute, Columns: 10})
		require.NoError(t, err)
		return len(v.Sources[0].Origins) == 1 && v.Sources[0].Origins[0].Entries == n
	}, 30*time.Second, 50*time.Millisecond)
	require.Eventually(t, func() bool { return !troubled() }, 10*time.Second, 20*time.Millisecond)
	stop()
	kept := spool.Open(data)
	last, ok := kept.Last(spool.Origin{Source: "boxes", Host: "host-a", Way: "127.0.0.1"})
	require.True(t, ok)
	assert.Equal(t, fmt.Sprintf("<13>Nov 24 05:32:28 host-a pumpd: low %d", n-1), string(last.Text))
}

// A service that was joined answers as the one inside does.
func TestJoinedIsTheSame(t *testing.T) {
	in, out := io.Pipe()
	defer out.Close()
	s, data, _ := running(t, pipedRule, in)
	logs := t.TempDir()
	for _, name := range []string{"a.log", "b.log"} {
		require.NoError(t, os.WriteFile(filepath.Join(logs, name), []byte("2026-11-24 05:32:28 pump 7: low\n"), 0o600))
	}
	ctx, cancel := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- s.Serve(ctx) }()
	defer func() { cancel(); require.NoError(t, <-served) }()
	_, err := io.WriteString(out, "one before\nlow 7\nlow 8\none behind\n")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		v, err := s.query.View(ctx, api.ViewQuery{Column: time.Minute, Columns: 60})
		return err == nil && len(v.Open) == 2
	}, 10*time.Second, 10*time.Millisecond)
	now := entry.Of(time.Now())
	assert.Empty(t, s.Desk().Missing())
	joined := Join(data)
	require.Eventually(t, func() bool {
		_, err := api.AskView.Call(ctx, joined, api.ViewQuery{Column: time.Minute, Columns: 60})
		return err == nil
	}, 5*time.Second, 10*time.Millisecond)
	v, err := s.query.View(ctx, api.ViewQuery{At: now, Column: time.Minute, Columns: 60})
	require.NoError(t, err)
	alert := v.Open[0]
	origin := s.house.Host + ":input"
	for name, ask := range map[string]func(l api.Lantern) (any, error){
		"view": func(l api.Lantern) (any, error) {
			v, err := api.AskView.Call(ctx, l, api.ViewQuery{At: now, Column: time.Minute, Columns: 60})
			if v != nil {
				v.Now = 0
			}
			return v, err
		},
		"sources": func(l api.Lantern) (any, error) {
			return api.AskSources.Call(ctx, l, api.ViewQuery{At: now, Column: time.Minute, Columns: 60})
		},
		"entries": func(l api.Lantern) (any, error) {
			return api.AskEntries.Call(ctx, l, api.EntriesQuery{Origin: origin, At: now, Lines: 10})
		},
		"detail": func(l api.Lantern) (any, error) {
			return api.AskDetail.Call(ctx, l, api.DetailQuery{Rule: alert.Rule, Key: alert.Key, Alert: alert.Alert,
				At: now, Lines: 10})
		},
		"bring": func(l api.Lantern) (any, error) {
			return api.DoBring.Call(ctx, l, api.BringQuery{Path: logs + "/*"})
		},
		"no such": func(l api.Lantern) (any, error) {
			_, err := api.AskEntries.Call(ctx, l, api.EntriesQuery{Origin: "nobody"})
			return fmt.Sprint(err), nil
		},
		"clear": func(l api.Lantern) (any, error) {
			_, err := api.DoClear.Call(ctx, l, api.ClearQuery{Alert: "nonsense"})
			return fmt.Sprint(err), nil
		},
	} {
		a, err := ask(s.Desk())
		require.NoError(t, err, name)
		b, err := ask(joined)
		require.NoError(t, err, name)
		x, err := json.Marshal(a)
		require.NoError(t, err)
		y, err := json.Marshal(b)
		require.NoError(t, err)
		assert.JSONEq(t, string(x), string(y), name)
	}
	_, err = api.DoClear.Call(ctx, joined, api.ClearQuery{Alert: alert.Alert, Person: api.Person{By: "mira"}})
	require.NoError(t, err)
	v, err = s.query.View(ctx, api.ViewQuery{Column: time.Minute, Columns: 60})
	require.NoError(t, err)
	assert.Len(t, v.Open, 1)
}

// fakeFeed brings numbered messages of several hosts, from its position on.
type fakeFeed struct {
	at, most int
}

func (f *fakeFeed) Take(n int) []feed.Message {
	var out []feed.Message
	for ; len(out) < n && f.at < f.most; f.at++ {
		place := fmt.Sprint(f.at + 1)
		out = append(out, feed.Message{Host: fmt.Sprintf("host-%d", f.at%3), Way: "Berths", Peer: place,
			Arrived: entry.Of(time.Now()), Text: []byte("event " + place), Stream: "Berths", Position: place})
	}
	return out
}

// Whenever it is cut off, between the entries of one host and those of another, or
// before their place is remembered: each entry is kept once, in its order.
func TestKeptOnce(t *testing.T) {
	base := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		data, err := os.MkdirTemp(base, "")
		require.NoError(t, err)
		src := &lang.Source{Name: "control", Channels: []string{"Berths"}, At: []string{"/nowhere.sock"}}
		settings := &lang.Settings{Sources: []*lang.Source{src}}
		n := 0
		for range rapid.IntRange(1, 8).Draw(t, "lives") {
			w := newWays(data, "self", "", nil, func(string) {})
			c := &collector{w: w, source: src, plan: match.NewPlan(settings, src, nil, time.UTC),
				hosts: map[string]map[string]bool{}}
			positions := w.kept.Positions("control")
			c.resume(positions)
			from, _ := strconv.Atoi(positions.Streams["Berths"].Position)
			n += rapid.IntRange(0, 12).Draw(t, "new")
			f := &fakeFeed{at: from, most: n}
			for {
				batch := f.Take(rapid.IntRange(1, 9).Draw(t, "batch"))
				if len(batch) == 0 {
					break
				}
				saved := filepath.Join(data, "kept", "control", "positions.json")
				before, had := os.ReadFile(saved)
				sizes := map[string]int64{}
				for host := range 3 {
					for _, path := range keptFiles(w.kept, keptOrigin(host)) {
						info, err := os.Stat(path)
						require.NoError(t, err)
						sizes[path] = info.Size()
					}
				}
				require.True(t, c.keep(batch))
				if rapid.IntRange(0, 3).Draw(t, "crash") > 0 {
					continue
				}
				// A crash before the place was remembered, and perhaps before all were kept.
				os.Remove(saved)
				if had == nil {
					require.NoError(t, os.WriteFile(saved, before, 0o600))
				}
				if host := rapid.IntRange(-1, 2).Draw(t, "lost"); host >= 0 {
					for _, path := range keptFiles(w.kept, keptOrigin(host)) {
						require.NoError(t, os.Truncate(path, sizes[path]))
					}
				}
				break
			}
			w.kept.Close()
		}
		w := newWays(data, "self", "", nil, func(string) {})
		c := &collector{w: w, source: src, plan: match.NewPlan(settings, src, nil, time.UTC),
			hosts: map[string]map[string]bool{}}
		positions := w.kept.Positions("control")
		c.resume(positions)
		from, _ := strconv.Atoi(positions.Streams["Berths"].Position)
		c.keep((&fakeFeed{at: from, most: n}).Take(n))
		for host := range 3 {
			var want strings.Builder
			for i := host; i < n; i += 3 {
				fmt.Fprintf(&want, "event %d\n", i+1)
			}
			require.Equal(t, want.String(), keptTexts(t, w.kept, keptOrigin(host)), "host-%d", host)
		}
		w.kept.Close()
	})
}

// keptFiles are the segments of an origin; where an hour has just passed there are two.
func keptFiles(k *spool.Spool, o spool.Origin) []string {
	list, _ := filepath.Glob(filepath.Join(k.Folder(o), "entries-*.log"))
	return list
}

func keptOrigin(host int) spool.Origin {
	return spool.Origin{Source: "control", Host: fmt.Sprintf("host-%d", host), Way: "Berths"}
}

func keptTexts(t require.TestingT, k *spool.Spool, o spool.Origin) string {
	var out strings.Builder
	for _, path := range keptFiles(k, o) {
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		for _, line := range strings.SplitAfter(string(b), "\n") {
			if _, _, text, ok := match.CutKept([]byte(line)); ok {
				out.Write(text)
			}
		}
	}
	return out.String()
}

// What is no file is offered with what it says lately, and written as a source that
// checks clean.
func TestOffers(t *testing.T) {
	dir, err := os.MkdirTemp("", "of-")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	at := filepath.Join(dir, "h.sock")
	h := channel.NewHost("lock-1")
	h.Open("Berths", 10)
	h.Open("Valves", 10)
	for i := range 3 {
		h.Add("Berths", time.Now(), func(record int64) string {
			return fmt.Sprintf(`<Event><System><EventID>%d</EventID><Level>3</Level><EventRecordID>`+
				`%d</EventRecordID><Channel>Berths</Channel></System><RenderingInfo><Message>Fender `+
				`load.</Message></RenderingInfo></Event>`, 301+i%2, record)
		})
	}
	l, err := channel.ListenAt(at)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go h.Serve(ctx, l)
	s, _, _ := running(t, "source other {\n channel \"X\" at "+lang.Quote(at)+
		"\n}\nsource taken {\n listen syslog udp \"127.0.0.1:5599\"\n}\n", nil)
	bring := func(typed string, write bool) *api.Brought {
		b, err := s.bench.Bring(ctx, api.BringQuery{Path: typed, Write: write})
		require.NoError(t, err)
		return b
	}
	b := bring("chan", false)
	require.Len(t, b.Offers, 1)
	assert.Equal(t, "channel", b.Offers[0].Type)
	b = bring("channel", false)
	require.Len(t, b.Offers, 2)
	assert.Equal(t, "channel Berths at "+at, b.Offers[0].Type)
	assert.Equal(t, "2 × 301 warning  Fender load.", b.Offers[0].Detail[0])
	assert.Contains(t, b.Offers[1].Words, "is it switched on at the host?")
	assert.Empty(t, b.Text)
	b = bring("channel Berths at "+at, false)
	assert.Equal(t, "source berths {\n  channel \"Berths\" at "+lang.Quote(at)+"\n  begin   now\n}\n", b.Text)
	_, ds := folder.Check([]folder.Text{{Name: "t", Body: b.Text}})
	assert.Empty(t, ds)
	b = bring("channel Berths at "+at+", /nowhere.sock only event == 301", false)
	assert.Contains(t, b.Text, "  channel \"Berths\" at "+lang.Quote(at)+
		", \"/nowhere.sock\"\n  only    event == 301\n")
	assert.Contains(t, b.Words, "no channel host is at /nowhere.sock")

	assert.Contains(t, bring("syslog udp 5599", false).Offers[0].Words, "the source taken listens there already")
	port := freeUDP(t)
	b = bring("syslog udp "+port, false)
	require.Empty(t, b.Words)
	c, err := net.Dial("udp", "127.0.0.1:"+port)
	require.NoError(t, err)
	defer c.Close()
	require.Eventually(t, func() bool {
		fmt.Fprint(c, "<12>Nov 24 05:32:28 lock-3 pumpd: pump 7: low")
		b = bring("syslog udp "+port, false)
		return len(b.Usual) > 0
	}, 10*time.Second, 20*time.Millisecond)
	assert.Contains(t, b.Offers[0].Detail[0], "127.0.0.1 sends")
	assert.Equal(t, "pump 7: low", b.Usual[0].Text)
	b = bring("syslog udp "+port, true)
	require.True(t, b.Done)
	require.Eventually(t, func() bool { // the port was let go of, and its source has it
		fmt.Fprint(c, "<12>Nov 24 05:32:28 lock-3 pumpd: pump 7: low")
		v, err := s.query.Sources(ctx, api.ViewQuery{Column: time.Minute, Columns: 10})
		require.NoError(t, err)
		for _, x := range v.Sources {
			if strings.HasPrefix(x.Name, "syslog-udp-") {
				return len(x.Origins) == 1 && x.Origins[0].Entries > 0
			}
		}
		return false
	}, 10*time.Second, 20*time.Millisecond)
}

func freeUDP(t *testing.T) string {
	t.Helper()
	c, err := net.ListenPacket("udp", ":0")
	require.NoError(t, err)
	defer c.Close()
	_, port, err := net.SplitHostPort(c.LocalAddr().String())
	require.NoError(t, err)
	return port
}

// The same channel of several hosts: what comes of each is told apart, one that goes is blind alone,
// and after a restart each goes on where it was, with another host beside it as well.
func TestChannelsOfSeveralHosts(t *testing.T) {
	dir, err := os.MkdirTemp("", "ch-")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	event := func(host string, n int) string {
		return fmt.Sprintf(`<Event><System><EventID>301</EventID><Level>3</Level><EventRecordID>%d</EventRecordID>`+
			`<Channel>Berths</Channel><Computer>%s</Computer></System><RenderingInfo><Message>Fender %d.`+
			`</Message></RenderingInfo></Event>`, n, host, n)
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var hosts []*channel.Host
	var places []string
	var ends []context.CancelFunc
	serve := func(i int) {
		l, err := channel.ListenAt(places[i])
		require.NoError(t, err)
		ctx, end := context.WithCancel(ctx)
		ends[i] = end
		go hosts[i].Serve(ctx, l)
	}
	for i := range 3 {
		h := channel.NewHost(fmt.Sprintf("lock-%d", i))
		h.Open("Berths", 100)
		hosts, ends = append(hosts, h), append(ends, nil)
		places = append(places, filepath.Join(dir, fmt.Sprint(i, ".sock")))
		serve(i)
	}
	added := map[int]int{}
	add := func(i int) {
		hosts[i].Add("Berths", time.Now(), func(record int64) string {
			return event(fmt.Sprintf("lock-%d", i), int(record))
		})
		added[i]++
	}
	text := func(places ...string) string {
		var at []string
		for _, p := range places {
			at = append(at, lang.Quote(p))
		}
		return "source berths {\n channel \"Berths\" at " + strings.Join(at, ", ") +
			"\n begin oldest\n}\nrule fender {\n problem event == 301\n per host\n raise error\n clear by hand\n}\n"
	}
	add(0)
	add(1)
	s, data, stop := running(t, text(places[0], places[1]), nil)
	state := func() map[string]string {
		v, err := s.query.Sources(ctx, api.ViewQuery{Column: time.Minute, Columns: 10})
		require.NoError(t, err)
		out := map[string]string{}
		for _, x := range v.Sources {
			for _, o := range x.Origins {
				out[o.Host] += fmt.Sprintf("%d %v ", o.Entries, o.Blind)
			}
		}
		return out
	}
	is := func(want map[string]string) {
		t.Helper()
		if !assert.Eventually(t, func() bool { return assert.ObjectsAreEqual(want, state()) }, 10*time.Second,
			10*time.Millisecond) {
			t.Fatal(want, state())
		}
	}
	is(map[string]string{"lock-0": "1 false ", "lock-1": "1 false "})
	asked, err := s.query.Sources(ctx, api.ViewQuery{Column: time.Minute, Columns: 10})
	require.NoError(t, err)
	for _, x := range asked.Sources {
		for _, o := range x.Origins { // fields and rules come from what is kept of a channel as from a log
			fields, err := s.bench.Fields(ctx, api.FieldsQuery{Origin: o.Name, Which: "usual", Lines: 5})
			require.NoError(t, err)
			require.Len(t, fields.Lines, 1)
			assert.Contains(t, fields.Lines[0].Raw, "<Event>")
			begun, err := s.bench.BeginRule(ctx, api.BeginQuery{Origin: o.Name, Raw: fields.Lines[0].Raw})
			require.NoError(t, err)
			assert.Contains(t, begun.Text, "problem event == 301")
		}
	}
	ends[0]()
	is(map[string]string{"lock-0": "1 true ", "lock-1": "1 false "})
	add(0)
	add(1)
	is(map[string]string{"lock-0": "1 true ", "lock-1": "2 false "})
	serve(0)
	is(map[string]string{"lock-0": "2 false ", "lock-1": "2 false "})
	stop()
	add(0)
	add(2)
	settings := filepath.Join(filepath.Dir(data), "settings")
	body := text(places[1], places[2], places[0])
	require.NoError(t, os.WriteFile(filepath.Join(settings, "s.lantern"), []byte(body), 0o644))
	s, err = Open(Options{Settings: settings, Data: data})
	require.NoError(t, err)
	ended := make(chan error, 1)
	run, end := context.WithCancel(ctx)
	go func() { ended <- s.Run(run) }()
	is(map[string]string{"lock-0": "3 false ", "lock-1": "2 false ", "lock-2": "1 false "})
	end()
	require.NoError(t, <-ended)
}

// At the start what a channel had meanwhile is judged among what files had, in the
// order of their times.
func TestBacklogsAreMerged(t *testing.T) {
	dir, err := os.MkdirTemp("", "bm-")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	h := channel.NewHost("lock-1")
	h.Open("Berths", 100)
	now := time.Now().UTC().Truncate(time.Second)
	h.Add("Berths", now.Add(-5*time.Minute), func(record int64) string {
		return fmt.Sprintf(`<Event><System><EventID>301</EventID><TimeCreated SystemTime="%s"/><EventRecordID>`+
			`%d</EventRecordID><Channel>Berths</Channel><Computer>lock-1</Computer></System><RenderingInfo>`+
			`<Message>low 2</Message></RenderingInfo></Event>`,
			now.Add(-5*time.Minute).Format(time.RFC3339), record)
	})
	l, err := channel.ListenAt(filepath.Join(dir, "h.sock"))
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go h.Serve(ctx, l)
	log := filepath.Join(dir, "a.log")
	require.NoError(t, os.WriteFile(log, []byte(fmt.Sprintf("%s low 1\n%s low 3\n",
		now.Add(-10*time.Minute).Format(time.RFC3339), now.Add(-time.Minute).Format(time.RFC3339))), 0o644))
	s, _, _ := running(t, "source a {\n files "+lang.Quote(log)+
		"\n begin oldest\n layout l\n}\nlayout l {\n pattern /^(?<at>\\S+) (?<text>.*)$/\n time at rfc3339\n}\n"+
		"source b {\n channel \"Berths\" at "+lang.Quote(filepath.Join(dir, "h.sock"))+
		"\n begin oldest\n}\nrule low {\n problem /low (?<n>\\d)/\n per n\n raise error\n clear by hand\n}\n", nil)
	var got []store.Alert
	require.Eventually(t, func() bool {
		got, err = s.store.Alerts(0, entry.Of(time.Now()))
		return err == nil && len(got) == 3
	}, 10*time.Second, 10*time.Millisecond)
	for _, a := range got {
		want := map[string]time.Duration{"1": 10 * time.Minute, "2": 5 * time.Minute, "3": time.Minute}[a.Key[0]]
		assert.Equal(t, entry.Of(now.Add(-want)), a.Raised, "low %s is raised at its own time", a.Key[0])
	}
}

// The entries of a moment that a rotated and compressed copy holds are shown from it.
func TestEntriesOfAMomentInACopy(t *testing.T) {
	dir := t.TempDir()
	log := filepath.Join(dir, "a.log")
	now := time.Now().UTC().Truncate(time.Second)
	line := func(ago time.Duration, text string) string {
		return now.Add(-ago).Format(time.RFC3339) + " " + text + "\n"
	}
	require.NoError(t, os.WriteFile(log+".1", []byte(line(2*time.Hour, "first")+line(100*time.Minute, "second")),
		0o644))
	old := now.Add(-100 * time.Minute)
	require.NoError(t, os.Chtimes(log+".1", old, old))
	require.NoError(t, os.WriteFile(log, []byte(line(time.Minute, "newest")), 0o644))
	s, _, _ := running(t, "source a {\n files "+lang.Quote(log)+
		"\n begin oldest\n layout l\n}\nlayout l {\n pattern /^(?<at>\\S+) (?<text>.*)$/\n time at rfc3339\n}\n", nil)
	origin := s.house.Host + ":" + log
	texts := func(ago time.Duration) string {
		q := api.EntriesQuery{Origin: origin, Lines: 10}
		if ago > 0 {
			q.At = entry.Of(now.Add(-ago))
		}
		e, err := s.query.Entries(context.Background(), q)
		if err != nil {
			return err.Error()
		}
		var out []string
		for _, l := range e.Lines {
			out = append(out, l.Text)
		}
		return strings.Join(out, " ")
	}
	require.Eventually(t, func() bool { return texts(0) == "newest" }, 5*time.Second, 5*time.Millisecond)
	assert.Equal(t, "second first", texts(99*time.Minute+time.Second))
	assert.Equal(t, "first", texts(110*time.Minute))
	out, err := exec.Command("gzip", log+".1").CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Equal(t, "first", texts(110*time.Minute))
}

// A rule that begins with an event asks for its identifier, and counts by what the
// event names.
func TestRuleFromAnEvent(t *testing.T) {
	s, ds := folder.Check([]folder.Text{{Name: "t",
		Body: "source control {\n channel \"Access\" at \"/h.sock\"\n}\n"}})
	require.Empty(t, ds)
	src := s.Sources[0]
	plan := match.NewPlan(s, src, nil, time.UTC)
	raw := `<Event><System><Provider Name="Harbour-Control"/><EventID>2310</EventID><Level>2</Level><Channel>` +
		`Access</Channel><Computer>lock-1</Computer></System><EventData><Data Name="Gate">3</Data><Data ` +
		`Name="Sensor">upper</Data></EventData><RenderingInfo><Message>The position of gate 3 is not ` +
		`known.</Message></RenderingInfo></Event>`
	text, _ := author.Rule(s, src, plan, nil, raw, 0, entry.Of(time.Now()))
	assert.Contains(t, text, "rule position-gate-not-known {")
	assert.Contains(t, text, "problem event == 2310\n  per     host, Gate\n  raise   warning")
	both, ds := folder.Check([]folder.Text{{Name: "t", Body: "source control {\n channel \"Access\" at " +
		"\"/h.sock\"\n}\n"}, {Name: "r", Body: text}})
	require.Empty(t, ds)
	require.Len(t, both.Rules, 1)
}

// Advice is filled from the newest hit, not from the key alone.
func TestAdviceIsFilled(t *testing.T) {
	in, out := io.Pipe()
	defer out.Close()
	s, _, _ := running(t, "source piped {\n input\n}\nrule low {\n problem /pump (?<n>\\d+) low at "+
		"(?<bar>[\\d.]+)/\n per n\n raise error\n clear by hand\n advise \"Pump {n}: it has {bar} bar, {gone}\"\n}\n",
		in)
	_, err := io.WriteString(out, "pump 7 low at 1.2\npump 7 low at 0.9\n")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		open, err := s.store.Alerts(0, entry.Of(time.Now()))
		if err != nil || len(open) == 0 {
			return false
		}
		d, err := s.query.Detail(context.Background(),
			api.DetailQuery{Rule: "low", Key: []string{"7"}, Alert: open[0].Alert, Lines: 5})
		return err == nil && d.Advise == "Pump 7: it has 0.9 bar, {gone}"
	}, 10*time.Second, 10*time.Millisecond)
}
