// Package divide is the page on which the fields of a source are made: its entries with what
// the layout makes of them, a value that is pointed at and named, the values of a field, and
// the layout's text as it will be written.
//
// The files: this one is the page, draft.go the layout that is being made, draw.go its
// entries, and values.go its text and the values of a field.
package divide

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/room"

	"charm.land/bubbles/v2/textarea"
	tea "charm.land/bubbletea/v2"
)

// samples are the entries that can be looked at.
var samples = []string{"usual", "odd", "newest", "misfits"}

// Page is the work on the fields of one origin.
type Page struct {
	stage  *room.Stage
	origin string
	label  string
	view   *api.FieldsView // nil before the first answer
	note   string          // what cannot be, or was, done
	kept   string          // to be said after the next answer

	// asked is the question that is open, stop ends it.
	asked string
	stop  context.CancelFunc

	draft   draft
	history []draft
	sample  int // in samples
	filter  string
	wide    bool // all that is there is looked through, instead of a sample
	detect  int  // which of what was found is to be the layout; 0 is none
	line    int
	from    int // the first chosen token
	to      int // behind the last one
	field   string
	top     int
	saving  bool
	writing bool // the layout is written by hand
	area    textarea.Model
	drawn   struct { // where things were drawn last, for the mouse
		y, w int
		tabs [][2]int
	}
	aside bool // where there is no room for both, the values stand instead of the layout
}

// Open lays the page of an origin, which is called so, over what is shown.
func Open(s *room.Stage, origin, label string) tea.Cmd { return OpenAt(s, origin, label, "") }

// OpenAt is Open with the values of a field.
func OpenAt(s *room.Stage, origin, label, field string) tea.Cmd {
	w := &Page{stage: s, origin: origin, label: label, to: 1, field: field, aside: field != "", area: textarea.New()}
	w.area.ShowLineNumbers = false
	w.area.Prompt = ""
	w.area.CharLimit = 0
	if d, ok := s.Draft(draftOf(origin)); ok {
		w.history = []draft{{}}
		w.draft = draft{text: d.Text}
		w.kept = "the layout that was not written is here again: ^s writes it, u leaves it"
	}
	s.Lay(w)
	return w.ask()
}

// How long an answer may take, of a sample and of all that is there, and how many lines are
// asked for at least.
const (
	patience     = 20 * time.Second
	widePatience = 10 * time.Minute
	leastLines   = 40
)

// ask asks what the layout makes of the entries. What was asked before and was not answered
// yet is not wanted any more.
func (w *Page) ask() tea.Cmd {
	q := w.query()
	asked := fmt.Sprint(q, time.Now().UnixNano())
	w.asked = asked
	if w.stop != nil {
		w.stop()
	}
	wait := patience
	if q.Wide {
		wait = widePatience
		w.note = "looking through all that is there; esc stops it"
	}
	ctx, cancel := context.WithCancel(context.Background())
	w.stop = cancel
	return room.AskContext(ctx, w.stage, api.DoFields, q, wait, func(v *api.FieldsView, err error) tea.Cmd {
		cancel()
		if asked != w.asked || !w.stage.Lies(w) {
			return nil
		}
		return w.answered(v, err)
	})
}

// query is what is to be asked now.
func (w *Page) query() api.FieldsQuery {
	return api.FieldsQuery{Origin: w.origin, Text: w.draft.text, Marks: w.draft.marks, Which: samples[w.sample],
		Filter: w.filter, Wide: w.wide, Lines: max(w.stage.H, leastLines), Field: w.field, Detect: w.detect,
		Write: w.saving}
}

// answered takes an answer in.
func (w *Page) answered(v *api.FieldsView, err error) tea.Cmd {
	w.saving = false
	if err != nil {
		w.note = err.Error()
		return nil
	}
	marks := len(w.draft.marks)
	if w.detect > 0 { // what was found goes on as a text
		w.draft = draft{text: v.Text}
		w.detect = 0
	}
	w.view = v
	if !v.Done {
		w.keep()
	}
	w.line = min(w.line, max(len(v.Lines)-1, 0))
	w.keepTokens()
	if v.Words != "" {
		if len(w.draft.marks) > 0 && len(v.Parts) == 0 { // they could not be taken
			w.undo()
		}
		w.note = v.Words
	} else if w.note != undone {
		w.note = ""
	}
	if w.kept != "" {
		w.note, w.kept = w.kept, ""
	}
	switch {
	case v.Done:
		w.stage.Keep(api.Draft{Name: draftOf(w.origin)})
		w.stage.Say(fmt.Sprintf("layout %s is written into %s, and taken up", v.Layout, v.File))
		return w.stage.Back()
	case marks > len(w.draft.marks): // what could not be taken is not asked for again
		w.kept = w.note
		return w.ask()
	}
	return nil
}

// Update is part of room.Room.
func (w *Page) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.KeyPressMsg, tea.PasteMsg:
		if !w.writing {
			return nil
		}
		was := w.area.Value()
		w.area, _ = w.area.Update(msg)
		if now := w.area.Value(); now != was {
			w.change(draft{text: now + "\n"})
			return w.ask()
		}
	case tea.MouseClickMsg:
		return w.point(msg.X, msg.Y, false)
	case tea.MouseMotionMsg:
		if msg.Button == tea.MouseLeft {
			return w.point(msg.X, msg.Y, true)
		}
	}
	return nil
}

// Keys is part of room.Room.
func (w *Page) Keys() room.Keys {
	if w.writing {
		return room.Keys{Where: "writing the layout", Alone: true, List: []room.Key{
			room.Do("ctrl+s", func() tea.Cmd { w.byHand(false); return w.save() }).
				Said("write it into the settings", "write it"),
			room.Now("esc", func() { w.byHand(false) }).Said("back to the lines", "back"),
		}}
	}
	return room.Keys{Where: "pointing", Alone: true, List: []room.Key{
		room.On("up down shift+up shift+down pgup pgdown", func(name string) tea.Cmd {
			return w.choose(room.Steps(name, max(w.stage.H/2, 5)))
		}).Marked("↑↓").
			Told("another line; below the chosen one stand the names of its fields, or why it does not fit"),
		room.On("left right", func(name string) tea.Cmd { return w.step(name == "right") }).Said("value", "value").
			Told("the value before, the one behind; a click points as well"),
		room.On("home end", func(name string) tea.Cmd {
			w.from = map[string]int{"home": 0, "end": 1 << 20}[name]
			w.keepTokens()
			w.to = w.from + 1
			return w.pointed()
		}),
		room.On("shift+left shift+right", func(name string) tea.Cmd { return w.stretch(name == "shift+right") }).
			Marked("shift ←→").Told("take one word less, one more; drag with the mouse"),
		room.Now("enter n", w.askName).Marked("enter").Said("name it", "name").
			Told("name what is pointed at: a pattern is built that finds it on all lines of its kind; the same name " +
				"on a further line makes the pattern fit both; two names on one line give one pattern"),
		room.Do("x", w.notThis).Said("not this", "").
			Told("this is not one: the pattern is narrowed until it does not find it"),
		room.On("1 2 3 4 5 6 7 8 9", func(name string) tea.Cmd {
			w.from = int(name[0] - '1')
			w.to = w.from + 1
			return w.pointed()
		}).Marked("1 9").Told("the first word of the line, the second and so on"),
		room.Now("m", w.askMask).Said("mask", "").
			Told("mask the field: nobody is shown its values, or only their beginning or end"),
		room.Now("t", w.askType).Said("type", "type").
			Told("the type of the field: integer, decimal, duration in ms, address; time makes this value the " +
				"example of the entry's time"),
		room.Now("v", func() { w.aside = !w.aside }).Said("", "values").
			Told("in a narrow window: the values instead of the layout"),
		room.Do("d", w.find).Said("detect", "").
			Told("detect: what fits these lines, the best first; again for the next"),
		room.Now("e", func() { w.byHand(true) }).Said("by hand", "").
			Told("write the layout by hand; esc comes back"),
		room.Do("u ctrl+z", w.takeBack).Marked("u").Said("undo", "undo").Told("undo, as often as you like"),
		room.On("tab shift+tab", func(name string) tea.Cmd { return w.turn(name == "tab") }).Marked("tab").
			Said("lines", "lines").Told("lines of usual shapes, of odd ones, the newest, those that do not fit"),
		room.Do("w", func() tea.Cmd { w.wide = !w.wide; return w.ask() }).
			Told("look through all that is there instead of a sample; esc stops it"),
		room.Now("/", w.askFilter).Said("find", "").Told("only lines that have these words"),
		room.Do("ctrl+s", w.save).Said("write", "write").
			Told("write the layout into the settings; its comments stay"),
		room.Do("esc", w.leave).Said("back", "back").Told("back to the sources; nothing is written"),
		room.Do("?", func() tea.Cmd { return room.Send(room.AskHelp{}) }).Said("help", "help"),
	}}
}

// Help is part of room.Explained.
func (w *Page) Help() room.Help {
	return room.Help{Title: "fields", About: "what the entries of a source divide into: above its lines, below the " +
		"layout as it will be written, and the values",
		Last: "bright is what a field has, dim what belongs to none; what does not fit is amber"}
}

// leave goes back to the sample, to all lines, or to what lies below.
func (w *Page) leave() tea.Cmd {
	switch {
	case w.wide:
		w.wide = false
		return w.ask()
	case w.filter != "":
		w.filter = ""
		return w.ask()
	}
	if w.stop != nil {
		w.stop()
	}
	if w.keep() {
		w.stage.Say("nothing is written; the layout is kept, and l offers it again")
	}
	return w.stage.Back()
}

// draftOf is how the layout of an origin is called among what is not written.
func draftOf(origin string) string { return "the layout of " + origin }

// keep keeps a layout that is not written, to be offered again; it answers whether there is one.
func (w *Page) keep() bool {
	d := api.Draft{Name: draftOf(w.origin)}
	if w.view != nil && w.view.Changed && (w.draft.text != "" || len(w.draft.marks) > 0) {
		d.Text = w.view.Text
	}
	w.stage.Keep(d)
	return d.Text != ""
}

// pointed asks anew where another field is pointed at than before.
func (w *Page) pointed() tea.Cmd {
	w.keepTokens()
	if f := w.fieldAt(); f != "" && f != w.field {
		w.field = f
		return w.ask()
	}
	return nil
}

// choose chooses the line that many lines below.
func (w *Page) choose(by int) tea.Cmd {
	if w.view != nil {
		w.line = min(max(w.line+by, 0), max(len(w.view.Lines)-1, 0))
	}
	return w.pointed()
}

// step points at the value behind, or before.
func (w *Page) step(on bool) tea.Cmd {
	if on {
		w.from++
	} else {
		w.from = max(w.from-1, 0)
	}
	w.to = w.from + 1
	w.keepTokens()
	w.to = w.from + 1
	return w.pointed()
}

// stretch takes one word more, or less.
func (w *Page) stretch(more bool) tea.Cmd {
	if more {
		w.to++
	} else {
		w.to = max(w.to-1, w.from+1)
	}
	return w.pointed()
}

// turn shows the next sample, or the one before.
func (w *Page) turn(on bool) tea.Cmd {
	by := 1
	if !on {
		by = len(samples) - 1
	}
	return w.show((w.sample + by) % len(samples))
}

func (w *Page) show(sample int) tea.Cmd {
	w.sample, w.line, w.top = sample, 0, 0
	return w.ask()
}

// find takes the next of what fits these lines.
func (w *Page) find() tea.Cmd {
	w.detect = w.nextFound()
	w.change(draft{text: w.draft.text})
	return w.ask()
}

// save has the layout written.
func (w *Page) save() tea.Cmd {
	if w.view != nil && !w.view.Changed {
		w.note = "nothing has changed: this is what is written already"
		return nil
	}
	w.saving = true
	return w.ask()
}

// takeBack undoes the last change.
func (w *Page) takeBack() tea.Cmd {
	if !w.undo() {
		return nil
	}
	return w.ask()
}

// byHand begins to write the layout by hand, or ends it.
func (w *Page) byHand(on bool) {
	if w.view == nil {
		return
	}
	w.writing = on
	if !on {
		w.area.Blur()
		return
	}
	w.area.SetValue(strings.TrimRight(w.view.Text, "\n"))
	w.area.Focus()
}

// prompt asks for a word, of which some are offered.
func (w *Page) prompt(label, text string, offered bool, words func(typed string) []string,
	then func(string) tea.Cmd) {
	hint := func(typed string) string {
		h := "enter   esc leave it"
		if list := words(typed); len(list) > 0 {
			h = "tab " + strings.Join(list[:min(len(list), 6)], ", ") + "   " + h
		}
		return h
	}
	s := w.stage
	s.Prompt(room.Prompt{Label: label, Hint: hint(text), Offered: offered,
		Next: func(p *room.Prompt) tea.Cmd {
			if list := words(p.Text()); len(list) > 0 {
				p.SetText(list[0])
				p.Hint = hint(list[0])
			}
			return nil
		},
		Changed: func(typed string) tea.Cmd { s.Typed.Hint = hint(typed); return nil },
		Then:    func(typed string) tea.Cmd { return then(strings.TrimSpace(typed)) }}, text)
}

// going is those of some words that go on from what is typed.
func going(list []string, typed string) (out []string) {
	for _, x := range list {
		if strings.HasPrefix(x, typed) && x != typed && !slices.Contains(out, x) {
			out = append(out, x)
		}
	}
	return out
}

// askName asks how what is pointed at is called.
func (w *Page) askName() {
	line, start, end := w.selected()
	if end <= start {
		return
	}
	w.prompt("call "+entry.Visible(line[start:min(end, start+40)]), w.proposed(), true, w.names,
		func(name string) tea.Cmd {
			if name == "" {
				return nil
			}
			w.mark(api.Mark{Line: line, Start: start, End: end, Name: name})
			w.field = name
			return w.ask()
		})
}

// types are the types that are offered for a field.
var types = []string{"integer", "decimal", "duration", "duration in ms", "duration in s", "address", "time", "boolean",
	"text"}

// askType asks for the type of the field that is pointed at, or, of a time, makes what is
// pointed at the example.
func (w *Page) askType() {
	f := w.fieldAt()
	if f == "" {
		w.note = "point at a field's value, then say its type"
		return
	}
	w.field = f
	w.prompt(f+" is", "", false, func(typed string) []string { return going(types, typed) }, func(typ string) tea.Cmd {
		if !w.setType(typ) {
			return nil
		}
		return w.ask()
	})
}

// masks are the ways in which a field can be masked, as the prompt has them.
var masks = []string{"whole", "keep first 2", "keep last 4", "as token"}

// askMask asks how the field that is pointed at is to be masked.
func (w *Page) askMask() {
	f := w.fieldAt()
	if f == "" {
		w.note = "point at a field's value, then mask it"
		return
	}
	w.field = f
	w.prompt("mask "+f, "whole", true, func(typed string) []string { return going(masks, typed) },
		func(how string) tea.Cmd {
			if how == "" || !w.setClause(strings.TrimSpace("mask "+f+" "+strings.TrimPrefix(how, "whole"))) {
				return nil
			}
			return w.ask()
		})
}

// askFilter asks for what the lines must have.
func (w *Page) askFilter() {
	w.stage.Prompt(room.Prompt{Label: "lines that have", Hint: "enter show them   esc leave it",
		Then: func(words string) tea.Cmd {
			w.filter, w.line, w.top = strings.TrimSpace(words), 0, 0
			return w.ask()
		}}, w.filter)
}
