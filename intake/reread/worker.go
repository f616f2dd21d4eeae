// Package reread reads what logs have said once more: of each file only the stretches whose times
// matter, wherever they lie, with as many cores as there are, the newest first. A log, an expression and
// a stretch of time come in, entries go out.
//
// Of each file a note is kept of which times lie where; what is read without one gives it. Nothing is
// judged here, and nothing else is kept.
package reread

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"os"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/match"
	"dimlantern/intake"
)

// worker reads parts, one after the other.
type worker struct {
	x    *running
	ctx  context.Context
	buf  []byte
	r    *match.Reader
	part *part
	// at is where the stretch of the note begins that is being read.
	now   stretch
	fresh bool // its begin is known
}

func (w *worker) read(p *part) {
	o := &w.x.logs[p.log]
	plan := w.x.lend(o.Source)
	defer w.x.back(o.Source, plan)
	w.part = p
	f, err := p.member.Open(o.Series)
	if err != nil {
		w.x.cannot(p.member.Path, err)
		return
	}
	defer f.Close()
	if !bytes.HasPrefix(intake.Print(f), p.print) { // its number was given to another
		w.x.cannot(p.member.Path, os.ErrNotExist)
		return
	}
	r := match.NewTaker(plan, cmp.Or(o.Called, o.Name), o.Host)
	w.r = r
	r.Skew, r.Near = o.Skew, p.member.Mod
	r.Encoding = plan.EncodingOf(p.print)
	to := w.x.Begin()
	r.Take = func(e *entry.Entry, _ int64) { to.Take(e, p.log, p.file) }
	var in io.Reader = io.NewSectionReader(f, 0, p.to)
	from := p.from
	if p.member.Packed {
		u, err := p.member.Unpack(f)
		if err != nil {
			w.x.cannot(p.member.Path, err)
			return
		}
		defer u.Close()
		in = u
		head := make([]byte, 256)
		whole := uncut{u}
		n, _ := io.ReadFull(whole, head)
		r.Encoding = plan.EncodingOf(head[:n])
		in = io.MultiReader(bytes.NewReader(head[:n]), whole)
	} else {
		in, from, err = w.begin(f, p)
	}
	var entries, bytesRead int64
	if x, ok := to.(Lean); ok {
		if fields, lean := x.Lean(); lean && r.LeanOn(fields) {
			r.Lean = func(values [][]byte, at entry.Instant, _ int64) { x.TakeLean(values, at) }
		}
	}
	r.Counted = p.has > 0
	if err == nil {
		entries, bytesRead, err = w.all(in, from)
	}
	if r.Counted && err == nil {
		entries = p.has
	}
	if p.member.Packed { // what it takes there
		bytesRead = p.member.Size
	}
	if err != nil && w.ctx.Err() == nil {
		w.x.cannot(p.member.Path, err)
	}
	to.Done(entries)
	w.x.mu.Lock()
	w.x.out.Bytes += bytesRead
	read, of, told := w.x.out.Bytes, w.x.out.Of, w.x.Told != nil && time.Since(w.x.told) > 50*time.Millisecond
	if told {
		w.x.told = time.Now()
	}
	w.x.mu.Unlock()
	if told {
		w.x.Told(read, of)
	}
}

// errCut is that what is packed ends too early.
var errCut = errors.New("it is cut short, and only its begin could be read")

// uncut reads what is packed; one that ends too early does not end.
type uncut struct{ r io.Reader }

func (u uncut) Read(b []byte) (int, error) {
	n, err := u.r.Read(b)
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = errCut
	}
	return n, err
}

// begin finds how reading goes on at the begin of a part.
func (w *worker) begin(f *os.File, p *part) (io.Reader, int64, error) {
	r := w.r
	from := p.from
	switch s := p.known; {
	case s != nil:
		r.Last, r.Reached, r.LastHost = s.Last, s.Reached, s.Host
		r.SetHeader(s.Header)
		r.Sure = p.apart
	case from > 0: // from the next line on; what stands before it says the time
		start, err := lineBehind(f, from)
		if err != nil {
			return nil, 0, err
		}
		from = start
		for size := int64(before); ; size *= 16 {
			at := max(from-size, 0)
			text := make([]byte, from-at)
			n, err := f.ReadAt(text, at)
			if err != nil && err != io.EOF {
				return nil, 0, err
			}
			if text = text[:n]; at > 0 {
				text = text[bytes.IndexByte(text, '\n')+1:]
			}
			if r.Timed(text) {
				take := r.Take
				r.Take = func(*entry.Entry, int64) {}
				r.Scan(text, from-int64(len(text)), p.member.Mod, nil, nil)
				r.Take = take
				break
			}
			if at == 0 || size >= mostUntimed || !r.Plan.Timed() {
				break
			}
		}
		r.Sure = true
	default:
		r.Sure = p.apart
	}
	to := p.to
	if p.known == nil && p.to < p.member.Size { // the line in which it ends belongs to it
		end, err := lineBehind(f, p.to)
		if err != nil {
			return nil, 0, err
		}
		to = end
	}
	if from >= to {
		return bytes.NewReader(nil), from, nil
	}
	return io.NewSectionReader(f, from, to-from), from, nil
}

// lineBehind is where the first line begins at or behind a place that is not the file's begin.
func lineBehind(f *os.File, place int64) (int64, error) {
	buf := make([]byte, 32<<10)
	for at := place - 1; ; {
		n, err := f.ReadAt(buf, at)
		if i := bytes.IndexByte(buf[:n], '\n'); i >= 0 {
			return at + int64(i) + 1, nil
		}
		at += int64(n)
		if err == io.EOF || n == 0 {
			return at, nil
		}
		if err != nil {
			return at, err
		}
	}
}

// all reads whole entries to the end, block by block.
func (w *worker) all(in io.Reader, from int64) (entries, read int64, err error) {
	r, p := w.r, w.part
	if w.buf == nil {
		w.buf = make([]byte, block)
	}
	buf, rest := w.buf, 0
	w.fresh = false
	noting := p.note != nil && !p.noted
	var bad error // why it could not be read to its end
	over := false // the rest of a line that is longer than an entry may be
	for {
		if err := w.ctx.Err(); err != nil {
			return entries, read, err
		}
		n, err := io.ReadFull(in, buf[rest:])
		read += int64(n)
		ended := err != nil
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			w.part.note, noting = nil, false // it is read once more then
			if n == 0 {
				return entries, read, err
			}
			bad = err
		}
		n += rest
		skip := 0
		if over {
			if skip = r.Plan.LineEnd(buf[:n], r.Encoding); skip == 0 {
				skip = n &^ 1
				if ended {
					skip = n
				}
			} else {
				over = false
			}
		}
		text := buf[skip:n]
		cut := len(text)
		if !ended {
			if cut = r.Plan.Cut(text, r.Encoding, false); cut == 0 && len(text) > 0 && !over {
				if len(buf) < match.MaxLine+4*block {
					bigger := make([]byte, 2*len(buf))
					rest = copy(bigger, text)
					from += int64(skip)
					buf = bigger
					continue
				}
				cut, over = len(text)&^1, true // it is longer than an entry may be: its begin stands for it
			}
		}
		if r.Last == entry.None && r.Plan.Timed() && cut > 0 {
			if r.Begin(text[:cut]); r.Last == entry.None && !ended && len(buf) < mostUntimed {
				bigger := make([]byte, 4*len(buf)) // entries before the first time have that one
				rest = copy(bigger, text)
				from += int64(skip)
				buf, over = bigger, false
				continue
			}
		}
		if cut > 0 {
			entries += w.scan(text[:cut], from+int64(skip), noting, ended)
		}
		if ended {
			break
		}
		rest = copy(buf, text[cut:])
		from += int64(skip + cut)
	}
	if noting {
		w.note(true)
	}
	if len(buf) == block {
		w.buf = buf
	}
	return entries, read, bad
}

// scan hands on the entries of a block, and notes their times.
func (w *worker) scan(text []byte, from int64, noting, ended bool) int64 {
	r := w.r
	if noting {
		if !w.fresh {
			w.now = stretch{
				From:    from,
				To:      from,
				Least:   entry.None,
				Most:    entry.None,
				Last:    r.Last,
				Reached: r.Reached,
				Host:    r.LastHost,
				Header:  r.Header(),
			}
			w.fresh = true
		}
		least, most, _ := r.Bounds(text, from, w.part.member.Mod)
		if least != entry.None {
			if w.now.Least == entry.None || least < w.now.Least {
				w.now.Least = least
			}
			w.now.Most = entry.Later(w.now.Most, most)
			if r.Sure && r.Reached != entry.None { // what a clock that is asked follows
				defer func() { r.Reached = entry.Later(r.Reached, most.Add(r.Skew)) }()
			}
		}
	}
	n := r.Scan(text, from, w.part.member.Mod, nil, nil)
	if noting {
		w.now.To = from + int64(len(text))
		w.now.Entries += n
		if whole := r.Plan.Cut(text, r.Encoding, false); ended && !w.part.member.Packed {
			w.now.To = from + int64(whole) // what may go on is looked at again
			if whole < len(text) {
				w.now.Entries = 0
			}
			if whole < len(text) && w.now.From == 0 {
				w.fresh = false // the first time may be in what goes on, and be another one then
				w.x.firstIs(w.part, w.now.Least)
				return n
			}
		}
		if w.now.To > from && !w.part.member.Packed {
			w.now.End = digestEnd(text[max(w.now.From-from, 0) : w.now.To-from])
		}
		if w.now.To-w.now.From >= noted && !w.part.member.Packed {
			w.note(false)
		}
	}
	return n
}

// note keeps the stretch that has been read.
func (w *worker) note(last bool) {
	p := w.part
	if !w.fresh {
		return
	}
	s := w.now
	if p.member.Packed {
		if !last {
			return
		}
		s.From, s.To = 0, p.member.Size // in bytes of the file as it lies there
	}
	if s.Least != entry.None { // else its entries have the time of the first one that comes yet
		p.note.learn(s)
	}
	w.fresh = false
}
