// Package divide is the work on the fields of a source: its entries with what the
// layout makes of them, a value that is pointed at and named, the values of a field,
// and the layout's text as it will be written.
//
// Views come in, drawings and questions go out. It asks nothing itself.
package divide

import (
	"slices"
	"strings"

	"dimlantern/api"

	"charm.land/bubbles/v2/textarea"
	tea "charm.land/bubbletea/v2"

	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

// Whiches are the samples that can be looked at.
var Whiches = []string{"usual", "odd", "newest", "misfits"}

// Mode is what the keys do.
type Mode int

// The modes.
const (
	Pointing Mode = iota // choosing lines and values
	Naming               // typing the name of a value
	Typing               // typing the type of a field
	Finding              // typing what the lines must have
	Writing              // writing the layout by hand
)

// Work is the state of the work on the fields of one origin.
type Work struct {
	Origin, Label string
	Mode          Mode
	Input         string
	Note          string
	View          *api.FieldsView

	draft   draft
	history []draft
	which   int
	filter  string
	wide    bool
	detect  int
	line    int
	from    int // the first chosen token
	to      int // behind the last one
	field   string
	top     int
	saving  bool
	area    textarea.Model
	drawnAt int
	tabs    [][2]int
	aside   bool   // where there is no room for both, the values stand instead of the layout
	offered bool   // the input is a proposal: what is typed takes its place
	kept    string // to be said after the next answer
}

// draft is the layout that is being made: its text, and the values that were pointed
// at since it was last written by hand.
type draft struct {
	text  string
	marks []api.Mark
}

// Start begins the work on an origin.
func Start(origin, label string) *Work {
	w := &Work{Origin: origin, Label: label, to: 1}
	w.area = textarea.New()
	w.area.ShowLineNumbers = false
	w.area.Prompt = ""
	w.area.CharLimit = 0
	return w
}

// Query is what is to be asked now.
func (w *Work) Query(lines int) api.FieldsQuery {
	return api.FieldsQuery{Origin: w.Origin, Text: w.draft.text, Marks: w.draft.marks, Which: Whiches[w.which],
		Filter: w.filter, Wide: w.wide,
		Lines: lines, Field: w.field, Detect: w.detect, Write: w.saving}
}

// Wide tells whether all that is there is asked for, which takes longer.
func (w *Work) Wide() bool { return w.wide }

// Take takes an answer in; it answers true where the layout was written.
func (w *Work) Take(v *api.FieldsView, err error) bool {
	w.saving = false
	if err != nil {
		w.Note = err.Error()
		return false
	}
	if w.detect > 0 { // what was found goes on as a text
		w.draft = draft{text: v.Text}
		w.detect = 0
	}
	w.View = v
	w.line = min(w.line, max(len(v.Lines)-1, 0))
	w.keepTokens()
	if v.Words != "" {
		w.Note = v.Words
		if n := len(w.draft.marks); n > 0 && w.failed(v) {
			w.Undo()
			w.Note = v.Words
		}
	} else if w.Note != "undone" {
		w.Note = ""
	}
	if w.kept != "" {
		w.Note, w.kept = w.kept, ""
	}
	return v.Done
}

// Kept keeps what is to be said over the answer that comes.
func (w *Work) Kept(words string) { w.kept = words }

// failed tells whether the marks could not be taken.
func (w *Work) failed(v *api.FieldsView) bool {
	return len(w.draft.marks) > 0 && len(v.Parts) == 0
}

// Undo goes back to the layout before the last change.
func (w *Work) Undo() bool {
	n := len(w.history)
	if n == 0 {
		w.Note = "nothing is left to undo"
		return false
	}
	w.draft, w.history = w.history[n-1], w.history[:n-1]
	w.Note = "undone"
	return true
}

func (w *Work) change(d draft) {
	w.history = append(w.history, draft{w.draft.text, slices.Clone(w.draft.marks)})
	w.draft = d
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
			out = append(out, token{from, i})
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

// chosen is the line that is worked on; nil where there is none.
func (w *Work) chosen() *api.FieldLine {
	if w.View == nil || w.line >= len(w.View.Lines) {
		return nil
	}
	return &w.View.Lines[w.line]
}

func (w *Work) keepTokens() {
	n := 0
	if l := w.chosen(); l != nil {
		n = len(tokens(l.Raw))
	}
	w.from = min(w.from, max(n-1, 0))
	w.to = min(max(w.to, w.from+1), max(n, 1))
}

// Selected is the stretch of the chosen line that is pointed at.
func (w *Work) Selected() (line string, start, end int) {
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

// FieldAt is the field whose value is pointed at; "" where none is.
func (w *Work) FieldAt() string {
	l := w.chosen()
	if l == nil {
		return ""
	}
	_, start, end := w.Selected()
	best := ""
	width := 1 << 30
	for _, s := range l.Spans {
		if s.Start <= start && end <= s.End && s.End-s.Start < width {
			best, width = s.Name, s.End-s.Start
		}
	}
	return best
}

// Key does what a key stands for. Ask tells that there is something to ask, leave that
// the work is over.
func (w *Work) Key(k tea.KeyPressMsg, page int) (ask, leave bool, cmd tea.Cmd) {
	switch w.Mode {
	case Naming, Typing, Finding:
		return w.typed(k), false, nil
	case Writing:
		return w.writing(k)
	}
	before := w.field
	switch k.String() {
	case "esc":
		switch {
		case w.wide:
			w.wide = false
			return true, false, nil
		case w.filter != "":
			w.filter = ""
			return true, false, nil
		}
		return false, true, nil
	case "up", "down", "shift+up", "shift+down", "pgup", "pgdown":
		by := map[string]int{"up": -1, "down": 1, "shift+up": -10, "shift+down": 10, "pgup": -page,
			"pgdown": page}[k.String()]
		if w.View != nil {
			w.line = min(max(w.line+by, 0), max(len(w.View.Lines)-1, 0))
		}
		w.keepTokens()
	case "left":
		w.from = max(w.from-1, 0)
		w.to = w.from + 1
	case "right":
		w.from++
		w.to = w.from + 1
		w.keepTokens()
		w.to = w.from + 1
	case "shift+right":
		w.to++
		w.keepTokens()
	case "shift+left":
		w.to = max(w.to-1, w.from+1)
	case "home":
		w.from, w.to = 0, 1
	case "end":
		w.from = 1 << 20
		w.keepTokens()
		w.to = w.from + 1
	case "tab", "shift+tab":
		by := 1
		if k.String() == "shift+tab" {
			by = len(Whiches) - 1
		}
		w.which = (w.which + by) % len(Whiches)
		w.line, w.top = 0, 0
		return true, false, nil
	case "enter", "n":
		if _, start, end := w.Selected(); end > start {
			w.Mode, w.Input, w.offered = Naming, w.proposed(), true
		}
	case "x":
		return w.notThis(), false, nil
	case "t":
		w.startTyping()
	case "u":
		return w.Undo(), false, nil
	case "d":
		w.detect = w.nextFound()
		w.change(draft{text: w.draft.text})
		return true, false, nil
	case "e":
		if w.View != nil {
			w.Mode = Writing
			w.area.SetValue(strings.TrimRight(w.View.Text, "\n"))
			return false, false, w.area.Focus()
		}
	case "v":
		w.aside = !w.aside
	case "w":
		w.wide = !w.wide
		return true, false, nil
	case "/":
		w.Mode, w.Input = Finding, w.filter
	case "ctrl+s":
		if w.View != nil && !w.View.Changed {
			w.Note = "nothing has changed: this is what is written already"
			break
		}
		w.saving = true
		return true, false, nil
	default:
		return false, false, nil
	}
	if f := w.FieldAt(); f != "" {
		w.field = f
	}
	return w.field != before, false, nil
}

// nextFound is the number of the proposal that comes next.
func (w *Work) nextFound() int {
	if w.View != nil && len(w.View.Found) > 0 {
		for i, f := range w.View.Found {
			if f == w.View.Words {
				return i + 2
			}
		}
	}
	return 1
}

// proposed is a name for what is pointed at: that of its field, else the word before
// it, else what it looks like.
func (w *Work) proposed() string {
	line, start, end := w.Selected()
	if f := w.FieldAt(); f != "" && f != "text" {
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

// typed takes a key into the line that is being typed.
func (w *Work) typed(k tea.KeyPressMsg) bool {
	switch k.String() {
	case "esc":
		w.Mode = Pointing
		return false
	case "backspace":
		if r := []rune(w.Input); len(r) > 0 {
			w.Input = string(r[:len(r)-1])
		}
	case "ctrl+u":
		w.Input = ""
	case "tab":
		if c := w.Completions(); len(c) > 0 {
			w.Input = c[0]
		}
	case "enter":
		mode := w.Mode
		w.Mode = Pointing
		switch mode {
		case Finding:
			w.filter = strings.TrimSpace(w.Input)
			w.line, w.top = 0, 0
			return true
		case Naming:
			return w.name(strings.TrimSpace(w.Input))
		}
		return w.setType(strings.TrimSpace(w.Input))
	default:
		if k.Text != "" {
			if w.offered {
				w.Input = ""
			}
			w.Input += k.Text
		}
	}
	w.offered = false
	return false
}

// Completions are what the input may go on as: names of our vocabulary, or types.
func (w *Work) Completions() []string {
	var list, out []string
	switch w.Mode {
	case Naming:
		if w.View != nil {
			for _, f := range w.View.Fields {
				list = append(list, f.Name)
			}
		}
		list = append(list, layout.Vocabulary()...)
	case Typing:
		list = []string{"integer", "decimal", "duration", "duration in ms", "duration in s", "address", "time",
			"boolean", "text"}
	}
	for _, x := range list {
		if strings.HasPrefix(x, w.Input) && x != w.Input && !slices.Contains(out, x) {
			out = append(out, x)
		}
	}
	return out
}

// name says how what is pointed at is called.
func (w *Work) name(name string) bool {
	line, start, end := w.Selected()
	if name == "" || end <= start {
		return false
	}
	w.change(draft{w.draft.text, append(slices.Clone(w.draft.marks),
		api.Mark{Line: line, Start: start, End: end, Name: name})})
	w.field = name
	return true
}

// notThis says that what is pointed at is not a value of its field.
func (w *Work) notThis() bool {
	line, start, end := w.Selected()
	name := w.FieldAt()
	ours := slices.ContainsFunc(w.draft.marks, func(m api.Mark) bool { return m.Name == name })
	if end <= start || !ours {
		w.Note = "point at a value that was found by a name of yours, and that is none"
		return false
	}
	w.change(draft{w.draft.text, append(slices.Clone(w.draft.marks),
		api.Mark{Line: line, Start: start, End: end, Name: name, Not: true})})
	return true
}

// startTyping asks for the type of the field that is pointed at, or, of a time, makes
// what is pointed at the example.
func (w *Work) startTyping() {
	f := w.FieldAt()
	if f == "" {
		w.Note = "point at a field's value, then say its type"
		return
	}
	w.field = f
	w.Mode, w.Input = Typing, ""
}

// setType writes the type of the field into the layout; "time" makes the value that is
// pointed at the example of the entry's own time.
func (w *Work) setType(typ string) bool {
	if typ == "" || w.View == nil {
		return false
	}
	clause := "type " + w.field + " " + typ
	if rest, ok := strings.CutPrefix(typ, "time"); ok && (rest == "" || strings.HasPrefix(rest, " ")) {
		line, start, end := w.Selected()
		for _, s := range w.chosen().Spans {
			if s.Name == w.field {
				start, end = s.Start, s.End
			}
		}
		clause = strings.TrimSpace("time " + w.field + " like " + lang.Quote(line[start:end]) + rest)
	}
	f := lang.Parse("", []byte(w.View.Text))
	if !f.SetField("layout", w.View.Layout, clause) {
		w.Note = "the layout's text has mistakes: mend it first (e)"
		return false
	}
	w.change(draft{text: f.Format()})
	return true
}

// writing takes a key into the layout's text.
func (w *Work) writing(k tea.KeyPressMsg) (ask, leave bool, cmd tea.Cmd) {
	switch k.String() {
	case "esc":
		w.Mode = Pointing
		w.area.Blur()
		return false, false, nil
	case "ctrl+s":
		w.saving = true
		w.Mode = Pointing
		w.area.Blur()
		return true, false, nil
	}
	before := w.area.Value()
	w.area, cmd = w.area.Update(k)
	if now := w.area.Value(); now != before {
		w.change(draft{text: now + "\n"})
		return true, false, cmd
	}
	return false, false, cmd
}

// Paste takes a text that was pasted.
func (w *Work) Paste(s string) bool {
	if w.Mode != Writing {
		if w.Mode != Pointing {
			w.Input += strings.Map(func(r rune) rune {
				if r < 0x20 || r == 0x7f {
					return -1
				}
				return r
			}, s)
		}
		return false
	}
	w.area.InsertString(s)
	w.change(draft{text: w.area.Value() + "\n"})
	return true
}
