package service

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"dimlantern/intake/program"
	"dimlantern/intake/spool"

	"dimlantern/api"

	"dimlantern/core/origin"
	"dimlantern/core/trial"

	"github.com/dustin/go-humanize"

	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/intake"
	"dimlantern/intake/channel"
	"dimlantern/intake/feed"
	"dimlantern/intake/journal"
	"dimlantern/intake/listen"
	"dimlantern/intake/pipe"
)

// ways are the ways in by which entries come that exist nowhere else. Each source
// has a collector, which keeps what comes before it is judged; then the follower
// reads it as it reads files.
type ways struct {
	kept  *spool.Spool
	host  string // of this machine
	input *pipe.Feed
	// channels is where the channels are of sources that do not say; "" is this machine.
	channels string
	notice   func(string)
	ctx      context.Context
	stop     context.CancelFunc
	all      sync.WaitGroup
	wrote    chan struct{}
	started  time.Time // when reading began

	mu      sync.Mutex
	news    map[news]bool // files that were written to
	running map[string]*collector
	indexed *spool.Index // not taken yet
	tidying atomic.Bool

	// ahead is how many bytes were kept and not judged yet, and judged when everything
	// was last, in nanoseconds.
	ahead, judged atomic.Int64

	glances map[string]glance // the judge's own
}

type news struct{ source, path string }

func newWays(data, host, channels string, input io.Reader, notice func(string)) *ways {
	w := &ways{kept: spool.Open(data), host: host, channels: channels, input: pipe.New(input), notice: notice,
		wrote: make(chan struct{}, 1), news: map[news]bool{}, running: map[string]*collector{},
		glances: map[string]glance{}}
	w.ctx, w.stop = context.WithCancel(context.Background())
	return w
}

// use starts and stops the ways in of settings.
func (w *ways) use(settings *lang.Settings) {
	want := map[string]*lang.Source{}
	for _, s := range settings.Sources {
		if s.Kept() && !s.Off {
			want[s.Name] = s
		}
	}
	for name, c := range w.running {
		if s := want[name]; s == nil || trial.WaysOf(s) != c.spec {
			c.stop()
			<-c.done
			w.mu.Lock()
			delete(w.running, name)
			w.mu.Unlock()
		} else {
			c.mu.Lock()
			c.source, c.plan = s, match.NewPlan(settings, s, nil, time.Local)
			c.mu.Unlock()
		}
	}
	for _, name := range slices.Sorted(maps.Keys(want)) {
		if w.running[name] == nil {
			w.start(settings, want[name])
		}
	}
}

func (w *ways) start(settings *lang.Settings, s *lang.Source) {
	ctx, stop := context.WithCancel(w.ctx)
	c := &collector{w: w, source: s, plan: match.NewPlan(settings, s, nil, time.Local), spec: trial.WaysOf(s),
		stop: stop, done: make(chan struct{}), hosts: map[string]map[string]bool{}}
	positions := w.kept.Positions(s.Name)
	c.resume(positions)
	c.feeds = w.feedsOf(s, positions.Streams)
	w.mu.Lock()
	w.running[s.Name] = c
	w.mu.Unlock()
	w.all.Go(func() {
		defer close(c.done)
		c.run(ctx)
	})
}

func (w *ways) feedsOf(s *lang.Source, positions map[string]spool.Position) []feed.Feed {
	at := map[string]string{}
	for stream, p := range positions {
		at[stream] = p.Position
	}
	var out []feed.Feed
	for _, l := range s.Listen {
		out = append(out, listen.New(l))
	}
	if len(s.Channels) > 0 {
		out = append(out, w.channelFeeds(s, at)...)
	}
	if len(s.Command) > 0 {
		out = append(out, program.New(s.Command, s.Entry))
	}
	if s.Input {
		w.input.Join(s.Entry)
		out = append(out, w.input)
	}
	return out
}

// channelFeeds are the feeds of a source of channels, one of each place.
func (w *ways) channelFeeds(s *lang.Source, positions map[string]string) []feed.Feed {
	open := func(place string, positions map[string]string) feed.Feed {
		if s.Journal() {
			return journal.New(place, s.Begin, positions)
		}
		return channel.New(cmp.Or(place, w.channels), s.Channels, s.Begin, positions)
	}
	if len(s.At) == 0 {
		return []feed.Feed{open("", positions)}
	}
	var out []feed.Feed
	for i, place := range s.At {
		f := open(place, feed.PositionsAt(positions, place, i == 0))
		out = append(out, feed.At(f, place, s.Channels, len(s.At) > 1))
	}
	return out
}

// close stops all ways, and keeps what has been taken by them.
func (w *ways) close() error {
	w.stop()
	w.all.Wait()
	return w.kept.Close()
}

// take tells which files have been written to since this was last asked.
func (w *ways) take() []news {
	w.mu.Lock()
	defer w.mu.Unlock()
	out := slices.Collect(maps.Keys(w.news))
	clear(w.news)
	return out
}

func (w *ways) tell(source, path string) {
	w.mu.Lock()
	w.news[news{source, path}] = true
	w.mu.Unlock()
	select {
	case w.wrote <- struct{}{}:
	default:
	}
}

// Keeping goes ahead of judging by so many bytes at most, so that who floods waits,
// and nobody else behind that one; but not where judging is busy with a backlog.
const (
	mostAhead = 256 << 10
	busyAfter = 250 * time.Millisecond
)

// pace waits while keeping is too far ahead of judging.
func (w *ways) pace(ctx context.Context) {
	for w.ahead.Load() > mostAhead && time.Now().UnixNano()-w.judged.Load() < int64(busyAfter) && ctx.Err() == nil {
		time.Sleep(500 * time.Microsecond)
	}
}

// caught notes that everything was judged that had been kept when mark was ahead.
func (w *ways) caught(mark int64, now time.Time) {
	w.ahead.Add(-mark)
	w.judged.Store(now.UnixNano())
}

// view is how the way in of a source is; false where it has none of its own.
func (w *ways) view(source string) (api.WayView, bool) {
	w.mu.Lock()
	c := w.running[source]
	w.mu.Unlock()
	if c == nil {
		return api.WayView{}, false
	}
	v := api.WayView{State: together(c.feeds)}
	slices.SortStableFunc(v.State.Senders, func(a, b origin.Sender) int { return b.Last.Compare(a.Last) })
	if c.shared.Load() && v.State.Note == "" {
		v.State.Note = fmt.Sprintf("%d senders have a log of their own; the others share one, each entry with its "+
			"sender", maxSenders)
	}
	c.mu.Lock()
	v.Waiting = c.waiting
	c.mu.Unlock()
	v.State.Behind = v.State.Behind || c.holds.Load() // asked after the feeds, so that nothing is between the two
	return v, true
}

// together is how the feeds of a source are. Where each says of which ways it speaks, the source
// cannot be seen when none of them can; else what cannot be seen of one may concern all that
// comes.
func together(feeds []feed.Feed) origin.Way {
	if len(feeds) == 1 {
		return feeds[0].State()
	}
	v := origin.Way{Ways: map[string]origin.Trouble{}}
	open := false
	for i, f := range feeds {
		s := f.State()
		open = open || s.Words == ""
		if i == 0 || v.Words == "" && s.Words != "" {
			v.Words, v.Mend, v.Since = s.Words, s.Mend, s.Since
		}
		maps.Copy(v.Ways, s.Ways)
		v.Senders = merged(v.Senders, s.Senders)
		v.Lost += s.Lost
		v.Note = cmp.Or(v.Note, s.Note)
		v.Behind = v.Behind || s.Behind && (s.Words == "" || len(s.Ways) == 0)
	}
	if open && len(v.Ways) > 0 {
		v.Words, v.Mend = "", ""
	}
	return v
}

// merged adds up who sends by several ways.
func merged(a, b []origin.Sender) []origin.Sender {
	for _, x := range b {
		i := slices.IndexFunc(a, func(y origin.Sender) bool { return y.Name == x.Name })
		if i < 0 {
			a = append(a, x)
			continue
		}
		y := &a[i]
		y.Received, y.Dropped, y.Streams = y.Received+x.Received, y.Dropped+x.Dropped, y.Streams+x.Streams
		if x.Last.After(y.Last) {
			y.Last = x.Last
		}
		if y.Note == "" {
			y.Note = x.Note
		}
	}
	return a
}

// glanceFor is how long the judge relies on what it saw of a way.
const glanceFor = 50 * time.Millisecond

type glance struct {
	at time.Time
	v  api.WayView
}

// glance is like view, and may be a moment old: it is asked again and again.
func (w *ways) glance(source string, now time.Time) (api.WayView, bool) {
	if g, ok := w.glances[source]; ok && now.Sub(g.at) < glanceFor && !now.Before(g.at) {
		return g.v, true
	}
	v, ok := w.view(source)
	if ok {
		w.glances[source] = glance{now, v}
	}
	return v, ok
}

// conditions hands on to the follower which ways are open.
func (w *ways) conditions(f *intake.Follower, sources []*lang.Source, now time.Time) {
	for _, s := range sources {
		v, ok := w.glance(s.Name, now)
		if !ok {
			continue
		}
		f.Reach(s.Name, func(o *intake.Origin) bool { _, own := v.State.Ways[o.Way]; return !own }, v.State.Words,
			v.State.Mend, now)
		for way, t := range v.State.Ways {
			f.Reach(s.Name, func(o *intake.Origin) bool { return o.Way == way }, t.Words, t.Mend, now)
		}
	}
}

// behind tells whether something of a source has come, and was not kept yet.
func (w *ways) behind(source string, now time.Time) bool {
	v, ok := w.glance(source, now)
	return ok && (v.Waiting > 0 || v.State.Behind && (v.State.Words == "" || v.State.Ended))
}

// longestStart is how long the first reading waits for ways that are behind, so that
// all that was written meanwhile is judged in its order.
const longestStart = 5 * time.Second

// starting tells whether some way has not brought yet what was there at the start.
func (w *ways) starting(sources []*lang.Source, now time.Time) bool {
	if w.started.IsZero() {
		w.started = now
	}
	if now.Sub(w.started) > longestStart {
		return false
	}
	for _, s := range sources {
		if s.Kept() && w.behind(s.Name, now) {
			return true
		}
	}
	return false
}

// readable are the sources as the follower reads them: kept entries are files.
func (w *ways) readable(sources []*lang.Source) []*lang.Source {
	out := slices.Clone(sources)
	for i, s := range out {
		if s.Kept() {
			c := *s
			c.Files, c.Begin = w.kept.Globs(s.Name), lang.Begin{How: lang.BeginOldest}
			out[i] = &c
		}
	}
	return out
}

// tidy compresses what is kept, and lets go of what is too old or too much, beside
// the work. Held are the files of which something has still to be read.
func (w *ways) tidy(settings *lang.Settings, held map[string]bool) {
	keep := map[string]spool.Retention{}
	for _, s := range settings.Sources {
		keep[s.Name] = spool.Retention{For: s.Keep.For, Read: s.Keep.How == "hits" || s.Keep.How == "nothing"}
	}
	for _, s := range settings.SentSources {
		if s.KeepAtCentre > 0 {
			keep[s.Name] = spool.Retention{For: s.KeepAtCentre}
		}
	}
	capacity := settings.Capacity()
	if !w.tidying.CompareAndSwap(false, true) {
		return
	}
	w.all.Go(func() {
		defer w.tidying.Store(false)
		over, err := w.kept.Tidy(keep, capacity, func(path string) bool { return held[path] }, time.Now())
		if over > 0 {
			w.notice(fmt.Sprintf("kept entries take more than %s: the oldest went, %s", humanize.IBytes(uint64(
				capacity)),
				humanize.IBytes(uint64(over))))
		}
		if err != nil {
			w.notice(fmt.Sprintf("kept entries cannot be compressed: %v", err))
		}
		x := w.kept.Index()
		w.mu.Lock()
		defer w.mu.Unlock()
		if x != nil && w.indexed != nil { // the one before was not taken yet
			x.Changed, x.Gone = append(w.indexed.Changed, x.Changed...), append(w.indexed.Gone, x.Gone...)
		}
		if x != nil {
			w.indexed = x
		}
	})
}

// index is what has changed of what is kept, once; nil where nothing has.
func (w *ways) index() *spool.Index {
	w.mu.Lock()
	defer w.mu.Unlock()
	x := w.indexed
	w.indexed = nil
	return x
}
