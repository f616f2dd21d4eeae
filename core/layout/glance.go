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
	if l.glance != nil {
		at, ok = l.glance(d, line)
		return at, ok, ok
	}
	if len(l.patterns) != 1 || l.time == nil {
		return 0, false, false
	}
	c := &l.patterns[0]
	if c.steps == nil || c.timeAt < 0 {
		return 0, false, false
	}
	if c.behind >= 0 && len(line) > len(c.lead) && string(line[:len(c.lead)]) == c.lead {
		b := line[len(c.lead):]
		if t, n, ok := d.cache.again(b); ok && n < len(b) && int(b[n]) == c.behind {
			return t, true, true
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
	none := Run{Next: at, Top: entry.None}
	if d.cache.n < 10 {
		return none
	}
	if l.glance != nil {
		if wide && l.early && stop-at > fewGlanced {
			if r := d.glanceWide(slab, at, stop, most, "", " ", true); r.Lines > 0 {
				return r
			}
		}
		if x := &d.lead; wide && x.text != "" && stop-at > fewGlanced && x.key.name == d.timeField() {
			r := d.glanceWide(slab, at, stop, most, x.text, x.behind, false)
			if r.Lines > 0 && x.alone(l.name, slab[at:r.Next], r.Lines) {
				return r
			}
		}
		return d.glanceEach(slab, at, stop, most)
	}
	if len(l.patterns) != 1 || l.time == nil || l.patterns[0].behind < 0 {
		return none
	}
	c := &l.patterns[0]
	if wide && stop-at > fewGlanced {
		if r := d.glanceWide(slab, at, stop, most, c.lead, string([]byte{byte(c.behind)}), false); r.Lines > 0 {
			return r
		}
	}
	return d.glanceEach(slab, at, stop, most)
}

// glanceEach is GlanceOn line by line.
func (d *Divider) glanceEach(slab []byte, at, stop, most int) Run {
	r := Run{Next: at, Top: entry.None}
	l := d.Layout
	for r.Next < stop && r.Lines < most {
		k := bytes.IndexByte(slab[r.Next:], '\n')
		if k < 0 || k > mostGlanced {
			break
		}
		line := slab[r.Next : r.Next+k]
		var t entry.Instant
		ok := false
		if l.glance != nil {
			t, ok = l.glance(d, bytes.TrimSuffix(line, []byte{'\r'}))
		} else if c := &l.patterns[0]; len(line) > len(c.lead) && string(line[:len(c.lead)]) == c.lead {
			n := 0
			t, n, ok = d.cache.again(line[len(c.lead):])
			n += len(c.lead)
			ok = ok && n < len(line) && int(line[n]) == c.behind
		}
		if !ok {
			break
		}
		if t > r.Top {
			r.Top, r.At, r.End = t, r.Next, r.Next+k
		}
		if r.Lines == 0 || t < r.Low {
			r.Low = t
		}
		r.Next += k + 1
		r.Lines++
	}
	return r
}

// fewGlanced is how much is looked at line by line rather than by wide instructions, in bytes.
const fewGlanced = 400

// mostGlanced is how long lines may be that are glanced at.
const mostGlanced = 1 << 16

// again reads a time that is of the same minute as the one that was read last, and written
// in the same form; n is how long it is.
func (c *timeCache) again(b []byte) (at entry.Instant, n int, ok bool) {
	if n = c.n; n < 10 || len(b) < n {
		return 0, 0, false
	}
	if string(b[:n]) != string(c.prefix[:n]) {
		if string(b[:n-2]) != string(c.prefix[:n-2]) {
			return 0, 0, false
		}
		second, ok := laterSecond(c.prefix[n-2:n], b[n-2:n], c.base)
		if !ok {
			return 0, 0, false
		}
		c.base = second
		copy(c.prefix[n-2:n], b[n-2:n])
	}
	at = c.base
	if n < len(b) && (b[n] == '.' || b[n] == ',') {
		nano, end := fraction(b, n+1)
		if end == 0 {
			return 0, 0, false
		}
		at += entry.Instant(nano)
		n = end
	}
	if len(b)-n < len(c.zone) || string(b[n:n+len(c.zone)]) != c.zone {
		return 0, 0, false
	}
	return at, n + len(c.zone), true
}

// laterSecond is the second that two digits stand for, where others stand for a second of
// the same minute; false where they are no such digits.
func laterSecond(was, is []byte, second entry.Instant) (entry.Instant, bool) {
	a, b := int64(is[0])-'0', int64(is[1])-'0'
	if a < 0 || a > 5 || b < 0 || b > 9 {
		return 0, false
	}
	old := 10*int64(was[0]-'0') + int64(was[1]-'0')
	return second + entry.Instant((10*a+b-old)*int64(time.Second)), true
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
	lead   string
	behind string
	letter bool
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
func (c *timeCache) template(line []byte, lead, behind string, letter bool) (g glanced, ok bool) {
	if !bytes.HasPrefix(line, []byte(lead)) {
		return g, false
	}
	whole := line
	line = line[len(lead):]
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
	size := len(lead) + n + len(c.zone) + len(behind)
	if decimals > 0 {
		size += 1 + decimals
	}
	if letter {
		size++
	}
	if size > templateSize || len(whole) < size {
		return g, false
	}
	for i := range g.high {
		g.high[i] = 255
	}
	exact := func(at int, text string) int {
		for i := range len(text) {
			g.low[at+i], g.high[at+i] = text[i], text[i]
		}
		return at + len(text)
	}
	digits := func(at, n int) int {
		for i := range n {
			g.low[at+i], g.high[at+i] = '0', '9'
		}
		return at + n
	}
	at := exact(0, lead)
	at = exact(at, string(c.prefix[:n-2]))
	seconds := at
	at = digits(at, 2)
	g.high[seconds] = '5'
	if decimals > 0 {
		at = exact(at, string(line[n]))
		at = digits(at, decimals)
	}
	key := at - seconds
	at = exact(at, c.zone)
	at = exact(at, behind)
	if letter {
		g.low[at], g.high[at] = 'A', 0x7f
	}
	g.at = uint64(seconds)
	g.first = ^uint64(0) << (8 * max(0, 8-key))
	if key > 8 {
		g.second = ^uint64(0) << (8 * (16 - key))
	}
	g.n, g.minute, g.zone, g.lead, g.behind, g.letter = c.n, c.prefix, c.zone, lead, behind, letter
	return g, true
}

// segments are how much is looked for line ends at a time: little at first, since the
// minute may be over soon.
const firstSegment, lastSegment = 1 << 11, 1 << 14

// mostStarts is how many lines are looked at at a time; a step of the search for line ends
// may note so many, and one more before that.
const mostStarts, startsReach = 1024, 65

// glanceWide is GlanceOn for many lines in a row, by wide instructions. It reads no further
// than the lines that look like the first one. Lead is what every line begins with, behind
// what stands behind the time, and letter tells that no digit may follow.
func (d *Divider) glanceWide(slab []byte, at, stop, most int, lead, behind string, letter bool) Run {
	r := Run{Next: at, Top: entry.None}
	c := &d.cache
	g := &d.look
	// Mostly lines look as those did that were looked at before.
	if g.n != c.n || g.behind != behind || g.lead != lead || g.letter != letter ||
		string(g.minute[:c.n-2]) != string(c.prefix[:c.n-2]) || g.zone != c.zone || !g.fits(slab[at:]) {
		var ok bool
		if *g, ok = c.template(slab[at:min(len(slab), at+glanceReach)], lead, behind, letter); !ok ||
			!g.fits(slab[at:]) {
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
	line := slab[top+int(g.at):]
	r.Top = second(line[0], line[1])
	if g.first<<16 != 0 { // there are decimals
		nano, _ := fraction(line, 3)
		r.Top += entry.Instant(nano)
	}
	r.End = top + bytes.IndexByte(slab[top:], '\n')
	line = slab[last+int(g.at):]
	c.base = second(line[0], line[1])
	copy(c.prefix[c.n-2:c.n], line)
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

// nextPairPlain finds the first place where one byte stands, and so far behind it another,
// looking in whole steps of 32 bytes; at is -1 where there is none in those. Seen is how far
// it has come.
func nextPairPlain(b []byte, dist int, first, last byte) (at, seen int) {
	for ; seen+32+dist <= len(b); seen += 32 {
		for i := seen; i < seen+32; i++ {
			if b[i] == first && b[i+dist] == last {
				return i, seen
			}
		}
	}
	return -1, seen
}

// index is bytes.Index for a word of two bytes at least whose first and last byte seldom
// stand so far from each other, as quotes do that are around a name.
func index(b, word []byte) int {
	if !wide {
		return bytes.Index(b, word)
	}
	dist := len(word) - 1
	for from := 0; ; {
		at, seen := nextPair(b[from:], dist, word[0], word[dist])
		if at < 0 {
			from += seen
			if at = bytes.Index(b[from:], word); at >= 0 {
				at += from
			}
			return at
		}
		if from += at; string(b[from:from+len(word)]) == string(word) {
			return from
		}
		from++
	}
}

// count is how often a word stands in a text, see index.
func count(b, word []byte) (n int) {
	for {
		i := index(b, word)
		if i < 0 {
			return n
		}
		n, b = n+1, b[i+len(word):]
	}
}
