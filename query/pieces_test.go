package query

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/ask"
	"dimlantern/core/entry"
	"dimlantern/folder"
	"dimlantern/intake/reread"
)

// Where there is no room for all entries at once, pieces give each of them once, in the order of time.
func TestPiecesAreAllEntries(t *testing.T) {
	path := filepath.Join(t.TempDir(), "book.log")
	begin := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	var lines []string
	var body strings.Builder
	for i := range 110_000 {
		at := begin.Add(time.Duration(i/50) * time.Second)
		if i > 20_000 && i < 60_000 { // a flood
			at = begin.Add(400 * time.Second).Add(time.Duration(i) * time.Microsecond)
		}
		if i%977 == 0 {
			at = at.Add(-3 * time.Minute)
		}
		line := fmt.Sprintf("time=%s gate=gate-a%d n=%d", at.Format(time.RFC3339Nano), i%3, i)
		body.WriteString(line + "\n")
		lines = append(lines, at.Format("2006-01-02T15:04:05.000000000")+line)
	}
	require.NoError(t, os.WriteFile(path, []byte(body.String()), 0o644))
	sort.SliceStable(lines, func(i, k int) bool { return lines[i][:29] < lines[k][:29] })
	settings, q, ds := Typed(
		[]folder.Text{{Name: "s", Body: "source book { files \"" + path + "\"\n layout passage }\n" +
			"layout passage { logfmt\n time time rfc3339 }"}},
		"on book per gate over 2h",
	)
	require.NotNil(t, q, ds)
	p, err := ask.New(q, ask.Moment{Lamp: entry.Of(begin.Add(time.Hour)), Zone: time.UTC})
	require.NoError(t, err)
	x := &Asking{Settings: settings, Plan: p, Notes: reread.NewNotes(""), Logs: []reread.Log{
		{Name: "a", Series: path, Host: "host-a", Source: settings.Sources[0]},
	}}
	a, err := x.Answer(context.Background())
	require.NoError(t, err)
	require.Positive(t, a.Dropped)
	require.True(t, x.HasPieces())
	var got []string
	pieces := 0
	left, err := x.Pieces(context.Background(), func(b *Asked) error {
		pieces++
		for r := range b.Rows() {
			got = append(got, r.Entry.Raw)
			assert.Len(t, r.Per, 1)
		}
		return nil
	})
	require.NoError(t, err)
	assert.Zero(t, left)
	assert.Greater(t, pieces, 2)
	require.Len(t, got, len(lines))
	for i := range got {
		require.Equal(t, lines[i][29:], got[i])
	}
}
