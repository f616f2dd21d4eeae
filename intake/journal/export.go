package journal

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"unicode/utf8"

	"dimlantern/core/match"
)

// The bounds of an entry, in bytes: what a field holds beyond its bound is cut off,
// and fields beyond the whole are left out.
const (
	maxField  = 512 << 10
	maxFields = 1000
	maxName   = 256
)

// Field is a field of an entry of the journal; a name may occur several times.
type Field struct {
	Name  string
	Value []byte
}

// Export reads entries in the journal's export format: lines NAME=VALUE, or NAME
// alone, then the length of the value as 64 bits with the least first, the value
// and a line end; an empty line ends an entry.
type Export struct {
	r *bufio.Reader
}

// NewExport returns the entries of a stream.
func NewExport(r io.Reader) *Export { return &Export{bufio.NewReaderSize(r, 64<<10)} }

var errExport = errors.New("it is not in the journal's export format")

// Next is the next whole entry. An entry that was cut off at the end of the stream
// is left out.
func (e *Export) Next() ([]Field, error) {
	var out []Field
	size := 0
	for {
		line, err := e.line()
		if err != nil {
			return nil, err
		}
		if len(line) == 0 {
			if len(out) == 0 {
				continue
			}
			return out, nil
		}
		name, value, inline := bytes.Cut(line, []byte{'='})
		if len(name) > maxName || !validName(name) {
			return nil, fmt.Errorf("%w: a field is called %.40q", errExport, name)
		}
		f := Field{Name: string(name)}
		if inline {
			f.Value = append([]byte(nil), value...)
		} else if f.Value, err = e.binary(); err != nil {
			return nil, err
		}
		if size += len(f.Value); len(out) < maxFields && size < match.MaxLine*3/4 {
			out = append(out, f)
		}
	}
}

// validName holds a name to the journal's rule: capitals, digits and _.
func validName(b []byte) bool {
	for _, c := range b {
		if (c < 'A' || c > 'Z') && (c < '0' || c > '9') && c != '_' {
			return false
		}
	}
	return len(b) > 0
}

// line reads a line without its end, cut at the bound of a field.
func (e *Export) line() ([]byte, error) {
	var out []byte
	for {
		part, err := e.r.ReadSlice('\n')
		if room := maxField + maxName - len(out); room > 0 {
			out = append(out, part[:min(len(part), room)]...)
		}
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case errors.Is(err, io.EOF) && len(part) > 0:
			return nil, io.ErrUnexpectedEOF
		case err != nil:
			return nil, err
		}
		return bytes.TrimSuffix(out, []byte{'\n'}), nil
	}
}

func (e *Export) binary() ([]byte, error) {
	var head [8]byte
	if _, err := io.ReadFull(e.r, head[:]); err != nil {
		return nil, cutOff(err)
	}
	n := binary.LittleEndian.Uint64(head[:])
	if n > 1<<31 {
		return nil, fmt.Errorf("%w: a field is %d bytes long", errExport, n)
	}
	var buf bytes.Buffer // it grows with what comes, not with what is announced
	if _, err := io.CopyN(&buf, e.r, int64(min(n, maxField))); err != nil {
		return nil, cutOff(err)
	}
	if n > maxField {
		if _, err := io.CopyN(io.Discard, e.r, int64(n-maxField)); err != nil {
			return nil, cutOff(err)
		}
	}
	if c, err := e.r.ReadByte(); err != nil || c != '\n' {
		if err == nil {
			err = fmt.Errorf("%w: a field does not end where it says", errExport)
		}
		return nil, cutOff(err)
	}
	return buf.Bytes(), nil
}

func cutOff(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// JSON writes an entry as an object on one line, in the order of its fields: a value
// that is no text as an array of its bytes, several of one name as an array.
func JSON(fields []Field) []byte {
	var b bytes.Buffer
	b.WriteByte('{')
	done := map[string]bool{}
	for i, f := range fields {
		if done[f.Name] {
			continue
		}
		done[f.Name] = true
		if b.Len() > 1 {
			b.WriteByte(',')
		}
		write(&b, f.Name)
		b.WriteByte(':')
		var all [][]byte
		for _, x := range fields[i:] {
			if x.Name == f.Name {
				all = append(all, x.Value)
			}
		}
		if len(all) == 1 {
			value(&b, all[0])
			continue
		}
		b.WriteByte('[')
		for k, v := range all {
			if k > 0 {
				b.WriteByte(',')
			}
			value(&b, v)
		}
		b.WriteByte(']')
	}
	b.WriteByte('}')
	return b.Bytes()
}

func value(b *bytes.Buffer, v []byte) {
	if utf8.Valid(v) {
		write(b, string(v))
		return
	}
	b.WriteByte('[')
	for i, c := range v[:min(len(v), maxBinary)] {
		if i > 0 {
			b.WriteByte(',')
		}
		fmt.Fprintf(b, "%d", c)
	}
	b.WriteByte(']')
}

// maxBinary is how much of a value that is no text is kept, in bytes.
const maxBinary = 64 << 10

func write(b *bytes.Buffer, s string) {
	enc := json.NewEncoder(b)
	enc.SetEscapeHTML(false) // what is searched for stands as it is
	enc.Encode(s)
	b.Truncate(b.Len() - 1)
}

// find is the value of a field; "" where it lacks.
func find(fields []Field, name string) string {
	for _, f := range fields {
		if f.Name == name {
			return string(f.Value)
		}
	}
	return ""
}
