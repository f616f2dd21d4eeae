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
