package listen

import (
	"bufio"
	"errors"
	"io"
)

// Frames cuts a stream into messages: a message that begins with a length is octet
// counted (RFC 6587, section 3.4.1), any other ends at a line end (section 3.4.2).
// Both may occur in one stream.
type Frames struct {
	r   *bufio.Reader
	buf []byte
}

// NewFrames returns the messages of a stream.
func NewFrames(r io.Reader) *Frames { return &Frames{r: bufio.NewReaderSize(r, 64<<10)} }

// Next is the next message, cut at MaxMessage, and valid until the next call. With
// an error it is what had come of a last one.
func (f *Frames) Next() ([]byte, error) {
	f.buf = f.buf[:0]
	n, err := f.length()
	if err != nil {
		return nil, err
	}
	if n > 0 {
		return f.counted(n)
	}
	return f.line()
}

// length reads "LENGTH SP" where the message begins with it; 0 where it does not.
// LENGTH has no leading zero.
func (f *Frames) length() (int64, error) {
	first, err := f.r.Peek(1)
	if err != nil {
		return 0, err
	}
	if first[0] < '1' || first[0] > '9' {
		return 0, nil
	}
	const most = 10
	for k := 2; k <= most+1; k++ {
		head, err := f.r.Peek(k)
		if err != nil {
			if errors.Is(err, io.EOF) {
				return 0, nil // it is a line without an end
			}
			return 0, err
		}
		c := head[k-1]
		switch {
		case c == ' ':
			n := int64(0)
			for _, d := range head[:k-1] {
				n = n*10 + int64(d-'0')
			}
			f.r.Discard(k)
			return n, nil
		case c < '0' || c > '9':
			return 0, nil
		}
	}
	return 0, nil
}

func (f *Frames) counted(n int64) ([]byte, error) {
	keep := min(n, MaxMessage)
	for int64(len(f.buf)) < keep { // it grows with what comes, not with what is announced
		step := min(keep-int64(len(f.buf)), 64<<10)
		at := len(f.buf)
		f.buf = append(f.buf, make([]byte, step)...)
		k, err := io.ReadFull(f.r, f.buf[at:])
		f.buf = f.buf[:at+k]
		if err != nil {
			return nil, io.ErrUnexpectedEOF // it is not whole: its sender sends it again
		}
	}
	if n > keep {
		if _, err := io.CopyN(io.Discard, f.r, n-keep); err != nil {
			return nil, err
		}
	}
	return trimEnd(f.buf), nil
}

// line reads up to a line end, or a NUL, which some senders put there instead.
func (f *Frames) line() ([]byte, error) {
	for {
		c, err := f.r.ReadByte()
		if err != nil {
			return trimEnd(f.buf), err
		}
		if c == '\n' || c == 0 {
			return trimEnd(f.buf), nil
		}
		if len(f.buf) < MaxMessage {
			f.buf = append(f.buf, c)
		}
	}
}
