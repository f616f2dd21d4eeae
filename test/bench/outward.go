package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"dimlantern/api"
	"dimlantern/service"
)

var onlyOut = flag.Bool("only-out", false, "measure deliveries and measures alone")

// outLines is how many entries are delivered.
const outLines = 500_000

// outward measures how many entries a second receivers on this machine are given, and what measures cost
// beside reading.
func outward() {
	fmt.Println()
	dir, err := os.MkdirTemp("", "dl-out-")
	must(err)
	defer os.RemoveAll(dir)
	log := filepath.Join(dir, "s.log")
	f, err := os.Create(log)
	must(err)
	at := time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC)
	for i := range outLines {
		at = at.Add(7 * time.Millisecond)
		fmt.Fprintf(f, "%s gate-%d %dms passage %d of the locks, all else as usual\n",
			at.Format("2006-01-02T15:04:05.000Z"), i%17, i%700, i)
	}
	must(f.Close())
	sink, err := net.Listen("tcp", "127.0.0.1:0")
	must(err)
	defer sink.Close()
	go func() {
		for {
			c, err := sink.Accept()
			if err != nil {
				return
			}
			go func() { io.Copy(io.Discard, c); c.Close() }()
		}
	}()
	posts := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body)
	}))
	defer posts.Close()
	targets := [][2]string{{"syslog over TCP", fmt.Sprintf("syslog tcp %q", sink.Addr())},
		{"OTLP", fmt.Sprintf("otlp %q", posts.URL)},
		{"files as JSON", fmt.Sprintf("files %q as json", dir+"/out/{gate}.log")}}
	if broker, stop := stream(dir); broker != "" {
		defer stop()
		targets = append(targets, [2]string{"a stream of a broker", fmt.Sprintf("nats \"logs.{gate}\" at %q", broker)})
	}
	for _, t := range targets {
		took := delivers(dir, log, "deliver d {\n  to "+t[1]+"\n  begin oldest\n}\n")
		fmt.Printf("%d entries to %s: %.1f s, %.0f a second (aim 50000)\n", outLines, t[0], took.Seconds(),
			outLines/took.Seconds())
	}
	rule := "rule r { problem /passage (?<n>\\d+) of/ and took > 600ms\n per gate\n raise notice at 3 in 5m }\n"
	plain := reads(dir, log, rule)
	counted := reads(dir, log, rule+"measure passages { per gate\n show count }\nmeasure took-seconds { per gate\n "+
		"show spread(took) at 100ms, 300ms }\n")
	fmt.Printf("%d entries read by a rule: %.2f s; with two measures that look at each: %.2f s, %.2f µs an entry "+
		"more\n", outLines, plain.Seconds(), counted.Seconds(), (counted-plain).Seconds()/outLines*1e6)
}

// stream starts a broker with a stream; "" where there is none on this machine.
func stream(dir string) (address string, stop func()) {
	program, err := exec.LookPath("nats-server")
	if err != nil {
		return "", nil
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(err)
	address = "nats://" + l.Addr().String()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	must(l.Close())
	c := exec.Command(program, "-js", "-sd", filepath.Join(dir, "broker"), "-a", "127.0.0.1", "-p", port)
	must(c.Start())
	for range 100 {
		time.Sleep(50 * time.Millisecond)
		n, err := nats.Connect(address)
		if err != nil {
			continue
		}
		js, err := jetstream.New(n)
		must(err)
		_, err = js.CreateStream(context.Background(), jetstream.StreamConfig{Name: "LOGS",
			Subjects: []string{"logs.>"}})
		n.Close()
		if err == nil {
			break
		}
	}
	return address, func() { c.Process.Kill(); c.Wait() }
}

// outSettings begin settings of a log.
func outSettings(log string) string {
	return fmt.Sprintf("source s {\n  files %q\n  layout l\n  begin oldest\n}\nlayout l {\n  pattern /^(?<at>\\S+) "+
		"(?<gate>\\S+) (?<took>\\d+ms) (?<text>.*)$/\n  time at rfc3339\n  type took duration\n}\n", log)
}

// running runs a service with settings until something holds, and says how long that took.
func running(dir, settings string, holds func(context.Context, *service.Service) bool) time.Duration {
	work, err := os.MkdirTemp(dir, "run-")
	must(err)
	must(os.Mkdir(filepath.Join(work, "settings"), 0o755))
	must(os.WriteFile(filepath.Join(work, "settings", "s.lantern"), []byte(settings), 0o644))
	s, err := service.Open(service.Options{Settings: filepath.Join(work, "settings"),
		Data: filepath.Join(work, "data")})
	must(err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	began := time.Now()
	go func() { ended <- s.Run(ctx) }()
	for !holds(ctx, s) {
		time.Sleep(10 * time.Millisecond)
	}
	took := time.Since(began)
	cancel()
	must(<-ended)
	return took
}

// delivers is how long it takes until all entries of a log are delivered.
func delivers(dir, log, settings string) time.Duration {
	return running(dir, outSettings(log)+settings, func(ctx context.Context, s *service.Service) bool {
		v, err := s.Deliveries(ctx, api.None{})
		must(err)
		return len(v.List) == 1 && v.List[0].Sent == outLines
	})
}

// reads is how long it takes until a log is read and judged.
func reads(dir, log, settings string) time.Duration {
	return best(func() {
		running(dir, outSettings(log)+settings, func(ctx context.Context, s *service.Service) bool {
			v, err := api.AskStatus.Call(ctx, s.Desk(), api.None{})
			must(err)
			return !v.Reading && v.Origins == 1
		})
	})
}
