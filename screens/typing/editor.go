// Package typing is a text of several lines that is being typed, and how lines of the language are
// drawn.
package typing

import (
	"slices"
	"strings"
	"unicode"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textarea"
	tea "charm.land/bubbletea/v2"
)

// Editor is a text being typed, with a cursor in it. A key costs what it changes, however
// long the text is: bubbles' textarea, whose keys it has, lays out the whole text for each.
// The zero value is an empty text.
type Editor struct {
	// Line and Col are where the cursor stands, from 0; Col counts runes.
	Line, Col int
	lines     [][]rune // one at least, once something was done
	want      int      // the column that up and down keep to
	text      string   // as Value returns it; "" where it has to be put together
}

// keys are those of bubbles' textarea.
var keys = textarea.DefaultKeyMap()

// Value is the text, its lines joined.
func (e *Editor) Value() string {
	if e.text == "" {
		var b strings.Builder
		for i, l := range e.lines {
			if i > 0 {
				b.WriteByte('\n')
			}
			b.WriteString(string(l))
		}
		e.text = b.String()
	}
	return e.text
}

// Lines are the lines of the text, which must not be changed.
func (e *Editor) Lines() [][]rune { return e.lines }

// SetValue puts a text in the place of what is there, the cursor at its begin.
func (e *Editor) SetValue(text string) {
	*e = Editor{}
	for _, l := range strings.Split(text, "\n") {
		e.lines = append(e.lines, []rune(l))
	}
}

// MoveTo puts the cursor there, or as near as there is text.
func (e *Editor) MoveTo(line, col int) {
	e.begin()
	e.Line = min(max(line, 0), len(e.lines)-1)
	e.Col = min(max(col, 0), len(e.lines[e.Line]))
	e.want = e.Col
}

func (e *Editor) begin() {
	if len(e.lines) == 0 {
		e.lines = [][]rune{nil}
	}
}

// lineEnds are what stands for a line end: what is pasted into a terminal has a carriage return there.
var lineEnds = strings.NewReplacer("\r\n", "\n", "\r", "\n")

// Insert writes a text at the cursor, and puts it behind. Marks that steer a terminal are
// left out.
func (e *Editor) Insert(text string) {
	e.begin()
	e.text = ""
	text = strings.Map(func(r rune) rune {
		switch {
		case r == '\t':
			return ' '
		case r != '\n' && unicode.IsControl(r):
			return -1
		}
		return r
	}, lineEnds.Replace(text))
	parts := strings.Split(text, "\n")
	rest := slices.Clone(e.lines[e.Line][e.Col:])
	e.lines[e.Line] = append(e.lines[e.Line][:e.Col:e.Col], []rune(parts[0])...)
	var more [][]rune
	for _, p := range parts[1:] {
		more = append(more, []rune(p))
	}
	e.lines = slices.Insert(e.lines, e.Line+1, more...)
	e.Line += len(parts) - 1
	e.Col = len(e.lines[e.Line])
	e.lines[e.Line] = append(e.lines[e.Line], rest...)
	e.want = e.Col
}

// remove takes out what lies between two places, the first of which comes before.
func (e *Editor) remove(line, col, toLine, toCol int) {
	e.text = ""
	e.lines[line] = append(e.lines[line][:col:col], e.lines[toLine][toCol:]...)
	e.lines = slices.Delete(e.lines, line+1, toLine+1)
	e.MoveTo(line, col)
}

// back and forth are the places before and behind a place; the same at the text's ends.
func (e *Editor) back(line, col int) (int, int) {
	switch {
	case col > 0:
		return line, col - 1
	case line > 0:
		return line - 1, len(e.lines[line-1])
	}
	return line, col
}

func (e *Editor) forth(line, col int) (int, int) {
	switch {
	case col < len(e.lines[line]):
		return line, col + 1
	case line < len(e.lines)-1:
		return line + 1, 0
	}
	return line, col
}

// wordBack and wordForth are where the word before a place begins, and the one behind ends.
func (e *Editor) wordBack() (int, int) {
	line, col := e.Line, e.Col
	for seen := false; ; {
		l, c := e.back(line, col)
		if l == line && c == col {
			return line, col
		}
		in := l == line && inWord(e.lines[l][c])
		if seen && !in {
			return line, col
		}
		seen, line, col = seen || in, l, c
	}
}

func (e *Editor) wordForth() (int, int) {
	line, col := e.Line, e.Col
	for seen := false; ; {
		l, c := e.forth(line, col)
		if l == line && c == col {
			return line, col
		}
		in := l == line && inWord(e.lines[line][col])
		if seen && !in {
			return line, col
		}
		seen, line, col = seen || in, l, c
	}
}

func inWord(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) || r == '_' }

// step moves the cursor by a letter, where there is one.
func (e *Editor) step(line, col int) {
	if line != e.Line || col != e.Col {
		e.MoveTo(line, col)
	}
}

// page is how many lines a page has, for the keys that turn it.
const page = 20

// Press does what a key stands for; what stands for nothing is written, where it is text.
func (e *Editor) Press(k tea.KeyPressMsg) {
	e.begin()
	vertical := func(by int) {
		want := e.want
		e.MoveTo(e.Line+by, want)
		e.want = want
	}
	is := func(b key.Binding) bool { return key.Matches(k, b) }
	switch {
	case is(keys.CharacterForward):
		e.step(e.forth(e.Line, e.Col))
	case is(keys.CharacterBackward):
		e.step(e.back(e.Line, e.Col))
	case is(keys.WordForward), k.String() == "ctrl+right":
		e.MoveTo(e.wordForth())
	case is(keys.WordBackward), k.String() == "ctrl+left":
		e.MoveTo(e.wordBack())
	case is(keys.LineNext):
		vertical(1)
	case is(keys.LinePrevious):
		vertical(-1)
	case is(keys.PageDown):
		vertical(page)
	case is(keys.PageUp):
		vertical(-page)
	case is(keys.LineStart):
		e.MoveTo(e.Line, 0)
	case is(keys.LineEnd):
		e.MoveTo(e.Line, len(e.lines[e.Line]))
	case is(keys.InputBegin):
		e.MoveTo(0, 0)
	case is(keys.InputEnd):
		e.MoveTo(len(e.lines)-1, len(e.lines[len(e.lines)-1]))
	case is(keys.DeleteCharacterBackward):
		line, col := e.back(e.Line, e.Col)
		e.remove(line, col, e.Line, e.Col)
	case is(keys.DeleteCharacterForward):
		line, col := e.forth(e.Line, e.Col)
		e.remove(e.Line, e.Col, line, col)
	case is(keys.DeleteWordBackward):
		line, col := e.wordBack()
		e.remove(line, col, e.Line, e.Col)
	case is(keys.DeleteWordForward):
		line, col := e.wordForth()
		e.remove(e.Line, e.Col, line, col)
	case is(keys.DeleteAfterCursor):
		line, col := e.Line, len(e.lines[e.Line])
		if e.Col == col { // the line end
			line, col = e.forth(line, col)
		}
		e.remove(e.Line, e.Col, line, col)
	case is(keys.DeleteBeforeCursor):
		line, col := e.Line, 0
		if e.Col == 0 { // the line end before
			line, col = e.back(line, col)
		}
		e.remove(line, col, e.Line, e.Col)
	case is(keys.InsertNewline):
		e.Insert("\n")
	case k.Text != "":
		e.Insert(k.Text)
	}
}
