// Package why is the page that answers why: of a rule and its key, or of an entry, what each
// clause has and what it lacks.
package why

import (
	"slices"
	"strings"

	"dimlantern/api"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
	"github.com/dustin/go-humanize"
)

// Page is an answer that is being read.
type Page struct {
	stage  *room.Stage
	entry  *api.EntryView // which is shown in full above; nil is none
	why    *api.Why       // nil before it has come
	err    error
	scroll int
	rows   int // it has, as it was drawn last
	height int // of which so many were seen
}

// Open lays the page over what is shown, and asks.
func Open(s *room.Stage, q api.WhyQuery) tea.Cmd {
	p := &Page{stage: s}
	s.Lay(p)
	return room.Ask(s, api.AskWhy, q, 2*room.Patience, func(w *api.Why, err error) tea.Cmd {
		p.why, p.err = w, err
		return nil
	})
}

// OpenEntry lays an entry in full over what is shown, with what the rules make of it.
func OpenEntry(s *room.Stage, e api.EntryView, q api.WhyQuery) tea.Cmd {
	p := &Page{stage: s, entry: &e}
	s.Lay(p)
	return room.Ask(s, api.AskWhy, q, 2*room.Patience, func(w *api.Why, err error) tea.Cmd {
		p.why, p.err = w, err
		return nil
	})
}

// Update is part of room.Room.
func (p *Page) Update(tea.Msg) tea.Cmd { return nil }

// Keys is part of room.Room.
func (p *Page) Keys() room.Keys {
	return room.Keys{Where: "reading why", Alone: true, List: []room.Key{
		room.Move(p.height, func(n int) tea.Cmd {
			p.scroll = min(max(p.scroll+n, 0), max(p.rows-p.height, 0))
			return nil
		}).Said("further", "further"),
		room.Do("esc y enter", p.stage.Back).Marked("esc").Said("back", "back"),
		room.Do("q", func() tea.Cmd { return tea.Quit }).Said("leave", "leave"),
	}}
}

// word is the width of the words at the left.
const word = 10

// Draw is part of room.Room.
func (p *Page) Draw(c *paint.Canvas, top, bottom int) {
	pal := p.stage.Palette
	base := paint.Style{Fg: pal.Text}
	row := -p.scroll
	p.height = bottom - top
	switch {
	case p.entry != nil:
		row = room.DrawEntry(c, 1, top+row, c.W-2, top, bottom, p.entry, pal) - top + 1
		if y := top + row; y >= top && y < bottom {
			room.DrawHead(c, y, "what the rules make of it", "", pal)
		}
		row += 2
	case p.why != nil:
		c.Cut(1, top, c.W-2, base.With(pal.Strong).Strong(), p.why.Title)
		top += 2
		p.height = bottom - top
	}
	switch y := top + row; {
	case p.err != nil:
		if y < bottom {
			c.Cut(1, max(y, top), c.W-2, base, p.err.Error())
		}
		return
	case p.why == nil:
		if y < bottom {
			c.Put(1, max(y, top), base.With(pal.Dim), "asking; earlier than now its logs are read once more")
		}
		return
	}
	for i := range p.why.Lines {
		for _, l := range wrapped(&p.why.Lines[i], c.W) {
			if y := top + row; y >= top && y < bottom {
				drawLine(c, y, &l, base, pal)
			}
			row++
		}
	}
	p.rows = row + p.scroll
	if below := p.rows - p.scroll - p.height; below > 0 {
		more := " " + humanize.Comma(int64(below)) + " more ↓"
		c.Put(c.W-1-len([]rune(more)), bottom-1, base.With(pal.Dim), more)
	}
}

// wrapped are the lines that a line becomes at a width.
func wrapped(l *api.WhyLine, all int) []api.WhyLine {
	if slices.Contains([]string{api.WhyText, api.WhyHit, api.WhyOver}, l.Kind) &&
		(len(l.Lit) > 0 || l.Kind != api.WhyText) {
		return []api.WhyLine{*l}
	}
	indent := l.Text[:len(l.Text)-len(strings.TrimLeft(l.Text, " "))]
	width := all - 4 - word - len(indent)
	if l.Kind == api.WhyHead {
		width = all - 2
	}
	var out []api.WhyLine
	for k, part := range room.Wrap(l.Text[len(indent):], width-6) {
		line := *l
		if k > 0 && l.Kind != api.WhyHead {
			line.Kind = api.WhyMore
			if l.Kind != api.WhyMore {
				part = "     " + part
			}
		}
		line.Text = indent + part
		out = append(out, line)
	}
	return out
}

// drawLine draws a line: the word at the left, whether it is so, and the text.
func drawLine(c *paint.Canvas, y int, l *api.WhyLine, base paint.Style, p paint.Palette) {
	dim, strong := base.With(p.Dim), base.With(p.Strong).Strong()
	const x = 3 + word
	switch l.Kind {
	case api.WhyHead:
		c.Cut(1, y, c.W-2, base.With(p.Strong), l.Text)
	case api.WhyHit, api.WhyOver:
		if l.Kind == api.WhyOver {
			strong = base.With(p.Over).Strong()
		}
		at := max(c.Cut(3, y, 16, dim, l.Word), 2+word)
		c.Put(at+1, y, strong, "›")
		room.DrawLit(c, at+3, y, c.W-at-4, l.Text, l.Lit, base, strong)
	case api.WhyText:
		room.DrawLit(c, x, y, c.W-x-1, l.Text, l.Lit, base, strong)
	case api.WhyYes, api.WhyNo:
		c.Cut(3, y, word-1, dim, l.Word)
		style := dim
		if l.Kind == api.WhyNo {
			c.Put(x, y, dim, "no")
		} else {
			style = base
			if l.Word != "" || l.Text != "" {
				c.Put(x, y, base.With(p.Over).Strong(), "yes")
			}
		}
		c.Cut(x+5, y, c.W-x-6, style, l.Text)
	default:
		c.Cut(3, y, word-1, dim, l.Word)
		c.Cut(x, y, c.W-x-1, dim, l.Text)
	}
}
