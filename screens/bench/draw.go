package bench

import (
	"fmt"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	"github.com/dustin/go-humanize"
)

// Draw is part of room.Room.
func (r *Room) Draw(c *paint.Canvas, top, bottom int) {
	a, p := r.stage.Axis(), r.stage.Palette
	base := paint.Style{Fg: p.Text}
	r.geo = geometry{}
	if r.pane == ruleList {
		r.drawList(c, top, bottom, p, base)
		return
	}
	if busy := r.stage.View.Busy; busy != "" {
		c.Cut(3, top, c.W-4, base.With(p.Dim), busy+"; a key that changes the text stops it")
		top++
	}
	if c.W < 110 || bottom-top < 24 {
		r.drawSmall(c, top, bottom, a, p, base)
		return
	}
	height := bottom - top
	textEnd := top + height*4/10
	kindsEnd := textEnd + height*3/10
	middle := c.W / 2
	for y := top; y < textEnd; y++ {
		c.Put(middle, y, base.With(p.Rule), "│")
	}
	r.drawText(c, 1, top, middle-2, textEnd, p, base)
	r.drawWords(c, middle+2, top, c.W-middle-3, textEnd, p, base)
	r.drawKinds(c, textEnd, kindsEnd, p, base)
	r.drawLifelines(c, kindsEnd, bottom, a, p, base)
}

// drawSmall draws what fits into a small window: the text with what it comes to, or the kinds.
func (r *Room) drawSmall(c *paint.Canvas, top, bottom int, a paint.Axis, p paint.Palette, base paint.Style) {
	if r.pane != ruleText {
		split := top + (bottom-top)*6/10
		r.drawKinds(c, top, split, p, base)
		r.drawLifelines(c, split, bottom, a, p, base)
		return
	}
	split := top + (bottom-top)*6/10
	r.drawText(c, 0, top, c.W, split, p, base)
	if v := r.view; v != nil && v.Tried != nil {
		c.Cut(0, split, c.W, base.With(p.Dim), fmt.Sprintf("raised %d, open %d, %s hits in %s", v.Tried.Raised,
			v.Tried.Open, humanize.Comma(v.Tried.Hits), v.Sample))
	}
	r.drawLifelines(c, split+1, bottom, a, p, base)
}

// drawList draws all rules.
func (r *Room) drawList(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	list := r.listed()
	x := c.Put(1, top, base.With(p.Strong).Strong(), room.Count(len(list), "rule"))
	c.Cut(x+2, top, c.W-x-3, base.With(p.Dim), "enter opens one, with what it would have done; n begins a new one")
	wide := c.W >= 110
	col := []int{1, 26, 44, 50, 56, 70, 79, 88, 110, 129}
	if !wide {
		col = []int{1, 26, 44, 50, 57, 71, 0, 0, 0, 0}
	}
	y := top + 2
	for i, h := range []string{"rule", "file", "open", "keys", "newest hit", "in a day", "findings", r.costHead(),
		"alerts in a week", "looks at"} {
		if col[i] > 0 {
			c.Put(col[i], y, base.With(p.Dim), h)
		}
	}
	y++
	if r.rules == nil {
		c.Put(1, y, base.With(p.Dim), "asking the service")
		return
	}
	at := r.index()
	if x := r.rule(); x != nil && bottom-y >= 10 {
		c.Cut(1, bottom-1, c.W-2, base.With(p.Dim), costLine(x))
		bottom -= 2
	}
	rows := bottom - y
	r.geo.listY = y
	r.top = max(min(r.top, at), at-rows+1, 0)
	for _, x := range list[min(r.top, len(list)):] {
		if y >= bottom {
			break
		}
		r.geo.list = append(r.geo.list, x.Rule)
		style := base
		if x.Rule == r.chosen {
			c.Fill(0, y, c.W, p.Chosen)
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
		c.Cut(col[5], y, 9, base.With(p.Dim), humanize.Comma(x.Day))
		if wide {
			if x.Findings > 0 {
				c.Put(col[6], y, base.With(p.Severity[entry.Notice]), fmt.Sprint(x.Findings))
			}
			c.Cut(col[7], y, col[8]-col[7]-1, base.With(p.Dim), costWords(&x, r.rules.Since))
			weekStyle := base.With(p.Dim)
			if x.Week >= noisy && x.Taken == 0 {
				weekStyle = base.With(p.Severity[entry.Notice])
			}
			c.Cut(col[8], y, col[9]-col[8]-1, weekStyle, weekWords(&x))
			c.Cut(col[9], y, c.W-col[9]-1, base.With(p.Dim), strings.Join(x.Sources, ", "))
		}
		y++
	}
}

// noisy is from how many alerts on a rule of which nobody took one is noise.
const noisy = 5

// weekWords says how many alerts a rule raised in a week, and how many of them were taken.
func weekWords(x *api.RuleCost) string {
	switch {
	case x.Week == 0:
		return ""
	case x.Taken == 0:
		return fmt.Sprintf("%d, none taken", x.Week)
	}
	return fmt.Sprintf("%d, %d taken", x.Week, x.Taken)
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

// costHead says over which time it is said what rules cost.
func (r *Room) costHead() string {
	if r.rules == nil || r.rules.Since == 0 {
		return "cost"
	}
	return "cost since " + api.Moment(r.rules.Since)
}

// slowWord is how long an entry has to take for a rule so that it is said.
const slowWord = time.Millisecond

func costWords(x *api.RuleCost, since entry.Instant) string {
	span := time.Since(time.Unix(0, int64(since)))
	if span <= 0 {
		return ""
	}
	s := fmt.Sprintf("%.3f %% of a core", 100*float64(x.Took)/float64(span))
	if x.Slow != nil && x.Slow.Took > slowWord {
		s += ", " + x.Slow.Took.Round(10*time.Microsecond).String() + " for one entry"
	}
	return s
}

// costLine says what a rule costs by minute, and which entry took longest.
func costLine(x *api.RuleCost) string {
	short := func(d time.Duration) string { return d.Round(10 * time.Microsecond).String() }
	if x.Off {
		return x.Rule + ": off"
	}
	s := x.Rule + ": nothing measurable yet"
	if x.Most > 0 {
		s = fmt.Sprintf("%s: 95 %% of its minutes took %s or less, none more than %s", x.Rule, short(x.P95),
			short(x.Most))
	}
	s += fmt.Sprintf("; tried on %s entries in the last minute", humanize.Comma(x.Minute))
	if x.Slow != nil {
		s += fmt.Sprintf("; %s for %s", x.Slow.Took.Round(time.Microsecond), entry.Visible(x.Slow.Text))
	}
	return s
}

// drawWords draws what the rule means, and what it would have done.
func (r *Room) drawWords(c *paint.Canvas, x, y, width, bottom int, p paint.Palette, base paint.Style) {
	v := r.view
	if v == nil {
		c.Cut(x, y, width, base.With(p.Dim), "trying it on what its sources have said")
		return
	}
	dim := base.With(p.Dim)
	head := v.Sample
	switch {
	case r.stale && len(v.Words) == 0, v.Tried == nil && v.Rule == "" && slices.ContainsFunc(v.Findings,
		func(f api.BenchFinding) bool { return f.Error }):
		head = "it cannot be tried yet: the text has errors"
	case r.stale:
		head = "the text has errors; this is of the last one that had none"
	case v.Rule == "":
		head = "the cursor stands in no rule"
	}
	c.Cut(x, y, width, dim, head)
	y += 2
	style := base
	if r.stale {
		style = dim
	}
	var said []string
	for _, w := range v.Words {
		if !strings.HasPrefix(w, "It says ") && !strings.HasPrefix(w, "It advises ") {
			said = append(said, w)
		}
	}
	for _, part := range room.Wrap(strings.Join(said, " "), width) {
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
			at := x + 14
			for i, s := range cells { // a long one takes room of the next
				at = max(at, x+14+i*(width-14)/3)
				at = c.Cut(at, y, x+width-at, style, s) + 2
			}
			y++
		}
		put("would have", "raised "+room.Count(t.Raised, "alert"),
			"told "+room.Count(t.Told, "time"), "had "+room.Count(t.Hits, "hit"))
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
		for _, part := range room.Wrap(n, width) {
			if y < bottom-1 {
				c.Cut(x, y, width, base.With(p.Severity[entry.Notice]), part)
				y++
			}
		}
	}
	foot := room.Count(v.Errors, "error") + ", " + room.Count(v.Doubts, "finding")
	if len(v.Failed) > 0 {
		foot += "; tests that fail: " + strings.Join(v.Failed, ", ")
	} else if v.Passed > 0 {
		foot += "; tests that pass: " + fmt.Sprint(v.Passed)
	}
	warn := dim
	if v.Errors > 0 || len(v.Failed) > 0 {
		warn = base.With(p.Severity[entry.Warning])
	}
	c.Cut(x, bottom-1, width, warn, foot)
}
