package intake

import (
	"bytes"
	"io"
	"os"

	"dimlantern/core/entry"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

// lineStart finds where an unfinished line begins before size, or size where there is
// none. Room that was made behind what is written counts for nothing. Inside tells that
// the line is longer than an entry may be: its rest has to be passed over.
func (o *Origin) lineStart(path string, size int64, print []byte) (at int64, inside bool) {
	f, err := os.Open(path)
	if err != nil {
		return size, false
	}
	defer f.Close()
	p := o.reader.Plan
	enc := p.EncodingOf(print)
	end := writtenTo(f, size)
	if enc == match.UTF16LE || enc == match.UTF16BE {
		end = min(size, (end+1)&^1) // the second half of its last letter may be a NUL
	}
	for _, back := range []int64{64 << 10, MaxLine + 2} {
		from := max(0, end-back) &^ 1
		buf := make([]byte, end-from)
		n, err := f.ReadAt(buf, from)
		if err != nil && err != io.EOF {
			return end, false
		}
		if k := p.Cut(buf[:n], enc, true); k > 0 {
			return from + int64(k), false
		}
		if from == 0 {
			return 0, false
		}
	}
	return end, true
}

// writtenTo is how far a file has been written to: behind it are only NULs.
func writtenTo(f *os.File, size int64) int64 {
	buf := make([]byte, 256<<10)
	for end := size; end > 0; {
		from := max(0, end-int64(len(buf)))
		n, err := f.ReadAt(buf[:end-from], from)
		if err != nil && err != io.EOF {
			return size
		}
		if k := len(written(buf[:n])); k > 0 {
			return from + int64(k)
		}
		if end = from; size-end > 4<<30 { // nobody makes so much room
			return size
		}
	}
	return 0
}

// bisect finds the offset of the first entry at or after an instant, by halving
// the file on its entries' times. Where the layout gives no times, it is the
// file's start.
func (o *Origin) bisect(f found, at entry.Instant) int64 {
	p := o.reader.Plan
	if !p.Timed() || o.reader.Plan.EncodingOf(printOf(f.path)) > match.UTF8 {
		return 0
	}
	file, err := os.Open(f.path)
	if err != nil {
		return 0
	}
	defer file.Close()
	return place(file, p, f.size, at, entry.Instant(f.mod))
}

// place finds, in a file of that size, the offset of the first entry at or after
// an instant.
func place(file *os.File, p *match.Plan, size int64, at, near entry.Instant) int64 {
	d := &layout.Divider{Layout: p.Layout, Header: headerBefore(file, size, p)}
	lo, hi := int64(0), size
	for hi-lo > 64<<10 {
		mid := lo + (hi-lo)/2
		t, found, ok := timeAfter(file, p, d, mid, hi, near)
		if !ok || t >= at {
			hi = mid
		} else {
			lo = found
		}
	}
	// Line by line through what is left.
	for lo < size {
		t, found, ok := timeAfter(file, p, d, lo, size, near)
		if !ok || t >= at {
			return lo
		}
		next := endOfLine(file, found)
		if next <= lo {
			return lo
		}
		lo = next
	}
	return lo
}

// timeAfter finds the first line that begins at or after a place (the line in
// which the place lies is passed over, unless it begins there) and has a time.
func timeAfter(f *os.File, p *match.Plan, d *layout.Divider, from, to int64, near entry.Instant) (entry.Instant,
	int64, bool) {
	buf := make([]byte, 32<<10)
	place := from
	if from > 0 {
		var one [1]byte
		if _, err := f.ReadAt(one[:], from-1); err == nil && one[0] != '\n' {
			place = endOfLine(f, from)
		}
	}
	for place < to {
		n, _ := f.ReadAt(buf, place)
		b := buf[:n]
		if n == 0 {
			return 0, 0, false
		}
		moved := false
		for len(b) > 0 {
			k := bytes.IndexByte(b, '\n')
			if k < 0 {
				break
			}
			if x, _ := p.Divide(d, bytes.TrimSuffix(b[:k], []byte{'\r'}), near); x.Timed {
				return x.At, place, true
			}
			place += int64(k) + 1
			b = b[k+1:]
			moved = true
		}
		if !moved {
			next := endOfLine(f, place)
			if next <= place {
				return 0, 0, false
			}
			place = next
		}
	}
	return 0, 0, false
}

// endOfLine returns the offset behind the line end at or after a place, or the
// file's end.
func endOfLine(f *os.File, place int64) int64 {
	buf := make([]byte, 32<<10)
	for {
		n, err := f.ReadAt(buf, place)
		if i := bytes.IndexByte(buf[:n], '\n'); i >= 0 {
			return place + int64(i) + 1
		}
		place += int64(n)
		if err != nil || n == 0 {
			return place
		}
	}
}

// What is read of a file to find the line that names its columns, in bytes.
const (
	headSize = 64 << 10
	backSize = 256 << 10
)

// headerBefore is the line of a file that names the columns of what comes behind a
// place: at its start, or not far before the place; "" where the layout has none.
func headerBefore(f io.ReaderAt, place int64, p *match.Plan) string {
	if !p.Layout.Headed() {
		return ""
	}
	d := &layout.Divider{Layout: p.Layout}
	buf := make([]byte, min(place, headSize))
	n, _ := f.ReadAt(buf, 0)
	p.SeeAll(d, buf[:bytes.LastIndexByte(buf[:n], '\n')+1])
	if from := max(place-backSize, int64(n)); from < place {
		buf = make([]byte, place-from)
		n, _ = f.ReadAt(buf, from)
		buf = buf[bytes.IndexByte(buf[:n], '\n')+1:]
		p.SeeAll(d, buf)
	}
	return d.Header
}

// HeaderOf is the line that names the columns at the end of a file; "" where the
// layout has none.
func HeaderOf(path string, p *match.Plan) string {
	if !p.Layout.Headed() {
		return ""
	}
	if Packed(path) {
		r, err := Unpack(path)
		if err != nil {
			return ""
		}
		defer r.Close()
		d := &layout.Divider{Layout: p.Layout}
		buf := make([]byte, headSize)
		n, _ := io.ReadFull(r, buf)
		p.SeeAll(d, buf[:bytes.LastIndexByte(buf[:n], '\n')+1])
		return d.Header
	}
	f, err := os.Open(path)
	if err != nil {
		return ""
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return ""
	}
	return headerBefore(f, info.Size(), p)
}

// Tail reads the last bytes of a log up to an instant, from the start of a line
// on, as UTF-8.
func Tail(path string, plan *match.Plan, at entry.Instant, most int64) ([]byte, error) {
	if Packed(path) {
		return tailPacked(path, plan, most)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	end := info.Size()
	enc := plan.EncodingOf(printOf(path))
	if plan.Timed() && enc == match.UTF8 && entry.Of(info.ModTime()) > at {
		end = place(f, plan, end, at+1, entry.Of(info.ModTime()))
	}
	from := max(0, end-most) &^ 1
	buf := make([]byte, end-from)
	n, err := f.ReadAt(buf, from)
	if err != nil && err != io.EOF {
		return nil, err
	}
	buf = buf[:n]
	if from > 0 {
		buf = buf[plan.LineEnd(buf, enc):]
	}
	return plan.Text(buf, enc), nil
}

// maxUnpacked is how much of a compressed file is unpacked to look at its end, in
// bytes.
const maxUnpacked = 512 << 20

// tailPacked is the end of a compressed file; what lies behind the instant that is
// asked for is among it.
func tailPacked(path string, plan *match.Plan, most int64) ([]byte, error) {
	r, err := Unpack(path)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var before, last []byte
	for total := int64(0); total < maxUnpacked; {
		b := make([]byte, most)
		n, err := io.ReadFull(r, b)
		if n > 0 {
			before, last = last, b[:n]
		}
		total += int64(n)
		if err != nil {
			break
		}
	}
	buf := append(before, last...)
	enc := plan.EncodingOf(buf[:min(len(buf), printSize)])
	if over := int64(len(buf)) - 2*most; over > 0 {
		buf = buf[over&^1:]
	}
	if before != nil {
		buf = buf[plan.LineEnd(buf, enc):]
	}
	return plan.Text(buf, enc), nil
}
