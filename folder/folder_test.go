package folder_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"dimlantern/core/lang"
	"dimlantern/folder"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What was read is never changed by who tries another text in its place.
func TestWithLeavesWhatItWasGiven(t *testing.T) {
	was := []folder.Text{{Name: "a.lantern", Body: "a"}, {Name: "b.lantern", Body: "b"}}
	now := folder.With(was, "a.lantern", "other")
	assert.Equal(t, "other", now[0].Body)
	assert.Equal(t, "a", was[0].Body)
	assert.Len(t, folder.With(was, "c.lantern", "c"), 3)
	assert.Len(t, was, 2)
}

// A folder is read as far as it can be, and says of the rest why it cannot.
func TestReadSaysWhatItCannot(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "b.lantern"), []byte("# b\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.lantern"), []byte("# a\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "notes.txt"), []byte("no settings"), 0o644))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "folder.lantern"), 0o755))
	long := filepath.Join(dir, "long.lantern")
	require.NoError(t, os.WriteFile(long, []byte(strings.Repeat("#", folder.MaxFile+1)), 0o644))
	texts, err := folder.Read(dir, filepath.Join(dir, "nothing"))
	assert.ErrorContains(t, err, "long.lantern is longer than 4 MiB")
	assert.ErrorContains(t, err, "nothing cannot be read")
	require.Len(t, texts, 2)
	assert.Equal(t, []string{"# a\n", "# b\n"}, []string{texts[0].Body, texts[1].Body})
	again, err := folder.Decode(folder.Encode(texts))
	require.NoError(t, err)
	assert.True(t, folder.Same(texts, again))
}

// Zones are those of the time zone database, and days begin where the settings say.
func TestCheckKnowsZones(t *testing.T) {
	s, ds := folder.Check([]folder.Text{{Name: "a", Body: "settings {\n  zone \"Europe/Dublin\"\n}\nsource s {\n  " +
		"files \"/x\"\n}\n"}})
	require.False(t, lang.Errors(ds), ds)
	assert.Equal(t, "Europe/Dublin", s.Source("s").Location.String())
	_, ds = folder.CheckErrors([]folder.Text{{Name: "a", Body: "settings {\n  zone \"Gullhaven/Quay\"\n}\n"}})
	require.True(t, lang.Errors(ds))
	assert.Equal(t, "unknown-zone", ds[0].Code)
}

// A file is written whole or not at all, keeps its rights, and a new one takes no other's place.
func TestFilesAreReplacedWhole(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "a.lantern")
	require.NoError(t, folder.WriteNew(path, "one\n"))
	assert.ErrorIs(t, folder.WriteNew(path, "two\n"), os.ErrExist)
	require.NoError(t, os.Chmod(path, 0o640))
	before := folder.Stamp(filepath.Dir(path), nil)
	require.NoError(t, folder.Replace(path, "three and more\n"))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
	assert.NotEqual(t, before, folder.Stamp(filepath.Dir(path), nil))
	list, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	assert.Len(t, list, 1, "nothing is left beside it")
}
