package intake

import (
	"cmp"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"dimlantern/core/verdict"

	"dimlantern/core/origin"

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
	Header   string        `json:"header,omitempty"` // the line that names the columns
	Began    string        `json:"began"`            // in words, where reading began
	Entries  int64         `json:"entries"`
	// Skew is how far the clock of its writer lies back.
	Skew time.Duration `json:"skew,omitempty"`
	// Gaps is how many bytes are known to be lost.
	Gaps int64 `json:"gaps,omitempty"`
	// LostAt is when something was last found to be lost, in nanoseconds; LostWhy why.
	LostAt  int64  `json:"lost_at,omitempty"`
	LostWhy string `json:"lost_why,omitempty"`
	// Wrote is when the newest member had last been written to, in nanoseconds.
	Wrote int64 `json:"wrote,omitempty"`
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
	Condition origin.Condition
	Words     string // what is the matter, where something is
	Mend      string // what would mend it
	Since     time.Time
	CutLines  int64 // entries over MaxLine
	place     Place
	reader    *match.Reader
	zips      map[Identity]int64 // compressed files that were looked into → when they had changed
	foreign   map[Identity]bool  // files of the series that are followed under another name
	moved     []found            // files that it reads, and that have the name of another series by now
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
	frozen    *Origin  // as it is now; nil where it has to be copied
}

// item is an entry that was judged ahead, or, with nil, the end of a slab.
type item struct {
	j       *verdict.Judged
	m       *member
	next    int64
	reached entry.Instant
	last    entry.Instant
	host    string
	header  string
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
	o.thaw()
	o.queue, o.head = nil, 0
	for _, m := range o.place.Members {
		m.read, m.cut, m.Retired, m.lost = m.Offset, m.Cut, false, 0
	}
	o.reader.Last, o.reader.Reached, o.reader.LastHost = o.place.Last, o.place.Reached, o.place.Host
	o.reader.Skew = o.place.Skew
	o.reader.SetHeader(o.place.Header)
}

// MarshalPlace writes the origin's place.
func (o *Origin) MarshalPlace() []byte {
	b, _ := json.Marshal(o.place)
	if p := o.reader.Plan; p.Layout.Masked() { // the first bytes of files are among it
		b, _ = json.Marshal(sealedPlace{p.Seal(b)})
	}
	return b
}

// sealedPlace is the place of an origin of which something is masked.
type sealedPlace struct {
	Sealed []byte `json:"sealed"`
}

// restore takes up a place that was kept.
func (o *Origin) restore(data []byte) error {
	var p Place
	var s sealedPlace
	if json.Unmarshal(data, &s) == nil && s.Sealed != nil {
		var ok bool
		if data, ok = o.reader.Plan.Unseal(s.Sealed); !ok {
			return fmt.Errorf("the place of %s was sealed with another key", o.Name)
		}
	}
	if err := json.Unmarshal(data, &p); err != nil {
		return fmt.Errorf("the place of %s is damaged: %w", o.Name, err)
	}
	o.place = p
	o.rewind()
	return nil
}

func (o *Origin) set(c origin.Condition, words, mend string, now time.Time) {
	if o.Condition == c && o.Words == words {
		return
	}
	if o.Condition != c {
		o.Since = now
	}
	o.Condition, o.Words, o.Mend = c, words, mend
	o.changed = true
	o.thaw()
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

// finish remembers a file that was read to its end, from a place on.
func (o *Origin) finish(id Identity, print []byte, size, start int64) {
	for i := range o.place.Finished {
		// else its number was given to another
		if d := o.place.Finished[i]; d.ID == id && (alike(d.Print, print) || len(d.Print) == 0) {
			o.place.Finished = slices.Delete(o.place.Finished, i, i+1)
			break
		}
	}
	o.place.Finished = append(o.place.Finished, finished{ID: id, Print: print, Size: size, Start: start})
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

// own are those of some files that are not followed under another name, and those that are
// followed here, though they have the name of another series.
func (o *Origin) own(files []found) []found {
	if len(o.foreign) > 0 {
		files = slices.DeleteFunc(files, func(f found) bool { return o.foreign[f.id] && !f.zip })
	}
	var moved []found
	for _, m := range o.moved {
		if info, err := os.Stat(m.path); err == nil && statOf(m.path, info).id == m.id {
			m.size, m.mod = info.Size(), info.ModTime().UnixNano()
			moved = append(moved, m)
		}
	}
	if len(moved) == 0 {
		return files
	}
	at := func(f found) int {
		return slices.IndexFunc(o.place.Members, func(m *member) bool { return m.ID == f.id && !m.Zip })
	}
	slices.SortStableFunc(moved, func(a, b found) int {
		return cmp.Or(cmp.Compare(at(a), at(b)),
			cmp.Compare(a.mod, b.mod))
	})
	return append(moved, files...)
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
			m.Size = max(m.Size, f.size)
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
	if n := len(files); n > 0 && !files[n-1].old() && !files[n-1].zip {
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
				o.insert(&member{ID: f.id, Print: print, Path: f.path, Offset: d.Size, read: d.Size, Start: d.Start,
					Size: f.size})
			}
			continue
		}
		o.newFile(f, print, first)
	}
	o.arrange(files)
	o.missed(files)
	switch {
	case o.Source.Kept(): // whether it can be seen is decided by its way in
		if newest >= 0 {
			o.base = files[newest].path
		}
		if o.Condition == "" {
			o.set(origin.Seen, "", "", now)
		}
	case newest >= 0 && (o.Condition.Blind() && o.Condition != origin.Unreadable || o.Condition == origin.Resting),
		newest >= 0 && o.Condition == origin.Waiting, o.Condition == "" && newest >= 0:
		o.base = files[newest].path
		o.absent = time.Time{}
		o.set(origin.Seen, "", "", now)
	case newest >= 0:
		o.base = files[newest].path
		o.absent = time.Time{}
	case o.absent.IsZero():
		o.absent = now
		if len(o.place.Members) == 0 && o.Condition == "" {
			o.set(origin.NoFile, fmt.Sprintf("%s is not there yet", o.Series), Missing(o.Series), now)
		}
	case now.Sub(o.absent) >= newestGone && o.Condition != origin.NoFile && o.rests(files, now):
		o.set(origin.Resting, fmt.Sprintf("it was rotated, and not begun anew since %s",
			time.Unix(0, o.place.Wrote).Format("15:04")), "", now)
	case now.Sub(o.absent) >= newestGone && o.Condition != origin.NoFile:
		words, mend := fmt.Sprintf("the file %s is gone", o.Series), "it is taken up again when it comes back"
		if dir := filepath.Dir(o.Series); !isFolder(dir) {
			words = fmt.Sprintf("the folder %s is gone, and its files with it: was its file system taken away?", dir)
			mend = "mount it again, or make the folder: it is taken up when it comes back"
		}
		o.set(origin.Gone, words, mend, now)
	}
}

// mostRest is how long a log may rest that was rotated.
const mostRest = 24 * time.Hour

// rests tells whether the log was rotated, so that its writer may have had nothing to say
// since.
func (o *Origin) rests(files []found, now time.Time) bool {
	return len(files) > 0 && now.UnixNano()-o.place.Wrote < int64(mostRest)
}

// missed counts in how many looks in a row nothing was found of a member.
func (o *Origin) missed(files []found) {
	for _, m := range o.place.Members {
		if m.file != nil || m.zip != nil || slices.ContainsFunc(files,
			func(f found) bool { return f.id == m.ID && f.zip == m.Zip }) {
			m.vanished = 0
		} else if m.vanished++; m.vanished == 1 {
			o.relook = true // a listing may miss what is being renamed
		}
	}
}

func isFolder(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
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
		if f.mod < o.place.Old && d == nil && f.old() || d != nil && d.mod == f.mod && d.Size == f.size {
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
			f.old() && slices.ContainsFunc(o.place.Members, func(m *member) bool { return alike(m.Print, print) })
		s.fresh = s.fresh || !known
	}
	return s, true
}

// nameMembers learns what the members' files are called now.
func (o *Origin) nameMembers(files []found) {
	for _, f := range files {
		for _, m := range o.place.Members {
			if m.ID == f.id && m.Zip == f.zip && (m.Path != f.path || m.Wrote != f.mod) {
				m.Path, m.Wrote = f.path, f.mod
				o.dirty = true
			}
		}
	}
}

// insert adds a member; arrange puts it where its age belongs.
func (o *Origin) insert(m *member) {
	o.place.Members = append(o.place.Members, m)
	o.dirty = true
}

// arrange puts the members in the order of their files, oldest first. One whose
// file is not there any more stays before the one that it stood before, and before those
// that were written to later.
func (o *Origin) arrange(files []found) {
	rank := make(map[*member]int, len(o.place.Members))
	next := len(files)
	for k := len(o.place.Members) - 1; k >= 0; k-- {
		m := o.place.Members[k]
		if i := slices.IndexFunc(files, func(f found) bool {
			return f.id == m.ID && f.zip == m.Zip || f.zip && f.id == m.packedAs
		}); i >= 0 {
			next = i
		} else if m.Wrote > 0 {
			next = min(next, max(0, slices.IndexFunc(files, func(f found) bool { return f.mod >= m.Wrote })))
		}
		rank[m] = next
	}
	slices.SortStableFunc(o.place.Members, func(a, b *member) int { return rank[a] - rank[b] })
}

// newFile takes up a file that is not known: by `begin` when the source is new,
// else from its start. A copy of what is known is not read again.
func (o *Origin) newFile(f found, print []byte, first bool) {
	if len(print) == 0 && f.old() && !first {
		return // a copy that is being made: it shows later of what
	}
	m := &member{ID: f.id, Print: print, Path: f.path, Size: f.size}
	if first {
		if !o.begin(m, f) {
			o.finish(f.id, print, f.size, f.size)
			o.place.Old = max(o.place.Old, f.mod)
			return
		}
		o.insert(m)
		return
	}
	if f.old() {
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
				o.finish(f.id, print, f.size, d.Start)
				return
			}
		}
	}
	o.insert(m)
}

// settled is how long a compressed file must not have changed before it is read.
const settled = 2 * time.Second

// begin sets where a member of a source that is seen for the first time begins;
// it answers false where nothing of it is to be read.
func (o *Origin) begin(m *member, f found) bool {
	newest := !f.old() && !f.zip
	switch o.Source.Begin.How {
	case lang.BeginNow:
		m.Offset, m.read = f.size, f.size
		if f.size > 0 && newest {
			m.Offset, m.Cut = o.lineStart(f.path, f.size, m.Print)
			m.read, m.cut = m.Offset, m.Cut
			m.Start = m.Offset
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
	m.read, m.Start = m.Offset, m.Offset
	return true
}
