// Package paint draws on a grid of cells: texts, lifelines, the tide and its
// axis. Facts and a palette come in, a string for the terminal goes out. What
// came out of a log is made harmless on the way: no line can change the
// terminal.
package paint

import (
	"fmt"
	"image/color"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"dimlantern/core/entry"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
)

// Color is a colour by its red, green and blue; the zero value is the terminal's
// own.
type Color struct {
	R, G, B uint8
	Set     bool
}

// Hex makes a colour of "#rrggbb".
func Hex(s string) Color {
	n, err := strconv.ParseUint(strings.TrimPrefix(s, "#"), 16, 32)
	if err != nil {
		return Color{}
	}
	return Color{uint8(n >> 16), uint8(n >> 8), uint8(n), true}
}

// Mix is the colour halfway to another one, where both are set.
func (c Color) Mix(with Color) Color {
	if !c.Set || !with.Set {
		return c
	}
	half := func(a, b uint8) uint8 { return uint8((int(a) + int(b)) / 2) }
	return Color{half(c.R, with.R), half(c.G, with.G), half(c.B, with.B), true}
}

// Style is how a cell looks.
type Style struct {
	Fg, Bg Color
	Bold   bool
}

// With returns the style in another colour.
func (s Style) With(fg Color) Style { s.Fg = fg; return s }

// Strong returns the style in bold.
func (s Style) Strong() Style { s.Bold = true; return s }

type cell struct {
	text  string // "" is the right half of a wide character
	style Style
}

// Canvas is a grid of cells, W wide and H high.
type Canvas struct {
	W, H  int
	Plain bool // only ASCII: every mark has a stand-in
	// Ground is the colour of what nothing is written on.
	Ground Color
	cells  []cell
}

// New returns an empty canvas in the ground's colour.
func New(w, h int, ground Color) *Canvas { return new(Canvas).Clear(w, h, ground) }

// Clear makes the canvas what New returns, in the place of what it was.
func (c *Canvas) Clear(w, h int, ground Color) *Canvas {
	*c = Canvas{W: w, H: h, Ground: ground, cells: slices.Grow(c.cells[:0], w*h)[:w*h]}
	for i := range c.cells {
		c.cells[i] = cell{" ", Style{Bg: ground}}
	}
	return c
}

// Put writes a text and returns the column behind it. What does not fit on the
// canvas is cut. A style without a background keeps the one that is there.
func (c *Canvas) Put(x, y int, s Style, text string) int {
	return c.Cut(x, y, c.W-x, s, text)
}

// Cut is Put with a limit to the width; where text is longer, it ends with "…".
func (c *Canvas) Cut(x, y, width int, s Style, text string) int {
	if y < 0 || y >= c.H || width <= 0 {
		return x
	}
	if n, ok := narrow(text); ok {
		if n <= width {
			return c.narrow(x, y, s, text, n)
		}
		return c.narrow(c.narrow(x, y, s, text, width-1), y, s, "…", 1)
	}
	text = entry.Visible(text)
	if ansi.StringWidth(text) > width {
		text = ansi.Truncate(text, width, "…")
	}
	for text != "" {
		cluster, w := ansi.FirstGraphemeCluster(text, ansi.GraphemeWidth)
		text = text[len(cluster):]
		if w == 0 {
			continue
		}
		if beside, _ := ansi.FirstGraphemeCluster("x"+cluster, ansi.GraphemeWidth); beside != "x" {
			// A mark without a letter would go to the cell before it.
			cluster, w = ansi.FirstGraphemeCluster("◌"+cluster, ansi.GraphemeWidth)
		}
		if x+w > c.W {
			break
		}
		if x >= 0 {
			c.split(x, y)
			c.split(x+w, y)
			c.set(x, y, cluster, s)
			for k := 1; k < w; k++ {
				c.set(x+k, y, "", s)
			}
		}
		x += w
	}
	return x
}

// narrow counts the characters of a text, and tells whether each stands in a cell of its own
// whatever is beside it, and does nothing to the terminal: ASCII, Latin, and the marks that we
// draw with. Nearly all texts are so, and to look for clusters in them takes long.
func narrow(text string) (n int, ok bool) {
	for _, r := range text {
		switch {
		case r >= 0x20 && r < 0x7f, r > 0xa0 && r < 0x300 && r != 0xad:
		case r == '…', r == '‹', r == '›', r >= 0x2500 && r < 0x25aa, r >= 0x2800 && r < 0x2900, r == '▲':
		default:
			return 0, false
		}
		n++
	}
	return n, true
}

// narrow writes the first n characters of a text of narrow ones.
func (c *Canvas) narrow(x, y int, s Style, text string, n int) int {
	for ; n > 0 && x < c.W; n-- {
		_, size := utf8.DecodeRuneInString(text)
		if x >= 0 {
			c.split(x, y)
			c.split(x+1, y)
			c.set(x, y, text[:size], s)
		}
		text, x = text[size:], x+1
	}
	return x
}

// split puts blanks in the place of a wide mark that stands on both sides of a column's
// left edge.
func (c *Canvas) split(x, y int) {
	if x <= 0 || x >= c.W || c.cells[y*c.W+x].text != "" {
		return
	}
	from := x
	for from > 0 && c.cells[y*c.W+from].text == "" {
		from--
	}
	for k := from; k == from || k < c.W && c.cells[y*c.W+k].text == ""; k++ {
		c.cells[y*c.W+k].text = " "
	}
}

func (c *Canvas) set(x, y int, text string, s Style) {
	i := y*c.W + x
	if !s.Bg.Set {
		s.Bg = c.cells[i].style.Bg
	}
	c.cells[i] = cell{text, s}
}

// Fill colours the background of a stretch of a row.
func (c *Canvas) Fill(x, y, width int, bg Color) {
	for k := max(x, 0); k < min(x+width, c.W) && y >= 0 && y < c.H; k++ {
		c.cells[y*c.W+k].style.Bg = bg
	}
}

// Rule draws a thin line; a broken one stands for the past.
func (c *Canvas) Rule(x, y, width int, s Style, broken bool) {
	for k := range width {
		if !broken || k%4 < 2 {
			c.Put(x+k, y, s, "─")
		}
	}
}

// stand-ins of the marks where the terminal or its fonts are poor.
var plain = map[string]string{
	"▏": ":", "▍": "!", "▋": "I", "█": "#", "▂": "_", "▃": "-", "▄": "=", "▅": "=", "▆": "+", "▇": "*", "▁": "_",
	"▲": "^", "⡀": ".", "⡄": ":", "⡆": ";", "⡇": "|", "┃": "]", "┊": ")", "│": "|", "╱": "/", "░": "%", "─": "-",
	"·": ".",
	"┬": "+", "◖": "(", "◗": ")", "›": ">", "…": "~", "↑": "^", "↓": "v", "←": "<", "→": ">",
}

// String writes the canvas for a terminal of all colours, one line a row.
func (c *Canvas) String() string {
	var b []byte
	for y := range c.H {
		if y > 0 {
			b = append(b, '\n')
		}
		for x := range c.W {
			k := &c.cells[y*c.W+x]
			if k.text == "" {
				continue
			}
			if x == 0 || k.style != c.cells[y*c.W+x-1].style {
				b = append(b, k.style.SGR(colorprofile.TrueColor)...)
			}
			b = append(b, c.mark(k.text)...)
		}
		b = append(b, "\x1b[m"...)
	}
	return string(b)
}

// mark is a text of a cell as it is written.
func (c *Canvas) mark(text string) string {
	if !c.Plain {
		return text
	}
	if p, ok := plain[text]; ok {
		return p
	}
	if text[0] >= 0x80 {
		return "?"
	}
	return text
}

// AppendChanges appends what makes a terminal that shows was show c. Both have the same size;
// was may be nil, which is a terminal of which nothing is known. Sgr says how a style is
// written, see [Style.SGR]. At the end the terminal's style is any, its cursor anywhere.
func (c *Canvas) AppendChanges(b []byte, was *Canvas, sgr func(Style) string) []byte {
	style, known := Style{}, false
	for y := range c.H {
		row := c.cells[y*c.W : (y+1)*c.W]
		at := -1 // where the cursor stands
		for x := 0; x < c.W; {
			end := x + 1 // behind the character
			for end < c.W && row[end].text == "" {
				end++
			}
			if was != nil && slices.Equal(row[x:end], was.cells[y*c.W+x:y*c.W+end]) {
				x = end
				continue
			}
			if at != x {
				b = fmt.Appendf(b, "\x1b[%d;%dH", y+1, x+1)
			}
			if k := &row[x]; !known || k.style != style {
				b = append(b, sgr(k.style)...)
				style, known = k.style, true
			}
			b = append(b, c.mark(row[x].text)...)
			at = end
			if _, ok := narrow(row[x].text); !ok {
				at = -1 // terminals differ in how wide they find it
			}
			x = end
		}
	}
	return b
}

// SGR is what lets a terminal write in the style (ECMA-48, 8.3.117), in the nearest colours
// that it has.
func (s Style) SGR(p colorprofile.Profile) string {
	if p <= colorprofile.NoTTY {
		return ""
	}
	out := ansi.NewStyle().Reset()
	if s.Bold {
		out = out.Bold()
	}
	if c := p.Convert(s.Fg.rgb()); s.Fg.Set && c != nil {
		out = out.ForegroundColor(c)
	}
	if c := p.Convert(s.Bg.rgb()); s.Bg.Set && c != nil {
		out = out.BackgroundColor(c)
	}
	return out.String()
}

func (c Color) rgb() color.Color { return color.RGBA{R: c.R, G: c.G, B: c.B, A: 255} }

// Hex writes the colour as "#rrggbb"; "" is the terminal's own.
func (c Color) Hex() string {
	if !c.Set {
		return ""
	}
	return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B)
}
