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
	"regexp"
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
	age  int // 0 is the newest member of its series; see seriesOf
	date string
	zip  bool // it is compressed
	id   Identity
	size int64
	mod  int64 // nanoseconds
}

func statOf(path string, info fs.FileInfo) found {
	return found{path: path, size: info.Size(), mod: info.ModTime().UnixNano(), id: identity(path, info)}
}

var (
	rotated = regexp.MustCompile(`^(.+?)(?:\.(\d{1,5}))?(\.gz|\.zst)?$`)
	dated   = regexp.MustCompile(`[-_.]?((?:19|20)\d\d-(?:0[1-9]|1[0-2])-(?:0[1-9]|[12]\d|3[01])|(?:19|20)\d\d(?:0[1-9]|1[0-2])(?:0[1-9]|[12]\d|3[01]))([-_.T]?\d{2,6})?`)
)

// seriesOf gives the name of the series that a path belongs to: the number that a
// rotation put behind it, and a date in its name, taken away. The greater the
// number, or the earlier the date, the older is the member.
func seriesOf(path string) (series string, age int, date string, compressed bool) {
	dir, name := filepath.Split(path)
	m := rotated.FindStringSubmatch(name)
	if m == nil {
		return path, 0, "", false
	}
	base := m[1]
	age, _ = strconv.Atoi(m[2])
	// Of several the last one: a name may begin with a year that is part of it.
	if all := dated.FindAllStringSubmatchIndex(base, -1); all != nil {
		x := all[len(all)-1]
		before, after := base[:x[0]], base[x[1]:]
		if before+after != "" && (after == "" || !isDigit(after[0])) && (x[2] == 0 || !isDigit(base[x[2]-1])) {
			date = strings.ReplaceAll(base[x[2]:x[3]], "-", "")
			if x[4] >= 0 {
				date += strings.TrimLeft(base[x[4]:x[5]], "-_.T")
			}
			base = before + after
		}
	}
	return dir + base, age, date, m[3] != ""
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// member is one file of a series that is being read, or still has to be.
type member struct {
	ID      Identity `json:"id"`
	Print   []byte   `json:"print"` // its first bytes, as far as they were there
	Path    string   `json:"path"`
	Offset  int64    `json:"offset"` // up to here its entries have been judged
	Cut     bool     `json:"cut,omitempty"`
	Limit   int64    `json:"limit,omitempty"` // of a copy: read no further
	Zip     bool     `json:"zip,omitempty"`   // it is compressed; places are those before
	Retired bool     `json:"-"`

	file        *os.File
	zip         *packed
	read        int64 // up to here it has been read; never before Offset
	size        int64
	mod, looked int64    // when it had changed, and its size, when it was last looked into
	cut         bool     // the line being read is over the limit, and its rest is passed over
	packedAs    Identity // of the compressed copy of it that was seen
	missing     int64    // since when it cannot be found, in nanoseconds; 0 where it can
	idle        int64    // since when nothing has come, in nanoseconds; 0 is not at all
}

// finished is a member that was read to its end, and is remembered so that it is
// not read again.
type finished struct {
	ID    Identity `json:"id"`
	Print []byte   `json:"print"`
	Size  int64    `json:"size"`
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
	m.file, m.size = f, info.Size()
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
	n, err := m.file.ReadAt(buf[:], 0)
	if err != nil && n == 0 && len(m.Print) == 0 {
		return true, nil
	}
	first := written(buf[:n])
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

func firstBytes(f *os.File) []byte {
	var buf [printSize]byte
	n, _ := f.ReadAt(buf[:], 0)
	return append([]byte(nil), written(buf[:n])...)
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

// Condition is how an origin, or a source without any, can be seen.
type Condition string

// The conditions of an origin.
const (
	Seen       Condition = "seen"
	Catching   Condition = "catching up"
	Waiting    Condition = "waiting"
	Gone       Condition = "gone"
	Unreadable Condition = "not readable"
	Folder     Condition = "a folder"
	NoFile     Condition = "no file"
	Unreached  Condition = "not reached"
	Late       Condition = "late"
	Bursts     Condition = "writes in bursts"
	NoFit      Condition = "no longer fits"
	WrongClock Condition = "wrong clock"
)

// Blind tells whether an origin in that condition cannot be seen.
func (c Condition) Blind() bool {
	return c == Gone || c == Unreadable || c == Folder || c == NoFile || c == Unreached
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
	return fmt.Sprintf("its owner is %s, and %s may not read it (%s)", owner, me, strings.TrimPrefix(info.Mode().Perm().String(), "-")),
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
