package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// In the first minute: nothing is configured, what is found stands there, and enter takes it, shown before it is done.
func TestTheFirstMinute(t *testing.T) {
	f := newFolder(t)
	require.NoError(t, os.RemoveAll(f.settings))
	x := open(t, 120, 40, "", "--settings", f.settings, "--data", f.data)
	x.see("found here")
	x.see("+ linux")
	x.keys("Enter")
	x.see("of the kit linux, which begin to count with the next entry")
	_, err := os.Stat(filepath.Join(f.settings, "kits.lantern"))
	require.ErrorIs(t, err, os.ErrNotExist, "it is shown first")
	x.keys("Enter")
	x.see("no alert is open")
	b, err := os.ReadFile(filepath.Join(f.settings, "kits.lantern"))
	require.NoError(t, err)
	require.Contains(t, string(b), "use kit linux")
	_, errs, code := run(t, "check", f.settings)
	assert.Equal(t, 0, code, errs)
	x.keys("3")
	x.see("packages-log")
	x.keys("+")
	x.until("the kit in use", func(s string) bool {
		return strings.Contains(s, "in use: ") &&
			!strings.Contains(s, "+ linux")
	})
}

// guesses are lines that sshd wrote: ten guesses, and then it worked.
func guesses() string {
	line := "2026-11-29T20:08:%02d.102516+00:00 host-a sshd[25415]: %s password for keeper from 192.0.2.7 port " +
		"58030 ssh2\n"
	var b strings.Builder
	for i := range 10 {
		b.WriteString(strings.ReplaceAll(strings.Replace(line, "%02d", string(rune('1'))+string(rune('0'+i)),
			1), "%s", "Failed"))
	}
	b.WriteString(strings.ReplaceAll(strings.Replace(line, "%02d", "40", 1), "%s", "Accepted"))
	return b.String()
}

// A kit does by command what it does on the screens: it is found for a log, tried on it, used, replaced in part, and
// made of what one has.
func TestKitsByCommand(t *testing.T) {
	f := newFolder(t)
	log := filepath.Join(f.dir, "logs", "auth.log")
	write(t, log, guesses())

	out, errs, code := run(t, "kits", "try", log)
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "fits: kit sign-ins, by its source auth-log: 11 of 11 entries")
	assert.Contains(t, out, "critical  sign-in-guesses")
	out, _, code = run(t, "replay", "--kit", "sign-ins", "--json", log)
	require.Equal(t, 0, code)
	assert.Contains(t, out, `"change":"worsened","rule":"sign-in-guesses"`)
	_, errs, code = run(t, "replay", "--kit", "no-such", log)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `there is no kit "no-such"`)

	out, _, code = run(t, "kits", "test", "sign-ins")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, " passed, 0 failed")
	out, _, _ = run(t, "kits", "show", "sign-ins")
	assert.Contains(t, out, "given guesses 10")

	require.NoError(t, os.RemoveAll(f.settings))
	out, _, code = run(t, "kits", "use", "sign-ins", "--settings", f.settings)
	require.Equal(t, 0, code)
	assert.Contains(t, out, "use kit sign-ins")
	_, err := os.Stat(f.settings)
	require.Error(t, err, "nothing is written yet")
	_, errs, code = run(t, "kits", "use", "sign-ins", "--settings", f.settings, "--write")
	require.Equal(t, 0, code, errs)

	// The settings say otherwise: fewer guesses, one rule of their own, one left out.
	write(t, filepath.Join(f.settings, "kits.lantern"),
		"settings {\n  use kit sign-ins with logs \""+filepath.Dir(log)+
			"\", guesses 4 but not system-journal, sign-in-root\n}\n\nrule su-refused {\n  on auth-log\n  problem "+
			"\"FAILED SU\"\n"+
			"  per host\n  raise error\n  clear after 1h quiet\n}\n")
	out, _, code = run(t, "effective", "--settings", f.settings, "--json")
	require.Equal(t, 0, code)
	seen := map[string]map[string]any{}
	for line := range strings.Lines(out) {
		var b map[string]any
		require.NoError(t, json.Unmarshal([]byte(line), &b))
		seen[b["kind"].(string)+" "+str(b["name"])] = b
	}
	assert.Contains(t, seen["rule sign-in-guesses"]["text"], "warning at 4 in 10m")
	assert.Equal(t, "sign-ins", seen["rule sign-in-guesses"]["kit"])
	assert.Equal(t, true, seen["rule sign-in-root"]["left_out"])
	assert.Nil(t, seen["rule su-refused"]["kit"])
	assert.NotEmpty(t, seen["rule su-refused"]["put_aside"])
	out, _, code = run(t, "replay", "--json", "--rules", f.settings, log)
	require.Equal(t, 0, code)
	assert.Contains(t, out, `"at":"2026-11-29T20:08:13.102Z","change":"raised","rule":"sign-in-guesses"`)

	// A kit that fits nothing here is told where it is used.
	write(t, filepath.Join(f.settings, "more.lantern"), "settings { use kit pump }\n")
	write(t, filepath.Join(f.settings, "kits/pump/pump.lantern"),
		"kit pump {\n  needs program \"no-such-pumpd\"\n}\n")
	out, _, code = run(t, "check", f.settings)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "more.lantern:1:20: finding fits-nothing")

	// And one is made of what there is.
	_, errs, code = run(t, "kits", "new", "quay", "--settings", f.settings, "--from",
		"../demo/settings/pumps.lantern")
	require.Equal(t, 0, code, errs)
	out, errs, code = run(t, "kits", "test", "quay", "--settings", f.settings)
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, out, " passed, 0 failed")
	out, _, _ = run(t, "kits", "--json", "--settings", f.settings)
	var here struct {
		Kits []struct{ Kit string }
		All  []string
	}
	require.NoError(t, json.Unmarshal([]byte(out), &here))
	assert.Contains(t, here.All, "quay")
	assert.NotEmpty(t, here.Kits)
}

func str(v any) string { s, _ := v.(string); return s }
