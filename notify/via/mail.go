package via

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/textproto"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"
	"github.com/wneessen/go-mail/smtp"

	"dimlantern/core/lang"
)

// mailTimeout is how long a mail server may take to answer.
const mailTimeout = 30 * time.Second

// mailWay gives mail to a server by SMTP (RFC 5321), over TLS where the settings say so: at
// once, or by STARTTLS (RFC 3207).
type mailWay struct {
	server lang.Mail
	to     []string
	roots  *x509.CertPool
}

// Mail is the way of mail to some addresses. Roots are trusted besides the system's; nil is
// none.
func Mail(server lang.Mail, to []string, roots *x509.CertPool) Way {
	return &mailWay{server, to, roots}
}

func (w *mailWay) String() string { return "mail to " + strings.Join(w.to, ", ") }

// Tell is part of Way.
func (w *mailWay) Tell(ctx context.Context, m *Message) (string, error) {
	if w.server.Server == "" {
		return "", &Problem{Where: "reading the settings", What: "no mail server is named",
			Mend: `write: settings { mail server "mail.gullhaven.example:587" starttls from ` +
				`"lantern@gullhaven.example" }`, Final: true}
	}
	msg, err := w.message(m)
	if err != nil {
		return "", err
	}
	host, port, err := net.SplitHostPort(w.server.Server)
	if err != nil {
		return "", &Problem{Where: "reading the settings", What: w.server.Server + " is no host with a port",
			Err: err, Final: true}
	}
	n, _ := strconv.Atoi(port)
	options := []mail.Option{mail.WithPort(n), mail.WithTimeout(mailTimeout), mail.WithHELO(helo(m.Host)),
		mail.WithTLSConfig(&tls.Config{ServerName: host, RootCAs: w.roots, MinVersion: tls.VersionTLS12})}
	switch w.server.TLS {
	case "starttls":
		options = append(options, mail.WithTLSPolicy(mail.TLSOpportunistic)) // secured looks whether it came about
	case "tls":
		options = append(options, mail.WithSSL())
	default:
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	}
	client, err := mail.NewClient(host, options...)
	if err != nil {
		return "", &Problem{Where: "reading the settings", What: oneLine(err.Error()), Err: err, Final: true}
	}
	conn, err := client.DialToSMTPClientWithContext(ctx)
	if err == nil {
		defer client.CloseWithSMTPClient(conn) // the mail is taken, or not, before
		if err = w.login(conn, host); err == nil {
			err = client.SendWithSMTPClient(conn, msg)
		}
	}
	if err != nil {
		return "", w.problem("giving the mail to "+w.server.Server, err)
	}
	return "taken by " + w.server.Server, nil
}

// What a mail server lacks.
var (
	errNoSTARTTLS = errors.New("it does not offer STARTTLS")
	errNoSafeAuth = errors.New("it offers no way to log in that is safe here")
	errNotLogged  = errors.New("it does not accept the name and its password")
)

// login sees to it that the connection is as safe as the settings want it, and logs in
// where they have a user, by the safest way that the server offers (RFC 4954).
func (w *mailWay) login(conn *smtp.Client, host string) error {
	_, err := conn.GetTLSConnectionState()
	plain := errors.Is(err, smtp.ErrNonTLSConnection)
	if plain && w.server.TLS == "starttls" {
		return errNoSTARTTLS
	}
	if w.server.User == "" {
		return nil
	}
	b, err := secretOf(w.server.Password)
	if err != nil {
		return err
	}
	user, secret := w.server.User, string(b)
	_, offered := conn.Extension("AUTH")
	for _, way := range []struct {
		name string
		auth smtp.Auth
		safe bool // even where others listen
	}{
		{"SCRAM-SHA-256", smtp.ScramSHA256Auth(user, secret), true},
		{"SCRAM-SHA-1", smtp.ScramSHA1Auth(user, secret), true},
		{"PLAIN", smtp.PlainAuth("", user, secret, host, false), false},
		{"LOGIN", smtp.LoginAuth(user, secret, host, false), false},
		{"CRAM-MD5", smtp.CRAMMD5Auth(user, secret), true},
	} {
		if !slices.Contains(strings.Fields(offered), way.name) || plain && !way.safe {
			continue
		}
		err := conn.Auth(way.auth)
		if code := (*textproto.Error)(nil); errors.As(err, &code) && code.Code >= 500 {
			return fmt.Errorf("%w: %w", errNotLogged, err)
		}
		return err
	}
	return errNoSafeAuth
}

// problem puts what a mail server did into words.
func (w *mailWay) problem(where string, err error) error {
	var send *mail.SendError
	switch {
	case errors.Is(err, errNoSTARTTLS):
		return &Problem{Where: where, What: err.Error(), Mend: "write tls where it speaks TLS from the start, or " +
			"leave starttls out", Err: err}
	case errors.Is(err, errNoSafeAuth):
		return &Problem{Where: where, What: err.Error(), Mend: "use starttls or tls: names and passwords are not " +
			"sent in the open", Err: err}
	case errors.Is(err, errNotLogged):
		return &Problem{Where: where, What: "it does not accept the name " + w.server.User + " with its password",
			Mend: "look at the user, and at the file of the password", Err: err}
	case errors.As(err, &send) && send.ErrorCode() >= 500:
		return &Problem{Where: where, What: "it refuses the mail: " + oneLine(send.Error()), Err: err, Final: true}
	}
	return problem(where, err)
}

// helo is the name by which a client greets: a host name, and nothing else.
func helo(host string) string {
	s := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '.' {
			return r
		}
		return -1
	}, host)
	if s = strings.Trim(s, "-."); s == "" {
		return "localhost"
	}
	return s
}

// messageID is the identifier of a message as RFC 5322, section 3.6.4, has it.
func messageID(id, host string) string { return id + "@" + helo(host) }

// message builds the mail: text and HTML, a picture, and the headers that make one
// conversation of all that is told of an alert (RFC 5322, section 3.6.4).
func (w *mailWay) message(m *Message) (*mail.Msg, error) {
	msg := mail.NewMsg(mail.WithCharset(mail.CharsetUTF8))
	if err := msg.FromFormat("Dim Lantern", w.server.From); err != nil {
		return nil, &Problem{Where: "reading the settings", What: w.server.From + " is no address", Err: err,
			Final: true}
	}
	if err := msg.To(w.to...); err != nil {
		return nil, &Problem{Where: "reading the settings", What: strings.Join(w.to, ", ") +
			" is no list of addresses", Err: err, Final: true}
	}
	msg.Subject(oneLine(m.Subject))
	msg.SetDateWithValue(m.Made)
	msg.SetMessageIDWithValue(messageID(m.ID, m.Host))
	if m.Root != "" && m.Root != m.ID {
		root := "<" + messageID(m.Root, m.Host) + ">"
		msg.SetGenHeader(mail.HeaderInReplyTo, root)
		msg.SetGenHeader(mail.HeaderReferences, root)
	}
	// No answer by a machine is wanted (RFC 3834, section 5).
	msg.SetGenHeader(mail.Header("Auto-Submitted"), "auto-generated")
	msg.SetGenHeader(mail.Header("X-Dim-Lantern-Message"), m.ID)
	if m.Severity == "critical" || m.Severity == "error" {
		msg.SetGenHeader(mail.HeaderImportance, "high")
	}
	msg.SetBodyString(mail.TypeTextPlain, m.Text)
	if m.HTML != "" {
		msg.AddAlternativeString(mail.TypeTextHTML, m.HTML)
	}
	if len(m.Picture) > 0 {
		if err := msg.EmbedReader("lifeline.png", bytes.NewReader(m.Picture), mail.WithFileContentID(pictureID),
			mail.WithFileContentType("image/png")); err != nil {
			return nil, fmt.Errorf("the picture cannot be attached: %w", err)
		}
	}
	for _, f := range m.Files {
		b, err := os.ReadFile(f.Path)
		if errors.Is(err, fs.ErrNotExist) { // it is kept no longer; what the mail says of it still holds
			continue
		}
		if err == nil {
			err = msg.AttachReader(f.Name, bytes.NewReader(b))
		}
		if err != nil {
			return nil, fmt.Errorf("%s cannot be attached: %w", f.Name, err)
		}
	}
	return msg, nil
}

// pictureID names the picture within its mail (RFC 2392).
const pictureID = "lifeline@dim-lantern"
