package main

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"sort"
	"strings"
	"sync"
	"time"

	"dimlantern/api"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/service"
)

// latencies measure from the write of a line, or the sending of a message, to its
// committed transition.
func latencies() {
	runtime.GOMAXPROCS(runtime.NumCPU())
	fmt.Println()
	for _, c := range []struct{ rate, files int }{{2000, 1}, {20000, 1}, {20000, 50}} {
		m := measure(fmt.Sprintf("source s {\n  files \"DIR/log-*\"\n}\n%s", markRule), c.rate, 8*time.Second,
			toFiles(c.files))
		fmt.Printf("%6d lines a second into %2d files, 1 %% of them transitions: from write to commit %s\n", c.rate,
			c.files, m)
	}
	for _, proto := range []string{"tcp", "udp"} {
		m := measure(fmt.Sprintf("source s {\n  listen syslog %s \"127.0.0.1:5541\"\n}\n%s", proto, markRule), 20000,
			8*time.Second, toSyslog(proto, ""))
		fmt.Printf("%6d messages a second over %s, 1 %% of them transitions: from sending to commit %s; %d sent, "+
			"%d judged, %d dropped and counted\n",
			20000, proto, m, m.sent, m.judged, m.dropped)
		if m.judged+m.dropped != m.sent || proto == "tcp" && m.dropped > 0 {
			fmt.Println("       THESE DO NOT ADD UP")
		}
	}
	stop := make(chan struct{})
	m := measure(fmt.Sprintf("source s {\n  listen syslog tcp \"127.0.0.1:5541\"\n}\n%s", markRule), 100,
		8*time.Second, func(dir string) func(int, string) {
			flood(stop)
			return toSyslog("tcp", "127.0.0.2")(dir)
		})
	close(stop)
	fmt.Printf("   100 messages a second of one peer, while another floods: from sending to commit %s\n", m)
}

const markRule = "rule r {\n  problem /mark (?<id>\\d+)/\n  per id\n  raise error\n  clear after 1m quiet\n}\n"

// measured is what came of a measurement.
type measured struct {
	p50, p99, worst       time.Duration
	n                     int
	sent, judged, dropped int64
}

func (m measured) String() string {
	return fmt.Sprintf("p50 %.1f ms, p99 %.1f ms (aim 50), worst %.1f ms, of %d", ms(m.p50), ms(m.p99), ms(m.worst),
		m.n)
}

// toFiles writes into so many files in turn.
func toFiles(n int) func(dir string) func(k int, lines string) {
	return func(dir string) func(int, string) {
		var logs []*os.File
		for i := range n {
			f, err := os.Create(filepath.Join(dir, fmt.Sprintf("log-%02d.log", i)))
			must(err)
			logs = append(logs, f)
		}
		return func(k int, lines string) {
			_, err := logs[k%n].WriteString(lines)
			must(err)
		}
	}
}

// toSyslog sends each line as a message, from an address of this machine.
func toSyslog(proto, from string) func(dir string) func(k int, lines string) {
	return func(string) func(int, string) {
		c := dialAt(proto, from)
		return func(_ int, lines string) {
			if proto == "tcp" {
				_, err := c.Write([]byte(lines))
				must(err)
				return
			}
			for _, line := range strings.SplitAfter(lines, "\n") {
				if line != "" {
					_, err := c.Write([]byte(line))
					must(err)
				}
			}
		}
	}
}

func dialAt(proto, from string) net.Conn {
	d := net.Dialer{}
	if from != "" {
		d.LocalAddr = &net.TCPAddr{IP: net.ParseIP(from)}
	}
	for {
		c, err := d.Dial(proto, "127.0.0.1:5541")
		if err == nil {
			return c
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// flood sends as fast as it can.
func flood(stop <-chan struct{}) {
	lines := []byte(strings.Repeat(header()+"valve 1 answered late and nobody cares about it\n", 100))
	go func() {
		c := dialAt("tcp", "127.0.0.3")
		defer c.Close()
		for {
			select {
			case <-stop:
				return
			default:
			}
			if _, err := c.Write(lines); err != nil {
				return
			}
		}
	}()
}

func header() string {
	return "<12>1 " + time.Now().UTC().Format("2006-01-02T15:04:05.000Z") + " pump-03 pumpd 418 - - "
}

// measure runs a service, and sends it lines at a rate, of which one in a hundred
// raises an alert.
func measure(settings string, rate int, span time.Duration,
	open func(dir string) func(k int, lines string)) measured {
	dir, err := os.MkdirTemp("", "dl-lag-")
	must(err)
	defer os.RemoveAll(dir)
	must(os.MkdirAll(filepath.Join(dir, "settings"), 0o755))
	must(os.WriteFile(filepath.Join(dir, "settings", "s.lantern"), []byte(strings.ReplaceAll(settings, "DIR", dir)),
		0o644))
	var mu sync.Mutex
	written := map[string]time.Time{}
	var lags []time.Duration
	s, err := service.Open(service.Options{Settings: filepath.Join(dir, "settings"), Data: filepath.Join(dir, "data"),
		Committed: func(ts []engine.Transition) {
			now := time.Now()
			mu.Lock()
			defer mu.Unlock()
			for _, t := range ts {
				if w, ok := written[t.Key[0]]; ok && t.Change == engine.Raised {
					lags = append(lags, now.Sub(w))
				}
			}
		}})
	must(err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	isMessage := strings.Contains(settings, "listen")
	send := open(dir)
	time.Sleep(500 * time.Millisecond)
	tick := 5 * time.Millisecond
	if rate < 200 {
		tick = time.Second / time.Duration(rate)
	}
	per := max(rate*int(tick)/int(time.Second), 1)
	id, sent := 0, int64(0)
	start := time.Now()
	for k := 0; time.Since(start) < span; k++ {
		time.Sleep(time.Until(start.Add(time.Duration(k) * tick)))
		head := ""
		if isMessage {
			head = header()
		}
		var b strings.Builder
		for i := range per {
			sent++
			b.WriteString(head)
			if (k*per+i)%100 == 0 || rate < 200 {
				id++
				mu.Lock()
				written[fmt.Sprint(id)] = time.Now()
				mu.Unlock()
				fmt.Fprintf(&b, "a line with a mark %d in it\n", id)
			} else {
				fmt.Fprintf(&b, "valve %d answered late (%d ms) and nobody cares about it\n", i, k)
			}
		}
		send(k, b.String())
	}
	time.Sleep(time.Second)
	m := measured{sent: sent}
	v, err := api.AskSources.Call(ctx, s.Desk(), api.ViewQuery{Column: time.Minute, Columns: 60,
		At: entry.Of(time.Now())})
	must(err)
	for _, x := range v.Sources {
		for _, o := range x.Origins {
			m.judged += o.Entries
		}
		if x.Way != nil {
			m.dropped += x.Way.State.Lost
			for _, p := range x.Way.State.Senders {
				m.dropped += p.Dropped
			}
		}
	}
	cancel()
	must(<-ended)
	mu.Lock()
	defer mu.Unlock()
	sort.Slice(lags, func(i, j int) bool { return lags[i] < lags[j] })
	if n := len(lags); n > 0 {
		m.n, m.p50, m.p99, m.worst = n, lags[n/2], lags[n*99/100], lags[n-1]
	}
	return m
}
