package watch

import (
	"fmt"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

// contacts is the page of who is told, by which ways, and how that goes.
type contacts struct {
	stage   *room.Stage
	list    []api.ContactView
	at      int
	testing string                 // the contact that is being told a test
	tested  map[string]*api.Tested // what came of it, by contact
}

// testPatience is how long a test may take.
const testPatience = 2 * time.Minute

// askContacts opens the page.
func (r *Room) askContacts() tea.Cmd {
	p := &contacts{stage: r.stage, tested: map[string]*api.Tested{}}
	return p.ask(func() { r.stage.Lay(p) })
}

func (p *contacts) ask(then func()) tea.Cmd {
	return room.Ask(p.stage, api.AskContacts, api.None{}, room.Patience, func(v *api.ContactList, err error) tea.Cmd {
		if !p.stage.Failed(err) {
			p.list, p.at = v.List, min(p.at, max(len(v.List)-1, 0))
			then()
		}
		return nil
	})
}

// Update is part of room.Room.
func (p *contacts) Update(msg tea.Msg) tea.Cmd {
	if _, ok := msg.(room.Fresh); ok {
		return p.ask(func() {})
	}
	return nil
}

// Keys is part of room.Room.
func (p *contacts) Keys() room.Keys {
	return room.Keys{Where: "choosing contacts", Alone: true, List: []room.Key{
		room.Move(10, func(n int) tea.Cmd {
			p.at = max(min(p.at+n, len(p.list)-1), 0)
			return nil
		}).Said("which", "which"),
		room.Do("t enter", p.test).Marked("t").Said("tell it a test", "test"),
		room.Do("esc q W", p.stage.Back).Marked("esc").Said("back", "back"),
	}}
}

// test tells the chosen contact a test.
func (p *contacts) test() tea.Cmd {
	if len(p.list) == 0 || p.testing != "" {
		return nil
	}
	name := p.list[p.at].Name
	p.testing = name
	delete(p.tested, name)
	return room.Ask(p.stage, api.DoTest, api.TestQuery{Person: p.stage.Person(), Contact: name}, testPatience,
		func(t *api.Tested, err error) tea.Cmd {
			p.testing = ""
			if !p.stage.Failed(err) {
				p.tested[name] = t
			}
			return nil
		})
}

// Draw is part of room.Room.
func (p *contacts) Draw(c *paint.Canvas, top, bottom int) {
	pal := p.stage.Palette
	base := paint.Style{Fg: pal.Text}
	dim := base.With(pal.Dim)
	x := c.Put(1, top, base.With(pal.Strong).Strong(), "who is told")
	c.Cut(x+2, top, c.W-x-3, dim, "by which ways, and how that goes; contacts stand in the settings")
	if len(p.list) == 0 {
		c.Put(1, top+2, base, "The settings have no contact: nobody is told anything.")
		return
	}
	var lines []func(y int)
	from, to := 0, 0 // of the chosen one
	add := func(f func(y int)) { lines = append(lines, f) }
	for i := range p.list {
		x := &p.list[i]
		if i == p.at {
			from = len(lines)
		}
		add(func(y int) { p.drawName(c, y, x, i == p.at, base) })
		for k := range x.Ways {
			w := &x.Ways[k]
			style := base
			if w.Error != "" && w.Failed > w.Told {
				style = base.With(pal.Severity[entry.Warning])
			}
			for n, part := range room.Wrap(w.Where+": "+w.Say(), c.W-17) {
				add(func(y int) {
					if n == 0 {
						c.Cut(3, y, 12, dim, w.Way)
					}
					c.Cut(16, y, c.W-17, style, part)
				})
			}
		}
		if t := p.tested[x.Name]; t != nil {
			p.drawTest(t, add, c, base)
		} else if p.testing == x.Name {
			add(func(y int) { c.Put(3, y, dim, "test         it is being told") })
		}
		add(func(int) {})
		if i == p.at {
			to = len(lines)
		}
	}
	rows := bottom - top - 2
	first := max(min(from, len(lines)-rows), 0)
	first = max(first, min(to-rows, from))
	for i, y := max(first, 0), top+2; i < len(lines) && y < bottom; i, y = i+1, y+1 {
		lines[i](y)
	}
}

func (p *contacts) drawName(c *paint.Canvas, y int, x *api.ContactView, chosen bool, base paint.Style) {
	style := base.Strong()
	if chosen {
		room.Choose(c, 0, y, p.stage.Palette)
		style = base.With(p.stage.Palette.Strong).Strong()
	}
	at := c.Put(1, y, style, x.Name)
	words := strings.Join(x.Limits, ", ")
	if x.Off {
		words = strings.TrimSuffix("off: it is told nothing, "+words, ", ")
	}
	if x.Waits > 0 {
		words += fmt.Sprintf("; %s to be told", room.Count(x.Waits, "thing"))
	}
	c.Cut(at+2, y, c.W-at-3, base.With(p.stage.Palette.Dim), strings.TrimPrefix(words, "; "))
}

// drawTest says what came of a test, a way each.
func (p *contacts) drawTest(t *api.Tested, add func(func(y int)), c *paint.Canvas, base paint.Style) {
	pal := p.stage.Palette
	for _, w := range t.Ways {
		style, words := base.With(pal.Over), w.Way+": told; "+w.Answer
		if !w.OK {
			style, words = base.With(pal.Severity[entry.Warning]), w.Way+": it does not go: "+w.What
			if w.Mend != "" {
				words += "; to mend it: " + w.Mend
			}
		}
		for n, part := range room.Wrap(words, c.W-17) {
			add(func(y int) {
				if n == 0 {
					c.Put(3, y, base.With(pal.Dim), "test")
				}
				c.Cut(16, y, c.W-17, style, part)
			})
		}
	}
}
