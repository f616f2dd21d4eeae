package match

import (
	"bytes"
	"io"
	"math"

	"dimlantern/core/entry"
)

// Known are the times of a text that is judged again and again, such as a sample on the
// bench: stretches of lines with their earliest and latest time, so that whoever passes
// over them need not look at each line. It may be used by several readers at once.
type Known struct{ runs []knownRun }

// knownRun is a stretch of whole lines. Lo is no later than any of their times, top the
// latest, in the line from at to end; None where no line has one.
type knownRun struct {
	from, next int
	lines      int
	lo, top    entry.Instant
	at, end    int
	sure       bool // the times mean the same wherever they are read
}

// knownSize is about how long a stretch is, in bytes.
var knownSize = 4 << 10 // tests make it smaller

// Know looks at the times of a text that begins at offset 0 of its log. It answers nil where
// the plan's layout does not let times be known.
func (p *Plan) Know(data []byte) *Known {
	k := p.knowing()
	if k == nil || !k.add(data, 0) {
		return nil
	}
	return k.known()
}

// KnowAll is Know for a text that is read.
func (p *Plan) KnowAll(in io.Reader) *Known {
	k := p.knowing()
	if k == nil {
		return nil
	}
	buf, rest, base := make([]byte, 1<<20), 0, 0
	for ended := false; !ended; {
		n, err := io.ReadFull(in, buf[rest:])
		if ended = err != nil; ended && err != io.EOF && err != io.ErrUnexpectedEOF {
			return nil
		}
		n += rest
		cut := n
		if !ended {
			if cut = bytes.LastIndexByte(buf[:n], '\n') + 1; cut == 0 {
				buf, rest = append(buf, make([]byte, len(buf))...), n
				continue
			}
		}
		if !k.add(buf[:cut], base) {
			return nil
		}
		base += cut
		rest = copy(buf, buf[cut:n])
	}
	return k.known()
}

// knowing looks at the times of a text, piece by piece.
type knowing struct {
	p      *Plan
	r      *Reader
	runs   []knownRun
	unsure int
}

func (p *Plan) knowing() *knowing {
	if !p.Timed() || p.kept || p.entry != nil || p.Layout.Headed() {
		return nil
	}
	return &knowing{p: p, r: NewReader(p, "", "", false)}
}

// known is what was found out; nil where too little is sure.
func (k *knowing) known() *Known {
	if 2*k.unsure > len(k.runs) {
		return nil
	}
	return &Known{k.runs}
}

// add looks at whole lines that begin at an offset; false where their times cannot be known.
func (k *knowing) add(data []byte, base int) bool {
	if k.p.EncodingOf(data[:min(len(data), 256)]) > UTF8 || bytes.IndexByte(data, 0) >= 0 {
		return false
	}
	r := k.r
	run := knownRun{from: base, lo: math.MaxInt64, top: entry.None, sure: true}
	for at := 0; at < len(data); {
		if x := r.divider.GlanceOn(data, at, min(len(data), at+knownSize), len(data)); x.Lines > 0 {
			run.lo = min(run.lo, x.Low)
			if !r.divider.Yearly() {
				return false
			}
			if x.Top > run.top {
				run.top, run.at, run.end = x.Top, base+x.At, base+x.End
			}
			run.lines += x.Lines
			at = x.Next
		} else {
			end := len(data)
			if i := bytes.IndexByte(data[at:], '\n'); i >= 0 {
				end = at + i
			}
			line := data[at:end]
			if len(line) > MaxLine {
				line = line[:MaxLine]
			}
			line = bytes.TrimSuffix(line, []byte{'\r'})
			t, ok, sure := r.divider.Glance(line, 0)
			if !sure { // it is known once, and for each look that comes
				x := r.divider.Divide(line, 0)
				t, ok = x.At, x.Timed
			}
			switch {
			case ok && !r.divider.Steady(t):
				run.sure = false
			case ok:
				run.lo = min(run.lo, t)
				if t > run.top {
					run.top, run.at, run.end = t, base+at, base+end
				}
			}
			run.lines++
			at = min(end+1, len(data))
		}
		if run.next = base + at; run.next-run.from >= knownSize || at == len(data) {
			k.runs = append(k.runs, run)
			if !run.sure {
				k.unsure++
			}
			run = knownRun{from: base + at, lo: math.MaxInt64, top: entry.None, sure: true}
		}
	}
	return true
}

// find is the place of the first stretch that begins at an offset or behind it; from is
// where it was found last.
func (k *Known) find(offset, from int) int {
	if from > 0 && (from > len(k.runs) || k.runs[from-1].from >= offset) {
		from = 0
	}
	for from < len(k.runs) && k.runs[from].from < offset {
		from++
	}
	return from
}

// within tells whether all lines from one offset to another have times from from up to,
// and not at, to; false as well where the stretches do not say.
func (k *Known) within(at, end int, from, to entry.Instant, cursor *int) bool {
	i := k.find(at, *cursor)
	if i > 0 && (i == len(k.runs) || k.runs[i].from > at) {
		i--
	}
	*cursor = i
	for ; i < len(k.runs) && k.runs[i].from < end; i++ {
		if x := &k.runs[i]; !x.sure || x.top != entry.None && (x.lo < from || x.top >= to) {
			return false
		}
	}
	return true
}

// Bounds are the least and the greatest of the times that the entries of a slab have, as their layout
// gives them, whatever Skew is; None where it is known of none. An entry without a time has that of the
// one before, which may be [Reader.Last]. Entries is how many there are.
func (r *Reader) Bounds(raw []byte, base int64, now entry.Instant) (least, greatest entry.Instant, entries int64) {
	slab, _, _ := r.framed(raw, base)
	s := &scan{r: r, slab: slab, now: now}
	least, greatest = math.MaxInt64, entry.None
	take := func(lo, hi entry.Instant) {
		least, greatest = min(least, lo), max(greatest, hi)
	}
	headed, header := r.Plan.Layout.Headed(), r.divider.Header
	defer func() { r.divider.Header = header }()
	for at := 0; at < len(slab); {
		if !headed && !r.Plan.kept {
			if x := r.divider.GlanceOn(slab, at, len(slab), len(slab)); x.Lines > 0 {
				take(x.Low, x.Top)
				entries += int64(x.Lines)
				at = x.Next
				continue
			}
		}
		end := len(slab)
		if i := bytes.IndexByte(slab[at:], '\n'); i >= 0 {
			end = at + i
		}
		line := s.line(at, end)
		if headed && r.divider.See(line) {
			at = end + 1
			continue
		}
		var t entry.Instant
		ok, sure := false, false
		if !r.Plan.kept {
			t, ok, sure = r.divider.Glance(line, s.near())
		}
		if sure && ok {
			take(t, t)
		} else if x, _ := r.Plan.Divide(&r.divider, line, s.near()); x.Timed {
			take(x.At, x.At)
		}
		entries++
		at = end + 1
	}
	if r.Last != entry.None { // whether an entry fits shows only when it is divided; else it has this time
		take(r.Last.Add(-r.Skew), r.Last.Add(-r.Skew))
	}
	if greatest == entry.None {
		least = entry.None
	}
	return least, greatest, entries
}
