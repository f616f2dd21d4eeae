package test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/demo"
)

const always = " from 1970-01-01 to 2100-01-01"

// rows are the rows of an answer, and what it rests on.
func rows(t *testing.T, args ...string) (list []map[string]any, basis map[string]any) {
	t.Helper()
	out, errs, code := run(t, append([]string{"ask", "--json"}, args...)...)
	require.Zero(t, code, "%v: %s", args, errs)
	for s := bufio.NewScanner(strings.NewReader(out)); s.Scan(); {
		var row map[string]any
		require.NoError(t, json.Unmarshal(s.Bytes(), &row), s.Text())
		list = append(list, row)
	}
	lines := strings.Split(strings.TrimSpace(errs), "\n")
	require.NoError(t, json.Unmarshal([]byte(lines[len(lines)-1]), &basis), errs)
	return list, basis
}

// What a question counts in logs that real programs wrote, and in one of each of many forms, is what there
// is in them: as many entries as fields gives, and where lines are entries, as many as wc -l counts; and as
// many with a phrase as find finds.
func TestAskCountsWhatIsThere(t *testing.T) {
	word := regexp.MustCompile(`[A-Za-z]{5,}`)
	files, err := filepath.Glob("layouts/real/*.log")
	require.NoError(t, err)
	more, err := filepath.Glob("layouts/logs/*.log")
	require.NoError(t, err)
	lined := 0
	for _, path := range append(files, more...) {
		out, errs, code := run(t, "fields", "--json", path)
		require.Zero(t, code, errs)
		entries := strings.Count(out, "\n")
		list, basis := rows(t, "show count"+always, path)
		require.Len(t, list, 1, path)
		come := 0 // nothing is known of what is still to come
		for s := bufio.NewScanner(strings.NewReader(out)); s.Scan(); {
			var x struct{ At *time.Time }
			require.NoError(t, json.Unmarshal(s.Bytes(), &x))
			if x.At != nil && x.At.After(time.Now()) {
				come++
			}
		}
		assert.EqualValues(t, entries-come, list[0]["count"], path)
		assert.EqualValues(t, entries, basis["looked"], path)
		body, err := os.ReadFile(path)
		require.NoError(t, err)
		if lines := strings.Count(string(body), "\n"); lines == entries {
			lined++
		}
		words := word.FindAllString(out, -1)
		if len(words) < 20 {
			continue
		}
		w := words[len(words)*2/3]
		found, errs, code := run(t, "fields", "--json", "--where", fmt.Sprintf("%q", w), path)
		require.Zero(t, code, errs)
		if come > 0 {
			continue
		}
		list, _ = rows(t, fmt.Sprintf("where %q show count", w)+always, path)
		assert.EqualValues(t, strings.Count(found, "\n"), list[0]["count"], "%s: %s", path, w)
	}
	assert.Greater(t, lined, 40)
}

// The counts of rg are those of a question, on a log whose text is the whole line.
func TestAskCountsAsTheSearchDoes(t *testing.T) {
	rg, err := exec.LookPath("grep")
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "a.log")
	var b strings.Builder
	for i := range 50_000 {
		fmt.Fprintf(&b, "line %d of a bare log, %s\n", i, []string{"open refused", "reopened", "at rest"}[i%7%3])
	}
	write(t, path, b.String())
	settings := filepath.Join(t.TempDir(), "s.lantern")
	write(t, settings, fmt.Sprintf("source bare { files %q }", path))
	for _, phrase := range []string{"open refused", "opened", "at rest", "line 4"} {
		out, _ := exec.Command(rg, "-cw", phrase, path).Output()
		list, basis := rows(t, "--settings", settings, fmt.Sprintf("where %q show count", phrase)+always, path)
		assert.Equal(t, strings.TrimSpace(string(out)), fmt.Sprint(list[0]["count"]), phrase)
		assert.EqualValues(t, 50_000, basis["looked"])
		assert.NotEmpty(t, basis["untimed"], "its entries say no time")
	}
}

// The alerts of a question are those of the history.
func TestAskOfAlertsIsTheHistory(t *testing.T) {
	f := newFolder(t)
	h, err := demo.New(demo.Options{Folder: f.dir, Seed: 7, Now: time.Now(), Copies: 50})
	require.NoError(t, err)
	require.NoError(t, h.Past())
	f.settings = h.Settings()
	f.start(t)
	raised := map[string]int{}
	ended := map[string]string{}
	history := func() int {
		out, _, _ := run(t, "history", "--data", f.data, "--json")
		clear(raised)
		clear(ended)
		for s := bufio.NewScanner(strings.NewReader(out)); s.Scan(); {
			var x struct{ Change, Rule, Alert, Why string }
			require.NoError(t, json.Unmarshal(s.Bytes(), &x))
			switch x.Change {
			case "raised":
				raised[x.Rule]++
			case "cleared":
				ended[x.Alert] = x.Why
			case "reopened":
				delete(ended, x.Alert)
			}
		}
		return len(raised)
	}
	was := -1
	eventually(t, "the past is judged", func() bool {
		now := history()
		same := now == was && now > 8
		was = now
		time.Sleep(200 * time.Millisecond)
		return same
	})
	list, _ := rows(t, "--settings", f.settings, "--data", f.data, "on alerts show count per rule over 28d")
	history()
	got := map[string]int{}
	for _, row := range list {
		got[row["per"].(map[string]any)["rule"].(string)] = int(row["count"].(float64))
	}
	assert.Equal(t, raised, got)
	byWhy := map[string]int{}
	for _, why := range ended {
		byWhy[why]++
	}
	list, _ = rows(
		t,
		"--settings",
		f.settings,
		"--data",
		f.data,
		"on alerts where open == false show count per ended-by "+
			"over 28d",
	)
	got = map[string]int{}
	for _, row := range list {
		got[row["per"].(map[string]any)["ended-by"].(string)] = int(row["count"].(float64))
	}
	assert.Equal(t, byWhy, got)
	for _, name := range []string{"alerts-by-rule", "until-taken", "ends-by-itself", "busy-hours"} {
		list, _ := rows(t, "--settings", f.settings, "--data", f.data, name)
		assert.NotEmpty(t, list, name)
	}
}

// What cannot be is told in a sentence with what to do, and nothing is printed for an answer.
func TestAskSaysWhatCannotBe(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.log")
	write(t, path, "2026-11-24T05:32:28Z host-a took=12 open refused\n2026-11-24T05:33:28Z host-a took=x opened\n")
	for question, want := range map[string]string{
		"show average(took)":                       "average is no column",
		"show count every 36h":                     "no whole days",
		"show count per each":                      "gives the field each",
		"show count from 2026-11-25 to 2026-11-24": "is no time at all",
		"show count every 1ms over 28d":            "is more than 100,000 periods",
		"on nowhere show count":                    "",
	} {
		out, errs, code := run(t, "ask", question, path)
		if want == "" { // the name that a file alone is given
			assert.Zero(t, code, errs)
			continue
		}
		assert.Equal(t, 2, code, question)
		assert.Contains(t, errs, want, question)
		assert.Empty(t, out, question)
	}
	_, errs, code := run(t, "ask", "show count", filepath.Join(t.TempDir(), "none.log"))
	assert.NotZero(t, code)
	assert.Contains(t, errs, "no such file")
	list, basis := rows(t, `where /took=(?<took>\S+)/ show sum(took), count`+always, path)
	assert.EqualValues(t, 12, list[0]["sum(took)"])
	assert.EqualValues(t, map[string]any{"took": 1.0}, basis["no-number"])
	_, basis = rows(t, `where "gone" show count`+always, path)
	assert.Equal(t, "where", basis["emptied-by"])
	_, basis = rows(t, `where "opened" show count from 2020-01-01 to 2020-01-02`, path)
	assert.Equal(t, "on", basis["emptied-by"], "nothing of it lies there")
}

// A question on the screen: typed, answered at each letter, gone into, come back from, kept.
func TestLedgerOnTheScreen(t *testing.T) {
	f := newFolder(t)
	var b strings.Builder
	for i := range 120 {
		fmt.Fprintf(&b, "%s pump-%02d pump %d low\n", time.Now().Add(-time.Duration(i)*20*time.Second).UTC().Format(
			time.RFC3339), 1+i%3, 1+i%2)
	}
	write(t, f.log, b.String())
	x := open(t, 160, 47, "", "--settings", f.settings, "--data", f.data)
	x.see("all is quiet")
	x.keys("4")
	x.see("what can be asked")
	x.see("alerts-by-rule")
	x.see("app")
	x.keys("a")
	x.see("typing a question")
	x.typed(`on app where /pump (?<pump>\d+) lo`)
	x.see("does not end on its line")
	x.typed(`w/ show count per host over 2h`)
	x.see("120 of 120 entries fit")
	x.keys("Escape")
	x.see("reading the picture")
	x.until("its groups", func(s string) bool {
		return strings.Contains(s, "pump-01") && strings.Contains(s, "pump-03") && strings.Contains(s, " 40 ")
	})
	x.see("values")
	x.keys("Tab", "i")
	x.see(`and pump == "`)
	x.see("60 of 120 entries fit")
	x.keys("u")
	x.see("120 of 120 entries fit")
	x.keys("Escape", "Tab", "g")
	x.see("per pump")
	x.keys("C-s")
	x.see("keep it as")
	x.typed("lows")
	x.keys("Enter")
	x.see("keep the question lows")
	x.keys("Enter")
	eventually(t, "it is written", func() bool {
		b, _ := os.ReadFile(filepath.Join(f.settings, "asks.lantern"))
		return strings.Contains(string(b), "ask lows {")
	})
	out, errs, code := run(t, "ask", "--settings", f.settings, "--data", f.data, "--csv", "lows")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "pump,count")
}
