package trial

import (
	"cmp"
	"errors"
	"io"
	"slices"
	"time"

	"dimlantern/core/verdict"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
)

// Input is one origin to replay.
type Input struct {
	Source *lang.Source // nil: plain lines of no source
	Path   string
	Host   string
	Origin string // "" is HOST:PATH
	// Reporter is the joined host whose log it is; "" is this machine.
	Reporter string
	Files    []io.Reader // the members of its series, oldest first
	// Near is where times without a year are looked for, such as the time of the
	// file's last change; None where it is not known.
	Near entry.Instant
	// Header is the line that names the columns, of an input that begins behind it.
	Header string
	Skew   time.Duration // how far the clock of its writer lies back
	// Arrived is when entries are taken to have come of which none says when; 0 is 1970.
	Arrived entry.Instant
	// Data is the only member, where it is held in memory; Files then stand for nothing.
	Data []byte
	// Text is the only member, where it can be read again and again.
	Text Text
	// Known are the times of Data or of Text, where they are known already.
	Known *match.Known
}

// Options of a replay. The zero value replays everything; times without a zone
// are then UTC.
type Options struct {
	Zone     *time.Location
	From, To entry.Instant // half-open on own times; 0 is no bound
	// AsLogged lets watching begin where the logs do, if that is later than From: what is
	// awaited is not missed before there was a log in which it could stand.
	AsLogged bool
	// Cores is how many processors there are: with two or more one reads, and another one
	// judges. 0 is one.
	Cores int
	// Reporter is the name under which this machine has joined a centre; see engine.Engine.
	Reporter string
	// Progress is told how many bytes have been read, from time to time.
	Progress func(bytes int64)
	// Stop is asked from time to time; an error of it ends the replay.
	Stop func() error
	// Emit gets each transition as it comes; it must not keep the pointer.
	Emit func(*engine.Transition)
	// Samples are instants, in order, at which Sample looks at the engine: when all
	// entries before it, and its timers, have been taken.
	Samples []entry.Instant
	Sample  func(i int, e *engine.Engine)
	// Hit gets each hit, with its rule and its key as written.
	Hit func(rule string, key []string, at entry.Instant)
	// Recall, where it is not nil, keeps what the rules made of the entries, and is used
	// instead of them where it is of rules that make the same of them. RecallOf is what the
	// caller knows of how the entries are read, and must differ where that does.
	Recall   *Recall
	RecallOf string
	// Saw gets each verdict, before the engine takes it.
	Saw func(rule string, v *verdict.Verdict, x *entry.Entry)
	// Tick gets how much an origin has said, in stretches, where there are no bounds.
	Tick func(origin string, t match.Tick)
	// Engine is gone on with, where it is not nil; it must be of the same rules.
	Engine *engine.Engine
}

// Summary is what a replay counted.
type Summary struct {
	Entries, Hits, Raised, Cleared, Open int64
	Untimed                              []string // origins without any time
	// First is when the first entry within the bounds may have been written, None where there was none, and
	// Clock the latest own time.
	First, Clock entry.Instant
	// Still are the keys whose alerts are open at the end, in no order.
	Still []engine.KeyView
}

// lineByLine makes a replay with bounds look at each line: tests compare with that.
var lineByLine bool

// slabSize is how much is read at once: it stays in the processor's cache.
const slabSize = 192 << 10

// Replay runs all rules of the settings that are not off over the inputs, merged
// by the latest own time that each has reached.
//
// A rule that awaits what stands in none of the inputs' sources is not run: it would only
// miss it.
func Replay(s *lang.Settings, inputs []*Input, o Options) (Summary, error) {
	rules := slices.DeleteFunc(Active(s), func(r *lang.Rule) bool {
		return r.Awaits != nil && !slices.ContainsFunc(inputs,
			func(in *Input) bool { return in.Source == nil || r.LooksAt(in.Source.Name) })
	})
	r := newReplay(s, rules, inputs, o)
	err := r.run()
	r.sum.Hits = r.engine.Hits
	r.sum.Open = int64(r.engine.Open())
	r.sum.First, r.sum.Clock = entry.None, r.engine.Clock()
	for _, x := range r.streams {
		if x.first != entry.None && (r.sum.First == entry.None || x.first < r.sum.First) {
			r.sum.First = x.first
		}
	}
	if r.sum.First != entry.None && o.From != 0 {
		r.sum.First = max(r.sum.First, o.From)
	}
	for _, k := range r.engine.Keys() {
		if k.Alert != "" {
			r.sum.Still = append(r.sum.Still, k)
		}
	}
	return r.sum, err
}

// Rebuild runs some rules of the settings over inputs as Replay does, and returns the
// engine with what they have come to. Where the options have an engine of before, it goes on
// with what the inputs have since.
func Rebuild(s *lang.Settings, rules []*lang.Rule, inputs []*Input, o Options) (*engine.Engine, error) {
	r := newReplay(s, rules, inputs, o)
	err := r.run()
	return r.engine, err
}

func newReplay(s *lang.Settings, rules []*lang.Rule, inputs []*Input, o Options) *replay {
	if o.Zone == nil {
		o.Zone = time.UTC
	}
	r := &replay{o: o, settings: s, engine: o.Engine, began: o.Engine != nil}
	if r.engine == nil {
		r.engine = engine.New(rules)
		r.engine.MostKeys, r.engine.Reporter = s.Keys(), o.Reporter
	}
	if o.Recall != nil {
		r.sign = signOf(o.RecallOf, rules, &o)
	}
	plans := map[string]*match.Plan{}
	for _, in := range inputs {
		name := ""
		if in.Source != nil {
			name = in.Source.Name
		}
		if plans[name] == nil {
			plans[name] = match.NewPlan(s, in.Source, rules, o.Zone)
		}
		m := match.NewReader(plans[name], cmp.Or(in.Origin, in.Host+":"+in.Path), in.Host, false)
		m.Near, m.Skew, m.Known = in.Near, in.Skew, in.Known
		m.SetHeader(in.Header)
		r.streams = append(r.streams, &stream{r: r, in: in, reader: m, first: entry.None})
		way := ""
		if in.Source != nil {
			_, way, _ = match.KeptIn(in.Path)
		}
		r.origins = append(r.origins, AwaitedOrigin(s, in.Source, m.Origin, in.Host, way))
	}
	return r
}

// Active are the rules that are not off, in the order in which they are judged.
func Active(s *lang.Settings) []*lang.Rule {
	var out []*lang.Rule
	for _, r := range s.Rules {
		if !r.Off && !r.Feeds {
			out = append(out, r)
		}
	}
	return lang.Ordered(out)
}

// AwaitedOrigin is an origin as rules that await know it.
func AwaitedOrigin(s *lang.Settings, src *lang.Source, name, host, way string) engine.Origin {
	o := engine.Origin{Name: name, Host: host, Channel: way}
	if src != nil {
		o.Source = src.Name
		if l := s.Layout(src.LayoutName()); l != nil && slices.Contains(l.Fields(), "host") {
			o.Host = ""
		}
		o.Channel = src.ChannelOf(way)
	}
	return o
}

type replay struct {
	o        Options
	settings *lang.Settings
	engine   *engine.Engine
	streams  []*stream
	sum      Summary
	read     int64
	origins  []engine.Origin
	began    bool
	sampled  int
	sign     string // see Recall
}

// stream reads one input ahead by a slab, and holds what it judged.
type stream struct {
	r      *replay
	in     *Input
	reader *match.Reader
	buf    []byte
	rest   int               // bytes at the start of buf that belong to an unfinished line
	ahead  blocks            // nil where nothing reads ahead
	file   int               // which member is being read
	base   int64             // offset of buf's first byte in it
	some   bool              // something has been read
	first  entry.Instant     // the own time of its first entry; None before it is read
	queue  []*verdict.Judged // an item without verdicts only says how far it is
	head   int
}

func (r *replay) run() error {
	if r.o.From != 0 && !r.o.AsLogged && !r.began {
		r.start(r.o.From)
	}
	keep := r.o.Recall
	if keep != nil {
		if keep.sign == r.sign && r.sign != "" {
			return r.play(keep)
		}
		*keep = Recall{}
	}
	var live []*stream
	for _, s := range r.streams {
		if s.in.Text != nil {
			s.in.Files = []io.Reader{s.in.Text.Reader()}
		}
		if s.in.Data != nil {
			s.in.Files, s.ahead = make([]io.Reader, 1), &memory{data: s.in.Data}
		} else if a := readAhead(s.in.Files, r.o.Cores, len(r.streams)); a != nil {
			s.ahead = a
			defer close(a.stop)
		}
		if err := s.fill(); err != nil {
			return err
		}
		live = append(live, s)
	}
	for {
		var best *stream
		for _, s := range live {
			if s.head >= len(s.queue) {
				continue
			}
			if best == nil || s.queue[s.head].Reached < best.queue[best.head].Reached {
				best = s
			}
		}
		if best == nil {
			break
		}
		j := best.queue[best.head]
		best.queue[best.head] = nil
		best.head++
		first := r.first(j)
		r.starts(first)
		if keep != nil {
			if len(keep.steps) == 0 {
				keep.first = first
			}
			if keep.full = keep.full || len(keep.steps) == mostRecalled; keep.full {
				keep.steps = nil
			} else {
				keep.steps = append(keep.steps, j)
			}
		}
		r.step(j)
		if best.head >= len(best.queue) {
			if err := best.fill(); err != nil {
				return err
			}
		}
	}
	r.end()
	if keep != nil && !keep.full {
		keep.from = entry.None
		for _, s := range r.streams {
			if s.first != entry.None && (keep.from == entry.None || s.first < keep.from) {
				keep.from = s.first
			}
		}
		keep.count, keep.sign = r.sum.Entries, r.sign
	}
	for _, s := range r.streams {
		if s.reader.Plan.Timed() && s.reader.Reached > 0 || !s.some {
			continue
		}
		r.sum.Untimed = append(r.sum.Untimed, s.in.Path)
	}
	return nil
}

// apply tells the engine one thing, and takes what comes of it.
func (r *replay) apply(in engine.Input) {
	ts, _ := r.engine.Apply(in)
	r.take(ts)
}

// step gives the engine one entry, or how far it is.
func (r *replay) step(j *verdict.Judged) {
	r.sample(j.Reached)
	if len(j.Verdicts) > 0 {
		r.hits(j)
		r.apply(engine.Entry{Judged: j})
	} else {
		r.apply(engine.Reach{At: j.Reached})
	}
}

// end lets the timers fire that are due at the end.
func (r *replay) end() {
	if first := r.first(&verdict.Judged{Reached: entry.None}); !r.began && first != entry.None {
		r.starts(first) // no entry lies within the bounds
	}
	r.sample(entry.Instant(1<<63 - 1))
	if r.o.To != 0 {
		r.apply(engine.Reach{At: r.o.To})
	}
}

// sample lets those samples be taken that lie before what an origin has reached.
func (r *replay) sample(reached entry.Instant) {
	for r.sampled < len(r.o.Samples) && r.o.Samples[r.sampled] <= reached {
		r.apply(engine.Reach{At: r.o.Samples[r.sampled]})
		r.o.Sample(r.sampled, r.engine)
		r.sampled++
	}
}

// first is the own time of the first entry of all.
func (r *replay) first(j *verdict.Judged) entry.Instant {
	if r.began {
		return 0
	}
	at := j.Reached
	for _, s := range r.streams {
		if s.first != entry.None && (at == entry.None || s.first < at) {
			at = s.first
		}
	}
	return at
}

// starts lets watching begin, if it has not, by the own time of the first entry of all.
func (r *replay) starts(first entry.Instant) {
	switch {
	case r.began:
	case r.o.AsLogged && r.o.From != 0:
		r.start(max(r.o.From, first))
	default:
		r.begin(first)
	}
}

// start lets watching begin at an instant, knowing nothing.
func (r *replay) start(at entry.Instant) {
	r.begin(at)
	r.apply(engine.Reach{At: at})
}

// begin tells the engine, once, that watching has begun.
func (r *replay) begin(at entry.Instant) {
	if !r.began {
		r.began = true
		r.engine.Apply(engine.Begin{At: at, Origins: r.origins})
	}
}

// hits tells of the verdicts on an entry.
func (r *replay) hits(j *verdict.Judged) {
	for i := range j.Verdicts {
		v := &j.Verdicts[i]
		if r.o.Saw != nil {
			r.o.Saw(r.engine.Name(v.Rule), v, j.Entry)
		}
		if v.Hit && r.o.Hit != nil {
			r.o.Hit(r.engine.Name(v.Rule), engine.Written(v.Key), j.Entry.At)
		}
	}
}

func (r *replay) take(ts []engine.Transition) {
	for i := range ts {
		switch ts[i].Change {
		case engine.Raised:
			r.sum.Raised++
		case engine.Cleared:
			r.sum.Cleared++
		}
		if r.o.Emit != nil {
			MarkHushed(r.settings, &ts[i])
			r.o.Emit(&ts[i])
		}
	}
}

// fill reads slabs until something stands in the queue, or the input ends.
func (s *stream) fill() error {
	s.queue, s.head = s.queue[:0], 0
	if s.buf == nil {
		s.buf = make([]byte, slabSize)
	}
	for len(s.queue) == 0 && s.file < len(s.in.Files) {
		if s.r.o.Stop != nil {
			if err := s.r.o.Stop(); err != nil {
				return err
			}
		}
		n, ended, err := s.more()
		if err != nil {
			return err
		}
		cut := n
		if s.base == 0 {
			s.reader.Encoding = s.reader.Plan.EncodingOf(s.buf[:min(n, 256)])
		}
		if !ended {
			cut = s.reader.Plan.Cut(s.buf[:n], s.reader.Encoding, false)
			// A line longer than the slab, or lines of which none has a time yet: more.
			if cut == 0 || s.reader.Last == entry.None && s.reader.Plan.Timed() && !s.timed(s.buf[:cut]) &&
				len(s.buf) < 64<<20 {
				if n < 64<<20 {
					s.rest = n
					if s.ahead == nil {
						s.buf = append(s.buf, make([]byte, len(s.buf))...)
					}
					continue
				}
				cut = n
			}
		}
		s.scan(s.buf[:cut])
		if s.ahead != nil {
			s.buf = s.buf[cut:n]
			s.rest = n - cut
		} else {
			s.rest = copy(s.buf, s.buf[cut:n])
		}
		s.base += int64(cut)
		s.r.read += int64(cut)
		s.some = s.some || cut > 0
		if ended {
			s.file++
			s.base = 0
		}
		if s.r.o.Progress != nil {
			s.r.o.Progress(s.r.read)
		}
	}
	return nil
}

// more reads what follows behind the rest of the block before, and says how much there is
// then, and whether the file ends with it.
func (s *stream) more() (n int, ended bool, err error) {
	if s.ahead != nil {
		s.buf, n, ended, err = s.ahead.next(s.buf[:s.rest])
		return n, ended, err
	}
	n, err = io.ReadFull(s.in.Files[s.file], s.buf[s.rest:])
	if ended = errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF); ended {
		err = nil
	}
	return n + s.rest, ended, err
}

// timed tells whether any line of the slab has a time of its own.
func (s *stream) timed(slab []byte) bool {
	probe := match.NewReader(s.reader.Plan, "", "", false)
	probe.Encoding = s.reader.Encoding
	return probe.Timed(slab)
}

func (s *stream) scan(slab []byte) {
	if len(slab) == 0 {
		return
	}
	if s.first == entry.None {
		probe := match.NewReader(s.reader.Plan, "", "", false)
		probe.Encoding, probe.Near = s.reader.Encoding, s.reader.Near
		if s.first, _ = probe.Times(slab, 0); s.first == entry.None {
			s.first = s.in.Arrived
		}
	}
	o := &s.r.o
	if o.From != 0 || o.To != 0 {
		s.scanBounded(slab)
		return
	}
	var tick func(match.Tick)
	if o.Tick != nil {
		tick = func(t match.Tick) { o.Tick(s.reader.Origin, t) }
	}
	s.r.sum.Entries += s.reader.Scan(slab, s.base, s.in.Arrived,
		func(j *verdict.Judged) { s.queue = append(s.queue, j) }, tick)
	s.queue = append(s.queue, &verdict.Judged{Reached: s.reader.Reached})
}

// scanBounded scans line by line, and passes over those outside of the bounds.
func (s *stream) scanBounded(slab []byte) {
	// A slab that lies within the bounds is scanned as a whole.
	o := &s.r.o
	base := s.base
	if s.reader.Last == entry.None {
		s.reader.Begin(slab)
	}
	to := o.To
	if to == 0 {
		to = 1<<63 - 1
	}
	within := s.reader.Within(slab, base, max(o.From, entry.None+1), to)
	if !s.reader.Plan.Timed() { // all of them stand where the first one does
		at := entry.Later(s.in.Arrived, s.reader.Reached)
		within = at >= o.From && at < to
	}
	if !lineByLine && within {
		s.r.sum.Entries += s.reader.Scan(slab, base, s.in.Arrived,
			func(j *verdict.Judged) { s.queue = append(s.queue, j) }, nil)
		s.queue = append(s.queue, &verdict.Judged{Reached: s.reader.Reached})
		return
	}
	for len(slab) > 0 {
		n := s.reader.Plan.First(slab, s.reader.Encoding)
		reached := s.reader.Reached
		var found *verdict.Judged
		s.reader.Scan(slab[:n], base, s.in.Arrived, func(j *verdict.Judged) { found = j }, nil)
		at := s.reader.Last
		switch {
		case o.From != 0 && at < o.From, o.To != 0 && at >= o.To:
			// It is as if it had not been read, but for the time of what follows it.
			s.reader.Reached = reached
		default:
			s.r.sum.Entries++
			if found != nil {
				s.queue = append(s.queue, found)
			} else {
				s.queue = append(s.queue, &verdict.Judged{Reached: s.reader.Reached})
			}
		}
		slab, base = slab[n:], base+int64(n)
	}
}
