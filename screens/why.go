package screens

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/api"

	tea "charm.land/bubbletea/v2"

	"dimlantern/screens/paint"
	"dimlantern/screens/watch"
)

// whyRead is the answer to why that is being read.
type whyRead struct {
	asked  string
	why    *api.Why
	err    string
	scroll int
	rows   int // it has, as it was drawn last
	height int // of which so many were seen
}

type whyMsg struct {
	asked string
	why   *api.Why
	err   error
}

// askWhy asks why about what is chosen: in watch a rule and its key, in sources an entry.
func (m *Model) askWhy() tea.Cmd {
	q := api.WhyQuery{At: m.held}
	say := ""
	if m.inRoom == inSources {
		_, o := m.sources.Chosen()
		l := m.sources.Entry(m.entries)
		switch {
		case o == nil || l == nil:
			say = "no entry is here to ask about"
		case !m.sources.Inside:
			m.sources.Inside, m.sources.Scroll = true, 0
			say = "choose an entry with ↑↓, and ask again"
		default:
			q.Origin, q.Text = o.Name, l.Raw
		}
	} else {
		x := m.room.Chosen()
		switch {
		case x == nil:
			say = "nothing is here to ask about"
		case x.Rule == "":
			say = "it cannot be seen; what is the matter with it stands beside it"
		case m.room.Folded():
			say = "this row stands for several keys; enter unfolds it"
		default:
			q.Rule, q.Key, q.Alert = x.Rule, x.Key, x.Alert
		}
	}
	if say != "" {
		m.note, m.noted = say, time.Now()
		return nil
	}
	m.mode = whying
	m.why = whyRead{asked: fmt.Sprint(q)}
	return m.whyCmd(q)
}

func (m *Model) whyCmd(q api.WhyQuery) tea.Cmd {
	asked := m.why.asked
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
		defer cancel()
		w, err := api.AskWhy.Call(ctx, m.o.Lantern, q)
		return whyMsg{asked, w, err}
	}
}

func (m *Model) whyAnswered(msg whyMsg) {
	if msg.asked != m.why.asked {
		return
	}
	m.why.why = msg.why
	if msg.err != nil {
		m.why.err = msg.err.Error()
	}
}

func (m *Model) whyKey(k tea.KeyPressMsg) tea.Cmd {
	by := map[string]int{"up": -1, "down": 1, "pgup": -m.why.height, "pgdown": m.why.height, "home": -m.why.rows,
		"end": m.why.rows}[k.String()]
	switch k.String() {
	case "q":
		return tea.Quit
	case "esc", "y", "enter":
		m.mode = choosing
	}
	m.whyScroll(by)
	return nil
}

func (m *Model) whyScroll(by int) {
	m.why.scroll = min(max(m.why.scroll+by, 0), max(m.why.rows-m.why.height, 0))
}

// drawWhy draws the answer.
func (m *Model) drawWhy(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	f := &m.why
	switch {
	case f.err != "":
		c.Cut(1, top, c.W-2, base, f.err)
		return
	case f.why == nil:
		c.Put(1, top, base.With(p.Dim), "asking; earlier than now its logs are read once more")
		return
	}
	c.Cut(1, top, c.W-2, base.With(p.Strong).Strong(), f.why.Title)
	top += 2
	const word = 10 // the width of the words at the left
	row := -f.scroll
	f.height = bottom - top
	put := func(l *api.WhyLine, head, text string) {
		y := top + row
		row++
		if y < top || y >= bottom {
			return
		}
		switch l.Kind {
		case api.WhyHead:
			c.Cut(1, y, c.W-2, base.With(p.Strong), text)
			return
		case api.WhyHit, api.WhyOver:
			lit := base.With(p.Strong).Strong()
			if l.Kind == api.WhyOver {
				lit = base.With(p.Over).Strong()
			}
			at := max(c.Cut(3, y, 16, base.With(p.Dim), head), 2+word)
			c.Put(at+1, y, lit, "›")
			watch.DrawLit(c, at+3, y, c.W-at-4, text, l.Lit, base, lit)
			return
		case api.WhyText:
			watch.DrawLit(c, 3+word, y, c.W-4-word, text, l.Lit, base, base.With(p.Strong).Strong())
			return
		}
		c.Cut(3, y, word-1, base.With(p.Dim), head)
		x := 3 + word
		style := base.With(p.Dim)
		switch l.Kind {
		case api.WhyYes:
			style = base
			if head != "" || text != "" {
				c.Put(x, y, base.With(p.Over).Strong(), "yes")
			}
		case api.WhyNo:
			c.Put(x, y, base.With(p.Dim), "no")
		default:
			c.Cut(x, y, c.W-x-1, style, text)
			return
		}
		c.Cut(x+5, y, c.W-x-6, style, text)
	}
	for i := range f.why.Lines {
		l := &f.why.Lines[i]
		if slices.Contains([]string{api.WhyText, api.WhyHit, api.WhyOver}, l.Kind) &&
			(len(l.Lit) > 0 || l.Kind != api.WhyText) {
			put(l, l.Word, l.Text)
			continue
		}
		indent := l.Text[:len(l.Text)-len(strings.TrimLeft(l.Text, " "))]
		room := c.W - 4 - word - len(indent)
		if l.Kind == api.WhyHead {
			room = c.W - 2
		}
		for k, part := range watch.Wrap(l.Text[len(indent):], room-6) {
			show := *l
			if k > 0 && l.Kind != api.WhyHead {
				show.Kind = api.WhyMore
				if l.Kind != api.WhyMore {
					part = "     " + part
				}
				put(&show, "", indent+part)
				continue
			}
			put(&show, l.Word, indent+part)
		}
	}
	f.rows = row + f.scroll
	if below := f.rows - f.scroll - f.height; below > 0 {
		more := fmt.Sprintf(" %d more ↓", below)
		c.Put(c.W-1-len([]rune(more)), bottom-1, base.With(p.Dim), more)
	}
}
