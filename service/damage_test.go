package service

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/api"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A database that went, or was damaged, while Dim Lantern was away is never begun anew in
// silence: it is said until somebody confirms it, and what can be read is taken over.
func TestDatabaseThatIsNotAsItWasLeft(t *testing.T) {
	for _, c := range []struct {
		name  string
		spoil func(path string) error
		words string
		saved bool
	}{
		{"gone", os.Remove, "is gone", false},
		{"emptied", func(p string) error { return os.Truncate(p, 0) }, "was emptied", false},
		{"no database", func(p string) error {
			return os.WriteFile(p, []byte(strings.Repeat("what is this? ", 1000)),
				0o600)
		}, "is damaged", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			p, _, now := ofThePast(t)
			p.at(now.Add(time.Second), "pump 99: low")
			require.NoError(t, p.s.close())
			path := filepath.Join(p.dir, "data", "lantern.db")
			require.NoError(t, c.spoil(path))
			for _, end := range []string{"-wal", "-shm"} {
				os.Remove(path + end)
			}
			for range 2 { // it is remembered over a restart
				p.open()
				st, err := p.s.query.Status(context.Background(), api.None{})
				require.NoError(t, err)
				assert.False(t, st.Well())
				assert.Contains(t, strings.Join(st.Trouble, "\n"), c.words)
				assert.Contains(t, strings.Join(st.Trouble, "\n"), "dimlantern apply confirms")
				require.NoError(t, p.s.close())
			}
		})
	}
}

// One that is damaged while it is in use is noticed, and the next start goes on with what was
// open and with what can be read.
func TestDatabaseDamagedInUse(t *testing.T) {
	p, _, now := ofThePast(t)
	for i := range 300 {
		p.at(now.Add(time.Second), "pump "+strings.Repeat("9", 1+i%9)+": low "+strings.Repeat("x", 200))
	}
	open := p.alerts()
	require.NotEmpty(t, open)
	require.NoError(t, p.s.store.Checkpoint())
	path := filepath.Join(p.dir, "data", "lantern.db")
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte(strings.Repeat("spoilt ", int(info.Size()/4/7))), info.Size()/2)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	found := p.s.store.Check()
	require.NotNil(t, found)
	require.NoError(t, p.s.known().write(p.s.o.Data))
	p.crash()
	p.open()
	require.NotNil(t, p.s.store.Damage)
	assert.Positive(t, p.s.store.Damage.Rows)
	p.step(now.Add(2 * time.Second))
	assert.Equal(t, open, p.alerts(), "what was open is, and nothing is read twice")
	assert.Contains(t, strings.Join(p.s.window.Now().Troubles(), "\n"), "taken over")
	require.NotEmpty(t, p.s.trouble["anew"])
}
