package watch

import (
	"slices"
	"strconv"
	"strings"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
	"github.com/dustin/go-humanize"
)

// row is a row of the list: a row of the view, or several folded into one.
type row struct {
	api.Row
	band   Band
	folded int // how many keys it stands for; 0 is one that is not folded
	child  bool
	id     string
}

// line is a line of the list: a row, a heading, or nothing.
type line struct {
	row     int // in rows; -1 is none
	heading Band
	title   bool
}

// foldAt is how many keys of one rule a band shows without folding them.
const foldAt = 4

// take takes a new view in.
func (r *Room) take(v *api.View) {
	if v == nil {
		return
	}
	r.rows = r.rows[:0]
	for band, list := range [][]api.Row{v.Open, v.Stirring, v.Blind, v.Over} {
		r.takeBand(Band(band), list)
	}
	if (r.index() < 0 || !r.byHand && !r.drawer) && len(r.rows) > 0 {
		r.chosen = r.rows[0].id
	}
}

func (r *Room) takeBand(band Band, list []api.Row) {
	count := map[string]int{}
	var kept []api.Row
	for _, x := range list {
		if matches(x, r.filter) {
			kept = append(kept, x)
			count[x.Rule]++
		}
	}
	done := map[string]bool{}
	for _, x := range kept {
		id := x.Rule + "\x00" + strings.Join(x.Key, "\x00") + "\x00" + x.Origin
		fold := bandNames[band] + "\x00" + x.Rule
		if count[x.Rule] < foldAt || band == Blind {
			r.rows = append(r.rows, row{Row: x, band: band, id: id})
			continue
		}
		if done[x.Rule] {
			continue
		}
		done[x.Rule] = true
		head := row{Row: x, band: band, folded: count[x.Rule], id: fold}
		head.Life = api.Life{Hits: slices.Clone(x.Life.Hits)}
		var children []row
		head.Count = 0
		for _, y := range kept {
			if y.Rule != x.Rule {
				continue
			}
			head.Count += y.Count
			head.Severity = max(head.Severity, y.Severity)
			for k, n := range y.Life.Hits {
				head.Life.Hits[k] += n
			}
			head.Life.Alerts = append(head.Life.Alerts, y.Life.Alerts...)
			head.Numbers = false
			children = append(children, row{Row: y, band: band, child: true, id: y.Rule + "\x00" +
				strings.Join(y.Key, "\x00") + "\x00"})
		}
		r.rows = append(r.rows, head)
		if r.unfolded[fold] {
			r.rows = append(r.rows, children...)
		}
	}
}

// matches tells whether a row has all words of the filter in its rule, its key,
// its severity or its note.
func matches(x api.Row, filter string) bool {
	all := strings.ToLower(strings.Join(append([]string{x.Rule, x.Note, x.Severity.String(), x.Words}, x.Key...),
		" "))
	for _, w := range strings.Fields(strings.ToLower(filter)) {
		if !strings.Contains(all, w) {
			return false
		}
	}
	return true
}

func (r *Room) index() int {
	return slices.IndexFunc(r.rows, func(x row) bool { return x.id == r.chosen })
}

// Chosen is the chosen row; nil where there is none.
func (r *Room) Chosen() *api.Row {
	if i := r.index(); i >= 0 {
		return &r.rows[i].Row
	}
	return nil
}

// folded tells whether the chosen row stands for several keys.
func (r *Room) folded() bool {
	i := r.index()
	return i >= 0 && r.rows[i].folded > 0
}

// Move chooses the row that many rows below.
func (r *Room) Move(by int) tea.Cmd {
	if len(r.rows) == 0 {
		return nil
	}
	i := min(max(r.index()+by, 0), len(r.rows)-1)
	if r.rows[i].id != r.chosen {
		r.chosen, r.scroll = r.rows[i].id, 0
	}
	r.byHand = true
	return r.ask()
}

// click chooses the row that was drawn there; it answers false where none was.
func (r *Room) click(y int) bool {
	i := y - r.drawnAt
	if i < 0 || i >= len(r.lines) || r.lines[i].row < 0 || r.lines[i].row >= len(r.rows) {
		return false
	}
	r.byHand = true
	if id := r.rows[r.lines[i].row].id; id != r.chosen {
		r.chosen, r.scroll = id, 0
	}
	return true
}

// curveRows is how high the curve of a number is.
const curveRows = 4

// drawCurves draws the numbers of the chosen row that is opened, as many as fit, and says how
// many rows they took.
func (r *Room) drawCurves(c *paint.Canvas, top, bottom int, a paint.Axis, p paint.Palette, base paint.Style) int {
	x := r.Chosen()
	if !r.opened || x == nil || !x.Numbers || r.folded() {
		return 0
	}
	if k := r.curves; k == nil || k.Rule != x.Rule || !slices.Equal(k.Key, x.Key) {
		c.Put(3, top, base.With(p.Dim), "its logs are read once more for its numbers")
		return 1
	}
	y := top
	for _, v := range r.curves.List {
		if y+curveRows > bottom {
			break
		}
		c.Curve(y, curveRows, a, v, p, base)
		y += curveRows + 1
	}
	return max(y-top-1, 0)
}

// summary is the one heading of a small screen.
func (r *Room) summary(c *paint.Canvas, y int, v *api.View, p paint.Palette, base paint.Style) {
	x := 1
	for b, n := range []int{len(v.Open), len(v.Stirring), len(v.Blind), len(v.Over)} {
		x = c.Put(x, y, base.Strong(), strconv.Itoa(n)+" "+bandNames[b]) + 2
	}
}

// layLines lays the list out: headings, rows and blank lines, or rows alone.
func (r *Room) layLines(headings bool) []line {
	var out []line
	band := Band(-1)
	for i, x := range r.rows {
		if headings && x.band != band {
			if len(out) > 0 {
				out = append(out, line{row: -1})
			}
			out = append(out, line{row: -1, heading: x.band, title: true})
		}
		band = x.band
		out = append(out, line{row: i})
	}
	return out
}

// list draws as much of the list as fits, with the chosen row in it.
func (r *Room) list(c *paint.Canvas, top, bottom int, headings bool, col room.Columns, v *api.View, a paint.Axis,
	p paint.Palette, base paint.Style) {
	lines := r.layLines(headings)
	height := bottom - top
	at := slices.IndexFunc(lines, func(l line) bool { return l.row >= 0 && l.row == r.index() })
	if len(lines) <= height {
		r.top = 0
	} else if at >= 0 {
		r.top = min(max(r.top, at-height+2), max(at-1, 0), len(lines)-height)
	}
	r.top = max(r.top, 0)
	lines = lines[min(r.top, len(lines)):]
	if len(lines) > height {
		lines = lines[:height]
	}
	r.lines, r.drawnAt = lines, top
	if len(r.rows) == 0 {
		r.quiet(c, top, v, p, base)
		return
	}
	labelled := false
	for i, l := range lines {
		y := top + i
		switch {
		case l.title:
			n := r.count(l.heading)
			x := c.Put(1, y, base.With(p.Strong).Strong(), strconv.Itoa(n)+" "+bandNames[l.heading])
			c.Cut(x+2, y, col.Life-x-3, base.With(p.Dim), bandWords[l.heading])
			if !labelled {
				c.Labels(y, a, base.With(p.Dim), 0, 0)
				labelled = true
			} else {
				c.Cut(x+2, y, c.W-x-3, base.With(p.Dim), bandWords[l.heading])
			}
		case l.row >= 0:
			r.drawRow(c, y, &r.rows[l.row], col, a, p, base)
		}
	}
	if hidden := len(r.layLines(headings)) - r.top - len(lines); hidden > 0 {
		more := " " + humanize.Comma(int64(hidden)) + " more ↓"
		from := c.W - 1 - len([]rune(more))
		if col.Second > 0 && col.Second < from { // instead of half of what the last row says there
			more = strings.Repeat(" ", from-col.Second) + more
			from = col.Second
		}
		c.Put(from, bottom-1, base.With(p.Dim), more)
	}
}

// count is how many rows of a band the filter lets through, folded ones by their keys.
func (r *Room) count(b Band) int {
	n := 0
	for _, x := range r.rows {
		if x.band == b && !x.child {
			n += max(x.folded, 1)
		}
	}
	return n
}

// quiet says that there is nothing to show, and what is watched.
func (r *Room) quiet(c *paint.Canvas, y int, v *api.View, p paint.Palette, base paint.Style) {
	if r.filter != "" {
		c.Put(1, y, base, "nothing here has "+r.filter)
		return
	}
	head, words := "all is quiet", "no alert is open, nothing stirs, and every log is seen"
	switch {
	case len(v.Trouble) > 0:
		head, words = "nothing is open, as far as can be seen", ""
	case v.Reading && v.Rules > 0:
		head = "nothing is open so far"
	}
	c.Put(1, y, base.Strong(), head)
	switch {
	case v.Sources == 0 && v.Shared:
		words = "no alert is open; this machine itself reads no log, 5 shows its hosts"
	case v.Rules == 0:
		words = "no rule is written yet: write one in " + v.Settings
	case len(v.Waiting) > 0:
		words = strings.Join(v.Waiting, "; ")
	case v.Reading:
		words = "still reading what is there"
	}
	c.Put(1, y+1, base.With(p.Dim), words)
}

func (r *Room) drawRow(c *paint.Canvas, y int, x *row, col room.Columns, a paint.Axis, p paint.Palette,
	base paint.Style) {
	chosen := x.id == r.chosen
	if chosen {
		c.Fill(0, y, c.W, p.Chosen)
	}
	switch x.band {
	case Open:
		c.Put(col.Wick, y, base.With(p.Severity[min(int(x.Severity), 4)]), paint.Wick(x.Severity))
		if chosen && p.Mono {
			c.Put(col.Wick+1, y, base.Strong(), "›")
		}
	case Over:
		c.Put(col.Wick, y, base.With(p.Severity[min(int(x.Severity), 4)]), "│")
	}
	if chosen && p.Mono && x.band != Open {
		c.Put(col.Wick+1, y, base.Strong(), "›")
	}
	name := base
	if x.band == Open || chosen {
		name = base.With(p.Text).Strong()
		if chosen {
			name = name.With(p.Strong)
		}
	}
	if x.child {
		c.Cut(col.Rule, y, col.RuleWidth, base.With(p.Dim), "  "+x.Rule)
	} else {
		c.Cut(col.Rule, y, col.RuleWidth, name, x.Rule)
	}
	key := shortKey(x.Key)
	if x.folded > 0 {
		key = strconv.Itoa(x.folded) + " keys"
	}
	c.Cut(col.Key, y, col.KeyWidth, base.With(p.Dim), key)
	c.Lifeline(y, a, x.Life, p, base)
	note := x.Note
	if col.Second > 0 && x.band != Stirring && x.band != Blind {
		c.Cut(col.Note, y, 12, base, hitsOf(x.Count))
		switch {
		case x.Untold != "":
			note = x.Untold
		case x.Taken != "":
			note = x.Taken + " has it"
		}
		if x.folded == 0 {
			c.Cut(col.Second, y, c.W-col.Second, base.With(p.Dim), note)
		}
		return
	}
	if x.folded > 0 {
		note = hitsOf(x.Count)
	} else if x.band == Stirring && col.Second == 0 {
		note, _, _ = strings.Cut(note, " in ")
	}
	if x.Taken != "" && x.band == Open {
		note = x.Taken + " has it"
	}
	style := base.With(p.Dim)
	if x.band == Blind {
		style = base.With(p.Blind)
	}
	c.Cut(col.Note, y, c.W-col.Note, style, note)
}

// hitsOf says how many hits an alert has; one that was raised because nothing came has
// none.
func hitsOf(n int) string {
	if n == 0 {
		return "no sign"
	}
	return room.Count(n, "hit")
}

// shortKey writes a key for a narrow column: of an origin, the name of its file.
func shortKey(key []string) string {
	out := make([]string, len(key))
	for i, k := range key {
		if strings.Contains(k, ":/") {
			k = k[strings.LastIndexByte(k, '/')+1:]
		}
		out[i] = k
	}
	return strings.Join(out, " ")
}

// Headline is what a row is called, for prompts.
func Headline(x *api.Row) string {
	return strings.TrimSpace(x.Rule + " " + strings.Join(x.Key, " "))
}

// Worst is the severity of the worst open alert.
func Worst(v *api.View) entry.Severity {
	s := entry.Severity(0)
	for _, x := range v.Open {
		s = max(s, x.Severity)
	}
	return s
}
