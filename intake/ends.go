package intake

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
)

// longestBlock is how long a line may be that is read as a whole, in bytes.
const longestBlock = 64 << 20

// OpenLog opens a log file, or standard input as "-", unpacked where its name says that it is
// compressed. The instant is when it was last written. Errors are of the file alone: they do
// not name it.
func OpenLog(path string) (io.ReadCloser, entry.Instant, error) {
	if path == "-" {
		return io.NopCloser(os.Stdin), entry.Of(time.Now()), nil
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, 0, bare(err)
	}
	near := entry.Of(info.ModTime())
	if Packed(path) {
		z, err := Unpack(path)
		if err != nil {
			return nil, 0, fmt.Errorf("it is not compressed as its name says: %w", bare(err))
		}
		return z, near, nil
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, 0, bare(err)
	}
	return f, near, nil
}

// bare is an error of a file without its path.
func bare(err error) error {
	var pe *os.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// EachBlock reads a log to its end, and hands on blocks of whole entries as UTF-8, which are
// overwritten behind it. It ends with the first error that it is answered.
func EachBlock(path string, plan *match.Plan, do func(text []byte) error) (near entry.Instant, err error) {
	r, near, err := OpenLog(path)
	if err != nil {
		return near, fmt.Errorf("%s cannot be read: %w", path, err)
	}
	defer r.Close()
	buf := make([]byte, blockSize)
	rest := 0
	var enc match.Encoding
	for first := true; ; first = false {
		n, err := io.ReadFull(r, buf[rest:])
		n += rest
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			return near, fmt.Errorf("%s cannot be read: %w", path, bare(err))
		}
		if first {
			enc = plan.EncodingOf(buf[:min(n, 256)])
		}
		ended := err != nil
		cut := n
		if !ended {
			if cut = plan.Cut(buf[:n], enc, false); cut == 0 {
				if len(buf) < longestBlock {
					rest = n
					buf = append(buf, make([]byte, len(buf))...)
					continue
				}
				cut = n
			}
		}
		if cut > 0 {
			if err := do(plan.Text(buf[:cut], enc)); err != nil {
				return near, err
			}
		}
		if ended {
			return near, nil
		}
		rest = copy(buf, buf[cut:n])
	}
}

// What is looked at of a log to find its layout: so many lines of its start and of its end,
// and of each no more than so many bytes; and how far one is read of which the end cannot be
// gone to.
const (
	sampleLines = 2000
	sampleBytes = 1 << 20
	sampleRead  = 64 << 20
)

var errEnough = errors.New("enough")

// Ends returns lines of a log's start and of its end, as many as are enough to find its
// layout, and when it was last written.
func Ends(path string) (lines []string, near entry.Instant, err error) {
	plan := match.NewPlan(&lang.Settings{}, nil, nil, time.Local)
	var head, tail []byte
	info, err := os.Stat(path)
	seekable := err == nil && info.Mode().IsRegular() && !Packed(path) && info.Size() > 2*sampleBytes
	size := 0
	near, err = EachBlock(path, plan, func(text []byte) error {
		if size < sampleBytes {
			head = append(head, text...)
		} else if tail = append(tail, text...); len(tail) > 2*sampleBytes {
			tail = append(tail[:0], tail[len(tail)-sampleBytes:]...)
		}
		if size += len(text); seekable && size >= sampleBytes || size > sampleRead {
			return errEnough
		}
		return nil
	})
	if err != nil && err != errEnough {
		return nil, near, err
	}
	if seekable {
		if tail, err = Tail(path, plan, entry.Of(time.Now().AddDate(100, 0, 0)), sampleBytes); err != nil {
			return nil, near, fmt.Errorf("%s cannot be read: %w", path, bare(err))
		}
	} else if len(tail) > sampleBytes {
		tail = tail[len(tail)-sampleBytes:]
		tail = tail[bytes.IndexByte(tail, '\n')+1:]
	}
	first := linesOf(head)
	if len(tail) == 0 {
		if len(first) > 2*sampleLines {
			first = append(first[:sampleLines], first[len(first)-sampleLines:]...)
		}
		return first, near, nil
	}
	last := linesOf(tail)
	return append(first[:min(len(first), sampleLines)], last[max(0, len(last)-sampleLines):]...), near, nil
}

// linesOf cuts a text into its lines.
func linesOf(text []byte) []string {
	if len(text) == 0 {
		return nil
	}
	lines := strings.Split(strings.ToValidUTF8(strings.TrimSuffix(string(text), "\n"), "\uFFFD"), "\n")
	for i, l := range lines {
		lines[i] = strings.TrimSuffix(l, "\r")
	}
	return lines
}
