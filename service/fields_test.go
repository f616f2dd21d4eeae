package service

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"dimlantern/folder"

	"dimlantern/api"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Pointing at values makes a layout: patterns that find them on all lines of their
// kind, with their values counted; it is written into the settings with their comments
// kept, and taken up.
func TestFieldsByPointing(t *testing.T) {
	dir := t.TempDir()
	log := filepath.Join(dir, "cold.log")
	var b strings.Builder
	for i := range 300 {
		fmt.Fprintf(&b, "2026-11-24 05:%02d:%02d bay=%d temp=-%d.%d C by crew\n", i/60, i%60, i%7, 15+i%5, i%10)
	}
	b.WriteString("2026-11-24 06:00:00 door of bay 3 opened\nno time here\n")
	require.NoError(t, os.WriteFile(log, []byte(b.String()), 0o644))
	s, data, _ := running(t, "# the stores\nsource cold { # north\n files "+lang.Quote(log)+
		"\n begin oldest\n layout plain\n}\n", nil)
	ctx := context.Background()
	require.Eventually(t, func() bool {
		_, err := s.bench.Fields(ctx, api.FieldsQuery{Origin: s.house.Host + ":" + log})
		return err == nil
	}, 10*time.Second, 10*time.Millisecond)
	ask := func(q api.FieldsQuery) *api.FieldsView {
		t.Helper()
		q.Origin, q.Lines = s.house.Host+":"+log, 20
		v, err := s.bench.Fields(ctx, q)
		require.NoError(t, err)
		return v
	}
	v := ask(api.FieldsQuery{Which: "usual"})
	assert.Equal(t, []any{302, 302, 0, "cold", "layout cold {\n  plain\n}\n"},
		[]any{v.Looked, v.Fits, v.Timed, v.Layout, v.Text})
	mark := func(line, value, name string) api.Mark {
		i := strings.Index(line, value)
		require.GreaterOrEqual(t, i, 0)
		return api.Mark{Line: line, Start: i, End: i + len(value), Name: name}
	}
	line := v.Lines[0].Raw
	temp := line[strings.Index(line, "temp=")+5 : strings.Index(line, " C by")]
	marks := []api.Mark{mark(line, line[:19], "at"), mark(line, temp, "temp")}
	v = ask(api.FieldsQuery{Which: "odd", Marks: marks, Field: "temp"})
	require.Empty(t, v.Words)
	assert.Contains(t, v.Text, `find in text /`)
	assert.Contains(t, v.Text, `time at like "2026-11-24 05:`)
	assert.Equal(t, []any{300, "decimal", true}, []any{v.Values.Entries, v.Values.Type, v.Values.Numbers.Min >= -20},
		v.Text)
	assert.GreaterOrEqual(t, v.Timed, 300)
	assert.Len(t, v.Lines, 2, "the odd ones")
	require.NotEmpty(t, v.Parts)

	// What contradicts itself is told, and the text stays.
	bad := ask(api.FieldsQuery{Which: "odd", Marks: append(marks,
		api.Mark{Line: "no time here", Start: 0, End: 2, Name: "temp"})})
	assert.Contains(t, bad.Words, "temp")
	assert.Equal(t, "layout cold {\n  plain\n}\n", bad.Text)

	// Text by hand: what is wrong is said in words, what is right is tried.
	bad = ask(api.FieldsQuery{Text: "layout cold {\n  patern /x/\n}\n"})
	assert.Contains(t, bad.Words, "did you mean: pattern")
	d := ask(api.FieldsQuery{Which: "misfits", Detect: 1})
	assert.Contains(t, d.Text, "(?<at>")
	assert.Equal(t, 1, d.Looked-d.Fits)
	assert.Contains(t, d.Lines[0].Misfit, "it does not begin with `at`")
	assert.Equal(t, "no time here", d.Misfits[0].Example)

	// A whole value that has a name gets another one, and no pattern; what lies left of the time
	// gets into the pattern.
	held := "layout cold {\n  pattern /^.*?(?<at>\\d{4}-\\S+ \\S+) bay=(?<bay>\\d+) (?<text>.*)$/\n" +
		"  time    at like \"2026-11-24 05:32:28\"\n  type    bay address\n}\n"
	x := ask(api.FieldsQuery{Which: "usual", Text: held})
	assert.Equal(t, []any{300, 302}, []any{x.Fits, x.Unfit}, "values that do not fit their types are told as well")
	line = x.Lines[0].Raw
	bay := strings.Index(line, "bay=") + 4
	x = ask(api.FieldsQuery{Which: "usual", Text: held, Marks: []api.Mark{{Line: line, Start: bay, End: bay + 1,
		Name: "chamber"}}})
	require.Empty(t, x.Words)
	assert.Contains(t, x.Text, "map     bay to chamber")
	assert.NotContains(t, x.Text, "find")
	loose := strings.Replace(strings.Replace(held, "  type    bay address\n", "", 1), "(?<at>\\d{4}-\\S+ \\S+) bay",
		"(?<at>\\S+) bay", 1)
	loose = strings.Replace(loose, "05:32:28", "", 1)
	loose = strings.Replace(loose, "  time    at like \"2026-11-24 \"\n", "", 1)
	x = ask(api.FieldsQuery{Which: "usual", Text: loose, Marks: []api.Mark{{Line: line, Start: 0, End: 10,
		Name: "day"}}})
	require.Empty(t, x.Words)
	assert.Contains(t, x.Text, "(?<day>")
	assert.GreaterOrEqual(t, x.Fits, 300)

	done := ask(api.FieldsQuery{Text: v.Text, Write: true})
	require.True(t, done.Done)
	body, err := os.ReadFile(filepath.Join(filepath.Dir(data), "settings", "s.lantern"))
	require.NoError(t, err)
	for _, part := range []string{"# the stores", "# north", "layout cold\n", "layout cold {\n", "find in text"} {
		assert.Contains(t, string(body), part)
	}
	_, ds := folder.Check([]folder.Text{{Name: "t", Body: string(body)}})
	assert.Empty(t, ds)
	assert.Contains(t, string(body), "source cold { # north\n files ", "what was not touched stays as it was written")

	// What was read before has the new fields as well.
	require.Eventually(t, func() bool {
		e, err := s.query.Entries(ctx, api.EntriesQuery{Origin: s.house.Host + ":" + log, Lines: 400})
		return err == nil && len(e.Lines) == 302 &&
			slices.ContainsFunc(e.Lines[301].Fields, func(f entry.Field) bool { return f.Name == "temp" })
	}, 10*time.Second, 20*time.Millisecond)
}
