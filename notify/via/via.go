// Package via knows the ways to tell people: mail, webhook, syslog and a command. A
// message comes in that says all there is to say, bytes go out to one receiver, and what
// went wrong comes back in words. It decides nothing, keeps nothing and tries once.
package via

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"dimlantern/intake/regular"
)

// Message is what a receiver is told.
type Message struct {
	// ID is the same for every try, so that a receiver can drop a repeat.
	ID string `json:"id"`
	// Root is the ID of the message that began the conversation; "" where this one does.
	Root string    `json:"root,omitempty"`
	Kind string    `json:"kind"`
	Made time.Time `json:"made"`
	// Host is the machine on which Dim Lantern runs.
	Host    string `json:"host"`
	Contact string `json:"contact"`
	// Take is what is written behind dimlantern take and an alert's identifier, so that it reaches this
	// service; "" where nothing is needed.
	Take string `json:"take,omitempty"`
	// Severity is the worst of what it is about, as a name of RFC 5424.
	Severity string `json:"severity"`
	Subject  string `json:"subject"` // one line
	Text     string `json:"text"`
	HTML     string `json:"html,omitempty"`
	Picture  []byte `json:"picture,omitempty"` // a PNG, or nothing
	Alerts   []News `json:"alerts,omitempty"`
	Files    []File `json:"files,omitempty"` // attached to a mail
	Brief    string `json:"brief,omitempty"` // instead of Text by other ways than mail; "" is the same
}

// File is what is attached to a message. Path is where it lies on this machine.
type File struct {
	Name string `json:"name"`
	Path string `json:"path"`
}

// The kinds of messages.
const (
	KindAlert   = "alert"   // news of one alert
	KindSeveral = "several" // of several alerts, which came together
	KindSummary = "summary" // of what a limit had held back
	KindCaught  = "caught up"
	KindBlind   = "blind" // a log that cannot be seen, or can again
	KindTest    = "test"
	KindReport  = "report" // a report that was made
)

// News is what happened to one alert.
type News struct {
	Change   string            `json:"change"`
	Rule     string            `json:"rule"`
	Key      map[string]string `json:"key"`
	Fields   []string          `json:"fields,omitempty"` // of the key, in their order
	Severity string            `json:"severity"`
	Alert    string            `json:"alert"`
	At       time.Time         `json:"at"`
	Since    time.Time         `json:"since"` // when it was raised
	Count    int               `json:"count"`
	Why      string            `json:"why"`
	Say      string            `json:"say"`
	Advise   string            `json:"advise,omitempty"`
	Clears   []string          `json:"clears,omitempty"` // what will end it, or how it ended
	By       string            `json:"by,omitempty"`
	Words    string            `json:"words,omitempty"`
	Evidence []Line            `json:"evidence,omitempty"` // newest first, masked
	Place    string            `json:"place,omitempty"`    // where the evidence stands
	// Own tells that Say are words of the rule's own, Where the host that it concerns.
	Own   bool   `json:"own,omitempty"`
	Where string `json:"where,omitempty"`
	// Changes are all that happened to it, in their order, where that is more than one thing.
	Changes []string `json:"changes,omitempty"`
}

// Together makes one of what happened to one alert: the newest of its news, with all that happened.
func Together(list []News) []News {
	var out []News
	for _, n := range list {
		i := slices.IndexFunc(out, func(o News) bool { return o.Alert != "" && o.Alert == n.Alert })
		if i < 0 {
			out = append(out, n)
			continue
		}
		was := out[i]
		if was.Changes == nil {
			was.Changes = []string{stateOf(&was)}
		}
		if s := stateOf(&n); s != was.Changes[len(was.Changes)-1] {
			n.Changes = append(was.Changes, s)
		} else {
			n.Changes = was.Changes
		}
		out[i] = n
	}
	return out
}

// stateOf is what happened, in a word or two.
func stateOf(n *News) string {
	switch n.Change {
	case "worsened":
		return n.Severity
	case "cleared":
		return "over"
	case "repeated":
		return "still " + n.Severity
	case "reopened":
		return "open again, " + n.Severity
	}
	return n.Change + " as " + n.Severity
}

// Line is a line of a log. Lit tells that it is a hit or a recovery.
type Line struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
	Lit  bool      `json:"lit,omitempty"`
}

// Way tells one receiver. It may be called concurrently.
type Way interface {
	// Tell tells a message, which it must not change, and answers with what the receiver said,
	// in a few words. An error is a *Problem where more is known of it. Without one the
	// receiver has taken the message; with one it may have all the same, which is why the ID of
	// a message stays the same.
	Tell(ctx context.Context, m *Message) (answer string, err error)
	// String is the way in words, without anything secret.
	String() string
}

// Problem is why a receiver could not be told.
type Problem struct {
	Where string // what was being done
	What  string // what went wrong
	Mend  string // what would mend it; "" where nobody knows
	Err   error
	// Final tells that another try of the same would fail as well.
	Final bool
	// Refused tells that the receiver was there, and would not have this message.
	Refused bool
	// After is how long the receiver asks to be left alone; 0 where it says nothing.
	After time.Duration
}

func (p *Problem) Error() string {
	s := p.Where + ": " + p.What
	if p.Mend != "" {
		s += "; " + p.Mend
	}
	return s
}

// Unwrap is what was met.
func (p *Problem) Unwrap() error { return p.Err }

// Final tells whether another try would fail as well.
func Final(err error) bool {
	var p *Problem
	return errors.As(err, &p) && p.Final
}

// Refused tells whether a receiver that was there would not have a message: another one may
// be taken all the same.
func Refused(err error) bool {
	var p *Problem
	return errors.As(err, &p) && p.Refused
}

// After is how long a receiver asks to be left alone; 0 where it says nothing.
func After(err error) time.Duration {
	var p *Problem
	if errors.As(err, &p) {
		return p.After
	}
	return 0
}

// problem puts an error of the network into words.
func problem(where string, err error) error {
	var p *Problem
	if errors.As(err, &p) {
		return err
	}
	p = &Problem{Where: where, Err: err}
	var (
		dns       *net.DNSError
		host      x509.HostnameError
		authority x509.UnknownAuthorityError
		invalid   x509.CertificateInvalidError
		record    tls.RecordHeaderError
		verify    *tls.CertificateVerificationError
		code      *textproto.Error
		network   net.Error
	)
	switch {
	case errors.As(err, &dns):
		p.What, p.Mend = "no machine is called "+dns.Name, "look at the name, and at this machine's resolver"
	case errors.Is(err, syscall.ECONNREFUSED):
		p.What, p.Mend = "nothing listens there", "look at the port, and whether the receiver runs"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		p.What, p.Mend = "there is no way to that machine", "look at the network between here and there"
	case errors.As(err, &host):
		p.What, p.Mend = "its certificate is not for "+host.Host, "name it as the certificate does"
	case errors.As(err, &authority):
		p.What, p.Mend = "its certificate is signed by nobody whom this machine trusts",
			"put the authority into the system's certificates"
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		p.What, p.Mend = "its certificate has run out, or is not valid yet", "renew it, and look at the clocks"
	case errors.As(err, &verify), errors.As(err, &invalid):
		p.What = "its certificate is not good: " + err.Error()
	case errors.As(err, &record):
		p.What, p.Mend = "it does not speak TLS there", "look at the port, or leave tls out"
	case errors.As(err, &code):
		p.What = fmt.Sprintf("it answered %d %s", code.Code, oneLine(code.Msg))
		p.Final, p.Refused = code.Code >= 500 && code.Code < 600, true
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &network) && network.Timeout():
		p.What, p.Mend = "it did not answer in time", "look at the receiver, and at what lies between"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.ECONNRESET),
		errors.Is(err, syscall.EPIPE):
		p.What = "it hung up"
	case errors.Is(err, os.ErrNotExist):
		p.What = "it is not there"
	case errors.Is(err, os.ErrPermission):
		p.What = "it may not be used by the user that Dim Lantern runs as"
	default:
		p.What = oneLine(err.Error())
	}
	return p
}

// oneLine is a text without line ends and control characters.
func oneLine(s string) string {
	return strings.Join(strings.FieldsFunc(s, func(r rune) bool {
		return r < 0x20 || r == 0x7f || r == 0x2028 ||
			r == 0x2029 || r == 0x85
	}), " ")
}

// secretOf reads a secret from its file.
func secretOf(path string) ([]byte, error) {
	b, err := regular.Read(path, 64<<10)
	if err != nil {
		return nil, &Problem{Where: "reading the secret " + path, What: plainReason(err),
			Mend: "the user that Dim Lantern runs as must be able to read it", Err: err}
	}
	return []byte(strings.TrimRight(string(b), "\r\n")), nil
}

func plainReason(err error) string {
	var pe *os.PathError
	if errors.As(err, &pe) {
		return pe.Err.Error()
	}
	return err.Error()
}

// mustJSON is a value as JSON; it is for values that always are.
func mustJSON(v any) []byte {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return b
}
