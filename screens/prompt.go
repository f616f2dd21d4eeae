package screens

import (
	tea "charm.land/bubbletea/v2"
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

// askingKey takes a key into the line that a prompt asks for.
func (m *Model) askingKey(k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "esc":
		m.mode, m.bench.Pointed = choosing, nil
	case "enter":
		m.mode = choosing
		return m.prompt.then(m.input)
	case "tab":
		if m.prompt.next != nil {
			m.prompt.next()
		}
	case "backspace":
		if r := []rune(m.input); len(r) > 0 {
			m.input = string(r[:len(r)-1])
		}
	case "ctrl+u":
		m.input = ""
	default:
		m.input += k.Text
	}
	return nil
}
