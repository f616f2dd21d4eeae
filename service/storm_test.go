package service

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// stormy is a place where each line raises an alert, with a webhook.
func stormy(t *testing.T, url string) *place {
	p := &place{t: t, dir: t.TempDir()}
	p.write("settings/app.lantern", strings.ReplaceAll(fmt.Sprintf("source s {\n files \"DIR/app.log\"\n begin "+
		"now\n layout l\n}\nlayout l {\n pattern /^(?<at>\\S+) (?<text>.*)$/\n time at rfc3339\n}\nrule low {\n "+
		"problem /pump (?<pump>\\d+): low/\n recovery /pump (?<pump>\\d+): well/\n per pump\n raise warning\n "+
		"raise critical at 2 in 10m\n say \"{pump} low\"\n}\nrule flood {\n problem /gate (?<gate>\\d+): "+
		"flooded/\n per gate\n raise critical\n clear by hand\n}\nsettings {\n tell duty\n}\ncontact duty {\n "+
		"webhook %q\n}\n", url), "DIR", p.dir))
	p.append("")
	return p
}

// Among thousands of alerts a critical one does not wait for its turn, and each is told once.
func TestWorstIsToldFirst(t *testing.T) {
	srv, b, _ := hook(t)
	p := stormy(t, srv.URL)
	runs(t, p, nil)
	many := 1500
	if testing.Short() {
		many = 300
	}
	var lines strings.Builder
	at := time.Now().UTC().Format("2006-01-02T15:04:05.000Z")
	for i := range many {
		fmt.Fprintf(&lines, "%s pump %d: low\n", at, i)
	}
	began := time.Now()
	p.append(lines.String())
	b.await(t, 20)
	first := time.Since(began)
	p.say("gate 1: flooded")
	require.Eventually(t, func() bool { return strings.Contains(strings.Join(b.all(), "\n"), `"flood"`) }, 2*patience,
		10*time.Millisecond)
	before := len(b.all())
	require.Eventually(t, func() bool { return len(b.all()) > many }, 3*patience, 20*time.Millisecond)
	t.Logf("first after %s, critical behind %d, all after %s", first, before, time.Since(began))
	seen := map[string]int{}
	for _, x := range b.all() {
		seen[read(t, x).ID]++
	}
	assert.Len(t, seen, many+1)
	assert.Less(t, before, many/2, "the critical one went ahead")
}

// A message that its receiver would not have keeps only those about the same alert waiting,
// and these keep their order.
func TestOnlyTheRefusedWaits(t *testing.T) {
	b := &box{}
	var refuse atomic.Bool
	refuse.Store(true)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		if e := read(t, string(body)); e.Subject == "low/7" && refuse.Load() {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		b.put(string(body))
	}))
	t.Cleanup(srv.Close)
	p := stormy(t, srv.URL)
	runs(t, p, nil)
	p.say("pump 7: low")
	p.say("pump 7: low")
	p.say("pump 7: well")
	for i := range 30 {
		p.say("pump %d: low", 100+i)
	}
	for _, x := range b.await(t, 30) {
		assert.NotEqual(t, "low/7", read(t, x).Subject)
	}
	refuse.Store(false)
	var changes []string
	for _, x := range b.await(t, 33) {
		if e := read(t, x); e.Subject == "low/7" {
			changes = append(changes, strings.TrimPrefix(e.Type, "dim-lantern.alert."))
		}
	}
	assert.Equal(t, []string{"raised", "worsened", "cleared"}, changes)
}

// A receiver that refuses one in ten is told all the same: each once, and soon.
func TestOneInTenRefused(t *testing.T) {
	b := &box{}
	var n atomic.Int64
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if n.Add(1)%10 == 0 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		body, _ := io.ReadAll(r.Body)
		b.put(string(body))
	}))
	t.Cleanup(srv.Close)
	p := stormy(t, srv.URL)
	runs(t, p, nil)
	for i := range 200 {
		p.say("pump %d: low", i)
	}
	seen := map[string]bool{}
	for _, x := range b.await(t, 200) {
		seen[read(t, x).ID] = true
	}
	assert.Len(t, seen, 200)
}
