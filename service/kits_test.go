package service

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/api"
	"dimlantern/folder"
	"dimlantern/kits"
)

// older are settings whose kits are those of a version before: what stands there as now stood there as was.
func older(t *testing.T, texts []folder.Text, now, was string) []folder.Text {
	t.Helper()
	out, n := []folder.Text{}, 0
	for _, x := range texts {
		if kits.Inside(x.Name) && strings.Contains(x.Body, now) {
			x.Body = strings.ReplaceAll(x.Body, now, was)
			n++
		}
		out = append(out, x)
	}
	require.Equal(t, 1, n)
	return out
}

// A new version of the program may bring other kits: those that are in use go on as they were, what differs is
// shown with what it would do, and then it is taken up. Other edits are taken up meanwhile.
func TestKitsOfANewVersion(t *testing.T) {
	p := newPlace(t, t.TempDir())
	settings := fmt.Sprintf("settings { use kit redis with logs %q }\n", p.dir+"/redis")
	p.write("settings/app.lantern", settings)
	p.open()
	const now, was = "warning at 3 in 5m", "warning at 7 in 5m"
	require.NoError(t, p.s.store.PutMeta("settings", folder.Encode(older(t, p.s.texts, now, was))))
	p.crash()

	p.open()
	at := func() int { return p.s.settings.Rule("redis-replica-cut-off").Raises[0].At }
	require.Equal(t, 7, at(), "it goes on as it was")
	require.Contains(t, p.s.trouble["kits"], "redis")

	// Another edit leaves that as it is.
	p.write("settings/other.lantern", "rule other {\n  problem \"x\"\n  raise warning\n  clear after 1h quiet\n}\n")
	p.s.edits.stamp = "another"
	p.s.publish(time.Now())
	p.s.startDraft()
	p.s.takeUp(t.Context(), <-p.s.edits.ready)
	require.NotNil(t, p.s.settings.Rule("other"))
	require.Equal(t, 7, at())
	require.NotEmpty(t, p.s.trouble["kits"])

	// What differs is shown, and nothing has changed by that.
	out, err := p.put(api.PutQuery{Newer: true})
	require.NoError(t, err)
	said := ""
	for _, l := range out.Lines {
		said += l.Word + " " + l.Text + "\n"
	}
	assert.Contains(t, said, "- ")
	assert.Contains(t, said, was)
	assert.Contains(t, said, now)
	assert.Contains(t, said, "redis-replica-cut-off keeps what it has counted")
	require.Equal(t, 7, at())

	p.s.edits.asked = []asked{{kits: true, answer: make(chan taken, 1)}}
	p.s.startDraft()
	p.s.takeUp(t.Context(), <-p.s.edits.ready)
	require.Equal(t, 3, at(), "taken up")
	require.Empty(t, p.s.trouble["kits"])
	_, err = p.put(api.PutQuery{Newer: true})
	require.ErrorContains(t, err, "no kit")
	p.crash()
}

// Taking kits into use is shown before it is done, and then they are at work.
func TestUseKits(t *testing.T) {
	p := newPlace(t, t.TempDir())
	p.open()
	out, err := p.put(api.PutQuery{Kits: []string{"redis", "borg"}})
	require.NoError(t, err)
	require.Len(t, out.Files, 1)
	require.Contains(t, out.Files[0].Body, "use kit redis")
	require.Empty(t, out.Refused)
	said := ""
	for _, l := range out.Lines {
		said += l.Word + " " + l.Text + "\n"
	}
	require.Contains(t, said, "rules of the kit redis")
	require.Nil(t, p.s.settings.Rule("redis-crash"))
	_, err = p.put(api.PutQuery{Kits: []string{"no-such"}})
	require.ErrorContains(t, err, "no-such")

	// A rule of a kit is left out by the clause that uses it; a copy of it would stand in its place.
	p.edit(out.Files[0].Body)
	require.NotNil(t, p.s.settings.Rule("redis-crash"))
	out, err = p.put(api.PutQuery{Block: &api.BlockChange{Kind: "rule", What: "off", Of: "redis-crash"}})
	require.NoError(t, err)
	require.Contains(t, out.Files[0].Body, "use kit redis but not redis-crash")
	r := p.s.settings.Rule("redis-crash")
	copied, err := p.s.bench.BenchOpen(t.Context(), api.BenchFile{File: r.Pos.File, Line: r.Pos.Line})
	require.NoError(t, err)
	require.True(t, copied.New)
	require.Contains(t, copied.Body, "rule redis-crash {")
	p.crash()
}
