package sources

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/origin"
	"dimlantern/screens/room"
	"dimlantern/screens/room/roomtest"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// hand is the room with a service that notes what it is asked.
type hand struct {
	*roomtest.Hand
	r       *Room
	asked   []api.EntriesQuery
	brought []api.BringQuery
	begun   []api.BeginQuery
	puts    []api.PutQuery
	whys    []api.WhyQuery
	sought  []api.FindQuery
	newer   int // entries that have come since
	fail    error
	out     []api.OutView
}

func sits() *hand {
	h := &hand{}
	desk := api.NewDesk()
	api.AskSources.Answer(desk, func(context.Context, api.ViewQuery) (*api.SourcesView, error) {
		v := view()
		v.Out = h.out
		return v, nil
	})
	api.AskHere.Answer(desk, func(context.Context, api.HereQuery) (*api.Here, error) {
		return &api.Here{Programs: 3, Kits: []api.HereKit{{Name: "pump", Note: "pumps", Why: "pumpd runs",
			Runs: true},
			{Name: "tide", Note: "tides", Why: "tided runs", Runs: true, Words: "may not be read", Mend: "usermod"},
			{Name: "gate", Note: "gates", Why: "gated is installed"}, {Name: "used", Runs: true, Used: true}},
			Logs: []api.HereLog{{Path: "/var/log/quay.log", Size: 1200, Daily: 5000}, {Path: "/var/log/own.log",
				Source: "own"}}}, nil
	})
	api.AskEntries.Answer(desk, func(_ context.Context, q api.EntriesQuery) (*api.Entries, error) {
		h.asked = append(h.asked, q)
		e := &api.Entries{Origin: q.Origin, Layout: "line", Fields: []string{"host"}, Looked: 40}
		texts := []string{"pump 7 is low", "pump 8 is low", "gate held", "?", ""}
		for i := range h.newer {
			texts = append([]string{"newer " + string(rune('a'+i))}, texts...)
		}
		for i, x := range texts {
			e.Lines = append(e.Lines, api.EntryView{At: entry.Instant(1000 - i + h.newer), Raw: x, Text: x,
				Fits:   x != "?",
				Fields: []entry.Field{{Name: "host", Value: "lock-3"}}})
		}
		e.Shown = len(e.Lines)
		return e, nil
	})
	api.AskFind.Answer(desk, func(_ context.Context, q api.FindQuery) (*api.Found, error) {
		h.sought = append(h.sought, q)
		if q.Text == "level ==" {
			return nil, &api.Problem{Code: api.Refused, What: "a value was expected"}
		}
		f := &api.Found{Expr: q.Text != "low", Looked: 20, Lines: []api.FoundEntry{{Source: "harbour",
			Origin: q.Origin,
			EntryView: api.EntryView{At: entry.Instant(900 - len(h.sought)), Raw: "pump 7 is low",
				Text: "pump 7 is low\nand more",
				Fits: true}}}}
		if q.Go == nil {
			f.Go, f.Left, f.Until = &api.FindPlace{Of: 5000}, 3000, 800
		}
		return f, nil
	})
	api.DoBring.Answer(desk, func(_ context.Context, q api.BringQuery) (*api.Brought, error) {
		h.brought = append(h.brought, q)
		if h.fail != nil {
			return nil, h.fail
		}
		b := &api.Brought{Name: "/s/harbour.lantern", Source: "gauges", Done: q.Write}
		switch {
		case q.Path == "channel":
			b.Offers = []api.Offer{{Type: "channel Access", Words: "12 entries", Detail: []string{"a sign-in"}},
				{Type: "channel Valves", Words: "is switched off", Bad: true, Mend: "switch it on"}}
		case q.Path != "":
			b.Text, b.Layout, b.Looked, b.Copies = "source harbour {\n  files \""+q.Path+"\"\n}\n", q.Layout, 50, 2
			if b.Layout == "" {
				b.Layout = "line"
			}
			b.Layouts = []api.LayoutFit{{Name: "line", Fits: 50, Of: 50, Times: "all have a time"}, {Name: "plain",
				Fits: 50, Of: 50}}
			b.Fit = 2
			b.Files = []api.BroughtFile{{Path: q.Path, Size: 3500, Mod: time.Now().Add(-4 * time.Minute)},
				{Path: "/v/secret.log", Words: "its owner is root", Mend: "setfacl"}}
			b.Usual = []api.EntryView{{At: 1000, Text: "pump 7 is fine", Fits: true}}
			b.Odd = []api.EntryView{{At: entry.None, Text: "?"}}
		}
		return b, nil
	})
	api.DoBegin.Answer(desk, func(_ context.Context, q api.BeginQuery) (*api.Begun, error) {
		h.begun = append(h.begun, q)
		if h.fail != nil {
			return nil, h.fail
		}
		long := strings.Repeat("  # what the screen has no room for\n", 60)
		return &api.Begun{Name: "/s/pump.lantern", Text: "rule pump {\n" + long + "}\n", Hits: 1200, Looked: 5000,
			Raised: 1, Done: q.Write}, nil
	})
	api.DoPut.Answer(desk, func(_ context.Context, q api.PutQuery) (*api.Put, error) {
		h.puts = append(h.puts, q)
		if q.Block == nil {
			return &api.Put{Title: "use kits"}, nil
		}
		return &api.Put{Title: q.Block.Title(), Done: "done"}, nil
	})
	api.AskWhy.Answer(desk, func(_ context.Context, q api.WhyQuery) (*api.Why, error) {
		h.whys = append(h.whys, q)
		return &api.Why{Title: "why"}, nil
	})
	h.Hand = roomtest.New(desk)
	h.r = New(h.Stage)
	h.Room = h.r
	h.Stage.View = &api.View{Now: view().At, At: view().At, Column: time.Minute, Tide: make([]int64, 88), Sources: 4,
		First: entry.None, Settings: "/s"}
	h.Do(h.r.Update(room.Fresh{}))
	return h
}

// Entries are looked for until all is looked through: in the origin, in its source, or in all;
// what is found stands newest first, and esc leaves it.
func TestFindingEntries(t *testing.T) {
	h := sits()
	assert.Equal(t, "finding origins", h.r.Scope())
	h.Press("enter")
	h.Do(h.r.Find("low"))
	require.Len(t, h.sought, 2, "the second answer goes on where the first ended")
	assert.Equal(t, []any{api.InOrigin, int64(5000)}, []any{h.sought[1].Where, h.sought[1].Go.Of})
	text := h.Text()
	assert.Contains(t, text, "2 entries with the words low; all 40 entries were looked through")
	assert.Contains(t, text, "pump 7 is low +1 line")
	require.Equal(t, "pump 7 is low", h.r.entry().Raw)
	h.Do(h.r.Widen())
	assert.Equal(t, api.InSource, h.sought[len(h.sought)-1].Where)
	h.Do(h.r.Widen())
	assert.Equal(t, "finding in all entries", h.r.Scope())
	assert.Contains(t, h.Text(), "everything")
	h.Do(h.r.Find("level =="))
	assert.Contains(t, h.Text(), "a value was expected")
	for typed, want := range map[string][]string{"ho": {"host"}, "host ": {"host == ", "host != ", "host >= ",
		"host <= ",
		"host > ", "host < ", "host ~ /", "host !~ /", "host in ("}, "host =": {"host == "},
		"host == ": {`host == "lock-3"`}, `host == "lock-3" a`: {`host == "lock-3" and `}, "not ho": {"not host"},
		"has ho": {"has host"}, "pump": nil, "": nil, "(le": {"(level"}} {
		assert.Equal(t, want, h.r.Offers(typed), typed)
	}
	h.Press("esc")
	assert.Empty(t, h.r.Found())
	assert.Contains(t, h.Text(), "newest first, 5 of the last 40 entries")
	h.Press("esc")
	assert.False(t, h.r.inside)
}

// The chosen origin's entries are shown, alone, in full, or those that do not fit; what is
// chosen among them stays chosen when newer ones come.
func TestEntriesOfAnOrigin(t *testing.T) {
	h := sits()
	require.Contains(t, h.Text(), "its newest entries, by line")
	h.Press("down", "enter")
	assert.Equal(t, "a:/v/pump-2.log", h.asked[len(h.asked)-1].Origin)
	assert.Contains(t, h.Text(), "newest first, 5 of the last 40 entries")
	h.Press("down", "down")
	require.Equal(t, "gate held", h.r.entry().Raw)
	h.newer = 2
	h.Do(h.r.Update(room.Fresh{}))
	assert.Equal(t, "gate held", h.r.entry().Raw)
	h.Press("m")
	assert.True(t, h.asked[len(h.asked)-1].Misfits)
	assert.Contains(t, h.Text(), "do not fit the layout line")
	h.Press("m", "f")
	assert.False(t, h.asked[len(h.asked)-1].Misfits)
	h.Press("f", "enter")
	assert.Contains(t, h.Text(), "what the rules make of it")
	h.Press("esc", "esc")
	assert.False(t, h.r.inside)
	h.Press("end")
	assert.Equal(t, "lock-1:Access", h.r.chosen)
	h.Do(h.r.Update(tea.MouseClickMsg{Y: 3}))
	assert.Equal(t, "a:/v/pump-1.log", h.r.chosen)
}

// An entry is asked about once one is chosen, and rules begin with it.
func TestFromAnEntry(t *testing.T) {
	h := sits()
	h.Press("y")
	assert.Contains(t, h.Stage.Note, "choose an entry with ↑↓")
	h.Press("down", "y")
	assert.Equal(t, "pump 8 is low", h.whys[0].Text)
	h.Press("esc", "n")
	assert.Equal(t, []string{"pump 8 is low"}, h.Sent[0].(room.BeginRule).Mark.Texts)

	h.Press("r")
	assert.Equal(t, api.BeginQuery{Origin: "a:/v/pump-1.log", Raw: "pump 7 is low", Severity: entry.Warning},
		h.begun[0])
	s := h.Text()
	for _, want := range []string{"begin a rule", "‹warning›", "rule pump {",
		"It would hit 1,200 of the newest 5,000",
		"raise 1 alert."} {
		assert.Contains(t, s, want)
	}
	assert.NotContains(t, s, "pump 8", "it is of the same kind")
	h.Press("down", "right", "right", "right", "left")
	assert.Equal(t, entry.Error, h.begun[len(h.begun)-1].Severity)
	assert.Equal(t, "gate held", h.begun[len(h.begun)-1].Raw)
	h.fail = &api.Problem{What: "the folder is read-only"}
	h.Press("enter")
	assert.Contains(t, h.Text(), "the folder is read-only")
	h.fail = nil
	h.Press("enter")
	assert.True(t, h.begun[len(h.begun)-1].Write)
	assert.Empty(t, h.Stage.Pages)
	assert.Contains(t, h.Stage.Note, "is written, and taken up")
}

// A log is brought in: its path goes on as far as the files agree, and nothing is written
// until it is said.
func TestBringing(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"pump-1.log", "pump-2.log"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "weather"), 0o700))
	h := sits()
	h.Press("+")
	assert.Contains(t, h.Text(), "a path that begins with /")
	h.Types(dir + "/p")
	h.Press("tab")
	assert.Equal(t, dir+"/pump-", h.brought[len(h.brought)-1].Path)
	h.Press("tab")
	assert.Contains(t, h.Text(), "pump-1.log  pump-2.log", "these it can go on with")
	h.Types("1.log")
	s := h.Text()
	for _, want := range []string{"2 files fit, 2 rotated copies of them", "3.5 kB, written 4m", "its owner is root",
		"to mend it:  setfacl", "‹now›", "‹line›", "fits 50 of 50 entries, all have a time", "usual", "odd",
		"this will be written"} {
		assert.Contains(t, s, want)
	}
	h.Press("down")
	h.Types("harbour")
	assert.Equal(t, "harbour", h.brought[len(h.brought)-1].Name)
	h.Press("tab", "right", "tab", "left")
	last := h.brought[len(h.brought)-1]
	assert.Equal(t, "oldest", last.Begin)
	assert.Equal(t, "plain", last.Layout)
	h.Press("shift+tab", "left", "enter")
	last = h.brought[len(h.brought)-1]
	assert.True(t, last.Write)
	assert.Equal(t, "now", last.Begin)
	assert.Equal(t, []room.At{room.Sources}, h.Went)
	assert.Contains(t, h.Stage.Note, "the source gauges was added")
	h.Do(h.r.Update(room.Fresh{}))
	assert.Equal(t, "a:/v/north/level.log", h.r.chosen, "the cursor stands on it as soon as it is there")
}

// A source is renamed, switched off and on, and deleted only once it was seen what that does;
// its text opens on the bench.
func TestSourcesAreChanged(t *testing.T) {
	h := sits()
	h.Press("R")
	h.Answers("stations")
	assert.Equal(t, &api.BlockChange{Kind: "source", What: "rename", Of: "pumps", Name: "stations"}, h.puts[0].Block)
	assert.Contains(t, h.Text(), "nothing is changed yet")
	h.Press("esc", "o")
	h.Press("enter")
	assert.Equal(t, []any{"off", false, true}, []any{h.puts[1].Block.What, h.puts[1].Do, h.puts[2].Do})
	h.Press("D", "esc", "end", "up")
	assert.Equal(t, "delete", h.puts[3].Block.What)
	h.Press("home", "e")
	assert.Equal(t, room.OpenText{File: "/s/harbour.lantern", Line: 3}, h.Sent[len(h.Sent)-1])
}

// What is no file is offered, and what is the matter is said.
func TestBringingWhatIsNoFile(t *testing.T) {
	h := sits()
	h.Press("+")
	h.Types("channel")
	s := h.Text()
	for _, want := range []string{"channel Access", "a sign-in", "is switched off", "to mend it:  switch it on"} {
		assert.Contains(t, s, want)
	}
	h.Press("right")
	assert.Equal(t, "channel Access", h.brought[len(h.brought)-1].Path)
	n := len(h.brought)
	h.Do(h.On().Update(room.Tick{}))
	assert.Len(t, h.brought, n, "only of syslog it changes who sends")
	h.Press("ctrl+u")
	h.Types("syslog udp 514")
	h.Do(h.On().Update(room.Tick{}))
	assert.Greater(t, len(h.brought), n+1)
	h.fail = &api.Problem{What: "514 is taken"}
	h.Types("0")
	assert.Contains(t, h.Text(), "514 is taken")
	h.Press("esc")
	assert.Empty(t, h.Stage.Pages)
}

func TestComplete(t *testing.T) {
	dir := t.TempDir() + "/"
	require.NoError(t, os.Mkdir(dir+"logs", 0o700))
	require.NoError(t, os.WriteFile(dir+"logs/b.log", nil, 0o600))
	for typed, want := range map[string]string{dir + "l": dir + "logs/", dir + "logs/": dir + "logs/b.log",
		dir + "x": dir + "x", "relative": "relative", dir + "*/b": dir + "*/b", "/nowhere/x": "/nowhere/x"} {
		assert.Equal(t, want, complete(typed), typed)
	}
}

// Where nothing is watched yet, the ways to begin are shown.
func TestStart(t *testing.T) {
	h := sits()
	h.Stage.View.Sources = 0
	h.Room = NewStart(h.Stage, "harbour")
	assert.Contains(t, h.Text(), "Nothing is watched yet")
	assert.Contains(t, h.Text(), "in /s: whatever ends in .lantern")
	h.Press("+")
	assert.Contains(t, h.Text(), "Nothing is watched yet")
	h.Press("esc")
	assert.NotContains(t, h.Text(), "where")
}

// What is found here stands under +: the kits that are at work are taken with one key, each can be left; a log that
// nothing reads is brought in by itself. What happens is shown before it does.
func TestFoundHere(t *testing.T) {
	h := sits()
	h.Stage.W, h.Stage.H = 120, 40
	h.Press("+")
	text := h.Text()
	for _, want := range []string{"found here", "3 programs run", "+ pump", "· gate", "in use: used", "usermod",
		"/var/log/quay.log",
		"5.0 kB a day"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "/var/log/own.log")
	h.Press("down", "space", "down", "down", "space")
	h.Press("enter")
	require.Len(t, h.puts, 1)
	require.Equal(t, []string{"tide", "gate"}, h.puts[0].Kits)
	require.False(t, h.puts[0].Do, "it is shown first")
	h.Press("esc", "down", "down")
	h.Press("enter")
	require.Equal(t, "/var/log/quay.log", h.brought[len(h.brought)-1].Path)
	require.False(t, h.brought[len(h.brought)-1].Write)
}

// Whatever keys come, what is drawn fits into its window.
func TestAnyKeysInSources(t *testing.T) {
	assert.False(t, origin.Seen.Blind())
	rapid.Check(t, func(t *rapid.T) {
		h := sits()
		h.Stage.W, h.Stage.H = rapid.IntRange(30, 200).Draw(t, "w"), rapid.IntRange(6, 50).Draw(t, "h")
		for range rapid.IntRange(0, 25).Draw(t, "keys") {
			h.Press(rapid.SampledFrom([]string{"enter", "esc", "tab", "up", "down", "left", "right", "f", "m", "+",
				"r", "n",
				"y", "pgup", "pgdown", "home", "end", "/", "a", "shift+tab", "space"}).Draw(t, "key"))
			for _, l := range strings.Split(h.Text(), "\n") {
				require.LessOrEqual(t, ansi.StringWidth(l), h.Stage.W)
			}
		}
	})
}
