package watch

import (
	"fmt"

	"dimlantern/api"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

// hushes is the page of all hushes, with what each keeps quiet.
type hushes struct {
	r    *Room
	list []api.HushView
	at   int
}

// askHushes opens the page.
func (r *Room) askHushes() tea.Cmd {
	return (&hushes{r: r}).ask(func(h *hushes) { r.stage.Lay(h) })
}

// ask asks for all hushes.
func (h *hushes) ask(then func(*hushes)) tea.Cmd {
	s := h.r.stage
	return room.Ask(s, api.AskHushes, api.None{}, room.Patience, func(l *api.HushList, err error) tea.Cmd {
		if !s.Failed(err) {
			h.list, h.at = l.List, min(h.at, max(len(l.List)-1, 0))
			then(h)
		}
		return nil
	})
}

// Update is part of room.Room.
func (h *hushes) Update(msg tea.Msg) tea.Cmd {
	if _, ok := msg.(room.Fresh); ok { // something may have been ended
		return h.ask(func(*hushes) {})
	}
	return nil
}

// Keys is part of room.Room.
func (h *hushes) Keys() room.Keys {
	return room.Keys{Where: "choosing hushes", Alone: true, List: []room.Key{
		room.Move(10, func(n int) tea.Cmd {
			h.at = max(min(h.at+n, len(h.list)-1), 0)
			return nil
		}).Said("which", "which"),
		room.Do("e enter delete", h.end).Needs(api.Handle).Marked("e").Said("end it", "end it"),
		room.Do("esc q H", h.r.stage.Back).Marked("esc").Said("back", "back"),
	}}
}

// end ends the chosen hush.
func (h *hushes) end() tea.Cmd {
	if len(h.list) == 0 {
		return nil
	}
	x := h.list[h.at]
	if !x.Hand {
		h.r.stage.Say("it stands in the settings, " + x.By + ": it ends there")
		return nil
	}
	return h.r.act(api.ActQuery{What: "unhush", Hush: &api.ByHand{ID: x.ID}})
}

// Draw is part of room.Room.
func (h *hushes) Draw(c *paint.Canvas, top, bottom int) {
	p := h.r.stage.Palette
	base := paint.Style{Fg: p.Text}
	dim := base.With(p.Dim)
	x := c.Put(1, top, base.With(p.Strong).Strong(), "kept quiet")
	c.Cut(x+2, top, c.W-x-3, dim, "what happens is recorded and told nobody; what is open at the end is told then")
	y := top + 2
	if len(h.list) == 0 {
		c.Put(1, y, base, "Nothing is hushed.")
		return
	}
	put := func(x int, style paint.Style, text string) {
		if y < bottom {
			c.Cut(x, y, c.W-x-1, style, text)
		}
		y++
	}
	for i, x := range h.list[h.first(bottom-y):] {
		i += h.first(bottom - top - 2)
		if y >= bottom {
			return
		}
		style := base
		if i == h.at {
			room.Choose(c, 0, y, p)
			style = base.With(p.Strong).Strong()
		}
		if x.Holds {
			c.Put(1, y, dim, "░")
		}
		wide := c.W / 3
		c.Cut(3, y, wide-4, style, x.What)
		words := x.When
		if !x.Holds {
			words += " (not now)"
		}
		put(wide, dim, words)
		by := "by " + x.By
		if x.Why != "" {
			by += ": " + x.Why
		}
		put(5, dim, by)
		for k, line := range x.Keeps {
			if k == mostKept && len(x.Keeps) > mostKept+1 {
				put(5, dim, fmt.Sprintf("and %d more", len(x.Keeps)-k))
				break
			}
			put(5, base, "quiet: "+line)
		}
		if x.Holds && len(x.Keeps) == 0 {
			put(5, dim, "nothing of it is open")
		}
		y++
	}
}

// mostKept is how much of what a hush keeps quiet is shown.
const mostKept = 6

// first is the first hush that is shown, so that the chosen one is seen in so many rows.
func (h *hushes) first(rows int) int {
	first := h.at
	for used := 0; first >= 0; first-- {
		x := &h.list[first]
		used += 3 + min(max(len(x.Keeps), 1), mostKept+1)
		if used > rows {
			break
		}
	}
	return min(first+1, h.at)
}
