package bench

import (
	"testing"
	"unicode/utf8"

	"dimlantern/screens/typing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What was typed can be taken back, and come again.
func TestUndo(t *testing.T) {
	r := &text{}
	r.Open("f.lantern", "rule r {\n  raise error at 3\n}\n", 2, false)
	assert.Equal(t, 2, r.Line())
	assert.False(t, r.Changed())
	r.Replace("rule r {\n  problem \"x\"\n  raise error at 3\n}\n", 2)
	r.Paste("# ")
	assert.Equal(t, "rule r {\n#   problem \"x\"\n  raise error at 3\n}\n", r.Body())
	assert.True(t, r.Undo())
	assert.True(t, r.Undo())
	assert.Equal(t, "rule r {\n  raise error at 3\n}\n", r.Body())
	assert.False(t, r.Undo())
	assert.True(t, r.back(&r.redo, &r.undo))
	assert.Contains(t, r.Body(), "problem")
}

// What a terminal pastes keeps its lines, however it writes their ends.
func TestPastedLines(t *testing.T) {
	for _, end := range []string{"\n", "\r\n", "\r"} {
		var e typing.Editor
		e.Insert("rule r {" + end + "  on a" + end + "}" + end)
		assert.Equal(t, "rule r {\n  on a\n}\n", e.Value(), "%q", end)
	}
}

// The cursor stands where its character is drawn, whatever is written before it, and a click finds it
// there.
func TestCellsOfCharacters(t *testing.T) {
	parts := []string{"a", "é", "e\u0301", "水", "圧力", "🚢", "👩\u200d🔧", "🇮🇪", "שלום", "\t", "-"}
	rapid.Check(t, func(t *rapid.T) {
		line, starts := "", []int{0}
		for _, p := range rapid.SliceOfN(rapid.SampledFrom(parts), 0, 12).Draw(t, "line") {
			line += p
			starts = append(starts, utf8.RuneCountInString(line))
		}
		for _, col := range starts {
			cells := typing.CellsBefore(line, col)
			require.Equal(t, ansi.StringWidth(string([]rune(line)[:col])), cells, "%q %d", line, col)
			if col < utf8.RuneCountInString(line) && ansi.StringWidth(string([]rune(line)[col:col+1])) > 0 {
				require.Equal(t, col, typing.CharAt(line, cells), "%q %d", line, col)
			}
		}
	})
}
