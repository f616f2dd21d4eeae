package test

import (
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"dimlantern/hosts/clustertest"

	"github.com/stretchr/testify/require"
)

// Over three brokers of the system, which are killed one after the other beside hosts and centre, everything comes to
// what it comes to over the centre's own.
func TestClusterUnderKills(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a while")
	}
	path, err := exec.LookPath("nats-server")
	if err != nil {
		path = "/usr/sbin/nats-server"
	}
	if _, err := os.Stat(path); err != nil {
		t.Skip("nats-server is not here")
	}
	was := patience
	patience = 2 * time.Minute // brokers that choose who leads take their time on a machine that does other things
	defer func() { patience = was }()
	cluster := clustertest.New(t, 3)
	brokers := make([]*exec.Cmd, 3)
	start := func(i int) {
		brokers[i] = exec.Command(path, "-c", cluster.Confs[i])
		require.NoError(t, brokers[i].Start())
	}
	for i := range brokers {
		start(i)
		t.Cleanup(func() { brokers[i].Process.Kill(); brokers[i].Wait() })
	}
	h := newHarbour(t, 2, cluster.Through()+"\n  centre wait 30s") // brokers take up to 10 s to find who leads
	st := cluster.Reports()
	kills := 4 * killsFactor(t)
	n := 0
	all := append([]folder{h.centre}, h.hosts...)
	underKills(t, h, kills, func(r *rand.Rand) {
		time.Sleep(time.Duration(100+r.IntN(1500)) * time.Millisecond) // the instant is the point
		if n++; n%2 == 0 {
			f := all[r.IntN(len(all))]
			h.kill(t, f)
			h.start(t, f)
			return
		}
		require.Eventually(t, func() bool { return clustertest.Whole(st) }, 2*time.Minute, 50*time.Millisecond,
			"all brokers have what was reported")
		i := n / 2 % len(brokers)
		require.NoError(t, brokers[i].Process.Kill())
		brokers[i].Wait()
		time.Sleep(time.Duration(r.IntN(2000)) * time.Millisecond)
		start(i)
	})
	if os.Getenv("DIMLANTERN_KILLS") == "" { // what follows takes more than a minute
		return
	}
	for i := range brokers {
		brokers[i].Process.Kill()
		brokers[i].Wait()
	}
	alert := func(rule, change string) bool {
		return len(plain(h.centre.history(t), func(m map[string]any) bool {
			return m["rule"] == rule && m["change"] == change
		})) == 1
	}
	within := func(what string, is func() bool) {
		t.Helper()
		require.Eventually(t, is, 90*time.Second, 100*time.Millisecond, what)
	}
	within("it is told that the brokers cannot be used", func() bool { return alert("brokers-unreachable", "raised") })
	within("all hosts are blind", func() bool { return h.all(t, "silent", true) })
	out, _, _ := run(t, "status", "--data", h.centre.data)
	require.Contains(t, out, "the brokers of the cluster cannot be used since")
	for i := range brokers {
		start(i)
	}
	within("that they can again", func() bool { return alert("brokers-unreachable", "cleared") })
	within("all hosts are heard", func() bool { return h.all(t, "silent", false) })
	require.False(t, alert("host-silent", "raised"), "no host was silent by itself")
}

// killsFactor is how many times as many kills as usual are wanted.
func killsFactor(t *testing.T) int {
	if os.Getenv("DIMLANTERN_KILLS") == "" {
		return 1
	}
	return 8
}

// badLine passes on what comes at an address, badly as long as it is bad: it delays each piece, swallows all for a
// while, and cuts connections in the middle of a message.
type badLine struct {
	l  net.Listener
	to string

	mu    sync.Mutex
	bad   bool
	r     *rand.Rand
	cut   int
	conns []net.Conn
}

func newBadLine(t *testing.T, at, to string, seed uint64) *badLine {
	l, err := net.Listen("tcp", net.JoinHostPort(at, "0"))
	require.NoError(t, err)
	b := &badLine{l: l, to: to, r: rand.New(rand.NewPCG(seed, 7))}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go b.pass(c)
		}
	}()
	return b
}

// fate is what becomes of a connection: how long it lives, whether it is swallowed rather than cut then, and how long
// a piece takes at most; 0 lets it live.
func (b *badLine) fate() (lives time.Duration, swallows bool, slow time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if !b.bad {
		return 0, false, 0
	}
	return time.Duration(100+b.r.IntN(2500)) * time.Millisecond, b.r.IntN(3) == 0, time.Duration(b.r.IntN(200)) *
		time.Millisecond
}

func (b *badLine) pass(c net.Conn) {
	far, err := net.Dial("tcp", b.to)
	if err != nil {
		c.Close()
		return
	}
	lives, swallows, slow := b.fate()
	ends := time.Now().Add(lives)
	over := func() { c.Close(); far.Close() }
	copied := func(to, from net.Conn, r *rand.Rand) {
		buf := make([]byte, 1+r.IntN(16<<10))
		for {
			n, err := from.Read(buf)
			if err != nil {
				over()
				return
			}
			late := lives > 0 && time.Now().After(ends)
			switch {
			case late && swallows:
				if time.Since(ends) > 3*time.Second {
					over()
					return
				}
				continue
			case late:
				to.Write(buf[:r.IntN(n+1)])
				b.mu.Lock()
				b.cut++
				b.mu.Unlock()
				over()
				return
			}
			if slow > 0 {
				time.Sleep(time.Duration(r.Int64N(int64(slow)))) // this is what a bad line does
			}
			if _, err := to.Write(buf[:n]); err != nil {
				over()
				return
			}
		}
	}
	b.mu.Lock()
	b.conns = append(b.conns, c)
	one, two := rand.New(rand.NewPCG(b.r.Uint64(), 1)), rand.New(rand.NewPCG(b.r.Uint64(), 2))
	b.mu.Unlock()
	go copied(far, c, one)
	copied(c, far, two)
}

// worsen makes it a bad line, and ends what was good.
func (b *badLine) worsen() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.bad = true
	for _, c := range b.conns {
		c.Close()
	}
}

// mend makes it a good line for who comes from then on.
func (b *badLine) mend() { b.mu.Lock(); defer b.mu.Unlock(); b.bad = false }

// cuts is how many connections were cut in the middle.
func (b *badLine) cuts() int { b.mu.Lock(); defer b.mu.Unlock(); return b.cut }

// A host in a network of its own, whose line to the centre delays, swallows and cuts: nothing is lost or doubled.
func TestBadLine(t *testing.T) {
	space, _, here := network(t)
	_, port, _ := strings.Cut(freePort(t), ":")
	h := emptyHarbour(t, listening("127.0.0.1:"+port), "")
	seed := uint64(time.Now().UnixNano())
	t.Log("seed", seed)
	line := newBadLine(t, here, "127.0.0.1:"+port, seed)
	f := h.far(t, space, line.l.Addr().String())
	line.worsen()
	hits := 0
	stop, done := make(chan struct{}), make(chan error, 1)
	go func() { done <- pumpsTalk(f.log, 0, &hits, rand.New(rand.NewPCG(seed, 3)), stop) }()
	want := 3 * killsFactor(t)
	require.Eventually(t, func() bool { return line.cuts() >= want }, 5*time.Minute, 20*time.Millisecond)
	close(stop)
	require.NoError(t, <-done)
	for range 2 {
		appendTo(t, f.log, fmt.Sprintf("%s pump-1 pump 990 low\n", stamp()))
	}
	eventually(t, "the host has read all", func() bool {
		out, _, _ := run(t, "history", "--data", f.data, "--json", "--rule", "pump-low")
		return strings.Contains(out, `"pump":"990"`)
	})
	line.mend()
	relayed := func(m map[string]any) bool { return m["reporter"] == "pump-1" && m["rule"] == "pump-low" }
	own := plain(f.history(t), func(m map[string]any) bool { return m["rule"] == "pump-low" })
	require.Eventually(t, func() bool { return len(plain(h.centre.history(t), relayed)) >= len(own) }, 2*time.Minute,
		200*time.Millisecond, "what waited has come")
	require.Equal(t, own, plain(h.centre.history(t), relayed))
	t.Logf("%d connections cut, %d hits, %d transitions", line.cuts(), hits+2, len(own))
}
