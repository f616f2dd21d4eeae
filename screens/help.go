package screens

import (
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
)

// help explains the room and every mark in it.
func (m *Model) help(c *paint.Canvas, top, bottom int, p paint.Palette) {
	base := paint.Style{Fg: p.Text}
	dim := base.With(p.Dim)
	switch {
	case m.back == dividing:
		explain(c, top, bottom, p, base, "fields", "what the entries of a source divide into: above its lines, "+
			"below the layout as it will be written, and the values",
			fieldsKeys, "bright is what a field has, dim what belongs to none; what does not fit is amber")
		return
	case m.inRoom == inBench:
		explain(c, top, bottom, p, base, "bench", "where rules are made: the text, what it means, what it would "+
			"have done over what the axis shows, and the shapes of entries",
			benchKeyWords, "bright lines belong to the rule at the cursor, which is the one that is tried; with "+
				"errors in it the last one that had none is shown dim")
		return
	}
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
		{"█", base.With(p.Severity[entry.Critical]), "critical; where a bar turns brighter, it worsened"},
		{"┃", base.With(p.Over), "ended by its recovery"},
		{"┊", base.With(p.Over), "ended otherwise: it stayed quiet, or by hand"},
		{"│", base.With(p.Severity[entry.Warning]), "at the left: over, and how bad it was"},
		{"░░░", base.With(p.Dim), "open and told nobody: hushed, or in a bigger one's shadow"},
		{"╱╱╱", base.With(p.Blind), "blind: it could not be seen, so nobody knows"},
		{"▁▃█", base.With(p.Tide), "the tide: how many entries arrived when"},
		{"▲", base.With(p.Over), "the lamp: the moment that everything on the screen shows"},
	}
	if p.Mono {
		marks = append(marks, mark{"▲", base, "in a bar: here it worsened"})
	}
	keys := [][2]string{
		{"↑ ↓", "choose; enter unfolds, opens the story, or the numbers that a rule compares"},
		{"← →", "hold the lamp earlier; with shift ten times as far"},
		{"space", "live again"},
		{"+ -", "a longer, a shorter span"},
		{"[ ]", "the moment of the transition before, after"},
		{"/", "find by rule, key, word or severity"},
		{"t T u", "take the chosen alert; hand it over; take back what you did last"},
		{"h H", "hush it, its rule or its host for a while; all hushes, with what each keeps quiet"},
		{"m c", "write a note to it; clear it by hand"},
		{"b n", "its rule on the bench; a new rule there from its newest entry"},
		{"y", "why: what each clause has and what it lacks; of an entry, what rules see in it"},
		{"pgup pgdn", "older, newer evidence"},
		{"1 2 3", "the rooms watch, bench and sources"},
		{"+ in 3", "bring in another log"},
		{"r n in 3", "begin a rule from the chosen entry, at once or on the bench"},
		{"l in 3", "the fields of the chosen source: point at a value, and name it"},
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
		y, x = left, 68
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

// explain lists the keys of a room, with what they stand for.
func explain(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style, room, about string,
	keys [][2]string, last string) {
	y := top
	x := c.Put(1, y, base.With(p.Strong).Strong(), room)
	c.Cut(x+2, y, c.W-x-3, base.With(p.Dim), about)
	y += 2
	for _, k := range keys {
		if y >= bottom {
			return
		}
		c.Put(1, y, base.Strong(), k[0])
		c.Cut(13, y, c.W-14, base, k[1])
		y++
	}
	y++
	if y < bottom {
		c.Cut(1, y, c.W-2, base.With(p.Dim), last)
	}
}

// benchKeyWords are the keys of the bench.
var benchKeyWords = [][2]string{
	{"↑ ↓ enter", "of the rules: choose one, and open the file that it stands in; n begins a new one in a file of " +
		"its own"},
	{"c r o D", "of the rules: copy, rename wherever it is named, switch off or on, delete; what that changes is " +
		"shown first"},
	{"b", "what was put to work before, by whom, with a way back"},
	{"", "in the text, all keys type; esc leads to the shapes, enter back to the text; a click puts the cursor"},
	{"alt ↑ ↓", "the number or the duration at the cursor, by a sensible step; tab completes"},
	{"^z ^r ^f", "undo, redo, as often as you like; search"},
	{"^s", "write the file; not where somebody else has written into it meanwhile"},
	{"^p", "put it to work: first what that changes, which tests fail, which alerts end"},
	{"^t", "the tests of all rules"},
	{"E", "the text in your own editor; it comes back changed, and not saved"},
	{"", "on a shape:"},
	{"p o x", "this is the problem; this means over; not this: a pattern that is as tight as its entries, with " +
		"its numbers left open"},
	{"n", "name a value of the entry, tab goes to the next: a field for per, say and where"},
	{"space", "pick several, and let p, o or x speak of all"},
	{"a i A", "feed the entry to the rule, type a line to feed (+5m before it lets time pass), take all back"},
	{"k", "keep what was fed, with what it brought, as an expect of the rule"},
	{"f /", "which shapes: all, taken, nearly taken, the usual and the odd ones of the others, the newest; / only " +
		"entries with some words"},
	{"s", "the sample begins where the lamp is held, and ends where it goes then"},
	{"F", "try it on files that you name, instead of what its sources say"},
	{"y u", "why: what the entry is for the rule as it is typed, part by part, and for the others; undo"},
	{"tab", "to the lifelines: choose one, and y asks why it would stand so at the lamp"},
	{"+ - ← →", "a longer, a shorter span of what it is tried on; hold the lamp earlier"},
	{"esc", "back to the rules"},
}

// fieldsKeys are the keys of the work on fields.
var fieldsKeys = [][2]string{
	{"↑ ↓", "another line; below the chosen one stand the names of its fields, or why it does not fit"},
	{"← →", "the value before, the one behind; a click points as well"},
	{"shift ← →", "take one word less, one more; drag with the mouse"},
	{"enter", "name what is pointed at: a pattern is built that finds it on all lines of its kind"},
	{"", "the same name on a further line makes the pattern fit both; two names on one line give one pattern"},
	{"x", "this is not one: the pattern is narrowed until it does not find it"},
	{"t", "the type of the field: integer, decimal, duration in ms, address; time makes this value the example of " +
		"the entry's time"},
	{"d", "detect: what fits these lines, the best first; again for the next"},
	{"e", "write the layout by hand; esc comes back"},
	{"u", "undo, as often as you like"},
	{"tab", "lines of usual shapes, of odd ones, the newest, those that do not fit"},
	{"v", "in a narrow window: the values instead of the layout"},
	{"w", "look through all that is there instead of a sample; esc stops it"},
	{"/", "only lines that have these words"},
	{"^s", "write the layout into the settings; its comments stay"},
	{"esc", "back to the sources; nothing is written"},
}
