package service

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/snapshot"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A rule that had hits again and again, and has none any more, is told, over a restart as
// well; and so is a log that does not fit as it did. Both are over by themselves.
func TestItself(t *testing.T) {
	p := newPlace(t, t.TempDir())
	p.open()
	now := time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC)
	line := func(text string) string { return now.Format(time.RFC3339) + " a " + text + "\n" }
	for range 8 {
		now = now.Add(30 * time.Minute)
		p.append(line("pump 3 low") + strings.Repeat(line("idle"), 20))
		p.step(now)
	}
	assert.Empty(t, p.alerts())
	now = now.Add(4 * time.Hour)
	p.append(line("idle"))
	p.step(now)
	assert.Empty(t, p.alerts(), "not yet ten times its usual half an hour")
	now = now.Add(2 * time.Hour)
	p.append(line("idle"))
	p.step(now)
	now = now.Add(time.Second)
	p.step(now)
	assert.Equal(t, []string{"rule-silent[low] notice"}, p.alerts())
	p.crash()
	p.open()
	now = now.Add(2 * time.Minute)
	p.step(now)
	assert.Equal(t, []string{"rule-silent[low] notice"}, p.alerts())
	now = now.Add(2 * time.Minute)
	p.append(line("pump 3 low"))
	p.step(now)
	now = now.Add(2 * time.Minute)
	p.step(now)
	now = now.Add(time.Second)
	p.step(now)
	assert.Empty(t, p.alerts())
	said, err := os.ReadFile(filepath.Join(p.dir, "data", snapshot.ItselfFile))
	require.NoError(t, err)
	assert.Equal(t, 2, strings.Count(string(said), "\n"), "%s", said)

	fill := func(text string) {
		for range 60 {
			now = now.Add(2 * time.Second)
			p.append(strings.Repeat(text, 4))
			p.step(now)
		}
	}
	fill(line("idle"))
	fill("torn\n")
	now = now.Add(2 * time.Minute)
	p.step(now)
	p.step(now.Add(time.Second))
	require.Len(t, p.alerts(), 1)
	assert.Contains(t, p.alerts()[0], "layout-fits-less")
	fill(line("idle"))
	now = now.Add(2 * time.Minute)
	p.step(now)
	p.step(now.Add(time.Second))
	assert.Empty(t, p.alerts())
	p.crash()

	// They can be switched off, one of them or all, and one's own rule stands in the place.
	for _, c := range []struct {
		add  string
		want []string
	}{
		{"", []string{"contact-unreachable", "delivery-behind", "layout-fits-less", "report-failed", "rule-silent"}},
		{"settings {\n  built-in off rule-silent\n}\n", []string{"contact-unreachable", "delivery-behind",
			"layout-fits-less", "report-failed"}},
		{"settings {\n  built-in off\n}\n", nil},
		{"rule rule-silent {\n  on dim-lantern\n  problem has rule\n  per rule\n  raise error\n  clear by hand\n}\n",
			[]string{"contact-unreachable", "delivery-behind", "layout-fits-less", "report-failed", "rule-silent"}},
	} {
		q := newPlace(t, t.TempDir())
		q.write("settings/app.lantern", fmt.Sprintf(rules, q.dir)+c.add)
		q.open()
		var got []string
		for _, r := range q.s.settings.Rules {
			if r.Name != "low" {
				got = append(got, r.Name)
			}
		}
		assert.Equal(t, c.want, got, c.add)
		q.crash()
	}
}

// The usual gap is that between visits, however many hits each of them has.
func TestUsualGap(t *testing.T) {
	gap, ok := usualGap([]int64{1, 2, 3, 10, 11, 20, 30, 31, 40, 50}, time.Minute)
	assert.True(t, ok)
	assert.Equal(t, 9*time.Minute, gap)
	_, ok = usualGap([]int64{1, 10, 20}, time.Minute)
	assert.False(t, ok, "too few to know")
}
