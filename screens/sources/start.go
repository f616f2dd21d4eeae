package sources

import (
	"os"
	"os/exec"

	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

// Start is what is shown where nothing is watched yet.
type Start struct {
	stage *room.Stage
	name  string
	here  *here
}

// NewStart returns what is shown where nothing is watched yet, of settings that are called so.
func NewStart(s *room.Stage, name string) *Start { return &Start{s, name, newHere(s)} }

// Update is part of room.Room.
func (t *Start) Update(msg tea.Msg) tea.Cmd {
	if _, tick := msg.(room.Tick); tick {
		return t.here.ask()
	}
	return nil
}

// enter takes the kits that were found into use; on a log it brings in that one alone.
func (t *Start) enter() tea.Cmd {
	path := t.here.log()
	if path == "" {
		return t.here.take()
	}
	return openBring(t.stage, path, func(string) {})
}

// Keys is part of room.Room.
func (t *Start) Keys() room.Keys {
	return room.Keys{Where: "nothing is watched yet", List: []room.Key{
		room.Move(10, func(n int) tea.Cmd { t.here.move(n); return nil }).Said("choose", "choose"),
		room.Now("space", t.here.toggle).Said("take it or not", "or not").Told("of a kit: whether it is taken"),
		room.Do("enter", t.enter).Said("use "+room.Count(len(t.here.wanted()), "kit"), "use kits").
			Told("shows what will be written, and what it does; on a log it is that one alone"),
		room.Do("+", func() tea.Cmd { return openBring(t.stage, "", func(string) {}) }).Said("bring in a log", "a log").
			Told("type the path of a log; its settings are written for you"),
		room.Do("d", t.demo).Said("the demo", "the demo").Told("Gullhaven, a made-up harbour, until you leave it"),
	}}
}

// demo shows the demo in this terminal until it is left.
func (t *Start) demo() tea.Cmd {
	self, err := os.Executable()
	if err != nil {
		t.stage.Say("the demo cannot be opened: " + err.Error())
		return nil
	}
	return t.stage.Lend(exec.Command(self, "demo"), func(err error) tea.Msg {
		return room.Answer{Do: func() tea.Cmd {
			if !t.stage.Failed(err) {
				t.stage.Say("back from Gullhaven")
			}
			return t.stage.Refresh()
		}}
	})
}

// Draw is part of room.Room.
func (t *Start) Draw(c *paint.Canvas, top, bottom int) {
	p := t.stage.Palette
	base := paint.Style{Fg: p.Text}
	y := top + 1
	c.Put(1, y, base.With(p.Strong).Strong(), "Nothing is watched yet")
	y += 2
	folder := t.name
	if v := t.stage.View; v != nil {
		folder = v.Settings
	}
	lines := []string{
		"What runs here, and the kits that fit it, stand below: enter shows what will be written, and then watches.",
		"Press + to bring in one log by its path, or write settings yourself, in " + folder + ": whatever ends in " +
			".lantern there is taken up at once.",
		"Press d to see what it can look like: Gullhaven, a made-up harbour, opens until you leave it.",
	}
	for _, l := range lines {
		for _, part := range room.Wrap(l, c.W-3) {
			c.Put(1, y, base, part)
			y++
		}
	}
	t.here.draw(c, y+1, bottom)
}
