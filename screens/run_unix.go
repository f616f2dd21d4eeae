//go:build unix

package screens

import (
	"os"
	"os/exec"

	"dimlantern/screens/terminal"

	tea "charm.land/bubbletea/v2"
)

// Run shows the screens on the terminal until the user leaves them.
func Run(o Options) error {
	m := newModel(o)
	t, err := terminal.Open(os.Stdin, os.Stdout, m.title())
	if err != nil {
		return err
	}
	defer t.Close()
	m.blank = t.Canvas
	m.stage.Lend = func(cmd *exec.Cmd, then tea.ExecCallback) tea.Cmd { return tea.Exec(t.Lend(cmd), then) }
	// It draws nothing itself, so that it does not wake up to see whether there is something.
	w, h, err := t.Size()
	if err != nil {
		return err
	}
	p := tea.NewProgram(&onTerminal{m, t}, tea.WithoutRenderer(), tea.WithFPS(1), tea.WithWindowSize(w, h))
	changes, stop := t.Resized()
	defer stop()
	go func() {
		for range changes {
			if w, h, err := t.Size(); err == nil {
				p.Send(tea.WindowSizeMsg{Width: w, Height: h})
			}
		}
	}()
	_, err = p.Run()
	return err
}

// onTerminal shows a model on a terminal.
type onTerminal struct {
	*Model
	t *terminal.Terminal
}

// Init is part of tea.Model.
func (o *onTerminal) Init() tea.Cmd { return tick(0) }

// Update is part of tea.Model.
func (o *onTerminal) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	defer func() {
		if p := recover(); p != nil {
			o.t.Close() // what is said about it shall be seen
			panic(p)
		}
	}()
	_, cmd := o.Model.Update(msg)
	return o, cmd
}

// View is part of tea.Model.
func (o *onTerminal) View() tea.View {
	if c := o.canvas(); c != nil {
		o.t.Show(c)
	}
	return tea.View{}
}
