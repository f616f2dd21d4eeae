//go:build !windows

package regular

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is no file is never waited for, and what is too long is not read.
func TestRead(t *testing.T) {
	dir := t.TempDir()
	path := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(path("a"), []byte("12345678"), 0o600))
	require.NoError(t, syscall.Mkfifo(path("pipe"), 0o600))
	require.NoError(t, os.Symlink("pipe", path("link")))
	b, err := Read(path("a"), 8)
	require.NoError(t, err)
	assert.Equal(t, "12345678", string(b))
	_, err = Read(path("a"), 7)
	assert.ErrorIs(t, err, ErrTooLong)
	for _, name := range []string{"pipe", "link", "."} {
		_, err = Read(path(name), 8)
		assert.ErrorIs(t, err, ErrNoFile, name)
	}
	_, err = Read("/dev/zero", 8)
	assert.ErrorIs(t, err, ErrNoFile)
	_, err = Read(path("absent"), 8)
	assert.ErrorIs(t, err, os.ErrNotExist)
}
