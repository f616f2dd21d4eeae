package via_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"io"
	"net"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/core/lang"
	"dimlantern/notify/via"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// postOffice is a real SMTP server that takes one name and password, and refuses one receiver.
type postOffice struct{ ways []string }

type postClerk struct{ ways []string }

func (p *postOffice) NewSession(*smtp.Conn) (smtp.Session, error) { return &postClerk{p.ways}, nil }
func (c *postClerk) AuthMechanisms() []string                     { return c.ways }
func (c *postClerk) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != "lantern" || password != "secret" {
			return smtp.ErrAuthFailed
		}
		return nil
	}), nil
}
func (c *postClerk) Mail(string, *smtp.MailOptions) error { return nil }
func (c *postClerk) Rcpt(to string, _ *smtp.RcptOptions) error {
	if strings.HasPrefix(to, "nobody@") {
		return &smtp.SMTPError{Code: 550, Message: "no such mailbox"}
	}
	return nil
}
func (c *postClerk) Data(r io.Reader) error { _, err := io.Copy(io.Discard, r); return err }
func (c *postClerk) Reset()                 {}
func (c *postClerk) Logout() error          { return nil }

// What a mail server lacks or refuses is told as what it is, with what mends it, and whether
// it is of any use to try again; a password is never sent where others can read it.
func TestMailServersInWords(t *testing.T) {
	lends := httptest.NewUnstartedServer(nil)
	lends.StartTLS()
	defer lends.Close()
	roots := x509.NewCertPool()
	roots.AddCert(lends.Certificate())
	listens := func(secure bool, ways ...string) string {
		server := smtp.NewServer(&postOffice{ways})
		server.AllowInsecureAuth = true
		if secure {
			server.TLSConfig = &tls.Config{Certificates: lends.TLS.Certificates}
		}
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		go server.Serve(l)
		t.Cleanup(func() { server.Close() })
		return l.Addr().String()
	}
	secret := func(text string) string {
		path := filepath.Join(t.TempDir(), "secret")
		require.NoError(t, os.WriteFile(path, []byte(text+"\n"), 0o600))
		return path
	}
	open, secure, closed := listens(false, sasl.Plain), listens(true, sasl.Plain), listens(true, "GSSAPI")
	const to = "keeper@gullhaven.example"
	for _, c := range []struct {
		name  string
		mail  lang.Mail
		to    string
		want  string // "" where it is taken
		final bool
	}{
		{"in the open, nobody logs in", lang.Mail{Server: open}, to, "", false},
		{"with a login", lang.Mail{Server: secure, TLS: "starttls", User: "lantern", Password: secret("secret")}, to,
			"", false},
		{"a wrong password", lang.Mail{Server: secure, TLS: "starttls", User: "lantern", Password: secret("guess")}, to,
			"it does not accept the name lantern with its password", false},
		{"no STARTTLS", lang.Mail{Server: open, TLS: "starttls"}, to, "it does not offer STARTTLS", false},
		{"a login in the open", lang.Mail{Server: open, User: "lantern", Password: secret("secret")}, to,
			"it offers no way to log in that is safe here", false},
		{"no way that is known", lang.Mail{Server: closed, TLS: "starttls", User: "lantern", Password: secret(
			"secret")}, to,
			"it offers no way to log in that is safe here", false},
		{"no such receiver", lang.Mail{Server: open}, "nobody@gullhaven.example", "it refuses the mail", true},
		{"no password", lang.Mail{Server: secure, TLS: "starttls", User: "lantern", Password: "/nowhere"}, to,
			"reading the secret /nowhere", false},
		{"no server", lang.Mail{}, to, "no mail server is named", true},
	} {
		c.mail.From = "lantern@gullhaven.example"
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		answer, err := via.Mail(c.mail, []string{c.to}, roots).Tell(ctx, &via.Message{ID: "m1", Subject: "Pump 7",
			Text: "low",
			Made: time.Now(), Host: "host-a"})
		cancel()
		if c.want == "" {
			require.NoError(t, err, c.name)
			assert.Contains(t, answer, "taken by", c.name)
			continue
		}
		require.ErrorContains(t, err, c.want, c.name)
		assert.Equal(t, c.final, via.Final(err), c.name)
	}
}
