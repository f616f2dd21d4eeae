// Package spool keeps entries that exist nowhere else, before they are judged: what came by
// syslog, channels and pipes. Each origin has a folder with segments of plain text, one entry
// a line as core/match writes it; full ones are compressed, old ones go by a source's
// retention or when there are too many. What an entry means is never decided here.
package spool

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"

	"dimlantern/core/entry"
	"dimlantern/core/match"
)

// Spool keeps entries that exist nowhere else: one folder an origin, in it segments
// of plain text, one entry a line, of at most an hour; those that are full are
// compressed, so that zstdcat reads them. It may be used by several goroutines at
// once.
type Spool struct {
	dir  string
	mu   sync.Mutex
	open map[string]*segment // by the origin's folder
	// sealed are segments that are being compressed or taken away: nothing is written to
	// them any more.
	sealed map[string]bool
	most   int64              // the size of a segment at most, in bytes
	list   map[string]Segment // by path, as the index has them
	// failed is why entries cannot be written now; nil where they can.
	failed error
}

// segment is a segment that is being written.
type segment struct {
	file    *os.File
	path    string
	began   time.Time
	size    int64
	written time.Time
}

// Origin is an origin whose entries are kept.
type Origin struct {
	Source string
	Host   string
	Way    string // as its writer is reached: a peer's address, a channel's name
}

// Entry is an entry to keep.
type Entry struct {
	Arrived entry.Instant
	Peer    string
	Text    []byte
}

// The bounds of a segment.
const (
	segmentTime = time.Hour
	segmentSize = 64 << 20
	// mostOpen is how many segments are open for writing at once.
	mostOpen = 64
)

// Base is how the segments of an origin are called, but for their time.
const Base = "entries"

// segmentStamp is the time in a segment's name, in UTC. It is that at which it began, so
// that none is called by a time that is still to come.
const segmentStamp = "2006-01-02T150405.000000"

// Open opens the kept entries of a data folder.
func Open(data string) *Spool {
	return &Spool{dir: filepath.Join(data, "kept"), open: map[string]*segment{}, sealed: map[string]bool{},
		most: segmentSize}
}

// Globs are what fits the segments of a source; none fits one that is being compressed.
func (k *Spool) Globs(source string) []string {
	base := filepath.Join(k.dir, source, "*", Base+"-*.log")
	return []string{base, base + ".zst"}
}

// Dir is the folder in which everything is kept.
func (k *Spool) Dir() string { return k.dir }

// Folder is the folder of an origin's segments.
func (k *Spool) Folder(o Origin) string {
	return filepath.Join(k.dir, o.Source, match.KeptFolder(o.Host, o.Way))
}

// OriginOf is the origin whose folder that is, or in whose folder that path lies;
// false where it is none.
func (k *Spool) OriginOf(path string) (Origin, bool) {
	rel, err := filepath.Rel(k.dir, path)
	if err != nil || strings.HasPrefix(rel, "..") {
		return Origin{}, false
	}
	parts := strings.Split(rel, string(filepath.Separator))
	if len(parts) < 2 {
		return Origin{}, false
	}
	host, way, ok := match.KeptIn(parts[0] + "/" + parts[1] + "/")
	return Origin{parts[0], host, way}, ok
}

// Write keeps entries of an origin, and returns the segment that they are in. They
// are there as a whole, or, with an error, not at all.
func (k *Spool) Write(o Origin, entries []Entry, now time.Time) (string, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	dir := k.Folder(o)
	s, err := k.segment(dir, now)
	if err == nil {
		err = s.write(entries, now)
	}
	if err != nil {
		k.failed = fmt.Errorf("entries cannot be kept in %s: %w", dir, unwrapped(err))
		return "", k.failed
	}
	k.failed = nil
	return s.path, nil
}

// Failed is why entries could not be kept when that was last tried; nil where they
// could.
func (k *Spool) Failed() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.failed
}

// unwrapped leaves the path out, which is said already.
func unwrapped(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

func (s *segment) write(entries []Entry, now time.Time) error {
	var b []byte
	for _, e := range entries {
		b = append(match.AppendKept(b, e.Arrived, e.Peer, e.Text), '\n')
	}
	n, err := s.file.Write(b)
	if err != nil {
		// What was written of it is taken back, so that no half entry stays.
		return errors.Join(err, s.file.Truncate(s.size))
	}
	s.size += int64(n)
	s.written = now
	return nil
}

// segment is the one that entries of an origin go to.
func (k *Spool) segment(dir string, now time.Time) (*segment, error) {
	s := k.open[dir]
	if s != nil && s.size > 0 && (now.Sub(s.began) >= segmentTime || now.UTC().Truncate(segmentTime).After(s.began) ||
		s.size >= k.most) {
		s.file.Close()
		delete(k.open, dir)
		s = nil
	}
	if s != nil {
		return s, nil
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	s = &segment{began: now.UTC().Truncate(time.Second)}
	if last, began, ok := newest(dir); ok {
		if !strings.HasSuffix(last, ".zst") && !k.sealed[last] &&
			began.Truncate(segmentTime).Equal(s.began.Truncate(segmentTime)) && !began.After(s.began) {
			if err := s.goOn(last, began); err == nil && s.size < k.most {
				k.open[dir] = s
				return s, nil
			}
			if s.file != nil {
				s.file.Close()
			}
			s.file, s.size = nil, 0
		}
		if !s.began.After(began) { // each has a time of its own
			if s.began = now.UTC().Truncate(time.Microsecond); !s.began.After(began) {
				s.began = began.Add(time.Microsecond) // the clock was set back
			}
		}
	}
	s.path = filepath.Join(dir, Base+"-"+s.began.Format(segmentStamp)+".log")
	k.closeOldest()
	var err error
	if s.file, err = os.OpenFile(s.path, os.O_WRONLY|os.O_CREATE|os.O_EXCL|os.O_APPEND, 0o600); err != nil {
		return nil, err
	}
	k.open[dir] = s
	return s, nil
}

// goOn opens a segment that was begun before, and takes away what a crash left of an
// entry at its end.
func (s *segment) goOn(path string, began time.Time) error {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	s.file, s.path, s.began = f, path, began
	whole, err := wholeSize(f)
	if err != nil {
		return err
	}
	s.size = whole
	return f.Truncate(whole)
}

// wholeSize is the size of a file up to its last line end.
func wholeSize(f *os.File) (int64, error) {
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	buf := make([]byte, 64<<10)
	for end := info.Size(); end > 0; {
		from := max(0, end-int64(len(buf)))
		n, err := f.ReadAt(buf[:end-from], from)
		if err != nil && err != io.EOF {
			return 0, err
		}
		if i := bytes.LastIndexByte(buf[:n], '\n'); i >= 0 {
			return from + int64(i) + 1, nil
		}
		end = from
	}
	return 0, nil
}

// Segments lists the segments of an origin's folder, oldest first.
func Segments(dir string) []string {
	list, _ := filepath.Glob(filepath.Join(globless(dir), Base+"-*.log*"))
	list = slices.DeleteFunc(list, func(p string) bool { return strings.HasSuffix(p, ".part") })
	slices.SortFunc(list, func(a, b string) int {
		x, _ := beganOf(a)
		y, _ := beganOf(b)
		return cmp.Or(x.Compare(y), strings.Compare(a, b))
	})
	return list
}

func globless(p string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(p)
}

// beganOf is the time in a segment's name.
func beganOf(path string) (time.Time, bool) {
	name, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(path), Base+"-"), ".log")
	t, err := time.Parse("2006-01-02T150405", name) // parts of a second may follow
	return t, err == nil
}

func newest(dir string) (string, time.Time, bool) {
	list := Segments(dir)
	for i := len(list) - 1; i >= 0; i-- {
		if t, ok := beganOf(list[i]); ok {
			return list[i], t, true
		}
	}
	return "", time.Time{}, false
}

// Last is the newest entry that is kept of an origin; false where none is.
func (k *Spool) Last(o Origin) (Entry, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	list := Segments(k.Folder(o))
	for i := len(list) - 1; i >= 0; i-- {
		if line := lastLine(list[i]); len(line) > 0 {
			if at, peer, text, ok := match.CutKept(line); ok {
				return Entry{at, string(peer), match.Unkept(text)}, true
			}
		}
	}
	return Entry{}, false
}

// lastLine is the last whole line of a segment.
func lastLine(path string) []byte {
	f, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	if strings.HasSuffix(path, ".zst") {
		z, err := zstd.NewReader(f, zstd.WithDecoderConcurrency(1))
		if err != nil {
			return nil
		}
		defer z.Close()
		b, _ := io.ReadAll(io.LimitReader(z, 2*segmentSize))
		return tailLine(b)
	}
	whole, err := wholeSize(f)
	if err != nil {
		return nil
	}
	b := make([]byte, min(whole, match.MaxLine+(64<<10)))
	if _, err := f.ReadAt(b, whole-int64(len(b))); err != nil && err != io.EOF {
		return nil
	}
	return tailLine(b)
}

func tailLine(b []byte) []byte {
	end := bytes.LastIndexByte(b, '\n')
	if end < 0 {
		return nil
	}
	return b[bytes.LastIndexByte(b[:end], '\n')+1 : end]
}

// Retention says how long the entries of a source are kept.
type Retention struct {
	For time.Duration // 0 is DefaultKeep
	// Read keeps them only until they have been judged.
	Read bool
}

// What is kept where nothing else is said.
const (
	DefaultKeep = 7 * 24 * time.Hour
)

// settledAfter is how long after its last entry a segment is compressed.
const settledAfter = 2 * time.Minute

// Tidy compresses segments that are full, and lets go of those that are older than
// their source keeps them, and of the oldest ones of all beyond a capacity in bytes.
// It returns how many bytes went because of the capacity.
// A segment that holds tells of has not been judged to its end, and stays.
func (k *Spool) Tidy(keep map[string]Retention, capacity int64, holds func(path string) bool,
	now time.Time) (over int64, err error) {
	k.mu.Lock()
	k.most = min(max(capacity/32, 64<<10), segmentSize) // so that what is being written is no great part of all
	k.mu.Unlock()
	k.closeIdle(now)
	type piece struct {
		path  string
		began time.Time
		size  int64
		mod   time.Time
	}
	var all []piece
	total := int64(0)
	err = filepath.WalkDir(k.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return nil
		}
		if strings.HasSuffix(path, ".part") {
			if now.Sub(info.ModTime()) > time.Hour {
				os.Remove(path)
			}
			return nil
		}
		if began, ok := beganOf(path); ok {
			all = append(all, piece{path, began, info.Size(), info.ModTime()})
			total += info.Size()
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	sort.Slice(all, func(i, j int) bool { return all[i].began.Before(all[j].began) })
	if total > capacity {
		k.CloseAll() // what is being written may be what has to go
	}
	for _, p := range all {
		o, _ := k.OriginOf(p.path)
		r := keep[o.Source]
		if r.For == 0 {
			r.For = DefaultKeep
		}
		if r.Read {
			r.For = settledAfter
		}
		active := holds(p.path) || !k.seal(p.path)
		switch {
		case !active && now.Sub(p.mod) > r.For:
			if os.Remove(p.path) == nil {
				total -= p.size
			}
		case total > capacity && !active:
			if os.Remove(p.path) == nil {
				total -= p.size
				over += p.size
			}
		case !active && !strings.HasSuffix(p.path, ".zst") && now.Sub(p.mod) > settledAfter:
			if size, e := compress(p.path); e == nil {
				total += size - p.size
			} else {
				err = e
			}
		}
		k.unseal(p.path)
	}
	return over, err
}

// seal lets nothing be written to a segment any more; it answers false where something
// is being written to it.
func (k *Spool) seal(path string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	if s := k.open[filepath.Dir(path)]; s != nil && s.path == path {
		return false
	}
	k.sealed[path] = true
	return true
}

func (k *Spool) unseal(path string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.sealed, path)
}

// CloseAll lets the next entry of each origin begin a segment of its own.
func (k *Spool) CloseAll() {
	k.mu.Lock()
	defer k.mu.Unlock()
	for dir, s := range k.open {
		s.file.Close()
		delete(k.open, dir)
	}
}

// closeIdle closes segments that are full, or have been idle for a while.
func (k *Spool) closeIdle(now time.Time) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for dir, s := range k.open {
		if now.Sub(s.began) >= segmentTime || now.UTC().Truncate(segmentTime).After(s.began) ||
			now.Sub(s.written) > settledAfter {
			s.file.Close()
			delete(k.open, dir)
		}
	}
}

// closeOldest closes the segment that was longest not written to, where as many are open
// as may be.
func (k *Spool) closeOldest() {
	if len(k.open) < mostOpen {
		return
	}
	oldest := ""
	for dir, s := range k.open {
		if oldest == "" || s.written.Before(k.open[oldest].written) {
			oldest = dir
		}
	}
	k.open[oldest].file.Close()
	delete(k.open, oldest)
}

// compress puts a compressed segment in the place of a plain one.
func compress(path string) (int64, error) {
	in, err := os.Open(path)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	part := path + ".zst.part"
	out, err := os.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return 0, err
	}
	z, err := zstd.NewWriter(out, zstd.WithEncoderConcurrency(1))
	if err == nil {
		_, err = io.Copy(z, in)
		err = errors.Join(err, z.Close())
	}
	size := int64(0)
	if info, e := out.Stat(); e == nil {
		size = info.Size()
	}
	info, e := in.Stat()
	err = errors.Join(err, e, out.Sync(), out.Close())
	if err == nil {
		err = os.Chtimes(part, info.ModTime(), info.ModTime())
	}
	if err == nil {
		err = os.Rename(part, path+".zst")
	}
	if err != nil {
		os.Remove(part)
		return 0, err
	}
	return size, os.Remove(path)
}

// Position is up to where a stream has been read.
type Position struct {
	Position string        `json:"position"`
	Arrived  entry.Instant `json:"arrived"` // of the last entry that was kept with it
}

// Positions are up to where the streams of a source have been read, and all that is
// before that kept.
type Positions struct {
	Streams map[string]Position `json:"streams"`
	// Skip are, by the folder of an origin, entries that are kept though their place
	// comes once more, as a crash left them.
	Skip map[string]string `json:"skip,omitempty"`
}

// SetPositions remembers positions.
func (k *Spool) SetPositions(source string, p Positions) error {
	b, err := json.Marshal(p)
	if err != nil {
		return err
	}
	path := k.positionsPath(source)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(path+".part", b, 0o600); err != nil {
		return err
	}
	return os.Rename(path+".part", path)
}

// Positions are those that SetPositions was given last.
func (k *Spool) Positions(source string) Positions {
	var p Positions
	if b, err := os.ReadFile(k.positionsPath(source)); err == nil {
		json.Unmarshal(b, &p) // a damaged file is as good as none: the way begins anew
	}
	if p.Streams == nil {
		p.Streams = map[string]Position{}
	}
	return p
}

func (k *Spool) positionsPath(source string) string {
	return filepath.Join(k.dir, source, positionsFile)
}

// Own tells whether a path is of a file that the spool keeps for itself beside what it keeps.
func (k *Spool) Own(path string) bool {
	dir, name := filepath.Split(strings.TrimSuffix(path, ".part"))
	return name == positionsFile && filepath.Dir(filepath.Clean(dir)) == filepath.Clean(k.dir)
}

// positionsFile is where the positions of a source stand.
const positionsFile = "positions.json"

// Rename lets origins whose way begins with some words be those of another host.
func (k *Spool) Rename(way, to string) error {
	k.CloseAll()
	dirs, err := os.ReadDir(k.dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, d := range dirs {
		for _, o := range k.Origins(d.Name()) {
			if n := (Origin{o.Source, to, o.Way}); strings.HasPrefix(o.Way, way) && n != o {
				err = errors.Join(err, os.Rename(k.Folder(o), k.Folder(n)))
			}
		}
	}
	return err
}

// Origins are the origins of a source of which something is kept.
func (k *Spool) Origins(source string) []Origin {
	list, _ := os.ReadDir(filepath.Join(k.dir, source))
	var out []Origin
	for _, e := range list {
		if host, way, ok := match.KeptIn(e.Name() + "/"); ok && e.IsDir() {
			out = append(out, Origin{source, host, way})
		}
	}
	return out
}

// Close closes all segments.
func (k *Spool) Close() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	var err error
	for dir, s := range k.open {
		err = errors.Join(err, s.file.Close())
		delete(k.open, dir)
	}
	return err
}
