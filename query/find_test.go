package query_test

import (
	"compress/gzip"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/folder"
	"dimlantern/query"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const soughtSettings = `source harbour {
  files "LOG"
  entry starts /^\d{4}-/
  layout harbour-line
}
layout harbour-line {
  pattern /^(?<at>\S+) (?<host>\S+) (?<n>\d+) (?<text>.*)$/
  time at like "2026-11-24T05:32:28Z"
  mask /secret=(?<secret>\S+)/
}
`

// What is looked for is found in all that there is, in rotated and packed copies, newest first,
// each entry once, whatever the answers are cut into.
func TestFindAll(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir := t.TempDir()
		start := time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC)
		n, parts := 0, rapid.IntRange(1, 3).Draw(rt, "files")
		long := rapid.SampledFrom([]int{10, 400, 40_000}).Draw(rt, "long")
		var hits, words []string
		for i := parts - 1; i >= 0; i-- {
			var b strings.Builder
			for range rapid.IntRange(1, 60).Draw(rt, "entries") {
				n++
				text := rapid.SampledFrom([]string{"pump low", "Pump LOW again", "fine", "fine secret=lower"}).Draw(
					rt, "text")
				line := fmt.Sprintf("%s lock-%d %d %s %s", start.Add(time.Duration(n)*time.Second).Format(
					time.RFC3339), n%3, n,
					text, strings.Repeat("x", rapid.IntRange(0, long).Draw(rt, "x")))
				if n%4 == 0 {
					line += "\n  at the north basin\n"
				}
				b.WriteString(line + "\n")
				if n%3 == 1 {
					hits = append(hits, fmt.Sprint(n))
				}
				if strings.Contains(strings.ToLower(text), "low") && !strings.Contains(text, "secret") {
					words = append(words, fmt.Sprint(n))
				}
			}
			name := filepath.Join(dir, "harbour.log")
			if i > 0 {
				name += fmt.Sprintf(".%d", i)
			}
			if i > 1 || i == 1 && rapid.Bool().Draw(rt, "packed") {
				f, err := os.Create(name + ".gz")
				require.NoError(rt, err)
				z := gzip.NewWriter(f)
				_, _ = z.Write([]byte(b.String()))
				require.NoError(rt, z.Close())
				require.NoError(rt, f.Close())
				name += ".gz"
			} else {
				require.NoError(rt, os.WriteFile(name, []byte(b.String()), 0o644))
			}
			at := start.Add(time.Duration(n) * time.Second)
			require.NoError(rt, os.Chtimes(name, at, at))
		}
		path := filepath.Join(dir, "harbour.log")
		texts := []folder.Text{{Name: "t", Body: strings.Replace(soughtSettings, "LOG", path, 1)}}
		for typed, want := range map[string][]string{`host == "lock-1"`: hits, "LOW": words} {
			sought, err := query.Seek(texts, []string{"harbour"}, typed)
			require.NoError(rt, err)
			log := query.Log{Name: "a:" + path, Series: path, Host: "a", Source: sought.Settings.Source("harbour")}
			var got []string
			last, looked := entry.Instant(1<<62), int64(0)
			q := api.FindQuery{Lines: 1000}
			for {
				f, err := query.FindIn(context.Background(), sought, []query.Log{log}, q, 0)
				require.NoError(rt, err)
				require.Empty(rt, f.Unread)
				looked += f.Looked
				for _, e := range f.Lines {
					require.LessOrEqual(rt, e.At, last, "newest first")
					last = e.At
					require.NotContains(rt, e.Raw, "secret=lower")
					for _, x := range e.Fields {
						if x.Name == "n" {
							got = append(got, x.Value)
						}
					}
				}
				if q.Go = f.Go; f.Go == nil {
					break
				}
				require.LessOrEqual(rt, f.Until, last+entry.Instant(time.Second))
			}
			for i, k := 0, len(want)-1; i < k; i, k = i+1, k-1 {
				want[i], want[k] = want[k], want[i]
			}
			assert.Equal(rt, want, got, typed)
			assert.Equal(rt, int64(n), looked)
		}
	})
}

// What is typed is an expression where it is one, else words; a broken expression says what is
// wrong.
func TestSeek(t *testing.T) {
	texts := []folder.Text{{Name: "t", Body: strings.Replace(soughtSettings, "LOG", "/v/h.log", 1)}}
	for typed, words := range map[string]int{`n > 4`: 0, `"pump low" and not host == "lock-1"`: 0, "/pum+p/i": 0,
		"pump low": 2, "/v/h.log": 1, "not found": 2, "what?": 1, "a (b": 2} {
		x, err := query.Seek(texts, []string{"harbour"}, typed)
		require.NoError(t, err, typed)
		assert.Len(t, x.Words, words, typed)
	}
	for _, typed := range []string{`n >`, `n == `, `"pump`, "", "  ", `nosuchfield == 4`} {
		_, err := query.Seek(texts, []string{"harbour"}, typed)
		var p *api.Problem
		require.ErrorAs(t, err, &p, typed)
		assert.NotEmpty(t, p.What)
	}
}

// A running service finds in one log, in a source or in all; what is not there is said.
func TestFindAsked(t *testing.T) {
	h := newHouse(t, 11)
	var src api.SourceView
	require.Eventually(t, func() bool { // all that came today
		src = ask(h, api.AskSources, api.ViewQuery{Column: time.Minute, Columns: 10}).Sources[0]
		return src.Today+before(h) == int64(len(h.lines))
	}, 20*time.Second, 20*time.Millisecond)
	for _, q := range []api.FindQuery{{Where: api.InAll, Text: "LOW"}, {Where: api.InSource, Source: src.Name,
		Text: `"low"`},
		{Where: api.InOrigin, Origin: src.Origins[0].Name, Text: "/l[o]w/"}} {
		q.Lines = 1000
		var got []string
		for {
			f := ask(h, api.AskFind, q)
			for _, e := range f.Lines {
				assert.Equal(t, src.Name, e.Source)
				got = append(got, e.Raw)
			}
			if q.Go = f.Go; f.Go == nil {
				break
			}
		}
		var want []string
		for i := len(h.lines) - 1; i >= 0; i-- {
			if strings.HasSuffix(h.lines[i], " low") {
				want = append(want, h.lines[i])
			}
		}
		assert.Equal(t, want, got, q.Text)
	}
	some := ask(h, api.AskFind, api.FindQuery{Where: api.InAll, Text: "low", Lines: 2})
	assert.Len(t, some.Lines, 2, "no more than are wanted")
	for _, q := range []api.FindQuery{{Where: api.InOrigin, Origin: "nobody:/x", Text: "low"},
		{Where: api.InSource, Source: "nobody", Text: "low"}, {Where: api.InAll, Text: `"low`}} {
		_, err := api.AskFind.Call(context.Background(), h.desk, q)
		var p *api.Problem
		assert.ErrorAs(t, err, &p, q.Text)
	}
}

// before is how many entries came before midnight.
func before(h *house) int64 {
	now := time.Now()
	midnight := entry.Of(time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location()))
	n := int64(0)
	for _, at := range h.entries {
		if at < midnight {
			n++
		}
	}
	return n
}

// What a file said that is gone is shown from what was kept as evidence, and the view says so.
func TestEntriesOfAGoneFile(t *testing.T) {
	h := newHouse(t, 12)
	origin := ask(h, api.AskSources, api.ViewQuery{Column: time.Minute, Columns: 10}).Sources[0].Origins[0]
	require.NoError(t, os.Remove(origin.Path))
	e := ask(h, api.AskEntries, api.EntriesQuery{Origin: origin.Name, Lines: 1000})
	assert.Contains(t, e.Words, "the file is gone: these were kept as evidence")
	hits := 0
	for _, list := range h.low {
		hits += len(list)
	}
	require.Greater(t, len(e.Lines), hits, "hits of both rules, and recoveries")
	for i, l := range e.Lines {
		assert.Equal(t, h.lines[index(h, l.At)], l.Raw)
		if i > 0 {
			assert.GreaterOrEqual(t, e.Lines[i-1].At, l.At, "newest first")
		}
	}
	f := ask(h, api.AskFind, api.FindQuery{Where: api.InAll, Text: "low", Lines: 10})
	assert.Empty(t, f.Lines)
	assert.Nil(t, f.Go)
}
