// Package sim is hosts that exist only in memory: they join a centre, take up its settings and report to it as
// others do, with the same code, but what they log is handed to them, and nothing of them outlives the process.
// The demo, tests and benchmarks use them.
package sim

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/s2"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/core/trial"
	"dimlantern/core/verdict"
	"dimlantern/folder"
	"dimlantern/hosts"
)

// bucket is how long a bucket of the tide is; see store.Bucket.
const bucket = 10 * time.Second

// Options say what a host is.
type Options struct {
	Name     string
	OS       string // "linux" where it is empty
	Version  string
	Programs []string
	Local    []folder.Text // what is written on it
	Data     string        // a folder for its identity and its revision
	Log      *slog.Logger
	Shared   *Shared // what hosts of one process share
	Keeps    int     // how much of what each log has said is kept for samples and questions, in bytes
	// Ask answers a question of the ledger for a host of that name, by texts, which are its settings, over what it has
	// said. Nil is a host that answers none.
	Ask func(ctx context.Context, q []byte, name string, texts []folder.Text, said []Said) ([]byte, error)
}

// Said is a file with what a source of a host has said lately; Origin is how the host calls that.
type Said struct{ Source, Origin, Path string }

// Shared keeps what several hosts of one process would make alike.
type Shared struct {
	mu   sync.Mutex
	made map[string]*made
}

// made is settings that were checked and compiled.
type made struct {
	texts    []folder.Text
	settings *lang.Settings
	rules    []*lang.Rule // for the engine
	feeds    []*lang.Rule // that are judged at the centre
	blocks   []hosts.Block
	refusal  *hosts.Refusal
}

// Host is a simulated host. Its methods may be called concurrently.
type Host struct {
	o      Options
	member *hosts.Member
	run    string
	end    func()

	mu       sync.Mutex
	rev      *hosts.Revision
	since    entry.Instant
	refuses  *hosts.Refusal
	made     *made
	engine   *engine.Engine
	readers  map[string]*match.Reader
	offsets  map[string]int64
	rows     []hosts.Row // the first has the number base+1
	base     int64
	sum      string
	facts    hosts.Facts // of the commit that is being made
	own      bool        // what the engine does now was done at the centre
	done     map[string]bool
	acted    int64
	minute   map[int64]int64 // entries by bucket
	behind   time.Duration
	up       bool
	clock    time.Duration
	said     map[string][]byte // by source
	feeding  entry.Instant
	decided  int64 // transitions
	Answerer func(ctx context.Context, q []byte) ([]byte, error)
}

// Join lets a host join by a code, and begins to report.
func Join(ctx context.Context, code hosts.Code, o Options) (*Host, error) {
	if o.OS == "" {
		o.OS = "linux"
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Shared == nil {
		o.Shared = &Shared{}
	}
	id, err := hosts.Join(ctx, code, o.Name, o.Version, o.Data, false)
	if err != nil {
		return nil, err
	}
	h := &Host{o: o, run: fmt.Sprint(time.Now().UnixNano()), engine: engine.New(nil),
		readers: map[string]*match.Reader{},
		offsets: map[string]int64{}, said: map[string][]byte{}, done: map[string]bool{}, minute: map[int64]int64{},
		made: &made{settings: &lang.Settings{}}}
	h.engine.Reporter = id.First
	h.member = hosts.NewMember(o.Data, id, h, o.Log)
	h.Start()
	return h, nil
}

// Name is how the host is called.
func (h *Host) Name() string { return h.o.Name }

// Start lets the host speak with the centre, after Stop or Kill.
func (h *Host) Start() {
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		h.member.Run(ctx)
	}()
	h.end = func() {
		stop()
		<-done
	}
}

// Stop ends the host in order.
func (h *Host) Stop() { h.end() }

// Kill ends the host's connection without a goodbye.
func (h *Host) Kill() {
	h.member.Mute()
	h.end()
}

// Late lets the host say that its logs are behind by so much.
func (h *Host) Late(by time.Duration) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.behind = by
}

// Log gives the host lines of a source, which were written just now; source "" is the first that it has.
func (h *Host) Log(source string, lines ...string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	now := entry.Of(time.Now())
	r := h.reader(source)
	if r == nil {
		return
	}
	raw := []byte(strings.Join(lines, "\n") + "\n")
	if !r.Plan.Timed() {
		r.Near, r.Reached = now, now
	}
	n := r.Scan(raw, h.offsets[r.Origin], now, h.take, nil)
	if h.o.Keeps > 0 {
		said := append(h.said[r.Plan.Source], raw...)
		if len(said) > 2*h.o.Keeps {
			said = said[len(said)-h.o.Keeps:]
			said = slices.Clone(said[bytes.IndexByte(said, '\n')+1:])
		}
		h.said[r.Plan.Source] = said
	}
	h.offsets[r.Origin] += int64(len(raw))
	at := now
	if r.Plan.Timed() {
		at = r.Last
	}
	h.tick(r.Origin, at, n, int64(len(raw)))
	h.commit(now)
}

// Quiet counts entries of a moment that are nothing for any rule.
func (h *Host) Quiet(source string, at time.Time, n int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if r := h.reader(source); r != nil {
		h.tick(r.Origin, entry.Of(at), n, 80*n)
	}
}

// Advance lets the timers of rules fall due, and tells what was counted.
func (h *Host) Advance() {
	h.mu.Lock()
	defer h.mu.Unlock()
	now := entry.Of(time.Now())
	h.apply(engine.Advance{At: now})
	if len(h.made.feeds) > 0 && now.Sub(h.feeding) >= time.Second {
		h.feeding, h.facts.Reached = now, now
	}
	h.commit(now)
}

// ReadTo says how far the host has read what it hands on.
func (h *Host) ReadTo(at time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.facts.Reached = entry.Of(at)
	h.commit(entry.Of(time.Now()))
}

func (h *Host) tick(origin string, at entry.Instant, n, bytes int64) {
	b := int64(at) / int64(bucket)
	h.minute[b] += n
	for i := range h.facts.Ticks {
		if t := &h.facts.Ticks[i]; t.Origin == origin && t.Bucket == b {
			t.N += n
			t.Bytes += bytes
			return
		}
	}
	h.facts.Ticks = append(h.facts.Ticks, hosts.Tick{Origin: origin, Bucket: b, N: n, Bytes: bytes})
}

// reader reads a source; nil where there is none.
func (h *Host) reader(source string) *match.Reader {
	var src *lang.Source
	for _, s := range h.made.settings.Sources {
		if !s.Off && (source == "" || s.Name == source) {
			src = s
			break
		}
	}
	if src == nil {
		return nil
	}
	r := h.readers[src.Name]
	if r == nil {
		path := "/var/log/" + src.Name
		if len(src.Files) > 0 {
			path = strings.NewReplacer("*", h.o.Name).Replace(src.Files[0])
		}
		// A plan learns from what it reads, so each reader has its own.
		plan := match.NewPlan(h.made.settings, src, append(slices.Clone(h.made.rules), h.made.feeds...), time.Local)
		r = match.NewReader(plan, h.o.Name+":"+path, h.o.Name, false)
		h.readers[src.Name] = r
	}
	return r
}

// take judges what the matcher found.
func (h *Host) take(j *verdict.Judged) {
	n := len(h.made.rules)
	if slices.ContainsFunc(j.Verdicts, func(v verdict.Verdict) bool { return v.Rule >= n }) {
		held := &verdict.Judged{Entry: j.Entry, Reached: j.Reached}
		own := j.Verdicts[:0:0]
		for _, v := range j.Verdicts {
			if v.Rule >= n {
				v.Rule -= n
				held.Verdicts = append(held.Verdicts, v)
			} else {
				own = append(own, v)
			}
		}
		if h.facts.Held == nil {
			h.facts.Held = &hosts.Held{}
			for _, r := range h.made.feeds {
				h.facts.Held.Rules = append(h.facts.Held.Rules, r.Name)
			}
		}
		h.facts.Held.Inputs = engine.AppendInput(h.facts.Held.Inputs, engine.Entry{Judged: held})
		if j.Verdicts = own; len(own) == 0 {
			return
		}
	}
	for _, v := range j.Verdicts {
		if v.Hit {
			h.facts.Hits = append(h.facts.Hits, hosts.Hit{Rule: h.engine.Name(v.Rule),
				Fields: h.made.rules[v.Rule].Per,
				Key:    engine.Written(v.Key), At: j.Entry.At, Origin: j.Entry.Origin, Offset: j.Entry.Offset,
				Text: entry.Evidence(j.Entry.Raw)})
		}
	}
	h.apply(engine.Entry{Judged: j})
}

func (h *Host) apply(in engine.Input) {
	ts, _ := h.engine.Apply(in)
	for i := range ts {
		h.decided++
		if h.own {
			continue
		}
		t := ts[i]
		t.Untold = ""
		if line, err := t.MarshalJSON(); err == nil {
			h.facts.Transitions = append(h.facts.Transitions, line)
		}
	}
}

// commit makes a row of what was done.
func (h *Host) commit(now entry.Instant) {
	f := &h.facts
	old := len(f.Ticks) > 0 && f.Ticks[0].Bucket < int64(now)/int64(bucket)
	if len(f.Transitions)+len(f.Hits)+len(f.Acted) == 0 && f.Held == nil && f.Reached == 0 && !old && !f.Whole {
		return
	}
	f.Made = now
	b, err := json.Marshal(f)
	if err != nil {
		return
	}
	r := hosts.Row{Folder: "sim-" + h.run, Seq: h.base + int64(len(h.rows)) + 1, Prev: h.sum, Facts: b}
	r.Sum = hosts.SumOf(r.Prev, b)
	h.sum = r.Sum
	h.rows = append(h.rows, r)
	h.facts = hosts.Facts{}
	h.member.Fresh()
}

// Rows is part of hosts.Machine.
func (h *Host) Rows(_ context.Context, after int64, most int) ([]hosts.Row, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	i := min(max(int(after-h.base), 0), len(h.rows))
	return slices.Clone(h.rows[i:min(i+most, len(h.rows))]), nil
}

// Done is part of hosts.Machine.
func (h *Host) Done(_ context.Context, seq int64, _ string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.acted = seq
	if n := int(seq - h.base); n > 1000 { // they are in memory
		n = min(n, len(h.rows))
		h.rows, h.base = slices.Clone(h.rows[n:]), h.base+int64(n)
	}
	return nil
}

// Link is part of hosts.Machine.
func (h *Host) Link(up bool, clock time.Duration) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.up, h.clock = up, clock
}

// Up tells whether the centre can be reached.
func (h *Host) Up() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.up
}

// Open is how many alerts are open.
func (h *Host) Open() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	n := 0
	for _, k := range h.engine.Keys() {
		if k.Alert != "" {
			n++
		}
	}
	return n
}

// State is part of hosts.Machine.
func (h *Host) State(context.Context) (hosts.State, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	now := entry.Of(time.Now())
	s := hosts.State{Run: h.run, OS: h.o.OS, Version: h.o.Version, Programs: h.o.Programs, Folder: "sim-" + h.run,
		Seq: h.base + int64(len(h.rows)), Oldest: h.base + 1, Blocks: h.made.blocks, Feeds: len(h.made.feeds) > 0,
		Beyond: h.made.settings.Beyond}
	s.Waiting = s.Seq - h.acted
	if h.rev != nil {
		s.Runs = hosts.Running{Number: h.rev.Number, Hash: h.rev.Hash(), Since: h.since}
	}
	s.Runs.Refuses = h.refuses
	for _, src := range h.made.settings.Sources {
		if r := h.reader(src.Name); r != nil {
			n := 0
			for _, rule := range h.made.settings.Rules {
				if rule.LooksAt(src.Name) {
					n++
				}
			}
			s.Origins = append(s.Origins, hosts.OriginState{Name: r.Origin, Source: src.Name, State: "seen",
				Behind: h.behind,
				Rules:  n})
		}
	}
	s.Stirring = hosts.Stirring(func(yield func(*engine.KeyView) bool) {
		for _, k := range h.engine.Keys() {
			if !yield(&k) {
				return
			}
		}
	}, h.made.settings.Rule, now)
	last := int64(now)/int64(bucket) - 1
	maps.DeleteFunc(h.minute, func(b, _ int64) bool { return b < last-6 })
	for b, n := range h.minute {
		if b > last-6 && b <= last {
			s.Minute += n
		}
	}
	return s, nil
}

// Try is part of hosts.Machine.
func (h *Host) Try(_ context.Context, r *hosts.Revision) error {
	m := h.o.Shared.make(h.o.Local, r)
	h.mu.Lock()
	defer h.mu.Unlock()
	if m.refusal != nil {
		x := *m.refusal
		x.Number, x.At = r.Number, entry.Of(time.Now())
		h.refuses = &x
		return &x
	}
	if err := r.Keep(h.o.Data); err != nil {
		return err
	}
	h.rev, h.refuses, h.since = r, nil, entry.Of(time.Now())
	h.made = m
	h.readers = map[string]*match.Reader{}
	out := h.engine.Edit(m.rules, engine.Change{SameMatch: func(a, b *lang.Rule) bool { return a.Name == b.Name },
		Unchanged: func(a, b *lang.Rule) bool { return a == b }})
	for i := range out {
		if line, err := out[i].MarshalJSON(); err == nil {
			h.facts.Transitions = append(h.facts.Transitions, line)
		}
	}
	h.commit(entry.Of(time.Now()))
	return nil
}

// make checks and compiles what a host runs of a revision.
func (s *Shared) make(local []folder.Text, r *hosts.Revision) *made {
	texts, aside := hosts.Merge(local, r)
	key := string(folder.Encode(texts))
	s.mu.Lock()
	defer s.mu.Unlock()
	if m := s.made[key]; m != nil {
		return m
	}
	m := &made{texts: texts}
	if s.made == nil {
		s.made = map[string]*made{}
	}
	s.made[key] = m
	var ds []lang.Diagnostic
	m.settings, ds = folder.CheckErrors(texts)
	for _, d := range ds {
		if d.Weight == lang.Err {
			file := strings.TrimPrefix(d.Pos.File, hosts.FromCentre)
			if file == d.Pos.File {
				file = "on the host, " + file
			}
			m.refusal = &hosts.Refusal{Where: fmt.Sprintf("%s:%d", file, d.Pos.Line), Why: d.What, Mend: d.Mend}
			return m
		}
	}
	for _, o := range trial.Expects(m.settings) {
		if o.Failed {
			m.refusal = &hosts.Refusal{Where: fmt.Sprintf("%s:%d", strings.TrimPrefix(o.Step.Pos.File,
				hosts.FromCentre),
				o.Step.Pos.Line), Why: fmt.Sprintf("expect %q: %s", o.Expect.Title, o.Why)}
			return m
		}
	}
	for _, x := range trial.Active(m.settings) {
		if x.AtCentre {
			m.feeds = append(m.feeds, x)
		} else {
			m.rules = append(m.rules, x)
		}
	}
	m.blocks = hosts.BlocksOf(texts, aside)
	return m
}

// Do is part of hosts.Machine.
func (h *Host) Do(_ context.Context, acts []hosts.Act) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	now := entry.Of(time.Now())
	for _, a := range acts {
		if h.done[a.ID] {
			continue
		}
		h.done[a.ID] = true
		h.facts.Acted = append(h.facts.Acted, a.ID)
		if a.Change == engine.Cleared {
			h.apply(engine.Clear{Alert: a.Alert, At: now, By: a.By, Words: a.Words})
			continue
		}
		h.own = true
		h.apply(engine.Act{Alert: a.Alert, At: now, Change: a.Change, By: a.By, Words: a.Words, Until: a.Until,
			LetGo: a.LetGo})
		h.own = false
	}
	h.commit(now)
	return nil
}

// Answer is part of hosts.Machine.
func (h *Host) Answer(ctx context.Context, q []byte) ([]byte, error) {
	if h.o.Keeps > 0 && hosts.AsksForSample(q) {
		return h.sample(q)
	}
	if h.Answerer != nil {
		return h.Answerer(ctx, q)
	}
	if h.o.Ask == nil || h.o.Keeps == 0 {
		return nil, fmt.Errorf("a simulated host has no logs to ask")
	}
	h.mu.Lock()
	texts := h.made.texts
	var logs []Said
	var err error
	for source, said := range h.said {
		if h.readers[source] == nil { // other settings have come since
			continue
		}
		path := filepath.Join(h.o.Data, "asked-"+source+".log")
		logs = append(logs, Said{source, h.readers[source].Origin, path})
		err = errors.Join(err, os.WriteFile(path, said, 0o600))
	}
	h.mu.Unlock()
	if err != nil {
		return nil, err
	}
	return h.o.Ask(ctx, q, h.o.Name, texts, logs)
}

// sample answers a hosts.SampleQuestion with what was kept.
func (h *Host) sample(b []byte) ([]byte, error) {
	var q hosts.SampleQuestion
	if err := json.Unmarshal(b, &q); err != nil {
		return nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	out := hosts.SampleAnswer{Logs: []hosts.SentLog{}}
	known := false
	for _, source := range q.On {
		known = known || h.made.settings.Source(source) != nil
		if said := h.said[source]; len(said) > 0 {
			r := h.readers[source]
			_, path, _ := strings.Cut(r.Origin, ":")
			out.Logs = append(out.Logs, hosts.SentLog{Source: source, Path: path, Host: h.o.Name, Origin: r.Origin,
				Near: entry.Of(time.Now()), Text: s2.Encode(nil, said)})
		}
	}
	if !known {
		return nil, fmt.Errorf("it has none of the sources %s yet", strings.Join(q.On, ", "))
	}
	return json.Marshal(out)
}

// Decided is how many transitions the host has decided.
func (h *Host) Decided() int64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.decided
}

// Say has the host say now how it is.
func (h *Host) Say() { h.member.News() }
