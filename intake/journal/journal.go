// Package journal reads the system's journal, through the program journalctl and the
// journal's documented export format. Entries come out as objects of JSON, with the
// journal's cursor as their position.
package journal

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"dimlantern/core/origin"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/intake/feed"
)

// Way is how the journal is called as a way in.
const Way = "journal"

// Feed follows a journal. Its methods may be called concurrently.
type Feed struct {
	*feed.Queue
	feed.News
	folder string // "" is this machine's
	begin  lang.Begin

	mu       sync.Mutex
	position string          // the cursor up to which it was read
	known    map[string]bool // the journal's files that were looked into
	again    bool            // a file has come: it is to be read anew
	state    origin.Way
	started  time.Time // when the program was started
	last     time.Time // when an entry came
	old      bool      // it was written a while before it came
}

// New returns a feed that goes on behind the positions of its streams, or, without them,
// begins as the source says. A folder holds the journal's files; "" is this machine's
// journal.
func New(folder string, begin lang.Begin, positions map[string]string) *Feed {
	f := &Feed{Queue: feed.NewQueue(), folder: folder, begin: begin, position: positions[Way],
		known: map[string]bool{}, state: origin.Way{Since: time.Now()}}
	for stream := range positions {
		if path, ok := strings.CutPrefix(stream, fileStream); ok {
			f.known[path] = true
		}
	}
	f.state.Senders = []origin.Sender{{Name: Way}}
	return f
}

// State is part of feed.Feed.
func (f *Feed) State() origin.Way {
	f.mu.Lock()
	defer f.mu.Unlock()
	s := f.state
	s.Senders = append([]origin.Sender(nil), s.Senders...)
	now := time.Now()
	s.Behind = s.Words == "" && (f.started.IsZero() || f.last.Before(f.started) && now.Sub(f.started) < time.Second ||
		f.old && now.Sub(f.last) < 300*time.Millisecond) || f.Len() > 0
	return s
}

// Run is part of feed.Feed: it follows the journal, and begins again where the
// program that reads it ends.
func (f *Feed) Run(ctx context.Context) {
	for ctx.Err() == nil {
		words, mend := f.readable()
		if words == "" {
			words, mend = f.follow(ctx)
		}
		if ctx.Err() != nil {
			return
		}
		f.mu.Lock()
		again := f.again
		f.again = false
		f.mu.Unlock()
		if again {
			continue
		}
		f.fail(words, mend)
		select {
		case <-ctx.Done():
		case <-time.After(3 * time.Second):
		}
	}
}

func (f *Feed) fail(words, mend string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.state.Words == "" {
		f.state.Since = time.Now()
	}
	f.state.Words, f.state.Mend = words, mend
}

// readable looks whether the journal is there, and may be read.
func (f *Feed) readable() (words, mend string) {
	if _, err := exec.LookPath("journalctl"); err != nil {
		return "the program journalctl, which reads the journal, is not here", "apt-get install systemd"
	}
	files := f.files()
	denied, may, me := "", false, userName()
	for _, path := range files {
		if x, err := os.Open(path); err == nil {
			x.Close()
			may = true
		} else if errors.Is(err, os.ErrPermission) {
			denied = path
		}
	}
	mend = "usermod -aG systemd-journal " + me + "    (and start anew)"
	switch {
	case len(files) == 0 && f.folder != "":
		if _, err := os.ReadDir(f.folder); err != nil {
			return fmt.Sprintf("the folder %s cannot be read: %v", f.folder, errors.Unwrap(err)), ""
		}
		return "no journal lies in " + f.folder, "name the folder that holds its *.journal files"
	case len(files) == 0:
		if _, err := os.ReadDir("/var/log/journal"); errors.Is(err, os.ErrPermission) {
			return "the journal may not be read by " + me, mend
		}
		return "this machine has no journal: neither /var/log/journal nor /run/log/journal holds one",
			"systemctl status systemd-journald says whether it runs"
	}
	if denied != "" && !may {
		return fmt.Sprintf("%s may not read the journal: %s", me, denied), mend
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.state.Note = ""
	if denied != "" {
		f.state.Note = fmt.Sprintf("%s may not read %s, so some entries are not seen; to mend it: %s", me, denied,
			mend)
	}
	f.state.Senders[0].Note = f.state.Note
	return "", ""
}

func userName() string {
	if u, err := user.LookupId(strconv.Itoa(os.Geteuid())); err == nil {
		return u.Username
	}
	return "this user"
}

// command is journalctl with these arguments, on this journal.
func (f *Feed) command(ctx context.Context, args ...string) *exec.Cmd {
	all := []string{"--merge"} // else nothing but the newest boot is followed
	if f.folder != "" {
		all = append(all, "--directory="+f.folder)
	}
	return f.program(ctx, append(all, args...)...)
}

// program is journalctl, writing the export format. It ends with ctx, and with us.
func (f *Feed) program(ctx context.Context, args ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, "journalctl", append([]string{"--output=export", "--no-pager", "--quiet"},
		args...)...)
	c.Env = append(os.Environ(), "LC_ALL=C", "SYSTEMD_COLORS=0")
	endWithUs(c)
	return c
}

// one is the entry that some arguments choose; nil where there is none.
func (f *Feed) one(ctx context.Context, args ...string) []Field {
	out, err := f.command(ctx, args...).Output()
	if err != nil {
		return nil
	}
	fields, err := NewExport(bytes.NewReader(out)).Next()
	if err != nil {
		return nil
	}
	return fields
}

// from says where to begin.
func (f *Feed) from(ctx context.Context) []string {
	f.mu.Lock()
	p := f.position
	f.mu.Unlock()
	if p != "" {
		if at := f.one(ctx, "--cursor="+p, "--lines=1"); at != nil && find(at, "__CURSOR") != p {
			f.mu.Lock()
			f.Tell("the journal no longer holds the entry up to which it was read: what went " +
				"with it is lost")
			f.mu.Unlock()
		}
		return []string{"--after-cursor=" + p, "--no-tail"}
	}
	switch f.begin.How {
	case lang.BeginNow:
		// A place that is known, so that what comes before the first start is none of it.
		if at := f.one(ctx, "--lines=1"); at != nil {
			p := find(at, "__CURSOR")
			f.mu.Lock()
			f.position = p
			f.mu.Unlock()
			f.Put(ctx, feed.Message{Way: Way, Stream: Way, Position: p})
			return []string{"--after-cursor=" + p, "--no-tail"}
		}
		return []string{"--no-tail"}
	case lang.BeginOldest:
		return []string{"--no-tail"}
	}
	at := f.begin.At
	if f.begin.How == lang.BeginAgo {
		at = entry.Of(time.Now().Add(-f.begin.Ago))
	}
	return []string{fmt.Sprintf("--since=@%d.%06d", int64(at)/1e9, int64(at)%1e9/1e3), "--no-tail"}
}

// follow reads until the program ends, and says why it did.
func (f *Feed) follow(ctx context.Context) (words, mend string) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	from := f.from(ctx)
	f.mu.Lock()
	first := len(f.known) == 0 // what is there now is read as the source says, or was before
	f.mu.Unlock()
	if first {
		f.know(ctx, f.fresh())
	} else {
		f.catchUp(ctx)
	}
	c := f.command(ctx, append(from, "--follow")...)
	var said bytes.Buffer
	c.Stderr = &limited{&said, 4096}
	out, err := c.StdoutPipe()
	if err == nil {
		err = c.Start()
	}
	if err != nil {
		return fmt.Sprintf("journalctl does not start: %v", err), ""
	}
	f.mu.Lock()
	f.started = time.Now()
	if f.state.Words != "" {
		f.state.Since = f.started
	}
	f.state.Words, f.state.Mend = "", ""
	f.mu.Unlock()
	go f.watch(ctx, cancel)
	r := NewExport(out)
	for {
		fields, e := r.Next()
		if e != nil {
			err = e
			break
		}
		if !f.came(ctx, fields) {
			break
		}
	}
	cancel()
	c.Wait()
	if errors.Is(err, errExport) {
		return "what journalctl says cannot be read: " + err.Error(), ""
	}
	if words := strings.TrimSpace(said.String()); words != "" {
		return "journalctl ended: " + words, ""
	}
	return "journalctl ended", ""
}

// came takes an entry that is followed, and moves the position behind it.
func (f *Feed) came(ctx context.Context, fields []Field) bool {
	p := find(fields, "__CURSOR")
	if !f.take(ctx, fields, p) {
		return false
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.position = p
	return true
}

// take hands an entry on, with a position or, with "", without one.
func (f *Feed) take(ctx context.Context, fields []Field, position string) bool {
	now := time.Now()
	m := feed.Message{Host: find(fields, "_HOSTNAME"), Way: Way, Peer: find(fields, "__CURSOR"),
		Arrived: entry.Of(now), Text: JSON(fields), Stream: Way, Position: position}
	if !f.Put(ctx, m) {
		return false
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.last, f.old = now, now.Sub(writtenAt(fields)) > 5*time.Second
	f.state.Senders[0].Received++
	f.state.Senders[0].Last = now
	return true
}

func writtenAt(fields []Field) time.Time {
	n, _ := strconv.ParseInt(find(fields, "__REALTIME_TIMESTAMP"), 10, 64)
	return time.UnixMicro(n)
}

// limited keeps the first bytes that are written to it.
type limited struct {
	b    *bytes.Buffer
	left int
}

func (l *limited) Write(p []byte) (int, error) {
	n := min(len(p), l.left)
	l.b.Write(p[:n])
	l.left -= n
	return len(p), nil
}

// Look tries to read a journal, and says when its newest
// entry was written, or why it cannot be read, and what mends that.
func Look(ctx context.Context, folder string) (newest time.Time, words, mend string) {
	f := New(folder, lang.Begin{}, nil)
	if words, mend = f.readable(); words != "" {
		return time.Time{}, words, mend
	}
	if at := f.one(ctx, "--lines=1"); at != nil {
		newest = writtenAt(at)
	}
	return newest, "", f.State().Note
}

// mostUnits bounds how many units are told of.
const mostUnits = 500

// Units are the units that have spoken into this machine's journal, by their names; none where it cannot be read.
func Units(ctx context.Context) []string {
	out, err := exec.CommandContext(ctx, "journalctl", "--field=_SYSTEMD_UNIT", "--quiet", "--no-pager").Output()
	if err != nil {
		return nil
	}
	list := strings.Fields(string(out))
	slices.Sort(list)
	return list[:min(len(list), mostUnits)]
}
