// Package sources is the room that shows what is watched: sources with their
// origins on the common time axis, each with its entries a minute, how far behind
// it is, and its state in words with the mend; and the entries of one of them.
//
// The files: this one is the room, draw.go its list, detail.go what is known of the chosen
// origin and its entries; bring.go is the page on which a log is brought in, begin.go the one
// on which a rule begins, start.go what is shown where nothing is watched yet.
package sources

import (
	"fmt"
	"slices"
	"strings"

	"dimlantern/api"
	"dimlantern/core/origin"
	"dimlantern/screens/divide"
	"dimlantern/screens/put"
	"dimlantern/screens/room"
	"dimlantern/screens/why"

	tea "charm.land/bubbletea/v2"
)

// Room is the room sources.
type Room struct {
	stage   *room.Stage
	view    *api.SourcesView
	entries *api.Entries // of the chosen origin; nil before they have come
	asked   string       // which entries were asked for last

	filter  string
	where   string  // in which entries the filter looks: see wheres
	search  *search // what the filter looks for among entries; nil where it does not
	inside  bool    // the entries of the chosen origin are shown alone
	full    bool    // entries in full, not divided
	misfits bool    // only entries that do not fit the layout
	scroll  int     // inside, the entry that is chosen
	chosen  string  // the name of an origin; of a source without any, heading of it
	awaited string  // the source on which the cursor is to stand as soon as it is there
	first   int     // inside, the entry on the first line
	top     int
	rows    []row
	lines   []int // row of each line as it was last drawn, -1 for none
	drawnAt int
}

// New returns the room, which asks by a stage.
func New(s *room.Stage) *Room { return &Room{stage: s} }

// Update is part of room.Room.
func (r *Room) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case room.Fresh:
		return r.ask()
	case tea.MouseClickMsg:
		if r.click(msg.Y) {
			return r.askEntries()
		}
	}
	return nil
}

// ask asks for the sources, and for the entries of the chosen origin.
func (r *Room) ask() tea.Cmd {
	s := r.stage
	q := api.ViewQuery{At: s.Held, Until: s.Until, Column: s.Column(), Columns: room.ColumnsOf(s.W).LifeWidth}
	return room.Ask(s, api.AskSources, q, room.Patience, func(v *api.SourcesView, err error) tea.Cmd {
		if s.Failed(err) {
			return nil
		}
		r.view = v
		r.take()
		return r.askEntries()
	})
}

// askEntries asks for the entries of the chosen origin.
func (r *Room) askEntries() tea.Cmd {
	_, o := r.Chosen()
	if o == nil {
		r.entries, r.asked = nil, ""
		return nil
	}
	if x := r.search; r.inside && x != nil { // what was found stays
		if x.at != r.stage.Held {
			return r.seek()
		}
		return nil
	}
	q := api.EntriesQuery{Origin: o.Name, At: r.stage.Held, Lines: 300, Misfits: r.inside && r.misfits}
	asked := fmt.Sprint(q)
	r.asked = asked
	return room.Ask(r.stage, api.AskEntries, q, room.Patience, func(e *api.Entries, err error) tea.Cmd {
		if asked == r.asked && !r.stage.Failed(err) {
			r.keep(e)
		}
		return nil
	})
}

// Keys is part of room.Room.
func (r *Room) Keys() room.Keys {
	k := room.Keys{Where: "choosing origins", List: []room.Key{
		room.On("up down shift+up shift+down home end", func(n string) tea.Cmd { return r.Move(room.Steps(n, 0)) }).
			Marked("↑↓").Said("which", "which").Told("choose an origin, or an entry; with shift ten further"),
		room.Do("enter", r.open).Said("its entries", "entries").
			Told("the entries of the origin alone; of those, one in full"),
		room.Do("y", r.why).Told("why: what rules see in an entry"),
		room.Now("f", func() { r.full = !r.full }).Told("entries in full, or divided"),
		room.Do("m", r.onlyMisfits).Said("misfits", "").Told("those entries alone that do not fit the layout"),
		room.Do("+", func() tea.Cmd {
			return openBring(r.stage, "", func(source string) {
				r.awaited = source
			})
		}).Needs(api.Change).Said(
			"bring in another log", "bring in").
			Told("bring in another log"),
		room.On("< >", func(n string) tea.Cmd { return r.stage.Widen(map[string]int{">": 1, "<": -1}[n]) }).
			Said("span", "").Told("a shorter, a longer span"),
		room.Do("l", r.fields).Said("its fields", "fields").
			Told("the fields of the origin: point at a value, and name it"),
		room.Do("v", r.values).Told("the values of a field, with how often each is there"),
		room.Do("r", r.openBegin).Needs(api.Change).Said("begin a rule",
			"rule").Told("begin a rule from an entry, at once"),
		room.Do("e", r.edit).Needs(api.Change).
			Told("the source's text, on the bench: checked as it is written, and seen before it is done"),
		room.Do("R", r.rename).Needs(api.Change).Told("another name for the source, wherever one is written"),
		room.Do("o", func() tea.Cmd {
			return r.change("off")
		}).Needs(api.Change).Told("switch the source off, or on again"),
		room.Do("B",
			r.beginAgain).Needs(api.Change).Told("begin again from the oldest entry there is, seen before it is done"),
		room.Do("D delete", func() tea.Cmd { return r.change("delete") }).Needs(api.Change).Marked("D").
			Told("delete the source; like o and R it shows first what that does"),
		room.Do("n", r.newRule).Needs(api.Change).Told("begin a rule from the chosen entry, on the bench"),
		room.On("pgup pgdown", func(n string) tea.Cmd { r.scroll = max(0, r.scroll+room.Steps(n, 10)); return nil }).
			Told("newer, older entries"),
	}}
	if r.inside {
		k.Where = "reading entries"
		form := ""
		if r.full {
			form = "divided"
		}
		k.Reword("up", "older, newer", "older", "y", "why", "why", "f", form, "", "m", "misfits", "misfits", "+", "",
			"", "enter", "in full", "in full")
	}
	if r.inside || r.filter != "" {
		leave := room.Do("esc", r.leave).Told("shows all again; back to the origins")
		if r.inside {
			leave = leave.Said("back", "leave")
		}
		k.List = append(k.List, leave)
	}
	return k
}

// Help is part of room.Explained.
func (r *Room) Help() room.Help {
	return room.Help{Title: "sources", About: "what is watched: each origin with its entries a minute, how far " +
		"behind " +
		"it is, and what is the matter with it",
		Last: "╱ is blind: it could not be seen; amber are entries that do " +
			"not fit their layout"}
}

// edit opens the text of the chosen source on the bench.
func (r *Room) edit() tea.Cmd {
	if o := r.chosenOut(); o != nil {
		return room.Send(room.OpenText{File: o.File, Line: o.Line})
	}
	s, _ := r.Chosen()
	if s == nil || s.File == "" {
		r.stage.Say("what stands in no file of the settings cannot be changed")
		return nil
	}
	return room.Send(room.OpenText{File: s.File, Line: s.Line})
}

// rename asks how the chosen source is to be called, and shows what that changes.
func (r *Room) rename() tea.Cmd {
	kind, name, _ := r.block()
	if name == "" {
		return nil
	}
	change := api.BlockChange{Kind: kind, What: "rename", Of: name}
	r.stage.Prompt(room.Prompt{Label: "rename " + name + " to", Hint: "enter shows what that changes   esc leaves it",
		Then: func(name string) tea.Cmd {
			change.Name = strings.TrimSpace(name)
			r.awaited = change.Name
			return put.Ask(r.stage, api.PutQuery{Block: &change}, put.Told{})
		}}, name)
	return nil
}

// change shows what it would do to switch the chosen source off or on, or to delete it.
func (r *Room) change(what string) tea.Cmd {
	kind, name, off := r.block()
	if name == "" {
		return nil
	}
	if what == "off" && off {
		what = "on"
	}
	return put.Ask(r.stage, api.PutQuery{Block: &api.BlockChange{Kind: kind, What: what, Of: name}}, put.Told{})
}

// beginAgain shows what it would do to begin the chosen source again from its oldest entry.
func (r *Room) beginAgain() tea.Cmd {
	s, _ := r.Chosen()
	if s == nil {
		return nil
	}
	return put.Ask(r.stage, api.PutQuery{Again: s.Name}, put.Told{})
}

// Find is part of room.Finder: among the origins, or inside, among the entries.
func (r *Room) Find(words string) tea.Cmd {
	r.filter, r.scroll = words, 0
	r.take()
	if r.inside {
		return r.seek()
	}
	return r.askEntries()
}

// Found is part of room.Finder.
func (r *Room) Found() string { return r.filter }

// open shows the entries of the chosen origin alone, or the chosen entry in full.
func (r *Room) open() tea.Cmd {
	if r.chosenOut() != nil {
		return r.edit()
	}
	_, o := r.Chosen()
	if o == nil {
		return nil
	}
	if r.inside {
		if e := r.entry(); e != nil {
			return why.OpenEntry(r.stage, *e, r.asking(e))
		}
		return nil
	}
	r.inside, r.scroll, r.filter, r.misfits, r.where = true, 0, "", false, api.InOrigin
	r.endSearch()
	r.take()
	return r.askEntries()
}

// asking asks what rules see in an entry.
func (r *Room) asking(e *api.EntryView) api.WhyQuery {
	q := api.WhyQuery{At: r.stage.Held, Origin: r.chosen, Text: e.Raw}
	if x := r.search; x != nil {
		i := min(max(r.scroll, 0), len(x.found)-1)
		q.Origin = x.found[i].Origin
	}
	return q
}

// onlyMisfits shows the entries of the chosen origin alone that do not fit.
func (r *Room) onlyMisfits() tea.Cmd {
	if _, o := r.Chosen(); o != nil {
		r.inside, r.scroll, r.misfits = true, 0, !(r.inside && r.misfits)
	}
	return r.askEntries()
}

// leave shows all again, or goes back to the origins.
func (r *Room) leave() tea.Cmd {
	r.endSearch()
	if r.filter != "" {
		r.filter = ""
	} else {
		r.inside, r.misfits = false, false
	}
	r.scroll = 0
	r.take()
	return r.askEntries()
}

// why asks what rules see in the chosen entry.
func (r *Room) why() tea.Cmd {
	_, o := r.Chosen()
	e := r.entry()
	switch {
	case o == nil || e == nil:
		r.stage.Say("no entry is here to ask about")
	case !r.inside:
		r.inside, r.scroll = true, 0
		r.stage.Say("choose an entry with ↑↓, and ask again")
	default:
		return why.Open(r.stage, r.asking(e))
	}
	return nil
}

// fields opens the work on the fields of the chosen origin.
func (r *Room) fields() tea.Cmd {
	if _, o := r.Chosen(); o != nil {
		return divide.Open(r.stage, o.Name, r.Label())
	}
	return nil
}

// values asks for a field, and shows its values.
func (r *Room) values() tea.Cmd {
	_, o := r.Chosen()
	if o == nil || r.entries == nil || len(r.entries.Fields) == 0 {
		r.stage.Say("no field is known here: l divides its entries")
		return nil
	}
	label, fields := r.Label(), r.entries.Fields
	names, _ := (&room.EntryList{Lines: r.entries.Lines}).Values(1)
	first := fields[0]
	if len(names) > 0 {
		first = names[0]
	}
	r.stage.Prompt(room.Prompt{Label: "values of", Offered: true,
		Hint: "→ goes on   enter shows them   esc leaves it",
		Offers: func(typed string) (out []string) {
			for _, f := range fields {
				if typed != "" && strings.HasPrefix(f, typed) && f != typed {
					out = append(out, f)
				}
			}
			return out
		},
		Then: func(field string) tea.Cmd {
			return divide.OpenAt(r.stage, o.Name, label, strings.TrimSpace(field))
		}}, first)
	return nil
}

// newRule begins a rule on the bench of which the chosen entry is the problem.
func (r *Room) newRule() tea.Cmd {
	s, _ := r.Chosen()
	e := r.entry()
	if s == nil || e == nil {
		r.stage.Say("a rule begins with an entry, and none is here")
		return nil
	}
	return room.Send(room.BeginRule{Source: s.Name, Mark: &api.MarkQuery{Is: "problem", Source: s.Name,
		Texts: []string{e.Raw}}})
}

// row is a source's heading, or an origin.
type row struct {
	source *api.SourceView
	origin *api.OriginView // nil: the heading
	out    *api.OutView    // what goes out: then there is no source
	head   string          // a heading that is of no source
	folded int             // of a heading, how many origins are not shown that are gone
}

// dead tells whether an origin is gone, and said nothing within what is shown.
func dead(o *api.OriginView) bool {
	return o.State.Condition == origin.Gone && !slices.ContainsFunc(o.Flow, func(n int64) bool { return n > 0 })
}

// take makes the rows of the view.
func (r *Room) take() {
	r.rows = r.rows[:0]
	v := r.view
	if v == nil {
		return
	}
	for i := range v.Sources {
		s := &v.Sources[i]
		head, folded := len(r.rows), 0
		r.rows = append(r.rows, row{source: s})
		for k := range s.Origins {
			o := &s.Origins[k]
			if !r.inside && r.filter != "" && !strings.Contains(strings.ToLower(s.Name+" "+o.Name+" "+
				string(o.State.Condition)), strings.ToLower(r.filter)) {
				continue
			}
			if r.filter == "" && o.Name != r.chosen && dead(o) {
				folded++
				continue
			}
			r.rows = append(r.rows, row{source: s, origin: o})
		}
		r.rows[head].folded = folded
		if !r.inside && r.filter != "" && len(r.rows) == head+1 &&
			!strings.Contains(strings.ToLower(s.Name), strings.ToLower(r.filter)) {
			r.rows = r.rows[:head]
		}
	}
	r.takeOut()
	for _, x := range r.rows {
		if r.awaited != "" && x.source != nil && x.source.Name == r.awaited && x.name() != "" {
			r.chosen, r.awaited = x.name(), ""
		}
	}
	if r.index() < 0 {
		for _, x := range r.rows {
			if x.name() != "" {
				r.chosen = x.name()
				break
			}
		}
	}
}

// heading is how a source is chosen that has no origin.
func heading(source string) string { return "source " + source }

// name is by what a row is chosen; "" where it cannot be.
func (x *row) name() string {
	switch {
	case x.out != nil:
		return outName(x.out)
	case x.source == nil:
		return ""
	case x.origin != nil:
		return x.origin.Name
	case len(x.source.Origins) == 0:
		return heading(x.source.Name)
	}
	return ""
}

func (r *Room) index() int {
	return slices.IndexFunc(r.rows, func(x row) bool { return r.chosen != "" && x.name() == r.chosen })
}

// Chosen is the chosen origin with its source; nil where there is none.
func (r *Room) Chosen() (*api.SourceView, *api.OriginView) {
	if i := r.index(); i >= 0 {
		return r.rows[i].source, r.rows[i].origin
	}
	return nil, nil
}

// Label is how the chosen origin is called on the screen; "" where there is none.
func (r *Room) Label() string {
	if s, o := r.Chosen(); o != nil {
		return label(s, o)
	}
	return ""
}

// Move is part of room.Finder: it chooses the origin, or inside the entry, that many rows below.
func (r *Room) Move(by int) tea.Cmd {
	if r.inside {
		r.scroll = max(0, r.scroll+by)
		return nil
	}
	var list []string
	at := 0
	for _, x := range r.rows {
		if name := x.name(); name != "" {
			if name == r.chosen {
				at = len(list)
			}
			list = append(list, name)
		}
	}
	if len(list) > 0 {
		r.chosen, r.scroll = list[min(max(at+by, 0), len(list)-1)], 0
	}
	return r.askEntries()
}

// click chooses the origin that was drawn there; it answers false where none was.
func (r *Room) click(y int) bool {
	i := y - r.drawnAt
	if i < 0 || i >= len(r.lines) || r.lines[i] < 0 || r.lines[i] >= len(r.rows) || r.rows[r.lines[i]].name() == "" {
		return false
	}
	r.chosen, r.scroll = r.rows[r.lines[i]].name(), 0
	return true
}

// entry is the entry that is chosen among those of the origin; nil where there is none.
func (r *Room) entry() *api.EntryView {
	e := r.entries
	if r.inside {
		e = r.listed()
	}
	if e == nil || len(e.Lines) == 0 {
		return nil
	}
	return &e.Lines[min(max(r.scroll, 0), len(e.Lines)-1)]
}

// keep takes entries in: the chosen one stays chosen where newer ones have come before it.
func (r *Room) keep(now *api.Entries) {
	if r.search != nil && r.inside {
		r.entries = now
		return
	}
	was := r.entry()
	same := r.entries != nil && r.entries.Origin == now.Origin
	r.entries = now
	if !r.inside || r.scroll == 0 || !same || was == nil {
		return
	}
	for i := range now.Lines {
		if x := &now.Lines[i]; i >= r.scroll && x.At == was.At && x.Raw == was.Raw {
			r.first += i - r.scroll
			r.scroll = i
			return
		}
	}
}

// About is part of room.Asked.
func (r *Room) About() (room.AskAbout, bool) {
	s, o := r.Chosen()
	if s == nil || o == nil {
		return room.AskAbout{}, false
	}
	return room.AskAbout{Source: s.Name, Origin: o.Name}, true
}
