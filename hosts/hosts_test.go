package hosts_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"dimlantern/folder"
	"dimlantern/hosts"
	"dimlantern/hosts/sim"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/nats-io/nkeys"
	"github.com/stretchr/testify/require"
)

// office keeps in memory what a centre keeps, and takes rows by the books.
type office struct {
	mu     sync.Mutex
	values map[string][]byte
	books  hosts.Books
	rows   map[string][]hosts.Facts // by host, those that were taken
	told   []string
	texts  []folder.Text
}

func (o *office) Keep(_ context.Context, values map[string][]byte) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	for n, v := range values {
		if o.values[n] = v; v == nil {
			delete(o.values, n)
		}
	}
	return nil
}

func (o *office) KeepEntries(string, string, *hosts.KeptEntries) error { return nil }

func (o *office) Told(words string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.told = append(o.told, words)
}

func (o *office) heard(words string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return strings.Contains(strings.Join(o.told, "\n"), words)
}

func (o *office) Take(_ context.Context, rows []hosts.Sent) ([]hosts.Taken, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	var out []hosts.Taken
	for i := range rows {
		var f hosts.Facts
		json.Unmarshal(rows[i].Row.Facts, &f)
		what, take, words := o.books.Judge(rows[i].ID, &rows[i].Row, f.Whole)
		if words != "" {
			o.told = append(o.told, words)
		}
		if out = append(out, what); take {
			o.rows[rows[i].ID] = append(o.rows[rows[i].ID], f)
		}
	}
	return out, nil
}

func (o *office) page(id string) (int64, string, int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	p := o.books.Page(id)
	return p.Seq, p.Sum, p.Again
}

func (o *office) settle() hosts.Settings {
	o.mu.Lock()
	defer o.mu.Unlock()
	s, _ := folder.CheckErrors(o.texts)
	return hosts.Settings{Lang: s, Texts: o.texts}
}

const settings = `group pumps { hosts "pump-*" }
source app {
  files "/var/log/app.log"
  for   pumps
}
rule low {
  on       app
  problem  /low/
  recovery /fine/
  per      nothing
  raise    warning
  for      pumps
}
`

func newOffice() *office {
	return &office{values: map[string][]byte{}, rows: map[string][]hosts.Facts{},
		texts: []folder.Text{{Name: "all.lantern", Body: settings}}}
}

func open(t *testing.T, o *office, dir string, now func() time.Time, listen string) *hosts.Centre {
	t.Helper()
	c, err := hosts.OpenCentre(hosts.Options{Listen: listen, Dir: dir, Office: o, Values: o.values, Books: o.page,
		Settle: o.settle, Now: now})
	require.NoError(t, err)
	return c
}

func invite(t *testing.T, c *hosts.Centre, name string, n int) hosts.Code {
	t.Helper()
	code, _, err := c.Invite(context.Background(), []string{name}, n, time.Hour, "127.0.0.1", "mara")
	require.NoError(t, err)
	read, err := hosts.ReadCode(code.Text())
	require.NoError(t, err)
	return read
}

// Codes that were used, have ended, were altered or name another host are refused, each with what to do.
func TestJoiningIsRefused(t *testing.T) {
	now := time.Now()
	var mu sync.Mutex
	clock := func() time.Time { mu.Lock(); defer mu.Unlock(); return now }
	o := newOffice()
	c := open(t, o, t.TempDir(), clock, "127.0.0.1:0")
	defer c.Close()
	join := func(code hosts.Code, name string) error {
		_, err := hosts.Join(context.Background(), code, name, "1", t.TempDir(), false)
		return err
	}
	code := invite(t, c, "pump-*", 1)
	require.ErrorContains(t, join(code, "lock-1"), "called pump-*")
	require.ErrorContains(t, join(code, "pump 1"), "letters, digits")
	require.NoError(t, join(code, "pump-1"))
	require.ErrorContains(t, join(code, "pump-2"), "used by as many")
	more := invite(t, c, "*", 5)
	require.ErrorContains(t, join(more, "pump-1"), "joined already")
	for _, v := range o.values {
		require.NotContains(t, string(v), more.Secret, "the centre keeps the hash alone")
	}
	wrong := more
	wrong.Print = strings.Repeat("0", len(wrong.Print))
	require.ErrorIs(t, join(wrong, "pump-3"), hosts.ErrFingerprint)
	wrong = more
	wrong.Secret = "x" + wrong.Secret
	require.ErrorContains(t, join(wrong, "pump-3"), "does not know this code")
	list := c.Invitations()
	require.NoError(t, c.TakeBack(context.Background(), list[0].ID))
	require.ErrorContains(t, join(more, "pump-3"), "does not know this code")
	late := invite(t, c, "*", 5)
	mu.Lock()
	now = now.Add(2 * time.Hour)
	mu.Unlock()
	require.ErrorContains(t, join(late, "pump-3"), "has ended")
	_, err := hosts.ReadCode("dim-lantern-invitation:xx")
	require.ErrorContains(t, err, "no code")

	// Certificates are renewed under the authority that the hosts know: by our clock the new one is not valid yet.
	mu.Lock()
	now = now.Add(400 * 24 * time.Hour)
	mu.Unlock()
	require.ErrorContains(t, join(invite(t, c, "*", 1), "pump-4"), "not yet valid")
}

// eventually waits for a condition.
func eventually(t *testing.T, what string, is func() bool) {
	t.Helper()
	require.Eventually(t, is, 20*time.Second, 5*time.Millisecond, what)
}

// A host that does what it may not is refused by the broker, and what it sends that is no row harms nobody.
func TestWrongHands(t *testing.T) {
	o := newOffice()
	c := open(t, o, t.TempDir(), time.Now, "127.0.0.1:0")
	defer c.Close()
	code := invite(t, c, "pump-*", 9)
	good, err := sim.Join(context.Background(), code, sim.Options{Name: "pump-1", Data: t.TempDir()})
	require.NoError(t, err)
	defer good.Stop()
	bad := t.TempDir()
	_, err = hosts.Join(context.Background(), code, "pump-2", "1", bad, false)
	require.NoError(t, err)
	id, err := hosts.Joined(bad)
	require.NoError(t, err)
	other, err := c.ID("pump-1")
	require.NoError(t, err)

	denied := make(chan error, 100)
	nc := speak(t, id, denied)
	defer nc.Close()
	js, err := jetstream.New(nc)
	require.NoError(t, err)
	mine := "lantern.up." + id.ID
	for _, subject := range []string{"lantern.up." + other, "lantern.ask." + other + ".revision", "lantern.join",
		"lantern.down." + other + ".news", "$JS.API.STREAM.DELETE.LANTERN-UP", "$JS.API.STREAM.PURGE.LANTERN-UP",
		"$JS.API.STREAM.MSG.GET.LANTERN-UP", "$SYS.REQ.SERVER.PING"} {
		require.NoError(t, nc.Publish(subject, []byte("{}")))
		wantDenied(t, nc, denied, subject)
	}
	for _, subject := range []string{">", "lantern.>", "lantern.up.>", "lantern.down." + other + ".>",
		"_INBOX_" + other + ".>"} {
		_, err := nc.SubscribeSync(subject)
		require.NoError(t, err)
		wantDenied(t, nc, denied, subject)
	}
	ctx := context.Background()
	row := func(seq int64, prev, facts string) hosts.Row {
		r := hosts.Row{Folder: "f", Seq: seq, Prev: prev, Facts: json.RawMessage(facts)}
		r.Sum = hosts.SumOf(prev, r.Facts)
		return r
	}
	send := func(r any) {
		b, err := json.Marshal(r)
		require.NoError(t, err)
		_, err = js.Publish(ctx, mine, b)
		require.NoError(t, err)
	}
	taken := func() int { o.mu.Lock(); defer o.mu.Unlock(); return len(o.rows[id.ID]) }
	first := row(1, "", `{"made":1}`)
	send(first)
	eventually(t, "the row is taken", func() bool { return taken() == 1 })
	send(first)                           // the same once more
	send("no row")                        // nothing that a host sends
	send(row(7, first.Sum, `{"made":2}`)) // with a gap
	send(row(1, "", `{"made":9}`))        // the same number with other content
	second := row(2, first.Sum, `{"made":3}`)
	send(second)
	eventually(t, "the second is taken", func() bool { return taken() == 2 })
	require.True(t, o.heard("no row"))
	eventually(t, "a clone is told", func() bool { return o.heard("cloned") })
	_, _, again := o.page(id.ID)
	require.Equal(t, int64(1), again, "what was missing was asked for once")

	// A flood is bounded, and the other host is heard meanwhile.
	for range 1000 {
		nc.Publish(mine, []byte(`"flood"`))
	}
	eventually(t, "the other host reports", func() bool { return good.Up() })
	big := make([]byte, 9<<20)
	err = nc.Publish(mine, big)
	require.True(t, errors.Is(err, nats.ErrMaxPayload), err)
}

// speak connects as a host does.
func speak(t *testing.T, id *hosts.Identity, denied chan error) *nats.Conn {
	t.Helper()
	key, err := nkeys.FromSeed([]byte(id.Seed))
	require.NoError(t, err)
	pub, err := key.PublicKey()
	require.NoError(t, err)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM([]byte(id.CA)))
	nc, err := nats.Connect("tls://"+id.Address, nats.Secure(&tls.Config{RootCAs: pool,
		ServerName: "centre.dimlantern"}), nats.Nkey(pub, key.Sign), nats.CustomInboxPrefix("_INBOX_"+id.ID),
		nats.NoReconnect(),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) { denied <- err }))
	require.NoError(t, err)
	return nc
}

func wantDenied(t *testing.T, nc *nats.Conn, denied chan error, what string) {
	t.Helper()
	require.NoError(t, nc.Flush())
	select {
	case err := <-denied:
		require.ErrorIs(t, err, nats.ErrPermissionViolation, what)
	case <-time.After(5 * time.Second):
		t.Fatalf("%s was not refused", what)
	}
}

// A host obeys no revision that is not signed by its centre, or is for another host; names of files that lead
// elsewhere are refused.
func TestRevisionsAreProven(t *testing.T) {
	o, p := newOffice(), newOffice()
	c, d := open(t, o, t.TempDir(), time.Now, "127.0.0.1:0"), open(t, p, t.TempDir(), time.Now, "127.0.0.1:0")
	defer c.Close()
	defer d.Close()
	var revisions [2][]byte
	var ids [2]*hosts.Identity
	for i, centre := range []*hosts.Centre{c, d} {
		data := t.TempDir()
		h, err := sim.Join(context.Background(), invite(t, centre, "pump-*", 2), sim.Options{Name: "pump-1",
			Data: data})
		require.NoError(t, err)
		_, err = centre.Roll(hosts.RollQuery{To: []string{"all"}}, true)
		require.NoError(t, err)
		eventually(t, "it runs", func() bool {
			s, _ := h.State(context.Background())
			return s.Runs.Number == 1
		})
		h.Stop()
		ids[i], err = hosts.Joined(data)
		require.NoError(t, err)
		r, err := hosts.Kept(data, ids[i])
		require.NoError(t, err)
		require.Equal(t, []string{"pumps"}, r.Groups)
		revisions[i] = r.Raw()
	}
	_, err := hosts.ReadRevision(revisions[0], ids[0])
	require.NoError(t, err)
	_, err = hosts.ReadRevision(revisions[1], ids[0])
	require.ErrorContains(t, err, "not signed by the centre")
	stranger := *ids[0]
	stranger.ID = "other"
	_, err = hosts.ReadRevision(revisions[0], &stranger)
	require.ErrorContains(t, err, "for another host")
	for i := range len(revisions[0]) { // nothing that was changed on the way is obeyed
		if i%7 != 0 {
			continue
		}
		b := append([]byte(nil), revisions[0]...)
		b[i] ^= 1
		if r, err := hosts.ReadRevision(b, ids[0]); err == nil {
			require.Equal(t, int64(1), r.Number)
			require.Equal(t, "pump-1", r.Name)
			require.Equal(t, fmt.Sprint(mustRead(t, revisions[0], ids[0]).Texts), fmt.Sprint(r.Texts))
		}
	}
}

func mustRead(t *testing.T, b []byte, id *hosts.Identity) *hosts.Revision {
	t.Helper()
	r, err := hosts.ReadRevision(b, id)
	require.NoError(t, err)
	return r
}

// A connection that delays, drops and is cut loses nothing and doubles nothing.
func TestBadLines(t *testing.T) {
	o := newOffice()
	c := open(t, o, t.TempDir(), time.Now, "127.0.0.1:0")
	defer c.Close()
	proxy := newProxy(t, c.Address())
	code := invite(t, c, "pump-*", 1)
	code.Address = proxy.Addr().String()
	h, err := sim.Join(context.Background(), code, sim.Options{Name: "pump-1", Data: t.TempDir()})
	require.NoError(t, err)
	defer h.Stop()
	id, err := c.ID("pump-1")
	require.NoError(t, err)
	_, err = c.Roll(hosts.RollQuery{To: []string{"all"}}, true)
	require.NoError(t, err)
	eventually(t, "it runs", func() bool { s, _ := h.State(context.Background()); return s.Runs.Number == 1 })
	const n = 200
	for i := range n {
		h.Log("app", "pump low", "pump fine")
		if i%40 == 20 {
			proxy.cut()
		}
		proxy.slow(time.Duration(i%3) * time.Millisecond)
		time.Sleep(time.Millisecond)
	}
	eventually(t, "all has come", func() bool {
		seq, _, _ := o.page(id)
		s, _ := h.State(context.Background())
		return seq == s.Seq
	})
	o.mu.Lock()
	defer o.mu.Unlock()
	raised := 0
	for _, f := range o.rows[id] {
		raised += len(f.Transitions)
	}
	require.Equal(t, 2*n, raised, "each raise and each clear once")
}

// A host whose key is old gets a new one while it runs, and comes in by it: that the centre forgets the old one
// later does not keep it out.
func TestAKeyIsRenewedWhileTheHostRuns(t *testing.T) {
	o := newOffice()
	c := open(t, o, t.TempDir(), time.Now, "127.0.0.1:0")
	defer c.Close()
	proxy := newProxy(t, c.Address())
	code := invite(t, c, "pump-*", 1)
	code.Address = proxy.Addr().String()
	data := t.TempDir()
	h, err := sim.Join(context.Background(), code, sim.Options{Name: "pump-1", Data: data})
	require.NoError(t, err)
	_, err = c.Roll(hosts.RollQuery{To: []string{"all"}}, true)
	require.NoError(t, err)
	eventually(t, "it runs", func() bool { s, _ := h.State(context.Background()); return s.Runs.Number == 1 })
	h.Stop()
	joined := func() *hosts.Identity {
		id, err := hosts.Joined(data)
		require.NoError(t, err)
		return id
	}
	id := joined()
	id.Made = id.Made.Add(-2 * 365 * 24 * time.Hour)
	member := hosts.NewMember(data, id, h, slog.New(slog.DiscardHandler))
	ctx, stop := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() { member.Run(ctx) })
	defer running.Wait()
	defer stop()
	first := joined().Seed
	eventually(t, "it has a new key", func() bool { return joined().Seed != first })

	now := joined()
	nc := speak(t, now, make(chan error, 10))
	defer nc.Close()
	key, err := nkeys.CreateUser() // a year later
	require.NoError(t, err)
	pub, err := key.PublicKey()
	require.NoError(t, err)
	_, err = nc.Request("lantern.ask."+now.ID+".renew", []byte(`{"key":"`+pub+`"}`), 5*time.Second)
	require.NoError(t, err)
	proxy.cut()
	h.Log("app", "pump low", "pump fine")
	member.Fresh()
	eventually(t, "what it says comes", func() bool {
		seq, _, _ := o.page(now.ID)
		s, _ := h.State(context.Background())
		return s.Seq > 0 && seq == s.Seq
	})
}

// proxy stands between a host and the centre.
type proxy struct {
	net.Listener
	mu    sync.Mutex
	conns []net.Conn
	wait  time.Duration
}

func newProxy(t *testing.T, to string) *proxy {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := &proxy{Listener: l}
	t.Cleanup(func() { l.Close(); p.cut() })
	go func() {
		for {
			a, err := l.Accept()
			if err != nil {
				return
			}
			b, err := net.Dial("tcp", to)
			if err != nil {
				a.Close()
				continue
			}
			p.mu.Lock()
			p.conns = append(p.conns, a, b)
			p.mu.Unlock()
			go p.carry(a, b)
			go p.carry(b, a)
		}
	}()
	return p
}

func (p *proxy) carry(from, to net.Conn) {
	defer from.Close()
	defer to.Close()
	buf := make([]byte, 16<<10)
	for {
		n, err := from.Read(buf)
		if err != nil {
			return
		}
		p.mu.Lock()
		wait := p.wait
		p.mu.Unlock()
		time.Sleep(wait) // which is what it is for
		if _, err := to.Write(buf[:n]); err != nil {
			return
		}
	}
}

func (p *proxy) slow(by time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.wait = by
}

func (p *proxy) cut() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range p.conns {
		c.Close()
	}
	p.conns = nil
}

// A revision goes to one host first, then to all; it stops after refusals; an earlier one comes back under a new
// number; who joins gets the newest that went to its whole group. All of it outlives the centre.
func TestRolling(t *testing.T) {
	o := newOffice()
	dir := t.TempDir()
	c := open(t, o, dir, time.Now, "127.0.0.1:0")
	code := invite(t, c, "pump-*", 50)
	shared := &sim.Shared{}
	join := func(name string, local ...folder.Text) *sim.Host {
		h, err := sim.Join(context.Background(), code, sim.Options{Name: name, Data: t.TempDir(), Local: local,
			Shared: shared})
		require.NoError(t, err)
		t.Cleanup(h.Kill)
		return h
	}
	var list []*sim.Host
	for i := range 6 {
		list = append(list, join(fmt.Sprintf("pump-%d", i)))
	}
	runs := func(h *sim.Host) int64 { s, _ := h.State(context.Background()); return s.Runs.Number }
	refuses := func(h *sim.Host) int64 {
		s, _ := h.State(context.Background())
		if s.Runs.Refuses == nil {
			return 0
		}
		return s.Runs.Refuses.Number
	}
	roll := func(q hosts.RollQuery) *hosts.RollDone {
		t.Helper()
		done, err := c.Roll(q, true)
		require.NoError(t, err)
		return done
	}
	set := func(text string) {
		o.mu.Lock()
		defer o.mu.Unlock()
		o.texts = []folder.Text{{Name: "all.lantern", Body: text}}
	}
	shown, err := c.Roll(hosts.RollQuery{To: []string{"all"}}, false)
	require.NoError(t, err)
	require.Len(t, shown.Hosts, 6)
	require.Zero(t, runs(list[0]), "it was only shown")
	require.Equal(t, []string{"pump-3"}, roll(hosts.RollQuery{To: []string{"pump-3"}}).Hosts)
	eventually(t, "one runs it", func() bool { return runs(list[3]) == 1 })
	require.Zero(t, runs(list[0]))
	require.True(t, roll(hosts.RollQuery{To: []string{"group pumps"}}).Same, "the same goes to more hosts")
	eventually(t, "all run it", func() bool {
		for _, h := range list {
			if runs(h) != 1 {
				return false
			}
		}
		return true
	})
	newcomer := join("pump-9")
	eventually(t, "who joins gets what its group has", func() bool { return runs(newcomer) == 1 })

	// A test that fails is found here, before anything goes out; what fails on hosts alone stops the rollout.
	set(strings.Replace(settings, "problem  /low/", "problem  /low/ and", 1))
	_, err = c.Roll(hosts.RollQuery{To: []string{"all"}}, true)
	require.Error(t, err)
	failing := strings.Replace(settings, "  for      pumps\n}",
		"  for      pumps\n\n  expect \"x\" {\n    at 10:00 \"fine\"\n"+
			"    then raised\n  }\n}", 1)
	set(failing)
	done := roll(hosts.RollQuery{To: []string{"all"}, Stop: 2})
	require.Equal(t, int64(2), done.Number)
	require.Contains(t, done.Words, "changed: rule low")
	eventually(t, "the rollout halts", func() bool { _, halted := c.Revisions(); return halted != "" })
	n := 0
	for _, h := range append(list, newcomer) {
		require.Equal(t, int64(1), runs(h), "all go on with what they had")
		if refuses(h) == 2 {
			n++
		}
	}
	require.Equal(t, 2, n, "no more than two have tried it")
	require.True(t, o.heard("stopped after 2 refusals"))

	back := roll(hosts.RollQuery{To: []string{"all"}, Back: 1})
	require.Equal(t, int64(3), back.Number)
	eventually(t, "the earlier text is back under a new number", func() bool {
		for _, h := range list {
			if runs(h) != 3 || refuses(h) != 0 {
				return false
			}
		}
		return true
	})
	_, err = c.Roll(hosts.RollQuery{To: []string{"all"}, Back: 77}, true)
	require.ErrorContains(t, err, "no revision 77")
	_, err = c.Roll(hosts.RollQuery{To: []string{"lock-1"}}, true)
	require.ErrorContains(t, err, "no host called lock-1")
	_, err = c.Roll(hosts.RollQuery{To: []string{"group nobody"}}, true)
	require.ErrorContains(t, err, "no group")

	// Another centre on the same data knows all of it.
	address := c.Address()
	c.Close()
	c = open(t, o, dir, time.Now, address)
	defer c.Close()
	revisions, _ := c.Revisions()
	require.Len(t, revisions, 3)
	require.Equal(t, int64(1), revisions[0].Back)
	eventually(t, "the hosts come back", func() bool {
		up := 0
		for _, s := range c.Statuses() {
			if !s.Heard.IsZero() && s.State.Runs.Number == 3 {
				up++
			}
		}
		return up == 7
	})
	code = invite(t, c, "pump-*", 5)
	late := join("pump-11")
	eventually(t, "who joins later gets the newest", func() bool { return runs(late) == 3 })

	// A host that is ended in order is not silent; one that is renamed goes on; one that is forgotten may not.
	late.Stop()
	eventually(t, "it has said goodbye", func() bool {
		for _, s := range c.Statuses() {
			if s.Name == "pump-11" {
				return s.State.Bye && !s.Silent
			}
		}
		return false
	})
	_, err = c.Rename("pump-0", "pump-1")
	require.ErrorContains(t, err, "joined already")
	_, err = c.Rename("pump-0", "pump-00")
	require.NoError(t, err)
	_, err = c.ID("pump-0")
	require.Error(t, err)
	_, err = c.Forget("pump-00")
	require.NoError(t, err)
	eventually(t, "it is let in no more", func() bool { return !list[0].Up() })
	require.True(t, list[1].Up())
}
