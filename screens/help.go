package screens

import (
	"slices"
	"time"

	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
)

// helpPage explains the room below it, its keys and every mark in it: it is made of the same
// keys as the key line.
type helpPage struct {
	stage *room.Stage
	help  room.Help
	top   int // lines passed over
	most  int // that can be
}

// openHelp lays the help of what is shown over it.
func (m *Model) openHelp() {
	on := m.current()
	var h room.Help
	keys := on.Keys()
	h.Keys = []room.Keys{keys}
	if e, ok := on.(room.Explained); ok {
		own := e.Help()
		if own.Keys == nil {
			own.Keys = h.Keys
		}
		h = own
	}
	if !keys.Alone || len(m.stage.Pages) == 0 {
		h.Keys = append(slices.Clone(h.Keys), room.Keys{Where: "in every room", List: m.common(on)})
	}
	m.stage.Lay(&helpPage{stage: m.stage, help: h})
}

// Update is part of room.Room.
func (h *helpPage) Update(tea.Msg) tea.Cmd { return nil }

// Keys is part of room.Room.
func (h *helpPage) Keys() room.Keys {
	list := []room.Key{room.Do("esc ? enter", h.stage.Back).Marked("esc").Said("back", "back"),
		room.Do("q", func() tea.Cmd { return tea.Quit }).Said("leave", "leave")}
	if h.most > 0 {
		list = slices.Insert(list, 0, room.Move(10, func(n int) tea.Cmd {
			h.top = min(max(h.top+n, 0), h.most)
			return nil
		}).Said("further", "further"))
	}
	return room.Keys{Where: "reading help", Alone: true, List: list}
}

// helpLine is a line of help: a key or a mark with what it says, or a heading.
type helpLine struct {
	mark  string
	style paint.Style
	says  string
}

// Draw is part of room.Room.
func (h *helpPage) Draw(c *paint.Canvas, top, bottom int) {
	p := h.stage.Palette
	base := paint.Style{Fg: p.Text}
	x := c.Put(1, top, base.With(p.Strong).Strong(), h.help.Title)
	c.Cut(x+2, top, c.W-x-3, base.With(p.Dim), h.help.About)
	top += 2
	var marks []helpLine
	for _, m := range h.help.Marks {
		marks = append(marks, helpLine{m.Text, m.Style, m.Says})
	}
	keys := h.keyLines(base, p)
	last := []helpLine{{}, {says: h.help.Last, style: base.With(p.Dim)}, {says: h.times(), style: base.With(p.Dim)}}
	if h.help.Last == "" {
		last = slices.Delete(last, 1, 2)
	}
	if len(marks) > 0 && c.W >= 150 { // beside each other
		h.column(c, 1, 67, top, bottom, 0, marks, base)
		h.most = h.column(c, 68, c.W, top, bottom-2, h.top, keys, base)
		c.Cut(1, bottom-1, c.W-2, base.With(p.Dim), h.times())
		return
	}
	if len(marks) > 0 {
		keys = append(append(keys, helpLine{}), marks...)
	}
	if c.W >= 150 && len(keys) > bottom-top-3 { // in two columns, parted where a place ends
		half := len(keys) / 2
		for half < len(keys)-1 && keys[half] != (helpLine{}) {
			half++
		}
		left := h.column(c, 1, c.W/2, top, bottom-2, h.top, keys[:half], base)
		h.most = max(left, h.column(c, c.W/2+1, c.W, top, bottom-2, h.top, append(keys[half+1:], last...), base))
		return
	}
	h.most = h.column(c, 1, c.W, top, bottom, h.top, append(keys, last...), base)
}

// times says in which zone times of day are, and where rules stand.
func (h *helpPage) times() string {
	out := "times of day are in " + time.Now().Format("MST (UTC-07:00)")
	if v := h.stage.View; v != nil {
		out += "; rules are text files in " + v.Settings
	}
	return out
}

// keyLines are the keys with what they do, under where they do it.
func (h *helpPage) keyLines(base paint.Style, p paint.Palette) []helpLine {
	var out []helpLine
	for _, k := range h.help.Keys {
		if len(h.help.Keys) > 1 {
			if len(out) > 0 {
				out = append(out, helpLine{})
			}
			out = append(out, helpLine{says: k.Where, style: base.With(p.Dim)})
		}
		for _, key := range k.List {
			if key.Long != "" {
				out = append(out, helpLine{key.Help().Key, base.Strong(), key.Long})
			}
		}
	}
	return out
}

// column draws lines into a column, and says how many can be passed over.
func (h *helpPage) column(c *paint.Canvas, x, end, top, bottom, from int, lines []helpLine, base paint.Style) int {
	const mark = 12
	var out []helpLine
	for _, l := range lines {
		if l.mark == "" {
			out = append(out, l)
			continue
		}
		for i, part := range room.Wrap(l.says, end-x-mark-1) {
			if i > 0 {
				l.mark = ""
				part = "\t" + part
			}
			out = append(out, helpLine{l.mark, l.style, part})
		}
	}
	for i, l := range out[min(from, len(out)):] {
		y := top + i
		if y >= bottom {
			break
		}
		switch {
		case l.mark != "":
			c.Put(x, y, l.style, l.mark)
			c.Cut(max(x+mark, x+ansi.StringWidth(l.mark)+1), y, end-x-mark, base, l.says)
		case len(l.says) > 0 && l.says[0] == '\t':
			c.Cut(x+mark, y, end-x-mark, base, l.says[1:])
		default:
			c.Cut(x, y, end-x-1, l.style, l.says)
		}
	}
	return max(len(out)-(bottom-top), 0)
}
