//go:build linux

package programs

import (
	"fmt"
	"net"
	"net/smtp"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// letter gives a letter to a mail server of this machine, and answers what it said against it.
func letter(at int, to string) error {
	return smtp.SendMail(fmt.Sprintf("127.0.0.1:%d", at), nil, "a@post.gullhaven.example", []string{to},
		[]byte("Subject: tide\r\n\r\nhigh at noon\r\n"))
}

// sink takes all mail.
func (l *lab) sink(at int) net.Listener {
	l.Helper()
	s, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", at))
	require.NoError(l, err)
	go func() {
		for {
			c, err := s.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				fmt.Fprint(c, "220 sink\r\n")
				b := make([]byte, 64<<10)
				data := false
				for {
					n, err := c.Read(b)
					if err != nil {
						return
					}
					for line := range strings.Lines(string(b[:n])) {
						switch {
						case data && strings.TrimSpace(line) == ".":
							data = false
							fmt.Fprint(c, "250 taken\r\n")
						case data:
						case strings.HasPrefix(strings.ToUpper(line), "DATA"):
							data = true
							fmt.Fprint(c, "354 go\r\n")
						case strings.HasPrefix(strings.ToUpper(line), "QUIT"):
							fmt.Fprint(c, "221 bye\r\n")
							return
						default:
							fmt.Fprint(c, "250 well\r\n")
						}
					}
				}
			}()
		}
	}()
	l.Cleanup(func() { s.Close() })
	return s
}

func TestPostfix(t *testing.T) {
	l := open(t, "postfix", ` with logs "{logs}" but not system-journal`, false, "postfix", "postconf")
	l.version("postfix " + l.shell("postconf -h mail_version"))
	l.syslog()
	at, away := port(), port()
	l.shell("cp -r /etc/postfix {dir}/etc; mkdir -p {dir}/spool {dir}/own; chown postfix {dir}/own; chmod 755 {dir}")
	l.file("etc/main.cf", fmt.Sprintf(`compatibility_level=3.6
queue_directory={dir}/spool
data_directory={dir}/own
myhostname=post.gullhaven.example
mydestination=post.gullhaven.example
inet_interfaces=127.0.0.1
inet_protocols=ipv4
mynetworks=127.0.0.0/8
alias_maps=
local_recipient_maps=
mailbox_transport=discard
local_transport=discard
minimal_backoff_time=300s
transport_maps=inline:{ {away.example=smtp:[127.0.0.1]:%d} }
smtpd_recipient_restrictions=reject_unlisted_recipient, permit_mynetworks, reject
virtual_mailbox_domains=known.example
virtual_mailbox_maps=inline:{ {keeper@known.example=x} }
virtual_transport=discard
`, away))
	l.shell(fmt.Sprintf("sed -i 's/^smtp      inet.*/127.0.0.1:%d inet n - n - - smtpd/; s/ y       -/ n       "+
		"-/g' {dir}/etc/master.cf", at))
	start := func() { l.run("postfix", "-c", "{dir}/etc", "start"); l.listening(fmt.Sprintf("127.0.0.1:%d", at)) }
	l.Cleanup(func() { l.run("postfix", "-c", "{dir}/etc", "stop") })
	l.begin()
	sink := l.sink(away)
	start()
	l.ordinary("200 letters here and away, some to nobody, a reload and a restart", func() {
		for i := range 200 {
			switch {
			case i%50 == 0:
				letter(at, "nobody@known.example")
			case i%4 == 0:
				require.NoError(l, letter(at, "x@away.example"))
			default:
				require.NoError(l, letter(at, "keeper@post.gullhaven.example"))
			}
			switch i {
			case 70:
				l.run("postfix", "-c", "{dir}/etc", "reload")
			case 140:
				l.run("postfix", "-c", "{dir}/etc", "stop")
				start()
			}
		}
	})
	l.fault("the server that it sends to is away", "postfix-waits", "notice", func() {
		sink.Close()
		for range 6 {
			require.NoError(l, letter(at, "x@away.example"))
		}
	})
	l.fault("somebody tries addresses", "postfix-refused-senders", "notice", func() {
		for i := range 25 {
			letter(at, fmt.Sprintf("try%d@known.example", i))
		}
	})
	l.fault("many letters come back", "postfix-comes-back", "warning", func() {
		for range 70 {
			letter(at, "x@nosuch.invalid")
		}
	})
	l.fault("a process of it is killed", "postfix-process-dies", "error", func() {
		l.shell("pkill -KILL -P $(cat {dir}/spool/pid/master.pid) qmgr")
	})
	l.run("postfix", "-c", "{dir}/etc", "stop")
	l.rest("system-log", "postfix-down")
}

// Exim cannot be installed beside Postfix: its packages are unpacked, and it is run where it lies.
func TestExim(t *testing.T) {
	l := open(t, "exim", ` with logs "{logs}"`, false, "apt-get", "dpkg")
	l.shell("mkdir {dir}/x && cd {dir}/x && apt-get download -qq exim4-daemon-light libidn12 && for d in *.deb; " +
		"do dpkg -x $d .; done")
	exim := l.dir + "/x/usr/sbin/exim4"
	if _, err := os.Stat(exim); err != nil {
		t.Skip("its packages cannot be fetched")
	}
	l.shell("cp -n {dir}/x/usr/lib/x86_64-linux-gnu/libidn.so.12* /usr/lib/x86_64-linux-gnu/; ldconfig; " +
		"id Debian-exim || useradd -r Debian-exim; mkdir -p {dir}/spool; chown Debian-exim {dir}/spool {logs}")
	l.version(l.run(exim, "-bV"))
	at, away := port(), port()
	conf := l.file("exim.conf", fmt.Sprintf(`exim_path = {dir}/x/usr/sbin/exim4
primary_hostname = post.gullhaven.example
log_file_path = {logs}/%%slog
spool_directory = {dir}/spool
daemon_smtp_ports = %d
local_interfaces = 127.0.0.1
keep_environment =
tls_advertise_hosts =
deliver_drop_privilege = true
acl_smtp_rcpt = rcpt
domainlist loc = post.gullhaven.example
begin acl
rcpt:
  accept domains = +loc
         local_parts = keeper
  accept domains = away.example
  deny
begin routers
loc:
  driver = accept
  domains = +loc
  transport = nowhere
away:
  driver = manualroute
  domains = away.example
  route_list = * 127.0.0.1
  self = send
  transport = s
begin transports
nowhere:
  driver = appendfile
  file = /dev/null
  user = Debian-exim
s:
  driver = smtp
  port = %d
begin retry
* * F,1h,5m
`, at, away))
	l.begin()
	sink := l.sink(away)
	l.daemon(exim, "-C", conf, "-bdf", "-q30m")
	l.listening(fmt.Sprintf("127.0.0.1:%d", at))
	l.turn = func() { l.rename("mainlog") } // it opens the new one by itself
	l.ordinary("100 letters here and away, and a rotation", func() {
		for i := range 100 {
			to := "keeper@post.gullhaven.example"
			if i%4 == 0 {
				to = "x@away.example"
			}
			require.NoError(l, letter(at, to))
		}
		l.until("they are delivered", func() bool {
			b, _ := os.ReadFile(l.logs + "/mainlog")
			old, _ := os.ReadFile(l.logs + "/mainlog.1")
			return strings.Count(string(old)+string(b), " Completed") == 100
		})
	})
	l.fault("somebody tries addresses", "exim-refused-senders", "notice", func() {
		for i := range 25 {
			letter(at, fmt.Sprintf("try%d@post.gullhaven.example", i))
		}
	})
	l.fault("the server that it sends to is away", "exim-waits", "notice", func() {
		sink.Close()
		for range 6 {
			require.NoError(l, letter(at, "x@away.example"))
		}
	})
	l.rest("")
}

func TestDovecot(t *testing.T) {
	l := open(t, "dovecot", ` with logs "{logs}" but not system-journal`, false, "dovecot", "doveadm", "curl")
	l.version("dovecot " + l.run("dovecot", "--version"))
	l.syslog()
	at := port()
	conf := l.file("dovecot.conf", fmt.Sprintf(`base_dir={dir}/run
state_dir={dir}/state
protocols=imap
listen=127.0.0.1
ssl=no
disable_plaintext_auth=no
mail_location=maildir:{dir}/mail/%%u
first_valid_uid=1
auth_failure_delay=0
passdb {
 driver=static
 args=password=lamp
}
userdb {
 driver=static
 args=uid=mail gid=mail home={dir}/mail/%%u
}
service imap-login {
 inet_listener imap {
  port=%d
 }
 inet_listener imaps {
  port=0
 }
}
`, at))
	l.shell("mkdir -p {dir}/mail; chown mail {dir}/mail")
	imap := func(account, password string) {
		exec.Command("curl", "-s", "-m", "20", fmt.Sprintf("imap://127.0.0.1:%d/INBOX", at), "-u",
			account+":"+password, "-X",
			"NOOP").Run()
	}
	start := func() *exec.Cmd {
		c := l.daemon("dovecot", "-F", "-c", conf)
		l.listening(fmt.Sprintf("127.0.0.1:%d", at))
		return c
	}
	l.begin()
	run := start()
	l.ordinary("100 people read mail, one mistypes; a reload and a restart", func() {
		for i := range 100 {
			imap(fmt.Sprintf("keeper%d", i%10), "lamp")
			switch i {
			case 20:
				imap("keeper1", "lanp")
			case 40:
				l.run("doveadm", "-c", conf, "reload")
			case 70:
				stop(run)
				run = start()
			}
		}
	})
	l.fault("a mailbox that may not be entered", "dovecot-mailbox-fails", "warning", func() {
		require.NoError(l, os.Chmod(l.dir+"/mail", 0))
		imap("bert", "lamp")
	})
	require.NoError(l, os.Chmod(l.dir+"/mail", 0o755))
	l.fault("passwords are guessed", "dovecot-sign-in-refused", "warning", func() {
		for range 11 {
			imap("keeper1", "guess")
		}
	})
	l.fault("a process of it crashes", "dovecot-process-dies", "error",
		func() { l.shell("pkill -SEGV -f '^dovecot/auth'") })
	stop(run)
	l.rest("system-log", "dovecot-down")
}
