package room

import (
	"dimlantern/screens/paint"

	"github.com/charmbracelet/x/ansi"
)

// DrawKeys draws the line that says where one is and which keys matter there: whole words
// alone. What does not fit is in help, whose key is the last and stays.
func (k Keys) Draw(c *paint.Canvas, y int, narrow bool, p paint.Palette) {
	base := paint.Style{Fg: p.Text}
	dim := base.With(p.Dim)
	gap := 3
	if narrow {
		gap = 2
	}
	shown, width := k.fitting(c.W-1, gap, narrow)
	x := 1 - gap
	if where := ansi.StringWidth(k.Where); where > 0 && (!narrow || 1+where+width <= c.W) {
		x = c.Cut(1, y, c.W/3, dim, k.Where)
	}
	for _, s := range shown {
		x = c.Put(x+gap, y, base.Strong(), s[0])
		x = c.Put(x+1, y, dim, s[1])
	}
}

// fitting are the keys with their words that fit into a width, beside where one is in a wide
// window, and how wide they are.
func (k Keys) fitting(room, gap int, narrow bool) (shown [][2]string, width int) {
	if where := ansi.StringWidth(k.Where); where > 0 && !narrow {
		room -= min(where, (room+1)/3)
	}
	for _, key := range k.List {
		word := key.Help().Desc
		if narrow {
			word = key.Short
		}
		if word != "" {
			shown = append(shown, [2]string{key.Help().Key, word})
		}
	}
	wide := func() (n int) {
		for _, s := range shown {
			n += gap + ansi.StringWidth(s[0]) + 1 + ansi.StringWidth(s[1])
		}
		return n
	}
	for len(shown) > 1 && wide() > room {
		last := len(shown) - 1
		if shown[last][0] == "?" || shown[last][0] == "esc" {
			last--
		}
		shown = append(shown[:last], shown[last+1:]...)
	}
	return shown, wide()
}
