package room

import (
	"strings"

	"dimlantern/screens/paint"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
)

// Prompt is a line that is being typed at the bottom, and what is done with it.
type Prompt struct {
	Label, Hint string
	// Offered tells that the text is only proposed: what is typed takes its place.
	Offered bool
	// Next is what tab does, such as to speak of something else; nil where it does nothing.
	Next func(p *Prompt) tea.Cmd
	// Offers are texts with which the text can go on; the key right takes the first. nil is none.
	Offers func(text string) []string
	// Changed is called after each key that changed the text.
	Changed func(text string) tea.Cmd
	// Move is what the keys up and down do; nil where they do nothing.
	Move func(by int) tea.Cmd
	// Left is what is done when it is left with esc.
	Left func() tea.Cmd
	// Then is what is done with the text.
	Then func(text string) tea.Cmd

	input textinput.Model
}

// Prompt asks for a line, with a text that stands there already.
func (s *Stage) Prompt(p Prompt, text string) {
	p.input = NewInput(text)
	s.Typed = &p
}

// NewInput returns a line of text with the cursor behind it, for texts of any length.
func NewInput(text string) textinput.Model {
	in := textinput.New()
	in.Prompt = ""
	in.SetValue(text)
	in.CursorEnd()
	in.Focus()
	return in
}

// Text is what stands there.
func (p *Prompt) Text() string { return p.input.Value() }

// SetText puts a text in its place.
func (p *Prompt) SetText(text string) {
	p.input.SetValue(text)
	p.input.CursorEnd()
}

// Type takes a key or a pasted text into the line that is being typed.
func (s *Stage) Type(msg tea.Msg) tea.Cmd {
	p := s.Typed
	if k, ok := msg.(tea.KeyPressMsg); ok {
		switch name := k.String(); name {
		case "esc":
			s.Typed = nil
			if p.Left != nil {
				return p.Left()
			}
			return nil
		case "enter":
			s.Typed = nil
			if p.Then != nil {
				return p.Then(p.Text())
			}
			return nil
		case "tab":
			p.Offered = false
			if p.Next != nil {
				return p.Next(p)
			}
			return nil
		case "right":
			if rest := p.offer(); rest != "" {
				p.SetText(p.Text() + rest)
				return p.changed()
			}
		case "up", "down":
			if p.Move != nil {
				return p.Move(Steps(name, 0))
			}
			return nil
		}
		if p.Offered && k.Text != "" {
			p.SetText("")
		}
	}
	p.Offered = false
	was := p.Text()
	p.input, _ = p.input.Update(msg)
	if p.Text() != was {
		return p.changed()
	}
	return nil
}

func (p *Prompt) changed() tea.Cmd {
	if p.Changed == nil {
		return nil
	}
	return p.Changed(p.Text())
}

// offer is what the text can go on with; "" is nothing.
func (p *Prompt) offer() string {
	text := p.Text()
	if p.Offers == nil || p.input.Position() < len([]rune(text)) {
		return ""
	}
	for _, o := range p.Offers(text) {
		if rest, ok := strings.CutPrefix(o, text); ok {
			return rest
		}
	}
	return ""
}

// Draw draws the line.
func (p *Prompt) Draw(c *paint.Canvas, y int, pal paint.Palette) {
	base := paint.Style{Fg: pal.Text}
	dim := base.With(pal.Dim)
	hint := ansi.StringWidth(p.Hint)
	x := c.Cut(1, y, max(c.W-hint-16, c.W/3), dim, p.Label) + 2
	end := DrawInput(c, x, y, max(c.W-x-hint-4, 12), &p.input, true, pal)
	if rest := p.offer(); rest != "" {
		end = c.Cut(end, y, max(c.W-end-hint-4, 0), dim, rest+" →")
	}
	if at := max(end+2, c.W/2); at+hint < c.W {
		c.Put(at, y, dim, p.Hint)
	} else {
		c.Cut(end+2, y, c.W-end-3, dim, p.Hint)
	}
}

// DrawInput draws a line of text that is so wide, and, where keys go to it, its cursor; a long
// one moves along with the cursor. It returns the column behind it.
func DrawInput(c *paint.Canvas, x, y, width int, in *textinput.Model, focused bool, pal paint.Palette) int {
	base := paint.Style{Fg: pal.Text}
	runes := []rune(in.Value())
	at := min(in.Position(), len(runes))
	from := 0
	for from < at && ansi.StringWidth(string(runes[from:at])) > width-2 {
		from++
	}
	strong := base.With(pal.Strong)
	if from > 0 {
		c.Put(x-1, y, base.With(pal.Dim), "…")
	}
	cursor := c.Cut(x, y, width, strong, string(runes[from:at]))
	end := c.Cut(cursor, y, x+width-cursor, strong, string(runes[at:]))
	if !focused {
		return end
	}
	if at == len(runes) {
		c.Put(cursor, y, strong, "▏")
		return cursor + 1
	}
	style := paint.Style{Fg: pal.Ground, Bg: pal.Text}
	under := string(runes[at])
	if pal.Mono {
		style, under = base.Strong(), "▏"
	}
	c.Put(cursor, y, style, under)
	return end
}
