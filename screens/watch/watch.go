// Package watch is the room that shows the state of the world: lifelines in four
// bands (open, stirring, blind, over), and below them the chosen one: what will
// clear it, its story, and its evidence in the stream that it came from.
//
// The files: this one is the room, list.go its rows, detail.go what is known of the chosen
// one, act.go what is done to an alert, hushes.go the page of all hushes.
package watch

import (
	"fmt"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"
	"dimlantern/screens/why"

	tea "charm.land/bubbletea/v2"
)

// Band is one of the four bands, in the order in which they stand.
type Band int

// The bands.
const (
	Open Band = iota
	Stirring
	Blind
	Over
)

var bandNames = [...]string{"open", "stirring", "blind", "over"}
var bandWords = [...]string{"worst first", "hits, but below their threshold", "not seen, so not known to be well",
	"within what is shown"}

// Room is the room watch.
type Room struct {
	stage *room.Stage

	detail *api.Detail
	// asked is which detail was asked for last, sign what it depends on, and at when that was.
	asked, sign string
	at          time.Time
	// curves are the numbers of the chosen row, curvesAsked which were asked for last.
	curves      *api.Curves
	curvesAsked string
	undo        *api.ActQuery // what takes the last action back; nil is none

	filter   string
	drawer   bool // on a small screen: the story is open
	scroll   int  // lines of evidence passed over
	opened   bool // the numbers of a row are shown, where its rule compares some
	chosen   string
	byHand   bool // the user chose it: else it is the first row
	unfolded map[string]bool
	top      int
	rows     []row
	lines    []line // as they were last drawn, for the mouse
	drawnAt  int
}

// New returns the room, which asks by a stage.
func New(s *room.Stage) *Room { return &Room{stage: s, unfolded: map[string]bool{}} }

// Update is part of room.Room.
func (r *Room) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case room.Fresh:
		r.take(r.stage.View)
		return r.ask()
	case tea.MouseClickMsg:
		if r.click(msg.Y) {
			return r.ask()
		}
	}
	return nil
}

// Keys is part of room.Room.
func (r *Room) Keys() room.Keys {
	wide := !r.stage.Narrow()
	k := room.Keys{Where: "choosing alerts", List: []room.Key{
		room.On("up down shift+up shift+down home end", func(n string) tea.Cmd { return r.Move(room.Steps(n, 0)) }).
			Marked("↑↓").Said("which", "").Told("choose; with shift ten rows further"),
		room.Do("enter", r.open).Said("", "story").
			Told("unfolds a row, opens its story, or the numbers that its rule compares"),
		room.Now("t", r.takeIt).Needs(api.Handle).Said("take", "take").Told("take the chosen alert"),
		room.Now("T", r.handOver).Needs(api.Handle).Told("hand it over"),
		room.Do("u", r.takeBack).Needs(api.Handle).Told("take back what you did last"),
		room.Now("h", r.hush).Needs(api.Handle).Marked("h H").Said("hush, all hushes", "hush").
			Told("hush it, its rule or its host for a while; all hushes, with what each keeps quiet"),
		room.Do("H", r.askHushes),
		room.Do("W", r.askContacts).Told("who is told, by which ways, and how that goes; a test of a contact"),
		room.Now("m", r.note).Needs(api.Handle).Said("note", "note").Told("write a note to it"),
		room.Now("c", r.clear).Needs(api.Handle).Said("clear", "clear").Told("clear it by hand"),
		room.Do("y", r.why).Said("why", "why").Told("why: what each clause has and what it lacks"),
		room.Do("b", r.rule).Said("its rule", "").Told("its rule on the bench"),
		room.Do("n", r.newRule).Needs(api.Change).Told("a new rule on the bench from its newest entry"),
		room.On("[ ]", func(n string) tea.Cmd { return r.jump(n == "]") }).
			Told("the moment of the transition before, after"),
		room.On("pgup pgdown", func(n string) tea.Cmd { r.scroll += room.Steps(n, 10); return nil }).
			Told("newer, older evidence"),
		room.Do("esc", r.leave).Told("closes the story, shows all again, the lamp live again"),
	}}
	switch {
	case r.drawer && (!wide || r.stage.H < 34):
		k.Where = "reading a story"
		k.Reword("pgup", "evidence", "evidence", "up", "which", "which", "enter", "back", "back", "h", "", "", "m", "",
			"", "t", "", "")
	case r.stage.Held != 0:
		k.Reword("[", "transitions", "transitions", "t", "", "", "h", "", "", "m", "", "", "c", "", "")
	}
	return k
}

// Help is part of room.Explained.
func (r *Room) Help() room.Help {
	p := r.stage.Palette
	base := paint.Style{Fg: p.Text}
	marks := []room.Mark{
		{Text: "····", Style: base.With(p.Rule), Says: "quiet, and seen"},
		{Text: "⡀⡄⡆⡇", Style: base.With(p.Stir), Says: "hits below the threshold: one, two, three, more"},
		{Text: "▂▄█", Style: base.With(p.Severity[entry.Warning]), Says: "open; higher where more hits fell"},
		{Text: "▏", Style: base.With(p.Severity[entry.Notice]), Says: "notice"},
		{Text: "▍", Style: base.With(p.Severity[entry.Warning]), Says: "warning"},
		{Text: "▋", Style: base.With(p.Severity[entry.Error]), Says: "error"},
		{Text: "█", Style: base.With(p.Severity[entry.Critical]), Says: "critical; where a bar turns brighter, it " +
			"worsened"},
		{Text: "┃", Style: base.With(p.Over), Says: "ended by its recovery"},
		{Text: "┊", Style: base.With(p.Over), Says: "ended otherwise: it stayed quiet, or by hand"},
		{Text: "│", Style: base.With(p.Severity[entry.Warning]), Says: "at the left: over, and how bad it was"},
		{Text: "░░░", Style: base.With(p.Dim), Says: "open and told nobody: hushed, or in a bigger one's shadow"},
		{Text: "╱╱╱", Style: base.With(p.Blind), Says: "blind: it could not be seen, so nobody knows"},
		{Text: "▁▃█", Style: base.With(p.Tide), Says: "the tide: how many entries arrived when"},
		{Text: "▲", Style: base.With(p.Over), Says: "the lamp: the moment that everything on the screen shows"},
	}
	if p.Mono {
		marks = append(marks, room.Mark{Text: "▲", Style: base, Says: "in a bar: here it worsened"})
	}
	return room.Help{Title: "watch", About: "what is open, what stirs, what cannot be seen, and what is over",
		Marks: marks}
}

// Find is part of room.Finder.
func (r *Room) Find(words string) tea.Cmd {
	r.filter = words
	r.take(r.stage.View)
	return r.ask()
}

// Found is part of room.Finder.
func (r *Room) Found() string { return r.filter }

// open unfolds the chosen row, or opens its story.
func (r *Room) open() tea.Cmd {
	if r.folded() {
		r.unfolded[r.chosen] = !r.unfolded[r.chosen]
	} else {
		r.drawer = !r.drawer
		r.opened = r.drawer
	}
	r.take(r.stage.View)
	return r.ask()
}

// leave closes what is open, shows all again, or lets the lamp be live.
func (r *Room) leave() tea.Cmd {
	switch {
	case r.drawer:
		r.drawer, r.opened = false, false
	case r.filter != "":
		r.filter = ""
	case r.stage.Held != 0:
		return r.stage.Live()
	}
	r.take(r.stage.View)
	return r.ask()
}

// why asks why the chosen row stands as it does.
func (r *Room) why() tea.Cmd {
	x := r.Chosen()
	switch {
	case x == nil:
		r.stage.Say("nothing is here to ask about")
	case x.Rule == "":
		r.stage.Say("it cannot be seen; what is the matter with it stands beside it")
	case r.folded():
		r.stage.Say("this row stands for several keys; enter unfolds it")
	default:
		return why.Open(r.stage, api.WhyQuery{At: r.stage.Held, Rule: x.Rule, Key: x.Key, Alert: x.Alert})
	}
	return nil
}

// rule opens the rule of the chosen row on the bench.
func (r *Room) rule() tea.Cmd {
	x := r.Chosen()
	if x == nil || x.Rule == "" {
		r.stage.Say("nothing is chosen that a rule has raised")
		return nil
	}
	return room.Send(room.OpenRule{Rule: x.Rule})
}

// newRule begins a rule of which the newest entry of the chosen alert is the problem.
func (r *Room) newRule() tea.Cmd {
	d := r.detail
	if d == nil || d.Newest == "" || d.Source == "" {
		r.stage.Say("a rule begins with an entry: choose an alert that shows some")
		return nil
	}
	return room.Send(room.BeginRule{Source: d.Source, Mark: &api.MarkQuery{Is: "problem", Source: d.Source,
		Texts: []string{d.Newest}}})
}

// jump holds the lamp at the chosen row's transition before or after it.
func (r *Room) jump(after bool) tea.Cmd {
	s := r.stage
	x := r.Chosen()
	if s.View == nil {
		return nil
	}
	at := s.Held
	if at == 0 {
		at = s.View.Now
	}
	best := entry.None
	note := func(t entry.Instant) {
		switch {
		case t == entry.None:
		case after && t > at && (best == entry.None || t < best), !after && t < at && t > best:
			best = t
		}
	}
	q := api.TurnQuery{At: at, After: after}
	if x != nil {
		q.Rule, q.Key = x.Rule, x.Key
		for _, span := range x.Life.Alerts {
			note(span.From)
			note(span.To)
			for _, step := range span.Steps {
				note(step.At)
			}
		}
	}
	if best != entry.None {
		return s.HoldAt(best)
	}
	return room.Ask(s, api.AskTurn, q, room.Patience, func(t *api.Turn, err error) tea.Cmd { // beyond what is shown
		switch {
		case s.Failed(err):
		case t.At != entry.None:
			return s.HoldAt(t.At)
		case after:
			return s.Live()
		default:
			s.Say("nothing is known of it before this")
		}
		return nil
	})
}

// restless is how long a detail stands at most: what it says of how long things last gets old.
// freshCurves is how long the numbers of a live row stand.
const (
	restless    = 5 * time.Second
	freshCurves = 5 * time.Second
)

// ask asks for what is known of the chosen row, where that may have changed.
func (r *Room) ask() tea.Cmd { return tea.Batch(r.askDetail(), r.askCurves()) }

func (r *Room) askDetail() tea.Cmd {
	x := r.Chosen()
	if x == nil {
		r.detail, r.sign = nil, ""
		return nil
	}
	q := api.DetailQuery{At: r.stage.Held, Rule: x.Rule, Key: x.Key, Alert: x.Alert, Origin: x.Origin, Lines: 300}
	asked := fmt.Sprint(q)
	sign := fmt.Sprint(q, x.Count, x.Severity, x.Cleared, x.Have, x.Taken, x.Untold)
	if sign == r.sign && time.Since(r.at) < restless {
		return nil // it is known, or asked for
	}
	r.asked, r.sign, r.at = asked, sign, time.Now()
	return room.Ask(r.stage, api.AskDetail, q, room.Patience, func(d *api.Detail, err error) tea.Cmd {
		if !r.stage.Failed(err) && asked == r.asked {
			r.detail = d
		}
		return nil
	})
}

// askCurves asks for the numbers of the chosen row, where it is opened and has some.
func (r *Room) askCurves() tea.Cmd {
	x, s := r.Chosen(), r.stage
	if !r.opened || x == nil || !x.Numbers || r.folded() || s.View == nil {
		return nil
	}
	q := api.CurveQuery{Rule: x.Rule, Key: x.Key, At: s.Held, From: s.View.From, Column: s.View.Column,
		Columns: room.ColumnsOf(s.W).LifeWidth}
	asked := fmt.Sprint(q)
	if s.Held == 0 {
		asked += fmt.Sprint(time.Now().Truncate(freshCurves))
	}
	if asked == r.curvesAsked {
		return nil
	}
	r.curvesAsked = asked
	return room.Ask(s, api.AskCurves, q, 2*room.Patience, func(k *api.Curves, err error) tea.Cmd {
		if !s.Failed(err) && asked == r.curvesAsked {
			r.curves = k
		}
		return nil
	})
}

// Draw is part of room.Room.
func (r *Room) Draw(c *paint.Canvas, top, bottom int) {
	v, a, p := r.stage.View, r.stage.Axis(), r.stage.Palette
	col := room.ColumnsOf(c.W)
	wide := c.W >= 110 && bottom-top >= 24
	base := paint.Style{Fg: p.Text}
	if !wide {
		if r.drawer {
			if n := r.drawCurves(c, top, bottom-6, a, p, base); n > 0 {
				top += n
			}
			r.drawDrawer(c, top, bottom, p, base)
			return
		}
		r.summary(c, top, v, p, base)
		r.list(c, top+1, bottom, false, col, v, a, p, base)
		return
	}
	need := len(r.layLines(true))
	split := top + min(max(need+1, 6), (bottom-top)*11/20)
	r.list(c, top, split, true, col, v, a, p, base)
	if n := r.drawCurves(c, split+1, bottom-9, a, p, base); n > 0 {
		c.Rule(1, split, c.W-2, base.With(p.Rule), false)
		split += n + 2
	}
	r.drawDetail(c, split, bottom, p, base)
}

// About is part of room.Asked.
func (r *Room) About() (room.AskAbout, bool) {
	x := r.Chosen()
	switch {
	case x == nil:
		return room.AskAbout{}, false
	case x.Origin != "": // one that cannot be seen; its rule is its source
		return room.AskAbout{Source: x.Rule, Origin: x.Origin}, true
	case r.folded():
		return room.AskAbout{Rule: x.Rule}, true
	}
	return room.AskAbout{Rule: x.Rule, Key: x.Key}, true
}
