package bench

import (
	"fmt"
	"slices"
	"strings"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	"github.com/charmbracelet/x/ansi"
	"github.com/dustin/go-humanize"
)

// angles stand around what changes from entry to entry.
var angles = strings.NewReplacer("<", "‹", ">", "›")

// drawKinds draws the kinds of entries, and the chosen one in full.
func (r *Room) drawKinds(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	r.drawKindsHead(c, top, p, base)
	kinds := r.shownKinds()
	y := top + 1
	if r.sample.words != "" {
		x := c.Put(2, y, base.With(p.Dim), "only entries with ")
		x = c.Cut(x, y, c.W/2, base.With(p.Strong), r.sample.words)
		c.Put(x, y, base.With(p.Dim), "; esc shows all again")
		y++
	}
	rows := bottom - y - 2
	chosen := slices.IndexFunc(kinds, func(k api.BenchKind) bool { return k.ID+k.Source == r.kinds.chosen })
	r.kinds.top = max(min(r.kinds.top, max(chosen, 0)), chosen-rows+1, 0)
	r.geo.kindsY = y
	alike := 0 // how much all of them begin with, where there is no room for it
	for _, k := range kinds {
		if ansi.StringWidth(k.Text) > c.W-24 {
			alike = sameStart(r.view.Kinds)
			break
		}
	}
	for i, k := range kinds[min(r.kinds.top, len(kinds)):] {
		if i >= rows {
			break
		}
		r.geo.kinds = append(r.geo.kinds, k.ID+k.Source)
		if r.kinds.top+i == chosen && r.pane == entryKinds {
			room.Choose(c, 0, y, p)
		}
		r.drawKind(c, y, &k, alike, p, base)
		y++
	}
	if k := r.kind(); k != nil && bottom-top > 5 {
		r.drawExample(c, bottom-2, k, p, base)
	}
}

// drawKindsHead says how many kinds there are, and which are shown.
func (r *Room) drawKindsHead(c *paint.Canvas, top int, p paint.Palette, base paint.Style) {
	dim := base.With(p.Dim)
	c.Rule(1, top, 2, base.With(p.Rule), false)
	x := c.Put(4, top, base.With(p.Strong).Strong(), "shapes")
	tabs := 0
	for _, n := range onlyNames {
		tabs += len(n) + 3
	}
	if r.view != nil {
		counts := map[string]int{}
		for _, k := range r.view.Kinds {
			counts[k.Is]++
		}
		x = c.Cut(x+2, top, min(c.W/2, c.W-x-tabs-5), dim, fmt.Sprintf("%s of entries; the problem catches %d, "+
			"what ends it %d", room.Count(len(r.view.Kinds), "kind"), counts["problem"], counts["over"]))
	}
	c.Rule(x+2, top, c.W-x-tabs-5, base.With(p.Rule), false)
	at := c.W - tabs - 1
	for i, n := range onlyNames {
		style := dim
		if i == r.kinds.only {
			style = base.With(p.Strong).Strong()
		}
		at = c.Put(at, top, style, n) + 3
	}
}

// drawKind draws a kind: what the rule makes of it, how many there are, its shape without
// what all of them begin with, and what may be said of it.
func (r *Room) drawKind(c *paint.Canvas, y int, k *api.BenchKind, alike int, p paint.Palette, base paint.Style) {
	dim := base.With(p.Dim)
	if r.kinds.picked[k.ID+k.Source] {
		c.Put(0, y, base.With(p.Strong).Strong(), "+")
	}
	style, word := dim, k.Is
	switch k.Is {
	case "problem":
		style = base.With(p.Severity[entry.Error])
	case "over":
		style = base.With(p.Over)
	case "near":
		word = ""
	}
	if k.Partly {
		word = "some " + word
	}
	c.Cut(2, y, 12, style, word)
	n := humanize.Comma(int64(k.Count))
	c.Put(22-len(n), y, dim, n)
	text := base
	if k.Is == "" || k.Is == "near" {
		text = dim
	}
	width, beside := c.W-24, c.W*55/100
	if words := r.proposal(k); words != "" && k.Is != "problem" {
		width = beside - 24
		c.Cut(beside, y, c.W*45/100-1, base.With(p.Over), "ends it? "+words)
	} else if k.Note != "" {
		width = beside - 24
		c.Cut(beside, y, c.W*45/100-1, base.With(p.Severity[entry.Notice]), "near: "+k.Note)
	}
	shape := angles.Replace(k.Text[alike:])
	if alike > 0 {
		shape = "…" + shape
	}
	c.Cut(24, y, width, text, shape)
}

// drawExample draws an entry of a kind in full, and its fields.
func (r *Room) drawExample(c *paint.Canvas, y int, k *api.BenchKind, p paint.Palette, base paint.Style) {
	dim := base.With(p.Dim)
	c.Put(2, y, dim, "one of "+humanize.Comma(int64(k.Count)))
	example, lit := k.Example, k.Lit
	if r.kinds.pointed != nil {
		lit = [][2]int{*r.kinds.pointed}
	}
	if from := textStart(k); from > 0 && ansi.StringWidth(example) > c.W-26 {
		example, lit = example[from:], shifted(lit, from)
	}
	room.DrawLit(c, 24, y, c.W-26, example, lit, base, base.With(p.Strong).Strong())
	var fields []string
	for _, f := range k.Fields {
		if f.Value != "" && f.Name != "text" {
			fields = append(fields, f.Name+" "+ansi.Truncate(f.Value, 30, "…"))
		}
	}
	c.Cut(24, y+1, c.W-26, dim, strings.Join(fields, "   "))
}

// sameStart is how many bytes the texts of all kinds begin with, up to a space.
func sameStart(kinds []api.BenchKind) int {
	start := kinds[0].Text
	for _, k := range kinds[1:] {
		for !strings.HasPrefix(k.Text, start) {
			start = start[:len(start)-1]
		}
	}
	return strings.LastIndexByte(start, ' ') + 1
}

// textStart is where in a kind's example its text begins, of one that has fields besides.
func textStart(k *api.BenchKind) int {
	for _, f := range k.Fields {
		if f.Name == "text" && f.Value != "" {
			first, _, _ := strings.Cut(f.Value, "\n")
			return max(strings.LastIndex(k.Example, first), 0)
		}
	}
	return 0
}

// shifted are stretches of a text from an offset on.
func shifted(lit [][2]int, by int) [][2]int {
	var out [][2]int
	for _, m := range lit {
		if m[1] > by {
			out = append(out, [2]int{max(m[0]-by, 0), m[1] - by})
		}
	}
	return out
}

// drawLifelines draws what would have been.
func (r *Room) drawLifelines(c *paint.Canvas, top, bottom int, a paint.Axis, p paint.Palette, base paint.Style) {
	c.Rule(1, top, 2, base.With(p.Rule), false)
	x := c.Put(4, top, base.With(p.Strong).Strong(), "lifelines")
	x = c.Cut(x+2, top, c.W-x-8, base.With(p.Dim), "had this rule been at work")
	c.Rule(x+2, top, c.W-x-4, base.With(p.Rule), false)
	col := room.ColumnsOf(c.W)
	y := top + 1
	if r.view == nil {
		return
	}
	for i := max(0, len(r.fed)-4); i < len(r.fed) && y < bottom-1; i++ { // the last ones
		c.Put(2, y, base.With(p.Dim), fmt.Sprintf("fed %d", i+1))
		brought := "nothing"
		style := base.With(p.Dim)
		if i < len(r.view.Fed) && len(r.view.Fed[i]) > 0 {
			brought, style = strings.Join(r.view.Fed[i], "; "), base.With(p.Strong)
		}
		c.Cut(24, y, c.W*55/100-26, base, r.fed[i])
		c.Cut(c.W*55/100, y, c.W*45/100-1, style, "brings "+brought)
		y++
	}
	if len(r.view.Rows) == 0 && r.view.Tried != nil {
		c.Put(3, y, base.With(p.Dim), "no hit, and no alert, in this span")
		return
	}
	if k := r.view.Curves; k != nil && bottom-y >= 5 {
		for _, v := range k.List[:min(len(k.List), max((bottom-y-2)/3, 1))] {
			c.Curve(y, 3, a, v, p, base)
			y += 3
		}
	}
	chosen := -1
	if r.pane == lifeList {
		chosen = r.lifeIndex()
	}
	r.lives.top = max(min(r.lives.top, max(chosen, 0)), chosen-(bottom-y)+1, 0)
	for i := r.lives.top; i < len(r.view.Rows); i++ {
		if y >= bottom {
			c.Put(c.W-12, bottom-1, base.With(p.Dim), fmt.Sprintf(" %d more ↓", len(r.view.Rows)-i))
			return
		}
		row := &r.view.Rows[i]
		if i == chosen {
			c.Fill(0, y, c.W, p.Chosen)
			if p.Mono {
				c.Put(col.Wick+1, y, base.Strong(), "›")
			}
		}
		if row.Have > 0 {
			mark := "│"
			if row.Cleared == entry.None {
				mark = paint.Wick(row.Severity)
			}
			c.Put(col.Wick, y, base.With(p.Severity[min(int(row.Severity), 4)]), mark)
		}
		key := strings.Join(row.Key, " ")
		if key == "" {
			key = "all together"
		}
		c.Cut(col.Rule, y, col.Life-col.Rule-1, base, key)
		c.Lifeline(y, a, row.Life, p, base)
		note := "none"
		if row.Have > 0 {
			note = room.Count(row.Have, "alert")
		}
		c.Cut(col.Note, y, col.NoteWidth, base.With(p.Dim), note)
		if col.Second > 0 {
			c.Cut(col.Second, y, c.W-col.Second, base.With(p.Dim),
				room.Count(row.Count, "hit"))
		}
		y++
	}
}

// longText is how long a text may be that is parsed for each key, in bytes.
const longText = 256 << 10

// ruleAt is where the rule stands in which a line lies, or the one before it.
func (r *Room) ruleAt(line int) lang.Place {
	if len(r.text.Body()) > longText { // of which the lines alone are looked at, at each key
		p := lang.Place{Kind: "rule"}
		lines := r.text.area.Lines()
		begins := func(i int) bool { return strings.HasPrefix(string(lines[i][:min(len(lines[i]), 5)]), "rule ") }
		for i := min(line, len(lines)) - 1; i >= 0 && p.First == 0; i-- {
			if begins(i) {
				p.First = i + 1
			}
		}
		for p.Last = p.First; p.Last < len(lines) && !begins(p.Last); p.Last++ {
		}
		return p
	}
	if body := r.text.Body(); body != r.placed.text || r.placed.places == nil {
		r.placed.text, r.placed.places = body, lang.Parse(r.text.file, []byte(body)).Places()
	}
	var out lang.Place
	for _, p := range r.placed.places {
		if p.Kind == "rule" && p.First <= line {
			out = p
		}
	}
	return out
}
