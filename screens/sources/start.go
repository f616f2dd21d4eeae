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
}

// NewStart returns what is shown where nothing is watched yet, of settings that are called so.
func NewStart(s *room.Stage, name string) *Start { return &Start{s, name} }

// Update is part of room.Room.
func (t *Start) Update(tea.Msg) tea.Cmd { return nil }

// Keys is part of room.Room.
func (t *Start) Keys() room.Keys {
	return room.Keys{Where: "nothing is watched yet", List: []room.Key{
		room.Now("+", func() { openBring(t.stage, func(string) {}) }).Said("bring in a log", "bring in a log").
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
func (t *Start) Draw(c *paint.Canvas, top, _ int) {
	p := t.stage.Palette
	base := paint.Style{Fg: p.Text}
	y := top + 1
	c.Put(1, y, base.With(p.Strong).Strong(), "Nothing is watched yet")
	y += 2
	folder := t.name
	if v := t.stage.View; v != nil {
		folder = v.Settings
	}
	for _, l := range []string{
		"Press + and type the path of a log, such as /var/log/syslog: its first settings file is written for you.",
		"Or write one yourself, in " + folder + ": whatever ends in .lantern there is taken up at once.",
		"Press d to see what it can look like: Gullhaven, a made-up harbour, opens until you leave it.",
	} {
		for _, part := range room.Wrap(l, c.W-3) {
			c.Put(1, y, base, part)
			y++
		}
	}
}
