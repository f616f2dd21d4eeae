package intake

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"dimlantern/core/entry"
	"dimlantern/core/match"
)

// Part is a stretch of a log's file: whole entries as UTF-8.
type Part struct {
	Text   []byte // valid until the next one
	Start  int64  // where it begins in the file, in bytes of what is packed where it is
	Header string // the line that names its columns, where the layout has such lines
}

// backwardBlock is how much of a file is read at once from its end on, in bytes.
const backwardBlock = 4 << 20

// Before reads the entries that lie before a place of a file, or, where the place is negative,
// before its end: a block of them, the last of which ends there. A part that begins at 0 is
// the first one. A file that is packed is not read so: see Forward.
func Before(path string, plan *match.Plan, end int64) (Part, error) {
	f, err := os.Open(path)
	if err != nil {
		return Part{}, err
	}
	defer f.Close()
	last := end < 0
	if last {
		info, err := f.Stat()
		if err != nil {
			return Part{}, err
		}
		end = info.Size()
	}
	enc := plan.EncodingOf(printOf(path))
	for size := int64(backwardBlock); ; size *= 4 {
		from := max(0, end-size) &^ 1
		buf := make([]byte, end-from)
		n, err := f.ReadAt(buf, from)
		if err != nil && err != io.EOF {
			return Part{}, err
		}
		buf = buf[:n]
		start := 0
		if from > 0 {
			start = plan.LineEnd(buf, enc)
			if plan.Closed() > 0 && start > 0 { // what goes on with an entry before belongs to it
				start += plan.First(buf[start:], enc)
			}
			if (start == 0 || start >= len(buf)) && size < longestBlock {
				continue
			}
		}
		p := Part{Start: from + int64(start), Text: plan.Text(buf[start:], enc)}
		if plan.Layout.Headed() && p.Start > 0 {
			p.Header = headerBefore(f, p.Start, plan)
		}
		return p, nil
	}
}

// Forward reads a file from its start to its end, unpacked where it is packed, part by part.
// It ends with the context, or with the first error that it is answered.
func Forward(ctx context.Context, path string, plan *match.Plan, each func(Part) error) error {
	at := int64(0)
	_, err := EachBlock(path, plan, func(text []byte) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		err := each(Part{Text: text, Start: at})
		at += int64(len(text))
		return err
	})
	return err
}

// Member is a file of a log.
type Member struct {
	Path   string
	Size   int64 // in bytes, as it lies there
	Mod    entry.Instant
	Packed bool
	ID     Identity
}

// mostListings is how often the files of a log are listed at most, until they stay as they are.
const mostListings = 10

// Members are the files of a log, newest first.
func Members(series string) []Member {
	out, _ := Steady(series)
	return out[series]
}

// Steady lists the files of logs, by their series and newest first, until two listings are the same: while
// a log is rotated, one alone may have a file twice, or not at all. It is false where that did not come to
// be. Each folder is looked at once for all of them.
func Steady(series ...string) (out map[string][]Member, same bool) {
	folders := map[string][]string{}
	for _, s := range series {
		folders[filepath.Dir(s)] = append(folders[filepath.Dir(s)], s)
	}
	out, same = make(map[string][]Member, len(series)), true
	for dir, list := range folders {
		files := listFolder(dir, list)
		steady := false
		for i := 0; i < mostListings && !steady; i++ {
			again := listFolder(dir, list)
			steady = maps.EqualFunc(files, again, func(a, b []found) bool {
				return slices.EqualFunc(a, b, func(a, b found) bool { return a.path == b.path && a.id == b.id })
			})
			files = again
		}
		same = same && steady
		for s, list := range files {
			of := make([]Member, 0, len(list))
			for _, f := range slices.Backward(list) {
				of = append(of, Member{f.path, f.size, entry.Instant(f.mod), f.zip, f.id})
			}
			out[s] = of
		}
	}
	return out, same
}

// listFolder is what a folder has of some series, by series and oldest first.
func listFolder(dir string, series []string) map[string][]found {
	folder := folderOf(dir, func(s string) bool { return slices.Contains(series, s) })
	out := make(map[string][]found, len(series))
	for _, s := range series {
		out[s] = folder.members(s)
	}
	return out
}

// MemberOf is a file as a member of a log that is that file alone.
func MemberOf(path string) (Member, error) {
	info, err := os.Stat(path)
	if err != nil {
		return Member{}, err
	}
	f := statOf(path, info)
	return Member{path, f.size, entry.Instant(f.mod), Packed(path), f.id}, nil
}

// OpenThere opens a member where it was listed; fs.ErrNotExist says that it is not there any more.
func (m Member) OpenThere() (*os.File, error) {
	f, err := m.openAt(m.Path)
	if err == nil && f == nil {
		err = fs.ErrNotExist
	}
	return f, err
}

// openAt opens the member where it may be by now; nil is that another file is there.
func (m Member) openAt(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	if info, err := f.Stat(); err == nil && info.Mode().IsRegular() && statOf(path, info).id == m.ID {
		return f, nil
	}
	f.Close()
	return nil, nil
}

// Open opens a member of a series, under whatever name it has by now: it may have been rotated since. Its
// number may have been given to another file, which [Print] tells.
func (m Member) Open(series string) (*os.File, error) {
	f, err := m.openAt(m.Path)
	if f != nil || err != nil && !errors.Is(err, fs.ErrNotExist) {
		return f, err
	}
	for range mostListings { // it may be renamed once more meanwhile
		here := false
		for _, x := range Members(series) {
			if x.ID == m.ID {
				here = true
				if f, _ := m.openAt(x.Path); f != nil {
					return f, nil
				}
			}
		}
		if !here {
			break
		}
	}
	return nil, fs.ErrNotExist
}

// Print is what tells a file from others: some of its first bytes.
func Print(f *os.File) []byte { return firstBytes(f) }
