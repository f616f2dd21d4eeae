//go:build linux

package programs

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestSignIns(t *testing.T) {
	l := open(t, "sign-ins", ` with logs "{logs}" but not system-journal`, true, "sshd", "ssh", "sshpass", "sudo",
		"ssh-keygen", "useradd")
	l.version(l.run("ssh", "-V"))
	at := port()
	l.run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", "{dir}/hostkey")
	l.run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", "{dir}/userkey")
	conf := l.file("sshd_config", fmt.Sprintf("Port %d\nListenAddress 127.0.0.1\nHostKey {dir}/hostkey\n"+
		"PidFile {dir}/sshd.pid\nUsePAM yes\nPermitRootLogin yes\nPasswordAuthentication yes\n"+
		"AuthorizedKeysFile {dir}/keys/%%u\nStrictModes no\n", at))
	l.shell("mkdir -p /run/sshd {dir}/keys && cp {dir}/userkey.pub {dir}/keys/lampkeeper")
	l.Cleanup(func() { l.shell("userdel -rf lampkeeper; userdel -f lamphelper; rm -f /etc/sudoers.d/lampkeeper") })
	require.Empty(l, l.shell("useradd -m -s /bin/bash lampkeeper && echo lampkeeper:lamp1234 | chpasswd"))
	l.shell("echo 'lampkeeper ALL=(ALL) NOPASSWD: /bin/true' > /etc/sudoers.d/lampkeeper; " +
		"chmod 440 /etc/sudoers.d/lampkeeper")
	l.syslog() // from here on what is logged is ordinary
	options := []string{"-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-p", fmt.Sprint(at)}
	ssh := func(password, account string, args ...string) string {
		all := append([]string{"-p", password, "ssh", "-o", "PreferredAuthentications=password", "-o",
			"PubkeyAuthentication=no", "-o", "NumberOfPasswordPrompts=1"}, options...)
		return l.run("sshpass", append(append(all, account+"@127.0.0.1"), args...)...)
	}
	key := func(args ...string) string {
		all := append([]string{"-o", "BatchMode=yes", "-i", "{dir}/userkey"}, options...)
		return l.run("ssh", append(append(all, "lampkeeper@127.0.0.1"), args...)...)
	}
	l.begin()
	l.daemon("sshd", "-D", "-f", conf)
	l.listening(fmt.Sprintf("127.0.0.1:%d", at))
	n := 6
	if every {
		n = 40
	}
	l.ordinary("people sign in with a password and with a key, use sudo, and mistype once", func() {
		for range n {
			key("true")
			key("sudo", "-n", "/bin/true")
		}
		ssh("lamp1234", "lampkeeper", "true")
		ssh("wrong", "lampkeeper", "true")
	})
	l.fault("passwords are guessed, and one fits", "sign-in-guesses", "critical", func() {
		for range 5 {
			ssh("wrong", "lampkeeper", "true")
		}
		ssh("lamp1234", "lampkeeper", "true")
	})
	l.fault("sudo with what one may not do", "sudo-refused", "", func() { key("echo bad | sudo -S /bin/ls") })
	l.fault("somebody becomes a master", "account-raised", "warning",
		func() { l.shell("usermod -aG sudo lampkeeper") })
	l.fault("an account is made", "account-changed", "notice", func() { l.shell("useradd lamphelper") })
	l.rest("auth-log")
}

func TestCron(t *testing.T) {
	l := open(t, "cron", ` with logs "{logs}" but not system-journal`, false, "cron", "crontab")
	l.version("cron " + l.shell("dpkg-query -W -f '${Version}' cron"))
	if l.shell("pgrep -x cron") != "" {
		l.Skip("another cron runs here")
	}
	l.syslog()
	l.begin()
	const good, bad = "/etc/cron.d/dimlantern-lab", "/etc/cron.d/dimlantern-lab-bad"
	l.Cleanup(func() { os.Remove(good); os.Remove(bad) })
	write := func(path, text string, mode os.FileMode) {
		require.NoError(l, os.WriteFile(path, []byte(text), mode))
		require.NoError(l, os.Chmod(path, mode))
	}
	write(good, "* * * * * root true\n", 0o644)
	l.daemon("cron", "-f", "-L", "5")
	l.ordinary("two minutes with a job that does its work", func() { l.says("(root) CMD (true)", 2) })
	l.fault("a job fails", "cron-job-failed", "warning", func() {
		write(good, "* * * * * root false\n", 0o644)
		l.says("exit status", 1)
	})
	l.fault("a table that others may write", "cron-table-bad", "error", func() {
		write(bad, "* * * * * root true\n", 0o666)
		l.says("INSECURE MODE", 1)
	})
	l.mended("its rights are mended", "cron-table-bad", func() {
		write(bad, "# mended\n* * * * * root true\n", 0o644)
		l.says("RELOAD", 1)
	})
	l.rest("system-log", "cron-silent")
}

// says waits until the system's log says something so many times, for minutes.
func (l *lab) says(words string, times int) {
	l.Helper()
	require.Eventually(l, func() bool {
		b, _ := os.ReadFile(l.logs + "/syslog")
		old, _ := os.ReadFile(l.logs + "/syslog.1")
		return strings.Count(string(old)+string(b), words) >= times
	}, time.Duration(times+1)*75*time.Second, 100*time.Millisecond, words)
}

func TestLinux(t *testing.T) {
	l := open(t, "linux", ` with logs "{logs}" but not system-journal`, false, "dpkg-deb", "dpkg")
	l.version(l.shell(". /etc/os-release; echo $PRETTY_NAME"))
	l.syslog()
	l.file("pack/DEBIAN/control", "Package: dimlantern-lab\nVersion: 1\nArchitecture: all\n"+
		"Maintainer: lab <lab@gullhaven.example>\nDescription: for a trial\n")
	l.shell("dpkg-deb -b {dir}/pack {dir}/lab.deb")
	l.Cleanup(func() { l.shell("dpkg --purge dimlantern-lab") })
	l.begin()
	l.ordinary("a package comes and goes 20 times, programs speak", func() {
		for range 20 {
			l.shell("dpkg --log={logs}/dpkg.log -i {dir}/lab.deb; dpkg --log={logs}/dpkg.log -r dimlantern-lab; " +
				"logger -t tide all is well")
		}
	})
	// A file system of its own that is full, and a program that says so in the system's words.
	l.fault("a disk is full", "disk-full", "critical", func() {
		l.shell("mkdir -p {dir}/small && mount -t tmpfs -o size=64k tmpfs {dir}/small; " +
			"dd if=/dev/zero of={dir}/small/x bs=1k count=100 2>&1 | logger -t tide; umount {dir}/small")
	})
	l.rest("system-log")
}

func TestRsync(t *testing.T) {
	l := open(t, "rsync", ` with logs "{logs}"`, true, "rsync")
	l.version(l.run("rsync", "--version"))
	at := port()
	l.file("from/a", "tide\n")
	l.file("from/b", "ebb\n")
	require.NoError(t, os.Chmod(l.file("secrets", "keeper:lamp\n"), 0o600))
	conf := l.file("rsyncd.conf", fmt.Sprintf(`port = %d
address = 127.0.0.1
log file = {logs}/rsyncd.log
pid file = {dir}/rsyncd.pid
use chroot = no
[quay]
 path = {dir}/from
[vault]
 path = {dir}/from
 auth users = keeper
 secrets file = {dir}/secrets
`, at))
	l.begin()
	l.daemon("rsync", "--daemon", "--no-detach", "--config="+conf)
	l.listening(fmt.Sprintf("127.0.0.1:%d", at))
	run := func(from string) { l.run("rsync", "-a", "--log-file={logs}/rsync.log", from, "{dir}/to/") }
	l.turn = func() { l.rename("rsync.log") }
	l.ordinary("60 runs, half of them through the daemon, and a rotation", func() {
		for i := range 30 {
			run("{dir}/from/")
			l.run("rsync", "-a", fmt.Sprintf("rsync://127.0.0.1:%d/quay/", at), fmt.Sprintf("{dir}/to%d/", i))
		}
	})
	l.fault("a folder is gone", "rsync-failed", "warning", func() { run("{dir}/nosuch/") })
	l.mended("it is back", "rsync-failed", func() { run("{dir}/from/"); run("{dir}/from/") })
	l.fault("passwords are guessed", "rsync-refused", "warning", func() {
		for range 3 {
			l.runIn([]string{"RSYNC_PASSWORD=bad"}, "rsync", fmt.Sprintf("rsync://keeper@127.0.0.1:%d/vault/", at))
		}
	})
	l.rest("")
}

func TestBorg(t *testing.T) {
	l := open(t, "borg", ` with logs "{logs}"`, false, "borg")
	l.version(l.run("borg", "--version"))
	l.file("from/a", "tide\n")
	borg := func(word, what string) {
		l.runIn([]string{"BORG_PASSPHRASE=" + word, "BORG_BASE_DIR=" + l.dir}, "sh", "-c",
			"borg create --log-json --stats {dir}/repo::"+what+" 2>> {logs}/borg.log")
	}
	l.runIn([]string{"BORG_PASSPHRASE=lamp", "BORG_BASE_DIR=" + l.dir}, "borg", "init", "-e", "repokey", "{dir}/repo")
	l.begin()
	l.ordinary("5 backups", func() {
		for i := range 5 {
			borg("lamp", fmt.Sprintf("a%d {dir}/from", i))
		}
	})
	l.fault("a folder is gone", "borg-files-left-out", "notice", func() { borg("lamp", "b1 {dir}/from {dir}/none") })
	l.fault("a wrong passphrase", "borg-failed", "error", func() { borg("bad", "b2 {dir}/from") })
	l.mended("the right one", "borg-failed", func() { borg("lamp", "b3 {dir}/from") })
	l.rest("", "borg-missing")
}

func TestUPS(t *testing.T) {
	l := open(t, "ups", ` with logs "{logs}" but not system-journal`, false, "dummy-ups", "upsd", "upsmon")
	l.version(l.run("/lib/nut/upsmon", "-V"))
	l.syslog()
	at := port()
	status := func(words string) { l.file("nut/ups.dev", "ups.status: "+words+"\nbattery.charge: 60\n") }
	status("OL")
	l.file("nut/ups.conf", "maxretry = 1\n[lampups]\n driver = dummy-ups\n port = {dir}/nut/ups.dev\n")
	l.file("nut/upsd.conf", fmt.Sprintf("LISTEN 127.0.0.1 %d\n", at))
	l.file("nut/nut.conf", "MODE=standalone\n")
	l.file("nut/upsd.users", "[mon]\n password = lamp\n upsmon secondary\n")
	notify := ""
	for _, n := range []string{"ONBATT", "ONLINE", "LOWBATT", "COMMBAD", "COMMOK", "REPLBATT", "NOCOMM"} {
		notify += "NOTIFYFLAG " + n + " SYSLOG\n"
	}
	l.file("nut/upsmon.conf", fmt.Sprintf("MONITOR lampups@127.0.0.1:%d 1 mon lamp secondary\nMINSUPPLIES 1\n"+
		"SHUTDOWNCMD \"/bin/true\"\nPOLLFREQ 1\nPOLLFREQALERT 1\nDEADTIME 4\nRBWARNTIME 5\nNOCOMMWARNTIME 4\n"+
		"RUN_AS_USER root\n%s", at, notify))
	l.shell("mkdir -p {dir}/nut/run; chmod 640 {dir}/nut/*.conf {dir}/nut/upsd.users; chmod 700 {dir}/nut/run")
	l.Setenv("NUT_CONFPATH", l.dir+"/nut")
	l.Setenv("NUT_STATEPATH", l.dir+"/nut/run")
	l.Setenv("NUT_ALTPIDPATH", l.dir+"/nut/run")
	l.Cleanup(func() { l.run("pkill", "-x", "upsmon") })
	l.begin()
	driver := l.daemon("/lib/nut/dummy-ups", "-F", "-a", "lampups", "-u", "root")
	l.until("the driver's socket", func() bool {
		_, err := os.Stat(l.dir + "/nut/run/dummy-ups-lampups")
		return err == nil
	})
	l.daemon("/lib/nut/upsd", "-F", "-u", "root")
	l.listening(fmt.Sprintf("127.0.0.1:%d", at))
	l.ordinary("it starts and runs on line power", func() {
		l.run("/lib/nut/upsmon", "-u", "root")
		l.says("logged into UPS", 1)
	})
	l.fault("the power fails", "ups-on-battery", "warning", func() { status("OB DISCHRG") })
	l.mended("it is back", "ups-on-battery", func() { status("OL") })
	l.fault("the battery is worn", "ups-battery-worn", "warning", func() { status("OL RB") })
	status("OL")
	l.fault("the driver dies", "ups-silent", "error", func() { stop(driver) })
	l.mended("it is started", "ups-silent", func() {
		driver = l.daemon("/lib/nut/dummy-ups", "-F", "-a", "lampups", "-u", "root")
	})
	l.rest("system-log")
}
