package hosts

import (
	"encoding/base64"
	"fmt"
	"log/slog"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"
)

// Bounds of what hosts may send: of one message, of what waits at the broker for the centre, of that of one
// host, and of what the broker holds for a host that does not read.
const (
	mostMessage  = 8 << 20
	mostUp       = 4 << 30
	mostUpOfHost = 20_000
	mostPending  = 32 << 20
)

// carrier is over what a centre speaks with its hosts: a broker that it brings, or a cluster that was there.
type carrier interface {
	// load makes it ready to be connected to.
	load() error
	// address is where hosts reach it.
	address() string
	// connect is the centre's own connection; link hears when it has gone, and why, and with nil when it is back.
	connect(link func(error)) (*nats.Conn, error)
	// pass lets the holder of a key in as a host; nil where the key is enough.
	pass(id, key string) (*Pass, error)
	// invite adds to a code what its holder needs to ask whether it may join.
	invite(code *Code, until time.Time) error
	// drop ends the connections of a host, where that can be done.
	drop(id string)
	close()
}

// broker is the embedded server: NATS with JetStream, its files in a folder of the centre.
type broker struct {
	srv    *server.Server
	at     string
	own    *authority
	secret string // of the centre's own connection, which stays in the process

	mu    sync.Mutex
	conns map[string][]uint64 // of hosts, by their identifiers
}

// gate decides who may speak with the broker, and what about.
type gate struct {
	secret string
	// host is the identifier of the host that has a key; joins tells whether a secret is of an invitation.
	host  func(key string) (id string, ok bool)
	joins func(secret string) bool
	b     *broker // set before the server starts
}

const (
	userCentre = "centre"
	userJoin   = "join"
)

// Check is part of server.Authentication. It may be called concurrently.
func (g *gate) Check(c server.ClientAuthentication) bool {
	if c.Kind() != server.CLIENT {
		return false
	}
	o := c.GetOpts()
	if o.Nkey != "" {
		id, ok := g.host(o.Nkey)
		if !ok || !signedNonce(o.Nkey, o.Sig, c.GetNonce()) {
			return false
		}
		c.RegisterUser(&server.User{Username: id, Permissions: hostMay(id)})
		g.b.came(id, c.GetID())
		return true
	}
	switch {
	case o.Username == userCentre && o.Password == g.secret && c.RemoteAddress() == nil,
		o.Username == userCentre && o.Password == g.secret && isPipe(c.RemoteAddress()):
		c.RegisterUser(&server.User{Username: userCentre})
		return true
	case o.Username == userJoin && g.joins(o.Password):
		c.RegisterUser(&server.User{Username: userJoin, Permissions: &server.Permissions{
			Publish:   &server.SubjectPermission{Allow: []string{subjectJoin}},
			Subscribe: &server.SubjectPermission{Allow: []string{inboxOf(userJoin) + ".>"}}}})
		return true
	}
	return false
}

func isPipe(a net.Addr) bool { return a != nil && a.Network() == "pipe" }

// signedNonce tells whether who has a key has signed what the broker asked for.
func signedNonce(key, sig string, nonce []byte) bool {
	pub, err := nkeys.FromPublicKey(key)
	if err != nil {
		return false
	}
	b, err := base64.RawURLEncoding.DecodeString(sig)
	if err != nil {
		if b, err = base64.StdEncoding.DecodeString(sig); err != nil {
			return false
		}
	}
	return pub.Verify(nonce, b) == nil
}

// The subjects: what hosts report, what they ask, what they are told; each has the host's identifier in it.
const (
	subjectJoin = "lantern.join"
	subjectUp   = "lantern.up."
	subjectAsk  = "lantern.ask."
	subjectDown = "lantern.down."
	streamUp    = "LANTERN-UP"
)

func inboxOf(id string) string { return "_INBOX_" + id }

// hostMay is what a host may do at the broker: report, ask and answer under its own name, and nothing else.
func hostMay(id string) *server.Permissions {
	return &server.Permissions{
		Publish:   &server.SubjectPermission{Allow: []string{subjectUp + id, subjectAsk + id + ".>"}},
		Subscribe: &server.SubjectPermission{Allow: []string{subjectDown + id + ".>", inboxOf(id) + ".>"}},
		Response:  &server.ResponsePermission{MaxMsgs: 1000, Expires: time.Minute},
	}
}

// brokerLog lets the broker's words go to ours.
type brokerLog struct{ log *slog.Logger }

func (l brokerLog) Noticef(string, ...any) {}
func (l brokerLog) Debugf(string, ...any)  {}
func (l brokerLog) Tracef(string, ...any)  {}
func (l brokerLog) Warnf(f string, v ...any) {
	l.log.Debug("the broker says", "words", fmt.Sprintf(f, v...))
}
func (l brokerLog) Errorf(f string, v ...any) {
	l.log.Debug("the broker says", "words", fmt.Sprintf(f, v...))
}
func (l brokerLog) Fatalf(f string, v ...any) {
	l.log.Error("the broker says", "words", fmt.Sprintf(f, v...))
}

// openBroker starts the embedded server.
func openBroker(listen, dir string, a *authority, g *gate, log *slog.Logger) (*broker, error) {
	host, port, err := net.SplitHostPort(listen)
	if err != nil {
		return nil, fmt.Errorf("centre listen %q is no address: write one like \":7422\"", listen)
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return nil, fmt.Errorf("centre listen %q has no port: write one like \":7422\"", listen)
	}
	if n == 0 {
		n = server.RANDOM_PORT
	}
	// What cannot be bound is told here, since the server would only log it.
	if n > 0 {
		l, err := net.Listen("tcp", listen)
		if err != nil {
			return nil, fmt.Errorf("hosts cannot be waited for at %s: %w", listen, err)
		}
		l.Close()
	}
	o := &server.Options{ServerName: "dimlantern", Host: host, Port: n, JetStream: true, StoreDir: dir,
		NoSigs: true, TLS: true, TLSConfig: a.tls(), TLSTimeout: 10, CustomClientAuthentication: g,
		AlwaysEnableNonce: true, MaxPayload: mostMessage, MaxPending: mostPending, MaxSubs: 200_000,
		AuthTimeout: 10, PingInterval: 20 * time.Second, MaxPingsOut: 3, WriteDeadline: 5 * time.Second,
		DisableJetStreamBanner: true, JetStreamMaxMemory: 64 << 20, JetStreamMaxStore: mostUp + 1<<30,
		NoSystemAccount: true}
	b := &broker{own: a, secret: g.secret, conns: map[string][]uint64{}}
	g.b = b
	srv, err := server.NewServer(o)
	if err != nil {
		return nil, fmt.Errorf("the broker cannot be started: %w", err)
	}
	srv.SetLoggerV2(brokerLog{log}, false, false, false)
	go srv.Start()
	if !srv.ReadyForConnections(20 * time.Second) {
		srv.Shutdown()
		return nil, fmt.Errorf("the broker did not start at %s: is the port free, and can %s be written?", listen, dir)
	}
	b.srv, b.at = srv, srv.Addr().String()
	return b, nil
}

func (b *broker) load() error     { return nil }
func (b *broker) address() string { return b.at }

func (b *broker) pass(string, string) (*Pass, error) { return nil, nil }

func (b *broker) invite(code *Code, _ time.Time) error {
	code.Print = b.own.fingerprint()
	return nil
}

// connect is the centre's own connection, which never leaves the process.
func (b *broker) connect(func(error)) (*nats.Conn, error) {
	nc, err := nats.Connect("", nats.InProcessServer(b.srv), nats.UserInfo(userCentre, b.secret), nats.Name("centre"),
		nats.Timeout(20*time.Second), nats.MaxReconnects(-1))
	if err != nil {
		return nil, fmt.Errorf("the centre cannot reach its own broker: %w", err)
	}
	return nc, nil
}

func (b *broker) close() {
	b.srv.Shutdown()
	b.srv.WaitForShutdown()
}

// came notes a connection of a host.
func (b *broker) came(id string, client uint64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.conns[id] = append(b.conns[id], client)
	if n := len(b.conns[id]); n > 8 {
		b.conns[id] = slices.Clone(b.conns[id][n-8:])
	}
}

func (b *broker) drop(id string) {
	b.mu.Lock()
	list := b.conns[id]
	delete(b.conns, id)
	b.mu.Unlock()
	for _, client := range list {
		b.srv.DisconnectClientByID(client)
	}
}

// hostOf is the host whose identifier stands in a subject.
func hostOf(subject, prefix string) (id, rest string) {
	id, rest, _ = strings.Cut(strings.TrimPrefix(subject, prefix), ".")
	return id, rest
}
