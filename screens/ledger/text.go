package ledger

import (
	"strings"

	"dimlantern/core/lang"
	"dimlantern/screens/typing"

	tea "charm.land/bubbletea/v2"
)

// text is the question that is typed. The zero value is an empty one.
type text struct {
	area typing.Editor
	undo []state
	redo []state
}

type state struct {
	text      string
	line, col int
}

func (t *text) body() string { return t.area.Value() }

func (t *text) now() state { return state{t.body(), t.area.Line, t.area.Col} }

func (t *text) set(s state) {
	t.area.SetValue(s.text)
	t.area.MoveTo(s.line, s.col)
}

func (t *text) remember(s state) {
	if n := len(t.undo); n == 0 || t.undo[n-1].text != s.text {
		t.undo = append(t.undo, s)
	}
	t.redo = nil
}

// replace puts a text in the place of what is there; it can be undone.
func (t *text) replace(body string) {
	if body == t.body() {
		return
	}
	t.remember(t.now())
	lines := strings.Split(body, "\n")
	t.set(state{body, len(lines) - 1, len([]rune(lines[len(lines)-1]))})
}

func (t *text) paste(s string) {
	t.remember(t.now())
	t.area.Insert(s)
}

// press takes a key in; it answers whether the text or the cursor has changed.
func (t *text) press(k tea.KeyPressMsg) bool {
	was := t.now()
	switch k.String() {
	case "ctrl+z":
		return t.back(&t.undo, &t.redo)
	case "ctrl+r":
		return t.back(&t.redo, &t.undo)
	case "alt+up", "alt+down":
		lines := strings.Split(was.text, "\n")
		line, col, ok := lang.Stepped(lines[was.line], was.col, k.String() == "alt+up")
		if ok {
			lines[was.line] = line
			t.remember(was)
			t.set(state{strings.Join(lines, "\n"), was.line, col})
		}
		return ok
	}
	t.area.Press(k)
	if t.body() != was.text {
		t.remember(was)
	}
	return t.now() != was
}

func (t *text) back(from, to *[]state) bool {
	n := len(*from)
	if n == 0 {
		return false
	}
	*to = append(*to, t.now())
	s := (*from)[n-1]
	*from = (*from)[:n-1]
	t.set(s)
	return true
}

// complete writes a word in the place of its begin.
func (t *text) complete(word string, typed int) {
	t.remember(t.now())
	rest := string([]rune(word)[min(typed, len([]rune(word))):])
	t.area.Insert(rest + " ")
}
