package intake

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"sort"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

// File is a file that fits a path.
type File struct {
	Path  string
	Size  int64
	Mod   time.Time
	Words string // why it cannot be read, or ""
	Mend  string
}

// Find lists files that fit a path or glob, at most so many, and says of each
// whether it can be read.
func Find(pattern string, most int) []File {
	list, err := glob(pattern)
	if err != nil {
		return nil
	}
	sort.Strings(list)
	var out []File
	for _, p := range list {
		if len(out) == most {
			break
		}
		info, err := os.Stat(p)
		if err != nil {
			words, mend := denied(p, err)
			out = append(out, File{Path: p, Words: words, Mend: mend})
			continue
		}
		f := File{Path: p, Size: info.Size(), Mod: info.ModTime()}
		if !info.Mode().IsRegular() {
			f.Words = "it is " + kindOf(info.Mode())
		} else if x, err := os.Open(p); err != nil {
			f.Words, f.Mend = denied(p, err)
		} else {
			x.Close()
		}
		out = append(out, f)
	}
	return out
}

// Copies counts the rotated copies of a file.
func Copies(path string) int {
	f := folderOf(filepath.Dir(path), nil)
	return max(len(f.members(f.of[path].series))-1, 0)
}

// Holding returns the path of the member of the series that has that entry at
// that place; "" where none has it any more.
func (o *Origin) Holding(offset int64, text string) string {
	files := members(o.Series)
	head := []byte(text[:min(len(text), 64)])
	kept := o.Source.Kept()
	plan := o.reader.Plan
	masked := plan.Layout.Masked() && !kept
	for i := len(files) - 1; i >= 0; i-- {
		buf := make([]byte, len(head))
		if kept { // when it arrived, and from whom, stands in front
			buf = make([]byte, 1024)
		} else if masked {
			buf = make([]byte, 64<<10)
		}
		n, _ := ReadAt(files[i].path, buf, offset)
		buf = buf[:n]
		if masked { // the text is
			line, _, _ := bytes.Cut(buf, []byte{'\n'})
			d := &layout.Divider{Layout: plan.Layout, Header: o.reader.Header()}
			_, shown := plan.Shown(d, bytes.TrimSuffix(line, []byte{'\r'}), o.reader.Reached)
			buf = []byte(shown)
		}
		if kept {
			_, _, line, ok := match.CutKept(buf)
			if !ok {
				continue
			}
			buf = match.Unkept(line)
		}
		if bytes.HasPrefix(buf, head) {
			return files[i].path
		}
	}
	return ""
}

// ReadAt reads from a place of a file on; of a compressed one, of what it was before.
func ReadAt(path string, buf []byte, offset int64) (int, error) {
	if !Packed(path) {
		f, err := os.Open(path)
		if err != nil {
			return 0, err
		}
		defer f.Close()
		return f.ReadAt(buf, offset)
	}
	r, err := Unpack(path)
	if err != nil {
		return 0, err
	}
	defer r.Close()
	if _, err := io.CopyN(io.Discard, r, offset); err != nil {
		return 0, err
	}
	return io.ReadFull(r, buf)
}

// Written returns the paths of the members of the series that may hold what was
// written up to an instant, the likeliest first: the oldest one that was written to
// after it, and those before that.
func (o *Origin) Written(at entry.Instant) []string {
	files := members(o.Series)
	end := len(files) - 1
	for i, f := range files {
		if entry.Instant(f.mod) >= at {
			end = i
			break
		}
	}
	var out []string
	for i := end; i >= 0; i-- {
		out = append(out, files[i].path)
	}
	return out
}
