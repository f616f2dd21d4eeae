package service

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"dimlantern/notify"

	"dimlantern/api"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/leodido/go-syslog/v4/rfc5424"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/notify/via"
)

// patience is how long a test waits for what must come.
const patience = 20 * time.Second

// box collects what a receiver got.
type box struct {
	mu  sync.Mutex
	got []string
}

func (b *box) put(s string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.got = append(b.got, s)
}

func (b *box) all() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]string(nil), b.got...)
}

// await waits until a receiver has got so many.
func (b *box) await(t *testing.T, n int) []string {
	t.Helper()
	require.Eventually(t, func() bool { return len(b.all()) >= n }, patience, 20*time.Millisecond, "of %d came %d", n,
		len(b.all()))
	return b.all()
}

// hook is a webhook that collects events; answer, where it is set, answers instead.
func hook(t *testing.T) (*httptest.Server, *box, *func(http.ResponseWriter, *http.Request) bool) {
	b := &box{}
	var answer func(http.ResponseWriter, *http.Request) bool
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if answer != nil && answer(w, r) {
			return
		}
		body, _ := io.ReadAll(r.Body)
		b.put(string(body))
	}))
	t.Cleanup(srv.Close)
	return srv, b, &answer
}

// toldEvent is an event as a receiver reads it.
type toldEvent struct {
	SpecVersion, ID, Type, Source, Subject, Time string
	Data                                         via.Message
}

func read(t *testing.T, body string) toldEvent {
	var e toldEvent
	require.NoError(t, json.Unmarshal([]byte(body), &e), body)
	return e
}

// runs is a place whose service runs by itself.
func runs(t *testing.T, p *place, roots *x509.CertPool) (stop func()) {
	var err error
	p.s, err = Open(Options{Settings: filepath.Join(p.dir, "settings"), Data: filepath.Join(p.dir, "data"),
		Roots: roots})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- p.s.Run(ctx) }()
	once := sync.OnceFunc(func() {
		cancel()
		assert.NoError(t, <-ended)
	})
	t.Cleanup(once)
	require.Eventually(t, func() bool {
		caught := false
		return p.s.do(context.Background(), func() error { caught = p.s.decider.Caught; return nil }) == nil && caught
	}, patience, 10*time.Millisecond)
	return once
}

func (p *place) say(format string, a ...any) {
	p.append(time.Now().UTC().Format("2006-01-02T15:04:05.000Z") + " " + fmt.Sprintf(format, a...) + "\n")
}

// mailServer is a real SMTP server with STARTTLS and a login.
type mailServer struct{ box *box }

type mailSession struct{ s *mailServer }

func (m *mailServer) NewSession(*smtp.Conn) (smtp.Session, error) { return &mailSession{m}, nil }
func (x *mailSession) AuthMechanisms() []string                   { return []string{sasl.Plain} }
func (x *mailSession) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != "lantern" || password != "secret" {
			return smtp.ErrAuthFailed
		}
		return nil
	}), nil
}
func (x *mailSession) Mail(string, *smtp.MailOptions) error { return nil }
func (x *mailSession) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (x *mailSession) Data(r io.Reader) error {
	b, err := io.ReadAll(r)
	x.s.box.put(string(b))
	return err
}
func (x *mailSession) Reset()        {}
func (x *mailSession) Logout() error { return nil }

// Every way tells the same, each as its standard has it; what is told of one alert is one
// conversation; and nothing that a log line says becomes a header, a link or a command.
func TestEveryWayTells(t *testing.T) {
	secure := httptest.NewUnstartedServer(nil) // it lends its certificate
	secure.StartTLS()
	defer secure.Close()
	roots := x509.NewCertPool()
	roots.AddCert(secure.Certificate())

	mails := &mailServer{&box{}}
	server := smtp.NewServer(mails)
	server.TLSConfig = &tls.Config{Certificates: secure.TLS.Certificates}
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go server.Serve(ln)
	defer server.Close()

	srv, events, answer := hook(t)
	var signed box
	*answer = func(w http.ResponseWriter, r *http.Request) bool {
		assert.Equal(t, "application/cloudevents+json; charset=utf-8", r.Header.Get("Content-Type"))
		body, _ := io.ReadAll(r.Body)
		if r.Header.Get(via.SignatureHeader) == via.Sign([]byte("shared"), r.Header.Get(via.TimestampHeader), body) {
			signed.put("yes")
		}
		events.put(string(body))
		return true
	}
	udp, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer udp.Close()
	lines := &box{}
	go func() {
		buf := make([]byte, 9000)
		for {
			n, _, err := udp.ReadFrom(buf)
			if err != nil {
				return
			}
			lines.put(string(buf[:n]))
		}
	}()

	p := newPlace(t, t.TempDir())
	p.write("mail.secret", "secret\n")
	p.write("hook.secret", "shared\n")
	ran := filepath.Join(p.dir, "ran")
	script := filepath.Join(p.dir, "beacon")
	p.write("beacon", "#!/bin/sh\n{ printf '%s|' \"$@\"; printf '%s|%s|%s\\n' \"$DIM_LANTERN_RULE\" "+
		"\"$DIM_LANTERN_CHANGE\" \"$DIM_LANTERN_KEY_HOST\"; } >> '"+ran+"'\necho lit\n")
	require.NoError(t, os.Chmod(script, 0o755))
	p.write("settings/who.lantern", fmt.Sprintf(`settings {
  tell duty
  mail server "%s" starttls user "lantern" password from file "%s/mail.secret" from "lantern@gullhaven.example"
}
contact duty {
  mail "mira@gullhaven.example", "tolan@gullhaven.example"
  webhook "%s/hook" secret from file "%s/hook.secret"
  syslog udp "%s"
  command "%s" "on" "{host} {say}"
}
`, strings.Replace(ln.Addr().String(), "127.0.0.1", "127.0.0.1", 1), p.dir, srv.URL, p.dir, udp.LocalAddr(), script))
	p.append("")
	runs(t, p, roots)
	evil := "x$(touch${IFS}/tmp/x);http://evil.example/"
	p.say("%s pump 7 low", evil)
	p.say("%s pump 7 low", evil)
	first := mails.box.await(t, 1)[0]
	p.say("%s pump 7 fine", evil)
	all := mails.box.await(t, 2)

	m, err := mail.ReadMessage(strings.NewReader(first))
	require.NoError(t, err)
	n, err := mail.ReadMessage(strings.NewReader(all[1]))
	require.NoError(t, err)
	assert.Equal(t, m.Header.Get("Message-Id"), n.Header.Get("In-Reply-To"))
	assert.Equal(t, m.Header.Get("Message-Id"), n.Header.Get("References"))
	assert.Contains(t, m.Header.Get("To"), "tolan@gullhaven.example")
	assert.Equal(t, "auto-generated", m.Header.Get("Auto-Submitted"))
	assert.Contains(t, first, "text/plain")
	assert.Contains(t, first, "text/html")
	assert.Contains(t, first, "image/png")
	assert.NotContains(t, first, "http://evil", "nothing of a log becomes a link")

	raised, cleared := read(t, events.await(t, 1)[0]), read(t, events.await(t, 2)[1])
	assert.Equal(t, []string{"1.0", "dim-lantern.alert.raised", "dim-lantern.alert.cleared"},
		[]string{raised.SpecVersion, raised.Type, cleared.Type})
	assert.Equal(t, raised.ID, cleared.Data.Root)
	require.Len(t, raised.Data.Alerts, 1)
	assert.Equal(t, evil, raised.Data.Alerts[0].Key["host"])
	assert.NotEmpty(t, raised.Data.Alerts[0].Evidence)
	assert.Len(t, signed.all(), 2)

	parsed, err := rfc5424.NewParser().Parse([]byte(lines.await(t, 1)[0]))
	require.NoError(t, err)
	line := parsed.(*rfc5424.SyslogMessage)
	assert.Equal(t, uint8(14), *line.Facility)
	assert.Equal(t, uint8(4), *line.Severity)
	assert.Equal(t, "low", (*line.StructuredData)["alert@32473"]["rule"])
	assert.Equal(t, evil, (*line.StructuredData)["alert@32473"]["key.host"])

	require.Eventually(t, func() bool { b, _ := os.ReadFile(ran); return strings.Count(string(b), "\n") == 2 },
		patience, 20*time.Millisecond)
	b, err := os.ReadFile(ran)
	require.NoError(t, err)
	assert.Contains(t, string(b), "on|"+evil+" Pump 7|low|raised|"+evil+"\n")
	assert.NoFileExists(t, "/tmp/x")
	d, err := p.s.query.Detail(context.Background(),
		api.DetailQuery{Rule: "low", Key: []string{evil, "7"}, Alert: raised.Data.Alerts[0].Alert})
	require.NoError(t, err)
	var story []string
	for _, e := range d.Story {
		story = append(story, e.Text)
	}
	assert.Contains(t, strings.Join(story, "\n"), "duty told by mail that it was raised")
}

// A storm: each contact gets at most what its limits say, and what was held back comes in
// one summary; every alert is accounted for.
func TestStorm(t *testing.T) {
	const hosts, each = 400 / slowness, 5
	srvA, calm, _ := hook(t)
	srvB, strict, _ := hook(t)
	p := newPlace(t, t.TempDir())
	p.write("settings/who.lantern", fmt.Sprintf(`settings {
  tell calm, strict
}
contact calm {
  webhook "%s"
  gather 2s
}
contact strict {
  webhook "%s"
  most 5 in 6s
}
rule storm {
  problem /storm (?<part>\d+)/
  per     host, part
  raise   warning
  clear   by hand
}
`, srvA.URL, srvB.URL))
	p.append("")
	runs(t, p, nil)
	for i := range each {
		var b strings.Builder
		for h := range hosts {
			fmt.Fprintf(&b, "%s h%d storm %d\n", time.Now().UTC().Format("2006-01-02T15:04:05.000Z"), h, i)
		}
		p.append(b.String())
	}
	accounted := func(b *box) map[string]int {
		n := map[string]int{}
		for _, body := range b.all() {
			for _, a := range read(t, body).Data.Alerts {
				n[a.Alert]++
			}
		}
		return n
	}
	for name, b := range map[string]*box{"calm": calm, "strict": strict} {
		require.Eventually(t, func() bool { return len(accounted(b)) == hosts*each }, patience, 100*time.Millisecond,
			"%s: %d", name, len(accounted(b)))
		for id, n := range accounted(b) {
			require.Equal(t, 1, n, "%s is told once", id)
		}
	}
	assert.LessOrEqual(t, len(calm.all()), 4, "what comes together is told together")
	got := strict.all()
	var times []time.Time
	for _, body := range got {
		e := read(t, body)
		times = append(times, e.Data.Made)
	}
	slices.SortFunc(times, time.Time.Compare) // several are posted abreast
	for i := 5; i < len(times); i++ {
		assert.GreaterOrEqual(t, times[i].Sub(times[i-5]), 6*time.Second, "no more than 5 in 6 s")
	}
	last := read(t, got[len(got)-1])
	assert.Equal(t, "dim-lantern.summary", last.Type)
	assert.Contains(t, last.Data.Subject, "held back")
}

// A receiver that fails delays only itself, is tried again under the same identifier, and
// what cannot be told in time is told to others.
func TestReceiversThatFail(t *testing.T) {
	pause, within := notify.FirstPause, notify.ToldWithin
	notify.FirstPause, notify.ToldWithin = 50*time.Millisecond, 300*time.Millisecond
	t.Cleanup(func() { notify.FirstPause, notify.ToldWithin = pause, within }) // once the service has ended
	srvWell, well, _ := hook(t)
	srvBad, bad, answer := hook(t)
	var tried box
	away := true
	var mu sync.Mutex
	*answer = func(w http.ResponseWriter, r *http.Request) bool {
		mu.Lock()
		defer mu.Unlock()
		if !away {
			return false
		}
		body, _ := io.ReadAll(r.Body)
		tried.put(read(t, string(body)).ID)
		http.Error(w, "the harbour is closed", http.StatusServiceUnavailable)
		return true
	}
	release := make(chan struct{})
	srvHang := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { <-release }))
	defer srvHang.Close()
	defer close(release)
	srvSlow, slow, answerSlow := hook(t)
	// as slow receivers are
	*answerSlow = func(http.ResponseWriter, *http.Request) bool { time.Sleep(time.Second); return false }
	secure := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	defer secure.Close()

	p := newPlace(t, t.TempDir())
	p.write("settings/who.lantern", fmt.Sprintf(`settings {
  tell well, bad, hangs, refuses, distrusted, slow
}
contact slow { webhook "%s" }
contact well { webhook "%s" }
contact bad { webhook "%s" }
contact hangs { webhook "%s" }
contact refuses { webhook "http://127.0.0.1:1/" }
contact distrusted { webhook "%s" }
`, srvSlow.URL, srvWell.URL, srvBad.URL, srvHang.URL, secure.URL))
	p.append("")
	runs(t, p, nil)
	p.say("a pump 7 low")
	p.say("a pump 7 low")
	p.say("a pump 8 low")
	p.say("a pump 8 low")
	well.await(t, 2)
	assert.Less(t, len(slow.all()), 2, "a slow one delays itself alone")
	slow.await(t, 2)
	require.Eventually(t, func() bool { return len(tried.all()) >= 3 }, patience, 10*time.Millisecond)
	assert.Len(t, unique(tried.all()), 2, "each try has the same identifier, and one that is refused keeps no "+
		"other waiting")

	unreachable := func(contact string) bool {
		for _, body := range well.all() {
			e := read(t, body)
			if e.Type == "dim-lantern.alert.raised" && e.Data.Alerts[0].Rule == "contact-unreachable" &&
				e.Data.Alerts[0].Key["contact"] == contact {
				return true
			}
		}
		return false
	}
	for _, c := range []string{"bad", "refuses", "distrusted"} {
		require.Eventually(t, func() bool { return unreachable(c) }, patience, 50*time.Millisecond, c)
	}
	s, err := p.s.query.Status(context.Background(), api.None{})
	require.NoError(t, err)
	assert.False(t, s.Well())
	all := strings.Join(s.Trouble, "\n")
	assert.Contains(t, all, "nothing listens there")
	assert.Contains(t, all, "503 Service Unavailable")
	assert.Contains(t, all, "signed by nobody whom this machine trusts")

	mu.Lock()
	away = false
	mu.Unlock()
	ids := map[string]bool{}
	require.Eventually(t, func() bool {
		for _, body := range bad.all() {
			ids[read(t, body).ID] = true
		}
		return ids[tried.all()[0]] && len(ids) >= 2
	}, patience, 20*time.Millisecond)
	require.Eventually(t, func() bool {
		for _, body := range well.all() {
			if e := read(t, body); e.Type == "dim-lantern.alert.cleared" && e.Data.Alerts[0].Key["contact"] == "bad" {
				return true
			}
		}
		return false
	}, patience, 50*time.Millisecond, "that it can be told again is told as well")
}

func unique(list []string) map[string]bool {
	out := map[string]bool{}
	for _, s := range list {
		out[s] = true
	}
	return out
}
