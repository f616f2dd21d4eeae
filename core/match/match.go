// Package match finds out of slabs of whole lines those that some rule cares
// about. Slabs and the layout of their source come in; judged entries, with how
// far the origin has been read, go out. Lines that no rule cares about are
// neither divided nor handed on; only their times are looked at, because the
// clock follows every entry.
//
// Nothing here decides what an entry means for an alert: that is the engine's.
package match

import (
	"bytes"
	"encoding/binary"
	"slices"
	"strings"
	"time"

	"dimlantern/core/verdict"

	"dimlantern/core/entry"
	"dimlantern/core/layout"
)

var entryBuiltIn = entry.BuiltIn

// Reader judges the lines of one origin, one slab after the other. It is not for
// several goroutines at once.
type Reader struct {
	Plan   *Plan
	Origin string
	Host   string
	// Live tells that entries arrive now; in a replay they arrive at the clock.
	Live bool
	// Last is the own time of the newest entry in sequence, Reached the latest
	// own time so far, LastHost the host of the last entry that fitted. They go on
	// from where they are set.
	Last, Reached entry.Instant
	LastHost      string
	// Near is where the first time is looked for, if it lacks its year; None
	// stands for the instant of arrival.
	Near entry.Instant
	// Skew is how far the clock of the log's writer lies back: it is added to the
	// times that the layout gives.
	Skew time.Duration
	// Encoding is that of the file which is being read.
	Encoding Encoding
	// Misfits counts the judged entries that the layout did not fit, Future those
	// whose time lay more than five minutes ahead, and Ahead how far the last of them
	// did.
	Misfits, Future int64
	Ahead           time.Duration

	// Take gets the entries of a plan of [NewTaking], in their order, each until the next one, with the
	// offset behind it. Sure tells that their times mean the same wherever they are read: then only
	// those of entries that are taken are looked at, and Reached follows these alone.
	Take func(e *entry.Entry, next int64)
	Sure bool
	// Lean gets, instead of Take, what [Reader.LeanOn] was asked for of entries that are as usual: the
	// values of those fields, nil being lacking, until the next one, with the own time and the offset.
	Lean func(values [][]byte, at entry.Instant, offset int64)

	// Counted says that nobody asks how many entries there are: then Scan may return 0.
	Counted bool

	// Known are the times of the text that will be scanned, where they are known already;
	// nil is not. They are those of the plan's layout.
	Known *Known

	divider  layout.Divider
	knownAt  int // where in Known the lines that are scanned stand
	knownIn  int // and those that Within looks at
	constant []entry.Field
	text     []byte
	spots    []spot
	spare    []oneJudged // memory for what comes next
	taken    entry.Entry
	lean     *layout.Lean
	phrase   string // that the text of what Lean gets has; "" is any text
	marks    []int
	mark     int
}

// Header is the line that names the columns of what comes, where the layout has such
// lines; "" where none has come.
func (r *Reader) Header() string { return r.divider.Header }

// SetHeader says which line names the columns of what comes.
func (r *Reader) SetHeader(line string) { r.divider.Header = line }

// SeeAll shows a divider the lines of a block, so that it knows which line names the
// columns behind it.
func (p *Plan) SeeAll(d *layout.Divider, block []byte) {
	for len(block) > 0 {
		line := block
		if i := bytes.IndexByte(block, '\n'); i >= 0 {
			line, block = block[:i], block[i+1:]
		} else {
			block = nil
		}
		d.See(bytes.TrimSuffix(line, []byte{'\r'}))
	}
}

// NewReader returns a reader for an origin that has not been read yet.
func NewReader(p *Plan, origin, host string, live bool) *Reader {
	r := &Reader{Plan: p, Origin: origin, Host: host, Live: live, Last: entry.None, Reached: entry.None,
		Near: entry.None}
	r.divider.Layout = p.Layout
	if _, path, ok := strings.Cut(origin, ":"); ok {
		r.constant = p.Constants(path, host)
	}
	r.marks = make([]int, kinds*len(p.rules))
	return r
}

// Future is how far ahead of its arrival an entry's time may lie.
const Future = 5 * time.Minute

// Tick is a stretch of lines and the time by which they had been written.
type Tick struct {
	At    entry.Instant
	Lines int
	Bytes int64 // of the file, with what stands between the lines
}

// Scan reads a slab of whole entries, as Cut leaves them, of which the last may
// lack its line end, and returns how many there were. Base is the offset of its
// first byte in the file, now the instant of its arrival. Judged entries go to
// emit in their order. Tick, where it is not nil, gets some 500 stretches of a slab.
func (r *Reader) Scan(raw []byte, base int64, now entry.Instant, emit func(*verdict.Judged), tick func(Tick)) int64 {
	slab, marks, skipped := r.framed(raw, base)
	if len(slab) == 0 {
		return 0
	}
	base += int64(skipped)
	r.Plan.Prepare(slab[:min(len(slab), 256<<10)])
	r.spots = r.Plan.search.search(slab, r.spots[:0])
	s := &scan{r: r, slab: slab, marks: marks, base: base, now: now, emit: emit, tick: tick}
	if s.run() {
		return s.lines
	}
	if r.Counted {
		return 0
	}
	n := int64(bytes.Count(slab, newline))
	if slab[len(slab)-1] != '\n' {
		n++
	}
	return n
}

// scan is the state of one Scan.
type scan struct {
	r      *Reader
	slab   []byte
	marks  []lineMark
	base   int64
	now    entry.Instant
	emit   func(*verdict.Judged)
	tick   func(Tick)
	ticked int // up to here stretches were told
	synced int // up to here Reached is exact
	known  int // up to here Last and LastHost are what they are
	top    entry.Instant
	topAt  int // start of the line with the latest glanced time, or -1
	topEnd int
	conds  []int
	lines  int64 // that were walked over, and are entries
	// captures is memory for what expressions capture.
	captures []entry.Field
	// memo is the entry that was divided last.
	memo struct {
		division layout.Division
		at       int
		near     entry.Instant
		fields   bool // there is one
	}
}

// run judges what stands in the slab, and tells whether it has walked over every line.
func (s *scan) run() bool {
	r := s.r
	p := r.Plan
	if !p.Timed() {
		at := s.now
		if !r.Live && r.Reached != entry.None {
			at = r.Reached
		}
		r.Reached = entry.Later(r.Reached, at)
		r.Last = at
	} else if r.Last == entry.None {
		r.Last = s.firstTime()
		if r.Last == entry.None {
			r.Last = s.now
		}
		r.Reached = entry.Later(r.Reached, r.Last)
	}
	s.topAt = -1
	every := len(p.always) > 0
	headed := p.Layout.Headed()
	timed := p.Timed() && !(p.take && s.r.Sure)
	walk := every || timed || headed
	next := 0 // in r.spots
	step, since := 0, 0
	if s.tick != nil {
		step = max(1, bytes.Count(s.slab, newline)/512)
	}
	at := 0
	if r.lean != nil && every && !timed && !headed && s.tick == nil {
		s.takeAll()
		at = len(s.slab)
	}
	for at < len(s.slab) {
		if !walk {
			if next >= len(r.spots) {
				break
			}
			at = lineStart(s.slab[:r.spots[next].at])
		}
		if walk && !every && !headed {
			if k := s.skip(at, next, step-since); k.Lines > 0 {
				s.lines += int64(k.Lines)
				since += k.Lines
				if step > 0 && since >= step {
					s.stretch(max(s.top, r.Reached), since, k.Next)
					since = 0
				}
				at = k.Next
				continue
			}
		}
		end := bytes.IndexByte(s.slab[at:], '\n')
		stop := len(s.slab)
		if end < 0 {
			end = len(s.slab)
		} else {
			end += at
			stop = end + 1
		}
		if headed && r.divider.See(s.line(at, end)) {
			for next < len(r.spots) && r.spots[next].at < end {
				next++
			}
			at = stop
			continue
		}
		if timed {
			s.glance(at, end)
		}
		if next < len(r.spots) && r.spots[next].at < end || every {
			s.conds = append(s.conds[:0], p.always...)
			r.mark++
			for ; next < len(r.spots) && r.spots[next].at < end; next++ {
				l := &p.lits[r.spots[next].lit]
				if r.spots[next].at+len(l.text) > end {
					continue
				}
				for _, c := range l.cond {
					if r.marks[c] != r.mark {
						r.marks[c] = r.mark
						s.conds = append(s.conds, c)
					}
				}
			}
			switch {
			case len(s.conds) == 0:
			case r.lean != nil && s.takeLean(at, end):
			case p.take:
				s.takeEntry(at, end, stop)
			default:
				s.judge(at, end, stop)
			}
		}
		s.lines++
		if since++; step > 0 && since >= step && walk {
			s.stretch(max(s.top, r.Reached), since, stop)
			since = 0
		}
		at = stop
	}
	s.sync(len(s.slab))
	s.carry()
	if s.tick != nil {
		if !walk {
			since = bytes.Count(s.slab, newline)
		}
		if since > 0 {
			s.stretch(r.Reached, since, len(s.slab))
		}
	}
	return walk
}

// stretch tells of a stretch of lines that ends there in the slab.
func (s *scan) stretch(at entry.Instant, lines, end int) {
	s.tick(Tick{at, lines, s.offset(end) - s.offset(s.ticked)})
	s.ticked = end
}

var newline = []byte{'\n'}

// lineStart is where the line begins that a text ends in.
func lineStart(b []byte) int {
	const ones, ends = 0x0101010101010101, 0x0a0a0a0a0a0a0a0a
	n := len(b)
	for ; n >= 8; n -= 8 { // eight bytes at once: is one of them null, when the line end is taken off?
		x := binary.LittleEndian.Uint64(b[n-8:]) ^ ends
		if (x-ones)&^x&(ones<<7) != 0 {
			break
		}
	}
	return bytes.LastIndexByte(b[:n], '\n') + 1
}

// MaxLine is how long an entry may be, in bytes; what is behind is cut off.
const MaxLine = 1 << 20

// line is an entry without its line end, and no longer than MaxLine. What a crash
// left of nothing in front of it is taken away.
func (s *scan) line(at, end int) []byte {
	if s.slab[min(at, len(s.slab)-1)] == 0 {
		for at < end && s.slab[at] == 0 {
			at++
		}
	}
	if end-at > MaxLine {
		end = at + MaxLine
	} else if end > at && s.slab[end-1] == '\r' {
		end--
	}
	if s.r.Plan.entry != nil {
		return unjoin(s.slab[at:end])
	}
	return s.slab[at:end]
}

// offset is the place in the file of the entry that begins there in the slab.
func (s *scan) offset(at int) int64 { return s.base + offsetIn(s.marks, at) }

// Timed tells whether any line of the slab has a time of its own.
func (r *Reader) Timed(raw []byte) bool {
	slab, _, _ := r.framed(raw, 0)
	return len(slab) > 0 && (&scan{r: r, slab: slab}).firstTime() != entry.None
}

// Begin sets the time of the lines that come before the first one with a time,
// by looking for it in the slab.
func (r *Reader) Begin(raw []byte) {
	if slab, _, _ := r.framed(raw, 0); len(slab) > 0 && r.Last == entry.None && r.Plan.Timed() {
		r.Last = (&scan{r: r, slab: slab}).firstTime()
	}
}

// Within tells whether every line of a slab surely has a time from from up to, and not at,
// to; lines without one have that of the line before. Where it is not sure, or costs too
// much to know, the answer is false. Base is the offset of the slab's first byte.
func (r *Reader) Within(slab []byte, base int64, from, to entry.Instant) bool {
	p := r.Plan
	if r.Known != nil && r.Skew == 0 && r.Last != entry.None && r.Last >= from && r.Last < to &&
		r.Known.within(int(base), int(base)+len(slab), from, to, &r.knownIn) {
		return true
	}
	if !p.Timed() || p.kept || p.entry != nil || p.Layout.Headed() || r.Encoding > UTF8 || r.Last == entry.None ||
		r.Last < from || r.Last >= to || bytes.IndexByte(slab, 0) >= 0 {
		return false
	}
	s := &scan{r: r, slab: slab}
	for at := 0; at < len(slab); {
		if run := r.divider.GlanceOn(slab, at, len(slab), len(slab)); run.Lines > 0 {
			if run.Top.Add(r.Skew) >= to || run.Low.Add(r.Skew) < from {
				return false
			}
			at = run.Next
			continue
		}
		end := len(slab)
		if k := bytes.IndexByte(slab[at:], '\n'); k >= 0 {
			end = at + k
		}
		t, ok, sure := r.divider.Glance(s.line(at, end), s.near())
		if t = t.Add(r.Skew); !sure || ok && (t < from || t >= to) {
			return false
		}
		at = end + 1
	}
	return true
}

// Times are the times that the first and the last entry of a slab with a time give
// themselves, whatever Skew is; None where no entry has one.
func (r *Reader) Times(raw []byte, now entry.Instant) (first, last entry.Instant) {
	slab, _, _ := r.framed(raw, 0)
	s := &scan{r: r, slab: slab, now: now}
	first, last = entry.None, entry.None
	headed, header := r.Plan.Layout.Headed(), r.divider.Header
	defer func() { r.divider.Header = header }()
	for at := 0; at < len(slab) && first == entry.None; {
		end := len(slab)
		if i := bytes.IndexByte(slab[at:], '\n'); i >= 0 {
			end = at + i
		}
		if headed {
			r.divider.See(s.line(at, end))
		}
		first = s.written(at, end)
		at = end + 1
	}
	for end := len(slab); end > 0 && last == entry.None && first != entry.None; {
		stop := end
		if slab[end-1] == '\n' {
			stop = end - 1
		}
		start := lineStart(slab[:stop])
		last = s.written(start, stop)
		end = start
	}
	return first, last
}

// written is the time of a line as its writer gave it.
func (s *scan) written(at, end int) entry.Instant {
	if d, _ := s.r.Plan.Divide(&s.r.divider, s.line(at, end), s.near()); d.Timed {
		return d.At
	}
	return entry.None
}

// firstTime looks for the first time in the slab, which lines before it take.
func (s *scan) firstTime() entry.Instant {
	headed, header := s.r.Plan.Layout.Headed(), s.r.divider.Header
	defer func() { s.r.divider.Header = header }()
	for at := 0; at < len(s.slab); {
		end := bytes.IndexByte(s.slab[at:], '\n')
		if end < 0 {
			end = len(s.slab) - at
		}
		if headed {
			s.r.divider.See(s.line(at, at+end))
		}
		if d := s.divide(at, at+end); d.Timed {
			return d.At
		}
		at += end + 1
	}
	return entry.None
}

func (s *scan) near() entry.Instant {
	switch {
	case s.r.Reached != entry.None:
		return s.r.Reached
	case s.r.Near != entry.None:
		return s.r.Near
	}
	return s.now
}

// divide divides a line; what it returns holds until the next line is divided.
func (s *scan) divide(at, end int) *layout.Division {
	near := s.near()
	d := &s.memo.division
	if s.memo.fields && s.memo.at == at && s.memo.near == near { // it was just looked at for its time
		return d
	}
	p, line := s.r.Plan, s.line(at, end)
	p.Divided.Judged++
	sampled := p.Divided.Judged%costEvery == 0
	timed := p.Now != nil && (sampled || len(line) > longEntry)
	var began time.Duration
	if timed {
		began = p.Now()
	}
	p.DivideInto(d, &s.r.divider, line, near)
	if timed {
		took := p.Now() - began
		if sampled {
			p.Divided.Took += costEvery * took
		}
		if took > p.Divided.Slow.Took {
			p.Divided.Slow.note(took, &entry.Entry{At: d.At, Origin: s.r.Origin, Offset: s.offset(at),
				Raw: d.Hide(d.Line)})
		}
	}
	if d.Timed {
		d.At = s.bounded(d.At.Add(s.r.Skew))
	}
	d.Fields = slices.Clip(d.Fields)
	s.memo.at, s.memo.near, s.memo.fields = at, near, true
	return d
}

// bounded takes a time that lies too far ahead of its arrival for its arrival.
func (s *scan) bounded(at entry.Instant) entry.Instant {
	if s.r.Live && at > s.now.Add(Future) {
		s.r.Future++
		s.r.Ahead = at.Sub(s.now)
		return s.now
	}
	return at
}

// glance looks at a line's time, to know the latest one.
func (s *scan) glance(at, end int) {
	if !s.r.Plan.Timed() {
		return
	}
	var t entry.Instant
	ok, sure := false, false
	if !s.r.Plan.kept {
		t, ok, sure = s.r.divider.Glance(s.line(at, end), s.near())
	}
	if !sure {
		if d := s.divide(at, end); d.Timed && d.At > s.r.Reached {
			s.r.Reached = d.At
		}
		return
	}
	if t = s.bounded(t.Add(s.r.Skew)); ok && t > s.r.Reached && (s.topAt < 0 || t > s.top) {
		s.top, s.topAt, s.topEnd = t, at, end
	}
}

// skip glances at the lines from at on that no rule cares about.
func (s *scan) skip(at, next, most int) layout.Run {
	if s.r.Plan.kept {
		return layout.Run{}
	}
	stop := len(s.slab)
	if next < len(s.r.spots) {
		spot := s.r.spots[next].at
		if spot < at {
			return layout.Run{}
		}
		stop = at + lineStart(s.slab[at:spot])
	}
	if s.tick == nil {
		most = len(s.slab)
	}
	if known := s.r.Known; known != nil && s.marks == nil {
		s.r.knownAt = known.find(int(s.base)+at, s.r.knownAt)
		if i := s.r.knownAt; i < len(known.runs) {
			x := &known.runs[i]
			from := x.from - int(s.base)
			if from == at && x.sure && x.next-int(s.base) <= stop {
				if x.top != entry.None {
					top := x.top.Add(s.r.Skew)
					if top > s.r.Reached && (s.topAt < 0 || top > s.top) {
						s.top, s.topAt, s.topEnd = top, x.at-int(s.base), x.end-int(s.base)
					}
				}
				return layout.Run{Next: x.next - int(s.base), Lines: x.lines}
			}
			if from > at && from < stop {
				stop = from
			}
		}
	}
	k := s.r.divider.GlanceOn(s.slab, at, stop, most)
	if k.Top != entry.None {
		k.Top = k.Top.Add(s.r.Skew)
	}
	if k.Lines == 0 || s.bounded(k.Top) != k.Top {
		return layout.Run{}
	}
	if k.Top > s.r.Reached && (s.topAt < 0 || k.Top > s.top) {
		s.top, s.topAt, s.topEnd = k.Top, k.At, k.End
	}
	return k
}

// sync makes Reached exact for all lines before end. The line with the latest
// glanced time counts if it fits; if it does not, every line since is divided.
func (s *scan) sync(end int) {
	if s.topAt >= 0 {
		if d := s.divide(s.topAt, s.topEnd); d.Timed {
			s.r.Reached = entry.Later(s.r.Reached, d.At)
		} else {
			for at := s.synced; at < end; {
				stop := bytes.IndexByte(s.slab[at:end], '\n')
				if stop < 0 {
					stop = end - at
				}
				if d := s.divide(at, at+stop); d.Timed {
					s.r.Reached = entry.Later(s.r.Reached, d.At)
				}
				at += stop + 1
			}
		}
	}
	s.synced, s.topAt, s.top = end, -1, entry.None
}

// before returns the own time and the host of the entry before the place: those
// of the nearest line above that has them, else what was carried into the slab.
//
// It is asked for one place after the other, and looks at no line twice.
func (s *scan) before(place int) (entry.Instant, string) {
	l := s.r.Plan.Layout
	at, host := s.r.Last, s.r.LastHost
	timed, hosted := !s.r.Plan.Timed(), !l.GivesHost()
	for end := place; end > s.known && !(timed && hosted); {
		stop := end
		if s.slab[end-1] == '\n' {
			stop = end - 1
		}
		start := lineStart(s.slab[:stop])
		d := s.divide(start, stop)
		if d.Timed && !timed {
			at, timed = d.At, true
		}
		if d.Fits && !hosted {
			host, hosted = fieldOf(d.Fields, "host"), true
			if d.Hides() { // it is kept, and stands in entries that do not say that it is to be masked
				host = d.Hide(host)
			}
		}
		end = start
	}
	s.known, s.r.Last, s.r.LastHost = place, at, host
	return at, host
}

// carry keeps what the next slab must know of this one.
func (s *scan) carry() {
	if p := s.r.Plan; p.Timed() || p.Layout.GivesHost() {
		s.before(len(s.slab))
	}
}
