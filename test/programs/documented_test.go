//go:build linux

package programs

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dimlantern/intake/channel"
)

// journal is a journal in a folder, written by the journal's own receiver.
type journal struct {
	l   *lab
	to  io.Writer
	n   int
	dir string
}

// journal begins one, which stands in the place of the machine's in the kit. Machines for tests have no service
// manager, no kernel of their own and no disk that could fail: their messages come as they are documented.
func (l *lab) journal() *journal {
	l.Helper()
	remote := "/usr/lib/systemd/systemd-journal-remote"
	if _, err := os.Stat(remote); err != nil || find("journalctl") == "" {
		l.Skip("without systemd-journal-remote")
	}
	j := &journal{l: l, dir: l.dir + "/journal"}
	require.NoError(l, os.MkdirAll(j.dir, 0o755))
	in, out := io.Pipe()
	c := exec.Command(remote, "--output="+j.dir+"/host.journal", "-")
	c.Stdin = in
	require.NoError(l, c.Start())
	l.Cleanup(func() { out.Close(); c.Process.Kill(); c.Wait() })
	j.to = out
	l.file("settings/journal.lantern", "source system-journal { channel journal at \"{dir}/journal\" }\n")
	j.says("tide", "the tide rises") // there has to be one
	l.until("the journal's file", func() bool {
		list, _ := filepath.Glob(j.dir + "/*.journal")
		return len(list) > 0
	})
	return j
}

// says writes an entry of a program.
func (j *journal) says(program, text string) {
	j.l.Helper()
	j.n++
	_, err := fmt.Fprintf(j.to, "__REALTIME_TIMESTAMP=%d\n__MONOTONIC_TIMESTAMP=%d\n"+
		"_BOOT_ID=0123456789abcdef0123456789abcdef\n_HOSTNAME=host-a\nPRIORITY=4\nSYSLOG_IDENTIFIER=%s\nMESSAGE=%s\n\n",
		time.Now().UnixMicro(), 1_000_000+j.n, program, text)
	require.NoError(j.l, err)
}

// everyday is what a healthy machine says, so often.
func (j *journal) everyday(times int, said ...string) {
	for range times {
		for _, s := range said {
			program, text, _ := strings.Cut(s, ": ")
			j.says(program, text)
		}
	}
	j.l.result.entries += times * len(said)
}

func TestUnitsAndKernel(t *testing.T) {
	l := open(t, "linux", ` with logs "{logs}" but not system-log`, true, "journalctl")
	l.version("messages of kernel 6.1 and systemd 252, through systemd-journal-remote")
	j := l.journal()
	l.begin()
	l.ordinary("units that start and stop, a kernel that boots", func() {
		j.everyday(100, "systemd: Starting logrotate.service - Rotate log files...",
			"systemd: logrotate.service: Deactivated successfully.",
			"systemd: Finished logrotate.service - Rotate log files.",
			"systemd: Stopping nginx.service - A web server...",
			"systemd: Stopped nginx.service - A web server.", "systemd: Started nginx.service - A web server.",
			"kernel: EXT4-fs (sda1): mounted filesystem with ordered data mode. Quota mode: none.",
			"kernel: e1000e 0000:00:1f.6 eno1: NIC Link is Up 1000 Mbps Full Duplex, Flow Control: Rx/Tx",
			"kernel: audit: type=1400 audit(1.1:2): apparmor=\"STATUS\"",
			"systemd-timesyncd: Contacted time server 192.0.2.1:123 (time.gullhaven.example).")
	})
	for _, x := range []struct{ what, rule, severity, says, mended string }{
		{"a unit fails", "unit-failed", "error", "systemd: gauge.service: Failed with result 'exit-code'.",
			"systemd: Started gauge.service - Gauges."},
		{"systemd gives a unit up", "unit-given-up", "critical",
			"systemd: tide.service: Start request repeated too quickly.", "systemd: Started tide.service - Tides."},
		{"memory runs out", "memory-ran-out", "error", "kernel: Out of memory: Killed process 1234 (java) " +
			"total-vm:8123456kB, anon-rss:7123456kB", ""},
		{"a disk cannot be read", "disk-errors", "error",
			"kernel: I/O error, dev sdb, sector 123456 op 0x0:(READ) flags 0x80700 phys_seg 1 prio class 2", ""},
		{"a file system is read-only", "file-system-read-only", "critical",
			"kernel: EXT4-fs (sdb1): Remounting filesystem read-only",
			"kernel: EXT4-fs (sdb1): mounted filesystem with ordered data mode."},
		{"a task hangs", "task-hung", "warning", "kernel: INFO: task jbd2/sdb1-8:412 blocked for more than 120 " +
			"seconds.", ""},
		{"a program crashes", "program-crashed", "warning",
			"kernel: gauge-reader[4211]: segfault at 0 ip 0000561d8f2c1b29 sp 00007ffd0c5b8a40 error 4 in " +
				"gauge-reader", ""},
		{"a link goes down", "link-down", "warning", "kernel: e1000e 0000:00:1f.6 eno1: NIC Link is Down",
			"kernel: e1000e 0000:00:1f.6 eno1: NIC Link is Up 1000 Mbps Full Duplex"},
		{"lines are thrown away", "log-lines-lost", "warning",
			"systemd-journald: Suppressed 1912 messages from gauge.service", ""},
	} {
		l.fault(x.what, x.rule, x.severity, func() {
			program, text, _ := strings.Cut(x.says,
				": ")
			j.says(program, text)
		})
		if x.mended != "" {
			l.mended("it is mended", x.rule, func() {
				program, text, _ := strings.Cut(x.mended,
					": ")
				j.says(program, text)
			})
		}
	}
	l.fault("a unit is started again and again", "unit-restarts", "warning", func() {
		for n := range 3 {
			j.says("systemd", fmt.Sprintf("quay.service: Scheduled restart job, restart counter is at %d.", n+1))
		}
	})
	l.fault("the time is not heard", "clock-not-kept", "warning", func() {
		for range 3 {
			j.says("systemd-timesyncd", "Timed out waiting for reply from 192.0.2.1:123 (time.gullhaven.example).")
		}
	})
	l.mended("it is heard", "clock-not-kept", func() {
		j.says("systemd-timesyncd", "Contacted time server 192.0.2.1:123 (time.gullhaven.example).")
	})
}

func TestDisksAndNFS(t *testing.T) {
	for _, kit := range []struct {
		name     string
		everyday []string
		faults   [][4]string // rule, severity, what is said, and what ends it
	}{
		{"disks", []string{"smartd: Device: /dev/sda [SAT], SMART Usage Attribute: 194 Temperature_Celsius " +
			"changed from 66 to 67",
			"smartd: Device: /dev/sda [SAT], previous self-test completed without error",
			"kernel: md/raid1:md0: active with 2 out of 2 mirrors"},
			[][4]string{
				{"disk-will-fail", "warning", "smartd: Device: /dev/sda [SAT], 8 Currently unreadable (pending) " +
					"sectors", ""},
				{"disk-will-fail", "critical", "smartd: Device: /dev/sda [SAT], FAILED SMART self-check. BACK UP " +
					"DATA NOW!", ""},
				{"mirror-degraded", "critical", "kernel: md/raid1:md0: Disk failure on sdb1, disabling device.",
					"kernel: md: md0: recovery done."},
				{"pool-degraded", "error", "zed: eid=14 class=statechange pool='tank' vdev=sdb1 " +
					"vdev_state=FAULTED", "zed: eid=19 class=resilver_finish pool='tank'"}}},
		{"nfs", []string{"rpc.mountd: authenticated mount request from 192.0.2.9:901 for /srv/tides (/srv/tides)"},
			[][4]string{{"nfs-server-silent", "error", "kernel: nfs: server store not responding, still trying",
				"kernel: nfs: server store OK"}}},
	} {
		t.Run(kit.name, func(t *testing.T) {
			l := open(t, kit.name, ` with logs "{logs}" but not system-log`, true, "journalctl")
			l.version("documented messages, through systemd-journal-remote")
			j := l.journal()
			l.begin()
			l.ordinary("what they say every day", func() { j.everyday(200, kit.everyday...) })
			for _, f := range kit.faults {
				l.fault(f[2], f[0], f[1], func() {
					program, text, _ := strings.Cut(f[2], ": ")
					j.says(program,
						text)
				})
				if f[3] != "" {
					l.mended(f[3], f[0], func() {
						program, text, _ := strings.Cut(f[3], ": ")
						j.says(program,
							text)
					})
				}
			}
		})
	}
}

// What engines write, in their documented form.
func TestContainers(t *testing.T) {
	l := open(t, "containers", ` with logs "{logs}/engine", pods "{logs}/pods"`, true)
	l.version("the engines' documented forms")
	id := strings.Repeat("0123456789abcdef", 4)
	path := l.logs + "/engine/" + id + "/" + id + "-json.log"
	pod := l.logs + "/pods/gate_harbour_reader-1.log"
	require.NoError(l, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(l, os.MkdirAll(filepath.Dir(pod), 0o755))
	write := func(path, line string) {
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o644)
		require.NoError(l, err)
		defer f.Close()
		_, err = f.WriteString(line + "\n")
		require.NoError(l, err)
	}
	now := func() string { return time.Now().UTC().Format(time.RFC3339Nano) }
	engine := func(text string) {
		write(path, fmt.Sprintf(`{"log":"%s\n","stream":"stderr","time":"%s"}`, text, now()))
	}
	engine("gate 3 opens")
	write(pod, now()+" stdout F gate 4 opens")
	l.begin()
	l.ordinary("1000 lines of two containers", func() {
		for range 500 {
			engine("gate 3 opens, no error at all")
			write(pod, now()+" stdout F gate 4 opens")
		}
	})
	l.fault("a program panics", "container-dies", "error", func() {
		engine("panic: runtime error: index out of range [3] with length 3")
	})
	l.fault("another one is out of memory", "container-out-of-memory", "error", func() {
		write(pod, now()+" stderr F java.lang.OutOfMemoryError: Java heap space")
	})
	l.rest("")
}

// java.util.logging by a program of Java, where there is one; else its form.
func TestJava(t *testing.T) {
	l := open(t, "java", ` with logs "{logs}"`, false, "java", "javac")
	l.version(l.run("java", "-version"))
	l.file("Gate.java", `import java.util.logging.*;
public class Gate {
  public static void main(String[] a) throws Exception {
    Logger l = Logger.getLogger("gullhaven.Gate");
    FileHandler h = new FileHandler(a[0], true);
    h.setFormatter(new SimpleFormatter());
    l.addHandler(h);
    l.setUseParentHandlers(false);
    for (int i = 0; i < 300; i++) l.info("gate 3 opens");
    for (int i = 0; i < Integer.parseInt(a[1]); i++)
      try { Object o = null; o.hashCode(); } catch (Exception e) { l.log(Level.SEVERE, "gate 3 does not answer", e); }
    if (a.length > 2)
      try { byte[][] b = new byte[100000][]; for (int i = 0; ; i++) b[i] = new byte[1 << 20]; }
      catch (OutOfMemoryError e) { l.log(Level.SEVERE, "no memory", e); }
  }
}
`)
	require.Empty(l, l.run("javac", "Gate.java"))
	l.begin()
	l.ordinary("900 lines, one of them an exception", func() {
		l.run("java", "Gate", "{logs}/gate.log", "0")
		l.run("java", "Gate", "{logs}/gate.log", "1")
		l.run("java", "Gate", "{logs}/gate.log", "0")
	})
	l.fault("exceptions", "java-errors", "warning", func() { l.run("java", "Gate", "{logs}/gate.log", "6") })
	l.fault("its heap is full", "java-out-of-memory", "critical", func() {
		l.run("java", "-Xmx20m", "Gate", "{logs}/gate.log", "0", "memory")
	})
	l.rest("", "java-silent")
}

// The stand-in for channels gives events as they are documented.
func TestChannels(t *testing.T) {
	l := open(t, "channels", "", true)
	l.version("documented events, from the stand-in for channels")
	host := channel.NewHost("host-a")
	for _, c := range []string{"Security", "System", "Application"} {
		host.Open(c, 10_000)
	}
	at := filepath.Join(l.dir, "channels.sock")
	listener, err := channel.ListenAt(at)
	require.NoError(l, err)
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { host.Serve(ctx, listener); close(done) }()
	l.Cleanup(func() { stop(); <-done })
	l.Setenv("DIMLANTERN_CHANNELS", at)
	event := func(channel, provider string, id, level int, data ...string) {
		now := time.Now()
		host.Add(channel, now, func(record int64) string {
			var b strings.Builder
			for i := 0; i+1 < len(data); i += 2 {
				fmt.Fprintf(&b, "<Data Name='%s'>%s</Data>", data[i], data[i+1])
			}
			return fmt.Sprintf("<Event><System><Provider Name='%s'/>"+
				"<EventID>%d</EventID><Level>%d</Level><TimeCreated "+
				"SystemTime='%s'/><EventRecordID>%d</EventRecordID>"+
				"<Channel>%s</Channel><Computer>host-a</Computer></System><EventData>%s</EventData></Event>",
				provider, id, level,
				now.UTC().Format("2006-01-02T15:04:05.000Z"), record, channel, b.String())
		})
	}
	l.begin()
	l.ordinary("1500 events of an ordinary day", func() {
		for range 500 {
			event("Security", "auditing", 4624, 0, "TargetUserName", "keeper")
			event("System", "Service Control Manager", 7036, 4, "param1", "Gauge Reader", "param2", "running")
			event("Application", "Gauge Reader", 1001, 4)
		}
		l.result.entries += 1500
	})
	l.fault("passwords are guessed, and one fits", "event-sign-in-guesses", "critical", func() {
		for range 10 {
			event("Security", "auditing", 4625, 0, "TargetUserName", "helper")
		}
		event("Security", "auditing", 4624, 0, "TargetUserName", "helper")
	})
	l.fault("an account is locked", "event-locked-out", "warning", func() {
		event("Security", "auditing", 4740,
			0, "TargetUserName", "helper")
	})
	l.mended("it is opened", "event-locked-out", func() {
		event("Security", "auditing", 4767, 0,
			"TargetUserName", "helper")
	})
	l.fault("the audit log is cleared", "event-audit-cleared", "critical", func() {
		event("Security",
			"Eventlog", 1102, 4, "SubjectUserName", "helper")
	})
	l.fault("a service ends", "event-service-ended", "error", func() {
		event("System",
			"Service Control Manager", 7034, 2, "param1", "Gauge Reader")
	})
	l.fault("a bad block", "event-disk", "error", func() { event("System", "disk", 7, 2) })
	l.fault("the time is lost", "event-time-lost", "warning", func() { event("System", "Time-Service", 36, 3) })
	l.mended("it is heard", "event-time-lost", func() { event("System", "Time-Service", 35, 4) })
	l.fault("a program crashes", "event-program-crashed", "notice", func() {
		event("Application",
			"Application Error", 1000, 2)
	})
}
