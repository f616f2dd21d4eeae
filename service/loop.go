package service

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/snapshot"

	"github.com/fsnotify/fsnotify"
)

// Run reads and judges until the context ends; then it commits and returns.
func (s *Service) Run(ctx context.Context) error {
	s.watcher, _ = fsnotify.NewWatcher()
	if s.watcher != nil {
		defer s.watcher.Close()
		s.watcher.Add(s.o.Settings)
	}
	s.lastRound.Store(time.Now().UnixNano())
	out := s.measures()
	for _, f := range []func(context.Context){s.checkpoints, s.outbox.Run, s.beats, s.watchdog, s.checks,
		s.noticeItself, out.Listen, out.Send, s.reports.Run} {
		s.beside.start(f)
	}
	if s.joined != nil {
		s.startJoined()
	}
	s.delivering = true
	s.deliver.Use(delivers(s.settings), blocksOf(s.texts))
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		now := time.Now()
		again := s.round(now)
		s.publish(now)
		s.lastRound.Store(time.Now().UnixNano())
		if s.o.Committed != nil && len(s.fired) > 0 {
			s.o.Committed(s.fired)
		}
		s.fired = nil
		timer.Reset(s.pause(again, time.Now()))
		if stop := s.wait(ctx, timer); stop {
			s.closeCentre()
			s.beside.end() // it looks into the store
			s.deliver.End()
			return s.close()
		}
	}
}

// The longest pauses between two rounds: while the present has not been reached, where files
// have to be polled, and where the system tells of all that changes.
const (
	pauseCatching = 20 * time.Millisecond
	pausePolling  = 250 * time.Millisecond
	pauseAsleep   = time.Second
)

// pause is how long the loop may sleep where nothing wakes it: no longer than to the next
// timer of a rule.
func (s *Service) pause(again bool, now time.Time) time.Duration {
	switch {
	case again:
		return 0
	case s.catching:
		return pauseCatching
	case !s.follower.Seldom() || s.edits.soon() || !s.failed.IsZero():
		return pausePolling
	}
	wait := pauseAsleep
	if due := s.engine.Next(); due != entry.None {
		wait = min(wait, max(due.Sub(entry.Of(now)), time.Millisecond))
	}
	return wait
}

// wait waits for something to do. Events that come together are noted together.
func (s *Service) wait(ctx context.Context, timer *time.Timer) (stop bool) {
	var settings <-chan fsnotify.Event
	var problems <-chan error
	if s.watcher != nil {
		settings, problems = s.watcher.Events, s.watcher.Errors
	}
	select {
	case <-ctx.Done():
		return true
	case <-timer.C:
	case ev := <-s.follower.Events():
		s.follower.Note(ev)
	case err := <-s.follower.Errors():
		s.follower.Missed(err)
	case <-settings:
		s.edits.checked = time.Time{}
	case <-problems:
		s.edits.checked = time.Time{}
	case <-s.ways.wrote:
	case <-s.reload:
		s.edits.stamp, s.edits.checked = "", time.Time{}
	case d := <-s.edits.ready:
		s.takeUp(ctx, d)
	case <-s.hostNews:
		s.seq++
	case f := <-s.commands:
		f()
	}
	for {
		select {
		case ev := <-s.follower.Events():
			s.follower.Note(ev)
		default:
			return false
		}
	}
}

// Reload makes the service read its settings again now.
func (s *Service) Reload() {
	select {
	case s.reload <- struct{}{}:
	default:
	}
}

// do has the loop do something between two rounds, and waits for it: who asks behind it
// sees what it did.
func (s *Service) do(ctx context.Context, f func() error) error {
	done := make(chan error, 1)
	command := func() {
		err := f()
		s.publish(time.Now())
		done <- err
	}
	select {
	case s.commands <- command:
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// doWithEngine lets something look at the engine between two rounds.
func (s *Service) doWithEngine(ctx context.Context, f func(*engine.Engine)) error {
	return s.do(ctx, func() error { f(s.engine); return nil })
}

// state is the engine's whole state, encoded.
func (s *Service) state(ctx context.Context) (b []byte, err error) {
	err = s.doWithEngine(ctx, func(e *engine.Engine) { b = e.Encode() })
	return b, err
}

// report notes something that keeps the service from all of its work, or with "" that it
// does no longer. It is for other goroutines than the loop, and gives up with the context.
func (s *Service) report(ctx context.Context, kind, words string) {
	s.do(ctx, func() error {
		if s.trouble[kind] == words {
			return nil
		}
		if s.trouble[kind] = words; words == "" {
			delete(s.trouble, kind)
		}
		s.seq++
		return nil
	})
}

// The engine's state is written out whole after that much journal or time.
const (
	snapshotBytes = 8 << 20
	snapshotEvery = time.Minute
	placeEvery    = time.Second
	settleEvery   = time.Second
	trimEvery     = 30 * time.Second
)

// round does what there is to do once; it answers true where more is left.
func (s *Service) round(now time.Time) bool {
	if !s.failed.IsZero() { // the last commit failed: nothing new before it went through
		if now.Sub(s.failed) < time.Second {
			return false
		}
		if s.commit() != nil {
			s.failed = now
			return false
		}
		s.failed = time.Time{}
	}
	s.tickMeter(now)
	s.lookHosts(now)
	if now.Sub(s.edits.checked) >= settleEvery {
		s.edits.checked = now
		s.checkSettings()
	}
	if s.catching && s.ways.starting(s.settings.Sources, now) {
		return false
	}
	done := s.read(now)
	s.tellAll()
	s.reading = !done
	s.seenSources()
	if done { // what the origins are now comes behind what they had written
		s.conditions(now)
		s.hold(now)
		if s.catching {
			s.meterAnew()
		}
		s.catching, s.decider.Catching = false, false
		s.begin(entry.Of(now))
		s.countAnew()
		s.apply(engine.Advance{At: entry.Of(now)})
	}
	s.keepAround(now)
	if x := s.ways.index(); x != nil {
		s.batch.Kept = x
	}
	s.batch.Now = entry.Of(now)
	s.releaseQuiet(now)
	if s.urgent() || now.Sub(s.times.placed) >= placeEvery {
		s.keep(now)
	}
	return !done
}

// read reads and judges what there is; it answers false where more is left.
func (s *Service) read(now time.Time) bool {
	mark := s.ways.ahead.Load()
	for _, n := range s.ways.take() {
		s.follower.Wrote(n.source, n.path)
	}
	s.follower.Look(now)
	s.follower.Poll(now)
	done := s.drain(now)
	if done {
		s.hold(now)
		if due := s.engine.Due(entry.Of(now)); len(due) > 0 { // it may have come by now what is about to be missed
			s.follower.Again(s.sourcesOf(due))
			done = s.drain(now)
		}
	}
	if done {
		s.ways.caught(mark, time.Now())
	}
	return done
}

// urgent tells whether the batch has something that must not wait.
func (s *Service) urgent() bool {
	b := &s.batch
	return len(b.Tellings) > 0 || len(b.Actions) > 0 || len(b.Hits) > 0 || len(b.Transitions) > 0 ||
		len(b.HeldIn) > 0 || len(b.HeldOut) > 0 || len(b.Blind) > 0 || len(b.Sources) > 0 || len(b.Meta) > 0 || s.whole
}

// keep commits, and now and then lets go of what is old.
func (s *Service) keep(now time.Time) {
	if now.Sub(s.times.snapped) >= snapshotEvery && s.rest > 0 || s.rest > snapshotBytes {
		s.whole = true
	}
	if s.commit() != nil {
		s.failed = now
	} else if err := s.decider.CaughtUp(); err != nil {
		s.o.Log.Warn("what was missed cannot be summed up", "reason", err)
	}
	if now.Sub(s.times.trimmed) > trimEvery {
		s.times.trimmed = now
		s.trim(now)
	}
}

// tellAll tells what the ways in have to tell.
func (s *Service) tellAll() {
	for _, words := range s.follower.Told() {
		s.notice(words)
	}
	for {
		select {
		case words := <-s.remarks:
			s.notice(words)
		default:
			return
		}
	}
}

func (s *Service) drain(now time.Time) bool {
	done, err := s.follower.Drain(s, 20_000, now)
	if err != nil {
		s.trouble["read"] = err.Error()
	} else {
		delete(s.trouble, "read")
	}
	return done
}

// What is old is let go of in pieces that hold up nothing, one soon after the other.
const (
	mostLetGo = 200
	soon      = 200 * time.Millisecond
)

func (s *Service) trim(now time.Time) {
	grown, err := s.store.Grown()
	if err == nil {
		err = s.store.Trim(grown, entry.Of(now.AddDate(0, 0, -90)))
	}
	if stays := s.settings.Stays; err == nil && (stays.Alerts > 0 || stays.History > 0) {
		before := func(d time.Duration) entry.Instant {
			if d == 0 {
				return 0
			}
			return entry.Of(now.Add(-d))
		}
		var more bool
		if more, err = s.store.LetGo(before(stays.Alerts), before(stays.History), mostLetGo); more {
			s.times.trimmed = now.Add(soon - trimEvery)
		}
	}
	if err != nil {
		s.o.Log.Warn("old evidence could not be let go of", "reason", err)
	}
	if held, known := s.deliver.Held(); known {
		maps.Copy(held, s.follower.Held())
		s.ways.tidy(s.settings, held)
	}
}

// spentEvery is how often is published what rules cost.
const spentEvery = time.Second

// publish shows to all who look what is known now.
func (s *Service) publish(now time.Time) { s.window.Publish(s.look(now)) }

// look is what is known now.
func (s *Service) look(now time.Time) *snapshot.Snapshot {
	spent := s.window.Now().Spent
	if now.Sub(s.times.spent) >= spentEvery {
		s.times.spent, spent = now, s.spentNow()
	}
	outbox := s.outbox.State()
	return &snapshot.Snapshot{
		House: s.house, At: now, Settings: s.settings, Texts: s.texts, Findings: s.findings, Engine: s.engine.View(),
		Origins: s.follower.Frozen(), Empty: maps.Clone(s.follower.Empty()), Ways: s.wayViews(now), Unseen: s.unseen,
		Hushes: slices.Clone(s.decider.Hushes), Taken: maps.Clone(s.decider.Taken), Quiet: s.decider.Quiet(),
		Notices: slices.Clone(s.notices), Spent: spent, Trouble: maps.Clone(s.trouble), Stuck: s.stuck,
		Kept:    s.ways.kept.Dir(),
		Reading: s.reading, Catching: s.catching, Waiting: outbox.Waiting, Limits: outbox.Limits, Seq: s.seq,
		Flow: s.flow, Deliveries: s.deliver.States(), Beyond: s.counted.Beyond,
		Link: s.link(), Hosts: s.hostsNow(now),
	}
}

// wayViews are the ways in of sources whose entries exist nowhere else.
func (s *Service) wayViews(now time.Time) map[string]api.WayView {
	var out map[string]api.WayView
	for _, src := range s.settings.Sources {
		if v, ok := s.ways.glance(src.Name, now); ok {
			if out == nil {
				out = map[string]api.WayView{}
			}
			out[src.Name] = v
		}
	}
	return out
}

// The database's log of writes is moved into the database where it has grown so long, and so
// often at least.
const (
	checkpointBytes = 1 << 20
	checkpointEvery = 30 * time.Second
)

// checkpoints keeps the database's log of writes short, beside the work.
func (s *Service) checkpoints(ctx context.Context) {
	was, last := false, time.Time{}
	for t := time.NewTicker(2 * time.Second); ; {
		select {
		case <-ctx.Done():
			t.Stop()
			return
		case <-t.C:
		}
		if !was && s.store.Waiting() < checkpointBytes && time.Since(last) < checkpointEvery {
			continue
		}
		last = time.Now()
		err := s.store.Checkpoint()
		if ctx.Err() != nil || err == nil && !was {
			continue
		}
		words := ""
		if err != nil {
			words = fmt.Sprintf("what was committed cannot be moved from %s-wal into the database (%v): make room "+
				"on its disk, or nothing more can be kept soon", s.store.Path, err)
			if !was {
				s.o.Log.Warn("the database's log of writes stays long", "reason", err)
			}
		}
		s.report(ctx, "checkpoint", words)
		was = err != nil
	}
}
