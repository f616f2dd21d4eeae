package watch

import (
	"context"
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

// hand is the room with a service that notes what is done.
type hand struct {
	*roomtest.Hand
	r       *Room
	acts    []api.ActQuery
	clears  []api.ClearQuery
	whys    []api.WhyQuery
	curves  []api.CurveQuery
	details int
	fail    error
	hushes  []api.HushView
}

func sits() *hand {
	h := &hand{hushes: []api.HushView{
		{ID: "h1", What: "rule pump-low", By: "mira", Why: "the strainer", When: "until 06:00", Hand: true, Holds: true,
			Keeps: []string{"a", "b", "c", "d", "e", "f", "g", "h"}},
		{ID: "h2", What: "crane-greasing", By: "house.lantern:25", When: "Sunday 02:00 to 04:00"}}}
	desk := api.NewDesk()
	api.AskDetail.Answer(desk, func(context.Context, api.DetailQuery) (*api.Detail, error) {
		h.details++
		return &api.Detail{Advise: "Look at the strainer.", Clears: []string{"after 1h quiet", "by hand"},
			Host:   "host-a",
			Fields: []string{"host"}, About: []string{"ferries"}, Newest: "pump 7 is low", Source: "harbour"}, h.fail
	})
	api.AskCurves.Answer(desk, func(_ context.Context, q api.CurveQuery) (*api.Curves, error) {
		h.curves = append(h.curves, q)
		return &api.Curves{Rule: q.Rule, Key: q.Key}, nil
	})
	api.DoAct.Answer(desk, func(_ context.Context, q api.ActQuery) (*api.ActDone, error) {
		h.acts = append(h.acts, q)
		if h.fail != nil {
			return nil, h.fail
		}
		return &api.ActDone{Words: "it is done", Hush: "h9"}, nil
	})
	api.DoClear.Answer(desk, func(_ context.Context, q api.ClearQuery) (*api.None, error) {
		h.clears = append(h.clears, q)
		return &api.None{}, h.fail
	})
	api.AskTurn.Answer(desk, func(_ context.Context, q api.TurnQuery) (*api.Turn, error) { // one before all shown
		if old := entry.Instant(4 * time.Minute); !q.After && q.At > old {
			return &api.Turn{At: old}, nil
		}
		return &api.Turn{At: entry.None}, nil
	})
	api.AskHushes.Answer(desk, func(context.Context, api.None) (*api.HushList, error) {
		return &api.HushList{List: h.hushes}, nil
	})
	api.AskWhy.Answer(desk, func(_ context.Context, q api.WhyQuery) (*api.Why, error) {
		h.whys = append(h.whys, q)
		return &api.Why{Title: "why it is open", Lines: []api.WhyLine{{Kind: api.WhyHead, Text: "warning"},
			{Kind: api.WhyYes, Word: "raise", Text: strings.Repeat("3 of 3 hits ", 30)}, {Kind: api.WhyNo,
				Text: "clear"},
			{Kind: api.WhyHit, Word: "05:00:00", Text: "pump 7 is low", Lit: [][2]int{{10, 13}}},
			{Kind: api.WhyOver, Text: "fine"}, {Kind: api.WhyText, Text: "as it is", Lit: [][2]int{{0, 2}}}, {
				Text: "more"}}}, nil
	})
	h.Hand = roomtest.New(desk)
	h.r = New(h.Stage)
	h.Room = h.r
	v := view()
	v.Now, v.First = v.At, entry.None
	v.Over[0].Cleared = entry.Instant(time.Minute)
	v.Open[6].Numbers = true
	v.Open[6].Life.Alerts = []api.Span{{From: entry.Instant(10 * time.Minute), To: entry.Instant(30 * time.Minute),
		Steps: []api.Step{{At: entry.Instant(20 * time.Minute), Severity: entry.Error}}}}
	h.Stage.View = v
	h.Do(h.r.Update(room.Fresh{}))
	h.Press("down") // the one that stands for one key: gate-refused gate-a1
	return h
}

// What is done to an alert is done in the name of who sits there, with the words that were
// typed, and can be taken back.
func TestActions(t *testing.T) {
	h := sits()
	require.Equal(t, "gate-a1", h.r.Chosen().Key[0])
	id := h.r.Chosen().Alert
	h.Press("u")
	assert.Equal(t, "nothing of yours can be taken back", h.Stage.Note)
	h.Press("t")
	h.Answers("on it")
	person := api.Person{By: "mira"}
	assert.Equal(t, api.ActQuery{Person: person, What: "take", Alert: id, Words: "on it"}, h.acts[0])
	assert.Equal(t, "it is done; u takes it back", h.Stage.Note)
	h.Press("u")
	assert.Equal(t, api.ActQuery{Person: person, What: "let go", Alert: id}, h.acts[1])
	h.Press("T")
	h.Answers("tolan the gate sticks")
	assert.Equal(t, api.ActQuery{Person: person, What: "hand over", Alert: id, To: "tolan", Words: "the gate sticks"},
		h.acts[2])
	h.Press("m")
	h.Answers("greased")
	assert.Equal(t, api.ActQuery{Person: person, What: "note", Alert: id, Words: "greased"}, h.acts[3])
	h.Press("c")
	h.Answers("it moves again")
	assert.Equal(t, api.ClearQuery{Person: person, Alert: id, Words: "it moves again"}, h.clears[0])
	assert.Equal(t, "gate-refused gate-a1 is cleared", h.Stage.Note)
	h.Press("c", "esc")
	assert.Len(t, h.clears, 1, "it was left")
	h.fail = &api.Problem{Code: api.Unknown, What: "no such alert is open"}
	h.Press("t", "enter")
	assert.Equal(t, "no such alert is open", h.Stage.Note)
}

// What cannot be done now is said, and not asked for.
func TestWhatCannotBeDone(t *testing.T) {
	h := sits()
	h.Press("up", "t") // the folded one
	assert.Contains(t, h.Stage.Note, "stands for several keys")
	h.Press("y")
	assert.Contains(t, h.Stage.Note, "stands for several keys")
	h.Press("end", "h")
	assert.Contains(t, h.Stage.Note, "only an open alert can be hushed")
	h.Press("home", "down")
	h.Do(h.Stage.Hold(-5))
	h.Press("m")
	assert.Contains(t, h.Stage.Note, "actions are off while the lamp is held")
	assert.Empty(t, h.acts)
	h.r.detail = nil
	h.Press("n")
	assert.Contains(t, h.Stage.Note, "a rule begins with an entry")
}

// An alert, its rule, its host or what it is about is hushed, for a span or up to a time.
func TestHushing(t *testing.T) {
	h := sits()
	h.Press("h")
	assert.Equal(t, "hush gate-refused gate-a1 for", h.Stage.Typed.Label)
	h.Answers("2h the hinge")
	assert.Equal(t, h.r.Chosen().Alert, h.acts[0].Hush.Alert)
	assert.Equal(t, "the hinge", h.acts[0].Words)
	for i, want := range []string{"all of gate-refused", "all of host gate-a1", "all about ferries",
		"gate-refused gate-a1"} {
		h.Press("h")
		for range i + 1 {
			h.Press("tab")
		}
		assert.Equal(t, "hush "+want+" for", h.Stage.Typed.Label)
		h.Press("esc")
	}
	h.Press("h")
	h.Answers("25:00")
	assert.Contains(t, h.Stage.Note, "25:00 is no time")
	h.Press("u")
	assert.Equal(t, api.ActQuery{Person: api.Person{By: "mira"}, What: "unhush", Hush: &api.ByHand{ID: "h9"}},
		h.acts[1])
}

func TestHushUntil(t *testing.T) {
	now := time.Date(2026, 11, 24, 22, 30, 0, 0, time.UTC)
	for text, want := range map[string]time.Time{"90m": now.Add(90 * time.Minute), "1d": now.AddDate(0, 0, 1),
		"23:15": time.Date(2026, 11, 24, 23, 15, 0, 0, time.UTC),
		"06:00": time.Date(2026, 11, 25, 6, 0, 0, 0, time.UTC), "22:30": now.AddDate(0, 0, 1),
		"tomorrow 07:00": time.Date(2026, 11, 25, 7, 0, 0, 0, time.UTC)} {
		got, why, problem := hushWords(text+" the pump is cleaned", now)
		assert.Empty(t, problem)
		assert.Equal(t, "the pump is cleaned", why)
		assert.Equal(t, entry.Of(want), got, text)
	}
	for _, text := range []string{"0s", "-2h", "25:00", "7x"} {
		_, _, problem := hushWords(text+" why", now)
		assert.Contains(t, problem, text+" is no time", text)
	}
	alone, why, problem := hushWords("being cleaned", now)
	assert.Equal(t, []any{entry.Of(now.Add(time.Hour)), "being cleaned", ""}, []any{alone, why, problem})
	got, _, problem := hushWords("", now)
	assert.Zero(t, got)
	assert.Empty(t, problem)
}

// All hushes are shown with what each keeps quiet; those of people are ended there.
func TestHushesAreEnded(t *testing.T) {
	h := sits()
	h.Press("H")
	s := h.Text()
	for _, want := range []string{"rule pump-low", "by mira: the strainer", "quiet: f", "and 2 more", "crane-greasing",
		"(not now)"} {
		assert.Contains(t, s, want)
	}
	h.Press("down", "e")
	assert.Contains(t, h.Stage.Note, "it stands in the settings, house.lantern:25")
	h.Press("up", "e")
	assert.Equal(t, "h1", h.acts[0].Hush.ID)
	h.hushes = nil
	h.Do(h.On().Update(room.Fresh{}))
	assert.Contains(t, h.Text(), "Nothing is hushed.")
	h.Press("e", "esc")
	assert.Empty(t, h.Stage.Pages)
}

// Why, the rule and a new one are asked for where they are, with what is chosen.
func TestWaysFromAnAlert(t *testing.T) {
	h := sits()
	h.Press("y")
	assert.Equal(t, []string{"gate-a1"}, h.whys[0].Key)
	s := h.Text()
	for _, want := range []string{"why it is open", "yes  3 of 3 hits", "no   clear", "› pump 7 is low", "more"} {
		assert.Contains(t, s, want)
	}
	h.Stage.H = 8
	h.Text()
	h.Press("end")
	assert.Contains(t, h.Text(), "more")
	h.Press("esc", "b", "n")
	assert.Equal(t, room.OpenRule{Rule: "gate-refused"}, h.Sent[0])
	assert.Equal(t, []string{"pump 7 is low"}, h.Sent[1].(room.BeginRule).Mark.Texts)
}

// The lamp goes from transition to transition of the chosen row.
func TestJumping(t *testing.T) {
	h := sits()
	minutes := func() int { return int(time.Duration(h.Stage.Held) / time.Minute) }
	var at []int
	for range 5 {
		h.Press("[")
		at = append(at, minutes())
	}
	for range 4 {
		h.Press("]")
		at = append(at, minutes())
	}
	assert.Equal(t, []int{30, 20, 10, 4, 4, 10, 20, 30, 0}, at,
		"beyond what is shown, and behind the last one it is live")
}

// Nothing is asked for again that has not changed; numbers are asked for where they are shown.
func TestAskedOnce(t *testing.T) {
	h := sits()
	n := h.details
	h.Do(h.r.Update(room.Fresh{}))
	assert.Equal(t, n, h.details)
	h.Stage.View.Open[6].Count++
	h.Do(h.r.Update(room.Fresh{}))
	assert.Equal(t, n+1, h.details)
	assert.Empty(t, h.curves)
	h.Press("enter")
	assert.Len(t, h.curves, 1)
	h.fail = &api.Problem{What: "the service is busy"}
	h.Stage.View.Open[6].Count++
	h.Do(h.r.Update(room.Fresh{}))
	assert.Equal(t, "the service is busy", h.Stage.Note)
	assert.NotNil(t, h.r.detail, "what was known stays")
}

// Whatever keys come, what is drawn fits into its window.
func TestAnyKeysInWatch(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := sits()
		h.Stage.W, h.Stage.H = rapid.IntRange(60, 200).Draw(t, "w"), rapid.IntRange(10, 50).Draw(t, "h")
		for range rapid.IntRange(0, 25).Draw(t, "keys") {
			h.Press(rapid.SampledFrom([]string{"enter", "esc", "tab", "up", "down", "t", "T", "u", "h", "H", "m", "c",
				"y", "b",
				"n", "[", "]", "pgup", "pgdown", "home", "end", "e", "a", "1"}).Draw(t, "key"))
			for _, l := range strings.Split(h.Text(), "\n") {
				require.LessOrEqual(t, ansi.StringWidth(l), h.Stage.W)
			}
			h.Do(h.On().Update(tea.MouseClickMsg{Y: rapid.IntRange(0, 50).Draw(t, "y"), Button: tea.MouseLeft}))
		}
	})
}
