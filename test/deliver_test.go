package test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/require"
	collector "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	"google.golang.org/protobuf/proto"
)

// arrived is an entry that a receiver has: its identifier and its number in the log.
type arrived struct {
	id     string
	number int
}

// receiving is a receiver that can be killed and started again, and what it has got.
type receiving interface {
	start(t *testing.T)
	kill(t *testing.T)
	// stall keeps it from doing anything for a time, with its connections open.
	stall(t *testing.T, d time.Duration)
	got(t *testing.T) []arrived
}

// number is that of a line in the log; -1 where it is none of it.
func number(text string) int {
	m := regexp.MustCompile(`line (\d+) of`).FindStringSubmatch(text)
	if m == nil {
		return -1
	}
	n, _ := strconv.Atoi(m[1])
	return n
}

// suspend stops a program where it stands, and lets it go on after a time.
func suspend(t *testing.T, cmd *exec.Cmd, d time.Duration) {
	pid := strconv.Itoa(cmd.Process.Pid)
	require.NoError(t, exec.Command("kill", "-STOP", pid).Run())
	time.Sleep(d) // the time is the point
	require.NoError(t, exec.Command("kill", "-CONT", pid).Run())
}

// daemon is a syslog daemon that writes at once what it takes.
type daemon struct {
	dir, port string
	tls       bool
	cmd       *exec.Cmd
}

func (d *daemon) start(t *testing.T) {
	driver := ""
	if d.tls {
		driver = ` StreamDriver.Name="gtls" StreamDriver.Mode="1" StreamDriver.AuthMode="anon"`
	}
	_, port, _ := net.SplitHostPort(d.port)
	write(t, filepath.Join(d.dir, "daemon.conf"), fmt.Sprintf(`global(workDirectory="%[1]s" maxMessageSize="64k"
	defaultNetstreamDriverCAFile="%[1]s/server.pem" defaultNetstreamDriverCertFile="%[1]s/server.pem"
	defaultNetstreamDriverKeyFile="%[1]s/server.key")
main_queue(queue.type="Direct")
module(load="imtcp"%[2]s)
template(name="line" type="string" string="%%structured-data%% %%msg%%\n")
input(type="imtcp" port="%[3]s" address="127.0.0.1")
action(type="omfile" file="%[1]s/got" template="line" flushOnTXEnd="on" asyncWriting="off")
`, d.dir, driver, port))
	os.Remove(filepath.Join(d.dir, "daemon.pid"))
	d.cmd = exec.Command(needs(t, "rsyslogd"), "-n", "-f", filepath.Join(d.dir, "daemon.conf"), "-i",
		filepath.Join(d.dir, "daemon.pid"))
	require.NoError(t, d.cmd.Start())
	eventually(t, "the daemon listens", func() bool {
		c, err := net.Dial("tcp", d.port)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
}

func (d *daemon) kill(*testing.T) {
	d.cmd.Process.Kill()
	d.cmd.Wait()
}

func (d *daemon) stall(t *testing.T, pause time.Duration) { suspend(t, d.cmd, pause) }

func (d *daemon) got(t *testing.T) []arrived {
	b, err := os.ReadFile(filepath.Join(d.dir, "got"))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	require.NoError(t, err)
	id := regexp.MustCompile(`\[entry@32473 id="([^"]+)"`)
	var out []arrived
	for line := range strings.Lines(string(b)) {
		if m := id.FindStringSubmatch(line); m != nil && strings.HasSuffix(line, "\n") && number(line) >= 0 {
			out = append(out, arrived{m[1], number(line)})
		}
	}
	return out
}

// posts is an HTTP server that takes OTLP logs, and refuses, stalls and is slow now and then.
type posts struct {
	address string
	server  *http.Server
	mu      sync.Mutex
	list    []arrived
	rand    *rand.Rand
}

func (p *posts) start(t *testing.T) {
	l, err := net.Listen("tcp", p.address)
	require.NoError(t, err)
	p.server = &http.Server{Handler: p}
	go p.server.Serve(l)
}

func (p *posts) kill(*testing.T) { p.server.Close() }

func (p *posts) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	var x collector.ExportLogsServiceRequest
	if err != nil || r.URL.Path != "/v1/logs" || proto.Unmarshal(body, &x) != nil {
		w.WriteHeader(http.StatusBadRequest)
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	switch p.rand.IntN(8) {
	case 0:
		w.WriteHeader(http.StatusServiceUnavailable)
		return
	case 1:
		w.WriteHeader(http.StatusForbidden)
		return
	case 2:
		time.Sleep(100 * time.Millisecond) // it is slow
	}
	for _, rl := range x.ResourceLogs {
		for _, sl := range rl.ScopeLogs {
			for _, e := range sl.LogRecords {
				a := arrived{number: number(e.Body.GetStringValue())}
				for _, f := range e.Attributes {
					if f.Key == "log.record.uid" {
						a.id = f.Value.GetStringValue()
					}
				}
				p.list = append(p.list, a)
			}
		}
	}
	if p.rand.IntN(10) == 0 { // it has them, and says nothing
		panic(http.ErrAbortHandler)
	}
}

func (p *posts) stall(_ *testing.T, pause time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	time.Sleep(pause) // the time is the point
}

func (p *posts) got(*testing.T) []arrived {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.list)
}

// broker is a broker with a stream, which drops repeats by their identifiers.
type broker struct {
	dir, address string
	cmd          *exec.Cmd
}

func (b *broker) start(t *testing.T) {
	host, port, _ := net.SplitHostPort(b.address)
	b.cmd = exec.Command(needs(t, "nats-server"), "-js", "-sd", filepath.Join(b.dir, "broker"), "-a", host, "-p", port)
	require.NoError(t, b.cmd.Start())
	eventually(t, "the broker has its stream", func() bool {
		return b.stream(func(js jetstream.JetStream) error {
			_, err := js.CreateOrUpdateStream(t.Context(), jetstream.StreamConfig{Name: "LOGS",
				Subjects: []string{"logs.>"}, Duplicates: 10 * time.Minute})
			return err
		}) == nil
	})
}

func (b *broker) stream(do func(jetstream.JetStream) error) error {
	c, err := nats.Connect("nats://" + b.address)
	if err != nil {
		return err
	}
	defer c.Close()
	js, err := jetstream.New(c)
	if err != nil {
		return err
	}
	return do(js)
}

func (b *broker) kill(*testing.T) {
	b.cmd.Process.Kill()
	b.cmd.Wait()
}

func (b *broker) stall(t *testing.T, pause time.Duration) { suspend(t, b.cmd, pause) }

func (b *broker) got(t *testing.T) []arrived {
	var out []arrived
	b.stream(func(js jetstream.JetStream) error {
		s, err := js.Stream(t.Context(), "LOGS")
		if err != nil {
			return err
		}
		c, err := s.OrderedConsumer(t.Context(), jetstream.OrderedConsumerConfig{})
		if err != nil {
			return err
		}
		want := s.CachedInfo().State.Msgs
		for uint64(len(out)) < want {
			batch, err := c.Fetch(1000, jetstream.FetchMaxWait(time.Second))
			if err != nil {
				return err
			}
			for m := range batch.Messages() {
				out = append(out, arrived{m.Headers().Get(jetstream.MsgIDHeader), number(string(m.Data()))})
			}
		}
		return nil
	})
	return out
}

// TestDeliveries: either side is killed again and again, and the receiver stalls, while the log is written
// and rotated; in the long run it stalls once for longer than it is waited for. Nothing is lost, what is
// sent again has its identifier, and without repeats the order is that of the log.
func TestDeliveries(t *testing.T) {
	kills := 6
	if s := os.Getenv("DIMLANTERN_KILLS"); s != "" {
		n, err := strconv.Atoi(s)
		require.NoError(t, err)
		kills = n
	}
	for name, make := range map[string]func(t *testing.T, dir string) (receiving, string){
		"syslog over TLS": func(t *testing.T, dir string) (receiving, string) {
			if !exists("/usr/lib/x86_64-linux-gnu/rsyslog/lmnsd_gtls.so") {
				t.Skip("the daemon has no TLS on this machine")
			}
			authority(t, dir, "server")
			d := &daemon{dir: dir, port: freePort(t), tls: true}
			return d, fmt.Sprintf("syslog tls %q trust %q", d.port, dir+"/server.pem")
		},
		"syslog over TCP": func(t *testing.T, dir string) (receiving, string) {
			d := &daemon{dir: dir, port: freePort(t)}
			return d, fmt.Sprintf("syslog tcp %q", d.port)
		},
		"otlp": func(t *testing.T, dir string) (receiving, string) {
			p := &posts{address: freePort(t), rand: rand.New(rand.NewPCG(1, uint64(time.Now().UnixNano())))}
			return p, fmt.Sprintf("otlp \"http://%s\"", p.address)
		},
		"a broker": func(t *testing.T, dir string) (receiving, string) {
			b := &broker{dir: dir, address: freePort(t)}
			return b, fmt.Sprintf("nats \"logs.{source}\" at \"nats://%s\"", b.address)
		},
	} {
		t.Run(name, func(t *testing.T) {
			f := newFolder(t)
			r, to := make(t, f.dir)
			deliverUnderKills(t, f, kills, r, to)
		})
	}
}

func deliverUnderKills(t *testing.T, f folder, kills int, r receiving, to string) {
	write(t, filepath.Join(f.settings, "out.lantern"), "deliver onward {\n  on app\n  to "+to+"\n}\n")
	write(t, f.log, "")
	r.start(t)
	defer r.kill(t)
	s := f.start(t)
	f.ready(t)
	eventually(t, "the delivery has begun", func() bool {
		return f.sql(t, "SELECT count(*) FROM delivered") == "1"
	})
	w := &numbered{path: f.log, stop: make(chan struct{})}
	w.done.Add(1)
	go w.run()
	random := rand.New(rand.NewPCG(5, uint64(time.Now().UnixNano())))
	for i := range kills {
		time.Sleep(time.Duration(20+random.IntN(900)) * time.Millisecond) // the instant is the point
		switch {
		case i == 50:
			r.stall(t, 40*time.Second)
		case i%3 == 2:
			r.stall(t, time.Duration(random.IntN(800))*time.Millisecond)
		}
		if i%2 == 0 {
			require.NoError(t, s.cmd.Process.Kill())
			s.cmd.Wait()
			s = f.start(t)
			continue
		}
		r.kill(t)
		time.Sleep(time.Duration(random.IntN(300)) * time.Millisecond)
		r.start(t)
	}
	close(w.stop)
	w.done.Wait()
	require.NoError(t, w.err)
	var got []arrived
	missing := func() (out []int) {
		got = r.got(t)
		there := map[int]bool{}
		for _, a := range got {
			there[a.number] = true
		}
		for n := range w.lines {
			if !there[n] {
				out = append(out, n)
			}
		}
		return out
	}
	deadline := time.Now().Add(3 * patience)
	for len(missing()) > 0 && time.Now().Before(deadline) {
		time.Sleep(200 * time.Millisecond)
	}
	lost := missing()
	out, _, _ := run(t, "deliveries", "--data", f.data)
	require.Empty(t, lost[:min(len(lost), 5)], "%d of %d: %s", len(lost), w.lines, out)
	ids, numbers, repeats, last := map[string]int{}, map[int]string{}, 0, -1
	for _, a := range got {
		if n, again := ids[a.id]; again {
			require.Equal(t, n, a.number, "an identifier is of one entry")
			repeats++
			continue
		}
		_, twice := numbers[a.number]
		require.False(t, twice, "line %d came as %s and as %s", a.number, numbers[a.number], a.id)
		ids[a.id], numbers[a.number] = a.number, a.id
		require.Equal(t, last+1, a.number, "the order is that of the log")
		last = a.number
	}
	t.Logf("%d lines, %d kills, %d rotations, %d repeats", w.lines, kills, w.moved, repeats)
}

// numbered writes numbered lines, and rotates.
type numbered struct {
	path  string
	stop  chan struct{}
	done  sync.WaitGroup
	lines int
	moved int
	err   error
}

func (w *numbered) run() {
	defer w.done.Done()
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	rotate := time.Now().Add(time.Second)
	for w.err == nil {
		select {
		case <-w.stop:
			return
		case <-tick.C:
		}
		var b bytes.Buffer
		for range 20 {
			fmt.Fprintf(&b, "%s host-a line %d of the log\n", stamp(), w.lines)
			w.lines++
		}
		var f *os.File
		if f, w.err = os.OpenFile(w.path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644); w.err != nil {
			return
		}
		_, err := f.Write(b.Bytes())
		w.err = errors.Join(err, f.Close())
		if time.Now().After(rotate) {
			rotate = time.Now().Add(time.Second)
			for i := w.moved; i > 0; i-- {
				os.Rename(fmt.Sprintf("%s.%d", w.path, i), fmt.Sprintf("%s.%d", w.path, i+1))
			}
			w.moved++
			w.err = errors.Join(w.err, os.Rename(w.path, w.path+".1"))
		}
	}
}

// What is delivered to files stands there once, whenever the service is killed.
func TestDeliveryToFiles(t *testing.T) {
	f := newFolder(t)
	out := filepath.Join(f.dir, "out")
	write(t, filepath.Join(f.settings, "out.lantern"), fmt.Sprintf(`deliver archive {
  on app
  to files "%s/{host}/{date}.log" as json zstd new file after 700 entries
}
`, out))
	write(t, f.log, "")
	s := f.start(t)
	f.ready(t)
	eventually(t, "the delivery has begun", func() bool {
		return f.sql(t, "SELECT count(*) FROM delivered") == "1"
	})
	w := &numbered{path: f.log, stop: make(chan struct{})}
	w.done.Add(1)
	go w.run()
	random := rand.New(rand.NewPCG(7, uint64(time.Now().UnixNano())))
	for range 8 {
		time.Sleep(time.Duration(20+random.IntN(1500)) * time.Millisecond) // the instant is the point
		require.NoError(t, s.cmd.Process.Kill())
		s.cmd.Wait()
		s = f.start(t)
	}
	close(w.stop)
	w.done.Wait()
	require.NoError(t, w.err)
	read := func() (all []int) {
		files, err := filepath.Glob(filepath.Join(out, "host-a", "*"))
		require.NoError(t, err)
		slices.SortFunc(files, func(a, b string) int { return fileNumber(a) - fileNumber(b) })
		for _, path := range files {
			text, err := exec.Command("zstdcat", "-f", path).Output()
			if err != nil {
				return nil // it is being compressed
			}
			for sc := bufio.NewScanner(bytes.NewReader(text)); sc.Scan(); {
				var x struct{ Text string }
				if json.Unmarshal(sc.Bytes(), &x) != nil {
					return nil // it is being written
				}
				all = append(all, number(x.Text))
			}
		}
		return all
	}
	var all []int
	eventually(t, "all is there", func() bool { all = read(); return len(all) >= w.lines })
	require.Len(t, all, w.lines, "once each")
	for i, n := range all {
		require.Equal(t, i, n)
	}
}

// fileNumber is the number in a file's name, 1 where it has none.
func fileNumber(path string) int {
	m := regexp.MustCompile(`\.(\d+)\.log`).FindStringSubmatch(path)
	if m == nil {
		return 1
	}
	n, _ := strconv.Atoi(m[1])
	return n
}

// What came by a port and exists nowhere else waits for its delivery, through kills, though the source
// keeps nothing by itself.
func TestDeliveryOfWhatIsKept(t *testing.T) {
	port := freePort(t)
	f := newWays(t, fmt.Sprintf("source boxes {\n  listen syslog udp %q\n  keep nothing\n}\n", port))
	d := &daemon{dir: f.dir, port: freePort(t)}
	write(t, filepath.Join(f.settings, "out.lantern"),
		fmt.Sprintf("deliver onward {\n  on boxes\n  to syslog tcp %q\n  begin oldest\n}\n", d.port))
	s := f.start(t)
	eventually(t, "it listens", func() bool {
		out, _, _ := run(t, "deliveries", "--data", f.data)
		return strings.Contains(out, "up to date")
	})
	conn, err := net.Dial("udp", port)
	require.NoError(t, err)
	defer conn.Close()
	const n = 60
	for i := range n {
		fmt.Fprintf(conn, "<12>1 %s lock-1 gated - - - line %d of the box", time.Now().UTC().Format(time.RFC3339), i)
		if i == n/2 {
			eventually(t, "they are kept, and wait", func() bool {
				out, _, _ := run(t, "deliveries", "--data", f.data)
				return strings.Contains(out, "nobody listens") && f.sql(t, "SELECT sum(n) FROM tide") == "31"
			})
			require.NoError(t, s.cmd.Process.Kill())
			s.cmd.Wait()
			s = f.start(t)
			eventually(t, "it listens again", func() bool {
				l, err := net.ListenPacket("udp", port)
				if err == nil {
					l.Close()
				}
				return err != nil
			})
		}
	}
	d.start(t)
	defer d.kill(t)
	eventually(t, "all come", func() bool { return len(d.got(t)) >= n })
	for i, a := range d.got(t) {
		require.Equal(t, i, a.number)
	}
}
