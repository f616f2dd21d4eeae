package reread

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

const testSettings = `
source timed { files "/x/*.log"
  layout line }
source joined { files "/x/*.log"
  layout line
  entry starts /^\d{4}-/ }
source objects { files "/x/*.log"
  layout json }
source yearless { files "/x/*.log"
  layout syslog }
source bare { files "/x/*.log" }
layout line {
  pattern /^(?<at>\S+ \S+) (?<host>\S+) (?<n>\d+) (?<text>.*)$/
  time at like "2026-11-24 05:32:28"
}
`

// collected are the entries that were given, each by where it lies and its time.
type collected struct {
	mu  *sync.Mutex
	all *[]string
	own []string
	n   *int64
}

func (c *collected) Take(e *entry.Entry, log, file int) {
	c.own = append(c.own, fmt.Sprintf("%d %d %d %d %s", log, file, e.Offset, e.At, e.Raw))
}

func (c *collected) Done(entries int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	*c.all, *c.n = append(*c.all, c.own...), *c.n+entries
}

func settings(t require.TestingT) *lang.Settings {
	s, ds := lang.Check([]*lang.File{lang.Parse("s", []byte(testSettings))}, lang.Env{Time: layout.CheckTime})
	require.False(t, lang.Errors(ds), "%v", ds)
	return s
}

// read reads a log whole, or what may lie in a stretch of time of it, with the entries in that.
func read(
	t require.TestingT,
	s *lang.Settings,
	log Log,
	from, to entry.Instant,
	notes *Notes,
) (in []string, r *Read) {
	var all []string
	var n int64
	var mu sync.Mutex
	x := &Reading{Settings: s, Zone: time.UTC, Cores: 2, Notes: notes,
		Touches: func(least, most entry.Instant) bool { return least < to && most >= from },
		Begin:   func() Part { return &collected{mu: &mu, all: &all, n: &n} }}
	r, err := x.Run(context.Background(), []Log{log})
	require.NoError(t, err)
	require.Empty(t, r.Unread)
	require.EqualValues(t, len(all), n, "entries, by the note or counted")
	for _, e := range all {
		var at int64
		fmt.Sscanf(strings.SplitN(e, " ", 5)[3], "%d", &at)
		if entry.Instant(at) >= from && entry.Instant(at) < to {
			in = append(in, e)
		}
	}
	slices.Sort(in)
	return in, r
}

// whole is read by one look at the whole of each file.
func whole(t require.TestingT, s *lang.Settings, log Log, from, to entry.Instant) (in []string) {
	members, _ := log.steady()
	for k, m := range members {
		f, err := os.Open(m.Path)
		require.NoError(t, err)
		var r io.Reader = f
		if m.Packed {
			r, err = gzip.NewReader(f)
			require.NoError(t, err)
		}
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		f.Close()
		x := match.NewTaker(match.NewTaking(s, log.Source, nil, nil, time.UTC), log.Name, log.Host)
		x.Near, x.Skew = m.Mod, log.Skew
		x.Begin(text)
		x.Take = func(e *entry.Entry, _ int64) {
			if e.At >= from && e.At < to {
				in = append(in, fmt.Sprintf("%d %d %d %d %s", 0, len(members)-k, e.Offset, e.At, e.Raw))
			}
		}
		x.Scan(text, 0, m.Mod, nil, nil)
	}
	slices.Sort(in)
	return in
}

// writeLog draws a log with late entries, entries of many lines, and lines without a time.
func writeLog(t *rapid.T, kind string, begin time.Time, lines int) string {
	var b strings.Builder
	at := begin
	for i := range lines {
		at = at.Add(time.Duration(rapid.IntRange(0, 120).Draw(t, "step")) * time.Second)
		own := at
		if rapid.IntRange(0, 9).Draw(t, "late") == 0 {
			own = at.Add(-time.Duration(rapid.IntRange(0, 7200).Draw(t, "by")) * time.Second)
		}
		text := strings.Repeat("x", rapid.SampledFrom([]int{0, 3, 40, 200}).Draw(t, "long"))
		switch {
		case rapid.IntRange(0, 7).Draw(t, "odd") == 0:
			b.WriteString("  at a place without a time " + text)
		case kind == "objects":
			fmt.Fprintf(&b, `{"at":"%s","n":%d,"msg":"%s"}`, own.Format(time.RFC3339), i, text)
		case kind == "yearless":
			fmt.Fprintf(&b, "%s host-a prog[7]: %d %s", own.Format(time.Stamp), i, text)
		default:
			fmt.Fprintf(&b, "%s host-%d %d %s", own.Format(time.DateTime), i%3, i, text)
		}
		if i < lines-1 || rapid.IntRange(0, 3).Draw(t, "unfinished") > 0 {
			b.WriteString("\n")
		}
	}
	return b.String()
}

// Whatever the layout, the cuts, the notes, the rotation: what lies in a span is what reading all of it
// anew finds there, once.
func TestASpanIsWhatReadingAllFinds(t *testing.T) {
	block, noted, partSize, before = 512, 1024, 2048, 256
	defer func() { block, noted, partSize, before = 128<<10, 1<<20, 8<<20, 64<<10 }()
	s := settings(t)
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp("", "reread")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		kind := rapid.SampledFrom([]string{"timed", "joined", "objects", "yearless", "bare"}).Draw(rt, "kind")
		path := filepath.Join(dir, "a.log")
		begin := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
		put := func(name, body string) {
			if strings.HasSuffix(name, ".gz") {
				f, err := os.Create(name)
				require.NoError(rt, err)
				z := gzip.NewWriter(f)
				z.Write([]byte(body))
				require.NoError(rt, z.Close())
				require.NoError(rt, f.Close())
			} else {
				require.NoError(rt, os.WriteFile(name, []byte(body), 0o644))
			}
			require.NoError(rt, os.Chtimes(name, begin.Add(24*time.Hour), begin.Add(24*time.Hour)))
		}
		banner := ""
		if kind != "joined" && rapid.Bool().Draw(rt, "banner") { // each file begins like all
			banner = strings.Repeat("the book of the locks, as it is kept at the harbour\n", 12)
		}
		body := banner + writeLog(rt, kind, begin.Add(3*time.Hour), rapid.IntRange(0, 120).Draw(rt, "lines"))
		put(path, body)
		if rapid.Bool().Draw(rt, "rotated") {
			put(path+rapid.SampledFrom([]string{".1", ".1.gz"}).Draw(rt, "as"), writeLog(rt, kind, begin, 60))
		}
		log := Log{Name: "host-a:" + path, Series: path, Host: "host-a", Source: s.Source(kind),
			Skew: rapid.SampledFrom([]time.Duration{0, 0, 90 * time.Second}).Draw(rt, "skew")}
		notes := NewNotes(filepath.Join(dir, "notes"))
		for range 3 {
			from := entry.Of(begin.Add(time.Duration(rapid.IntRange(-1, 8).Draw(rt, "from")) * time.Hour))
			to := from.Add(time.Duration(rapid.IntRange(1, 300).Draw(rt, "minutes")) * time.Minute)
			if kind == "bare" {
				from, to = 0, 1<<62
			}
			want := whole(rt, s, log, from, to)
			got, _ := read(rt, s, log, from, to, notes)
			require.Equal(rt, want, got)
			again, r := read(rt, s, log, from, to, NewNotes(filepath.Join(dir, "notes")))
			require.Equal(rt, want, again, "with the notes that were made")
			require.LessOrEqual(rt, r.Bytes, r.Of+4096)
			switch rapid.IntRange(0, 3).Draw(rt, "then") {
			case 0: // it grows
				body += writeLog(rt, kind, begin.Add(8*time.Hour), rapid.IntRange(1, 60).Draw(rt, "more"))
				require.NoError(rt, os.WriteFile(path, []byte(body), 0o644))
				require.NoError(rt, os.Chtimes(path, begin.Add(24*time.Hour), begin.Add(24*time.Hour)))
			case 1: // it is begun anew in its place
				body = banner + writeLog(rt, kind, begin.Add(5*time.Hour), rapid.IntRange(1, 120).Draw(rt, "anew"))
				put(path, body)
			}
		}
	})
}

// Of an ordered log only the bytes of the span are read, once its times are known.
func TestOnlyTheSpanIsRead(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.log")
	begin := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	var b strings.Builder
	for i := range 200_000 {
		fmt.Fprintf(&b, "%s host-a %d %s\n", begin.Add(time.Duration(i)*time.Second).Format(time.DateTime), i,
			strings.Repeat("y", 60))
	}
	require.NoError(t, os.WriteFile(path, []byte(b.String()), 0o644))
	s := settings(t)
	log := Log{Name: "host-a:" + path, Series: path, Host: "host-a", Source: s.Source("timed")}
	notes := NewNotes(filepath.Join(dir, "notes"))
	from := entry.Of(begin.Add(20 * time.Hour))
	first, r := read(t, s, log, from, from.Add(time.Hour), notes)
	require.Len(t, first, 3600)
	require.Equal(t, r.Of, r.Bytes)
	second, r := read(t, s, log, from, from.Add(time.Hour), NewNotes(filepath.Join(dir, "notes")))
	require.Equal(t, first, second)
	require.Less(t, r.Bytes, int64(3<<20), "of %d", r.Of)
	none, r := read(t, s, log, 0, 1000, notes)
	require.Empty(t, none)
	require.Zero(t, r.Bytes)
}

// A line of many megabytes is one entry, cut, and what stands around it is whole.
func TestAnEntryLongerThanAnyMayBe(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.log")
	line := "2026-11-20 00:00:01 host-a 1 short\n"
	long := "2026-11-20 00:00:02 host-a 2 " + strings.Repeat("z", 9<<20) + "\n"
	require.NoError(t, os.WriteFile(path, []byte(line+long+line+line), 0o644))
	s := settings(t)
	log := Log{Name: "host-a:" + path, Series: path, Host: "host-a", Source: s.Source("timed")}
	got, _ := read(t, s, log, 0, 1<<62, NewNotes(""))
	require.Len(t, got, 4)
}

// What is packed and ends too early is told, and what could be read of it counts.
func TestAPackedCopyThatIsCutShort(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.log.1.gz")
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	for i := range 5000 {
		fmt.Fprintf(z, "2026-11-20 00:00:%02d host-a %d %x\n", i%60, i, i*i*7919)
	}
	require.NoError(t, z.Close())
	require.NoError(t, os.WriteFile(path, b.Bytes()[:b.Len()/2], 0o644))
	s := settings(t)
	var all []string
	var n int64
	var mu sync.Mutex
	x := &Reading{Settings: s, Zone: time.UTC, Touches: func(_, _ entry.Instant) bool { return true },
		Begin: func() Part { return &collected{mu: &mu, all: &all, n: &n} }}
	for range 2 {
		r, err := x.Run(
			context.Background(),
			[]Log{{Name: "host-a:" + path, Series: path, Only: path, Source: s.Source("timed")}},
		)
		require.NoError(t, err)
		require.Len(t, r.Unread, 1)
		require.Contains(t, r.Unread[0], "cut short")
	}
	require.Greater(t, n, int64(2000))
}

// While a log is written to, rotated and packed, each entry that was there when a reading began is in it,
// once; or the reading says that a file went away.
func TestReadWhileItIsRotated(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.log")
	s := settings(t)
	var mu sync.Mutex // of written
	written := 0
	const rounds = 120
	begin := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	line := func(i int) string {
		return fmt.Sprintf("%s host-a %d passed\n", begin.Add(time.Duration(i)*time.Second).Format(time.DateTime), i)
	}
	name := func(k int, packed string) string { return fmt.Sprintf("%s.%d%s", path, k, packed) }
	rotate := func() {
		for k := rounds; k > 0; k-- {
			for _, packed := range []string{"", ".gz"} {
				os.Rename(name(k, packed), name(k+1, packed)) // where it is there
			}
		}
		os.Rename(path, name(1, ""))
		if body, err := os.ReadFile(name(2, "")); err == nil {
			var b bytes.Buffer
			z := gzip.NewWriter(&b)
			z.Write(body)
			z.Close()
			os.WriteFile(name(2, ".tmp"), b.Bytes(), 0o644)
			os.Rename(name(2, ".tmp"), name(2, ".gz"))
			os.Remove(name(2, ""))
		}
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		for n := 0; n < rounds*200; n += 50 {
			var b strings.Builder
			for i := range 50 {
				b.WriteString(line(n + i))
			}
			f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
			if err != nil {
				return
			}
			f.WriteString(b.String())
			f.Close()
			mu.Lock()
			written = n + 50
			mu.Unlock()
			if n%200 == 150 {
				rotate()
			}
		}
	}()
	defer func() { <-done }()
	notes := NewNotes(filepath.Join(dir, "notes"))
	sure := 0
	for last := false; !last; {
		select {
		case <-done:
			last = true
		default:
		}
		mu.Lock()
		least := written
		mu.Unlock()
		var all []string
		var n int64
		var of sync.Mutex
		x := &Reading{Settings: s, Zone: time.UTC, Notes: notes,
			Touches: func(_, _ entry.Instant) bool { return true },
			Begin:   func() Part { return &collected{mu: &of, all: &all, n: &n} }}
		r, err := x.Run(context.Background(), []Log{{Name: "a", Series: path, Source: s.Source("timed")}})
		require.NoError(t, err)
		if r.Gone {
			require.False(t, last)
			continue
		}
		sure++
		seen := map[string]bool{}
		for _, e := range all {
			text := strings.SplitN(e, " ", 5)[4]
			require.False(t, seen[text], "twice: %s", text)
			seen[text] = true
		}
		for i := range least {
			require.True(t, seen[strings.TrimSuffix(line(i), "\n")], "missing of %d: %s", least, line(i))
		}
	}
	require.Positive(t, sure)
}
