package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/service"
)

// edit measures how long the loop is held up while a rule of 200 is edited, so that its state
// is built anew from a log: once with few keys, once with 100,000.
func edit() {
	for _, keys := range []int{100, 100_000} {
		editWith(keys)
	}
}

func editWith(keys int) {
	dir, err := os.MkdirTemp("/dev/shm", "dl-edit-")
	must(err)
	defer os.RemoveAll(dir)
	must(os.MkdirAll(filepath.Join(dir, "settings"), 0o755))
	path := filepath.Join(dir, "log")
	k := kinds[0]
	makeLog(path, 64<<20, k, 200, 2)
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND, 0)
	must(err)
	var b strings.Builder
	for i := range keys {
		fmt.Fprintf(&b, "%s host-a job %d waits\n", time.Now().UTC().Format("2006-01-02T15:04:05.000Z"), i)
	}
	_, err = f.WriteString(b.String())
	must(err)
	must(f.Close())
	file := filepath.Join(dir, "settings", "s.lantern")
	body := strings.Replace(rulesFor(k, 200, path), "layout line\n", "layout line\n  begin oldest\n", 1) +
		"rule jobs {\n  problem /job (?<id>\\d+) waits/\n  per id\n  raise warning at 2 in 24h\n  clear after 24h " +
		"quiet\n}\n" +
		"settings {\n  most 200000 keys a rule\n}\n"
	must(os.WriteFile(file, []byte(body), 0o644))
	s, err := service.Open(service.Options{Settings: filepath.Join(dir, "settings"),
		Data: filepath.Join(dir, "data")})
	must(err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	desk := s.Desk()
	for { // until everything is read
		v, err := api.AskStatus.Call(ctx, desk, api.None{})
		must(err)
		if !v.Reading && v.Origins > 0 {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	time.Sleep(time.Second)
	longest := func(until <-chan struct{}) (longest time.Duration) {
		for {
			start := time.Now()
			api.DoClear.Call(ctx, desk, api.ClearQuery{Alert: "none"}) // waits for the loop, and changes nothing
			longest = max(longest, time.Since(start))
			select {
			case <-until:
				return longest
			case <-time.After(time.Millisecond):
			}
		}
	}
	calm := make(chan struct{})
	time.AfterFunc(3*time.Second, func() { close(calm) })
	without := longest(calm)
	done := make(chan struct{})
	start := time.Now()
	go func() {
		defer close(done)
		edited := strings.Replace(body, "pump 1000", "pump (1000|2000)", 1)
		if edited == body {
			must(fmt.Errorf("no rule was edited"))
		}
		must(os.WriteFile(file, []byte(edited), 0o644))
		_, err := api.DoApply.Call(ctx, desk, api.None{})
		must(err)
	}()
	held := longest(done)
	fmt.Printf("a rule of 200 is edited, its state built anew from 64 MiB, %d keys: at work after %.0f ms; "+
		"the loop is held up for %.0f ms at most (aim 50; without an edit %.0f ms)\n", keys, ms(time.Since(start)),
		ms(held), ms(without))
	cancel()
	must(<-ended)
}
