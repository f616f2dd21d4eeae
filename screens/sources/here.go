package sources

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/put"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
	"github.com/dustin/go-humanize"
)

// here is what is found on the machine of the service: the kits that fit it, and its logs. One row may be
// chosen; kits are taken all at once.
type here struct {
	stage *room.Stage
	got   *api.Here
	err   error
	asked bool
	row   int             // that is chosen, of kits and then of logs; -1 is none
	off   map[string]bool // kits that are not to be taken, or that are though they do not run
}

func newHere(s *room.Stage) *here { return &here{stage: s, row: -1, off: map[string]bool{}} }

// ask looks once; further asks do nothing.
func (h *here) ask() tea.Cmd {
	if h.asked {
		return nil
	}
	h.asked = true
	return room.Ask(h.stage, api.AskHere, api.HereQuery{}, 6*room.Patience, func(got *api.Here, err error) tea.Cmd {
		h.got, h.err = got, err
		return nil
	})
}

// wanted are the kits that would be taken.
func (h *here) wanted() []string {
	var out []string
	if h.got == nil {
		return nil
	}
	for _, k := range h.got.Kits {
		if !k.Used && k.Runs != h.off[k.Name] {
			out = append(out, k.Name)
		}
	}
	return out
}

// logs are the logs that are listed: those that nothing reads.
func (h *here) logs() []api.HereLog {
	if h.got == nil {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(h.got.Logs), func(l api.HereLog) bool { return l.Source != "" })
}

func (h *here) rows() int {
	if h.got == nil {
		return 0
	}
	return len(h.kits()) + len(h.logs())
}

// move chooses another row; above the first there is none.
func (h *here) move(n int) { h.row = min(max(h.row+n, -1), h.rows()-1) }

// log is the log that is chosen; "" is none.
func (h *here) log() string {
	if i := h.row - len(h.kits()); h.row >= 0 && i >= 0 && i < len(h.logs()) {
		return h.logs()[i].Path
	}
	return ""
}

// kits are the kits that are listed: those that are not in use.
func (h *here) kits() []api.HereKit {
	if h.got == nil {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(h.got.Kits), func(k api.HereKit) bool { return k.Used })
}

// toggle takes a kit out of those that are taken, or in.
func (h *here) toggle() {
	if h.row >= 0 && h.row < len(h.kits()) {
		name := h.kits()[h.row].Name
		h.off[name] = !h.off[name]
	}
}

// take shows what taking the kits does, before it is done.
func (h *here) take() tea.Cmd {
	names := h.wanted()
	if len(names) == 0 {
		h.stage.Say("no kit is chosen; space chooses the one of the row")
		return nil
	}
	return put.Ask(h.stage, api.PutQuery{Kits: names}, put.Told{Done: func(*api.Put) { h.asked = false }})
}

// draw draws what was found, and returns the row behind it.
func (h *here) draw(c *paint.Canvas, y, bottom int) int {
	p := h.stage.Palette
	base := paint.Style{Fg: p.Text}
	dim := base.With(p.Dim)
	switch {
	case h.err != nil:
		c.Cut(1, y, c.W-2, base.With(p.Severity[entry.Warning]), h.err.Error())
		return y + 1
	case h.got == nil:
		c.Cut(1, y, c.W-2, dim, "looking at what runs here, and which logs grow …")
		return y + 1
	}
	room.DrawHead(c, y, "found here", h.summary(), p)
	y++
	kits, logs := h.kits(), h.logs()
	if len(kits) == 0 {
		c.Cut(3, y, c.W-4, dim, "no kit fits what runs here")
		y++
	}
	// On a small screen kits and logs share what there is, the chosen row always among them.
	most := max(bottom-y-3-min(len(logs), 6), 3)
	y = h.drawRows(c, y, min(most, len(kits)), len(kits), h.row, func(y, i int, style paint.Style) {
		h.drawKit(c, y, kits[i], style)
	})
	if y++; len(logs) > 0 && y < bottom-2 {
		room.DrawHead(c, y, "logs that nothing reads", "enter on one brings it in by itself", p)
		y++
		y = h.drawRows(c, y, bottom-y, len(logs), h.row-len(kits), func(y, i int, style paint.Style) {
			h.drawLog(c, y, logs[i], style)
		})
	}
	return y
}

// drawRows draws rows of a list, as many as there is room for, the chosen one among them.
func (h *here) drawRows(c *paint.Canvas, y, rows, n, chosen int, each func(y, i int, style paint.Style)) int {
	p := h.stage.Palette
	first := min(max(0, chosen-rows+1), max(n-rows, 0))
	for i := first; i < n && i < first+rows; i++ {
		style := paint.Style{Fg: p.Text}
		if i == chosen {
			c.Fill(1, y, c.W-2, p.Chosen)
			style = style.With(p.Strong)
			if p.Mono {
				c.Put(0, y, style, "›")
			}
		}
		each(y, i, style)
		y++
	}
	return y
}

func (h *here) summary() string {
	g := h.got
	var used []string
	for _, k := range g.Kits {
		if k.Used {
			used = append(used, k.Name)
		}
	}
	parts := []string{room.Count(g.Programs, "program") + " run"}
	if g.Journal != "" {
		parts = append(parts, "in the journal "+g.Journal)
	}
	if n := len(g.Channels); n > 0 {
		parts = append(parts, room.Count(n, "channel"))
	}
	if g.Cron > 0 {
		parts = append(parts, room.Count(g.Cron, "list")+" of jobs by the clock")
	}
	if len(used) > 0 {
		parts = append(parts, "in use: "+strings.Join(used, " "))
	}
	if g.Cut != "" {
		parts = append(parts, g.Cut)
	}
	return strings.Join(parts, ", ")
}

// drawKit draws a kit: whether it will be taken, what it is for, and why it fits.
func (h *here) drawKit(c *paint.Canvas, y int, k api.HereKit, style paint.Style) {
	p := h.stage.Palette
	mark, color := "·", p.Dim
	if k.Runs != h.off[k.Name] {
		mark, color = "+", p.Severity[entry.Notice]
	}
	c.Put(3, y, style.With(color), mark)
	c.Cut(5, y, 12, style, k.Name)
	words := k.Why
	if k.Words != "" {
		words, style = k.Words, style.With(p.Severity[entry.Warning])
		if k.Mend != "" {
			words += ": " + k.Mend
		}
	}
	x := 18
	if wide := c.W / 2; c.W >= 100 {
		c.Cut(x, y, wide-x-2, paint.Style{Fg: p.Text, Bg: style.Bg}, k.Note)
		x = wide
	}
	c.Cut(x, y, c.W-x-1, style.With(p.Dim), words)
}

// drawLog draws a log: how large it is, how fast it grows, and who would read it.
func (h *here) drawLog(c *paint.Canvas, y int, l api.HereLog, style paint.Style) {
	p := h.stage.Palette
	x := max(c.W/2, 44)
	c.Cut(3, y, x-4, style, l.Path)
	words := l.Words
	if words == "" {
		words = fmt.Sprintf("%8s", humanize.Bytes(uint64(l.Size)))
		if l.Daily > 0 {
			words += ", " + humanize.Bytes(uint64(l.Daily)) + " a day"
		}
		if !l.Mod.IsZero() {
			words += ", written " + entry.RoughSpan(time.Since(l.Mod).Truncate(time.Second)) + " ago"
		}
		if l.Kit != "" {
			words += ", the kit " + l.Kit + " reads it"
		}
	}
	c.Cut(x, y, c.W-x-1, style.With(p.Dim), words)
}
