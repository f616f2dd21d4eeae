package bench

import (
	"fmt"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"dimlantern/api"

	"github.com/charmbracelet/x/ansi"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/screens/paint"
	"dimlantern/screens/watch"
)

// Draw draws the room into rows top to bottom of the canvas (bottom excluded).
func (r *Room) Draw(c *paint.Canvas, top, bottom int, a paint.Axis, p paint.Palette) {
	base := paint.Style{Fg: p.Text}
	r.geo = geometry{}
	if r.Pane == List {
		r.list(c, top, bottom, p, base)
		return
	}
	if c.W < 110 || bottom-top < 24 {
		r.small(c, top, bottom, a, p, base)
		return
	}
	height := bottom - top
	textEnd := top + height*4/10
	kindsEnd := textEnd + height*3/10
	middle := c.W / 2
	for y := top; y < textEnd; y++ {
		c.Put(middle, y, base.With(p.Rule), "│")
	}
	r.text(c, 1, top, middle-2, textEnd, p, base)
	r.words(c, middle+2, top, c.W-middle-3, textEnd, p, base)
	r.drawKinds(c, textEnd, kindsEnd, p, base)
	r.lifelines(c, kindsEnd, bottom, a, p, base)
}

// small draws what fits into a small window: the text with what it comes to, or the kinds.
func (r *Room) small(c *paint.Canvas, top, bottom int, a paint.Axis, p paint.Palette, base paint.Style) {
	if r.Pane == Kinds || r.Pane == Lives {
		split := top + (bottom-top)*6/10
		r.drawKinds(c, top, split, p, base)
		r.lifelines(c, split, bottom, a, p, base)
		return
	}
	split := top + (bottom-top)*6/10
	r.text(c, 0, top, c.W, split, p, base)
	if v := r.View; v != nil && v.Tried != nil {
		c.Cut(0, split, c.W, base.With(p.Dim), fmt.Sprintf("raised %d, open %d, %s hits in %s", v.Tried.Raised,
			v.Tried.Open, commas(v.Tried.Hits), v.Sample))
	}
	r.lifelines(c, split+1, bottom, a, p, base)
}

// list draws all rules.
func (r *Room) list(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	list := r.listed()
	x := c.Put(1, top, base.With(p.Strong).Strong(), strings.TrimPrefix(plural(int64(len(list)), "", "rule", "rules"),
		" "))
	c.Cut(x+2, top, c.W-x-3, base.With(p.Dim), "enter opens one, with what it would have done; n begins a new one")
	wide := c.W >= 110
	col := []int{1, 26, 46, 52, 59, 73, 84, 93, 116}
	if !wide {
		col = []int{1, 26, 44, 50, 57, 71, 0, 0, 0}
	}
	y := top + 2
	for i, h := range []string{"rule", "file", "open", "keys", "newest hit", "in a day", "findings", "of a core",
		"looks at"} {
		if col[i] > 0 {
			c.Put(col[i], y, base.With(p.Dim), h)
		}
	}
	y++
	if r.Rules == nil {
		c.Put(1, y, base.With(p.Dim), "asking the service")
		return
	}
	rows := bottom - y
	r.geo.listY = y
	at := r.index()
	r.top = max(min(r.top, at), at-rows+1, 0)
	for _, x := range list[min(r.top, len(list)):] {
		if y >= bottom {
			break
		}
		r.geo.list = append(r.geo.list, x.Rule)
		style := base
		if x.Rule == r.chosen {
			c.Ground(0, y, c.W, p.Chosen)
			style = base.With(p.Strong).Strong()
			if p.Mono {
				c.Put(0, y, base.Strong(), "›")
			}
		}
		if x.Off {
			style = base.With(p.Dim)
		}
		c.Cut(col[0], y, col[1]-col[0]-1, style, x.Rule)
		c.Cut(col[1], y, col[2]-col[1]-1, base.With(p.Dim),
			fmt.Sprintf("%s:%d", strings.TrimSuffix(filepath.Base(x.File), ".lantern"), x.Line))
		if x.Off {
			c.Put(col[2], y, base.With(p.Dim), "off")
		} else if x.Open > 0 {
			c.Put(col[2], y, base, fmt.Sprint(x.Open))
		}
		c.Put(col[3], y, base.With(p.Dim), fmt.Sprint(x.Keys))
		c.Cut(col[4], y, 13, base.With(p.Dim), lastWords(x.Last))
		c.Cut(col[5], y, 9, base.With(p.Dim), commas(x.Day))
		if wide {
			if x.Findings > 0 {
				c.Put(col[6], y, base.With(p.Severity[entry.Notice]), fmt.Sprint(x.Findings))
			}
			c.Cut(col[7], y, col[8]-col[7]-1, base.With(p.Dim), costWords(&x, r.Rules.Since))
			c.Cut(col[8], y, c.W-col[8]-1, base.With(p.Dim), strings.Join(x.Sources, ", "))
		}
		y++
	}
}

func lastWords(t entry.Instant) string {
	if t == entry.None {
		return "never"
	}
	at := time.Unix(0, int64(t))
	if time.Since(at) < 20*time.Hour {
		return at.Format("15:04:05")
	}
	return at.Format("2 Jan 15:04")
}

func costWords(x *api.RuleCost, since entry.Instant) string {
	span := time.Since(time.Unix(0, int64(since)))
	if span <= 0 {
		return ""
	}
	s := fmt.Sprintf("%.3f %%", 100*float64(x.Took)/float64(span))
	if x.Most > 0 {
		s += ", most " + x.Most.Round(10*time.Microsecond).String()
	}
	return s
}

// text draws the file that is open, with what is wrong below its lines.
func (r *Room) text(c *paint.Canvas, x0, top, width, bottom int, p paint.Palette, base paint.Style) {
	name := filepath.Base(r.file)
	state := "as it is in the file"
	if r.fresh {
		state = "new, not saved"
	} else if r.Changed() {
		state = "changed, not saved"
	}
	at := x0
	if v := r.View; v != nil && v.Rule != "" {
		at = c.Cut(x0, top, width/2, base.With(p.Strong).Strong(), v.Rule) + 2
	}
	c.Cut(at, top, x0+width-at, base.With(p.Dim), name+", "+state)
	lines := strings.Split(strings.TrimRight(r.Body(), "\n"), "\n")
	cursor := r.area.line
	if cursor >= len(lines) {
		lines = append(lines, make([]string, cursor-len(lines)+1)...)
	}
	notes := map[int][]note{}
	if r.View != nil {
		for _, f := range r.View.Findings {
			what := f.What
			if f.Mend != "" {
				what += "; " + f.Mend
			}
			indent := 5 + min(max(f.Col-1, 0), 12)
			for k, part := range watch.Wrap(what, width-indent-3) {
				if k < 3 && (k == 0 || f.Line-1 == cursor) { // in full at the cursor's line
					notes[f.Line-1] = append(notes[f.Line-1], note{part, indent, k == 0, f.Error})
				}
			}
		}
	}
	rows := bottom - top - 1
	r.textTop = max(min(r.textTop, cursor), 0)
	for used := rows + 1; used > rows; r.textTop++ { // the cursor's line is seen, with its findings
		used = 0
		for i := r.textTop; i <= cursor && i < len(lines); i++ {
			used += 1 + len(notes[i])
		}
		if used <= rows || r.textTop >= cursor {
			break
		}
	}
	y := top + 1
	r.geo.textX, r.geo.textY, r.geo.textW = x0, y, width
	drawn := func(line int) { r.geo.lines = append(r.geo.lines, line) }
	rule := r.ruleAt(cursor + 1)
	for i := r.textTop; i < len(lines) && y < bottom; i++ {
		drawn(i)
		number := fmt.Sprintf("%4d ", i+1)
		c.Put(x0, y, base.With(p.Rule), number)
		x := x0 + len(number)
		room := x0 + width - x
		shift := 0
		if i == cursor && r.Pane == Text { // a long line moves along with the cursor
			shift = max(r.area.col-room+2, 0)
		}
		drawCode(c, x, y, room, lines[i], shift, i+1 >= rule.First && i+1 <= rule.Last, p, base)
		if i == cursor && r.Pane == Text {
			under := " "
			if runes := []rune(lines[i]); r.area.col < len(runes) {
				under = string(runes[r.area.col])
			}
			style := paint.Style{Fg: p.Ground, Bg: p.Text}
			if p.Mono {
				under, style = "▏", base.Strong()
			}
			c.Put(x+r.area.col-shift, y, style, under)
		}
		if i == cursor && i == r.OthersAt && r.Others != "" {
			from := x + ansi.StringWidth(lines[i]) + 4
			c.Cut(from, y, x0+width-from, base.With(p.Dim), r.Others)
		}
		y++
		if words := r.proposed(); i == cursor && len(words) > 0 && y < bottom {
			drawn(-1)
			from := x + max(r.area.col-shift-r.View.Typed, 0)
			end := c.Put(from, y, base.With(p.Strong), words[0])
			c.Cut(end+2, y, x0+width-end-2, base.With(p.Dim), strings.Join(words[1:], "  ")+"   tab takes the first")
			y++
		}
		for _, f := range notes[i] {
			if y >= bottom {
				break
			}
			style := base.With(p.Severity[entry.Notice])
			if f.isError {
				style = base.With(p.Severity[entry.Error])
			}
			if f.first {
				c.Put(x0+f.indent, y, style, "╰")
			}
			c.Cut(x0+f.indent+2, y, width-f.indent-3, style, f.text)
			drawn(-1)
			y++
		}
	}
}

// note is a line of what is wrong with a line of the text.
type note struct {
	text           string
	indent         int
	first, isError bool
}

// drawCode draws a line of a settings file: the word of its clause, texts and patterns, and
// comments apart from each other.
func drawCode(c *paint.Canvas, x, y, width int, line string, shift int, own bool, p paint.Palette, base paint.Style) {
	runes := []rune(line)
	style := make([]paint.Style, len(runes))
	plain := base
	if !own {
		plain = base.With(p.Dim)
	}
	word, quote := true, rune(0)
	started := false
	for i, k := range runes {
		switch {
		case quote == '#':
			style[i] = base.With(p.Dim)
			continue
		case quote != 0:
			style[i] = base.With(p.Over)
			if !own {
				style[i] = plain
			}
			if k == quote && runes[i-1] != '\\' {
				quote = 0
			}
			continue
		case k == '#' && (i == 0 || runes[i-1] == ' '):
			quote = '#'
			style[i] = base.With(p.Dim)
			continue
		case k == '"' || k == '/' && (i == 0 || runes[i-1] == ' ' || runes[i-1] == '('):
			quote = k
			style[i] = base.With(p.Over)
			if !own {
				style[i] = plain
			}
			continue
		}
		if k != ' ' {
			started = true
		} else if started {
			word = false
		}
		style[i] = plain
		if word && own {
			style[i] = base.With(p.Severity[entry.Notice])
		}
	}
	for i := shift; i < len(runes) && i-shift < width; i++ {
		c.Put(x+i-shift, y, style[i], string(runes[i]))
	}
	if len(runes)-shift > width {
		c.Put(x+width-1, y, base.With(p.Dim), "…")
	}
}

// words draws what the rule means, and what it would have done.
func (r *Room) words(c *paint.Canvas, x, y, width, bottom int, p paint.Palette, base paint.Style) {
	v := r.View
	if v == nil {
		c.Cut(x, y, width, base.With(p.Dim), "trying it on what its sources have said")
		return
	}
	dim := base.With(p.Dim)
	head := v.Sample
	switch {
	case r.Stale && len(v.Words) == 0, v.Tried == nil && v.Rule == "" && len(v.Findings) > 0:
		head = "it cannot be tried yet: the text has errors"
	case r.Stale:
		head = "the text has errors; this is of the last one that had none"
	case v.Rule == "":
		head = "the cursor stands in no rule"
	}
	c.Cut(x, y, width, dim, head)
	y += 2
	style := base
	if r.Stale {
		style = dim
	}
	var said []string
	for _, w := range v.Words {
		if !strings.HasPrefix(w, "It says ") && !strings.HasPrefix(w, "It advises ") {
			said = append(said, w)
		}
	}
	for _, part := range watch.Wrap(strings.Join(said, " "), width) {
		if y >= bottom-5 {
			break
		}
		c.Cut(x, y, width, style, part)
		y++
	}
	y++
	if t := v.Tried; t != nil && y < bottom-2 {
		put := func(word string, cells ...string) {
			if y >= bottom {
				return
			}
			c.Put(x, y, dim, word)
			for i, s := range cells {
				c.Cut(x+14+i*(width-14)/3, y, (width-14)/3-1, style, s)
			}
			y++
		}
		put("would have", plural(t.Raised, "raised", "alert", "alerts"),
			plural(int64(t.Told), "told", "time", "times"), plural(t.Hits, "had", "hit", "hits"))
		var ends []string
		for why, n := range t.Ends {
			ends = append(ends, fmt.Sprintf("%d by %s", n, why))
		}
		sort.Strings(ends)
		over := 0
		for _, n := range t.Ends {
			over += n
		}
		put("over now", fmt.Sprint(over), strings.Join(ends, ", "), fmt.Sprintf("%d still open", t.Open))
		if over > 0 {
			put("longest", entry.RoughSpan(t.Longest), "", "median "+entry.RoughSpan(t.Median))
		}
	}
	for _, n := range v.Notes {
		for _, part := range watch.Wrap(n, width) {
			if y < bottom-1 {
				c.Cut(x, y, width, base.With(p.Severity[entry.Notice]), part)
				y++
			}
		}
	}
	errors := 0
	for _, f := range v.Findings {
		if f.Error {
			errors++
		}
	}
	foot := strings.TrimPrefix(plural(int64(errors), "", "error", "errors")+", "+
		strings.TrimPrefix(plural(int64(len(v.Findings)-errors), "", "finding", "findings"), " "), " ")
	if len(v.Failed) > 0 {
		foot += "; tests that fail: " + strings.Join(v.Failed, ", ")
	} else if v.Passed > 0 {
		foot += "; tests that pass: " + fmt.Sprint(v.Passed)
	}
	warn := dim
	if errors > 0 || len(v.Failed) > 0 {
		warn = base.With(p.Severity[entry.Warning])
	}
	c.Cut(x, bottom-1, width, warn, foot)
}

func plural(n int64, verb, one, many string) string {
	if n == 1 {
		return verb + " 1 " + one
	}
	return verb + " " + commas(n) + " " + many
}

func commas(n int64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// angles stand around what changes from entry to entry.
var angles = strings.NewReplacer("<", "‹", ">", "›")

// drawKinds draws the kinds of entries, and the chosen one in full.
func (r *Room) drawKinds(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	dim := base.With(p.Dim)
	kinds := r.kinds()
	c.Rule(1, top, 2, base.With(p.Rule), false)
	x := c.Put(4, top, base.With(p.Strong).Strong(), "shapes")
	tabs := 0
	for _, n := range onlyNames {
		tabs += len(n) + 3
	}
	counts := map[string]int{}
	if r.View != nil {
		for _, k := range r.View.Kinds {
			counts[k.Is]++
		}
		x = c.Cut(x+2, top, min(c.W/2, c.W-x-tabs-5), dim, fmt.Sprintf("%s of entries; the problem catches %d, "+
			"what ends it %d", strings.TrimSpace(plural(int64(len(r.View.Kinds)), "", "kind", "kinds")),
			counts["problem"], counts["over"]))
	}
	c.Rule(x+2, top, c.W-x-tabs-5, base.With(p.Rule), false)
	at := c.W - tabs - 1
	for i, n := range onlyNames {
		style := dim
		if i == r.only {
			style = base.With(p.Strong).Strong()
		}
		at = c.Put(at, top, style, n) + 3
	}
	y := top + 1
	rows := bottom - y - 2
	chosen := slices.IndexFunc(kinds, func(k api.BenchKind) bool { return k.ID+k.Source == r.kind })
	r.kindTop = max(min(r.kindTop, max(chosen, 0)), chosen-rows+1, 0)
	r.geo.kindsY = y
	alike := 0 // how much all of them begin with, where there is no room for it
	for _, k := range kinds {
		if ansi.StringWidth(k.Text) > c.W-24 {
			alike = sameStart(r.View.Kinds)
			break
		}
	}
	for i, k := range kinds[min(r.kindTop, len(kinds)):] {
		if i >= rows {
			break
		}
		r.geo.kinds = append(r.geo.kinds, k.ID+k.Source)
		if r.kindTop+i == chosen && r.Pane == Kinds {
			c.Ground(0, y, c.W, p.Chosen)
			if p.Mono {
				c.Put(0, y, base.Strong(), "›")
			}
		}
		if r.picked[k.ID+k.Source] {
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
		n := commas(int64(k.Count))
		c.Put(22-len(n), y, dim, n)
		text := base
		if k.Is == "" || k.Is == "near" {
			text = dim
		}
		room := c.W - 24
		if words := r.proposal(&k); words != "" && k.Is != "problem" {
			room = c.W*55/100 - 24
			c.Cut(c.W*55/100, y, c.W*45/100-1, base.With(p.Over), "ends it? "+words)
		} else if k.Note != "" {
			room = c.W*55/100 - 24
			c.Cut(c.W*55/100, y, c.W*45/100-1, base.With(p.Severity[entry.Notice]), "near: "+k.Note)
		}
		shape := angles.Replace(k.Text[alike:])
		if alike > 0 {
			shape = "…" + shape
		}
		c.Cut(24, y, room, text, shape)
		y++
	}
	if k := r.Kind(); k != nil && bottom-top > 5 {
		y = bottom - 2
		c.Put(2, y, dim, "one of "+commas(int64(k.Count)))
		example := k.Example
		lit := k.Lit
		if r.Pointed != nil {
			lit = [][2]int{*r.Pointed}
		}
		if from := textStart(k); from > 0 && ansi.StringWidth(example) > c.W-26 {
			example, lit = example[from:], shifted(lit, from)
		}
		watch.DrawLit(c, 24, y, c.W-26, example, lit, base, base.With(p.Strong).Strong())
		var fields []string
		for _, f := range k.Fields {
			if f.Value != "" && f.Name != "text" {
				fields = append(fields, f.Name+" "+ansi.Truncate(f.Value, 30, "…"))
			}
		}
		c.Cut(24, y+1, c.W-26, dim, strings.Join(fields, "   "))
	}
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

// lifelines draws what would have been.
func (r *Room) lifelines(c *paint.Canvas, top, bottom int, a paint.Axis, p paint.Palette, base paint.Style) {
	c.Rule(1, top, 2, base.With(p.Rule), false)
	x := c.Put(4, top, base.With(p.Strong).Strong(), "lifelines")
	x = c.Cut(x+2, top, c.W-x-8, base.With(p.Dim), "had this rule been at work")
	c.Rule(x+2, top, c.W-x-4, base.With(p.Rule), false)
	col := watch.ColumnsOf(c.W)
	y := top + 1
	if r.View == nil {
		return
	}
	for i := max(0, len(r.fed)-4); i < len(r.fed) && y < bottom-1; i++ { // the last ones
		c.Put(2, y, base.With(p.Dim), fmt.Sprintf("fed %d", i+1))
		brought := "nothing"
		style := base.With(p.Dim)
		if i < len(r.View.Fed) && len(r.View.Fed[i]) > 0 {
			brought, style = strings.Join(r.View.Fed[i], "; "), base.With(p.Strong)
		}
		c.Cut(24, y, c.W*55/100-26, base, r.fed[i])
		c.Cut(c.W*55/100, y, c.W*45/100-1, style, "brings "+brought)
		y++
	}
	if len(r.View.Rows) == 0 && r.View.Tried != nil {
		c.Put(3, y, base.With(p.Dim), "no hit, and no alert, in this span")
		return
	}
	if k := r.View.Curves; k != nil && bottom-y >= 5 {
		for _, v := range k.List[:min(len(k.List), max((bottom-y-2)/3, 1))] {
			c.Curve(y, 3, a, v, p, base)
			y += 3
		}
	}
	chosen := -1
	if r.Pane == Lives {
		chosen = r.lifeIndex()
	}
	r.lifeTop = max(min(r.lifeTop, max(chosen, 0)), chosen-(bottom-y)+1, 0)
	for i := r.lifeTop; i < len(r.View.Rows); i++ {
		if y >= bottom {
			c.Put(c.W-12, bottom-1, base.With(p.Dim), fmt.Sprintf(" %d more ↓", len(r.View.Rows)-i))
			return
		}
		row := &r.View.Rows[i]
		if i == chosen {
			c.Ground(0, y, c.W, p.Chosen)
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
		switch row.Have {
		case 0:
		case 1:
			note = "1 alert"
		default:
			note = fmt.Sprintf("%d alerts", row.Have)
		}
		c.Cut(col.Note, y, col.NoteWidth, base.With(p.Dim), note)
		if col.Second > 0 {
			c.Cut(col.Second, y, c.W-col.Second, base.With(p.Dim),
				strings.TrimPrefix(plural(int64(row.Count), "", "hit", "hits"), " "))
		}
		y++
	}
}

// ruleAt is where the rule stands in which a line lies, or the one before it.
func (r *Room) ruleAt(line int) lang.Place {
	if body := r.Body(); body != r.placed.text || r.placed.places == nil {
		r.placed.text, r.placed.places = body, lang.Parse(r.file, []byte(body)).Places()
	}
	var out lang.Place
	for _, p := range r.placed.places {
		if p.Kind == "rule" && p.First <= line {
			out = p
		}
	}
	return out
}
