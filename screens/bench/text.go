package bench

import (
	"strings"

	"dimlantern/core/lang"
	"dimlantern/screens/typing"

	tea "charm.land/bubbletea/v2"
)

// text is the file that is open, with what is typed into it. The zero value is none.
type text struct {
	file, was string // that is open, and what stood in it
	fresh     bool   // it is not there yet
	began     string // what stood there when it was opened, before anything was typed
	area      typing.Editor
	undo      []draft
	redo      []draft
	top       int    // the first line that is seen
	sought    string // what was searched for last
}

type draft struct {
	text      string
	line, col int
}

// Open takes a file in, with the cursor on a line of it, from 1.
func (t *text) Open(file, body string, line int, fresh bool) {
	*t = text{file: file, was: body, fresh: fresh, top: max(line-2, 0)}
	t.set(draft{body, line - 1, 0})
	t.began = t.Body()
}

// Offer lets redo bring a text.
func (t *text) Offer(text string) { t.redo = []draft{{text, 0, 0}} }

// Body is the text as it is.
func (t *text) Body() string { return t.area.Value() }

// Line is where the cursor stands, from 1, and Column how many characters stand before it.
func (t *text) Line() int   { return t.area.Line + 1 }
func (t *text) Column() int { return t.area.Col }

// Canonical brings the blocks that were touched into their one form, where the text has no errors; the
// cursor stays in its clause.
func (t *text) Canonical() {
	text := lang.Tidied(t.was, t.Body())
	if text == t.Body() {
		return
	}
	d := t.now()
	word := strings.Join(strings.Fields(lineOf(d.text, d.line)), " ")
	t.remember(d)
	for i, l := range strings.Split(text, "\n") {
		if strings.Join(strings.Fields(l), " ") == word && i >= d.line-3 {
			d.line = i
			break
		}
	}
	t.set(draft{text, d.line, d.col})
}

// Changed tells whether the text differs from the file.
func (t *text) Changed() bool { return t.fresh || t.Body() != t.was }

// Fresh tells whether the file is not there yet; it is called as its first rule is.
func (t *text) Fresh() bool { return t.fresh }

// Saved notes that a file now has a text.
func (t *text) Saved(file, body string) { t.file, t.was, t.fresh = file, body, false }

// Name is the name of the first rule of the text; "" where there is none.
func (t *text) Name() string {
	for _, p := range lang.Parse(t.file, []byte(t.Body())).Places() {
		if p.Kind == "rule" {
			return p.Name
		}
	}
	return ""
}

func (t *text) now() draft { return draft{t.Body(), t.area.Line, t.area.Col} }

func (t *text) set(d draft) {
	t.area.SetValue(strings.TrimRight(d.text, "\n") + "\n")
	t.area.MoveTo(d.line, d.col)
}

// Replace puts a text in the place of what is there; it can be undone.
func (t *text) Replace(text string, line int) {
	t.remember(t.now())
	t.set(draft{text, line - 1, 0})
}

func (t *text) remember(d draft) {
	if n := len(t.undo); n == 0 || t.undo[n-1].text != d.text {
		t.undo = append(t.undo, d)
	}
	t.redo = nil
}

// Type takes a key into the text; it answers whether the text or the cursor has changed.
func (t *text) Type(k tea.KeyPressMsg) (changed bool) {
	before := t.now()
	switch k.String() {
	case "ctrl+z":
		return t.back(&t.undo, &t.redo)
	case "ctrl+r":
		return t.back(&t.redo, &t.undo)
	case "alt+up", "alt+down":
		if text, col, ok := lang.Stepped(lineOf(before.text, before.line), before.col, k.String() == "alt+up"); ok {
			lines := strings.Split(before.text, "\n")
			lines[before.line] = text
			t.remember(before)
			t.set(draft{strings.Join(lines, "\n"), before.line, col})
			return true
		}
		return false
	case "enter": // the next line begins as deep as this one
		line := lineOf(before.text, before.line)
		indent := line[:len(line)-len(strings.TrimLeft(line, " "))]
		if strings.HasSuffix(strings.TrimRight(line[:min(before.col, len(line))], " "), "{") {
			indent += "  "
		}
		t.remember(before)
		t.area.Insert("\n" + indent)
		return true
	}
	t.area.Press(k)
	after := t.now()
	if after.text != before.text {
		t.remember(before)
	}
	return after != before
}

// Paste takes a text of several lines.
func (t *text) Paste(s string) {
	t.remember(t.now())
	t.area.Insert(s)
}

func (t *text) back(from, to *[]draft) bool {
	n := len(*from)
	if n == 0 {
		return false
	}
	*to = append(*to, t.now())
	d := (*from)[n-1]
	*from = (*from)[:n-1]
	t.set(d)
	return true
}

// Undo takes the last change back.
func (t *text) Undo() bool { return t.back(&t.undo, &t.redo) }

func lineOf(text string, n int) string {
	lines := strings.Split(text, "\n")
	if n < 0 || n >= len(lines) {
		return ""
	}
	return lines[n]
}

// Search moves the cursor to the next place behind it that has some words, capitals or
// not; false where there is none.
func (t *text) Search(words string) bool {
	t.sought = words
	lines := strings.Split(strings.ToLower(t.Body()), "\n")
	words = strings.ToLower(words)
	if words == "" {
		return true
	}
	at := t.area.Line
	for n := 0; n <= len(lines); n++ {
		i := (at + n) % len(lines)
		from := 0
		if n == 0 {
			from = min(t.area.Col+1, len([]rune(lines[i])))
		}
		rest := string([]rune(lines[i])[from:])
		if k := strings.Index(rest, words); k >= 0 {
			t.set(draft{t.Body(), i, from + len([]rune(rest[:k]))})
			return true
		}
	}
	return false
}
