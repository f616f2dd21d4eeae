package via

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"os"
	"strings"
	"time"

	"github.com/leodido/go-syslog/v4/rfc5424"

	"dimlantern/core/lang"
)

// facility is "log alert" (RFC 5424, section 6.2.1).
const facility = 14

// structured names the element of structured data; 32473 is the number for documents and
// examples (RFC 5612), since Dim Lantern has none of its own.
const structured = "alert@32473"

// syslogWay sends RFC 5424 over UDP (RFC 5426), or counted octets over TCP (RFC 6587,
// section 3.4.1) and TLS (RFC 5425).
type syslogWay struct {
	proto, address string
	roots          *x509.CertPool
}

// Syslog is the way of syslog.
func Syslog(l lang.Listen, roots *x509.CertPool) Way { return &syslogWay{l.Proto, l.Address, roots} }

func (w *syslogWay) String() string { return "syslog " + w.proto + " " + w.address }

// Tell is part of Way. Each news is a message of its own; over UDP nobody says whether it
// came.
func (w *syslogWay) Tell(ctx context.Context, m *Message) (string, error) {
	where := "sending to " + w.address
	ctx, cancel := context.WithTimeout(ctx, webhookTimeout)
	defer cancel()
	var c net.Conn
	var err error
	switch w.proto {
	case "udp":
		c, err = (&net.Dialer{}).DialContext(ctx, "udp", w.address)
	case "tcp":
		c, err = (&net.Dialer{}).DialContext(ctx, "tcp", w.address)
	default:
		host, _, _ := net.SplitHostPort(w.address)
		c, err = (&tls.Dialer{Config: &tls.Config{ServerName: host, RootCAs: w.roots,
			MinVersion: tls.VersionTLS12}}).DialContext(ctx, "tcp", w.address)
	}
	if err != nil {
		return "", problem(where, err)
	}
	defer c.Close()
	if d, ok := ctx.Deadline(); ok {
		c.SetDeadline(d)
	}
	for _, line := range syslogLines(m) {
		if w.proto != "udp" {
			line = fmt.Sprintf("%d %s", len(line), line)
		} else if len(line) > 8192 { // what a datagram surely takes (RFC 5426, section 3.2, says 2048 should)
			line = strings.ToValidUTF8(line[:8192], "")
		}
		if _, err := c.Write([]byte(line)); err != nil {
			return "", problem(where, err)
		}
	}
	if w.proto == "udp" {
		return "sent; over UDP nobody says whether it came", nil
	}
	if t, ok := c.(*tls.Conn); ok {
		err = t.CloseWrite()
	} else {
		err = c.(*net.TCPConn).CloseWrite()
	}
	if err != nil {
		return "", problem(where, err)
	}
	return "sent", nil
}

// syslogLines are the messages of RFC 5424 that say what a message does.
func syslogLines(m *Message) []string {
	if len(m.Alerts) == 0 {
		return []string{syslogLine(m, m.Severity, m.Kind, m.Subject, nil)}
	}
	var out []string
	if m.Kind == KindSummary || m.Kind == KindCaught {
		out = append(out, syslogLine(m, m.Severity, m.Kind, m.Subject,
			[][2]string{{"alerts", fmt.Sprint(len(m.Alerts))}}))
	}
	for i := range m.Alerts {
		a := &m.Alerts[i]
		params := [][2]string{{"change", a.Change}, {"rule", a.Rule}, {"severity", a.Severity}, {"alert", a.Alert},
			{"count", fmt.Sprint(a.Count)}, {"why", a.Why}}
		for _, f := range a.Fields {
			params = append(params, [2]string{"key." + f, a.Key[f]})
		}
		out = append(out, syslogLine(m, a.Severity, a.Change, a.Change+" "+a.Severity+": "+a.Say, params))
	}
	return out
}

// escapeParam escapes what may not stand in a value as it is (RFC 5424, section 6.3.3).
var escapeParam = strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`)

var syslogSeverity = map[string]uint8{"critical": 2, "error": 3, "warning": 4, "notice": 5}

func syslogLine(m *Message, severity, id, text string, params [][2]string) string {
	level, ok := syslogSeverity[severity]
	if !ok || id == "cleared" {
		level = 5
	}
	s := &rfc5424.SyslogMessage{}
	s.SetPriority(facility*8 + level)
	s.SetVersion(1)
	s.SetTimestamp(m.Made.UTC().Format("2006-01-02T15:04:05.000000Z"))
	s.SetHostname(helo(m.Host))
	s.SetAppname("dim-lantern")
	s.SetProcID(fmt.Sprint(os.Getpid()))
	s.SetMsgID(strings.ReplaceAll(id, " ", "-"))
	s.SetParameter(structured, "id", m.ID)
	for _, p := range params {
		name := strings.Map(func(r rune) rune {
			if r <= 0x20 || r > 0x7e || r == '=' || r == ']' || r == '"' {
				return '-'
			}
			return r
		}, p[0])
		s.SetParameter(structured, name[:min(len(name), 32)],
			escapeParam.Replace(oneLine(strings.ToValidUTF8(p[1], "�"))))
	}
	s.SetMessage("\ufeff" + oneLine(strings.ToValidUTF8(text, "�")))
	line, err := s.String()
	if err != nil { // it lacks nothing that it must have
		line = fmt.Sprintf("<%d>1 %s - dim-lantern - - - %s", facility*8+level, m.Made.UTC().Format(time.RFC3339),
			oneLine(text))
	}
	return line
}
