package service

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/hosts"
	"dimlantern/hosts/sim"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// machine is a service that runs, with its settings, data and logs in a folder of its own.
type machine struct {
	t    *testing.T
	name string
	box  string // what the system calls it; "" is the name
	dir  string
	s    *Service
	stop func()
}

func newMachine(t *testing.T, name, settings string) *machine {
	m := &machine{t: t, name: name, dir: t.TempDir(), stop: func() {}}
	m.write("settings/own.lantern", settings)
	t.Cleanup(func() { m.stop() })
	return m
}

func (m *machine) write(name, text string) {
	path := filepath.Join(m.dir, name)
	require.NoError(m.t, os.MkdirAll(filepath.Dir(path), 0o755))
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	require.NoError(m.t, err)
	_, err = f.WriteString(text)
	require.NoError(m.t, err)
	require.NoError(m.t, f.Close())
}

func (m *machine) log(text string, v ...any) {
	f, err := os.OpenFile(filepath.Join(m.dir, "app.log"), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	require.NoError(m.t, err)
	_, err = fmt.Fprintf(f, text, v...)
	require.NoError(m.t, err)
	require.NoError(m.t, f.Close())
}

func (m *machine) data() string { return filepath.Join(m.dir, "data") }

func (m *machine) start() {
	s, err := Open(Options{Settings: filepath.Join(m.dir, "settings"), Data: m.data(), Host: cmp.Or(m.box, m.name),
		Version: "1.0"})
	require.NoError(m.t, err)
	m.s = s
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Run(ctx) }()
	m.stop = func() {
		stop()
		require.NoError(m.t, <-done)
		m.stop = func() {}
	}
}

// until waits for a condition.
func (m *machine) until(what string, is func() bool) {
	m.t.Helper()
	require.Eventually(m.t, is, 20*time.Second, 10*time.Millisecond, what)
}

// open are the open alerts as screens would show them: rule and key.
func (m *machine) open() []string {
	v, err := m.s.query.View(context.Background(), api.ViewQuery{Columns: 60, Column: time.Minute})
	require.NoError(m.t, err)
	out := []string{}
	for _, r := range v.Open {
		out = append(out, fmt.Sprint(r.Rule, r.Key))
	}
	return out
}

// join lets a machine join the centre under its name.
func (m *machine) join(centre *machine) {
	code, _, err := centre.s.centre.c.Invite(context.Background(), []string{m.name}, 1, time.Hour, "127.0.0.1", "")
	require.NoError(m.t, err)
	read, err := hosts.ReadCode(code.Text())
	require.NoError(m.t, err)
	_, err = hosts.Join(context.Background(), read, m.name, "1.0", m.data(), false)
	require.NoError(m.t, err)
}

// takesIn starts a centre and lets machines join it and run its settings.
func (m *machine) takesIn(list ...*machine) {
	m.t.Helper()
	m.start()
	m.until("the centre listens", func() bool { return m.s.window.Now().Hosts != nil })
	for _, x := range list {
		x.join(m)
		x.start()
		m.until(x.name+" reports", func() bool { return m.host(x.name).State.Version != "" })
	}
	m.roll("all")
}

// roll makes a revision for all hosts.
func (m *machine) roll(to ...string) *hosts.RollDone {
	m.t.Helper()
	done, err := m.s.centre.c.Roll(hosts.RollQuery{To: to}, true)
	require.NoError(m.t, err)
	return done
}

// answered asks the ledger, and waits for the whole answer.
func (m *machine) answered(text string) (v *api.LedgerView) {
	q := api.LedgerQuery{Room: "test", Text: text}
	m.until("an answer", func() bool {
		var err error
		v, err = m.s.ledger.Ask(context.Background(), q)
		require.NoError(m.t, err)
		if v != nil {
			require.Empty(m.t, v.Problems)
			q.Seen = v.Version
		}
		return v != nil && v.Done
	})
	return v
}

func (m *machine) host(name string) *hosts.Status {
	if h := m.s.window.Now().Hosts.Host(name); h != nil {
		return h
	}
	return &hosts.Status{}
}

const pumpsGroup = `settings { centre listen "127.0.0.1:0" }
group pumps {
  hosts "pump-*"
}
source app {
  files "/tmp/**/app.log", "/var/tmp/**/app.log"
  begin oldest
  for   pumps
}
rule low {
  on       app
  problem  /pump (?<pump>\d+) low/
  recovery /pump (?<pump>\d+) fine/
  per      pump
  raise    warning
  say      "Pump {pump} is low"
  for      pumps
}
`

// A host runs what the centre rolls out, and what it decides stands at the centre; what people do there reaches it;
// it goes on by itself while the centre is away, and nothing is lost or doubled.
func TestCentreAndHost(t *testing.T) {
	centre := newMachine(t, "mast", pumpsGroup)
	centre.start()
	centre.until("the centre listens", func() bool { return centre.s.window.Now().Hosts != nil })
	p, err := centre.s.bench.Put(context.Background(), api.PutQuery{Files: []api.BenchSave{{
		File: filepath.Join(centre.dir, "settings/own.lantern"), Body: pumpsGroup}}})
	require.NoError(t, err)
	require.Equal(t, []string{"pumps"}, p.Goes)
	pump := newMachine(t, "pump-1", `settings { centre may read "/**" }`)
	pump.join(centre)
	text, err := os.ReadFile(filepath.Join(pump.dir, "settings/own.lantern"))
	require.NoError(t, err)
	require.Contains(t, string(text), "centre may read")
	pump.write("app.log", "")
	pump.start()
	centre.until("the host reports", func() bool { return !centre.host("pump-1").Heard.IsZero() })

	// The glob finds this log alone.
	sent := fmt.Sprintf("%s/app.log", pump.dir)
	centre.write("settings/own.lantern", replaced(pumpsGroup, `"/tmp/**/app.log", "/var/tmp/**/app.log"`, `"`+sent+`"`))
	centre.until("the settings are taken up", func() bool {
		src := centre.s.window.Now().Settings.Source("app")
		return src != nil && len(src.Files) == 1
	})
	require.Equal(t, []string{"pump-1"}, centre.roll("group pumps").Hosts)
	centre.until("revision 1 runs", func() bool { return centre.host("pump-1").State.Runs.Number == 1 })

	pump.log("pump 7 low\n")
	centre.until("the alert is there", func() bool { return len(centre.open()) == 1 })
	require.Equal(t, []string{"low[7 pump-1]"}, centre.open())
	require.Equal(t, []string{"low[7]"}, pump.open())
	id := ""
	another := func(was string) {
		centre.until("what is published has come as far as the store", func() bool {
			centre.s.window.Now().Engine.Open(func(k *engine.KeyView) bool { id = k.Alert; return true })
			return id != was
		})
	}
	another("")
	mine, ok := pump.s.window.Now().Engine.Find(id)
	require.True(t, ok, "the alert has one identifier")
	require.Equal(t, []string{"7"}, mine.Key)

	// What is done at the centre holds there at once, and on the host later.
	_, err = centre.s.Act(context.Background(), api.ActQuery{What: "take", Alert: id,
		Person: api.Person{By: "mara"}})
	require.NoError(t, err)
	pump.until("it is taken on the host", func() bool { return pump.s.window.Now().Taken[id] == "mara" })
	require.Equal(t, "mara", centre.s.window.Now().Taken[id])

	// Away, the host goes on.
	centre.stop()
	pump.log("pump 7 fine\npump 8 low\n")
	pump.until("the host judges by itself", func() bool {
		return len(pump.open()) == 1 &&
			pump.open()[0] == "low[8]"
	})
	pump.stop()
	pump.start()
	address := pump.s.joined.id.Address
	centre.write("settings/own.lantern", replaced(pumpsGroup, `"/tmp/**/app.log", "/var/tmp/**/app.log"`, `"`+sent+`"`,
		"127.0.0.1:0", address))
	centre.start()
	centre.until("the centre has caught up", func() bool {
		return fmt.Sprint(centre.open()) == "[low[8 pump-1]]"
	})
	changes, err := centre.s.store.Changes(id)
	require.NoError(t, err)
	var list []string
	for _, c := range changes {
		require.Equal(t, "pump-1", c.Reporter)
		list = append(list, c.Change)
	}
	require.Equal(t, []string{engine.Raised, engine.Taken, engine.Cleared}, list)

	// A person at the centre ends an alert, and the host does it.
	another(id)
	_, err = centre.s.Clear(context.Background(), api.ClearQuery{Alert: id, Person: api.Person{By: "mara"}})
	require.NoError(t, err)
	centre.until("it is over", func() bool { return len(centre.open()) == 0 && len(pump.open()) == 0 })
	changes, err = centre.s.store.Changes(id)
	require.NoError(t, err)
	require.Equal(t, "mara", changes[len(changes)-1].By)

	// Forgotten, it may not speak any more.
	pump.log("pump 9 low\n")
	centre.until("another alert", func() bool { return len(centre.open()) == 1 })
	require.NoError(t, centre.s.Forget(context.Background(), "pump-1"))
	require.Empty(t, centre.open())
	pump.log("pump 10 low\n")
	pump.until("the host goes on", func() bool { return len(pump.open()) == 2 })
	pump.until("the host is cut off", func() bool { return !pump.s.window.Now().Link.Up })
	require.Empty(t, centre.open())
}

func replaced(text string, pairs ...string) string {
	return strings.NewReplacer(pairs...).Replace(text)
}

// Keys of hosts that are near a threshold stir at the centre as well, until their recovery comes.
func TestKeysOfHostsStir(t *testing.T) {
	centre := newMachine(t, "mast", "")
	pump := newMachine(t, "pump-1", "")
	pump.write("settings/own.lantern", fmt.Sprintf("settings { centre may read %q }\n", pump.dir+"/**"))
	centre.write("settings/own.lantern", replaced(pumpsGroup, `"/tmp/**/app.log", "/var/tmp/**/app.log"`,
		fmt.Sprintf("%q", pump.dir+"/app.log"), "raise    warning", "raise    warning at 3 in 5m"))
	pump.write("app.log", "pump 7 low\npump 7 low\n")
	centre.takesIn(pump)
	stir := func() (out []string) {
		v, err := centre.s.query.View(context.Background(), api.ViewQuery{Columns: 60, Column: time.Minute})
		require.NoError(t, err)
		for _, r := range v.Stirring {
			out = append(out, fmt.Sprint(r.Rule, r.Key, " ", r.Note))
		}
		return out
	}
	centre.until("it stirs", func() bool { return fmt.Sprint(stir()) == "[low[7 pump-1] 2 of 3 in 5m]" })
	pump.log("pump 7 fine\n")
	centre.until("its recovery comes", func() bool { return len(stir()) == 0 })
	require.Empty(t, centre.open())
}

// A question goes to the hosts that have the logs, and what they answer is what one machine would answer that has
// them all; who does not answer is named.
func TestQuestionsToHosts(t *testing.T) {
	centre := newMachine(t, "mast", "")
	var globs []string
	pumps := []*machine{newMachine(t, "pump-1", ""), newMachine(t, "pump-2", ""), newMachine(t, "pump-3", "")}
	for i, p := range pumps {
		p.box = "box"
		p.write("settings/own.lantern", fmt.Sprintf("settings { centre may read %q }\n", p.dir+"/**"))
		globs = append(globs, fmt.Sprintf("%q", p.dir+"/app.log"))
		for n := range 20 * (i + 1) {
			p.log("took %d ms\n", n)
		}
	}
	centre.write("settings/own.lantern", fmt.Sprintf(`settings { centre listen "127.0.0.1:0" }
group pumps { hosts "pump-*" }
source app {
  files  %s
  begin  oldest
  layout took
  for    pumps
}
layout took {
  pattern /^took (?<ms>\d+) ms$/
  type    ms integer
}
`, strings.Join(globs, ", ")))
	centre.takesIn(pumps...)
	centre.until("all run it", func() bool {
		for _, p := range pumps {
			if len(centre.host(p.name).State.Origins) == 0 {
				return false
			}
		}
		return true
	})
	answer := func(text string) (rows []string, rests string) {
		v := centre.answered(text)
		for _, g := range v.Groups {
			row := strings.Join(g.Key, " ")
			for _, x := range g.Values {
				row += " " + x.Value
			}
			rows = append(rows, strings.TrimSpace(row))
		}
		return rows, strings.Join(v.Rests, "; ")
	}
	rows, rests := answer("on app show count, max(ms), p50(ms), different(ms) over 1d")
	require.Equal(t, []string{"120 59 19 60"}, rows, rests)
	require.Contains(t, rests, "3 hosts were asked")
	rows, _ = answer("on app show count per reporter over 1d")
	require.Equal(t, []string{"pump-3 60", "pump-2 40", "pump-1 20"}, rows)
	// As a host's source is called at the centre, it is asked of.
	place := ""
	for _, o := range centre.host("pump-1").State.Origins {
		place = hosts.OriginAt("pump-1", o.Name)
	}
	rows, _ = answer(fmt.Sprintf("on app where origin == %q show count over 1d", place))
	require.Equal(t, []string{"20"}, rows, place)
	pumps[1].stop()
	rows, rests = answer("on app show count, sum(ms) over 1d")
	require.Equal(t, []string{"80 1,960"}, rows)
	require.Contains(t, rests, "without pump-2")
}

// A host that is cut off for long tells its own contact, of what has opened meanwhile as well, and of its end; the
// centre tells nobody of what the host has told.
func TestCutOff(t *testing.T) {
	centre := newMachine(t, "mast", "")
	told := filepath.Join(centre.dir, "told")
	script := filepath.Join(centre.dir, "tell.sh")
	centre.write("tell.sh", "#!/bin/sh\nread line\necho \"$1 $line\" >> "+told+"\n")
	require.NoError(t, os.Chmod(script, 0o755))
	pump := newMachine(t, "pump-1", "")
	address := "127.0.0.1:" + freePort(t)
	settings := strings.NewReplacer(`"/tmp/**/app.log", "/var/tmp/**/app.log"`, fmt.Sprintf("%q", pump.dir+"/app.log"),
		`centre listen "127.0.0.1:0"`, fmt.Sprintf("centre listen %q\n  tell crew", address)).Replace(pumpsGroup) +
		fmt.Sprintf("contact crew { command %q \"centre\" }\n", script)
	centre.write("settings/own.lantern", settings)
	pump.write("settings/own.lantern",
		fmt.Sprintf("settings {\n  centre may read %q\n  cut off after 1s tell keeper\n}\n"+
			"contact keeper { command %q \"host\" }\n", pump.dir+"/**", script))
	pump.write("app.log", "")
	centre.takesIn(pump)
	centre.until("revision 1 runs", func() bool { return centre.host("pump-1").State.Runs.Number == 1 })
	said := func() string { b, _ := os.ReadFile(told); return string(b) }
	pump.log("pump 1 low\n")
	centre.until("the centre tells", func() bool { return strings.Contains(said(), "centre") })
	require.NotContains(t, said(), "host ")

	centre.stop()
	pump.log("pump 2 low\n")
	pump.until("the host tells what opened since", func() bool { return strings.Contains(said(), "host ") })
	pump.log("pump 3 low\n")
	pump.until("and what opens then", func() bool { return strings.Count(said(), "host ") == 2 })
	before := strings.Count(said(), "centre ")
	centre.start()
	centre.until("the centre has caught up", func() bool { return len(centre.open()) == 3 })
	pump.log("pump 2 fine\n")
	pump.until("who told the raise tells the end", func() bool { return strings.Count(said(), "host ") == 3 })
	centre.until("it is over at the centre", func() bool { return len(centre.open()) == 2 })
	pump.until("the host knows that the centre tells", func() bool { return pump.s.window.Now().Link.Up })
	pump.log("pump 4 low\n")
	defer func() { t.Log(said()) }()
	centre.until("the centre tells again", func() bool { return strings.Count(said(), "centre ") == before+1 })
	require.Equal(t, 3, strings.Count(said(), "host "))
}

// A host whose data folder is put back from a backup reads anew what it has handed on: a rule that joins hosts counts
// each entry once all the same.
func TestHostPutBack(t *testing.T) {
	centre := newMachine(t, "mast", "")
	pump := newMachine(t, "pump-1", "")
	pump.write("settings/own.lantern", fmt.Sprintf("settings { centre may read %q }\n", pump.dir+"/**"))
	centre.write("settings/own.lantern", replaced(pumpsGroup, `"/tmp/**/app.log", "/var/tmp/**/app.log"`,
		fmt.Sprintf("%q", pump.dir+"/app.log"),
		"raise    warning\n", "raise    warning at 5 in 1h\n  at       centre\n",
		"listen \"127.0.0.1:0\"", "listen \"127.0.0.1:0\"\n  centre wait 1s",
		"for   pumps\n", "for   pumps\n  layout dated\n")+
		"layout dated {\n  pattern /^(?<at>\\S+) (?<text>.*)$/\n  time at rfc3339\n}\n")
	start, n := time.Now().Add(-time.Minute), 0
	low := func(pumps ...int) {
		for _, p := range pumps {
			n++
			pump.log("%s pump %d low\n", start.Add(time.Duration(n)*time.Second).UTC().Format(time.RFC3339Nano), p)
		}
	}
	low(7)
	centre.takesIn(pump)
	hits := func() int64 {
		keys := centre.s.window.Now().Engine
		total := 0
		keys.Keys(func(k *engine.KeyView) bool { total += k.Total; return true })
		return int64(total)
	}
	centre.until("the first is counted", func() bool { return hits() == 1 })
	pump.stop()
	before := filepath.Join(t.TempDir(), "data")
	require.NoError(t, os.CopyFS(before, os.DirFS(pump.data())))
	pump.start()
	low(7, 7)
	centre.until("the next two are counted", func() bool { return hits() == 3 })
	pump.stop()
	require.NoError(t, os.RemoveAll(pump.data()))
	require.NoError(t, os.CopyFS(pump.data(), os.DirFS(before)))
	pump.start()
	low(7)
	centre.until("the fourth is counted", func() bool { return hits() >= 4 })
	low(8)
	centre.until("all that came was judged", func() bool { return hits() >= 5 })
	require.Empty(t, centre.open(), "none was counted twice")
}

// waiting is how many entries of hosts wait for their turn.
func (s *Service) waiting() (n int) {
	s.do(context.Background(), func() error { n = len(s.centre.feeding.queue); return nil })
	return n
}

func freePort(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	return port
}

// What a centre asks beyond what the host allows stays off, and is told on both sides; names that lead elsewhere by
// links are not read.
func TestWhatACentreMayRead(t *testing.T) {
	centre := newMachine(t, "mast", "")
	pump := newMachine(t, "pump-1", "")
	secret := filepath.Join(centre.dir, "secret.log")
	centre.write("secret.log", "pump 9 low\n")
	require.NoError(t, os.MkdirAll(filepath.Join(pump.dir, "logs"), 0o755))
	require.NoError(t, os.Symlink(secret, filepath.Join(pump.dir, "logs", "linked.log")))
	pump.write("logs/app.log", "pump 7 low\n")
	pump.write("other.log", "pump 8 low\n")
	centre.write("settings/own.lantern", strings.NewReplacer(`"/tmp/**/app.log", "/var/tmp/**/app.log"`,
		fmt.Sprintf("%q, %q, %q", pump.dir+"/logs/*.log", pump.dir+"/other.log", secret)).Replace(pumpsGroup)+
		"source ran {\n  command \"/bin/echo\" \"pump 6 low\"\n  for pumps\n}\n")
	pump.write("settings/own.lantern", fmt.Sprintf("settings { centre may read %q }\n", pump.dir+"/logs/**"))
	centre.takesIn(pump)
	centre.until("what may be read is read", func() bool { return len(centre.open()) == 1 })
	require.Equal(t, []string{"low[7 pump-1]"}, centre.open())
	centre.until("what may not is told", func() bool { return len(centre.host("pump-1").State.Beyond) == 3 })
	beyond := strings.Join(centre.host("pump-1").State.Beyond, "\n")
	for _, part := range []string{"other.log is beyond", "secret.log is beyond", "may not run /bin/echo"} {
		require.Contains(t, beyond, part)
	}
	require.Equal(t, pump.s.window.Now().Settings.Beyond, centre.host("pump-1").State.Beyond)
	require.Equal(t, []string{"low[7]"}, pump.open())
}

// gauges are a centre with a rule that joins hosts, and hosts that hand on what it is about.
func gauges(t *testing.T, wait string, names ...string) (centre *machine, joined []*sim.Host) {
	centre = newMachine(t, "mast", fmt.Sprintf(`settings {
  centre listen "127.0.0.1:%s"
  centre wait %s
}
group gauges { hosts "gauge-*" }
source level {
  files  "/var/log/level.log"
  begin  oldest
  layout level-line
  for    gauges
}
layout level-line {
  pattern /^(?<at>\S+) (?<host>\S+) (?<text>.*)$/
  time    at rfc3339
}
rule surge {
  on      level
  problem /high (?<mark>\w+)/
  recovery /low (?<mark>\w+)/
  per     mark
  raise   error at 2 different host in 1m
  clear   after 1h quiet
  say     "{mark}: {count}"
  at      centre
}
`, freePort(t), wait))
	centre.start()
	centre.until("the centre listens", func() bool { return centre.s.window.Now().Hosts != nil })
	shared := &sim.Shared{}
	for _, name := range names {
		code, _, err := centre.s.centre.c.Invite(context.Background(), nil, 1, time.Hour, "127.0.0.1", "")
		require.NoError(t, err)
		h, err := sim.Join(context.Background(), code, sim.Options{Name: name, Data: filepath.Join(centre.dir, name),
			Shared: shared})
		require.NoError(t, err)
		t.Cleanup(h.Kill)
		joined = append(joined, h)
	}
	centre.roll("all")
	for _, name := range names {
		centre.until(name+" runs it", func() bool { return centre.host(name).State.Runs.Number == 1 })
	}
	return centre, joined
}

// surges are the changes of the rule that joins gauges, in their order.
func (m *machine) surges() (out []string) {
	require.NoError(m.t, m.s.store.Lines(0, 0, func(_ int64, line string) {
		var c engine.Transition
		require.NoError(m.t, c.UnmarshalJSON([]byte(line)))
		if c.Rule == "surge" {
			out = append(out, c.Change+" "+strings.Join(c.Key, " "))
		}
	}))
	return out
}

func gaugeLine(at time.Time, host, text string) string {
	return at.UTC().Format("2006-01-02T15:04:05.000Z") + " " + host + " " + text
}

// However a log is split over hosts, in whatever order what they say reaches the centre, and where the centre ends in
// between: a rule that joins them changes as on one machine that read all.
func TestAsOneMachine(t *testing.T) {
	names := []string{"gauge-a", "gauge-b", "gauge-c"}
	centre, joined := gauges(t, "1m", names...)
	readTo := func(at time.Time) {
		for _, h := range joined {
			h.ReadTo(at)
		}
	}
	readTo(time.Now())
	round := 0
	rapid.Check(t, func(r *rapid.T) {
		if round++; round > 50 && os.Getenv("DIMLANTERN_LONG") == "" {
			return // each waits for rounds of hosts and centre
		}
		began := time.Now().Truncate(time.Millisecond).Add(time.Millisecond)
		said := make([][]string, len(joined)) // by each
		var want []string
		hosts, open := map[string]map[int]bool{}, map[string]bool{}
		n := rapid.IntRange(1, 14).Draw(r, "entries")
		for i := range n {
			at := began.Add(time.Duration(i) * time.Millisecond)
			by := rapid.IntRange(0, len(joined)-1).Draw(r, "by")
			mark := fmt.Sprintf("m%dx%d", round, rapid.IntRange(0, 1).Draw(r, "mark"))
			if rapid.IntRange(0, 3).Draw(r, "low") == 0 {
				said[by] = append(said[by], gaugeLine(at, names[by], "low "+mark))
				if open[mark] {
					want = append(want, "cleared "+mark)
				}
				hosts[mark], open[mark] = nil, false
				continue
			}
			said[by] = append(said[by], gaugeLine(at, names[by], "high "+mark))
			if hosts[mark] == nil {
				hosts[mark] = map[int]bool{}
			}
			hosts[mark][by] = true
			if len(hosts[mark]) == 2 && !open[mark] {
				want, open[mark] = append(want, "raised "+mark), true
			}
		}
		ends := rapid.IntRange(0, 40*n).Draw(r, "the centre ends before")
		for i := range n {
			if i == ends {
				centre.stop()
				centre.start()
			}
			var left []int
			for by := range said {
				if len(said[by]) > 0 {
					left = append(left, by)
				}
			}
			by := rapid.SampledFrom(left).Draw(r, "says")
			joined[by].Log("level", said[by][0])
			said[by] = said[by][1:]
		}
		to := began.Add(time.Duration(n) * time.Millisecond)
		readTo(to)
		centre.until("all had their turn", func() (had bool) {
			centre.s.do(context.Background(), func() error {
				f := &centre.s.centre.feeding
				had = len(f.queue) == 0 && len(f.reached) == len(joined)
				for _, at := range f.reached {
					had = had && at >= entry.Of(to)
				}
				return nil
			})
			return had
		})
		var got []string
		for _, c := range centre.surges() {
			if strings.Contains(c, fmt.Sprintf(" m%dx", round)) {
				got = append(got, c)
			}
		}
		require.Equal(r, want, got)
	})
}

// A rule that joins hosts waits for one that is behind, and not for one that says nothing any more. What comes after
// that is late, and judged as it comes.
func TestEntriesHaveTheirTurn(t *testing.T) {
	centre, joined := gauges(t, "2s", "gauge-a", "gauge-b")
	a, b := joined[0], joined[1]
	began := time.Now()
	line := func(after time.Duration, host, text string) string { return gaugeLine(began.Add(after), host, text) }
	// b is behind: what a says waits for it, so the recovery of b, which is older, comes first.
	b.ReadTo(began.Add(-time.Minute))
	centre.until("b is known to be behind", func() (known bool) {
		centre.s.do(context.Background(), func() error {
			known = len(centre.s.centre.feeding.reached) == 1
			return nil
		})
		return known
	})
	a.Log("level", line(-20*time.Second, "a", "high one"), line(-5*time.Second, "a", "high two"))
	a.ReadTo(began)
	b.Log("level", line(-25*time.Second, "b", "high one"), line(-10*time.Second, "b", "high two"),
		line(-8*time.Second, "b", "low two"))
	centre.until("both entries wait", func() bool {
		b.ReadTo(began.Add(-time.Minute)) // as hosts say it again and again
		return centre.s.waiting() == 5
	})
	require.Empty(t, centre.surges(), "nobody's turn has come while one is behind")
	b.ReadTo(began)
	centre.until("they had their turn", func() bool { return len(centre.surges()) == 1 })
	require.Equal(t, []string{"raised one"}, centre.surges(), "two was over before a said it")

	// b says nothing any more: after the wait a's entries have their turn without it.
	b.Kill()
	a.Log("level", line(time.Second, "a", "high three"))
	a.ReadTo(began.Add(10 * time.Second))
	a.Log("level", line(2*time.Second, "c", "high three"))
	for !slices.Contains(centre.surges(), "raised three") {
		a.ReadTo(time.Now())
		require.Less(t, time.Since(began), 30*time.Second)
		time.Sleep(20 * time.Millisecond)
	}
	// What b had to say is late, and judged as it comes: it ends what came before.
	b.Start()
	b.Log("level", line(1500*time.Millisecond, "b", "low three"))
	b.ReadTo(time.Now())
	centre.until("the late one is judged", func() bool { return slices.Contains(centre.surges(), "cleared three") })
}
