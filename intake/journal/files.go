package journal

import (
	"context"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"dimlantern/intake/feed"
)

// fileStream begins the name of the stream that says that a file of the journal is known.
const fileStream = "file "

// look is how often it is looked whether a file has come to the journal.
const lookEvery = 2 * time.Second

// files are the files of the journal.
func (f *Feed) files() []string {
	folders := []string{"/var/log/journal", "/run/log/journal"}
	if f.folder != "" {
		folders = []string{f.folder}
	}
	var out []string
	for _, dir := range folders {
		for _, glob := range []string{"*.journal", "*/*.journal"} {
			list, _ := filepath.Glob(filepath.Join(dir, glob))
			out = append(out, list...)
		}
	}
	return out
}

// fresh are the files that nobody has looked into yet. One that was archived had another
// name before.
func (f *Feed) fresh() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.DeleteFunc(f.files(), func(path string) bool {
		return strings.Contains(filepath.Base(path), "@") || f.known[path]
	})
}

// know remembers files, so that they are not taken for new ones.
func (f *Feed) know(ctx context.Context, paths []string) {
	for _, p := range paths {
		f.mu.Lock()
		f.known[p] = true
		f.mu.Unlock()
		f.Put(ctx, feed.Message{Way: Way, Stream: fileStream + p, Position: "known"})
	}
}

// catchUp reads what stands in new files and is older than what was read of the others:
// following goes on behind that, and would pass over it.
func (f *Feed) catchUp(ctx context.Context) {
	paths := f.fresh()
	f.mu.Lock()
	position := f.position
	f.mu.Unlock()
	upTo := realtimeOf(position)
	for _, path := range paths {
		if upTo == 0 {
			break // nothing was read of any
		}
		c := f.program(ctx, "--file="+path, "--no-tail", "--until=@"+strconv.FormatInt(upTo/1e6+1, 10))
		out, err := c.StdoutPipe()
		if err != nil || c.Start() != nil {
			continue
		}
		for r := NewExport(out); ctx.Err() == nil; {
			fields, err := r.Next()
			if err != nil {
				break
			}
			if at := writtenAt(fields).UnixMicro(); at > 0 && at <= upTo && find(fields, "__CURSOR") != position {
				f.take(ctx, fields, "")
			}
		}
		c.Wait()
	}
	f.know(ctx, paths)
}

// realtimeOf is the time of an entry by its cursor, in microseconds since 1970; 0 where it
// has none.
func realtimeOf(cursor string) int64 {
	for part := range strings.SplitSeq(cursor, ";") {
		if hex, ok := strings.CutPrefix(part, "t="); ok {
			n, err := strconv.ParseInt(hex, 16, 64)
			if err == nil {
				return n
			}
		}
	}
	return 0
}

// watch ends a reading when a file comes that it does not see.
func (f *Feed) watch(ctx context.Context, end func()) {
	for t := time.NewTicker(lookEvery); ; {
		select {
		case <-ctx.Done():
			t.Stop()
			return
		case <-t.C:
			if len(f.fresh()) > 0 {
				f.mu.Lock()
				f.again = true
				f.mu.Unlock()
				t.Stop()
				end()
				return
			}
		}
	}
}
