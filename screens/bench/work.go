package bench

import (
	"errors"
	"path/filepath"
	"strings"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

// save writes the text into its file.
func (r *Room) save() tea.Cmd {
	r.text.Canonical()
	if !r.text.Changed() {
		r.stage.Say(filepath.Base(r.text.file) + " has this text already")
		return nil
	}
	q := r.text.saved()
	return room.Ask(r.stage, api.WriteText, q, room.Patience, func(_ *api.None, err error) tea.Cmd {
		if r.stage.Failed(err) {
			return r.askTheirs(err)
		}
		r.text.Saved(q.File, q.Body)
		words := " is written, and taken up"
		if v := r.stage.View; v != nil && v.ByHand {
			words = " is written; ^p puts it to work"
		}
		r.stage.Say(filepath.Base(q.File) + words)
		return nil
	})
}

// saved is the text as it is to be saved; a new file is called as its first rule.
func (t *text) saved() api.BenchSave {
	file := t.file
	if name := t.Name(); t.fresh && name != "" {
		file = filepath.Join(filepath.Dir(file), name+".lantern")
	}
	return api.BenchSave{File: file, Body: t.Body(), Was: t.was, New: t.fresh}
}

// askTheirs shows what somebody else has changed in the open file meanwhile, where that is
// why it was not written.
func (r *Room) askTheirs(err error) tea.Cmd {
	if !errors.Is(err, api.Changed) {
		return nil
	}
	file, was := r.text.file, r.text.was
	return room.Ask(r.stage, api.OpenText, api.BenchFile{File: file}, room.Patience,
		func(f *api.BenchFile, err error) tea.Cmd {
			if err != nil {
				return nil
			}
			p := &api.Put{Title: filepath.Base(file) + " was changed by somebody else meanwhile; nothing is " +
				"written, and what you typed is still here", Tests: true}
			for _, l := range api.Diff(was, f.Body) {
				p.Lines = append(p.Lines, api.PutLine{Word: map[byte]string{'+': "theirs", '-': "was"}[l[0]],
					Text: strings.TrimRight(l[2:], " "), Bad: l[0] == '+'})
			}
			r.stage.Lay(&work{r: r, put: p})
			return nil
		})
}

// put shows what putting the open text to work would do.
func (r *Room) put() tea.Cmd {
	r.text.Canonical()
	return r.askPut(api.PutQuery{Files: []api.BenchSave{r.text.saved()}})
}

// changeRule shows what something done to the chosen rule would do.
func (r *Room) changeRule(what string) tea.Cmd {
	x := r.rule()
	if x == nil {
		return nil
	}
	change := api.RuleChange{What: what, Rule: x.Rule}
	switch {
	case what == "off" && x.Off:
		change.What = "on"
	case what == "copy" || what == "rename":
		r.stage.Prompt(room.Prompt{Label: what + " " + x.Rule + " to",
			Hint: "enter shows what that changes   esc leaves it", Then: func(name string) tea.Cmd {
				change.Name = strings.TrimSpace(name)
				return r.askPut(api.PutQuery{Rule: &change})
			}}, x.Rule)
		return nil
	}
	return r.askPut(api.PutQuery{Rule: &change})
}

// askPut asks what a change would do, or has it done.
func (r *Room) askPut(q api.PutQuery) tea.Cmd {
	s := r.stage
	q.Person = s.Person()
	return room.Ask(s, api.DoPut, q, patience, func(p *api.Put, err error) tea.Cmd {
		switch {
		case s.Failed(err):
			return tea.Batch(s.Refresh(), r.askTheirs(err))
		case !q.Do || p.Refused != "":
			s.Lay(&work{r: r, q: q, put: p})
			return nil
		}
		s.Say(p.Done)
		if q.Rule == nil && len(p.Files) == 1 {
			r.text.Saved(p.Files[0].File, p.Files[0].Body)
		}
		return s.Refresh()
	})
}

// askTests asks which tests of the settings pass, with the open text in them.
func (r *Room) askTests() tea.Cmd {
	q := api.BenchQuery{File: r.text.file, Body: r.text.Body(), Line: r.text.Line()}
	return room.Ask(r.stage, api.TryTests, q, patience, func(p *api.Put, err error) tea.Cmd {
		if !r.stage.Failed(err) {
			r.stage.Lay(&work{r: r, put: p})
		}
		return nil
	})
}

// work is the page of what a change of the settings will do, before it is done; or of which
// tests pass.
type work struct {
	r      *Room
	q      api.PutQuery
	put    *api.Put
	scroll int
	most   int // that can be passed over
}

// reads tells that there is nothing to be done but to read.
func (w *work) reads() bool { return w.put.Tests || w.put.Refused != "" }

// Update is part of room.Room.
func (w *work) Update(tea.Msg) tea.Cmd { return nil }

// Keys is part of room.Room.
func (w *work) Keys() room.Keys {
	s := w.r.stage
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
func (w *work) do() tea.Cmd {
	q := w.q
	q.Do = true
	w.r.stage.Say("putting it to work")
	return tea.Batch(w.r.stage.Back(), w.r.askPut(q))
}

// Draw is part of room.Room.
func (w *work) Draw(c *paint.Canvas, top, bottom int) {
	p := w.r.stage.Palette
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
func (w *work) drawFile(c *paint.Canvas, y, top, bottom int, f api.BenchSave, p paint.Palette) int {
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
