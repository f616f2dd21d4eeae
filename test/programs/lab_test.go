//go:build linux

// Package programs holds the kits against the programs that they are for: each is installed from Debian, started,
// used as its clients use it, broken on purpose and mended, while Dim Lantern watches its logs with the kit.
package programs

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"text/tabwriter"
	"time"

	"github.com/stretchr/testify/require"
)

var (
	binary string
	// every tells that all programs are to be tried; else those that are quickly tried.
	every = os.Getenv("DIMLANTERN_PROGRAMS") == "all"
)

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "dimlantern-programs-")
	if err != nil {
		panic(err)
	}
	os.Chmod(dir, 0o755) // programs run under accounts of their own
	binary = filepath.Join(dir, "dimlantern")
	build := exec.Command("go", "build", "-o", binary, "../../cmd/dimlantern")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%s", out)
		os.Exit(1)
	}
	os.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
	code := m.Run()
	os.RemoveAll(dir)
	report()
	os.Exit(code)
}

// result is what one kit did with its program.
type result struct {
	kit, version   string
	entries        int // of ordinary traffic
	ordinary       string
	falsely        int
	faults         []string
	raised, clears int
}

var results struct {
	sync.Mutex
	list []*result
}

// report prints what was tried.
func report() {
	results.Lock()
	defer results.Unlock()
	if len(results.list) == 0 {
		return
	}
	slices.SortFunc(results.list, func(a, b *result) int { return strings.Compare(a.kit, b.kit) })
	t := tabwriter.NewWriter(os.Stdout, 2, 0, 2, ' ', 0)
	fmt.Fprintln(t, "KIT\tPROGRAM\tORDINARY ENTRIES\tFALSE ALERTS\tFAULTS\tRAISED\tCLEARED")
	for _, r := range results.list {
		fmt.Fprintf(t, "%s\t%s\t%d\t%d\t%d\t%d\t%d\n", r.kit, r.version, r.entries, r.falsely, len(r.faults),
			r.raised,
			r.clears)
	}
	t.Flush()
	for _, r := range results.list {
		fmt.Printf("%s: ordinary: %s\n", r.kit, r.ordinary)
		for _, f := range r.faults {
			fmt.Printf("  %s\n", f)
		}
	}
}

// change is a transition as watch prints it.
type change struct {
	At, Change, Rule, Severity, Why string
	Key                             map[string]string
}

// lab is a kit and its program.
type lab struct {
	*testing.T
	dir, logs string
	kit       string
	with      string // of the clause that uses the kit
	result    *result
	turn      func() // rotates the logs

	mu    sync.Mutex
	seen  []change
	watch *exec.Cmd
}

// open begins a trial of a kit. Without the programs that it needs, or where it takes long and only the quick ones
// are wanted, it is left out.
func open(t *testing.T, kit, with string, quick bool, programs ...string) *lab {
	t.Helper()
	if !quick && !every {
		t.Skip("it takes longer: make programs")
	}
	if os.Getuid() != 0 {
		t.Skip("programs are started under their own accounts, for which one has to be root")
	}
	for _, p := range programs {
		if find(p) == "" {
			t.Skipf("without %s: apt-get install the package that has it", p)
		}
	}
	dir, err := os.MkdirTemp("", "lab-"+kit+"-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	l := &lab{T: t, dir: dir, logs: dir + "/logs", kit: kit, with: with, result: &result{kit: kit}}
	require.NoError(t, os.Mkdir(l.logs, 0o777))
	require.NoError(t, os.Chmod(l.logs, 0o777))
	results.Lock()
	results.list = append(results.list, l.result)
	results.Unlock()
	return l
}

// find is where a program lies.
func find(name string) string {
	if p, err := exec.LookPath(name); err == nil {
		return p
	}
	for _, g := range []string{"/usr/sbin/", "/usr/lib/nut/", "/lib/nut/", "/usr/lib/postgresql/*/bin/",
		"/usr/lib/postfix/sbin/"} {
		if list, _ := filepath.Glob(g + name); len(list) > 0 {
			return list[len(list)-1]
		}
	}
	return ""
}

// file writes a file of the trial; {dir} and {logs} stand for its folders.
func (l *lab) file(name, text string) string {
	l.Helper()
	path := filepath.Join(l.dir, name)
	require.NoError(l, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(l, os.WriteFile(path, []byte(l.fill(text)), 0o644))
	return path
}

func (l *lab) fill(s string) string {
	return strings.NewReplacer("{dir}", l.dir, "{logs}", l.logs).Replace(s)
}

// begin lets Dim Lantern watch with the kit.
func (l *lab) begin() {
	l.Helper()
	l.file("settings/kits.lantern", "settings {\n  use kit "+l.kit+l.with+"\n}\n")
	l.watch = exec.Command(binary, "watch", "--json", "--settings", l.dir+"/settings", "--data", l.dir+"/data")
	out, err := l.watch.StdoutPipe()
	require.NoError(l, err)
	errs, err := os.Create(l.dir + "/watch.err")
	require.NoError(l, err)
	l.watch.Stderr = errs
	require.NoError(l, l.watch.Start())
	done := make(chan struct{})
	go func() {
		defer close(done)
		lines := bufio.NewScanner(out)
		lines.Buffer(nil, 1<<20)
		for lines.Scan() {
			var c change
			if json.Unmarshal(lines.Bytes(), &c) == nil {
				l.mu.Lock()
				l.seen = append(l.seen, c)
				l.mu.Unlock()
			}
		}
	}()
	l.Cleanup(func() {
		l.watch.Process.Signal(syscall.SIGTERM)
		<-done
		l.watch.Wait()
		if l.Failed() {
			b, _ := os.ReadFile(l.dir + "/watch.err")
			l.Logf("%s\n%v", b, l.changes())
			for _, f := range l.logFiles() {
				b, _ := os.ReadFile(f)
				l.Logf("%s:\n%s", f, b[max(0, len(b)-2500):])
			}
		}
	})
	l.until("the service", func() bool {
		return exec.Command(binary, "sources", "--data",
			l.dir+"/data").Run() == nil
	})
}

func (l *lab) changes() []change {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Clone(l.seen)
}

// patience is how long something is waited for.
const patience = 100 * time.Second

// committed are the transitions that stand in the database: positions and transitions are one commit, so that what
// has been read has been judged there.
func (l *lab) committed() []change {
	l.Helper()
	out, err := exec.Command(binary, "history", "--json", "--data", l.dir+"/data").Output()
	require.NoError(l, err)
	var all []change
	for line := range strings.Lines(string(out)) {
		var c change
		require.NoError(l, json.Unmarshal([]byte(line), &c))
		all = append(all, c)
	}
	return all
}

// until waits for a condition.
func (l *lab) until(what string, cond func() bool) {
	l.Helper()
	require.Eventually(l, cond, patience, 50*time.Millisecond, what)
}

// run runs a program to its end, and answers what it printed.
func (l *lab) run(name string, args ...string) string {
	l.Helper()
	return l.runIn(nil, name, args...)
}

func (l *lab) runIn(env []string, name string, args ...string) string {
	l.Helper()
	for i := range args {
		args[i] = l.fill(args[i])
	}
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	c := exec.CommandContext(ctx, cmp.Or(find(name), name), args...)
	c.WaitDelay = time.Second // what it has started may hold its output
	c.Env, c.Dir = append(os.Environ(), env...), l.dir
	out, _ := c.CombinedOutput()
	return string(out)
}

// shell runs a line in a shell.
func (l *lab) shell(line string) string { return l.run("sh", "-c", l.fill(line)) }

// daemon runs a program until the end of the trial, or until it is stopped.
func (l *lab) daemon(name string, args ...string) *exec.Cmd {
	l.Helper()
	for i := range args {
		args[i] = l.fill(args[i])
	}
	c := exec.Command(cmp.Or(find(name), name), args...)
	c.Dir, c.WaitDelay = l.dir, time.Second
	var b bytes.Buffer
	c.Stdout, c.Stderr = &b, &b
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	require.NoError(l, c.Start())
	l.Cleanup(func() { stop(c) })
	return c
}

// stop ends a program in order, and what it has started.
func stop(c *exec.Cmd) {
	if c == nil || c.ProcessState != nil {
		return
	}
	c.Process.Signal(syscall.SIGTERM)
	ended := make(chan struct{})
	go func() { c.Wait(); close(ended) }()
	select {
	case <-ended:
	case <-time.After(15 * time.Second):
		syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
		<-ended
	}
	syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
}

// listening waits until somebody listens at an address of this machine.
func (l *lab) listening(addr string) {
	l.Helper()
	l.until("nobody listens at "+addr, func() bool {
		c, err := net.DialTimeout("tcp", addr, time.Second)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
}

// port is one that nobody has.
func port() int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		panic(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

func (l *lab) logFiles() []string {
	var out []string
	filepath.WalkDir(l.logs, func(path string, d os.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			out = append(out, path)
		}
		return nil
	})
	return out
}

// lines counts the lines of all logs.
func (l *lab) lines() int {
	n := 0
	for _, f := range l.logFiles() {
		b, _ := os.ReadFile(f)
		n += bytes.Count(b, []byte("\n"))
	}
	return n
}

// read waits until all that was logged has been read.
func (l *lab) read() {
	l.Helper()
	l.until("all is read", func() bool {
		out, err := exec.Command(binary, "sources", "--json", "--data", l.dir+"/data").Output()
		if err != nil {
			return false
		}
		for line := range strings.Lines(string(out)) {
			var s struct {
				State struct {
					Behind int64 `json:"behind_bytes"`
				}
			}
			if json.Unmarshal([]byte(line), &s) == nil && s.State.Behind > 0 {
				return false
			}
		}
		return true
	})
}

// ordinary is what happens every day: nothing of it may raise an alert. It returns when all that it logged has
// been judged.
func (l *lab) ordinary(what string, do func()) {
	l.Helper()
	before, n := l.lines(), len(l.committed())
	if l.turn != nil { // logs are rotated while it happens
		half := time.AfterFunc(300*time.Millisecond, l.turn)
		defer half.Stop()
	}
	do()
	// What was written last has been read when something that comes after it has been.
	l.until("the log has come to rest", func() bool {
		was := l.lines()
		l.read()
		return was == l.lines()
	})
	for _, c := range l.committed()[n:] {
		l.result.falsely++
		l.Errorf("a false alert: %+v", c)
	}
	l.result.entries += l.lines() - before
	l.keep("ordinary")
	l.result.ordinary = strings.TrimPrefix(l.result.ordinary+"; "+what, "; ")
}

// fault breaks something, and waits for the alert of that rule.
func (l *lab) fault(what, rule, severity string, do func()) {
	l.Helper()
	n := len(l.changes())
	began := time.Now()
	do()
	var got change
	l.until(what+" raises "+rule, func() bool {
		for _, c := range l.changes()[n:] {
			if c.Rule == rule && (c.Change == "raised" || c.Change == "worsened" || c.Change == "reopened") &&
				(severity == "" || c.Severity == severity) {
				got = c
				return true
			}
		}
		return false
	})
	l.result.raised++
	l.result.faults = append(l.result.faults, fmt.Sprintf("%s: %s %s %s after %.1f s", what, rule, got.Change,
		got.Severity,
		time.Since(began).Seconds()))
}

// mended mends something, and waits until the rule's alert is cleared.
func (l *lab) mended(what, rule string, do func()) {
	l.Helper()
	n := len(l.changes())
	began := time.Now()
	do()
	l.until(what+" clears "+rule, func() bool {
		return slices.ContainsFunc(l.changes()[n:], func(c change) bool {
			return c.Rule == rule &&
				c.Change == "cleared"
		})
	})
	l.result.clears++
	l.result.faults = append(l.result.faults, fmt.Sprintf("%s: %s cleared after %.1f s", what, rule,
		time.Since(began).Seconds()))
}

// rest plays what was logged once more, and two days of nothing: by then every alert has cleared by itself, but
// those that are named.
func (l *lab) rest(source string, but ...string) {
	l.Helper()
	files := l.logFiles()
	slices.Sort(files)
	to := time.Now().Add(8 * 24 * time.Hour).UTC().Format(time.RFC3339)
	args := []string{"replay", "--json", "--kit", l.kit, "--to", to}
	if source != "" {
		args = append(args, "--as", source)
		files = slices.DeleteFunc(files, func(f string) bool {
			return !strings.HasPrefix(filepath.Base(f),
				l.restFile(source))
		})
	}
	c := exec.Command(binary, append(args, files...)...)
	var errs bytes.Buffer
	c.Stderr = &errs
	out, err := c.Output()
	require.NoError(l, err, errs.String())
	open := map[string]change{}
	for line := range strings.Lines(string(out)) {
		var c change
		require.NoError(l, json.Unmarshal([]byte(line), &c))
		id := c.Rule + fmt.Sprint(c.Key)
		switch c.Change {
		case "cleared":
			delete(open, id)
			l.result.clears++
		case "raised", "reopened":
			open[id] = c
		}
	}
	l.keep("faults")
	for _, c := range open {
		if !slices.Contains(but, c.Rule) {
			l.Errorf("it does not clear by itself: %+v", c)
		}
	}
}

// restFile is how the names of the logs of a source begin.
func (l *lab) restFile(source string) string {
	return map[string]string{"system-log": "syslog", "auth-log": "auth.log"}[source]
}

// version notes the program that was tried.
func (l *lab) version(words string) {
	line, _, _ := strings.Cut(strings.TrimSpace(words), "\n")
	l.result.version = line
}

// syslog is the system's log for the time of a trial: programs speak to /dev/log, and it is written as Debian's
// own settings do.
func (l *lab) syslog() {
	l.Helper()
	if find("rsyslogd") == "" {
		l.Skip("without rsyslogd (apt-get install rsyslog)")
	}
	conf := l.file("rsyslog.conf", `module(load="imuxsock")
$FileCreateMode 0644
$WorkDirectory {dir}
*.*;auth,authpriv.none	{logs}/syslog
auth,authpriv.*	{logs}/auth.log
`)
	if c, err := net.Dial("unixgram", "/dev/log"); err == nil { // another one is there
		c.Close()
		l.Skip("somebody else has /dev/log")
	}
	daemon := l.daemon("rsyslogd", "-n", "-f", conf, "-i", l.dir+"/rsyslog.pid")
	l.turn = func() {
		l.rename("syslog", "auth.log")
		daemon.Process.Signal(syscall.SIGHUP)
	}
	l.until("the system's log", func() bool {
		c, err := net.Dial("unixgram", "/dev/log")
		if err == nil {
			c.Close()
		}
		return err == nil
	})
}

// rename makes copies of logs that are there, as a rotation does.
func (l *lab) rename(names ...string) {
	for _, n := range names {
		os.Rename(l.logs+"/"+n, l.logs+"/"+n+".1")
	}
}

// keep keeps the logs as they are now, compressed, where DIMLANTERN_KEEP says: so they can be judged again where the
// programs are not (kits/testdata). Lines that say a folder of the trial say another one that is always the same.
func (l *lab) keep(stage string) {
	l.Helper()
	to := os.Getenv("DIMLANTERN_KEEP")
	if to == "" {
		return
	}
	for _, f := range l.logFiles() {
		rel, err := filepath.Rel(l.logs, f)
		require.NoError(l, err)
		b, err := os.ReadFile(f)
		require.NoError(l, err)
		b = bytes.ReplaceAll(b, []byte(l.dir), []byte("/lab"))
		var packed bytes.Buffer
		z := gzip.NewWriter(&packed)
		z.Write(b)
		require.NoError(l, z.Close())
		path := filepath.Join(to, l.kit, stage, rel+".gz")
		require.NoError(l, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(l, os.WriteFile(path, packed.Bytes(), 0o644))
	}
}
