package query_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/service"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const rules = `layout line {
  pattern /^(?<at>\S+) (?<host>\S+) pump (?<pump>\d+) (?<text>.*)$/
  time    at like "2026-11-24T05:32:28.114Z"
}

source pumps {
  files  "LOG"
  layout line
  begin  oldest
}

rule pump-low {
  on       pumps
  problem  "low"
  recovery "fine"
  per      host, pump
  raise    warning at 2 in 5m
  clear    on recovery
  say      "pump {pump} is low"
  advise   "Look at the strainer."
}

rule pump-odd {
  problem "odd"
  per     pump
  raise   notice at 50 in 5m
  clear   after 10m quiet
}
`

// span is when an alert of a key was open, as the log says.
type span struct{ from, to entry.Instant }

// house is a service that has read a log of its own, and what the log says.
type house struct {
	t       *testing.T
	desk    api.Lantern
	begin   entry.Instant
	end     entry.Instant
	lines   []string
	entries []entry.Instant
	low     map[string][]entry.Instant // hits of pump-low by pump
	spans   map[string][]span          // to is None where it is still open
}

// newHouse writes a log of the last hour, and lets a service read it.
func newHouse(t *testing.T, seed uint64) *house {
	dir := t.TempDir()
	h := &house{t: t, low: map[string][]entry.Instant{}, spans: map[string][]span{}}
	r := rand.New(rand.NewPCG(seed, 9))
	at := time.Now().Add(-time.Hour).Truncate(time.Second)
	h.begin = entry.Of(at)
	open, fine := map[string]bool{}, map[string]entry.Instant{}
	for range 60 + r.IntN(100) {
		at = at.Add(time.Duration(1+r.IntN(20)) * time.Second)
		pump := fmt.Sprint(1 + r.IntN(3))
		word := []string{"low", "low", "fine", "odd", "runs", "runs", "runs"}[r.IntN(7)]
		h.lines = append(h.lines, fmt.Sprintf("%s lock-3 pump %s %s", at.UTC().Format("2006-01-02T15:04:05.000Z"),
			pump, word))
		now := entry.Of(at)
		h.entries = append(h.entries, now)
		switch word {
		case "low":
			list := append(h.low[pump], now)
			h.low[pump] = list
			n := 0 // hits since the last recovery, within the window
			for _, x := range list {
				if x > now.Add(-5*time.Minute) && x > fine[pump] {
					n++
				}
			}
			if !open[pump] && n >= 2 {
				open[pump] = true
				h.spans[pump] = append(h.spans[pump], span{now, entry.None})
			}
		case "fine":
			fine[pump] = now
			if open[pump] {
				open[pump] = false
				h.spans[pump][len(h.spans[pump])-1].to = now
			}
		}
	}
	h.end = entry.Of(at)
	log := filepath.Join(dir, "pump.log")
	require.NoError(t, os.WriteFile(log, []byte(strings.Join(h.lines, "\n")+"\n"), 0o644))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "settings"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "settings", "pumps.lantern"),
		[]byte(strings.Replace(rules, "LOG", log, 1)), 0o644))
	s, err := service.Open(service.Options{Settings: filepath.Join(dir, "settings"), Data: filepath.Join(dir, "data")})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	t.Cleanup(func() {
		cancel()
		require.NoError(t, <-ended)
	})
	h.desk = s.Desk()
	require.Eventually(t, func() bool {
		x := ask(h, api.AskSources, api.ViewQuery{Column: time.Minute, Columns: 10})
		return len(x.Sources) > 0 && len(x.Sources[0].Origins) == 1 &&
			x.Sources[0].Origins[0].Entries == int64(len(h.lines)) && !ask(h, api.AskStatus, api.None{}).Reading
	}, 20*time.Second, 5*time.Millisecond)
	return h
}

// ask asks the service.
func ask[Q, A any](h *house, e interface {
	Call(context.Context, api.Lantern, Q) (*A, error)
}, q Q) *A {
	h.t.Helper()
	a, err := e.Call(context.Background(), h.desk, q)
	require.NoError(h.t, err)
	return a
}

// rows are the rows of a rule in a view, with the band that each stands in.
func rows(v *api.View, rule string) map[string]api.Row {
	out := map[string]api.Row{}
	for band, list := range map[string][]api.Row{"open": v.Open, "stirring": v.Stirring, "over": v.Over} {
		for _, r := range list {
			if r.Rule == rule {
				r.Words = band
				out[r.Key[len(r.Key)-1]] = r
			}
		}
	}
	return out
}

// The overview, of now and of any moment before, says what the log says: how many entries
// came, which hits each key had, and which alerts were open.
func TestViewSaysWhatTheLogSays(t *testing.T) {
	for seed := range uint64(6) {
		h := newHouse(t, seed)
		const column = 2 * time.Minute
		for _, at := range []entry.Instant{0, h.begin.Add(10 * time.Minute), h.begin.Add(25 * time.Minute)} {
			if at > h.end {
				continue
			}
			v := ask(h, api.AskView, api.ViewQuery{At: at, Until: at, Column: column, Columns: 45})
			now := at
			if now == 0 {
				now = v.Now
			}
			tide, entries := int64(0), int64(0)
			for _, n := range v.Tide {
				tide += n
			}
			for _, x := range h.entries {
				if x >= v.From && (at == 0 || x <= v.Until) {
					entries++
				}
			}
			if at == 0 {
				assert.Equal(t, entries, tide, "every entry stands in the tide")
			}
			found := rows(v, "pump-low")
			for pump, hits := range h.low {
				shown, came := 0, 0
				for _, n := range found[pump].Life.Hits {
					shown += n
				}
				for _, x := range hits {
					if x >= v.From && x <= now {
						came++
					}
				}
				if _, is := found[pump]; !is { // nothing of it is open, near or over then
					continue
				}
				assert.InDelta(t, came, shown, 1, "seed %d, pump %s: hits, but for those of the lamp's own bucket",
					seed, pump)
				var open, over int
				for _, s := range h.spans[pump] {
					switch {
					case s.from > now:
					case s.to == entry.None || s.to > now:
						open++
					default:
						over++
					}
				}
				switch r := found[pump]; {
				case open > 0:
					assert.Equal(t, "open", r.Words, "seed %d, pump %s at %s", seed, pump, now)
					assert.Equal(t, entry.None, r.Cleared)
					assert.Equal(t, open+over, len(r.Life.Alerts))
				case over > 0:
					assert.NotEqual(t, "open", r.Words, "seed %d, pump %s at %s", seed, pump, now)
					assert.Len(t, r.Life.Alerts, over)
				}
			}
			for _, r := range rows(v, "pump-odd") {
				assert.Equal(t, "stirring", r.Words, "a threshold that is not met raises nothing")
				assert.Equal(t, 50, r.Need)
			}
		}
	}
}

// What is known of an alert is its story, the lines around its hits, and what to do.
func TestDetailShowsTheEvidence(t *testing.T) {
	h := newHouse(t, 3)
	v := ask(h, api.AskView, api.ViewQuery{Column: 2 * time.Minute, Columns: 45})
	seen := 0
	for pump, r := range rows(v, "pump-low") {
		if r.Alert == "" {
			continue
		}
		seen++
		d := ask(h, api.AskDetail, api.DetailQuery{Rule: r.Rule, Key: r.Key, Alert: r.Alert, Lines: 300})
		assert.Equal(t, "Look at the strainer.", d.Advise)
		assert.Equal(t, "pump "+pump+" is low", d.Say)
		assert.Equal(t, []string{"host", "pump"}, d.Fields)
		assert.Contains(t, d.RuleAt, "pumps.lantern:12")
		for i := 1; i < len(d.Story); i++ {
			assert.GreaterOrEqual(t, d.Story[i-1].At, d.Story[i].At, "newest first")
		}
		hits := 0
		for i, l := range d.Lines {
			if i > 0 {
				assert.GreaterOrEqual(t, d.Lines[i-1].At, l.At, "newest first")
			}
			if !l.Hit {
				continue
			}
			hits++
			require.NotEmpty(t, l.Lit)
			assert.Equal(t, "low", l.Text[l.Lit[0][0]:l.Lit[0][1]])
			assert.Contains(t, h.lines[index(h, l.At)], "pump "+pump+" low")
		}
		assert.Positive(t, hits)
		why := ask(h, api.AskWhy, api.WhyQuery{Rule: r.Rule, Key: r.Key, Alert: r.Alert})
		assert.Contains(t, why.Title, "pump-low")
		assert.NotEmpty(t, why.Lines)
	}
	require.Positive(t, seen)
}

// index is which line has a time.
func index(h *house, at entry.Instant) int {
	for i, x := range h.entries {
		if x == at {
			return i
		}
	}
	h.t.Fatalf("no entry has the time %s", at)
	return 0
}

// Rules, entries and shifts are what the log says as well, and what is not there is a problem
// in words.
func TestOtherAnswers(t *testing.T) {
	h := newHouse(t, 4)
	low := int64(0)
	for _, hits := range h.low {
		low += int64(len(hits))
	}
	var found *api.RuleCost
	v := ask(h, api.AskRules, api.None{})
	for i := range v.Rules {
		if v.Rules[i].Rule == "pump-low" {
			found = &v.Rules[i]
		}
	}
	require.NotNil(t, found)
	assert.Equal(t, low, found.Hits)
	assert.Equal(t, []string{"pumps"}, found.Sources)
	src := ask(h, api.AskSources, api.ViewQuery{Column: time.Minute, Columns: 10})
	origin := src.Sources[0].Origins[0].Name
	e := ask(h, api.AskEntries, api.EntriesQuery{Origin: origin, Lines: 20})
	for i, l := range e.Lines {
		assert.Equal(t, h.lines[len(h.lines)-1-i], l.Raw, "newest first")
		assert.True(t, l.Fits)
	}
	e = ask(h, api.AskEntries, api.EntriesQuery{Origin: origin, Lines: 300, Filter: "FINE"})
	for _, l := range e.Lines {
		assert.Contains(t, l.Raw, "fine")
	}
	alerts := 0
	for _, s := range h.spans {
		alerts += len(s)
	}
	shift := ask(h, api.AskShift, api.ShiftQuery{From: h.begin})
	assert.Len(t, shift.Alerts, alerts)
	_, err := api.AskEntries.Call(context.Background(), h.desk, api.EntriesQuery{Origin: "nobody"})
	assert.ErrorContains(t, err, "nobody")
}
