package spool

import (
	"bufio"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/zstd"

	"dimlantern/core/entry"
	"dimlantern/core/match"
)

// Segment is what the index knows of a segment.
type Segment struct {
	Path        string
	Origin      Origin
	First, Last entry.Instant // arrivals
	Entries     int64
	Bytes       int64 // as it lies on the disk
}

// Index is what has changed of the segments.
type Index struct {
	Changed []Segment
	Gone    []string
}

// Index looks what has changed of the segments since it was last asked; nil where
// nothing has.
func (k *Spool) Index() *Index {
	if k.list == nil {
		k.list = map[string]Segment{}
	}
	x := &Index{}
	seen := map[string]bool{}
	filepath.WalkDir(k.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(path, ".part") {
			return nil
		}
		info, err := d.Info()
		if _, ok := beganOf(path); err != nil || !ok {
			return nil
		}
		seen[path] = true
		had, known := k.list[path]
		if known && had.Bytes == info.Size() {
			return nil
		}
		s := Segment{Path: path, Bytes: info.Size()}
		s.Origin, _ = k.OriginOf(path)
		from := int64(0)
		if known && !strings.HasSuffix(path, ".zst") {
			s, from = had, had.Bytes
			s.Bytes = info.Size()
		}
		if s.count(from) == nil {
			k.list[path] = s
			x.Changed = append(x.Changed, s)
		}
		return nil
	})
	for path := range k.list {
		if !seen[path] {
			delete(k.list, path)
			x.Gone = append(x.Gone, path)
		}
	}
	if len(x.Changed)+len(x.Gone) == 0 {
		return nil
	}
	return x
}

// count counts the entries of a segment from a place on.
func (s *Segment) count(from int64) error {
	f, err := os.Open(s.Path)
	if err != nil {
		return err
	}
	defer f.Close()
	var r io.Reader = io.NewSectionReader(f, from, s.Bytes-from)
	if strings.HasSuffix(s.Path, ".zst") {
		z, err := zstd.NewReader(f, zstd.WithDecoderConcurrency(1))
		if err != nil {
			return err
		}
		defer z.Close()
		r = z
	}
	in := bufio.NewReaderSize(r, 64<<10)
	for {
		head, err := in.ReadSlice('\n')
		line := head
		for errors.Is(err, bufio.ErrBufferFull) {
			_, err = in.ReadSlice('\n')
		}
		if err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		if at, _, _, ok := match.CutKept(line); ok {
			if s.Entries == 0 {
				s.First = at
			}
			s.Last = at
		}
		s.Entries++
	}
}
