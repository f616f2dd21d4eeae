package report

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/api"
	"dimlantern/core/ask"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/draw"
	"dimlantern/export"
	"dimlantern/folder"
	"dimlantern/notify/via"
	"dimlantern/query"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// office is a maker with a clock that is set by hand, over one data folder.
type office struct {
	*Maker
	clock   time.Time
	told    map[string]int // messages, by identifier
	noticed []string
	fails   bool // there is no answer
	fit     int64
}

func newOffice(t require.TestingT, dir, settings string, at time.Time) *office {
	s, ds := folder.CheckErrors([]folder.Text{{Name: "s", Body: settings}})
	require.False(t, lang.Errors(ds), "%v", ds)
	st, err := store.Open(dir)
	require.NoError(t, err)
	o := &office{clock: at, told: map[string]int{}, fit: 1}
	sn := &snapshot.Snapshot{House: &snapshot.House{Host: "host-a"}, Settings: s, Engine: &engine.View{}}
	o.Maker = &Maker{Window: snapshot.NewWindow(sn), Store: st, Data: dir, Now: func() time.Time { return o.clock },
		Ask: func(_ context.Context, name string, lamp entry.Instant, over *lang.Over) (*query.Asked, error) {
			if o.fails {
				return nil, errors.New("the disk is gone")
			}
			p, err := ask.New(&lang.Question{Name: name, On: []string{"app"}, Show: []lang.Column{{Fn: "count"}},
				Over: over}, ask.Moment{Lamp: lamp, Zone: time.UTC})
			require.NoError(t, err)
			acc := ask.NewAcc(p)
			for range o.fit {
				acc.Add(&entry.Entry{At: p.Span.From}, ask.Place{}, nil)
			}
			return &query.Asked{Answer: acc.Answer(ask.Unseen{Kept: entry.None}), Kept: entry.None}, nil
		},
		Shift: func(_ context.Context, q api.ShiftQuery) (*api.Shift, error) {
			return &api.Shift{From: q.From, To: q.To}, nil
		},
		Tell:    func(_ string, m *via.Message) error { o.told[m.ID]++; return nil },
		Told:    func(string) {},
		Noticed: func(f map[string]any) { o.noticed = append(o.noticed, fmt.Sprint(f["event"])) },
	}
	return o
}

const dayReport = `settings { zone "Europe/Dublin" }
source app { files "/x.log" }
contact duty { mail "duty@gullhaven.example" }
ask lows { on app
  show count }
report r {
  ask lows
  every day at 01:30
  covers yesterday
  tell duty
  keep 1000
}
`

// Each time that a report is due gives one result that is told once: over clock changes, restarts and
// times when nothing ran, of which the last seven are made.
func TestMadeOnceWhenDue(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp("", "dl-")
		require.NoError(t, err)
		defer os.RemoveAll(dir)
		near := rapid.SampledFrom([]string{"2026-03-27", "2026-10-23", "2026-07-01"}).Draw(t, "near")
		begin, _ := time.ParseInLocation(time.DateOnly, near, zone)
		o := newOffice(t, dir, dayReport, begin)
		o.look(t.Context())
		want, told := map[entry.Instant]bool{}, map[string]int{}
		schedule := o.Window.Now().Settings.Reports[0].Every
		for range rapid.IntRange(1, 12).Draw(t, "steps") {
			from := entry.Of(o.clock)
			away := time.Hour * time.Duration(rapid.SampledFrom([]int{1, 9, 30, 300}).Draw(t, "later"))
			clock := o.clock.Add(away)
			if rapid.Bool().Draw(t, "killed") {
				for id, n := range o.told {
					told[id] += n
				}
				require.NoError(t, o.Store.Close())
				o = newOffice(t, dir, dayReport, clock)
			}
			o.clock = clock
			var dues []entry.Instant
			for at := schedule.Next(from, zone); at <= entry.Of(clock); at = schedule.Next(at, zone) {
				dues = append(dues, at)
			}
			for _, at := range dues[max(0, len(dues)-mostMissed):] {
				want[at] = true
			}
			for range 2 { // it looks again and again
				o.look(t.Context())
				o.clock = o.clock.Add(time.Second)
			}
		}
		results, err := o.Store.Results("r")
		require.NoError(t, err)
		got := map[entry.Instant]bool{}
		for _, x := range results {
			got[x.Due] = true
			day := x.Due.Time().In(zone)
			require.Equal(t, time.Date(day.Year(), day.Month(), day.Day(), 0, 0, 0, 0, zone).UTC(), x.To.Time().UTC(),
				"it covers the day before it was due")
			require.FileExists(t, filepath.Join(dir, x.Files[0].Path))
		}
		require.Equal(t, want, got)
		for id, n := range o.told {
			told[id] += n
		}
		require.Len(t, told, len(want))
		for id, n := range told {
			require.Equal(t, 1, n, id)
		}
		require.NoError(t, o.Store.Close())
	})
}

// A report that fails is tried again, is noticed, and does not keep the next one from being made.
func TestFailedReport(t *testing.T) {
	begin := time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC)
	o := newOffice(t, t.TempDir(), dayReport, begin)
	o.look(t.Context())
	o.fails, o.clock = true, begin.Add(24*time.Hour)
	for range 10 {
		o.look(t.Context())
		o.clock = o.clock.Add(2 * tryAgain)
	}
	results, err := o.Store.Results("r")
	require.NoError(t, err)
	require.Len(t, results, 1)
	assert.Equal(t, mostTries, results[0].Tries)
	assert.Contains(t, results[0].Failed, "the disk is gone")
	assert.Empty(t, o.told)
	assert.Equal(t, "report-failed", o.noticed[0])
	o.fails, o.clock = false, begin.Add(48*time.Hour)
	o.look(t.Context())
	assert.Equal(t, "report-made", o.noticed[len(o.noticed)-1])
	assert.Len(t, o.told, 1)
}

// What is empty is left out where the report says so, and that is recorded; so many results stay as it
// says; nothing is written over.
func TestEmptyKeptAndWritten(t *testing.T) {
	out := t.TempDir()
	settings := strings.Replace(dayReport, "keep 1000", "keep 2\n skip when empty\n as csv\n write \""+out+"\"", 1)
	begin := time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC)
	dir := t.TempDir()
	o := newOffice(t, dir, settings, begin)
	o.look(t.Context())
	theirs := filepath.Join(out, "r-2026-07-03.csv")
	require.NoError(t, os.WriteFile(theirs, []byte("somebody's"), 0o644))
	for day := range 5 {
		o.fit = 1
		if day == 4 {
			o.fit = 0
		}
		o.clock = begin.AddDate(0, 0, day+1)
		o.look(t.Context())
	}
	results, err := o.Store.Results("r")
	require.NoError(t, err)
	require.Len(t, results, 2)
	assert.True(t, results[0].Skipped)
	assert.Len(t, o.told, 4)
	b, err := os.ReadFile(theirs)
	require.NoError(t, err)
	assert.Equal(t, "somebody's", string(b))
	files, err := filepath.Glob(out + "/*")
	require.NoError(t, err)
	assert.Len(t, files, 5)
	assert.Contains(t, files, filepath.Join(out, "r-2026-07-03-2.csv"))
	kept, err := filepath.Glob(filepath.Join(dir, ResultsFolder, "r", "*"))
	require.NoError(t, err)
	assert.Len(t, kept, 2, "files of results that went are gone: %v", kept)
}

// tame is a paper with the shape of another and a harmless text for each of its texts.
func tame(p *draw.Paper) *draw.Paper {
	text := func(s string) string { return s[:0] + strings.Repeat("x", min(len(s), 1)) }
	row := func(r []string) (out []string) {
		for _, s := range r {
			out = append(out, text(s))
		}
		return out
	}
	q := &draw.Paper{Title: text(p.Title), Span: p.Span, Host: p.Host, Made: p.Made}
	for _, x := range p.Parts {
		y := draw.Part{Title: text(x.Title), Question: text(x.Question), Words: row(x.Words), Failed: text(x.Failed),
			Head: row(x.Head), Rests: row(x.Rests)}
		for _, r := range x.Rows {
			y.Rows = append(y.Rows, row(r))
		}
		for _, l := range x.Lists {
			z := draw.List{Title: l.Title}
			for _, line := range l.Lines {
				z.Lines = append(z.Lines, draw.Line{Sort: line.Sort, Text: text(line.Text), More: text(line.More)})
			}
			y.Lists = append(y.Lists, z)
		}
		q.Parts = append(q.Parts, y)
	}
	return q
}

// Whatever stands in entries, a page has no element more, a table no row more, a mail does nothing to a
// terminal, and no cell is a formula.
func TestPapersHoldAnything(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		cell := rapid.OneOf(rapid.String(), rapid.SampledFrom([]string{"<script>alert(1)</script>", "=1+1",
			"-28ms", "+1", "@x", "a\x00b\x1b[31m", "\u202egnp", strings.Repeat("x", 3000), "日本語",
			"\U0001F512", "\xff\xfe"}))
		row := func() []string { return []string{cell.Draw(t, "a"), cell.Draw(t, "b")} }
		p := &draw.Paper{Title: cell.Draw(t, "title"), Span: "today", Host: "host-a", Made: "now"}
		for range rapid.IntRange(0, 5).Draw(t, "parts") {
			x := draw.Part{Title: cell.Draw(t, "part"), Question: cell.Draw(t, "question"), Words: row(), Head: row(),
				Rests: row(), Failed: rapid.SampledFrom([]string{"", "", "a\x1b]0;b\x07 <b>"}).Draw(t, "failed")}
			for range rapid.IntRange(0, 60).Draw(t, "rows") {
				x.Rows = append(x.Rows, row())
			}
			x.Lists = []draw.List{{Title: "Over", Lines: []draw.Line{{Sort: "error", Text: cell.Draw(t, "line")}}}}
			p.Parts = append(p.Parts, x)
		}
		for _, form := range append([]string{"text"}, lang.ReportForms...) {
			b, err := Write(p, form)
			require.NoError(t, err, form)
			switch form {
			case "html":
				plain, err := Write(tame(p), form)
				require.NoError(t, err)
				require.Equal(t, bytes.Count(plain, []byte("<")), bytes.Count(b, []byte("<")))
				require.NotContains(t, string(b), "\x1b")
			case "text":
				require.NotRegexp(t, `[\x00-\x09\x0b-\x1f\x7f]|\x{202e}`, string(b))
				plain, err := Write(tame(p), form)
				require.NoError(t, err)
				require.Equal(t, bytes.Count(plain, []byte("\n")), bytes.Count(b, []byte("\n")))
			case "json":
				require.True(t, json.Valid(b))
			case "csv":
				r := csv.NewReader(bytes.NewReader(b))
				r.FieldsPerRecord = -1
				for {
					cells, err := r.Read()
					if errors.Is(err, io.EOF) {
						break
					}
					require.NoError(t, err)
					for _, c := range cells {
						require.Equal(t, export.Cell(c), c)
					}
				}
			case "pdf":
				require.True(t, bytes.HasPrefix(b, []byte("%PDF-")))
			}
		}
	})
}
