package hosts

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	"github.com/dustin/go-humanize"
)

// lateAfter is from when on a host counts as behind.
const lateAfter = time.Minute

func late(h *api.HostView) bool { return h.Behind >= lateAfter && !h.Silent }

// Draw is part of room.Room.
func (r *Room) Draw(c *paint.Canvas, top, bottom int) {
	v, p := r.view, r.stage.Palette
	if v == nil {
		return
	}
	a := r.stage.Axis()
	base := paint.Style{Fg: p.Text}
	wide := c.W >= 110 && bottom-top >= 24
	split := bottom
	if wide {
		split = top + min(max(r.height()+4, 10), (bottom-top)*3/5)
	}
	r.head(c, top, a, p, base)
	list := top + 1
	if wide {
		list++
	}
	r.list(c, list, split, a, p, base)
	if wide {
		r.detail(c, split, bottom, p, base)
	}
}

func (r *Room) head(c *paint.Canvas, y int, a paint.Axis, p paint.Palette, base paint.Style) {
	v := r.view
	x := c.Put(1, y, base.With(p.Strong).Strong(), room.Count(len(v.Hosts), "host"))
	words := "alone: no other has joined it"
	if v.Link != nil {
		words = "joined to " + v.Link.Centre
		if !v.Link.Up {
			words = fmt.Sprintf("cut off from %s since %s", v.Link.Centre, room.Clock(v.Link.Since))
		}
	}
	if v.Centre {
		reports, silent, refuse, away := 0, 0, 0, 0
		for i := range v.Hosts {
			h := &v.Hosts[i]
			switch {
			case h.Silent:
				silent++
			case h.Reports:
				reports++
			default:
				away++
			}
			if h.Refuses != nil {
				refuse++
			}
		}
		words = fmt.Sprintf("%s report, %d silent, %d refuse", humanize.Comma(int64(reports)), silent, refuse)
		if v.Pending != "" {
			words += fmt.Sprintf("; the settings differ from %d", v.Newest)
		}
		if away > 0 {
			words += fmt.Sprintf(", %d ended", away)
		}
	}
	x = c.Cut(x+2, y, max(a.X+a.Columns-x-3, 0), base.With(p.Dim), words)
	c.Labels(y, a, base.With(p.Dim), 0, x+2)
	if c.W >= 110 {
		c.Put(a.X+a.Columns+1, y, base.With(p.Dim), "open  behind  settings")
	}
}

// height is how many lines the list has with its gaps.
func (r *Room) height() int {
	n := 0
	for i, x := range r.rows {
		if n++; x.head != nil && i > 0 {
			n++
		}
	}
	return n
}

func (r *Room) list(c *paint.Canvas, top, bottom int, a paint.Axis, p paint.Palette, base paint.Style) {
	var lines []int
	for i, x := range r.rows {
		if x.head != nil && i > 0 {
			lines = append(lines, -1)
		}
		lines = append(lines, i)
	}
	lines = room.Window(lines, r.index(), bottom-top, &r.top)
	r.lines, r.drawn = lines, top
	switch {
	case len(r.rows) == 0 && r.filter != "":
		c.Put(1, top+1, base.With(p.Dim), "No host has these words.")
	case len(r.view.Hosts) == 0:
		c.Put(1, top+len(lines)+1, base.With(p.Dim),
			"No host has joined yet: i invites one; on it, dimlantern join < CODE.")
	}
	for k, i := range lines {
		if i >= 0 {
			r.row(c, top+k, &r.rows[i], a, p, base)
		}
	}
}

var bars = []string{"▁", "▂", "▃", "▄", "▅", "▆", "▇"}

var wicks = [5]string{" ", "▏", "▍", "▋", "█"}

func (r *Room) row(c *paint.Canvas, y int, x *row, a paint.Axis, p paint.Palette, base paint.Style) {
	dim := base.With(p.Dim)
	chosen := x.id() == r.chosen
	if chosen {
		room.Choose(c, 0, y, p)
	}
	switch {
	case x.head != nil:
		at := c.Put(1, y, base.Strong(), x.head.Name)
		words := x.head.Words
		if n := runsOf(r.view, x.head); n != "" {
			words += "; " + n
		}
		c.Cut(at+2, y, c.W-at-3, dim, words)
		return
	case x.folded != nil:
		r.flow(c, y, sumOf(x.folded), nil, a, p, base)
		c.Cut(3, y, a.X-4, dim, humanize.Comma(int64(len(x.folded)))+" more, all well")
		return
	}
	h := x.host
	name := base
	if chosen {
		name = base.With(p.Strong).Strong()
	}
	switch {
	case h.Worst != 0:
		c.Put(1, y, base.With(p.Severity[min(int(h.Worst), 4)]), wicks[min(int(h.Worst), 4)])
	case h.Over:
		c.Put(1, y, base.With(p.Severity[entry.Notice]), "│")
	}
	c.Cut(3, y, a.X-4, name, h.Name)
	r.flow(c, y, h.Flow, h.Dark, a, p, base)
	x0 := a.X + a.Columns + 1
	words, style := stateOf(h, r.view, p, base)
	if c.W < 110 {
		if h.Refuses != nil && !h.Silent {
			words = fmt.Sprintf("refuses %d", h.Refuses.Number)
		}
		if words == "" && h.Open > 0 {
			words = fmt.Sprintf("%d open", h.Open)
		}
		c.Cut(x0, y, c.W-x0, style, words)
		return
	}
	if h.Open > 0 {
		c.Put(x0, y, base, fmt.Sprint(h.Open))
	}
	if h.Reports {
		c.Put(x0+6, y, dim, behindWords(h.Behind))
	}
	c.Cut(x0+14, y, c.W-x0-14, style, words)
}

// flow draws what was logged when, and when nothing was heard.
func (r *Room) flow(c *paint.Canvas, y int, flow []int64, dark []api.Span, a paint.Axis, p paint.Palette,
	base paint.Style) {
	lamp := min(a.ColumnOf(a.Lamp), a.Columns-1)
	most := int64(1)
	for _, n := range flow {
		most = max(most, n)
	}
	for k := 0; k <= lamp && k < len(flow); k++ {
		mark, style := "·", base.With(p.Rule)
		if n := flow[k]; n > 0 {
			mark, style = bars[min(int(n*int64(len(bars)-1)/most), len(bars)-1)], base.With(p.Tide)
		}
		c.Put(a.X+k, y, style, mark)
	}
	for _, d := range dark {
		to := lamp
		if d.To != entry.None {
			to = min(a.ColumnOf(d.To), lamp)
		}
		for k := max(a.ColumnOf(d.From), 0); k <= to; k++ {
			c.Put(a.X+k, y, base.With(p.Blind), "╱")
		}
	}
}

func sumOf(list []*api.HostView) []int64 {
	var out []int64
	for _, h := range list {
		for k, n := range h.Flow {
			if k >= len(out) {
				out = append(out, 0)
			}
			out[k] += n
		}
	}
	return out
}

// runsOf says which revision most hosts of a group run.
func runsOf(v *api.HostsView, g *api.HostGroup) string {
	count := map[int64]int{}
	var since entry.Instant
	best := int64(0)
	for i := range v.Hosts {
		h := &v.Hosts[i]
		if h.Runs == 0 || !slices.Contains(g.Hosts, h.Name) {
			continue
		}
		if count[h.Runs]++; count[h.Runs] > count[best] || best == 0 {
			best = h.Runs
		}
	}
	if best == 0 {
		return ""
	}
	for i := range v.Hosts {
		if h := &v.Hosts[i]; h.Runs == best && slices.Contains(g.Hosts, h.Name) {
			since = entry.Later(since, h.RunsFrom)
		}
	}
	return fmt.Sprintf("runs %d since %s", best, api.Moment(since))
}

// stateWords is what stands behind a host's row.
func stateWords(h *api.HostView, at entry.Instant) string {
	switch {
	case h.Silent:
		return "silent " + entry.RoughSpan(at.Sub(h.Since).Truncate(time.Second))
	case h.Later:
		return "joined later"
	case h.Bye && !h.Reports:
		return "ended in order"
	case h.Cloned != "":
		return "two machines"
	case h.Refuses != nil && h.Runs == 0:
		return fmt.Sprintf("refuses %d", h.Refuses.Number)
	case h.Refuses != nil:
		return fmt.Sprintf("%d, refuses %d", h.Runs, h.Refuses.Number)
	case late(h):
		return fmt.Sprintf("%d, behind", h.Runs)
	case h.Head != 0 && h.Head != h.Runs:
		return fmt.Sprintf("%d, %d on its way", h.Runs, h.Head)
	case h.Runs != 0:
		return fmt.Sprint(h.Runs)
	}
	return ""
}

func stateOf(h *api.HostView, v *api.HostsView, p paint.Palette, base paint.Style) (string, paint.Style) {
	words := stateWords(h, v.At)
	switch {
	case h.Silent:
		return words, base.With(p.Blind)
	case h.Refuses != nil, h.Cloned != "", late(h):
		return words, base.With(p.Severity[entry.Warning])
	}
	return words, base.With(p.Dim)
}

func behindWords(d time.Duration) string {
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 3*time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 3*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	}
	return fmt.Sprintf("%d h", int(d.Hours()))
}

// fact is a line of what is known of a host: a word, and what it says.
type fact struct {
	word, says string
	style      paint.Style
}

// facts are what is known of a host.
func (r *Room) facts(h *api.HostView, p paint.Palette, base paint.Style) []fact {
	v := r.view
	dim, warn, over := base.With(p.Dim), base.With(p.Severity[entry.Warning]), base.With(p.Over)
	var out []fact
	add := func(word, says string, style paint.Style) { out = append(out, fact{word, says, style}) }
	switch {
	case h.Refuses != nil:
		runs, goes := "nothing of the centre", "goes on with what is written on it"
		if h.Runs != 0 {
			runs = fmt.Sprintf("%d since %s", h.Runs, api.Moment(h.RunsFrom))
			goes = fmt.Sprintf("goes on with %d; what it finds is told as ever", h.Runs)
		}
		add("runs", fmt.Sprintf("%s; %d came at %s and is refused", runs, h.Refuses.Number, room.Clock(h.Refuses.At)),
			warn)
		why := h.Refuses.Why
		if h.Refuses.Where != "" {
			why = h.Refuses.Where + ": " + why
		}
		add("why", why, base.With(p.Strong))
		if h.Refuses.Mend != "" {
			add("mend", h.Refuses.Mend, over)
		}
		add("so far", goes, dim)
	case h.Runs != 0:
		add("runs", fmt.Sprintf("%d since %s", h.Runs, api.Moment(h.RunsFrom)), base)
	case v.Centre:
		add("runs", "nothing of the centre yet: p rolls the settings out", dim)
	}
	switch {
	case h.Silent:
		add("silent", fmt.Sprintf("nothing was heard since %s, and no goodbye", api.Moment(h.Since)),
			base.With(p.Blind))
		add("mend", "does the machine run, and dimlantern watch on it? can it reach "+v.Address+"?", over)
	case h.Bye && !h.Reports && v.Centre:
		add("ended", "it said goodbye at "+api.Moment(h.Since), dim)
	}
	if h.Cloned != "" {
		add("cloned", h.Cloned, warn)
		add("mend", "let one of the two join anew: dimlantern join --again", over)
	}
	for _, b := range h.Beyond {
		add("beyond", b, warn)
	}
	if len(h.Beyond) > 0 {
		add("mend", "on the host, in its settings: centre may read \"…\"", over)
	}
	if v.Centre && h.Reports {
		clock := "agrees with that of " + v.Name
		if d := h.Clock.Abs(); d >= 50*time.Millisecond {
			way := "ahead of"
			if h.Clock < 0 {
				way = "behind"
			}
			clock = fmt.Sprintf("%.1f s %s that of %s", d.Seconds(), way, v.Name)
		}
		style := dim
		if h.Clock.Abs() > 2*time.Second {
			style = warn
		}
		add("clock", clock, style)
		waits := "nothing waits"
		if h.Waits > 0 {
			waits = room.Count(h.Waits, "commit") + " on the way"
		}
		if h.Cut > 0 {
			waits += fmt.Sprintf("; it was cut off for %s at most, at %s",
				entry.RoughSpan(h.Cut.Truncate(time.Second)), api.Moment(h.CutAt))
		}
		add("waits", waits, dim)
	}
	if h.Acts > 0 {
		add("on its way", room.Count(h.Acts, "action")+" of people at the centre", dim)
	}
	if h.OS != "" {
		says := h.OS + ", dimlantern " + h.Version
		if len(h.Tags) > 0 {
			says += "; " + strings.Join(h.Tags, ", ")
		}
		add("machine", says, dim)
	}
	return out
}

// detail draws what is known of the chosen host.
func (r *Room) detail(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	h := r.Chosen()
	if h == nil || bottom-top < 6 {
		return
	}
	dim := base.With(p.Dim)
	about := ""
	if len(h.Groups) > 0 {
		about = "of " + strings.Join(h.Groups, " and ") + "; "
	}
	if h.Joined != 0 {
		about += "joined " + api.Moment(h.Joined) + "; "
	}
	about += fmt.Sprintf("reads %s, %s a minute", room.Count(len(h.Origins), "log"), room.Count(h.Minute, "entry"))
	room.DrawHead(c, top, h.Name, about, p)
	middle := c.W / 2
	left := top + 2
	for _, f := range r.facts(h, p, base) {
		if left >= bottom {
			break
		}
		c.Put(1, left, dim, f.word)
		for _, l := range room.Wrap(f.says, middle-14) {
			if left >= bottom {
				break
			}
			c.Cut(12, left, middle-14, f.style, l)
			left++
		}
	}
	left++
	if left < bottom-1 && len(h.Origins) > 0 {
		c.Put(1, left, base.Strong(), "its logs")
		left++
		for i, o := range h.Origins {
			if left == bottom-1 && i < len(h.Origins)-1 {
				c.Put(3, left, dim, fmt.Sprintf("%d more: enter", len(h.Origins)-i))
				break
			}
			if left >= bottom {
				break
			}
			if h.Silent {
				o.State, o.Words = "unseen", "as the host is silent; it was "+o.State
			}
			drawOrigin(c, left, 3, middle-3, &o, p, base)
			left++
		}
	}
	if len(h.Blocks) == 0 {
		return
	}
	for y := top + 1; y < bottom; y++ {
		c.Put(middle, y, base.With(p.Rule), "│")
	}
	x := c.Put(middle+2, top+1, base.Strong(), "what it runs")
	c.Cut(x+2, top+1, c.W-x-3, dim, "where each comes from, and what differs")
	list := slices.Clone(h.Blocks)
	slices.SortStableFunc(list, func(a, b api.HostBlock) int { // what differs first
		return sign(b.Differs != "") - sign(a.Differs != "")
	})
	for i := range list {
		y := top + 2 + i
		if y == bottom-1 && i < len(list)-1 {
			c.Put(middle+2, y, dim, fmt.Sprintf("%d more: s shows all", len(list)-i))
			break
		}
		if y >= bottom {
			break
		}
		drawBlock(c, y, middle+2, c.W-1, &list[i], p, base)
	}
}

func sign(b bool) int {
	if b {
		return 1
	}
	return 0
}

func drawBlock(c *paint.Canvas, y, x, right int, b *api.HostBlock, p paint.Palette, base paint.Style) {
	style := base
	if b.Aside {
		style = base.With(p.Rule)
	}
	from := x + 28
	c.Cut(x, y, 27, style, b.Kind+" "+b.Name)
	end := c.Cut(from, y, 16, base.With(p.Dim), b.From)
	if b.Differs != "" {
		c.Cut(max(end+2, from+17), y, right-max(end+2, from+17), base.With(p.Severity[entry.Warning]), b.Differs)
	}
}

func drawOrigin(c *paint.Canvas, y, x, width int, o *api.HostOrigin, p paint.Palette, base paint.Style) {
	name := o.Name
	if _, path, ok := strings.Cut(o.Name, ":"); ok {
		name = filepath.Base(path)
	}
	style := base.With(p.Over)
	if o.State != "seen" {
		style = base.With(p.Blind)
	}
	at := c.Cut(x, y, 18, base, name)
	at = c.Put(max(at+1, x+19), y, style, o.State)
	says := o.Words
	if says == "" {
		says = fmt.Sprintf("%s behind, %s", behindWords(o.Behind), room.Count(o.Rules, "rule"))
	}
	c.Cut(at+2, y, max(width-(at+2-x), 0), base.With(p.Dim), says)
}
