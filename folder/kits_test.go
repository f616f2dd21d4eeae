package folder

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"dimlantern/core/lang"
	"dimlantern/kits"
)

func settingsFolder(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, body := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(body), 0o644))
	}
	return dir
}

const pumpKit = "kit pump {\n  needs program \"pumpd\"\n}\n\nsource pump-log { files \"/var/log/pump.log\" }\n"

// Kits that settings use come with them: those in the folder kits/ beside them go before those in the binary.
func TestKitsOfSettings(t *testing.T) {
	dir := settingsFolder(t, map[string]string{
		"a.lantern":                  "settings {\n  use kit pump\n  use kit redis\n  use kit nginx\n}\n",
		"kits/pump/pump.lantern":     pumpKit,
		"kits/redis/own.lantern":     "kit redis {\n  needs program \"x\"\n}\nsource own { files \"/x\" }\n",
		"kits/unused/unused.lantern": "kit unused {\n  needs program \"x\"\n}\n",
	})
	texts, err := Read(dir)
	require.NoError(t, err)
	of := map[string]int{}
	for _, x := range texts {
		of[x.Kit]++
	}
	require.Equal(t, map[string]int{"": 1, "pump": 1, "redis": 1, "nginx": 1}, of)
	s, ds := Check(texts)
	require.False(t, lang.Errors(ds), "%v", ds)
	require.NotNil(t, s.Source("pump-log"))
	require.NotNil(t, s.Source("own"))
	require.Nil(t, s.Source("redis-log"), "the folder's kit goes before")
	require.NotNil(t, s.Rule("nginx-backend-lost"))
	require.Contains(t, Kits(dir), "unused")
	require.Contains(t, Kits(dir), "linux")

	// Each file by itself, and the folder of a kit by itself, mean the same.
	one, err := Read(filepath.Join(dir, "a.lantern"))
	require.NoError(t, err)
	require.Len(t, one, len(texts))
	alone, err := Read(filepath.Join(dir, "kits/pump"))
	require.NoError(t, err)
	s, ds = Check(alone)
	require.Empty(t, ds)
	require.NotNil(t, s.Source("pump-log"))

	// A text that is being typed brings its kits in, and takes those out that it no longer uses.
	typed := With(texts, filepath.Join(dir, "a.lantern"), "settings {\n  use kit postgres\n}\n")
	s, ds = Check(typed)
	require.False(t, lang.Errors(ds), "%v", ds)
	require.NotNil(t, s.Rule("pg-crash"))
	require.Nil(t, s.Source("pump-log"))

	before := Stamp(dir, texts)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "kits/pump/more.lantern"), []byte("# more\n"), 0o644))
	require.NotEqual(t, before, Stamp(dir, texts), "who changes a kit changes the settings")
}

// A kit that has changed with the program stays as it was until somebody says so; one that was not in use, and
// one in the settings' own folder, come as they are.
func TestKitsAreHeld(t *testing.T) {
	now := []Text{{Name: "/s/a.lantern", Body: "x"}, {Name: kits.Prefix + "pump/a.lantern", Body: "new", Kit: "pump"},
		{Name: kits.Prefix + "tide/a.lantern", Body: "new", Kit: "tide"}, {Name: "/s/kits/own/a.lantern", Body: "new",
			Kit: "own"},
		{Name: kits.Prefix + "same/a.lantern", Body: "same", Kit: "same"}}
	before := []Text{{Name: kits.Prefix + "pump/a.lantern", Body: "old", Kit: "pump"}, {Name: kits.Prefix +
		"pump/b.lantern", Body: "gone", Kit: "pump"},
		{Name: "/s/kits/own/a.lantern", Body: "old", Kit: "own"}, {Name: kits.Prefix + "same/a.lantern", Body: "same",
			Kit: "same"}}
	held, changed := Held(now, before)
	require.Equal(t, []string{"pump"}, changed)
	require.Equal(t, []Text{now[0], before[0], before[1], now[2], now[3], now[4]}, held)
	_, changed = Held(now, now)
	require.Empty(t, changed)
}
