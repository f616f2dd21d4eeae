package export

import (
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/fsnotify/fsnotify"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/core/measure"
	"dimlantern/core/verdict"
	"dimlantern/intake"
	"dimlantern/store"
)

// Site is what deliveries work with. All of it may be called concurrently.
type Site struct {
	Store *store.Store
	Host  string
	Roots *x509.CertPool // trusted instead of the system's; nil is the system's
	// Readable are sources as files that can be read: where entries are kept, these.
	Readable func([]*lang.Source) []*lang.Source
	// Own tells whether a path is of a file beside kept entries that is not one of them.
	Own func(path string) bool
	// Count is how many entries a file of kept entries has; 0 where that is not known.
	Count func(path string) int64
	// Centre hands entries of a source over to the centre that this machine has joined, and answers once they are kept
	// there; see CentreKind.
	Centre func(ctx context.Context, source string, entries []CentreEntry) error
	// Told is told what people should know; Noticed, what rules may look at.
	Told    func(words string)
	Noticed func(fields map[string]any)
}

// Deliveries are all that run. Use and End belong to one goroutine; the rest may be called concurrently.
type Deliveries struct {
	site Site
	mu   sync.Mutex
	list map[string]*delivery // a new one for each change
	off  []api.Delivery
	// leaving are those that end, by their names: closed once they have, and are forgotten.
	leaving map[string]chan struct{}
}

// NewDeliveries returns none.
func NewDeliveries(site Site) *Deliveries {
	return &Deliveries{site: site, list: map[string]*delivery{}, leaving: map[string]chan struct{}{}}
}

// Use delivers by other settings from now on, and does not wait for what ends. Deliveries that stand there
// as they did go on; those that are no longer there are forgotten. Texts are the settings' blocks as they
// are written.
func (x *Deliveries) Use(s *lang.Settings, texts func(kind, name string) string) {
	list := map[string]*delivery{}
	var off []api.Delivery
	for _, d := range s.Delivers {
		if d.Off {
			off = append(off, api.Delivery{Name: d.Name, To: d.To.String(), Off: true,
				Words: "off: nothing is delivered; what comes meanwhile waits in its logs as long as they are there"})
			continue
		}
		stamp, was := stampOf(s, d, texts), x.list[d.Name]
		if was != nil && was.stamp == stamp {
			list[d.Name] = was
			continue
		}
		n := &delivery{site: &x.site, of: d, settings: s, stamp: stamp}
		n.state.Store(&api.Delivery{Name: d.Name, To: d.To.String(), Words: "it begins", Buffer: d.Waiting()})
		after := x.leaving[d.Name]
		if was != nil {
			was.cancel()
			after = was.done
		}
		n.begin(after)
		list[d.Name] = n
	}
	for name, was := range x.list {
		if list[name] != nil {
			continue
		}
		was.cancel()
		forget, left := s.Deliver(name) == nil, make(chan struct{})
		x.leaving[name] = left
		go func() {
			defer close(left)
			<-was.done
			if !forget {
				return
			}
			if err := x.site.Store.DropDelivery(name); err != nil {
				x.site.Told(fmt.Sprintf("how far %s had come cannot be forgotten: %v", name, err))
			}
		}()
	}
	x.mu.Lock()
	x.list, x.off = list, off
	x.mu.Unlock()
}

// stampOf is all of the settings that a delivery goes by.
func stampOf(s *lang.Settings, d *lang.Deliver, texts func(kind, name string) string) string {
	list := []string{texts("deliver", d.Name), fmt.Sprint(d.Zone)}
	for _, src := range s.SourcesOf(&lang.Question{On: d.On}) {
		list = append(list, src.Name, texts("source", src.Name), fmt.Sprint(src.Location))
	}
	for _, l := range s.Layouts { // they may include each other
		list = append(list, texts("layout", l.Name))
	}
	for _, k := range s.Kinds {
		list = append(list, texts("kind", k.Name))
	}
	return strings.Join(list, "\x00")
}

// End ends all, and waits for them.
func (x *Deliveries) End() {
	for _, d := range x.list {
		d.cancel()
	}
	for _, d := range x.list {
		<-d.done
	}
	for _, left := range x.leaving {
		<-left
	}
	x.mu.Lock()
	x.list = map[string]*delivery{}
	x.mu.Unlock()
}

// States are how they stand, by their names.
func (x *Deliveries) States() []api.Delivery {
	x.mu.Lock()
	defer x.mu.Unlock()
	out := slices.Clone(x.off)
	for _, d := range x.list {
		out = append(out, *d.state.Load())
	}
	slices.SortFunc(out, func(a, b api.Delivery) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// Held are files of kept entries that have still to be delivered, and whether that is known of all
// deliveries: before it is, nothing may be let go of.
func (x *Deliveries) Held() (map[string]bool, bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	out, known := map[string]bool{}, true
	for _, d := range x.list {
		h := d.held.Load()
		if h == nil {
			known = false
			continue
		}
		for _, p := range *h {
			out[p] = true
		}
	}
	return out, known
}

// delivery hands the entries of its sources on. It reads the logs by itself, from where the receiver has
// taken them: who is slow or gone holds up nothing else, and after a kill it goes on from there.
type delivery struct {
	site     *Site
	of       *lang.Deliver
	settings *lang.Settings
	stamp    string
	state    atomic.Pointer[api.Delivery]
	held     atomic.Pointer[[]string]
	ctx      context.Context
	cancel   context.CancelFunc
	done     chan struct{} // closed once it has ended

	follower *intake.Follower
	to       receiver
	files    *filesReceiver // to, where it writes files
	kept     kept
	cursors  map[string]*cursor // by source and series
	batch    []*item
	bytes    int64
	sent     []*item // that were sent, and are not surely the receiver's
	sentSize int64
	sentAt   time.Time       // the first of them
	since    time.Time       // when the receiver had taken everything last
	keptAt   time.Time       // when it was kept how far it has come
	pushed   int             // of sent, those that have gone out on this connection
	piece    int             // so many go out at once
	takes    bool            // the receiver has taken others since it refused one that was alone
	unsure   map[string]bool // files of kept entries that were read and not surely delivered
	fresh    bool            // something has to be kept
	told     bool            // people, that it waits
	reported bool            // rules, that it is behind
}

// kept is what is kept of a delivery as a whole.
type kept struct {
	Epoch   string // tells its identifiers from those of another delivery of that name
	Known   []string
	Sent    int64
	Refused int64
	Lost    int64
	Gaps    map[string]int64 // bytes that are known to be lost, by the begin of identifiers
	Taken   entry.Instant
}

// cursor is how far it has come in an origin.
type cursor struct {
	store.Cursor
	prefix string // of identifiers
	number int64  // of the last entry that was read
}

// begin lets it run, once another one of its name has ended; nil is that there was none.
func (d *delivery) begin(after <-chan struct{}) {
	d.ctx, d.cancel = context.WithCancel(context.Background())
	d.done = make(chan struct{})
	go func() {
		defer close(d.done)
		if after != nil {
			<-after
		}
		d.run()
	}()
}

// How much is handed over at once, how much may be sent before the receiver has to say that it has it,
// and how long that is waited for.
const (
	batchEntries = 1000
	batchBytes   = 1 << 20
	unsureBytes  = 8 << 20
	unsureFor    = 5 * time.Second
)

// How long is waited before it is tried again to take up where a delivery was, and how often before
// nothing waits for it any more.
const (
	openAgain = 5 * time.Second
	openTries = 12
)

// run delivers until the context ends.
func (d *delivery) run() {
	for tries := 0; d.ctx.Err() == nil; tries++ {
		err := d.open()
		if err == nil {
			break
		}
		d.trouble(err)
		if tries > openTries { // what is kept cannot wait for ever
			d.held.Store(&[]string{})
		}
		d.sleep(openAgain)
	}
	if d.follower == nil {
		return
	}
	defer d.follower.Close()
	defer func() { d.to.close() }()
	for d.ctx.Err() == nil {
		now := time.Now()
		d.follower.Look(now)
		d.follower.Poll(now)
		done := d.fill(now)
		d.lost()
		if len(d.batch) > 0 && !d.hand() {
			return
		}
		d.hold()
		d.settle(done)
		if done && d.ctx.Err() == nil {
			d.rest()
		}
	}
}

// open takes up where it was.
func (d *delivery) open() error {
	was, err := d.site.Store.Delivery(d.of.Name)
	if err != nil {
		return err
	}
	d.kept, d.cursors = kept{}, map[string]*cursor{}
	if was.Data != nil {
		if err := json.Unmarshal(was.Data, &d.kept); err != nil {
			return fmt.Errorf("how far it had come is damaged: %w", err)
		}
	}
	if d.kept.Gaps == nil {
		d.kept.Gaps = map[string]int64{}
	}
	if d.kept.Epoch == "" {
		d.kept.Epoch = strconv.FormatInt(time.Now().UnixNano(), 36)
	}
	bySource := map[string][]string{}
	for _, c := range was.Cursors {
		x := d.cursor(c.Source, c.Series)
		x.Cursor, x.number = c, c.Number
		bySource[c.Source] = append(bySource[c.Source], c.Series)
	}
	zone := cmp.Or(d.of.Zone, time.Local)
	if d.of.To.Kind == "files" {
		d.files = newFiles(d.of, d.site.Store, zone, func(words string) {
			d.site.Told("delivery " + d.of.Name + ": " + words)
		})
		d.to = d.files
	} else if d.of.To.Kind == CentreKind {
		d.to = &centreReceiver{d.site.Centre}
	} else {
		d.to = receiverOf(&d.of.To, zone, d.site.Roots)
	}
	f := intake.NewFollower(intake.Options{Host: d.site.Host, Own: d.site.Own,
		Place: func(source, series string) []byte {
			if c := d.cursors[source+"\x00"+series]; c != nil {
				return c.Data
			}
			return nil
		},
		Series: func(source string) []string { return bySource[source] },
		Known:  func(source string) bool { return slices.Contains(d.kept.Known, source) },
	})
	sources := d.site.Readable(d.settings.SourcesOf(&lang.Question{On: d.of.On}))
	plans := map[string]*match.Plan{}
	for i, src := range sources {
		c := *src
		c.Begin, c.Every = d.of.Begin, 0
		sources[i] = &c
		plans[c.Name] = match.NewWhole(d.settings, &c, d.rule(), time.Local)
	}
	f.Use(sources, plans)
	d.follower, d.since = f, time.Now()
	return nil
}

// rule is a rule whose hits are the entries that are delivered; what it says of them are the fields that
// the delivery captures.
func (d *delivery) rule() *lang.Rule {
	r := measure.Rules([]*lang.Measure{{Name: d.of.Name, Where: d.of.Where, Ignore: d.of.Ignore}})[0]
	for _, c := range lang.Captures(d.of.Where) {
		r.Say += "{" + c + "}"
	}
	return r
}

func (d *delivery) cursor(source, series string) *cursor {
	key := source + "\x00" + series
	c := d.cursors[key]
	if c == nil {
		sum := sha256.Sum256([]byte(key))
		c = &cursor{Cursor: store.Cursor{Source: source, Series: series},
			prefix: d.kept.Epoch + "-" + short(sum[:]) + "-"}
		d.cursors[key] = c
	}
	return c
}

// fill reads on until a batch is full, or nothing is left.
func (d *delivery) fill(now time.Time) (done bool) {
	for !done && len(d.batch) < batchEntries && d.bytes < batchBytes {
		var err error
		if done, err = d.follower.Drain(d, 64, now); err != nil {
			d.trouble(err)
			return true
		}
	}
	return done
}

// Take is part of intake.Sink.
func (d *delivery) Take(o *intake.Origin, j *verdict.Judged) {
	if len(j.Verdicts) == 0 || !j.Verdicts[0].Hit {
		return
	}
	c := d.cursor(o.Source.Name, o.Series)
	c.number++
	x := &item{id: c.prefix + strconv.FormatInt(c.number, 10), entry: j.Entry, fields: j.Entry.Fields}
	if vars := j.Verdicts[0].Vars; len(vars) > 0 {
		x.fields = append(slices.Clone(vars), x.fields...)
	}
	d.batch = append(d.batch, x)
	d.bytes += x.size()
}

// Passed is part of intake.Sink.
func (d *delivery) Passed(*intake.Origin, entry.Instant, []match.Tick) {}

// lost notes what has gone before it could be read.
func (d *delivery) lost() {
	for _, o := range d.follower.Origins() {
		c := d.cursor(o.Source.Name, o.Series)
		bytes, _, why := o.Lost()
		if n := bytes - d.kept.Gaps[c.prefix]; n > 0 {
			d.kept.Lost += n
			d.kept.Gaps[c.prefix], d.fresh = bytes, true
			d.site.Told(fmt.Sprintf("delivery %s: %d bytes of %s were not delivered: %s", d.of.Name, n, o.Name, why))
			d.site.Noticed(map[string]any{"event": "delivery-behind", "delivery": d.of.Name, "lost": n, "log": o.Name,
				"reason": why})
			d.reported = true
		}
	}
	d.follower.Told()
}

// How long is waited before a receiver that did not take something is tried again.
const (
	firstPause = 100 * time.Millisecond
	mostPause  = 10 * time.Second
)

// settle makes sure that what was sent is the receiver's, where it is time to, and keeps how far the
// delivery has come.
func (d *delivery) settle(done bool) {
	if n := len(d.sent); n > 0 {
		to := &d.of.To
		lazy := to.Kind == "files" || to.Kind == "syslog" && to.Proto != "udp"
		if lazy && d.sentSize < unsureBytes && time.Since(d.sentAt) < unsureFor {
			return
		}
		ok := d.until(func() error {
			if err := d.push(); err != nil {
				return err
			}
			return d.to.confirm(d.ctx)
		})
		if !ok {
			return
		}
		d.kept.Sent += int64(n)
		d.kept.Taken = entry.Of(time.Now())
	}
	if len(d.sent) == 0 && !d.fresh && time.Since(d.keptAt) < unsureFor { // that nothing was for it can wait
		d.rested(done)
		return
	}
	d.keep(done)
}

// rested notes that all has been read and the receiver has all of it.
func (d *delivery) rested(done bool) {
	if done {
		d.since = time.Now()
	}
	d.well()
}

// keep keeps how far the delivery has come.
func (d *delivery) keep(done bool) {
	x := &store.Delivered{Name: d.of.Name}
	for _, o := range d.follower.Dirty() {
		c := d.cursor(o.Source.Name, o.Series)
		c.Number, c.Data = c.number, o.MarshalPlace()
		x.Cursors = append(x.Cursors, c.Cursor)
	}
	for _, src := range d.settings.SourcesOf(&lang.Question{On: d.of.On}) {
		if !slices.Contains(d.kept.Known, src.Name) {
			d.kept.Known = append(d.kept.Known, src.Name)
			d.fresh = true
		}
	}
	if len(d.sent) > 0 || len(x.Cursors) > 0 || d.fresh {
		if d.files != nil {
			x.Files = d.files.rows()
		}
		x.Data, _ = json.Marshal(d.kept)
		for d.site.Store.Deliver(x) != nil { // nothing more is read before it is kept
			d.trouble(errors.New("how far it has come cannot be kept in the database"))
			if !d.sleep(time.Second) {
				return
			}
		}
		d.fresh = false
	}
	d.sent, d.sentSize, d.pushed, d.unsure = nil, 0, 0, nil
	if d.files != nil {
		if err := d.files.kept(entry.Of(time.Now())); err != nil {
			d.trouble(err)
			return
		}
	}
	d.keptAt = time.Now()
	d.rested(done)
}

// hold says which files of kept entries have still to be delivered: no more than may wait.
func (d *delivery) hold() {
	if d.unsure == nil {
		d.unsure = map[string]bool{}
	}
	for path := range d.follower.Held() {
		d.unsure[path] = true
	}
	type file struct {
		path string
		size int64
		mod  time.Time
	}
	var files []file
	for path := range d.unsure {
		if info, err := os.Stat(path); err == nil {
			files = append(files, file{path, info.Size(), info.ModTime()})
		}
	}
	slices.SortFunc(files, func(a, b file) int { return b.mod.Compare(a.mod) })
	held := []string{}
	bytes, entries := int64(0), int64(0)
	for _, f := range files {
		bytes += f.size
		if d.of.Entries > 0 {
			entries += d.site.Count(f.path)
		}
		if len(held) > 0 && (bytes > d.of.Waiting() || d.of.Entries > 0 && entries > d.of.Entries) {
			break
		}
		held = append(held, f.path)
	}
	d.held.Store(&held)
}

// rest waits for something new.
func (d *delivery) rest() {
	wait := time.Second
	if !d.follower.Seldom() {
		wait = 250 * time.Millisecond
	}
	if len(d.sent) > 0 {
		wait = min(wait, max(unsureFor-time.Since(d.sentAt), time.Millisecond))
	}
	t := time.NewTimer(wait)
	defer t.Stop()
	select {
	case <-d.ctx.Done():
	case <-t.C:
	case ev := <-d.follower.Events():
		d.follower.Note(ev)
		for {
			select {
			case ev := <-d.follower.Events():
				d.follower.Note(ev)
				continue
			default:
			}
			return
		}
	case err := <-d.follower.Errors():
		d.follower.Missed(err)
	}
}

// sleep waits; it answers false where the context has ended. What the system tells of files meanwhile is
// noted, so that nothing of it is missed.
func (d *delivery) sleep(wait time.Duration) bool {
	t := time.NewTimer(wait)
	defer t.Stop()
	for {
		var events = d.events()
		select {
		case <-d.ctx.Done():
			return false
		case <-t.C:
			return true
		case ev := <-events:
			d.follower.Note(ev)
		}
	}
}

func (d *delivery) events() <-chan fsnotify.Event {
	if d.follower == nil {
		return nil
	}
	return d.follower.Events()
}
