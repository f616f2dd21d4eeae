package test

import (
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Killed while it tells, at any instant: nothing that was decided is untold after the next
// start, and what is told once more has the same identifier and says the same.
func TestKilledWhileTelling(t *testing.T) {
	kills := 12
	if s := os.Getenv("DIMLANTERN_KILLS"); s != "" {
		kills, _ = strconv.Atoi(s)
	}
	var mu sync.Mutex
	told, bodies := map[string]int{}, map[string]string{}
	repeats := 0
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		var e struct {
			ID   string
			Data struct {
				Alerts []struct{ Alert, Change string }
			}
		}
		mu.Lock()
		defer mu.Unlock()
		if json.Unmarshal(b, &e) != nil {
			return // cut off by a kill
		}
		if was, again := bodies[e.ID]; again {
			repeats++
			assert.Equal(t, was, string(b))
		}
		bodies[e.ID] = string(b)
		for _, a := range e.Data.Alerts {
			told[a.Alert]++
		}
	}))
	defer srv.Close()
	f := newFolder(t)
	write(t, filepath.Join(f.settings, "who.lantern"), fmt.Sprintf("settings { tell duty }\ncontact duty { "+
		"webhook %q }\nrule each {\n  on app\n  problem /part (?<part>\\d+)/\n  per part\n  raise warning\n  "+
		"clear by hand\n}\n", srv.URL))
	b, err := os.ReadFile(filepath.Join(f.settings, "app.lantern"))
	require.NoError(t, err)
	write(t, filepath.Join(f.settings, "app.lantern"), strings.Replace(string(b), "begin  now", "begin  oldest", 1))
	write(t, f.log, "")
	r := rand.New(rand.NewPCG(3, 5))
	n := 0
	for range kills {
		s := f.start(t)
		for range 3 + r.IntN(5) {
			var b strings.Builder
			for range r.IntN(6) {
				n++
				fmt.Fprintf(&b, "%s a part %d\n", stamp(), n)
			}
			appendTo(t, f.log, b.String())
			time.Sleep(time.Duration(r.IntN(90)) * time.Millisecond) // when it is killed is what is tried
		}
		s.cmd.Process.Kill()
		s.cmd.Wait()
	}
	s := f.start(t)
	raised := func() []string {
		out, _, _ := run(t, "history", "--data", f.data, "--json")
		var ids []string
		for _, l := range strings.Split(strings.TrimSpace(out), "\n") {
			var x struct{ Change, Alert string }
			if json.Unmarshal([]byte(l), &x) == nil && x.Change == "raised" {
				ids = append(ids, x.Alert)
			}
		}
		return ids
	}
	require.Eventually(t, func() bool { return len(raised()) == n }, patience, 100*time.Millisecond)
	ids := raised()
	require.Eventually(t, func() bool {
		mu.Lock()
		defer mu.Unlock()
		for _, id := range ids {
			if told[id] == 0 {
				return false
			}
		}
		return true
	}, patience, 100*time.Millisecond, "nothing is forgotten")
	mu.Lock()
	t.Logf("%d alerts, %d messages, %d repeats, %d kills", n, len(bodies), repeats, kills)
	mu.Unlock()
	s.cmd.Process.Kill()
}

// A syslog daemon takes what is sent to it, over UDP, TCP and TLS, and reads its structured
// data.
func TestSyslogDaemonIsTold(t *testing.T) {
	daemon := needs(t, "rsyslogd")
	f := newFolder(t)
	udp, tcp, tls := freePort(t), freePort(t), freePort(t)
	port := func(a string) string { _, p, _ := net.SplitHostPort(a); return p }
	authority(t, f.dir, "server")
	secure := exists("/usr/lib/x86_64-linux-gnu/rsyslog/lmnsd_gtls.so") ||
		exists("/usr/lib/aarch64-linux-gnu/rsyslog/lmnsd_gtls.so")
	conf := fmt.Sprintf(`global(workDirectory="%[1]s"
	defaultNetstreamDriverCAFile="%[1]s/server.pem" defaultNetstreamDriverCertFile="%[1]s/server.pem"
	defaultNetstreamDriverKeyFile="%[1]s/server.key")
module(load="imudp")
module(load="imptcp")
module(load="mmpstrucdata")
template(name="line" type="list") {
	property(name="inputname") constant(value=" ")
	property(name="syslogfacility-text") constant(value=".") property(name="syslogseverity-text") constant(value=" ")
	property(name="app-name") constant(value=" ") property(name="msgid") constant(value=" ")
	property(name="$!rfc5424-sd!alert@32473!rule") constant(value=" ")
	property(name="$!rfc5424-sd!alert@32473!key.host") constant(value=" ") property(name="msg") constant(value="\n")
}
input(type="imudp" port="%[2]s" address="127.0.0.1")
input(type="imptcp" port="%[3]s" address="127.0.0.1")
`, f.dir, port(udp), port(tcp))
	ways := fmt.Sprintf("  syslog udp %q\n  syslog tcp %q\n", udp, tcp)
	want := 2
	if secure {
		conf += fmt.Sprintf("module(load=\"imtcp\" StreamDriver.Name=\"gtls\" StreamDriver.Mode=\"1\" "+
			"StreamDriver.AuthMode=\"anon\")\ninput(type=\"imtcp\" port=\"%s\" address=\"127.0.0.1\")\n", port(tls))
		ways += fmt.Sprintf("  syslog tls %q\n", tls)
		want++
	}
	conf += fmt.Sprintf("action(type=\"mmpstrucdata\")\naction(type=\"omfile\" file=\"%s/got\" template=\"line\")\n",
		f.dir)
	write(t, filepath.Join(f.dir, "daemon.conf"), conf)
	d := exec.Command(daemon, "-n", "-f", filepath.Join(f.dir, "daemon.conf"), "-i",
		filepath.Join(f.dir, "daemon.pid"))
	said, err := os.Create(filepath.Join(f.dir, "daemon.out"))
	require.NoError(t, err)
	d.Stdout, d.Stderr = said, said
	require.NoError(t, d.Start())
	t.Cleanup(func() { d.Process.Kill(); d.Wait() })
	eventually(t, "the daemon listens", func() bool {
		c, err := net.Dial("tcp", tcp)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
	write(t, filepath.Join(f.settings, "who.lantern"), "settings { tell duty }\ncontact duty {\n"+ways+"}\n")
	write(t, f.log, "")
	t.Setenv("SSL_CERT_FILE", filepath.Join(f.dir, "server.pem"))
	f.start(t)
	eventually(t, "the service answers", func() bool {
		_, _,
			code := run(t, "status", "--data", f.data)
		return code == 0
	})
	appendTo(t, f.log, strings.Repeat(stamp()+" a pump 7 low\n", 2))
	require.Eventually(t, func() bool {
		b, _ := os.ReadFile(filepath.Join(f.dir, "got"))
		return strings.Count(string(b), "raised pump-low") == want
	}, patience, 50*time.Millisecond, "%s", func() string {
		b,
			_ := os.ReadFile(filepath.Join(f.dir, "got"))
		return string(b)
	})
	b, err := os.ReadFile(filepath.Join(f.dir, "got"))
	require.NoError(t, err)
	assert.Regexp(t, `imudp \S+\.warning dim-lantern raised pump-low`, string(b))
}

// Commands do all that people do on the screen, and say exactly what goes wrong.
func TestHandlingByCommands(t *testing.T) {
	f := newFolder(t)
	write(t, filepath.Join(f.settings, "who.lantern"), `settings { tell duty }
contact duty { command "/bin/echo" "{rule}" }
contact nobody {
  webhook "http://127.0.0.1:1/hook"
  mail    "mira@gullhaven.example"
  command "/nowhere/beacon"
  syslog  tcp "127.0.0.1:1"
}
`)
	write(t, f.log, "")
	out, errs, code := run(t, "status", "--data", f.data)
	assert.Equal(t, 2, code, out)
	assert.Contains(t, errs, "no service runs")
	f.start(t)
	eventually(t, "the service answers", func() bool {
		_, _,
			code := run(t, "status", "--data", f.data)
		return code == 0
	})
	appendTo(t, f.log, strings.Repeat(stamp()+" a pump 7 low\n", 2))
	var alert string
	eventually(t, "it is raised", func() bool {
		out, _, _ := run(t, "history", "--data", f.data, "--json")
		var x struct{ Alert string }
		return json.Unmarshal([]byte(strings.SplitN(out, "\n", 2)[0]), &x) == nil &&
			func() bool { alert = x.Alert; return alert != "" }()
	})
	must := func(args ...string) string {
		out, errs, code := run(t, append(args, "--data", f.data)...)
		require.Equal(t, 0, code, "%v: %s%s", args, out, errs)
		return out
	}
	must("take", alert, "--words", "on my way")
	must("note", alert, "full of weed")
	hushed := must("hush", alert, "--for", "2h", "--why", "being cleaned")
	assert.Contains(t, hushed, "is hushed until")
	list := must("hush")
	assert.Contains(t, list, "keeps quiet: pump-low")
	assert.Contains(t, list, "being cleaned")
	must("hush", "--end", strings.Fields(hushed[strings.Index(hushed, "--end"):])[1])
	assert.Contains(t, must("hush"), "nothing is hushed")
	must("take", alert, "--to", "tolan")
	for _, form := range []string{"", "--markdown", "--html", "--json"} {
		args := []string{"handover", "--since", "1h"}
		if form != "" {
			args = append(args, form)
		}
		page := must(args...)
		for _, words := range []string{"pump-low", "tolan", "full of weed", "being cleaned", "duty"} {
			assert.Contains(t, page, words, form)
		}
	}
	status := must("status")
	assert.Contains(t, status, "1 open alert (1 warning), 1 taken")
	must("clear", alert, "--words", "cleaned")
	out, _, code = run(t, "take", alert, "--data", f.data)
	assert.Equal(t, 1, code, out)
	audit := must("history", "--actions")
	for _, words := range []string{"take " + alert + ": on my way", "note " + alert + ": full of weed", "hush ",
		"unhush ", "hand over " + alert + ": to tolan", "clear " + alert + ": cleaned"} {
		assert.Contains(t, audit, words)
	}
	var line struct{ At, By, From, What string }
	require.NoError(t, json.Unmarshal([]byte(strings.SplitN(must("history", "--actions", "--json"), "\n", 2)[0]),
		&line))
	assert.Equal(t, "take", line.What)
	assert.NotEmpty(t, line.By+line.From)

	out, _, code = run(t, "tell", "--test", "duty", "--settings", f.settings, "--data", f.data)
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "told; ")
	out, _, code = run(t, "tell", "--test", "nobody", "--settings", f.settings, "--data", f.data)
	assert.Equal(t, 1, code)
	for _, words := range []string{"nothing listens there", "there is no such program", "to mend it: "} {
		assert.Contains(t, out, words)
	}
	_, errs, code = run(t, "tell", "--test", "who", "--settings", f.settings, "--data", f.data)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "there are: duty, nobody")

	write(t, filepath.Join(f.settings, "message-text.tmpl"), "{{.Alerts")
	out, _, code = run(t, "check", f.settings)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "message-text.tmpl")
}

// Two people at two terminals see the same at once, and what one does can be taken back.
func TestHandlingOnTheScreen(t *testing.T) {
	f := newFolder(t)
	write(t, f.log, "")
	x := open(t, 160, 47, "", "--settings", f.settings, "--data", f.data)
	x.see("all is quiet")
	appendTo(t, f.log, strings.Repeat(stamp()+" a pump 7 low\n", 2))
	x.until("open", func(s string) bool { return under(s, "open", "pump-low") })
	y := open(t, 80, 24, "", "--settings", f.settings, "--data", f.data)
	y.see("pump-low")
	x.keys("t")
	x.see("a word to it")
	x.typed("on my way")
	x.keys("Enter")
	x.see("has it now; u takes it back")
	x.see("taken by ")
	y.see(" has it")
	x.keys("u")
	x.see("nobody has it now")
	y.until("nobody has it", func(s string) bool { return !strings.Contains(s, " has it") })
	y.keys("h")
	y.see("hush pump-low")
	y.typed("being cleaned")
	y.keys("Enter")
	y.see("is hushed until")
	x.see("hushed by ")
	x.keys("H")
	x.see("kept quiet")
	x.see("quiet: pump-low")
	x.keys("e")
	x.see("Nothing is hushed.")
	x.keys("Escape")
	x.see("choosing alerts")
	x.keys("m")
	x.see("note to pump-low")
	x.typed("weed")
	x.keys("Enter")
	x.see("noted: weed")
	x.keys("T")
	x.see("over to")
	x.typed("tolan")
	x.keys("Enter")
	x.see("tolan has it")
}

// systemd is told that the service is there, and again and again that it works; and a
// heartbeat goes out as often as the settings say.
func TestWatchedFromOutside(t *testing.T) {
	f := newFolder(t)
	var mu sync.Mutex
	beats := 0
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var e struct {
			Type string
			Data struct{ Well bool }
		}
		mu.Lock()
		defer mu.Unlock()
		if json.NewDecoder(r.Body).Decode(&e) == nil && e.Type == "dim-lantern.heartbeat" && e.Data.Well {
			beats++
		}
	}))
	defer srv.Close()
	write(t, filepath.Join(f.settings, "beat.lantern"),
		fmt.Sprintf("settings { heartbeat webhook %q every 1s }\n", srv.URL))
	write(t, f.log, "")
	path := filepath.Join(f.dir, "notify")
	socket, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	require.NoError(t, err)
	defer socket.Close()
	t.Setenv("NOTIFY_SOCKET", path)
	t.Setenv("WATCHDOG_USEC", "600000")
	s := f.start(t)
	socket.SetReadDeadline(time.Now().Add(patience))
	buf := make([]byte, 1000)
	n, err := socket.Read(buf)
	require.NoError(t, err)
	assert.Contains(t, string(buf[:n]), "READY=1")
	for range 3 {
		n, err = socket.Read(buf)
		require.NoError(t, err)
		assert.Equal(t, "WATCHDOG=1", string(buf[:n]))
	}
	eventually(t, "the heartbeat", func() bool { mu.Lock(); defer mu.Unlock(); return beats >= 2 })
	s.cmd.Process.Signal(os.Interrupt)
	for !strings.Contains(string(buf[:n]), "STOPPING=1") {
		n, err = socket.Read(buf)
		require.NoError(t, err)
	}
}
