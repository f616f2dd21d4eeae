// Package intake is the ways in: it follows files as they grow and rotate. The
// paths of a source and where reading stopped come in; slabs of whole lines with
// their places go out, through the matcher, as judged entries. What an entry
// means is never decided here.
package intake

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

// Identity is what a file is on this machine, whatever it is called.
type Identity struct {
	Dev uint64 `json:"dev"`
	Ino uint64 `json:"ino"`
}

// between is called between two looks at the file system, where anything may happen
// to the files. Tests let it.
var between = func() {}

// printSize is how many of a file's first bytes tell it from another one.
const printSize = 256

// found is a file as a look at its folder shows it.
type found struct {
	path string
	named
	id   Identity
	size int64
	mod  int64 // nanoseconds
}

func statOf(path string, info fs.FileInfo) found {
	return found{path: path, size: info.Size(), mod: info.ModTime().UnixNano(), id: identity(path, info)}
}

// member is one file of a series that is being read, or still has to be.
type member struct {
	ID     Identity `json:"id"`
	Print  []byte   `json:"print"` // its first bytes, as far as they were there
	Path   string   `json:"path"`
	Offset int64    `json:"offset"`          // up to here its entries have been judged
	Start  int64    `json:"start,omitempty"` // what lies before was there at first sight, and was not read
	Cut    bool     `json:"cut,omitempty"`
	Limit  int64    `json:"limit,omitempty"` // of a copy: read no further
	Zip    bool     `json:"zip,omitempty"`   // it is compressed; places are those before
	Size   int64    `json:"size,omitempty"`  // as far as it had been written when it was last looked at
	// when it had last been written to, as far as that was seen; nanoseconds
	Wrote   int64 `json:"wrote,omitempty"`
	Retired bool  `json:"-"`

	file        *os.File
	zip         *packed
	read        int64    // up to here it has been read; never before Offset
	mod, looked int64    // when it had changed, and its size, when it was last looked into
	cut         bool     // the line being read is over the limit, and its rest is passed over
	packedAs    Identity // of the compressed copy of it that was seen
	from        int64    // where it begins: behind a hole perhaps
	lost        int64    // bytes that went with it unread, noted when it is let go of
	lostWhy     string
	vanished    int   // in so many looks in a row nothing was found of it
	missing     int64 // since when it cannot be found, in nanoseconds; 0 where it can
	idle        int64 // since when nothing has come, in nanoseconds; 0 is not at all
}

// finished is a member that was read to its end, and is remembered so that it is
// not read again.
type finished struct {
	ID    Identity `json:"id"`
	Print []byte   `json:"print"`
	Size  int64    `json:"size"`
	Start int64    `json:"start,omitempty"` // as that of a member
	mod   int64    // when the file had changed that was found to be it
}

// open opens the member's file, and makes sure that it is the one that is meant.
func (m *member) open() error {
	if m.file != nil {
		return nil
	}
	between()
	f, err := os.OpenFile(m.Path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = errNotAFile
	}
	if err == nil && statOf(m.Path, info).id != m.ID {
		err = errOther
	}
	if err != nil {
		f.Close()
		return err
	}
	if m.file = f; m.Size == 0 { // else it may be another by now, and how long it was is known
		m.Size = info.Size()
	}
	return nil
}

var (
	errNotAFile = errors.New("it is not a file with bytes in it")
	errOther    = errors.New("another file stands there now")
)

func (m *member) close() {
	if m.zip != nil {
		m.zip.Close()
		m.zip = nil
	}
	if m.file != nil {
		m.file.Close()
		m.file = nil
	}
}

// changed is when the member's file had last changed, in nanoseconds; 0 where
// that cannot be known.
func (m *member) changed() int64 {
	f := m.file
	if m.zip != nil {
		f = m.zip.file
	}
	if f == nil {
		return 0
	}
	info, err := f.Stat()
	if err != nil {
		return 0
	}
	return info.ModTime().UnixNano()
}

// same tells whether the file still begins with the bytes that it began with,
// and learns more of them while it is short. A file that was cut short, or
// written anew, is not the same.
func (m *member) same() (bool, error) {
	var buf [printSize]byte
	n, err := m.file.ReadAt(buf[:], m.from)
	if err != nil && n == 0 && len(m.Print) == 0 {
		return true, nil
	}
	first := written(buf[:n])
	if len(first) == 0 && n == printSize { // it begins with a hole, which may have grown
		from := dataFrom(m.file, m.from)
		n, _ = m.file.ReadAt(buf[:], from)
		if first = written(buf[:n]); len(first) > 0 {
			m.from = from
		}
	}
	if len(first) < len(m.Print) || !bytes.Equal(first[:len(m.Print)], m.Print) {
		return false, nil
	}
	if len(first) > len(m.Print) {
		m.Print = append([]byte(nil), first...)
	}
	return true, nil
}

// print reads the first bytes of the file that was found. It answers false where
// another file stands under that name by now: a rotation is going on.
func (f found) print() ([]byte, bool) {
	between()
	if f.zip {
		return f.printPacked()
	}
	file, err := os.OpenFile(f.path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, !errors.Is(err, fs.ErrNotExist)
	}
	defer file.Close()
	if info, err := file.Stat(); err != nil || statOf(f.path, info).id != f.id {
		return nil, false
	}
	return firstBytes(file), true
}

// printOf reads the first bytes of a file, whichever it is.
func printOf(path string) []byte {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil
	}
	defer f.Close()
	return firstBytes(f)
}

// firstBytes are the first bytes of a file that somebody wrote: behind a hole, where it
// begins with one.
func firstBytes(f *os.File) []byte {
	var buf [printSize]byte
	n, _ := f.ReadAt(buf[:], 0)
	if first := written(buf[:n]); len(first) > 0 || n < printSize {
		return append([]byte(nil), first...)
	}
	n, _ = f.ReadAt(buf[:], dataFrom(f, 0))
	return append([]byte(nil), written(buf[:n])...)
}

// mostHole is how many NULs are read to find what is behind them, where the file system
// does not know it.
const mostHole = 64 << 20

// dataFrom is where something is written in a file at or behind a place; as far as was
// looked, where only NULs are.
func dataFrom(f *os.File, place int64) int64 {
	buf := make([]byte, blockSize)
	for looked := int64(0); looked < mostHole; {
		place = behindHole(f, place)
		n, err := f.ReadAt(buf, place)
		if rest := len(bytes.TrimLeft(buf[:n], "\x00")); rest > 0 {
			return place + int64(n-rest)
		}
		place, looked = place+int64(n), looked+int64(n)
		if err != nil || n == 0 {
			break
		}
	}
	return place
}

// written leaves the room out that was made for a file before it is written to.
func written(b []byte) []byte { return bytes.TrimRight(b, "\x00") }

// begins tells whether a file with the first bytes p may be the one that began with
// print, and went on.
func begins(p, print []byte) bool { return len(p) >= len(print) && alike(p, print) }

// alike tells whether one of two prints begins with the other, and neither is
// empty.
func alike(a, b []byte) bool {
	n := min(len(a), len(b))
	return n > 0 && bytes.Equal(a[:n], b[:n])
}

// denied says in words which right is missing for whom, and what mends it.
func denied(path string, err error) (words, mend string) {
	me := "this user"
	uid := os.Geteuid()
	if u, e := user.LookupId(strconv.Itoa(uid)); e == nil {
		me = u.Username
	}
	if !errors.Is(err, fs.ErrPermission) {
		return fmt.Sprintf("%s cannot be read: %v", path, unwrap(err)), ""
	}
	for dir := filepath.Dir(path); ; dir = filepath.Dir(dir) {
		if _, err := os.Stat(dir); err == nil {
			if _, err := os.Stat(path); err != nil {
				below := dir
				return fmt.Sprintf("the folder %s may not be entered by %s", below, me), mendRight(me, "x", below)
			}
			break
		}
		if dir == "/" || dir == "." {
			break
		}
	}
	info, e := os.Stat(path)
	if e != nil {
		return fmt.Sprintf("%s may not be read by %s", path, me), ""
	}
	owner := "somebody else"
	if uid, _, ok := ownersOf(info); ok {
		owner = uid
		if u, e := user.LookupId(owner); e == nil {
			owner = u.Username
		}
	}
	return fmt.Sprintf("its owner is %s, and %s may not read it (%s)", owner, me,
			strings.TrimPrefix(info.Mode().Perm().String(), "-")),
		mendRight(me, "r", path)
}

// mendRight is a command that gives a user a right on a file or a folder: by the
// group that has it already, else for this user alone.
func mendRight(me, right, path string) string {
	bit := map[string]fs.FileMode{"r": 0o040, "x": 0o010}[right]
	if info, err := os.Stat(path); err == nil && info.Mode().Perm()&bit != 0 {
		if _, gid, ok := ownersOf(info); ok && gid != "0" {
			if g, err := user.LookupGroupId(gid); err == nil {
				return fmt.Sprintf("usermod -aG %s %s    (and start anew)", g.Name, me)
			}
		}
	}
	words := fmt.Sprintf("setfacl -m u:%s:%s %s", me, right, path)
	if _, err := exec.LookPath("setfacl"); err != nil {
		words += "    (setfacl is in the package acl)"
	}
	return words
}

func unwrap(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// Denied says in words why a path cannot be read, with a command that mends it, or "".
func Denied(path string, err error) (words, mend string) { return denied(path, err) }

// Unreadable says why a file cannot be read, with a command that mends it; "" where it can be. It reads nothing.
func Unreadable(path string) (words, mend string) {
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() {
		return "", ""
	}
	f, err := os.Open(path)
	if err != nil {
		return denied(path, err)
	}
	f.Close()
	return "", ""
}
