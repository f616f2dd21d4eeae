// Package ledger is the room in which one looks back: any question to what was logged, answered as it is
// typed, its groups along the axis, one of them large, what is in a part of it, and the way on to a
// rule, a kept question, a picture.
//
// The files: this one is the room, ask.go what it asks, keys.go its keys, text.go the question that is
// typed, draw.go and picture.go the drawings.
package ledger

import (
	"context"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

// pane is where the keys go.
type pane int

// The panes: what can be asked, the text of a question, its groups, the values of a field, entries.
const (
	askList pane = iota
	askText
	groups
	values
	entries
)

// Room is the room ledger.
type Room struct {
	stage *room.Stage
	pane  pane
	text  text
	name  string // of the kept question that is open; "" is none

	view   *api.LedgerView
	stale  bool // the text has errors, and the view is of the one before
	inside *api.Inside
	asking struct {
		turn   int // of the newest question
		of     string
		inside string // what was asked for last
		at     time.Time
		stop   context.CancelFunc
	}
	fitted string // the span to which the axis was fitted

	column int    // of the answer, that is drawn
	group  int    // that is chosen
	top    int    // the first group that is seen
	field  string // whose values are shown; "" is the likeliest
	value  int    // that is chosen
	line   int    // the entry that is chosen
	full   bool   // it is shown in full
	ask    int    // that is chosen, of those that can be asked
	about  about  // what is known of the chosen source

	mark  mark
	past  []past // from where one went into a part
	gaps  seen
	geo   geometry
	drags bool
}

// about is what a source says: how many entries have which value of which field, along the axis.
type about struct {
	source string
	asked  string
	view   *api.LedgerView
}

// mark is a stretch of time.
type mark struct {
	from, to entry.Instant // both None where nothing is marked
	open     bool          // its end is still to come
}

var nothing = mark{from: entry.None, to: entry.None}

// seen are the gaps of a group in the answers to a question.
type seen struct {
	of   string
	list []api.Span
}

// past is where one was before one went into a part.
type past struct {
	text  string
	name  string
	mark  mark
	group int
}

// geometry is where things were drawn last, so that a click finds them.
type geometry struct {
	textX, textY, textW, textTop, textRows int
	groupsY, groupsN                       int
	chartY, chartRows                      int
	valuesY, valuesN, valuesW              int
	linesY, linesN                         int
	asksY, asksTop                         int
	asks                                   []int
}

// New returns the room, which asks by a stage.
func New(s *room.Stage) *Room { return &Room{stage: s, mark: nothing} }

// Update is part of room.Room.
func (r *Room) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case room.Fresh:
		return r.again()
	case room.AskAbout:
		return r.openAbout(msg)
	case tea.PasteMsg:
		if r.pane == askText {
			r.text.paste(msg.Content)
			return r.askNow()
		}
	case tea.KeyPressMsg:
		if r.pane == askText && r.text.press(msg) {
			r.name = ""
			return r.askNow()
		}
	case tea.MouseClickMsg:
		return r.click(msg.X, msg.Y)
	case tea.MouseMotionMsg:
		return r.drag(msg.X, msg.Y)
	case tea.MouseReleaseMsg:
		r.drags = false
		if r.mark.from != entry.None {
			r.mark.open = false
			return r.askInside()
		}
	}
	return nil
}

// empty tells whether nothing is asked.
func (r *Room) empty() bool { return strings.TrimSpace(r.text.body()) == "" }

// open takes a question in, and asks it.
func (r *Room) open(text, name string) tea.Cmd {
	r.text.replace(text)
	r.name, r.column, r.group, r.top, r.field, r.value, r.line, r.full = name, 0, 0, 0, "", 0, 0, false
	r.mark, r.fitted = nothing, ""
	if r.pane == askList {
		r.pane = groups
	}
	return r.askNow()
}

// openAbout opens a question about what is chosen in another room.
func (r *Room) openAbout(msg room.AskAbout) tea.Cmd {
	e := api.LedgerEdit{What: "origin", Field: msg.Source, Value: msg.Origin}
	if msg.Rule != "" {
		e = api.LedgerEdit{What: "rule", Field: msg.Rule, Key: msg.Key}
	}
	return room.Ask(r.stage, api.EditAsk, e, room.Patience, func(t *api.LedgerText, err error) tea.Cmd {
		if r.stage.Failed(err) {
			return nil
		}
		if !r.empty() && r.text.body() != t.Text {
			r.past = append(r.past, past{r.text.body(), r.name, r.mark, r.group})
		}
		r.pane = groups
		return r.open(t.Text, "")
	})
}

// edit changes the text of the question.
func (r *Room) edit(e api.LedgerEdit) tea.Cmd {
	e.Text = r.text.body()
	return room.Ask(r.stage, api.EditAsk, e, room.Patience, func(t *api.LedgerText, err error) tea.Cmd {
		if r.stage.Failed(err) {
			return nil
		}
		r.text.replace(t.Text)
		r.name = ""
		return r.askNow()
	})
}

// goIn goes into what is marked, or into the chosen group.
func (r *Room) goIn() tea.Cmd {
	if r.mark.from == entry.None || r.mark.open {
		r.stage.Say(
			"nothing is marked: v begins to mark at the lamp, and ends it; or drag the mouse over the picture",
		)
		return nil
	}
	m := r.mark
	if m.to < m.from {
		m.from, m.to = m.to, m.from
	}
	r.past = append(r.past, past{r.text.body(), r.name, r.mark, r.group})
	r.mark, r.fitted = nothing, ""
	return r.edit(api.LedgerEdit{What: "from", From: m.from, To: m.to})
}

// comeBack goes back to where one came from.
func (r *Room) comeBack() tea.Cmd {
	n := len(r.past)
	if n == 0 {
		r.text.replace("")
		r.name, r.pane, r.view, r.inside, r.mark = "", askList, nil, nil, nothing
		return r.askNow()
	}
	p := r.past[n-1]
	r.past = r.past[:n-1]
	r.text.replace(p.text)
	r.name, r.group, r.fitted = p.name, p.group, ""
	cmd := r.askNow()
	r.mark = p.mark
	return cmd
}

// markHere begins or ends marking at the lamp.
func (r *Room) markHere() tea.Cmd {
	if r.view == nil {
		return nil
	}
	at := r.stage.Held
	if at == 0 {
		at = r.view.At
	}
	if !r.mark.open {
		r.mark = mark{at, at, true}
		r.stage.Say("marking from " + room.Clock(at) + ": ← and → move the lamp, v ends it")
		return nil
	}
	if r.mark.to = at; at == r.mark.from {
		r.mark = nothing
		return r.askInside()
	}
	r.mark.open = false
	if r.mark.to < r.mark.from {
		r.mark.from, r.mark.to = r.mark.to, r.mark.from
	}
	return r.askInside()
}

// marked is what is marked, and to the lamp while marking.
func (r *Room) marked() (from, to entry.Instant, ok bool) {
	m := r.mark
	if m.from == entry.None {
		return 0, 0, false
	}
	if m.open && !r.drags && r.view != nil {
		if m.to = r.stage.Held; m.to == 0 {
			m.to = r.view.At
		}
	}
	return min(m.from, m.to), max(m.from, m.to), true
}

// chosen is the chosen group; nil where there is none.
func (r *Room) chosen() *api.LedgerGroup {
	if r.view == nil || len(r.view.Groups) == 0 {
		return nil
	}
	r.group = min(max(r.group, 0), len(r.view.Groups)-1)
	return &r.view.Groups[r.group]
}

// Move is what the keys up and down do, by the pane.
func (r *Room) move(by int) tea.Cmd {
	bounded := func(at, n int) int { return min(max(at+by, 0), max(n-1, 0)) }
	switch r.pane {
	case askList:
		if r.view != nil {
			r.ask = bounded(r.ask, len(r.view.Asks))
			return r.askAbout()
		}
	case groups:
		if r.view != nil {
			if r.view.Entries {
				r.line = bounded(r.line, len(r.view.Lines))
				return nil
			}
			was := r.group
			if r.group = bounded(r.group, len(r.view.Groups)); r.group != was {
				r.line, r.value = 0, 0
				return r.askInside()
			}
		}
	case values:
		if r.inside != nil {
			r.value = bounded(r.value, len(r.inside.Values))
		}
	case entries:
		if r.inside != nil {
			r.line = bounded(r.line, len(r.inside.Lines))
		}
	}
	return nil
}

// pickValue is the field and the value on which the cursor stands; false where there is none.
func (r *Room) pickValue() (field, value string, ok bool) {
	switch r.pane {
	case values:
		if r.inside != nil && r.value < len(r.inside.Values) {
			v := r.inside.Values[r.value]
			return v.Field, v.Value, true
		}
	case groups:
		g := r.chosen()
		if g == nil || g.Rest || r.view == nil || len(g.Key) == 0 {
			return "", "", false
		}
		if len(r.view.Per) == 2 && r.view.Per[0] == "field" && r.view.Per[1] == "value" {
			return g.Key[0], g.Key[1], true
		}
		return r.view.Per[0], g.Key[0], true
	}
	return "", "", false
}

// seriesOf are the numbers of a group by the columns of the axis: of the periods in each the greatest.
func (r *Room) seriesOf(series []*float64, a paint.Axis) []*float64 {
	out := make([]*float64, a.Columns)
	b := r.view.Bounds
	if len(b) < 2 {
		return out
	}
	k := 0
	for c := range out {
		from, to := a.From.Add(time.Duration(c)*a.Column), a.From.Add(time.Duration(c+1)*a.Column)
		for k > 0 && b[k] > from {
			k--
		}
		for k+1 < len(b) && b[k+1] <= from {
			k++
		}
		for i := k; i+1 < len(b) && b[i] < to; i++ {
			if b[i+1] <= from || b[i] >= r.view.To || b[i+1] <= r.view.From || i >= len(series) ||
				series[i] == nil {
				continue
			}
			if out[c] == nil || *series[i] > *out[c] {
				out[c] = series[i]
			}
		}
	}
	return out
}
