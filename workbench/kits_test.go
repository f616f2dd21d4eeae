package workbench

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/lang"
	"dimlantern/folder"
	"dimlantern/intake/found"
)

// linesOf are the whole lines in a kit's tests, by the file that each stands in: those that its programs wrote.
func linesOf(s *lang.Settings) map[string][]string {
	out := map[string][]string{}
	for _, r := range s.Rules {
		for _, x := range r.Expects {
			for _, step := range x.Steps {
				if step.Kind == "line" && step.From != "" {
					out[step.From] = append(out[step.From], step.Text)
				}
			}
		}
	}
	return out
}

// A log of a program is found to be that of its kit: for every kit, by the lines in its own tests, under a name that
// gives nothing away. Web servers that write alike go by where the log lies.
func TestKitsAreFound(t *testing.T) {
	names := folder.Kits("")
	tried := 0
	for _, name := range names {
		s, _, _, err := folder.LoadKit("", name)
		require.NoError(t, err)
		for from, lines := range linesOf(s) {
			dir := t.TempDir()
			path := filepath.Join(dir, "some.log")
			if name == "nginx" || name == "apache" {
				path = filepath.Join(dir, name, filepath.Base(from))
				require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
			}
			body := strings.Repeat(strings.Join(lines, "\n")+"\n", 3)
			require.NoError(t, os.WriteFile(path, []byte(body), 0o644))
			fits, err := FitKits("", path, names)
			require.NoError(t, err)
			if assert.NotEmpty(t, fits, "%s: %s", name, from) {
				assert.Equal(t, name, fits[0].Kit, "%s: %s: %v", name, from, fits)
				assert.Equal(t, fits[0].Entries, fits[0].Fits, "%s: all of it is the kit's: %s", name, from)
			}
			tried++
		}
	}
	require.Greater(t, tried, 25)
	// What belongs to no kit is said to fit none.
	path := filepath.Join(t.TempDir(), "own.log")
	require.NoError(t, os.WriteFile(path, []byte(strings.Repeat("tide 3.2 m at the north quay\n", 50)), 0o644))
	fits, err := FitKits("", path, names)
	require.NoError(t, err)
	require.Empty(t, fits)
}

// Taking kits into use writes clauses, keeps what stands there, and says nothing where there is nothing to do.
func TestKitsText(t *testing.T) {
	dir := t.TempDir()
	m := &found.Machine{Fits: []found.Fit{{Kit: "linux", Runs: true, But: []string{"system-journal"}},
		{Kit: "redis"}, {Kit: "nginx", Runs: true, Used: true}}}
	file, text, err := KitsText(dir, m, nil)
	require.NoError(t, err)
	require.Equal(t, filepath.Join(dir, KitsFile), file)
	require.Contains(t, text, "use kit linux but not system-journal\n")
	require.NotContains(t, text, "redis", "it does not run")
	require.NotContains(t, text, "use kit nginx", "it is in use")

	own := "# ours\nsettings {\n  zone \"UTC\" # ships' time\n  use kit linux\n}\n"
	require.NoError(t, os.WriteFile(file, []byte(own), 0o644))
	m.Fits[0].Used = true
	_, text, err = KitsText(dir, m, nil)
	require.NoError(t, err)
	require.Empty(t, text)
	_, text, err = KitsText(dir, m, []string{"redis", "borg"})
	require.NoError(t, err)
	require.Equal(t,
		"# ours\nsettings {\n  zone \"UTC\"  # ships' time\n  use  kit linux\n  use  kit redis\n  use  kit borg\n}\n",
		text)

	require.NoError(t, os.Remove(file))
	require.NoError(t, os.Mkdir(file, 0o755))
	_, _, err = KitsText(dir, m, []string{"redis"})
	require.ErrorContains(t, err, "kits.lantern cannot be read")
}

// A kit that is made of settings means what they meant, without what is the machine's own.
func TestNewKit(t *testing.T) {
	dir := t.TempDir()
	from := filepath.Join(dir, "gates.lantern")
	require.NoError(t, os.WriteFile(from, []byte(`settings { zone "UTC" }
contact crew { command "/bin/true" }
source gates { files "/srv/gates/a/*.log", "/srv/gates/b/*.log", "/var/log/gates.log" }
source locks { files "/srv/gates/a/locks.txt" }
rule gate-held {
  on     gates
  problem "held"
  per    host
  raise  error
  clear  after 1h quiet
  tell   crew
}
`), 0o644))
	file, said, err := NewKit(dir, "gates", []string{from})
	require.NoError(t, err)
	require.Len(t, said, 3, "%v", said)
	s, _, ds, err := folder.LoadKit(dir, "gates")
	require.NoError(t, err)
	require.False(t, lang.Errors(ds), "%v", ds)
	require.Equal(t, []string{"/srv/gates/a/*.log", "/srv/gates/b/*.log", "/var/log/gates.log"},
		s.Source("gates").Files)
	require.Equal(t, "/srv/gates/a", s.Kits[0].Given[0].Text())
	require.Empty(t, s.Rule("gate-held").Tells)
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(b), `"{logs}/locks.txt"`)

	// Of a log it is made with a source and the layout that fits it.
	log := filepath.Join(dir, "quay", "crane.log")
	require.NoError(t, os.MkdirAll(filepath.Dir(log), 0o755))
	var lines strings.Builder
	for i := range 60 {
		fmt.Fprintf(&lines, "2026-11-29 10:%02d:00 crane-%d: load %d kg lifted\n", i, i%3, 900+7*i)
	}
	require.NoError(t, os.WriteFile(log, []byte(lines.String()), 0o644))
	_, _, err = NewKit(dir, "cranes", []string{log})
	require.NoError(t, err)
	s, _, ds, err = folder.LoadKit(dir, "cranes")
	require.NoError(t, err)
	require.False(t, lang.Errors(ds), "%v", ds)
	require.Equal(t, []string{log}, s.Sources[0].Files)
	require.Equal(t, filepath.Dir(log), s.Kits[0].Given[0].Text())
	require.NotNil(t, s.Layout(s.Sources[0].LayoutName()).Time)

	for name, x := range map[string]struct {
		kit  string
		from []string
		says string
	}{
		"a name that is none":  {"Gates!", []string{from}, "no name for a kit"},
		"one that is there":    {"gates", []string{from}, "is there already"},
		"a file that is not":   {"other", []string{filepath.Join(dir, "none.lantern")}, "cannot be read"},
		"a file with mistakes": {"other", []string{broken(t, dir)}, "this { of rule"},
	} {
		_, _, err := NewKit(dir, x.kit, x.from)
		assert.ErrorContains(t, err, x.says, name)
	}
}

func broken(t *testing.T, dir string) string {
	path := filepath.Join(dir, "broken.lantern")
	require.NoError(t, os.WriteFile(path, []byte("rule x {\n  problem \"y\"\n"), 0o644))
	return path
}
