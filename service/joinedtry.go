package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/folder"
	"dimlantern/hosts"
	"dimlantern/intake/found"
	"dimlantern/store"
)

// mostOrigins is of how many logs a host says how they are.
const mostOrigins = 200

// mostBlindKeys is of how many keys of a rule a host says that the centre may raise them where it is silent.
const mostBlindKeys = 200

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
