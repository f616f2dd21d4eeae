// Package fleet is the machines of Gullhaven that report to a centre: simulated hosts that join it, take up what it
// rolls out, and log what happens to them. One falls silent, one refuses what it gets, one is late.
package fleet

import (
	"context"
	_ "embed"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"dimlantern/api"
	"dimlantern/folder"
	"dimlantern/hosts"
	"dimlantern/hosts/sim"
)

//go:embed fleet.lantern
var settings string

// Most is how many hosts a fleet has at most.
const Most = 2000

// Write writes the fleet's settings into the centre's folder.
func Write(dir string) error {
	if err := os.WriteFile(filepath.Join(dir, "fleet.lantern"), []byte(settings), 0o644); err != nil {
		return fmt.Errorf("the demo's settings cannot be written: %w", err)
	}
	return nil
}

// Fleet is hosts that live.
type Fleet struct {
	hosts []*sim.Host
	rng   *rand.Rand
	stop  context.CancelFunc
	all   sync.WaitGroup
}

// kinds are the kinds of machines, and how many of a hundred each has.
var kinds = []struct {
	name  string
	share int
}{{"pump", 40}, {"lock", 15}, {"store", 20}, {"gauge", 25}}

// names are how so many hosts are called.
func names(n int) []string {
	var out []string
	for i := range kinds {
		k := &kinds[i]
		count := max(1, n*k.share/100)
		if i == len(kinds)-1 {
			count = n - len(out)
		}
		for j := 0; j < count && len(out) < n; j++ {
			out = append(out, fmt.Sprintf("%s-%02d", k.name, j+1))
		}
	}
	return out
}

// Asked answers questions of the ledger for a host; see sim.Options.
type Asked = func(ctx context.Context, q []byte, name string, texts []folder.Text, said []sim.Said) ([]byte, error)

// Start lets so many hosts join the centre, and lives on until Stop. Data is a folder for them.
func Start(ctx context.Context, centre api.Lantern, data string, n int, seed uint64, asked Asked) (*Fleet, error) {
	if n < 1 || n > Most {
		return nil, fmt.Errorf("a fleet has 1 to %d hosts", Most)
	}
	f := &Fleet{rng: rand.New(rand.NewPCG(seed, 42))}
	person := api.Person{By: "gullhaven"}
	invited, err := api.DoInvite.Call(ctx, centre, api.InviteQuery{Person: person, Hosts: n, Address: "127.0.0.1"})
	if err != nil {
		return nil, err
	}
	code, err := hosts.ReadCode(invited.Code)
	if err != nil {
		return nil, err
	}
	shared := &sim.Shared{}
	list := names(n)
	f.hosts = make([]*sim.Host, len(list))
	problems := make([]error, len(list))
	var all sync.WaitGroup
	limit := make(chan struct{}, 16)
	for i, name := range list {
		all.Go(func() {
			limit <- struct{}{}
			defer func() { <-limit }()
			o := sim.Options{Name: name, Version: "1.0", Data: filepath.Join(data, name), Shared: shared,
				Keeps: 64 << 10, Ask: asked}
			if i == refuses(len(list)) {
				o.Local = []folder.Text{{Name: "own.lantern", Body: wrong}}
			}
			f.hosts[i], problems[i] = sim.Join(ctx, code, o)
		})
	}
	all.Wait()
	for _, err := range problems {
		if err != nil {
			return nil, err
		}
	}
	if _, err := api.DoRoll.Call(ctx, centre, api.RollQuery{Person: person, To: []string{"all"},
		Do: true}); err != nil {
		return nil, err
	}
	return f, f.settle(ctx)
}

// refuses is which host has something written on it that does not go with what it gets.
func refuses(n int) int { return min(3, n-1) }

const wrong = `source own-door {
  files  "/var/log/door.log"
  layout door-line
}
`

// settle waits until the hosts have tried what they got.
func (f *Fleet) settle(ctx context.Context) error {
	for _, h := range f.hosts {
		for {
			s, err := h.State(ctx)
			if err != nil {
				return err
			}
			if s.Runs.Number > 0 || s.Runs.Refuses != nil {
				break
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(20 * time.Millisecond):
			}
		}
	}
	return nil
}

// past is how much of the hosts' past they tell.
const past = 80 * time.Minute

// Live tells what was, and goes on until the fleet is stopped.
func (f *Fleet) Live(ctx context.Context) {
	ctx, f.stop = context.WithCancel(ctx)
	for i, h := range f.hosts {
		f.all.Go(func() { f.live(ctx, i, h) })
	}
}

// Stop ends the hosts.
func (f *Fleet) Stop() {
	if f.stop != nil {
		f.stop()
	}
	f.all.Wait()
	var all sync.WaitGroup
	for _, h := range f.hosts {
		all.Go(h.Kill) // the window closes, and nobody waits for their goodbyes
	}
	all.Wait()
}

// life is one host's.
type life struct {
	*sim.Host
	rng    *rand.Rand
	source string
	kind   string
	number int
	level  int
	ill    time.Time // until when something is wrong
	part   int
}

func (f *Fleet) live(ctx context.Context, i int, h *sim.Host) {
	kind, _, _ := strings.Cut(h.Name(), "-")
	l := &life{Host: h, rng: rand.New(rand.NewPCG(uint64(i), 7)), source: "station-log", kind: kind, number: i,
		level: 180}
	if kind == "gauge" {
		l.source = "gauge-log"
	}
	now := time.Now()
	for at := now.Add(-past); at.Before(now); at = at.Add(20 * time.Second) {
		l.step(at, now)
		if ctx.Err() != nil {
			return
		}
	}
	n := len(f.hosts)
	silent := n > 5 && i == min(2, n-1)
	if n > 5 && i == n-2 {
		l.Late(3 * time.Minute)
	}
	began := time.Now()
	next := time.NewTimer(0)
	defer next.Stop()
	for {
		next.Reset(time.Duration(1500+l.rng.IntN(2000)) * time.Millisecond)
		select {
		case <-ctx.Done():
			return
		case <-next.C:
		}
		if silent && time.Since(began) > 15*time.Second {
			h.Kill()
			return
		}
		l.step(time.Now(), now)
		l.Advance()
	}
}

// step says what a host says at a moment; live is when its past ends.
func (l *life) step(at, live time.Time) {
	say := func(program, format string, v ...any) {
		l.Log(l.source, fmt.Sprintf("%s %s %s: %s", at.UTC().Format("2006-01-02T15:04:05.000Z"), l.Name(), program,
			fmt.Sprintf(format, v...)))
	}
	n := 2 + l.rng.IntN(9)
	if at.After(live) { // which comes more often
		n = l.rng.IntN(2)
	}
	l.Quiet(l.source, at, int64(n))
	ill := at.Before(l.ill)
	fresh := !ill && l.rng.IntN(900) == 0
	if fresh {
		l.ill, l.part = at.Add(time.Duration(2+l.rng.IntN(12))*time.Minute), 1+l.rng.IntN(4)
		ill = true
	}
	ended := !ill && !l.ill.IsZero()
	switch l.kind {
	case "pump":
		switch {
		case ill && l.rng.IntN(4) == 0 || fresh:
			say("pumpd", "bearing %d hot: %d degrees", l.part, 78+l.rng.IntN(20))
		case ended:
			say("pumpd", "bearing %d cooled", l.part)
		}
	case "lock":
		switch {
		case ill && l.rng.IntN(5) == 0 || fresh:
			say("gated", "gate seal %s leaks", []string{"upper", "lower", "left", "right", "sill"}[l.part])
		case ended:
			say("gated", "gate seal %s tight", []string{"upper", "lower", "left", "right", "sill"}[l.part])
		}
	case "store":
		degrees := -19 + l.rng.IntN(3)
		if ill {
			degrees = -11 + l.rng.IntN(5)
		}
		if ill || ended || l.rng.IntN(6) == 0 {
			say("stored", "bay %d at %d", max(l.part, 1), degrees)
		}
	case "gauge":
		// The tide swells twice in the past, and once now and then.
		minutes := at.Sub(live).Minutes()
		if minutes > -34 && minutes < -26 && l.rng.IntN(12) == 0 || minutes > 0 && l.rng.IntN(4000) == 0 {
			say("gauged", "level %d cm, above mark", 240+l.rng.IntN(30))
		}
	}
	if ended {
		l.ill = time.Time{}
	}
}
