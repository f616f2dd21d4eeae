package screens

import (
	"context"
	"image/color"
	"strings"
	"testing"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A click on the axis holds the lamp there, and one on a room's name goes to it.
func TestClicks(t *testing.T) {
	s := onStage(t, newFake(), 160, 47)
	s.see("pump-7")
	a := s.m.stage.Axis()
	click := func(x, y int) {
		s.take(tea.MouseClickMsg{X: x, Y: y, Button: tea.MouseLeft})
		s.settle(func() bool { return !s.m.busy })
	}
	click(a.X+10, s.m.footTop()+1)
	require.NotZero(t, s.m.stage.Held)
	assert.InDelta(t, float64(a.At(10)), float64(s.m.stage.Held), float64(a.Column))
	s.see("looking back", "held", "actions are off")
	s.press("space")
	s.settle(func() bool { return !s.m.busy })
	assert.Zero(t, s.m.stage.Held)
	click(2, s.m.footTop()+1)
	assert.Zero(t, s.m.stage.Held, "beside the axis nothing is")
	line := []rune(strings.Split(s.text(), "\n")[0])
	click(strings.Index(string(line), "sources")+2, 0)
	assert.Equal(t, room.Sources, s.m.at)
	s.take(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	s.see("pump.log")
}

// A service that does not answer is said, what was known stays, and it goes on when it is back.
func TestServiceThatGoesAway(t *testing.T) {
	f := newFake()
	s := onStage(t, f, 120, 40)
	s.see("pump-7")
	gone := api.NewDesk()
	api.AskView.Answer(gone, func(context.Context, api.ViewQuery) (*api.View, error) {
		return nil, &api.Problem{Code: api.NoAnswer, What: "the service does not answer"}
	})
	s.m.stage.Lantern = gone
	s.do(s.m.ask())
	s.see("the service does not answer", "pump-7")
	s.m.stage.Lantern = f
	s.do(s.m.ask())
	s.settle(func() bool { return !strings.Contains(s.text(), "does not answer") })
}

// What keeps the service from its work stands above all rooms, three of it at most; and so
// does what it is busy with.
func TestTroublesAreSaid(t *testing.T) {
	s := onStage(t, newFake(), 120, 40)
	s.see("pump-7")
	v := *s.m.stage.View
	v.Trouble = []string{"the disk is full", "no mail server", "a port is taken", "and another", "and one more"}
	v.Notices = []api.Notice{{At: v.Now, Text: "new settings: 1 rule changed"}}
	v.Reading, v.Behind = true, 90<<20
	s.m.stage.View = &v
	text := s.text()
	for _, want := range []string{"the disk is full", "a port is taken", "and 2 more", "new settings: 1 rule changed",
		"reading what is there: 94 MB still to go"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "and another")
	s.m.stage.Lay(&helpPage{stage: s.m.stage})
	assert.NotContains(t, s.text(), "the disk is full", "help is read in peace")
}

// What was done is said for a while instead of the keys; and a prompt instead of both.
func TestFoot(t *testing.T) {
	s := onStage(t, newFake(), 120, 40)
	s.see("choosing alerts")
	s.m.stage.Say("it is done")
	assert.Contains(t, s.text(), "it is done")
	s.m.stage.Noted = time.Now().Add(-time.Hour)
	assert.Contains(t, s.text(), "choosing alerts")
	s.press("/")
	s.see("finding", "esc show all again")
	s.press("g", "u", "l", "l")
	s.see("nothing here has gull")
	s.press("esc")
	s.see("pump-7")
	s.press("/", "p", "u", "m", "p", "enter")
	s.see("found pump")
}

// The terminal's ground, its colours and its marks decide how it is drawn, unless it is said.
func TestLooks(t *testing.T) {
	s := onStage(t, newFake(), 120, 40)
	s.see("pump-7")
	s.m.o.Ground = ""
	s.take(tea.BackgroundColorMsg{Color: color.White})
	assert.Equal(t, paint.Light().Ground, s.m.stage.Palette.Ground)
	s.take(tea.ColorProfileMsg{Profile: colorprofile.ASCII})
	assert.True(t, s.m.stage.Palette.Mono)
	s.see("›pump-low")
	for _, c := range []struct{ term, locale, marks string }{{"linux", "C.UTF-8", "I"}, {"xterm", "POSIX", "I"}} {
		t.Setenv("TERM", c.term)
		t.Setenv("LC_ALL", c.locale)
		assert.True(t, newModel(Options{}).plain, "%v", c)
	}
	t.Setenv("TERM", "xterm-256color")
	t.Setenv("LC_ALL", "de_DE.utf8")
	assert.False(t, newModel(Options{}).plain)
	assert.True(t, newModel(Options{Marks: "plain"}).plain)
}

// Where the service runs, and what is looked at, is said where there is room.
func TestWhere(t *testing.T) {
	m := newModel(Options{Where: "joined"})
	assert.Equal(t, "joined", m.where())
	m.stage.View = &api.View{Where: "service on lock-3"}
	assert.Equal(t, "joined: service on lock-3", m.where())
	m.o.Where = ""
	assert.Equal(t, "service on lock-3", m.where())
	m.stage.Held = entry.Of(time.Date(2026, 11, 24, 5, 32, 0, 0, time.Local))
	assert.Equal(t, "looking at 05:32, actions are off", m.where())
}

// Where nothing is watched yet, every room shows how to begin, and nothing of the axis.
func TestNothingWatchedYet(t *testing.T) {
	f := newFake()
	s := onStage(t, f, 120, 40)
	s.see("pump-7")
	v := *s.m.stage.View
	v.Sources = 0
	s.m.stage.View = &v
	text := s.text()
	assert.Contains(t, text, "Nothing is watched yet")
	assert.Contains(t, text, "bring in a log")
	assert.NotContains(t, text, "tide")
	s.press("+")
	assert.Contains(t, s.text(), "typing a path")
}

// A centre that reads no log itself has all rooms: its hosts do.
func TestCentreThatReadsNothing(t *testing.T) {
	s := onStage(t, newFake(), 120, 40)
	s.see("pump-7")
	v := *s.m.stage.View
	v.Sources, v.Shared = 0, true
	s.m.stage.View = &v
	text := s.text()
	assert.NotContains(t, text, "Nothing is watched yet")
	assert.Contains(t, text, "tide")
}

// Questions of the rooms to each other go to the bench.
func TestToTheBench(t *testing.T) {
	s := onStage(t, newFake(), 120, 40)
	s.see("pump-7")
	s.press("b")
	s.see("rule pump-low {")
	assert.Equal(t, room.Bench, s.m.at)
	s.press("esc", "esc", "1")
	s.see("Look at the strainer.")
	s.press("n")
	s.see("a rule begins with an entry")
}
