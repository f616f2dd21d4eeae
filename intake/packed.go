package intake

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"os"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// packed is a compressed file being read from its start; a place in it is one in
// what it was before.
type packed struct {
	io.Reader
	file  *os.File
	close func()
	at    int64
	held  []byte // the bytes before at, which may be asked for again
	err   error
}

// Unpack opens a file that is compressed as its name says.
func Unpack(path string) (io.ReadCloser, error) {
	p, err := openPacked(path)
	if err != nil {
		return nil, err
	}
	return p, nil
}

// Packed tells whether a file's name says that it is compressed.
func Packed(path string) bool {
	return strings.HasSuffix(path, ".gz") || strings.HasSuffix(path, ".zst")
}

func openPacked(path string) (*packed, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	p, err := unpacked(f, path)
	if err != nil {
		f.Close()
	}
	return p, err
}

// unpacked unpacks a file that is open, as its name says.
func unpacked(f *os.File, path string) (*packed, error) {
	p := &packed{file: f, close: func() {}}
	if strings.HasSuffix(path, ".gz") {
		z, err := gzip.NewReader(f)
		if err != nil {
			return nil, err
		}
		p.Reader = z
		return p, nil
	}
	z, err := zstd.NewReader(f, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20))
	if err != nil {
		return nil, err
	}
	p.Reader, p.close = z, z.Close
	return p, nil
}

// Unpack unpacks a member that was opened, from its begin on; the file is closed with it.
func (m Member) Unpack(f *os.File) (io.ReadCloser, error) {
	p, err := unpacked(f, m.Path)
	if err != nil {
		f.Close()
		return nil, err
	}
	return p, nil
}

// openMember opens a compressed member, and makes sure that it is the one that is
// meant.
func openMember(m *member) (*packed, error) {
	between()
	p, err := openPacked(m.Path)
	if err != nil {
		return nil, err
	}
	if info, err := p.file.Stat(); err != nil || statOf(m.Path, info).id != m.ID {
		p.Close()
		return nil, errOther
	}
	x := found{path: m.Path, named: named{zip: true}, id: m.ID}
	if print, ok := x.print(); !ok || len(m.Print) > 0 && !alike(print, m.Print) {
		p.Close()
		if ok { // its number was given to another
			m.ID = Identity{}
		}
		return nil, errOther
	}
	return p, nil
}

// Close lets go of the file.
func (p *packed) Close() error {
	p.close()
	return p.file.Close()
}

// readAt reads from a place on, which must not lie before what was read last.
func (p *packed) readAt(b []byte, place int64) (int, error) {
	n := 0
	if back := p.at - place; back > 0 {
		if back > int64(len(p.held)) {
			return 0, io.ErrUnexpectedEOF
		}
		p.held = append(p.held[:0], p.held[int64(len(p.held))-back:]...)
		if n = copy(b, p.held); n == len(b) {
			return n, nil // what is held reaches further
		}
	} else if back < 0 && p.err == nil {
		k, err := io.CopyN(io.Discard, p.Reader, -back)
		p.at += k
		p.err = err
	}
	if p.err == nil {
		k, err := io.ReadFull(p.Reader, b[n:])
		p.at += int64(k)
		n += k
		if errors.Is(err, io.ErrUnexpectedEOF) && k > 0 {
			err = io.EOF
		}
		p.err = err
	}
	p.held = append(p.held[:0], b[:n]...)
	return n, p.err
}

// printPacked reads the first bytes of what a compressed file was, as print does.
func (f found) printPacked() ([]byte, bool) {
	p, err := openPacked(f.path)
	if err != nil {
		return nil, !errors.Is(err, os.ErrNotExist)
	}
	defer p.Close()
	if info, err := p.file.Stat(); err != nil || statOf(f.path, info).id != f.id {
		return nil, false
	}
	r := bufio.NewReaderSize(p, 64<<10)
	b := make([]byte, printSize)
	n, _ := io.ReadFull(r, b)
	if n < printSize || len(written(b)) > 0 {
		return written(b[:n]), true
	}
	for looked := 0; looked < mostHole; { // it begins with a hole
		some, err := r.Peek(r.Size())
		zeros := len(some) - len(bytes.TrimLeft(some, "\x00"))
		r.Discard(zeros)
		if zeros < len(some) {
			n, _ = io.ReadFull(r, b)
			return written(b[:n]), true
		}
		if looked += zeros; err != nil {
			break
		}
	}
	return nil, true
}
