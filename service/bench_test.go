package service

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/api"
	"dimlantern/store"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/entry"
)

// The bench tries a text before anybody has saved it: what its rule means, what it would
// have done, what it makes of the kinds of entries; and writes it without losing what
// somebody else has written meanwhile.
func TestBench(t *testing.T) {
	p := newPlace(t, t.TempDir())
	start := time.Now().UTC().Add(-50 * time.Minute).Truncate(time.Minute)
	for i, text := range []string{"pump 7 low", "pump 7 low", "pump 7 LOW", "pump 7 fine", "pump 8 low",
		"valve 3 late", "pump 7 low"} {
		p.append(start.Add(time.Duration(i)*time.Minute).Format(time.RFC3339) + " a " + text + "\n")
	}
	p.open()
	defer p.crash()
	p.step(time.Now())
	file := filepath.Join(p.dir, "settings", "app.lantern")
	opened, err := p.s.bench.BenchOpen(context.Background(), api.BenchFile{File: file})
	require.NoError(t, err)
	line := strings.Count(opened.Body[:strings.Index(opened.Body, "raise    warning")], "\n") + 1
	ask := func(body string) *api.BenchView {
		v, err := p.s.bench.Bench(context.Background(),
			api.BenchQuery{File: file, Body: body, Line: line, Span: time.Hour, From: entry.Of(start),
				Column: time.Minute, Columns: 60})
		require.NoError(t, err)
		return v
	}
	v := ask(opened.Body)
	assert.Equal(t, "low", v.Rule)
	require.NotNil(t, v.Tried)
	assert.Equal(t, []int64{4, 1, 0}, []int64{v.Tried.Hits, v.Tried.Raised, v.Tried.Open})
	assert.Equal(t, map[string]int{"recovery": 1}, v.Tried.Ends)
	others := func(of string) string {
		at := strings.Split(opened.Body, "\n")[line-1]
		x, err := p.s.bench.Others(context.Background(),
			api.BenchQuery{File: file, Body: opened.Body, Line: line, Col: strings.Index(at, of), Span: time.Hour})
		require.NoError(t, err)
		return x.Words
	}
	assert.Equal(t, "1 gives 3 alerts, 3 gives 0 alerts, 4 gives 0 alerts", others("2 in"))
	bareBody := strings.Replace(opened.Body, "warning at 2 in 5m", "warning", 1)
	x, err := p.s.bench.Others(context.Background(),
		api.BenchQuery{File: file, Body: bareBody, Line: line, Span: time.Hour})
	require.NoError(t, err)
	assert.Equal(t, "at 2 in 5m gives 1 alert, at 3 in 5m gives 0 alerts, at 5 in 10m gives 0 alerts", x.Words)
	assert.Equal(t, "2m gives 1 alert, 3m gives 1 alert, 10m gives 1 alert, 15m gives 1 alert", others("5m"))
	assert.Contains(t, strings.Join(v.Words, " "), "2 hits that lie within less than 5 minutes are a warning.")
	is := map[string]string{}
	for _, k := range v.Kinds {
		is[k.Text] = k.Is
	}
	assert.Equal(t, map[string]string{"pump <number> low": "problem", "pump <number> LOW": "near",
		"pump <number> fine": "over", "valve <number> late": ""}, is)

	// An error is told with its place, and nothing is tried.
	broken := ask(strings.Replace(opened.Body, "at 2 in 5m", "at two in 5m", 1))
	assert.Nil(t, broken.Tried)
	require.NotEmpty(t, broken.Findings)
	assert.True(t, broken.Findings[0].Error)
	assert.Equal(t, line, broken.Findings[0].Line)

	// This is the problem as well: the clause is written where it belongs.
	m, err := p.s.bench.Mark(context.Background(),
		api.MarkQuery{File: file, Body: opened.Body, Line: line, Is: "problem", Source: "app",
			Texts: []string{start.Format(time.RFC3339) + " a pump 7 LOW"}})
	require.NoError(t, err)
	assert.Equal(t, `problem /pump (?<pump>\d+) LOW/`, m.Clause)
	assert.Equal(t, int64(5), ask(m.Body).Tried.Hits)
	m, err = p.s.bench.Mark(context.Background(), api.MarkQuery{File: file, Body: m.Body, Line: line, Is: "ignore",
		Source: "app", Texts: []string{start.Format(time.RFC3339) + " a pump 8 low"}})
	require.NoError(t, err)
	assert.Equal(t, int64(1), ask(m.Body).Tried.Hits, "its numbers are left open, so all of that kind are ignored")

	// What was fed by hand brings what it would, and is kept as an expect that passes.
	fed := []string{"2026-11-24T05:00:00Z a pump 7 low", "2026-11-24T05:01:00Z a pump 7 low",
		"2026-11-24T05:02:00Z a pump 7 fine"}
	v, err = p.s.bench.Bench(context.Background(),
		api.BenchQuery{File: file, Body: opened.Body, Line: line, Span: time.Hour, From: entry.Of(start),
			Column: time.Minute, Columns: 60, Fed: fed})
	require.NoError(t, err)
	assert.Equal(t, [][]string{{}, {`raised warning host "a" pump "7"`}, {`cleared warning host "a" pump "7"`}},
		v.Fed)
	kept, err := p.s.bench.Mark(context.Background(),
		api.MarkQuery{File: file, Body: opened.Body, Line: line, Is: "expect", Texts: fed})
	require.NoError(t, err)
	tested := ask(kept.Body)
	assert.Equal(t, []any{1, 0}, []any{tested.Passed, len(tested.Failed)}, kept.Body)

	// Written only where nobody else has written, and where it has no errors.
	p.s.bench.TakeUp = func(context.Context, store.Action, string) ([]string, error) { return nil, nil } // no loop runs
	save := func(body string) error {
		_, err := p.s.bench.BenchWrite(context.Background(), api.WriteQuery{BenchSave: api.BenchSave{File: file,
			Body: body, Was: opened.Body}})
		return err
	}
	assert.ErrorContains(t, save(strings.Replace(opened.Body, "at 2", "at two", 1)), "nothing is written")
	require.NoError(t, os.WriteFile(file, []byte(opened.Body+"# somebody else\n"), 0o640))
	assert.ErrorIs(t, save(m.Body), api.Changed)
	require.NoError(t, os.WriteFile(file, []byte(opened.Body), 0o640))
	require.NoError(t, os.Chmod(file, 0o640))
	require.NoError(t, save(m.Body))
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, m.Body, string(b))
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
	_, err = p.s.bench.BenchWrite(context.Background(), api.WriteQuery{BenchSave: api.BenchSave{
		File: filepath.Join(p.dir, "elsewhere.lantern"), New: true}})
	assert.ErrorContains(t, err, "no settings file")
}
