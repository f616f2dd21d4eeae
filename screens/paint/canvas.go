// Package paint draws on a grid of cells: texts, lifelines, the tide and its
// axis. Facts and a palette come in, a string for the terminal goes out. What
// came out of a log is made harmless on the way: no line can change the
// terminal.
package paint

import (
	"strconv"
	"strings"

	"dimlantern/core/entry"

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
	cells []cell
}

// New returns an empty canvas in the ground's colour.
func New(w, h int, ground Color) *Canvas {
	c := &Canvas{W: w, H: h, cells: make([]cell, w*h)}
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
	text = entry.Visible(text)
	if y < 0 || y >= c.H || width <= 0 {
		return x
	}
	if ansi.StringWidth(text) > width {
		text = ansi.Truncate(text, width, "…")
	}
	for text != "" {
		cluster, w := ansi.FirstGraphemeCluster(text, ansi.GraphemeWidth)
		text = text[len(cluster):]
		if w == 0 {
			continue
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

// Ground colours the background of a stretch of a row.
func (c *Canvas) Ground(x, y, width int, bg Color) {
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

// String writes the canvas for the terminal, one line a row.
func (c *Canvas) String() string {
	var b strings.Builder
	b.Grow(c.W * c.H * 4)
	for y := range c.H {
		if y > 0 {
			b.WriteByte('\n')
		}
		last := Style{}
		fresh := true
		for x := range c.W {
			k := &c.cells[y*c.W+x]
			if k.text == "" {
				continue
			}
			if fresh || k.style != last {
				b.WriteString(k.style.sgr())
				last, fresh = k.style, false
			}
			text := k.text
			if c.Plain {
				if p, ok := plain[text]; ok {
					text = p
				} else if text[0] >= 0x80 {
					text = "?"
				}
			}
			b.WriteString(text)
		}
		b.WriteString("\x1b[m")
	}
	return b.String()
}

func (s Style) sgr() string {
	var b []byte
	b = append(b, "\x1b[0"...)
	if s.Bold {
		b = append(b, ";1"...)
	}
	b = s.Fg.sgr(b, ";38;2;")
	b = s.Bg.sgr(b, ";48;2;")
	return string(append(b, 'm'))
}

func (c Color) sgr(b []byte, lead string) []byte {
	if !c.Set {
		return b
	}
	b = append(b, lead...)
	b = strconv.AppendUint(b, uint64(c.R), 10)
	b = append(b, ';')
	b = strconv.AppendUint(b, uint64(c.G), 10)
	b = append(b, ';')
	return strconv.AppendUint(b, uint64(c.B), 10)
}
