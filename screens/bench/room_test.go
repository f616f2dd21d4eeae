package bench

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"testing"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/room"
	"dimlantern/screens/room/roomtest"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const ruleText1 = "rule pump-low {\n  on      harbour\n  problem \"low\"\n  raise   warning at 3 in 5m\n  clear   " +
	"after 1h quiet\n}\n"

// hand is the room with a service that has one rule, three kinds of entries and two keys.
type hand struct {
	goes   []string
	rolled []api.RollQuery
	*roomtest.Hand
	r *Room

	tried  []api.BenchQuery
	marked []api.MarkQuery
	puts   []api.PutQuery
	wrote  []api.BenchSave
	whys   []api.WhyQuery
	view   func(q api.BenchQuery) *api.BenchView
	fail   error // of what is written
	drafts []api.Draft
	byHand bool
	theirs string // what somebody else wrote before the text
}

func tried(q api.BenchQuery) *api.BenchView {
	v := &api.BenchView{Rule: "pump-low", Words: []string{"A hit is an entry of harbour."}, Sample: "harbour, the " +
		"last 1h",
		Tried: &api.BenchTried{Hits: 4242, Raised: 7, Told: 9, Ends: map[string]int{"quiet": 5, "recovery": 1}},
		Kinds: []api.BenchKind{
			{ID: "1", Source: "harbour", Text: "pump <number> is low", Count: 40, Is: "problem", Newest: 3,
				Example: "pump 7 is low", Lit: [][2]int{{10, 13}}},
			{ID: "2", Source: "harbour", Text: "pump <number> is fine", Count: 30, Newest: 9,
				Example: "pump 7 is fine"},
			{ID: "3", Source: "harbour", Text: "gate held", Count: 1, Newest: 1, Example: "gate held"}},
		Rows: []api.Row{{Rule: "pump-low", Key: []string{"pump-7"}, Have: 2, Count: 12, Cleared: entry.None,
			Life: api.Life{Hits: make([]int, 20)}}, {Rule: "pump-low", Key: []string{"pump-8"}, Count: 1}},
		Ends: entry.None, Endless: true, Problem: "low"}
	for i := range q.Fed {
		v.Fed = append(v.Fed, []string{"a warning " + string(rune('0'+i))})
	}
	return v
}

func sits(t require.TestingT) *hand {
	h := &hand{view: tried}
	desk := api.NewDesk()
	api.AskRules.Answer(desk, func(context.Context, api.None) (*api.RulesView, error) {
		return &api.RulesView{Rules: []api.RuleCost{
			{Rule: "gate-held", File: "/s/gates.lantern", Line: 4, Last: entry.None, Off: true},
			{Rule: "pump-low", File: "/s/app.lantern", Line: 1, Last: entry.None, Open: 2, Keys: 3, Findings: 1},
			{Rule: "itself", File: "built in", Last: entry.None}}}, nil
	})
	api.OpenText.Answer(desk, func(_ context.Context, q api.BenchFile) (*api.BenchFile, error) {
		return &api.BenchFile{File: q.File, Body: h.theirs + ruleText1}, nil
	})
	api.KeepDrafts.Answer(desk, func(_ context.Context, q api.DraftsQuery) (*api.Drafts, error) {
		h.drafts = append(h.drafts, q.Keep...)
		return &api.Drafts{}, nil
	})
	api.NewText.Answer(desk, func(_ context.Context, q api.BenchBegin) (*api.BenchFile, error) {
		return &api.BenchFile{File: "/s/new.lantern", Body: "\nrule new {\n  on " + q.Source + "\n}\n"}, nil
	})
	api.TryText.Answer(desk, func(_ context.Context, q api.BenchQuery) (*api.BenchView, error) {
		h.tried = append(h.tried, q)
		return h.view(q), nil
	})
	api.TryOthers.Answer(desk, func(context.Context, api.BenchQuery) (*api.BenchOthers, error) {
		return &api.BenchOthers{Words: "at 2: 11 alerts"}, nil
	})
	api.Propose.Answer(desk, func(context.Context, api.BenchQuery) (*api.Proposals, error) {
		return &api.Proposals{Rule: "pump-low", List: []api.Proposal{{Source: "harbour", Shape: "2",
			Words: "came after 9 of 9 cases"}}}, nil
	})
	api.MarkEntries.Answer(desk, func(_ context.Context, q api.MarkQuery) (*api.Marked, error) {
		h.marked = append(h.marked, q)
		return &api.Marked{Body: q.Body + "# " + q.Is + "\n", Line: 3, Clause: q.Is + " \"it\"",
			Costs: "it takes 3 more"}, nil
	})
	api.DoPut.Answer(desk, func(_ context.Context, q api.PutQuery) (*api.Put, error) {
		h.puts = append(h.puts, q)
		if h.fail != nil {
			return nil, h.fail
		}
		return &api.Put{Title: "this is put to work", Files: q.Files, Done: "it is at work", Goes: h.goes,
			Lines: []api.PutLine{{Word: "alert", Text: "pump-low pump-7 ends", Bad: true}}}, nil
	})
	api.DoRoll.Answer(desk, func(_ context.Context, q api.RollQuery) (*api.RollDone, error) {
		h.rolled = append(h.rolled, q)
		return &api.RollDone{Number: 42, Hosts: []string{"pump-01", "pump-02"}}, nil
	})
	api.TryTests.Answer(desk, func(context.Context, api.BenchQuery) (*api.Put, error) {
		return &api.Put{Title: "3 tests pass", Tests: true}, nil
	})
	api.WriteText.Answer(desk, func(_ context.Context, q api.WriteQuery) (*api.Written, error) {
		h.wrote = append(h.wrote, q.BenchSave)
		return &api.Written{ByHand: h.byHand, Said: []string{"new settings: 1 rule changed"}}, h.fail
	})
	api.AskPast.Answer(desk, func(context.Context, api.PastQuery) (*api.PastPuts, error) {
		return &api.PastPuts{List: []api.PastPut{{By: "tolan", File: "/s/app.lantern", Did: "1 rule changed",
			Was: strings.Replace(ruleText1, "at 3", "at 9", 1), Now: ruleText1},
			{By: "mira", File: "/s/app.lantern", Did: "written", Now: ruleText1}}}, nil
	})
	api.AskWhy.Answer(desk, func(_ context.Context, q api.WhyQuery) (*api.Why, error) {
		h.whys = append(h.whys, q)
		return &api.Why{Title: "why it is so"}, nil
	})
	h.Hand = roomtest.New(desk)
	h.r = New(h.Stage)
	h.r.pause = 0
	h.Room = h.r
	now := entry.Of(time.Date(2026, 11, 24, 6, 0, 0, 0, time.UTC))
	h.Stage.View = &api.View{Now: now, At: now, From: now.Add(-time.Hour), Column: time.Minute, First: entry.None,
		Tide: make([]int64, 88)}
	h.Do(h.r.Update(room.Fresh{}))
	return h
}

// opened is a hand with the rule open, and the keys in its text.
func opened(t require.TestingT) *hand {
	h := sits(t)
	h.Press("down", "down", "enter")
	return h
}

// The rules are chosen, found and opened, and what is built in is none of them.
func TestRulesAreListed(t *testing.T) {
	h := sits(t)
	s := h.Text()
	assert.Contains(t, s, "2 rules")
	assert.Contains(t, s, "app:1")
	assert.NotContains(t, s, "built in")
	h.Do(h.r.Find("GATE"))
	assert.Equal(t, "gate-held", h.r.rule().Rule)
	assert.NotContains(t, h.Text(), "pump-low")
	h.Do(h.r.Find(""))
	h.Press("down", "enter")
	s = h.Text()
	for _, want := range []string{"pump-low", "app.lantern, as it is in the file", "A hit is an entry of harbour.",
		"raised 7 alerts", "told 9 times", "had 4,242 hits", "1 by recovery, 5 by quiet", "pump ‹number› is low",
		"ends it? came after 9 of 9 cases", "pump-7", "2 alerts", "12 hits", "at 2: 11 alerts"} {
		assert.Contains(t, s, want)
	}
	h.Do(h.r.Update(room.OpenRule{Rule: "itself"}))
	assert.Contains(t, h.Stage.Note, "built in: it stands in no file")
}

// What is typed is tried, as it is; a number is stepped, and all of it can be undone.
func TestTypingIsTried(t *testing.T) {
	h := opened(t)
	h.Press("down", "down", "down", "end", "x")
	assert.Contains(t, h.tried[len(h.tried)-1].Body, "in 5mx")
	assert.Contains(t, h.Text(), "changed, not saved")
	h.Press("backspace", "alt+up")
	assert.Contains(t, h.tried[len(h.tried)-1].Body, "in 10m")
	h.Press("ctrl+z", "ctrl+z", "ctrl+z")
	assert.Equal(t, ruleText1, h.r.text.Body())
	h.Press("ctrl+r")
	assert.NotEqual(t, ruleText1, h.r.text.Body())
	h.Do(h.r.Update(tea.PasteMsg{Content: "# a\n# b"}))
	assert.Contains(t, h.tried[len(h.tried)-1].Body, "# a\n# b")
	h.Press("ctrl+f")
	h.Answers("problem")
	assert.Equal(t, 3, h.r.text.Line())
	h.Press("ctrl+f")
	h.Answers("nowhere")
	assert.Equal(t, "nothing says nowhere", h.Stage.Note)
}

// With an error in the text the last one that had none stays, dim, with what is wrong; words
// are proposed while one is typed.
func TestErrorsAndWords(t *testing.T) {
	h := opened(t)
	h.view = func(q api.BenchQuery) *api.BenchView {
		return &api.BenchView{Findings: []api.BenchFinding{{Line: q.Line, Col: 1, Error: true,
			What: "prob is no clause",
			Mend: "problem is"}}, Complete: []string{"problem"}, Typed: 4}
	}
	h.Press("end", "enter", "p", "r", "o", "b")
	s := h.Text()
	assert.Contains(t, s, "prob is no clause; problem is")
	assert.Contains(t, s, "the text has errors; this is of the last one that had none")
	assert.Contains(t, s, "4,242 hits")
	assert.Contains(t, s, "tab takes the first")
	h.Press("tab")
	assert.Contains(t, h.r.text.Body(), "  problem\n")
}

// Kinds of entries are marked, several at once, and what that wrote can be taken back.
func TestMarking(t *testing.T) {
	h := opened(t)
	h.Press("esc", "p")
	require.Len(t, h.marked, 1)
	assert.Equal(t, api.MarkQuery{File: "/s/app.lantern", Body: ruleText1, Line: 1, Is: "problem", Source: "harbour",
		Texts: []string{"pump 7 is low"}, Kinds: []string{"1"}}, h.marked[0])
	assert.Equal(t, "written: problem \"it\"; it takes 3 more; u takes it back", h.Stage.Note)
	h.Press("u")
	assert.Equal(t, ruleText1, h.r.text.Body())
	h.Press("space", "space", "o")
	assert.Equal(t, []string{"1", "2"}, h.marked[1].Kinds)
	h.Press("x")
	assert.Equal(t, "ignore", h.marked[2].Is)
	h.Press("up", "up", "up", "n")
	assert.Equal(t, "name for 7", h.Stage.Typed.Label)
	h.Answers("unit")
	assert.Equal(t, "unit", h.marked[3].Name)
	assert.Equal(t, [2]int{5, 6}, [2]int{h.marked[3].From, h.marked[3].To})
	h.Press("f", "f", "f", "f", "f")
	assert.Contains(t, h.Text(), "newest")
	assert.Equal(t, "2", h.r.shownKinds()[0].ID, "by when they came last")
	h.Press("f", "/")
	h.Answers("low")
	assert.Equal(t, "low", h.tried[len(h.tried)-1].Filter)
}

// A rule is fed lines, which are kept as a test of it.
func TestFeeding(t *testing.T) {
	h := opened(t)
	h.Press("esc", "a", "i")
	h.Answers("+5m pump 7 is low")
	assert.Equal(t, []string{"pump 7 is low", "+5m pump 7 is low"}, h.tried[len(h.tried)-1].Fed)
	assert.Contains(t, h.Text(), "brings a warning 1")
	h.Press("i")
	h.Answers("  ")
	assert.Len(t, h.r.fed, 2, "a line without anything is none")
	h.Press("k")
	assert.Equal(t, "expect", h.marked[0].Is)
	assert.Empty(t, h.r.fed)
	h.Press("a", "A")
	assert.Empty(t, h.tried[len(h.tried)-1].Fed)
}

// The sample is what is asked for: of files, from a moment on, and at the lamp.
func TestSample(t *testing.T) {
	h := opened(t)
	h.Press("esc", "s")
	assert.Contains(t, h.Stage.Note, "hold the lamp with ←")
	h.Do(h.Stage.Hold(-10))
	h.Press("s")
	h.Do(h.Stage.Hold(4))
	h.Stage.View.At = h.Stage.Held
	h.Do(h.r.try())
	q := h.tried[len(h.tried)-1]
	assert.Equal(t, 4*h.Stage.Column(), q.Span)
	assert.Equal(t, h.Stage.Held, q.At)
	h.Press("s", "F")
	ends := h.Stage.View.Now.Add(-time.Hour)
	h.view = func(q api.BenchQuery) *api.BenchView { v := tried(q); v.Ends = ends; return v }
	h.Answers("a.log /v/b.log")
	dir, err := os.Getwd()
	require.NoError(t, err)
	assert.Equal(t, []string{dir + "/a.log", "/v/b.log"}, h.tried[len(h.tried)-1].Files)
	assert.Equal(t, ends, h.Stage.Held, "the axis goes to where they are")
	h.Press("F")
	h.Answers("")
	assert.Empty(t, h.tried[len(h.tried)-1].Files)
	assert.Zero(t, h.Stage.Held)
}

// Why is asked about a kind and about a key, of the rule as it is typed.
func TestWhyOfWhatIsTyped(t *testing.T) {
	h := opened(t)
	h.Press("esc", "y")
	assert.Contains(t, h.Text(), "why it is so")
	assert.Equal(t, "pump 7 is low", h.whys[0].Text)
	assert.Equal(t, ruleText1, h.whys[0].Typed.Body)
	h.Press("esc", "tab", "down", "y")
	assert.Equal(t, []string{"pump-8"}, h.whys[1].Key)
}

// A text is written, shown before it is put to work, and not written over what others wrote.
func TestSavingAndPutting(t *testing.T) {
	h := opened(t)
	h.Press("ctrl+s")
	assert.Equal(t, "app.lantern has this text already", h.Stage.Note)
	h.Press("#", "ctrl+s")
	require.Len(t, h.wrote, 1)
	assert.Equal(t, ruleText1, h.wrote[0].Was)
	assert.Equal(t, "app.lantern is written and at work: 1 rule changed", h.Stage.Note)
	assert.False(t, h.r.text.Changed())

	h.Press("#", "ctrl+p")
	assert.Contains(t, h.Text(), "nothing is changed yet")
	assert.Contains(t, h.Text(), "pump-low pump-7 ends")
	assert.False(t, h.puts[0].Do)
	h.Press("enter")
	require.Len(t, h.puts, 2)
	assert.True(t, h.puts[1].Do)
	assert.Equal(t, "mira", h.puts[1].By)
	assert.Empty(t, h.Stage.Pages)
	assert.Equal(t, "it is at work", h.Stage.Note)

	// At a centre what is for hosts is rolled out after that, if it is wanted.
	h.goes = []string{"pumps"}
	h.Press("#", "ctrl+p", "enter", "enter")
	require.Equal(t, []string{"group pumps"}, h.rolled[0].To)
	assert.Contains(t, h.Text(), "would go to 2 hosts")
	h.Press("enter")
	require.Len(t, h.rolled, 2)
	assert.True(t, h.rolled[1].Do)
	assert.Equal(t, "revision 42 is on its way to 2 hosts", h.Stage.Note)
	h.goes = []string{"locks", "pumps"}
	h.Press("#", "ctrl+p", "enter", "esc")
	require.Len(t, h.rolled, 2, "it was left")
	h.goes = nil

	h.fail = &api.Problem{Code: api.Changed, What: "app.lantern was changed by somebody else"}
	h.Press("#", "ctrl+s")
	assert.Contains(t, h.Text(), "what you typed is still here")
	assert.Contains(t, h.r.text.Body(), "#")
	h.Press("esc", "ctrl+t")
	assert.Contains(t, h.Text(), "3 tests pass")
	h.Press("esc", "esc", "esc")
	assert.Contains(t, h.Stage.Note, "is changed and not saved")
	assert.Equal(t, entryKinds, h.r.pane)
	h.Press("esc")
	assert.Equal(t, ruleList, h.r.pane)
}

// Rules are copied, renamed, switched and deleted only once it was seen what that does; and
// what was before comes back.
func TestRulesAreChanged(t *testing.T) {
	h := sits(t)
	h.Press("r")
	h.Answers("gate-stuck")
	assert.Equal(t, &api.BlockChange{Kind: "rule", What: "rename", Of: "gate-held", Name: "gate-stuck"},
		h.puts[0].Block)
	h.Press("esc", "o")
	assert.Equal(t, "on", h.puts[1].Block.What, "it is off")
	h.Press("esc", "down", "D")
	assert.Equal(t, &api.BlockChange{Kind: "rule", What: "delete", Of: "pump-low"}, h.puts[2].Block)
	h.Press("esc", "b", "down", "enter")
	assert.Contains(t, h.Stage.Note, "there is no text from before")
	h.Press("b")
	assert.Contains(t, h.Text(), "tolan")
	h.Press("enter")
	assert.Contains(t, h.r.text.Body(), "at 9")
	assert.True(t, h.r.text.Changed())
	h.Press("esc", "u")
	assert.Equal(t, ruleText1, h.r.text.Body())
}

// A rule begins with an entry, in a file that is called as it is.
func TestBeginning(t *testing.T) {
	h := sits(t)
	h.Do(h.r.Update(room.BeginRule{Source: "harbour", Mark: &api.MarkQuery{Is: "problem", Source: "harbour",
		Texts: []string{"pump 7 is low"}}}))
	require.Len(t, h.marked, 1)
	assert.Equal(t, "/s/new.lantern", h.marked[0].File)
	assert.Contains(t, h.Text(), "new, not saved")
	h.Press("esc", "ctrl+s")
	assert.Equal(t, "/s/new.lantern", h.wrote[0].File)
	assert.True(t, h.wrote[0].New)
}

// The editor is the user's own, and what it wrote comes back.
func TestOwnEditor(t *testing.T) {
	h := opened(t)
	t.Setenv("VISUAL", "")
	t.Setenv("EDITOR", "")
	h.Press("esc", "E")
	assert.Contains(t, h.Stage.Note, "no editor is named")
	script := filepath.Join(t.TempDir(), "editor")
	require.NoError(t, os.WriteFile(script, []byte("#!/bin/sh\necho '# by hand' >>\"$1\"\n"), 0o755))
	t.Setenv("EDITOR", script)
	h.Press("E")
	assert.Equal(t, ruleText1+"# by hand\n", h.tried[len(h.tried)-1].Body)
	assert.True(t, h.r.text.Changed())
	t.Setenv("EDITOR", "/nowhere/editor")
	h.Press("E")
	assert.Contains(t, h.Stage.Note, "/nowhere/editor could not be run")
}

// What was typed and not saved is there again when its file is opened once more; where somebody else
// has changed the file meanwhile, it waits behind ^r, and what is saved is let go of.
func TestDraftsComeBack(t *testing.T) {
	h := opened(t)
	h.Press("end", "#", "esc", "esc", "esc")
	require.Equal(t, ruleList, h.r.pane)
	h.Do(h.Stage.Settle())
	require.Len(t, h.drafts, 1)
	assert.Equal(t, "the text of app.lantern", h.drafts[0].Name)
	assert.Nil(t, h.Stage.Settle(), "it knows it by now")
	h.Press("enter")
	typed := h.r.text.Body()
	assert.Contains(t, typed, "{#\n")
	h.Press("ctrl+z")
	assert.NotContains(t, h.r.text.Body(), "#")
	h.Press("ctrl+r", "esc", "esc", "esc")
	h.theirs = "# of somebody else\n"
	h.Press("enter")
	assert.Equal(t, h.theirs+ruleText1, h.r.text.Body())
	assert.Contains(t, h.Stage.Note, "^r brings that back")
	h.Press("ctrl+r")
	assert.Equal(t, typed, h.r.text.Body())
	h.Press("ctrl+s")
	h.Do(h.Stage.Settle())
	assert.Empty(t, h.drafts[len(h.drafts)-1].Text)
	_, there := h.Stage.Draft("the text of app.lantern")
	assert.False(t, there)
}

// Whatever keys come in whatever window, what is drawn fits, and nothing breaks.
func TestAnyKeysOnTheBench(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := opened(t)
		h.Stage.W, h.Stage.H = rapid.IntRange(20, 200).Draw(t, "w"), rapid.IntRange(5, 50).Draw(t, "h")
		for range rapid.IntRange(0, 25).Draw(t, "keys") {
			h.Press(rapid.SampledFrom([]string{"enter", "esc", "tab", "up", "down", "left", "right", "p", "o", "x",
				"n", "a",
				"i", "A", "k", "f", "/", "y", "u", "s", "F", "space", "ctrl+p", "ctrl+s", "ctrl+t", "ctrl+f", "b",
				"c", "r", "D",
				"alt+up", "ctrl+z", "pgdown", "end"}).Draw(t, "key"))
			for _, l := range strings.Split(h.Text(), "\n") {
				require.LessOrEqual(t, ansi.StringWidth(l), h.Stage.W)
			}
			h.Do(h.On().Update(tea.MouseClickMsg{X: rapid.IntRange(0, 200).Draw(t, "x"),
				Y: rapid.IntRange(0, 50).Draw(t, "y"), Button: tea.MouseLeft}))
		}
	})
}
