// Package service wires the ways in to the core and the core to the store: it
// follows the sources of a settings folder, lets the engine judge what comes, and
// commits, in one transaction each, what a batch of entries did. Screens and
// commands ask it through the interface Lantern, here or over a local socket.
package service

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"dimlantern/folder"

	"dimlantern/api"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/intake"
	"dimlantern/store"

	"github.com/fsnotify/fsnotify"
)

// Options say where a service works.
type Options struct {
	Settings string // a folder of *.lantern files, or one such file
	Data     string // the data folder
	// Committed, where it is not nil, gets the transitions of each commit.
	Committed func([]engine.Transition)
	// Log gets what an operator should know; nil stands for nobody.
	Log *slog.Logger
	// Where says where the service runs, for the screens.
	Where string
	// Channels is where the channels are of sources that do not say; "" is this machine.
	Channels string
	// Input is what a source with input reads; nil where nothing is piped in.
	Input io.Reader
	// Roots are trusted when people are told over TLS; nil are the system's.
	Roots *Roots
	// NoEvents makes it poll, as on file systems without change events.
	NoEvents bool
}

// Roots are certificates that are trusted.
type Roots = x509.CertPool

// Service is a running service. There is one for each data folder.
type Service struct {
	o         Options
	host      string
	lock      *os.File
	store     *store.Store
	mu        sync.Mutex
	settings  *lang.Settings
	texts     []folder.Text
	engine    *engine.Engine
	follower  *intake.Follower
	batch     store.Batch
	ticks     map[tickKey]int64
	reach     entry.Instant // not written into the journal yet
	trouble   map[string]string
	notices   []api.Notice
	seq       int64         // grows with each change that a screen would show at once
	flow      int64         // grows as entries come
	news      chan struct{} // closed when one of them has grown
	newsOf    [2]int64      // what they were then
	reading   bool          // not read to the end yet
	catching  bool          // since the start, the present has not been reached
	entries   int64
	placed    time.Time // when places were last committed
	snapped   time.Time
	trimmed   time.Time
	noticed   time.Time
	bench     benchSamples
	day       dayHits
	findings  map[string]int // by rule
	benchDoes atomic.Value   // what reading a sample does just now, in words
	bareDue   time.Time      // when to look for alerts whose lines could not be kept before a crash
	journal   int            // bytes since the last snapshot
	snapshot  bool           // the next commit keeps the engine's whole state
	failed    time.Time
	stuck     time.Time // since when nothing can be committed, where that is so
	checked   time.Time
	stamp     string // of the settings folder, when it was last read
	next      string // another one that was seen since, but may not have settled yet
	since     time.Time
	commands  chan func()
	reload    chan struct{}
	dropped   int64 // keys that went, as far as that was told
	meter     meter
	// meterNames are the rules' names by their places in the meter's plans.
	meterNames  []string
	fired       []engine.Transition
	watcher     *fsnotify.Watcher
	ways        *ways
	secret      []byte      // of the data folder
	begun       int         // how many logs rules that await were told of
	told        chan string // notices of other goroutines
	telling     telling
	began       time.Time
	lastRound   atomic.Int64         // when a round ended last, in nanoseconds
	putBy       *store.Action        // who puts settings to work just now; nil where a file changed
	unseen      []unseen             // what was never seen
	unseenNames []string             // as the engine knows it
	bare        map[string]bareAlert // alerts around whose hits no lines are kept yet
}

type tickKey struct {
	origin string
	bucket int64
}

// Open locks the data folder, takes up the state that was kept there, and the
// settings. Settings with errors do not keep it from starting: what is right in
// them runs, and the rest is shown.
func Open(o Options) (*Service, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	s := &Service{o: o, began: time.Now(), trouble: map[string]string{}, ticks: map[tickKey]int64{}, reach: entry.None,
		commands: make(chan func()), reload: make(chan struct{}, 1), catching: true, told: make(chan string, 100), news: make(chan struct{}), meter: newMeter()}
	s.host, _ = os.Hostname()
	var err error
	if s.lock, err = lockFolder(o.Data); err != nil {
		return nil, err
	}
	if s.secret, err = Secret(o.Data); err != nil {
		s.lock.Close()
		return nil, err
	}
	if err := tighten(o.Data); err != nil {
		o.Log.Warn(err.Error())
		s.trouble["rights"] = err.Error()
	}
	if s.store, err = store.Open(o.Data); err != nil {
		s.lock.Close()
		return nil, err
	}
	if err := s.takeRescue(); err != nil {
		s.store.Close()
		s.lock.Close()
		return nil, err
	}
	s.ways = newWays(o.Data, s.host, o.Channels, o.Input, func(text string) {
		select {
		case s.told <- text:
		default: // so many at once say nothing more
		}
	})
	if err := s.start(); err != nil {
		s.ways.close()
		s.store.Close()
		s.lock.Close()
		return nil, err
	}
	return s, nil
}

// start brings the engine to where it was, and then the settings up to date.
func (s *Service) start() error {
	texts, unread := folder.Read(s.o.Settings)
	if _, e := os.Stat(s.o.Settings); errors.Is(e, os.ErrNotExist) {
		unread = nil
	}
	s.follower = intake.NewFollower(intake.Options{Host: s.host, Place: s.store.PlaceOf, Series: s.store.SeriesOf, Known: s.store.Knows, NoEvents: s.o.NoEvents})
	if err := s.recover(); err != nil {
		s.o.Log.Warn("the kept state cannot be used", "reason", err)
		s.trouble["state"] = fmt.Sprintf("the kept state could not be used, so counting starts anew: %v", err)
		s.engine = engine.New(nil)
		s.settings = &lang.Settings{}
	}
	if err := s.recoverTelling(); err != nil {
		return err
	}
	if b, err := s.store.Meta("unseen"); err == nil && b != nil {
		json.Unmarshal(b, &s.unseenNames) // what cannot be read was told of as blind, and no more
	}
	settings, ds := s.check(texts)
	switch why := s.doubtful(texts, settings); {
	case unread != nil && len(s.texts) > 0:
		s.trouble["settings"] = unread.Error() + "; the last good settings go on"
		texts = s.texts
	case unread != nil:
		s.trouble["settings"] = unread.Error() + "; Dim Lantern runs without it"
	case why != "" && len(s.texts) > 0:
		s.trouble["apply"] = why + appliedByHand
		s.o.Log.Warn(s.trouble["apply"])
		s.stamp = folder.Stamp(s.o.Settings, texts)
		texts = s.texts
	}
	if folder.Same(texts, s.texts) {
		settings, ds = s.check(texts)
	}
	if len(s.texts) > 0 && !folder.Same(texts, s.texts) {
		s.recordSettings(s.texts, texts, "taken up at the start")
	}
	if unread == nil {
		s.sayErrors(ds, "runs without what is wrong")
	}
	if s.stamp == "" {
		s.stamp = folder.Stamp(s.o.Settings, texts)
	}
	same := !lang.Errors(ds) && s.trouble["state"] == "" && len(s.texts) > 0 && folder.Same(texts, s.texts)
	if same { // the state that was read belongs to them as it is
		settings = s.settings
	}
	s.use(settings, texts)
	s.snapshot = !same
	s.bareDue = time.Now().Add(bareWait)
	s.batch.Now = entry.Of(time.Now())
	return s.commit()
}

// recover reads the last snapshot, and takes again what came after it.
func (s *Service) recover() error {
	data, err := s.store.Meta("settings")
	if err != nil {
		return err
	}
	var texts []folder.Text
	if data != nil {
		if texts, err = folder.Decode(data); err != nil {
			return err
		}
	}
	s.settings, _ = s.check(texts)
	s.texts = texts
	rules := trial.Active(s.settings)
	snap, err := s.store.Meta("snapshot")
	if err != nil {
		return err
	}
	if snap == nil {
		s.engine = engine.New(rules)
		s.engine.MostKeys = s.settings.Keys()
		return nil
	}
	if snap, err = s.unseal(snap); err != nil {
		return err
	}
	if s.engine, err = engine.Decode(rules, snap); err != nil {
		return err
	}
	s.engine.MostKeys = s.settings.Keys()
	journal, err := s.store.Journal()
	if err != nil {
		return err
	}
	for _, j := range journal {
		if j, err = s.unseal(j); err != nil {
			return err
		}
		if err := replayJournal(s.engine, j); err != nil {
			return err
		}
	}
	return nil
}

// check checks settings, with the data folder's key.
func (s *Service) check(texts []folder.Text) (*lang.Settings, []lang.Diagnostic) {
	out, ds := folder.Check(texts)
	out.Secret = s.secret
	s.withItself(out)
	return out, ds
}

func (s *Service) setMeta(name string, value []byte) {
	if s.batch.Meta == nil {
		s.batch.Meta = map[string][]byte{}
	}
	s.batch.Meta[name] = value
}

func (s *Service) notice(text string) {
	s.notices = append(s.notices, api.Notice{At: entry.Of(time.Now()), Text: text})
	if len(s.notices) > 20 {
		s.notices = s.notices[1:]
	}
	s.o.Log.Info(text)
	s.seq++
}

// Run reads and judges until the context ends; then it commits and returns.
func (s *Service) Run(ctx context.Context) error {
	s.watcher, _ = fsnotify.NewWatcher()
	if s.watcher != nil {
		defer s.watcher.Close()
		s.watcher.Add(s.o.Settings)
	}
	go s.checkpoints(ctx)
	beside, stopBeside := context.WithCancel(ctx)
	var told sync.WaitGroup
	s.lastRound.Store(time.Now().UnixNano())
	for _, f := range []func(context.Context){s.runOutbox, s.beats, s.watchdog, s.checks} {
		told.Add(1)
		go func() { defer told.Done(); f(beside) }()
	}
	defer stopBeside()
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		s.mu.Lock()
		again := s.round(time.Now())
		s.lastRound.Store(time.Now().UnixNano())
		fired := s.fired
		s.fired = nil
		s.publish()
		s.mu.Unlock()
		if s.o.Committed != nil && len(fired) > 0 {
			s.o.Committed(fired)
		}
		wait := 250 * time.Millisecond
		if s.catching {
			wait = 20 * time.Millisecond
		}
		if again {
			wait = 0
		}
		timer.Reset(wait)
		if stop := s.wait(ctx, timer); stop {
			stopBeside()
			told.Wait() // it looks into the store
			return s.close()
		}
	}
}

// checkpoints keeps the database's log of writes short, beside the work.
func (s *Service) checkpoints(ctx context.Context) {
	for t := time.NewTicker(2 * time.Second); ; {
		select {
		case <-ctx.Done():
			t.Stop()
			return
		case <-t.C:
			err := s.store.Checkpoint()
			if ctx.Err() != nil {
				continue
			}
			s.mu.Lock()
			_, was := s.trouble["checkpoint"]
			if delete(s.trouble, "checkpoint"); err != nil {
				s.trouble["checkpoint"] = fmt.Sprintf("what was committed cannot be moved from %s-wal into the database (%v): make room on its disk, or nothing more can be kept soon", s.store.Path, err)
			}
			s.mu.Unlock()
			if err != nil && !was {
				s.o.Log.Warn("the database's log of writes stays long", "reason", err)
			}
		}
	}
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
		s.checked = time.Time{}
	case <-problems:
		s.checked = time.Time{}
	case <-s.ways.wrote:
	case <-s.reload:
		s.stamp, s.checked = "", time.Time{}
	case f := <-s.commands:
		s.mu.Lock()
		f()
		s.mu.Unlock()
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

// The engine's state is written out whole after that much journal or time.
const (
	snapshotBytes = 8 << 20
	snapshotEvery = time.Minute
	placeEvery    = time.Second
	settleEvery   = time.Second
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
	if now.Sub(s.checked) >= settleEvery {
		s.checked = now
		s.checkSettings()
	}
	if s.catching && s.ways.starting(s.settings.Sources, now) {
		return false
	}
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
	s.tellAll()
	s.reading = !done
	s.seenSources()
	if done { // what the origins are now comes behind what they had written
		s.conditions(now)
		s.hold(now)
		s.catching = false
		s.begin(entry.Of(now))
		s.noticeItself(now)
		s.apply(engine.Advance{At: entry.Of(now)})
	}
	if !s.bareDue.IsZero() && now.After(s.bareDue) {
		s.bareDue = time.Time{}
		s.findBare()
	}
	s.keepAround(now)
	if x := s.ways.index(); x != nil {
		s.batch.Kept = x
	}
	s.batch.Now = entry.Of(now)
	if !s.catching {
		s.releaseQuiet(now)
	}
	urgent := len(s.batch.Tellings) > 0 || len(s.batch.Actions) > 0 || len(s.batch.Hits) > 0 || len(s.batch.Transitions) > 0 || len(s.batch.Blind) > 0 || len(s.batch.Sources) > 0 || len(s.batch.Meta) > 0 || s.snapshot
	if urgent || now.Sub(s.placed) >= placeEvery {
		if now.Sub(s.snapped) >= snapshotEvery && s.journal > 0 || s.journal > snapshotBytes {
			s.snapshot = true
		}
		if s.commit() != nil {
			s.failed = now
		} else if err := s.tellCaughtUp(); err != nil {
			s.o.Log.Warn("what was missed cannot be summed up", "reason", err)
		}
		if now.Sub(s.trimmed) > 30*time.Second {
			s.trimmed = now
			s.trim(now)
		}
	}
	return !done
}

// tellAll tells what the ways in have to tell.
func (s *Service) tellAll() {
	for _, words := range s.follower.Told() {
		s.notice(words)
	}
	for {
		select {
		case words := <-s.told:
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

func (s *Service) trim(now time.Time) {
	grown, err := s.store.Grown()
	if err == nil {
		err = s.store.Trim(grown, entry.Of(now.AddDate(0, 0, -90)))
	}
	if err != nil {
		s.o.Log.Warn("old evidence could not be let go of", "reason", err)
	}
	s.ways.tidy(s.settings, s.follower.Held())
}
