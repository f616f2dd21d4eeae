package room

import (
	"context"
	"os/exec"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"

	tea "charm.land/bubbletea/v2"
)

// Stage is what the rooms stand on: whom they ask, who sits before them, how large they are,
// where the lamp stands. There is one; it belongs to the screens, and only what they run one
// after the other may touch it.
type Stage struct {
	Lantern  api.Lantern
	User     string // who acts, in the record
	Terminal string // where that is, such as lock-3 /dev/pts/2
	W, H     int    // of the window, in cells
	Palette  paint.Palette
	// Lend runs a command to which the terminal is given until it ends.
	Lend func(*exec.Cmd, tea.ExecCallback) tea.Cmd

	View  *api.View     // the newest; nil before the first one has come
	Held  entry.Instant // the lamp; 0 is live
	Until entry.Instant // the right edge of the axis while the lamp is held
	Zoom  int           // in Widths

	drafts map[string]api.Draft // texts that are not written, by what they are
	unkept map[string]bool      // of those, what the service does not know yet

	Note   string // what the last action did
	Noted  time.Time
	Pages  []Room  // over the room, the uppermost last
	Typed  *Prompt // the line that is being typed; nil is none
	refers func(At) tea.Cmd
	views  func() tea.Cmd
}

// At is a room that one can go to, by the order of their digits.
type At int

// The rooms.
const (
	Watch At = iota
	Bench
	Sources
	Ledger
	Hosts
)

// Widths are the widths of a column of the axis.
var Widths = []time.Duration{10 * time.Second, 20 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute,
	5 * time.Minute, 10 * time.Minute, 20 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour, 4 * time.Hour,
	6 * time.Hour, 8 * time.Hour, 12 * time.Hour, 24 * time.Hour}

// StartWidth is the width that the axis has at the start, in Widths.
const StartWidth = 3

// Patience is how long an answer may take that is made of what is there.
const Patience = 5 * time.Second

// NewStage returns a stage, of which goes shows a room, and views asks for a new view.
func NewStage(goes func(At) tea.Cmd, views func() tea.Cmd) *Stage {
	return &Stage{drafts: map[string]api.Draft{}, unkept: map[string]bool{}, Zoom: StartWidth, Palette: paint.Dark(),
		refers: goes, views: views}
}

// Answer is an answer that has come; what is to be done with it is done in its turn.
type Answer struct{ Do func() tea.Cmd }

// asker is an endpoint.
type asker[Q, A any] interface {
	Call(context.Context, api.Lantern, Q) (*A, error)
}

// Ask asks the service, and gives it so long. The answer is taken by then, in its turn.
func Ask[Q, A any](s *Stage, e asker[Q, A], q Q, patience time.Duration, then func(*A, error) tea.Cmd) tea.Cmd {
	return AskContext(context.Background(), s, e, q, patience, then)
}

// AskContext is Ask under a context that may end before.
func AskContext[Q, A any](ctx context.Context, s *Stage, e asker[Q, A], q Q, patience time.Duration,
	then func(*A, error) tea.Cmd) tea.Cmd {
	lantern := s.Lantern
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(ctx, patience)
		defer cancel()
		a, err := e.Call(ctx, lantern, q)
		return Answer{func() tea.Cmd { return then(a, err) }}
	}
}

// Say says in the key line what was done, for some seconds.
func (s *Stage) Say(text string) { s.Note, s.Noted = text, time.Now() }

// Failed says what went wrong; false where nothing did.
func (s *Stage) Failed(err error) bool {
	if err != nil {
		s.Say(err.Error())
	}
	return err != nil
}

// Lay lays a page over what is shown; Back takes the uppermost one away.
func (s *Stage) Lay(page Room) { s.Pages = append(s.Pages, page) }

// Back takes the uppermost page away, and asks for a new view of what lies below.
func (s *Stage) Back() tea.Cmd {
	if n := len(s.Pages); n > 0 {
		s.Pages = s.Pages[:n-1]
	}
	return s.views()
}

// Lies tells whether a page is the uppermost one: an answer may come when it is not any more.
func (s *Stage) Lies(page Room) bool { return len(s.Pages) > 0 && s.Pages[len(s.Pages)-1] == page }

// Go shows a room, without pages over it.
func (s *Stage) Go(to At) tea.Cmd { s.Pages = nil; return s.refers(to) }

// Refresh asks for a new view.
func (s *Stage) Refresh() tea.Cmd { return s.views() }

// Person is who sits at this terminal.
func (s *Stage) Person() api.Person { return api.Person{By: s.User, From: s.Terminal} }

// Narrow tells whether the window has no room for more than the most needed.
func (s *Stage) Narrow() bool { return s.W < 110 }

// Empty tells that nothing is watched yet. A centre may watch nothing itself, and a host wait for what it is sent.
func (s *Stage) Empty() bool { return s.View != nil && s.View.Sources == 0 && !s.View.Shared }

// Column is how long a column of the axis is.
func (s *Stage) Column() time.Duration { return Widths[s.Zoom] }

// Axis is the axis as it is drawn.
func (s *Stage) Axis() paint.Axis {
	col := ColumnsOf(s.W)
	a := paint.Axis{X: col.Life, Columns: col.LifeWidth, Column: s.Column()}
	if s.View != nil {
		a.From, a.Column, a.Lamp = s.View.From, s.View.Column, s.View.At
		a.Columns = min(a.Columns, max(len(s.View.Tide), 1))
	}
	return a
}

// Live lets the lamp stand at what is now.
func (s *Stage) Live() tea.Cmd {
	s.Held, s.Until = 0, 0
	return s.views()
}

// Widen makes the axis so many steps longer.
func (s *Stage) Widen(by int) tea.Cmd {
	s.Zoom = min(max(s.Zoom+by, 0), len(Widths)-1)
	s.Until = 0
	if by < 0 {
		s.Until = s.Held
	}
	return s.views()
}

// Hold moves the lamp by columns; moved to the present it is live again.
func (s *Stage) Hold(by int) tea.Cmd {
	if s.View == nil {
		return nil
	}
	at := s.Held
	if at == 0 {
		at = s.View.Now
		s.Until = at
	}
	at = at.Add(time.Duration(by) * s.Column())
	if at >= s.View.Now {
		return s.Live()
	}
	if s.View.First != entry.None {
		at = max(at, s.View.First)
	}
	return s.HoldAt(at)
}

// HoldAt holds the lamp at an instant, and moves the axis along where it would stand too near
// an edge.
func (s *Stage) HoldAt(at entry.Instant) tea.Cmd {
	s.Held = at
	if s.View != nil {
		span := time.Duration(ColumnsOf(s.W).LifeWidth) * s.Column() * 4 / 5
		if s.Until == 0 {
			s.Until = s.View.Now
		}
		s.Until = max(s.Until, at)
		if at < s.Until.Add(-span) {
			s.Until = at.Add(span)
		}
		s.Until = min(s.Until, max(s.View.Now, at))
	}
	return s.views()
}

// Columns says where the parts of a row stand at a width.
type Columns struct {
	Wick, Rule, RuleWidth, Key, KeyWidth, Life, LifeWidth, Note, NoteWidth int
	Second                                                                 int // where a second note stands, or 0
}

// ColumnsOf divides a width.
func ColumnsOf(w int) Columns {
	if w < 110 {
		c := Columns{Wick: 0, Rule: 2, RuleWidth: 16, Key: 19, KeyWidth: 12, Life: 32, NoteWidth: 11}
		c.LifeWidth = max(w-44, 8)
		c.Note = c.Life + c.LifeWidth + 1
		return c
	}
	c := Columns{Wick: 1, Rule: 3, RuleWidth: 20, Key: 24, KeyWidth: 15, Life: 40, NoteWidth: 12}
	c.LifeWidth = w - 40 - 32
	c.Note = c.Life + c.LifeWidth + 1
	c.Second = c.Note + 13
	return c
}
