package intake

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/core/trial"
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
	// Skew is how far the clock of its writer lies back.
	Skew time.Duration `json:"skew,omitempty"`
	// Gaps is how many bytes are known to be lost.
	Gaps int64 `json:"gaps,omitempty"`
	// Old is when the newest member that was read to its end had last changed:
	// rotated files from before are known. Nanoseconds.
	Old int64 `json:"old"`
}

// Origin is one log as its writer sees it: all members of its series together.
type Origin struct {
	Source    *lang.Source
	Series    string
	Name      string // HOST:PATH
	Host      string
	Way       string // of kept entries: a peer's address, a channel's name
	Condition Condition
	Words     string // what is the matter, where something is
	Mend      string // what would mend it
	Since     time.Time
	CutLines  int64 // entries over MaxLine
	place     Place
	reader    *match.Reader
	zips      map[Identity]int64 // compressed files that were looked into → when they had changed
	foreign   map[Identity]bool  // files of the series that are followed under another name
	base      string             // the path of the newest member
	absent    time.Time
	polled    time.Time // with `every`: when it was last looked at
	lag       lag
	pace      pace
	skew      skew
	fit       fit
	caught    bool      // it has been read to its end once
	ended     time.Time // when it was last read to its end
	pending   bool      // a member that is being renamed or compressed keeps what is younger waiting
	relook    bool      // it has to be looked for again soon
	unread    bool
	queue     []item
	head      int
	dirty     bool     // the place has changed since it was last taken
	told      []string // what is to be told of the clock of its writer
	changed   bool     // the condition has changed since it was last taken
}

// item is an entry that was judged ahead, or, with nil, the end of a slab.
type item struct {
	j       *engine.Judged
	m       *member
	next    int64
	reached entry.Instant
	last    entry.Instant
	host    string
	skew    time.Duration
	ticks   []match.Tick
	lines   int64
}

// maxFinished is how many members that were read to their ends are remembered.
const maxFinished = 40

// newOrigin is an origin of which nothing is known yet; self is the name of this machine.
func newOrigin(src *lang.Source, series, self string, plan *match.Plan) *Origin {
	o := &Origin{Source: src, Series: series, base: series}
	o.Name, o.Host = trial.OriginOf(src, series, self)
	if src.Kept() {
		_, o.Way, _ = match.KeptIn(series)
	}
	o.place.Last, o.place.Reached = entry.None, entry.None
	o.attach(plan)
	return o
}

// attach lets the origin be judged by a plan from its place on.
func (o *Origin) attach(plan *match.Plan) {
	o.reader = match.NewReader(plan, o.Name, o.Host, true)
	o.rewind()
}

// rewind drops what was judged ahead.
func (o *Origin) rewind() {
	o.queue, o.head = nil, 0
	for _, m := range o.place.Members {
		m.read, m.cut = m.Offset, m.Cut
	}
	o.reader.Last, o.reader.Reached, o.reader.LastHost = o.place.Last, o.place.Reached, o.place.Host
	o.reader.Skew = o.place.Skew
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
	o.place.Finished = append(o.place.Finished, finished{id, print, size, 0})
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
	for range 20 {
		if s, ok := o.survey(files); ok && (!s.fresh || sameFiles(s.files, o.members())) {
			o.takeUp(s, first, now)
			return
		}
		files = o.settled()
	}
	o.relook = true
}

// survey is what a look at the files of a series found.
type survey struct {
	files  []found
	prints map[string][]byte // of those that may be new, by their paths
	// fresh tells that one of them is not known at all. What it holds may have stood in
	// another by the time that the files were listed: they must be listed again, and be
	// the same.
	fresh bool
}

// members lists the files of the series, but for those that are followed under another
// name.
func (o *Origin) members() []found { return o.own(members(o.Series)) }

// settled is like members, when no rotation is going on.
func (o *Origin) settled() []found { return o.own(settledMembers(o.Series)) }

func (o *Origin) own(files []found) []found {
	if len(o.foreign) == 0 {
		return files
	}
	return slices.DeleteFunc(files, func(f found) bool { return o.foreign[f.id] })
}

// survey compares known files with what they were. It answers false while a rotation
// is going on.
func (o *Origin) survey(files []found) (survey, bool) {
	o.nameMembers(files)
	o.part(files)
	type cut struct {
		m   *member
		now []byte
	}
	var cuts []cut
	for _, m := range o.place.Members {
		i := slices.IndexFunc(files, func(f found) bool { return o.member(f) == m && !f.zip })
		if m.Zip || m.Limit > 0 || i < 0 && m.file == nil {
			continue
		}
		f := found{}
		if i >= 0 {
			f = files[i]
		}
		if now, was := m.wasCut(f); was {
			cuts = append(cuts, cut{m, now})
		} else if i >= 0 {
			m.size = max(m.size, f.size)
		}
	}
	for _, x := range cuts { // a file is copied before it is cut: all copies are there by now
		o.wasCut(x.m, x.now)
	}
	if len(cuts) > 0 {
		files = o.settled()
	}
	return o.printsOf(files)
}

// takeUp takes up what a survey found.
func (o *Origin) takeUp(s survey, first bool, now time.Time) {
	files, prints := s.files, s.prints
	newest := -1
	if n := len(files); n > 0 && files[n-1].age == 0 && !files[n-1].zip {
		newest = n - 1
	}
	var live []byte // how a newest file begins that is not known
	if newest >= 0 {
		live = prints[files[newest].path]
	}
	for i, f := range files {
		if o.copied(f) {
			continue
		}
		if f.zip {
			o.packedFile(f, files, first)
			continue
		}
		print, new := prints[f.path]
		if !new || i != newest && !first && alike(print, live) {
			continue // a copy of the newest; it matters when that one is cut
		}
		if d := o.finished(f); d != nil && (len(d.Print) == 0 || alike(print, d.Print)) {
			if f.size > d.Size {
				o.insert(&member{ID: f.id, Print: print, Path: f.path, Offset: d.Size, read: d.Size, size: f.size})
			}
			continue
		}
		o.newFile(f, print, first)
	}
	o.arrange(files)
	switch {
	case o.Source.Kept(): // whether it can be seen is decided by its way in
		if newest >= 0 {
			o.base = files[newest].path
		}
		if o.Condition == "" {
			o.set(Seen, "", "", now)
		}
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

// printsOf reads how the files begin that may be new. It answers false where one of
// them is being renamed.
func (o *Origin) printsOf(files []found) (survey, bool) {
	s := survey{files: files}
	for _, f := range files {
		d := o.finished(f)
		if f.zip || o.copied(f) {
			continue
		}
		if f.mod < o.place.Old && d == nil && (f.age > 0 || f.date != "") || d != nil && d.mod == f.mod && d.Size == f.size {
			continue // it was there before, or is as it was
		}
		print, ok := f.print()
		if !ok {
			return s, false
		}
		if s.prints == nil {
			s.prints = map[string][]byte{}
		}
		s.prints[f.path] = print
		done := d != nil && (len(d.Print) == 0 || alike(print, d.Print))
		if done && len(d.Print) > 0 {
			d.mod = f.mod
		}
		known := done ||
			(f.age > 0 || f.date != "") && slices.ContainsFunc(o.place.Members, func(m *member) bool { return alike(m.Print, print) })
		s.fresh = s.fresh || !known
	}
	return s, true
}

// nameMembers learns what the members' files are called now.
func (o *Origin) nameMembers(files []found) {
	for _, f := range files {
		for _, m := range o.place.Members {
			if m.ID == f.id && m.Zip == f.zip && m.Path != f.path {
				m.Path = f.path
				o.dirty = true
			}
		}
	}
}

// part opens the files of the members, and lets go of those that are others: a member
// was compressed or taken away, and its number was given out again, or it was cut
// before it was renamed. While a file is open its number is given to no other. What
// of such a member, or of one that is gone, was not read yet is read from its copy,
// where there is one. A file under its first name that is no copy may have been
// written anew, which wasCut sees.
func (o *Origin) part(files []found) {
	for _, m := range o.place.Members {
		if m.file != nil || m.Zip || len(m.Print) == 0 {
			continue
		}
		err := m.open()
		for try := 0; err != nil && try < 3 && (errors.Is(err, errOther) || errors.Is(err, fs.ErrNotExist)); try++ {
			files = o.settled() // it is being renamed, or is gone
			o.nameMembers(files)
			err = m.open()
		}
		if err == nil {
			if same, err := m.same(); err != nil || same || m.Limit == 0 && m.Path == files[len(files)-1].path {
				continue
			}
			m.close()
			m.ID, o.zips, o.dirty = Identity{}, nil, true
		}
		if c, print := o.copyOf(m); print != nil {
			m.ID, m.Print, m.Path, m.Zip, m.Limit, m.idle, o.dirty = c.id, print, c.path, c.zip, 0, 0, true
			if !c.zip {
				m.Limit = c.size
			}
		}
	}
}

// copyOf finds the copy of a member that was cut or taken away: a file that begins
// as it did, reaches as far as was read, and is not known as another.
func (o *Origin) copyOf(m *member) (found, []byte) {
	files := o.settled()
	for range 20 {
		if f, print := o.copyIn(files, m); print != nil {
			return f, print
		}
		again := o.settled()
		if sameFiles(files, again) {
			break
		}
		files = again // a copy may have been on its way to another name
	}
	return found{}, nil
}

func (o *Origin) copyIn(files []found, m *member) (found, []byte) {
	for _, f := range files {
		if f.id == m.ID || o.copied(f) {
			continue
		}
		p, ok := f.print()
		if !ok || !alike(p, m.Print) || int64(len(p)) < min(int64(len(m.Print)), m.Offset) || !f.zip && f.size < m.Offset {
			continue
		}
		if d := o.finished(f); d != nil && alike(d.Print, p) {
			continue
		}
		return f, p
	}
	return found{}, nil
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

// wasCut tells whether the file was cut short or written anew since it was read, and
// with which bytes it begins then. It looks into the file only where that has
// changed.
func (m *member) wasCut(f found) (now []byte, was bool) {
	if m.file != nil { // it is open, so that nothing can be mistaken in its name
		info, err := m.file.Stat()
		if err != nil {
			return nil, false
		}
		f.size, f.mod = info.Size(), info.ModTime().UnixNano()
	}
	if f.size >= m.Offset && (m.mod == f.mod && m.looked == f.size || len(m.Print) == 0) {
		return nil, false
	}
	m.mod, m.looked = f.mod, f.size
	if m.file != nil {
		now = firstBytes(m.file)
	} else {
		var ok bool
		if now, ok = f.print(); !ok {
			return nil, false
		}
	}
	if f.size >= m.Offset && begins(now, m.Print) {
		m.Print = now
		return nil, false
	}
	return now, true
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
		if i := slices.IndexFunc(files, func(f found) bool {
			return f.id == m.ID && f.zip == m.Zip || f.zip && f.id == m.packedAs
		}); i >= 0 {
			next = i
		}
		rank[m] = next
	}
	slices.SortStableFunc(o.place.Members, func(a, b *member) int { return rank[a] - rank[b] })
}

// newFile takes up a file that is not known: by `begin` when the source is new,
// else from its start. A copy of what is known is not read again.
func (o *Origin) newFile(f found, print []byte, first bool) {
	if len(print) == 0 && (f.age > 0 || f.date != "") && !first {
		return // a copy that is being made: it shows later of what
	}
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
	print, ok := f.print()
	if !ok || len(print) == 0 {
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
		m.packedAs = f.id
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

// wasCut handles a file that was copied and cut, and begins with other bytes now:
// what had not been read yet is read from the copy, where there is one, and the
// file from its start.
func (o *Origin) wasCut(m *member, now []byte) {
	if f, print := o.copyOf(m); print != nil {
		c := &member{ID: f.id, Print: print, Path: f.path, Offset: m.Offset, read: m.Offset, size: f.size, Limit: f.size, Cut: m.Cut}
		if f.zip { // how long it was is only known at its end
			c.Zip, c.Limit, c.size = true, 0, m.size
		} else {
			o.lose(m.size-max(f.size, m.Offset), "it was written between being copied and being cut")
		}
		// It comes before what the file holds now.
		o.place.Members = slices.Insert(o.place.Members, slices.Index(o.place.Members, m), c)
	} else {
		o.lose(m.size-m.Offset, "it was cut before it could be read")
	}
	if len(m.Print) > 0 { // a copy that is found later, compressed perhaps, is known
		o.finish(Identity{}, m.Print, m.Offset)
	}
	m.Offset, m.read, m.Print, m.Cut, m.cut, m.size = 0, 0, now, false, false, 0
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
