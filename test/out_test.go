package test

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"math/rand/v2"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collector "go.opentelemetry.io/proto/otlp/collector/metrics/v1"
	"google.golang.org/protobuf/proto"

	"dimlantern/core/measure"
)

// page asks for the measures; "" where nobody answers.
func page(t *testing.T, address string) string {
	t.Helper()
	resp, err := http.Get("http://" + address + "/metrics")
	if err != nil {
		return ""
	}
	defer resp.Body.Close()
	assert.Equal(t, measure.ContentType, resp.Header.Get("Content-Type"))
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return string(b)
}

// Killed at any instant under load with rotation, every entry counts once.
func TestMeasuresCountOnce(t *testing.T) {
	f := newFolder(t)
	at := freePort(t)
	write(t, filepath.Join(f.settings, "out.lantern"), fmt.Sprintf(`settings { measures listen %q }
measure lines {
  on    app
  where /line (?<n>\d+) of/
  show  count
}
measure numbers {
  on    app
  where /line (?<n>\d+) of/
  show  sum(n)
}
`, at))
	write(t, f.log, "")
	s := f.start(t)
	f.ready(t)
	w := &numbered{path: f.log, stop: make(chan struct{})}
	w.done.Add(1)
	go w.run()
	random := rand.New(rand.NewPCG(9, uint64(time.Now().UnixNano())))
	for range 8 {
		time.Sleep(time.Duration(20+random.IntN(900)) * time.Millisecond) // the instant is the point
		require.NoError(t, s.cmd.Process.Kill())
		s.cmd.Wait()
		s = f.start(t)
	}
	close(w.stop)
	w.done.Wait()
	require.NoError(t, w.err)
	count, sum := fmt.Sprintf("\nlines_total %d #", w.lines), fmt.Sprintf("\nnumbers_total %d #", w.lines*(w.lines-1)/2)
	eventually(t, "all are counted", func() bool { return strings.Contains(page(t, at), count) })
	assert.Contains(t, page(t, at), sum)
	assert.Contains(t, page(t, at), "\ndimlantern_entries_total{source=\"app\"} ")
	assert.True(t, strings.HasSuffix(page(t, at), "\n# EOF\n"))
	out, _, code := run(t, "measures", "--data", f.data)
	require.Zero(t, code)
	assert.Regexp(t, fmt.Sprintf(`lines \(counter lines\): count: %d entries in 1 group`, w.lines), out)
}

// A collector gets counters, gauges and histograms by OTLP; one that was away gets all of it later.
func TestMeasuresToACollector(t *testing.T) {
	f := newFolder(t)
	at := freePort(t)
	write(t, filepath.Join(f.settings, "out.lantern"), fmt.Sprintf(`settings { measures to "http://%s" every 1s }
measure lows { on app
  where "low"
  per host
  show count
}
measure answers { on app
  where /answered in (?<ms>\d+) ms/
  show spread(ms) at 100, 500
}
measure newest { on app
  where /answered in (?<ms>\d+) ms/
  show last(ms)
}
`, at))
	write(t, f.log, "")
	f.start(t)
	f.ready(t)
	appendTo(t, f.log, stamp()+" host-a pump 7 low\n"+stamp()+" host-b pump 7 low\n"+stamp()+" host-b pump 7 low\n"+
		stamp()+" host-a valve 1 answered in 90 ms\n"+stamp()+" host-a valve 1 answered in 700 ms\n")
	eventually(t, "that nobody listens is told", func() bool {
		out, _, _ := run(t, "status", "--data", f.data)
		return strings.Contains(out, "measures do not reach http://"+at)
	})
	var mu sync.Mutex
	var newest *collector.ExportMetricsServiceRequest
	l, err := net.Listen("tcp", at)
	require.NoError(t, err)
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		var x collector.ExportMetricsServiceRequest
		if err != nil || r.URL.Path != "/v1/metrics" || proto.Unmarshal(body, &x) != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		mu.Lock()
		newest = &x
		mu.Unlock()
	})}
	go server.Serve(l)
	defer server.Close()
	found := func() map[string]string {
		mu.Lock()
		defer mu.Unlock()
		out := map[string]string{}
		if newest == nil {
			return out
		}
		for _, m := range newest.ResourceMetrics[0].ScopeMetrics[0].Metrics {
			for _, p := range m.GetSum().GetDataPoints() {
				name := m.Name
				for _, a := range p.Attributes {
					name += "," + a.Key + "=" + a.Value.GetStringValue()
				}
				out[name] = fmt.Sprint(p.GetAsDouble(), m.GetSum().IsMonotonic, p.StartTimeUnixNano > 0)
			}
			for _, p := range m.GetGauge().GetDataPoints() {
				out[m.Name] = fmt.Sprint(p.GetAsDouble())
			}
			for _, p := range m.GetHistogram().GetDataPoints() {
				out[m.Name] = fmt.Sprint(p.ExplicitBounds, p.BucketCounts, p.GetSum(), p.Count)
			}
		}
		return out
	}
	eventually(t, "all has come", func() bool { return found()["lows,host=host-b"] == "2 true true" })
	got := found()
	assert.Equal(t, "1 true true", got["lows,host=host-a"])
	assert.Equal(t, "[100 500] [1 0 1] 790 2", got["answers"])
	assert.Equal(t, "700", got["newest"])
	eventually(t, "it is well again", func() bool {
		out, _, _ := run(t, "status", "--data", f.data)
		return !strings.Contains(out, "measures do not reach")
	})
}

// box takes mail in.
type box struct {
	mu   sync.Mutex
	list [][]byte
}

func (b *box) NewSession(*smtp.Conn) (smtp.Session, error) { return b, nil }
func (b *box) Mail(string, *smtp.MailOptions) error        { return nil }
func (b *box) Rcpt(string, *smtp.RcptOptions) error        { return nil }
func (b *box) Reset()                                      {}
func (b *box) Logout() error                               { return nil }
func (b *box) Data(r io.Reader) error {
	m, err := io.ReadAll(r)
	b.mu.Lock()
	defer b.mu.Unlock()
	b.list = append(b.list, m)
	return err
}

// parts are the parts of a mail, by their types, and the names of what is attached.
func parts(t *testing.T, m []byte) (bodies map[string]string, attached map[string][]byte) {
	t.Helper()
	bodies, attached = map[string]string{}, map[string][]byte{}
	msg, err := mail.ReadMessage(bytes.NewReader(m))
	require.NoError(t, err)
	var walk func(kind string, r io.Reader)
	walk = func(kind string, r io.Reader) {
		_, params, err := mime.ParseMediaType(kind)
		require.NoError(t, err)
		for mr := multipart.NewReader(r, params["boundary"]); ; {
			p, err := mr.NextPart()
			if err != nil {
				return
			}
			if sub := p.Header.Get("Content-Type"); strings.HasPrefix(sub, "multipart/") {
				walk(sub, p)
				continue
			}
			b, err := io.ReadAll(decoded(p))
			require.NoError(t, err)
			if name := p.FileName(); name != "" {
				attached[name] = b
			} else {
				kind, _, _ := strings.Cut(p.Header.Get("Content-Type"), ";")
				bodies[kind] = string(b)
			}
		}
	}
	walk(msg.Header.Get("Content-Type"), msg.Body)
	return bodies, attached
}

// A report is made of what was logged, comes by mail with its page and its papers, and is given by the
// command in every form; what can be read of the PDF is its text.
func TestReportByMail(t *testing.T) {
	pdftotext := needs(t, "pdftotext")
	f := newFolder(t)
	b := &box{}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	server := smtp.NewServer(b)
	go server.Serve(l)
	defer server.Close()
	out := filepath.Join(f.dir, "reports")
	write(t, filepath.Join(f.settings, "out.lantern"), fmt.Sprintf(`
settings { mail server %q from "lantern@gullhaven.example" }
contact harbour-master { mail "hm@gullhaven.example" }
ask lows {
  on    app
  where /pump (?<pump>\d+) low/
  show  count
  per   pump
  every 1h
  note  "how often pumps were low"
}
report pumps {
  title  "Pumps of Gullhaven"
  ask    lows, alerts-by-rule, handover
  every  day at 07:00
  covers today
  as     html, pdf, csv
  tell   harbour-master
  write  %q
}
`, l.Addr().String(), out))
	write(t, f.log, "")
	f.start(t)
	f.ready(t)
	appendTo(t, f.log, strings.Repeat(stamp()+" host-a pump 7 low\n", 12)+stamp()+" host-a pump 8 low\n")
	eventually(t, "it is raised", func() bool {
		return strings.Contains(f.sql(t, "SELECT line FROM transitions"), `"7"`)
	})
	said, errs, code := run(t, "report", "pumps", "--now", "--tell", "--as", "csv", "--data", f.data)
	require.Zero(t, code, errs)
	assert.Contains(t, said, "Pumps of Gullhaven")
	assert.Regexp(t, `,7,12\n`, said)
	said, errs, code = run(t, "report", "pumps", "--now", "--tell", "--data", f.data, "--out",
		filepath.Join(f.dir, "p.html"))
	require.Zero(t, code, errs)
	assert.Contains(t, said, "p.html: html")
	var bodies map[string]string
	var attached map[string][]byte
	eventually(t, "both mails come", func() bool {
		b.mu.Lock()
		defer b.mu.Unlock()
		if len(b.list) < 2 {
			return false
		}
		bodies, attached = parts(t, b.list[1])
		return true
	})
	assert.Contains(t, bodies["text/html"], "Pumps of Gullhaven")
	assert.Contains(t, bodies["text/html"], "<svg")
	assert.NotContains(t, bodies["text/html"], "<script")
	assert.Contains(t, bodies["text/plain"], "How often pumps were low")
	var pdf []byte
	for name, body := range attached {
		assert.Regexp(t, `^pumps-\d{4}-\d\d-\d\d\.(pdf|csv)$`, name)
		if strings.HasSuffix(name, ".pdf") {
			pdf = body
		}
	}
	require.Len(t, attached, 2)
	path := filepath.Join(f.dir, "p.pdf")
	require.NoError(t, os.WriteFile(path, pdf, 0o600))
	text, err := exec.Command(pdftotext, "-layout", path, "-").Output()
	require.NoError(t, err)
	for _, words := range []string{"Pumps of Gullhaven", "How often pumps were low", "pump-low", "page 1 of"} {
		assert.Contains(t, string(text), words)
	}
	list, _, code := run(t, "reports", "--data", f.data)
	require.Zero(t, code)
	assert.Regexp(t, `next at \S+ 07:00:00`, list)
	assert.Regexp(t, `made: html \d+ KiB, pdf \d+ KiB, csv .*told harbour-master at`, list)
	assert.NoDirExists(t, out, "what is asked for by hand is written nowhere else")
	kept, _, code := run(t, "keep", "--data", f.data)
	require.Zero(t, code)
	assert.Regexp(t, regexp.MustCompile(`(?m)^results +2 `), kept)
	_, errs, code = run(t, "report", "pump", "--data", f.data)
	assert.NotZero(t, code)
	assert.Contains(t, errs, "there are: pumps")
}

// decoded is the body of a part as it was before it was made fit for mail.
func decoded(p *multipart.Part) io.Reader {
	switch strings.ToLower(p.Header.Get("Content-Transfer-Encoding")) {
	case "base64":
		return base64.NewDecoder(base64.StdEncoding, p)
	case "quoted-printable":
		return quotedprintable.NewReader(p)
	}
	return p
}

// Where no service runs a report is made of the settings and of the logs as they lie there.
func TestReportAlone(t *testing.T) {
	f := newFolder(t)
	write(t, filepath.Join(f.settings, "out.lantern"), `ask lows { on app
  where "low"
  show count
  per host }
report pumps { ask lows
  covers today }
`)
	write(t, f.log, stamp()+" host-a pump 7 low\n"+stamp()+" host-b pump 7 low\n"+stamp()+" host-b pump 7 fine\n")
	out, errs, code := run(t, "report", "pumps", "--now", "--as", "csv", "--settings", f.settings, "--data", f.data)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "\nhost-a,1\nhost-b,1\n")
	_, errs, code = run(t, "report", "pumps", "--settings", f.settings, "--data", f.data)
	assert.NotZero(t, code)
	assert.Contains(t, errs, "--now makes one")
	_, errs, code = run(t, "report", "pumps", "--covers", "last year", "--settings", f.settings, "--data", f.data)
	assert.NotZero(t, code)
	assert.Contains(t, errs, "--covers last year cannot be read")
	_, errs, code = run(t, "report", "pump", "--now", "--settings", f.settings, "--data", f.data)
	assert.NotZero(t, code)
	assert.Contains(t, errs, "there are: pumps")
}
