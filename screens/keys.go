package screens

import (
	"context"
	"strings"
	"time"

	"dimlantern/api"

	"dimlantern/core/entry"
	"dimlantern/screens/watch"

	tea "charm.land/bubbletea/v2"
)

func (m *Model) paste(s string) tea.Cmd {
	s = strings.Map(func(r rune) rune {
		if r < 0x20 || r == 0x7f {
			return -1
		}
		return r
	}, s)
	switch m.mode {
	case finding, clearing, asking:
		m.input += s
		if m.mode == finding {
			m.find()
		}
	case bringing:
		m.first.path += s
		return m.bring(false)
	}
	return nil
}

// key does what a key stands for where one is.
func (m *Model) key(k tea.KeyPressMsg) tea.Cmd {
	if k.String() == "ctrl+c" {
		return tea.Quit
	}
	switch m.mode {
	case finding, clearing:
		return m.typing(k)
	case bringing:
		return m.bringKey(k)
	case beginning:
		return m.beginKey(k)
	case dividing:
		return m.divideKey(k)
	case whying:
		return m.whyKey(k)
	case asking:
		return m.askingKey(k)
	case putting:
		return m.putKey(k)
	case recalling:
		return m.pastKey(k)
	case hushing:
		return m.hushKey(k)
	case helping:
		m.mode, m.back = m.back, choosing
		if k.String() == "q" {
			return tea.Quit
		}
		return nil
	}
	if m.inRoom == inSources {
		if cmd, done := m.sourcesKey(k); done {
			return cmd
		}
	}
	if m.inRoom == inWatch && !m.empty() {
		if cmd, done := m.handleKey(k.String()); done {
			return cmd
		}
	}
	if m.inRoom == inBench {
		if cmd, done := m.benchKey(k); done {
			return cmd
		}
	}
	switch k.String() {
	case "q":
		return tea.Quit
	case "1", "2", "3":
		m.inRoom = map[string]int{"1": inWatch, "2": inBench, "3": inSources}[k.String()]
		return m.ask()
	case "up":
		m.move(-1)
	case "down":
		m.move(1)
	case "shift+up":
		m.move(-10)
	case "shift+down":
		m.move(10)
	case "home":
		m.move(-1 << 20)
	case "end":
		m.move(1 << 20)
	case "left":
		return m.hold(-1)
	case "right":
		return m.hold(1)
	case "shift+left":
		return m.hold(-10)
	case "shift+right":
		return m.hold(10)
	case "space":
		m.held, m.until = 0, 0
		return m.ask()
	case "+":
		if m.empty() {
			m.mode, m.first = bringing, bringIn{}
			return nil
		}
		m.zoom = min(m.zoom+1, len(widths)-1)
		m.until = 0
		return m.ask()
	case "-":
		m.zoom = max(m.zoom-1, 0)
		m.until = m.held
		return m.ask()
	case "[", "]":
		return m.jump(k.String() == "]")
	case "/":
		m.mode, m.input = finding, m.filter()
	case "?":
		m.mode = helping
	case "enter":
		if !m.room.Fold() {
			m.room.Drawer = !m.room.Drawer
			m.room.Opened = m.room.Drawer
		}
		if m.view != nil {
			m.room.Take(m.view)
		}
	case "esc":
		switch {
		case m.room.Drawer:
			m.room.Drawer, m.room.Opened = false, false
		case m.room.Filter != "":
			m.room.Filter = ""
		case m.held != 0:
			m.held, m.until = 0, 0
		}
		if m.view != nil {
			m.room.Take(m.view)
		}
		return m.ask()
	case "pgdown":
		m.room.Scroll += 10
	case "pgup":
		m.room.Scroll = max(0, m.room.Scroll-10)
	case "c":
		if m.inRoom == inWatch {
			m.beginClear()
		}
	case "y":
		if !m.empty() {
			return m.askWhy()
		}
	case "d":
		if m.empty() {
			return m.openDemo()
		}
	case "b":
		if m.inRoom == inWatch && !m.empty() {
			return m.ruleOf()
		}
	case "n":
		if m.inRoom == inWatch && !m.empty() {
			return m.ruleFrom()
		}
	}
	return m.askChosen()
}

// move chooses the row that many rows below in the room where one is.
func (m *Model) move(by int) {
	switch m.inRoom {
	case inSources:
		m.sources.Move(by)
		return
	case inBench:
		m.bench.Move(by)
		return
	}
	m.room.Move(by)
}

// filter is what is found for in the room where one is.
func (m *Model) filter() string {
	switch m.inRoom {
	case inSources:
		return m.sources.Filter
	case inBench:
		return m.bench.Filter
	}
	return m.room.Filter
}

// sourcesKey does what a key stands for in the room sources alone; done tells
// whether it stands for something there.
func (m *Model) sourcesKey(k tea.KeyPressMsg) (cmd tea.Cmd, done bool) {
	r := &m.sources
	switch k.String() {
	case "+":
		m.mode, m.first = bringing, bringIn{}
	case "enter":
		if _, o := r.Chosen(); o != nil {
			r.Inside, r.Scroll, r.Filter, r.Misfits = !r.Inside, 0, "", false
		}
	case "r":
		return m.startRule(), true
	case "n":
		return m.ruleFrom(), true
	case "l":
		return m.startFields(), true
	case "m":
		if _, o := r.Chosen(); o != nil {
			r.Inside, r.Scroll, r.Misfits = true, 0, !(r.Inside && r.Misfits)
		}
	case "f":
		r.Full = !r.Full
	case "esc":
		switch {
		case r.Inside && r.Filter == "":
			r.Inside, r.Misfits = false, false
		case r.Filter != "":
			r.Filter = ""
		default:
			return nil, false
		}
		r.Scroll = 0
	case "pgdown":
		r.Scroll += 10
	case "pgup":
		r.Scroll = max(0, r.Scroll-10)
	case "up", "down":
		if !r.Inside {
			return nil, false
		}
		r.Scroll = max(0, r.Scroll+map[string]int{"up": -1, "down": 1}[k.String()])
	default:
		return nil, false
	}
	if m.srcView != nil {
		r.Take(m.srcView)
	}
	return m.askEntries(), true
}

// beginClear asks for the words with which the chosen alert is cleared.
func (m *Model) beginClear() {
	x := m.room.Chosen()
	say := ""
	switch {
	case m.held != 0:
		say = "actions are off while the lamp is held; space makes it live"
	case x == nil || x.Alert == "" || x.Cleared != entry.None:
		say = "only an open alert can be cleared"
	case m.room.Folded():
		say = "this row stands for several keys; enter unfolds it"
	}
	if say != "" {
		m.note, m.noted = say, time.Now()
		return
	}
	m.mode, m.input = clearing, ""
}

// typing takes a key into the line that is being typed.
func (m *Model) typing(k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "esc":
		if m.mode == finding {
			m.input = ""
			m.find()
		}
		m.mode = choosing
	case "enter":
		if m.mode == clearing {
			m.mode = choosing
			return m.clear()
		}
		m.mode = choosing
	case "backspace":
		if r := []rune(m.input); len(r) > 0 {
			m.input = string(r[:len(r)-1])
		}
	case "ctrl+u":
		m.input = ""
	case "up", "down":
		m.move(map[string]int{"up": -1, "down": 1}[k.String()])
		return m.askChosen()
	default:
		if k.Text != "" {
			m.input += k.Text
		}
	}
	if m.mode == finding {
		m.find()
	}
	return m.askChosen()
}

func (m *Model) find() {
	if m.inRoom == inBench {
		m.bench.Filter = m.input
		m.bench.TakeRules(m.bench.Rules)
		return
	}
	if m.inRoom == inSources {
		m.sources.Filter, m.sources.Scroll = m.input, 0
		if m.srcView != nil {
			m.sources.Take(m.srcView)
		}
		return
	}
	m.room.Filter = m.input
	if m.view != nil {
		m.room.Take(m.view)
	}
}

func (m *Model) clear() tea.Cmd {
	x := m.room.Chosen()
	if x == nil {
		return nil
	}
	q := api.ClearQuery{Person: m.person(), Alert: x.Alert, Words: m.input}
	name := watch.Headline(x)
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		if _, err := api.DoClear.Call(ctx, m.o.Lantern, q); err != nil {
			return doneMsg{err: err}
		}
		return doneMsg{text: name + " is cleared"}
	}
}

// hold moves the lamp by columns; moved to the present it is live again.
func (m *Model) hold(by int) tea.Cmd {
	if m.view == nil {
		return nil
	}
	w := entry.Instant(widths[m.zoom])
	at := m.held
	if at == 0 {
		at = m.view.Now
		m.until = at
	}
	at += entry.Instant(by) * w
	if at >= m.view.Now {
		m.held, m.until = 0, 0
		return m.ask()
	}
	if m.view.First != entry.None {
		at = max(at, m.view.First)
	}
	m.lamp(at)
	return m.ask()
}

// lamp holds the lamp at an instant, and moves the axis along where it would
// stand too near an edge.
func (m *Model) lamp(at entry.Instant) {
	m.held = at
	columns := entry.Instant(watch.ColumnsOf(m.w).LifeWidth)
	w := entry.Instant(widths[m.zoom])
	if m.until == 0 {
		m.until = m.view.Now
	}
	m.until = max(m.until, at)
	if left := m.until - columns*w*4/5; at < left {
		m.until = at + columns*w*4/5
	}
	m.until = min(m.until, max(m.view.Now, at))
}

// jump holds the lamp at the chosen row's transition before or after it.
func (m *Model) jump(after bool) tea.Cmd {
	if m.view == nil || m.room.Chosen() == nil {
		return nil
	}
	at := m.held
	if at == 0 {
		at = m.view.Now
	}
	best := entry.None
	note := func(t entry.Instant) {
		switch {
		case t == entry.None:
		case after && t > at && (best == entry.None || t < best), !after && t < at && t > best:
			best = t
		}
	}
	for _, s := range m.room.Chosen().Life.Alerts {
		note(s.From)
		note(s.To)
		for _, x := range s.Steps {
			note(x.At)
		}
	}
	switch {
	case best != entry.None:
		m.lamp(best)
	case after:
		m.held, m.until = 0, 0
	}
	return m.ask()
}

// click chooses a row, or holds the lamp at a moment of the axis.
func (m *Model) click(at tea.Mouse) tea.Cmd {
	if m.view != nil && m.mode == dividing && at.Button == tea.MouseLeft {
		if m.divide.Click(at.X, at.Y, 2, false) {
			return m.askFields()
		}
		return nil
	}
	if m.view == nil || m.mode != choosing || at.Button != tea.MouseLeft {
		return nil
	}
	if at.Y >= m.footTop() {
		a := m.axis()
		if k := at.X - a.X; k >= 0 && k < a.Columns {
			if t := a.At(k) - 1; t < m.view.Now {
				m.lamp(t)
			} else {
				m.held, m.until = 0, 0
			}
			return m.ask()
		}
		return nil
	}
	if at.Y == 0 { // the rooms
		for i, x := range m.roomAt {
			if x > 0 && at.X >= x-2 && at.X < x+8 {
				m.inRoom = i
				return m.ask()
			}
		}
		return nil
	}
	if m.inRoom == inBench {
		if m.bench.Click(at.X, at.Y) {
			return m.askBench()
		}
		return nil
	}
	if m.inRoom == inSources && m.sources.Click(at.Y) || m.inRoom == inWatch && m.room.Click(at.Y) {
		return m.askChosen()
	}
	return nil
}
