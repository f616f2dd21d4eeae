package hosts

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"
)

// Code is an invitation as it is handed to hosts.
type Code struct {
	Address string `json:"a"`           // HOST:PORT, or several with commas between them
	Print   string `json:"f,omitempty"` // the fingerprint of the centre's authority
	Sign    []byte `json:"s"`           // the key that signs revisions
	Secret  string `json:"k"`

	// Over a cluster: what lets its holder in at the brokers to ask, and who signs their certificates, PEM; "" is
	// whom the system trusts.
	Token string `json:"t,omitempty"`
	Seed  string `json:"u,omitempty"`
	Roots string `json:"r,omitempty"`
}

const codeMark = "dim-lantern-invitation:"

// Text is the code in one line.
func (c Code) Text() string {
	b, _ := json.Marshal(c) // of texts alone
	return codeMark + base64.RawURLEncoding.EncodeToString(b)
}

// ReadCode reads a code; white space in it does not matter.
func ReadCode(text string) (Code, error) {
	var c Code
	text = strings.Join(strings.Fields(text), "")
	if text == "" {
		return c,
			errors.New("no code came by standard input: dimlantern join < FILE, with what dimlantern invite wrote")
	}
	body, ok := strings.CutPrefix(text, codeMark)
	b, err := base64.RawURLEncoding.DecodeString(body)
	if !ok || err != nil || json.Unmarshal(b, &c) != nil || c.Address == "" || c.Print == "" && c.Token == "" ||
		c.Secret == "" {
		return c, fmt.Errorf("this is no code: one begins with %s, and is handed over whole", codeMark)
	}
	return c, nil
}

// Invitation lets hosts join. The centre keeps the hash of its secret alone.
type Invitation struct {
	ID    string        `json:"id"`
	Hash  string        `json:"hash"`
	Names []string      `json:"names"` // patterns that hosts' names have to fit
	Hosts int           `json:"hosts"` // how many may join
	Used  []string      `json:"used,omitempty"`
	Made  entry.Instant `json:"made"`
	Until entry.Instant `json:"until"`
	By    string        `json:"by,omitempty"`
}

func hashOf(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// Invite makes an invitation, and the secret of its code.
func newInvitation(names []string, hosts int, now time.Time, lasts time.Duration, by string) (Invitation, string,
	error) {
	if hosts < 1 || hosts > 100_000 {
		return Invitation{}, "", errors.New("an invitation is for 1 to 100,000 hosts")
	}
	if lasts <= 0 || lasts > 90*24*time.Hour {
		return Invitation{}, "", errors.New("an invitation holds for 90 days at most")
	}
	if len(names) == 0 {
		names = []string{"*"}
	}
	for _, n := range names {
		if _, err := path.Match(n, ""); err != nil {
			return Invitation{}, "", fmt.Errorf("%q is no pattern of names: %w", n, err)
		}
	}
	secret := rand.Text() + rand.Text()
	return Invitation{ID: strings.ToLower(rand.Text()[:8]), Hash: hashOf(secret), Names: names, Hosts: hosts,
		Made: entry.Of(now), Until: entry.Of(now.Add(lasts)), By: by}, secret, nil
}

// refuses says why a host of that name cannot join by the invitation; "" where it can.
func (i *Invitation) refuses(name string, now time.Time) string {
	switch {
	case entry.Of(now) >= i.Until:
		return "the invitation has ended; ask for a new one: dimlantern invite"
	case len(i.Used) >= i.Hosts:
		return "the invitation has been used by as many hosts as it is for; ask for a new one: dimlantern invite"
	case !slices.ContainsFunc(i.Names, func(p string) bool { ok, _ := path.Match(p, name); return ok }):
		return fmt.Sprintf("the invitation is for hosts called %s, not %s: join --as NAME says how a host is called",
			strings.Join(i.Names, " or "), name)
	}
	return ""
}
