package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"sort"
	"strings"
	"sync"
	"time"

	"dimlantern/core/engine"
	"dimlantern/service"
)

// latencies measure from the write of a line to its committed transition.
func latencies() {
	runtime.GOMAXPROCS(runtime.NumCPU())
	fmt.Println()
	for _, c := range []struct{ rate, files int }{{2000, 1}, {20000, 1}, {20000, 50}} {
		p50, p99, n := latency(c.rate, c.files, 8*time.Second)
		fmt.Printf("%6d lines a second into %2d files, 1 %% of them transitions: from write to commit p50 %.1f ms, p99 %.1f ms (aim 50), of %d\n",
			c.rate, c.files, ms(p50), ms(p99), n)
	}
}

func latency(rate, files int, span time.Duration) (p50, p99 time.Duration, n int) {
	dir, err := os.MkdirTemp("", "dl-lag-")
	must(err)
	defer os.RemoveAll(dir)
	must(os.MkdirAll(filepath.Join(dir, "settings"), 0o755))
	must(os.WriteFile(filepath.Join(dir, "settings", "s.lantern"), []byte(fmt.Sprintf(
		"source s {\n  files \"%s/log-*\"\n}\nrule r {\n  problem /mark (?<id>\\d+)/\n  per id\n  raise error\n  clear after 1m quiet\n}\n", dir)), 0o644))
	var logs []*os.File
	for i := range files {
		f, err := os.Create(filepath.Join(dir, fmt.Sprintf("log-%02d.log", i)))
		must(err)
		logs = append(logs, f)
	}
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
	time.Sleep(500 * time.Millisecond)
	const tick = 5 * time.Millisecond
	per := rate * int(tick) / int(time.Second)
	id := 0
	start := time.Now()
	for k := 0; time.Since(start) < span; k++ {
		time.Sleep(time.Until(start.Add(time.Duration(k) * tick)))
		var b strings.Builder
		for i := range per {
			if (k*per+i)%100 == 0 {
				id++
				mu.Lock()
				written[fmt.Sprint(id)] = time.Now()
				mu.Unlock()
				fmt.Fprintf(&b, "a line with a mark %d in it\n", id)
			} else {
				fmt.Fprintf(&b, "valve %d answered late (%d ms) and nobody cares about it\n", i, k)
			}
		}
		_, err := logs[k%files].WriteString(b.String())
		must(err)
	}
	time.Sleep(time.Second)
	cancel()
	must(<-ended)
	mu.Lock()
	defer mu.Unlock()
	sort.Slice(lags, func(i, j int) bool { return lags[i] < lags[j] })
	if len(lags) == 0 {
		return 0, 0, 0
	}
	return lags[len(lags)/2], lags[len(lags)*99/100], len(lags)
}
