package hosts

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"os"
	"path/filepath"
	"sync"
	"time"
)

// serverName stands in the certificates of centres: whoever reaches one trusts its authority alone, not the
// name by which it is reached.
const serverName = "centre.dimlantern"

// How long the centre's authority and its certificates hold, and how long before its end a certificate is renewed.
const (
	authorityFor   = 20 * 365 * 24 * time.Hour
	certificateFor = 365 * 24 * time.Hour
	renewBefore    = 60 * 24 * time.Hour
)

// authority is what a centre proves itself by: a certificate authority of its own, and the key that signs
// revisions. Its files lie in the data folder, and only its owner can read them.
type authority struct {
	ca     *x509.Certificate
	caKey  *ecdsa.PrivateKey
	sign   ed25519.PrivateKey
	now    func() time.Time
	mu     sync.Mutex
	leaf   *tls.Certificate
	leafTo time.Time
}

// openAuthority reads the authority of a folder, or makes one where there is none.
func openAuthority(dir string, now func() time.Time) (*authority, error) {
	a := &authority{now: now}
	path := filepath.Join(dir, "authority.pem")
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		if b, err = newAuthority(now()); err != nil {
			return nil, err
		}
		err = writeSecret(path, b)
	}
	if err != nil {
		return nil, fmt.Errorf("the centre's authority %s cannot be used: %w", path, err)
	}
	for {
		var p *pem.Block
		if p, b = pem.Decode(b); p == nil {
			break
		}
		switch p.Type {
		case "CERTIFICATE":
			a.ca, err = x509.ParseCertificate(p.Bytes)
		case "EC PRIVATE KEY":
			a.caKey, err = x509.ParseECPrivateKey(p.Bytes)
		case "PRIVATE KEY":
			var k any
			if k, err = x509.ParsePKCS8PrivateKey(p.Bytes); err == nil {
				a.sign, _ = k.(ed25519.PrivateKey)
			}
		}
		if err != nil {
			return nil, fmt.Errorf("%s is damaged (%w): put it back from a backup; with another one all hosts would "+
				"have to join anew", path, err)
		}
	}
	if a.ca == nil || a.caKey == nil || a.sign == nil {
		return nil, fmt.Errorf("%s is damaged: put it back from a backup; with another one all hosts would have to "+
			"join anew", path)
	}
	return a, nil
}

func newAuthority(now time.Time) ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	_, sign, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: serial(),
		Subject:   pkix.Name{CommonName: "Dim Lantern, a centre's authority"},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(authorityFor), IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageCertSign}
	cert, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, err
	}
	caKey, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		return nil, err
	}
	signKey, err := x509.MarshalPKCS8PrivateKey(sign)
	if err != nil {
		return nil, err
	}
	var out []byte
	for _, p := range []*pem.Block{{Type: "CERTIFICATE", Bytes: cert}, {Type: "EC PRIVATE KEY", Bytes: caKey},
		{Type: "PRIVATE KEY", Bytes: signKey}} {
		out = append(out, pem.EncodeToMemory(p)...)
	}
	return out, nil
}

func serial() *big.Int {
	n, _ := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	return n
}

// fingerprint is by what hosts know the authority.
func (a *authority) fingerprint() string { return fingerprintOf(a.ca) }

func fingerprintOf(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return hex.EncodeToString(sum[:])
}

// certificate is the one that the broker shows now; it is made anew before it ends.
func (a *authority) certificate(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	now := a.now()
	if a.leaf != nil && now.Before(a.leafTo.Add(-renewBefore)) {
		return a.leaf, nil
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: serverName},
		DNSNames: []string{serverName}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(certificateFor),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	cert, err := x509.CreateCertificate(rand.Reader, t, a.ca, key.Public(), a.caKey)
	if err != nil {
		return nil, err
	}
	a.leaf = &tls.Certificate{Certificate: [][]byte{cert, a.ca.Raw}, PrivateKey: key}
	a.leafTo = t.NotAfter
	return a.leaf, nil
}

func (a *authority) tls() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS13, GetCertificate: a.certificate}
}

// trusting is how a host reaches a centre of which it knows the authority.
func trusting(ca []byte) (*tls.Config, error) {
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(ca) {
		return nil, errors.New("the certificate of the centre's authority is damaged: join anew")
	}
	return &tls.Config{MinVersion: tls.VersionTLS13, RootCAs: pool, ServerName: serverName}, nil
}

// pinning is how a host reaches a centre of whose authority it knows the fingerprint alone; found gets the
// authority.
func pinning(fingerprint string, found func(*x509.Certificate)) *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS13, ServerName: serverName,
		InsecureSkipVerify: true, // VerifyConnection does it, by the fingerprint
		VerifyConnection: func(s tls.ConnectionState) error {
			for _, c := range s.PeerCertificates[1:] {
				if fingerprintOf(c) != fingerprint {
					continue
				}
				pool := x509.NewCertPool()
				pool.AddCert(c)
				if _, err := s.PeerCertificates[0].Verify(x509.VerifyOptions{Roots: pool,
					DNSName: serverName}); err != nil {
					return err
				}
				found(c)
				return nil
			}
			return ErrFingerprint
		}}
}

// ErrFingerprint says that who answers is not the centre that made an invitation.
var ErrFingerprint = errors.New("who answers there is not the centre that made this invitation: its authority has " +
	"another fingerprint. Was the centre set up anew, or does somebody stand between? Ask for a new code")

// writeSecret writes a file that only its owner can read, as a whole or not at all.
func writeSecret(path string, b []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".new-*") // which nobody else can read
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(b)
	if e := f.Sync(); err == nil {
		err = e
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	return err
}
