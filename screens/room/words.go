package room

import (
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"

	"github.com/charmbracelet/x/ansi"
	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
)

// Clock writes the time of day of an instant in the machine's zone.
func Clock(t entry.Instant) string {
	if t == entry.None {
		return "        "
	}
	return time.Unix(0, int64(t)).Format("15:04:05")
}

// Count writes how many there are of something, such as 1 hit, or 1,200 hits.
func Count[N int | int64](n N, one string) string {
	return humanize.Comma(int64(n)) + " " + english.PluralWord(int(n), one, "")
}

// Wrap cuts a text into lines of at most that width, at blanks where it can. A hyphen is no place to cut: names of
// hosts, rules and files have some.
func Wrap(s string, width int) []string {
	if width < 4 {
		return []string{s}
	}
	const hyphen = "\ue000" // which is no text's
	s = ansi.Wrap(strings.ReplaceAll(s, "-", hyphen), width, "")
	return strings.Split(strings.ReplaceAll(s, hyphen, "-"), "\n")
}

// DrawLit writes a line with its matches, which are stretches of bytes, lit.
func DrawLit(c *paint.Canvas, x, y, width int, text string, marks [][2]int, style, lit paint.Style) {
	end := x + width
	at := 0
	for _, s := range marks {
		if s[0] < at || s[1] > len(text) {
			continue
		}
		x = c.Cut(x, y, end-x, style, text[at:s[0]])
		x = c.Cut(x, y, end-x, lit, text[s[0]:s[1]])
		at = s[1]
	}
	c.Cut(x, y, end-x, style, text[at:])
}

// Choose draws the ground of a chosen row, from a column on.
func Choose(c *paint.Canvas, x, y int, p paint.Palette) {
	c.Fill(x, y, c.W-x, p.Chosen)
	if p.Mono {
		c.Put(x, y, paint.Style{Fg: p.Text}.Strong(), "›")
	}
}

// DrawDiff draws the lines in which two texts differ from a row on, those between top and
// bottom alone, and returns the row behind them.
func DrawDiff(c *paint.Canvas, x, y, top, bottom int, was, now string, p paint.Palette) int {
	base := paint.Style{Fg: p.Text}
	for _, l := range api.Diff(was, now) {
		style := base.With(p.Dim)
		if l[0] == '+' {
			style = base
		}
		if y >= top && y < bottom {
			c.Cut(x, y, c.W-x-1, style, l)
		}
		y++
	}
	return y
}

// DrawHead draws a thin line with a name in it, and words behind the name.
func DrawHead(c *paint.Canvas, y int, name, words string, p paint.Palette) {
	base := paint.Style{Fg: p.Text}
	c.Rule(1, y, 2, base.With(p.Rule), false)
	at := c.Put(4, y, base.With(p.Strong).Strong(), name)
	if words != "" {
		at = c.Cut(at+2, y, c.W-at-8, base.With(p.Dim), words)
	}
	c.Rule(at+2, y, c.W-at-4, base.With(p.Rule), false)
}
