// Package reread reads what logs have said once more: of each file only the stretches whose times
// matter, wherever they lie, with as many cores as there are, the newest first. A log, an expression and
// a stretch of time come in, entries go out.
//
// Of each file a note is kept of which times lie where; what is read without one gives it. Nothing is
// judged here, and nothing else is kept.
package reread

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/core/trial"
	"dimlantern/intake"
)

// Log is a log that is read.
type Log struct {
	Name   string // of the origin
	Called string // by whoever asks; "" is by that name
	Series string // the path that its files have their names from
	Only   string // of those this one alone; "" is all
	Host   string
	Source *lang.Source
	Skew   time.Duration // how far its writer's clock lies back
}

// Members are the log's files, newest first.
func (o *Log) Members() []intake.Member {
	all, _ := o.steady()
	return all
}

// steady is Members; false where they change too fast to be listed.
func (o *Log) steady() ([]intake.Member, bool) {
	all, same := intake.Steady(o.Series)
	return o.among(all[o.Series]), same || o.Only != ""
}

// among are the log's files among those of its series.
func (o *Log) among(all []intake.Member) []intake.Member {
	if o.Only == "" {
		return all
	}
	all = slices.DeleteFunc(all, func(m intake.Member) bool { return m.Path != o.Only })
	if len(all) == 0 { // its name is not that of a log
		if m, err := intake.MemberOf(o.Only); err == nil {
			all = []intake.Member{m}
		}
	}
	return all
}

func seriesOf(logs []Log) []string {
	out := make([]string, 0, len(logs))
	for i := range logs {
		out = append(out, logs[i].Series)
	}
	return out
}

// Size is how large the files of logs are together, as they lie there, in bytes.
func Size(logs []Log) int64 {
	all, _ := intake.Steady(seriesOf(logs)...)
	size := int64(0)
	for i := range logs {
		for _, m := range logs[i].among(slices.Clone(all[logs[i].Series])) {
			size += m.Size
		}
	}
	return size
}

// Part takes the entries of a stretch of a log, and is told when it ends.
type Part interface {
	// Take gets an entry, which lasts until Take returns, of the log and the file by their places.
	Take(e *entry.Entry, log, file int)
	// Done says how many entries were looked at. It may be called concurrently with other parts.
	Done(entries int64)
}

// Lean is a Part that can do with the values of some fields, where entries are as usual: see
// [match.Reader.LeanOn].
type Lean interface {
	// Lean are the fields; false where whole entries are wanted.
	Lean() ([]string, bool)
	// TakeLean gets their values, nil being lacking, which last until it returns.
	TakeLean(values [][]byte, at entry.Instant)
}

// Reading is what is wanted of logs.
type Reading struct {
	Settings *lang.Settings
	Zone     *time.Location // of times without one
	// Of are the entries that are wanted, by an expression that is searched for; nil is all of them.
	// Fields are those that are wanted of them, nil being all: see [match.NewTaking].
	Of     lang.Expr
	Fields []string
	// Touches tells whether times from the least to the greatest may be wanted.
	Touches func(least, greatest entry.Instant) bool
	Begin   func() Part
	Notes   *Notes
	Cores   int                  // 0 is as many as there are
	Told    func(read, of int64) // how many bytes have been read, by now and then; nil is nobody
}

// Read is what came of a reading.
type Read struct {
	Bytes   int64 // that were read
	Of      int64 // that the files have
	Unread  []string
	Gone    bool                     // something is not there any more: another reading may find it elsewhere
	Untimed map[string]entry.Instant // files whose entries have no time, and when they were written
	First   map[string]entry.Instant // by log, the oldest time that is there, where that is known
}

// How much is read at once, how long a stretch of a note is, and how much a part has that is read by one
// goroutine, in bytes. Tests make them smaller.
var (
	block    = 128 << 10
	noted    = int64(1 << 20)
	partSize = int64(8 << 20)
	before   = 64 << 10 // what is looked at before a part for the time of its first entry
)

// mostUntimed is how much of a file is looked at for the first time in it, in bytes.
const mostUntimed = 16 << 20

// Run reads. It ends with the context's error, where that ends.
func (r *Reading) Run(ctx context.Context, logs []Log) (*Read, error) {
	x := &running{Reading: r, out: &Read{Untimed: map[string]entry.Instant{}, First: map[string]entry.Instant{}},
		plans: map[string][]*match.Plan{}, logs: logs}
	if x.Notes == nil {
		x.Notes = NewNotes("")
	}
	first, steady := intake.Steady(seriesOf(logs)...)
	if !steady {
		first = nil
	}
	for i := range logs {
		if err := x.plan(ctx, i, first[logs[i].Series]); err != nil {
			return nil, err
		}
	}
	slices.SortStableFunc(x.parts, func(a, b *part) int { return cmp.Compare(b.newest, a.newest) })
	cores := cmp.Or(r.Cores, runtime.GOMAXPROCS(0))
	var wait sync.WaitGroup
	next := make(chan *part)
	for range min(cores, max(len(x.parts), 1)) {
		wait.Go(func() {
			w := &worker{x: x, ctx: ctx}
			for p := range next {
				w.read(p)
			}
		})
	}
	for _, p := range x.parts {
		if ctx.Err() != nil {
			break
		}
		select {
		case next <- p:
		case <-ctx.Done():
		}
	}
	close(next)
	wait.Wait()
	for _, n := range x.notes {
		x.Notes.save(n)
	}
	for _, p := range x.oldest {
		x.first(p)
	}
	return x.out, ctx.Err()
}

// running is a reading while it runs.
type running struct {
	*Reading
	logs  []Log
	parts []*part
	notes []*note
	// oldest are the oldest files of the logs, as parts.
	oldest []part
	mu     sync.Mutex // of what follows
	out    *Read
	plans  map[string][]*match.Plan // by source, those that nobody uses now
	told   time.Time
}

// part is a stretch of a file that one goroutine reads.
type part struct {
	log, file int
	member    intake.Member
	print     []byte // what the file begins with
	note      *note  // nil where the entries have no time
	from, to  int64  // bytes; of a whole file to its end
	// known is how reading goes on there; nil is that it has to be found out, or that it is the file's
	// begin.
	known  *stretch
	noted  bool          // all of it is
	has    int64         // entries; 0 is not known
	apart  bool          // it can be read by itself: see running.apart
	newest entry.Instant // about
}

// lend gives a plan that nobody else uses.
func (x *running) lend(src *lang.Source) *match.Plan {
	x.mu.Lock()
	list := x.plans[src.Name]
	if n := len(list); n > 0 {
		p := list[n-1] // as long as nobody gives one back in its place
		x.plans[src.Name] = list[:n-1]
		x.mu.Unlock()
		return p
	}
	x.mu.Unlock()
	return match.NewTaking(x.Settings, src, x.Of, x.Fields, x.Zone)
}

func (x *running) back(src *lang.Source, p *match.Plan) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.plans[src.Name] = append(x.plans[src.Name], p)
}

// cannot notes that something could not be read.
func (x *running) cannot(path string, err error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	words := fmt.Sprintf("%s cannot be read: %v", filepath.Base(path), bare(err))
	x.out.Gone = x.out.Gone || errors.Is(err, errRotated)
	if errors.Is(err, os.ErrNotExist) {
		x.out.Gone = true
		words = filepath.Base(path) + " has gone while it was to be read"
	}
	if !slices.Contains(x.out.Unread, words) && len(x.out.Unread) < 100 {
		x.out.Unread = append(x.out.Unread, words)
	}
}

// bare is an error without the operation and the path, which the sentence around it says already.
func bare(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// plan divides a log, whose files were listed first, into the parts that have to be read.
func (x *running) plan(ctx context.Context, log int, first []intake.Member) error {
	o := &x.logs[log]
	members, prints, sure := listed(o, first)
	if !sure {
		x.cannot(o.Series, errRotated)
	}
	plan := x.lend(o.Source)
	defer x.back(o.Source, plan)
	layout := trial.Times(x.Settings, o.Source) + plan.Layout.ZoneName()
	for k, m := range members {
		if err := ctx.Err(); err != nil {
			return err
		}
		x.out.Of += m.Size
		if m.Size == 0 {
			continue
		}
		p := part{log: log, file: len(members) - k, member: m, print: prints[k], to: m.Size, newest: m.Mod}
		if err := x.planMember(p, plan, layout, k == len(members)-1); err != nil {
			x.cannot(m.Path, err)
		}
	}
	return nil
}

// mostListed is how often the files of a log are listed at most, until each is where it was listed.
const mostListed = 10

// errRotated is that the files of a log change too fast to be listed.
var errRotated = errors.New("its files are being renamed faster than they can be listed")

// listed are the files of a log, newest first, with what each begins with; false where that is not sure.
// First is how they were listed first; nil is not yet.
func listed(o *Log, first []intake.Member) (members []intake.Member, prints [][]byte, sure bool) {
	for try := range mostListed {
		if try == 0 && first != nil {
			members, sure = o.among(slices.Clone(first)), true
		} else {
			members, sure = o.steady()
		}
		prints = make([][]byte, len(members))
		stale := false
		for i, m := range members {
			f, err := m.OpenThere()
			if stale = errors.Is(err, os.ErrNotExist); stale {
				break
			}
			if err == nil {
				prints[i] = intake.Print(f)
				f.Close()
			}
		}
		if sure = sure && !stale; sure {
			break
		}
	}
	return members, prints, sure
}

// planMember divides a file into parts; oldest says that it is the oldest of its log.
func (x *running) planMember(p part, plan *match.Plan, layout string, oldest bool) error {
	o := &x.logs[p.log]
	m := p.member
	f, err := m.Open(o.Series)
	if err != nil {
		return err
	}
	defer f.Close()
	if !bytes.HasPrefix(intake.Print(f), p.print) { // its number was given to another
		return os.ErrNotExist
	}
	if !plan.Timed() {
		x.out.Untimed[m.Path] = m.Mod
		if !x.Touches(m.Mod, m.Mod) {
			return nil
		}
		if p.apart = !m.Packed && x.apart(o, f, p.print, plan); p.apart {
			x.cut(p, 0, m.Size)
		} else {
			x.parts = append(x.parts, &p)
		}
		return nil
	}
	p.note = x.Notes.of(m, f, p.print, layout)
	x.notes = append(x.notes, p.note)
	x.member(p, f, plan)
	if oldest {
		x.oldest = append(x.oldest, p)
	}
	return nil
}

// first notes the oldest time of the log that a file is the oldest of.
func (x *running) first(p part) {
	for _, s := range p.note.known(p.member.Size) {
		if s.From == 0 {
			x.firstIs(&p, s.Least)
		}
	}
}

// firstIs notes the oldest time at the begin of a file, where that is the oldest of its log.
func (x *running) firstIs(p *part, least entry.Instant) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if o := &x.logs[p.log]; p.file == 1 && least != entry.None {
		x.out.First[o.Name] = least.Add(o.Skew)
	}
}

// member plans what of a file has to be read: what is known to have times that matter, and what is not
// known.
func (x *running) member(p part, f *os.File, plan *match.Plan) {
	o := &x.logs[p.log]
	known := p.note.known(p.member.Size)
	if p.member.Packed {
		if len(known) == 1 && known[0].To == p.member.Size && !x.touches(o, &known[0]) {
			return
		}
		x.parts = append(x.parts, &p)
		return
	}
	p.apart = x.apart(o, f, p.print, plan)
	if !p.apart { // how its entries go on shows from the begin on
		n := 0
		for n < len(known) && (n == 0 && known[n].From == 0 || n > 0 && known[n].From == known[n-1].To) {
			n++
		}
		if n == 0 || known[n-1].To < p.member.Size {
			q := p
			if n > 0 {
				q.from, q.known = known[n-1].From, &known[n-1]
			}
			x.parts = append(x.parts, &q)
			n--
		}
		known = known[:max(n, 0)]
	}
	at := int64(0)
	for i := range known {
		s := &known[i]
		if at < s.From {
			x.cut(p, at, s.From)
		}
		if at = s.To; p.apart && i == len(known)-1 && s.To-s.From < noted/2 && s.To < p.member.Size { // it goes on
			at = s.From
			break
		}
		if x.touches(o, s) {
			x.again(p, s)
		}
	}
	if p.apart {
		x.cut(p, at, p.member.Size)
	}
}

// again plans a stretch that is known; neighbours are one part.
func (x *running) again(p part, s *stretch) {
	p.from, p.to, p.known, p.newest, p.noted, p.has = s.From, s.To, s, s.Most, true, s.Entries
	if n := len(x.parts); n > 0 {
		if l := x.parts[n-1]; l.noted && l.note == p.note && l.to == p.from && p.to-l.from <= partSize {
			l.to, l.newest = p.to, max(l.newest, p.newest)
			if l.has += p.has; p.has == 0 || l.has == p.has {
				l.has = 0
			}
			return
		}
	}
	x.parts = append(x.parts, &p)
}

func (x *running) touches(o *Log, s *stretch) bool {
	return s.Least != entry.None && x.Touches(s.Least.Add(o.Skew), s.Most.Add(o.Skew))
}

// cut plans a stretch of which nothing is known, in parts that are read apart.
func (x *running) cut(p part, from, to int64) {
	size := to - from
	if size <= 0 {
		return
	}
	n := max(size/partSize, 1)
	if cores := int64(cmp.Or(x.Cores, runtime.GOMAXPROCS(0))); n < cores {
		n = max(min(cores, size/noted), 1)
	}
	for i := range n {
		q := p
		q.from, q.to = from, to
		if from += (size / n) &^ int64(block-1); i < n-1 {
			q.to = from
		}
		q.newest = p.newest - entry.Instant(n-i) // the last ones are the newest
		x.parts = append(x.parts, &q)
	}
}

// apart tells whether the stretches of a file can be read each by itself: its lines are entries, and
// say their year.
func (x *running) apart(o *Log, f *os.File, head []byte, plan *match.Plan) bool {
	if plan.EncodingOf(head) != match.UTF8 || plan.Closed() > 0 || plan.Layout.Headed() {
		return false
	}
	buf := make([]byte, before)
	n, _ := f.ReadAt(buf, 0)
	if n = bytes.LastIndexByte(buf[:n], '\n') + 1; n == 0 {
		return false
	}
	r := match.NewTaker(plan, cmp.Or(o.Called, o.Name), o.Host)
	r.Begin(buf[:n])
	return r.Last == entry.None || r.Yearly()
}
