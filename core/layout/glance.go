package layout

import (
	"bytes"
	"encoding/binary"
	"time"

	"dimlantern/core/entry"
)

// Glance reads the time of a line without dividing it. Sure tells that the
// line's time, if it fits and has one, can be no other; else only Divide knows.
func (d *Divider) Glance(line []byte, near entry.Instant) (at entry.Instant, ok, sure bool) {
	l := d.Layout
	if len(l.patterns) != 1 || l.time == nil || len(l.steps) > 0 {
		return 0, false, false
	}
	c := &l.patterns[0]
	if c.steps == nil || c.timeAt < 0 || l.types[c.names[c.timeAt]] != "" {
		return 0, false, false
	}
	if n := d.cache.n; n > 0 && d.cache.zone == "" && c.behind >= 0 && len(line) > n && string(d.cache.prefix[:n]) == string(line[:n]) {
		nano, end := 0, n
		if line[n] == '.' || line[n] == ',' {
			nano, end = fraction(line, n+1)
		}
		if end < len(line) && int(line[end]) == c.behind {
			return d.cache.base + entry.Instant(nano), true, true
		}
	}
	spans := d.match(c, line, c.timeAt)
	if spans == nil || spans[2*c.timeAt+1] < 0 {
		return 0, false, true
	}
	at, ok = d.cache.parse(l.time, string(line[spans[2*c.timeAt]:spans[2*c.timeAt+1]]), l.zone, near)
	return at, ok, true
}

// Run is a stretch of lines whose times could be read at a glance.
type Run struct {
	Next  int // where the first line begins that does not belong to it
	Lines int
	// Top is the latest time, in the line from At up to its line end at End; none is earlier
	// than Low. They mean nothing where there are no lines.
	Top, Low entry.Instant
	At, End  int
}

// GlanceOn glances at lines from at on, as long as they share their minute with the line
// that was read last, begin before stop, and are no more than most. It is Glance for many
// lines at once.
func (d *Divider) GlanceOn(slab []byte, at, stop, most int) Run {
	l := d.Layout
	if len(l.patterns) != 1 || l.time == nil || len(l.steps) > 0 || d.cache.n < 10 || l.patterns[0].behind < 0 {
		return Run{Next: at, Top: entry.None}
	}
	if wide {
		if r := d.glanceWide(slab, at, stop, most, byte(l.patterns[0].behind)); r.Lines > 0 {
			return r
		}
	}
	return d.glancePlain(slab, at, stop, most, l.patterns[0].behind)
}

// glancePlain is GlanceOn line by line; behind is what stands behind the time.
func (d *Divider) glancePlain(slab []byte, at, stop, most, behind int) Run {
	r := Run{Next: at, Top: entry.None}
	c := &d.cache
	n, zone := c.n, c.zone
	// The date, the hour and the minute are compared by words of eight bytes, of which the
	// last one holds the seconds at its end.
	words := n >= 18
	var p0, p1 uint64
	if words {
		p0, p1 = binary.LittleEndian.Uint64(c.prefix[:]), binary.LittleEndian.Uint64(c.prefix[8:])
	}
	p2 := binary.LittleEndian.Uint64(c.prefix[n-8:])
	second, low := c.base, c.base
	// The latest line by its second, and by its decimals: of three, as most have them, the
	// bytes compare as the time does, and are read once, at the end.
	topSecond, latest, nanos := entry.None, uint32(0), -1
	for r.Next < stop && r.Lines < most {
		if len(slab)-r.Next < n+5 {
			break
		}
		line := slab[r.Next:]
		x2 := binary.LittleEndian.Uint64(line[n-8:])
		switch {
		case words:
			if binary.LittleEndian.Uint64(line) != p0 || binary.LittleEndian.Uint64(line[8:]) != p1 {
				goto done
			}
		case string(line[:n-8]) != string(c.prefix[:n-8]):
			goto done
		}
		if x2 != p2 {
			now, ok := laterSecond(p2, x2, second)
			if !ok {
				goto done
			}
			p2, second, low = x2, now, min(low, now)
		}
		end, w := n+4, binary.BigEndian.Uint32(line[n:])
		nano := -1
		if !threeDecimals(w) {
			w, end, nano = 0, n, 0
			if line[n] == '.' || line[n] == ',' {
				if nano, end = fraction(line, n+1); end == 0 {
					goto done
				}
			}
		}
		if zone != "" {
			if len(line)-end < len(zone) || string(line[end:end+len(zone)]) != zone {
				goto done
			}
			end += len(zone)
		}
		if end >= len(line) || int(line[end]) != behind {
			goto done
		}
		k := bytes.IndexByte(line[end:], '\n')
		if k < 0 {
			goto done
		}
		switch digits := w & 0xffffff; {
		case second > topSecond, second == topSecond && nano < 0 && nanos < 0 && digits > latest:
			topSecond, latest, nanos = second, digits, nano
			r.At, r.End = r.Next, r.Next+end+k
		case second == topSecond && (nano >= 0 || nanos >= 0): // one of them has other decimals
			was, is := nanos, nano
			if was < 0 {
				was = decimalsOf(latest)
			}
			if is < 0 {
				is = decimalsOf(digits)
			}
			if is > was {
				latest, nanos = digits, nano
				r.At, r.End = r.Next, r.Next+end+k
			}
		}
		r.Next += end + k + 1
		r.Lines++
	}
done:
	if r.Lines > 0 {
		if nanos < 0 {
			nanos = decimalsOf(latest)
		}
		r.Top, r.Low = topSecond+entry.Instant(nanos), low
	}
	c.base = second
	binary.LittleEndian.PutUint64(c.prefix[n-8:], p2)
	return r
}

// laterSecond is the second that words of eight bytes stand for, which end with the digits
// of seconds, where a word before stands for a second of the same minute; false where they
// differ in more than those, or are no digits.
func laterSecond(was, is uint64, second entry.Instant) (entry.Instant, bool) {
	if (was^is)<<16 != 0 {
		return 0, false
	}
	a, b := int64(is>>48&0xff)-'0', int64(is>>56)-'0'
	if a < 0 || a > 5 || b < 0 || b > 9 {
		return 0, false
	}
	old := 10*(int64(was>>48&0xff)-'0') + int64(was>>56) - '0'
	return second + entry.Instant((10*a+b-old)*int64(time.Second)), true
}

// threeDecimals tells whether four bytes are a point or a comma, and three digits.
func threeDecimals(w uint32) bool {
	digits := w & 0xffffff
	return (w>>24 == '.' || w>>24 == ',') && digits&0xf0f0f0 == 0x303030 && (digits+0x060606)&0xf0f0f0 == 0x303030
}

// decimalsOf are the nanoseconds of such four bytes.
func decimalsOf(w uint32) int {
	return (int(w>>16&15)*100 + int(w>>8&15)*10 + int(w&15)) * 1e6
}

var powers = [10]int{1e9, 1e8, 1e7, 1e6, 1e5, 1e4, 1e3, 100, 10, 1}

// fraction reads the decimals of a second that begin at i, and returns where they
// end; 0 where there are none, or more than nine.
func fraction(b []byte, i int) (nano, end int) {
	v, n := 0, 0
	for i+n < len(b) && n < 10 {
		c := b[i+n] - '0'
		if c > 9 {
			break
		}
		v = v*10 + int(c)
		n++
	}
	if n == 0 || n > 9 {
		return 0, 0
	}
	return v * powers[n], i + n
}

// glanced is how a line looks whose time is of the minute of the line before: which bytes
// may stand in each of its first places, and where its seconds are. It is for glancesWide.
type glanced struct {
	low, high [templateSize]byte
	// The seconds and their decimals are compared as two numbers of eight bytes each, of
	// which the masks leave what belongs to them. They begin at.
	at, first, second uint64
	// What came of it: the two numbers of the latest line and its place among the lines,
	// and the least first number.
	top, topBehind, topLine, least uint64

	// What it was made of.
	n      int
	minute [32]byte
	zone   string
	behind byte
}

// fits tells whether a line looks so, as far as its time goes.
func (g *glanced) fits(line []byte) bool {
	return len(line) >= glanceReach && glances(line, []uint32{0}, g) == 1
}

// templateSize is how many bytes of a line are looked at; glanceReach how many there have
// to be.
const (
	templateSize = 48
	glanceReach  = templateSize + 16
)

// template is how lines look that are like one in their decimals and share its minute;
// false where it is not like the last one that was read, or too long.
func (c *timeCache) template(line []byte, behind byte) (g glanced, ok bool) {
	n := c.n
	decimals := 0
	if len(line) > n && (line[n] == '.' || line[n] == ',') {
		for n+1+decimals < len(line) && line[n+1+decimals]-'0' <= 9 {
			decimals++
		}
		if decimals == 0 || decimals > 9 {
			return g, false
		}
	}
	size := n + len(c.zone) + 1
	if decimals > 0 {
		size += 1 + decimals
	}
	if size > templateSize || len(line) < size {
		return g, false
	}
	for i := range g.high {
		g.high[i] = 255
	}
	exact := func(at int, b byte) { g.low[at], g.high[at] = b, b }
	for i := range n - 2 {
		exact(i, c.prefix[i])
	}
	digits := func(at, n int) {
		for i := range n {
			g.low[at+i], g.high[at+i] = '0', '9'
		}
	}
	digits(n-2, 2)
	g.high[n-2] = '5'
	at := n
	if decimals > 0 {
		exact(n, line[n])
		digits(n+1, decimals)
		at += 1 + decimals
	}
	for i := range len(c.zone) {
		exact(at+i, c.zone[i])
	}
	exact(size-1, behind)
	key := at - (n - 2)
	g.at = uint64(n - 2)
	g.first = ^uint64(0) << (8 * max(0, 8-key))
	if key > 8 {
		g.second = ^uint64(0) << (8 * (16 - key))
	}
	g.n, g.minute, g.zone, g.behind = c.n, c.prefix, c.zone, behind
	return g, true
}

// segments are how much is looked for line ends at a time: little at first, since the
// minute may be over soon.
const firstSegment, lastSegment = 1 << 11, 1 << 14

// mostStarts is how many lines are looked at at a time; a step of the search for line ends
// may note so many, and one more before that.
const mostStarts, startsReach = 1024, 65

// glanceWide is GlanceOn for many lines in a row, by wide instructions. It reads no further
// than the lines that look like the first one.
func (d *Divider) glanceWide(slab []byte, at, stop, most int, behind byte) Run {
	r := Run{Next: at, Top: entry.None}
	c := &d.cache
	g := &d.look
	// Mostly lines look as those did that were looked at before.
	if g.n != c.n || g.behind != behind || string(g.minute[:c.n-2]) != string(c.prefix[:c.n-2]) || g.zone != c.zone || !g.fits(slab[at:]) {
		var ok bool
		if *g, ok = c.template(slab[at:min(len(slab), at+glanceReach)], behind); !ok || !g.fits(slab[at:]) {
			return r
		}
	}
	g.top, g.topBehind, g.least = 0, 0, 1<<64-1
	if d.starts == nil {
		d.starts = new([mostStarts]uint32)
	}
	starts := d.starts
	last, top := -1, -1
	for segment := firstSegment; r.Next < stop && r.Lines < most; {
		seg := slab[r.Next:min(stop, r.Next+segment)]
		starts[0] = 0
		n, seen := lineStarts(seg, starts[1:])
		if seen == len(seg)&^63 && n < mostStarts-startsReach {
			for i := seen; i < len(seg); i++ {
				if seg[i] == '\n' {
					n++
					starts[n] = uint32(i + 1)
				}
			}
		}
		k := min(n, most-r.Lines) // lines that end in the segment
		for k > 0 && r.Next+int(starts[k-1])+glanceReach > len(slab) {
			k--
		}
		if k == 0 {
			if n > 0 || r.Next+segment >= stop {
				break
			}
			segment *= 8
			continue
		}
		g.topLine = 1 << 63
		m := glances(slab[r.Next:], starts[:k], g)
		if m > 0 {
			last = r.Next + int(starts[m-1])
			if g.topLine != 1<<63 {
				top = r.Next + int(starts[g.topLine])
			}
			r.Lines += m
			r.Next += int(starts[m])
		}
		if m < k {
			break
		}
		segment = max(segment, min(2*segment, lastSegment))
	}
	if r.Lines == 0 {
		return r
	}
	// The seconds of a line, from those that were read last.
	minute := c.base - entry.Instant(10*int64(c.prefix[c.n-2]-'0')+int64(c.prefix[c.n-1]-'0'))*1e9
	second := func(tens, ones byte) entry.Instant {
		return minute + entry.Instant(10*int64(tens-'0')+int64(ones-'0'))*1e9
	}
	r.Low = second(byte(g.least>>56), byte(g.least>>48))
	r.At = top
	line := slab[top:]
	r.Top = second(line[c.n-2], line[c.n-1])
	if g.first<<16 != 0 { // there are decimals
		nano, _ := fraction(line, c.n+1)
		r.Top += entry.Instant(nano)
	}
	r.End = top + bytes.IndexByte(line, '\n')
	c.base = second(slab[last+c.n-2], slab[last+c.n-1])
	copy(c.prefix[c.n-2:c.n], slab[last+c.n-2:])
	return r
}

// lineStartsPlain notes where lines begin behind the line ends in b, in whole steps of 64
// bytes as long as starts has place for one more step. Seen is how far it has come.
func lineStartsPlain(b []byte, starts []uint32) (n, seen int) {
	for seen+64 <= len(b) && n+startsReach <= len(starts) {
		for i, c := range b[seen : seen+64] {
			if c == '\n' {
				starts[n] = uint32(seen + i + 1)
				n++
			}
		}
		seen += 64
	}
	return n, seen
}

// glancesPlain looks at the lines of b that begin at starts, as long as they look as g says,
// and returns how many do; g then tells of them. There are glanceReach bytes behind each.
func glancesPlain(b []byte, starts []uint32, g *glanced) int {
	for i, s := range starts {
		line := b[s : s+glanceReach]
		for k := range templateSize {
			if line[k] < g.low[k] || line[k] > g.high[k] {
				return i
			}
		}
		one, two := binary.BigEndian.Uint64(line[g.at:])&g.first, binary.BigEndian.Uint64(line[g.at+8:])&g.second
		g.least = min(g.least, one)
		if one > g.top || one == g.top && two > g.topBehind {
			g.top, g.topBehind, g.topLine = one, two, uint64(i)
		}
	}
	return len(starts)
}
