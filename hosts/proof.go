package hosts

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"time"

	"dimlantern/core/entry"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"
)

// proof is how the member knows whom it speaks with, and shows who it is: to a centre's own broker by its key, to
// those of a cluster by a pass for that key, or, where the pass is over, by what lets it ask for a new one.
func (m *Member) proof() (*tls.Config, nats.Option, error) {
	if m.ID.Pass != nil {
		t, err := rooted([]byte(m.ID.Roots))
		return t, nats.UserJWT(m.token, m.signed), err
	}
	t, err := trusting([]byte(m.ID.CA))
	if err != nil {
		return nil, nil, err
	}
	pub, err := publicOf(m.ID.Seed)
	return t, nats.Nkey(pub, m.signed), err
}

func publicOf(seed string) (string, error) {
	key, err := nkeys.FromSeed([]byte(seed))
	if err != nil {
		return "", err
	}
	return key.PublicKey()
}

func (m *Member) signed(nonce []byte) ([]byte, error) {
	m.mu.Lock()
	key, err := nkeys.FromSeed([]byte(m.seed))
	m.mu.Unlock()
	if err != nil {
		return nil, err
	}
	return key.Sign(nonce)
}

// token is the pass that a connection is made with.
func (m *Member) token() (string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.byDoor = m.refuse || entry.Of(time.Now()).Sub(m.pass.Got) >= 2*m.pass.Half
	m.refuse = false
	if m.byDoor {
		return m.pass.Door, nil
	}
	return m.pass.Work, nil
}

// refused notes that no connection could be made.
func (m *Member) refused(err error) {
	if !errors.Is(err, nats.ErrAuthorization) && !errors.Is(err, nats.ErrAuthExpired) {
		return
	}
	m.mu.Lock()
	m.refuse = !m.byDoor
	m.mu.Unlock()
}

// passed gets a new pass where the one that there is ends soon. It answers whether the host may speak now; where it
// comes in anew by the new pass, it is asked again.
func (m *Member) passed(ctx context.Context) bool {
	m.mu.Lock()
	p, byDoor, nc := m.pass, m.byDoor, m.nc
	m.mu.Unlock()
	if p == nil || nc == nil || !nc.IsConnected() || !byDoor && entry.Of(time.Now()).Sub(p.Got) < p.Half {
		return true
	}
	pub, err := publicOf(m.ID.Seed)
	if err != nil {
		return true
	}
	var got passed
	if err := m.ask(ctx, "pass", keyed(pub), &got); err != nil || got.Problem != "" || got.Pass == nil {
		if got.Problem != "" {
			m.Log.Warn("the centre says", "words", got.Problem)
		}
		if byDoor {
			m.Machine.Link(false, 0)
		}
		return !byDoor
	}
	m.goOnBy(got.Pass)
	return false
}

// goOnBy writes the key and a pass down, and comes in anew by them.
func (m *Member) goOnBy(p *Pass) {
	if p != nil {
		p.Got = entry.Of(time.Now())
	}
	m.ID.Pass = p
	if err := m.ID.write(m.Data); err != nil {
		m.Log.Warn(err.Error())
	}
	if p == nil { // what a connection is made with stays so
		m.rekeyed = true
		return
	}
	m.mu.Lock()
	m.seed, m.pass, m.refuse = m.ID.Seed, p, false
	nc := m.nc
	m.mu.Unlock()
	if nc != nil {
		nc.ForceReconnect()
	}
}

// renew makes a new key, and goes on under it once the centre knows it.
func (m *Member) renew(ctx context.Context) {
	key, err := nkeys.CreateUser()
	if err != nil {
		return
	}
	pub, err := key.PublicKey()
	if err != nil {
		return
	}
	seed, err := key.Seed()
	if err != nil {
		return
	}
	var p passed
	if err := m.ask(ctx, "renew", keyed(pub), &p); err != nil || p.Problem != "" {
		m.Log.Warn("the host's key was not renewed", "reason", p.Problem)
		return
	}
	m.ID.Seed, m.ID.Made = string(seed), entry.Of(time.Now())
	m.goOnBy(p.Pass)
}

func keyed(pub string) []byte {
	b, _ := json.Marshal(map[string]string{"key": pub})
	return b
}
