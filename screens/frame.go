package screens

import (
	"fmt"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"
	"dimlantern/screens/watch"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/dustin/go-humanize"
)

// The least size of a terminal.
const (
	leastW = 60
	leastH = 16
)

// tall tells whether the terminal is high enough for the whole frame.
func (m *Model) tall() bool { return m.stage.H >= 34 }

// footTop is the first row of the frame's foot: the tide, its axis, the keys.
func (m *Model) footTop() int {
	if m.tall() {
		return m.stage.H - 7
	}
	return m.stage.H - 3
}

// View is part of tea.Model.
func (m *Model) View() tea.View {
	v := tea.View{AltScreen: true, MouseMode: tea.MouseModeCellMotion, WindowTitle: m.title()}
	if c := m.canvas(); c != nil {
		v.Content = c.String()
	}
	return v
}

// canvas draws the screen; nil before its size is known.
func (m *Model) canvas() *paint.Canvas {
	s := m.stage
	if s.W == 0 || s.H == 0 {
		return nil
	}
	p := s.Palette
	ground := p.Ground
	if p.Mono {
		ground = paint.Color{}
	}
	c := m.blank(s.W, s.H, ground)
	c.Plain = m.plain
	base := paint.Style{Fg: p.Text}
	if s.W < leastW || s.H < leastH {
		c.Put(0, 0, base, fmt.Sprintf("This window is %d×%d.", s.W, s.H))
		c.Put(0, 1, base, fmt.Sprintf("Dim Lantern needs %d×%d.", leastW, leastH))
		return c
	}
	m.head(c, base)
	m.body(c, base)
	m.foot(c, base)
	return c
}

// head draws the first rows: the mark, the settings' name, the rooms, the lamp.
func (m *Model) head(c *paint.Canvas, base paint.Style) {
	s, p := m.stage, m.stage.Palette
	glow := base.With(p.Rule)
	if s.View != nil {
		if worst := watch.Worst(s.View); worst != 0 {
			glow = base.With(p.Severity[min(int(worst), 4)])
		}
	}
	c.Put(1, 0, glow, "◖")
	x := c.Put(3, 0, base.Strong(), "dim lantern")
	// Between the rooms and the lamp there is room for the name, for where it runs, or for both.
	name, where := min(ansi.StringWidth(m.o.Name), 24), ansi.StringWidth(m.where())
	if !s.Narrow() && (s.W >= 140 || name+where < s.W-95 || where > s.W-93 && name < s.W-95) {
		x = c.Cut(x+2, 0, 24, base.With(p.Dim), m.o.Name)
		if s.W >= 140 {
			x = max(x, 29)
		}
	}
	x += 2
	for i, name := range []string{"watch", "bench", "sources", "ledger", "hosts"} {
		x = c.Put(x, 0, base.With(p.Dim), fmt.Sprint(i+1, " "))
		m.names[i] = x
		style := base.With(p.Dim)
		if i == int(m.at) {
			style = base.With(p.Strong).Strong()
		}
		x = c.Put(x, 0, style, name) + 2 + s.W/140
		if s.W < 140 {
			x--
		}
	}
	lamp, clock, style := "live", room.Clock(entry.Of(time.Now())), base.With(p.Over).Strong()
	if s.Held != 0 {
		lamp, clock, style = "held", room.Clock(s.Held), base.Strong()
	}
	right := s.W - 29
	if s.Narrow() {
		right = s.W - 19
	}
	at := c.Put(right, 0, base, "lamp ")
	at = c.Put(at, 0, style, lamp)
	c.Put(at+min(2, s.W/80), 0, base, clock)
	width := right - x - 4
	says := m.where()
	if s.Held != 0 && ansi.StringWidth(says) > width {
		says = "actions are off"
	}
	if w := ansi.StringWidth(says); w <= width {
		c.Put(right-w-3, 0, base.With(p.Dim), says)
	}
	c.Rule(1, 1, s.W-2, base.With(p.Rule), s.Held != 0)
}

// where says where the service runs, or what is looked at.
func (m *Model) where() string {
	s := m.stage
	switch {
	case s.Held != 0:
		return "looking at " + time.Unix(0, int64(s.Held)).Format("15:04") + ", actions are off"
	case s.View == nil:
		return m.o.Where
	case m.o.Where == "":
		return s.View.Where
	case m.o.Where == "joined" && s.View.Where != "":
		return "joined: " + s.View.Where
	}
	return m.o.Where
}

// body draws what stands between head and foot: what is the matter, and the room.
func (m *Model) body(c *paint.Canvas, base paint.Style) {
	s, p := m.stage, m.stage.Palette
	top, bottom := 2, m.footTop()
	if m.tall() {
		bottom--
	}
	on := m.current()
	if _, helping := on.(*helpPage); helping {
		on.Draw(c, top, bottom)
		return
	}
	for _, t := range m.troubles() {
		c.Put(1, top, base.With(p.Severity[entry.Warning]), "▍")
		c.Cut(3, top, s.W-4, base, t)
		top++
	}
	if s.View == nil {
		if m.failed == "" {
			c.Put(1, top, base.With(p.Dim), "asking the service")
		}
		return
	}
	for _, n := range s.View.Notices[max(0, len(s.View.Notices)-2):] {
		c.Cut(3, top, s.W-4, base.With(p.Dim), room.Clock(n.At)+" "+n.Text)
		top++
	}
	if len(s.Pages) == 0 && s.View.Reading && s.View.Behind > 1<<20 {
		c.Cut(3, top, s.W-4, base.With(p.Dim), "reading what is there: "+
			humanize.Bytes(uint64(s.View.Behind))+" still to go")
		top++
	}
	on.Draw(c, top, bottom)
}

// troubles are what keeps Dim Lantern from doing all of its work.
func (m *Model) troubles() []string {
	var out []string
	if m.failed != "" {
		out = append(out, m.failed)
	}
	if m.stage.View != nil {
		out = append(out, m.stage.View.Trouble...)
	}
	if len(out) > 3 {
		out = append(out[:3], fmt.Sprintf("and %d more", len(out)-3))
	}
	return out
}

// foot draws the tide, its axis with the lamp, and the keys that matter.
func (m *Model) foot(c *paint.Canvas, base paint.Style) {
	s := m.stage
	if s.View != nil && !s.Empty() {
		m.tide(c, base)
	}
	y := s.H - 1
	if m.tall() {
		y--
	}
	if s.Typed != nil {
		s.Typed.Draw(c, y, s.Palette)
		return
	}
	if s.Note != "" && time.Since(s.Noted) < noted { // above the keys, never in their place
		c.Put(0, y-1, base, strings.Repeat(" ", c.W))
		c.Cut(1, y-1, c.W-2, base, s.Note)
	}
	on := m.current()
	k := m.keys(on)
	if f, ok := on.(room.Finder); ok && f.Found() != "" && len(s.Pages) == 0 {
		k.Where = "found " + f.Found()
	} else if s.Held != 0 && len(s.Pages) == 0 && !k.Alone {
		k.Where = "looking back"
	}
	k.Draw(c, y, s.Narrow(), s.Palette)
}

// tide draws how many entries came when, and where the lamp stands.
func (m *Model) tide(c *paint.Canvas, base paint.Style) {
	s, p := m.stage, m.stage.Palette
	a, dim, y := s.Axis(), base.With(p.Dim), m.footTop()
	x := min(max(a.X+a.ColumnOf(a.Lamp), a.X), a.X+a.Columns-1)
	if !m.tall() {
		c.Tide(y, 1, a, s.View.Tide, p, base)
		c.Put(1, y, base, "tide")
		c.Cut(a.X+a.Columns+1, y, c.W-a.X-a.Columns-1, base, humanize.Comma(s.View.Minute)+"/min")
		c.Labels(y+1, a, dim, x-1, x+2)
		c.Put(x, y+1, base.With(p.Over), "▲")
		return
	}
	c.Tide(y+1, 2, a, s.View.Tide, p, base)
	c.Put(1, y+1, base, "tide")
	c.Cut(7, y+1, a.X-8, dim, "entries a minute")
	c.Put(a.X+a.Columns+1, y, dim, humanize.Comma(s.View.Peak))
	c.Put(a.X+a.Columns+1, y+1, base, humanize.Comma(s.View.Minute)+" a minute")
	c.Line(y+2, a, base.With(p.Rule))
	c.Labels(y+3, a, dim, x-1, x+7)
	c.Put(x, y+3, base.With(p.Over), "▲ lamp")
}
