package screens

import (
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"dimlantern/core/entry"
	"dimlantern/screens/bench"
	"dimlantern/screens/paint"
	"dimlantern/screens/watch"
)

// The least size of a terminal.
const (
	leastW = 60
	leastH = 16
)

// tall tells whether the terminal is high enough for the whole frame.
func (m *Model) tall() bool { return m.h >= 34 }

// footTop is the first row of the frame's foot: the tide, its axis, the keys.
func (m *Model) footTop() int {
	if m.tall() {
		return m.h - 7
	}
	return m.h - 3
}

func (m *Model) axis() paint.Axis {
	col := watch.ColumnsOf(m.w)
	a := paint.Axis{X: col.Life, Columns: col.LifeWidth, Column: widths[m.zoom]}
	if m.view != nil {
		a.From, a.Column, a.Lamp = m.view.From, m.view.Column, m.view.At
		a.Columns = min(a.Columns, max(len(m.view.Tide), 1))
	}
	return a
}

// View is part of tea.Model.
func (m *Model) View() tea.View {
	p := m.palette
	p.Mono = m.mono
	v := tea.View{AltScreen: true, MouseMode: tea.MouseModeCellMotion, WindowTitle: "Dim Lantern: " + m.o.Name}
	if !m.mono {
		v.BackgroundColor = rgb(p.Ground)
	}
	if m.w == 0 || m.h == 0 {
		return v
	}
	ground := p.Ground
	if m.mono {
		ground = paint.Color{}
	}
	c := paint.New(m.w, m.h, ground)
	c.Plain = m.plain
	base := paint.Style{Fg: p.Text}
	switch {
	case m.w < leastW || m.h < leastH:
		c.Put(0, 0, base, fmt.Sprintf("This window is %d×%d.", m.w, m.h))
		c.Put(0, 1, base, fmt.Sprintf("Dim Lantern needs %d×%d.", leastW, leastH))
	default:
		m.head(c, p, base)
		m.body(c, p, base)
		m.foot(c, p, base)
	}
	v.Content = c.String()
	return v
}

// head draws the first rows: the mark, the settings' name, the rooms, the lamp.
func (m *Model) head(c *paint.Canvas, p paint.Palette, base paint.Style) {
	worst := entry.Severity(0)
	if m.view != nil {
		worst = watch.Worst(m.view)
	}
	glow := base.With(p.Severity[min(int(worst), 4)])
	if worst == 0 {
		glow = base.With(p.Rule)
	}
	c.Put(1, 0, glow, "◖")
	x := c.Put(3, 0, base.Strong(), "dim lantern")
	x = c.Cut(x+2, 0, 24, base.With(p.Dim), m.o.Name)
	x = max(x+2, min(31, m.w/4))
	for i, room := range [][2]string{{"1 ", "watch"}, {"2 ", "bench"}, {"3 ", "sources"}} {
		x = c.Put(x, 0, base.With(p.Dim), room[0])
		m.roomAt[i] = x
		style := base.With(p.Dim)
		if i == m.inRoom {
			style = base.With(p.Strong).Strong()
		}
		x = c.Put(x, 0, style, room[1]) + 2 + m.w/120
	}
	lamp, clock := "live", watch.Clock(entry.Of(time.Now()))
	style := base.With(p.Over).Strong()
	if m.held != 0 {
		lamp, clock = "held", time.Unix(0, int64(m.held)).Format("15:04:05")
		style = base.Strong()
	}
	right := m.w - 29
	if m.w < 110 {
		right = m.w - 19
	}
	at := c.Put(right, 0, base, "lamp ")
	at = c.Put(at, 0, style, lamp)
	c.Put(at+min(2, m.w/80), 0, base, clock)
	where := m.o.Where
	if m.view != nil && where == "" {
		where = m.view.Where
	} else if m.view != nil && where == "joined" && m.view.Where != "" {
		where = "joined: " + m.view.Where
	}
	if m.held != 0 {
		where = "looking at " + time.Unix(0, int64(m.held)).Format("15:04") + ", actions are off"
	}
	room := right - x - 4
	if m.held != 0 && len([]rune(where)) > room {
		where = "actions are off"
	}
	if w := len([]rune(where)); w <= room {
		c.Put(right-w-3, 0, base.With(p.Dim), where)
	}
	c.Rule(1, 1, m.w-2, base.With(p.Rule), m.held != 0)
}

func (m *Model) settingsFolder() string {
	if m.view != nil {
		return m.view.Settings
	}
	return m.o.Name
}

// body draws what stands between head and foot.
func (m *Model) body(c *paint.Canvas, p paint.Palette, base paint.Style) {
	top, bottom := 2, m.footTop()-b2i(m.tall())
	if m.mode == helping {
		m.help(c, top, bottom, p)
		return
	}
	for _, t := range m.troubles() {
		c.Put(1, top, base.With(p.Severity[entry.Warning]), "▍")
		c.Cut(3, top, m.w-4, base, t)
		top++
	}
	if m.view == nil {
		if m.failed == "" {
			c.Put(1, top, base.With(p.Dim), "asking the service")
		}
		return
	}
	for _, n := range m.view.Notices[max(0, len(m.view.Notices)-2):] {
		c.Cut(3, top, m.w-4, base.With(p.Dim), watch.Clock(n.At)+" "+n.Text)
		top++
	}
	if m.mode == dividing {
		m.divide.Draw(c, top, bottom, p)
		return
	}
	switch m.mode {
	case whying:
		m.drawWhy(c, top, bottom, p, base)
		return
	case putting:
		m.drawPut(c, top, bottom, p, base)
		return
	case recalling:
		m.drawPast(c, top, bottom, p, base)
		return
	case hushing:
		m.drawHushes(c, top, bottom, p, base)
		return
	}
	if m.mode == beginning {
		m.drawBegin(c, top, bottom, p, base)
		return
	}
	if m.empty() || m.mode == bringing {
		m.drawFirst(c, top, bottom, p, base)
		return
	}
	if m.view.Reading && m.view.Behind > 1<<20 {
		c.Cut(3, top, m.w-4, base.With(p.Dim), fmt.Sprintf("reading what is there: %d MB still to go",
			m.view.Behind/1e6))
		top++
	}
	if m.inRoom == inSources {
		if m.srcView != nil {
			m.sources.Draw(c, top, bottom, m.srcView, m.entries, m.axis(), p)
		}
		return
	}
	if m.inRoom == inBench {
		if m.view.Busy != "" {
			c.Cut(3, top, m.w-4, base.With(p.Dim), m.view.Busy+"; a key that changes the text stops it")
			top++
		}
		m.bench.Draw(c, top, bottom, m.axis(), p)
		return
	}
	m.room.Draw(c, top, bottom, m.view, m.detail, m.axis(), p)
}

// troubles are what keeps Dim Lantern from doing all of its work.
func (m *Model) troubles() []string {
	var out []string
	if m.failed != "" {
		out = append(out, m.failed)
	}
	if m.view != nil {
		out = append(out, m.view.Trouble...)
	}
	if len(out) > 3 {
		out = append(out[:3], fmt.Sprintf("and %d more", len(out)-3))
	}
	return out
}

// foot draws the tide, its axis with the lamp, and the keys that matter.
func (m *Model) foot(c *paint.Canvas, p paint.Palette, base paint.Style) {
	a := m.axis()
	dim := base.With(p.Dim)
	y := m.footTop()
	if m.view != nil && !m.empty() {
		per := commas(m.view.Minute) + " a minute"
		if m.tall() {
			c.Tide(y+1, 2, a, m.view.Tide, p, base)
			c.Put(1, y+1, base, "tide")
			c.Cut(7, y+1, a.X-8, dim, "entries a minute")
			c.Put(a.X+a.Columns+1, y, dim, commas(m.view.Peak))
			c.Put(a.X+a.Columns+1, y+1, base, per)
			c.Line(y+2, a, base.With(p.Rule))
			x := min(max(a.X+a.ColumnOf(a.Lamp), a.X), a.X+a.Columns-1)
			c.Labels(y+3, a, dim, x-1, x+7)
			x = c.Put(x, y+3, base.With(p.Over), "▲ ")
			c.Put(x, y+3, base.With(p.Over), "lamp")
		} else {
			c.Tide(y, 1, a, m.view.Tide, p, base)
			c.Put(1, y, base, "tide")
			c.Cut(a.X+a.Columns+1, y, c.W-a.X-a.Columns-1, base, commas(m.view.Minute)+"/min")
			x := min(max(a.X+a.ColumnOf(a.Lamp), a.X), a.X+a.Columns-1)
			c.Labels(y+1, a, dim, x-1, x+2)
			c.Put(x, y+1, base.With(p.Over), "▲")
		}
	}
	m.keys(c, m.h-1-b2i(m.tall()), p, base)
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

func commas(n int64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// keys draws the line that says where one is and which keys matter there.
func (m *Model) keys(c *paint.Canvas, y int, p paint.Palette, base paint.Style) {
	dim := base.With(p.Dim)
	if m.note != "" && time.Since(m.noted) < 6*time.Second && m.mode == choosing {
		c.Put(1, y, base, m.note)
		return
	}
	var where string
	var keys [][2]string
	switch m.mode {
	case finding:
		x := c.Put(1, y, dim, "finding")
		x = c.Put(x+2, y, base.With(p.Strong), m.input)
		x = c.Put(x, y, base.With(p.Strong), "▏")
		c.Put(max(x+3, m.w/2), y, dim, "enter keep it   esc show all again")
		return
	case clearing:
		x := c.Cut(1, y, m.w/3, dim, "clear "+watch.Headline(m.chosenOrEmpty())+" because")
		x = c.Put(x+1, y, base.With(p.Strong), m.input)
		x = c.Put(x, y, base.With(p.Strong), "▏")
		c.Put(max(x+3, m.w/2), y, dim, "enter clear it   esc leave it open")
		return
	case asking:
		x := c.Cut(1, y, m.w/2, dim, m.prompt.label)
		x = c.Put(x+2, y, base.With(p.Strong), m.input)
		x = c.Put(x, y, base.With(p.Strong), "▏")
		c.Put(max(x+3, m.w/2), y, dim, m.prompt.hint)
		return
	case dividing:
		if what, input, hint := m.divide.Asking(); what != "" {
			x := c.Cut(1, y, m.w/2, dim, what)
			x = c.Put(x+2, y, base.With(p.Strong), input)
			x = c.Put(x, y, base.With(p.Strong), "▏")
			c.Put(max(x+3, m.w/3), y, dim, hint)
			return
		}
		where, keys = m.divide.Keys(m.w < 110)
	case helping:
		where, keys = "reading help", [][2]string{{"esc", "back"}, {"q", "leave"}}
	case putting:
		where, keys = "before it is done", [][2]string{{"enter", "do it"}, {"↑↓", "further"}, {"esc", "leave it"}}
		if m.put.tests || m.put.put.Refused != "" {
			where, keys = "reading", [][2]string{{"↑↓", "further"}, {"esc", "back"}}
		}
	case hushing:
		where, keys = "choosing hushes", [][2]string{{"↑↓", "which"}, {"e", "end it"}, {"esc", "back"}}
		if m.hushNote != "" && time.Since(m.noted) < 6*time.Second {
			c.Put(1, y, base, m.hushNote)
			return
		}
	case recalling:
		where, keys = "what was before", [][2]string{{"↑↓", "which"}, {"enter", "open the text from before it"},
			{"esc", "back"}}
	case whying:
		where, keys = "reading why", [][2]string{{"↑↓", "further"}, {"esc", "back"}, {"q", "leave"}}
	case bringing:
		where, keys = "typing a path", [][2]string{{"tab", "next"}, {"→", "complete"}, {"←→", "choose"},
			{"enter", "write it and begin"}, {"esc", "leave it"}}
		if m.w < 110 {
			keys[3][1], keys[4][1] = "write it", "leave"
		}
		if m.first.field > 0 {
			where, keys = "choosing", append([][2]string{{"tab", "next"}}, keys[2:]...)
		}
	case beginning:
		where, keys = "choosing an entry", [][2]string{{"↑↓", "which"}, {"←→", "how bad"},
			{"enter", "write it and begin"}, {"esc", "leave it"}}
	default:
		where = "choosing alerts"
		keys = [][2]string{{"↑↓", "which"}, {"←→", "back in time"}, {"t", "take"}, {"h H", "hush, all hushes"},
			{"m", "note"}, {"c", "clear"}, {"y", "why"}, {"b", "its rule"}, {"+ -", "span"}, {"?", "help"},
			{"q", "leave"}}
		if m.w < 110 {
			where = ""
			keys = [][2]string{{"enter", "story"}, {"←→", "back"}, {"t", "take"}, {"h", "hush"}, {"m", "note"},
				{"c", "clear"}, {"y", "why"}, {"/", "find"}, {"?", "help"}, {"q", "leave"}}
		}
		switch {
		case m.inRoom == inBench && !m.empty():
			where, keys = m.benchKeys()
		case m.inRoom == inSources && !m.empty():
			where, keys = m.sourcesKeys()
		case m.empty():
			where, keys = "nothing is watched yet",
				[][2]string{{"+", "bring in a log"}, {"d", "the demo"}, {"?", "help"}, {"q", "leave"}}
		case m.room.Drawer && (m.w < 110 || !m.tall()):
			where, keys = "reading a story", [][2]string{{"pgup pgdn", "evidence"}, {"↑↓", "which"}, {"y", "why"},
				{"c", "clear"}, {"esc", "back"}}
		case m.held != 0:
			where = "looking back"
			keys = [][2]string{{"space", "live again"}, {"←→", "earlier, later"}, {"[ ]", "transitions"},
				{"↑↓", "which"}, {"y", "why"}, {"+ -", "span"}, {"/", "find"}, {"?", "help"}}
		}
		if m.filter() != "" && (m.inRoom != inBench || m.bench.Pane == bench.List) {
			where = "found " + m.filter()
		}
	}
	gap := 3
	if m.w < 110 {
		gap = 2
	}
	x := 1 - gap
	need := len([]rune(where)) + 1
	for _, k := range keys {
		need += gap + len([]rune(k[0]+k[1])) + 1
	}
	if where != "" && (need <= m.w || m.w >= 110) { // the keys matter more
		x = c.Cut(1, y, m.w/3, dim, where)
	}
	for _, k := range keys {
		if x+gap+len([]rune(k[0]+k[1]))+1 > m.w {
			break
		}
		x = c.Put(x+gap, y, base.Strong(), k[0])
		x = c.Put(x+1, y, dim, k[1])
	}
}

func zoneName() (string, string) {
	name, _ := time.Now().Zone()
	return name, "UTC" + time.Now().Format("-07:00")
}

// sourcesKeys are the keys that matter in the room sources.
func (m *Model) sourcesKeys() (string, [][2]string) {
	switch {
	case m.sources.Inside:
		form := "in full"
		if m.sources.Full {
			form = "divided"
		}
		if m.w < 110 {
			return "", [][2]string{{"↑↓", "older"}, {"f", form}, {"y", "why"}, {"m", "misfits"}, {"l", "fields"},
				{"r", "rule"}, {"/", "find"}, {"←→", "back"}, {"esc", "leave"}, {"?", "help"}}
		}
		return "reading entries", [][2]string{{"↑↓", "older, newer"}, {"y", "why"}, {"f", form}, {"m", "misfits"},
			{"l", "its fields"}, {"r", "begin a rule"}, {"/", "find"}, {"←→", "back in time"}, {"space", "live"},
			{"esc", "back"}, {"?", "help"}}
	case m.w < 110:
		return "", [][2]string{{"↑↓", "which"}, {"enter", "entries"}, {"+", "bring in"}, {"l", "fields"},
			{"r", "rule"}, {"←→", "back"}, {"/", "find"}, {"?", "help"}, {"q", "leave"}}
	}
	return "choosing origins", [][2]string{{"↑↓", "which"}, {"enter", "its entries"}, {"+", "bring in another log"},
		{"l", "its fields"}, {"r", "begin a rule"}, {"m", "misfits"}, {"←→", "back in time"}, {"/", "find"},
		{"?", "help"}, {"q", "leave"}}
}
