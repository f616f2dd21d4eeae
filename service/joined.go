package service

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/folder"
	"dimlantern/hosts"
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
