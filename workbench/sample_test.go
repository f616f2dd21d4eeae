package workbench

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"dimlantern/core/lang"
	"dimlantern/core/trial"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const sampleRules = "layout line {\n  pattern /^(?<at>\\S+) (?<text>.*)$/\n  time at like " +
	"\"2026-11-24T05:32:28Z\"\n}\n" +
	"source s {\n  files \"/v/a.log\"\n  layout line\n}\nrule low {\n  on s\n  problem \"low\"\n  raise warning\n  " +
	"clear after 1h quiet\n}\n"

func sampleSettings(t *testing.T) *lang.Settings {
	s, ds := lang.Check([]*lang.File{lang.Parse("x.lantern", []byte(sampleRules))}, lang.Env{})
	require.False(t, lang.Errors(ds), "%v", ds)
	return s
}

// lines is a log of so many lines.
func lines(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "2026-11-24T05:%02d:%02dZ pump %d is %s\n", i/60%60, i%60, i%7, []string{"low", "fine"}[i%2])
	}
	return b.String()
}

// textOf is all that a log of a sample says.
func textOf(t *testing.T, d *trial.Said) string {
	if d.Text == nil {
		return string(d.Data)
	}
	b, err := io.ReadAll(d.Text.Reader())
	require.NoError(t, err)
	return string(b)
}

// However a log comes and however long it is, the sample has it, or its end from the start of
// a line on; a long one stays in its files, and one that is compressed is held compressed.
func TestHold(t *testing.T) {
	was := heldFrom
	heldFrom = 1000
	defer func() { heldFrom = was }()
	dir := t.TempDir()
	plain, packed := filepath.Join(dir, "a.log"), filepath.Join(dir, "a.log.1.gz")
	text := lines(200)
	require.NoError(t, os.WriteFile(plain, []byte(text), 0o600))
	var z bytes.Buffer
	w := gzip.NewWriter(&z)
	_, err := w.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.NoError(t, os.WriteFile(packed, z.Bytes(), 0o600))
	settings := sampleSettings(t)

	hold1 := func(names []string, most int64) (*trial.Said, bool, bool) {
		inputs, done, err := filesSample(settings, settings.Rule("low"), names, "host-a")
		require.NoError(t, err)
		t.Cleanup(done)
		require.Len(t, inputs, 1, "the members of a series are one log")
		d := &trial.Said{Input: *inputs[0]}
		d.Files = nil
		read := 0
		cut, kept, err := hold(context.Background(), d, inputs[0].Files, most, func(n int) { read += n })
		require.NoError(t, err)
		return d, cut, kept
	}
	d, cut, kept := hold1([]string{plain}, 1<<30)
	assert.Equal(t, text, textOf(t, d))
	assert.False(t, cut)
	assert.True(t, kept, "its file has to stay open")
	assert.Nil(t, d.Data)
	d, cut, kept = hold1([]string{packed, plain}, 1<<30)
	assert.Equal(t, text+text, textOf(t, d), "the older one first")
	assert.False(t, cut)
	assert.False(t, kept)
	d, cut, _ = hold1([]string{plain}, 1500)
	assert.True(t, cut)
	got := textOf(t, d)
	assert.True(t, strings.HasSuffix(text, got))
	assert.True(t, strings.HasPrefix(got, "2026-"), "from the start of a line on")
	assert.LessOrEqual(t, len(got), 1500)
	heldFrom = 1 << 30
	d, cut, kept = hold1([]string{plain}, 700)
	assert.True(t, cut)
	assert.False(t, kept)
	assert.LessOrEqual(t, len(d.Data), 700)
	assert.True(t, strings.HasPrefix(string(d.Data), "2026-"))

	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, _, err = hold(ctx, &trial.Said{}, []io.Reader{strings.NewReader(text)}, 1<<30, func(int) {})
	assert.ErrorIs(t, err, context.Canceled)
}

// A sample whose files were cut short is none any more.
func TestIntact(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.log")
	require.NoError(t, os.WriteFile(path, []byte(lines(20)), 0o600))
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	sections, ok := sectionsOf([]io.Reader{f, io.NewSectionReader(f, 10, 50)})
	require.True(t, ok)
	d := &trial.Said{}
	d.Text = sections
	said := []*trial.Said{{}, d}
	assert.True(t, intact(said))
	require.NoError(t, os.WriteFile(path, []byte(lines(40)), 0o600))
	assert.True(t, intact(said), "it has grown")
	require.NoError(t, os.Truncate(path, 30))
	assert.False(t, intact(said))
	_, ok = sectionsOf([]io.Reader{f, strings.NewReader("x")})
	assert.False(t, ok)
}

// Only the entries stay that have the words, capitals or not, in memory or not.
func TestFiltered(t *testing.T) {
	settings := sampleSettings(t)
	for _, packed := range []bool{false, true} {
		d := &trial.Said{}
		d.Source = settings.Source("s")
		if d.Data = []byte(lines(60)); packed {
			text, _, err := trial.Pack(bytes.NewReader(d.Data), 1<<30, func(int) error { return nil })
			require.NoError(t, err)
			d.Data, d.Text = nil, text
		}
		filtered(settings, d, "PUMP 3")
		for _, l := range strings.Split(strings.TrimSpace(string(d.Data)), "\n") {
			assert.Contains(t, l, "pump 3")
		}
		assert.Equal(t, 9, strings.Count(string(d.Data), "\n"))
		assert.Nil(t, d.Text)
	}
	part := newestPart([]*trial.Said{{}, {}}, 100)
	assert.Len(t, part, 2)
}

// What cannot be tried says why.
func TestFilesThatAreNone(t *testing.T) {
	settings := sampleSettings(t)
	_, _, err := filesSample(settings, settings.Rule("low"), []string{"/nowhere/*.log"}, "host-a")
	assert.ErrorContains(t, err, "no file fits /nowhere/*.log")
	_, _, err = filesSample(&lang.Settings{}, settings.Rule("low"), []string{"/v/a.log"}, "host-a")
	assert.ErrorContains(t, err, "the rule looks at no source")
}
