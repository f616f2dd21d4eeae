package workbench

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Files that are written in one form are together, whatever their names are; each form gets a
// source, and no file gets two.
func TestFormatsOfFiles(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	line := func(s string) string { return "2026-11-24 05:32:28 " + s + "\n2026-11-24 05:32:29 " + s + "\n" }
	pump := write("a.log", line("pump-03 pumpd[7]: low"))
	gates := write("b.log", `{"at":"2026-11-24T05:32:28Z","text":"shut"}`+"\n"+`{"at":"2026-11-24T05:32:29Z",`+
		`"text":"open"}`+"\n")
	more := write("c.log", line("pump-04 pumpd[9]: fine"))
	empty := write("d.log", "")

	formats, err := FormatsOf([]string{gates, pump, more, empty})
	require.NoError(t, err)
	require.Len(t, formats, 2)
	assert.Equal(t, []string{pump, more, empty}, formats[0].Files, "what is empty counts to those that are most")
	assert.Equal(t, []string{gates}, formats[1].Files)
	assert.Equal(t, "JSON", formats[1].Proposals[0].What)
	assert.Equal(t, "4 files in 2 formats: each gets a source of its own", Formats(formats))
	assert.Equal(t, []string{`"/v/*.log" except "` + gates + `"`}, filesOf(formats, 0, "/v/*.log"))
	assert.Equal(t, []string{`"` + gates + `"`}, filesOf(formats, 1, "/v/*.log"))

	alone, err := FormatsOf([]string{empty})
	require.NoError(t, err)
	assert.Equal(t, []string{"plain", ""}, []string{alone[0].Proposals[0].What, Formats(alone)})
	_, err = FormatsOf([]string{filepath.Join(dir, "gone.log")})
	assert.ErrorContains(t, err, "gone.log cannot be read")

	// What was looked at is looked at again only where it has changed.
	var k looks
	first, err := k.at(pump)
	require.NoError(t, err)
	again, err := k.at(pump)
	require.NoError(t, err)
	assert.Same(t, first, again)
	write("a.log", line("pump-03 pumpd[7]: low")+line("pump-03 pumpd[7]: fine"))
	changed, err := k.at(pump)
	require.NoError(t, err)
	assert.NotSame(t, first, changed)
}
