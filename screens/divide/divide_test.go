package divide

import (
	"context"
	"errors"
	"strings"
	"testing"

	"dimlantern/api"
	"dimlantern/core/layout"
	"dimlantern/screens/room/roomtest"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const layoutText = "layout pumps {\n  pattern /(?<text>.*)/\n}\n"

// hand is a page with a service that finds each mark in all lines, and a hand on its keys.
type hand struct {
	*roomtest.Hand
	w     *Page
	asked []api.FieldsQuery
	fail  func(api.FieldsQuery) (*api.FieldsView, error) // answers instead, where it is not nil
}

func open() *hand {
	h := &hand{}
	desk := api.NewDesk()
	api.DoFields.Answer(desk, func(_ context.Context, q api.FieldsQuery) (*api.FieldsView, error) {
		h.asked = append(h.asked, q)
		if h.fail != nil {
			if v, err := h.fail(q); v != nil || err != nil {
				return v, err
			}
		}
		return answer(q), nil
	})
	h.Hand = roomtest.New(desk)
	h.Do(Open(h.Stage, "host-a:/v/pump.log", "pump.log"))
	h.w = h.Stage.Pages[0].(*Page)
	return h
}

func answer(q api.FieldsQuery) *api.FieldsView {
	v := &api.FieldsView{Layout: "pumps", File: "pumps.lantern", Text: layoutText, Changed: len(q.Marks) > 0 ||
		q.Text != "", Looked: 3, Fits: 3, Shapes: 1, Done: q.Write,
		Fields: []api.FieldCount{{Name: "text", Type: "text", Entries: 3, Distinct: 3}}}
	if q.Text != "" {
		v.Text = q.Text
	}
	for _, n := range []string{"7", "12", "345"} {
		l := api.FieldLine{Raw: "pump " + n + " pressure 2.1 bar", Fits: true, Kin: 3}
		for _, m := range q.Marks {
			l.Spans = append(l.Spans, api.FieldSpan{Start: 5, End: 5 + len(n), Name: m.Name})
		}
		v.Lines = append(v.Lines, l)
	}
	if len(q.Marks) > 0 {
		v.Parts = []layout.Explained{{Words: "digits behind pump"}}
	}
	if q.Which == "misfits" {
		v.Lines = nil
	}
	return v
}

func (h *hand) last() api.FieldsQuery { return h.asked[len(h.asked)-1] }

// A value is pointed at, named, given a type, and the layout is written.
func TestFieldsAreMadeByPointing(t *testing.T) {
	h := open()
	require.Contains(t, h.Text(), "pump 345 pressure 2.1 bar")
	h.Press("right", "enter")
	require.NotNil(t, h.Stage.Typed)
	assert.Equal(t, "call 7", h.Stage.Typed.Label)
	h.Types("unit")
	h.Press("enter")
	assert.Equal(t, []api.Mark{{Line: "pump 7 pressure 2.1 bar", Start: 5, End: 6, Name: "unit"}}, h.last().Marks)
	assert.Equal(t, "unit", h.last().Field)
	assert.Contains(t, h.Text(), "found by: digits behind pump")
	assert.Contains(t, h.Text(), "└unit")

	h.Press("x")
	require.Len(t, h.last().Marks, 2)
	assert.True(t, h.last().Marks[1].Not)
	h.Press("u")
	require.Len(t, h.last().Marks, 1)

	h.Press("t")
	assert.Equal(t, "unit is", h.Stage.Typed.Label)
	h.Types("int")
	assert.Contains(t, h.Stage.Typed.Hint, "tab integer")
	h.Press("tab", "enter")
	assert.Contains(t, h.last().Text, "type    unit integer")

	h.Press("ctrl+s")
	assert.True(t, h.last().Write)
	assert.Empty(t, h.Stage.Pages, "it is done")
	assert.Contains(t, h.Stage.Note, "layout pumps is written into pumps.lantern")
}

// What could not be taken is taken back and said, and nothing is lost of what was there.
func TestWhatCannotBeTakenIsTakenBack(t *testing.T) {
	h := open()
	h.Press("right", "enter")
	h.Types("unit")
	h.Press("enter")
	h.fail = func(q api.FieldsQuery) (*api.FieldsView, error) {
		if len(q.Marks) == 2 {
			v := answer(q)
			v.Parts, v.Words = nil, "no pattern finds both"
			return v, nil
		}
		return nil, nil
	}
	h.Press("right", "enter")
	h.Types("what")
	h.Press("enter")
	assert.Len(t, h.last().Marks, 1)
	assert.Contains(t, h.Text(), "no pattern finds both")
	h.fail = func(api.FieldsQuery) (*api.FieldsView, error) { return nil, errors.New("the file is gone") }
	h.Press("tab")
	assert.Contains(t, h.Text(), "the file is gone")
	assert.Contains(t, h.Text(), "pump 345", "what was there stays")
}

// The layout is written by hand, and what was before comes back.
func TestByHand(t *testing.T) {
	h := open()
	h.Press("e", "#")
	assert.Contains(t, h.last().Text, "#")
	h.Do(h.w.Update(tea.PasteMsg{Content: " from the old pumps"}))
	assert.Contains(t, h.last().Text, "# from the old pumps")
	assert.Contains(t, h.Text(), "written by hand")
	h.Press("esc", "u", "u")
	assert.Empty(t, h.last().Text)
	h.Press("u")
	assert.Contains(t, h.Text(), "nothing is left to undo")
	h.Press("ctrl+s")
	assert.Contains(t, h.Text(), "nothing has changed")
	h.Press("tab", "tab", "tab")
	assert.Contains(t, h.Text(), "every entry fits")
	h.Press("w", "esc", "/")
	h.Types("pressure")
	h.Press("enter")
	assert.Equal(t, "pressure", h.last().Filter)
	h.Press("esc", "esc")
	assert.Empty(t, h.Stage.Pages)
}

// Whatever keys are pressed and wherever it is clicked, it is drawn within its window, and
// what is pointed at lies within its line.
func TestAnyKeys(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := open()
		h.Stage.W, h.Stage.H = rapid.IntRange(20, 200).Draw(t, "w"), rapid.IntRange(6, 50).Draw(t, "h")
		for range rapid.IntRange(0, 30).Draw(t, "keys") {
			h.Press(rapid.SampledFrom([]string{"left", "right", "up", "down", "shift+left", "shift+right", "tab",
				"enter",
				"a", "x", "t", "u", "d", "e", "v", "w", "/", "ctrl+s"}).Draw(t, "key"))
			if len(h.Stage.Pages) == 0 {
				return
			}
			s := h.Text()
			for _, l := range strings.Split(s, "\n") {
				require.LessOrEqual(t, ansi.StringWidth(l), h.Stage.W)
			}
			h.Do(h.w.Update(tea.MouseClickMsg{X: rapid.IntRange(0, 200).Draw(t, "x"), Y: rapid.IntRange(0, 50).Draw(t,
				"y"),
				Button: tea.MouseLeft}))
			line, start, end := h.w.selected()
			require.LessOrEqual(t, 0, start)
			require.LessOrEqual(t, start, end)
			require.LessOrEqual(t, end, len(line))
		}
	})
}

// All that can be pointed at lies one behind the other, without blanks and what parts values.
func TestTokens(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		line := rapid.StringOf(rapid.RuneFrom([]rune("ab9 \t.-+@/:,=\"é日"))).Draw(t, "line")
		at := 0
		for _, k := range tokens(line) {
			require.Empty(t, strings.Trim(line[at:k.start], " \t:,=\""), "only blanks and marks lie between")
			require.Greater(t, k.end, k.start)
			require.NotContains(t, line[k.start:k.end], " ")
			at = k.end
		}
		require.Empty(t, strings.Trim(line[at:], " \t:,=\""))
	})
}
