//go:build linux

package programs

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestPostgres(t *testing.T) {
	l := open(t, "postgres", ` with logs "{logs}", slow 400ms but not pg-csv, pg-json`, false, "initdb", "psql",
		"runuser")
	l.version(l.run("postgres", "--version"))
	at := port()
	l.shell("mkdir -p {dir}/pg && chown postgres {dir}/pg {logs}")
	as := func(args ...string) string {
		return l.run("runuser", append([]string{"-u", "postgres", "--"},
			args...)...)
	}
	as(find("initdb"), "-D", "{dir}/pg", "-A", "trust")
	l.file("more.conf", fmt.Sprintf(`port=%d
listen_addresses='127.0.0.1'
unix_socket_directories='{dir}/pg'
max_connections=12
logging_collector=on
log_directory='{logs}'
log_filename='postgresql-15-main.log'
log_line_prefix='%%m [%%p] %%q%%u@%%d '
log_min_duration_statement=200
deadlock_timeout=200ms
`, at))
	l.shell("cat {dir}/more.conf >> {dir}/pg/postgresql.conf; " +
		"sed -i '1i host all keeper 127.0.0.1/32 scram-sha-256' {dir}/pg/pg_hba.conf")
	psql := func(sql ...string) *exec.Cmd {
		args := []string{"-h", "127.0.0.1", "-p", fmt.Sprint(at), "-U", "postgres", "postgres", "-qAt"}
		for _, s := range sql {
			args = append(args, "-c", s)
		}
		return exec.Command("psql", args...)
	}
	control := func(args ...string) { as(append([]string{find("pg_ctl"), "-D", "{dir}/pg", "-w"}, args...)...) }
	answers := func() { l.listening(fmt.Sprintf("127.0.0.1:%d", at)) }
	l.Cleanup(func() { control("stop", "-m", "immediate") })
	l.begin()
	control("start", "-l", "{dir}/pg/start.log")
	answers()
	l.ordinary("2000 statements of a client, some of them wrong, a reload, a restart and a rotation", func() {
		require.NoError(l, psql("create table tides(a int primary key, b text)",
			"create role keeper login password 'lamp'",
			"insert into tides select g, repeat('x',100) from generate_series(1,2000) g").Run())
		for i := range 40 {
			c := psql()
			c.Stdin = strings.NewReader(strings.Repeat("update tides set b='y' where a=1; select count(*) from "+
				"tides;\n", 25) +
				"select nope from tides;\n")
			c.Run()
			switch i {
			case 10:
				control("reload")
			case 20:
				control("restart", "-m", "fast", "-l", "{dir}/pg/start.log")
				answers()
			case 30:
				require.NoError(l, os.Rename(l.logs+"/postgresql-15-main.log", l.logs+"/postgresql-15-main.log.1"))
				psql("select pg_rotate_logfile()").Run()
			}
		}
	})
	l.fault("all connections are taken", "pg-connections-full", "error", func() {
		for range 14 {
			c := psql("select pg_sleep(1)")
			require.NoError(l, c.Start())
			go c.Wait()
		}
	})
	l.fault("slow statements", "pg-slow-statement", "warning", func() {
		l.until("a free connection", func() bool { return psql("select 1").Run() == nil })
		for range 11 {
			psql("select pg_sleep(0.45)").Run()
		}
	})
	l.fault("passwords are guessed", "pg-sign-in-refused", "warning", func() {
		for range 6 {
			l.runIn([]string{"PGPASSWORD=bad"}, "psql", "-h", "127.0.0.1", "-p", fmt.Sprint(at), "-U", "keeper",
				"postgres",
				"-c", "select 1")
		}
	})
	l.fault("two transactions wait for each other", "pg-deadlock", "notice", func() {
		a := psql("begin; update tides set b='1' where a=1; select pg_sleep(0.4); update tides set b='2' where " +
			"a=2; commit")
		require.NoError(l, a.Start())
		psql("begin; update tides set b='2' where a=2; select pg_sleep(0.4); update tides set b='1' where a=1; " +
			"commit").Run()
		a.Wait()
	})
	l.fault("settings that it cannot read", "pg-settings-bad", "warning", func() {
		l.shell("echo 'bogus_thing = 1' >> {dir}/pg/postgresql.conf")
		control("reload")
	})
	l.mended("they are mended", "pg-settings-bad", func() {
		l.shell("sed -i /bogus/d {dir}/pg/postgresql.conf")
		control("reload")
	})
	l.fault("a session's process is killed", "pg-crash", "critical", func() {
		c := psql("select pg_sleep(30)")
		require.NoError(l, c.Start())
		go c.Wait()
		l.until("the session", func() bool {
			return l.shell("pkill -KILL -f '[p]ostgres: postgres postgres 127.0.0.1.*SELECT' && echo yes") == "yes\n"
		})
	})
	l.until("it has recovered", func() bool { return psql("select 1").Run() == nil })
	control("stop", "-m", "fast")
	l.rest("pg-log", "pg-down")
}

func TestMariaDB(t *testing.T) {
	l := open(t, "mariadb", ` with logs "{logs}", slow 300ms but not system-journal`, false, "mariadbd",
		"mariadb-install-db")
	l.version(l.run("mariadbd", "--version"))
	at := port()
	conf := l.file("my.cnf", fmt.Sprintf(`[mysqld]
datadir={dir}/data-files
socket={dir}/my.sock
port=%d
bind-address=127.0.0.1
log_error={logs}/error.log
slow_query_log=1
slow_query_log_file={logs}/mariadb-slow.log
long_query_time=0.2
max_connections=10
log_warnings=2
pid-file={dir}/my.pid
innodb_print_all_deadlocks=1
`, at))
	l.shell("mkdir -p {dir}/data-files && chown mysql {dir} {dir}/data-files {logs}")
	l.run("mariadb-install-db", "--user=mysql", "--datadir={dir}/data-files")
	sql := func(s string) *exec.Cmd { return exec.Command("mariadb", "-S", l.dir+"/my.sock", "-e", s) }
	l.begin()
	start := func() *exec.Cmd {
		c := l.daemon("mariadbd", "--defaults-file="+conf, "--user=mysql")
		l.until("it answers", func() bool { return sql("select 1").Run() == nil })
		return c
	}
	run := start()
	l.turn = func() {
		l.rename("error.log", "mariadb-slow.log")
		sql("flush error logs; flush slow logs").Run()
	}
	l.ordinary("600 statements of a client, a rotation and a restart", func() {
		require.NoError(l, sql("create database tides; create user keeper@'127.0.0.1' identified by 'lamp'; "+
			"create table tides.t(a int primary key,b int) engine=innodb; insert into tides.t "+
			"values(1,1),(2,2)").Run())
		for i := range 60 {
			sql(strings.Repeat("update tides.t set b=b+1; ", 10)).Run()
			if i == 30 {
				stop(run)
				run = start()
			}
		}
	})
	l.fault("slow statements", "mariadb-slow-statement", "warning", func() {
		for range 12 {
			sql("use tides; select sleep(0.35)").Run()
		}
	})
	l.fault("passwords are guessed", "mariadb-sign-in-refused", "warning", func() {
		for range 6 {
			l.run("mariadb", "-h", "127.0.0.1", "-P", fmt.Sprint(at), "-u", "keeper", "-pbad", "-e", "select 1")
		}
	})
	l.fault("two transactions wait for each other", "mariadb-deadlock", "notice", func() {
		a := sql("use tides; begin; update t set b=5 where a=1; select sleep(0.4); update t set b=6 where a=2; " +
			"commit")
		require.NoError(l, a.Start())
		sql("use tides; begin; update t set b=5 where a=2; select sleep(0.4); update t set b=6 where a=1; " +
			"commit").Run()
		a.Wait()
	})
	l.fault("it is killed", "mariadb-crash", "critical", func() {
		run.Process.Signal(syscall.SIGKILL)
		run.Wait()
		run = start()
	})
	stop(run)
	l.fault("it cannot start", "mariadb-error", "critical", func() {
		l.run("mariadbd", "--defaults-file="+conf, "--user=mysql", "--bogus")
	})
	l.rest("", "mariadb-down")
}

func TestRedis(t *testing.T) {
	l := open(t, "redis", ` with logs "{logs}"`, true, "redis-server", "redis-cli")
	l.version(l.run("redis-server", "--version"))
	at, away := port(), port()
	l.shell("mkdir -p {dir}/saved")
	conf := l.file("redis.conf", fmt.Sprintf(`port %d
bind 127.0.0.1
logfile {logs}/redis-server.log
dir {dir}/saved
save 1 1
enable-protected-configs yes
`, at))
	cli := func(args ...string) string {
		return l.run("redis-cli", append([]string{"-p", fmt.Sprint(at)},
			args...)...)
	}
	l.begin()
	start := func() *exec.Cmd {
		c := l.daemon("redis-server", conf)
		l.listening(fmt.Sprintf("127.0.0.1:%d", at))
		return c
	}
	run := start()
	l.ordinary("3000 commands, savings, a restart and a rotation", func() {
		for i := range 30 {
			cli("eval", "for i=1,100 do redis.call('set', 'k'..i, i) end", "0")
			cli("bgsave")
			switch i {
			case 10:
				stop(run)
				run = start()
			case 20:
				require.NoError(l, os.Rename(l.logs+"/redis-server.log", l.logs+"/redis-server.log.1"))
			}
		}
	})
	l.fault("it cannot save", "redis-save-fails", "error", func() {
		require.NoError(l, os.Mkdir(l.dir+"/saved/not-a-file.rdb", 0o755))
		cli("config", "set", "dbfilename", "not-a-file.rdb")
		l.until("saving has begun", func() bool { return strings.Contains(cli("bgsave"), "started") })
	})
	l.mended("it can again", "redis-save-fails", func() {
		cli("config", "set", "dbfilename", "dump.rdb")
		l.until("saving has begun", func() bool { return strings.Contains(cli("bgsave"), "started") })
	})
	l.fault("its master is away", "redis-replica-cut-off", "warning", func() {
		cli("replicaof", "127.0.0.1", fmt.Sprint(away))
	})
	l.mended("it is a master again", "redis-replica-cut-off", func() { cli("replicaof", "no", "one") })
	l.fault("another one wants its port", "redis-crash", "critical", func() { l.run("redis-server", conf) })
	l.rest("", "redis-down")
}
