package service

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/folder"
	"dimlantern/hosts"
	"dimlantern/intake/found"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// joined is what a service that has joined a centre keeps for that: the rows that the centre is told, of which each
// is written in the commit that it tells of, and what the centre said.
type joined struct {
	s      *Service
	id     *hosts.Identity
	member *hosts.Member
	run    string
	end    func()

	// What belongs to the loop.
	folder   string // of the data, among all that a key may have been copied to
	seq      int64
	sum      string
	next     *store.Up // of the commit that is being made
	told     bool      // next holds the ticks
	ticks    []hosts.Tick
	ticked   time.Time       // when the oldest of them came
	held     *hosts.Held     // for rules that are judged at the centre
	fed      time.Time       // when it was last said how far was read
	own      map[int]bool    // transitions of the batch that come of acts of the centre
	toldHere []string        // alerts of which contacts were told here, of which the centre does not know yet
	acted    []string        // acts of the centre that were done, and not told yet
	done     map[string]bool // all that were done since the start
	whole    bool            // all that is open is to be told
	again    []hosts.Facts   // what those told, where the centre had taken others of their numbers
	here     map[string]bool // open alerts of which contacts were told here, while the machine was cut off
	alone    bool            // it has been cut off for so long that it tells by itself
	blocks   []hosts.Block
	blocked  []folder.Text // of which they are

	mu sync.Mutex // for what follows
	up bool
	// toldIn are alerts of which contacts were told here, by the number of the row that says so, until the centre has
	// committed that one: rows before it go together with it, or the centre would tell of the raise as well.
	toldIn    map[string]int64
	first     int64 // rows behind it were made by this run of the service, and are not known to be the centre's
	clock     time.Duration
	since     time.Time // since when the centre can be reached, or cannot
	cut       hosts.Cut
	rev       *hosts.Revision
	revSince  entry.Instant
	refuses   *hosts.Refusal
	committed int64
	trimmed   time.Time
	programs  []string
}

// withSent puts what a data folder holds of its centre before settings.
func withSent(data string, own []folder.Text) []folder.Text {
	id, err := hosts.Joined(data)
	if err != nil || id == nil {
		return own
	}
	r, err := hosts.Kept(data, id)
	if err != nil {
		return own
	}
	texts, _ := hosts.Merge(own, r)
	return texts
}

// tokens is the key of stand-ins that the centre has sent.
func tokens(data string) []byte {
	id, err := hosts.Joined(data)
	if err != nil || id == nil {
		return nil
	}
	if r, err := hosts.Kept(data, id); err == nil && r != nil {
		return r.Tokens
	}
	return nil
}

// stamp changes whenever settings do, those of the centre included.
func (s *Service) stamp(texts []folder.Text) string {
	out := folder.Stamp(s.o.Settings, texts)
	for _, n := range hosts.Files {
		if info, err := os.Stat(filepath.Join(s.o.Data, n)); err == nil {
			out += fmt.Sprintf("%s %d %d\n", n, info.Size(), info.ModTime().UnixNano())
		}
	}
	return out
}

// openHosts takes up what is kept of the centre that was joined.
func (s *Service) openHosts() error {
	id, err := hosts.Joined(s.o.Data)
	if err != nil {
		s.trouble["centre"] = err.Error()
		return nil
	}
	if id == nil {
		return nil
	}
	return s.joins(id)
}

// joins begins to keep rows for a centre.
func (s *Service) joins(id *hosts.Identity) error {
	j := &joined{s: s, id: id, run: rand.Text()[:10], own: map[int]bool{}, done: map[string]bool{}, since: time.Now(),
		here: map[string]bool{}}
	b, err := s.store.Meta("up-folder")
	if err != nil {
		return err
	}
	if j.folder = string(b); j.folder == "" {
		j.folder = strings.ToLower(rand.Text()[:12])
		s.batch.SetMeta("up-folder", []byte(j.folder))
	}
	if _, j.seq, j.sum, err = s.store.UpEnds(); err != nil {
		return err
	}
	j.first = j.seq
	if b, err = s.store.Meta("up-ticks"); err == nil && b != nil {
		err = json.Unmarshal(b, &j.ticks)
	}
	if err != nil {
		return err
	}
	if b, err = s.store.Meta("up-acted"); err == nil && b != nil {
		var list []string
		err = json.Unmarshal(b, &list)
		for _, a := range list {
			j.done[a] = true
		}
	}
	if err != nil {
		return err
	}
	if b, err = s.store.Meta("told-here"); err == nil && b != nil {
		err = json.Unmarshal(b, &j.here)
	}
	if err != nil {
		return err
	}
	j.toldIn = map[string]int64{}
	if b, err = s.store.Meta("told-in"); err == nil && b != nil {
		err = json.Unmarshal(b, &j.toldIn)
	}
	if err != nil {
		return err
	}
	if j.rev, err = hosts.Kept(s.o.Data, id); err != nil {
		s.trouble["centre"] = "what the centre sent cannot be used: " + err.Error()
	}
	if info, err := os.Stat(filepath.Join(s.o.Data, hosts.Files[1])); err == nil {
		j.revSince = entry.Of(info.ModTime())
	}
	s.house.Report(id.First)
	s.engine.Reporter = id.First
	j.member = hosts.NewMember(s.o.Data, id, j, s.o.Log)
	s.joined = j
	s.decider.Elsewhere, s.decider.CutOff = s.toldElsewhere, j.cutOff
	return nil
}

// startJoined speaks with the centre until the service ends.
func (s *Service) startJoined() {
	ctx, stop := context.WithCancel(s.beside.ctx)
	done := make(chan struct{})
	j := s.joined
	s.member.Store(j.member)
	j.end = func() {
		stop()
		<-done
	}
	s.beside.start(func(context.Context) {
		defer close(done)
		j.member.Run(ctx)
	})
}

// lookJoined notices that a centre was joined, or another one, while the service runs.
func (s *Service) lookJoined() {
	id, err := hosts.Joined(s.o.Data)
	if err != nil || id == nil || s.joined != nil && s.joined.id.ID == id.ID {
		return
	}
	if s.joined != nil && s.joined.end != nil {
		go s.joined.end()
	}
	if err := s.joins(id); err != nil {
		s.trouble["centre"] = err.Error()
		return
	}
	s.notice(fmt.Sprintf("this machine has joined the centre on %s as %s", id.Centre, id.Name))
	s.joined.whole = s.joined.seq == 0
	s.startJoined()
	s.whole = true // what was journalled before had another name
}

// toldElsewhere tells whether the centre tells of a rule, and not this machine.
func (s *Service) toldElsewhere(rule string) bool {
	r := s.settings.Rule(rule)
	return r != nil && hosts.SentFrom(r.Pos)
}

// How long what is no more than counts of entries waits to be told with other things, and how many hits of a key
// are told with their text in one row.
const (
	ticksWait = 10 * time.Second
	toldHits  = 20
	mostFacts = 4 << 20 // bytes of hits in one row
)

// tellCentre writes into the batch what the centre is to be told of it.
func (s *Service) tellCentre() {
	j := s.joined
	if j == nil {
		return
	}
	b := &s.batch
	b.Up, j.next, j.told = nil, nil, false
	f := hosts.Facts{Made: entry.Of(time.Now()), Acted: j.acted, Told: j.toldHere}
	for i := range b.Transitions {
		if j.own[i] {
			continue
		}
		t := b.Transitions[i]
		if t.Reporter != "" {
			continue
		}
		if t.Untold != engine.CatchingUp {
			t.Untold = ""
		}
		if line, err := t.MarshalJSON(); err == nil {
			f.Transitions = append(f.Transitions, line)
		}
	}
	if j.whole {
		f.Whole, f.Transitions = true, j.open()
	}
	j.hits(&f)
	for _, x := range b.Blind {
		f.Blind = append(f.Blind, hosts.Blind{Origin: x.Origin, At: x.At, Seen: x.Seen, Words: x.Words})
	}
	for alert, lines := range b.Around {
		if f.Around == nil {
			f.Around = map[string]json.RawMessage{}
		}
		f.Around[alert] = lines
	}
	s.feedCentre(&f)
	ticks := slices.Clone(j.ticks)
	for _, t := range b.Ticks {
		ticks = addTick(ticks, hosts.Tick{Origin: t.Origin, Bucket: t.Bucket, N: t.N, Bytes: t.Bytes})
	}
	if len(ticks) == 0 &&
		len(f.Transitions)+len(f.Hits)+len(f.Counts)+len(f.Blind)+len(f.Around)+len(f.Acted)+
			len(f.Told) == 0 && f.Held == nil && f.Reached == 0 && !f.Whole {
		return
	}
	waits := len(f.Transitions)+len(f.Hits)+len(f.Blind)+len(f.Around)+len(f.Acted)+len(f.Told) == 0 &&
		f.Held == nil && f.Reached == 0 && !f.Whole && (j.ticked.IsZero() || time.Since(j.ticked) < ticksWait)
	if waits {
		kept, _ := json.Marshal(ticks)
		b.SetMeta("up-ticks", kept)
		return
	}
	f.Ticks = ticks
	j.told = true
	facts, err := json.Marshal(f)
	if err != nil {
		s.o.Log.Error("the centre cannot be told", "reason", err)
		return
	}
	b.SetMeta("up-ticks", nil)
	if len(j.acted) > 0 {
		kept, _ := json.Marshal(slices.Sorted(func(yield func(string) bool) {
			for a := range j.done {
				if !yield(a) {
					return
				}
			}
		}))
		b.SetMeta("up-acted", kept)
	}
	j.next = &store.Up{Seq: j.seq + 1, Prev: j.sum, Sum: hosts.SumOf(j.sum, facts), Facts: facts}
	b.Up = []store.Up{*j.next}
	if f.Whole {
		if err := j.tellAgain(&f); err != nil {
			s.o.Log.Error("the centre cannot be told again", "reason", err)
		}
	}
}

func addTick(list []hosts.Tick, t hosts.Tick) []hosts.Tick {
	for i := range list {
		if list[i].Origin == t.Origin && list[i].Bucket == t.Bucket {
			list[i].N += t.N
			list[i].Bytes += t.Bytes
			return list
		}
	}
	return append(list, t)
}

// hits takes the hits of the batch into facts: the newest of each key with their text, the others as numbers.
func (j *joined) hits(f *hosts.Facts) {
	s := j.s
	of := map[string]int{}
	counts := map[string]*hosts.Count{}
	size := 0
	for i := len(s.batch.Hits) - 1; i >= 0; i-- {
		h := &s.batch.Hits[i]
		r := s.settings.Rule(h.Rule)
		if r == nil {
			continue
		}
		id := h.Rule + "\x00" + strings.Join(h.Key, "\x00")
		of[id]++
		if size += len(h.Text); of[id] <= toldHits && size < mostFacts || h.Recovery {
			f.Hits = append(f.Hits, hosts.Hit{Rule: h.Rule, Fields: r.Per, Key: h.Key, At: h.At, Recovery: h.Recovery,
				Origin: h.Origin, Offset: h.Offset, Text: h.Text})
			continue
		}
		b := store.BucketOf(h.At)
		id = fmt.Sprint(id, "\x00", b)
		if counts[id] == nil {
			counts[id] = &hosts.Count{Rule: h.Rule, Fields: r.Per, Key: h.Key, Bucket: b}
		}
		counts[id].N++
	}
	slices.Reverse(f.Hits)
	for _, c := range counts {
		f.Counts = append(f.Counts, *c)
	}
}

// open are the transitions that say all that is open.
func (j *joined) open() []json.RawMessage {
	var out []json.RawMessage
	for _, k := range j.s.engine.Keys() {
		if k.Alert == "" {
			continue
		}
		changes, err := j.s.store.Changes(k.Alert)
		if err != nil {
			continue
		}
		for _, t := range changes {
			if t.Untold != engine.CatchingUp {
				t.Untold = ""
			}
			if line, err := t.MarshalJSON(); err == nil && t.Reporter == "" {
				out = append(out, line)
			}
		}
	}
	return out
}

// toldCentre notes that the commit went through.
func (s *Service) toldCentre() {
	j := s.joined
	if j == nil {
		return
	}
	if j.next == nil {
		for _, t := range s.batch.Ticks {
			j.ticks = addTick(j.ticks, hosts.Tick{Origin: t.Origin, Bucket: t.Bucket, N: t.N, Bytes: t.Bytes})
		}
		if len(j.ticks) > 0 && j.ticked.IsZero() {
			j.ticked = time.Now()
		}
		clear(j.own)
		return
	}
	j.seq, j.sum, j.ticks, j.ticked, j.acted, j.whole = j.next.Seq, j.next.Sum, nil, time.Time{}, nil, false
	if j.again != nil {
		j.mu.Lock()
		j.first, j.again = j.seq, nil
		j.mu.Unlock()
	}
	j.toldHere = nil
	j.next = nil
	if j.held != nil || len(s.feeds) > 0 {
		j.held, j.fed = nil, time.Now()
	}
	clear(j.own)
	j.member.Fresh()
}

// Rows is part of hosts.Machine.
func (j *joined) Rows(_ context.Context, after int64, most int) ([]hosts.Row, error) {
	list, err := j.s.store.UpAfter(after, most)
	out := make([]hosts.Row, len(list))
	for i, u := range list {
		out[i] = hosts.Row{Folder: j.folder, Seq: u.Seq, Sum: u.Sum, Prev: u.Prev, Facts: u.Facts}
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	for alert, in := range j.toldIn {
		for i := range out {
			if r := &out[i]; r.Seq < in && bytes.Contains(r.Facts, []byte(alert)) {
				r.Told = append(r.Told, alert)
			}
		}
	}
	return out, err
}

// Done is part of hosts.Machine.
func (j *joined) Done(ctx context.Context, seq int64, sum string) error {
	oldest, newest, _, err := j.s.store.UpEnds()
	if err != nil {
		return err
	}
	j.mu.Lock()
	j.committed = seq
	maps.DeleteFunc(j.toldIn, func(_ string, in int64) bool { return in <= seq })
	trim := time.Since(j.trimmed) > time.Hour
	if trim {
		j.trimmed = time.Now()
	}
	j.mu.Unlock()
	lost := newest > 0 && (seq+1 < oldest || seq > newest)
	if !lost && seq > 0 { // another history than the centre's
		rows, err := j.s.store.UpAfter(seq-1, 1)
		lost = err == nil && len(rows) == 1 && rows[0].Seq == seq && rows[0].Sum != sum && sum != ""
	}
	if !lost {
		j.mu.Lock()
		j.first = max(j.first, seq)
		j.mu.Unlock()
	}
	if !lost && !trim {
		return nil
	}
	return j.s.do(ctx, func() error {
		if lost {
			if err := j.unheard(); err != nil {
				return err
			}
			j.whole = true
			j.seq = max(j.seq, seq)
			return j.s.commitAt(entry.Of(time.Now()))
		}
		return j.s.store.LetGoUp(seq, entry.Of(time.Now().Add(-hosts.KeptSent)))
	})
}

// unheard gets what this run of the service told in rows of which the centre had the numbers already: the data folder
// was put back from a backup, and those rows are not taken. What is open is told anew by a whole row; behind it they
// stand once more, under new numbers.
func (j *joined) unheard() error {
	if j.again != nil {
		return nil
	}
	j.mu.Lock()
	from := j.first
	j.mu.Unlock()
	rows, err := j.s.store.UpAfter(from, mostAgain)
	if err != nil {
		return err
	}
	if len(rows) == mostAgain {
		j.s.notice(fmt.Sprintf("of what was told in vain only the first %d commits are told again", mostAgain))
	}
	j.again = make([]hosts.Facts, len(rows))
	for i := range rows {
		if err := json.Unmarshal(rows[i].Facts, &j.again[i]); err != nil {
			return err
		}
	}
	return nil
}

// mostAgain is how many rows may be told again.
const mostAgain = 20_000

// tellAgain adds rows that were told in vain behind the one with all that is open; what was told of open alerts is in
// that one.
func (j *joined) tellAgain(whole *hosts.Facts) error {
	open := map[string]bool{}
	for _, line := range whole.Transitions {
		open[alertOf(line)] = true
	}
	for _, f := range j.again {
		f.Whole = false
		f.Transitions = slices.DeleteFunc(slices.Clone(f.Transitions), func(line json.RawMessage) bool {
			return open[alertOf(line)]
		})
		facts, err := json.Marshal(f)
		if err != nil {
			return err
		}
		j.next = &store.Up{Seq: j.next.Seq + 1, Prev: j.next.Sum, Sum: hosts.SumOf(j.next.Sum, facts), Facts: facts}
		j.s.batch.Up = append(j.s.batch.Up, *j.next)
	}
	return nil
}

func alertOf(line []byte) string {
	var t engine.Transition
	if t.UnmarshalJSON(line) != nil {
		return ""
	}
	return t.Alert
}

// Link is part of hosts.Machine.
func (j *joined) Link(up bool, clock time.Duration) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if up {
		j.clock = clock
	}
	if up == j.up {
		return
	}
	now := time.Now()
	if up && !j.since.IsZero() && now.Sub(j.since) > j.cut.For && now.Sub(j.since) > time.Second {
		j.cut = hosts.Cut{From: entry.Of(j.since), For: now.Sub(j.since)}
	}
	j.up, j.since = up, now
	select {
	case j.s.hostNews <- struct{}{}:
	default:
	}
}

// link is how the centre can be reached, for the screens; nil where none was joined.
func (s *Service) link() *snapshot.Link {
	j := s.joined
	if j == nil {
		return nil
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	l := &snapshot.Link{Name: j.id.Name, Centre: j.id.Centre, Up: j.up, Since: j.since, Clock: j.clock, Waits: j.seq -
		j.committed}
	if j.rev != nil {
		l.Number, l.NumberSince = j.rev.Number, j.revSince
	}
	if j.refuses != nil {
		l.Refuses = j.refuses.Number
		l.Why = j.refuses.Error()
	}
	return l
}

// State is part of hosts.Machine.
func (j *joined) State(ctx context.Context) (hosts.State, error) {
	s := j.s
	sn := s.window.Now()
	st := hosts.State{Run: j.run, Began: sn.Began, OS: runtime.GOOS, Version: cmp.Or(s.o.Version, version()),
		Folder: j.folder,
		Beyond: sn.Settings.Beyond}
	for _, o := range sn.Origins {
		if o.Source.Name == lang.Itself {
			continue
		}
		x := hosts.OriginState{Name: o.Name, Source: o.Source.Name, State: string(o.Condition), Words: o.Words,
			Behind: o.State(sn.At).Lag}
		if o.Mend != "" {
			x.Words += "; " + o.Mend
		}
		for _, r := range sn.Settings.Rules {
			if !r.Off && r.LooksAt(o.Source.Name) {
				x.Rules++
			}
		}
		if st.Origins = append(st.Origins, x); len(st.Origins) >= mostOrigins {
			break
		}
	}
	for _, u := range sn.Unseen {
		st.Origins = append(st.Origins, hosts.OriginState{Name: u.Name, Source: u.Source.Name, State: "blind",
			Words: strings.TrimSuffix(u.Words+"; "+u.Mend, "; ")})
	}
	if flow, err := s.store.Flow(store.BucketOf(entry.Of(sn.At))-6, store.BucketOf(entry.Of(sn.At))-1); err == nil {
		for _, n := range flow {
			st.Minute += n
		}
	}
	for _, r := range sn.Settings.Rules {
		st.Feeds = st.Feeds || r.AtCentre && hosts.SentFrom(r.Pos)
	}
	if slices.ContainsFunc(sn.Settings.Rules, func(r *lang.Rule) bool { return r.Blind > 0 && !r.Off }) {
		err := s.doWithEngine(ctx, func(e *engine.Engine) {
			for _, b := range e.Blindings(mostBlindKeys) {
				st.Blindings = append(st.Blindings, hosts.Blinding{Rule: b.Rule.Name, Fields: b.Rule.Per,
					Severity: b.Rule.Blind, After: b.Rule.BlindIn, Keys: b.Keys})
			}
		})
		if err != nil {
			return st, err
		}
	}
	st.Stirring = hosts.Stirring(sn.Engine.Keys, func(name string) *lang.Rule {
		if r := sn.Settings.Rule(name); r != nil && hosts.SentFrom(r.Pos) {
			return r
		}
		return nil
	}, entry.Of(sn.At))
	oldest, newest, _, err := s.store.UpEnds()
	if err != nil {
		return st, err
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.programs == nil {
		j.programs = found.Programs(ctx)
	}
	st.Programs = j.programs
	st.Seq, st.Oldest, st.Waiting = newest, oldest, max(newest-j.committed, 0)
	if j.cut.For > 0 {
		c := j.cut
		st.Cut = &c
	}
	if j.rev != nil {
		st.Runs = hosts.Running{Number: j.rev.Number, Hash: j.rev.Hash(), Since: j.revSince}
	}
	st.Runs.Refuses = j.refuses
	if j.blocks == nil || !folder.Same(j.blocked, sn.Texts) {
		j.blocks, j.blocked = blocksNow(s.o.Settings, sn.Texts, j.rev), sn.Texts
	}
	st.Blocks = j.blocks
	return st, nil
}

// mostOrigins is of how many logs a host says how they are.
const mostOrigins = 200

// mostBlindKeys is of how many keys of a rule a host says that the centre may raise them where it is silent.
const mostBlindKeys = 200

// blocksNow are the blocks that run, and those that were put aside.
func blocksNow(path string, texts []folder.Text, r *hosts.Revision) []hosts.Block {
	var gone []lang.Placed
	if own, err := folder.Read(path); err == nil {
		_, gone = hosts.Merge(own, r)
	}
	return hosts.BlocksOf(texts, gone)
}

// Try is part of hosts.Machine.
func (j *joined) Try(ctx context.Context, r *hosts.Revision) error {
	s := j.s
	j.mu.Lock()
	was := j.rev
	j.mu.Unlock()
	if was != nil && was.Number == r.Number && was.Hash() == r.Hash() {
		return nil
	}
	refuse := func(x *hosts.Refusal) error {
		x.Number, x.At = r.Number, entry.Of(time.Now())
		j.mu.Lock()
		j.refuses = x
		j.mu.Unlock()
		return x
	}
	own, err := folder.Read(s.o.Settings)
	if _, e := os.Stat(s.o.Settings); err != nil && !errors.Is(e, os.ErrNotExist) {
		return refuse(&hosts.Refusal{Why: "the settings of this machine cannot be read: " + err.Error()})
	}
	texts, _ := hosts.Merge(own, r)
	settings, ds := s.house.CheckErrors(texts)
	for _, d := range ds {
		if d.Weight == lang.Err {
			return refuse(&hosts.Refusal{Where: whereSent(d.Pos), Why: d.What, Mend: d.Mend})
		}
	}
	for _, o := range trial.Expects(settings) {
		if o.Failed && hosts.SentFrom(o.Expect.Pos) {
			return refuse(&hosts.Refusal{Where: whereSent(o.Step.Pos), Why: fmt.Sprintf("expect %q: %s",
				o.Expect.Title, o.Why), Mend: "mend the rule or its test, or leave this host out of the group"})
		}
	}
	if err := r.Keep(s.o.Data); err != nil {
		return err
	}
	before := j.rev
	j.mu.Lock()
	j.rev, j.refuses = r, nil
	j.revSince = entry.Of(time.Now())
	j.mu.Unlock()
	by := store.Action{At: entry.Of(time.Now()), By: "the centre", From: j.id.Centre, What: "settings",
		Words: fmt.Sprintf("revision %d", r.Number)}
	if _, err := s.takeUpNow(ctx, by, ""); err != nil {
		if before != nil {
			before.Keep(s.o.Data)
		} else {
			os.Remove(filepath.Join(s.o.Data, hosts.Files[1]))
		}
		j.mu.Lock()
		j.rev = before
		j.mu.Unlock()
		return refuse(&hosts.Refusal{Why: err.Error()})
	}
	return nil
}

// whereSent is a place in settings, as the centre knows it.
func whereSent(p lang.Pos) string {
	file := strings.TrimPrefix(p.File, hosts.FromCentre)
	if file == p.File {
		file = "on the host, " + filepath.Base(file)
	}
	return fmt.Sprintf("%s:%d", file, p.Line)
}

// Do is part of hosts.Machine.
func (j *joined) Do(ctx context.Context, acts []hosts.Act) error {
	s := j.s
	return s.do(ctx, func() error {
		now := entry.Of(time.Now())
		did := false
		for _, a := range acts {
			if j.done[a.ID] {
				continue
			}
			j.done[a.ID], did = true, true
			j.acted = append(j.acted, a.ID)
			s.apply(engine.Advance{At: now})
			from := len(s.batch.Transitions)
			if a.Change == engine.Cleared {
				s.apply(engine.Clear{Alert: a.Alert, At: now, By: a.By, Words: a.Words})
				continue
			}
			s.apply(engine.Act{Alert: a.Alert, At: now, Change: a.Change, By: a.By, Words: a.Words, Until: a.Until,
				LetGo: a.LetGo})
			for i := from; i < len(s.batch.Transitions); i++ {
				j.own[i] = true
			}
		}
		if !did {
			return nil
		}
		s.seq++
		return s.commitAt(now)
	})
}

// Answer is part of hosts.Machine.
func (j *joined) Answer(ctx context.Context, q []byte) ([]byte, error) {
	if hosts.AsksForSample(q) {
		return j.s.bench.ForHost(ctx, q)
	}
	return j.s.ledger.ForHost(ctx, q)
}

// cutOff are the contacts that are told here of a transition of the centre's rules: those of the settings, while
// the centre cannot be reached for so long, and of what was told here how it goes on.
func (j *joined) cutOff(t *engine.Transition) []string {
	h := &j.s.settings.Hosts
	j.mu.Lock()
	alone := j.alone && !j.up // that it is up again is looked at once a second
	j.mu.Unlock()
	if !alone && !j.here[t.Alert] {
		return nil
	}
	if t.Change == engine.Cleared {
		delete(j.here, t.Alert)
	} else {
		j.here[t.Alert] = true
	}
	b, _ := json.Marshal(j.here)
	j.s.batch.SetMeta("told-here", b)
	j.mu.Lock()
	j.toldIn[t.Alert] = j.seq + 1
	b, _ = json.Marshal(j.toldIn)
	j.mu.Unlock()
	j.s.batch.SetMeta("told-in", b)
	j.toldHere = append(j.toldHere, t.Alert)
	return h.CutOffTell
}

// lookCutOff notices that the machine has been cut off for long: what has opened since is told now.
func (s *Service) lookCutOff(now time.Time) {
	j, h := s.joined, &s.settings.Hosts
	if j == nil || h.CutOff == 0 {
		return
	}
	j.mu.Lock()
	up, since := j.up, j.since
	j.mu.Unlock()
	alone := !up && now.Sub(since) >= h.CutOff
	if alone == j.alone {
		return
	}
	if j.alone = alone; !alone {
		s.notice("the centre on " + j.id.Centre + " can be reached again, and tells")
		return
	}
	s.notice(fmt.Sprintf("the centre on %s cannot be reached since %s: %s is told from here", j.id.Centre,
		since.Format("15:04:05"), strings.Join(h.CutOffTell, ", ")))
	for _, k := range s.engine.Keys() {
		if k.Alert != "" && s.toldElsewhere(k.Rule) && !j.here[k.Alert] && k.Since >= entry.Of(since) {
			s.decider.TellNow(&k, now)
		}
	}
}
