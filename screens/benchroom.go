package screens

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"dimlantern/api"

	tea "charm.land/bubbletea/v2"

	"dimlantern/core/entry"
	"dimlantern/screens/bench"
	"dimlantern/screens/watch"
)

type (
	benchMsg struct {
		asked string
		q     api.BenchQuery
		view  *api.BenchView
		err   error
	}
	benchFileMsg struct {
		file    *api.BenchFile
		line    int
		fresh   bool
		instead string         // a text that stands there, changed, instead of the file's
		mark    *api.MarkQuery // what is marked at once
		err     error
	}
	markedMsg struct {
		marked *api.Marked
		err    error
	}
	othersMsg struct {
		asked string
		line  int
		words string
	}
	savedMsg struct {
		file, body string
		err        error
	}
)

// benchPatience is how long a trial may take.
const benchPatience = 2 * time.Minute

// benchFresh is how long a trial over live logs stands.
const benchFresh = 10 * time.Second

// askBench lets the text be tried as it is. A trial that still runs is stopped.
func (m *Model) askBench() tea.Cmd {
	if m.inRoom != inBench || m.bench.Pane == bench.List || m.view == nil || m.w == 0 {
		return nil
	}
	q := m.benchQuery()
	asked := fmt.Sprint(m.sampleFrom, q.File, q.Line, q.Col, len(q.Fed), m.held, q.Column, q.Columns, q.Files,
		q.Filter, q.Body)
	if m.held == 0 {
		asked += fmt.Sprint(time.Now().Truncate(benchFresh))
	}
	if asked == m.benchAsked {
		return nil
	}
	m.benchAsked = asked
	if m.stopOthers != nil {
		m.stopOthers()
	}
	if m.stopBench != nil { // one at a time; the newest text follows once it has stopped
		m.stopBench()
		m.benchLater = true
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), benchPatience)
	m.stopBench = cancel
	return func() tea.Msg {
		defer cancel()
		select { // what is being typed stands on the screen first, and is tried when it pauses
		case <-time.After(benchPause):
		case <-ctx.Done():
			return benchMsg{asked: asked, q: q, err: ctx.Err()}
		}
		v, err := api.TryText.Call(ctx, m.o.Lantern, q)
		return benchMsg{asked, q, v, err}
	}
}

// benchPause is how long a text must not have changed before it is tried.
const benchPause = 40 * time.Millisecond

// benchQuery is the text as it is, and the sample that it is tried on.
func (m *Model) benchQuery() api.BenchQuery {
	file, body, _ := m.bench.File()
	q := api.BenchQuery{File: file, Body: body, Line: m.bench.Line(), Col: m.bench.Column(), At: m.held,
		From: m.view.From, Column: m.view.Column,
		Columns: watch.ColumnsOf(m.w).LifeWidth, Fed: m.bench.Fed(), Files: m.files, Filter: m.words}
	q.Span = m.view.At.Sub(q.From)
	if m.sampleFrom != 0 && m.sampleFrom < m.view.At {
		q.Span = m.view.At.Sub(m.sampleFrom)
	}
	return q
}

func (m *Model) benchAnswered(msg benchMsg) tea.Cmd {
	m.stopBench = nil
	if m.benchLater {
		m.benchLater, m.benchAsked = false, ""
		return m.askBench()
	}
	if msg.asked != m.benchAsked {
		return nil
	}
	if msg.err != nil {
		m.say(msg.err.Error())
		return nil
	}
	m.bench.Take(msg.view)
	// the axis goes to where they are
	if len(msg.q.Files) > 0 && m.toSample && msg.view.Ends != entry.None && msg.view.Tried != nil {
		m.toSample = false
		m.held, m.until = msg.view.Ends, msg.view.Ends
		return tea.Batch(m.askProposals(msg.q), m.ask())
	}
	return tea.Batch(m.askProposals(msg.q), m.askOthers(msg.q))
}

// askOthers asks what other numbers would give, behind the answer that is shown already.
func (m *Model) askOthers(q api.BenchQuery) tea.Cmd {
	if m.bench.Pane != bench.Text {
		return nil
	}
	asked := m.benchAsked
	ctx, cancel := context.WithTimeout(context.Background(), benchPatience)
	m.stopOthers = cancel
	return func() tea.Msg {
		defer cancel()
		x, err := api.TryOthers.Call(ctx, m.o.Lantern, q)
		if err != nil {
			return nil
		}
		return othersMsg{asked, q.Line - 1, x.Words}
	}
}

// openedRule opens a file that has come.
func (m *Model) openedRule(msg benchFileMsg) tea.Cmd {
	m.benchAsked, m.proposed = "", ""
	m.inRoom = inBench
	m.bench.Open(msg.file.File, msg.file.Body, msg.line, msg.fresh)
	if msg.instead != "" {
		m.bench.Replace(msg.instead, 1)
		m.say("the text from before; ^p shows what putting it to work changes")
	}
	if msg.mark != nil {
		q := *msg.mark
		q.File, q.Body, q.Line = msg.file.File, msg.file.Body, msg.line
		return m.markCmd(q)
	}
	return m.askBench()
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
		f, err := api.OpenText.Call(ctx, m.o.Lantern, api.BenchFile{File: file})
		return benchFileMsg{file: f, line: line, err: err}
	}
}

// newRule begins a rule in a file of its own.
func (m *Model) newRule(source string, mark *api.MarkQuery) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		f, err := api.NewText.Call(ctx, m.o.Lantern, api.BenchBegin{Source: source})
		return benchFileMsg{file: f, line: 2, fresh: true, mark: mark, err: err}
	}
}

// ruleOf opens the rule of the chosen alert.
func (m *Model) ruleOf() tea.Cmd {
	x := m.room.Chosen()
	if x == nil || x.Rule == "" {
		m.say("nothing is chosen that a rule has raised")
		return nil
	}
	rule := x.Rule
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		v, err := api.AskRules.Call(ctx, m.o.Lantern, api.None{})
		if err != nil {
			return benchFileMsg{err: err}
		}
		for _, r := range v.Rules {
			if r.Rule == rule && filepath.Ext(r.File) == ".lantern" {
				f, err := api.OpenText.Call(ctx, m.o.Lantern, api.BenchFile{File: r.File})
				return benchFileMsg{file: f, line: r.Line, err: err}
			}
		}
		return benchFileMsg{err: fmt.Errorf("%s is built in: it stands in no file", rule)}
	}
}

// ruleFrom begins a rule on the bench of which an entry is the problem.
func (m *Model) ruleFrom() tea.Cmd {
	source, raw := "", ""
	switch m.inRoom {
	case inSources:
		src, _ := m.sources.Chosen()
		l := m.sources.Entry(m.entries)
		if src == nil || l == nil {
			m.say("a rule begins with an entry, and none is here")
			return nil
		}
		source, raw = src.Name, l.Raw
	default:
		if m.detail == nil || m.detail.Newest == "" || m.detail.Source == "" {
			m.say("a rule begins with an entry: choose an alert that shows some")
			return nil
		}
		source = m.detail.Source
		raw = m.detail.Newest
	}
	return m.newRule(source, &api.MarkQuery{Is: "problem", Source: source, Texts: []string{raw}})
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
			return m.newRule("", nil), true
		case "c":
			return m.changeRule("copy"), true
		case "r":
			return m.changeRule("rename"), true
		case "o":
			return m.changeRule("off"), true
		case "D", "delete":
			return m.changeRule("delete"), true
		case "b":
			return m.askPast(), true
		case "left", "right", "shift+left", "shift+right", "[", "]":
			return nil, true
		}
		return nil, false
	case key == "ctrl+s":
		return m.saveBench(), true
	case key == "ctrl+p":
		return m.putBench(), true
	case key == "ctrl+t":
		return m.askTests(), true
	case key == "ctrl+f":
		m.searchText()
		return nil, true
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
		if b.Type(k) {
			return m.askBench(), true
		}
		return nil, true
	}
	if b.Pane == bench.Lives {
		switch key {
		case "tab", "enter":
			b.ToText()
			return nil, true
		case "esc":
			b.ToKinds()
			return nil, true
		case "y":
			return m.whyLife(), true
		case "up", "down", "shift+up", "shift+down", "pgup", "pgdown":
			b.Move(map[string]int{"up": -1, "down": 1, "shift+up": -10, "shift+down": 10, "pgup": -10,
				"pgdown": 10}[key])
			return nil, true
		case "left", "right", "shift+left", "shift+right", "space", "+", "-", "?", "q", "1", "3":
			return nil, false
		}
		return nil, true
	}
	switch key {
	case "tab":
		if b.ToLives() {
			return nil, true
		}
		b.ToText()
		return nil, true
	case "enter":
		b.ToText()
		return nil, true
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
	case "i":
		m.feedByHand()
		return nil, true
	case "n":
		m.nameValue()
		return nil, true
	case "E":
		return m.editOutside(), true
	case "s":
		switch {
		case m.sampleFrom != 0:
			m.sampleFrom = 0
			m.say("the sample is again what the axis shows")
		case m.held == 0:
			m.say("hold the lamp with ← where the sample is to begin, and press s; where the lamp goes then, it ends")
		default:
			m.sampleFrom = m.held
			m.say("the sample begins at the lamp; where it goes now, it ends. s takes that back")
		}
		return m.askBench(), true
	case "F":
		m.sampleFiles()
		return nil, true
	case "/":
		m.prompted(prompt{label: "only entries with", hint: "enter tries it on those alone; empty on all   esc " +
			"leaves it", then: func(text string) tea.Cmd {
			m.words = strings.TrimSpace(text)
			return m.askBench()
		}}, m.words)
		return nil, true
	case "k":
		return m.markTexts("expect", "", b.Fed(), nil), true
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
	source, texts, kinds := m.bench.Picked()
	if len(texts) == 0 {
		m.say("no kind of entries is chosen")
		return nil
	}
	return m.markTexts(is, source, texts, kinds)
}

func (m *Model) markTexts(is, source string, texts, kinds []string) tea.Cmd {
	file, body, _ := m.bench.File()
	return m.markCmd(api.MarkQuery{File: file, Body: body, Line: m.bench.Line(), Is: is, Source: source, Texts: texts,
		Kinds: kinds})
}

func (m *Model) markCmd(q api.MarkQuery) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		x, err := api.MarkEntries.Call(ctx, m.o.Lantern, q)
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
	if strings.HasPrefix(msg.marked.Clause, "expect ") {
		m.bench.FeedNone()
	}
	words := "written: " + msg.marked.Clause
	if msg.marked.Costs != "" {
		words += "; " + msg.marked.Costs
	}
	m.say(words + "; u takes it back")
	return m.askBench()
}

// whyKind asks why about the example of the chosen kind.
func (m *Model) whyKind() tea.Cmd {
	k := m.bench.Kind()
	if k == nil {
		m.say("no kind of entries is chosen")
		return nil
	}
	typed := m.benchQuery()
	q := api.WhyQuery{At: m.held, Origin: k.Origin, Source: k.Source, Text: k.Example, Typed: &typed}
	m.mode = whying
	m.why = whyRead{asked: fmt.Sprint(q, typed)}
	return m.whyCmd(q)
}

// whyLife asks how the rule that is being typed would stand for the chosen key at the lamp.
func (m *Model) whyLife() tea.Cmd {
	x := m.bench.Life()
	if x == nil {
		return nil
	}
	typed := m.benchQuery()
	q := api.WhyQuery{At: m.held, Key: x.Key, Typed: &typed}
	m.mode = whying
	m.why = whyRead{asked: fmt.Sprint(q, typed)}
	return m.whyCmd(q)
}

// saveBench writes the text into its file.
func (m *Model) saveBench() tea.Cmd {
	m.bench.Canonical()
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
		_, err := api.WriteText.Call(ctx, m.o.Lantern, api.BenchSave{File: file, Body: body, Was: was, New: fresh})
		return savedMsg{file, body, err}
	}
}

func (m *Model) saved(msg savedMsg) tea.Cmd {
	if msg.err != nil {
		m.say(msg.err.Error())
		return m.askTheirs(msg.err)
	}
	m.bench.Saved(msg.file, msg.body)
	words := " is written, and taken up"
	if m.view != nil && m.view.ByHand {
		words = " is written; ^p puts it to work"
	}
	m.say(filepath.Base(msg.file) + words)
	return nil
}

// askTheirs shows what somebody else has changed in the open file meanwhile, where that is
// why it was not written.
func (m *Model) askTheirs(err error) tea.Cmd {
	if !errors.Is(err, api.Changed) {
		return nil
	}
	file, _, was := m.bench.File()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		f, err := api.OpenText.Call(ctx, m.o.Lantern, api.BenchFile{File: file})
		if err != nil {
			return nil
		}
		p := &api.Put{Title: filepath.Base(file) + " was changed by somebody else meanwhile; nothing is written, " +
			"and what you typed is still here", Tests: true}
		for _, l := range api.Diff(was, f.Body) {
			p.Lines = append(p.Lines, api.PutLine{Word: map[byte]string{'+': "theirs", '-': "was"}[l[0]],
				Text: strings.TrimRight(l[2:], " "), Bad: l[0] == '+'})
		}
		return putMsg{put: p}
	}
}

// benchKeys are the keys that matter in the room bench.
func (m *Model) benchKeys() (string, [][2]string) {
	narrow := m.w < 110
	switch m.bench.Pane {
	case bench.Text:
		if narrow {
			return "", [][2]string{{"esc", "kinds"}, {"alt ↑↓", "number"}, {"^z", "undo"}, {"^s", "save"},
				{"^p", "to work"}}
		}
		return "typing a rule", [][2]string{{"esc", "to the kinds"}, {"tab", "complete"},
			{"alt ↑↓", "change a number"}, {"^z ^r", "undo, redo"}, {"^f", "search"}, {"^t", "tests"}, {"^s", "save"},
			{"^p", "put to work"}}
	case bench.Lives:
		return "choosing lifelines", [][2]string{{"↑↓", "which"}, {"y", "why, at the lamp"}, {"←→", "back in time"},
			{"space", "live"}, {"tab", "text"}, {"esc", "to the kinds"}}
	case bench.Kinds:
		if narrow {
			return "", [][2]string{{"p", "problem"}, {"o", "over"}, {"x", "not"}, {"n", "name"}, {"y", "why"},
				{"u", "undo"}, {"enter", "text"}, {"^p", "to work"}, {"?", "help"}, {"esc", "rules"}}
		}
		return "choosing kinds", [][2]string{{"p", "problem"}, {"o", "over"}, {"x", "not this"},
			{"n", "name a value"}, {"space", "several"}, {"a i", "feed"}, {"k", "keep"}, {"f", "which"}, {"y", "why"},
			{"u", "undo"}, {"^p", "put to work"}, {"?", "all keys"}, {"esc", "rules"}}
	}
	if narrow {
		return "", [][2]string{{"enter", "open"}, {"n", "new"}, {"c", "copy"}, {"r", "rename"}, {"o", "off, on"},
			{"D", "delete"}, {"b", "before"}, {"/", "find"}, {"?", "help"}, {"q", "leave"}}
	}
	return "choosing rules", [][2]string{{"↑↓", "which"}, {"enter", "open it"}, {"n", "a new one"}, {"c", "copy"},
		{"r", "rename"}, {"o", "off, on"}, {"D", "delete"}, {"b", "what was before"}, {"/", "find"}, {"?", "help"},
		{"q", "leave"}}
}
