package divide

import (
	"context"
	"errors"
	"strings"
	"testing"

	"dimlantern/api"
	"dimlantern/core/layout"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const layoutText = "layout pumps {\n  pattern /(?<text>.*)/\n}\n"

// hand is a page with a service that finds each mark in all lines, and a hand on its keys.
type hand struct {
	t     require.TestingT
	s     *room.Stage
	w     *Page
	asked []api.FieldsQuery
	fail  func(api.FieldsQuery) (*api.FieldsView, error) // answers instead, where it is not nil
}

func open(t require.TestingT) *hand {
	h := &hand{t: t}
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
	h.s = room.NewStage(nil, func() tea.Cmd { return nil })
	h.s.Lantern, h.s.W, h.s.H = desk, 160, 47
	h.do(Open(h.s, "host-a:/v/pump.log", "pump.log"))
	h.w = h.s.Pages[0].(*Page)
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

// do runs what a page asks for, until nothing is asked any more.
func (h *hand) do(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	switch msg := cmd().(type) {
	case tea.BatchMsg:
		for _, c := range msg {
			h.do(c)
		}
	case room.Answer:
		h.do(msg.Do())
	}
}

var named = map[string]tea.KeyPressMsg{"enter": {Code: tea.KeyEnter}, "esc": {Code: tea.KeyEscape},
	"left": {Code: tea.KeyLeft}, "right": {Code: tea.KeyRight}, "up": {Code: tea.KeyUp}, "down": {Code: tea.KeyDown},
	"tab": {Code: tea.KeyTab}, "shift+right": {Code: tea.KeyRight, Mod: tea.ModShift},
	"shift+left": {Code: tea.KeyLeft, Mod: tea.ModShift}, "ctrl+s": {Code: 's', Mod: tea.ModCtrl}}

func (h *hand) press(keys ...string) {
	for _, k := range keys {
		msg, ok := named[k]
		if !ok {
			msg = tea.KeyPressMsg{Code: []rune(k)[0], Text: k}
		}
		switch is := h.w.Keys().Of(msg); {
		case h.s.Typed != nil:
			h.do(h.s.Type(msg))
		case is != nil && is.Do != nil:
			h.do(is.Do(msg.String()))
		default:
			h.do(h.w.Update(msg))
		}
	}
}

func (h *hand) types(text string) {
	for _, r := range text {
		h.press(string(r))
	}
}

func (h *hand) text() string {
	c := paint.New(h.s.W, h.s.H, paint.Color{})
	h.w.Draw(c, 0, h.s.H)
	return ansi.Strip(c.String())
}

func (h *hand) last() api.FieldsQuery { return h.asked[len(h.asked)-1] }

// A value is pointed at, named, given a type, and the layout is written.
func TestFieldsAreMadeByPointing(t *testing.T) {
	h := open(t)
	require.Contains(t, h.text(), "pump 345 pressure 2.1 bar")
	h.press("right", "enter")
	require.NotNil(t, h.s.Typed)
	assert.Equal(t, "call 7", h.s.Typed.Label)
	h.types("unit")
	h.press("enter")
	assert.Equal(t, []api.Mark{{Line: "pump 7 pressure 2.1 bar", Start: 5, End: 6, Name: "unit"}}, h.last().Marks)
	assert.Equal(t, "unit", h.last().Field)
	assert.Contains(t, h.text(), "found by: digits behind pump")
	assert.Contains(t, h.text(), "└unit")

	h.press("x")
	require.Len(t, h.last().Marks, 2)
	assert.True(t, h.last().Marks[1].Not)
	h.press("u")
	require.Len(t, h.last().Marks, 1)

	h.press("t")
	assert.Equal(t, "unit is", h.s.Typed.Label)
	h.types("int")
	assert.Contains(t, h.s.Typed.Hint, "tab integer")
	h.press("tab", "enter")
	assert.Contains(t, h.last().Text, "type    unit integer")

	h.press("ctrl+s")
	assert.True(t, h.last().Write)
	assert.Empty(t, h.s.Pages, "it is done")
	assert.Contains(t, h.s.Note, "layout pumps is written into pumps.lantern")
}

// What could not be taken is taken back and said, and nothing is lost of what was there.
func TestWhatCannotBeTakenIsTakenBack(t *testing.T) {
	h := open(t)
	h.press("right", "enter")
	h.types("unit")
	h.press("enter")
	h.fail = func(q api.FieldsQuery) (*api.FieldsView, error) {
		if len(q.Marks) == 2 {
			v := answer(q)
			v.Parts, v.Words = nil, "no pattern finds both"
			return v, nil
		}
		return nil, nil
	}
	h.press("right", "enter")
	h.types("what")
	h.press("enter")
	assert.Len(t, h.last().Marks, 1)
	assert.Contains(t, h.text(), "no pattern finds both")
	h.fail = func(api.FieldsQuery) (*api.FieldsView, error) { return nil, errors.New("the file is gone") }
	h.press("tab")
	assert.Contains(t, h.text(), "the file is gone")
	assert.Contains(t, h.text(), "pump 345", "what was there stays")
}

// The layout is written by hand, and what was before comes back.
func TestByHand(t *testing.T) {
	h := open(t)
	h.press("e", "#")
	assert.Contains(t, h.last().Text, "#")
	h.do(h.w.Update(tea.PasteMsg{Content: " from the old pumps"}))
	assert.Contains(t, h.last().Text, "# from the old pumps")
	assert.Contains(t, h.text(), "written by hand")
	h.press("esc", "u", "u")
	assert.Empty(t, h.last().Text)
	h.press("u")
	assert.Contains(t, h.text(), "nothing is left to undo")
	h.press("ctrl+s")
	assert.Contains(t, h.text(), "nothing has changed")
	h.press("tab", "tab", "tab")
	assert.Contains(t, h.text(), "every entry fits")
	h.press("w", "esc", "/")
	h.types("pressure")
	h.press("enter")
	assert.Equal(t, "pressure", h.last().Filter)
	h.press("esc", "esc")
	assert.Empty(t, h.s.Pages)
}

// Whatever keys are pressed and wherever it is clicked, it is drawn within its window, and
// what is pointed at lies within its line.
func TestAnyKeys(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := open(t)
		h.s.W, h.s.H = rapid.IntRange(20, 200).Draw(t, "w"), rapid.IntRange(6, 50).Draw(t, "h")
		for range rapid.IntRange(0, 30).Draw(t, "keys") {
			h.press(rapid.SampledFrom([]string{"left", "right", "up", "down", "shift+left", "shift+right", "tab", "enter",
				"a", "x", "t", "u", "d", "e", "v", "w", "/", "ctrl+s"}).Draw(t, "key"))
			if len(h.s.Pages) == 0 {
				return
			}
			s := h.text()
			for _, l := range strings.Split(s, "\n") {
				require.LessOrEqual(t, ansi.StringWidth(l), h.s.W)
			}
			h.do(h.w.Update(tea.MouseClickMsg{X: rapid.IntRange(0, 200).Draw(t, "x"), Y: rapid.IntRange(0, 50).Draw(t, "y"),
				Button: tea.MouseLeft}))
			line, start, end := h.w.selected()
			require.LessOrEqual(t, 0, start)
			require.LessOrEqual(t, start, end)
			require.LessOrEqual(t, end, len(line))
		}
	})
}

// All that can be pointed at lies one behind the other, without blanks.
func TestTokens(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		line := rapid.StringOf(rapid.RuneFrom([]rune("ab9 \t.-+@/:,=\"é日"))).Draw(t, "line")
		at := 0
		for _, k := range tokens(line) {
			require.Empty(t, strings.Trim(line[at:k.start], " \t"), "only blanks lie between")
			require.Greater(t, k.end, k.start)
			require.NotContains(t, line[k.start:k.end], " ")
			at = k.end
		}
		require.Empty(t, strings.Trim(line[at:], " \t"))
	})
}
