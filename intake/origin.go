package intake

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
)

// MaxLine is how long an entry may be, in bytes; what is behind is cut off.
const MaxLine = match.MaxLine

// Place is where reading an origin stopped: all that must be kept of it.
type Place struct {
	Members  []*member     `json:"members"`
	Finished []finished    `json:"finished"`
	Last     entry.Instant `json:"last"`
	Reached  entry.Instant `json:"reached"`
	Host     string        `json:"host"`
	Began    string        `json:"began"` // in words, where reading began
	Entries  int64         `json:"entries"`
	// Old is when the newest member that was read to its end had last changed:
	// rotated files from before are known. Nanoseconds.
	Old int64 `json:"old"`
}

// Origin is one log as its writer sees it: all members of its series together.
type Origin struct {
	Source *lang.Source
	Series string
	Name   string // HOST:PATH
	Host   string

	Condition Condition
	Words     string // what is the matter, where something is
	Mend      string // what would mend it
	Since     time.Time
	Gaps      int64 // bytes that are known to be lost
	CutLines  int64 // entries over MaxLine

	place   Place
	reader  *match.Reader
	zips    map[Identity]int64 // compressed files that were looked into → when they had changed
	base    string             // the path of the newest member
	absent  time.Time
	polled  time.Time // with `every`: when it was last looked at
	lag     lag
	caught  bool // it has been read to its end once
	unread  bool
	queue   []item
	head    int
	dirty   bool // the place has changed since it was last taken
	changed bool // the condition has changed since it was last taken
}

// item is an entry that was judged ahead, or, with nil, the end of a slab.
type item struct {
	j       *engine.Judged
	m       *member
	next    int64
	reached entry.Instant
	last    entry.Instant
	host    string
	ticks   []match.Tick
	lines   int64
}

// maxFinished is how many members that were read to their ends are remembered.
const maxFinished = 40

func newOrigin(src *lang.Source, series, host string, plan *match.Plan) *Origin {
	o := &Origin{Source: src, Series: series, Host: host, Name: host + ":" + series, base: series}
	o.place.Last, o.place.Reached = entry.None, entry.None
	o.attach(plan)
	return o
}

// attach lets the origin be judged by a plan from its place on.
func (o *Origin) attach(plan *match.Plan) {
	o.rewind()
	o.reader = match.NewReader(plan, o.Name, o.Host, true)
	o.reader.Last, o.reader.Reached, o.reader.LastHost = o.place.Last, o.place.Reached, o.place.Host
}

// rewind drops what was judged ahead.
func (o *Origin) rewind() {
	o.queue, o.head = nil, 0
	for _, m := range o.place.Members {
		m.read, m.cut = m.Offset, m.Cut
	}
	if o.reader != nil {
		o.reader.Last, o.reader.Reached, o.reader.LastHost = o.place.Last, o.place.Reached, o.place.Host
	}
}

// MarshalPlace writes the origin's place.
func (o *Origin) MarshalPlace() []byte {
	b, _ := json.Marshal(o.place)
	return b
}

// restore takes up a place that was kept.
func (o *Origin) restore(data []byte) error {
	var p Place
	if err := json.Unmarshal(data, &p); err != nil {
		return fmt.Errorf("the place of %s is damaged: %w", o.Name, err)
	}
	o.place = p
	o.rewind()
	return nil
}

func (o *Origin) set(c Condition, words, mend string, now time.Time) {
	if o.Condition == c && o.Words == words {
		return
	}
	if o.Condition != c {
		o.Since = now
	}
	o.Condition, o.Words, o.Mend = c, words, mend
	o.changed = true
}

// lag is how far behind its writing an origin is judged.
type lag struct {
	last, worst time.Duration // from an entry's own time to its arrival
	worstAt     time.Time
	arrivals    [8]time.Time // when something came, the newest last
	amounts     [8]int64
}

// came notes that entries arrived whose newest has that own time.
func (l *lag) came(at entry.Instant, n int64, now time.Time) {
	if at != entry.None {
		l.last = max(entry.Of(now).Sub(at), 0)
		if l.last >= l.worst || now.Sub(l.worstAt) > time.Hour {
			l.worst, l.worstAt = l.last, now
		}
	}
	if k := len(l.arrivals) - 1; now.Sub(l.arrivals[k]) < time.Second {
		l.arrivals[k] = now
		l.amounts[k] += n
		return
	}
	copy(l.arrivals[:], l.arrivals[1:])
	copy(l.amounts[:], l.amounts[1:])
	l.arrivals[len(l.arrivals)-1], l.amounts[len(l.amounts)-1] = now, n
}

// bursts tells whether entries come in heaps with long pauses between them: the
// writer keeps them back.
func (l *lag) bursts() bool {
	if l.arrivals[0].IsZero() {
		return false
	}
	total := int64(0)
	for i := 1; i < len(l.arrivals); i++ {
		if l.arrivals[i].Sub(l.arrivals[i-1]) < 5*time.Second {
			return false
		}
		total += l.amounts[i]
	}
	return total >= 10*int64(len(l.arrivals)-1)
}

// State is what is known of an origin now.
type State struct {
	Condition Condition     `json:"state"`
	Words     string        `json:"words,omitempty"` // what is the matter, in a sentence
	Mend      string        `json:"mend,omitempty"`
	Since     time.Time     `json:"since"`
	Behind    int64         `json:"behind_bytes"`
	Lag       time.Duration `json:"lag"`   // from an entry's own time to its arrival, of the newest
	Worst     time.Duration `json:"worst"` // of the last hour
	WorstAt   time.Time     `json:"worst_at"`
	Misfits   int64         `json:"misfits"`
	Gaps      int64         `json:"lost_bytes"`
	Cut       int64         `json:"cut_entries"`
}

// State says in words how the origin can be seen. Of what is the matter, the worst
// comes first.
func (o *Origin) State(now time.Time) State {
	s := State{Condition: o.Condition, Words: o.Words, Mend: o.Mend, Since: o.Since, Behind: o.Behind(), Lag: o.lag.last,
		Worst: o.lag.worst, WorstAt: o.lag.worstAt, Misfits: o.reader.Misfits, Gaps: o.Gaps, Cut: o.CutLines}
	timed := o.reader.Plan.Layout.Timed()
	switch {
	case o.Condition != Seen:
	case s.Behind > 1<<20:
		s.Condition, s.Words = Catching, fmt.Sprintf("catching up: %d MB still to go", s.Behind/1e6)
	case o.place.Entries == 0:
		s.Condition, s.Words = Waiting, "waiting for its first entry since "+o.Since.Format("15:04:05")
	case o.reader.Future > 0:
		s.Condition, s.Words = WrongClock, "its clock is ahead: its entries are judged by their arrival"
		s.Mend = "set the clock of that host"
	case timed && o.reader.Misfits > 100 && o.reader.Misfits*2 > o.place.Entries:
		s.Condition, s.Words = NoFit, "its lines no longer fit the layout"
		s.Mend = "look at its newest lines, and at the layout's pattern"
	case o.lag.bursts():
		s.Condition, s.Words = Bursts, "it writes in bursts: its writer keeps lines back"
		s.Mend = "let the program flush each line"
	case timed && s.Lag > 10*time.Second && now.Sub(o.lag.arrivals[len(o.lag.arrivals)-1]) < time.Minute:
		s.Condition, s.Words = Late, fmt.Sprintf("late: %s from written to read", s.Lag.Truncate(time.Second))
	}
	return s
}

// member returns the member that is a file, whatever its name is now.
func (o *Origin) member(f found) *member {
	for _, m := range o.place.Members {
		if m.ID == f.id && m.Limit == 0 && m.Zip == f.zip {
			return m
		}
	}
	return nil
}

func (o *Origin) finished(f found) *finished {
	for i := len(o.place.Finished) - 1; i >= 0; i-- {
		if o.place.Finished[i].ID == f.id {
			return &o.place.Finished[i]
		}
	}
	return nil
}

func (o *Origin) finish(id Identity, print []byte, size int64) {
	for i := range o.place.Finished {
		if d := o.place.Finished[i]; d.ID == id && (alike(d.Print, print) || len(d.Print) == 0) { // else its number was given to another
			o.place.Finished = slices.Delete(o.place.Finished, i, i+1)
			break
		}
	}
	o.place.Finished = append(o.place.Finished, finished{id, print, size})
	if n := len(o.place.Finished) - maxFinished; n > 0 {
		o.place.Finished = slices.Delete(o.place.Finished, 0, n)
	}
	o.dirty = true
}

// newestGone is how long a series may have no newest member before it is gone: a
// rotation takes a moment.
const newestGone = 5 * time.Second

// look compares the files of the series, oldest first, with what is known.
// First tells that the source is seen for the first time, so that `begin` says
// where to begin.
func (o *Origin) look(files []found, first bool, now time.Time) {
	if o.peek() != nil {
		return // what was judged ahead belongs to the files as they were
	}
	newest := -1
	if n := len(files); n > 0 && files[n-1].age == 0 && !files[n-1].zip {
		newest = n - 1
	}
	for _, f := range files { // first what is known, since a copy shows only then as one
		for _, m := range o.place.Members {
			if m.ID == f.id && m.Zip == f.zip && m.Path != f.path {
				m.Path = f.path
				o.dirty = true
			}
		}
		m := o.member(f)
		if m == nil {
			continue
		}
		if m.Zip {
			continue
		}
		if m.wasCut(f) {
			o.wasCut(m, files)
		}
		m.size = max(m.size, f.size)
	}
	for _, f := range files {
		if o.member(f) != nil || o.copied(f) {
			continue
		}
		if f.zip {
			o.packedFile(f, files, first)
			continue
		}
		if d := o.finished(f); d != nil {
			if p := printOf(f.path); f.size > d.Size && (len(d.Print) == 0 || alike(p, d.Print)) {
				o.insert(&member{ID: f.id, Print: p, Path: f.path, Offset: d.Size, read: d.Size, size: f.size})
				continue
			} else if len(d.Print) == 0 || alike(p, d.Print) {
				continue
			}
		}
		o.newFile(f, first)
	}
	o.arrange(files)
	switch {
	case newest >= 0 && o.Condition.Blind() && o.Condition != Unreadable, newest >= 0 && o.Condition == Waiting, o.Condition == "" && newest >= 0:
		o.base = files[newest].path
		o.absent = time.Time{}
		o.set(Seen, "", "", now)
	case newest >= 0:
		o.base = files[newest].path
		o.absent = time.Time{}
	case o.absent.IsZero():
		o.absent = now
		if len(o.place.Members) == 0 && o.Condition == "" {
			o.set(Waiting, fmt.Sprintf("waiting for %s to appear", o.Series), "", now)
		}
	case now.Sub(o.absent) >= newestGone && o.Condition != Waiting:
		o.set(Gone, fmt.Sprintf("the file %s is gone", o.Series), "it is taken up again when it comes back", now)
	}
}

// copied tells whether a file is a copy from which the rest of a cut file is read.
func (o *Origin) copied(f found) bool {
	for _, m := range o.place.Members {
		if m.ID == f.id && m.Zip == f.zip {
			return true
		}
	}
	return false
}

// wasCut tells whether the file was cut short or written anew since it was read.
// It looks into the file only where that has changed.
func (m *member) wasCut(f found) bool {
	if f.size < m.Offset {
		return true
	}
	if m.mod == f.mod && m.looked == f.size || len(m.Print) == 0 {
		return false
	}
	m.mod, m.looked = f.mod, f.size
	p := printOf(f.path)
	return len(p) < len(m.Print) || !alike(p, m.Print)
}

// insert adds a member; arrange puts it where its age belongs.
func (o *Origin) insert(m *member) {
	o.place.Members = append(o.place.Members, m)
	o.dirty = true
}

// arrange puts the members in the order of their files, oldest first. One whose
// file is not there any more stays before the one that it stood before.
func (o *Origin) arrange(files []found) {
	rank := make(map[*member]int, len(o.place.Members))
	next := len(files)
	for k := len(o.place.Members) - 1; k >= 0; k-- {
		m := o.place.Members[k]
		if i := slices.IndexFunc(files, func(f found) bool { return f.id == m.ID && f.zip == m.Zip }); i >= 0 {
			next = i
		}
		rank[m] = next
	}
	slices.SortStableFunc(o.place.Members, func(a, b *member) int { return rank[a] - rank[b] })
}

// newFile takes up a file that is not known: by `begin` when the source is new,
// else from its start. A copy of what is known is not read again.
func (o *Origin) newFile(f found, first bool) {
	print := printOf(f.path)
	m := &member{ID: f.id, Print: print, Path: f.path, size: f.size}
	if first {
		if !o.begin(m, f) {
			o.finish(f.id, print, f.size)
			o.place.Old = max(o.place.Old, f.mod)
			return
		}
		o.insert(m)
		return
	}
	if f.age > 0 || f.date != "" {
		if f.mod < o.place.Old {
			return
		}
		for _, k := range o.place.Members {
			if alike(k.Print, print) && len(k.Print) > 0 {
				return // a copy of a member; it matters when that one is cut
			}
		}
		for _, d := range o.place.Finished {
			if alike(d.Print, print) && f.size >= int64(len(d.Print)) {
				o.finish(f.id, print, f.size)
				return
			}
		}
	}
	o.insert(m)
}

// packedFile takes up a compressed file: the rest of a member that was compressed
// before it was read to its end, or one that came and went while nobody looked.
func (o *Origin) packedFile(f found, files []found, first bool) {
	if o.zips == nil {
		o.zips = map[Identity]int64{}
	}
	if o.zips[f.id] == f.mod {
		return
	}
	print := printPacked(f.path)
	if len(print) == 0 {
		return
	}
	o.zips[f.id] = f.mod
	for _, m := range o.place.Members {
		if !alike(m.Print, print) || m.Zip {
			continue
		}
		if m.file == nil && !slices.ContainsFunc(files, func(x found) bool { return x.id == m.ID && !x.zip }) {
			m.Zip, m.ID, m.Path, m.idle, m.Retired = true, f.id, f.path, 0, false
			o.dirty = true
		}
		return
	}
	for _, d := range o.place.Finished {
		if alike(d.Print, print) {
			return
		}
	}
	m := &member{ID: f.id, Print: print, Path: f.path, Zip: true}
	if first {
		if o.begin(m, f) {
			m.Offset, m.read = 0, 0
			o.insert(m)
			return
		}
		o.place.Old = max(o.place.Old, f.mod)
		o.finish(f.id, print, f.size)
		return
	}
	if f.mod >= o.place.Old {
		o.insert(m)
	}
}

// settled is how long a compressed file must not have changed before it is read.
const settled = 2 * time.Second

// wasCut handles a file that was copied and cut: what had not been read yet is
// read from the copy, where there is one, and the file from its start.
func (o *Origin) wasCut(m *member, files []found) {
	for _, f := range files {
		if f.id == m.ID || o.member(f) != nil {
			continue
		}
		p := printOf(f.path)
		if f.zip {
			p = printPacked(f.path)
		}
		if d := o.finished(f); d != nil && alike(d.Print, p) {
			continue
		}
		if alike(p, m.Print) && (f.zip || f.size >= m.Offset) && len(p) >= len(m.Print) {
			c := &member{ID: f.id, Print: p, Path: f.path, Offset: m.Offset, read: m.Offset, size: f.size, Limit: f.size, Cut: m.Cut}
			if f.zip {
				c.Zip, c.Limit = true, 0
			}
			// It comes before what the file holds now.
			o.place.Members = slices.Insert(o.place.Members, slices.Index(o.place.Members, m), c)
			break
		}
	}
	if len(m.Print) > 0 { // a copy that is found later, compressed perhaps, is known
		o.finish(Identity{}, m.Print, m.Offset)
	}
	m.Offset, m.read, m.Print, m.Cut, m.cut = 0, 0, nil, false, false
	o.dirty = true
}

// begin sets where a member of a source that is seen for the first time begins;
// it answers false where nothing of it is to be read.
func (o *Origin) begin(m *member, f found) bool {
	newest := f.age == 0 && f.date == "" && !f.zip
	switch o.Source.Begin.How {
	case lang.BeginNow:
		m.Offset, m.read = f.size, f.size
		if f.size > 0 && newest {
			m.Offset = o.lineStart(f.path, f.size, m.Print)
			m.read = m.Offset
		}
		o.place.Began = "now, when first seen"
		return newest
	case lang.BeginOldest:
		o.place.Began = "with the oldest entry"
		return true
	}
	at := o.Source.Begin.At
	if o.Source.Begin.How == lang.BeginAgo {
		at = entry.Of(time.Now()).Add(-o.Source.Begin.Ago)
	}
	o.place.Began = "at " + at.String()
	if entry.Instant(f.mod) < at {
		m.Offset, m.read = f.size, f.size
		return newest
	}
	if !f.zip {
		m.Offset = o.bisect(f, at)
	}
	m.read = m.Offset
	return true
}

// blockSize is how much is read at once.
const blockSize = 256 << 10

// fill reads a block of the oldest member that has something unread, and judges
// it ahead. It answers false where there is nothing to read now.
func (o *Origin) fill(buf []byte, now time.Time) (bool, error) {
	if o.head < len(o.queue) {
		return true, nil
	}
	o.queue, o.head = o.queue[:0], 0
	for i := 0; i < len(o.place.Members); i++ {
		m := o.place.Members[i]
		if m.Retired {
			continue
		}
		if m.Zip {
			if info, err := os.Stat(m.Path); err == nil && now.Sub(info.ModTime()) < settled && now.After(info.ModTime()) {
				o.unread = false
				return false, nil // it may still be written, and what is younger waits
			}
			if o.readPacked(m, buf, now) {
				o.unread = true
				return true, nil
			}
			continue
		}
		if err := m.open(); err != nil {
			if o.lost(m, err, now); o.retired(m) {
				return true, nil
			}
			continue
		}
		if o.Condition == Unreadable {
			o.set(Seen, "", "", now)
		}
		newest := i == len(o.place.Members)-1
		n, err := o.readMember(m, buf, newest, now)
		if err != nil {
			return false, err
		}
		if n {
			o.unread = true
			return true, nil
		}
	}
	o.unread, o.caught = false, true
	return false, nil
}

// lost handles a member that cannot be opened.
func (o *Origin) lost(m *member, err error, now time.Time) {
	switch {
	case errors.Is(err, fs.ErrPermission):
		words, mend := denied(m.Path, err)
		o.set(Unreadable, words, mend, now)
		return
	case errors.Is(err, errNotAFile):
		o.set(Folder, fmt.Sprintf("%s is no file, but a folder, a pipe or a device", m.Path), "name the files in it, such as "+m.Path+"/*.log", now)
		return
	case errors.Is(err, errOther), errors.Is(err, fs.ErrNotExist):
		// The look that comes finds it under another name, if it has one still.
		if m.idle == 0 {
			m.idle = now.UnixNano()
		}
		if now.UnixNano()-m.idle > int64(2*newestGone) {
			if m.size > m.Offset {
				o.Gaps += m.size - m.Offset
			}
			m.Retired = true
		}
		return
	}
	o.set(Unreadable, fmt.Sprintf("%s cannot be read: %v", m.Path, unwrap(err)), "", now)
}

// late is how long a member that has a younger one is still looked at.
const late = 20 * time.Second

// readMember reads a block of a member, and judges it into the queue.
func (o *Origin) readMember(m *member, buf []byte, newest bool, now time.Time) (bool, error) {
	info, err := m.file.Stat()
	if err != nil {
		return false, err
	}
	size := info.Size()
	if m.Limit > 0 {
		size = min(size, m.Limit)
	}
	if size != m.size {
		m.idle = 0
	}
	m.size = size
	if size < m.read || size > m.read {
		same, err := m.same()
		if err != nil {
			return false, err
		}
		if size < m.read || !same {
			o.rewind()
			if m.Limit > 0 {
				m.Retired = true
				return false, nil
			}
			o.wasCut(m, members(o.Series))
			return o.fill(buf, now)
		}
	}
	if size == m.read {
		return o.atEnd(m, newest, now), nil
	}
	n, err := m.file.ReadAt(buf[:min(int64(blockSize), size-m.read)], m.read)
	if n == 0 {
		if err != nil && !errors.Is(err, io.EOF) {
			words, mend := denied(m.Path, err)
			o.set(Unreadable, words, mend, now)
		}
		return false, nil
	}
	return o.judge(m, buf[:n], buf, now), nil
}

// readPacked reads a block of a compressed member, and judges it into the queue.
func (o *Origin) readPacked(m *member, buf []byte, now time.Time) bool {
	var err error
	if m.zip != nil && m.zip.at-int64(len(m.zip.held)) > m.read {
		m.close()
	}
	if m.zip == nil {
		if m.zip, err = openPacked(m.Path); err != nil {
			o.lost(m, err, now)
			return o.retired(m)
		}
	}
	b := buf[:blockSize]
	n, err := m.zip.readAt(b, m.read)
	b = b[:n]
	o.reader.Encoding = o.reader.Plan.EncodingOf(m.Print)
	ended := err != nil
	if ended && !errors.Is(err, io.EOF) {
		o.Gaps++ // it is damaged: what is behind cannot be known
	}
	end := o.reader.Plan.Cut(b, o.reader.Encoding, ended)
	if ended || end == 0 {
		end = n
	}
	if end > 0 {
		o.scan(m, b[:end], m.read, now)
	}
	if ended {
		m.Retired = true
		o.push(m, 0, nil)
		return true
	}
	return end > 0
}

// retired ends a member that cannot be read any more.
func (o *Origin) retired(m *member) bool {
	if m.Retired {
		o.push(m, 0, nil)
	}
	return m.Retired
}

// atEnd retires a member that was read to its end and has a younger one, and
// takes its unfinished last line as it is.
func (o *Origin) atEnd(m *member, newest bool, now time.Time) bool {
	if newest && m.Limit == 0 {
		return false
	}
	if m.idle == 0 {
		m.idle = now.UnixNano()
	}
	if m.Limit > 0 || now.UnixNano()-m.idle > int64(late) {
		m.Retired = true
		o.queue = append(o.queue, item{m: m, next: m.read, reached: o.reader.Reached, last: o.reader.Last, host: o.reader.LastHost})
		return true
	}
	return false
}

// judge takes the whole entries of a block. It answers false where there is none.
func (o *Origin) judge(m *member, b, buf []byte, now time.Time) bool {
	o.reader.Encoding = o.reader.Plan.EncodingOf(m.Print)
	base := m.read
	if m.cut { // pass over the rest of a line that was over the limit
		n := o.reader.Plan.LineEnd(b, o.reader.Encoding)
		if n == 0 {
			m.read += int64(len(b)) &^ 1
			o.push(m, 0, nil)
			return len(b) > 1
		}
		b, base = b[n:], base+int64(n)
		m.cut = false
		if len(b) == 0 {
			m.read = base
			o.push(m, 0, nil)
			return true
		}
	}
	end := o.reader.Plan.Cut(b, o.reader.Encoding, o.closed(m, now))
	if end == 0 {
		return o.long(m, base, buf, now)
	}
	o.scan(m, b[:end], base, now)
	return true
}

// closed tells whether nothing more belongs to the member's last entry: its writer
// has been silent for long enough, or has left the file.
func (o *Origin) closed(m *member, now time.Time) bool {
	wait := o.reader.Plan.Closed()
	if wait == 0 || m.Limit > 0 {
		return true
	}
	if m.idle == 0 {
		m.idle = now.UnixNano()
	}
	return now.UnixNano()-m.idle >= int64(wait)
}

// long reads on in an entry that fills a whole block, up to the limit.
func (o *Origin) long(m *member, base int64, buf []byte, now time.Time) bool {
	size := min(m.size-base, MaxLine+2)
	left := m.Limit > 0 || o.younger(m, now)
	if size < blockSize && !left {
		return false // an unfinished last line waits
	}
	line := make([]byte, size)
	n, _ := m.file.ReadAt(line, base)
	line = line[:n]
	if len(bytes.TrimLeft(line, "\x00")) == 0 {
		return false // room that was made, and not written to yet
	}
	if k := o.reader.Plan.Cut(line, o.reader.Encoding, n > MaxLine || left || o.closed(m, now)); k > 0 {
		o.scan(m, line[:k], base, now)
		return true
	}
	if n <= MaxLine {
		if left {
			o.scan(m, line, base, now)
			return n > 0
		}
		return false
	}
	o.CutLines++
	m.cut = true
	o.scan(m, line[:MaxLine], base, now)
	return true
}

// younger tells whether the member has been left by its writer: it has a younger
// one, and has not grown for a while.
func (o *Origin) younger(m *member, now time.Time) bool {
	if o.place.Members[len(o.place.Members)-1] == m {
		return false
	}
	if m.idle == 0 {
		m.idle = now.UnixNano()
	}
	return now.UnixNano()-m.idle > int64(late)
}

// scan judges whole entries into the queue.
func (o *Origin) scan(m *member, slab []byte, base int64, now time.Time) {
	var ticks []match.Tick
	o.reader.Future = 0
	entries := o.reader.Scan(slab, base, entry.Of(now), func(j *engine.Judged) {
		host := o.reader.LastHost
		if j.Entry.Fits {
			if h, ok := j.Entry.Get("host"); ok {
				host = h
			}
		}
		o.queue = append(o.queue, item{j: j, m: m, next: j.Next, reached: j.Reached, last: j.Entry.At, host: host})
	}, func(t match.Tick) { ticks = append(ticks, t) })
	m.read = base + int64(len(slab))
	if o.caught { // a backlog says nothing of how late its writer is
		own := entry.None
		if o.reader.Plan.Layout.Timed() {
			own = o.reader.Last
		}
		o.lag.came(own, entries, now)
	}
	o.push(m, entries, ticks)
}

// push ends a slab in the queue.
func (o *Origin) push(m *member, lines int64, ticks []match.Tick) {
	o.queue = append(o.queue, item{m: m, next: m.read, reached: o.reader.Reached, last: o.reader.Last,
		host: o.reader.LastHost, ticks: ticks, lines: lines})
}

// head item, or nil.
func (o *Origin) peek() *item {
	if o.head < len(o.queue) {
		return &o.queue[o.head]
	}
	return nil
}

// pop takes the head item, and moves the place behind it.
func (o *Origin) pop() {
	x := &o.queue[o.head]
	o.head++
	x.m.Offset = x.next
	if x.j == nil {
		x.m.Cut = x.m.cut
	}
	o.place.Last, o.place.Reached, o.place.Host = x.last, x.reached, x.host
	o.place.Entries += x.lines
	o.dirty = true
	if x.m.Retired && (x.j == nil && o.head == len(o.queue)) {
		o.place.Old = max(o.place.Old, x.m.changed())
		x.m.close()
		o.finish(x.m.ID, x.m.Print, x.m.Offset)
		if i := slices.Index(o.place.Members, x.m); i >= 0 {
			o.place.Members = slices.Delete(o.place.Members, i, i+1)
		}
	}
}

// Behind is how many bytes are there and not judged yet.
func (o *Origin) Behind() int64 {
	n := int64(0)
	for _, m := range o.place.Members {
		n += max(0, m.size-m.Offset)
	}
	return n
}

// Entries counts the entries that have been read of the origin.
func (o *Origin) Entries() int64 { return o.place.Entries }

// Newest is the path of the newest member.
func (o *Origin) Newest() string { return o.base }

// Read says in words what has been read.
func (o *Origin) Read() string {
	older := 0
	for _, d := range o.place.Finished {
		if d.ID != (Identity{}) {
			older++
		}
	}
	s := "nothing yet"
	if n := len(o.place.Members); n > 0 {
		m := o.place.Members[n-1]
		switch {
		case m.Offset >= m.size:
			s = fmt.Sprintf("all %d bytes", m.size)
		default:
			s = fmt.Sprintf("%d of %d bytes", m.Offset, m.size)
		}
	}
	if older == 1 {
		s += "; one older copy is known"
	} else if older > 1 {
		s += fmt.Sprintf("; %d older copies are known", older)
	}
	return s
}

// Began says in words where reading began.
func (o *Origin) Began() string { return o.place.Began }

// Reached is the latest own time of the origin's entries.
func (o *Origin) Reached() entry.Instant { return o.place.Reached }
