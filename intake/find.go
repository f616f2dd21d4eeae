package intake

import (
	"bytes"
	"fmt"
	"os"
	"sort"
	"time"

	"github.com/bmatcuk/doublestar/v4"
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
func Find(glob string, most int) []File {
	list, err := doublestar.FilepathGlob(glob)
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

// Series gives the name of the series that a path belongs to, and what its member
// is ordered by: of two, the one with the lesser order is the older.
func Series(path string) (name, order string) {
	name, age, date, _ := seriesOf(path)
	if date == "" {
		date = "99999999"
	}
	return name, fmt.Sprintf("%-16s %08d", date, 99_999_999-age)
}

// Copies counts the rotated copies of a file.
func Copies(path string) int {
	series, _, _, _ := seriesOf(path)
	return max(len(members(series))-1, 0)
}

// Holding returns the path of the member of the series that has that entry at
// that place; "" where none has it any more.
func (o *Origin) Holding(offset int64, text string) string {
	files := members(o.Series)
	head := []byte(text[:min(len(text), 64)])
	for i := len(files) - 1; i >= 0; i-- {
		f, err := os.Open(files[i].path)
		if err != nil {
			continue
		}
		buf := make([]byte, len(head))
		n, _ := f.ReadAt(buf, offset)
		f.Close()
		if n == len(head) && bytes.Equal(buf, head) {
			return files[i].path
		}
	}
	return ""
}
