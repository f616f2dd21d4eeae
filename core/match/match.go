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
	"slices"
	"strings"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

var entryBuiltIn = entry.BuiltIn

// Plan is how the entries of one source are judged by the rules that look at
// it. It may be used by several goroutines at once, by a Reader each.
type Plan struct {
	Source   string
	Layout   *layout.Layout
	rules    []planned
	lits     []literal
	always   []int // conditions that need no literal, in the order of the rules
	search   *searcher
	entry    *lang.EntrySpec
	encoding string // the source's word for it
	kept     bool   // entries stand with when they arrived, and from whom
	only     lang.Expr
	source   *lang.Source
	secret   []byte

	// Now measures time where it is set: one of costEvery judgements is timed.
	Now   func() time.Duration
	costs []Cost // by the place in rules
	turn  int
	// Scanned is how long reading has taken in all, as who reads has noted it.
	Scanned time.Duration
}

// Cost is what a rule has cost in the entries of a plan's source.
type Cost struct {
	Rule   int           // its place in the engine
	Judged int64         // entries that were tried against its expressions
	Took   time.Duration // that it took, measured on a sample
}

// costEvery is how many judgements stand for each that is timed.
const costEvery = 32

// Costs are what the rules have cost so far.
func (p *Plan) Costs() []Cost { return p.costs }

// Timed tells whether entries have a time of their own: by their layout, or by when
// they arrived, where that was kept.
func (p *Plan) Timed() bool { return p.kept || p.Layout.Timed() }

// EncodingOf is the encoding of a file of the source, by its first bytes.
func (p *Plan) EncodingOf(head []byte) Encoding { return EncodingOf(p.encoding, head) }

// Closed is how long the last entry of a file waits for further lines; 0 where
// each line is an entry.
func (p *Plan) Closed() time.Duration {
	if p.entry == nil {
		return 0
	}
	return p.entry.Closed
}

// planned is a rule with its place among all rules.
type planned struct {
	rule  *lang.Rule
	index int
	vars  []string // fields that its texts name
	// shares tells that every entry counts for it.
	shares bool
}

// kinds is how many conditions a rule can have: what Roles has bits for. Conditions are
// numbered kinds × place in rules, plus the place of the role's bit.
const kinds = 4

// NewPlan plans how rules, which are all that the engine knows in its order,
// judge the entries of a source; a nil source stands for lines of none.
func NewPlan(s *lang.Settings, source *lang.Source, rules []*lang.Rule, zone *time.Location) *Plan {
	p := &Plan{}
	name := ""
	var l *lang.Layout
	constant := map[string]bool{}
	if source != nil {
		name = source.Name
		l = s.Layout(source.LayoutName())
		p.entry, p.encoding = source.Entry, source.Encoding
		p.source, p.only, p.kept = source, source.Only, source.Kept()
		if source.Location != nil {
			zone = source.Location
		}
		for _, f := range source.Fields {
			constant[f.Name] = true
		}
	}
	p.Source = name
	p.Layout = layout.Compile(l, zone, s.Secret)
	p.secret = s.Secret
	if source != nil {
		p.Layout.Tell(source.Message == "essentials", source.Account)
	}
	escapes := p.kept || p.Layout.Escapes()
	typed := func(field string) bool {
		if constant[field] || l == nil {
			return constant[field]
		}
		from, computed := l.Trace(field)
		return computed || slices.ContainsFunc(from, func(f string) bool { return constant[f] || translated(l.Format, f) })
	}
	index := map[lang.Literal]int{}
	for i, r := range rules {
		if r.Off || name != "" && !r.LooksAt(name) {
			continue
		}
		at := len(p.rules)
		p.rules = append(p.rules, planned{rule: r, index: i, vars: engine.Vars(r), shares: r.Shares()})
		p.costs = append(p.costs, Cost{Rule: i})
		for k, x := range conditions(r) {
			if x == nil {
				continue
			}
			cond := kinds*at + k
			if k == 0 && r.Shares() { // every entry counts
				p.always = append(p.always, cond)
				continue
			}
			needs := needsOf(x, typed)
			if p.kept && l != nil && len(l.Masks) > 0 { // what is masked is kept in a form that nobody can read
				needs = nil
			}
			if l != nil && (l.Format == "json" || l.Format == "journal") && needs != nil { // any character may be written as a number
				needs = append(slices.Clone(needs), lang.Literal{Text: `\u00`})
			}
			if escapes {
				needs = plainly(needs)
			}
			if needs != nil && l != nil && l.Format == "journal" { // a text that is none is an array of its bytes
				needs = append(slices.Clone(needs), lang.Literal{Text: ":["}, lang.Literal{Text: ": ["})
			}
			if needs == nil {
				p.always = append(p.always, cond)
				continue
			}
			for _, n := range needs {
				j, ok := index[n]
				if !ok {
					j = len(p.lits)
					index[n] = j
					p.lits = append(p.lits, literal{text: n.Text, fold: n.Fold})
				}
				if c := p.lits[j].cond; len(c) == 0 || c[len(c)-1] != cond {
					p.lits[j].cond = append(p.lits[j].cond, cond)
				}
			}
		}
	}
	if len(rules) > 0 {
		p.Layout.Narrow(p.asked())
	}
	return p
}

// conditions are the expressions of a rule that make an entry something for it, by the
// bits of their roles.
func conditions(r *lang.Rule) [kinds]lang.Expr {
	out := [kinds]lang.Expr{r.Problem, r.Recovery, r.Once}
	if r.Awaits != nil {
		out[0] = r.Awaits
	}
	for i := range r.Raises {
		if x := r.Raises[i].Then; x != nil && out[3] == nil {
			out[3] = x
		} else if x != nil {
			out[3] = &lang.Or{Of: []lang.Expr{out[3], x}}
		}
	}
	return out
}

// asked are the fields that the rules of the plan look at, so that no others need be
// divided off.
func (p *Plan) asked() []string {
	out := []string{"text", "host"}
	look := func(x lang.Expr) {
		lang.Walk(x, func(part lang.Expr, _ bool) {
			switch part := part.(type) {
			case *lang.Match:
				out = append(out, part.Field)
			case *lang.Compare:
				out = append(out, part.Field)
			case *lang.In:
				out = append(out, part.Field)
			case *lang.Has:
				out = append(out, part.Field)
			}
		})
	}
	look(p.only)
	for _, r := range p.rules {
		for _, x := range r.rule.Exprs() {
			look(x.Expr)
		}
		out = append(append(append(out, r.rule.Per...), r.vars...), r.rule.Measured()...)
	}
	return out
}

// translated tells whether a field of an open format may stand in an entry in another form
// than the field has: what syslog and the journal write as numbers, and almost all that is
// in an event.
func translated(format, field string) bool {
	switch format {
	case "syslog", "journal":
		return slices.Contains([]string{"facility", "level", "at"}, field)
	case "event-xml":
		return !slices.Contains([]string{"program", "pid", "record"}, field)
	}
	return false
}

// Constants are the fields that every entry of a log has, by the log's path and host.
func (p *Plan) Constants(path, host string) []entry.Field {
	if p.source == nil {
		return nil
	}
	return constants(p.source, path, host)
}

// Prepare chooses what is searched for by what is rare in the sample. It is
// called once, before the first Reader reads.
func (p *Plan) Prepare(sample []byte) {
	if p.search == nil {
		p.search = newSearcher(p.lits, sample)
	}
}

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

	// Known are the times of the text that will be scanned, where they are known already;
	// nil is not. They are those of the plan's layout.
	Known *Known

	divider  layout.Divider
	knownAt  int // where in Known the lines that are scanned stand
	knownIn  int // and those that Within looks at
	constant []entry.Field
	text     []byte
	spots    []spot
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
	r := &Reader{Plan: p, Origin: origin, Host: host, Live: live, Last: entry.None, Reached: entry.None, Near: entry.None}
	r.divider.Layout = p.Layout
	if _, path, ok := strings.Cut(origin, ":"); ok {
		r.constant = p.Constants(path, host)
	}
	r.marks = make([]int, kinds*len(p.rules))
	return r
}

// future is how far ahead of its arrival an entry's time may lie.
const future = 5 * time.Minute

// Tick is a stretch of lines and the time by which they had been written.
type Tick struct {
	At    entry.Instant
	Lines int
}

// Scan reads a slab of whole entries, as Cut leaves them, of which the last may
// lack its line end, and returns how many there were. Base is the offset of its
// first byte in the file, now the instant of its arrival. Judged entries go to
// emit in their order. Tick, where it is not nil, gets some 500 stretches of a slab.
func (r *Reader) Scan(raw []byte, base int64, now entry.Instant, emit func(*engine.Judged), tick func(Tick)) int64 {
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
	emit   func(*engine.Judged)
	tick   func(Tick)
	synced int // up to here Reached is exact
	known  int // up to here Last and LastHost are what they are
	top    entry.Instant
	topAt  int // start of the line with the latest glanced time, or -1
	topEnd int
	sure   bool
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
	walk := every || p.Timed() || headed
	next := 0 // in r.spots
	step, since := 0, 0
	if s.tick != nil {
		step = max(1, bytes.Count(s.slab, newline)/512)
	}
	for at := 0; at < len(s.slab); {
		if !walk {
			if next >= len(r.spots) {
				break
			}
			at = bytes.LastIndexByte(s.slab[:r.spots[next].at], '\n') + 1
		}
		if walk && !every && !headed {
			if k := s.skip(at, next, step-since); k.Lines > 0 {
				s.lines += int64(k.Lines)
				since += k.Lines
				if step > 0 && since >= step {
					s.tick(Tick{max(s.top, r.Reached), since})
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
		s.glance(at, end)
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
			if len(s.conds) > 0 {
				s.judge(at, end, stop)
			}
		}
		s.lines++
		if since++; step > 0 && since >= step && walk {
			s.tick(Tick{max(s.top, r.Reached), since})
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
			s.tick(Tick{r.Reached, since})
		}
	}
	return walk
}

var newline = []byte{'\n'}

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
	if r.Known != nil && r.Skew == 0 && r.Last != entry.None && r.Last >= from && r.Last < to && r.Known.within(int(base), int(base)+len(slab), from, to, &r.knownIn) {
		return true
	}
	if !p.Timed() || p.kept || p.entry != nil || p.Layout.Headed() || r.Encoding > UTF8 || r.Last == entry.None || r.Last < from || r.Last >= to || bytes.IndexByte(slab, 0) >= 0 {
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
		start := bytes.LastIndexByte(slab[:stop], '\n') + 1
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
	s.r.Plan.DivideInto(d, &s.r.divider, s.line(at, end), near)
	if d.Timed {
		d.At = s.bounded(d.At.Add(s.r.Skew))
	}
	d.Fields = slices.Clip(d.Fields)
	s.memo.at, s.memo.near, s.memo.fields = at, near, true
	return d
}

// bounded takes a time that lies too far ahead of its arrival for its arrival.
func (s *scan) bounded(at entry.Instant) entry.Instant {
	if s.r.Live && at > s.now.Add(future) {
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
		stop = at + bytes.LastIndexByte(s.slab[at:spot], '\n') + 1
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
		start := bytes.LastIndexByte(s.slab[:stop], '\n') + 1
		d := s.divide(start, stop)
		if d.Timed && !timed {
			at, timed = d.At, true
		}
		if d.Fits && !hosted {
			host, hosted = fieldOf(d.Fields, "host"), true
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
