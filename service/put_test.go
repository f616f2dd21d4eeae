package service

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/core/author"

	"dimlantern/api"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

// put asks what a change would do.
func (p *place) put(q api.PutQuery) (out *api.Put, err error) {
	p.loop(func() { out, err = p.s.bench.Put(context.Background(), q) })
	return out, err
}

// What a change of the settings would do is said before it is done: which alerts end, which
// rules mean something else, which tests fail; and nothing is written by asking.
func TestWhatAChangeWouldDo(t *testing.T) {
	p := newPlace(t, t.TempDir())
	now := time.Now().UTC().Truncate(time.Second)
	p.append(now.Add(-2*time.Minute).Format(time.RFC3339) + " a pump 7 low\n" +
		now.Add(-time.Minute).Format(time.RFC3339) + " a pump 7 low\n")
	p.write("settings/other.lantern", "# about floods\n\nrule flood {\n  on      app\n  problem \"flood\"\n  "+
		"raise   warning\n  clear   by hand\n  unless  low open\n}\n\nhush low-quietly {\n  rules low\n  sun "+
		"02:00-04:00\n}\n")
	p.open()
	defer p.crash()
	p.step(time.Now())
	file, other := filepath.Join(p.dir, "settings", "app.lantern"), filepath.Join(p.dir, "settings", "other.lantern")
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	put := func(q api.PutQuery) string {
		x, err := p.put(q)
		require.NoError(t, err)
		out := []string{x.Title}
		for _, l := range x.Lines {
			out = append(out, l.Word+" "+l.Text)
		}
		if x.Refused != "" {
			out = append(out, "refused "+x.Refused)
		}
		return strings.Join(out, "\n")
	}
	save := func(from, to string) api.PutQuery {
		return api.PutQuery{Files: []api.BenchSave{{File: file, Body: strings.Replace(string(b), from, to, 1),
			Was: string(b)}}}
	}
	said := put(save(`pump (?<pump>\d+) low`, `pump (?<pump>\d+) LOW`))
	assert.Contains(t, said, "changed low matches or counts by something else")
	assert.Contains(t, said, "ends low a 7, open since ")
	said = put(save("at 2 in 5m", "at 1 in 5m"))
	assert.Contains(t, said, "changed low keeps what it has counted")
	assert.Contains(t, said, "alerts none that is open ends by this")
	said = put(save(`low/`+"\n", `l(ow|ack)/`+"\n"))
	assert.Contains(t, said, "alerts none that is open ends by this", "the logs still say that it is open")
	assert.Contains(t, put(save("at 2 in 5m", "at two in 5m")), "refused errors come first: app.lantern:")
	assert.Contains(t, put(save(`say      "Pump {pump}"`, "expect \"x\" {\n at 10:00 \"pump 7 low\"\n then raised "+
		"critical\n }")), "test fails low: x: ")

	change := func(what, name string) *api.Put {
		x, err := p.put(api.PutQuery{Block: &api.BlockChange{Kind: "rule", What: what, Of: "low", Name: name}})
		require.NoError(t, err)
		require.Empty(t, x.Refused)
		return x
	}
	x := change("rename", "pump-low")
	require.Len(t, x.Files, 2, "the file that names it as well")
	assert.Contains(t, x.Files[0].Body, "rule pump-low {")
	assert.Contains(t, x.Files[1].Body, "unless  pump-low open")
	assert.Contains(t, x.Files[1].Body, "rules pump-low")
	assert.True(t, strings.HasPrefix(x.Files[1].Body, "# about floods\n"))
	x = change("copy", "low-2")
	assert.Equal(t, 2, strings.Count(x.Files[0].Body, `recovery /pump (?<pump>\d+) fine/`))
	x = change("off", "")
	s, ds := lang.Check([]*lang.File{lang.Parse(file, []byte(x.Files[0].Body))}, lang.Env{Time: layout.CheckTime})
	require.False(t, lang.Errors(ds))
	assert.True(t, s.Rule("low").Off)
	// A source is renamed wherever rules look at it, switched off, and not deleted while one does.
	of := func(what, name string) *api.Put {
		x, err := p.put(api.PutQuery{Block: &api.BlockChange{Kind: "source", What: what, Of: "app", Name: name}})
		require.NoError(t, err)
		return x
	}
	x = of("rename", "harbour")
	require.Empty(t, x.Refused)
	assert.Contains(t, x.Files[0].Body, "source harbour {")
	assert.NotContains(t, x.Files[0].Body, " app\n")
	x = of("off", "")
	assert.Contains(t, fmt.Sprint(x.Lines), "app is not read any more; open alerts of its origin stay as they are")
	assert.Contains(t, of("delete", "").Refused, "there is no source")
	_, err = p.put(api.PutQuery{Block: &api.BlockChange{Kind: "rule", What: "rename", Of: "low", Name: "flood"}})
	assert.ErrorContains(t, err, "there is a rule flood already")
	_, err = p.put(api.PutQuery{Block: &api.BlockChange{Kind: "rule", What: "copy", Of: "low", Name: "7th"}})
	assert.ErrorContains(t, err, "is no name")
	gone, err := p.put(api.PutQuery{Block: &api.BlockChange{Kind: "rule", What: "delete", Of: "low"}})
	require.NoError(t, err)
	assert.Contains(t, gone.Refused, "there is no rule", "others name it")
	assert.False(t, gone.Files[0].Gone, "the source stays in it")
	require.NoError(t, os.Remove(other))

	now2, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(b), string(now2), "nothing was written by asking")
	require.NoError(t, os.WriteFile(file, append(b, '#'), 0o644))
	q := save("at 2 in 5m", "at 1 in 5m")
	q.Do = true
	_, err = p.put(q)
	assert.ErrorContains(t, err, "changed by somebody else")
}

// A value gets a name in the pattern that the entry fits, and nothing else of the pattern
// is touched; a pattern of a kind leaves open what differs among its entries, and what a
// mask has hidden.
func TestNamedAndOpenValues(t *testing.T) {
	p := newPlace(t, t.TempDir())
	now := time.Now().UTC().Add(-30 * time.Minute)
	for i := range 26 {
		who := "anna"
		if i > 0 {
			who = strings.Repeat(string(rune('a'+i)), 3)
		}
		p.append(now.Add(time.Duration(i)*time.Minute).Format(time.RFC3339) + " a pump 7 told (" + who +
			") of 12 bar\n")
	}
	p.open()
	defer p.crash()
	p.step(time.Now())
	file := filepath.Join(p.dir, "settings", "app.lantern")
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	body := strings.Replace(string(b), `/pump (?<pump>\d+) low/`, `/pump (?<pump>\d+) told \S+ of \d+/i`, 1)
	line := strings.Count(body[:strings.Index(body, "problem")], "\n") + 1
	raw := now.Format(time.RFC3339) + " a pump 7 told (anna) of 12 bar"
	at := strings.Index(raw, "12 bar")
	name := func(from, to int, name string) (*api.Marked, error) {
		return p.s.bench.Mark(context.Background(), api.MarkQuery{File: file, Body: body, Line: line, Is: "name",
			Source: "app", Texts: []string{raw}, From: from, To: to, Name: name})
	}
	m, err := name(at, at+2, "bar")
	require.NoError(t, err)
	assert.Contains(t, m.Body, `/pump (?<pump>\d+) told \S+ of (?<bar>\d+)/i`)
	_, err = name(at, at+2, "not")
	assert.ErrorContains(t, err, "is no name")
	_, err = name(at, at+2, "pump")
	assert.ErrorContains(t, err, "already")
	_, err = name(0, 10, "day")
	assert.ErrorContains(t, err, "the layout gives that value already")

	v, err := p.s.bench.Bench(context.Background(),
		api.BenchQuery{File: file, Body: body, Line: line, Span: time.Hour, From: entry.Of(now), Column: time.Minute,
			Columns: 40})
	require.NoError(t, err)
	require.NotEmpty(t, v.Kinds)
	m, err = p.s.bench.Mark(context.Background(), api.MarkQuery{File: file, Body: string(b), Line: line,
		Is: "problem", Source: "app", Texts: []string{raw}, Kinds: []string{v.Kinds[0].ID}})
	require.NoError(t, err)
	assert.Equal(t, `problem /pump (?<pump>\d+) told \([^\s\)]+\) of \d+ bar/`, m.Clause)

	pattern, named := author.PatternOver([]string{"card *** refused at gate 4"})
	assert.Equal(t, []string{`/card \S+ refused at gate (?<gate>\d+)/`, "gate"}, []string{pattern, named})
}
