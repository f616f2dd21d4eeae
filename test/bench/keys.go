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

// manyKeys measures lines of which each is a hit with a key of its own: how many are
// committed a second, below a threshold and with an alert each; how long a service takes
// to be ready with the state of so many keys; and how much memory it has then.
func manyKeys() {
	const keys = 100_000
	fmt.Println()
	for _, c := range []struct{ name, raise string }{{"below a threshold", "raise error at 2 in 1h"},
		{"an alert each", "raise error"}} {
		dir, err := os.MkdirTemp("", "dl-keys-")
		must(err)
		must(os.MkdirAll(filepath.Join(dir, "settings"), 0o755))
		must(os.WriteFile(filepath.Join(dir, "settings", "s.lantern"), []byte(fmt.Sprintf(
			"source s {\n  files %q\n  begin oldest\n}\nrule r {\n  problem /job (?<id>\\w+) failed/\n  per id\n  "+
				"%s\n  clear after 1h quiet\n}\n", dir+"/s.log", c.raise)), 0o644))
		var b strings.Builder
		for i := range keys {
			fmt.Fprintf(&b, "job %08x failed\n", i*7919)
		}
		must(os.WriteFile(filepath.Join(dir, "s.log"), []byte(b.String()), 0o644))
		first := ready(dir, keys)
		fmt.Printf("%d lines, each a hit with its own key, %s: %.0f a second committed (aim 20000)\n", keys, c.name,
			keys/first.Seconds())
		again := ready(dir, keys)
		fmt.Printf("       start with the state of %d keys: ready after %.0f ms (aim 1000)\n", keys, ms(again))
		os.RemoveAll(dir)
	}
}

// ready runs a service until it knows so many keys and has read what there is, stops it,
// and answers how long that took from its start.
func ready(dir string, keys int) time.Duration {
	start := time.Now()
	s, err := service.Open(service.Options{Settings: filepath.Join(dir, "settings"),
		Data: filepath.Join(dir, "data")})
	must(err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	desk := s.Desk()
	for {
		v, err := api.AskRules.Call(ctx, desk, api.None{})
		must(err)
		if len(v.Rules) > 0 && v.Rules[0].Keys >= keys {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	took := time.Since(start)
	cancel()
	must(<-ended)
	return took
}
