package service

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/api"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/entry"
)

// The traps in which rules are caught show on the bench, each in its own way.
func TestTrapsShowOnTheBench(t *testing.T) {
	p := newPlace(t, t.TempDir())
	start := time.Now().UTC().Add(-3 * time.Hour).Truncate(time.Minute)
	said := 0
	say := func(at time.Duration, format string, a ...any) {
		p.append(fmt.Sprintf("%s h%d %s\n", start.Add(at).Format(time.RFC3339), said%40, fmt.Sprintf(format, a...)))
		said++
	}
	for i := range 500 {
		at := time.Duration(i) * 20 * time.Second
		say(at, "GET /map 200 24041 bytes")
		if i%50 == 0 {
			say(at, "GET /old 404 12 bytes")
		}
		if i%100 == 0 {
			say(at, "DOOR of hut %d FORCED", i/100)
		}
		if i >= 494 {
			say(at, "seal torn")
		}
	}
	p.open()
	defer p.crash()
	p.step(time.Now())
	file := filepath.Join(p.dir, "settings", "try.lantern")
	try := func(clauses string) *api.BenchView {
		v, err := p.s.bench.Bench(context.Background(),
			api.BenchQuery{File: file, Body: "rule try {\n" + clauses + "\n}\n", Line: 2, Span: 175 * time.Minute,
				From: entry.Of(start), Column: 5 * time.Minute, Columns: 40})
		require.NoError(t, err)
		return v
	}
	kinds := func(v *api.BenchView, is string) (out []string) {
		for _, k := range v.Kinds {
			if k.Is == is {
				out = append(out, k.Example[strings.Index(k.Example, " h")+1:])
			}
		}
		return out
	}

	// A number inside a number: the wrong kind stands among those that are caught.
	v := try("problem /404/\nraise warning\nclear after 1h quiet")
	require.Len(t, kinds(v, "problem"), 2)
	assert.Contains(t, strings.Join(kinds(v, "problem"), "\n"), "24041 bytes")
	assert.NotEmpty(t, v.Findings, "and the linter says so")
	v = try("problem \"404\"\nraise warning\nclear after 1h quiet")
	require.Len(t, kinds(v, "problem"), 1)

	// What only capitals keep out is near, and what differs is named.
	v = try("problem /door of hut/\nraise warning\nclear after 1h quiet")
	require.Len(t, kinds(v, "near"), 1)
	for _, k := range v.Kinds {
		if k.Is == "near" {
			assert.Contains(t, k.Note, "door of hut")
		}
	}
	assert.Len(t, kinds(try("problem /door of hut/i\nraise warning\nclear after 1h quiet"), "problem"), 1)

	// A recovery that cannot agree on the key.
	v = try("problem /hut (?<hut>\\d+) FORCED/\nrecovery /seal (?<hut>\\w+)/\nper hut\nraise warning")
	assert.Equal(t, []string{"6 entries mean over, and none of them ended an alert: they speak of hut torn, and " +
		"hits of hut 4."}, v.Notes)

	// A threshold that no key ever met, with what came nearest.
	v = try("problem \"404\"\nper nothing\nraise warning at 5 in 20m\nclear after 1h quiet")
	require.Len(t, v.Notes, 1)
	assert.Equal(t, "No key ever met 5 hits in 20m: the most are 2.", v.Notes[0])
	assert.Zero(t, v.Tried.Raised)

	// More alerts than anybody reads.
	v = try("problem \"GET\"\nper host\nraise warning\nclear after 1s quiet")
	assert.Greater(t, v.Tried.Raised, int64(400))
	assert.Contains(t, strings.Join(v.Notes, "\n"), "times a day")

	// A text that matches in the newest lines only.
	v = try("problem \"seal torn\"\nper nothing\nraise warning\nclear after 1h quiet")
	assert.Contains(t, strings.Join(v.Notes, "\n"), "All hits are newer than")
}

// What is not meant makes the pattern tighter where that catches all else as before; where
// nothing does, it is ignored, with what that takes from the rule.
func TestNotThis(t *testing.T) {
	p := newPlace(t, t.TempDir())
	start := time.Now().UTC().Add(-time.Hour).Truncate(time.Minute)
	for i := range 40 {
		at := start.Add(time.Duration(i) * time.Minute).Format(time.RFC3339)
		p.append(at + " a GET /map 200 24041 bytes\n" + at + " a GET /old 404 12 bytes\n" + at +
			" a HEAD /old 404 is fine\n")
	}
	p.open()
	defer p.crash()
	p.step(time.Now())
	file := filepath.Join(p.dir, "settings", "try.lantern")
	body := "rule try {\n  on      app\n  problem /404/\n  raise   warning\n  clear   after 1h quiet\n}\n"
	v, err := p.s.bench.Bench(context.Background(), api.BenchQuery{File: file, Body: body, Line: 2, Span: time.Hour,
		From: entry.Of(start), Column: time.Minute, Columns: 60})
	require.NoError(t, err)
	not := func(words string) *api.Marked {
		for _, k := range v.Kinds {
			if strings.Contains(k.Example, words) {
				m, err := p.s.bench.Mark(context.Background(),
					api.MarkQuery{File: file, Body: body, Line: 2, Is: "ignore", Source: "app",
						Texts: []string{k.Example}, Kinds: []string{k.ID}})
				require.NoError(t, err)
				return m
			}
		}
		require.Fail(t, "no such kind", words)
		return nil
	}
	m := not("24041")
	assert.Contains(t, m.Body, `problem /\b404\b/`)
	assert.NotContains(t, m.Body, "ignore")
	m = not("HEAD")
	assert.Contains(t, m.Body, `ignore  /HEAD \/old \d+ is fine/`)
	assert.Regexp(t, "^it takes (39|40) entries from the rule$", m.Costs) // by where the hour begins
}

// A log whose entries say no time is tried as well: they stand where the file was changed,
// and that is said.
func TestPlainLogsOnTheBench(t *testing.T) {
	p := newPlace(t, t.TempDir())
	p.write("settings/plain.lantern", fmt.Sprintf("source plain {\n  files \"%s/plain.txt\"\n  begin oldest\n}\n",
		p.dir))
	p.write("plain.txt", strings.Repeat("link 1 down\nlink 1 up again\n", 3)+"link 2 down\n")
	p.append("")
	p.open()
	defer p.crash()
	p.step(time.Now())
	body := "rule lost {\n  on plain\n  problem /link (?<port>\\d+) down/\n  per port\n  raise error\n  clear " +
		"after 30m quiet\n}\n"
	q := api.BenchQuery{File: filepath.Join(p.dir, "settings", "try.lantern"), Body: body, Line: 2, Span: time.Hour,
		From: entry.Of(time.Now().Add(-time.Hour)), Column: time.Minute, Columns: 60}
	v, err := p.s.bench.Bench(context.Background(), q)
	require.NoError(t, err)
	assert.Equal(t, []int64{7, 4, 2}, []int64{v.Tried.Entries, v.Tried.Hits, v.Tried.Raised})
	require.NotEmpty(t, v.Notes)
	assert.Contains(t, v.Notes[0], "say no time")
	list, err := p.s.bench.Propose(context.Background(), q)
	require.NoError(t, err)
	require.NotEmpty(t, list.List)
	assert.Contains(t, list.List[0].Example, "up again")
}
