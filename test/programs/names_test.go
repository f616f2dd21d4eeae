//go:build linux

package programs

import (
	"fmt"
	"os/exec"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// asks asks a name server of this machine.
func (l *lab) asks(at int, args ...string) string {
	return l.run("dig", append([]string{"-p", fmt.Sprint(at), "@127.0.0.1", "+short", "+time=2", "+tries=1"},
		args...)...)
}

// answers waits until a name server answers.
func (l *lab) answers(at int) {
	l.Helper()
	l.until("a name server", func() bool {
		return !strings.Contains(l.asks(at, "x.example"),
			"no servers could be reached")
	})
}

func TestBind(t *testing.T) {
	l := open(t, "bind", ` with logs "{logs}" but not system-journal`, false, "named", "dig")
	l.version(l.run("named", "-v"))
	l.syslog()
	at, away := port(), port()
	settings := fmt.Sprintf(`options { directory "{dir}"; pid-file none; listen-on port %d {127.0.0.1;};
 listen-on-v6 {none;};
 recursion no; dnssec-validation no; session-keyfile none; allow-transfer {none;}; };
controls {};
zone "gullhaven.example" { type master; file "{dir}/zone"; };
`, at)
	conf := l.file("named.conf", settings)
	zone := func(extra string) {
		l.file("zone", "$TTL 60\n@ IN SOA ns a 1 1 1 60 60\n@ IN NS ns\nns IN A 127.0.0.1\n"+extra)
	}
	zone("")
	l.begin()
	start := func() *exec.Cmd {
		c := l.daemon("named", "-f", "-c", conf)
		l.answers(at)
		return c
	}
	run := start()
	l.ordinary("400 questions, a reload and a restart", func() {
		for i := range 400 {
			l.asks(at, "ns.gullhaven.example")
			switch i {
			case 100:
				run.Process.Signal(syscall.SIGHUP)
			case 200:
				stop(run)
				run = start()
			}
		}
	})
	l.fault("a zone with a mistake is loaded", "dns-zone-broken", "error", func() {
		zone("broken line here )\n")
		run.Process.Signal(syscall.SIGHUP)
	})
	l.mended("it is mended", "dns-zone-broken", func() { zone(""); run.Process.Signal(syscall.SIGHUP) })
	l.fault("somebody wants a whole zone", "dns-refused", "warning", func() {
		l.asks(at, "gullhaven.example",
			"axfr")
	})
	l.fault("its primary is away", "dns-zone-not-fetched", "warning", func() {
		l.file("named.conf", settings+fmt.Sprintf("zone \"quay.example\" { type slave; masters port %d "+
			"{127.0.0.1;}; "+
			"file \"{dir}/slave\"; };\n", away))
		for n := range 3 { // each time it is told to it tries anew
			run.Process.Signal(syscall.SIGHUP)
			l.says("refresh: failure trying primary", n+1)
		}
	})
	l.file("named.conf", settings)
	l.fault("settings that it cannot read", "dns-settings-bad", "error", func() {
		l.shell("echo 'bogus;' >> " + conf)
		run.Process.Signal(syscall.SIGHUP)
	})
	l.mended("they are mended", "dns-settings-bad", func() {
		l.shell("sed -i /bogus/d " + conf)
		run.Process.Signal(syscall.SIGHUP)
	})
	l.fault("it is stopped", "dns-down", "critical", func() { stop(run) })
	l.mended("it is started", "dns-down", func() { run = start() })
	l.rest("system-log")
}

func TestUnbound(t *testing.T) {
	l := open(t, "unbound", ` with logs "{logs}" but not system-journal`, false, "unbound", "dig")
	l.version(l.run("unbound", "-V"))
	l.syslog()
	at, away := port(), port()
	conf := l.file("unbound.conf", fmt.Sprintf(`server:
 interface: 127.0.0.1@%d
 chroot: ""
 directory: "{dir}"
 pidfile: "{dir}/unbound.pid"
 username: ""
 do-ip6: no
 verbosity: 1
 use-syslog: yes
 log-servfail: yes
 module-config: "iterator"
 do-not-query-localhost: no
 local-zone: "gullhaven.example." static
 local-data: "ns.gullhaven.example. A 127.0.0.1"
forward-zone:
 name: "."
 forward-addr: 127.0.0.1@%d
`, at, away))
	l.begin()
	run, start := l.resolver(at, "unbound", "-d", "-c", conf)
	l.fault("the server that it asks is away", "unbound-cannot-resolve", "notice", func() {
		l.run("dig", "-p", fmt.Sprint(at), "@127.0.0.1", "+time=40", "+tries=1", "first.example") // it tries for long
		for i := range 25 {
			l.asks(at, fmt.Sprintf("x%d.example", i))
		}
	})
	l.fault("its settings are gone when it is told to read them", "unbound-settings-bad", "error", func() {
		l.shell("mv {dir}/unbound.conf {dir}/away.conf")
		run.Process.Signal(syscall.SIGHUP)
	})
	l.shell("mv {dir}/away.conf {dir}/unbound.conf")
	l.fault("it is stopped", "unbound-down", "critical", func() { stop(run) })
	l.mended("it is started", "unbound-down", func() { run = start() })
	l.rest("system-log")
}

// resolver runs a resolver at a port, asks it 300 questions with a reload and a restart between, and answers with
// it as it runs and with how to start it again.
func (l *lab) resolver(at int, program string, args ...string) (*exec.Cmd, func() *exec.Cmd) {
	start := func() *exec.Cmd {
		c := l.daemon(program, args...)
		l.until("it answers", func() bool {
			return strings.Contains(l.asks(at, "ns.gullhaven.example"),
				"127.0.0.1")
		})
		return c
	}
	run := start()
	l.ordinary("300 questions, a reload and a restart", func() {
		for i := range 300 {
			l.asks(at, "ns.gullhaven.example")
			switch i {
			case 100:
				run.Process.Signal(syscall.SIGHUP)
			case 200:
				stop(run)
				run = start()
			}
		}
	})
	return run, start
}

func TestDnsmasq(t *testing.T) {
	l := open(t, "dnsmasq", ` with logs "{logs}" but not system-journal`, false, "dnsmasq", "dig")
	l.version(l.run("dnsmasq", "--version"))
	l.syslog()
	at, away := port(), port()
	args := []string{"-k", "-p", fmt.Sprint(at), "--listen-address=127.0.0.1", "--bind-interfaces", "--no-resolv",
		fmt.Sprintf("--server=127.0.0.1#%d", away), "--user=root", "--dns-forward-max=3", "--pid-file=",
		"--conf-file=/dev/null",
		"--address=/gullhaven.example/127.0.0.1"}
	l.begin()
	run, start := l.resolver(at, "dnsmasq", args...)
	l.fault("the server that it asks is away", "dnsmasq-too-many", "warning", func() {
		for i := range 12 {
			c := exec.Command("dig", "-p", fmt.Sprint(at), "@127.0.0.1", "+time=1", "+tries=1",
				fmt.Sprintf("y%d.example", i))
			require.NoError(l, c.Start())
			go c.Wait()
		}
	})
	l.fault("its port is taken", "dnsmasq-cannot-start", "error", func() { l.run("dnsmasq", args...) })
	l.fault("it is stopped", "dnsmasq-down", "error", func() { stop(run) })
	l.mended("it is started", "dnsmasq-cannot-start", func() { run = start() })
	l.rest("system-log")
}

func TestDHCP(t *testing.T) {
	l := open(t, "dhcp", ` with logs "{logs}" but not system-journal`, false, "dhcpd", "ip", "apt-get")
	l.version("ISC dhcpd " + l.shell("dpkg-query -W -f '${Version}' isc-dhcp-server"))
	l.shell("mkdir {dir}/x && cd {dir}/x && apt-get download -qq isc-dhcp-client && dpkg -x *.deb .")
	client := l.dir + "/x/sbin/dhclient"
	if l.run("ls", client) != client+"\n" {
		t.Skip("the client's package cannot be fetched")
	}
	l.syslog()
	gone := func() { l.shell("ip netns del dimlab; ip link del dimlabA") }
	gone()
	l.Cleanup(gone)
	if out := l.shell("ip link add dimlabA type veth peer name dimlabB && ip netns add dimlab && ip link set " +
		"dimlabB netns dimlab && " +
		"ip addr add 10.77.0.1/24 dev dimlabA && ip link set dimlabA up && ip netns exec dimlab ip link set " +
		"dimlabB up"); out != "" {
		t.Skip("no network of its own can be made here: " + out)
	}
	conf := l.file("dhcpd.conf", "default-lease-time 60; max-lease-time 120;\nsubnet 10.77.0.0 netmask "+
		"255.255.255.0 { range 10.77.0.10 10.77.0.10; }\n")
	l.file("leases", "")
	l.begin()
	l.daemon("dhcpd", "-f", "-cf", conf, "-lf", "{dir}/leases", "-pf", "{dir}/dhcpd.pid", "dimlabA")
	ask := func(n int) {
		l.run("timeout", "8", "ip", "netns", "exec", "dimlab", client, "-1", "-sf", "/bin/true", "-lf",
			fmt.Sprintf("{dir}/c%d", n),
			"-pf", fmt.Sprintf("{dir}/p%d", n), "dimlabB")
		l.shell("pkill -f " + client)
	}
	l.says("Server starting service", 1)
	l.ordinary("a machine asks for an address 5 times", func() {
		for range 5 {
			ask(1)
		}
	})
	l.fault("another one asks, and none is left", "dhcp-no-addresses", "", func() {
		l.shell("ip netns exec dimlab ip link set dimlabB down; ip netns exec dimlab ip link set dimlabB address " +
			"02:00:00:00:00:77; " +
			"ip netns exec dimlab ip link set dimlabB up")
		ask(2)
	})
	l.rest("system-log")
}

func TestSamba(t *testing.T) {
	l := open(t, "samba", ` with logs "{logs}"`, false, "smbd", "smbclient", "smbpasswd")
	l.version(l.run("smbd", "--version"))
	at := port()
	for _, d := range []string{"share", "private", "state", "cache", "lock", "run"} {
		l.shell("mkdir -p {dir}/" + d)
	}
	conf := l.file("smb.conf", fmt.Sprintf(`[global]
 server role = standalone server
 smb ports = %d
 interfaces = 127.0.0.1
 bind interfaces only = yes
 log file = {logs}/log.%%m
 logging = file
 log level = 1 auth_audit:3
 private dir = {dir}/private
 state directory = {dir}/state
 cache directory = {dir}/cache
 lock directory = {dir}/lock
 pid directory = {dir}/run
 ncalrpc dir = {dir}/run/nc
 map to guest = never
 disable netbios = yes
[quay]
 path = {dir}/share
 read only = no
[gone]
 path = {dir}/nope
`, at))
	l.shell("(echo lamp; echo lamp) | smbpasswd -c " + conf + " -s -a root")
	use := func(share, password string) {
		l.run("smbclient", "-s", conf, "-p", fmt.Sprint(at), "//127.0.0.1/"+share, "-U", "root%"+password, "-c", "ls")
	}
	l.begin()
	start := func() *exec.Cmd {
		c := l.daemon("smbd", "-F", "--no-process-group", "-s", conf)
		l.listening(fmt.Sprintf("127.0.0.1:%d", at))
		return c
	}
	run := start()
	l.turn = func() {
		l.rename("log.smbd", "log.127.0.0.1")
		run.Process.Signal(syscall.SIGHUP)
	}
	l.ordinary("100 sessions, one mistyped, a rotation and a restart", func() {
		for i := range 100 {
			use("quay", "lamp")
			if i == 30 {
				use("quay", "lanp")
			}
			if i == 60 {
				stop(run)
				run = start()
			}
		}
	})
	l.fault("passwords are guessed", "samba-sign-in-refused", "warning", func() {
		for range 6 {
			use("quay", "guess")
		}
	})
	l.fault("the folder of a share is gone", "samba-share-broken", "error", func() { use("gone", "lamp") })
	l.rest("")
}
