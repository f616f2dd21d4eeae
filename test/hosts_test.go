package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// harbour is a centre and hosts, each a process with a folder of its own.
type harbour struct {
	base   string
	centre folder
	hosts  []folder
	procs  map[string]*service
}

// listening is how a centre brings its broker, for harbourRules.
func listening(at string) string { return fmt.Sprintf("centre listen %q", at) }

const harbourRules = `settings { %s }

group pumps { hosts "pump-*" }

source app {
  files  "%s/pump-*/app.log"
  begin  oldest
  layout app-line
  for    pumps
}

layout app-line {
  pattern /^(?<at>\S+) (?<host>\S+) (?<text>.*)$/
  time    at rfc3339
}

rule pump-low {
  on       app
  problem  /pump (?<pump>\d+) low/
  recovery /pump (?<pump>\d+) fine/
  per      host, pump
  raise    warning at 2 in 5m
  raise    critical at 6 in 5m
  clear    after 30m quiet
  say      "Pump {pump}: {count} times"
  for      pumps
}

rule wide {
  on       app
  problem  /pump (?<pump>\d+) low/
  recovery /pump (?<pump>\d+) fine/
  per      pump
  raise    error at 2 different host in 1m
  clear    after 30m quiet
  say      "Pump {pump} at several stations: {count}"
  at       centre
}
`

// emptyHarbour is a centre that hosts reach as a clause of its settings says.
func emptyHarbour(t *testing.T, over, more string) *harbour {
	t.Helper()
	base, err := os.MkdirTemp("", "dl-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(base) })
	h := &harbour{base: base, procs: map[string]*service{}}
	h.centre = h.place("mast")
	write(t, filepath.Join(h.centre.settings, "all.lantern"), fmt.Sprintf(harbourRules, over, base)+more)
	h.start(t, h.centre)
	h.code(t)
	return h
}

// code is an invitation; at says where hosts reach the centre, where that is not to be found.
func (h *harbour) code(t *testing.T, at ...string) (code string) {
	t.Helper()
	eventually(t, "the centre answers", func() bool {
		out, _, status := run(t, append([]string{"invite", "--data", h.centre.data}, at...)...)
		code = out
		return status == 0
	})
	return code
}

func (h *harbour) place(name string) folder {
	dir := filepath.Join(h.base, name)
	return folder{dir, filepath.Join(dir, "settings"), filepath.Join(dir, "data"), filepath.Join(dir, "app.log")}
}

// host is the folder of one that has not joined, and lets the centre read what lies in it.
func (h *harbour) host(t *testing.T, name string) folder {
	f := h.place(name)
	write(t, f.log, "")
	write(t, filepath.Join(f.settings, "may.lantern"), fmt.Sprintf("settings { centre may read %q }\n", f.dir+"/**"))
	return f
}

// newHarbour is a centre and hosts that run its settings.
func newHarbour(t *testing.T, n int, over string) *harbour {
	t.Helper()
	h := emptyHarbour(t, over, "")
	for i := range n {
		f := h.host(t, fmt.Sprintf("pump-%d", i+1))
		h.join(t, f, filepath.Base(f.dir))
		h.start(t, f)
		h.hosts = append(h.hosts, f)
	}
	eventually(t, "all hosts report", func() bool { return len(h.states(t)) == n && h.all(t, "reports", true) })
	_, errs, code := run(t, "roll", "--data", h.centre.data, "--to", "all")
	require.Equal(t, 0, code, errs)
	eventually(t, "all run revision 1", func() bool { return h.all(t, "runs", 1.0) })
	return h
}

// join lets a folder's machine join the centre.
func (h *harbour) join(t *testing.T, f folder, name string) {
	t.Helper()
	c := exec.Command(binary, "join", "--settings", f.settings, "--data", f.data, "--as", name)
	c.Stdin = strings.NewReader(h.code(t, "--name", name))
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
}

func (h *harbour) start(t *testing.T, f folder) {
	t.Helper()
	s := &service{cmd: exec.Command(binary, "watch", "--settings", f.settings, "--data", f.data),
		errs: &bytes.Buffer{}}
	s.cmd.Stderr = s.errs
	require.NoError(t, s.cmd.Start())
	h.procs[f.dir] = s
	t.Cleanup(func() { s.cmd.Process.Kill(); s.cmd.Wait() })
}

// kill ends a process as a loss of power would.
func (h *harbour) kill(t *testing.T, f folder) {
	t.Helper()
	s := h.procs[f.dir]
	require.NoError(t, s.cmd.Process.Kill())
	s.cmd.Wait()
}

// states are what dimlantern hosts --json says of each host.
func (h *harbour) states(t *testing.T) map[string]map[string]any {
	t.Helper()
	out, _, _ := run(t, "hosts", "--data", h.centre.data, "--json")
	all := map[string]map[string]any{}
	for _, line := range strings.Split(strings.TrimSpace(out), "\n") {
		var m map[string]any
		if json.Unmarshal([]byte(line), &m) == nil {
			all[m["name"].(string)] = m
		}
	}
	return all
}

func (h *harbour) all(t *testing.T, field string, is any) bool {
	t.Helper()
	all := h.states(t)
	for _, m := range all {
		if m[field] != is {
			return false
		}
	}
	return len(all) > 0
}

// plain is a history without what differs by the way that it came.
func plain(list []map[string]any, keep func(map[string]any) bool, drop ...string) []string {
	var out []string
	for _, m := range list {
		if !keep(m) {
			continue
		}
		delete(m, "reporter")
		delete(m, "untold")
		if e, ok := m["entry"].(map[string]any); ok {
			delete(e, "origin")
		}
		for _, d := range drop {
			delete(m, d)
		}
		b, _ := json.Marshal(m)
		out = append(out, string(b))
	}
	return out
}

// Hosts and the centre are killed at random, under load: of each host the centre knows exactly what the host
// decided, and a rule that joins hosts comes to what one machine would have come to that read all logs.
func TestHostsUnderKills(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a while")
	}
	kills := 6
	if s := os.Getenv("DIMLANTERN_KILLS"); s != "" {
		n, err := strconv.Atoi(s)
		require.NoError(t, err)
		kills = n
	}
	h := newHarbour(t, 2, listening(freePort(t)))
	all := append([]folder{h.centre}, h.hosts...)
	underKills(t, h, kills, func(r *rand.Rand) {
		time.Sleep(time.Duration(100+r.IntN(1500)) * time.Millisecond) // the instant is the point
		f := all[r.IntN(len(all))]
		h.kill(t, f)
		h.start(t, f)
	})
}

// underKills has hosts talk, kills what it is told to, and compares what the centre knows with what the hosts and one
// machine with all logs come to.
func underKills(t *testing.T, h *harbour, kills int, kill func(r *rand.Rand)) {
	seed := uint64(time.Now().UnixNano())
	t.Log("seed", seed)
	stop, done := make(chan struct{}), make(chan error, len(h.hosts))
	hits := make([]int, len(h.hosts))
	for i, f := range h.hosts {
		go func() { done <- pumpsTalk(f.log, i, &hits[i], rand.New(rand.NewPCG(seed, uint64(i))), stop) }()
	}
	r := rand.New(rand.NewPCG(seed, 99))
	all := append([]folder{h.centre}, h.hosts...)
	for range kills {
		kill(r)
	}
	time.Sleep(time.Second)
	close(stop)
	for range h.hosts {
		require.NoError(t, <-done)
	}
	// A last word of each host: when the centre has it, it has all.
	for i, f := range h.hosts {
		for range 2 {
			appendTo(t, f.log, fmt.Sprintf("%s pump-%d pump 99%d low\n", oddStamp(time.Now(), i), i+1, i))
		}
	}
	defer func() {
		if !t.Failed() {
			return
		}
		out, errs, _ := run(t, "hosts", "--data", h.centre.data)
		t.Log(out, errs)
		for _, f := range all {
			out, errs, _ := run(t, "status", "--data", f.data)
			t.Log(f.dir, out, errs)
			t.Log(f.sql(t, "SELECT max(seq) FROM up"), h.procs[f.dir].errs.String())
		}
		exec.Command("cp", "-r", h.base, "/tmp/failed-hosts").Run()
	}()
	eventually(t, "the centre has heard the last words", func() bool {
		out, _, _ := run(t, "history", "--data", h.centre.data, "--json", "--rule", "pump-low")
		for i := range h.hosts {
			if !strings.Contains(out, fmt.Sprintf(`"pump":"99%d"`, i)) {
				return false
			}
		}
		return true
	})
	known := h.centre.history(t)
	n := 0
	for _, f := range h.hosts {
		name := filepath.Base(f.dir)
		own := plain(f.history(t), func(m map[string]any) bool { return m["rule"] == "pump-low" })
		there := plain(h.centre.history(t), func(m map[string]any) bool { return m["reporter"] == name })
		require.Equal(t, own, there, "what %s decided", name)
		n += len(own)
	}
	require.NotEmpty(t, known)
	alone := filepath.Join(h.base, "alone.lantern")
	b, err := os.ReadFile(filepath.Join(h.centre.settings, "all.lantern"))
	require.NoError(t, err)
	text := string(b)
	text = strings.NewReplacer("  at       centre\n", "", "  for      pumps\n", "", "  for    pumps\n",
		"").Replace(text[strings.Index(text,
		"source app"):])
	write(t, alone, text)
	want := replayed(t, folder{settings: alone}, h.hosts[0].log, h.hosts[1].log)
	isWide := func(m map[string]any) bool { return m["rule"] == "wide" }
	var got []string
	eventually(t, "the rule that joins hosts has come to its end", func() bool {
		got = plain(h.centre.history(t), isWide, "alert")
		return len(got) >= len(plain(want, isWide, "alert"))
	})
	expected := plain(want, isWide, "alert")
	for i := range min(len(expected), len(got)) {
		require.Equal(t, expected[i], got[i], "transition %d of %d", i, len(expected))
	}
	require.Len(t, got, len(expected))
	require.Equal(t, strconv.Itoa(hits[0]+hits[1]+4), h.centre.sql(t, "SELECT sum(n) FROM marks m JOIN keys k ON "+
		"k.id = m.key WHERE k.rule = 'pump-low'"), "every hit of a host is counted once at the centre")
	t.Logf("%d kills, %d hits, %d transitions of hosts, %d of the rule that joins them", kills, hits[0]+hits[1], n,
		len(got))
}

// oddStamp is a time that no other host writes.
func oddStamp(at time.Time, host int) string {
	at = at.UTC().Truncate(2 * time.Millisecond).Add(time.Duration(host) * time.Millisecond)
	return at.Format("2006-01-02T15:04:05.000Z")
}

// pumpsTalk writes a host's log until it is stopped, and counts what is a hit.
func pumpsTalk(path string, host int, hits *int, r *rand.Rand, stop chan struct{}) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return err
	}
	defer f.Close()
	last := ""
	for {
		select {
		case <-stop:
			return nil
		case <-time.After(time.Duration(2+r.IntN(10)) * time.Millisecond):
		}
		at := oddStamp(time.Now(), host)
		if at == last {
			continue
		}
		last = at
		text := fmt.Sprintf("valve %d answered", r.IntN(90))
		switch n := r.IntN(100); {
		case n < 25:
			text = fmt.Sprintf("pump %d low", r.IntN(12))
			*hits++
		case n < 32:
			text = fmt.Sprintf("pump %d fine", r.IntN(12))
		}
		if _, err := fmt.Fprintf(f, "%s pump-%d %s\n", at, host+1, text); err != nil {
			return err
		}
	}
}

// A centre that was restored from a backup gets from its hosts what they have decided since.
func TestBackup(t *testing.T) {
	h := newHarbour(t, 1, listening(freePort(t)))
	f := h.hosts[0]
	low := func(pump int) {
		for range 2 {
			appendTo(t, f.log, fmt.Sprintf("%s pump-1 pump %d low\n", stamp(), pump))
		}
	}
	open := func(n int) {
		t.Helper()
		eventually(t, fmt.Sprintf("%d alerts are open", n), func() bool {
			m := h.states(t)["pump-1"]
			return m != nil && m["open"] == float64(n)
		})
	}
	low(1)
	open(1)
	file := filepath.Join(h.base, "mast.tar.gz")
	out, errs, code := run(t, "backup", file, "--data", h.centre.data)
	require.Equal(t, 0, code, errs)
	require.Contains(t, out, "mast.tar.gz")
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "it has secrets in it")
	low(2)
	low(3)
	open(3)
	h.kill(t, h.centre)
	low(4)
	require.NoError(t, os.RemoveAll(h.centre.data))
	require.NoError(t, os.MkdirAll(h.centre.data, 0o700))
	packed, err := exec.Command("tar", "-C", h.centre.data, "-xzf", file).CombinedOutput()
	require.NoError(t, err, string(packed))
	h.start(t, h.centre)
	open(4)
	own := plain(f.history(t), func(m map[string]any) bool { return m["rule"] == "pump-low" })
	there := plain(h.centre.history(t), func(m map[string]any) bool { return m["reporter"] == "pump-1" })
	require.Equal(t, own, there)

	// A host that is renamed keeps what it has; one that is forgotten is gone.
	_, errs, code = run(t, "hosts", "rename", "pump-1", "pump-9", "--data", h.centre.data)
	require.Equal(t, 0, code, errs)
	eventually(t, "it is called otherwise", func() bool {
		m := h.states(t)["pump-9"]
		return m != nil && m["open"] == 4.0
	})
	low(5)
	eventually(t, "and goes on", func() bool { return h.states(t)["pump-9"]["open"] == 5.0 })
	there = plain(h.centre.history(t), func(m map[string]any) bool { return m["reporter"] == "pump-9" })
	require.Len(t, there, 5)
	_, errs, code = run(t, "hosts", "forget", "pump-9", "--data", h.centre.data)
	require.Equal(t, 0, code, errs)
	require.Empty(t, h.states(t))
	gone := 0
	for _, m := range h.centre.history(t) {
		if m["why"] == "host gone" {
			gone++
		}
	}
	require.Equal(t, 5, gone)
}

// The document about many machines is run, block by block.
func TestHostsDocument(t *testing.T) {
	b, err := os.ReadFile("../docs/hosts.md")
	require.NoError(t, err)
	script := "trap 'kill $(jobs -p) 2>/dev/null; wait' EXIT\n"
	for _, m := range regexp.MustCompile("(?s)```sh\n(.*?)```").FindAllStringSubmatch(string(b), -1) {
		script += m[1] + "\n"
	}
	script += movesScript
	dir, err := os.MkdirTemp("", "dl-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	ctx, end := context.WithTimeout(context.Background(), time.Minute)
	defer end()
	c := exec.CommandContext(ctx, "bash", "-eu", "-c", strings.ReplaceAll(script, "127.0.0.1:7422", freePort(t)))
	c.Dir = dir
	own := filepath.Join(dir, "dimlantern")
	require.NoError(t, os.Symlink(binary, own))
	c.Env = append(os.Environ(), "PATH="+dir+":"+os.Getenv("PATH"), "HOME="+dir)
	c.WaitDelay = time.Second
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Regexp(t, `pump-1 +2`, string(out), "the answer counts both lines of pump-1")
	require.Contains(t, string(out), "rule pressure-low")
	require.Contains(t, string(out), "note runs-at-centre: flow-low would have moved 3 entries yesterday, "+
		"3.47e-05 a second, from 2 of 2 hosts")
}

// movesScript lets the centre of the document join what its hosts say, and asks what that would have moved yesterday.
const movesScript = `
cat > mast/settings/flow.lantern <<'END'
layout flow-line {
  pattern /^(?<at>\S+) (?<text>.*)$/
  time    at rfc3339
}
source flow {
  files  "/**/flow.log"
  layout flow-line
  for    pumps
}
rule flow-low {
  on       flow
  problem  /flow (?<pipe>\d+) low/
  recovery /flow (?<pipe>\d+) normal/
  ignore   /flow 9/
  per      pipe
  raise    error at 2 different host in 5m
  at       centre
}
END
sed -i "s#/\*\*/#$PWD/*/#" mast/settings/flow.lantern
yesterday=$(date -d yesterday +%FT12:00:00%:z)
printf "$yesterday flow 1 low\n$yesterday flow 9 low\n$yesterday flow 2 odd\n" > pump-1/flow.log
printf "$yesterday flow 1 low\n$yesterday flow 1 normal\n$(date +%FT%T%:z) flow 1 low\n" > pump-2/flow.log
until dimlantern roll --data mast/data --to all; do sleep 0.2; done
for pump in pump-1 pump-2; do
  until dimlantern hosts --data mast/data | grep "$pump .* 2 "; do sleep 0.2; done
done
dimlantern check --data mast/data mast/settings || true
`

// Groups of the system do what the settings let them, and nothing else; who did it is recorded by the system's name.
func TestPeople(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("it needs to be somebody else for a while, which root alone can")
	}
	f := newFolder(t)
	write(t, filepath.Join(f.settings, "people.lantern"),
		"settings { people \"games\" look, \"mail\" handle, \"man\" "+
			"change }\n")
	write(t, f.log, "")
	require.NoError(t, os.Chmod(f.dir, 0o711))
	f.start(t)
	f.ready(t)
	for range 2 {
		appendTo(t, f.log, stamp()+" a pump 7 low\n")
	}
	alert := f.waitFor(t, "raised", 1)[0]["alert"].(string)
	own := filepath.Join(f.dir, "dimlantern") // which others can reach
	b, err := os.ReadFile(binary)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(own, b, 0o755))
	as := func(group string, args ...string) (string, error) {
		c := exec.Command("setpriv", append([]string{"--reuid", "nobody", "--regid", group, "--clear-groups", own},
			args...)...)
		c.Dir = "/"
		out, err := c.CombinedOutput()
		return string(out), err
	}
	out, err := as("games", "status", "--data", f.data)
	require.NoError(t, err, out)
	out, err = as("games", "take", alert, "--data", f.data)
	require.Error(t, err)
	require.Contains(t, out, "nobody may look here; that needs the right to handle")
	out, err = as("mail", "take", alert, "--words", "mine", "--data", f.data)
	require.NoError(t, err, out)
	out, err = as("mail", "apply", "--data", f.data)
	require.Error(t, err)
	require.Contains(t, out, "the right to change")
	out, err = as("man", "apply", "--data", f.data)
	require.NoError(t, err, out)
	out, err = as("nogroup", "status", "--data", f.data)
	require.Error(t, err, out)
	taken := f.waitFor(t, "taken", 1)
	require.Equal(t, "nobody", taken[len(taken)-1]["by"])
	for _, name := range []string{"lantern.db", "masks.key"} {
		out, err := exec.Command("setpriv", "--reuid", "nobody", "--regid", "man", "--clear-groups", "cat",
			filepath.Join(f.data, name)).CombinedOutput()
		require.Error(t, err, "%s is its owner's alone", name)
		require.Contains(t, string(out), "Permission denied")
	}
}

const unseenRule = `
rule unseen {
  on      app
  problem "will never be said"
  per     origin
  raise   warning
  blind   raises critical after 2s
  clear   after 30m quiet
  for     pumps
}
`

func ip(args ...string) error { return exec.Command("ip", args...).Run() }

// network makes a network of its own with one wire to this one: near is its end here, at the address here.
func network(t *testing.T) (space, near, here string) {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("networks of their own are root's to make")
	}
	n := 1 + (os.Getpid()*7+len(t.Name()))%250
	space = fmt.Sprintf("dl%d-%d", os.Getpid(), n)
	if ip("netns", "add", space) != nil {
		t.Skip("this machine lets nobody make networks")
	}
	near, far := fmt.Sprintf("dl%dn%d", os.Getpid()%100000, n), fmt.Sprintf("dl%df%d", os.Getpid()%100000, n)
	t.Cleanup(func() { ip("link", "del", near); ip("netns", "del", space) })
	here, there := fmt.Sprintf("10.213.%d.1", n), fmt.Sprintf("10.213.%d.2", n)
	for _, args := range [][]string{{"link", "add", near, "type", "veth", "peer", "name", far, "netns", space},
		{"addr", "add", here + "/24", "dev", near}, {"link", "set", near, "up"},
		{"-n", space, "addr", "add", there + "/24", "dev", far}, {"-n", space, "link", "set", far, "up"},
		{"-n", space, "link", "set", "lo", "up"}} {
		if err := ip(args...); err != nil {
			t.Skipf("ip %s: %v", strings.Join(args, " "), err)
		}
	}
	return space, near, here
}

// far is a host in a network of its own, which reaches the centre at an address, and runs what that has.
func (h *harbour) far(t *testing.T, space, at string) folder {
	t.Helper()
	f := h.host(t, "pump-1")
	within := func(args ...string) *exec.Cmd {
		return exec.Command("ip", append([]string{"netns", "exec", space, binary}, args...)...)
	}
	c := within("join", "--settings", f.settings, "--data", f.data, "--as", "pump-1")
	c.Stdin = strings.NewReader(h.code(t, "--at", at))
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	s := &service{cmd: within("watch", "--settings", f.settings, "--data", f.data), errs: &bytes.Buffer{}}
	require.NoError(t, s.cmd.Start())
	t.Cleanup(func() { s.cmd.Process.Kill(); s.cmd.Wait() })
	eventually(t, "the host reports", func() bool { return h.all(t, "reports", true) })
	_, errs, status := run(t, "roll", "--data", h.centre.data, "--to", "all")
	require.Equal(t, 0, status, errs)
	eventually(t, "it runs revision 1", func() bool { return h.all(t, "runs", 1.0) })
	return f
}

// A host behind a network of its own is cut off and comes back: it goes on by itself, is silent at the centre
// meanwhile, and nothing is lost or doubled.
func TestPartition(t *testing.T) {
	space, near, here := network(t)
	_, port, _ := strings.Cut(freePort(t), ":")
	h := emptyHarbour(t, listening(":"+port), unseenRule)
	f := h.far(t, space, here)
	low := func(pump int) {
		for range 2 {
			appendTo(t, f.log, fmt.Sprintf("%s pump-1 pump %d low\n", stamp(), pump))
		}
	}
	unseen := func(m map[string]any) bool { return m["rule"] == "unseen" }
	known := func() int { return len(h.centre.history(t)) }
	low(1)
	eventually(t, "the centre knows", func() bool { return known() == 1 })
	require.NoError(t, ip("link", "set", near, "down"))
	for pump := range 20 {
		low(10 + pump)
	}
	f.waitFor(t, "raised", 21)
	require.Equal(t, 1, known(), "nothing comes through")
	if testing.Short() == false { // half a minute, which is what silence is
		deadline := time.Now().Add(50 * time.Second)
		for !h.all(t, "silent", true) && time.Now().Before(deadline) {
			time.Sleep(200 * time.Millisecond)
		}
		require.True(t, h.all(t, "silent", true))
		eventually(t, "what its rule makes of that is raised", func() bool {
			list := plain(h.centre.history(t), unseen)
			return len(list) == 1 && strings.Contains(list[0], "raised") && strings.Contains(list[0], "critical")
		})
	}
	missed := func(change string) bool {
		return len(plain(h.centre.history(t), func(m map[string]any) bool {
			return m["rule"] == "host-silent" && m["change"] == change
		})) == 1
	}
	if !testing.Short() { // what was told before the centre's start has its end after it
		eventually(t, "the silence is told", func() bool { return missed("raised") })
		h.kill(t, h.centre)
		h.start(t, h.centre)
	}
	require.NoError(t, ip("link", "set", near, "up"))
	deadline := time.Now().Add(60 * time.Second) // the systems find out by themselves that there is a way again
	relayed := func(m map[string]any) bool { return m["reporter"] == "pump-1" && m["rule"] == "pump-low" }
	for len(plain(h.centre.history(t), relayed)) < 21 && time.Now().Before(deadline) {
		time.Sleep(200 * time.Millisecond)
	}
	own := plain(f.history(t), func(m map[string]any) bool { return m["rule"] == "pump-low" })
	require.Equal(t, own, plain(h.centre.history(t), relayed))
	eventually(t, "it is silent no more", func() bool { return h.all(t, "silent", false) })
	if !testing.Short() {
		eventually(t, "and that is told", func() bool { return missed("cleared") })
	}
	eventually(t, "and nothing is unseen any more", func() bool {
		list := plain(h.centre.history(t), unseen)
		return len(list) == 2 && strings.Contains(list[1], "seen")
	})
	require.Empty(t, plain(f.history(t), unseen), "the host itself could see all the time")
}
