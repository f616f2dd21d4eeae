package sources

import (
	"fmt"
	"strings"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
	"github.com/dustin/go-humanize"
)

// begin is the page on which a rule begins: one of the newest entries of an origin is chosen,
// and what will be written is shown before it is, with what it would have done.
type begin struct {
	stage    *room.Stage
	origin   string
	label    string
	kinds    []api.EntryView // one of each kind, newest first
	chosen   int
	severity entry.Severity
	asked    string
	begun    *api.Begun
	err      error
}

// openBegin opens the page on the chosen origin.
func (r *Room) openBegin() tea.Cmd {
	_, o := r.Chosen()
	switch {
	case o == nil:
		return nil
	case r.entries == nil || r.entries.Origin != o.Name || len(r.entries.Lines) == 0:
		r.stage.Say("a rule begins with an entry, and none has come yet")
		return nil
	}
	b := &begin{stage: r.stage, origin: o.Name, label: r.Label(), severity: entry.Warning}
	seen := map[string]bool{}
	for _, l := range r.entries.Lines {
		text := l.Text
		if !l.Fits || text == "" {
			text = l.Raw
		}
		if kind := kindOf(text); !seen[kind] && strings.TrimSpace(l.Raw) != "" {
			seen[kind] = true
			b.kinds = append(b.kinds, l)
		}
	}
	if len(b.kinds) == 0 {
		r.stage.Say("a rule begins with an entry, and all that came are empty")
		return nil
	}
	r.stage.Lay(b)
	return b.ask(false)
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

// ask asks what rule the chosen entry makes, or has it written.
func (b *begin) ask(write bool) tea.Cmd {
	q := api.BeginQuery{Origin: b.origin, Raw: b.kinds[b.chosen].Raw, Severity: b.severity, Write: write}
	asked := fmt.Sprint(q)
	b.asked = asked
	return room.Ask(b.stage, api.DoBegin, q, room.Patience, func(begun *api.Begun, err error) tea.Cmd {
		switch {
		case asked != b.asked || !b.stage.Lies(b):
		case err != nil:
			b.err = err
		case begun.Done:
			b.stage.Say(begun.Name + " is written, and taken up; go on with it in your editor")
			return b.stage.Back()
		default:
			b.begun, b.err = begun, nil
		}
		return nil
	})
}

// Update is part of room.Room.
func (b *begin) Update(tea.Msg) tea.Cmd { return nil }

// Keys is part of room.Room.
func (b *begin) Keys() room.Keys {
	return room.Keys{Where: "choosing an entry", Alone: true, List: []room.Key{
		room.Move(10, func(n int) tea.Cmd {
			b.chosen = min(max(b.chosen+n, 0), len(b.kinds)-1)
			return b.ask(false)
		}).Said("which", "which"),
		room.On("left right", func(name string) tea.Cmd {
			if name == "right" {
				b.severity = min(b.severity+1, entry.Critical)
			} else {
				b.severity = max(b.severity-1, entry.Notice)
			}
			return b.ask(false)
		}).Said("how bad", "how bad"),
		room.Do("enter ctrl+s", func() tea.Cmd { return b.ask(b.begun != nil) }).Marked("enter").
			Said("write it and begin", "write it"),
		room.Do("esc", b.stage.Back).Said("leave it", "leave it"),
	}}
}

// Draw is part of room.Room.
func (b *begin) Draw(c *paint.Canvas, top, bottom int) {
	p := b.stage.Palette
	base := paint.Style{Fg: p.Text}
	dim, strong := base.With(p.Dim), base.With(p.Strong)
	y := top + 1
	at := c.Put(1, y, strong.Strong(), "begin a rule")
	c.Cut(at+3, y, c.W-at-4, dim, "from what "+b.label+" says; nothing is written until you say so")
	y += 2
	text := 0
	if b.begun != nil {
		text = strings.Count(b.begun.Text, "\n")
	}
	rows := max(bottom-y-text-7, 3)
	first := max(0, b.chosen-rows+1)
	c.Put(1, y, dim, "entry")
	for i := first; i < len(b.kinds) && i < first+rows; i++ {
		b.drawEntry(c, y, i, base)
		y++
	}
	y++
	c.Put(1, y, dim, "how bad")
	var words []string
	for s := entry.Notice; s <= entry.Critical; s++ {
		words = append(words, s.String())
	}
	drawChoices(c, 10, y, c.W, words, int(b.severity-entry.Notice), p)
	y += 2
	if b.err != nil {
		for _, part := range room.Wrap(b.err.Error(), c.W-12) {
			c.Cut(10, y, c.W-11, base.With(p.Severity[entry.Warning]), part)
			y++
		}
	}
	if b.begun == nil {
		return
	}
	hits, each := b.hits(c.W - 12)
	style := dim
	if each {
		style = base.With(p.Severity[entry.Warning])
	}
	// On a small screen the end of the text makes room for what it would have done.
	y = drawText(c, y, max(bottom-len(hits)-len(b.begun.Why)-1, y+4), b.begun.Name, b.begun.Text, p) + 1
	for i, part := range append(hits, b.begun.Why...) {
		if i == len(hits) {
			style = dim
		}
		if y < bottom {
			c.Cut(10, y, c.W-11, style, part)
			y++
		}
	}
}

// hits says what the rule would have done, in lines, and whether that is nearly an alert a hit.
func (b *begin) hits(width int) (lines []string, each bool) {
	raised := "nothing"
	if b.begun.Raised > 0 {
		raised = room.Count(b.begun.Raised, "alert")
	}
	words := fmt.Sprintf("It would hit %s of the newest %s entries, and raise %s.",
		humanize.Comma(b.begun.Hits), humanize.Comma(b.begun.Looked), raised)
	if each = b.begun.Raised >= 4 && b.begun.Raised*2 > b.begun.Hits; each {
		words += " That is nearly an alert a hit: name in per what identifies, or raise at several in a while."
	}
	return room.Wrap(words, width), each
}

// drawEntry draws one of the entries that can be chosen.
func (b *begin) drawEntry(c *paint.Canvas, y, i int, base paint.Style) {
	p, e := b.stage.Palette, &b.kinds[i]
	style := base
	if i == b.chosen {
		c.Fill(9, y, c.W-9, p.Chosen)
		style = base.With(p.Strong)
		c.Put(9, y, base.With(p.Severity[entry.Warning]), "▏")
		if p.Mono {
			c.Put(9, y, style, "›")
		}
	}
	x := c.Put(11, y, base.With(p.Dim), room.Clock(e.At)) + 2
	line := e.Raw
	if e.Fits && e.Text != "" {
		line = e.Text
	}
	line, _, _ = strings.Cut(line, "\n")
	c.Cut(x, y, c.W-x-1, style, entry.Visible(line))
}
