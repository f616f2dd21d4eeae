package service

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// open are the open alerts of a service: rule, key and severity.
func (p *place) alerts() []string {
	var out []string
	for _, k := range p.s.engine.Keys() {
		if k.Alert != "" {
			out = append(out, fmt.Sprint(k.Rule, k.Key, k.Severity))
		}
	}
	slices.Sort(out)
	return out
}

// drafted makes other settings ready, from what has been read by now.
func (p *place) drafted(text string) *draft {
	path := filepath.Join(p.dir, "settings", "app.lantern")
	require.NoError(p.t, os.WriteFile(path, []byte(text), 0o644))
	d := &draft{asked: []asked{{answer: make(chan taken, 1)}}}
	p.s.edits.making = d // so that no round begins another one
	d.read(p.s.window.Now())
	require.NoError(p.t, d.err)
	require.False(p.t, lang.Errors(d.ds))
	d.make(context.Background(), p.s.window.Now())
	require.NoError(p.t, d.err)
	return d
}

// edit takes up other settings, at once.
func (p *place) edit(text string) {
	path := filepath.Join(p.dir, "settings", "app.lantern")
	require.NoError(p.t, os.WriteFile(path, []byte(text), 0o644))
	p.s.edits.stamp, p.s.edits.asked = "", []asked{{answer: make(chan taken, 1)}}
	p.s.publish(time.Now())
	p.s.checkSettings()
	p.s.takeUp(context.Background(), <-p.s.edits.ready)
	require.NoError(p.t, p.s.commit())
	p.take()
}

// A rule that is changed has the alerts that it would have had from the start, as far as
// its logs can still be read: what goes on keeps its identity, and what would not be open
// is cleared with the reason.
func TestEditReadsAgain(t *testing.T) {
	clauses := [][2]string{ // what is in the rule before and behind
		{"", "ignore \"test\""},
		{"per      host, pump", "per      host"},
		{"pump (?<pump>\\d+) low/", "pump (?<pump>\\d+) (low|idle)/"},
		{"recovery /pump (?<pump>\\d+) fine/", "recovery /pump (?<pump>\\d+) (fine|idle)/"},
	}
	went, ended := 0, 0
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 3))
		now := time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC)
		var lines []string
		var ends []time.Time
		for range 10 + r.IntN(40) {
			now = now.Add([]time.Duration{0, 1, 30, 60, 100}[r.IntN(5)] * time.Second)
			lines = append(lines, fmt.Sprintf("%s %s pump %d %s\n", now.Format(time.RFC3339),
				[]string{"a", "b"}[r.IntN(2)], 1+r.IntN(2),
				[]string{"low", "low", "low test", "fine", "idle"}[r.IntN(5)]))
			ends = append(ends, now)
		}
		c := clauses[r.IntN(len(clauses))]
		changed := func(text string) string {
			text = strings.Replace(text, "  remind   every 3m\n", "", 1)
			if c[0] == "" {
				return strings.Replace(text, "  say ", "  "+c[1]+"\n  say ", 1)
			}
			require.Contains(t, text, c[0])
			return strings.Replace(text, c[0], c[1], 1)
		}
		at := 1 + r.IntN(len(lines)-1)
		p := newPlace(t, t.TempDir())
		p.open()
		var ready *draft // made while the log goes on, and taken up at the end
		ahead := r.IntN(2 * at)
		for i, l := range lines[:at] {
			if i == ahead && i > 0 {
				ready = p.drafted(changed(fmt.Sprintf(rules, p.dir)))
			}
			p.append(l)
			p.step(ends[i])
			if r.IntN(12) == 0 {
				require.NoError(t, os.Rename(filepath.Join(p.dir, "app.log"),
					fmt.Sprintf("%s/app.log.%d", p.dir, 100-i)))
			}
		}
		before := map[string]string{}
		for _, k := range p.s.engine.Keys() {
			if k.Alert != "" {
				before[strings.Join(k.Key, " ")] = k.Alert
			}
		}
		if ready != nil {
			p.s.takeUp(context.Background(), ready)
			require.NoError(t, (<-ready.asked[0].answer).err)
			p.take()
		} else {
			p.edit(changed(fmt.Sprintf(rules, p.dir)))
		}
		for _, k := range p.s.engine.Keys() {
			if id := before[strings.Join(k.Key, " ")]; k.Alert != "" && id != "" {
				went++
				assert.Equal(t, id, k.Alert, "it is the same alert")
			}
		}
		for _, x := range p.seen {
			if strings.HasSuffix(x, "rule changed") {
				ended++
			}
		}
		fresh := newPlace(t, t.TempDir())
		fresh.write("settings/app.lantern", changed(fmt.Sprintf(rules, fresh.dir)))
		fresh.open()
		for i, l := range lines[:at] {
			fresh.append(l)
			fresh.step(ends[i])
		}
		severities := func(list []string) []string { // what was worse stays so
			for i := range list {
				list[i] = strings.NewReplacer("warning", "", "critical", "").Replace(list[i])
			}
			return list
		}
		require.Equal(t, severities(fresh.alerts()), severities(p.alerts()), "seed %d, %v, at %s\n%s", seed, c,
			entry.Of(ends[at-1]), strings.Join(lines[:at], ""))
		p.crash()
		fresh.crash()
	}
	assert.Greater(t, went, 5, "alerts that went on")
	assert.Greater(t, ended, 3, "alerts that ended")
}
