package screens

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"dimlantern/api"

	tea "charm.land/bubbletea/v2"

	"dimlantern/screens/bench"
)

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

// askProposals asks what may end the problem of the rule at the cursor.
func (m *Model) askProposals(q api.BenchQuery) tea.Cmd {
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
		p, err := api.Propose.Call(ctx, m.o.Lantern, q)
		if err != nil {
			return proposalsMsg{asked, nil}
		}
		return proposalsMsg{asked, p}
	}
}

// feedByHand asks for a line that is given to the rule.
func (m *Model) feedByHand() {
	m.prompted(prompt{label: "feed", hint: "+5m before it: so much later; +5m alone: time passes   esc leaves it",
		then: func(text string) tea.Cmd {
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
			return m.markCmd(api.MarkQuery{File: file, Body: body, Line: m.bench.Line(), Is: "name", Source: k.Source,
				Texts: []string{k.Example},
				From:  values[at][0], To: values[at][1], Name: strings.TrimSpace(name)})
		}}, "")
}

// searchText asks for words to go to in the text.
func (m *Model) searchText() {
	m.prompted(prompt{label: "search", hint: "enter goes to the next   esc leaves it",
		then: func(text string) tea.Cmd {
			if !m.bench.Search(text) {
				m.say("nothing says " + text)
			}
			return m.askBench()
		}}, m.bench.Sought)
}

// sampleFiles asks for files to try the rule on.
func (m *Model) sampleFiles() {
	m.prompted(prompt{label: "try it on the files", hint: "a path, * stands for any; empty: what its sources say  " +
		" esc leaves it", then: func(text string) tea.Cmd {
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
