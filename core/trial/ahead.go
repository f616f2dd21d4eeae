package trial

import (
	"errors"
	"io"
)

// blocks hands out what is read, block by block: see ahead.next.
type blocks interface {
	next(rest []byte) (buf []byte, n int, ended bool, err error)
}

// memory hands out a text that is held in memory, without copying it.
type memory struct {
	data []byte
	at   int
}

func (m *memory) next(rest []byte) (buf []byte, n int, ended bool, err error) {
	from := m.at - len(rest)
	m.at = min(m.at+slabSize, len(m.data))
	return m.data[from:m.at:m.at], m.at - from, m.at == len(m.data), nil
}

// ahead reads files on a core of its own, a few blocks before they are judged.
type ahead struct {
	blocks chan block
	free   chan []byte
	stop   chan struct{}
	held   []byte // the block that is being judged
}

// block is what was read at once: data from room on, so that what was left of the block
// before fits in front of it.
type block struct {
	buf  []byte
	n    int
	last bool // the file ends with it
	err  error
}

const (
	aheadRoom   = 64 << 10 // for what is left of the block before
	aheadBlocks = 3
	aheadMost   = 4 // inputs that are read so: each has a core's attention, and memory
)

// readAhead begins to read files one after the other; nil where there is no core for it,
// or there are too many inputs.
func readAhead(files []io.Reader, cores, inputs int) *ahead {
	if cores < 2 || inputs > aheadMost {
		return nil
	}
	a := &ahead{blocks: make(chan block, aheadBlocks), free: make(chan []byte, aheadBlocks),
		stop: make(chan struct{})}
	for range aheadBlocks {
		a.free <- make([]byte, aheadRoom+slabSize)
	}
	go func() {
		for _, f := range files {
			for ended := false; !ended; {
				var b block
				select {
				case b.buf = <-a.free:
				case <-a.stop:
					return
				}
				b.n, b.err = io.ReadFull(f, b.buf[aheadRoom:])
				if errors.Is(b.err, io.EOF) || errors.Is(b.err, io.ErrUnexpectedEOF) {
					b.err, b.last = nil, true
				}
				ended = b.last || b.err != nil
				select {
				case a.blocks <- b:
				case <-a.stop:
					return
				}
				if b.err != nil {
					return
				}
			}
		}
	}()
	return a
}

// next is the next block behind what is left of the one before, which is used again.
func (a *ahead) next(rest []byte) (buf []byte, n int, ended bool, err error) {
	b := <-a.blocks
	held := a.held
	a.held = nil
	switch {
	case len(rest) <= aheadRoom:
		copy(b.buf[aheadRoom-len(rest):], rest)
		buf, a.held = b.buf[aheadRoom-len(rest):], b.buf
	default: // an entry as long as blocks
		buf = append(append(make([]byte, 0, 2*(len(rest)+b.n)), rest...), b.buf[aheadRoom:aheadRoom+b.n]...)
		a.free <- b.buf
	}
	if held != nil {
		a.free <- held
	}
	return buf, len(rest) + b.n, b.last, b.err
}
