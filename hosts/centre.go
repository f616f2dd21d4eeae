package hosts

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
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
	Listen string // HOST:PORT, port 0 is any; "" goes through a cluster
	// Through are the brokers of a cluster, tls://HOST:PORT each; Creds is the file with what lets the centre in.
	Through []string
	Creds   string
	Dir     string // a folder of its own, in the data folder
	Office  Office
	Values  map[string][]byte // what Office kept
	Books   func(id string) (done int64, sum string, again int64)
	Settle  func() Settings // the settings as they are now
	Log     *slog.Logger
	Now     func() time.Time
	// Changed is called when something has changed that screens show.
	Changed func()
}

// Centre is what speaks with hosts for a centre, over a broker that it brings or a cluster that was there.
type Centre struct {
	o     Options
	own   *authority
	b     carrier
	nc    atomic.Pointer[nats.Conn] // to the brokers; nil before it was made for the first time
	began time.Time

	mu      sync.Mutex // for what follows
	js      jetstream.JetStream
	hosts   map[string]*Status // by identifier
	byKey   map[string]string
	byName  map[string]string
	invites map[string]*Invitation
	wrong   error               // why the brokers of a cluster cannot be used; nil where they can
	wrongAt time.Time           // since when; or when they came back
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
		invites: map[string]*Invitation{}, runs: map[string][]string{}, began: o.Now()}
	c.ctx, c.stop = context.WithCancel(context.Background())
	var err error
	if c.own, err = openAuthority(o.Dir, o.Now); err != nil {
		return nil, err
	}
	if err := c.read(o.Values); err != nil {
		return nil, err
	}
	if o.Listen == "" {
		c.b = &cluster{urls: o.Through, file: o.Creds, now: o.Now}
		c.wrong, c.wrongAt = errors.New("they were not reached yet"), o.Now()
		c.all.Go(c.startLater)
		c.all.Go(c.watch)
		return c, nil
	}
	g := &gate{secret: rand.Text(), host: c.hostWith, joins: c.invited}
	b, err := openBroker(o.Listen, filepath.Join(o.Dir, "broker"), c.own, g, o.Log)
	if err != nil {
		return nil, err
	}
	c.b = b
	if err := c.start(); err != nil {
		c.Close()
		return nil, err
	}
	c.all.Go(c.watch)
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

// Close ends the broker and all that hangs on it.
func (c *Centre) Close() {
	c.stop()
	for range 2 { // it may be just being made
		if nc := c.nc.Load(); nc != nil {
			nc.Close()
		}
		c.all.Wait()
	}
	c.b.close()
}

// Address is where hosts reach the centre, as it is bound; of a cluster all its brokers, with commas between them.
func (c *Centre) Address() string { return c.b.address() }

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
	c.b.drop(h.ID)
	if js, id := c.js, h.ID; js != nil {
		go func() {
			if st, err := js.Stream(c.ctx, streamUp); err == nil {
				st.Purge(c.ctx, jetstream.WithPurgeSubject(subjectUp+id))
			}
		}()
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
	nc := c.nc.Load()
	for _, n := range names {
		if nc == nil {
			got(n, nil, errors.New("the brokers cannot be reached"))
			continue
		}
		id, err := c.ID(n)
		if err != nil {
			got(n, nil, err)
			continue
		}
		all.Go(func() {
			m, err := nc.RequestWithContext(ctx, subjectDown+id+".ask", q)
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
