package intake

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"dimlantern/core/verdict"

	"dimlantern/core/layout"
	"dimlantern/core/origin"

	"github.com/fsnotify/fsnotify"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
)

// collector is a sink that keeps the texts of what it takes.
type collector struct {
	lines []string
	at    entry.Instant // of the newest
}

func (c *collector) Take(_ *Origin, j *verdict.Judged) {
	c.lines, c.at = append(c.lines, j.Entry.Raw), j.Entry.At
}
func (c *collector) Passed(*Origin, entry.Instant, []match.Tick) {}

// rig is a follower of one glob, with the places that it left.
type rig struct {
	t      require.TestingT
	s      *lang.Settings
	f      *Follower
	sink   collector
	places map[string][]byte
	known  bool
	told   []string
	trace  []string // see note
	now    time.Time
	events bool // the system tells of changes
}

func newRig(t require.TestingT, glob, begin string) *rig {
	src := fmt.Sprintf("source s {\n files %s\n begin %s\n}\nrule r {\n problem \"line\"\n per nothing\n raise "+
		"error\n clear by hand\n}\n", lang.Quote(glob), begin)
	s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte(src))}, lang.Env{Time: layout.CheckTime})
	require.False(t, lang.Errors(ds), "%v", ds)
	r := &rig{t: t, s: s, places: map[string][]byte{}, now: time.Now()}
	r.start()
	return r
}

func (r *rig) start() {
	known := r.known
	r.f = NewFollower(Options{Host: "h", NoEvents: !r.events,
		Place:  func(source, series string) []byte { return r.places[series] },
		Series: func(source string) []string { return slices.Sorted(maps.Keys(r.places)) },
		Known:  func(string) bool { return known || r.known }})
	r.f.Use(r.s.Sources, map[string]*match.Plan{"s": match.NewPlan(r.s, r.s.Sources[0], r.s.Rules, time.UTC)})
}

// step lets time pass, and reads what there is.
func (r *rig) step(d time.Duration) {
	r.now = r.now.Add(d)
	r.f.again = true
	r.f.Look(r.now)
	r.f.polled = time.Time{}
	r.f.Poll(r.now)
	for done := false; !done; {
		var err error
		done, err = r.f.Drain(&r.sink, 1000, r.now)
		require.NoError(r.t, err)
	}
	r.known = true
	r.commit()
}

// some reads a part of what there is.
func (r *rig) some(n int) {
	r.f.again = true
	r.f.Look(r.now)
	r.f.polled = time.Time{}
	r.f.Poll(r.now)
	_, err := r.f.Drain(&r.sink, n, r.now)
	require.NoError(r.t, err)
	r.known = true
	r.commit()
}

func (r *rig) commit() {
	r.told = append(r.told, r.f.Told()...)
	for _, o := range r.f.Dirty() {
		r.places[o.Series] = o.MarshalPlace()
	}
}

// restart is what a crash leaves: the places that were committed.
func (r *rig) restart() {
	r.f.Close()
	r.start()
}

func (r *rig) origin() *Origin {
	require.NotEmpty(r.t, r.f.Origins())
	return r.f.Origins()[0]
}

// fileModel is a log as its writer sees it: it appends lines, and rotates in one
// way or another. What was written must be read once, in order.
type fileModel struct {
	dir     string
	name    string // x.log where it is empty
	n       int
	written []string
	half    string
	rotated int
	steps   []func() // what is still to be done of a rotation
}

func (m *fileModel) path() string { return filepath.Join(m.dir, cmp.Or(m.name, "x.log")) }

func (m *fileModel) append(t require.TestingT, text string) {
	f, err := os.OpenFile(m.path(), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	require.NoError(t, err)
	_, err = f.WriteString(text)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

// lines writes whole lines, finishing one that was begun.
func (m *fileModel) lines(t require.TestingT, n int, ending string) {
	var b strings.Builder
	for range n {
		m.n++
		line := fmt.Sprintf("line %d %s", m.n, strings.Repeat("z", m.n*37%90))
		if m.half != "" {
			line = m.half + " ended"
			b.WriteString(" ended" + ending)
			m.half = ""
		} else {
			b.WriteString(line + ending)
		}
		m.written = append(m.written, line)
	}
	m.append(t, b.String())
}

// begin writes a line without its end.
func (m *fileModel) begin(t require.TestingT) {
	if m.half == "" {
		m.n++
		m.half = fmt.Sprintf("line %d begun", m.n)
		m.append(t, m.half)
	}
}

// later does something step by step, whenever somebody looks at the files.
func (m *fileModel) later(steps ...func()) { m.steps = append(m.steps, steps...) }

// finish does what is left of it.
func (m *fileModel) finish() {
	for len(m.steps) > 0 {
		m.next()
	}
}

func (m *fileModel) next() {
	do := m.steps[0]
	m.steps = m.steps[1:]
	do()
}

func (m *fileModel) shift() {
	m.finish()
	for i := m.rotated; i > 0; i-- {
		for _, end := range []string{"", ".gz", ".zst"} {
			from, to := fmt.Sprintf("%s.%d%s", m.path(), i, end), fmt.Sprintf("%s.%d%s", m.path(), i+1, end)
			if _, err := os.Stat(from); err == nil {
				m.later(func() { os.Rename(from, to) })
			}
		}
	}
	m.rotated++
}

// compress puts a compressed copy in the place of a rotated file, as old as it.
func (m *fileModel) compress(t require.TestingT, i int, end string) {
	m.finish()
	path := fmt.Sprintf("%s.%d", m.path(), i)
	b, err := os.ReadFile(path)
	if err != nil {
		return // it is compressed already
	}
	info, err := os.Stat(path)
	require.NoError(t, err)
	var f *os.File
	m.later(func() {
		f, err = os.Create(path + end)
		require.NoError(t, err)
	}, func() {
		var w io.WriteCloser = gzip.NewWriter(f)
		if end == ".zst" {
			w, err = zstd.NewWriter(f)
			require.NoError(t, err)
		}
		_, err = w.Write(b)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		require.NoError(t, f.Close())
	}, func() {
		require.NoError(t, os.Chtimes(path+end, info.ModTime(), info.ModTime()))
	}, func() {
		require.NoError(t, os.Remove(path))
	})
}

func (m *fileModel) rename(t require.TestingT) {
	m.shift()
	m.later(func() { require.NoError(t, os.Rename(m.path(), m.path()+".1")) }, func() { m.lines(t, 1, "\n") })
}

func (m *fileModel) copyAndCut(t require.TestingT) {
	m.shift()
	m.later(func() {
		b, err := os.ReadFile(m.path())
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(m.path()+".1", b[:len(b)/2], 0o644))
	}, func() {
		b, err := os.ReadFile(m.path())
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(m.path()+".1", b, 0o644))
	}, func() { require.NoError(t, os.Truncate(m.path(), 0)) }, func() { m.lines(t, 1, "\n") })
}

// Whatever the writer does, with whatever rotations and restarts in between,
// every line is read once and in order.
func TestFollowerEqualsModel(t *testing.T) {
	base := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp(base, "")
		require.NoError(t, err)
		defer os.RemoveAll(dir)
		m := &fileModel{dir: dir}
		m.lines(t, 2, "\n")
		r := newRig(t, filepath.Join(dir, "*.log"), "oldest")
		defer func() { r.f.Close() }()
		r.step(time.Second)
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "chance"), 1))
		between = func() {
			for len(m.steps) > 0 && chance.IntN(3) == 0 {
				m.next()
			}
		}
		defer func() { between = func() {} }()
		for range rapid.IntRange(1, 25).Draw(t, "steps") {
			switch rapid.IntRange(0, 12).Draw(t, "what") {
			case 0, 1, 2:
				m.finish()
				m.lines(t, rapid.IntRange(1, 40).Draw(t, "lines"),
					rapid.SampledFrom([]string{"\n", "\r\n"}).Draw(t, "ending"))
			case 3:
				m.finish()
				m.begin(t)
			case 4, 5:
				switch {
				case m.half != "":
				case rapid.Bool().Draw(t, "by copy"): // what is between copy and cut is lost for every reader
					m.copyAndCut(t)
				default:
					m.rename(t)
				}
			case 6:
				r.restart()
			case 7, 8:
				r.step(time.Duration(rapid.IntRange(0, 40).Draw(t, "pass")) * time.Second)
			case 9:
				r.step(time.Second)
				r.restart()
			case 10, 11:
				r.some(rapid.IntRange(1, 30).Draw(t, "some"))
				if rapid.Bool().Draw(t, "then crash") {
					r.restart()
				}
			case 12:
				if m.rotated > 0 {
					m.compress(t, rapid.IntRange(1, m.rotated).Draw(t, "which"),
						rapid.SampledFrom([]string{".gz", ".zst"}).Draw(t, "how"))
				}
			}
		}
		m.finish()
		if m.half != "" {
			m.lines(t, 1, "\n")
		}
		r.step(5 * time.Second)
		r.step(time.Minute)
		r.step(time.Second)
		require.Equal(t, m.written, r.sink.lines)
	})
}

func write(t *testing.T, path, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
}

func TestBegin(t *testing.T) {
	dir := t.TempDir()
	write(t, filepath.Join(dir, "a.log"), "line 1\nline 2\nline half")
	write(t, filepath.Join(dir, "a.log.1"), "line 0\n")
	now := newRig(t, filepath.Join(dir, "*.log"), "now")
	now.step(time.Second)
	assert.Empty(t, now.sink.lines, "what is there is not taken")
	write(t, filepath.Join(dir, "b.log"), "line b\n")
	(&fileModel{dir: dir}).append(t, "line x\n")
	f, err := os.OpenFile(filepath.Join(dir, "a.log"), os.O_WRONLY|os.O_APPEND, 0o644)
	require.NoError(t, err)
	_, err = f.WriteString(" done\n")
	require.NoError(t, err)
	f.Close()
	now.step(time.Second)
	assert.ElementsMatch(t, []string{"line half done", "line b", "line x"}, now.sink.lines,
		"a file that appears later is read from its start")
	oldest := newRig(t, filepath.Join(dir, "a.log"), "oldest")
	oldest.step(time.Second)
	assert.Equal(t, []string{"line 0", "line 1", "line 2", "line half done"}, oldest.sink.lines)
}

// The place of an age or a time is found by halving on the entries' own times.
func TestBeginAtATime(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.log")
	start := time.Now().Add(-100 * time.Hour).UTC().Truncate(time.Second)
	var b strings.Builder
	for i := range 100_000 {
		fmt.Fprintf(&b, "%s line %d\n", start.Add(time.Duration(i)*3*time.Second).Format(time.RFC3339), i)
		if i%1000 == 0 {
			b.WriteString("   a line without a time\n")
		}
	}
	write(t, path, b.String())
	src := fmt.Sprintf("source s {\n files %s\n begin %s\n layout l\n}\nlayout l {\n pattern /^(?<at>\\S+T\\S+) "+
		"(?<text>.*)$/\n time at rfc3339\n}\nrule r {\n problem /line \\d/\n per nothing\n raise error\n clear by "+
		"hand\n}\n",
		lang.Quote(path), start.Add(50*time.Hour).Format(time.RFC3339))
	s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte(src))}, lang.Env{Time: layout.CheckTime})
	require.False(t, lang.Errors(ds), "%v", ds)
	r := &rig{t: t, s: s, places: map[string][]byte{}, now: time.Now()}
	r.start()
	r.step(time.Second)
	require.NotEmpty(t, r.sink.lines)
	assert.True(t, strings.HasSuffix(r.sink.lines[0], " line 60000"), r.sink.lines[0])
	assert.Len(t, r.sink.lines, 40_000)
}

// What cannot be seen is told with what would mend it, and taken up again.
func TestConditions(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.log")
	r := newRig(t, path, "now")
	r.step(time.Second)
	assert.Equal(t, origin.NoFile, r.origin().Condition)
	assert.Contains(t, r.origin().Mend, "the folder "+dir+" is there")
	write(t, path, "line 1\n")
	r.step(time.Second)
	assert.Equal(t, origin.Seen, r.origin().Condition)
	assert.Equal(t, []string{"line 1"}, r.sink.lines, "a file that appears later is read from its start")
	require.NoError(t, os.Remove(path))
	r.step(time.Second)
	assert.Equal(t, origin.Seen, r.origin().Condition, "a rotation takes a moment")
	r.step(10 * time.Second)
	assert.Equal(t, origin.Gone, r.origin().Condition)
	assert.NotEmpty(t, r.origin().Mend)
	require.NoError(t, os.Mkdir(path, 0o755))
	r.step(10 * time.Second)
	assert.Equal(t, origin.Folder, r.origin().Condition)
	assert.Contains(t, r.origin().Words, "a folder")
	require.NoError(t, os.Remove(path))
	write(t, path, "line 2\n")
	r.step(time.Second)
	assert.Equal(t, origin.Seen, r.origin().Condition)
	assert.Equal(t, []string{"line 1", "line 2"}, r.sink.lines)
}

// A folder that has gone, with its file system perhaps, is told as such, and its logs
// are taken up when it comes back.
func TestFolderThatVanishes(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "mounted")
	path := filepath.Join(dir, "a.log")
	write(t, path, "line 1\n")
	r := newRig(t, filepath.Join(dir, "*.log"), "oldest")
	defer r.f.Close()
	r.step(time.Second)
	require.NoError(t, os.Rename(dir, dir+"-away"))
	r.step(time.Second)
	r.step(10 * time.Second)
	assert.Equal(t, origin.Gone, r.origin().Condition)
	assert.Contains(t, r.origin().Words, "was its file system taken away?")
	assert.Contains(t, r.origin().Mend, "mount it again")
	write(t, filepath.Join(dir+"-away", "a.log"), "line 1\nline 2\n")
	require.NoError(t, os.Rename(dir+"-away", dir))
	r.step(time.Second)
	r.step(time.Second)
	assert.Equal(t, origin.Seen, r.origin().Condition)
	assert.Equal(t, []string{"line 1", "line 2"}, r.sink.lines)
}

// Bytes that are no text, and lines without an end, do no harm.
// Once a file has been missed for a while nothing is looked at often: its folder tells when it
// comes back, and one that was taken away and made anew tells again.
func TestQuietWhileAFileIsAway(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "logs")
	require.NoError(t, os.Mkdir(dir, 0o755))
	m := &fileModel{dir: dir}
	m.lines(t, 3, "\n")
	r := newRig(t, m.path(), "oldest")
	r.events = true
	r.restart()
	defer func() { r.f.Close() }()
	if r.f.watcher == nil {
		t.Skip("this system tells of no changes")
	}
	event := func(what fsnotify.Op, name string) {
		for {
			select {
			case ev := <-r.f.Events():
				if r.f.Note(ev); ev.Op.Has(what) && ev.Name == name {
					return
				}
			case <-time.After(10 * time.Second):
				require.FailNow(t, "nothing is told", "%v of %s", what, name)
			}
		}
	}
	r.step(0)
	assert.True(t, r.f.Seldom())
	require.NoError(t, os.Remove(m.path()))
	r.step(time.Second)
	assert.False(t, r.f.Seldom(), "it is missed")
	r.step(missedFor)
	assert.True(t, r.f.Seldom(), "its folder tells when it comes back")
	require.NoError(t, os.Remove(dir))
	r.step(time.Second)
	assert.False(t, r.f.Seldom(), "nobody tells when the folder comes back")
	require.NoError(t, os.Mkdir(dir, 0o755))
	r.step(time.Second)
	assert.True(t, r.f.Seldom(), "the folder that was made anew tells")
	m.lines(t, 2, "\n")
	event(fsnotify.Create, m.path())
	assert.True(t, r.f.again, "it is looked for at once")
	r.step(time.Second)
	assert.Len(t, r.sink.lines, 5)
}

func TestOddLines(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.log")
	write(t, path, "")
	r := newRig(t, path, "oldest")
	long := "line " + strings.Repeat("x", 5<<20)
	write(t, path, "line \x00\x00 nul\nline \xff\xfe bad\r\n\n\r\n"+long+"\nline after\nline unfinished")
	r.step(time.Second)
	require.Len(t, r.sink.lines, 4)
	assert.Equal(t, "line \x00\x00 nul", r.sink.lines[0])
	assert.Equal(t, "line \uFFFD bad", r.sink.lines[1])
	assert.Len(t, r.sink.lines[2], MaxLine, "a line over the limit is cut")
	assert.Equal(t, "line after", r.sink.lines[3])
	assert.EqualValues(t, 1, r.origin().CutLines)
	r.step(time.Minute)
	assert.Len(t, r.sink.lines, 4, "an unfinished last line waits")
	// With a younger file beside it, nobody will finish it.
	require.NoError(t, os.Rename(path, path+".1"))
	write(t, path, "line new\n")
	r.step(time.Second)
	r.step(time.Minute)
	assert.Equal(t, []string{"line new", "line unfinished"}, r.sink.lines[4:])
}

func TestSeries(t *testing.T) {
	for path, want := range map[string]string{
		"/v/x.log": "/v/x.log 0 ", "/v/x.log.3": "/v/x.log 4 ", "/v/x.log.12.gz": "/v/x.log 13  gz",
		"/v/x-20261124":     "/v/x 0 20261124",
		"/v/x.log-20261124": "/v/x.log 0 20261124", "/v/x.log.2026-11-24": "/v/x.log 0 20261124",
		"/v/pump-01.log": "/v/pump-01.log 0 ",
		"/v/desk-3":      "/v/desk-3 0 ", "/v/a.b.c": "/v/a.b.c 0 ", "/v/web-2026-11-24.log": "/v/web.log 0 20261124",
		"/v/web.20261124.log.gz": "/v/web.log 0 20261124 gz", "/v/20261124.log": "/v/.log 0 20261124",
		"/v/web_2026-11-24_05.log":   "/v/web.log 0 2026112405",
		"/v/app-2026-11-28.1.log":    "/v/app.log 0 20261128            000002",
		"/v/app_2026-11-28_20.0.log": "/v/app.log 0 2026112820          000001",
		"/v/app.1.log":               "/v/app.1.log 0 ", "/v/pg-Sat.log": "/v/pg.log 0 ", "/v/x.log.0": "/v/x.log 1 ",
		"/v/entries-2026-11-28T101112.000123.log": "/v/entries.log 0 20261128101112000123",
		"/v/order-120261124.log":                  "/v/order-120261124.log 0 ",
		"/v/web-20261399.log":                     "/v/web-20261399.log 0 ",
		"/v/x.log-20261124.2":                     "/v/x.log 3 20261124",
	} {
		n := readName(path)
		got := fmt.Sprintf("%s %d %s", n.series, n.number, strings.TrimRight(n.date, "0 "))
		if n.zip {
			got += " gz"
		}
		assert.Equal(t, want, got, path)
	}
}

// What a name means may depend on what stands beside it, and on when it was written.
func TestSeriesInFolders(t *testing.T) {
	dir := t.TempDir()
	day := time.Now().Format("060102")
	for _, c := range []struct{ names, series string }{
		{"app.log app.1.log app.2.log.gz", "app.log: app.2.log.gz app.1.log app.log"},
		{"worker.1.log worker.2.log", "worker.1.log: worker.1.log; worker.2.log: worker.2.log"},
		{"u_ex" + day + ".log", "u_ex.log: u_ex" + day + ".log"},
		{"web_" + day + "05.log web_" + day + "14.log", "web.log: web_" + day + "05.log web_" + day + "14.log"},
		{"job-991399.log job-120115.log", "job-120115.log: job-120115.log; job-991399.log: job-991399.log"},
		{"app.log app-" + fmt.Sprint(time.Now().Unix()-5) + ".log.gz", "app.log: app-" +
			fmt.Sprint(time.Now().Unix()-5) + ".log.gz app.log"},
		{"id-1000000001.log", "id-1000000001.log: id-1000000001.log"},
		{"pg-1000.log pg-1010.log pg-1020.log", "pg.log: pg-1000.log pg-1010.log pg-1020.log"},
		{"port-8080.log port-8443.log", "port-8080.log: port-8080.log; port-8443.log: port-8443.log"},
		{"pg-Sat.log pg-Sun.log", "pg.log: pg-Sat.log pg-Sun.log"},
		// written in this order: the greater number is the newer
		{"up.log.1 up.log.2 up.log", "up.log: up.log.1 up.log.2 up.log"},
	} {
		var paths []string
		for i, name := range strings.Fields(c.names) {
			path := filepath.Join(dir, name)
			write(t, path, "line\n")
			at := time.Now().Add(time.Duration(i) * time.Second)
			if strings.HasPrefix(name, "app") {
				at = time.Now().Add(-time.Duration(i) * time.Second)
			}
			require.NoError(t, os.Chtimes(path, at, at))
			paths = append(paths, path)
		}
		f := folderOf(dir, nil)
		var got []string
		for _, series := range slices.Sorted(maps.Keys(f.series)) {
			var names []string
			for _, m := range f.members(series) {
				names = append(names, filepath.Base(m.path))
			}
			got = append(got, filepath.Base(series)+": "+strings.Join(names, " "))
		}
		assert.Equal(t, c.series, strings.Join(got, "; "))
		for _, p := range paths {
			os.Remove(p)
		}
	}
}

// Files named by the day are one log: the older ones are finished before the
// newest, and what began before midnight ends after it.
func TestDatedFiles(t *testing.T) {
	dir := t.TempDir()
	day := func(d int) string { return filepath.Join(dir, fmt.Sprintf("web-2026-11-%02d.log", d)) }
	write(t, day(22), "line 1\n")
	write(t, day(23), "line 2\n")
	r := newRig(t, filepath.Join(dir, "web-*.log"), "now")
	r.step(time.Second)
	assert.Empty(t, r.sink.lines)
	require.Len(t, r.f.Origins(), 1)
	assert.Equal(t, "h:"+filepath.Join(dir, "web.log"), r.origin().Name)
	r.restart()
	write(t, day(23), "line 2\nline 3\n")
	write(t, day(24), "line 4\n")
	r.step(time.Second)
	assert.Equal(t, []string{"line 3", "line 4"}, r.sink.lines)
	r.step(time.Minute)
	r.step(time.Minute)
	assert.Equal(t, origin.Seen, r.origin().Condition, "a finished member is never blind")
	require.NoError(t, os.Remove(day(22)))
	write(t, day(25), "line 5\n")
	r.step(time.Second)
	assert.Equal(t, []string{"line 3", "line 4", "line 5"}, r.sink.lines)
	assert.Equal(t, origin.Seen, r.origin().Condition)
}

func TestVisible(t *testing.T) {
	assert.Equal(t, "␛[2J␀ \uFFFDx é ␡", entry.Visible("\x1b[2J\x00\t\u202ex é \x7f"))
	assert.Equal(t, "plain", entry.Visible("plain"))
}

// Lines that belong together are one entry, however the reading is cut, and the
// last one does not wait for ever.
func TestEntriesOfManyLines(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.log")
	write(t, path, "")
	src := fmt.Sprintf("source s {\n files %s\n begin oldest\n entry starts /^\\d+ / at most 4 lines closed after "+
		"3s\n layout l\n}\nlayout l {\n pattern /^(?<n>\\d+) (?<text>.*)$/\n}\nrule r {\n problem \"line\"\n per "+
		"n\n raise error\n clear by hand\n}\n", lang.Quote(path))
	s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte(src))}, lang.Env{Time: layout.CheckTime})
	require.False(t, lang.Errors(ds), "%v", ds)
	r := &rig{t: t, s: s, places: map[string][]byte{}, now: time.Now()}
	r.start()
	add := func(text string) {
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND, 0o644)
		require.NoError(t, err)
		_, err = f.WriteString(text)
		require.NoError(t, err)
		f.Close()
	}

	add("1 line\n  at a\n  at b\n2 line\r\n  at c\r\n")
	r.step(time.Second)
	assert.Equal(t, []string{"1 line\n  at a\n  at b"}, r.sink.lines, "the last one may go on")
	add("  at d\n")
	r.step(time.Second)
	assert.Len(t, r.sink.lines, 1)
	r.step(time.Second)
	r.step(4 * time.Second)
	assert.Equal(t, "2 line\n  at c\n  at d", r.sink.lines[len(r.sink.lines)-1])
	add("3 line\n a\n b\n c\n d line\n4 line\n")
	r.step(time.Second)
	r.step(4 * time.Second)
	r.step(4 * time.Second)
	assert.Equal(t, []string{"3 line\n a\n b\n c", " d line", "4 line"}, r.sink.lines[2:], "no longer than it may be")
}

// Text comes in several encodings, and stands at its place in the file's bytes.
func TestEncodings(t *testing.T) {
	for _, c := range []struct {
		word  string
		bytes []byte
	}{
		{"auto", []byte("line 1\r\nline é\n")},
		{"utf-8", []byte("\xef\xbb\xbfline 1\nline é\n")},
		{"latin-1", []byte("line 1\nline \xe9\n")},
		{"auto", utf16le("\ufeffline 1\r\nline é\n")},
		{"auto", utf16le("line 1\nline é\n")},
		{"utf-16", utf16le("line 1\nline é\n")},
	} {
		path := filepath.Join(t.TempDir(), "a.log")
		require.NoError(t, os.WriteFile(path, c.bytes, 0o644))
		s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte(fmt.Sprintf("source s {\n files %s\n begin "+
			"oldest\n encoding %s\n}\nrule r {\n problem \"line\"\n raise error\n clear by hand\n}\n",
			lang.Quote(path), c.word)))}, lang.Env{Time: layout.CheckTime})
		require.False(t, lang.Errors(ds), "%v", ds)
		r := &rig{t: t, s: s, places: map[string][]byte{}, now: time.Now()}
		r.start()
		r.step(time.Second)
		assert.Equal(t, []string{"line 1", "line é"}, r.sink.lines, "%s %q", c.word, c.bytes)
		assert.EqualValues(t, len(c.bytes), r.origin().place.Members[0].Offset, "all bytes are read")
	}
}

func utf16le(s string) []byte {
	var b []byte
	for _, u := range utf16.Encode([]rune(s)) {
		b = append(b, byte(u), byte(u>>8))
	}
	return b
}

// A file whose room was made before it is written to waits for what will stand
// there.
func TestRoomMadeBefore(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.log")
	write(t, path, "line 1\n"+strings.Repeat("\x00", 3<<20))
	r := newRig(t, path, "oldest")
	r.step(time.Second)
	f, err := os.OpenFile(path, os.O_WRONLY, 0o644)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("line 2\n"), 7)
	require.NoError(t, err)
	f.Close()
	r.step(time.Second)
	assert.Equal(t, []string{"line 1", "line 2"}, r.sink.lines)
}

// A writer whose clock lies back is told from one that is late: the difference is
// taken off what it writes, over a restart too, until its clock agrees again.
func TestClockThatLiesBack(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.log")
	write(t, path, "")
	src := fmt.Sprintf("source s {\n files %s\n begin oldest\n layout l\n}\nlayout l {\n pattern "+
		"/^(?<at>\\S+T\\S+) (?<text>.*)$/\n time at rfc3339\n}\nrule r {\n problem \"line\"\n per nothing\n raise "+
		"error\n clear by hand\n}\n", lang.Quote(path))
	s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte(src))}, lang.Env{Time: layout.CheckTime})
	require.False(t, lang.Errors(ds), "%v", ds)
	r := &rig{t: t, s: s, places: map[string][]byte{}, now: time.Now().Truncate(time.Second)}
	r.start()
	log := func(back time.Duration, lines int) time.Duration {
		var b strings.Builder
		for range lines {
			fmt.Fprintf(&b, "%s line\n", r.now.Add(-back).UTC().Format(time.RFC3339))
		}
		(&fileModel{dir: filepath.Dir(path), name: "a.log"}).append(t, b.String())
		r.step(2 * time.Second)
		return entry.Of(r.now).Sub(r.sink.at)
	}
	r.step(time.Second)

	log(0, 3)
	for i := range 12 { // a buffer that is emptied now and then
		log(time.Duration(10+i)*time.Minute, 1)
		log(0, 2)
	}
	for i := range 40 { // what was held up comes in one go, by and by
		log(40*time.Minute-time.Duration(i)*time.Minute/2, 1)
	}
	assert.Zero(t, r.origin().Skew(), "late is late, not wrong")
	assert.Empty(t, r.told)
	for range 20 {
		log(time.Hour, 2)
	}
	assert.InDelta(t, time.Hour, r.origin().Skew(), float64(5*time.Second))
	assert.Less(t, log(time.Hour, 1), 10*time.Second, "it is taken off")
	assert.Equal(t, origin.WrongClock, r.origin().State(r.now).Condition)
	assert.Contains(t, strings.Join(r.told, ""), "1h behind")
	r.restart()
	assert.Less(t, log(time.Hour, 1), 10*time.Second, "over a restart too")
	assert.Less(t, log(0, 1), 10*time.Second, "a clock that was set agrees at once")
	assert.Zero(t, r.origin().Skew())
}

// What is known to have gone without being read is told in bytes, and stays known.
func TestGapIsTold(t *testing.T) {
	dir := t.TempDir()
	m := &fileModel{dir: dir}
	m.append(t, "line 1\n")
	r := newRig(t, m.path(), "oldest")
	defer func() { r.f.Close() }()
	r.step(time.Second)
	m.append(t, "line 2\n")
	copied, err := os.ReadFile(m.path())
	require.NoError(t, err)
	m.append(t, "line 3 is lost\n")
	r.f.again = true
	r.f.Look(r.now) // seen, and not read yet
	require.NoError(t, os.WriteFile(m.path()+".1", copied, 0o644))
	require.NoError(t, os.Truncate(m.path(), 0))
	m.append(t, "line 4\n")
	r.step(time.Second)
	assert.Equal(t, []string{"line 1", "line 2", "line 4"}, r.sink.lines)
	assert.EqualValues(t, len("line 3 is lost\n"), r.origin().State(r.now).Gaps)
	assert.Contains(t, strings.Join(r.told, ""), "15 bytes were lost")
	m.append(t, "line 5 is lost too\n")
	r.f.again = true
	r.f.Look(r.now)
	require.NoError(t, os.Truncate(m.path(), 0))
	r.step(time.Second)
	r.restart()
	r.step(time.Second)
	assert.EqualValues(t, len("line 3 is lost\nline 5 is lost too\n"), r.origin().State(r.now).Gaps)
}

// An origin whose newest lines do not fit its layout says so, with such a line, and
// takes it back.
func TestNoLongerFits(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.log")
	write(t, path, strings.Repeat("7: fine\n", 40))
	src := fmt.Sprintf("source s {\n files %s\n begin oldest\n layout l\n}\nlayout l {\n pattern /^(?<n>\\d+): "+
		"(?<text>.*)$/\n}\n", lang.Quote(path))
	s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte(src))}, lang.Env{Time: layout.CheckTime})
	require.False(t, lang.Errors(ds), "%v", ds)
	r := &rig{t: t, s: s, places: map[string][]byte{}, now: time.Now()}
	r.start()
	state := func(line string) origin.State {
		for range 20 {
			(&fileModel{dir: filepath.Dir(path), name: "a.log"}).append(t, strings.Repeat(line+"\n", 5))
			r.step(time.Second)
		}
		return r.origin().State(r.now)
	}
	assert.Equal(t, origin.Seen, state("7: fine").Condition)
	st := state("now \x1b[2J in another form")
	assert.Equal(t, origin.NoFit, st.Condition)
	assert.Contains(t, st.Words, "now ␛[2J in another form")
	assert.Equal(t, origin.Seen, state("8: fine again").Condition)
}

// A hundred megabytes without a line end are one entry, cut, and cost no more
// memory than any other.
func TestHundredMegabytesWithoutALineEnd(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.log")
	f, err := os.Create(path)
	require.NoError(t, err)
	chunk := bytes.Repeat([]byte("line x"), 1<<20/6)
	for range 100 {
		_, err = f.Write(chunk)
		require.NoError(t, err)
	}
	r := newRig(t, path, "oldest")
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	r.step(time.Second)
	runtime.ReadMemStats(&after)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(20<<20), "allocated in all")
	require.Len(t, r.sink.lines, 1)
	assert.Len(t, r.sink.lines[0], MaxLine)
	_, err = f.WriteString("\nline after\n")
	require.NoError(t, err)
	require.NoError(t, f.Close())
	r.step(time.Second)
	assert.Equal(t, "line after", r.sink.lines[1])
	assert.EqualValues(t, 1, r.origin().CutLines)
}
