package ledger_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/ledger"
	"dimlantern/screens/room"
	"dimlantern/screens/room/roomtest"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var now = entry.Of(time.Date(2026, 11, 24, 14, 30, 0, 0, time.UTC))

// answers is a service that answers every question with two groups along the axis.
type answers struct {
	asked  []api.LedgerQuery
	inside []api.InsideQuery
	edits  []api.LedgerEdit
	kept   []api.PutQuery
	gaps   []api.Span // of the groups
	desk   *api.Desk
}

func (a *answers) view(q api.LedgerQuery) *api.LedgerView {
	v := &api.LedgerView{
		Version: 1,
		Done:    true,
		At:      now,
		From:    now.Add(-88 * time.Minute),
		To:      now,
		Kept:    entry.None,
	}
	if strings.TrimSpace(q.Text) == "" {
		v.Asks = []api.LedgerAsk{{Name: "gate-refusals", Kind: "kept", Text: "on gates\nshow count\nper gate",
			Words: "which gates refuse"}, {Name: "gates", Kind: "source", Text: "on gates\nshow count"}}
		return v
	}
	if strings.HasSuffix(q.Text, "(") {
		v.Problems = []api.BenchFinding{
			{Line: 1, Col: 1, Error: true, What: "this ( is never closed", Mend: "close it"},
		}
		return v
	}
	v.Columns = []api.LedgerColumn{{Name: "count", Additive: true}, {Name: "max(n)", Field: "n"}}
	v.Per, v.Words, v.Rests = []string{
		"gate",
	}, []string{
		"How many entries there are.",
	}, []string{
		"10 of 20 entries fit",
	}
	for k := range 89 {
		v.Bounds = append(v.Bounds, v.From.Add(time.Duration(k)*time.Minute))
	}
	for _, name := range []string{"gate-a1", "gate-b2"} {
		g := api.LedgerGroup{Key: []string{name}, Series: make([][]*float64, 2), Besides: make([][]*float64, 2),
			Gaps: a.gaps}
		for k := range 88 {
			f, big := float64(k%7), float64(100+k)
			g.Series[0], g.Series[1] = append(g.Series[0], &f), append(g.Series[1], &big)
		}
		g.Values = []api.LedgerValue{{Value: "264", Part: "50 %", Peak: "6"}, {Value: "187", Peak: "187"}}
		v.Groups = append(v.Groups, g)
	}
	v.Limits = []api.LedgerLimit{{Rule: "gate-refused", Limit: 5, Words: "raises at 5", Severity: entry.Error}}
	return v
}

// sits is a person before the ledger.
func sits(t *testing.T) (*roomtest.Hand, *answers) {
	t.Helper()
	a := &answers{}
	d := api.NewDesk()
	a.desk = d
	api.AskLedger.Answer(d, func(_ context.Context, q api.LedgerQuery) (*api.LedgerView, error) {
		a.asked = append(a.asked, q)
		return a.view(q), nil
	})
	api.AskInside.Answer(d, func(_ context.Context, q api.InsideQuery) (*api.Inside, error) {
		a.inside = append(a.inside, q)
		return &api.Inside{Count: 7, Fields: []string{"level", "host"}, Field: "level",
			Values: []api.LedgerShare{{Field: "level", Value: "ERROR", Count: 4, Share: 0.57},
				{Field: "level", Value: "WARN", Count: 3, Share: 0.43}},
			Lines: []api.FoundEntry{
				{EntryView: api.EntryView{At: now, Text: "open refused", Raw: "open refused"}},
			}}, nil
	})
	api.EditAsk.Answer(d, func(_ context.Context, e api.LedgerEdit) (*api.LedgerText, error) {
		a.edits = append(a.edits, e)
		return &api.LedgerText{Text: e.Text + "\n# " + e.What}, nil
	})
	api.DoPut.Answer(d, func(_ context.Context, q api.PutQuery) (*api.Put, error) {
		a.kept = append(a.kept, q)
		return &api.Put{Title: "keep", Done: "it is kept"}, nil
	})
	h := roomtest.New(d)
	h.Stage.View = &api.View{Now: now, At: now, From: now.Add(-88 * time.Minute), Column: time.Minute, Sources: 1,
		Tide: make([]int64, 88)}
	h.Room = ledger.New(h.Stage)
	h.Do(h.Room.Update(room.Fresh{}))
	return h, a
}

// A question that is typed is asked at each letter, and its answer stays where the next letter is a
// mistake.
func TestAskedAtEachLetter(t *testing.T) {
	h, a := sits(t)
	assert.Contains(t, h.Text(), "which gates refuse")
	h.Press("a")
	was := len(a.asked)
	h.Types("on gates")
	assert.Equal(t, was+8, len(a.asked))
	assert.Contains(t, h.Text(), "gate-a1")
	assert.Contains(t, h.Text(), "10 of 20 entries fit")
	h.Types("(")
	text := h.Text()
	assert.Contains(t, text, "this ( is never closed; close it")
	assert.Contains(t, text, "gate-a1", "the answer of before stays")
	h.Press("backspace", "esc")
	assert.Contains(t, h.Text(), "raises at 5", "the threshold of the rule")
	h.Press("n")
	assert.Contains(t, h.Text(), "187")
}

// What is marked with the mouse can be gone into, and come back from, as often as wanted.
func TestMarkedWithTheMouse(t *testing.T) {
	h, a := sits(t)
	h.Press("enter")
	x := h.Stage.Axis().X
	row := -1
	for y, l := range strings.Split(h.Text(), "\n") {
		if strings.Contains(l, "gate-a1") && strings.Contains(l, "the rule") {
			row = y + 3
		}
	}
	require.Positive(t, row)
	h.Do(h.Room.Update(tea.MouseClickMsg{X: x + 20, Y: row, Button: tea.MouseLeft}))
	h.Do(h.Room.Update(tea.MouseMotionMsg{X: x + 29, Y: row, Button: tea.MouseLeft}))
	h.Do(h.Room.Update(tea.MouseReleaseMsg{X: x + 29, Y: row}))
	from, to := now.Add(-68*time.Minute), now.Add(-58*time.Minute)
	last := a.inside[len(a.inside)-1]
	assert.Equal(t, []entry.Instant{from, to}, []entry.Instant{last.From, last.To})
	assert.Equal(t, []string{"gate-a1"}, last.Group)
	assert.Contains(t, h.Text(), "of what is marked")
	before := a.asked[len(a.asked)-1].Text
	h.Press("enter")
	require.NotEmpty(t, a.edits)
	assert.Equal(t, api.LedgerEdit{Text: before, What: "from", From: from, To: to}, a.edits[0])
	assert.Contains(t, a.asked[len(a.asked)-1].Text, "# from")
	h.Press("backspace")
	assert.Equal(t, before, a.asked[len(a.asked)-1].Text)
	assert.Contains(t, h.Text(), "of what is marked", "the mark is there again")
	h.Press("m")
	assert.NotContains(t, h.Text(), "of what is marked")
}

// From gap to gap the lamp is held where each ends, so that it is seen; one that is later than the lamp is
// known from before.
func TestFromGapToGap(t *testing.T) {
	h, a := sits(t)
	early := api.Span{From: now.Add(-80 * time.Minute), To: now.Add(-70 * time.Minute)}
	late := api.Span{From: now.Add(-30 * time.Minute), To: now.Add(-20 * time.Minute)}
	a.gaps = []api.Span{late, early}
	h.Press("enter", "[")
	assert.Equal(t, late.To, h.Stage.Held)
	h.Press("[")
	assert.Equal(t, early.To, h.Stage.Held)
	a.gaps = []api.Span{early} // as an answer up to there has it
	asked := len(a.asked)
	h.Do(h.Room.Update(room.Fresh{}))
	require.Greater(t, len(a.asked), asked)
	h.Press("]")
	assert.Equal(t, late.To, h.Stage.Held)
	h.Press("]")
	assert.Equal(t, late.To, h.Stage.Held)
}

// On a value i is only this, x not this, g groups by its field; what is changed can be undone; a question is
// kept after what that writes was seen.
func TestOnValues(t *testing.T) {
	h, a := sits(t)
	h.Press("enter", "tab", "down")
	for _, k := range []struct{ key, what, value string }{
		{"i", "only", "WARN"}, {"x", "not", "WARN"}, {"g", "per", ""},
	} {
		h.Press(k.key)
		e := a.edits[len(a.edits)-1]
		assert.Equal(t, []string{k.what, "level", k.value}, []string{e.What, e.Field, e.Value}, k.key)
	}
	assert.Contains(t, a.asked[len(a.asked)-1].Text, "# per")
	h.Press("u", "u", "u")
	assert.Equal(t, "on gates\nshow count\nper gate", a.asked[len(a.asked)-1].Text)
	h.Press("ctrl+s")
	h.Answers("refusals")
	require.Len(t, a.kept, 1)
	assert.Equal(t, &api.KeptAsk{Name: "refusals", Text: "on gates\nshow count\nper gate"}, a.kept[0].Ask)
	assert.False(t, a.kept[0].Do)
}

// In the smallest window and without colours everything has its place, and nothing reaches beyond it.
func TestLedgerFitsSmallWindows(t *testing.T) {
	for _, size := range [][2]int{{160, 47}, {80, 24}, {60, 16}} {
		h, _ := sits(t)
		h.Stage.W, h.Stage.H = size[0], size[1]
		h.Stage.Palette.Mono = true
		h.Press("enter")
		for _, keys := range []string{"", "tab", "tab", "tab"} {
			if keys != "" {
				h.Press(keys)
			}
			text := h.Text()
			assert.Contains(t, text, "count", fmt.Sprint(size, keys))
			for _, l := range strings.Split(text, "\n") {
				assert.LessOrEqual(t, len([]rune(l)), size[0])
			}
		}
	}
}
