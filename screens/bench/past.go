package bench

import (
	"path/filepath"
	"time"

	"dimlantern/api"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

// past is the page of what was put to work before, with the way back.
type past struct {
	r    *Room
	list []api.PastPut
	at   int
}

// mostPast is how much of what was put to work before is asked for.
const mostPast = 200

// askPast opens the page.
func (r *Room) askPast() tea.Cmd {
	s := r.stage
	return room.Ask(s, api.AskPast, api.PastQuery{Limit: mostPast}, room.Patience,
		func(p *api.PastPuts, err error) tea.Cmd {
			switch {
			case s.Failed(err):
			case len(p.List) == 0:
				s.Say("no settings have been changed since this data folder was begun")
			default:
				s.Lay(&past{r: r, list: p.List})
			}
			return nil
		})
}

// Update is part of room.Room.
func (b *past) Update(tea.Msg) tea.Cmd { return nil }

// Keys is part of room.Room.
func (b *past) Keys() room.Keys {
	return room.Keys{Where: "what was before", Alone: true, List: []room.Key{
		room.Move(10, func(n int) tea.Cmd { b.at = min(max(b.at+n, 0), len(b.list)-1); return nil }).
			Said("which", "which"),
		room.Do("enter", b.open).Said("open the text from before it", "open the text from before"),
		room.Do("esc q", b.r.stage.Back).Marked("esc").Said("back", "back"),
	}}
}

// open opens the text from before the chosen change; what putting it to work would do is then
// shown as of any text.
func (b *past) open() tea.Cmd {
	x := b.list[b.at]
	if x.Was == "" {
		b.r.stage.Say("this change made the file: there is no text from before; D among the rules deletes a rule")
		return b.r.stage.Back()
	}
	return tea.Batch(b.r.stage.Back(), b.r.openFile(x.File, 1, x.Was))
}

// Draw is part of room.Room.
func (b *past) Draw(c *paint.Canvas, top, bottom int) {
	p := b.r.stage.Palette
	base := paint.Style{Fg: p.Text}
	dim := base.With(p.Dim)
	x := c.Put(1, top, base.With(p.Strong).Strong(), "put to work before")
	c.Cut(x+2, top, c.W-x-3, dim, "enter opens the text from before, so that it can be put to work again")
	rows := (bottom - top - 3) / 2
	first := max(0, b.at-rows+1)
	y := top + 2
	for i := first; i < len(b.list) && i < first+rows; i++ {
		e := b.list[i]
		style := base
		if i == b.at {
			room.Choose(c, 0, y, p)
			style = base.With(p.Strong)
		}
		c.Cut(2, y, 15, dim, time.Unix(0, int64(e.At)).Format("2 Jan 15:04:05"))
		c.Cut(19, y, 18, style, e.By)
		c.Cut(39, y, 26, style, filepath.Base(e.File))
		words := e.Did
		if e.What != "" {
			words = e.What + ": " + words
		}
		c.Cut(67, y, c.W-68, dim, words)
		y++
	}
	y = top + 3 + rows
	c.Rule(1, y-1, c.W-2, base.With(p.Rule), false)
	room.DrawDiff(c, 2, y, y, bottom, b.list[b.at].Was, b.list[b.at].Now, p)
}
