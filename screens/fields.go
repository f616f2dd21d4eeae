package screens

import (
	"context"
	"fmt"
	"time"

	"dimlantern/api"

	tea "charm.land/bubbletea/v2"

	"dimlantern/screens/divide"
)

// fieldsMsg is an answer about fields.
type fieldsMsg struct {
	asked string
	view  *api.FieldsView
	err   error
}

// startFields opens the work on the fields of the chosen origin.
func (m *Model) startFields() tea.Cmd {
	_, o := m.sources.Chosen()
	if o == nil {
		return nil
	}
	m.mode, m.divide = dividing, divide.Start(o.Name, m.sources.Label())
	return m.askFields()
}

// widest is how long looking through all that is there may take.
const widest = 10 * time.Minute

// askFields asks what the layout makes of the entries. What was asked before and was
// not answered yet is not wanted any more.
func (m *Model) askFields() tea.Cmd {
	q := m.divide.Query(divide.Lines(m.h))
	asked := fmt.Sprint(q, time.Now().UnixNano())
	m.fieldsAsked = asked
	if m.stopFields != nil {
		m.stopFields()
	}
	wait := 20 * time.Second
	if q.Wide {
		wait = widest
		m.divide.Note = "looking through all that is there; esc stops it"
	}
	ctx, cancel := context.WithTimeout(context.Background(), wait)
	m.stopFields = cancel
	return func() tea.Msg {
		defer cancel()
		v, err := api.DoFields.Call(ctx, m.o.Lantern, q)
		return fieldsMsg{asked, v, err}
	}
}

func (m *Model) fieldsAnswered(msg fieldsMsg) tea.Cmd {
	if m.mode != dividing || msg.asked != m.fieldsAsked {
		return nil
	}
	had := m.divide.Query(0)
	if m.divide.Take(msg.view, msg.err) {
		m.mode = choosing
		m.note, m.noted = fmt.Sprintf("layout %s is written into %s, and taken up", msg.view.Layout, msg.view.File),
			time.Now()
		return m.ask()
	}
	if now := m.divide.Query(0); msg.err == nil && (len(now.Marks) != len(had.Marks) || now.Text != had.Text &&
		had.Detect == 0) {
		words := m.divide.Note
		cmd := m.askFields() // what could not be taken is not asked for again
		m.divide.Note = words
		m.divide.Kept(words)
		return cmd
	}
	return nil
}

func (m *Model) divideKey(k tea.KeyPressMsg) tea.Cmd {
	if k.String() == "ctrl+c" {
		return tea.Quit
	}
	if m.divide.Mode == divide.Pointing && k.String() == "?" {
		m.mode, m.back = helping, dividing
		return nil
	}
	ask, leave, cmd := m.divide.Key(k, max(m.h/2, 5))
	switch {
	case leave:
		if m.stopFields != nil {
			m.stopFields()
		}
		m.mode = choosing
		return m.ask()
	case ask:
		return tea.Batch(cmd, m.askFields())
	}
	return cmd
}
