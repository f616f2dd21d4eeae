package export

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	collector "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
	"google.golang.org/protobuf/proto"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// receiver is where a delivery hands entries to. It belongs to one goroutine.
type receiver interface {
	// send hands entries over, in their order. After an error none, some or all of them may have come,
	// and they are sent again.
	send(ctx context.Context, list []*item) error
	// confirm answers once all that was sent is the receiver's, as far as its protocol can tell.
	confirm(ctx context.Context) error
	// answers tells whether what was sent without an error is the receiver's already.
	answers() bool
	close()
}

// refusal is that a receiver will never take what it was sent: sending it again changes nothing.
type refusal struct {
	words string
	// part is how many of the entries were refused, where the receiver took the others; 0 is all.
	part int
	// large is that they were too many at once.
	large bool
}

func (r *refusal) Error() string { return r.words }

// later is that a receiver asks to be left alone for a while.
type later struct {
	words string
	after time.Duration
}

func (l *later) Error() string { return l.words }

// patience is how long a receiver may take for what it was sent.
const patience = 30 * time.Second

// trusted is a configuration that trusts the authorities in a file; those of the system, or roots, where
// it is "".
func trusted(file, host string, roots *x509.CertPool) (*tls.Config, error) {
	c := &tls.Config{ServerName: host, RootCAs: roots, MinVersion: tls.VersionTLS12}
	if file == "" {
		return c, nil
	}
	pem, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("the certificates in %s cannot be read: %w", file, errors.Unwrap(err))
	}
	c.RootCAs = x509.NewCertPool()
	if !c.RootCAs.AppendCertsFromPEM(pem) {
		return nil, fmt.Errorf("%s has no certificate in it", file)
	}
	return c, nil
}

// receiverOf is the receiver of a target; of files see files.go.
func receiverOf(t *lang.Target, zone *time.Location, roots *x509.CertPool) receiver {
	switch t.Kind {
	case "syslog":
		return &syslogReceiver{to: t, roots: roots}
	case "otlp":
		return &otlpReceiver{to: t, roots: roots}
	}
	return &natsReceiver{to: t, roots: roots, zone: zone, subject: lang.Template(t.Subject)}
}

// syslogReceiver sends RFC 5424 over UDP (RFC 5426), or counted octets over TCP (RFC 6587, section 3.4.1)
// and TLS (RFC 5425). These protocols have no word for "it came": what was written may still be lost with
// the receiver. So it is taken for the receiver's only once it has read our end of the connection, has
// ended its own, and takes a new one: a receiver that is killed ends its connections, too, but its port first.
type syslogReceiver struct {
	to    *lang.Target
	roots *x509.CertPool
	conn  net.Conn
	used  time.Time // when conn was last written to, or made
	buf   bytes.Buffer
}

// mostDatagram is how long a message over UDP is at most, in bytes: what is behind is cut off.
const mostDatagram = 60_000

func (r *syslogReceiver) dial(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	network := "tcp"
	if r.to.Proto == "udp" {
		network = "udp"
	}
	c, err := (&net.Dialer{}).DialContext(ctx, network, r.to.Address)
	if err != nil {
		return err
	}
	if r.to.Proto == "tls" {
		host, _, _ := net.SplitHostPort(r.to.Address)
		config, err := trusted(r.to.Trust, host, r.roots)
		if err != nil {
			c.Close()
			return err
		}
		t := tls.Client(c, config)
		if err := t.HandshakeContext(ctx); err != nil {
			c.Close()
			return err
		}
		c = t
	}
	r.conn, r.used = c, time.Now()
	return nil
}

// ended tells whether the receiver has ended its side of the connection.
func (r *syslogReceiver) ended() bool {
	r.conn.SetReadDeadline(time.Now().Add(time.Millisecond))
	_, err := r.conn.Read(make([]byte, 1))
	return err != nil && !errors.Is(err, os.ErrDeadlineExceeded)
}

// mostIdle is how long a connection may have been idle so that it is not looked whether it still stands.
const mostIdle = 200 * time.Millisecond

func (r *syslogReceiver) send(ctx context.Context, list []*item) error {
	if r.conn != nil && r.to.Proto != "udp" && time.Since(r.used) > mostIdle && r.ended() {
		r.close()
	}
	if r.conn == nil {
		if err := r.dial(ctx); err != nil {
			return err
		}
	}
	stop := context.AfterFunc(ctx, func() { r.conn.SetDeadline(time.Now()) })
	defer stop()
	r.conn.SetDeadline(time.Now().Add(patience))
	if r.to.Proto == "udp" {
		for _, x := range list {
			line := x.syslogLine()
			if _, err := r.conn.Write(line[:min(len(line), mostDatagram)]); err != nil {
				return r.broken(err)
			}
		}
		return nil
	}
	r.buf.Reset()
	for _, x := range list {
		line := x.syslogLine()
		r.buf.WriteString(strconv.Itoa(len(line)))
		r.buf.WriteByte(' ')
		r.buf.Write(line)
	}
	if _, err := r.conn.Write(r.buf.Bytes()); err != nil {
		return r.broken(err)
	}
	r.used = time.Now()
	return nil
}

func (r *syslogReceiver) broken(err error) error {
	r.close()
	return err
}

// confirm ends our side of the connection and waits for the end of the other: it has read all then. One
// that has gone with unread entries resets the connection instead, one that has gone with entries that it
// had read and not kept takes no new connection.
func (r *syslogReceiver) confirm(ctx context.Context) error {
	if r.conn == nil || r.to.Proto == "udp" {
		return nil
	}
	if err := r.end(ctx); err != nil {
		return r.broken(err)
	}
	r.close()
	return r.dial(ctx)
}

func (r *syslogReceiver) end(ctx context.Context) error {
	stop := context.AfterFunc(ctx, func() { r.conn.SetDeadline(time.Now()) })
	defer stop()
	if r.ended() {
		return errors.New("it has ended the connection")
	}
	r.conn.SetDeadline(time.Now().Add(patience))
	var err error
	if t, ok := r.conn.(*tls.Conn); ok {
		if err = t.CloseWrite(); err == nil {
			err = t.NetConn().(*net.TCPConn).CloseWrite()
		}
	} else {
		err = r.conn.(*net.TCPConn).CloseWrite()
	}
	if err != nil {
		return err
	}
	_, err = io.Copy(io.Discard, io.LimitReader(r.conn, 1<<20))
	if errors.Is(err, io.ErrUnexpectedEOF) { // it ends TLS without saying so, as many do
		err = nil
	}
	if errors.Is(err, os.ErrDeadlineExceeded) && ctx.Err() == nil {
		return errors.New("it does not read what it was sent")
	}
	return err
}

func (r *syslogReceiver) answers() bool { return false }

func (r *syslogReceiver) close() {
	if r.conn != nil {
		r.conn.Close()
		r.conn = nil
	}
}

// otlpReceiver posts logs as OTLP over HTTP in protobuf (OTLP 1.x, "OTLP/HTTP").
type otlpReceiver struct {
	to     *lang.Target
	roots  *x509.CertPool
	client *http.Client
}

func (r *otlpReceiver) send(ctx context.Context, list []*item) error {
	if r.client == nil {
		u, err := url.Parse(r.to.Address)
		if err != nil {
			return err
		}
		config, err := trusted(r.to.Trust, u.Hostname(), r.roots)
		if err != nil {
			return err
		}
		r.client = &http.Client{Timeout: patience, Transport: &http.Transport{TLSClientConfig: config,
			Proxy: http.ProxyFromEnvironment}, CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse
		}}
	}
	body, err := proto.Marshal(logsOf(list))
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, signalURL(r.to.Address, "/v1/logs"),
		bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/x-protobuf")
	req.Header.Set("User-Agent", "dim-lantern")
	resp, err := r.client.Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return err
	}
	defer resp.Body.Close()
	said, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	if err != nil {
		return err
	}
	return otlpAnswer(resp, said)
}

// otlpAnswer is what an answer means ("OTLP/HTTP Response").
func otlpAnswer(resp *http.Response, said []byte) error {
	words := strings.TrimSpace(fmt.Sprintf("it answered %d %s", resp.StatusCode, http.StatusText(resp.StatusCode)))
	switch resp.StatusCode {
	case http.StatusOK, http.StatusAccepted, http.StatusNoContent:
		var a collector.ExportLogsServiceResponse
		if strings.HasPrefix(resp.Header.Get("Content-Type"), "application/x-protobuf") &&
			proto.Unmarshal(said, &a) == nil && a.GetPartialSuccess().GetRejectedLogRecords() > 0 {
			p := a.GetPartialSuccess()
			return &refusal{words: "it refused some: " + oneLine(p.GetErrorMessage()),
				part: int(p.GetRejectedLogRecords())}
		}
		return nil
	case http.StatusTooManyRequests, http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout:
		after, _ := strconv.Atoi(resp.Header.Get("Retry-After"))
		return &later{words, time.Duration(min(max(after, 0), 600)) * time.Second}
	case http.StatusBadRequest, http.StatusRequestEntityTooLarge, http.StatusUnprocessableEntity:
		return &refusal{words: words, large: resp.StatusCode == http.StatusRequestEntityTooLarge}
	}
	return errors.New(words)
}

func oneLine(s string) string {
	s = strings.Join(strings.Fields(visibleRunes(s)), " ")
	return s[:min(len(s), 200)]
}

func visibleRunes(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "?"))
}

func (r *otlpReceiver) confirm(context.Context) error { return nil }

func (r *otlpReceiver) answers() bool { return true }

func (r *otlpReceiver) close() {
	if r.client != nil {
		r.client.CloseIdleConnections()
	}
}

// otlpSeverity are the numbers of levels, debug to emergency (Logs Data Model, "SeverityNumber").
var otlpSeverity = [...]logs.SeverityNumber{0, 5, 9, 10, 13, 17, 18, 19, 21}

// logsOf are entries as logs of OTLP, by host and source.
func logsOf(list []*item) *collector.ExportLogsServiceRequest {
	text := func(k, v string) *common.KeyValue {
		return &common.KeyValue{Key: k, Value: &common.AnyValue{Value: &common.AnyValue_StringValue{
			StringValue: strings.ToValidUTF8(v, "\uFFFD")}}}
	}
	out := &collector.ExportLogsServiceRequest{}
	by := map[[2]string]*logs.ScopeLogs{}
	for _, x := range list {
		key := [2]string{x.get("host"), x.entry.Source}
		scope := by[key]
		if scope == nil {
			scope = &logs.ScopeLogs{Scope: &common.InstrumentationScope{Name: "dim-lantern"}}
			by[key] = scope
			out.ResourceLogs = append(out.ResourceLogs, &logs.ResourceLogs{ScopeLogs: []*logs.ScopeLogs{scope},
				Resource: &resource.Resource{Attributes: []*common.KeyValue{text("host.name", key[0]),
					text("service.name", key[1])}}})
		}
		level := entry.LevelWritten(x.get("level"))
		r := &logs.LogRecord{ObservedTimeUnixNano: uint64(max(x.entry.Arrived, 0)), SeverityNumber: otlpSeverity[level],
			SeverityText: strings.ToValidUTF8(x.get("level"), "\uFFFD"), Body: text("", x.text()).Value,
			Attributes: []*common.KeyValue{text("log.record.uid", x.id), text("log.origin", x.entry.Origin),
				text("log.place", strconv.FormatInt(x.entry.Offset, 10))}}
		if x.entry.At != entry.None {
			r.TimeUnixNano = uint64(max(x.entry.At, 0))
		}
		seen := map[string]bool{"text": true, "host": true, "level": true, "at": true}
		for _, f := range x.fields {
			if !seen[f.Name] && f.Value != "" {
				seen[f.Name] = true
				r.Attributes = append(r.Attributes, text(f.Name, f.Value))
			}
		}
		scope.LogRecords = append(scope.LogRecords, r)
	}
	return out
}

// natsReceiver publishes JSON under subjects of NATS. Where a stream takes a subject, it says when it has
// kept what came, and drops repeats by their identifiers; where none does, the broker has it.
type natsReceiver struct {
	to      *lang.Target
	roots   *x509.CertPool
	zone    *time.Location
	subject []lang.Part
	conn    *nats.Conn
	js      jetstream.JetStream
	bare    map[string]time.Time // subjects that no stream takes, and when that was found out
}

// bareFor is how long a subject is taken for one that no stream takes.
const bareFor = time.Minute

func (r *natsReceiver) dial() error {
	u, err := url.Parse(r.to.Address)
	if err != nil {
		return err
	}
	options := []nats.Option{nats.Name("dim-lantern"), nats.Timeout(patience), nats.NoReconnect()}
	if u.Scheme == "tls" || r.to.Trust != "" {
		config, err := trusted(r.to.Trust, u.Hostname(), r.roots)
		if err != nil {
			return err
		}
		options = append(options, nats.Secure(config))
	}
	if r.conn, err = nats.Connect(r.to.Address, options...); err != nil {
		return err
	}
	r.bare = map[string]time.Time{}
	r.js, err = jetstream.New(r.conn, jetstream.WithPublishAsyncMaxPending(4096),
		jetstream.WithPublishAsyncTimeout(patience))
	return err
}

func (r *natsReceiver) send(ctx context.Context, list []*item) (err error) {
	if r.conn == nil || r.conn.IsClosed() {
		r.close()
		if err := r.dial(); err != nil {
			return err
		}
	}
	defer func() {
		var no *refusal
		if err != nil && !errors.As(err, &no) {
			r.close()
		}
	}()
	acks := make([]jetstream.PubAckFuture, 0, len(list))
	for _, x := range list {
		m := &nats.Msg{Subject: x.filled(r.subject, token, false, r.zone), Data: x.object(), Header: nats.Header{}}
		m.Header.Set(jetstream.MsgIDHeader, x.id)
		if int64(len(m.Data))+1024 > r.conn.MaxPayload() {
			return &refusal{words: fmt.Sprintf("an entry is larger than the %d bytes that the broker takes",
				r.conn.MaxPayload())}
		}
		if at, ok := r.bare[m.Subject]; ok && time.Since(at) < bareFor {
			if err := r.conn.PublishMsg(m); err != nil {
				return err
			}
			continue
		}
		ack, err := r.js.PublishMsgAsync(m)
		if err != nil {
			return err
		}
		acks = append(acks, ack)
	}
	for _, ack := range acks {
		select {
		case <-ack.Ok():
		case err := <-ack.Err():
			if !errors.Is(err, jetstream.ErrNoStreamResponse) && !errors.Is(err, nats.ErrNoResponders) {
				return err
			}
			if len(r.bare) > 10_000 {
				clear(r.bare)
			}
			r.bare[ack.Msg().Subject] = time.Now() // the broker gave it to whom it is for
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(patience):
			return errors.New("it does not say that it has what it was sent")
		}
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	return r.conn.FlushWithContext(ctx)
}

func (r *natsReceiver) confirm(context.Context) error { return nil }

func (r *natsReceiver) answers() bool { return true }

func (r *natsReceiver) close() {
	if r.conn != nil {
		r.conn.Close()
		r.conn, r.js = nil, nil
	}
}

// inWords is what keeps a receiver from taking entries, and what would mend it.
func inWords(to *lang.Target, err error) (words, mend string) {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var record tls.RecordHeaderError
	var dns *net.DNSError
	switch {
	case errors.Is(err, syscall.ECONNREFUSED), errors.Is(err, nats.ErrNoServers):
		return "nobody listens at " + to.Address, "start the receiver, or look at the address"
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, os.ErrDeadlineExceeded),
		errors.Is(err, nats.ErrTimeout):
		return "it does not answer within " + entry.Span(patience),
			"look whether the receiver hangs, or the way to it is cut"
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE), errors.Is(err, io.EOF):
		return "it ended the connection", "look into the receiver's own log"
	case errors.As(err, &unknown):
		return "nobody whom we trust has signed its certificate",
			`write: trust "FILE" with the certificate of its authority`
	case errors.As(err, &name):
		return "its certificate is for another name: " + name.Error(), "deliver to the name that stands in it"
	case errors.As(err, &record):
		return "it does not speak TLS there", "deliver over tcp, or to the port that speaks TLS"
	case errors.As(err, &dns):
		return "there is no host of that name", "look at the address"
	case errors.Is(err, syscall.ENOSPC):
		return "its disk is full", "make room on it"
	case errors.Is(err, os.ErrPermission):
		return err.Error(), "give the service the right to write there"
	}
	return oneLine(err.Error()), ""
}

// short is a short name of a text, of 32 bits.
func short(sum []byte) string { return hex.EncodeToString(sum[:4]) }
