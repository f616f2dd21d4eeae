package screens

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"dimlantern/core/entry"
	"dimlantern/screens/bench"
	"dimlantern/screens/paint"
	"dimlantern/screens/watch"
	"dimlantern/service"
)

// prompt is a line that is being typed at the bottom, and what is done with it.
type prompt struct {
	label, hint string
	next        func() // tab: another thing to speak of; nil where there is none
	then        func(text string) tea.Cmd
}

// prompted asks for a line.
func (m *Model) prompted(p prompt, text string) {
	m.prompt, m.input, m.mode = p, text, asking
}

// putting is a change of the settings that is shown before it is done.
type putWork struct {
	q      service.PutQuery
	put    *service.Put
	tests  bool // it only shows which tests pass
	scroll int
}

type (
	putMsg struct {
		put *service.Put
		err error
		did bool
		q   service.PutQuery
	}
	pastMsg struct {
		past *service.PastPuts
		err  error
	}
	editedMsg struct {
		body string
		err  error
	}
	proposalsMsg struct {
		asked string
		list  *service.Proposals
	}
)

// person is who sits at this terminal.
func (m *Model) person() service.Person { return service.Person{By: m.o.User, From: m.o.Terminal} }

// askPut asks what a change would do, or has it done.
func (m *Model) askPut(q service.PutQuery) tea.Cmd {
	q.Person = m.person()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), benchPatience)
		defer cancel()
		p, err := m.o.Lantern.Put(ctx, q)
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
	return m.askPut(service.PutQuery{Files: []service.BenchSave{{File: file, Body: body, Was: was, New: fresh}}})
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
	change := service.RuleChange{What: what, Rule: x.Rule}
	switch {
	case what == "off" && x.Off:
		change.What = "on"
	case what == "copy" || what == "rename":
		label := what + " " + x.Rule + " to"
		m.prompted(prompt{label: label, hint: "enter shows what that changes   esc leaves it", then: func(name string) tea.Cmd {
			change.Name = strings.TrimSpace(name)
			return m.askPut(service.PutQuery{Rule: &change})
		}}, x.Rule)
		return nil
	}
	return m.askPut(service.PutQuery{Rule: &change})
}

// askPast asks for what was put to work before.
func (m *Model) askPast() tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		p, err := m.o.Lantern.Past(ctx, service.PastQuery{Limit: 200})
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

// pastKey does what a key stands for among what was put to work before.
func (m *Model) pastKey(k tea.KeyPressMsg) tea.Cmd {
	n := len(m.past.List)
	switch k.String() {
	case "esc", "q":
		m.mode = choosing
	case "up", "shift+up", "pgup":
		m.pastAt = max(m.pastAt-map[string]int{"up": 1}[k.String()]-map[string]int{"shift+up": 10, "pgup": 10}[k.String()], 0)
	case "down", "shift+down", "pgdown":
		m.pastAt = min(m.pastAt+map[string]int{"down": 1}[k.String()]+map[string]int{"shift+down": 10, "pgdown": 10}[k.String()], n-1)
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
			f, err := m.o.Lantern.BenchOpen(ctx, service.BenchFile{File: x.File})
			if err != nil { // it is gone: it comes back as a new one
				return benchFileMsg{file: &service.BenchFile{File: x.File, Body: x.Was}, line: 1, fresh: true}
			}
			return benchFileMsg{file: f, line: 1, instead: x.Was}
		}
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
			for _, l := range service.LineDiff(was, now) {
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
		c.Cut(2, min(y+1, bottom-1), c.W-3, base.With(p.Severity[entry.Error]), "It cannot be put to work: "+w.put.Refused)
	}
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
	for _, l := range service.LineDiff(e.Was, e.Now) {
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

// editOutside opens the text in the user's editor, and comes back with what is written there.
func (m *Model) editOutside() tea.Cmd {
	editor := os.Getenv("VISUAL")
	if editor == "" {
		editor = os.Getenv("EDITOR")
	}
	if editor == "" {
		m.say("no editor is named: set EDITOR, such as EDITOR=nano")
		return nil
	}
	file, body, _ := m.bench.File()
	dir, err := os.MkdirTemp("", "dimlantern-")
	if err != nil {
		m.say(err.Error())
		return nil
	}
	path := filepath.Join(dir, filepath.Base(file))
	if err := os.WriteFile(path, []byte(body), 0o600); err != nil {
		m.say(err.Error())
		return nil
	}
	words := strings.Fields(editor)
	return tea.ExecProcess(exec.Command(words[0], append(words[1:], path)...), func(err error) tea.Msg {
		defer os.RemoveAll(dir)
		if err != nil {
			return editedMsg{err: fmt.Errorf("%s could not be run: %w", editor, err)}
		}
		b, err := os.ReadFile(path)
		return editedMsg{string(b), err}
	})
}

// askTests asks which tests of the settings pass, with the open text in them.
func (m *Model) askTests() tea.Cmd {
	file, body, _ := m.bench.File()
	q := service.BenchQuery{File: file, Body: body, Line: m.bench.Line()}
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), benchPatience)
		defer cancel()
		p, err := m.o.Lantern.Tests(ctx, q)
		return putMsg{put: p, err: err}
	}
}

// askProposals asks what may end the problem of the rule at the cursor.
func (m *Model) askProposals(q service.BenchQuery) tea.Cmd {
	v := m.bench.View
	if v == nil || !v.Endless {
		m.bench.Proposals = nil
		return nil
	}
	asked := fmt.Sprint(v.Rule, v.Problem, q.Span, q.At)
	if asked == m.proposed {
		return nil
	}
	m.proposed = asked
	m.bench.Proposals = nil
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), benchPatience)
		defer cancel()
		p, err := m.o.Lantern.Propose(ctx, q)
		if err != nil {
			return proposalsMsg{asked, nil}
		}
		return proposalsMsg{asked, p}
	}
}

// feedByHand asks for a line that is given to the rule.
func (m *Model) feedByHand() {
	m.prompted(prompt{label: "feed", hint: "+5m before it: so much later; +5m alone: time passes   esc leaves it", then: func(text string) tea.Cmd {
		if strings.TrimSpace(text) == "" {
			return nil
		}
		m.bench.FeedText(text)
		return m.askBench()
	}}, "")
}

// nameValue asks which value of the chosen entry gets which name.
func (m *Model) nameValue() {
	k := m.bench.Kind()
	if k == nil {
		m.say("no kind of entries is chosen")
		return
	}
	values := bench.Values(k)
	if len(values) == 0 {
		m.say("this entry has no value that could vary")
		return
	}
	at := 0
	m.bench.Pointed = &values[at]
	label := func() string { return "name for " + k.Example[values[at][0]:values[at][1]] }
	m.prompted(prompt{label: label(), hint: "tab the next value   enter names it   esc leaves it",
		next: func() {
			at = (at + 1) % len(values)
			m.bench.Pointed = &values[at]
			m.prompt.label = label()
		},
		then: func(name string) tea.Cmd {
			m.bench.Pointed = nil
			file, body, _ := m.bench.File()
			return m.markCmd(service.MarkQuery{File: file, Body: body, Line: m.bench.Line(), Is: "name", Source: k.Source, Texts: []string{k.Example},
				From: values[at][0], To: values[at][1], Name: strings.TrimSpace(name)})
		}}, "")
}

// searchText asks for words to go to in the text.
func (m *Model) searchText() {
	m.prompted(prompt{label: "search", hint: "enter goes to the next   esc leaves it", then: func(text string) tea.Cmd {
		if !m.bench.Search(text) {
			m.say("nothing says " + text)
		}
		return m.askBench()
	}}, m.bench.Sought)
}

// sampleFiles asks for files to try the rule on.
func (m *Model) sampleFiles() {
	m.prompted(prompt{label: "try it on the files", hint: "a path, * stands for any; empty: what its sources say   esc leaves it", then: func(text string) tea.Cmd {
		if m.files = strings.Fields(text); len(m.files) == 0 {
			m.files, m.held, m.until = nil, 0, 0
			return tea.Batch(m.ask(), m.askBench())
		}
		for i, f := range m.files { // the service may run in another folder
			if abs, err := filepath.Abs(f); err == nil {
				m.files[i] = abs
			}
		}
		m.toSample = true
		return m.askBench()
	}}, strings.Join(m.files, " "))
}
