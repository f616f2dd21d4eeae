package hosts

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"strings"
	"sync"
	"time"

	"dimlantern/core/entry"

	"github.com/nats-io/jwt/v2"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"
)

// cluster is one that was there: brokers with NATS and JetStream that know accounts and users by signed tokens
// (JWT). The centre has the key of an account, and with it lets its hosts in, each under its own identifier. It may
// be used concurrently once it is loaded.
type cluster struct {
	urls []string
	file string
	now  func() time.Time

	mu      sync.Mutex
	token   string        // the centre's own
	user    nkeys.KeyPair // its key
	account nkeys.KeyPair // that signs what lets hosts in
	of      string        // the account, where that key is not the account's own; else ""
	roots   []byte        // PEM: who signs the brokers' certificates; none is whom the system trusts
}

// How long a pass and the token for asking for one hold, and from when on a host asks for a new one.
var (
	passFor  = 20 * time.Minute
	passHalf = passFor / 2
)

const doorFor = 400 * 24 * time.Hour

// Pass is what lets a host in at the brokers of a cluster. That the centre forgot a host ends its rights there when
// the pass ends; the centre itself takes nothing of it from then on.
type Pass struct {
	Work string `json:"work"` // to report and to ask; soon over
	Door string `json:"door"` // to ask for a new pass, no more; for longer than a year
	// Got is when it came, by the host's clock; Half after which time a new one is asked for.
	Got  entry.Instant `json:"got,omitempty"`
	Half time.Duration `json:"half"`
}

// load reads the file with what lets the centre in. It holds what the cluster's administrator made: a user's token
// and key, as in any file of credentials of NATS, the key of the account or one that signs for it, and, where the
// system does not know who signs the brokers' certificates, those certificates.
func (c *cluster) load() error {
	b, err := os.ReadFile(c.file)
	if err != nil {
		return fmt.Errorf("what lets the centre in at the brokers cannot be read: %w", err)
	}
	wrong := func(format string, v ...any) error { return fmt.Errorf(c.file+" "+format, v...) }
	token, err := jwt.ParseDecoratedJWT(b)
	if err != nil || !strings.HasPrefix(token, "ey") {
		return wrong("has no user's token: put the user's credentials in it, with their lines " +
			"-----BEGIN NATS USER JWT-----")
	}
	claims, err := jwt.DecodeUserClaims(token)
	if err != nil {
		return wrong("has a token that is none of a user (%w)", err)
	}
	if claims.Expires != 0 && c.now().Unix() >= claims.Expires {
		return wrong("has a user's token that ended on %s: put a new one in it",
			time.Unix(claims.Expires, 0).UTC().Format("2 January 2006 15:04 UTC"))
	}
	var user, account nkeys.KeyPair
	for line := range bytes.Lines(b) {
		line = bytes.TrimSpace(line)
		switch {
		case bytes.HasPrefix(line, []byte("SU")):
			user, err = nkeys.FromSeed(line)
		case bytes.HasPrefix(line, []byte("SA")):
			account, err = nkeys.FromSeed(line)
		}
		if err != nil {
			return wrong("has a damaged key (%w)", err)
		}
	}
	if user == nil {
		return wrong("has no user's key, which begins with SU: put the user's credentials in it as they are")
	}
	if account == nil {
		return wrong("has no account's key: hosts get their rights by it. Put the seed of the account or of one of " +
			"its signing keys, which begins with SA, in a line of its own in it")
	}
	signs, err := account.PublicKey()
	if err != nil {
		return wrong("has a damaged key (%w)", err)
	}
	of := claims.IssuerAccount
	if of == "" {
		of = claims.Issuer
	}
	if of == signs {
		of = ""
	}
	var roots []byte
	for rest := b; ; {
		var p *pem.Block
		if p, rest = pem.Decode(rest); p == nil {
			break
		}
		if p.Type != "CERTIFICATE" {
			continue
		}
		if _, err := x509.ParseCertificate(p.Bytes); err != nil {
			return wrong("has a certificate that is none (%w)", err)
		}
		roots = append(roots, pem.EncodeToMemory(p)...)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.token, c.user, c.account, c.of, c.roots = token, user, account, of, roots
	return nil
}

func (c *cluster) address() string { return strings.Join(c.urls, ",") }

// connect is the centre's own connection. It tries first whether the brokers let in whom the account's key lets in.
func (c *cluster) connect(link func(error)) (*nats.Conn, error) {
	c.mu.Lock()
	roots := c.roots
	c.mu.Unlock()
	t, err := rooted(roots)
	if err != nil {
		return nil, err
	}
	nc, err := nats.Connect(c.address(), nats.Name("centre"), nats.Secure(t), nats.Timeout(5*time.Second),
		nats.UserJWT(c.newest, c.signed),
		nats.MaxReconnects(-1), nats.ReconnectWait(500*time.Millisecond), nats.IgnoreAuthErrorAbort(),
		nats.PingInterval(5*time.Second), nats.MaxPingsOutstanding(2),
		nats.ReconnectHandler(func(*nats.Conn) { link(nil) }),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) { link(lost(err)) }),
		nats.ReconnectErrHandler(func(_ *nats.Conn, err error) { link(lost(err)) }),
		nats.ErrorHandler(func(*nats.Conn, *nats.Subscription, error) {}))
	if err != nil {
		return nil, lost(err)
	}
	var probe Code
	if err = c.invite(&probe, c.now().Add(time.Minute)); err == nil {
		var as *nats.Conn
		as, err = nats.Connect(c.address(), nats.Name("probe"), nats.Secure(t), nats.Timeout(5*time.Second),
			nats.UserJWTAndSeed(probe.Token, probe.Seed), nats.NoReconnect())
		if err == nil {
			as.Close()
		} else if errors.Is(err, nats.ErrAuthorization) {
			err = fmt.Errorf("they do not take what the account's key in %s signs: it is of another account, or the "+
				"account does not name it as one that signs", c.file)
		}
	}
	if err == nil && nc.MaxPayload() < mostMessage {
		err = fmt.Errorf("they take messages of %d bytes at most, and hosts send up to %d: set max_payload: 8MB in "+
			"their configuration", nc.MaxPayload(), int64(mostMessage))
	}
	if err != nil {
		nc.Close()
		return nil, err
	}
	return nc, nil
}

// newest is the centre's token as it stands in the file now: whoever renews it need not start the centre anew.
func (c *cluster) newest() (string, error) {
	c.load() // where that fails, what was read before may still hold
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.token, nil
}

func (c *cluster) signed(nonce []byte) ([]byte, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.user.Sign(nonce)
}

// lost is why a connection has gone, in words.
func lost(err error) error {
	var unknown x509.UnknownAuthorityError
	var network *net.OpError
	switch {
	case err == nil:
		return errors.New("the connection has gone")
	case errors.Is(err, nats.ErrAuthorization), errors.Is(err, nats.ErrAuthExpired),
		errors.Is(err, nats.ErrAuthRevoked), errors.Is(err, nats.ErrAccountAuthExpired):
		return fmt.Errorf("they do not let the centre in (%w): is what stands in the file of this cluster, and does "+
			"the account still hold?", err)
	case errors.Is(err, nats.ErrNoServers):
		return errors.New("none of them answers: do they run at the addresses that the settings have?")
	case errors.As(err, &unknown):
		return fmt.Errorf("who signed their certificates is not known here (%w): put the authority's certificate into "+
			"the file of credentials", err)
	case errors.As(err, &network):
		return fmt.Errorf("none of them answers, the last was %w", err)
	}
	return err
}

// rooted is how brokers of a cluster are reached, whose certificates those of roots sign; none is whom the system
// trusts.
func rooted(roots []byte) (*tls.Config, error) {
	t := &tls.Config{MinVersion: tls.VersionTLS12}
	if len(roots) > 0 {
		t.RootCAs = x509.NewCertPool()
		if !t.RootCAs.AppendCertsFromPEM(roots) {
			return nil, errors.New("the certificates that the brokers are known by are damaged")
		}
	}
	return t, nil
}

// issue signs a token for the holder of a key.
func (c *cluster) issue(key, name string, lasts time.Duration, may jwt.Permissions) (string, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.account == nil {
		return "", errors.New("the brokers were not reached yet: the centre says why in its room hosts")
	}
	u := jwt.NewUserClaims(key)
	u.Name, u.IssuerAccount, u.Expires = name, c.of, c.now().Add(lasts).Unix()
	u.Permissions = may
	u.Limits.Payload, u.Limits.Subs = mostMessage, 64
	u.AllowedConnectionTypes.Add(jwt.ConnectionTypeStandard)
	return u.Encode(c.account)
}

// pass lets the holder of a key in as a host.
func (c *cluster) pass(id, key string) (*Pass, error) {
	inbox := inboxOf(id) + ".>"
	work, err := c.issue(key, id, passFor, jwt.Permissions{
		Pub:  jwt.Permission{Allow: jwt.StringList{subjectUp + id, subjectAsk + id + ".>"}},
		Sub:  jwt.Permission{Allow: jwt.StringList{subjectDown + id + ".>", inbox}},
		Resp: &jwt.ResponsePermission{MaxMsgs: 1000, Expires: time.Minute}})
	if err != nil {
		return nil, err
	}
	door, err := c.issue(key, id, doorFor, jwt.Permissions{
		Pub: jwt.Permission{Allow: jwt.StringList{subjectAsk + id + ".pass"}},
		Sub: jwt.Permission{Allow: jwt.StringList{inbox}}})
	return &Pass{Work: work, Door: door, Half: passHalf}, err
}

// invite adds to a code what lets its holder ask whether it may join.
func (c *cluster) invite(code *Code, until time.Time) error {
	key, err := nkeys.CreateUser()
	if err != nil {
		return err
	}
	pub, err := key.PublicKey()
	if err != nil {
		return err
	}
	seed, err := key.Seed()
	if err != nil {
		return err
	}
	code.Token, err = c.issue(pub, userJoin, until.Sub(c.now()), jwt.Permissions{
		Pub: jwt.Permission{Allow: jwt.StringList{subjectJoin}},
		Sub: jwt.Permission{Allow: jwt.StringList{inboxOf(userJoin) + ".>"}}})
	c.mu.Lock()
	defer c.mu.Unlock()
	code.Seed, code.Roots = string(seed), string(c.roots)
	return err
}

// drop is part of carrier. A broker of somebody else does not end a connection at our word: what the host may there
// ends with its pass.
func (c *cluster) drop(string) {}

func (c *cluster) close() {}
