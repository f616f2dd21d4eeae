// Package put is the page on which stands what a change of the settings will do, before it is
// done; or which of their tests pass.
package put

import (
	"path/filepath"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

// patience is how long it may take to say what a change does: logs are read for it.
const patience = 2 * time.Minute

// Told is what is done when a change was done, or could not be.
type Told struct {
	Done   func(*api.Put)
	Failed func(error) tea.Cmd
}

// Ask asks what a change would do, and shows it before it is done; or has it done.
func Ask(s *room.Stage, q api.PutQuery, told Told) tea.Cmd {
	q.Person = s.Person()
	return room.Ask(s, api.DoPut, q, patience, func(p *api.Put, err error) tea.Cmd {
		switch {
		case s.Failed(err):
			if told.Failed != nil {
				return tea.Batch(s.Refresh(), told.Failed(err))
			}
			return s.Refresh()
		case !q.Do || p.Refused != "":
			s.Lay(&Page{stage: s, q: q, put: p, told: told})
			return nil
		}
		s.Say(p.Done)
		if told.Done != nil {
			told.Done(p)
		}
		return s.Refresh()
	})
}

// Read lays what came of something over what is shown, to be read.
func Read(s *room.Stage, p *api.Put) { s.Lay(&Page{stage: s, put: p}) }

// Page is the page of what a change of the settings will do, before it is done; or of which
// tests pass.
type Page struct {
	stage  *room.Stage
	q      api.PutQuery
	put    *api.Put
	told   Told
	scroll int
	most   int // that can be passed over
}

// reads tells that there is nothing to be done but to read.
func (w *Page) reads() bool { return w.put.Tests || w.put.Refused != "" }

// Update is part of room.Room.
func (w *Page) Update(tea.Msg) tea.Cmd { return nil }

// Keys is part of room.Room.
func (w *Page) Keys() room.Keys {
	s := w.stage
	further := room.Move(10, func(n int) tea.Cmd { w.scroll = min(max(w.scroll+n, 0), w.most); return nil }).
		Said("further", "further")
	if w.reads() {
		return room.Keys{Where: "reading", Alone: true, List: []room.Key{further,
			room.Do("esc enter q", s.Back).Marked("esc").Said("back", "back")}}
	}
	return room.Keys{Where: "before it is done", Alone: true, List: []room.Key{
		room.Do("enter ctrl+p", w.do).Marked("enter").Said("do it", "do it"), further,
		room.Do("esc", s.Back).Said("leave it", "leave it")}}
}

// do has it done.
func (w *Page) do() tea.Cmd {
	q := w.q
	q.Do = true
	w.stage.Say("putting it to work")
	return tea.Batch(w.stage.Back(), Ask(w.stage, q, w.told))
}

// Draw is part of room.Room.
func (w *Page) Draw(c *paint.Canvas, top, bottom int) {
	p := w.stage.Palette
	base := paint.Style{Fg: p.Text}
	dim := base.With(p.Dim)
	x := c.Cut(1, top, c.W-2, base.With(p.Strong).Strong(), w.put.Title)
	if !w.put.Tests {
		c.Cut(x+2, top, c.W-x-3, dim, "nothing is changed yet; this is what it will do")
	}
	top += 2
	if w.put.Refused != "" {
		bottom -= 2
		c.Cut(2, bottom+1, c.W-3, base.With(p.Severity[entry.Error]), "It cannot be put to work: "+w.put.Refused)
	}
	y := top - w.scroll
	const word = 14
	for i, l := range w.put.Lines {
		style := base
		if l.Bad {
			style = base.With(p.Severity[entry.Warning])
		}
		for k, part := range room.Wrap(l.Text, c.W-word-4) {
			if y >= top && y < bottom {
				if k == 0 && (i == 0 || w.put.Lines[i-1].Word != l.Word) {
					c.Cut(2, y, word-1, dim, l.Word)
				}
				c.Cut(2+word, y, c.W-word-3, style, part)
			}
			y++
		}
	}
	if !w.reads() {
		for _, f := range w.put.Files {
			y = w.drawFile(c, y+1, top, bottom, f, p)
		}
	}
	w.most = max(y+w.scroll-bottom, 0)
}

// drawFile draws what changes in a file, and returns the row behind it.
func (w *Page) drawFile(c *paint.Canvas, y, top, bottom int, f api.BenchSave, p paint.Palette) int {
	if y >= top && y < bottom {
		room.DrawHead(c, y, filepath.Base(f.File), "", p)
	}
	was, now := f.Was, f.Body
	if f.New {
		was = ""
	}
	if f.Gone {
		now = ""
	}
	return room.DrawDiff(c, 2, y+1, top, bottom, was, now, p)
}
