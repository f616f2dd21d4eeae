package intake

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"time"

	"dimlantern/core/verdict"

	"dimlantern/core/origin"

	"dimlantern/core/entry"
	"dimlantern/core/match"
)

// blockSize is how much is read at once.
const blockSize = 256 << 10

// fill reads a block of the oldest member that has something unread, and judges
// it ahead. It answers false where there is nothing to read now.
func (o *Origin) fill(buf []byte, now time.Time) (bool, error) {
	o.thaw()
	if o.head < len(o.queue) {
		return true, nil
	}
	o.queue, o.head = o.queue[:0], 0
	o.pending = false
	for i := 0; i < len(o.place.Members); i++ {
		m := o.place.Members[i]
		if m.Retired {
			continue
		}
		if m.Zip {
			if info, err := os.Stat(m.Path); err == nil && now.Sub(info.ModTime()) < settled &&
				now.After(info.ModTime()) {
				o.unread, o.pending = false, true
				return false, nil // it may still be written, and what is younger waits
			}
			if o.readPacked(m, buf, now) {
				o.unread = true
				return true, nil
			}
			if o.waits(m, now) {
				return false, nil
			}
			continue
		}
		if err := m.open(); err != nil {
			if o.lost(m, err, now); o.retired(m) {
				return true, nil
			}
			if o.waits(m, now) {
				return false, nil
			}
			continue
		}
		m.missing = 0
		if o.Condition == origin.Unreadable {
			o.set(origin.Seen, "", "", now)
		}
		newest := i == len(o.place.Members)-1
		n, err := o.readMember(m, buf, newest, now)
		if err != nil {
			return false, err
		}
		switch {
		case n == changed:
			return o.fill(buf, now)
		case n == some:
			o.unread = true
			return true, nil
		case o.waits(m, now):
			return false, nil
		}
	}
	o.unread, o.caught, o.ended = false, true, now
	return false, nil
}

// lost handles a member that cannot be opened.
func (o *Origin) lost(m *member, err error, now time.Time) {
	switch {
	case errors.Is(err, fs.ErrPermission):
		words, mend := denied(m.Path, err)
		o.set(origin.Unreadable, words, mend, now)
		return
	case errors.Is(err, errNotAFile):
		o.set(origin.Folder, fmt.Sprintf("%s is no file, but a folder, a pipe or a device", m.Path),
			"name the files in it, such as "+m.Path+"/*.log", now)
		return
	case errors.Is(err, errOther), errors.Is(err, fs.ErrNotExist):
		// The look that comes finds it under another name, if it has one still.
		if m.missing == 0 {
			m.missing = now.UnixNano()
		}
		if m.vanished > 1 || now.UnixNano()-m.missing > int64(2*newestGone) {
			m.lost, m.lostWhy, m.Retired = m.Size-m.Offset, "it went before it could be read", true
		}
		return
	}
	o.set(origin.Unreadable, fmt.Sprintf("%s cannot be read: %v", m.Path, unwrap(err)), "", now)
}

// waits tells whether what is younger than a member has to wait, because it was
// renamed or compressed a moment ago and shows again at the next look.
func (o *Origin) waits(m *member, now time.Time) bool {
	if m.missing == 0 || now.UnixNano()-m.missing > int64(settled) {
		return false
	}
	o.unread, o.pending, o.relook = true, true, true
	return true
}

// late is how long a member that has a younger one is still looked at.
const late = 20 * time.Second

// outcome is what came of reading a member.
type outcome int

const (
	nothing outcome = iota
	some
	changed // the members are others now
)

func outcomeOf(read bool) outcome {
	if read {
		return some
	}
	return nothing
}

// readMember reads a block of a member, and judges it into the queue.
func (o *Origin) readMember(m *member, buf []byte, newest bool, now time.Time) (outcome, error) {
	between()
	info, err := m.file.Stat()
	if err != nil {
		return nothing, err
	}
	size := info.Size()
	m.Wrote = info.ModTime().UnixNano()
	if newest {
		o.place.Wrote = m.Wrote
	}
	if m.Limit > 0 {
		size = min(size, m.Limit)
	}
	if size != m.Size {
		m.idle = 0
	}
	was := m.Size
	m.Size = size
	if size == m.read {
		return outcomeOf(o.atEnd(m, newest, now)), nil
	}
	n, same, unknown := 0, false, len(m.Print) == 0
	if size > m.read {
		between()
		n, err = m.file.ReadAt(buf[:min(int64(blockSize), size-m.read)], m.read)
		if n == 0 && err != nil && !errors.Is(err, io.EOF) {
			words, mend := denied(m.Path, err)
			o.set(origin.Unreadable, words, mend, now)
			return nothing, nil
		}
		// The bytes are this file's if it still begins as it did once they are read.
		if same, err = m.same(); err != nil {
			return nothing, err
		}
	}
	if !same {
		return o.notSame(m, was, now), nil
	}
	if n == 0 {
		return nothing, nil
	}
	if unknown && len(m.Print) > 0 { // it was empty: something may have come and gone before that
		o.look(o.settled(), false, now)
		return changed, nil
	}
	return outcomeOf(o.judge(m, buf[:n], buf, now)), nil
}

// notSame handles a member whose file was cut short or written anew, or is another.
func (o *Origin) notSame(m *member, was int64, now time.Time) outcome {
	cut := m.Size < m.read
	o.rewind()
	if m.Limit > 0 { // its number was given to another file
		m.close()
		m.ID, o.dirty = Identity{}, true
		o.lost(m, errOther, now)
		return nothing
	}
	m.Size, m.mod = was, 0
	before := m.Offset
	if o.look(o.settled(), false, now); m.Offset == before && before > 0 && cut {
		o.wasCut(m, firstBytes(m.file)) // it begins as it did
	}
	return changed
}

// readPacked reads a block of a compressed member, and judges it into the queue.
func (o *Origin) readPacked(m *member, buf []byte, now time.Time) bool {
	var err error
	if m.zip != nil && m.zip.at-int64(len(m.zip.held)) > m.read {
		m.close()
	}
	if m.zip == nil {
		if m.zip, err = openMember(m); err != nil {
			o.lost(m, err, now)
			return o.retired(m)
		}
		m.missing = 0
	}
	b := buf[:blockSize]
	n, err := m.zip.readAt(b, m.read)
	b = b[:n]
	o.reader.Encoding = o.reader.Plan.EncodingOf(m.Print)
	ended := err != nil
	end := o.reader.Plan.Cut(b, o.reader.Encoding, ended)
	if end == 0 && !ended && !m.cut { // a line that fills the block
		b = make([]byte, MaxLine+2)
		n, err = m.zip.readAt(b, m.read)
		b, ended = b[:n], err != nil
		end = o.reader.Plan.Cut(b, o.reader.Encoding, ended || n > MaxLine)
	}
	if ended && !errors.Is(err, io.EOF) {
		m.lost, m.lostWhy = max(m.Size-m.read-int64(n), 1), "its compressed copy is damaged"
	} else if ended {
		m.lost, m.lostWhy = m.Size-m.read-int64(n), "it was written between being copied and being cut"
	}
	cut := m.cut
	switch {
	case cut: // pass over the rest of a line that was over the limit
		if end = o.reader.Plan.LineEnd(b, o.reader.Encoding); end > 0 {
			m.cut = false
		} else {
			end = len(b) &^ 1
		}
		m.read += int64(end)
		o.push(m, 0, nil)
		ended = ended && end >= len(b)&^1
	case ended || end == 0 && n > MaxLine:
		if end = n; n > MaxLine {
			o.CutLines++
			end, m.cut, ended = MaxLine, true, false
		}
		fallthrough
	default:
		if end > 0 {
			o.scan(m, b[:end], m.read, now)
		}
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
		o.queue = append(o.queue, item{m: m, next: m.read, reached: o.reader.Reached, last: o.reader.Last,
			host: o.reader.LastHost, header: o.reader.Header(), skew: o.reader.Skew})
		return true
	}
	return false
}

// judge takes the whole entries of a block. It answers false where there is none.
func (o *Origin) judge(m *member, b, buf []byte, now time.Time) bool {
	o.reader.Encoding = o.reader.Plan.EncodingOf(m.Print)
	if len(b) > 1 && b[0] == 0 && b[1] == 0 {
		return o.hole(m, b, now)
	}
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

// written tells whether a younger member has something: an entry ends with its file, or
// what stands in the younger one would come before it.
func (o *Origin) written(m *member) bool {
	for i := len(o.place.Members) - 1; i >= 0 && o.place.Members[i] != m; i-- {
		x := o.place.Members[i]
		if x.Offset > 0 || x.Size > 0 {
			return true
		}
		if info, err := os.Stat(x.Path); err == nil && info.Size() > 0 {
			return true
		}
	}
	return false
}

// closed tells whether nothing more belongs to the member's last entry: its writer
// has been silent for long enough, or has left the file.
func (o *Origin) closed(m *member, now time.Time) bool {
	wait := o.reader.Plan.Closed()
	if wait == 0 || m.Limit > 0 || o.written(m) {
		return true
	}
	if m.idle == 0 {
		m.idle = now.UnixNano()
		if info, err := m.file.Stat(); err == nil && info.ModTime().Before(now) {
			m.idle = info.ModTime().UnixNano() // so long it has been silent already
		}
	}
	return now.UnixNano()-m.idle >= int64(wait)
}

// long reads on in an entry that fills a whole block, up to the limit.
func (o *Origin) long(m *member, base int64, buf []byte, now time.Time) bool {
	size := min(m.Size-base, MaxLine+2)
	left := m.Limit > 0 || o.younger(m, now)
	if size < blockSize && !left {
		return false // an unfinished last line waits
	}
	line := make([]byte, size)
	n, _ := m.file.ReadAt(line, base)
	line = line[:n]
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

// hole passes over NULs where a line would begin: room that was made for what is to come,
// which is waited for, or what a writer left who went on at its old place in a file that
// had been cut. It answers false where nothing stands behind them.
func (o *Origin) hole(m *member, b []byte, now time.Time) bool {
	n := int64(len(b) - len(bytes.TrimLeft(b, "\x00")))
	to := m.read + n
	if n == int64(len(b)) { // go on where the file has something
		to = dataFrom(m.file, to)
	}
	if o.reader.Encoding == match.UTF16LE || o.reader.Encoding == match.UTF16BE {
		to &^= 1
	}
	if to >= m.Size && m.Limit == 0 && !o.younger(m, now) || to <= m.read {
		return false
	}
	m.read = min(to, m.Size)
	o.push(m, 0, nil)
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
	if o.reader.Skew != 0 {
		o.measure(slab, now)
	}
	if plan := o.reader.Plan; base > 0 && plan.Layout.Headed() && o.reader.Header() == "" && m.file != nil {
		o.reader.SetHeader(headerBefore(m.file, base, plan))
	}
	var ticks []match.Tick
	o.reader.Future = 0
	skew := o.reader.Skew
	began := time.Now()
	entries := o.reader.Scan(slab, base, entry.Of(now), func(j *verdict.Judged) {
		host := o.reader.LastHost
		if j.Entry.Fits {
			if h, ok := j.Entry.Get("host"); ok {
				host = h
			}
		}
		o.queue = append(o.queue, item{j: j, m: m, next: j.Next, reached: j.Reached, last: j.Entry.At, host: host,
			header: o.reader.Header(), skew: o.reader.Skew})
	}, func(t match.Tick) { ticks = append(ticks, t) })
	o.reader.Plan.Scanned += time.Since(began)
	m.read = base + int64(len(slab))
	if o.Behind() > catching {
		o.pace.came(len(slab), now)
	} else {
		o.pace = pace{}
	}
	if o.reader.Skew == 0 && entry.Of(now).Sub(o.reader.Last) > clockOff {
		o.measure(slab, now) // for what comes after it
	} else if o.reader.Skew == 0 {
		o.skew.seen = nil
	}
	if !o.reader.Plan.Layout.Plain() && o.reader.Encoding <= match.UTF8 && o.reader.Plan.Closed() == 0 {
		o.fit.came(o.reader.Plan, o.reader.Header(), slab, now)
	}
	if o.caught && o.reader.Skew == skew { // a backlog says nothing of how late its writer is
		own := entry.None
		if o.reader.Plan.Timed() {
			own = o.reader.Last
		}
		o.lag.came(own, entries, now)
	}
	o.push(m, entries, ticks)
}

// fresh is how long before it arrives something may have been written, so that it
// says how the clock of its writer stands.
const fresh = 10 * time.Second

// measure compares the clock of the writer with ours, on what was written while
// the origin was being read at its end.
func (o *Origin) measure(slab []byte, now time.Time) {
	if !o.reader.Plan.Timed() || !o.caught || now.Sub(o.ended) > fresh {
		return
	}
	first, last := o.reader.Times(slab, entry.Of(now))
	if first == entry.None {
		return
	}
	if off := o.skew.came(first, last, now, o.reader.Skew); off != o.reader.Skew {
		o.reader.Skew, o.lag.last, o.lag.worst = off, 0, 0
		o.told = append(o.told, clockWords(off))
	}
}

func clockWords(off time.Duration) string {
	if off == 0 {
		return "its clock agrees again"
	}
	return fmt.Sprintf("its clock is %s behind: that is taken off the times of its entries", entry.RoughSpan(off))
}

// lose notes that bytes are known to have gone without being read.
func (o *Origin) lose(n int64, why string) {
	if n <= 0 {
		return
	}
	o.place.Gaps += n
	o.place.LostAt, o.place.LostWhy = time.Now().UnixNano(), why
	o.told = append(o.told, fmt.Sprintf("%d bytes were lost: %s", n, why))
	o.dirty = true
}

// push ends a slab in the queue.
func (o *Origin) push(m *member, lines int64, ticks []match.Tick) {
	o.queue = append(o.queue, item{m: m, next: m.read, reached: o.reader.Reached, last: o.reader.Last,
		host: o.reader.LastHost, header: o.reader.Header(), skew: o.reader.Skew, ticks: ticks, lines: lines})
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
	o.thaw()
	x := &o.queue[o.head]
	o.head++
	x.m.Offset = x.next
	if x.j == nil {
		x.m.Cut = x.m.cut
	}
	o.place.Last, o.place.Reached, o.place.Host, o.place.Header, o.place.Skew = x.last, x.reached, x.host, x.header,
		x.skew
	o.place.Entries += x.lines
	o.dirty = true
	if x.m.Retired && (x.j == nil && o.head == len(o.queue)) {
		o.lose(x.m.lost, x.m.lostWhy)
		o.place.Old = max(o.place.Old, x.m.changed())
		x.m.close()
		o.finish(x.m.ID, x.m.Print, x.m.Offset, x.m.Start)
		if i := slices.Index(o.place.Members, x.m); i >= 0 {
			o.place.Members = slices.Delete(o.place.Members, i, i+1)
		}
	}
}
