package ledger

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	"github.com/dustin/go-humanize"
)

var eighths = []string{" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"}

// drawAnswer draws the groups along the axis, the chosen one large, and what is in it.
func (r *Room) drawAnswer(c *paint.Canvas, top, bottom int, p paint.Palette) {
	v := r.view
	if r.drawWeek(c, top, bottom, p) {
		return
	}
	tall := bottom-top > 22
	rows := len(v.Groups)
	rows = min(rows, max((bottom-top)/5, 2))
	if !tall {
		rows = min(len(v.Groups), max((bottom-top)/3, 1))
	}
	y := r.drawGroups(c, top, rows, p)
	if !tall && (r.pane == values || r.pane == entries) {
		r.drawInside(c, y, bottom, p)
		return
	}
	left := bottom - y
	if tall {
		left = max(min((bottom-y)/2, 12), 7)
	}
	if g := r.chosen(); g != nil && len(v.Bounds) < 2 && len(g.Gaps) > 0 && left > 3 {
		y = r.drawGaps(c, y, min(y+left, bottom), g, p)
	}
	if left > 3 && len(v.Bounds) > 1 {
		y = r.drawLarge(c, y, min(y+left, bottom), p)
	}
	if bottom-y > 2 {
		r.drawInside(c, y, bottom, p)
	}
}

// drawGroups draws the groups, and returns the row behind them.
func (r *Room) drawGroups(c *paint.Canvas, y, rows int, p paint.Palette) int {
	v := r.view
	a := r.stage.Axis()
	dim := base(p).With(p.Dim)
	col := v.Columns[r.column]
	c.Rule(0, y, 3, base(p).With(p.Rule), false)
	at := c.Cut(4, y, a.X-6, base(p).With(p.Strong).Strong(), col.Name)
	for i := 1; i < len(v.Columns); i++ {
		at = c.Cut(at+2, y, a.X-at-3, dim, v.Columns[(r.column+i)%len(v.Columns)].Name)
	}
	if len(v.Per) > 0 && a.X-at > 10 {
		c.Cut(at+2, y, a.X-at-3, dim, "each "+strings.Join(v.Per, ", "))
	}
	c.Labels(y, a, dim, 0, 0)
	right := a.X + a.Columns + 1
	widths := r.rightColumns(c.W - right - 2)
	x := right
	for _, w := range widths {
		c.Cut(x+w.width-len(w.name), y, w.width, dim, w.name)
		x += w.width + 1
	}
	y++
	if len(v.Groups) == 0 {
		c.Cut(3, y, c.W-4, dim, "nothing fits")
		return y + 1
	}
	r.chosen()
	r.top = min(max(r.top, r.group-rows+1), r.group)
	r.geo.groupsY, r.geo.groupsN = y, rows
	for i := r.top; i < min(r.top+rows, len(v.Groups)); i++ {
		g := &v.Groups[i]
		chosen := i == r.group
		if chosen {
			room.Choose(c, 0, y, p)
			if !p.Mono {
				c.Put(0, y, base(p).With(p.Strong), "▏")
			}
		}
		style := base(p)
		if chosen {
			style = style.With(p.Strong).Strong()
		}
		c.Cut(3, y, a.X-5, style, groupName(g))
		r.drawRow(c, y, a, g, chosen, p)
		x := right
		for _, w := range widths {
			s := w.of(&g.Values[r.column], g)
			style := dim
			if w.name == widths[0].name {
				style = base(p)
			}
			c.Cut(x+max(w.width-len([]rune(s)), 0), y, w.width, style, s)
			x += w.width + 1
		}
		y++
	}
	if n := len(v.Groups) - rows + v.More; n > 0 {
		c.Cut(3, y, c.W-4, dim, fmt.Sprintf("%d of %d groups; ↑ and ↓ show the others", rows, len(v.Groups)+v.More))
		y++
	}
	return y + 1
}

// rightColumn is a number at the right of a row.
type rightColumn struct {
	name  string
	width int
	of    func(*api.LedgerValue, *api.LedgerGroup) string
}

// rightColumns are the numbers at the right of the rows, as many as there is room for.
func (r *Room) rightColumns(width int) []rightColumn {
	v := r.view
	col := v.Columns[r.column]
	name := "whole"
	switch {
	case strings.HasPrefix(col.Name, "gaps "):
		name = "gaps"
	case col.Additive && col.Unit != "rate":
		name = "sum"
	}
	all := []rightColumn{{name, 8, func(x *api.LedgerValue, _ *api.LedgerGroup) string { return x.Value }}}
	if v.Beside != "" {
		all = append(
			all,
			rightColumn{"beside", 7, func(x *api.LedgerValue, _ *api.LedgerGroup) string { return x.Beside }},
		)
	}
	if col.Additive && len(v.Groups) > 1 {
		all = append(
			all,
			rightColumn{"part", 4, func(x *api.LedgerValue, _ *api.LedgerGroup) string { return x.Part }},
		)
	}
	if len(v.Bounds) > 2 {
		all = append(
			all,
			rightColumn{"peak", 6, func(x *api.LedgerValue, _ *api.LedgerGroup) string { return x.Peak }},
		)
	}
	for len(all) > 1 {
		sum := 0
		for _, w := range all {
			sum += w.width + 1
		}
		if sum <= width+1 {
			break
		}
		all = all[:len(all)-1]
	}
	all[0].width = min(max(all[0].width, 4), width)
	return all
}

// drawRow draws a group along the axis, or as a bar where there are no periods.
func (r *Room) drawRow(c *paint.Canvas, y int, a paint.Axis, g *api.LedgerGroup, chosen bool, p paint.Palette) {
	v := r.view
	style := base(p).With(p.Tide)
	if chosen {
		style = base(p)
	}
	if g.Rest {
		style = base(p).With(p.Rule)
	}
	if len(v.Bounds) < 2 && strings.HasPrefix(v.Columns[r.column].Name, "gaps ") {
		for k := range a.Columns {
			if r.within(a, k) {
				c.Put(a.X+k, y, base(p).With(p.Rule), "·")
			}
		}
		for _, s := range g.Gaps {
			for k := max(a.ColumnOf(s.From), 0); k <= min(a.ColumnOf(s.To-1), a.Columns-1); k++ {
				c.Put(a.X+k, y, style, "▄")
			}
		}
		r.unseen(c, y, a, p)
		return
	}
	if len(v.Bounds) < 2 {
		most := 0.0
		for i := range v.Groups {
			if f := v.Groups[i].Values[r.column].Number; f != nil {
				most = math.Max(most, math.Abs(*f))
			}
		}
		if f := g.Values[r.column].Number; f != nil && most > 0 {
			n := int(math.Round(math.Abs(*f) / most * float64(a.Columns)))
			c.Put(a.X, y, style, strings.Repeat("▄", max(n, 1)))
		}
		return
	}
	series := r.seriesOf(g.Series[r.column], a)
	lo, hi := r.bounds(series)
	dark := r.unseen(c, y, a, p)
	for k, f := range series {
		if f == nil || *f == 0 {
			if r.within(a, k) && !dark[k] {
				c.Put(a.X+k, y, base(p).With(p.Rule), "·")
			}
			continue
		}
		c.Put(a.X+k, y, style, eighths[max(int(math.Round((*f-lo)/(hi-lo)*8)), 1)])
	}
}

// within tells whether a column of the axis lies in the span.
func (r *Room) within(a paint.Axis, k int) bool {
	from := a.From.Add(time.Duration(k) * a.Column)
	return from < r.view.To && from.Add(a.Column) > r.view.From
}

// unseen hatches what could not be seen, or is not there any more, and returns which columns of the axis that
// touches. What there is all the same is drawn over it.
func (r *Room) unseen(c *paint.Canvas, y int, a paint.Axis, p paint.Palette) []bool {
	v := r.view
	out := make([]bool, a.Columns)
	dark := v.Dark
	if v.Kept != entry.None && v.Kept != 0 && v.Kept > v.From {
		dark = append(dark[:len(dark):len(dark)], api.Span{From: v.From, To: v.Kept})
	}
	for _, d := range dark {
		to := d.To
		if to == entry.None {
			to = v.To
		}
		for k := max(a.ColumnOf(max(d.From, v.From)), 0); k <= min(a.ColumnOf(min(to, v.To)-1), a.Columns-1); k++ {
			c.Put(a.X+k, y, base(p).With(p.Blind), "╱")
			out[k] = true
		}
	}
	return out
}

// bounds are the least and the greatest number; 0 with them where the height of a bar says how much it is,
// or where the least is not far above it.
func (r *Room) bounds(lists ...[]*float64) (lo, hi float64) {
	lo, hi = zeroBounds(lists...)
	if lo < 0 || r.view.Columns[r.column].Additive ||
		strings.HasPrefix(r.view.Columns[r.column].Name, "different") {
		return lo, hi
	}
	least := hi
	for _, l := range lists {
		for _, f := range l {
			if f != nil {
				least = math.Min(least, *f)
			}
		}
	}
	if least > hi/2 {
		lo = least - (hi-least)/4 - hi/100
	}
	return lo, hi
}

func zeroBounds(lists ...[]*float64) (lo, hi float64) {
	for _, l := range lists {
		for _, f := range l {
			if f != nil {
				lo, hi = math.Min(lo, *f), math.Max(hi, *f)
			}
		}
	}
	if hi == lo {
		hi = lo + 1
	}
	return lo, hi
}

// drawLarge draws the chosen group large, with what stands beside it and the thresholds of rules, and
// returns the row behind it.
func (r *Room) drawLarge(c *paint.Canvas, top, bottom int, p paint.Palette) int {
	v, g := r.view, r.chosen()
	if g == nil {
		return top
	}
	a := r.stage.Axis()
	dim := base(p).With(p.Dim)
	words := v.Columns[r.column].Name
	if v.Every != "" {
		words += " every " + v.Every
	}
	if v.Beside != "" {
		words += "; dashes: " + besideWords(v.Beside)
	}
	var limits []api.LedgerLimit
	for _, l := range v.Limits {
		if l.Column == r.column {
			limits = append(limits, l)
			words += "; the rule " + l.Rule + " " + l.Words
		}
	}
	room.DrawHead(c, top, groupName(g), words, p)
	rows := bottom - top - 2
	y0 := top + 1
	base0 := y0 + rows - 1
	r.geo.chartY, r.geo.chartRows = y0, rows
	series, besides := r.seriesOf(g.Series[r.column], a), r.seriesOf(g.Besides[r.column], a)
	lo, hi := r.bounds(series, besides)
	for _, l := range limits {
		if l.Limit <= 3*hi {
			hi = math.Max(hi, l.Limit*1.05)
		}
	}
	level := func(f float64) int { return int(math.Round((f - lo) / (hi - lo) * float64(8*rows))) }
	if from, to, ok := r.marked(); ok {
		for k := max(a.ColumnOf(from), 0); k < min(max(a.ColumnOf(to), a.ColumnOf(from)+1), a.Columns); k++ {
			for y := y0; y <= base0; y++ {
				c.Fill(a.X+k, y, 1, p.Chosen)
			}
			if p.Mono {
				c.Put(a.X+k, base0+1, base(p).Strong(), "▔")
			}
		}
	}
	for _, l := range limits {
		if y := base0 - (level(l.Limit)-1)/8; y >= y0 && y <= base0 {
			for k := range a.Columns {
				c.Put(a.X+k, y, base(p).With(p.Severity[min(int(l.Severity), 4)]), "╌")
			}
			c.Cut(
				a.X+a.Columns+1,
				y,
				c.W-a.X-a.Columns-2,
				base(p).With(p.Severity[min(int(l.Severity), 4)]),
				l.Words,
			)
		}
	}
	for y := y0; y <= base0; y++ {
		r.unseen(c, y, a, p)
	}
	zero := max(level(0), 0)
	for k, f := range series {
		if f == nil {
			continue
		}
		n := level(*f)
		if *f > 0 {
			n = max(n, zero+1)
		}
		for row := range rows {
			fill := min(max(n-8*row, 0), 8)
			if 8*row+8 <= zero {
				continue
			}
			if fill > 0 {
				c.Put(a.X+k, base0-row, base(p), eighths[fill])
			}
		}
	}
	for k, f := range besides {
		if f == nil {
			continue
		}
		y := base0 - max(level(*f)-1, 0)/8
		style := base(p).With(p.Blind)
		if series[k] != nil && level(*series[k]) >= level(*f) { // inside the bar it is cut out of it
			style = paint.Style{Fg: p.Ground, Bg: p.Text}
			if p.Mono {
				style = base(p)
			}
		}
		c.Put(a.X+k, y, style, "┅")
	}
	for i, f := range []float64{hi, lo} {
		s := number(f, v.Columns[r.column].Unit)
		y := y0
		if i == 1 {
			y = base0
		}
		c.Cut(max(a.X-len([]rune(s))-2, 1), y, a.X-2, dim, s)
	}
	if rows > 4 {
		s := number((hi+lo)/2, v.Columns[r.column].Unit)
		c.Cut(max(a.X-len([]rune(s))-2, 1), y0+rows/2, a.X-2, dim, s)
	}
	if from, to, ok := r.marked(); ok {
		x := a.X + a.Columns + 1
		w := c.W - x - 1
		c.Cut(x, y0, w, dim, "marked "+time.Unix(0, int64(from)).Format("15:04"))
		c.Cut(x, y0+1, w, dim, "    to "+time.Unix(0, int64(to)).Format("15:04"))
		if r.inside != nil {
			c.Cut(x, y0+2, w, base(p), "in it "+humanize.Comma(r.inside.Count))
		}
	}
	return bottom
}

func besideWords(s string) string {
	if s == "before" {
		return "the span before"
	}
	return s
}

// number writes a number of an axis, short.
func number(f float64, unit string) string {
	switch unit {
	case "share":
		return strconv.FormatFloat(100*f, 'g', 3, 64) + " %"
	case "duration":
		if f < 60 {
			return strconv.FormatFloat(f, 'g', 3, 64) + "s"
		}
		return entry.RoughSpan(time.Duration(f * 1e9).Round(time.Second))
	}
	if math.Abs(f) >= 1000 {
		return humanize.Comma(int64(math.Round(f)))
	}
	return strconv.FormatFloat(f, 'g', 3, 64)
}

// drawInside draws the values of a field, and entries, of the chosen group and what is marked.
func (r *Room) drawInside(c *paint.Canvas, top, bottom int, p paint.Palette) {
	x := r.inside
	dim := base(p).With(p.Dim)
	if x == nil {
		return
	}
	middle := c.W * 48 / 100
	narrow := r.stage.Narrow()
	if narrow {
		middle = c.W
	}
	if !narrow || r.pane != entries {
		c.Rule(1, top, 2, base(p).With(p.Rule), false)
		at := c.Put(4, top, base(p).With(p.Strong).Strong(), "values")
		at = c.Cut(at+2, top, middle-at-4, base(p).Strong(), x.Field)
		for _, f := range x.Fields {
			if f != x.Field && at+len(f)+4 < middle {
				at = c.Cut(at+2, top, middle-at-4, dim, f)
			}
		}
		c.Rule(at+2, top, middle-at-5, base(p).With(p.Rule), false)
		r.drawValues(c, top+1, bottom, middle, p)
	}
	if narrow && r.pane != entries {
		return
	}
	from := middle + 2
	if narrow {
		from = 1
	}
	of := "newest first"
	if _, _, ok := r.marked(); ok {
		of = "of what is marked, newest first"
	}
	c.Rule(from-1, top, 2, base(p).With(p.Rule), false)
	at := c.Put(from+2, top, base(p).With(p.Strong).Strong(), "entries")
	at = c.Cut(at+2, top, c.W-at-4, dim, of+": "+humanize.Comma(x.Count))
	c.Rule(at+2, top, c.W-at-4, base(p).With(p.Rule), false)
	r.drawLines(c, from, top+1, bottom, x.Lines, r.pane == entries, p)
}

// drawLines draws entries, or the chosen one in full.
func (r *Room) drawLines(c *paint.Canvas, x, y, bottom int, lines []api.FoundEntry, on bool, p paint.Palette) {
	if r.full && on && r.line < len(lines) {
		e := lines[r.line]
		put := func(label, text string) {
			for i, part := range room.Wrap(text, c.W-x-15) {
				if y >= bottom {
					return
				}
				if i == 0 {
					c.Cut(x, y, 12, base(p).With(p.Dim), label)
				}
				c.Cut(x+13, y, c.W-x-14, base(p), part)
				y++
			}
		}
		put("of", e.Origin)
		put("at", time.Unix(0, int64(e.At)).Format("2006-01-02 15:04:05.000"))
		for _, f := range e.Fields {
			if f.Name != "text" && f.Name != "at" {
				put(f.Name, f.Value)
			}
		}
		put("text", e.Raw)
		return
	}
	list := room.EntryList{Chosen: -1, Now: time.Now()}
	for i := range lines {
		list.Lines = append(list.Lines, lines[i].EntryView)
	}
	if on {
		list.Chosen = r.line
		list.First = max(0, r.line-(bottom-y-2))
	}
	r.geo.linesY, r.geo.linesN = y+1, min(len(lines), bottom-y-1)
	list.Draw(c, x, y, c.W-x-1, bottom, p)
}

// drawValues draws the values of a field with their shares.
func (r *Room) drawValues(c *paint.Canvas, y, bottom, width int, p paint.Palette) {
	x := r.inside
	dim := base(p).With(p.Dim)
	if len(x.Numbers) > 0 {
		bottom--
		at := 3
		for _, n := range x.Numbers {
			name, value, _ := strings.Cut(n, " ")
			at = c.Cut(at, bottom, width-at-2, dim, name)
			at = c.Cut(at+1, bottom, width-at-3, base(p), value) + 2
		}
	}
	r.geo.valuesY, r.geo.valuesW = y, width
	wide := 10
	for _, v := range x.Values {
		wide = min(max(wide, len([]rune(v.Value))), width/3)
	}
	room1 := width - wide - 28
	rows := bottom - y
	if x.Others > 0 {
		rows--
	}
	most := 0.0
	for _, v := range x.Values {
		most = math.Max(most, v.Share)
	}
	first := max(0, r.value-rows+1)
	for i := first; i < len(x.Values) && i-first < rows; i++ {
		v := x.Values[i]
		if i == r.value && r.pane == values {
			c.Fill(1, y, width-2, p.Chosen)
			c.Put(1, y, base(p).With(p.Strong), "›")
		}
		c.Cut(3, y, wide, base(p), v.Value)
		if most > 0 {
			n := int(math.Round(v.Share / most * float64(8*room1)))
			c.Put(
				wide+5,
				y,
				base(p).With(p.Tide),
				strings.Repeat("█", n/8)+[]string{"", "▏", "▎", "▍", "▌", "▋", "▊", "▉"}[n%8],
			)
		}
		share := fmt.Sprintf("%.0f %%", 100*v.Share)
		c.Put(width-16-len(share), y, dim, share)
		n := humanize.Comma(v.Count)
		c.Put(width-4-len(n), y, dim, n)
		r.geo.valuesN++
		y++
	}
	if x.Others > 0 && y < bottom {
		c.Cut(3, y, width-20, dim, fmt.Sprintf("%s others", humanize.Comma(int64(x.Others))))
		n := humanize.Comma(x.OthersCount)
		c.Put(width-4-len(n), y, dim, n)
	}
}

// drawEntries draws the entries of a question that is about them.
func (r *Room) drawEntries(c *paint.Canvas, top, bottom int, p paint.Palette) {
	v := r.view
	room.DrawHead(c, top, "entries", fmt.Sprintf("newest first: %s of %s", humanize.Comma(int64(len(v.Lines))),
		humanize.Comma(v.Fit)), p)
	r.drawLines(c, 1, top+1, bottom, v.Lines, true, p)
}

// drawGaps draws the gaps of a group, the newest first, and returns the row behind them.
func (r *Room) drawGaps(c *paint.Canvas, y, bottom int, g *api.LedgerGroup, p paint.Palette) int {
	a := r.stage.Axis()
	room.DrawHead(c, y, groupName(g), "gaps, the newest first; [ and ] go from one to the next", p)
	y++
	stamp := func(t entry.Instant) string { return time.Unix(0, int64(t)).Format("Jan _2 15:04") }
	for i, x := range g.Gaps {
		if y >= bottom-1 {
			c.Cut(3, y, a.X-4, base(p).With(p.Dim), fmt.Sprintf("and %d more", len(g.Gaps)-i))
			y++
			break
		}
		if a.X > 36 {
			c.Cut(3, y, a.X-4, base(p).With(p.Dim), stamp(x.From)+" to "+stamp(x.To))
		} else {
			c.Cut(3, y, a.X-4, base(p).With(p.Dim), stamp(x.From))
		}
		for k := max(a.ColumnOf(x.From), 0); k <= min(a.ColumnOf(x.To-1), a.Columns-1); k++ {
			c.Put(a.X+k, y, base(p), "▄")
		}
		c.Cut(a.X+a.Columns+1, y, c.W-a.X-a.Columns-2, base(p), entry.RoughSpan(x.To.Sub(x.From)))
		y++
	}
	return y + 1
}
