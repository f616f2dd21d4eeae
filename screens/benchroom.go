package screens

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	tea "charm.land/bubbletea/v2"

	"dimlantern/screens/bench"
	"dimlantern/screens/watch"
	"dimlantern/service"
)

type (
	benchMsg struct {
		asked string
		view  *service.BenchView
		err   error
	}
	benchFileMsg struct {
		file  *service.BenchFile
		line  int
		fresh bool
		err   error
	}
	markedMsg struct {
		marked *service.Marked
		err    error
	}
	savedMsg struct {
		file, body string
		err        error
	}
)

// benchPatience is how long a trial may take.
const benchPatience = 30 * time.Second

// benchFresh is how long a trial over live logs stands.
const benchFresh = 10 * time.Second

// askBench lets the text be tried as it is. A trial that still runs is stopped.
func (m *Model) askBench() tea.Cmd {
	if m.inRoom != inBench || m.bench.Pane == bench.List || m.view == nil || m.w == 0 {
		return nil
	}
	file, body, _ := m.bench.File()
	q := service.BenchQuery{File: file, Body: body, Line: m.bench.Line(), Col: m.bench.Column(), At: m.held, From: m.view.From, Column: m.view.Column,
		Columns: watch.ColumnsOf(m.w).LifeWidth, Fed: m.bench.Fed()}
	q.Span = m.view.At.Sub(q.From)
	asked := fmt.Sprint(file, q.Line, q.Col, len(q.Fed), m.held, q.Column, q.Columns, body)
	if m.held == 0 {
		asked += fmt.Sprint(time.Now().Truncate(benchFresh))
	}
	if asked == m.benchAsked {
		return nil
	}
	m.benchAsked = asked
	if m.stopBench != nil {
		m.stopBench()
	}
	ctx, cancel := context.WithTimeout(context.Background(), benchPatience)
	m.stopBench = cancel
	return func() tea.Msg {
		defer cancel()
		v, err := m.o.Lantern.Bench(ctx, q)
		return benchMsg{asked, v, err}
	}
}

func (m *Model) benchAnswered(msg benchMsg) {
	if msg.asked != m.benchAsked {
		return
	}
	if msg.err != nil {
		m.say(msg.err.Error())
		return
	}
	m.bench.Take(msg.view)
}

func (m *Model) say(text string) { m.note, m.noted = text, time.Now() }

// openRule opens the file of a rule, with the cursor on it.
func (m *Model) openRule() tea.Cmd {
	x := m.bench.Chosen()
	if x == nil {
		return nil
	}
	file, line := x.File, x.Line
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		f, err := m.o.Lantern.BenchOpen(ctx, service.BenchFile{File: file})
		return benchFileMsg{f, line, false, err}
	}
}

// newRule begins a rule in a file of its own.
func (m *Model) newRule() tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		f, err := m.o.Lantern.BenchNew(ctx, struct{}{})
		return benchFileMsg{f, 2, true, err}
	}
}

// benchKey does what a key stands for in the room bench; done tells whether it stands for
// something there.
func (m *Model) benchKey(k tea.KeyPressMsg) (cmd tea.Cmd, done bool) {
	b := &m.bench
	key := k.String()
	switch {
	case b.Pane == bench.List:
		switch key {
		case "enter":
			return m.openRule(), true
		case "n", "+":
			return m.newRule(), true
		case "left", "right", "shift+left", "shift+right", "[", "]", "c":
			return nil, true
		}
		return nil, false
	case key == "ctrl+s":
		return m.saveBench(), true
	}
	if b.Pane == bench.Text {
		switch key {
		case "tab":
			if b.Complete() {
				return m.askBench(), true
			}
			b.ToKinds()
			return nil, true
		case "esc":
			b.ToKinds()
			return nil, true
		}
		changed, cmd := b.Type(k)
		if changed {
			return tea.Batch(cmd, m.askBench()), true
		}
		return cmd, true
	}
	switch key {
	case "tab", "enter":
		return b.ToText(), true
	case "esc":
		if b.Changed() && !m.leaving {
			m.leaving = true
			m.say("the text is changed and not saved: ^s saves it, esc once more leaves it")
			return nil, true
		}
		m.leaving = false
		b.Close()
		return m.ask(), true
	case "p":
		return m.mark("problem"), true
	case "o":
		return m.mark("recovery"), true
	case "x":
		return m.mark("ignore"), true
	case "a":
		b.Feed()
		return m.askBench(), true
	case "A":
		b.FeedNone()
		return m.askBench(), true
	case "k":
		return m.markTexts("expect", "", b.Fed()), true
	case "space":
		b.Pick()
		b.Move(1)
		return nil, true
	case "f":
		b.Only()
		return nil, true
	case "u", "ctrl+z":
		if b.Undo() {
			return m.askBench(), true
		}
		return nil, true
	case "y":
		return m.whyKind(), true
	case "up", "down", "shift+up", "shift+down", "pgup", "pgdown":
		b.Move(map[string]int{"up": -1, "down": 1, "shift+up": -10, "shift+down": 10, "pgup": -10, "pgdown": 10}[key])
		return nil, true
	case "c", "[", "]", "home", "end":
		return nil, true
	}
	return nil, false
}

// mark lets the chosen kinds of entries be written into the text.
func (m *Model) mark(is string) tea.Cmd {
	source, texts := m.bench.Picked()
	if len(texts) == 0 {
		m.say("no kind of entries is chosen")
		return nil
	}
	return m.markTexts(is, source, texts)
}

func (m *Model) markTexts(is, source string, texts []string) tea.Cmd {
	file, body, _ := m.bench.File()
	q := service.MarkQuery{File: file, Body: body, Line: m.bench.Line(), Is: is, Source: source, Texts: texts}
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		x, err := m.o.Lantern.Mark(ctx, q)
		return markedMsg{x, err}
	}
}

func (m *Model) marked(msg markedMsg) tea.Cmd {
	if msg.err != nil {
		m.say(msg.err.Error())
		return nil
	}
	m.bench.Replace(msg.marked.Body, msg.marked.Line)
	m.bench.PickNone()
	m.bench.FeedNone()
	m.say("written: " + msg.marked.Clause + "; u takes it back")
	return m.askBench()
}

// whyKind asks why about the example of the chosen kind.
func (m *Model) whyKind() tea.Cmd {
	k := m.bench.Kind()
	if k == nil {
		m.say("no kind of entries is chosen")
		return nil
	}
	q := service.WhyQuery{At: m.held, Origin: k.Origin, Text: k.Example}
	m.mode = whying
	m.why = whyRead{asked: fmt.Sprint(q)}
	return m.whyCmd(q)
}

// saveBench writes the text into its file.
func (m *Model) saveBench() tea.Cmd {
	file, body, was := m.bench.File()
	if !m.bench.Changed() {
		m.say(filepath.Base(file) + " has this text already")
		return nil
	}
	fresh := m.bench.Fresh()
	if name := m.bench.Name(); fresh && name != "" {
		file = filepath.Join(filepath.Dir(file), name+".lantern")
	}
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		return savedMsg{file, body, m.o.Lantern.BenchWrite(ctx, service.BenchSave{File: file, Body: body, Was: was, New: fresh})}
	}
}

func (m *Model) saved(msg savedMsg) {
	if msg.err != nil {
		m.say(msg.err.Error())
		return
	}
	m.bench.Saved(msg.file, msg.body)
	m.say(filepath.Base(msg.file) + " is written, and taken up")
}

// benchKeys are the keys that matter in the room bench.
func (m *Model) benchKeys() (string, [][2]string) {
	narrow := m.w < 110
	switch m.bench.Pane {
	case bench.Text:
		if narrow {
			return "", [][2]string{{"esc", "kinds"}, {"alt ↑↓", "number"}, {"^z", "undo"}, {"^s", "save"}}
		}
		return "typing a rule", [][2]string{{"esc", "to the kinds"}, {"tab", "complete"}, {"alt ↑↓", "change a number"}, {"^z ^r", "undo, redo"}, {"^s", "save and put to work"}}
	case bench.Kinds:
		if narrow {
			return "", [][2]string{{"p", "problem"}, {"o", "over"}, {"x", "not"}, {"y", "why"}, {"u", "undo"}, {"tab", "text"}, {"^s", "save"}, {"esc", "rules"}}
		}
		return "choosing kinds", [][2]string{{"p", "is the problem"}, {"o", "means over"}, {"x", "not this"}, {"space", "several"}, {"a", "feed it"}, {"k", "keep as expect"}, {"f", "which"}, {"y", "why"}, {"u", "undo"}, {"tab", "text"}, {"^s", "save"}, {"esc", "rules"}}
	}
	return "choosing rules", [][2]string{{"↑↓", "which"}, {"enter", "open it"}, {"n", "a new one"}, {"/", "find"}, {"?", "help"}, {"q", "leave"}}
}
