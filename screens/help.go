package screens

import (
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
)

// help explains the room and every mark in it.
func (m *Model) help(c *paint.Canvas, top, bottom int, p paint.Palette) {
	base := paint.Style{Fg: p.Text}
	dim := base.With(p.Dim)
	y := top
	put := func(x int, s paint.Style, text string) { c.Cut(x, y, c.W-x, s, text) }
	put(1, base.With(p.Strong).Strong(), "watch")
	put(8, dim, "what is open, what stirs, what cannot be seen, and what is over")
	y += 2
	type mark struct {
		mark  string
		style paint.Style
		says  string
	}
	marks := []mark{
		{"····", base.With(p.Rule), "quiet, and seen"},
		{"⡀⡄⡆⡇", base.With(p.Stir), "hits below the threshold: one, two, three, more"},
		{"▂▄█", base.With(p.Severity[entry.Warning]), "open; higher where more hits fell"},
		{"▏", base.With(p.Severity[entry.Notice]), "notice"},
		{"▍", base.With(p.Severity[entry.Warning]), "warning"},
		{"▋", base.With(p.Severity[entry.Error]), "error"},
		{"█", base.With(p.Severity[entry.Critical]), "critical: the brighter, the worse; where a bar turns brighter, it worsened"},
		{"┃", base.With(p.Over), "ended by its recovery"},
		{"┊", base.With(p.Over), "ended otherwise: it stayed quiet, or by hand"},
		{"│", base.With(p.Severity[entry.Warning]), "at the left: over, and how bad it was"},
		{"╱╱╱", base.With(p.Blind), "blind: it could not be seen, so nobody knows"},
		{"▁▃█", base.With(p.Tide), "the tide: how many entries arrived when"},
		{"▲", base.With(p.Over), "the lamp: the moment that everything on the screen shows"},
	}
	if p.Mono {
		marks = append(marks, mark{"▲", base, "in a bar: here it worsened"})
	}
	keys := [][2]string{
		{"↑ ↓", "choose; enter unfolds, or opens the story"},
		{"← →", "hold the lamp earlier; with shift ten times as far"},
		{"space", "live again"},
		{"+ -", "a longer, a shorter span"},
		{"[ ]", "the moment of the transition before, after"},
		{"/", "find by rule, key, word or severity"},
		{"c", "clear the chosen alert by hand"},
		{"pgup pgdn", "older, newer evidence"},
		{"1 3", "the rooms watch and sources"},
		{"+ in 3", "bring in another log"},
		{"r in 3", "begin a rule from the chosen entry"},
		{"m f", "of entries: those that do not fit; in full"},
		{"q", "leave; the logs go on without you"},
	}
	left := y
	for _, k := range marks {
		put(1, k.style, k.mark)
		put(8, base, k.says)
		y++
	}
	end := y
	x := 1
	if c.W >= 150 {
		y, x = left, 88
	} else {
		y++
	}
	for _, k := range keys {
		if y >= bottom {
			break
		}
		put(x, base.Strong(), k[0])
		put(x+11, base, k[1])
		y++
	}
	y = max(y, end) + 1
	if y < bottom {
		zone, offset := zoneName()
		put(1, dim, "times of day are in "+zone+" ("+offset+"); rules are text files in "+m.settingsFolder())
	}
}
