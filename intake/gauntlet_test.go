//go:build !windows

package intake

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"pgregory.net/rapid"
)

// writer is a log as its writer and whoever rotates it see it: what may become of its
// files, and what a reader can know of them.
type writer struct {
	t      *rapid.T
	dir    string
	name   string // x.log
	habit  string
	pack   string // how copies are compressed; "" is not
	keep   int    // copies
	code   encoding.Encoding
	ending string
	day    time.Time
	parts  int
	n      int
	live   string            // the path that is written to
	copies []string          // oldest first
	lines  map[string][]line // by path, what a file holds of whole lines
	half   string
	opened *os.File // of who does not append
	lost   []line   // that nobody can read any more
	all    []line
}

type line struct {
	text  string
	bytes int
}

var habits = []string{"down", "up", "number before", "dated", "dated number", "new day", "six", "copy and cut",
	"cut under", "odd name"}

func newWriter(t *rapid.T, dir, name string) *writer {
	w := &writer{t: t, dir: dir, name: name, habit: rapid.SampledFrom(habits).Draw(t, "habit"),
		keep:   rapid.IntRange(1, 4).Draw(t, "keep"),
		ending: rapid.SampledFrom([]string{"\n", "\r\n"}).Draw(t, "ending"), lines: map[string][]line{},
		day: time.Now().AddDate(0, 0, -40)}
	w.pack = rapid.SampledFrom([]string{"", "", ".gz", ".zst"}).Draw(t, "pack")
	if w.habit == "cut under" {
		w.pack = "" // what begins with a hole has no first bytes by which its copy is known
	}
	switch rapid.IntRange(0, 5).Draw(t, "code") {
	case 0:
		w.code = charmap.ISO8859_1
	case 1:
		w.code = unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM)
	default:
		w.code = encoding.Nop
	}
	if w.habit == "cut under" || w.habit == "copy and cut" {
		w.code = encoding.Nop
	}
	w.live = filepath.Join(dir, w.nameOf())
	return w
}

// nameOf is the name that the writer gives a file that it begins now.
func (w *writer) nameOf() string {
	switch w.habit {
	case "new day":
		return fmt.Sprintf("%s-%s.log", w.name, w.day.Format("2006-01-02"))
	case "six":
		return fmt.Sprintf("%s%s.log", w.name, w.day.Format("060102"))
	}
	return w.name + ".log"
}

func (w *writer) bytes(s string) []byte {
	b, err := w.code.NewEncoder().Bytes([]byte(s))
	require.NoError(w.t, err)
	return b
}

func (w *writer) write(s string) {
	if w.habit == "cut under" {
		if w.opened == nil {
			f, err := os.OpenFile(w.live, os.O_WRONLY|os.O_CREATE, 0o644)
			require.NoError(w.t, err)
			_, err = f.Seek(0, io.SeekEnd)
			require.NoError(w.t, err)
			w.opened = f
		}
		_, err := w.opened.Write(w.bytes(s))
		require.NoError(w.t, err)
		return
	}
	f, err := os.OpenFile(w.live, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	require.NoError(w.t, err)
	_, err = f.Write(w.bytes(s))
	require.NoError(w.t, err)
	require.NoError(w.t, f.Close())
}

// add writes whole lines of about so many bytes together.
func (w *writer) add(lines, size int) {
	for range lines {
		w.n++
		text := fmt.Sprintf("line %d of %s é ", w.n, w.name)
		if w.half != "" {
			text = w.half
			w.half = ""
			w.write("ended" + w.ending)
			text += "ended"
		} else {
			text += strings.Repeat("z", max(0, size/lines-len(text)))
			w.write(text + w.ending)
		}
		x := line{text, len(w.bytes(text + w.ending))}
		w.lines[w.live] = append(w.lines[w.live], x)
		w.all = append(w.all, x)
	}
}

// begin writes the beginning of a line.
func (w *writer) begin() {
	if w.half == "" {
		w.n++
		w.half = fmt.Sprintf("line %d of %s begun ", w.n, w.name)
		w.write(w.half)
	}
}

func (w *writer) move(from, to string) {
	require.NoError(w.t, os.Rename(from, to))
	w.lines[to] = w.lines[from]
	delete(w.lines, from)
	if i := slices.Index(w.copies, from); i >= 0 {
		w.copies[i] = to
	}
}

// drop takes a copy away, read or not.
func (w *writer) drop(path string) {
	require.NoError(w.t, os.Remove(path))
	w.lost = append(w.lost, w.lines[path]...)
	delete(w.lines, path)
	w.copies = slices.DeleteFunc(w.copies, func(p string) bool { return p == path })
}

// rotate begins a new file in the way of the habit.
func (w *writer) rotate() {
	if _, err := os.Stat(w.live); err != nil || w.half != "" {
		return
	}
	base := filepath.Join(w.dir, w.name)
	w.day, w.parts = w.day.AddDate(0, 0, 1), w.parts+1
	shift := func(name func(i int) string) string {
		for i := len(w.copies); i > 0; i-- {
			from := w.copies[len(w.copies)-i]
			end := ""
			if Packed(from) {
				end = filepath.Ext(from)
			}
			w.move(from, name(i+1)+end)
		}
		return name(1)
	}
	to := ""
	switch w.habit {
	case "down", "copy and cut", "cut under":
		to = shift(func(i int) string { return fmt.Sprintf("%s.log.%d", base, i) })
	case "number before":
		to = shift(func(i int) string { return fmt.Sprintf("%s.%d.log", base, i) })
	case "up":
		to = fmt.Sprintf("%s.log.%d", base, w.parts)
	case "dated":
		to = fmt.Sprintf("%s.log-%s", base, w.day.Format("20060102"))
	case "dated number":
		to = fmt.Sprintf("%s-%s.%d.log", base, "2026-11-02", w.parts)
	case "odd name":
		to = fmt.Sprintf("%s-was-%d.log", base, w.parts)
	case "new day", "six":
		w.copies = append(w.copies, w.live)
		w.live = filepath.Join(w.dir, w.nameOf())
		w.tidy()
		return
	}
	if w.habit == "copy and cut" || w.habit == "cut under" {
		b, err := os.ReadFile(w.live)
		require.NoError(w.t, err)
		require.NoError(w.t, os.WriteFile(to, b, 0o644))
		require.NoError(w.t, os.Truncate(w.live, 0))
		w.lines[to] = w.lines[w.live]
		delete(w.lines, w.live)
		w.copies = append(w.copies, to)
	} else {
		w.copies = append(w.copies, w.live)
		w.move(w.live, to)
	}
	w.tidy()
}

// tidy compresses the newest copy, and takes away those that are too many.
func (w *writer) tidy() {
	if w.pack != "" && len(w.copies) > 0 && w.habit != "odd name" {
		path := w.copies[len(w.copies)-1]
		b, err := os.ReadFile(path)
		require.NoError(w.t, err)
		info, err := os.Stat(path)
		require.NoError(w.t, err)
		var packed bytes.Buffer
		var z io.WriteCloser = gzip.NewWriter(&packed)
		if w.pack == ".zst" {
			z, err = zstd.NewWriter(&packed)
			require.NoError(w.t, err)
		}
		_, err = z.Write(b)
		require.NoError(w.t, err)
		require.NoError(w.t, z.Close())
		require.NoError(w.t, os.WriteFile(path+w.pack, packed.Bytes(), 0o644))
		require.NoError(w.t, os.Chtimes(path+w.pack, info.ModTime(), info.ModTime()))
		require.NoError(w.t, os.Remove(path))
		w.lines[path+w.pack] = w.lines[path]
		delete(w.lines, path)
		w.copies[len(w.copies)-1] = path + w.pack
	}
	for len(w.copies) > w.keep {
		w.drop(w.copies[0])
	}
}

// Whatever the size of a file and its encoding, whoever rotates it in whatever way, takes
// copies away, links to it or puts what is no file beside it, and whenever the reader is
// killed: nothing is lost that could be read, nothing is read twice, what is gone is counted
// in bytes, and one log holds up no other.
func TestGauntlet(t *testing.T) {
	base := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		top, err := os.MkdirTemp(base, "")
		require.NoError(t, err)
		defer os.RemoveAll(top)
		dir := filepath.Join(top, "deep", "logs")
		require.NoError(t, os.MkdirAll(dir, 0o755))
		writers := []*writer{newWriter(t, dir, "app"), newWriter(t, dir, "web_")}
		start := rapid.SampledFrom([]string{"now", "oldest", "1h ago"}).Draw(t, "begin")
		for _, w := range writers {
			defer func() {
				if w.opened != nil {
					w.opened.Close()
				}
			}()
			if rapid.Bool().Draw(t, "is there") {
				size := 1<<rapid.IntRange(5, 21).Draw(t, "power") + rapid.IntRange(-3, 3).Draw(t, "more")
				w.add(1+size/rapid.IntRange(40, 5000).Draw(t, "long"), size)
				if rapid.Bool().Draw(t, "copy") && w.habit != "odd name" {
					w.rotate()
					w.add(1, 10)
				}
				if rapid.Bool().Draw(t, "unfinished") {
					w.begin()
				}
			}
		}
		if rapid.Bool().Draw(t, "odd things") {
			require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe.log"), 0o644))
			require.NoError(t, os.Mkdir(filepath.Join(dir, "folder.log"), 0o755))
			require.NoError(t, os.Symlink("nowhere", filepath.Join(dir, "dangling.log")))
			require.NoError(t, os.Symlink("../..", filepath.Join(dir, "loop")))
			require.NoError(t, os.Symlink(".", filepath.Join(dir, "self")))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "empty.log"), nil, 0o644))
		}
		glob := rapid.SampledFrom([]string{filepath.Join(dir, "*.log"), filepath.Join(top, "**", "*.log")}).Draw(t,
			"glob")
		r := newRig(t, glob, start)
		defer func() { r.f.Close() }()
		var before [2]int // lines that were there at first sight
		for i, w := range writers {
			before[i] = len(w.all)
		}
		r.step(time.Second)
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "chance"), 1))
		for range rapid.IntRange(1, 20).Draw(t, "steps") {
			w := writers[chance.IntN(2)]
			what := rapid.IntRange(0, 9).Draw(t, "what")
			r.note(fmt.Sprint(what, " ", w.name))
			switch what {
			case 0, 1:
				w.add(1+chance.IntN(30), chance.IntN(4000))
			case 2:
				w.add(1+chance.IntN(3), 1<<(10+chance.IntN(10)))
			case 3:
				w.begin()
			case 4, 5:
				// what was never seen under its own name is another log
				if w.habit == "odd name" || w.habit == "number before" {
					if slices.ContainsFunc(r.f.Origins(), func(o *Origin) bool { return o.peek() != nil }) {
						r.step(0)
					}
					r.some(0)
				}
				w.rotate()
				if chance.IntN(3) > 0 {
					w.add(1, 20)
				}
			case 6:
				r.restart()
			case 7:
				r.step(time.Duration(chance.IntN(30)) * time.Second)
			case 8:
				r.some(1 + chance.IntN(20))
				if chance.IntN(2) == 0 {
					r.restart()
				}
			case 9:
				r.step(0)
			}
		}
		for _, w := range writers {
			_, err := os.Stat(w.live)
			seen := r.places[filepath.Join(dir, w.name+".log")] != nil && w.habit != "number before"
			if w.half != "" || err != nil && !seen { // copies alone, of what nobody knows, tell nothing
				w.add(1, 10)
			}
		}
		for range 4 {
			r.note("step")
			r.step(time.Second)
		}
		r.step(time.Minute)
		r.step(time.Second)
		for i, w := range writers {
			w.check(r, start, before[i])
		}
	})
}

// note remembers what is done, and how things stood before, for when it fails: chance and
// the numbers of files do not come again.
func (r *rig) note(what string) {
	for _, o := range r.f.Origins() {
		for _, m := range o.place.Members {
			r.trace = append(r.trace, fmt.Sprintf("    %s %s inode %d at %d of %d zip %v limit %d open %v "+
				"vanished %d print %.20q", filepath.Base(o.Series), filepath.Base(m.Path), m.ID.Ino, m.Offset, m.Size,
				m.Zip, m.Limit, m.file != nil, m.vanished, m.Print))
		}
		for _, d := range o.place.Finished {
			r.trace = append(r.trace, fmt.Sprintf("    %s finished inode %d of %d print %.20q",
				filepath.Base(o.Series), d.ID.Ino, d.Size, d.Print))
		}
	}
	r.trace = append(r.trace, fmt.Sprintf("%s, %d lines so far, told %q", what, len(r.sink.lines), r.told))
}

// check holds what was read against what could be.
func (w *writer) check(r *rig, start string, before int) {
	var got []string
	for _, l := range r.sink.lines {
		if strings.Contains(l, " of "+w.name+" ") {
			got = append(got, strings.ReplaceAll(l, "\uFFFD", "é"))
		}
	}
	want := w.all
	if start == "now" {
		want = want[before:]
	}
	gone := map[string]bool{}
	for _, x := range w.lost {
		gone[x.text] = true
	}
	at := 0
	missing := 0
	for _, x := range want {
		if at < len(got) && got[at] == x.text {
			at++
			continue
		}
		require.True(w.t, gone[x.text], "%s, %s, %s: of %d lines %d were read; %.60q is missing and still there; "+
			"%.60q came in its place\n%s", w.name, w.habit, w.pack, len(want), len(got), x.text,
			append(got, "nothing")[at], strings.Join(r.trace, "\n"))
		missing += x.bytes
	}
	require.Equal(w.t, len(got), at, "%s, %s: read and not wanted, or twice, or in another order: %.60q\n%s", w.name,
		w.habit, append(got, "")[at], strings.Join(r.trace, "\n"))
	told := int64(0)
	for _, o := range r.f.Origins() {
		if strings.Contains(filepath.Base(o.Series), w.name) {
			told += o.State(r.now).Gaps
		}
	}
	if w.habit == "cut under" {
		return // what is gone is counted with the holes before it
	}
	require.LessOrEqual(w.t, told, int64(missing), "%s, %s, %s: told as lost: %s\n%s", w.name, w.habit, w.pack,
		r.told, strings.Join(r.trace, "\n"))
}
