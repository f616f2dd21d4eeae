package room

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Keys are written as they are on the keyboard.
func TestMarks(t *testing.T) {
	for names, want := range map[string]string{"up down": "↑↓", "left right": "←→", "c r": "c r", "ctrl+s": "^s",
		"ctrl+z ctrl+r": "^z ^r", "alt+up alt+down": "alt ↑ ↓", "pgup pgdown": "pgup pgdn", "+ -": "+ -",
		"space": "space"} {
		assert.Equal(t, want, On(names, nil).Help().Key)
	}
}

// However narrow the window, words of the key line are whole, and what leads to the rest stays.
func TestKeyLinesAreWhole(t *testing.T) {
	word := rapid.StringMatching(`[a-z]{1,9}( [a-z]{1,9})?`)
	rapid.Check(t, func(t *rapid.T) {
		k := Keys{Where: word.Draw(t, "where")}
		for range rapid.IntRange(0, 14).Draw(t, "keys") {
			name := rapid.StringMatching(`[a-z]`).Draw(t, "name")
			k.List = append(k.List, On(name, nil).Said(word.Draw(t, "word"), word.Draw(t, "short")))
		}
		k.List = append(k.List, On("?", nil).Said("help", "help"))
		w := rapid.IntRange(30, 200).Draw(t, "width")
		narrow := rapid.Bool().Draw(t, "narrow")
		c := paint.New(w, 1, paint.Color{})
		k.Draw(c, 0, narrow, paint.Dark())
		line := strings.TrimRight(ansi.Strip(c.String()), " ")
		require.True(t, strings.HasSuffix(line, "? help"), "%q", line)
		parts := strings.Split(strings.TrimSpace(line), "   ")
		if narrow {
			parts = strings.Split(strings.TrimSpace(line), "  ")
		}
		if strings.HasPrefix(k.Where, strings.TrimSuffix(parts[0], "…")) {
			parts = parts[1:]
		}
		for _, p := range parts {
			is := false
			for _, x := range k.List {
				said := x.Help().Desc
				if narrow {
					said = x.Short
				}
				is = is || p == x.Help().Key+" "+said
			}
			require.True(t, is, "%q is no key of %q", p, line)
		}
	})
}

// press presses keys in the line that is being typed.
func press(s *Stage, keys ...string) {
	named := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "tab": tea.KeyTab, "back": tea.KeyBackspace,
		"left": tea.KeyLeft, "up": tea.KeyUp}
	for _, k := range keys {
		msg := tea.KeyPressMsg{Code: []rune(k)[0], Text: k}
		if code, ok := named[k]; ok {
			msg = tea.KeyPressMsg{Code: code}
		}
		s.Type(msg)
	}
}

// A line is typed, gone on with, taken or left.
func TestPrompt(t *testing.T) {
	s := NewStage(nil, nil)
	var got, changes []string
	left, moved := 0, 0
	ask := func(offered bool) {
		s.Prompt(Prompt{Label: "call it", Hint: "enter", Offered: offered,
			Next:    func(p *Prompt) tea.Cmd { p.SetText(p.Text() + "-next"); return nil },
			Changed: func(text string) tea.Cmd { changes = append(changes, text); return nil },
			Move:    func(by int) tea.Cmd { moved += by; return nil },
			Left:    func() tea.Cmd { left++; return nil },
			Then:    func(text string) tea.Cmd { got = append(got, text); return nil }}, "pump")
	}
	ask(false)
	press(s, "s", "left", "back", "tab", "up", "enter")
	assert.Equal(t, []string{"pums-next"}, got)
	assert.Equal(t, []string{"pumps", "pums"}, changes)
	assert.Equal(t, -1, moved)
	assert.Nil(t, s.Typed)

	ask(true) // what is typed takes the place of what is proposed
	press(s, "x", "y", "enter")
	ask(true)
	press(s, "enter")
	ask(true)
	press(s, "esc")
	assert.Equal(t, []string{"pums-next", "xy", "pump"}, got)
	assert.Equal(t, 1, left)

	ask(false)
	s.Type(tea.PasteMsg{Content: "a\nb\x1b[2J"})
	assert.NotContains(t, s.Typed.Text(), "\n")
	assert.NotContains(t, s.Typed.Text(), "\x1b")
}

// Of a line of any length the place of the cursor is seen, within the window.
func TestLongLinesMoveAlong(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := NewStage(nil, nil)
		s.Prompt(Prompt{Label: "say", Hint: "enter takes it   esc leaves it"},
			rapid.StringOfN(rapid.RuneFrom([]rune("abc 日é")), 0, 200, -1).Draw(t, "text"))
		for range rapid.IntRange(0, 40).Draw(t, "left") {
			press(s, "left")
		}
		press(s, "#")
		w := rapid.IntRange(60, 160).Draw(t, "w")
		c := paint.New(w, 1, paint.Color{})
		s.Typed.Draw(c, 0, paint.Dark())
		require.Contains(t, ansi.Strip(c.String()), "#")
	})
}

// The lamp is held within what there is, always stands on the axis, and is live at the present.
func TestLamp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		asked := 0
		s := NewStage(nil, func() tea.Cmd { asked++; return nil })
		s.W = rapid.IntRange(60, 200).Draw(t, "w")
		now := entry.Of(time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC))
		s.View = &api.View{Now: now, First: now.Add(-time.Duration(rapid.IntRange(1, 400).Draw(t,
			"hours")) * time.Hour)}
		for range rapid.IntRange(1, 60).Draw(t, "moves") {
			switch rapid.IntRange(0, 3).Draw(t, "what") {
			case 0:
				s.Widen(rapid.SampledFrom([]int{-1, 1}).Draw(t, "zoom"))
			default:
				s.Hold(rapid.IntRange(-40, 40).Draw(t, "by"))
			}
			if s.Held == 0 {
				require.Zero(t, s.Until)
				continue
			}
			require.Less(t, s.Held, now)
			require.GreaterOrEqual(t, s.Held, s.View.First)
			until := s.Until
			if until == 0 { // until the view is there, its edge is the service's to choose
				continue
			}
			require.LessOrEqual(t, s.Held, until)
			require.LessOrEqual(t, until, now)
			require.Greater(t, s.Held, until.Add(-time.Duration(ColumnsOf(s.W).LifeWidth)*s.Column()))
		}
		require.Positive(t, asked)
	})
}

// An answer is taken in its turn; a question that takes too long, or is not wanted any more,
// is answered by why.
func TestAsk(t *testing.T) {
	desk := api.NewDesk()
	api.AskHushes.Answer(desk, func(ctx context.Context, _ api.None) (*api.HushList, error) {
		<-ctx.Done()
		return nil, ctx.Err()
	})
	s := NewStage(nil, nil)
	s.Lantern = desk
	var got error
	cmd := Ask(s, api.AskHushes, api.None{}, time.Millisecond, func(_ *api.HushList, err error) tea.Cmd {
		got = err
		return nil
	})
	answer := cmd().(Answer)
	require.NoError(t, got, "not before its turn")
	answer.Do()
	require.ErrorIs(t, got, context.DeadlineExceeded)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	AskContext(ctx, s, api.AskHushes, api.None{}, time.Hour, func(_ *api.HushList, err error) tea.Cmd {
		got = err
		return nil
	})().(Answer).Do()
	require.True(t, errors.Is(got, context.Canceled), "%v", got)
}

// Pages lie over each other, and what comes too late for one finds that it does not lie there.
func TestPages(t *testing.T) {
	s := NewStage(func(At) tea.Cmd { return nil }, func() tea.Cmd { return nil })
	a, b := &struct{ Room }{}, &struct{ Room }{}
	s.Lay(a)
	s.Lay(b)
	assert.True(t, s.Lies(b))
	assert.False(t, s.Lies(a))
	s.Back()
	assert.True(t, s.Lies(a))
	s.Go(Sources)
	assert.False(t, s.Lies(a))
	s.Back()
	assert.Empty(t, s.Pages)
}
