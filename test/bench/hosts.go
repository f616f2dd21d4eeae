package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"dimlantern/api"
	"dimlantern/hosts"
	"dimlantern/hosts/sim"
	"dimlantern/service"
)

var (
	onlyHosts = flag.Bool("only-hosts", false, "measure many machines alone")
	hostCount = flag.Int("hosts", 1000, "how many simulated hosts join")
	deadFor   = flag.Duration("dead", time.Minute, "how long the centre is dead")
)

// mast is a centre in a process of its own, and hosts that have joined it in this one.
type mast struct {
	dir   string
	cmd   *exec.Cmd
	hosts []*sim.Host
	lines func(line []byte) // what it prints of each transition
	mu    sync.Mutex
}

const mastSettings = `settings { centre listen "127.0.0.1:%d" }
group all { hosts "h-*" }
group feeds { hosts "feed-*" }
source app {
  files "/var/log/app.log"
  for   everyone, feeds
}
rule low {
  on       app
  problem  /pump (?<pump>\d+) low/
  recovery /pump (?<pump>\d+) fine/
  per      pump
  raise    warning
  for      everyone
}
rule wide {
  on       app
  problem  /gate (?<gate>\d+) leaks/
  per      gate
  raise    warning at 1000000
  raise    error at 2 different origin in 10s
  clear    after 5s quiet
  at       centre
}
`

// startMast starts a centre.
func startMast() *mast {
	dir, err := os.MkdirTemp("", "dl-mast-")
	must(err)
	m := &mast{dir: dir}
	must(os.MkdirAll(filepath.Join(dir, "settings"), 0o755))
	text := strings.Replace(fmt.Sprintf(mastSettings, 27422), "group all", "group everyone", 1)
	must(os.WriteFile(filepath.Join(dir, "settings", "all.lantern"), []byte(text), 0o644))
	m.start()
	return m
}

func (m *mast) data() string { return filepath.Join(m.dir, "data") }

func (m *mast) start() {
	m.cmd = exec.Command("./dimlantern", "watch", "--json", "--settings", filepath.Join(m.dir, "settings"), "--data",
		m.data())
	m.cmd.Stderr = io.Discard
	out, err := m.cmd.StdoutPipe()
	must(err)
	must(m.cmd.Start())
	go func() {
		s := bufio.NewScanner(out)
		s.Buffer(nil, 1<<20)
		for s.Scan() {
			m.mu.Lock()
			f := m.lines
			m.mu.Unlock()
			if f != nil {
				f(s.Bytes())
			}
		}
	}()
	for began := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		if _, err := api.DoInvite.Call(context.Background(), service.Join(m.data()), api.InviteQuery{}); err == nil {
			return
		} else if time.Since(began) > 30*time.Second {
			must(err)
		}
	}
}

func (m *mast) hear(f func(line []byte)) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.lines = f
}

func (m *mast) kill() {
	m.cmd.Process.Kill()
	m.cmd.Wait()
}

// join lets so many hosts join.
func (m *mast) join(n int, kind string, shared *sim.Shared) []*sim.Host {
	done, err := api.DoInvite.Call(context.Background(), service.Join(m.data()), api.InviteQuery{Hosts: n,
		Address: "127.0.0.1"})
	must(err)
	code, err := hosts.ReadCode(done.Code)
	must(err)
	list := make([]*sim.Host, n)
	var all sync.WaitGroup
	limit := make(chan bool, 16)
	for i := range list {
		all.Go(func() {
			limit <- true
			defer func() { <-limit }()
			name := fmt.Sprintf("%s-%d", kind, i)
			h, err := sim.Join(context.Background(), code, sim.Options{Name: name, Data: filepath.Join(m.dir, "hosts",
				name),
				Shared: shared})
			must(err)
			list[i] = h
		})
	}
	all.Wait()
	m.hosts = append(m.hosts, list...)
	return list
}

func (m *mast) roll() {
	_, err := api.DoRoll.Call(context.Background(), service.Join(m.data()), api.RollQuery{To: []string{"all"},
		Do: true})
	must(err)
	for _, h := range m.hosts {
		for {
			s, err := h.State(context.Background())
			must(err)
			if s.Runs.Number > 0 {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
}

// ticks are those of a process, a hundred a second.
func ticks(pid int) int {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	must(err)
	f := strings.Fields(string(b[bytes.LastIndexByte(b, ')')+1:]))
	user, _ := strconv.Atoi(f[11])
	system, _ := strconv.Atoi(f[12])
	return user + system
}

// resident is how much memory a process has, in MiB.
func resident(pid int) int {
	b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for _, line := range strings.Split(string(b), "\n") {
		if v, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			n, _ := strconv.Atoi(strings.Fields(v)[0])
			return n >> 10
		}
	}
	return 0
}

// committed waits until the centre has all, and answers how long that took.
func (m *mast) committed() time.Duration {
	began := time.Now()
	for {
		v, err := api.AskHosts.Call(context.Background(), service.Join(m.data()), api.ViewQuery{Column: time.Minute,
			Columns: 1})
		if err == nil {
			left := int64(0)
			for i := range v.Hosts {
				left += v.Hosts[i].Waits
			}
			if left == 0 && allSaid(m, v) {
				return time.Since(began)
			}
		}
		time.Sleep(100 * time.Millisecond)
		if time.Since(began) > 5*time.Minute {
			fmt.Println("    IT DID NOT CATCH UP")
			return time.Since(began)
		}
	}
}

// allSaid asks each host to say how it is, so that what the centre knows is not of before.
func allSaid(m *mast, v *api.HostsView) bool {
	for _, h := range m.hosts {
		h.Say()
	}
	time.Sleep(200 * time.Millisecond)
	w, err := api.AskHosts.Call(context.Background(), service.Join(m.data()), api.ViewQuery{Column: time.Minute,
		Columns: 1})
	if err != nil {
		return false
	}
	for i := range w.Hosts {
		if w.Hosts[i].Waits > 0 || !w.Hosts[i].Reports {
			return false
		}
	}
	return len(w.Hosts) == len(v.Hosts)
}

// manyHosts measures the sizes of many machines.
func manyHosts() {
	m := startMast()
	defer os.RemoveAll(m.dir)
	defer m.kill()
	shared := &sim.Shared{}
	began := time.Now()
	list := m.join(*hostCount, "h", shared)
	fmt.Printf("%d hosts joined in %.1f s, each with a key of its own\n", len(list), time.Since(began).Seconds())
	began = time.Now()
	m.roll()
	fmt.Printf("a revision for all of them ran on each after %.1f s\n", time.Since(began).Seconds())

	time.Sleep(12 * time.Second)
	before := ticks(m.cmd.Process.Pid)
	time.Sleep(30 * time.Second)
	fmt.Printf("at rest: the centre takes %.1f %% of a core (aim 10), %d MiB (aim 400)\n",
		float64(ticks(m.cmd.Process.Pid)-before)/30, resident(m.cmd.Process.Pid))

	// Transitions, as fast as they come.
	var seen atomic.Int64
	m.hear(func([]byte) { seen.Add(1) })
	began = time.Now()
	const rounds = 20
	for k := range rounds {
		for i, h := range list {
			pump := k*len(list) + i
			h.Log("app", fmt.Sprintf("pump %d low", pump), fmt.Sprintf("pump %d fine", pump))
		}
	}
	want := int64(2 * rounds * len(list))
	for seen.Load() < want && time.Since(began) < 2*time.Minute {
		time.Sleep(5 * time.Millisecond)
	}
	took := time.Since(began)
	fmt.Printf("transitions: %d of %d taken at the centre in %.1f s, %.0f a second (aim 5,000)\n", seen.Load(), want,
		took.Seconds(), float64(seen.Load())/took.Seconds())

	// From a host's commit to the centre's, at 500 a second.
	var mu sync.Mutex
	said := map[string]time.Time{}
	var lags []time.Duration
	m.hear(func(line []byte) {
		var t struct {
			Change string
			Key    map[string]string
		}
		if json.Unmarshal(line, &t) != nil || t.Change != "raised" {
			return
		}
		mu.Lock()
		defer mu.Unlock()
		if at, ok := said[t.Key["pump"]]; ok {
			lags = append(lags, time.Since(at))
		}
	})
	began = time.Now()
	for k := range 250 * 8 {
		time.Sleep(time.Until(began.Add(time.Duration(k) * 4 * time.Millisecond)))
		pump := fmt.Sprint(10_000_000 + k)
		mu.Lock()
		said[pump] = time.Now()
		mu.Unlock()
		list[k%len(list)].Log("app", "pump "+pump+" low", "pump "+pump+" fine")
	}
	time.Sleep(time.Second)
	mu.Lock()
	slices.Sort(lags)
	if n := len(lags); n > 0 {
		fmt.Printf("at 500 transitions a second: from a host's commit to the centre's p50 %.0f ms, "+
			"p99 %.0f ms (aim 300), worst %.0f ms, of %d\n", ms(lags[n/2]), ms(lags[n*99/100]), ms(lags[n-1]), n)
	}
	mu.Unlock()
	m.hear(nil)
	m.joining(list, shared)
	m.outage(list)
}

// joining measures a rule that joins hosts.
func (m *mast) joining(list []*sim.Host, shared *sim.Shared) {
	feeds := list
	var mu sync.Mutex
	said := map[string]time.Time{}
	var lags []time.Duration
	m.hear(func(line []byte) {
		var t struct {
			Change, Rule string
			Key          map[string]string
		}
		if json.Unmarshal(line, &t) != nil || t.Rule != "wide" || t.Change != "raised" {
			return
		}
		mu.Lock()
		defer mu.Unlock()
		if at, ok := said[t.Key["gate"]]; ok {
			lags = append(lags, time.Since(at))
			delete(said, t.Key["gate"])
		}
	})
	stop := make(chan bool)
	var all sync.WaitGroup
	all.Go(func() { // all say how far they have read, each second
		for {
			select {
			case <-stop:
				return
			case <-time.After(time.Second):
				for _, h := range feeds {
					h.Advance()
				}
			}
		}
	})
	// Held clauses as fast as they come.
	const per, rounds = 200, 3
	lines := make([]string, per)
	before := ticks(m.cmd.Process.Pid)
	began := time.Now()
	for k := range rounds {
		for i, h := range feeds {
			for j := range lines {
				lines[j] = fmt.Sprintf("gate %d leaks", (i*per+j+k)%5000)
			}
			h.Log("app", lines...)
		}
	}
	made := time.Since(began)
	total := per * rounds * len(feeds)
	for began := time.Now(); time.Since(began) < 3*time.Minute; time.Sleep(50 * time.Millisecond) {
		v, err := api.AskRules.Call(context.Background(), service.Join(m.data()), api.None{})
		if err == nil {
			i := slices.IndexFunc(v.Rules, func(r api.RuleCost) bool { return r.Rule == "wide" })
			if i >= 0 && v.Rules[i].Hits >= int64(total) {
				break
			}
		}
	}
	took := time.Since(began)
	cpu := float64(ticks(m.cmd.Process.Pid)-before) / 100
	fmt.Printf("a rule at centre over %d hosts: %d held clauses judged in %.1f s, %.0f a second (aim 50,000), "+
		"on both cores together with the hosts that made them in %.1f s; %.0f a second of the centre's own time\n",
		len(feeds),
		total,
		took.Seconds(), float64(total)/took.Seconds(), made.Seconds(), float64(total)/cpu)

	// From the second entry to the raise.
	time.Sleep(7 * time.Second)
	for k := range 200 {
		gate := fmt.Sprint(1_000_000 + k)
		feeds[(2*k)%len(feeds)].Log("app", "gate "+gate+" leaks")
		mu.Lock()
		said[gate] = time.Now()
		mu.Unlock()
		feeds[(2*k+1)%len(feeds)].Log("app", "gate "+gate+" leaks")
		time.Sleep(20 * time.Millisecond)
	}
	time.Sleep(4 * time.Second)
	close(stop)
	all.Wait()
	mu.Lock()
	defer mu.Unlock()
	slices.Sort(lags)
	if n := len(lags); n > 0 {
		fmt.Printf("    raised after the entry: p50 %.1f s, p99 %.1f s (aim 2), of %d\n", lags[n/2].Seconds(),
			lags[n*99/100].Seconds(), n)
	}
}

// outage measures how the centre catches up after it was dead.
func (m *mast) outage(list []*sim.Host) {
	m.hear(nil)
	m.committed()
	raised := func() (n int64) {
		for _, h := range list {
			n += h.Decided()
		}
		return n
	}
	count := func() int64 {
		out, err := exec.Command("./dimlantern", "history", "--data", m.data(), "--json", "--rule", "low").Output()
		must(err)
		return int64(bytes.Count(out, []byte("\n")))
	}
	before, had := raised(), count()
	m.kill()
	began := time.Now()
	for k := 0; time.Since(began) < *deadFor; k++ {
		time.Sleep(time.Until(began.Add(time.Duration(k) * 100 * time.Millisecond)))
		for i := range min(10, len(list)) { // 200 held clauses a second each
			lines := make([]string, 20)
			for j := range lines {
				lines[j] = fmt.Sprintf("gate %d leaks", (k*20+j)%500)
			}
			list[i].Log("app", lines...)
		}
		if h := list[k%len(list)]; k%2 == 0 {
			h.Log("app", fmt.Sprintf("pump %d low", k), fmt.Sprintf("pump %d fine", k))
		}
	}
	m.start()
	took := m.committed()
	made, came := raised()-before, count()-had
	fmt.Printf("the centre dead for %s: caught up %.1f s after its start (aim 60); %d transitions of hosts meanwhile, "+
		"%d lost, %d doubled\n", *deadFor, took.Seconds(), made, max(made-came, 0), max(came-made, 0))
}

// machine is a service in this process.
type machine struct {
	s    *service.Service
	desk *api.Desk
	end  func()
}

func startMachine(dir, name, settings string) *machine {
	must(os.MkdirAll(filepath.Join(dir, "settings"), 0o755))
	must(os.WriteFile(filepath.Join(dir, "settings", "own.lantern"), []byte(settings), 0o644))
	s, err := service.Open(service.Options{Settings: filepath.Join(dir, "settings"), Data: filepath.Join(dir, "data"),
		Host: name})
	must(err)
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Run(ctx) }()
	return &machine{s, s.Desk(), func() { stop(); <-done }}
}

// asked answers a question, and says how long that took and what came.
func (m *machine) asked(text string) (took time.Duration, count string, rests []string) {
	began := time.Now()
	q := api.LedgerQuery{Room: "bench", Text: text}
	for {
		v, err := api.AskLedger.Call(context.Background(), m.desk, q)
		must(err)
		if v != nil && len(v.Problems) > 0 {
			must(fmt.Errorf("%v", v.Problems))
		}
		if v != nil && v.Done {
			if len(v.Groups) > 0 {
				count = v.Groups[0].Values[0].Value
			}
			return time.Since(began), count, v.Rests
		}
		if v != nil {
			q.Seen = v.Version
		}
	}
}

// questions measure a question to 20 hosts with 50 MB each.
func questions() {
	const n, size = 20, 50 << 20
	dir, err := os.MkdirTemp("", "dl-ask-")
	must(err)
	defer os.RemoveAll(dir)
	centre := startMachine(filepath.Join(dir, "mast"), "mast", fmt.Sprintf(`settings { centre listen "127.0.0.1:27423" }
group all-of-them { hosts "h-*" }
source app {
  files "%s/h-*/app.log"
  begin oldest
  for   all-of-them
}
`, dir))
	defer centre.end()
	var list []*machine
	for i := range n {
		name := fmt.Sprintf("h-%d", i)
		at := filepath.Join(dir, name)
		must(os.MkdirAll(filepath.Join(at, "data"), 0o755))
		makeLog(filepath.Join(at, "app.log"), size, kinds[0], 10, 2)
		done, err := api.DoInvite.Call(context.Background(), centre.desk, api.InviteQuery{Address: "127.0.0.1"})
		must(err)
		code, err := hosts.ReadCode(done.Code)
		must(err)
		_, err = hosts.Join(context.Background(), code, name, "1", filepath.Join(at, "data"), false)
		must(err)
		m := startMachine(at, name, fmt.Sprintf("settings { centre may read %q }\n", at+"/**"))
		defer m.end()
		list = append(list, m)
	}
	_, err = api.DoRoll.Call(context.Background(), centre.desk, api.RollQuery{To: []string{"all"}, Do: true})
	must(err)
	for began := time.Now(); time.Since(began) < time.Minute; time.Sleep(200 * time.Millisecond) {
		v, err := api.AskHosts.Call(context.Background(), centre.desk, api.ViewQuery{Column: time.Minute, Columns: 1})
		must(err)
		ready := 0
		for i := range v.Hosts {
			if len(v.Hosts[i].Origins) > 0 && v.Hosts[i].Origins[0].State == "seen" {
				ready++
			}
		}
		if ready == n {
			break
		}
	}
	time.Sleep(3 * time.Second)
	const ask = "on app where /answered (?<late>late)/ show count, different(late) over 1d"
	sum := time.Duration(0)
	for _, m := range list {
		m.asked(ask) // what lies where is known then
	}
	// A host that is asked alone reads with all cores that there are. The half of the sum is what two cores could do at
	// best where each host has one, so each is asked with one.
	cores := runtime.GOMAXPROCS(1)
	for _, m := range list {
		took, _, _ := m.asked(ask + " ")
		sum += took
	}
	runtime.GOMAXPROCS(cores)
	centre.asked(ask)
	took, count, rests := centre.asked(ask + "  ")
	fmt.Printf("a question to %d hosts with 50 MB each: %.0f ms, %.2f × (the sum of their times alone "+
		"on one core / 2), aim 1.3; %s fit; %s\n",
		n, ms(took), float64(took)/(float64(sum)/2), count, strings.Join(rests, "; "))
}
