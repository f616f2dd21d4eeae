package channel

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode/utf16"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/intake/feed"
)

// folder follows files of event XML, as an export or a forwarder leaves them: they
// grow, and more of them come. A file is read once, up to where it is whole.
type folder struct {
	*follower
	dir   string
	files map[string]int64 // by name, up to where it has been read
	bad   map[string]bool  // those that cannot be read
	first bool
}

// stream is how the places in a folder's files are remembered.
const stream = "files"

func newFolder(dir string, channels []string, begin lang.Begin, positions map[string]string) *folder {
	f := &folder{follower: newFollower(channels, begin, nil), dir: dir, files: map[string]int64{},
		bad: map[string]bool{}}
	f.first = positions[stream] == "" || json.Unmarshal([]byte(positions[stream]), &f.files) != nil
	return f
}

// Run is part of feed.Feed.
func (f *folder) Run(ctx context.Context) {
	for ctx.Err() == nil {
		more := f.look(ctx)
		wait := 300 * time.Millisecond
		if more {
			wait = 0
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
	}
}

// xmlFiles lists the files of event XML of a folder, the oldest first.
func xmlFiles(dir string) ([]os.FileInfo, error) {
	list, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	var out []os.FileInfo
	for _, e := range list {
		if info, err := os.Stat(filepath.Join(dir, e.Name())); err == nil && info.Mode().IsRegular() &&
			strings.EqualFold(filepath.Ext(e.Name()), ".xml") {
			out = append(out, named{info, e.Name()})
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].ModTime().Before(out[j].ModTime()) })
	return out, nil
}

// named is what is known of a file, under the name that it has in its folder.
type named struct {
	os.FileInfo
	name string
}

func (n named) Name() string { return n.name }

// look reads on in all files; it answers true where there may be more.
func (f *folder) look(ctx context.Context) bool {
	list, err := xmlFiles(f.dir)
	if err != nil {
		words, mend := folderTrouble(f.dir, err)
		for _, c := range f.channels {
			f.fail(c, words, mend)
		}
		return false
	}
	for _, c := range f.channels {
		f.fail(c, "", "")
	}
	if f.first {
		f.start(list)
		if !f.Put(ctx, feed.Message{Stream: stream, Position: f.places()}) {
			return false
		}
		f.first = false
	}
	more := false
	for _, info := range list {
		at := f.files[info.Name()]
		if info.Size() < at {
			f.Tell(fmt.Sprintf("%s was written anew: it is read from its start", filepath.Join(f.dir, info.Name())))
			at = 0
		}
		if info.Size() == at {
			continue
		}
		n, ok := f.read(ctx, info.Name(), at)
		if !ok {
			return false
		}
		more = more || n > 0
	}
	if !more {
		for _, c := range f.channels {
			f.sent(c)
		}
	}
	return more
}

func folderTrouble(dir string, err error) (words, mend string) {
	if os.IsPermission(err) {
		me := "this user"
		if u, err := user.Current(); err == nil {
			me = u.Username
		}
		return fmt.Sprintf("the folder %s may not be read by %s", dir, me),
			fmt.Sprintf("setfacl -m u:%s:rx %s", me, dir)
	}
	return fmt.Sprintf("the folder %s cannot be read: %v", dir, err), ""
}

// start sets where the files that are there begin.
func (f *folder) start(list []os.FileInfo) {
	for _, info := range list {
		switch f.begin.How {
		case lang.BeginNow:
			f.files[info.Name()] = info.Size()
		case lang.BeginAgo:
			if info.ModTime().Before(time.Now().Add(-f.begin.Ago)) {
				f.files[info.Name()] = info.Size()
			}
		case lang.BeginAt:
			if info.ModTime().Before(f.begin.At.Time()) {
				f.files[info.Name()] = info.Size()
			}
		}
	}
}

func (f *folder) places() string {
	b, _ := json.Marshal(f.files)
	return string(b)
}

// blockSize is how much of a file is read at once: an event fits in it.
const blockSize = 4 << 20

// read reads a block of a file from a place on; it returns how many bytes it has done
// with.
func (f *folder) read(ctx context.Context, name string, at int64) (int64, bool) {
	file, err := os.Open(filepath.Join(f.dir, name))
	if err != nil {
		if !f.bad[name] {
			f.Tell(fmt.Sprintf("%s cannot be read: %v", filepath.Join(f.dir, name), err))
		}
		f.bad[name] = true
		return 0, true
	}
	defer file.Close()
	delete(f.bad, name)
	wide := wideness(file)
	buf := make([]byte, blockSize)
	n, _ := file.ReadAt(buf, at)
	text, width := decode(buf[:n], wide)
	done := 0
	for {
		from, to := nextEvent(text[done:])
		if to < 0 {
			if rest := len(text) - done; from > 0 && rest > match.MaxLine { // what is no event is passed over
				done += from
			} else if from == 0 && rest > 2*match.MaxLine {
				done += len("<Event")
				continue
			}
			break
		}
		event := text[done+from : done+to]
		done += to
		f.files[name] = at + int64(width(text[:done]))
		channel := element(event, "Channel")
		if !slices.Contains(f.channels, channel) || f.tooOld(event) {
			continue
		}
		where := fmt.Sprintf("%s:%d", strings.ReplaceAll(name, " ", "%20"), f.files[name])
		now := time.Now()
		m := feed.Message{Host: Computer(event), Way: channel, Peer: where, Arrived: entry.Of(now),
			Text: bytes.Clone(event[:min(len(event), match.MaxLine)]), Stream: stream}
		if !f.Put(ctx, m) {
			return 0, false
		}
		f.mu.Lock()
		f.senders[channel].Received++
		f.senders[channel].Last = now
		f.mu.Unlock()
	}
	read := int64(width(text[:done]))
	f.files[name] = at + read
	return read, read == 0 || f.Put(ctx, feed.Message{Stream: stream, Position: f.places()})
}

// tooOld leaves out what lies before the time at which the source begins.
func (f *folder) tooOld(event []byte) bool {
	at := f.begin.At
	switch f.begin.How {
	case lang.BeginAgo:
		at = entry.Of(f.state.Since.Add(-f.begin.Ago))
	case lang.BeginAt:
	default:
		return false
	}
	x := reader().Divide(event, 0)
	return x.Timed && x.At < at
}

// nextEvent finds the first whole event of a text: from where it begins to where it
// ends. Without a whole one, to is -1, and from is where one begins, or how much
// holds none.
func nextEvent(text []byte) (from, to int) {
	at := 0
	for {
		i := bytes.Index(text[at:], []byte("<Event"))
		if i < 0 {
			return max(len(text)-len("<Event"), 0), -1
		}
		from = at + i
		end := from + len("<Event")
		if end >= len(text) {
			return from, -1
		}
		if c := text[end]; c != ' ' && c != '>' && c != '\t' && c != '\r' && c != '\n' {
			at = end // <Events>, <EventData>
			continue
		}
		k := bytes.Index(text[end:], []byte("</Event>"))
		if k < 0 {
			return from, -1
		}
		return from, end + k + len("</Event>")
	}
}

// wideness is how a file's bytes are text, by the mark at its start: 0 as UTF-8, 1 as
// UTF-16 with the least first, 2 with the most first.
func wideness(file *os.File) int {
	var head [2]byte
	file.ReadAt(head[:], 0)
	switch {
	case head == [2]byte{0xff, 0xfe}:
		return 1
	case head == [2]byte{0xfe, 0xff}:
		return 2
	}
	return 0
}

// decode makes UTF-8 of a block, and says how many bytes of the file a piece of that
// took.
func decode(b []byte, wide int) (text []byte, width func([]byte) int) {
	if wide == 0 {
		return b, func(p []byte) int { return len(p) }
	}
	units := make([]uint16, len(b)/2)
	for i := range units {
		if wide == 1 {
			units[i] = uint16(b[2*i]) | uint16(b[2*i+1])<<8
		} else {
			units[i] = uint16(b[2*i])<<8 | uint16(b[2*i+1])
		}
	}
	return []byte(string(utf16.Decode(units))), func(p []byte) int {
		n := 0
		for _, r := range string(p) {
			n += 2 * utf16.RuneLen(r)
		}
		return n
	}
}

// listFolder lists the channels of which a folder's files hold events.
func listFolder(dir string) ([]Info, error) {
	list, err := xmlFiles(dir)
	if err != nil {
		words, mend := folderTrouble(dir, err)
		return nil, fmt.Errorf("%s; %s", words, mend)
	}
	all := map[string]*tally{}
	d := reader()
	for _, info := range list {
		file, err := os.Open(filepath.Join(dir, info.Name()))
		if err != nil {
			continue
		}
		wide := wideness(file)
		buf := make([]byte, blockSize)
		for at := int64(0); ; {
			n, _ := file.ReadAt(buf, at)
			text, width := decode(buf[:n], wide)
			done := 0
			for {
				_, to := nextEvent(text[done:])
				if to < 0 {
					break
				}
				event := text[done : done+to]
				done += to
				name := element(event, "Channel")
				if all[name] == nil {
					all[name] = &tally{info: Info{Name: name}}
				}
				all[name].add(d, bytes.TrimSpace(event[bytes.Index(event, []byte("<Event")):]))
			}
			if done == 0 {
				break
			}
			at += int64(width(text[:done]))
		}
		file.Close()
	}
	var out []Info
	for _, t := range all {
		out = append(out, t.done())
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out, nil
}
