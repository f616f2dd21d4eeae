// Package service wires the ways in to the core and the core to the store: it follows the
// sources of a settings folder, lets the engine judge what comes, and commits, in one
// transaction each, what a batch of entries did.
//
// One goroutine, the loop, owns all that changes; see Run. A round ends by publishing a
// snapshot.Snapshot, from which questions are answered (query, workbench) and contacts are
// told (notify) without holding up the loop. What takes long (reading settings and building
// state anew, the lines around hits, a look at the database as a whole) runs beside it, and
// is handed over between two rounds.
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
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"dimlantern/notify"

	"dimlantern/workbench"

	"dimlantern/query"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/measure"
	"dimlantern/core/trial"
	"dimlantern/export"
	"dimlantern/folder"
	"dimlantern/hosts"
	"dimlantern/intake"
	"dimlantern/report"
	"dimlantern/snapshot"
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
	// Host is what this machine is called; "" is as the system calls it.
	Host string
	// Version is that of the program, for the centre.
	Version string
	// Roots are trusted when people are told over TLS; nil are the system's.
	Roots *x509.CertPool
	// NoEvents makes it poll, as on file systems without change events.
	NoEvents bool
}

// Service is a running service. There is one for each data folder. Desk, Serve, Join, Reload
// and the window may be used by any goroutine; everything else belongs to the loop, and
// others get at it by do.
type Service struct {
	o       Options
	house   *snapshot.House
	lock    *os.File
	store   *store.Store
	window  *snapshot.Window // what others see
	ledger  *query.Ledger
	query   *query.Asker
	bench   *workbench.Workbench
	outbox  *notify.Outbox
	decider *notify.Decider
	deliver *export.Deliveries
	reports *report.Maker

	settings *lang.Settings
	texts    []folder.Text
	findings map[string]int // of the linter, by rule
	feeds    []*lang.Rule   // of which what is something for them is handed on to the centre
	engine   *engine.Engine
	follower *intake.Follower
	ways     *ways
	watcher  *fsnotify.Watcher
	edits    edits
	meter    meter
	counted  *measure.Table // what measures have counted
	// delivering tells that the loop runs, and deliveries with it.
	delivering bool

	batch  store.Batch // what the round has done, and was not committed yet
	ticks  map[tickKey]said
	reach  entry.Instant // how far entries have come; not written into the journal yet
	fired  []engine.Transition
	times  times
	rest   int  // bytes of journal since the last snapshot of the engine
	whole  bool // the next commit keeps the engine's whole state
	failed time.Time
	stuck  time.Time // since when nothing can be committed, where that is so

	trouble     map[string]string // what keeps the service from all of its work, by kind
	notices     []api.Notice
	seq         int64 // grows with each change that a screen would show at once
	flow        int64 // grows as entries come
	reading     bool  // not read to the end yet
	catching    bool  // since the start, the present has not been reached
	dropped     int64 // keys that went, as far as that was told
	begun       int   // how many logs rules that await were told of
	unseen      []snapshot.Unseen
	unseenNames []string // as the engine knows them
	bare        bare

	beside    beside
	recount   recount
	joined    *joined                      // to a centre; nil where it has joined none
	member    atomic.Pointer[hosts.Member] // its side of the centre, for other goroutines than the loop
	centre    *centre                      // nil where it is none
	door      atomic.Bool                  // the socket is there
	drafts    map[string][]api.Draft       // by person; nil before they are asked for
	commands  chan func()
	reload    chan struct{}
	hostNews  chan struct{} // something about the centre or its hosts has changed
	remarks   chan string   // notices of other goroutines
	lastRound atomic.Int64  // when a round ended last, in nanoseconds
}

// beside is the work that goes on beside the loop, until the service ends.
type beside struct {
	ctx  context.Context
	stop context.CancelFunc
	all  sync.WaitGroup
}

// start does something beside the loop.
func (b *beside) start(f func(context.Context)) { b.all.Go(func() { f(b.ctx) }) }

// end ends the work, and waits for it.
func (b *beside) end() {
	b.stop()
	b.all.Wait()
}

// times are when the loop did last what it does now and then.
type times struct {
	placed, snapped, trimmed, spent, hosts time.Time
}

// said is how much was said.
type said struct{ entries, bytes int64 }

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
	s := &Service{o: o, trouble: map[string]string{}, ticks: map[tickKey]said{}, reach: entry.None,
		commands: make(chan func()),
		reload:   make(chan struct{}, 1), hostNews: make(chan struct{}, 1), catching: true, remarks: make(chan string,
			100), meter: newMeter(),
		settings: &lang.Settings{}, engine: engine.New(nil)}
	s.edits.ready = make(chan *draft, 1)
	s.beside.ctx, s.beside.stop = context.WithCancel(context.Background())
	s.house = &snapshot.House{Settings: o.Settings, Data: o.Data, Where: o.Where, Channels: o.Channels,
		Began: entry.Of(time.Now())}
	if s.house.Host = o.Host; o.Host == "" {
		s.house.Host, _ = os.Hostname()
	}
	s.house.Joined = func(own []folder.Text) []folder.Text { return withSent(o.Data, own) }
	s.house.Tokens = func() []byte { return tokens(o.Data) }
	var err error
	if s.lock, err = lockFolder(o.Data); err != nil {
		return nil, err
	}
	if err := s.open(); err != nil {
		if s.ways != nil {
			s.ways.close()
		}
		if s.store != nil {
			s.store.Close()
		}
		s.lock.Close()
		return nil, err
	}
	return s, nil
}

func (s *Service) open() (err error) {
	o := &s.o
	if s.house.Secret, err = Secret(o.Data); err != nil {
		return err
	}
	if err := tighten(o.Data); err != nil {
		o.Log.Warn(err.Error())
		s.trouble["rights"] = err.Error()
	}
	if s.store, err = store.Open(o.Data); err != nil {
		return err
	}
	if err := s.takeRescue(); err != nil {
		return err
	}
	s.ways = newWays(o.Data, s.house.Host, o.Channels, o.Input, s.remark)
	s.window = snapshot.NewWindow(&snapshot.Snapshot{House: s.house, Settings: s.settings, Engine: &engine.View{},
		Spent: &snapshot.Spent{}})
	s.query = &query.Asker{Window: s.window, Store: s.store, Do: s.doWithEngine}
	s.ledger = query.NewLedger(s.query, filepath.Join(o.Data, NotesFolder))
	s.ledger.Remote, s.ledger.KeptThere = s.askHosts, query.KeptThere(o.Data)
	s.bench = &workbench.Workbench{Window: s.window, Store: s.store, Query: s.query, Reload: s.Reload,
		TakeUp: s.takeUpNow, TakeUpAll: s.takeUpAll, State: s.state, Remote: s.askHosts}
	s.query.Busy = s.bench.Busy
	s.outbox = notify.NewOutbox(notify.OutboxOptions{Window: s.window, Store: s.store, Log: o.Log, Roots: o.Roots,
		Detail: s.query.Detail,
		Notice: func(fields map[string]any) { s.writeItself(time.Now(), fields) }})
	s.decider = &notify.Decider{Store: s.store, Batch: &s.batch, Log: o.Log, Wake: s.outbox.Wake}
	s.deliver = export.NewDeliveries(export.Site{Store: s.store, Host: s.house.Host, Roots: o.Roots,
		Readable: s.ways.readable, Own: s.ways.kept.Own, Centre: s.toCentre, Count: s.store.KeptIn, Told: s.remark,
		Noticed: func(fields map[string]any) { s.writeItself(time.Now(), fields) }})
	s.reports = &report.Maker{Window: s.window, Store: s.store, Data: o.Data, Ask: s.ledger.Kept,
		Shift: s.query.Handover, Tell: s.outbox.Give, Told: s.remark,
		Noticed: func(fields map[string]any) { s.writeItself(time.Now(), fields) }}
	return s.start()
}

// remark lets the loop tell something, for other goroutines.
func (s *Service) remark(text string) {
	select {
	case s.remarks <- text:
	default: // so many at once say nothing more
	}
}

// start brings the engine to where it was, and then the settings up to date.
func (s *Service) start() error {
	texts, unread := s.house.Read()
	if _, e := os.Stat(s.o.Settings); errors.Is(e, os.ErrNotExist) {
		unread = nil
	}
	s.follower = intake.NewFollower(intake.Options{Host: s.house.Host, Place: s.store.PlaceOf,
		Series: s.store.SeriesOf, Known: s.store.Knows, Own: s.ways.kept.Own, NoEvents: s.o.NoEvents})
	if err := s.openHosts(); err != nil {
		return err
	}
	if err := s.recover(); err != nil {
		s.o.Log.Warn("the kept state cannot be used", "reason", err)
		s.trouble["state"] = fmt.Sprintf("the kept state could not be used, so counting starts anew: %v", err)
		s.engine = engine.New(nil)
		s.settings = &lang.Settings{}
	}
	s.engine.Reporter = s.house.Reporter()
	if err := s.decider.Recover(); err != nil {
		return err
	}
	if b, err := s.store.Meta("unseen"); err == nil && b != nil {
		json.Unmarshal(b, &s.unseenNames) // what cannot be read was told of as blind, and no more
	}
	texts, newer := folder.Held(texts, s.texts)
	s.tellNewer(newer)
	settings, ds := s.house.Check(texts)
	switch why := doubtful(s.texts, s.settings, texts, settings); {
	case unread != nil && len(s.texts) > 0:
		s.trouble["settings"] = unread.Error() + "; the last good settings go on"
		texts = s.texts
	case unread != nil:
		s.trouble["settings"] = unread.Error() + "; Dim Lantern runs without it"
	case why != "" && len(s.texts) > 0:
		s.trouble["apply"] = why + appliedByHand
		s.o.Log.Warn(s.trouble["apply"])
		s.edits.stamp = s.stamp(texts)
		texts = s.texts
	}
	if folder.Same(texts, s.texts) {
		settings, ds = s.house.Check(texts)
	}
	if len(s.texts) > 0 && !folder.Same(texts, s.texts) {
		s.recordSettings(s.texts, texts, "taken up at the start", nil)
	}
	if unread == nil {
		s.sayErrors(ds, "runs without what is wrong")
		s.edits.wrong = s.trouble["settings"]
	}
	if s.edits.stamp == "" {
		s.edits.stamp = s.stamp(texts)
	}
	same := !lang.Errors(ds) && s.trouble["state"] == "" && len(s.texts) > 0 && folder.Same(texts, s.texts)
	if same { // the state that was read belongs to them as it is
		settings = s.settings
	}
	if err := s.countBy(settings); err != nil {
		return err
	}
	s.publish(time.Now()) // from which the draft is made
	d := &draft{texts: texts, settings: settings, ds: ds}
	d.make(context.Background(), s.window.Now())
	if d.err != nil {
		return d.err
	}
	s.use(d)
	s.whole = !same
	s.bare.look = time.Now().Add(bareWait)
	s.batch.Now = entry.Of(time.Now())
	err := s.commit()
	s.publish(time.Now())
	return err
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
	s.settings, _ = s.house.CheckErrors(texts)
	s.texts = texts
	rules := trial.Active(s.settings)
	snap, err := s.store.Meta("snapshot")
	if err != nil {
		return err
	}
	if snap == nil {
		s.engine = engine.New(rules)
		s.engine.MostKeys, s.engine.Reporter = s.settings.Keys(), s.house.Reporter()
		return nil
	}
	if snap, err = s.unseal(snap); err != nil {
		return err
	}
	if s.engine, err = engine.Decode(rules, snap); err != nil {
		return err
	}
	s.engine.MostKeys, s.engine.Reporter = s.settings.Keys(), s.house.Reporter()
	journal, err := s.store.Journal()
	if err != nil {
		return err
	}
	for _, j := range journal {
		if j, err = s.unseal(j); err != nil {
			return err
		}
		if err := s.replayJournal(j); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) notice(text string) {
	s.notices = append(s.notices, api.Notice{At: entry.Of(time.Now()), Text: text})
	if n := len(s.notices) - 20; n > 0 {
		s.notices = s.notices[n:]
	}
	s.o.Log.Info(text)
	s.seq++
}
