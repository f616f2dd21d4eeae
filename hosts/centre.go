package hosts

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"dimlantern/core/entry"
	"dimlantern/folder"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// Host is a joined host as the centre keeps it.
type Host struct {
	ID     string        `json:"id"`
	Name   string        `json:"name"`
	Keys   []string      `json:"keys"` // public ones; the newest last
	Joined entry.Instant `json:"joined"`
	By     string        `json:"by,omitempty"` // the invitation
	Was    []string      `json:"was,omitempty"`
	Head   int64         `json:"head,omitempty"` // the revision that is for it
	Last   *State        `json:"last,omitempty"` // what it said last, as it was kept last
}

// Status is how a host is now.
type Status struct {
	Host
	State   State
	Heard   time.Time // when it said something last; zero: not since the centre began
	Silent  bool
	Since   time.Time     // since when it is silent, or has said goodbye
	Clock   time.Duration // how far its clock is ahead of the centre's
	Hash    string        // of the revision that is for it
	Acts    []Act         // that it has not done yet
	Cloned  string        // what shows that it is two machines; "" where nothing does
	Groups  []string
	Address string
}

// Options are what a centre needs.
type Options struct {
	Listen string // HOST:PORT; port 0 is any
	Dir    string // a folder of its own, in the data folder
	Office Office
	Values map[string][]byte // what Office kept
	Books  func(id string) (done int64, sum string, again int64)
	Settle func() Settings // the settings as they are now
	Log    *slog.Logger
	Now    func() time.Time
	// Changed is called when something has changed that screens show.
	Changed func()
}

// Centre is the broker of a centre, and who speaks for it.
type Centre struct {
	o     Options
	own   *authority
	b     *broker
	nc    *nats.Conn
	js    jetstream.JetStream
	began time.Time

	mu      sync.Mutex
	hosts   map[string]*Status // by identifier
	byKey   map[string]string
	byName  map[string]string
	invites map[string]*Invitation
	conns   map[string][]uint64
	runs    map[string][]string // runs of a host that were heard, the newest last
	rolled  rolled
	acts    int64
	// stands is what differs between settings and a revision, by their texts and its number.
	standsOf  []folder.Text
	standsFor int64
	stands    string

	ctx  context.Context
	stop context.CancelFunc
	all  sync.WaitGroup
}

// OpenCentre starts a centre.
func OpenCentre(o Options) (*Centre, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Changed == nil {
		o.Changed = func() {}
	}
	c := &Centre{o: o, hosts: map[string]*Status{}, byKey: map[string]string{}, byName: map[string]string{},
		invites: map[string]*Invitation{}, conns: map[string][]uint64{}, runs: map[string][]string{}, began: o.Now()}
	c.ctx, c.stop = context.WithCancel(context.Background())
	var err error
	if c.own, err = openAuthority(o.Dir, o.Now); err != nil {
		return nil, err
	}
	if err := c.read(o.Values); err != nil {
		return nil, err
	}
	g := &gate{secret: rand.Text(), host: c.hostWith, joins: c.invited, came: c.came}
	if c.b, err = openBroker(o.Listen, filepath.Join(o.Dir, "broker"), c.own, g, o.Log); err != nil {
		return nil, err
	}
	if err := c.start(); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// read takes up what was kept.
func (c *Centre) read(values map[string][]byte) error {
	c.rolled.read(values)
	for name, b := range values {
		kind, id, _ := strings.Cut(name, "/")
		var err error
		switch kind {
		case "host":
			s := &Status{}
			if err = json.Unmarshal(b, &s.Host); err == nil {
				if s.Last != nil {
					s.State = *s.Last
				}
				c.hosts[id], c.byName[s.Name] = s, id
				for _, k := range s.Keys {
					c.byKey[k] = id
				}
			}
		case "invite":
			i := &Invitation{}
			if err = json.Unmarshal(b, i); err == nil {
				c.invites[id] = i
			}
		}
		if err != nil {
			return fmt.Errorf("what is kept of %s is damaged: %w", name, err)
		}
	}
	for name, b := range values {
		if rest, ok := strings.CutPrefix(name, "act/"); ok {
			id, _, _ := strings.Cut(rest, "/")
			var a Act
			if s := c.hosts[id]; s != nil && json.Unmarshal(b, &a) == nil {
				s.Acts = append(s.Acts, a)
			}
		}
	}
	for _, s := range c.hosts {
		slices.SortFunc(s.Acts, func(a, b Act) int {
			return cmp.Or(cmp.Compare(a.At, b.At), cmp.Compare(a.ID,
				b.ID))
		})
	}
	return nil
}

func (c *Centre) start() (err error) {
	if c.nc, err = c.b.connect(); err != nil {
		return fmt.Errorf("the centre cannot reach its own broker: %w", err)
	}
	if c.js, err = jetstream.New(c.nc); err != nil {
		return err
	}
	st, err := c.js.CreateOrUpdateStream(c.ctx, jetstream.StreamConfig{Name: streamUp, Subjects: []string{subjectUp +
		"*"},
		Retention: jetstream.WorkQueuePolicy, Storage: jetstream.FileStorage, MaxBytes: mostUp,
		MaxMsgsPerSubject: mostUpOfHost, Discard: jetstream.DiscardNew, DiscardNewPerSubject: true,
		Duplicates: 2 * time.Minute, MaxMsgSize: mostMessage})
	if err != nil {
		return fmt.Errorf("the broker cannot keep what hosts report: %w", err)
	}
	up, err := st.CreateOrUpdateConsumer(c.ctx, jetstream.ConsumerConfig{Durable: "centre",
		AckPolicy: jetstream.AckExplicitPolicy, AckWait: time.Minute, MaxAckPending: 20_000})
	if err != nil {
		return err
	}
	c.all.Go(func() { c.takeAll(up) })
	if _, err = c.nc.Subscribe(subjectAsk+"*.*", func(m *nats.Msg) { c.answer(m) }); err != nil {
		return err
	}
	if _, err = c.nc.Subscribe(subjectJoin, func(m *nats.Msg) { c.join(m) }); err != nil {
		return err
	}
	c.all.Go(c.watch)
	return c.nc.Flush()
}

// Close ends the broker and all that hangs on it.
func (c *Centre) Close() {
	c.stop()
	if c.nc != nil {
		c.nc.Close()
	}
	c.all.Wait()
	c.b.close()
}

// Address is where hosts reach the centre, as it is bound.
func (c *Centre) Address() string { return c.b.address }

func (c *Centre) hostWith(key string) (string, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	id, ok := c.byKey[key]
	return id, ok
}

func (c *Centre) invited(secret string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	i := c.inviteOf(secret)
	return i != nil
}

// inviteOf is the invitation of a secret, ended ones among them; nil where there is none.
func (c *Centre) inviteOf(secret string) *Invitation {
	h := hashOf(secret)
	for _, i := range c.invites {
		if i.Hash == h {
			return i
		}
	}
	return nil
}

// came notes a connection of a host.
func (c *Centre) came(id string, client uint64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.conns[id] = append(c.conns[id], client)
	if n := len(c.conns[id]); n > 8 {
		c.conns[id] = slices.Clone(c.conns[id][n-8:])
	}
}

// mostTaken is how many rows are handed over at once.
const mostTaken = 2000

// takeAll hands the rows of hosts over, and lets go of those that were committed.
func (c *Centre) takeAll(up jetstream.Consumer) {
	it, err := up.Messages(jetstream.PullMaxMessages(mostTaken))
	if err != nil {
		c.o.Log.Error("what hosts report cannot be read", "reason", err)
		return
	}
	defer it.Stop()
	msgs := make(chan jetstream.Msg, mostTaken)
	go func() {
		defer close(msgs)
		for {
			m, err := it.Next(jetstream.NextContext(c.ctx))
			if err != nil {
				if c.ctx.Err() != nil || errors.Is(err, jetstream.ErrMsgIteratorClosed) {
					return
				}
				c.o.Log.Debug("the broker says", "words", err.Error())
				select {
				case <-c.ctx.Done():
					return
				case <-time.After(100 * time.Millisecond):
				}
				continue
			}
			select {
			case msgs <- m:
			case <-c.ctx.Done():
				return
			}
		}
	}()
	for m := range msgs {
		batch := []jetstream.Msg{m}
	more:
		for len(batch) < mostTaken {
			select {
			case m, ok := <-msgs:
				if !ok {
					break more
				}
				batch = append(batch, m)
			default:
				break more
			}
		}
		c.take(batch)
	}
}

// take hands rows over, again and again until they are committed.
func (c *Centre) take(batch []jetstream.Msg) {
	var rows []Sent
	var of []jetstream.Msg
	for _, m := range batch {
		id, _ := hostOf(m.Subject(), subjectUp)
		var r Row
		if err := json.Unmarshal(m.Data(), &r); err != nil || c.nameOf(id) == "" {
			m.Ack() // of no host, or nothing that a host sends
			if err != nil {
				c.o.Office.Told(fmt.Sprintf("the host %s sent what is no row: %v", cmp.Or(c.nameOf(id), id), err))
			}
			continue
		}
		rows, of = append(rows, Sent{id, r}), append(of, m)
	}
	if len(rows) == 0 {
		return
	}
	var what []Taken
	for {
		var err error
		if what, err = c.o.Office.Take(c.ctx, rows); err == nil {
			break
		}
		select {
		case <-c.ctx.Done():
			return
		case <-time.After(500 * time.Millisecond):
		}
	}
	again := map[string]bool{}
	for i, m := range of {
		m.Ack() // also of those that come again: the host sends them anew
		again[rows[i].ID] = again[rows[i].ID] || what[i] == TakeAgain
	}
	for id, needed := range again {
		if needed {
			c.wake(id)
		}
	}
}

// wake lets a host ask now.
func (c *Centre) wake(id string) { c.nc.Publish(subjectDown+id+".news", nil) }

// nameOf is how a host is called; "" where there is none of that identifier.
func (c *Centre) nameOf(id string) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	if s := c.hosts[id]; s != nil {
		return s.Name
	}
	return ""
}

// Name is how a host is called; "" where there is none of that identifier.
func (c *Centre) Name(id string) string { return c.nameOf(id) }

// problem is an answer that says what is wrong.
type problem struct {
	Problem string `json:"problem,omitempty"`
}

func reply(m *nats.Msg, v any) {
	b, err := json.Marshal(v)
	if err != nil {
		b, _ = json.Marshal(problem{err.Error()})
	}
	m.Respond(b)
}

// answer answers what a host asks.
func (c *Centre) answer(m *nats.Msg) {
	id, what := hostOf(m.Subject, subjectAsk)
	switch what {
	case "alive":
		var s State
		if err := json.Unmarshal(m.Data, &s); err != nil {
			reply(m, problem{"what came is no state of a host: " + err.Error()})
			return
		}
		reply(m, c.alive(id, &s))
	case "keep":
		go c.keepEntries(m, id)
	case "revision":
		b, err := c.revisionOf(id)
		if err != nil {
			reply(m, problem{err.Error()})
			return
		}
		m.Respond(b)
	case "renew":
		reply(m, c.renew(id, m.Data))
	default:
		reply(m, problem{"the centre does not know what is asked: is the host newer than the centre?"})
	}
}

// keepEntries keeps entries that a host hands over, and says so once they are.
func (c *Centre) keepEntries(m *nats.Msg, id string) {
	var k KeptEntries
	if err := json.Unmarshal(m.Data, &k); err != nil {
		reply(m, problem{"what came are no entries: " + err.Error()})
		return
	}
	name := c.nameOf(id)
	if name == "" {
		reply(m, problem{"this host is not joined any more"})
		return
	}
	if err := c.o.Office.KeepEntries(id, name, &k); err != nil {
		reply(m, problem{err.Error()})
		return
	}
	reply(m, problem{})
}

// alive notes how a host is, and says what it has to hear.
func (c *Centre) alive(id string, s *State) any {
	now := c.o.Now()
	done, sum, again := c.o.Books(id)
	c.mu.Lock()
	h := c.hosts[id]
	if h == nil {
		c.mu.Unlock()
		return problem{"this host is not joined any more"}
	}
	was := h.State
	h.State, h.Heard = *s, now
	h.Clock = s.At.Time().Sub(now)
	back := h.Silent
	h.Silent = false
	if s.Bye {
		h.Since = now
	}
	cloned := c.noteRun(h, s)
	heard := Heard{At: entry.Of(now), Name: h.Name, Done: done, Sum: sum, Again: again, Head: h.Head, Acts: h.Acts}
	keep := h.Last == nil || h.Last.Runs.Number != s.Runs.Number || h.Last.Run != s.Run ||
		(h.Last.Runs.Refuses == nil) !=
			(s.Runs.Refuses == nil) || len(h.Last.Blocks) != len(s.Blocks) || h.Last.Bye != s.Bye ||
		blindKeys(h.Last.Blindings) != blindKeys(s.Blindings)
	var kept []byte
	if keep {
		last := *s
		h.Last = &last
		kept, _ = json.Marshal(h.Host)
	}
	name := h.Name
	c.mu.Unlock()
	if kept != nil {
		c.o.Office.Keep(c.ctx, map[string][]byte{"host/" + id: kept})
		c.progress()
	}
	if cloned != "" {
		c.o.Office.Told(fmt.Sprintf("the host %s: %s", name, cloned))
	}
	if len(s.Beyond) > len(was.Beyond) {
		c.o.Office.Told(fmt.Sprintf("the host %s does not let the centre: %s", name, strings.Join(s.Beyond, "; ")))
	}
	if back || was.Bye != s.Bye || keep || !slices.Equal(was.Origins, s.Origins) || was.Minute != s.Minute {
		c.o.Changed()
	}
	return heard
}

// blindKeys is how many keys rules raise where they cannot be seen.
func blindKeys(list []Blinding) (n int) {
	for i := range list {
		n += len(list[i].Keys)
	}
	return n
}

// noteRun notices a host whose key two machines have: their runs take turns.
func (c *Centre) noteRun(h *Status, s *State) string {
	runs := c.runs[h.ID]
	if n := len(runs); n > 0 && runs[n-1] == s.Run {
		return ""
	}
	turns := slices.Contains(runs, s.Run)
	if runs = append(runs, s.Run); len(runs) > 4 {
		runs = slices.Clone(runs[len(runs)-4:])
	}
	c.runs[h.ID] = runs
	if !turns || h.Cloned != "" {
		return ""
	}
	h.Cloned = "two machines speak under its key"
	return h.Cloned + ": has one been cloned? Let it join anew: dimlantern join --again"
}

// watch notices who has fallen silent, and what has to go on.
func (c *Centre) watch() {
	t := time.NewTicker(time.Second)
	defer t.Stop()
	for {
		select {
		case <-c.ctx.Done():
			return
		case <-t.C:
		}
		now := c.o.Now()
		changed := false
		c.mu.Lock()
		for _, h := range c.hosts {
			from := h.Heard
			if from.Before(c.began) {
				from = c.began
			}
			if silent := !h.State.Bye && now.Sub(from) >= Silence; silent && !h.Silent {
				h.Silent, h.Since, changed = true, from, true
			}
		}
		c.mu.Unlock()
		if changed {
			c.o.Changed()
		}
		c.progress()
	}
}

// Statuses are all hosts by name, with their groups.
func (c *Centre) Statuses() []Status {
	settings := c.o.Settle()
	c.mu.Lock()
	defer c.mu.Unlock()
	out := make([]Status, 0, len(c.hosts))
	for _, h := range c.hosts {
		s := *h
		s.Acts = slices.Clone(h.Acts)
		if done, _, _ := c.o.Books(h.ID); s.State.Seq >= done {
			s.State.Waiting = s.State.Seq - done
		} else {
			s.State.Waiting = 0
		}
		if settings.Lang != nil {
			s.Groups, _ = settings.Lang.GroupsOf(h.Name, h.State.facts())
		}
		out = append(out, s)
	}
	slices.SortFunc(out, func(a, b Status) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// joining is what a host asks when it joins.
type joining struct {
	Secret  string `json:"secret"`
	Name    string `json:"name"`
	Key     string `json:"key"`
	OS      string `json:"os"`
	Version string `json:"version"`
}

// joined is what it gets.
type joined struct {
	Problem string `json:"problem,omitempty"`
	ID      string `json:"id"`
	Name    string `json:"name"`
	Centre  string `json:"centre"`
}

// join lets a host join.
func (c *Centre) join(m *nats.Msg) {
	var q joining
	if err := json.Unmarshal(m.Data, &q); err != nil {
		reply(m, joined{Problem: "what came is no wish to join: " + err.Error()})
		return
	}
	out, keep := c.joins(&q)
	if keep != nil {
		if err := c.o.Office.Keep(c.ctx, keep); err != nil {
			c.mu.Lock()
			delete(c.hosts, out.ID)
			delete(c.byName, q.Name)
			delete(c.byKey, q.Key)
			c.mu.Unlock()
			out = joined{Problem: "the centre cannot keep it just now: " + err.Error()}
		} else {
			c.o.Told(fmt.Sprintf("the host %s has joined", q.Name))
			c.o.Changed()
		}
	}
	reply(m, out)
}

// Told says something by the centre's office.
func (o *Options) Told(words string) { o.Office.Told(words) }

func (c *Centre) joins(q *joining) (joined, map[string][]byte) {
	if err := CheckName(q.Name); err != nil {
		return joined{Problem: err.Error()}, nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	i := c.inviteOf(q.Secret)
	if i == nil {
		return joined{Problem: "the centre does not know this code: it was taken back, or is of another centre"}, nil
	}
	now := c.o.Now()
	if why := i.refuses(q.Name, now); why != "" {
		return joined{Problem: why}, nil
	}
	if id, taken := c.byName[q.Name]; taken {
		return joined{Problem: fmt.Sprintf("a host called %s has joined already, on %s: choose another name with join "+
			"--as NAME, or let the centre forget that one: dimlantern hosts forget %s", q.Name,
			c.hosts[id].Joined.Time().Format("2 January 2006 15:04"), q.Name)}, nil
	}
	if !strings.HasPrefix(q.Key, "U") || c.byKey[q.Key] != "" {
		return joined{Problem: "this is no new key of a host"}, nil
	}
	id := strings.ToLower(rand.Text()[:16])
	h := &Status{Host: Host{ID: id, Name: q.Name, Keys: []string{q.Key}, Joined: entry.Of(now), By: i.ID}}
	h.State.OS, h.State.Version = q.OS, q.Version
	h.State.Bye, h.Since = true, now // it has joined, and does not run yet
	h.Head = c.rolled.headFor(h.Name, h.State.facts())
	i.Used = append(i.Used, q.Name)
	c.hosts[id], c.byName[q.Name], c.byKey[q.Key] = h, id, id
	host, _ := os.Hostname()
	kept, _ := json.Marshal(h.Host)
	invite, _ := json.Marshal(i)
	return joined{ID: id, Name: q.Name, Centre: host}, map[string][]byte{"host/" + id: kept, "invite/" + i.ID: invite}
}

// renew takes a new key of a host, by the name of which it asks.
func (c *Centre) renew(id string, data []byte) any {
	var q struct {
		Key string `json:"key"`
	}
	if err := json.Unmarshal(data, &q); err != nil || !strings.HasPrefix(q.Key, "U") {
		return problem{"this is no key of a host"}
	}
	c.mu.Lock()
	h := c.hosts[id]
	if h == nil || c.byKey[q.Key] != "" && c.byKey[q.Key] != id {
		c.mu.Unlock()
		return problem{"this is no new key of a host"}
	}
	if !slices.Contains(h.Keys, q.Key) {
		h.Keys = append(h.Keys, q.Key)
		c.byKey[q.Key] = id
		for len(h.Keys) > 2 { // the last one, where the answer was lost, and this
			delete(c.byKey, h.Keys[0])
			h.Keys = h.Keys[1:]
		}
	}
	kept, _ := json.Marshal(h.Host)
	c.mu.Unlock()
	if err := c.o.Office.Keep(c.ctx, map[string][]byte{"host/" + id: kept}); err != nil {
		return problem{err.Error()}
	}
	return problem{}
}

// Invite makes an invitation; address is where hosts reach this centre, "" finds one.
func (c *Centre) Invite(ctx context.Context, names []string, hosts int, lasts time.Duration, address,
	by string) (Code, Invitation, error) {
	i, secret, err := newInvitation(names, hosts, c.o.Now(), lasts, by)
	if err != nil {
		return Code{}, i, err
	}
	if address == "" {
		address = c.reachable()
	} else if _, _, err := net.SplitHostPort(address); err != nil {
		_, port, _ := net.SplitHostPort(c.Address())
		address = net.JoinHostPort(address, port)
	}
	b, _ := json.Marshal(i)
	if err := c.o.Office.Keep(ctx, map[string][]byte{"invite/" + i.ID: b}); err != nil {
		return Code{}, i, err
	}
	c.mu.Lock()
	c.invites[i.ID] = &i
	c.mu.Unlock()
	return Code{Address: address, Print: c.own.fingerprint(), Sign: c.own.sign.Public().(ed25519.PublicKey),
		Secret: secret}, i, nil
}

// reachable is an address of this machine that hosts can probably reach.
func (c *Centre) reachable() string {
	host, port, _ := net.SplitHostPort(c.Address())
	if ip := net.ParseIP(host); ip != nil && !ip.IsUnspecified() {
		return c.Address()
	}
	name, _ := os.Hostname()
	if list, err := net.InterfaceAddrs(); err == nil {
		for _, a := range list {
			if n, ok := a.(*net.IPNet); ok && n.IP.IsGlobalUnicast() && n.IP.To4() != nil {
				return net.JoinHostPort(n.IP.String(), port)
			}
		}
	}
	return net.JoinHostPort(cmp.Or(name, "127.0.0.1"), port)
}

// Invitations are those that have not ended, the newest first.
func (c *Centre) Invitations() []Invitation {
	c.mu.Lock()
	defer c.mu.Unlock()
	var out []Invitation
	for _, i := range c.invites {
		if entry.Of(c.o.Now()) < i.Until && len(i.Used) < i.Hosts {
			out = append(out, *i)
		}
	}
	slices.SortFunc(out, func(a, b Invitation) int { return cmp.Compare(b.Made, a.Made) })
	return out
}

// find is a host by its name.
func (c *Centre) find(name string) (*Status, error) {
	if h := c.hosts[c.byName[name]]; h != nil {
		return h, nil
	}
	return nil, fmt.Errorf("no host called %s has joined; dimlantern hosts lists those that have", name)
}

// ID is the identifier of a host.
func (c *Centre) ID(name string) (string, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	h, err := c.find(name)
	if err != nil {
		return "", err
	}
	return h.ID, nil
}

// Rename calls a host otherwise. It is kept with what else changes by it, so the caller keeps what comes.
func (c *Centre) Rename(name, to string) (map[string][]byte, error) {
	if err := CheckName(to); err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	h, err := c.find(name)
	if err != nil {
		return nil, err
	}
	if c.byName[to] != "" {
		return nil, fmt.Errorf("a host called %s has joined already", to)
	}
	h.Was = append(h.Was, name)
	h.Name = to
	delete(c.byName, name)
	c.byName[to] = h.ID
	kept, _ := json.Marshal(h.Host)
	defer c.wake(h.ID)
	return map[string][]byte{"host/" + h.ID: kept}, nil
}

// Forget ends a host's rights and its connection at once. The caller keeps what comes.
func (c *Centre) Forget(name string) (map[string][]byte, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	h, err := c.find(name)
	if err != nil {
		return nil, err
	}
	out := map[string][]byte{"host/" + h.ID: nil, "taken/" + h.ID: nil}
	for _, a := range h.Acts {
		out["act/"+h.ID+"/"+a.ID] = nil
	}
	for _, k := range h.Keys {
		delete(c.byKey, k)
	}
	delete(c.hosts, h.ID)
	delete(c.byName, name)
	for _, client := range c.conns[h.ID] {
		c.b.drop(client)
	}
	delete(c.conns, h.ID)
	if st, err := c.js.Stream(c.ctx, streamUp); err == nil {
		st.Purge(c.ctx, jetstream.WithPurgeSubject(subjectUp+h.ID))
	}
	return out, nil
}

// Do lets a host do what somebody did to one of its alerts, as soon as it can. The caller keeps what comes.
func (c *Centre) Do(name string, a Act) (map[string][]byte, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	h, err := c.find(name)
	if err != nil {
		return nil, err
	}
	c.acts++
	a.ID = fmt.Sprintf("%d-%d", c.o.Now().UnixNano(), c.acts)
	h.Acts = append(h.Acts, a)
	b, _ := json.Marshal(a)
	defer c.wake(h.ID)
	return map[string][]byte{"act/" + h.ID + "/" + a.ID: b}, nil
}

// Acted notes that a host has done acts. The caller keeps what comes.
func (c *Centre) Acted(id string, acts []string) map[string][]byte {
	out := map[string][]byte{}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, a := range acts {
		out["act/"+id+"/"+a] = nil
	}
	if h := c.hosts[id]; h != nil {
		h.Acts = slices.DeleteFunc(slices.Clone(h.Acts), func(a Act) bool { return slices.Contains(acts, a.ID) })
	}
	return out
}

// Ask asks hosts something, all at once, and hands their answers over as they come, until the context ends.
func (c *Centre) Ask(ctx context.Context, names []string, q []byte, got func(name string, answer []byte, err error)) {
	var all sync.WaitGroup
	for _, n := range names {
		id, err := c.ID(n)
		if err != nil {
			got(n, nil, err)
			continue
		}
		all.Go(func() {
			m, err := c.nc.RequestWithContext(ctx, subjectDown+id+".ask", q)
			switch {
			case errors.Is(err, nats.ErrNoResponders):
				got(n, nil, errors.New("it cannot be reached"))
			case err != nil:
				got(n, nil, errors.New("it did not answer in time"))
			default:
				var p problem
				if json.Unmarshal(m.Data, &p) == nil && p.Problem != "" {
					got(n, nil, errors.New(p.Problem))
				} else {
					got(n, m.Data, nil)
				}
			}
		})
	}
	all.Wait()
}

// TakeBack ends an invitation.
func (c *Centre) TakeBack(ctx context.Context, id string) error {
	c.mu.Lock()
	_, known := c.invites[id]
	delete(c.invites, id)
	c.mu.Unlock()
	if !known {
		return fmt.Errorf("there is no invitation %s: it may have been used, or have ended", id)
	}
	return c.o.Office.Keep(ctx, map[string][]byte{"invite/" + id: nil})
}
