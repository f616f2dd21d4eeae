package intake

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/core/lang"
	"dimlantern/core/match"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// planFor is the plan of a source with some clauses.
func planFor(t require.TestingT, clauses string) *match.Plan {
	s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte("source s {\n  files \"/v/x.log\"\n"+clauses+"}\n"))},
		lang.Env{})
	require.False(t, lang.Errors(ds), "%v", ds)
	return match.NewPlan(s, s.Source("s"), nil, time.UTC)
}

// A file that is read from its end to its start is read whole, and each part begins where an
// entry does, whatever its lines are.
func TestBeforeReadsAll(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.log")
	single, joined := planFor(t, ""), planFor(t, "  entry starts /^pump/\n")
	rapid.Check(t, func(t *rapid.T) {
		var b bytes.Buffer
		long := rapid.SampledFrom([]int{1, 50, 3000, 700_000}).Draw(t, "long")
		for i := range rapid.IntRange(0, 40).Draw(t, "entries") {
			fmt.Fprintf(&b, "pump %d %s", i, strings.Repeat("x", rapid.IntRange(0, long).Draw(t, "x")))
			for range rapid.IntRange(0, 2).Draw(t, "more") {
				b.WriteString("\n  at the north basin")
			}
			b.WriteString(rapid.SampledFrom([]string{"\n", "\r\n"}).Draw(t, "end"))
		}
		if rapid.Bool().Draw(t, "unfinished") {
			b.WriteString("pump last")
		}
		require.NoError(t, os.WriteFile(path, b.Bytes(), 0o600))
		for _, plan := range []*match.Plan{single, joined} {
			var parts []string
			for end := int64(-1); end != 0; {
				p, err := Before(path, plan, end)
				require.NoError(t, err)
				if p.Start > 0 {
					require.EqualValues(t, '\n', b.Bytes()[p.Start-1], "it begins a line")
					if plan == joined {
						require.True(t, bytes.HasPrefix(p.Text, []byte("pump")), "and an entry")
					}
				}
				parts = append([]string{string(p.Text)}, parts...)
				require.True(t, end < 0 || p.Start < end, "it goes on")
				end = p.Start
			}
			require.True(t, b.String() == strings.Join(parts, ""), "%d bytes in %d parts", b.Len(), len(parts))
		}
	})
}

// A file is read forwards as well, unpacked where it is packed, and ends with its context.
func TestForward(t *testing.T) {
	dir := t.TempDir()
	text := strings.Repeat("pump 7 is low\n", 60_000)
	plain, packed := filepath.Join(dir, "x.log"), filepath.Join(dir, "x.log.1.gz")
	require.NoError(t, os.WriteFile(plain, []byte(text), 0o600))
	var z bytes.Buffer
	w := gzip.NewWriter(&z)
	_, _ = w.Write([]byte(text))
	require.NoError(t, w.Close())
	require.NoError(t, os.WriteFile(packed, z.Bytes(), 0o600))
	for _, path := range []string{plain, packed} {
		var got strings.Builder
		require.NoError(t, Forward(context.Background(), path, planFor(t, ""), func(p Part) error {
			require.EqualValues(t, got.Len(), p.Start)
			got.Write(p.Text)
			return nil
		}))
		assert.True(t, text == got.String(), path)
	}
	ctx, stop := context.WithCancel(context.Background())
	n := 0
	err := Forward(ctx, plain, planFor(t, ""), func(Part) error { n++; stop(); return nil })
	assert.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, 1, n)
	list := Members(plain)
	require.Len(t, list, 2)
	assert.Equal(t, []any{plain, false, packed, true}, []any{list[0].Path, list[0].Packed, list[1].Path,
		list[1].Packed})
}

// What is looked at of a log are its start and its end, and whole lines of them.
func TestEnds(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	ends := func(path string) []string {
		lines, _, err := Ends(path)
		require.NoError(t, err)
		return lines
	}
	assert.Empty(t, ends(write("empty.log", "")))
	assert.Equal(t, []string{"a", "", "b"}, ends(write("small.log", "a\r\n\nb")))
	var b strings.Builder
	for i := range 200_000 {
		fmt.Fprintf(&b, "line %06d of the harbour's log\n", i)
	}
	for _, path := range []string{write("large.log", b.String())} {
		lines := ends(path)
		assert.Equal(t, "line 000000 of the harbour's log", lines[0])
		assert.Equal(t, "line 199999 of the harbour's log", lines[len(lines)-1])
		assert.Len(t, lines, 4000)
		for _, l := range lines {
			require.Len(t, l, len("line 000000 of the harbour's log"))
		}
	}
	_, _, err := Ends(filepath.Join(dir, "gone.log"))
	assert.ErrorContains(t, err, "gone.log cannot be read: no such file")
	_, _, err = Ends(write("x.gz", "this is no gzip"))
	assert.ErrorContains(t, err, "is not compressed as its name says")
}
