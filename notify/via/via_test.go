package via

import (
	"bytes"
	"context"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/leodido/go-syslog/v4/rfc5424"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/lang"
)

// parts are the texts of a mail's parts by their types.
func parts(t require.TestingT, header, body string) map[string]string {
	out := map[string]string{}
	kind, params, err := mime.ParseMediaType(header)
	require.NoError(t, err)
	if !strings.HasPrefix(kind, "multipart/") {
		out[kind] = body
		return out
	}
	r := multipart.NewReader(strings.NewReader(body), params["boundary"])
	for {
		p, err := r.NextRawPart()
		if err == io.EOF {
			return out
		}
		require.NoError(t, err)
		b, err := io.ReadAll(p)
		require.NoError(t, err)
		text := string(b)
		if p.Header.Get("Content-Transfer-Encoding") == "quoted-printable" {
			q, err := io.ReadAll(quotedprintable.NewReader(strings.NewReader(text)))
			require.NoError(t, err)
			text = string(q)
		}
		for k, v := range parts(t, p.Header.Get("Content-Type"), text) {
			out[k] = v
		}
	}
}

// Nothing that stands in a log line, in a key or in what a person writes forges a header, a
// part, a link, a tag, or a field of structured data.
func TestNothingIsForged(t *testing.T) {
	words, err := ReadWords("", time.UTC)
	require.NoError(t, err)
	plain := Sample(KindAlert)
	require.NoError(t, words.Fill(plain, true))
	way := &mailWay{server: lang.Mail{Server: "mail.gullhaven.example:25", From: "lantern@gullhaven.example"},
		to: []string{"duty@gullhaven.example"}}
	headers := func(t require.TestingT, m *Message) (names []string, all map[string]string) {
		msg, err := way.message(m)
		require.NoError(t, err)
		var b bytes.Buffer
		_, err = msg.WriteTo(&b)
		require.NoError(t, err)
		x, err := mail.ReadMessage(&b)
		require.NoError(t, err)
		body, err := io.ReadAll(x.Body)
		require.NoError(t, err)
		for n := range x.Header {
			names = append(names, n)
		}
		slices.Sort(names)
		return names, parts(t, x.Header.Get("Content-Type"), string(body))
	}
	want, _ := headers(t, plain)
	evil := rapid.OneOf(rapid.SampledFrom([]string{"a\r\nBcc: x@evil.example\r\n\r\nhello", "\n.\nMAIL FROM:<x>",
		"</pre><script>alert(1)</script>", "http://evil.example/", "www.evil.example", `"] [alert@32473 rule="x"]`,
		"\x1b[2J", "{{.Secret}}",
		"--boundary\r\nContent-Type: text/html\r\n\r\nx", "javascript:alert(1)", `"><img src=x onerror=alert(1)>`,
		"\u202egnp.exe", "mailto:x@evil.example"}), rapid.String())
	tag := regexp.MustCompile(`<\s*(script|img|a|iframe|form)\b`)
	rapid.Check(t, func(t *rapid.T) {
		m := Sample(KindAlert)
		a := &m.Alerts[0]
		a.Say, a.Advise, a.Why, a.Words, a.By = evil.Draw(t, "say"), evil.Draw(t, "advise"), "3 hits",
			evil.Draw(t, "words"), "mira"
		a.Key["pump"] = evil.Draw(t, "key")
		a.Evidence[0].Text = evil.Draw(t, "evidence")
		require.NoError(t, words.Fill(m, true))
		assert.NotContains(t, m.Subject, "\n")
		names, got := headers(t, m)
		assert.Equal(t, want, names)
		require.Len(t, got, 2)
		assert.Empty(t, tag.FindAllString(strings.ToLower(got["text/html"]), -1))
		for _, part := range got {
			assert.NotContains(t, part, "://evil")
			assert.NotContains(t, part, "www.evil")
		}
		for _, l := range syslogLines(m) {
			x, err := rfc5424.NewParser().Parse([]byte(l))
			require.NoError(t, err, "%q", l)
			s := x.(*rfc5424.SyslogMessage)
			require.Len(t, *s.StructuredData, 1)
			assert.Equal(t, "pump-pressure-low", (*s.StructuredData)[structured]["rule"])
			assert.Equal(t, oneLine(a.Key["pump"]), (*s.StructuredData)[structured]["key.pump"],
				"what RFC 5424 forbids is escaped")
		}
		e := eventOf(m)
		assert.NotContains(t, e.Subject, "\n")
	})
}

// A receiver's answer is told in words, with what would mend it.
func TestAnswersInWords(t *testing.T) {
	for _, c := range []struct {
		status int
		what   string
	}{{204, ""}, {302, "sends elsewhere"}, {401, "does not let this in"}, {404, "no such place"},
		{500, "500 Internal Server Error: the sluice jams"}, {429, "429 Too Many Requests"}} {
		srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Location", "/elsewhere")
			w.WriteHeader(c.status)
			if c.status != 204 {
				io.WriteString(w, "the sluice jams\n\x1b[2J")
			}
		}))
		m := Sample(KindAlert)
		_, err := Webhook(lang.Webhook{URL: srv.URL + "/token"}, nil).Tell(context.Background(), m)
		srv.Close()
		if c.what == "" {
			assert.NoError(t, err)
			continue
		}
		require.Error(t, err)
		assert.Contains(t, err.Error(), c.what)
		assert.NotContains(t, err.Error(), "\x1b")
		assert.NotContains(t, err.Error(), "token", "an address may hold what is secret")
	}
	_, err := Webhook(lang.Webhook{URL: "http://127.0.0.1:1/", Secret: "/nowhere/secret"},
		nil).Tell(context.Background(), Sample(KindAlert))
	assert.ErrorContains(t, err, "reading the secret /nowhere/secret")
	_, err = Command([]string{"/bin/sh", "-c", "echo it jams; exit 3"}).Tell(context.Background(), Sample(KindAlert))
	assert.ErrorContains(t, err, "it ended with status 3, saying: it jams")
	_, err = Command([]string{"/usr/bin/yes"}).Tell(context.Background(), Sample(KindAlert))
	assert.ErrorContains(t, err, "it said more than 1 MiB, and was ended")
	ctx, cancel := context.WithTimeout(context.Background(), 100*time.Millisecond)
	defer cancel()
	_, err = Command([]string{"/bin/sleep", "20"}).Tell(ctx, Sample(KindAlert))
	assert.ErrorContains(t, err, "did not end within")
	_, err = Mail(lang.Mail{Server: "127.0.0.1:1", From: "a@gullhaven.example"}, []string{"b@gullhaven.example"},
		nil).Tell(context.Background(), Sample(KindAlert))
	assert.ErrorContains(t, err, "nothing listens there")
}
