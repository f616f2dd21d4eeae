package screens

import (
	"context"
	"path/filepath"
	"time"

	"dimlantern/api"

	tea "charm.land/bubbletea/v2"

	"dimlantern/screens/paint"
)

// askPast asks for what was put to work before.
func (m *Model) askPast() tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		p, err := api.AskPast.Call(ctx, m.o.Lantern, api.PastQuery{Limit: 200})
		return pastMsg{p, err}
	}
}

func (m *Model) pastAnswered(msg pastMsg) {
	switch {
	case msg.err != nil:
		m.say(msg.err.Error())
	case len(msg.past.List) == 0:
		m.say("no settings have been changed since this data folder was begun")
	default:
		m.past, m.pastAt, m.mode = msg.past, 0, recalling
	}
}

// pastKey does what a key stands for among what was put to work before.
func (m *Model) pastKey(k tea.KeyPressMsg) tea.Cmd {
	n := len(m.past.List)
	switch k.String() {
	case "esc", "q":
		m.mode = choosing
	case "up", "shift+up", "pgup":
		m.pastAt = max(m.pastAt-map[string]int{"up": 1}[k.String()]-map[string]int{"shift+up": 10,
			"pgup": 10}[k.String()], 0)
	case "down", "shift+down", "pgdown":
		m.pastAt = min(m.pastAt+map[string]int{"down": 1}[k.String()]+
			map[string]int{"shift+down": 10, "pgdown": 10}[k.String()], n-1)
	case "enter": // the way back: the text from before, with what putting it to work would do
		x := m.past.List[m.pastAt]
		m.mode = choosing
		if x.Was == "" {
			m.say("this change made the file: there is no text from before; D among the rules deletes a rule")
			return nil
		}
		return func() tea.Msg {
			ctx, cancel := context.WithTimeout(context.Background(), patience)
			defer cancel()
			f, err := api.OpenText.Call(ctx, m.o.Lantern, api.BenchFile{File: x.File})
			if err != nil { // it is gone: it comes back as a new one
				return benchFileMsg{file: &api.BenchFile{File: x.File, Body: x.Was}, line: 1, fresh: true}
			}
			return benchFileMsg{file: f, line: 1, instead: x.Was}
		}
	}
	return nil
}

// drawPast draws what was put to work before, and what differs in the chosen change.
func (m *Model) drawPast(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	dim := base.With(p.Dim)
	x := c.Put(1, top, base.With(p.Strong).Strong(), "put to work before")
	c.Cut(x+2, top, c.W-x-3, dim, "enter opens the text from before, so that it can be put to work again")
	list := (bottom - top - 3) / 2
	first := max(0, m.pastAt-list+1)
	y := top + 2
	for i := first; i < len(m.past.List) && i < first+list; i++ {
		e := m.past.List[i]
		style := base
		if i == m.pastAt {
			c.Ground(0, y, c.W, p.Chosen)
			style = base.With(p.Strong)
			if p.Mono {
				c.Put(0, y, base.Strong(), "›")
			}
		}
		c.Cut(2, y, 15, dim, time.Unix(0, int64(e.At)).Format("2 Jan 15:04:05"))
		c.Cut(19, y, 18, style, e.By)
		c.Cut(39, y, 26, style, filepath.Base(e.File))
		words := e.Did
		if e.What != "" {
			words = e.What + ": " + words
		}
		c.Cut(67, y, c.W-68, dim, words)
		y++
	}
	y = top + 3 + list
	e := m.past.List[m.pastAt]
	c.Rule(1, y-1, c.W-2, base.With(p.Rule), false)
	for _, l := range api.Diff(e.Was, e.Now) {
		if y >= bottom {
			break
		}
		style := dim
		switch l[0] {
		case '+':
			style = base
		}
		c.Cut(2, y, c.W-3, style, l)
		y++
	}
}
