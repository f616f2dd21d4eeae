package test

import (
	"cmp"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	mrand "math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/intake/channel"
)

// needs leaves a test out where a program lacks that is no part of this one.
func needs(t *testing.T, program string) string {
	t.Helper()
	for _, dir := range append(filepath.SplitList(os.Getenv("PATH")), "/usr/sbin", "/usr/lib/systemd") {
		if path := filepath.Join(dir, program); exists(path) {
			return path
		}
	}
	t.Skipf("%s is not on this machine", program)
	return ""
}

// freePort is a port at which nobody listens over TCP or UDP.
func freePort(t *testing.T) string {
	t.Helper()
	for {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		u, err := net.ListenPacket("udp", l.Addr().String())
		l.Close()
		if err == nil {
			u.Close()
			return l.Addr().String()
		}
	}
}

func newWays(t *testing.T, settings string) folder {
	t.Helper()
	dir, err := os.MkdirTemp("", "dl-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	f := folder{dir, filepath.Join(dir, "settings"), filepath.Join(dir, "data"), ""}
	write(t, filepath.Join(f.settings, "ways.lantern"), strings.ReplaceAll(settings, "DIR", dir))
	return f
}

// authority makes a certificate for 127.0.0.1, with itself as its authority.
func authority(t *testing.T, dir, name string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, DNSNames: []string{"localhost"}}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	require.NoError(t, err)
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	write(t, filepath.Join(dir, name+".pem"), string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})))
	write(t, filepath.Join(dir, name+".key"), string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw})))
}

// texts are the texts of the hits, in the order in which they were judged.
func (f folder) texts(t *testing.T) []string {
	t.Helper()
	out := f.sql(t, "SELECT text FROM hits ORDER BY rowid")
	if out == "" {
		return nil
	}
	return strings.Split(out, "\n")
}

// What real senders send arrives, over every transport, with its host, its program
// and its structured data.
func TestSyslogOfRealSenders(t *testing.T) {
	logger, daemon := needs(t, "logger"), needs(t, "rsyslogd")
	plain, secure := freePort(t), freePort(t)
	f := newWays(t, fmt.Sprintf(`source boxes {
  listen syslog udp %q
  listen syslog tcp %q
  listen syslog tls %q cert "DIR/server.pem" key "DIR/server.key" clients "DIR/client.pem"
}
rule said {
  on boxes
  problem /pump (?<pump>\d+): low/ and program ~ /pumpd|root/ and level >= warning
  per pump
  raise warning
  clear by hand
}
`, plain, plain, secure))
	authority(t, f.dir, "server")
	authority(t, f.dir, "client")
	f.start(t)
	_, port, _ := net.SplitHostPort(plain)
	send := func(args ...string) {
		out, err := exec.Command(logger, append([]string{"-n", "127.0.0.1", "-P", port, "-t", "pumpd", "-p",
			"daemon.warning"}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	eventually(t, "it listens", func() bool {
		c, err := net.Dial("tcp", secure)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
	send("-d", "--rfc3164", "pump 1: low")
	send("-d", "--rfc5424", "pump 2: low")
	send("-T", "--rfc3164", "pump 3: low")
	send("-T", "--rfc5424", "pump 4: low")
	send("-T", "--rfc3164", "--octet-count", "pump 5: low")
	send("-T", "--rfc5424", "--octet-count", "--sd-id", "berth@32473", "--sd-param", `gate="3"`, "pump 6: low")
	f.waitFor(t, "raised", 6)

	_, tls, _ := net.SplitHostPort(secure)
	write(t, filepath.Join(f.dir, "daemon.conf"), fmt.Sprintf(`global(workDirectory="%[1]s"
	defaultNetstreamDriverCAFile="%[1]s/server.pem" defaultNetstreamDriverCertFile="%[1]s/client.pem"
	defaultNetstreamDriverKeyFile="%[1]s/client.key")
module(load="imuxsock" SysSock.Use="off")
input(type="imuxsock" Socket="%[1]s/log" CreatePath="on")
action(type="omfwd" Target="127.0.0.1" Port="%[2]s" Protocol="udp")
action(type="omfwd" Target="127.0.0.1" Port="%[2]s" Protocol="tcp" Template="RSYSLOG_SyslogProtocol23Format")
action(type="omfwd" Target="127.0.0.1" Port="%[2]s" Protocol="tcp" TCP_Framing="octet-counted"
	Template="RSYSLOG_SyslogProtocol23Format")
action(type="omfwd" Target="127.0.0.1" Port="%[3]s" Protocol="tcp" TCP_Framing="octet-counted"
	StreamDriver="gtls" StreamDriverMode="1" StreamDriverAuthMode="anon"
	Template="RSYSLOG_SyslogProtocol23Format")
`, f.dir, port, tls))
	d := exec.Command(daemon, "-n", "-f", filepath.Join(f.dir, "daemon.conf"), "-i",
		filepath.Join(f.dir, "daemon.pid"))
	said, err := os.Create(filepath.Join(f.dir, "daemon.out"))
	require.NoError(t, err)
	d.Stdout, d.Stderr = said, said
	require.NoError(t, d.Start())
	t.Cleanup(func() { d.Process.Kill(); d.Wait() })
	eventually(t, "the daemon is there", func() bool { return exists(filepath.Join(f.dir, "log")) })
	out, err := exec.Command(logger, "-u", filepath.Join(f.dir, "log"), "-t", "pumpd", "-p", "daemon.err",
		"pump 7: low").CombinedOutput()
	require.NoError(t, err, "%s", out)
	ways := 4
	if !exists("/usr/lib/x86_64-linux-gnu/rsyslog/lmnsd_gtls.so") &&
		!exists("/usr/lib/aarch64-linux-gnu/rsyslog/lmnsd_gtls.so") {
		ways = 3 // without the package rsyslog-gnutls
	}
	require.Eventually(t, func() bool { return strings.Count(strings.Join(f.texts(t), "\n"), "pump 7: low") == ways },
		patience, 50*time.Millisecond,
		"%v\n%s", f.texts(t), func() string { b, _ := os.ReadFile(said.Name()); return string(b) }())
	for _, s := range f.history(t) {
		assert.Contains(t, s["entry"].(map[string]any)["origin"], ":127.0.0.1", "its host, and its peer")
	}

	// What a sender without our authority's certificate sends is not taken.
	c := exec.Command("openssl", "s_client", "-quiet", "-connect", secure)
	c.Stdin = strings.NewReader("<12>Nov 24 05:32:28 host-a pumpd: pump 8: low\n")
	c.Run()
	assert.NotContains(t, strings.Join(f.texts(t), "\n"), "pump 8")
	eventually(t, "that is told", func() bool {
		out, _, _ := run(t, "sources", "--data", f.data)
		return strings.Contains(out, "it was not let in")
	})

	// Kept as text that is replayed as it was judged.
	kept, err := filepath.Glob(filepath.Join(f.data, "kept/boxes/*/*"))
	require.NoError(t, err)
	require.NotEmpty(t, kept)
	assert.Len(t, replayed2(t, f, "boxes", kept...), len(f.history(t)))
	sources, _, code := run(t, "sources", "--data", f.data)
	require.Zero(t, code)
	assert.Contains(t, sources, "from 127.0.0.1: "+strconv.Itoa(6+ways)+" received")
}

func replayed2(t *testing.T, f folder, source string, files ...string) []string {
	t.Helper()
	out, errs, code := run(t, append([]string{"replay", "--rules", f.settings, "--as", source, "--json"},
		files...)...)
	require.Zero(t, code, errs)
	return strings.Split(strings.TrimSpace(out), "\n")
}

// A port that cannot be opened is told with what mends it, and opened when it can be.
func TestPortInUse(t *testing.T) {
	at := freePort(t)
	other, err := net.Listen("tcp", at)
	require.NoError(t, err)
	f := newWays(t, fmt.Sprintf("source boxes {\n listen syslog tcp %q\n}\n", at))
	f.start(t)
	says := func(words string) func() bool {
		return func() bool {
			out, _, _ := run(t, "sources", "--data", f.data)
			return strings.Contains(out, words)
		}
	}
	eventually(t, "it says so", says("is in use by another program"))
	other.Close()
	eventually(t, "it is opened", says("nothing has come yet"))
}

// journalOf makes a journal of numbered entries with the system's own tools, and
// returns what adds more of them.
func journalOf(t *testing.T, dir string) (add func(n int), count *int) {
	t.Helper()
	remote := needs(t, "systemd-journal-remote")
	needs(t, "journalctl")
	in, out := io.Pipe()
	c := exec.Command(remote, "--output="+filepath.Join(dir, "lock.journal"), "-")
	c.Stdin = in
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, c.Start())
	t.Cleanup(func() { out.Close(); c.Process.Kill(); c.Wait() })
	count = new(int)
	return func(n int) {
		var b strings.Builder
		for range n {
			*count++
			fmt.Fprintf(&b, "__REALTIME_TIMESTAMP=%d\n__MONOTONIC_TIMESTAMP=%d\n"+
				"_BOOT_ID=0123456789abcdef0123456789abcdef\n_HOSTNAME=lock-%d\nPRIORITY=4\n"+
				"SYSLOG_IDENTIFIER=pumpd\n_SYSTEMD_UNIT=pump.service\nMESSAGE=low %d\n\n",
				time.Now().UnixMicro(), 1_000_000+*count, *count%3, *count)
		}
		_, err := out.Write([]byte(b.String()))
		require.NoError(t, err)
	}, count
}

const eventXML = `<Event><System><Provider Name="Harbour-Control"/><EventID>%d</EventID><Level>3</Level>` +
	`<TimeCreated SystemTime="%s"/><EventRecordID>%d</EventRecordID><Channel>%s</Channel><Computer>` +
	`lock-%d</Computer></System><EventData><Data Name="Number">%d</Data></EventData><RenderingInfo><Message>low ` +
	`%d</Message></RenderingInfo></Event>`

// numbers counts how often each number was hit, of the rule of that name.
func (f folder) numbers(t *testing.T, rule string) map[int]int {
	t.Helper()
	out := map[int]int{}
	for _, line := range strings.Split(f.sql(t, "SELECT k.key || ' ' || sum(m.n) FROM marks m JOIN keys k ON k.id "+
		"= m.key WHERE k.rule = '"+rule+"' GROUP BY k.id"), "\n") {
		key, n, ok := strings.Cut(line, " ")
		if !ok {
			continue
		}
		number, err := strconv.Atoi(strings.Trim(key, `[]"`))
		require.NoError(t, err, line)
		out[number], _ = strconv.Atoi(n)
	}
	return out
}

// Killed at any instant under load, the journal and channels lose and double
// nothing, and of syslog over TCP is lost at most what was on its way.
func TestKillWays(t *testing.T) {
	kills := 5
	if s := os.Getenv("DIMLANTERN_KILLS"); s != "" {
		n, err := strconv.Atoi(s)
		require.NoError(t, err)
		kills = n
	}
	at := freePort(t)
	f := newWays(t, fmt.Sprintf(`source journal {
  channel journal at "DIR/journal"
  begin oldest
}
source control {
  channel "Harbour-Control/Operational", "Harbour-Control/Access" at "DIR/control.sock"
  begin oldest
}
source boxes {
  listen syslog tcp %q
}
rule journal-low { on journal
 problem /low (?<number>\d+)/
 per number
 raise warning
 clear by hand
}
rule control-low { on control
 problem /low (?<number>\d+)/ and event in (2310, 2311)
 per number
 raise warning
 clear by hand
}
rule boxes-low { on boxes
 problem /low (?<number>\d+)/
 per number
 raise warning
 clear by hand
}
`, at))
	add, entries := journalOf(t, filepath.Join(f.dir, "journal"))
	host := channel.NewHost("lock-control")
	host.Open("Harbour-Control/Operational", 1<<20)
	host.Open("Harbour-Control/Access", 1<<20)
	l, err := channel.ListenAt(filepath.Join(f.dir, "control.sock"))
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go host.Serve(ctx, l)

	stop := make(chan struct{})
	var all sync.WaitGroup
	events, sent := 0, 0
	breaks := []int{} // the number that was sent when a connection broke
	all.Go(func() {
		var conn net.Conn
		defer func() {
			if conn != nil {
				conn.Close()
			}
		}()
		for tick := time.NewTicker(10 * time.Millisecond); ; {
			select {
			case <-stop:
				return
			case <-tick.C:
			}
			add(5)
			for range 5 {
				events++
				n := events
				name := []string{"Harbour-Control/Operational", "Harbour-Control/Access"}[n%2]
				now := time.Now()
				host.Add(name, now, func(record int64) string {
					return fmt.Sprintf(eventXML, 2310+n%2, now.UTC().Format(time.RFC3339Nano), record, name, n%3, n,
						n)
				})
			}
			if conn == nil {
				if conn, _ = net.Dial("tcp", at); conn == nil {
					continue
				}
			}
			for range 5 {
				sent++
				if _, err := fmt.Fprintf(conn, "<12>%s host-%d pumpd: low %d\n", time.Now().Format(time.Stamp),
					sent%3, sent); err != nil {
					breaks = append(breaks, sent)
					conn.Close()
					conn = nil
					break
				}
			}
		}
	})
	s := f.start(t)
	r := mrand.New(mrand.NewPCG(5, uint64(time.Now().UnixNano())))
	for range kills {
		time.Sleep(time.Duration(100+r.IntN(900)) * time.Millisecond) // the instant is the point
		require.NoError(t, s.cmd.Process.Kill())
		s.cmd.Wait()
		s = f.start(t)
	}
	time.Sleep(time.Second)
	close(stop)
	all.Wait()
	whole := func(rule string, want int) {
		t.Helper()
		var got map[int]int
		there := func() bool {
			return f.sql(t, "SELECT count(*) FROM keys WHERE rule = '"+rule+"'") == strconv.Itoa(want)
		}
		ended := assert.Eventually(t, there, 2*patience, 500*time.Millisecond, rule)
		if got = f.numbers(t, rule); !ended {
			out, _, _ := run(t, "sources", "--data", f.data)
			there, _ := exec.Command("journalctl", "--directory="+filepath.Join(f.dir, "journal"), "--output=cat",
				"--quiet").Output()
			out += fmt.Sprintf("in the journal: %d\n", strings.Count(string(there), "\n"))
			require.Fail(t, fmt.Sprintf("%d of %d", len(got), want), "%s\n%s\n%s", rule, out, s.errs)
		}
		for n := 1; n <= want; n++ {
			if got[n] != 1 {
				assert.Equal(t, 1, got[n], "%s: number %d of %d", rule, n, want)
			}
		}
	}
	whole("journal-low", *entries)
	whole("control-low", events)
	got := f.numbers(t, "boxes-low")
	// What was on its way is lost, of some hosts perhaps and of others not; what comes
	// after it is another connection.
	lost, from, well := 0, 0, 0
	for n := 1; n <= sent; n++ {
		assert.LessOrEqual(t, got[n], 1, "number %d is doubled", n)
		if got[n] == 0 {
			lost++
			from, well = cmp.Or(from, n), 0
			continue
		}
		if well++; from > 0 && well == 10 {
			ends := slices.ContainsFunc(breaks, func(b int) bool { return b >= from && b <= n })
			assert.True(t, ends, "from %d on something was lost, and no connection broke until %d: %v", from, n,
				breaks)
			from = 0
		}
	}
	assert.LessOrEqual(t, lost, 200*kills)
	t.Logf("%d kills: %d of the journal and %d of channels, none lost or doubled; of %d over TCP %d were on "+
		"their way", kills, *entries, events, sent, lost)
}

// A channel that has wrapped or was cleared is told as such, and one that cannot be
// reached is blind until it can be.
func TestChannelsAreTold(t *testing.T) {
	f := newWays(t, `source control {
  channel "Harbour-Control/Access", "Harbour-Control/Nowhere" at "DIR/control.sock"
  begin oldest
}
rule low {
 problem /low (?<number>\d+)/
 per nothing
 raise warning
 clear by hand
}
`)
	host := channel.NewHost("lock-control")
	host.Open("Harbour-Control/Access", 10)
	n := 0
	add := func(count int) {
		for range count {
			n++
			host.Add("Harbour-Control/Access", time.Now(), func(record int64) string {
				return fmt.Sprintf(eventXML, 4310, time.Now().UTC().Format(time.RFC3339Nano), record,
					"Harbour-Control/Access", 1, n, n)
			})
		}
	}
	add(15)
	socket := filepath.Join(f.dir, "control.sock")
	serve := func() context.CancelFunc {
		l, err := channel.ListenAt(socket)
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(context.Background())
		go host.Serve(ctx, l)
		return cancel
	}
	says := func(words string) {
		t.Helper()
		eventually(t, words, func() bool {
			out, _, _ := run(t, "sources", "--data", f.data)
			return strings.Contains(out, words)
		})
	}
	s := f.start(t)
	says("no channel host is at " + socket)
	cancel := serve()
	eventually(t, "what is there is read", func() bool { return len(f.texts(t)) == 10 })
	says("there is no channel Harbour-Control/Nowhere; there are: Harbour-Control/Access")
	cancel()
	os.Remove(socket)
	eventually(t, "its origin is blind", func() bool {
		out, _, _ := run(t, "sources", "--data", f.data, "--json")
		return strings.Contains(out, `"state":"not reached"`)
	})
	add(13)
	cancel = serve()
	defer cancel()
	eventually(t, "it is taken up again", func() bool { return len(f.texts(t)) == 20 })
	says("lock-1:Harbour-Control/Access")
	host.Clear("Harbour-Control/Access")
	add(2)
	eventually(t, "the new log is read", func() bool { return len(f.texts(t)) == 22 })
	require.NoError(t, s.cmd.Process.Signal(os.Interrupt))
	s.cmd.Wait()
	assert.Contains(t, s.errs.String(), "has wrapped: 3 events went before they could be read")
	assert.Contains(t, s.errs.String(), "was cleared")
}

// Files of event XML that grow, come and are UTF-16 are read once each, over
// restarts.
func TestFolderOfEvents(t *testing.T) {
	f := newWays(t, `source exported {
  channel "Harbour-Control/Access" at "DIR/events"
  begin oldest
  message essentials
}
rule low {
 on exported
 problem event == 4310
 per Number
 raise warning
 clear by hand
}
`)
	event := func(n int, channel string) string {
		return fmt.Sprintf(eventXML, 4310, time.Now().UTC().Format(time.RFC3339Nano), n, channel, 1, n, n) + "\n"
	}
	dir := filepath.Join(f.dir, "events")
	third := event(3, "Harbour-Control/Access") // once: its time is not always as long
	write(t, filepath.Join(dir, "a.xml"), "<Events>"+event(1, "Harbour-Control/Access")+event(2, "Other")+third[:200])
	s := f.start(t)
	has := func(want ...string) {
		t.Helper()
		eventually(t, fmt.Sprint(want), func() bool {
			return f.sql(t, "SELECT key FROM keys ORDER BY id") == strings.Join(want, "\n")
		})
	}
	has(`["1"]`)
	appendTo(t, filepath.Join(dir, "a.xml"), third[200:])
	has(`["1"]`, `["3"]`)
	require.NoError(t, s.cmd.Process.Kill())
	s.cmd.Wait()
	var wide strings.Builder
	wide.WriteString("\xff\xfe")
	for _, r := range "<?xml version=\"1.0\" encoding=\"utf-16\"?>" + event(4, "Harbour-Control/Access") {
		wide.WriteString(string([]byte{byte(r), byte(r >> 8)}))
	}
	write(t, filepath.Join(dir, "b.xml"), wide.String())
	appendTo(t, filepath.Join(dir, "a.xml"), event(5, "Harbour-Control/Access"))
	f.start(t)
	eventually(t, "both are read", func() bool { return f.sql(t, "SELECT sum(n) FROM marks") == "4" })
	assert.Equal(t, "1\n1\n1\n1", f.sql(t, "SELECT sum(n) FROM marks GROUP BY key"), "each once")
	out, _, code := run(t, "channels", "--at", dir)
	require.Zero(t, code, out)
	assert.Contains(t, out, "4 events")
}

// What is piped in is a source.
func TestPiped(t *testing.T) {
	f := newWays(t, "source piped {\n input\n entry starts /^\\d/ closed after 1s\n}\nrule low {\n problem "+
		"/low/\n per nothing\n raise warning\n clear by hand\n}\n")
	c := exec.Command(binary, "watch", "--settings", f.settings, "--data", f.data, "--json")
	in, err := c.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	t.Cleanup(func() { c.Process.Kill(); c.Wait() })
	_, err = io.WriteString(in, "1 low\n  because\n2 fine\n")
	require.NoError(t, err)
	eventually(t, "it is judged", func() bool {
		return strings.Join(f.texts(t), "|") == "1 low\n  because" ||
			strings.Join(f.texts(t), "\n") == "1 low\n  because"
	})
}

// The unit that is written is one that systemd understands, and never written over
// another.
func TestInstall(t *testing.T) {
	f := newFolder(t)
	path := filepath.Join(f.dir, "dimlantern.service")
	out, errs, code := run(t, "watch", "--install="+path, "--settings", f.settings, "--data", f.data)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "systemctl enable --now dimlantern")
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(b), "watch --settings "+f.settings+" --data "+f.data+"\n")
	assert.Contains(t, string(b), "ReadWritePaths="+f.data)
	write(t, path, "[Unit]\n")
	_, errs, code = run(t, "watch", "--install="+path, "--settings", f.settings, "--data", f.data)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "is there already")
	write(t, path, string(b))
	said, err := exec.Command(needs(t, "systemd-analyze"), "verify", path).CombinedOutput()
	require.NoError(t, err, "%s", said)
	assert.Empty(t, string(said))
}

// Rules that are edited leave ports and their connections as they are.
func TestEditKeepsThePort(t *testing.T) {
	at := freePort(t)
	settings := fmt.Sprintf("source boxes {\n listen syslog tcp %q\n}\nrule low {\n problem /low (?<n>\\d+)/\n "+
		"per n\n raise error\n clear by hand\n}\n", at)
	f := newWays(t, settings)
	f.start(t)
	var c net.Conn
	var err error
	eventually(t, "it listens", func() bool { c, err = net.Dial("tcp", at); return err == nil })
	defer c.Close()
	fmt.Fprintln(c, "<12>Nov 24 05:32:28 host-a pumpd: low 1")
	f.waitFor(t, "raised", 1)
	write(t, filepath.Join(f.settings, "ways.lantern"), strings.Replace(settings, "raise error", "raise critical", 1))
	eventually(t, "the new rule holds", func() bool {
		fmt.Fprintf(c, "<12>Nov 24 05:32:28 host-a pumpd: low %d\n", time.Now().UnixNano())
		return strings.Contains(f.sql(t, "SELECT line FROM transitions ORDER BY seq DESC LIMIT 1"), `"critical"`)
	})
	write(t, filepath.Join(f.settings, "ways.lantern"),
		strings.Replace(settings, "source boxes {", "source boxes {\n off", 1))
	eventually(t, "the port is closed", func() bool {
		x, err := net.Dial("tcp", at)
		if err == nil {
			x.Close()
		}
		return err != nil
	})
}

// What can be tried without a service is tried for real: ports, channels, the journal.
func TestReachOfWays(t *testing.T) {
	at := freePort(t)
	f := newWays(t, fmt.Sprintf(`source port { listen syslog udp %q }
source secure { listen syslog tls "127.0.0.1:0" cert "DIR/none.pem" key "DIR/none.key" }
source control { channel "Harbour-Control/Access", "Harbour-Control/Acess" at "DIR/control.sock" }
source gone { channel "X" at "DIR/gone.sock" }
source piped { input }
`, at))
	host := channel.NewHost("lock-control")
	host.Open("Harbour-Control/Access", 10)
	host.Open("Harbour-Control/Wages", 10)
	host.Forbid("Harbour-Control/Wages", "the account dimlantern may not read it")
	l, err := channel.ListenAt(filepath.Join(f.dir, "control.sock"))
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go host.Serve(ctx, l)
	out, _, code := run(t, "check", "--reach", f.settings)
	assert.Equal(t, 1, code)
	for _, want := range []string{"udp " + at + "\n    well: it can be opened", "none.pem with its key",
		"well: it may be read, and never had an event: is it switched on at the host?",
		"there is no channel Harbour-Control/Acess; there are: Harbour-Control/Access", "no channel host is at " +
			f.dir + "/gone.sock", "it is what is piped into"} {
		assert.Contains(t, out, want)
	}
	out, _, code = run(t, "channels", "--settings", f.settings)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "the account dimlantern may not read it")
	assert.Contains(t, out, "not reached: no channel host is at "+f.dir+"/gone.sock")
	taken, err := net.ListenPacket("udp", at)
	require.NoError(t, err)
	defer taken.Close()
	out, _, _ = run(t, "check", "--reach", f.settings)
	assert.Contains(t, out, "is in use by another program")
}
