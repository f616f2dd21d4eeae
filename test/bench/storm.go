package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"dimlantern/api"
	"dimlantern/service"
)

// storm measures how soon a webhook that answers in a millisecond is told of many alerts at
// once, and what it costs that it refuses one in ten.
func storm() {
	fmt.Println()
	first, all, critical := told(5000, 0)
	fmt.Printf("5000 alerts at once, one webhook: the first after %.0f ms (aim 1000), all after %.1f s (aim 10), "+
		"a critical one that came behind the first after %.0f ms\n",
		ms(first), all.Seconds(), ms(critical))
	_, well, _ := told(600, 0)
	_, refused, _ := told(600, 10)
	fmt.Printf("600 alerts, one in ten tries refused: %.2f s against %.2f s, %.2f × (aim 1.5)\n", refused.Seconds(),
		well.Seconds(), refused.Seconds()/well.Seconds())
}

// told raises so many alerts, and answers when the webhook had the first, all, and a critical
// one that was raised once the first had come. It refuses each nth try.
func told(alerts, nth int) (first, all, critical time.Duration) {
	dir, err := os.MkdirTemp("", "dl-storm-")
	must(err)
	defer os.RemoveAll(dir)
	var mu sync.Mutex
	var began, raised time.Time
	tries, seen := 0, map[string]bool{}
	done, some := make(chan struct{}), make(chan struct{})
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		time.Sleep(time.Millisecond)
		mu.Lock()
		defer mu.Unlock()
		if tries++; nth > 0 && tries%nth == 0 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		if len(seen) == 0 {
			first = time.Since(began)
			close(some)
		}
		if strings.Contains(string(body), `"rule":"worse"`) {
			critical = time.Since(raised)
		}
		seen[r.Header.Get("Content-Length")+string(body[:min(len(body), 80)])] = true
		if len(seen) == alerts+1 {
			all = time.Since(began)
			close(done)
		}
	}))
	defer srv.Close()
	must(os.MkdirAll(filepath.Join(dir, "settings"), 0o755))
	must(os.WriteFile(filepath.Join(dir, "settings", "s.lantern"), []byte(fmt.Sprintf(
		"source s {\n  files %q\n}\nrule r {\n  problem /job (?<id>\\w+) failed/\n  per id\n  raise warning\n  "+
			"clear after 1h quiet\n}\nrule worse {\n  problem \"all is lost\"\n  per nothing\n  raise critical\n  "+
			"clear by hand\n}\nsettings {\n  tell duty\n}\ncontact duty {\n  webhook %q\n}\n", dir+"/s.log",
		srv.URL)), 0o644))
	log, err := os.Create(filepath.Join(dir, "s.log"))
	must(err)
	defer log.Close()
	s, err := service.Open(service.Options{Settings: filepath.Join(dir, "settings"),
		Data: filepath.Join(dir, "data")})
	must(err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	for at := time.Now(); time.Since(at) < time.Second; {
		if st, err := api.AskStatus.Call(ctx, s.Desk(), api.None{}); err == nil && !st.Reading && st.Origins > 0 {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	var b strings.Builder
	for i := range alerts {
		fmt.Fprintf(&b, "job %d failed\n", i)
	}
	mu.Lock()
	began = time.Now()
	mu.Unlock()
	_, err = log.WriteString(b.String())
	must(err)
	<-some
	mu.Lock()
	raised = time.Now()
	mu.Unlock()
	_, err = log.WriteString("all is lost\n")
	must(err)
	select {
	case <-done:
	case <-time.After(2 * time.Minute):
		fmt.Printf("of %d alerts %d were told in 2 minutes\n", alerts+1, len(seen))
	}
	cancel()
	must(<-ended)
	return first, all, critical
}
