package ledger

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/put"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

// Keys is part of room.Room.
func (r *Room) Keys() room.Keys {
	switch r.pane {
	case askText:
		return r.textKeys()
	case askList:
		return r.listKeys()
	}
	return r.pictureKeys()
}

// Help is part of room.Explained.
func (r *Room) Help() room.Help {
	p := r.stage.Palette
	return room.Help{
		Title: "ledger",
		About: "looking back: any question to what was logged, answered as it is typed, from the " +
			"files where they lie",
		Marks: []room.Mark{
			{Text: "█", Style: base(p).With(p.Text), Says: "the number of the chosen group, large and in its row"},
			{
				Text:  "▄",
				Style: base(p).With(p.Tide),
				Says:  "the numbers of the other groups, each by its own greatest",
			},
			{Text: "┅", Style: base(p).With(p.Blind), Says: "what stands beside: the same span so much earlier"},
			{
				Text:  "╌",
				Style: base(p).With(p.Severity[entry.Warning]),
				Says: "where a rule raises that looks at the same number " +
					"over the same time",
			},
			{
				Text:  "╱",
				Style: base(p).With(p.Blind),
				Says: "what could not be seen then, or is not there any more; blank is " +
					"read and empty",
			},
		},
		Keys: []room.Keys{r.listKeys(), r.textKeys(), r.pictureKeys()},
		Last: "a question: on SOURCES where EXPR show COLUMNS per FIELDS every 10m over 24h beside 7d ago most 10",
	}
}

// listKeys are the keys among what can be asked.
func (r *Room) listKeys() room.Keys {
	return room.Keys{Where: "choosing a question", List: []room.Key{
		room.Move(10, r.move).Said("which", "which"),
		room.Do("enter", r.openAsk).Said("ask it", "ask").Told("ask the chosen question"),
		room.Do("a", r.toText).Said("type one", "type").Told("type a question of your own"),
		room.Do("tab", r.toText),
		room.Do("e", r.editAsk).Told("the question's text in its settings file, on the bench"),
		room.Do("R", r.askReports).Said("reports", "reports").Told("the reports: make, write or tell one"),
		room.Do("backspace", r.comeBack).Said("", "").Told("comes back to where one was"),
	}}
}

// textKeys are the keys in the text: all others type.
func (r *Room) textKeys() room.Keys {
	return room.Keys{Where: "typing a question", Alone: true, List: []room.Key{
		room.Now("esc", r.toPicture).Said("to the answer", "answer").Told("to the answer; all other keys type"),
		room.Do("tab", r.complete).Said("complete", "complete").Told("takes the first word that is proposed"),
		room.On("ctrl+z ctrl+r", nil).Marked("^z ^r").Said("undo, redo", "undo").Told("undo, redo"),
		room.On("alt+up alt+down", nil).Marked("alt ↑↓").Said("change a number", "").
			Told("the number or the duration at the cursor, by a sensible step"),
		room.Do("ctrl+s", r.keep).Needs(api.Change).Said("keep it",
			"keep").Told("keep the question in a settings file"),
	}}
}

// pictureKeys are the keys on the answer.
func (r *Room) pictureKeys() room.Keys {
	list := []room.Key{
		room.Move(10, r.move).Told("choose a group, a value, an entry"),
		room.Do("v", r.markHere).
			Said("mark", "mark").
			Told("mark: begins at the lamp, and ends there; so does a drag of the mouse"),
		room.Do("enter", r.enter).Said("go into it", "go in").Told("go into what is marked; an entry in full"),
		room.Do("backspace", r.comeBack).
			Marked("⌫").
			Said("come back", "back").
			Told("come back, as often as you went in"),
		room.Do("i", r.only).
			Said("only this", "only").
			Told("only this: entries with the chosen value, or of the chosen group"),
		room.Do("x", r.not).Said("not this", "not").Told("not this"),
		room.Do("g", r.groupBy).Said("group by", "group").Told("groups by the field of the chosen value"),
		room.On("[ ]", func(k string) tea.Cmd { return r.gap(map[string]int{"[": -1, "]": 1}[k]) }).Said("gap", "").
			Told("the gap before, the next one"),
		room.Do("ctrl+s", r.keep).Needs(api.Change).Said("keep it",
			"keep").Told("keep the question in a settings file"),
		room.Do("w", r.write).Said("write", "write").Told("write the answer: SVG, PDF, CSV or JSON"),
		room.Do("R", r.report).Told("a report of it, made again and again"),
		room.Do("b", r.rule).
			Said("a rule", "rule").
			Told("a rule of it, on the bench: its number raises beyond what is seldom"),
		room.Do("n", r.nextColumn).Told("draw the next number of the question"),
		room.Do("N", r.addColumn).Told("one more number of a field: sum, p95, different …"),
		room.Do("f", r.nextField).Told("the values of the next field"),
		room.Do("d", r.besides).Told("beside it: the span before, a week before, nothing"),
		room.Do("m", r.dropMark).Told("mark nothing any more"),
		room.Do("a", r.toText).Said("type", "type").Told("to the text of the question"),
		room.Do("A", r.another).Told("another question, from an empty text; ^z brings this one back"),
		room.Do("tab", r.nextPane).Told("to the values, the entries, the text"),
		room.Do("u ctrl+z", r.undo).Marked("u").Told("undo the last change of the question"),
	}
	if r.view != nil && !r.view.Done && r.view.Of > 0 {
		list = append([]room.Key{room.Do("esc", r.stop).Said("stop reading", "stop").
			Told("stops reading; what has been read is shown")}, list...)
	}
	k := room.Keys{Where: "reading the picture", List: list}
	switch r.pane {
	case values:
		k.Where = "choosing values"
	case entries:
		k.Where = "reading entries"
		k.Reword("enter", "in full", "in full")
	}
	return k
}

func (r *Room) toText() tea.Cmd {
	r.pane = askText
	if r.empty() { // one is being begun
		return r.askNow()
	}
	return nil
}

// another begins another question.
func (r *Room) another() tea.Cmd {
	r.past = append(r.past, past{r.text.body(), r.name, r.mark, r.group})
	r.text.replace("")
	r.name, r.mark, r.inside = "", nothing, nil
	return r.toText()
}

func (r *Room) toPicture() {
	if r.pane = groups; r.empty() {
		r.pane = askList
	}
}

// nextPane goes round: groups, values, entries, the text.
func (r *Room) nextPane() tea.Cmd {
	r.full = false
	switch {
	case r.pane == groups && r.inside != nil && len(r.inside.Values) > 0:
		r.pane = values
	case r.pane != entries && r.inside != nil && len(r.inside.Lines) > 0:
		r.pane = entries
	default:
		r.pane = groups
		return r.toText()
	}
	return nil
}

// openAsk asks the chosen question.
func (r *Room) openAsk() tea.Cmd {
	if r.view == nil || r.ask >= len(r.view.Asks) {
		return nil
	}
	a := r.view.Asks[r.ask]
	r.past = nil
	name := a.Name
	if a.Kind == "source" {
		name = ""
	}
	r.pane = groups
	return r.open(a.Text, name)
}

// editAsk opens the chosen question where it stands.
func (r *Room) editAsk() tea.Cmd {
	if r.view == nil || r.ask >= len(r.view.Asks) || r.view.Asks[r.ask].Kind != "kept" {
		r.stage.Say("it stands in no settings file")
		return nil
	}
	return room.Send(room.OpenText{File: r.view.Asks[r.ask].Where, Line: 1})
}

func (r *Room) complete() tea.Cmd {
	if r.view == nil || len(r.view.Complete) == 0 {
		return nil
	}
	r.text.complete(r.view.Complete[0], r.view.Typed)
	return r.askNow()
}

func (r *Room) enter() tea.Cmd {
	if r.pane == entries || r.view != nil && r.view.Entries {
		r.full = !r.full
		return nil
	}
	return r.goIn()
}

func (r *Room) only() tea.Cmd { return r.editValue("only") }
func (r *Room) not() tea.Cmd  { return r.editValue("not") }

func (r *Room) editValue(what string) tea.Cmd {
	field, value, ok := r.pickValue()
	if !ok {
		r.stage.Say("no value is chosen: tab goes to the values")
		return nil
	}
	return r.edit(api.LedgerEdit{What: what, Field: field, Value: value})
}

func (r *Room) groupBy() tea.Cmd {
	field, _, ok := r.pickValue()
	if !ok && r.inside != nil {
		field, ok = r.inside.Field, r.inside.Field != ""
	}
	if !ok {
		r.stage.Say("no value is chosen: tab goes to the values")
		return nil
	}
	r.group, r.top = 0, 0
	return r.edit(api.LedgerEdit{What: "per", Field: field})
}

func (r *Room) nextColumn() tea.Cmd {
	if r.view != nil && len(r.view.Columns) > 0 {
		r.column = (r.column + 1) % len(r.view.Columns)
	}
	return nil
}

func (r *Room) nextField() tea.Cmd {
	if r.inside == nil || len(r.inside.Fields) == 0 {
		return nil
	}
	i := slices.Index(r.inside.Fields, r.inside.Field)
	r.field = r.inside.Fields[(i+1)%len(r.inside.Fields)]
	r.value = 0
	return r.askInside()
}

// addColumn asks which number of a field is shown besides.
func (r *Room) addColumn() tea.Cmd {
	if r.view == nil {
		return nil
	}
	field := ""
	if r.inside != nil {
		field = r.inside.Field
	}
	var offers []string
	if field != "" {
		for _, fn := range []string{"p95", "max", "avg", "median", "sum", "min", "different"} {
			offers = append(offers, fn+"("+field+")")
		}
	}
	offers = append(offers, "count", "rate")
	r.stage.Prompt(room.Prompt{Label: "show", Hint: "→ takes the first   enter shows it; one that is shown goes",
		Offers: func(text string) []string {
			var out []string
			for _, o := range offers {
				if strings.HasPrefix(o, text) && o != text {
					out = append(out, o)
				}
			}
			return out
		},
		Then: func(text string) tea.Cmd {
			if text = strings.TrimSpace(text); text == "" {
				return nil
			}
			return r.edit(api.LedgerEdit{What: "show", Value: text})
		}}, "")
	return nil
}

// besides goes round what stands beside.
func (r *Room) besides() tea.Cmd {
	if r.view == nil {
		return nil
	}
	now := strings.ReplaceAll(r.view.Beside, "1w ago", "7d ago")
	next := map[string]string{"": "before", "before": "7d ago", "7d ago": ""}[now]
	return r.edit(api.LedgerEdit{What: "beside", Value: next})
}

func (r *Room) dropMark() tea.Cmd {
	r.mark = nothing
	return r.askInside()
}

func (r *Room) undo() tea.Cmd {
	if r.text.back(&r.text.undo, &r.text.redo) {
		r.fitted = ""
		return r.askNow()
	}
	return nil
}

// keep asks for a name, and shows what keeping the question changes.
func (r *Room) keep() tea.Cmd {
	if r.empty() {
		r.stage.Say("nothing is asked that could be kept")
		return nil
	}
	r.stage.Prompt(room.Prompt{Label: "keep it as", Hint: "enter shows what is written   esc leaves it",
		Then: func(name string) tea.Cmd {
			name = strings.TrimSpace(name)
			return put.Ask(r.stage, api.PutQuery{Ask: &api.KeptAsk{Name: name, Text: r.text.body()}},
				put.Told{Done: func(*api.Put) { r.name = name }})
		}}, r.name)
	return nil
}

// write asks for a file, and writes the answer in the form that its name says.
func (r *Room) write() tea.Cmd {
	if r.view == nil || r.empty() {
		r.stage.Say("nothing is asked that could be written")
		return nil
	}
	name := r.name
	if name == "" {
		name = "answer"
	}
	r.stage.Prompt(
		room.Prompt{
			Label: "write it into",
			Hint: "by its end: .svg .pdf .csv .json; a picture has its numbers as " +
				"CSV beside it",
			Then: r.writeTo,
		},
		name+".svg",
	)
	return nil
}

func (r *Room) writeTo(path string) tea.Cmd {
	path = strings.TrimSpace(path)
	form := strings.TrimPrefix(filepath.Ext(path), ".")
	if !slices.Contains([]string{"svg", "pdf", "csv", "json"}, form) {
		r.stage.Say("an answer is written as .svg, .pdf, .csv or .json")
		return nil
	}
	if home, err := os.UserHomeDir(); err == nil && strings.HasPrefix(path, "~/") {
		path = filepath.Join(home, path[2:])
	}
	ground := "dark"
	if r.stage.Palette.Light() {
		ground = "light"
	}
	q := api.LedgerOut{LedgerQuery: r.query(), Form: form, Title: r.name, Ground: ground}
	one := func(q api.LedgerOut, path string, then func() tea.Cmd) tea.Cmd {
		return room.Ask(r.stage, api.AskOut, q, patience, func(f *api.LedgerFile, err error) tea.Cmd {
			if r.stage.Failed(err) {
				return nil
			}
			if _, err := os.Stat(path); err == nil {
				r.stage.Say(path + " is there already: choose another name")
				return nil
			}
			if err := os.WriteFile(path, f.Body, 0o644); r.stage.Failed(err) {
				return nil
			}
			return then()
		})
	}
	if abs, err := filepath.Abs(path); err == nil {
		path = abs
	}
	return one(q, path, func() tea.Cmd {
		r.stage.Say("written: " + path)
		if form != "svg" && form != "pdf" {
			return nil
		}
		q.Form = "csv"
		table := strings.TrimSuffix(path, filepath.Ext(path)) + ".csv"
		return one(q, table, func() tea.Cmd {
			r.stage.Say("written: " + path + ", and " + filepath.Base(table))
			return nil
		})
	})
}

// rule opens a rule on the bench that watches what is asked, beyond what is seldom.
func (r *Room) rule() tea.Cmd {
	v := r.view
	if v == nil || r.empty() || len(v.Columns) == 0 {
		r.stage.Say("nothing is asked that a rule could watch")
		return nil
	}
	e := api.LedgerEdit{Text: r.text.body(), Field: v.Columns[r.column].Name, Value: seldom(v, r.column)}
	if len(v.Bounds) > 1 {
		e.From, e.To = v.Bounds[0], v.Bounds[1]
	}
	return room.Ask(r.stage, api.RuleOfAsk, e, room.Patience, func(t *api.LedgerText, err error) tea.Cmd {
		if r.stage.Failed(err) {
			return nil
		}
		return room.Send(room.BeginText{Text: t.Text})
	})
}

// seldom is a number that was passed in one of a hundred periods at most.
func seldom(v *api.LedgerView, column int) string {
	var all []float64
	for _, g := range v.Groups {
		if g.Rest {
			continue
		}
		if column < len(g.Series) {
			for _, f := range g.Series[column] {
				if f != nil {
					all = append(all, *f)
				}
			}
		}
		if len(g.Series) == 0 && column < len(g.Values) && g.Values[column].Number != nil {
			all = append(all, *g.Values[column].Number)
		}
	}
	if len(all) == 0 {
		return "10"
	}
	slices.Sort(all)
	f := all[(len(all)*99+99)/100-1]
	switch {
	case v.Columns[column].Unit == "share":
		return fmt.Sprintf("%.0f%%", math.Ceil(100*f))
	case v.Columns[column].Unit == "duration":
		return fmt.Sprintf("%dms", int64(math.Ceil(f*1000)))
	case f == math.Trunc(f):
		return strconv.FormatFloat(f, 'f', -1, 64)
	}
	return strconv.FormatFloat(f, 'g', 3, 64)
}
