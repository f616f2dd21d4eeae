package intake

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"time"

	"dimlantern/core/verdict"

	"dimlantern/core/origin"

	"github.com/fsnotify/fsnotify"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
)

// Follower follows the files of all sources. It belongs to one goroutine, but for
// Wake.
type Follower struct {
	host   string // of this machine
	places func(source, series string) []byte
	series func(source string) []string
	known  func(source string) bool
	// restored are sources of which the origins of before were taken up.
	restored map[string]bool
	own      func(path string) bool
	printed  map[string]printed // compressed files that were looked into, by path
	sources  []*lang.Source
	plans    map[string]*match.Plan
	origins  map[string]*Origin
	order    []*Origin // by source, then series
	frozen   []*Origin // as Frozen returned them last
	empty    map[string]string
	watcher  *fsnotify.Watcher      // nil where the system has no change events
	watched  map[string]os.FileInfo // folders of whose changes the system tells
	dirty    map[string]bool        // paths that have changed since the last Drain
	looked   time.Time
	polled   time.Time
	again    bool // look at the folders again soon
	blindly  bool // the system does not tell of changes in some folder
	buf      []byte
}

// Options say what a Follower needs to know.
type Options struct {
	Host string // the name of this machine
	// Place returns the kept place of an origin, or nil.
	Place func(source, series string) []byte
	// Series are the series of which places of a source are kept; nil are none.
	Series func(source string) []string
	// Known tells whether a source has been seen before.
	Known func(source string) bool
	// Own tells whether a path is of a file beside logs that their writer keeps for itself: that
	// it changes says nothing of them. Nil is of none.
	Own func(path string) bool
	// NoEvents makes the follower poll only.
	NoEvents bool
}

// NewFollower returns a follower without sources.
func NewFollower(o Options) *Follower {
	f := &Follower{host: o.Host, places: o.Place, series: o.Series, known: o.Known, own: o.Own,
		origins: map[string]*Origin{},
		empty:   map[string]string{}, watched: map[string]os.FileInfo{}, dirty: map[string]bool{},
		buf: make([]byte, blockSize)}
	if !o.NoEvents {
		f.watcher, _ = fsnotify.NewWatcher()
	}
	return f
}

// Close lets go of all files.
func (f *Follower) Close() {
	for _, o := range f.order {
		for _, m := range o.place.Members {
			m.close()
		}
	}
	if f.watcher != nil {
		f.watcher.Close()
	}
}

// Use sets the sources and their plans. Origins that are known go on from their
// places.
func (f *Follower) Use(sources []*lang.Source, plans map[string]*match.Plan) {
	f.plans = plans
	f.sources = nil
	keep := map[string]bool{}
	for _, s := range sources {
		if !s.Off {
			f.sources = append(f.sources, s)
			keep[s.Name] = true
		}
	}
	for key, o := range f.origins {
		if !keep[o.Source.Name] {
			for _, m := range o.place.Members {
				m.close()
			}
			delete(f.origins, key)
			delete(f.restored, o.Source.Name)
			continue
		}
		for _, s := range f.sources {
			if s.Name == o.Source.Name {
				o.Source = s
			}
		}
		o.attach(plans[o.Source.Name])
	}
	f.looked = time.Time{}
}

// Origins are all origins, by source and series.
func (f *Follower) Origins() []*Origin { return f.order }

// Empty are the sources that no file fits, with the reason in words.
func (f *Follower) Empty() map[string]string { return f.empty }

// How often folders and files are looked at when no event says that they have
// changed: often where the system tells of no changes, or a file is missed.
const (
	lookEvery  = 3 * time.Second
	lookSeldom = 10 * time.Second
	pollEvery  = 500 * time.Millisecond
	pollSeldom = 3 * time.Second
)

// missedFor is how long a file is missed. Later its folder tells when it comes back, where that is
// still watched.
const missedFor = 2 * newestGone

// Seldom tells whether the system tells of all changes, as far as is known, and
// nothing is missed.
func (f *Follower) Seldom() bool {
	if f.watcher == nil || f.blindly {
		return false
	}
	for _, o := range f.order {
		if !o.absent.IsZero() && (f.looked.Sub(o.absent) < missedFor || f.watched[filepath.Dir(o.Series)] == nil) {
			return false
		}
	}
	return true
}

// Events delivers what the system tells of changes; nil where it tells nothing.
// Each event must be given to Note.
func (f *Follower) Events() <-chan fsnotify.Event {
	if f.watcher == nil {
		return nil
	}
	return f.watcher.Events
}

// Errors delivers what keeps the system from telling of changes, such as too many
// of them. Each must be given to Missed.
func (f *Follower) Errors() <-chan error {
	if f.watcher == nil {
		return nil
	}
	return f.watcher.Errors
}

// Wrote takes note of entries that were kept in a file of a source.
func (f *Follower) Wrote(source, path string) {
	if o := f.origins[source+"\x00"+readName(path).series]; o != nil && o.base == path {
		o.unread = true
		return
	}
	f.again = true
}

// Reach tells whether the way is open by which entries of a source come that are
// kept; with words it is not, because of them. Which says of which origins that is so.
func (f *Follower) Reach(source string, which func(o *Origin) bool, words, mend string, now time.Time) {
	for _, o := range f.order {
		if o.Source.Name != source || !which(o) {
			continue
		}
		if words != "" {
			o.set(origin.Unreached, words, mend, now)
		} else if o.Condition == origin.Unreached {
			o.set(origin.Seen, "", "", now)
		}
	}
}

// Held are the files of which something has still to be read.
func (f *Follower) Held() map[string]bool {
	out := map[string]bool{}
	for _, o := range f.order {
		for _, m := range o.place.Members {
			if m.Offset < m.Size || o.unread {
				out[m.Path] = true
			}
		}
	}
	return out
}

// Missed notes that changes may have been missed: everything is looked at.
func (f *Follower) Missed(error) {
	f.again, f.polled = true, time.Time{}
}

// Note takes note of an event.
func (f *Follower) Note(ev fsnotify.Event) {
	if ev.Op&(fsnotify.Create|fsnotify.Remove|fsnotify.Rename) != 0 && (f.own == nil || !f.own(ev.Name)) {
		f.again = true
	}
	if ev.Op&(fsnotify.Write|fsnotify.Create) != 0 {
		f.dirty[ev.Name] = true
	}
}

// Look looks at the folders, where it is time to, for new files, rotations, and
// files that have gone.
func (f *Follower) Look(now time.Time) {
	every := lookEvery
	if f.Seldom() {
		every = lookSeldom
	}
	for _, o := range f.order {
		f.again = f.again || o.relook
		o.relook = false
	}
	if !f.again && now.Sub(f.looked) < every {
		return
	}
	f.again, f.looked = false, now
	for _, s := range f.sources {
		f.restore(s, now)
	}
	l := &look{f: f, now: now, folders: map[string]*folder{}, series: map[string]bool{}}
	for _, o := range f.origins {
		o.thaw()
		l.series[o.Series] = true
	}
	for _, s := range f.sources {
		l.source(s)
	}
	f.order = f.order[:0]
	for _, o := range f.origins {
		f.order = append(f.order, o)
	}
	sort.Slice(f.order, func(i, j int) bool {
		a, b := f.order[i], f.order[j]
		if a.Source.Name != b.Source.Name {
			return a.Source.Name < b.Source.Name
		}
		return a.Series < b.Series
	})
}

// recent tells whether a file has changed within the source's time, or is followed
// already.
func (f *Follower) recent(s *lang.Source, series, path string, now time.Time) bool {
	if f.origins[s.Name+"\x00"+series] != nil {
		return true
	}
	info, err := os.Stat(path)
	return err != nil || now.Sub(info.ModTime()) < s.Changed
}

// settledMembers lists the files of a series when no rotation is going on: while
// names are changed, a listing may miss a file. Two that are equal have not.
func settledMembers(series string) []found {
	files := members(series)
	for range 20 {
		again := members(series)
		if sameFiles(files, again) {
			return again
		}
		files = again
		time.Sleep(time.Millisecond)
	}
	return files
}

func sameFiles(a, b []found) bool {
	return slices.EqualFunc(a, b, func(a, b found) bool { return a.path == b.path && a.id == b.id })
}

func kindOf(m fs.FileMode) string {
	switch {
	case m.IsDir():
		return "a folder"
	case m&fs.ModeNamedPipe != 0:
		return "a pipe"
	case m&fs.ModeSocket != 0:
		return "a socket"
	}
	return "a device"
}

// watch asks the system to tell of changes in a folder. Where it cannot, looking
// now and then serves.
func (f *Follower) watch(dir string) {
	if f.watcher == nil {
		return
	}
	is, err := os.Stat(dir)
	if was := f.watched[dir]; was != nil {
		if err == nil && os.SameFile(is, was) {
			return
		}
		f.watcher.Remove(dir) // it was taken away, mounted over, or is called otherwise: that one tells nothing of dir
		delete(f.watched, dir)
	}
	if err != nil {
		return
	}
	if f.watcher.Add(dir) == nil {
		f.watched[dir] = is
	} else if _, err := os.Stat(dir); err == nil {
		f.blindly = true // it is there, but changes in it are not told
	}
}

// Poll marks the origins that may have something to read: those of which the
// system told, and, now and then, all.
func (f *Follower) Poll(now time.Time) {
	every := pollEvery
	if f.Seldom() {
		every = pollSeldom
	}
	all := now.Sub(f.polled) >= every
	if all {
		f.polled = now
	}
	for _, o := range f.order {
		if every := o.Source.Every; every > 0 {
			if now.Sub(o.polled) >= every {
				o.polled, o.unread = now, true
				o.thaw()
			}
			continue
		}
		if !o.unread {
			o.unread = all || f.dirty[o.base] || o.reader.Plan.Closed() > 0 && o.Behind() > 0
		}
	}
	clear(f.dirty)
}

// Again marks the origins of some sources to be read once more, before anything is
// made of what they did not say. Those that are looked at only now and then are not.
func (f *Follower) Again(sources map[string]bool) {
	for _, o := range f.order {
		if sources[o.Source.Name] && o.Source.Every == 0 {
			o.unread = true
		}
	}
}

// Sink takes what a Drain reads, in the order of the times that the origins have
// reached. It is called by the goroutine that drains, one call at a time, and must not drain.
type Sink interface {
	// Take takes a judged entry, which is the sink's from then on. The origin is only lent.
	Take(o *Origin, j *verdict.Judged)
	// Passed tells that the origin's entries up to that instant have been taken,
	// and how many arrived when.
	Passed(o *Origin, reached entry.Instant, ticks []match.Tick)
}

// Drain reads on in all origins and gives what it finds to the sink, merged by
// time, until there is nothing left, or more than limit items have been given. It
// answers true where nothing was left.
func (f *Follower) Drain(sink Sink, limit int, now time.Time) (bool, error) {
	var live []*Origin
	for _, o := range f.order {
		if o.unread || o.peek() != nil {
			more, err := o.fill(f.buf, now)
			if err != nil {
				return false, err
			}
			if more {
				live = append(live, o)
			}
		}
	}
	for n := 0; len(live) > 0; n++ {
		if n >= limit {
			return false, nil
		}
		best := live[0]
		for _, o := range live[1:] {
			if o.peek().reached < best.peek().reached {
				best = o
			}
		}
		x := best.peek()
		if x.j != nil {
			sink.Take(best, x.j)
		} else {
			sink.Passed(best, x.reached, x.ticks)
			n += 50
		}
		best.pop()
		if best.peek() == nil {
			more, err := best.fill(f.buf, now)
			if err != nil {
				return false, err
			}
			if !more {
				live = slices.DeleteFunc(live, func(o *Origin) bool { return o == best })
			}
		}
	}
	return true, nil
}

// Dirty returns the origins whose place has changed since they were last asked,
// and forgets that.
func (f *Follower) Dirty() []*Origin {
	var out []*Origin
	for _, o := range f.order {
		if o.dirty {
			o.dirty = false
			out = append(out, o)
		}
	}
	return out
}

// Changed returns the origins whose condition has changed since they were last
// asked, and forgets that.
func (f *Follower) Changed() []*Origin {
	var out []*Origin
	for _, o := range f.order {
		if o.changed {
			o.changed = false
			out = append(out, o)
		}
	}
	return out
}

// Told returns what is to be told of origins since this was last asked, in words.
func (f *Follower) Told() []string {
	var out []string
	for _, o := range f.order {
		for _, words := range o.told {
			out = append(out, o.Name+": "+words)
		}
		o.told = nil
	}
	return out
}
