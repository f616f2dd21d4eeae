// Package clustertest writes what a cluster of brokers needs that a centre goes through: configurations for
// nats-server, certificates, an operator with an account, and the centre's file of credentials. Tests alone use it.
package clustertest

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	mrand "math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/nats-io/jwt/v2"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/nats-io/nkeys"
	"github.com/stretchr/testify/require"
)

// Cluster is one of some brokers on 127.0.0.1, none of which runs yet.
type Cluster struct {
	Dir     string
	Confs   []string // the file that each broker is started with: nats-server -c FILE
	URLs    []string // of each: tls://127.0.0.1:PORT
	Account string   // the seed of a signing key of the account
	Creds   string   // the file with what lets the centre in
	User    string   // the same without the account's key and the authority's certificate
	Root    string   // the certificate of the authority that signed the brokers', PEM

	t *testing.T
}

// Through is the clause of settings that goes through the cluster.
func (c *Cluster) Through() string {
	return fmt.Sprintf("centre through %q creds %q", strings.Join(c.URLs, ", "), c.Creds)
}

// New writes the files of a cluster of n brokers into a folder of the test.
func New(t *testing.T, n int) *Cluster {
	c := &Cluster{Dir: t.TempDir(), t: t}
	c.certificates()
	operator, operatorPub := pair(t, nkeys.PrefixByteOperator)
	_, accountPub := pair(t, nkeys.PrefixByteAccount)
	signing, signingPub := pair(t, nkeys.PrefixByteAccount)
	_, systemPub := pair(t, nkeys.PrefixByteAccount)
	user, userPub := pair(t, nkeys.PrefixByteUser)

	op := jwt.NewOperatorClaims(operatorPub)
	op.Name, op.SystemAccount = "gullhaven", systemPub
	account := jwt.NewAccountClaims(accountPub)
	account.Name = "lantern"
	account.SigningKeys.Add(signingPub)
	account.Limits.JetStreamLimits = jwt.JetStreamLimits{MemoryStorage: -1, DiskStorage: 3 << 30, Streams: -1,
		Consumer: -1}
	system := jwt.NewAccountClaims(systemPub)
	system.Name = "system"
	u := jwt.NewUserClaims(userPub)
	u.Name, u.IssuerAccount = "centre", accountPub

	c.Account = seed(t, signing)
	creds, err := jwt.FormatUserConfig(encode(t, u, signing), []byte(seed(t, user)))
	require.NoError(t, err)
	c.User, c.Creds = string(creds), filepath.Join(c.Dir, "centre.creds")
	c.write("centre.creds", c.User+"\n"+c.Account+"\n"+c.Root)

	var ports, routes []string
	for range 2 * n {
		ports = append(ports, free(t))
	}
	for _, p := range ports[n:] {
		routes = append(routes, fmt.Sprintf("nats-route://127.0.0.1:%s", p))
	}
	for i := range n {
		grouped := ""
		if n > 1 {
			grouped = fmt.Sprintf("cluster { name: gullhaven, listen: 127.0.0.1:%s, routes: [ %s ] }\n", ports[n+i],
				strings.Join(routes, ", "))
		}
		name := fmt.Sprintf("broker-%c", 'a'+i)
		c.Confs = append(c.Confs, c.write(name+".conf", fmt.Sprintf(`server_name: %s
listen: 127.0.0.1:%s
max_payload: 8MB
jetstream { store_dir: %q, max_memory_store: 64MB, max_file_store: 4GB }
tls { cert_file: %q, key_file: %q, timeout: 10 }
operator: %q
system_account: %s
resolver: MEMORY
resolver_preload: { %s: %q, %s: %q }
%s`, name, ports[i], filepath.Join(c.Dir, name), filepath.Join(c.Dir, "broker.pem"), filepath.Join(c.Dir, "broker.key"),
			encode(t, op, operator), systemPub, accountPub, encode(t, account, operator), systemPub,
			encode(t, system, operator), grouped)))
		c.URLs = append(c.URLs, "tls://127.0.0.1:"+ports[i])
	}
	return c
}

// Reports is where the brokers keep what hosts report.
func (c *Cluster) Reports() jetstream.Stream {
	nc, err := nats.Connect(strings.Join(c.URLs, ","), nats.UserCredentials(c.Creds), nats.RootCAs(c.Creds),
		nats.MaxReconnects(-1))
	require.NoError(c.t, err)
	c.t.Cleanup(nc.Close)
	js, err := jetstream.New(nc)
	require.NoError(c.t, err)
	st, err := js.Stream(context.Background(), "LANTERN-UP")
	require.NoError(c.t, err)
	return st
}

// Whole tells whether three brokers have all that is kept in a stream: one may go then.
func Whole(st jetstream.Stream) bool {
	info, err := st.Info(context.Background())
	if err != nil || info.Cluster == nil || info.Cluster.Leader == "" || len(info.Cluster.Replicas) != 2 {
		return false
	}
	for _, p := range info.Cluster.Replicas {
		if !p.Current || p.Offline {
			return false
		}
	}
	return true
}

func (c *Cluster) write(name, text string) string {
	path := filepath.Join(c.Dir, name)
	require.NoError(c.t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

// certificates makes an authority, and a certificate for 127.0.0.1 that it signed.
func (c *Cluster) certificates() {
	t := c.t
	caKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	ca := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Gullhaven"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour), IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	root, err := x509.CreateCertificate(rand.Reader, ca, ca, caKey.Public(), caKey)
	require.NoError(t, err)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	cert, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(2),
		Subject: pkix.Name{CommonName: "broker"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour)}, ca, key.Public(), caKey)
	require.NoError(t, err)
	der, err := x509.MarshalECPrivateKey(key)
	require.NoError(t, err)
	text := func(kind string, b []byte) string {
		return string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: b}))
	}
	c.Root = text("CERTIFICATE", root)
	c.write("broker.pem", text("CERTIFICATE", cert))
	c.write("broker.key", text("EC PRIVATE KEY", der))
}

func pair(t *testing.T, kind nkeys.PrefixByte) (nkeys.KeyPair, string) {
	k, err := nkeys.CreatePair(kind)
	require.NoError(t, err)
	pub, err := k.PublicKey()
	require.NoError(t, err)
	return k, pub
}

func seed(t *testing.T, k nkeys.KeyPair) string {
	b, err := k.Seed()
	require.NoError(t, err)
	return string(b)
}

func encode(t *testing.T, c jwt.Claims, by nkeys.KeyPair) string {
	text, err := c.Encode(by)
	require.NoError(t, err)
	return text
}

// free is a port that no connection takes by itself: a broker comes back at the one that it had.
func free(t *testing.T) string {
	for {
		port := strconv.Itoa(20_000 + mrand.IntN(10_000))
		if l, err := net.Listen("tcp", "127.0.0.1:"+port); err == nil {
			require.NoError(t, l.Close())
			return port
		}
	}
}
