package divide

import (
	"slices"
	"strings"

	"dimlantern/api"
	"dimlantern/core/lang"
	"dimlantern/core/layout"

	tea "charm.land/bubbletea/v2"
)

// draft is the layout that is being made: its text, and the values that were pointed
// at since it was last written by hand.
type draft struct {
	text  string
	marks []api.Mark
}

// undone is what is said then.
const undone = "undone"

// undo goes back to the layout before the last change.
func (w *Page) undo() bool {
	n := len(w.history)
	if n == 0 {
		w.note = "nothing is left to undo"
		return false
	}
	w.draft, w.history = w.history[n-1], w.history[:n-1]
	w.note = undone
	return true
}

func (w *Page) change(d draft) {
	w.history = append(w.history, draft{w.draft.text, slices.Clone(w.draft.marks)})
	w.draft = d
}

// chosen is the line that is worked on; nil where there is none.
func (w *Page) chosen() *api.FieldLine {
	if w.view == nil || w.line >= len(w.view.Lines) {
		return nil
	}
	return &w.view.Lines[w.line]
}

func (w *Page) keepTokens() {
	n := 0
	if l := w.chosen(); l != nil {
		n = len(tokens(l.Raw))
	}
	w.from = min(w.from, max(n-1, 0))
	w.to = min(max(w.to, w.from+1), max(n, 1))
}

// selected is the stretch of the chosen line that is pointed at.
func (w *Page) selected() (line string, start, end int) {
	l := w.chosen()
	if l == nil {
		return "", 0, 0
	}
	t := tokens(l.Raw)
	if len(t) == 0 {
		return l.Raw, 0, 0
	}
	w.keepTokens()
	return l.Raw, t[w.from].start, t[w.to-1].end
}

// fieldAt is the field whose value is pointed at; "" where none is.
func (w *Page) fieldAt() string {
	l := w.chosen()
	if l == nil {
		return ""
	}
	_, start, end := w.selected()
	best := ""
	width := 1 << 30
	for _, s := range l.Spans {
		if s.Start <= start && end <= s.End && s.End-s.Start < width {
			best, width = s.Name, s.End-s.Start
		}
	}
	return best
}

// token is a stretch of a line that can be pointed at.
type token struct{ start, end int }

// tokens cuts a line into what can be pointed at: words with what joins them, numbers,
// and single marks.
func tokens(line string) []token {
	var out []token
	word := func(c byte) bool {
		return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c >= 0x80
	}
	for i := 0; i < len(line); {
		if line[i] == ' ' || line[i] == '\t' {
			i++
			continue
		}
		from := i
		if !word(line[i]) {
			i++
			if (line[from] == '-' || line[from] == '+') && i < len(line) && line[i] >= '0' && line[i] <= '9' &&
				(from == 0 || !word(line[from-1])) {
				for i < len(line) && (word(line[i]) || line[i] == '.' && i+1 < len(line) && word(line[i+1])) {
					i++
				}
			}
			if strings.IndexByte(`,;|[](){}<>"'=:`, line[from]) < 0 { // what only parts values is none
				out = append(out, token{from, i})
			}
			continue
		}
		for i < len(line) && (word(line[i]) || strings.IndexByte(".-@/:,", line[i]) >= 0 && i+1 < len(line) &&
			word(line[i+1]) && (line[i] != ',' || line[i+1] >= '0' && line[i+1] <= '9')) {
			i++
		}
		out = append(out, token{from, i})
	}
	return out
}

// nextFound is the number of the proposal that comes next.
func (w *Page) nextFound() int {
	if w.view != nil && len(w.view.Found) > 0 {
		for i, f := range w.view.Found {
			if f == w.view.Words {
				return i + 2
			}
		}
	}
	return 1
}

// proposed is a name for what is pointed at: that of its field, else the word before
// it, else what it looks like.
func (w *Page) proposed() string {
	line, start, end := w.selected()
	if f := w.fieldAt(); f != "" && f != "text" {
		return f
	}
	if layout.AnyTime(line[start:end]) != nil {
		return "at"
	}
	before := strings.TrimRight(line[:start], " =:\"'([#")
	i := len(before)
	for i > 0 && (before[i-1] >= 'a' && before[i-1] <= 'z' || before[i-1] >= 'A' && before[i-1] <= 'Z' ||
		before[i-1] == '_') {
		i--
	}
	if name := strings.ToLower(before[i:]); len(name) > 1 && !lang.Reserved(name) &&
		(line[start] >= '0' && line[start] <= '9' || len(before) < start) {
		return name
	}
	return ""
}

// names are the names that what is typed may go on as: of the layout, and of our vocabulary.
func (w *Page) names(typed string) []string {
	var list []string
	if w.view != nil {
		for _, f := range w.view.Fields {
			list = append(list, f.Name)
		}
	}
	return going(append(list, layout.Vocabulary()...), typed)
}

// mark adds what was said of a value.
func (w *Page) mark(m api.Mark) {
	w.change(draft{w.draft.text, append(slices.Clone(w.draft.marks), m)})
}

// notThis says that what is pointed at is not a value of its field.
func (w *Page) notThis() tea.Cmd {
	line, start, end := w.selected()
	name := w.fieldAt()
	ours := slices.ContainsFunc(w.draft.marks, func(m api.Mark) bool { return m.Name == name })
	if end <= start || !ours {
		w.note = "point at a value that was found by a name of yours, and that is none"
		return nil
	}
	w.mark(api.Mark{Line: line, Start: start, End: end, Name: name, Not: true})
	return w.ask()
}

// setType writes the type of the field into the layout; "time" makes the value that is
// pointed at the example of the entry's own time.
func (w *Page) setType(typ string) bool {
	if typ == "" || w.view == nil {
		return false
	}
	clause := "type " + w.field + " " + typ
	if rest, ok := strings.CutPrefix(typ, "time"); ok && (rest == "" || strings.HasPrefix(rest, " ")) {
		line, start, end := w.selected()
		for _, s := range w.chosen().Spans {
			if s.Name == w.field {
				start, end = s.Start, s.End
			}
		}
		clause = strings.TrimSpace("time " + w.field + " like " + lang.Quote(line[start:end]) + rest)
	}
	return w.setClause(clause)
}

// setClause writes a clause of a field into the layout.
func (w *Page) setClause(clause string) bool {
	if w.view == nil {
		return false
	}
	f := lang.Parse("", []byte(w.view.Text))
	if !f.SetField("layout", w.view.Layout, clause) {
		w.note = "the layout's text has mistakes: mend it first (e)"
		return false
	}
	w.change(draft{text: f.Format()})
	return true
}
