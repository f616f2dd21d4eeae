package screens

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/api"

	tea "charm.land/bubbletea/v2"

	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/watch"
)

type (
	actedMsg struct {
		q    api.ActQuery
		done *api.ActDone
		err  error
	}
	hushesMsg struct {
		list *api.HushList
		err  error
	}
)

// canAct tells whether something can be done to the chosen row now, and says why not.
func (m *Model) canAct(what string) *api.Row {
	x := m.room.Chosen()
	switch {
	case m.held != 0:
		m.say("actions are off while the lamp is held; space makes it live")
	case x == nil || x.Alert == "" || x.Cleared != entry.None:
		m.say("only an open alert can be " + what)
	case m.room.Folded():
		m.say("this row stands for several keys; enter unfolds it")
	default:
		return x
	}
	return nil
}

func (m *Model) act(q api.ActQuery) tea.Cmd {
	q.Person = m.person()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		done, err := api.DoAct.Call(ctx, m.o.Lantern, q)
		return actedMsg{q, done, err}
	}
}

func (m *Model) acted(msg actedMsg) tea.Cmd {
	if msg.err != nil {
		m.say(msg.err.Error())
		return m.ask()
	}
	words := msg.done.Words
	switch msg.q.What {
	case "take", "hand over":
		m.undoAct = &api.ActQuery{What: "let go", Alert: msg.q.Alert}
		words += "; u takes it back"
	case "hush":
		m.undoAct = &api.ActQuery{What: "unhush", Hush: &api.ByHand{ID: msg.done.Hush}}
		words += "; u takes it back"
	default:
		m.undoAct = nil
	}
	m.say(words)
	if m.mode == hushing {
		return m.askHushes()
	}
	return m.ask()
}

// handleKey does what a key of the room watch does to the chosen alert; done tells whether
// it stands for something.
func (m *Model) handleKey(key string) (cmd tea.Cmd, done bool) {
	switch key {
	case "t":
		if x := m.canAct("taken"); x != nil {
			m.prompted(prompt{label: "take " + watch.Headline(x) + ", a word to it",
				hint: "enter takes it   esc leaves it", then: func(words string) tea.Cmd {
					return m.act(api.ActQuery{What: "take", Alert: x.Alert, Words: words})
				}}, "")
		}
	case "T":
		if x := m.canAct("handed over"); x != nil {
			m.prompted(prompt{label: "hand " + watch.Headline(x) + " over to",
				hint: "a name, then a word to it   enter   esc", then: func(words string) tea.Cmd {
					to, rest, _ := strings.Cut(strings.TrimSpace(words), " ")
					return m.act(api.ActQuery{What: "hand over", Alert: x.Alert, To: to,
						Words: strings.TrimSpace(rest)})
				}}, "")
		}
	case "m":
		if x := m.canAct("noted about"); x != nil {
			m.prompted(prompt{label: "note to " + watch.Headline(x), hint: "enter keeps it   esc leaves it",
				then: func(words string) tea.Cmd {
					return m.act(api.ActQuery{What: "note", Alert: x.Alert, Words: words})
				}}, "")
		}
	case "h":
		m.hush()
	case "H":
		return m.askHushes(), true
	case "u":
		if m.undoAct == nil {
			m.say("nothing of yours can be taken back")
			return nil, true
		}
		q := *m.undoAct
		return m.act(q), true
	default:
		return nil, false
	}
	return nil, true
}

// hush asks for how long, and why, the chosen alert, its rule or its host is kept quiet.
func (m *Model) hush() {
	x := m.canAct("hushed")
	if x == nil {
		return
	}
	kinds := []api.ByHand{{Alert: x.Alert}, {Rule: x.Rule}}
	names := []string{watch.Headline(x), "all of " + x.Rule}
	if m.detail != nil {
		if i := slices.Index(m.detail.Fields, "host"); i >= 0 && i < len(x.Key) {
			kinds, names = append(kinds, api.ByHand{Host: x.Key[i]}), append(names, "all of host "+x.Key[i])
		}
		for _, w := range m.detail.About {
			kinds, names = append(kinds, api.ByHand{About: w}), append(names, "all about "+w)
		}
	}
	at := 0
	label := func() string { return "hush " + names[at] + " for" }
	m.prompted(prompt{label: label(), hint: "2h, or 06:00, then why   tab: what   enter   esc",
		next: func() {
			at = (at + 1) % len(kinds)
			m.prompt.label = label()
		},
		then: func(text string) tea.Cmd {
			span, why, _ := strings.Cut(strings.TrimSpace(text), " ")
			until, err := hushUntil(span, time.Now())
			if err != "" {
				m.say(err)
				return nil
			}
			h := kinds[at]
			h.Until = until
			return m.act(api.ActQuery{What: "hush", Alert: h.Alert, Hush: &h, Words: strings.TrimSpace(why)})
		}}, "1h ")
}

// hushUntil reads how long something is hushed: a span, a time of day, or nothing at all.
func hushUntil(s string, now time.Time) (entry.Instant, string) {
	if s == "" {
		return 0, ""
	}
	if d, err := entry.ParseDuration(s); err == nil && d > 0 {
		return entry.Of(now.Add(d)), ""
	}
	if t, err := time.ParseInLocation("15:04", s, now.Location()); err == nil {
		at := time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), 0, 0, now.Location())
		if !at.After(now) {
			at = at.AddDate(0, 0, 1)
		}
		return entry.Of(at), ""
	}
	return 0, s + " is no time: 30m, 2h, 1d, or 06:00, and behind it why"
}

func (m *Model) askHushes() tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		l, err := api.AskHushes.Call(ctx, m.o.Lantern, api.None{})
		return hushesMsg{l, err}
	}
}

func (m *Model) hushesAnswered(msg hushesMsg) {
	if msg.err != nil {
		m.say(msg.err.Error())
		return
	}
	m.hushes, m.mode = msg.list, hushing
	m.hushAt = min(m.hushAt, max(len(msg.list.List)-1, 0))
}

// hushKey does what a key stands for among the hushes.
func (m *Model) hushKey(k tea.KeyPressMsg) tea.Cmd {
	n := len(m.hushes.List)
	switch k.String() {
	case "esc", "q", "H":
		m.mode = choosing
	case "up":
		m.hushAt = max(m.hushAt-1, 0)
	case "down":
		m.hushAt = max(min(m.hushAt+1, n-1), 0)
	case "e", "enter", "delete":
		if n == 0 {
			return nil
		}
		h := m.hushes.List[m.hushAt]
		if !h.Hand {
			m.say("it stands in the settings, " + h.By + ": it ends there")
			m.hushNote, m.noted = m.note, time.Now()
			return nil
		}
		return m.act(api.ActQuery{What: "unhush", Hush: &api.ByHand{ID: h.ID}})
	}
	return nil
}

// drawHushes draws all hushes, with what each keeps quiet.
func (m *Model) drawHushes(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	dim := base.With(p.Dim)
	x := c.Put(1, top, base.With(p.Strong).Strong(), "kept quiet")
	c.Cut(x+2, top, c.W-x-3, dim, "what happens is recorded and told nobody; what is open at the end is told then")
	y := top + 2
	if len(m.hushes.List) == 0 {
		c.Put(1, y, base, "Nothing is hushed.")
		return
	}
	for i, h := range m.hushes.List {
		if y >= bottom {
			return
		}
		style := base
		if i == m.hushAt {
			c.Ground(0, y, c.W, p.Chosen)
			style = base.With(p.Strong).Strong()
			if p.Mono {
				c.Put(0, y, base.Strong(), "›")
			}
		}
		mark := " "
		if h.Holds {
			mark = "░"
		}
		c.Put(1, y, dim, mark)
		wide := c.W / 3
		c.Cut(3, y, wide-4, style, h.What)
		words := h.When
		if !h.Holds {
			words += " (not now)"
		}
		c.Cut(wide, y, c.W-wide-1, dim, words)
		y++
		if y < bottom {
			by := "by " + h.By
			if h.Why != "" {
				by += ": " + h.Why
			}
			c.Cut(5, y, c.W-6, dim, by)
			y++
		}
		for k, line := range h.Keeps {
			if y >= bottom {
				return
			}
			if k == 6 && len(h.Keeps) > 7 {
				c.Cut(5, y, c.W-6, dim, fmt.Sprintf("and %d more", len(h.Keeps)-k))
				y++
				break
			}
			c.Cut(5, y, c.W-6, base, "quiet: "+line)
			y++
		}
		if h.Holds && len(h.Keeps) == 0 && y < bottom {
			c.Cut(5, y, c.W-6, dim, "nothing of it is open")
			y++
		}
		y++
	}
}
