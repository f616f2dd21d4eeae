package intake

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
)

// What was written at a moment is found in the member that holds it, also when that
// has been compressed since, and so is an entry by its place.
func TestFoundInItsCopy(t *testing.T) {
	dir := t.TempDir()
	m := &fileModel{dir: dir}
	m.lines(t, 30, "\n")
	r := newRig(t, filepath.Join(dir, "*.log"), "oldest")
	defer r.f.Close()
	r.step(time.Second)
	m.rename(t)
	m.finish()
	old := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(m.path()+".1", old, old))
	m.lines(t, 3, "\n")
	offset := int64(strings.Index(strings.Join(m.written, "\n"), "line 20 "))
	o := r.origin()
	plan := match.NewPlan(&lang.Settings{}, r.s.Sources[0], nil, time.UTC)
	for _, end := range []string{"", ".gz"} {
		if end != "" {
			m.compress(t, 1, end)
			m.finish()
		}
		assert.Equal(t, m.path()+".1"+end, o.Holding(offset, "line 20 "))
		assert.Equal(t, m.path()+".1"+end, o.Written(entry.Of(old.Add(-time.Minute)))[0])
		assert.Equal(t, m.path(), o.Written(entry.Of(time.Now().Add(-time.Minute)))[0])
		buf := make([]byte, 7)
		n, err := ReadAt(m.path()+".1"+end, buf, offset)
		require.NoError(t, err)
		assert.Equal(t, "line 20", string(buf[:n]))
		b, err := Tail(m.path()+".1"+end, plan, entry.Of(time.Now()), 200)
		require.NoError(t, err)
		assert.True(t, strings.HasSuffix(string(b), m.written[29]+"\n"), "%q", b)
		assert.True(t, strings.HasPrefix(string(b), "line "), "%q", b)
	}
	assert.Empty(t, o.Holding(offset, "line 99 "))
}
