package intake

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
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
	base    string // the path of the newest member
	absent  time.Time
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

// member returns the member that is a file, whatever its name is now.
func (o *Origin) member(f found) *member {
	for _, m := range o.place.Members {
		if m.ID == f.id && m.Limit == 0 {
			return m
		}
	}
	return nil
}

func (o *Origin) finished(f found) *finished {
	for i := range o.place.Finished {
		if o.place.Finished[i].ID == f.id {
			return &o.place.Finished[i]
		}
	}
	return nil
}

func (o *Origin) finish(id Identity, print []byte, size int64) {
	for i := range o.place.Finished {
		if o.place.Finished[i].ID == id {
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
	if n := len(files); n > 0 && files[n-1].age == 0 {
		newest = n - 1
	}
	for _, f := range files { // first what is known, since a copy shows only then as one
		m := o.member(f)
		if m == nil {
			continue
		}
		if m.Path != f.path {
			m.Path = f.path
			o.dirty = true
		}
		if m.wasCut(f) {
			o.wasCut(m, files)
		}
		m.size = max(m.size, f.size)
	}
	for i, f := range files {
		if o.member(f) != nil || o.copied(f) {
			continue
		}
		if d := o.finished(f); d != nil {
			if p := printOf(f.path); f.size > d.Size && (len(d.Print) == 0 || alike(p, d.Print)) {
				o.insert(&member{ID: f.id, Print: p, Path: f.path, Offset: d.Size, read: d.Size, size: f.size}, i, files)
				continue
			} else if len(d.Print) == 0 || alike(p, d.Print) {
				continue
			}
		}
		o.newFile(f, i, files, first)
	}
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
		if m.ID == f.id {
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
	if m.mod == f.mod || len(m.Print) == 0 {
		return false
	}
	m.mod = f.mod
	p := printOf(f.path)
	return len(p) < len(m.Print) || !alike(p, m.Print)
}

// insert puts a member where its age belongs: before the members of younger
// files.
func (o *Origin) insert(m *member, at int, files []found) {
	place := len(o.place.Members)
	for k := range o.place.Members {
		younger := false
		for _, f := range files[at+1:] {
			younger = younger || f.id == o.place.Members[k].ID
		}
		if younger {
			place = k
			break
		}
	}
	o.place.Members = slices.Insert(o.place.Members, place, m)
	o.dirty = true
}

// newFile takes up a file that is not known: by `begin` when the source is new,
// else from its start. A copy of what is known is not read again.
func (o *Origin) newFile(f found, at int, files []found, first bool) {
	print := printOf(f.path)
	m := &member{ID: f.id, Print: print, Path: f.path, size: f.size}
	if first {
		if !o.begin(m, f) {
			o.finish(f.id, print, f.size)
			return
		}
		o.insert(m, at, files)
		return
	}
	if f.age > 0 || f.date != "" {
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
	o.insert(m, at, files)
}

// wasCut handles a file that was copied and cut: what had not been read yet is
// read from the copy, where there is one, and the file from its start.
func (o *Origin) wasCut(m *member, files []found) {
	for i, f := range files {
		if f.id == m.ID || o.finished(f) != nil || o.member(f) != nil {
			continue
		}
		if p := printOf(f.path); alike(p, m.Print) && f.size >= m.Offset && len(p) >= len(m.Print) {
			c := &member{ID: f.id, Print: p, Path: f.path, Offset: m.Offset, read: m.Offset, size: f.size, Limit: f.size, Cut: m.Cut}
			o.insert(c, i, files)
			break
		}
	}
	m.Offset, m.read, m.Print, m.Cut, m.cut = 0, 0, nil, false, false
	o.dirty = true
}

// begin sets where a member of a source that is seen for the first time begins;
// it answers false where nothing of it is to be read.
func (o *Origin) begin(m *member, f found) bool {
	newest := f.age == 0 && f.date == ""
	switch o.Source.Begin.How {
	case lang.BeginNow:
		m.Offset, m.read = f.size, f.size
		if f.size > 0 {
			m.Offset = lineStart(f.path, f.size)
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
	m.Offset = o.bisect(f, at)
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
		if err := m.open(); err != nil {
			o.lost(m, i, err, now)
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
	o.unread = false
	return false, nil
}

// lost handles a member that cannot be opened.
func (o *Origin) lost(m *member, i int, err error, now time.Time) {
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

// judge takes the whole lines of a block. It answers false where there is none.
func (o *Origin) judge(m *member, b, buf []byte, now time.Time) bool {
	base := m.read
	if m.cut { // pass over the rest of a line that was over the limit
		n := bytes.IndexByte(b, '\n')
		if n < 0 {
			m.read += int64(len(b))
			o.push(m, 0, nil)
			return true
		}
		b, base = b[n+1:], base+int64(n+1)
		m.cut = false
		if len(b) == 0 {
			m.read = base
			o.push(m, 0, nil)
			return true
		}
	}
	end := bytes.LastIndexByte(b, '\n') + 1
	if end == 0 {
		return o.long(m, base, buf, now)
	}
	o.scan(m, b[:end], base, now)
	return true
}

// long reads on in a line that fills a whole block, up to the limit.
func (o *Origin) long(m *member, base int64, buf []byte, now time.Time) bool {
	size := min(m.size-base, MaxLine+1)
	ended := m.Limit > 0 || m.Retired
	if size < blockSize && !ended && !o.younger(m, now) {
		return false // an unfinished last line waits
	}
	line := make([]byte, size)
	n, _ := m.file.ReadAt(line, base)
	line = line[:n]
	if k := bytes.IndexByte(line, '\n'); k >= 0 {
		o.scan(m, line[:k+1], base, now)
		return true
	}
	if n <= MaxLine {
		if ended || o.younger(m, now) {
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

// scan judges whole lines into the queue.
func (o *Origin) scan(m *member, slab []byte, base int64, now time.Time) {
	lines := int64(bytes.Count(slab, []byte{'\n'}))
	if slab[len(slab)-1] != '\n' {
		lines++
	}
	var ticks []match.Tick
	o.reader.Scan(slab, base, entry.Of(now), func(j *engine.Judged) {
		host := o.reader.LastHost
		if j.Entry.Fits {
			if h, ok := j.Entry.Get("host"); ok {
				host = h
			}
		}
		o.queue = append(o.queue, item{j: j, m: m, next: j.Next, reached: j.Reached, last: j.Entry.At, host: host})
	}, func(t match.Tick) { ticks = append(ticks, t) })
	m.read = base + int64(len(slab))
	o.push(m, lines, ticks)
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
	if x.m.Retired {
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

// Began says in words where reading began.
func (o *Origin) Began() string { return o.place.Began }

// Reached is the latest own time of the origin's entries.
func (o *Origin) Reached() entry.Instant { return o.place.Reached }
