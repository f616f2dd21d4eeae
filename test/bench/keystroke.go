package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"
	"time"

	"dimlantern/api"

	"dimlantern/core/entry"
	"dimlantern/service"
)

// keystrokes measures what a keystroke on the bench costs over a sample of 100 MiB: the
// first trial, which reads it, and those behind it, against a search for the pattern alone.
func keystrokes() {
	for _, mib := range []int{1, 99, 1000} {
		keystrokesOver(mib)
	}
}

func keystrokesOver(mib int) {
	dir, err := os.MkdirTemp("/dev/shm", "dl-keystroke-")
	must(err)
	defer os.RemoveAll(dir)
	must(os.MkdirAll(filepath.Join(dir, "settings"), 0o755))
	path := filepath.Join(dir, "log")
	k := kinds[0]
	lines := makeLog(path, int64(mib)<<20, k, 10, 2)
	file := filepath.Join(dir, "settings", "s.lantern")
	body := rulesFor(k, 1, path)
	body = strings.Replace(body, "layout line\n", "layout line\n  begin oldest\n", 1)
	must(os.WriteFile(file, []byte(body), 0o644))
	s, err := service.Open(service.Options{Settings: filepath.Join(dir, "settings"),
		Data: filepath.Join(dir, "data")})
	must(err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	for { // until everything is read
		v, err := api.AskSources.Call(ctx, s.Desk(), api.ViewQuery{Column: time.Minute, Columns: 10})
		must(err)
		if len(v.Sources) > 0 && len(v.Sources[0].Origins) > 0 && v.Sources[0].Origins[0].Entries >= lines {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	at := entry.Of(time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC))
	ask := func(body string) (time.Duration, *api.BenchView) {
		line := strings.Count(body[:strings.Index(body, "rule ")], "\n") + 1
		start := time.Now()
		v, err := api.TryText.Call(ctx, s.Desk(), api.BenchQuery{File: file, Body: body, Line: line, At: at,
			Span: 31 * 24 * time.Hour, From: at.Add(-72 * time.Hour), Column: time.Hour, Columns: 72})
		must(err)
		if v.Tried == nil {
			must(fmt.Errorf("nothing was tried: %v", v.Findings))
		}
		return time.Since(start), v
	}
	first, _ := ask(body)
	runtime.GC()
	debug.FreeOSMemory()
	resident := residentOf(os.Getpid())
	best := time.Hour
	var v *api.BenchView
	for i := range 6 {
		var d time.Duration
		d, v = ask(strings.Replace(body, "pump 1000", fmt.Sprintf("pump 100%d", i+1), 1))
		best = min(best, d)
	}
	number := time.Hour
	for i := range 6 {
		changed := strings.Replace(body, "at 3 in", fmt.Sprintf("at %d in", i+4), 1)
		if changed == body {
			must(fmt.Errorf("the rule has no threshold: %s", body))
		}
		d, _ := ask(changed)
		if i > 0 {
			number = min(number, d)
		}
	}
	fmt.Printf("\na keystroke in a pattern over %d MiB: %.0f ms, of which the trial %.0f ms (%d entries); the "+
		"first one, which reads them, %.0f ms; resident memory %d MiB\n", mib, ms(best), ms(v.Tried.Took),
		v.Tried.Entries, ms(first), resident)
	rg, ok := command("rg", "-c", "pump 1006: pressure low", path)
	if ok {
		fmt.Printf("    against rg -c of the pattern %.0f ms: %.1f × its time (aim 2)\n", ms(rg),
			float64(best)/float64(rg))
	}
	fmt.Printf("    a keystroke in a threshold: %.0f ms\n", ms(number))
	cancel()
	must(<-ended)
}

// residentOf is how much memory a process has in use, in MiB.
func residentOf(pid int) int64 {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	must(err)
	var size, resident int64
	fmt.Sscan(string(b), &size, &resident)
	return resident * int64(os.Getpagesize()) >> 20
}
