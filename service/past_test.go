package service

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/api"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ofThePast is a place whose log has twenty problems of before it is first seen.
func ofThePast(t *testing.T) (*place, string, time.Time) {
	p := &place{t: t, dir: t.TempDir()}
	text := fmt.Sprintf("source app {\n files %q\n begin now\n layout l\n}\nlayout l {\n pattern /^(?<at>\\S+) "+
		"(?<text>.*)$/\n time at rfc3339\n}\nrule low {\n problem /pump (?<pump>\\d+): low/\n recovery /pump "+
		"(?<pump>\\d+): well/\n per pump\n raise warning at 1\n}\n", filepath.Join(p.dir, "app.log"))
	p.write("settings/app.lantern", text)
	now := time.Now().Add(-time.Minute).Truncate(time.Second)
	for i := range 20 {
		p.append(fmt.Sprintf("%s pump %d: low\n", now.Add(-time.Minute+
			time.Duration(i)*time.Second).UTC().Format(time.RFC3339), i))
	}
	p.open()
	p.step(now)
	return p, text, now
}

func (p *place) at(now time.Time, text string) {
	p.append(now.UTC().Format(time.RFC3339) + " " + text + "\n")
	p.step(now)
}

// An edit raises nothing of before its log was first seen, whatever is open.
func TestEditRaisesNothingOfBefore(t *testing.T) {
	p, text, now := ofThePast(t)
	p.at(now.Add(time.Second), "pump 99: low")
	require.Len(t, p.alerts(), 1)
	before := len(p.seen)
	p.edit(strings.ReplaceAll(text, `(?<pump>\d+): low`, `(?<pump>\d+)(:| is) low`))
	p.step(now.Add(2 * time.Second))
	assert.Equal(t, []string{"low[99] warning"}, p.alerts())
	assert.Empty(t, p.seen[before:])
}

// What an edit finds to have opened since then is recorded, and told in one summary.
func TestEditTellsThePastOnce(t *testing.T) {
	srv, b, _ := hook(t)
	p, text, now := ofThePast(t)
	text += fmt.Sprintf("settings {\n tell duty\n}\ncontact duty {\n webhook %q\n}\n", srv.URL)
	p.edit(text)
	p.at(now.Add(time.Second), "pump 99: low")
	for i := range 5 {
		p.at(now.Add(time.Second), fmt.Sprintf("pump %d: idle", i))
	}
	edited := strings.ReplaceAll(text, `(?<pump>\d+): low`, `(?<pump>\d+): (low|idle)`)
	put := &api.Put{Files: []api.BenchSave{{File: filepath.Join(p.dir, "settings", "app.lantern"), Body: edited,
		Was: text}}}
	p.loop(func() { require.NoError(t, p.s.bench.Foresee(context.Background(), put)) })
	opens := 0
	for _, l := range put.Lines {
		if l.Word == "opens" {
			opens++
		}
	}
	assert.Equal(t, 5, opens, "%v", put.Lines)
	p.edit(edited)
	for i := range 4 {
		p.step(now.Add(time.Duration(2+i) * time.Second))
	}
	assert.Len(t, p.alerts(), 6)
	waits, err := p.s.store.Waits("duty", 100)
	require.NoError(t, err)
	var changes []string
	for _, w := range waits {
		if w.Line != "{}" {
			changes = append(changes, w.Change)
		}
	}
	assert.Equal(t, []string{"raised", "caught up"}, changes, "pump 99 by itself, and one summary")
	assert.Empty(t, b.all())
}

// Of a source that is off nothing is raised and nothing cleared; what is open says so. Put
// to work again it goes on as if no time had passed.
func TestOffRests(t *testing.T) {
	p, text, now := ofThePast(t)
	text = strings.Replace(text, " raise warning at 1\n", " raise warning at 1\n clear after 10m quiet\n", 1)
	p.edit(text)
	p.at(now.Add(time.Second), "pump 99: low")
	before := len(p.seen)
	off := strings.Replace(text, " begin now\n", " begin now\n off\n", 1)
	p.edit(off)
	p.step(now.Add(2 * time.Second))
	p.append(now.Add(time.Minute).UTC().Format(time.RFC3339) + " pump 99: well\n")
	p.step(now.Add(time.Hour))
	assert.Equal(t, []string{"low[99] warning"}, p.alerts(), "it rests")
	assert.Empty(t, p.seen[before:])
	k, ok := p.s.engine.KeyOf("low", []string{"99"})
	require.True(t, ok)
	assert.True(t, k.Rests)
	p.crash()
	p.open() // over a restart too
	p.step(now.Add(2 * time.Hour))
	assert.Equal(t, []string{"low[99] warning"}, p.alerts())
	require.NoError(t, os.Truncate(filepath.Join(p.dir, "app.log"), 0))
	p.edit(text)
	p.step(time.Now().Add(time.Minute))
	assert.Equal(t, []string{"low[99] warning"}, p.alerts(), "quiet counts watched time only")
	p.step(time.Now().Add(11 * time.Minute))
	assert.Empty(t, p.alerts())
}
