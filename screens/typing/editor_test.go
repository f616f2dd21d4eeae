package typing

import (
	"strings"
	"testing"

	"charm.land/bubbles/v2/textarea"
	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var pressed = map[string]tea.KeyPressMsg{
	"left": {Code: tea.KeyLeft}, "right": {Code: tea.KeyRight}, "up": {Code: tea.KeyUp}, "down": {Code: tea.KeyDown},
	"home": {Code: tea.KeyHome}, "end": {Code: tea.KeyEnd}, "backspace": {Code: tea.KeyBackspace},
	"delete": {Code: tea.KeyDelete},
	"kill":   {Code: 'k', Mod: tea.ModCtrl}, "before": {Code: 'u', Mod: tea.ModCtrl}, "enter": {Code: tea.KeyEnter},
	"first": {Code: tea.KeyHome, Mod: tea.ModCtrl}, "last": {Code: tea.KeyEnd, Mod: tea.ModCtrl},
	"a": {Code: 'a', Text: "a"}, "é": {Code: 'é', Text: "é"}, " ": {Code: ' ', Text: " "},
}

// The Editor does with each key what bubbles' textarea does, which lays out all of it anew.
func TestEditorEqualsTextarea(t *testing.T) {
	// Not delete: of the last letter of a line the textarea takes the line end as well.
	names := []string{"left", "right", "up", "down", "home", "end", "backspace", "kill", "before", "enter", "first",
		"last", "a", "é", " "}
	rapid.Check(t, func(t *rapid.T) {
		var e Editor
		slow := textarea.New()
		slow.CharLimit, slow.MaxHeight = 0, 0
		slow.SetWidth(200)
		slow.SetHeight(8)
		slow.Focus()
		text := strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{"", "rule low {", "  per host", "  é 30 m",
			"}"}), 1, 6).Draw(t, "lines"), "\n")
		e.SetValue(text)
		slow.SetValue(text)
		slow.MoveToBegin()
		for range rapid.IntRange(1, 40).Draw(t, "presses") {
			name := rapid.SampledFrom(names).Draw(t, "key")
			e.Press(pressed[name])
			slow, _ = slow.Update(pressed[name])
			if name == "up" || name == "down" { // the column that is kept to is forgotten by other keys there
				require.Equal(t, slow.Line(), e.Line)
				slow.SetCursorColumn(e.Col)
			}
			require.Equal(t, slow.Value(), e.Value(), name)
			require.Equal(t, []int{slow.Line(), slow.Column()}, []int{e.Line, e.Col}, name)
		}
	})
}

// Words are gone over and deleted whole, and what would steer a terminal is not taken in.
func TestEditorWords(t *testing.T) {
	var e Editor
	e.SetValue("per host, pump\nraise")
	e.Press(tea.KeyPressMsg{Code: tea.KeyRight, Mod: tea.ModCtrl})
	e.Press(tea.KeyPressMsg{Code: tea.KeyRight, Mod: tea.ModCtrl})
	require.Equal(t, 8, e.Col)
	e.Press(tea.KeyPressMsg{Code: 'w', Mod: tea.ModCtrl})
	require.Equal(t, "per , pump\nraise", e.Value())
	e.Insert("a\x1b[2J\tb\r\nc")
	require.Equal(t, "per a[2J b\nc, pump\nraise", e.Value())
	require.Equal(t, []int{1, 1}, []int{e.Line, e.Col})
}
