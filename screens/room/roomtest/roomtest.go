// Package roomtest lets tests use a room as a person does, with a service of their own and
// without the screens around it.
package roomtest

import (
	"os/exec"
	"strings"

	"dimlantern/api"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
)

// Hand is a person before a room.
type Hand struct {
	Stage *room.Stage
	Room  room.Room // below the pages; nil is none
	Sent  []tea.Msg // what the room has sent to the screens
	Went  []room.At // the rooms that were asked for
}

// New returns a hand before no room yet, in a large window.
func New(l api.Lantern) *Hand {
	h := &Hand{}
	h.Stage = room.NewStage(func(to room.At) tea.Cmd { h.Went = append(h.Went, to); return nil }, h.views)
	h.Stage.Lend = func(cmd *exec.Cmd, then tea.ExecCallback) tea.Cmd {
		return func() tea.Msg { return then(cmd.Run()) }
	}
	h.Stage.Lantern, h.Stage.W, h.Stage.H, h.Stage.User = l, 160, 47, "mira"
	return h
}

// views is what the screens do when a new view is asked for: what is there is fresh.
func (h *Hand) views() tea.Cmd {
	return func() tea.Msg {
		return room.Answer{Do: func() tea.Cmd {
			if on := h.On(); on != nil {
				return on.Update(room.Fresh{})
			}
			return nil
		}}
	}
}

// On is what keys go to: the uppermost page, or the room.
func (h *Hand) On() room.Room {
	if n := len(h.Stage.Pages); n > 0 {
		return h.Stage.Pages[n-1]
	}
	return h.Room
}

// Do does what a room asks for, until it asks for nothing any more.
func (h *Hand) Do(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	switch msg := cmd().(type) {
	case nil:
	case tea.BatchMsg:
		for _, c := range msg {
			h.Do(c)
		}
	case room.Answer:
		h.Do(msg.Do())
	default:
		h.Sent = append(h.Sent, msg)
	}
}

var codes = map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "tab": tea.KeyTab, "up": tea.KeyUp,
	"down": tea.KeyDown, "left": tea.KeyLeft, "right": tea.KeyRight, "home": tea.KeyHome, "end": tea.KeyEnd,
	"pgup": tea.KeyPgUp, "pgdown": tea.KeyPgDown, "backspace": tea.KeyBackspace, "delete": tea.KeyDelete}

// Key is the message of a key by its name, such as a, enter, shift+left or ctrl+s.
func Key(name string) tea.KeyPressMsg {
	var mod tea.KeyMod
	base := name
	for lead, m := range map[string]tea.KeyMod{"shift+": tea.ModShift, "ctrl+": tea.ModCtrl, "alt+": tea.ModAlt} {
		if rest, ok := strings.CutPrefix(name, lead); ok {
			mod, base = m, rest
		}
	}
	switch code, ok := codes[base]; {
	case ok:
		return tea.KeyPressMsg{Code: code, Mod: mod}
	case base == "space":
		return tea.KeyPressMsg{Code: tea.KeySpace, Text: " "}
	case mod != 0:
		return tea.KeyPressMsg{Code: []rune(base)[0], Mod: mod}
	}
	return tea.KeyPressMsg{Code: []rune(base)[0], Text: base}
}

// Press presses keys, one after the other.
func (h *Hand) Press(names ...string) {
	for _, name := range names {
		k := Key(name)
		if h.Stage.Typed != nil {
			h.Do(h.Stage.Type(k))
			continue
		}
		on := h.On()
		if is := on.Keys().Of(k); is != nil && is.Do != nil {
			h.Do(is.Do(k.String()))
		} else {
			h.Do(on.Update(k))
		}
	}
}

// Types types a text.
func (h *Hand) Types(text string) {
	for _, r := range text {
		h.Press(string(r))
	}
}

// Answers types a line in the place of the one that stands there, and enters it.
func (h *Hand) Answers(text string) {
	h.Press("ctrl+u")
	h.Types(text)
	h.Press("enter")
}

// Text is what is drawn.
func (h *Hand) Text() string {
	c := paint.New(max(h.Stage.W, 1), max(h.Stage.H, 1), paint.Color{})
	h.On().Draw(c, 0, h.Stage.H)
	return ansi.Strip(c.String())
}
