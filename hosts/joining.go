package hosts

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"

	"github.com/nats-io/nats.go"
)

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
	Pass    *Pass  `json:"pass,omitempty"`
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
	pass, err := c.b.pass(id, q.Key)
	if err != nil {
		return joined{Problem: "the centre cannot let a host in: " + err.Error()}, nil
	}
	h := &Status{Host: Host{ID: id, Name: q.Name, Keys: []string{q.Key}, Joined: entry.Of(now), By: i.ID}}
	h.State.OS, h.State.Version = q.OS, q.Version
	h.State.Bye, h.Since = true, now // it has joined, and does not run yet
	h.Head = c.rolled.headFor(h.Name, h.State.facts())
	i.Used = append(i.Used, q.Name)
	c.hosts[id], c.byName[q.Name], c.byKey[q.Key] = h, id, id
	host, _ := os.Hostname()
	kept, _ := json.Marshal(h.Host)
	invite, _ := json.Marshal(i)
	return joined{ID: id, Name: q.Name, Centre: host, Pass: pass},
		map[string][]byte{"host/" + id: kept, "invite/" + i.ID: invite}
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
	return c.passFor(id, data)
}

// passed is the answer to who asks for a pass.
type passed struct {
	problem
	Pass *Pass `json:"pass,omitempty"`
}

// passFor is what lets a host in under one of its keys.
func (c *Centre) passFor(id string, data []byte) any {
	var q struct {
		Key string `json:"key"`
	}
	if err := json.Unmarshal(data, &q); err != nil {
		return problem{"this is no key of a host"}
	}
	c.mu.Lock()
	h := c.hosts[id]
	known := h != nil && slices.Contains(h.Keys, q.Key)
	c.mu.Unlock()
	if !known {
		return problem{"this host is not joined any more"}
	}
	p, err := c.b.pass(id, q.Key)
	if err != nil {
		return problem{err.Error()}
	}
	return passed{Pass: p}
}

// Invite makes an invitation; address is where hosts reach this centre, "" finds one.
func (c *Centre) Invite(ctx context.Context, names []string, hosts int, lasts time.Duration, address,
	by string) (Code, Invitation, error) {
	i, secret, err := newInvitation(names, hosts, c.o.Now(), lasts, by)
	if err != nil {
		return Code{}, i, err
	}
	if c.o.Listen == "" {
		if _, err := c.Reached(); err != nil {
			return Code{}, i, fmt.Errorf("the brokers of the centre cannot be used: %w", err)
		}
		if address != "" {
			return Code{}, i, errors.New("hosts reach this centre over its cluster: the invitation has the addresses " +
				"that stand in the settings")
		}
		address = c.Address()
	} else if address == "" {
		address = c.reachable()
	} else if _, _, err := net.SplitHostPort(address); err != nil {
		_, port, _ := net.SplitHostPort(c.Address())
		address = net.JoinHostPort(address, port)
	}
	code := Code{Address: address, Sign: c.own.sign.Public().(ed25519.PublicKey), Secret: secret}
	if err := c.b.invite(&code, c.o.Now().Add(lasts)); err != nil {
		return Code{}, i, err
	}
	b, _ := json.Marshal(i)
	if err := c.o.Office.Keep(ctx, map[string][]byte{"invite/" + i.ID: b}); err != nil {
		return Code{}, i, err
	}
	c.mu.Lock()
	c.invites[i.ID] = &i
	c.mu.Unlock()
	return code, i, nil
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
