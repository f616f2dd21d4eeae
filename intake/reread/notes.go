package reread

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"encoding/gob"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"dimlantern/core/entry"
	"dimlantern/intake"
)

// Notes are the sparse notes of files: which times lie where in them. They stand in a folder, one file
// for each file and layout, and are made when a file is read first, and go on when it has grown. A note
// that cannot be read or written is none: then files are read whole.
type Notes struct {
	dir string // "" keeps them in memory
	mu  sync.Mutex
	mem map[string]*note
}

// NewNotes keeps notes in a folder, which is made when it is needed; "" keeps them in memory.
func NewNotes(dir string) *Notes { return &Notes{dir: dir, mem: map[string]*note{}} }

// stretch is a stretch of a file: whole entries, their least and greatest time, and how reading goes on
// from its begin.
type stretch struct {
	From, To      int64 // bytes of the file
	Least, Most   entry.Instant
	Last, Reached entry.Instant // of the entry before, and of all before
	Host          string        // of the last entry before that fits
	Header        string        // that names the columns
	End           uint64        // a digest of its last bytes; of what is packed 0
	Entries       int64         // that it has; 0 is not known
}

// lastBytes is how many bytes at its end say whether a stretch is what it was.
const lastBytes = 64

func digestEnd(b []byte) uint64 {
	return binary.LittleEndian.Uint64(digest(b[max(len(b)-lastBytes, 0):]))
}

// ends tells whether a file still has what the stretch ended with.
func (s *stretch) ends(f *os.File) bool {
	b := make([]byte, min(lastBytes, s.To-s.From))
	n, err := f.ReadAt(b, s.To-int64(len(b)))
	return n == len(b) && (err == nil || err == io.EOF) && digestEnd(b) == s.End
}

// note is what is known of a file. A stretch that is missing is not known yet. What the file says is not
// in it: it may have to be masked.
type note struct {
	Begin  []byte    // a digest of the file's first bytes,
	Length int       // of so many
	List   []stretch // in order; they do not overlap

	mu      sync.Mutex
	changed bool
	name    string
}

// of is the note of a file, by what it is and begins with, and how its times are read.
func (n *Notes) of(m intake.Member, f *os.File, print []byte, layout string) *note {
	sum := sha256.Sum256([]byte(fmt.Sprintf("%d %d %s", m.ID.Dev, m.ID.Ino, layout)))
	name := hex.EncodeToString(sum[:12])
	n.mu.Lock()
	defer n.mu.Unlock()
	out := n.mem[name]
	if out == nil {
		out = &note{}
		if n.dir != "" {
			if b, err := os.ReadFile(n.path(name)); err == nil &&
				gob.NewDecoder(bytes.NewReader(b)).Decode(out) != nil {
				out = &note{}
			}
		}
		if len(n.mem) > 5_000 {
			n.mem = map[string]*note{}
		}
		n.mem[name] = out
	}
	out.mu.Lock()
	defer out.mu.Unlock()
	out.name = name
	begins := len(print) >= out.Length && bytes.Equal(digest(print[:out.Length]), out.Begin)
	same := begins
	if n := len(out.List); begins && n > 0 {
		last := &out.List[n-1]
		same = m.Packed && last.To == m.Size || !m.Packed && last.To <= m.Size && last.ends(f)
	}
	if !same { // it is another one, or it was begun anew
		out.List = nil
	}
	out.Begin, out.Length = digest(print), len(print)
	return out
}

func digest(b []byte) []byte {
	sum := sha256.Sum256(b)
	return sum[:]
}

func (n *Notes) path(name string) string { return filepath.Join(n.dir, name[:2], name+".note") }

// save writes a note that has changed.
func (n *Notes) save(x *note) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if !x.changed || n.dir == "" {
		return
	}
	x.changed = false
	var b bytes.Buffer
	if gob.NewEncoder(&b).Encode(x) != nil {
		return
	}
	path := n.path(x.name)
	if os.MkdirAll(filepath.Dir(path), 0o700) != nil {
		return // without it the file is read whole once more
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".note-*")
	if err != nil {
		return
	}
	_, err = f.Write(b.Bytes())
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
	}
}

// learn adds a stretch, in the place of those that it covers.
func (x *note) learn(s stretch) {
	if s.To <= s.From {
		return
	}
	s.Host, s.Header = strings.Clone(s.Host), strings.Clone(s.Header)
	x.mu.Lock()
	defer x.mu.Unlock()
	i, _ := slices.BinarySearchFunc(
		x.List,
		s.From,
		func(a stretch, from int64) int { return cmp.Compare(a.From, from) },
	)
	for i > 0 && x.List[i-1].To > s.From {
		i--
	}
	j := i
	for j < len(x.List) && x.List[j].From < s.To {
		j++
	}
	if j == i+1 && x.List[i] == s {
		return
	}
	x.List, x.changed = slices.Replace(x.List, i, j, s), true
}

// known are the stretches that are known, and those that are not, up to a size.
func (x *note) known(size int64) []stretch {
	x.mu.Lock()
	defer x.mu.Unlock()
	return slices.Clone(x.List)
}
