package screens

import (
	"time"

	"dimlantern/api"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

// restless is how long a view stands at most: what it says of how long things last gets old.
const restless = 5 * time.Second

// noted is how long it is said what an action did.
const noted = 6 * time.Second

type tickMsg time.Time

func tick(d time.Duration) tea.Cmd {
	return tea.Tick(d, func(t time.Time) tea.Msg { return tickMsg(t) })
}

// ticked goes on each second, whatever comes: the clock is drawn anew.
func (m *Model) ticked(at time.Time) tea.Cmd {
	next := tick(time.Until(at.Truncate(time.Second).Add(time.Second)))
	if m.stage.View == nil || m.failed != "" || time.Since(m.asking) > restless {
		return tea.Batch(m.ask(), m.listen(), next)
	}
	m.keepDrafts()
	return tea.Batch(m.listen(), m.stage.Settle(), m.current().Update(room.Tick{}), next)
}

// ask asks for the view that the screen shows now.
func (m *Model) ask() tea.Cmd {
	s := m.stage
	if s.W == 0 {
		return nil
	}
	if m.busy {
		m.stale = true
		return nil
	}
	m.busy, m.stale, m.asking = true, false, time.Now()
	q := api.ViewQuery{At: s.Held, Until: s.Until, Column: s.Column(), Columns: room.ColumnsOf(s.W).LifeWidth}
	return room.Ask(s, api.AskView, q, room.Patience, func(v *api.View, err error) tea.Cmd {
		m.busy = false
		if err != nil {
			m.failed = err.Error()
			return nil
		}
		first := s.View == nil
		m.slow, m.failed, s.View = time.Since(m.asking), "", v
		cmds := []tea.Cmd{m.fresh(), m.listen()}
		if first {
			cmds = append(cmds, s.Recall())
		}
		if m.stale {
			cmds = append(cmds, m.ask())
		}
		return tea.Batch(cmds...)
	})
}

// listen asks for news, where it does not already. In a flood every round brings some: views
// that are slow to make are asked for less often.
func (m *Model) listen() tea.Cmd {
	if m.listening || m.stage.View == nil {
		return nil
	}
	m.listening = true
	q := api.NewsQuery(m.news)
	ask := room.Ask(m.stage, api.AskNews, q, 4*room.Patience, m.heard)
	pause := time.Until(m.asking.Add(max(100*time.Millisecond, 8*m.slow)))
	return func() tea.Msg {
		time.Sleep(pause)
		return ask()
	}
}

// heard takes news in; where they could not be asked for, the next tick does.
func (m *Model) heard(n *api.News, err error) tea.Cmd {
	m.listening = false
	if err != nil {
		return nil
	}
	same := m.news == *n
	m.news = *n
	if same || m.stage.Held != 0 {
		return m.listen()
	}
	return tea.Batch(m.ask(), m.listen())
}
