//go:build linux

package programs

import (
	"fmt"
	"net"
	"net/http"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// get asks for a page, and answers its status; 0 where there is no answer.
func get(url string) int {
	c := http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	r, err := c.Get(url)
	if err != nil {
		return 0
	}
	r.Body.Close()
	return r.StatusCode
}

// backend answers at a port until it is closed.
func (l *lab) backend(port int) *http.Server {
	l.Helper()
	at, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	require.NoError(l, err)
	s := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.Contains(r.URL.Path, "boom") {
			w.WriteHeader(http.StatusInternalServerError)
		}
		w.Write([]byte("ok"))
	})}
	go s.Serve(at)
	l.Cleanup(func() { s.Close() })
	return s
}

func TestNginx(t *testing.T) {
	l := open(t, "nginx", ` with logs "{logs}"`, true, "nginx", "openssl")
	l.version(l.run("nginx", "-v"))
	web, back := port(), port()
	l.shell("openssl req -x509 -newkey rsa:2048 -nodes -keyout {dir}/k.pem -out {dir}/c.pem -days 1 " +
		"-subj /CN=gate.gullhaven.example")
	l.file("www/index.html", "Gullhaven\n")
	conf := func(extra string) string {
		return l.file("nginx.conf", fmt.Sprintf(`daemon off; pid {dir}/nginx.pid; error_log {logs}/error.log; user root;
events { worker_connections 64; }
http {
 access_log {logs}/access.log combined;
 server { listen 127.0.0.1:%d; root {dir}/www;
  location /app { proxy_pass http://127.0.0.1:%d; proxy_connect_timeout 1s; }
  location /boom { return 500; } }
 %s
}
`, web, back, extra))
	}
	path := conf("")
	site := fmt.Sprintf("http://127.0.0.1:%d/", web)
	l.begin()
	server := l.backend(back)
	run := l.daemon("nginx", "-c", path)
	l.listening(fmt.Sprintf("127.0.0.1:%d", web))
	l.ordinary("600 pages, some of them missing, a reload, a restart and a rotation", func() {
		for i := range 600 {
			switch {
			case i%40 == 0:
				get(site + "missing")
			case i%5 == 0:
				get(site + "app")
			default:
				get(site)
			}
			switch i {
			case 200:
				require.NoError(l, run.Process.Signal(syscall.SIGHUP))
			case 300:
				require.NoError(l, os.Rename(l.logs+"/access.log", l.logs+"/access.log.1"))
				require.NoError(l, run.Process.Signal(syscall.SIGUSR1))
			case 400:
				stop(run)
				run = l.daemon("nginx", "-c", path)
				l.listening(fmt.Sprintf("127.0.0.1:%d", web))
			}
		}
	})
	l.fault("its backend is stopped", "nginx-backend-lost", "warning", func() {
		server.Close()
		for range 5 {
			get(site + "app")
		}
	})
	l.backend(back)
	l.fault("half of the answers fail", "nginx-answers-fail", "error", func() {
		for range 200 {
			get(site + "boom")
		}
	})
	l.fault("settings with a certificate that is not there are loaded", "nginx-certificate", "error", func() {
		conf("server { listen 127.0.0.1:1 ssl; ssl_certificate {dir}/none.pem; ssl_certificate_key {dir}/k.pem; }")
		require.NoError(l, run.Process.Signal(syscall.SIGHUP))
	})
	conf("")
	l.fault("a worker is killed", "nginx-worker-died", "error", func() {
		l.shell("kill -9 $(pgrep -P $(cat {dir}/nginx.pid) | head -1)")
	})
	l.fault("somebody hunts for pages", "nginx-page-hunt", "notice", func() {
		for i := range 120 {
			get(fmt.Sprintf("%shunt%d.php", site, i))
		}
	})
	l.rest("", "nginx-site-silent")
}

func TestApache(t *testing.T) {
	l := open(t, "apache", ` with logs "{logs}"`, false, "apache2", "htpasswd")
	l.version(l.run("apache2", "-v"))
	web, back := port(), port()
	l.file("www/index.html", "Gullhaven\n")
	l.run("htpasswd", "-bc", "{dir}/ht", "keeper", "lamp")
	var mods string
	for _, m := range []string{"mpm_prefork", "authz_core", "authn_core", "authz_user", "authn_file",
		"auth_basic", "proxy",
		"proxy_http", "alias", "dir"} {
		mods += fmt.Sprintf("LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m)
	}
	conf := l.file("apache.conf", mods+fmt.Sprintf(`ServerRoot {dir}
ServerName gate.gullhaven.example
PidFile {dir}/apache.pid
Listen 127.0.0.1:%d
User www-data
Group www-data
ErrorLog {logs}/error.log
LogFormat "%%h %%l %%u %%t \"%%r\" %%>s %%O \"%%{Referer}i\" \"%%{User-Agent}i\"" combined
CustomLog {logs}/access.log combined
DocumentRoot {dir}/www
StartServers 2
ServerLimit 6
MaxRequestWorkers 6
<Location /secret>
AuthType Basic
AuthName x
AuthUserFile {dir}/ht
Require valid-user
</Location>
Redirect 500 /boom
ProxyPass /app http://127.0.0.1:%d/ retry=0 timeout=1
`, web, back))
	conf = strings.TrimSpace(conf)
	l.shell("sed -i 's/%O/%b/' " + conf)
	site := fmt.Sprintf("http://127.0.0.1:%d/", web)
	start := func() { l.daemon("apache2", "-f", conf, "-DFOREGROUND"); l.listening(fmt.Sprintf("127.0.0.1:%d", web)) }
	l.begin()
	server := l.backend(back)
	start()
	l.turn = func() {
		l.rename("access.log", "error.log")
		l.shell("kill -USR1 $(cat {dir}/apache.pid)")
	}
	l.ordinary("400 pages, a rotation, a graceful restart and a restart", func() {
		for i := range 400 {
			switch {
			case i%40 == 0:
				get(site + "missing")
			case i%5 == 0:
				get(site + "app/")
			default:
				get(site)
			}
			switch i {
			case 100:
				l.shell("kill -USR1 $(cat {dir}/apache.pid)")
			case 200:
				l.shell("kill -TERM $(cat {dir}/apache.pid)")
				l.until("it has ended", func() bool { _, err := os.Stat(l.dir + "/apache.pid"); return err != nil })
				start()
			}
		}
	})
	l.fault("its backend is stopped", "apache-backend-lost", "warning", func() {
		server.Close()
		for range 5 {
			get(site + "app/")
		}
	})
	l.fault("half of the answers fail", "apache-answers-fail", "error", func() {
		for range 200 {
			get(site + "boom")
		}
	})
	l.fault("all workers are held", "apache-no-free-worker", "error", func() {
		for range 16 {
			if c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", web)); err == nil {
				time.AfterFunc(20*time.Second, func() { c.Close() })
			}
		}
	})
	l.fault("a child crashes", "apache-child-died", "warning", func() {
		l.until("a free worker", func() bool { return get(site) == 200 })
		l.shell("kill -SEGV $(pgrep -P $(cat {dir}/apache.pid) | tail -1)")
	})
	l.fault("passwords are guessed", "apache-sign-in-refused", "warning", func() {
		for range 12 {
			r, _ := http.NewRequest("GET", site+"secret", nil)
			r.SetBasicAuth("keeper", "wrong")
			if a, err := http.DefaultClient.Do(r); err == nil {
				a.Body.Close()
			}
		}
	})
	l.fault("it is stopped", "apache-down", "error", func() { l.shell("kill -TERM $(cat {dir}/apache.pid)") })
	l.mended("it is started", "apache-down", start)
	l.rest("", "apache-site-silent")
}

func TestHAProxy(t *testing.T) {
	l := open(t, "haproxy", ` with logs "{logs}" but not system-journal`, false, "haproxy")
	l.version(l.run("haproxy", "-v"))
	l.syslog()
	front, one, two := port(), port(), port()
	conf := l.file("ha.cfg", fmt.Sprintf(`global
 log /dev/log local0
 pidfile {dir}/ha.pid
defaults
 log global
 mode http
 option httplog
 timeout connect 1s
 timeout client 5s
 timeout server 2s
frontend gate
 bind 127.0.0.1:%d
 default_backend quay
backend quay
 option httpchk GET /
 server q1 127.0.0.1:%d check inter 300ms fall 2 rise 2
 server q2 127.0.0.1:%d check inter 300ms fall 2 rise 2
`, front, one, two))
	site := fmt.Sprintf("http://127.0.0.1:%d/", front)
	a, b := l.backend(one), l.backend(two)
	l.begin()
	run := l.daemon("haproxy", "-db", "-f", conf)
	l.listening(fmt.Sprintf("127.0.0.1:%d", front))
	l.ordinary("400 answers and a restart", func() {
		for i := range 400 {
			get(site)
			if i == 200 {
				stop(run)
				run = l.daemon("haproxy", "-db", "-f", conf)
				l.listening(fmt.Sprintf("127.0.0.1:%d", front))
			}
		}
	})
	l.fault("a server is stopped", "haproxy-server-down", "warning", func() { a.Close() })
	l.fault("the other one as well", "haproxy-backend-empty", "critical", func() { b.Close() })
	l.mended("one is started", "haproxy-backend-empty", func() { a = l.backend(one) })
	l.until("the server is up", func() bool { return get(site) == 200 })
	l.mended("the other one as well", "haproxy-server-down", func() { b = l.backend(two) })
	l.fault("half of the answers fail", "haproxy-answers-fail", "error", func() {
		for range 200 {
			get(site + "boom")
		}
	})
	l.rest("system-log")
}

func TestSquid(t *testing.T) {
	l := open(t, "squid", ` with logs "{logs}"`, false, "squid")
	l.version(l.run("squid", "-v"))
	way, back := port(), port()
	conf := l.file("squid.conf", fmt.Sprintf(`http_port 127.0.0.1:%d
pid_filename {dir}/run/squid.pid
cache_log {logs}/cache.log
access_log stdio:{logs}/access.log
coredump_dir {dir}/run
acl bad dstdomain forbidden.example
http_access deny bad
http_access allow all
cache deny all
shutdown_lifetime 1 seconds
`, way))
	l.shell("mkdir -p {dir}/run; chmod 777 {dir}/run")
	l.begin()
	start := func() { l.run("squid", "-f", conf); l.listening(fmt.Sprintf("127.0.0.1:%d", way)) }
	l.Cleanup(func() { l.shell("squid -f " + conf + " -k kill; pkill -9 -f " + conf) })
	server := l.backend(back)
	start()
	through := func(url string) {
		l.run("curl", "-s", "-m", "10", "-o", "/dev/null", "-x", fmt.Sprintf("http://127.0.0.1:%d", way), url)
	}
	l.turn = func() {
		l.rename("access.log", "cache.log")
		l.run("squid", "-f", conf, "-k", "rotate")
	}
	l.ordinary("200 answers, a rotation, a reload and a restart", func() {
		for i := range 200 {
			through(fmt.Sprintf("http://127.0.0.1:%d/", back))
			switch i {
			case 50:
				l.run("squid", "-f", conf, "-k", "reconfigure")
				l.listening(fmt.Sprintf("127.0.0.1:%d", way))
			case 100:
				l.run("squid", "-f", conf, "-k", "shutdown")
				l.until("it has ended", func() bool {
					_, err := os.Stat(l.dir +
						"/run/squid.pid")
					return err != nil
				})
				start()
			}
		}
	})
	l.fault("what it fetches from is stopped", "squid-answers-fail", "error", func() {
		server.Close()
		for range 120 {
			through(fmt.Sprintf("http://127.0.0.1:%d/", back))
		}
	})
	l.fault("somebody asks for what is forbidden", "squid-refused", "notice", func() {
		for range 60 {
			through("http://forbidden.example/")
		}
	})
	l.fault("settings that it cannot read", "squid-worker-died", "error", func() {
		l.shell("echo 'acl broken' >> " + conf)
		l.run("squid", "-f", conf, "-k", "reconfigure")
		l.shell("kill -HUP $(cat {dir}/run/squid.pid)")
	})
	l.rest("", "squid-down")
}
