package hosts

import (
	"bytes"
	"compress/gzip"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/folder"
)

// Revision is what one host runs of a numbered state of the centre's settings.
type Revision struct {
	Number  int64               `json:"number"`
	For     string              `json:"for"` // the host's identifier
	Name    string              `json:"name"`
	Made    entry.Instant       `json:"made"`
	By      string              `json:"by,omitempty"`
	Groups  []string            `json:"groups"`
	Tags    map[string][]string `json:"tags,omitempty"`
	Nothing bool                `json:"nothing,omitempty"` // what is written on the host is ignored
	Texts   []folder.Text       `json:"texts"`
	Tokens  []byte              `json:"tokens,omitempty"` // the centre's secret of masked keys

	hash string
	raw  []byte // as it came
}

// Hash tells revisions apart.
func (r *Revision) Hash() string { return r.hash }

// Raw is the revision as it came, signed.
func (r *Revision) Raw() []byte { return r.raw }

// ReadRevision reads what a centre has sent: for that host, and signed by that centre.
func ReadRevision(b []byte, id *Identity) (*Revision, error) {
	r, err := unseal(b, id.Sign, id.ID)
	if err == nil {
		r.raw = b
	}
	return r, err
}

// signed is a revision on its way.
type signed struct {
	Body []byte `json:"body"` // a Revision as JSON, compressed
	Sign []byte `json:"sign"` // of Body
}

// mostRevision bounds a revision, as JSON, in bytes.
const mostRevision = 16 << 20

// seal signs a revision.
func (r *Revision) seal(key ed25519.PrivateKey) ([]byte, error) {
	b, err := json.Marshal(r)
	if err != nil {
		return nil, err
	}
	if len(b) > mostRevision {
		return nil, fmt.Errorf("the settings for %s have %d MiB, and %d are the most", r.Name, len(b)>>20,
			mostRevision>>20)
	}
	r.hash = hashOfBody(b)
	var z bytes.Buffer
	w := gzip.NewWriter(&z)
	w.Write(b)
	w.Close()
	return json.Marshal(signed{z.Bytes(), ed25519.Sign(key, z.Bytes())})
}

func hashOfBody(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:6])
}

// unseal reads a revision that has to be for a host, and to be signed by the centre that it joined.
func unseal(b []byte, key ed25519.PublicKey, id string) (*Revision, error) {
	var s signed
	if err := json.Unmarshal(b, &s); err != nil {
		return nil, fmt.Errorf("what came is no revision: %w", err)
	}
	if len(key) != ed25519.PublicKeySize || !ed25519.Verify(key, s.Body, s.Sign) {
		return nil, errors.New("what came is not signed by the centre that this host has joined, and is not obeyed")
	}
	z, err := gzip.NewReader(bytes.NewReader(s.Body))
	if err != nil {
		return nil, err
	}
	body, err := io.ReadAll(io.LimitReader(z, mostRevision+1))
	if err != nil {
		return nil, err
	}
	if len(body) > mostRevision {
		return nil, fmt.Errorf("the revision is longer than %d MiB", mostRevision>>20)
	}
	var r Revision
	if err := json.Unmarshal(body, &r); err != nil {
		return nil, err
	}
	if r.For != id {
		return nil, fmt.Errorf("revision %d is for another host", r.Number)
	}
	for i := range r.Texts {
		t := &r.Texts[i]
		if t.Table && t.Name != "" { // it is looked up by its name, and never written
			continue
		}
		if t.Name == "" || strings.ContainsAny(t.Name, "\\\x00\n") || path.IsAbs(t.Name) ||
			path.Clean(t.Name) != t.Name || strings.HasPrefix(t.Name, "..") {
			return nil, fmt.Errorf("revision %d has a file called %q, which no settings file is", r.Number, t.Name)
		}
		if len(t.Body) > folder.MaxFile {
			return nil, fmt.Errorf("%s of revision %d is longer than %d MiB", t.Name, r.Number, folder.MaxFile>>20)
		}
	}
	r.hash = hashOfBody(body)
	return &r, nil
}
