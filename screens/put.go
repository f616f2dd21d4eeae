package screens

import (
	"context"
	"path/filepath"
	"strings"

	"dimlantern/api"

	tea "charm.land/bubbletea/v2"

	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/watch"
)

// putWork is a change of the settings that is shown before it is done.
type putWork struct {
	q      api.PutQuery
	put    *api.Put
	tests  bool // it only shows which tests pass
	scroll int
}

type (
	putMsg struct {
		put *api.Put
		err error
		did bool
		q   api.PutQuery
	}
	pastMsg struct {
		past *api.PastPuts
		err  error
	}
	editedMsg struct {
		body string
		err  error
	}
	proposalsMsg struct {
		asked string
		list  *api.Proposals
	}
)

// person is who sits at this terminal.
func (m *Model) person() api.Person { return api.Person{By: m.o.User, From: m.o.Terminal} }

// askPut asks what a change would do, or has it done.
func (m *Model) askPut(q api.PutQuery) tea.Cmd {
	q.Person = m.person()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), benchPatience)
		defer cancel()
		p, err := api.DoPut.Call(ctx, m.o.Lantern, q)
		return putMsg{p, err, q.Do, q}
	}
}

// putBench shows what putting the open text to work would do.
func (m *Model) putBench() tea.Cmd {
	m.bench.Canonical()
	file, body, was := m.bench.File()
	fresh := m.bench.Fresh()
	if name := m.bench.Name(); fresh && name != "" {
		file = filepath.Join(filepath.Dir(file), name+".lantern")
	}
	return m.askPut(api.PutQuery{Files: []api.BenchSave{{File: file, Body: body, Was: was, New: fresh}}})
}

func (m *Model) putAnswered(msg putMsg) tea.Cmd {
	if msg.err != nil {
		m.say(msg.err.Error())
		m.mode = choosing
		return tea.Batch(m.ask(), m.askTheirs(msg.err))
	}
	if !msg.did || msg.put.Refused != "" {
		m.put = putWork{q: msg.q, put: msg.put, tests: msg.put.Tests}
		m.mode = putting
		return nil
	}
	m.mode = choosing
	m.say(msg.put.Done)
	if msg.q.Rule == nil && len(msg.put.Files) == 1 {
		m.bench.Saved(msg.put.Files[0].File, msg.put.Files[0].Body)
	}
	return m.ask()
}

// changeRule shows what something done to the chosen rule would do.
func (m *Model) changeRule(what string) tea.Cmd {
	x := m.bench.Chosen()
	if x == nil {
		return nil
	}
	change := api.RuleChange{What: what, Rule: x.Rule}
	switch {
	case what == "off" && x.Off:
		change.What = "on"
	case what == "copy" || what == "rename":
		label := what + " " + x.Rule + " to"
		m.prompted(prompt{label: label, hint: "enter shows what that changes   esc leaves it",
			then: func(name string) tea.Cmd {
				change.Name = strings.TrimSpace(name)
				return m.askPut(api.PutQuery{Rule: &change})
			}}, x.Rule)
		return nil
	}
	return m.askPut(api.PutQuery{Rule: &change})
}

// putKey does what a key stands for while a change is shown.
func (m *Model) putKey(k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "q":
		if m.put.tests {
			m.mode = choosing
		}
	case "esc":
		m.mode = choosing
	case "up":
		m.put.scroll = max(m.put.scroll-1, 0)
	case "down":
		m.put.scroll++
	case "enter", "ctrl+p":
		if m.put.tests || m.put.put.Refused != "" {
			m.mode = choosing
			return nil
		}
		q := m.put.q
		q.Do = true
		m.mode = choosing
		m.say("putting it to work")
		return m.askPut(q)
	}
	return nil
}

// drawPut draws what a change would do.
func (m *Model) drawPut(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	w := &m.put
	x := c.Cut(1, top, c.W-2, base.With(p.Strong).Strong(), w.put.Title)
	if !w.tests {
		c.Cut(x+2, top, c.W-x-3, base.With(p.Dim), "nothing is changed yet; this is what it will do")
	}
	y := top + 2
	const word = 14
	rows := -w.scroll
	for i, l := range w.put.Lines {
		style := base
		if l.Bad {
			style = base.With(p.Severity[entry.Warning])
		}
		head := l.Word
		if i > 0 && w.put.Lines[i-1].Word == head {
			head = ""
		}
		for k, part := range watch.Wrap(l.Text, c.W-word-4) {
			if rows >= 0 && y < bottom-2 {
				if k == 0 {
					c.Cut(2, y, word-1, base.With(p.Dim), head)
				}
				c.Cut(2+word, y, c.W-word-3, style, part)
				y++
			}
			rows++
		}
	}
	if w.put.Refused == "" && !w.tests {
		y++
		for _, f := range w.put.Files {
			if y >= bottom-2 {
				break
			}
			c.Rule(1, y, 2, base.With(p.Rule), false)
			at := c.Put(4, y, base.With(p.Strong).Strong(), filepath.Base(f.File))
			c.Rule(at+1, y, c.W-at-2, base.With(p.Rule), false)
			y++
			was := f.Was
			if f.New {
				was = ""
			}
			now := f.Body
			if f.Gone {
				now = ""
			}
			for _, l := range api.Diff(was, now) {
				if y >= bottom {
					break
				}
				style := base.With(p.Dim)
				if l[0] == '+' {
					style = base
				}
				c.Cut(2, y, c.W-3, style, l)
				y++
			}
		}
	}
	if w.put.Refused != "" {
		c.Cut(2, min(y+1, bottom-1), c.W-3, base.With(p.Severity[entry.Error]), "It cannot be put to work: "+
			w.put.Refused)
	}
}

// askTests asks which tests of the settings pass, with the open text in them.
func (m *Model) askTests() tea.Cmd {
	file, body, _ := m.bench.File()
	q := api.BenchQuery{File: file, Body: body, Line: m.bench.Line()}
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), benchPatience)
		defer cancel()
		p, err := api.TryTests.Call(ctx, m.o.Lantern, q)
		return putMsg{put: p, err: err}
	}
}
