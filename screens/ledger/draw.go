package ledger

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"
	"dimlantern/screens/typing"

	tea "charm.land/bubbletea/v2"
	"github.com/dustin/go-humanize"
)

func base(p paint.Palette) paint.Style { return paint.Style{Fg: p.Text} }

// Draw is part of room.Room.
func (r *Room) Draw(c *paint.Canvas, top, bottom int) {
	p := r.stage.Palette
	r.geo = geometry{}
	if r.view == nil {
		c.Put(1, top, base(p).With(p.Dim), "asking what can be asked")
		return
	}
	if r.empty() && r.pane != askText {
		r.drawList(c, top, bottom, p)
		return
	}
	y := r.drawHead(c, top, bottom, p)
	switch {
	case r.empty():
		r.drawHints(c, y+1, bottom, p)
	case r.view.Entries:
		r.drawEntries(c, y, bottom, p)
	case len(r.view.Columns) > 0:
		r.drawAnswer(c, y, bottom, p)
	}
}

// drawHead draws the question at the left, and at its right what it means and what the answer rests on;
// it returns the row behind them.
func (r *Room) drawHead(c *paint.Canvas, top, bottom int, p paint.Palette) int {
	dim := base(p).With(p.Dim)
	lines := strings.Split(r.text.body(), "\n")
	middle, rows := c.W/2, min(max(len(lines)+1, 8), (bottom-top)/4+1)
	narrow := r.stage.Narrow()
	if narrow {
		middle, rows = c.W-1, min(max(len(lines)+1, 3), 6)
	}
	name := r.name
	state := "kept"
	if name == "" {
		name, state = "a question", ""
		if r.pane == askText {
			state = "typing"
		}
	}
	at := c.Put(1, top, base(p).With(p.Strong).Strong(), name)
	c.Cut(at+2, top, middle-at-3, dim, state)
	first := max(min(r.text.area.Line, len(lines)-1)-(rows-3), 0)
	r.geo.textX, r.geo.textY, r.geo.textW, r.geo.textTop, r.geo.textRows = 3, top+1, middle-4, first, rows-1
	y := top + 1
	said := ""
	for _, f := range r.view.Problems {
		if f.Error || said == "" {
			said = f.What
			if f.Mend != "" {
				said += "; " + f.Mend
			}
			if f.Error {
				break
			}
		}
	}
	for i := first; i < len(lines) && y < top+rows; i++ {
		x, width := 3, middle-5
		shift, cursor := 0, -1
		if i == r.text.area.Line && r.pane == askText {
			cursor = typing.CellsBefore(lines[i], r.text.area.Col)
			shift = max(cursor-width+2, 0)
		}
		typing.DrawCode(c, x, y, width, lines[i], shift, true, p, base(p))
		if cursor >= 0 {
			under := " "
			if runes := []rune(lines[i]); r.text.area.Col < len(runes) {
				under = string(runes[r.text.area.Col])
			}
			style := paint.Style{Fg: p.Ground, Bg: p.Text}
			if p.Mono {
				under, style = "▏", base(p).Strong()
			}
			c.Put(x+cursor-shift, y, style, under)
			if words := r.view.Complete; len(words) > 0 && r.view.Typed > 0 && y+1 < top+rows+1 {
				from := x + max(cursor-shift-r.view.Typed, 0)
				end := c.Cut(from, y+1, middle-from-1, base(p).With(p.Strong), words[0])
				c.Cut(end+2, y+1, middle-end-3, dim, strings.Join(words[1:], "  "))
				y++
			}
		}
		y++
	}
	if said != "" {
		for _, part := range room.Wrap(said, middle-6) {
			if y < top+rows+1 {
				c.Cut(3, y, middle-4, base(p).With(p.Severity[entry.Error]), part)
				y++
			}
		}
	}
	if narrow {
		return max(y, top+2)
	}
	end := max(y, top+rows)
	for k := top; k < end; k++ {
		c.Put(middle, k, base(p).With(p.Rule), "│")
	}
	r.drawWords(c, middle+2, top, end, p)
	return end
}

// drawWords draws what the question means, and what its answer rests on.
func (r *Room) drawWords(c *paint.Canvas, x, y, bottom int, p paint.Palette) {
	style := base(p)
	if r.stale {
		style = style.With(p.Dim)
	}
	width := c.W - x - 1
	rests := r.view.Rests
	room1 := bottom - y - min(len(rests), 4)
	for _, w := range r.view.Words {
		for _, part := range room.Wrap(w, width) {
			if room1 > 0 {
				c.Cut(x, y, width, style, part)
				y, room1 = y+1, room1-1
			}
		}
	}
	if y+len(rests) < bottom {
		y++
	}
	for i, w := range rests {
		for _, part := range room.Wrap(w, width) {
			if y >= bottom {
				return
			}
			s := style.With(p.Dim)
			switch {
			case strings.HasPrefix(w, "blind"):
				s = style.With(p.Blind)
			case i > 0 && (strings.Contains(w, "left nothing") || strings.Contains(w, "cannot be read")):
				s = style.With(p.Severity[entry.Warning])
			}
			c.Cut(x, y, width, s, part)
			y++
		}
	}
	if !r.view.Done && r.view.Of > 0 && y < bottom {
		c.Cut(x, y, width, style.With(p.Dim), fmt.Sprintf("read %s of %s", humanize.Bytes(uint64(r.view.Read)),
			humanize.Bytes(uint64(r.view.Of))))
	}
}

// drawHints draws how a question goes, where one is begun.
func (r *Room) drawHints(c *paint.Canvas, y, bottom int, p paint.Palette) {
	for _, l := range [][2]string{
		{`on gates`, "which source; all of them, or alerts"},
		{`where "open refused" and level >= error`, "which entries, as in rules; its captures are fields"},
		{`show count, p95(took), different(account)`, "which numbers; without it the entries themselves"},
		{`per gate`, "groups; per each field is an overview of all values"},
		{`every 10m`, "along time; without it as fine as the axis"},
		{`over 24h`, "which span; without it what the axis shows"},
		{`beside 7d ago`, "the same so much earlier"},
		{`most 10`, "the greatest groups, and all others as one"},
	} {
		if y >= bottom {
			return
		}
		typing.DrawCode(c, 3, y, c.W/2-4, l[0], 0, true, p, base(p))
		c.Cut(c.W/2, y, c.W/2-1, base(p).With(p.Dim), l[1])
		y++
	}
}

// drawList draws what can be asked.
func (r *Room) drawList(c *paint.Canvas, top, bottom int, p paint.Palette) {
	dim := base(p).With(p.Dim)
	y := top
	c.Put(1, y, base(p).With(p.Strong).Strong(), "what can be asked")
	c.Cut(20, y, c.W-21, dim, "enter asks, a types a question of your own")
	y++
	a := r.stage.Axis()
	heads := map[string]string{"kept": "kept questions", "alerts": "about alerts", "source": "each source"}
	last := ""
	chosenRow := 0
	type drawn struct {
		head string
		ask  int
	}
	var rows []drawn
	for i, x := range r.view.Asks {
		if x.Kind != last {
			rows = append(rows, drawn{heads[x.Kind], -1})
			last = x.Kind
		}
		if i == r.ask {
			chosenRow = len(rows)
		}
		rows = append(rows, drawn{"", i})
	}
	if bottom-y > 24 && r.view.Asks[min(r.ask, len(r.view.Asks)-1)].Kind == "source" {
		high := min(max((bottom-y)/3, bottom-y-len(rows)-1), 16)
		r.drawAbout(c, bottom-high, bottom, p)
		bottom -= high + 1
	}
	from := max(chosenRow-(bottom-y-2), 0)
	r.geo.asksY, r.geo.asksTop = y, from
	for _, d := range rows[min(from, len(rows)):] {
		if y >= bottom {
			break
		}
		r.geo.asks = append(r.geo.asks, d.ask)
		if d.ask < 0 {
			room.DrawHead(c, y, d.head, "", p)
			y++
			continue
		}
		x := r.view.Asks[d.ask]
		if d.ask == r.ask {
			room.Choose(c, 0, y, p)
			c.Put(0, y, base(p).With(p.Strong), "▏")
		}
		c.Cut(3, y, a.X-5, base(p), x.Name)
		switch {
		case x.Kind == "source":
			c.Tide(y, 1, a, x.Flow, p, base(p))
			sum := int64(0)
			for _, n := range x.Flow {
				sum += n
			}
			c.Cut(a.X+a.Columns+1, y, c.W-a.X-a.Columns-2, dim, humanize.Comma(sum))
		default:
			from := a.X + a.Columns - sparkWide - 4
			wide := from - a.X + 10
			if len(x.Spark) == 0 {
				wide = c.W - a.X + 10
			}
			c.Cut(a.X-12, y, wide, dim, x.Words)
			drawSpark(c, from, y, x.Spark, p)
		}
		y++
	}
}

// sparkWide is how wide the small picture of a question is.
const sparkWide = 28

// drawSpark draws the small picture of a question.
func drawSpark(c *paint.Canvas, x, y int, series []float64, p paint.Palette) {
	most := 0.0
	for _, f := range series {
		most = max(most, f)
	}
	for k, f := range series {
		if f > 0 && k < sparkWide {
			c.Put(x+k, y, base(p).With(p.Tide), eighths[max(int(f/most*8), 1)])
		}
	}
}

// aboutFields are the fields by which a source is told, where its entries have them.
var aboutFields = []string{"level", "event", "program", "host"}

// drawAbout draws what the chosen source says, along the axis.
func (r *Room) drawAbout(c *paint.Canvas, y, bottom int, p paint.Palette) {
	name := r.view.Asks[r.ask].Name
	words := "over what the axis shows"
	v := r.about.view
	if v == nil || r.about.source != name {
		words = "asking what it says"
		v = &api.LedgerView{}
	}
	room.DrawHead(c, y, name, words, p)
	y++
	a := r.stage.Axis()
	fields := append([]string{}, aboutFields...)
	total := 0.0
	for _, g := range v.Groups {
		if len(g.Key) == 2 && g.Key[0] == "source" && g.Values[0].Number != nil {
			total += *g.Values[0].Number
		}
	}
	for _, g := range v.Groups { // what else there is of few values
		if n := g.Values[0].Number; n == nil || *n < total/12 {
			continue
		}
		if len(g.Key) == 2 && !slices.Contains(fields, g.Key[0]) && g.Key[0] != "source" && g.Key[0] != "origin" {
			fields = append(fields, g.Key[0])
		}
	}
	was := r.view
	defer func() { r.view = was }()
	r.view = v
	for _, f := range fields {
		n := 0
		for i := range v.Groups {
			g := &v.Groups[i]
			if len(g.Key) != 2 || g.Key[0] != f || n == 3 || y >= bottom {
				continue
			}
			if n++; n == 1 {
				c.Cut(3, y, 12, base(p).With(p.Dim), f)
			}
			c.Cut(16, y, a.X-18, base(p), g.Key[1])
			r.drawRow(c, y, a, g, false, p)
			c.Cut(a.X+a.Columns+1, y, c.W-a.X-a.Columns-2, base(p).With(p.Dim), g.Values[0].Value)
			y++
		}
	}
}

// click chooses what was clicked at.
func (r *Room) click(x, y int) tea.Cmd {
	g := &r.geo
	switch {
	case len(g.asks) > 0:
		if i := y - g.asksY; i >= 0 && i < len(g.asks) && g.asks[i] >= 0 {
			if r.ask == g.asks[i] {
				return r.openAsk()
			}
			r.ask = g.asks[i]
			return r.askAbout()
		}
	case y >= g.textY && y < g.textY+g.textRows && x >= g.textX && x < g.textX+g.textW:
		r.pane = askText
		line := y - g.textY + g.textTop
		if lines := strings.Split(r.text.body(), "\n"); line < len(lines) {
			r.text.area.MoveTo(line, typing.CharAt(lines[line], x-g.textX))
		}
	case g.groupsN > 0 && y >= g.groupsY && y < g.groupsY+g.groupsN:
		r.pane, r.group = groups, r.top+y-g.groupsY
		if t, ok := r.timeAt(x); ok {
			r.mark, r.drags = mark{t, t, true}, true
		}
		return r.askInside()
	case g.chartRows > 0 && y >= g.chartY && y < g.chartY+g.chartRows:
		r.pane = groups
		if t, ok := r.timeAt(x); ok {
			r.mark, r.drags = mark{t, t, true}, true
		}
	case g.valuesN > 0 && y >= g.valuesY && y < g.valuesY+g.valuesN && x < g.valuesW:
		r.pane, r.value = values, y-g.valuesY
	case g.linesN > 0 && y >= g.linesY && y < g.linesY+g.linesN:
		r.pane, r.line = entries, y-g.linesY
	}
	return nil
}

// timeAt is the instant at which the column of the axis begins that stands there.
func (r *Room) timeAt(x int) (entry.Instant, bool) {
	a := r.stage.Axis()
	k := x - a.X
	if k < 0 || k >= a.Columns {
		return 0, false
	}
	return a.From.Add(time.Duration(k) * a.Column), true
}

// drag marks up to where the mouse is.
func (r *Room) drag(x, _ int) tea.Cmd {
	if !r.drags {
		return nil
	}
	a := r.stage.Axis()
	k := min(max(x-a.X, 0), a.Columns-1)
	if r.mark.to = a.From.Add(time.Duration(k+1) * a.Column); r.mark.to == r.mark.from.Add(a.Column) &&
		k == a.ColumnOf(r.mark.from) {
		r.mark.to = r.mark.from
	}
	if r.mark.to == r.mark.from {
		r.mark.to = r.mark.from.Add(a.Column)
	}
	return nil
}

// groupName is how a group is called.
func groupName(g *api.LedgerGroup) string {
	switch {
	case g.Rest:
		return fmt.Sprintf("all others, %s", humanize.Comma(int64(g.Of)))
	case len(g.Key) == 0:
		return "all"
	}
	return strings.Join(g.Key, "  ")
}
