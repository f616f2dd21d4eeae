package trial

import (
	"bytes"
	"io"
	"time"

	"dimlantern/core/lang"
	"dimlantern/core/match"

	"github.com/klauspost/compress/s2"
)

// Said is a log of a sample: with Data, or where that is long, Text, and without Files.
type Said struct{ Input }

// Text is a log that can be read again and again, by several at once.
type Text interface {
	// Reader reads it from its begin.
	Reader() io.Reader
	// Size is how many bytes it has.
	Size() int64
	// Newest is the text with its newest lines alone, in about so many bytes at most.
	Newest(most int64) Text
}

// Size is how many bytes the log has.
func (d *Said) Size() int64 {
	if d.Text != nil {
		return d.Text.Size()
	}
	return int64(len(d.Data))
}

// Know finds out the times of the log once, so that trials need not look at each line for
// them. They are those of the layout that its source has in the settings.
func (d *Said) Know(s *lang.Settings, zone *time.Location) {
	plan := match.NewPlan(s, d.Source, nil, zone)
	if d.Text != nil {
		d.Known = plan.KnowAll(d.Text.Reader())
	} else {
		d.Known = plan.Know(d.Data)
	}
}

// Newest is the log with its newest entries alone, in about so many bytes at most.
func (d *Said) Newest(most int64) *Said {
	if d.Size() <= most {
		return d
	}
	out := *d
	out.Known = nil
	if d.Text != nil {
		out.Text = d.Text.Newest(most)
		return &out
	}
	out.Data = d.Data[int64(len(d.Data))-most:]
	out.Data = out.Data[bytes.IndexByte(out.Data, '\n')+1:]
	return &out
}

// Entries hands out the entries of the log one by one, as plan, which is of its source, tells
// them apart. They are valid until the next one.
func (d *Said) Entries(plan *match.Plan, each func(entry []byte)) {
	if d.Text == nil {
		plan.All(d.Data, each)
		return
	}
	in := d.Text.Reader()
	buf, rest := make([]byte, packedBlock), 0
	for ended := false; !ended; {
		n, err := io.ReadFull(in, buf[rest:])
		ended = err != nil
		n += rest
		cut := n
		if !ended {
			if cut = plan.Cut(buf[:n], match.UTF8, false); cut == 0 { // an entry as long as that
				buf, rest = append(buf, make([]byte, len(buf))...), n
				continue
			}
		}
		plan.All(buf[:cut], each)
		rest = copy(buf, buf[cut:n])
	}
}

// Packed is a text that is held in memory in blocks that are compressed, as the format S2
// does. The zero value is empty. It may be read by several at once.
type Packed struct {
	blocks []packed
	size   int64
	skip   int // so many bytes of the first block are not of the text
}

type packed struct {
	data []byte
	n    int // bytes of it before
}

// packedBlock is how much is compressed at once: what is looked at together later.
const packedBlock = slabSize

// Pack reads a text and keeps so many bytes of its end at most, from the start of a line on.
// Read is told how much was read; an error of it ends the reading.
func Pack(in io.Reader, most int64, read func(n int) error) (p *Packed, cut bool, err error) {
	p = &Packed{}
	buf := make([]byte, packedBlock)
	var room []byte
	for ended := false; !ended; {
		n, err := io.ReadFull(in, buf)
		if ended = err == io.EOF || err == io.ErrUnexpectedEOF; err != nil && !ended {
			return nil, false, err
		}
		if n > 0 {
			room = s2.Encode(room[:cap(room)], buf[:n])
			p.blocks = append(p.blocks, packed{bytes.Clone(room), n})
			p.size += int64(n)
		}
		for p.size-int64(p.blocks0()) >= most {
			p.size -= int64(p.blocks[0].n)
			p.blocks[0].data = nil
			p.blocks, cut = p.blocks[1:], true
		}
		if err := read(n); err != nil {
			return nil, false, err
		}
	}
	if cut {
		p.begin()
	}
	return p, cut, nil
}

// blocks0 is how long the first block is.
func (p *Packed) blocks0() int {
	if len(p.blocks) == 0 {
		return 1 << 62
	}
	return p.blocks[0].n
}

// begin lets the text begin with the first line that begins in it.
func (p *Packed) begin() {
	p.size, p.skip = 0, 0
	for _, b := range p.blocks {
		p.size += int64(b.n)
	}
	for len(p.blocks) > 0 {
		first, _ := s2.Decode(nil, p.blocks[0].data)
		if i := bytes.IndexByte(first, '\n'); i >= 0 {
			p.skip = i + 1
			p.size -= int64(p.skip)
			return
		}
		p.size -= int64(p.blocks[0].n)
		p.blocks = p.blocks[1:]
	}
}

// Size is part of Text.
func (p *Packed) Size() int64 { return p.size }

// Newest is part of Text.
func (p *Packed) Newest(most int64) Text {
	out := &Packed{blocks: p.blocks}
	n := p.size + int64(p.skip)
	for len(out.blocks) > 1 && n > most {
		n -= int64(out.blocks[0].n)
		out.blocks = out.blocks[1:]
	}
	out.begin()
	return out
}

// Reader is part of Text.
func (p *Packed) Reader() io.Reader { return &unpacking{p: p, skip: p.skip} }

type unpacking struct {
	p    *Packed
	at   int    // the next block
	left []byte // of the one before
	room []byte
	skip int
}

// Read is part of io.Reader.
func (u *unpacking) Read(b []byte) (int, error) {
	for len(u.left) == 0 {
		if u.at == len(u.p.blocks) {
			return 0, io.EOF
		}
		x := &u.p.blocks[u.at]
		into := u.room
		if len(b) >= x.n && u.skip == 0 { // without a copy
			into = b
		}
		out, err := s2.Decode(into[:cap(into)], x.data)
		if err != nil {
			return 0, err
		}
		u.at++
		if len(b) >= x.n && u.skip == 0 && &out[0] == &b[0] {
			return len(out), nil
		}
		u.room = out
		u.left, u.skip = out[min(u.skip, len(out)):], 0
	}
	n := copy(b, u.left)
	u.left = u.left[n:]
	return n, nil
}

// Section is a stretch of what can be read anywhere, such as a file.
type Section struct {
	Of      io.ReaderAt
	From, N int64
}

// Sections is a text that stays where it stands, in stretches of files one after the other.
// Who changes the files changes the text.
type Sections []Section

// Size is part of Text.
func (s Sections) Size() (n int64) {
	for _, x := range s {
		n += x.N
	}
	return n
}

// Reader is part of Text.
func (s Sections) Reader() io.Reader {
	var all []io.Reader
	for _, x := range s {
		all = append(all, io.NewSectionReader(x.Of, x.From, x.N))
	}
	return io.MultiReader(all...)
}

// Newest is part of Text.
func (s Sections) Newest(most int64) Text {
	over := s.Size() - most
	if over <= 0 {
		return s
	}
	out := append(Sections(nil), s...)
	for len(out) > 0 && out[0].N <= over {
		over -= out[0].N
		out = out[1:]
	}
	for buf := make([]byte, 64<<10); len(out) > 0; { // on from the next line
		x := &out[0]
		x.From, x.N = x.From+over, x.N-over
		n, _ := x.Of.ReadAt(buf[:min(int64(len(buf)), x.N)], x.From)
		if i := bytes.IndexByte(buf[:n], '\n'); i >= 0 {
			x.From, x.N = x.From+int64(i)+1, x.N-int64(i)-1
			break
		}
		if over = int64(n); n == 0 || over == x.N {
			out, over = out[1:], 0
		}
	}
	return out
}
