package screens

import (
	"context"
	"fmt"
	"strings"
	"time"

	"dimlantern/api"

	tea "charm.land/bubbletea/v2"

	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/watch"
)

// beginRule is the screen on which a rule begins: one of the newest entries of an
// origin is chosen, and what will be written is shown before it is, with what it
// would have done.
type beginRule struct {
	origin   string
	label    string
	kinds    []api.EntryView // one of each kind, newest first
	chosen   int
	severity entry.Severity
	asked    string
	begun    *api.Begun
	err      string
}

type begunMsg struct {
	asked string
	begun *api.Begun
	err   error
}

// startRule opens the screen on the chosen origin.
func (m *Model) startRule() tea.Cmd {
	_, o := m.sources.Chosen()
	switch {
	case o == nil:
		return nil
	case m.entries == nil || m.entries.Origin != o.Name || len(m.entries.Lines) == 0:
		m.note, m.noted = "a rule begins with an entry, and none has come yet", time.Now()
		return nil
	}
	m.rule = beginRule{origin: o.Name, label: m.sources.Label(), severity: entry.Warning}
	seen := map[string]bool{}
	for _, l := range m.entries.Lines {
		text := l.Text
		if !l.Fits || text == "" {
			text = l.Raw
		}
		if kind := kindOf(text); !seen[kind] && strings.TrimSpace(l.Raw) != "" {
			seen[kind] = true
			m.rule.kinds = append(m.rule.kinds, l)
		}
	}
	m.mode = beginning
	return m.begin(false)
}

// kindOf is what stays of a line when its digits are taken away.
func kindOf(line string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return -1
		}
		return r
	}, line)
}

// begin asks what rule the chosen entry makes, or lets it be written.
func (m *Model) begin(write bool) tea.Cmd {
	f := &m.rule
	q := api.BeginQuery{Origin: f.origin, Raw: f.kinds[f.chosen].Raw, Severity: f.severity, Write: write}
	asked := fmt.Sprint(q)
	f.asked = asked
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		b, err := api.DoBegin.Call(ctx, m.o.Lantern, q)
		return begunMsg{asked, b, err}
	}
}

func (m *Model) begun(msg begunMsg) tea.Cmd {
	f := &m.rule
	if msg.asked != f.asked {
		return nil
	}
	f.err = ""
	switch {
	case msg.err != nil:
		f.err = msg.err.Error()
	case msg.begun.Done:
		m.mode = choosing
		m.note, m.noted = msg.begun.Name+" is written, and taken up; go on with it in your editor", time.Now()
		return m.ask()
	default:
		f.begun = msg.begun
	}
	return nil
}

func (m *Model) beginKey(k tea.KeyPressMsg) tea.Cmd {
	f := &m.rule
	switch k.String() {
	case "esc":
		m.mode = choosing
		return nil
	case "up", "shift+up":
		f.chosen = max(f.chosen-1, 0)
	case "down", "shift+down":
		f.chosen = min(f.chosen+1, len(f.kinds)-1)
	case "right":
		f.severity = min(f.severity+1, entry.Critical)
	case "left":
		f.severity = max(f.severity-1, entry.Notice)
	case "enter", "ctrl+s":
		return m.begin(f.begun != nil)
	default:
		return nil
	}
	return m.begin(false)
}

// drawBegin draws the screen on which a rule begins.
func (m *Model) drawBegin(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	f := &m.rule
	dim, strong := base.With(p.Dim), base.With(p.Strong)
	y := top + 1
	at := c.Put(1, y, strong.Strong(), "begin a rule")
	c.Cut(at+3, y, m.w-at-4, dim, "from what "+f.label+" says; nothing is written until you say so")
	y += 2
	text := 0
	if f.begun != nil {
		text = strings.Count(f.begun.Text, "\n")
	}
	room := max(bottom-y-text-7, 3)
	first := max(0, f.chosen-room+1)
	c.Put(1, y, dim, "entry")
	for i := first; i < len(f.kinds) && i < first+room; i++ {
		e := f.kinds[i]
		style := base
		if i == f.chosen {
			c.Ground(9, y, m.w-9, p.Chosen)
			style = strong
			c.Put(9, y, base.With(p.Severity[entry.Warning]), "▏")
			if p.Mono {
				c.Put(9, y, strong, "›")
			}
		}
		x := c.Put(11, y, dim, watch.Clock(e.At)) + 2
		line, _, _ := strings.Cut(e.Raw, "\n")
		if e.Fits && e.Text != "" {
			line, _, _ = strings.Cut(e.Text, "\n")
		}
		c.Cut(x, y, m.w-x-1, style, entry.Visible(line))
		y++
	}
	y++
	c.Put(1, y, dim, "how bad")
	x := 10
	for s := entry.Notice; s <= entry.Critical; s++ {
		style, word := dim, " "+s.String()+" "
		if s == f.severity {
			style, word = strong.Strong(), "‹"+s.String()+"›"
		}
		x = c.Put(x, y, style, word) + 1
	}
	y += 2
	if f.err != "" {
		for _, part := range strings.Split(wrapText(f.err, m.w-12), "\n") {
			c.Cut(10, y, m.w-11, base.With(p.Severity[entry.Warning]), part)
			y++
		}
	}
	if f.begun == nil {
		return
	}
	c.Rule(1, y, 2, base.With(p.Rule), false)
	at = c.Put(4, y, strong.Strong(), "this will be written")
	at = c.Cut(at+1, y, m.w-at-8, dim, f.begun.Name)
	c.Rule(at+1, y, m.w-at-2, base.With(p.Rule), false)
	y++
	for _, l := range strings.Split(strings.TrimRight(f.begun.Text, "\n"), "\n") {
		if y < bottom {
			c.Cut(10, y, m.w-11, base, l)
			y++
		}
	}
	if y++; y < bottom {
		c.Cut(10, y, m.w-11, dim, fmt.Sprintf("It would hit %s of the newest %s entries, and raise %s.",
			commas(f.begun.Hits), commas(f.begun.Looked), timesOf(f.begun.Raised)))
	}
}

func timesOf(n int64) string {
	switch n {
	case 0:
		return "nothing"
	case 1:
		return "one alert"
	}
	return commas(n) + " alerts"
}
