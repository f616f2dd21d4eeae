package hosts

import (
	"fmt"
	"strings"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
	"github.com/dustin/go-humanize"
)

// text is what a page shows: a title and lines, and what enter does on it.
type text struct {
	title, about, where string
	lines               []line
	does                string // the word of enter in the key line; "" does nothing
	do                  func() tea.Cmd
}

// line is a line of a page.
type line struct {
	text string
	kind string // "", head, dim, warn, over
}

// page lies over the room, and is read.
type page struct {
	stage  *room.Stage
	t      text
	scroll int
	rows   int
	height int
}

func newPage(s *room.Stage, t text) *page { return &page{stage: s, t: t} }

// Update is part of room.Room.
func (p *page) Update(tea.Msg) tea.Cmd { return nil }

// Keys is part of room.Room.
func (p *page) Keys() room.Keys {
	k := room.Keys{Where: p.t.where, Alone: true, List: []room.Key{
		room.Move(max(p.height, 1), func(n int) tea.Cmd {
			p.scroll = min(max(p.scroll+n, 0), max(p.rows-p.height, 0))
			return nil
		}).Said("further", "further"),
	}}
	if p.t.do != nil {
		k.List = append(k.List, room.Do("enter", func() tea.Cmd {
			return tea.Batch(p.stage.Back(),
				p.t.do())
		}).Said(p.t.does,
			p.t.does))
	}
	k.List = append(k.List, room.Do("esc", p.stage.Back).Said("back", "back"),
		room.Do("q", func() tea.Cmd { return tea.Quit }).Said("leave", "leave"))
	return k
}

// Draw is part of room.Room.
func (p *page) Draw(c *paint.Canvas, top, bottom int) {
	pal := p.stage.Palette
	base := paint.Style{Fg: pal.Text}
	x := c.Cut(1, top, c.W-2, base.With(pal.Strong).Strong(), p.t.title)
	c.Cut(x+2, top, max(c.W-x-3, 0), base.With(pal.Dim), p.t.about)
	top += 2
	p.height = bottom - top
	row := -p.scroll
	styles := map[string]paint.Style{"": base, "head": base.Strong(), "dim": base.With(pal.Dim),
		"warn": base.With(pal.Severity[entry.Warning]), "over": base.With(pal.Over)}
	for _, l := range p.t.lines {
		for _, part := range room.Wrap(l.text, c.W-3) {
			if y := top + row; y >= top && y < bottom {
				c.Cut(1, y, c.W-2, styles[l.kind], part)
			}
			row++
		}
	}
	p.rows = row + p.scroll
	if below := p.rows - p.scroll - p.height; below > 0 {
		more := " " + humanize.Comma(int64(below)) + " more ↓"
		c.Put(c.W-1-len([]rune(more)), bottom-1, base.With(pal.Dim), more)
	}
}

// logsPage shows the logs of a host.
func (r *Room) logsPage(h *api.HostView) text {
	t := text{title: h.Name, about: room.Count(len(h.Origins), "log"), where: "reading logs"}
	for _, o := range h.Origins {
		kind := ""
		if o.State != "seen" {
			kind = "warn"
		}
		t.lines = append(t.lines, line{o.Name, kind})
		says := fmt.Sprintf("    source %s, %s, %s behind, %s", o.Source, o.State, behindWords(o.Behind),
			room.Count(o.Rules, "rule"))
		t.lines = append(t.lines, line{says, "dim"})
		if o.Words != "" {
			t.lines = append(t.lines, line{"    " + o.Words, "dim"})
		}
	}
	if len(h.Origins) == 0 {
		t.lines = []line{{"It has no logs yet: its settings name none, or it has not said.", "dim"}}
	}
	return t
}

// settingsPage shows what a host runs.
func settingsPage(h *api.HostView, v *api.Effective) text {
	about := "no revision of a centre"
	if v.Number > 0 {
		about = fmt.Sprintf("revision %d", v.Number)
	}
	t := text{title: "what " + v.Host + " runs", about: about, where: "reading settings"}
	for _, b := range v.Blocks {
		kind := "head"
		if b.Aside {
			kind = "dim"
		}
		t.lines = append(t.lines, line{fmt.Sprintf("%s %s, from %s", b.Kind, b.Name, b.From), kind})
		if b.Differs != "" {
			t.lines = append(t.lines, line{"    " + b.Differs, "warn"})
		}
		for _, l := range strings.Split(strings.TrimRight(b.Text, "\n"), "\n") {
			if l != "" {
				t.lines = append(t.lines, line{"    " + l, "dim"})
			}
		}
	}
	if len(v.Blocks) == 0 {
		t.lines = []line{{"It runs nothing of the centre, and has not said what is written on it.", "dim"}}
	}
	return t
}

// groupsPage shows the groups and the kits.
func (r *Room) groupsPage() text {
	v := r.view
	t := text{title: "groups and kits", about: room.Count(len(v.Groups), "group"), where: "reading groups"}
	kits := map[string]int{}
	var order []string
	for _, g := range v.Groups {
		t.lines = append(t.lines, line{g.Name, "head"}, line{"    " + g.Words, "dim"})
		if g.Note != "" {
			t.lines = append(t.lines, line{"    " + g.Note, "dim"})
		}
		for _, k := range g.Kits {
			if _, known := kits[k]; !known {
				order = append(order, k)
			}
			kits[k] += len(g.Hosts)
		}
	}
	if len(v.Groups) == 0 {
		t.lines = append(t.lines, line{"The settings have no group: group NAME { hosts \"*\" kit linux }", "dim"})
	}
	if len(order) > 0 {
		t.lines = append(t.lines, line{"", ""}, line{"kits", "head"})
	}
	for _, k := range order {
		t.lines = append(t.lines, line{fmt.Sprintf("    %s on %s", k, room.Count(kits[k], "host")), ""})
	}
	if len(v.Invites) > 0 {
		t.lines = append(t.lines, line{"", ""}, line{"invitations that hold", "head"})
		for _, i := range v.Invites {
			t.lines = append(t.lines, line{fmt.Sprintf("    %s: %s called %s, until %s", i.ID, room.Count(i.Left,
				"machine"),
				strings.Join(i.Names, " or "), api.Moment(i.Until)), ""})
		}
	}
	return t
}

// invitePage shows a code.
func invitePage(v *api.Invited) text {
	return text{title: "an invitation", about: fmt.Sprintf("for %s called %s, until %s", room.Count(v.Invite.Left,
		"machine"),
		strings.Join(v.Invite.Names, " or "), api.Moment(v.Invite.Until)), where: "reading a code",
		lines: []line{{"On the machine that is to join, give this to: dimlantern join", "dim"}, {"", ""}, {v.Code,
			""},
			{"", ""}, {"It is secret, and is shown once. The machine reaches the centre at " + v.Address + ".",
				"dim"},
			{"dimlantern invite prints it into a file.", "dim"}}}
}

// rollPage shows what rolling out does, and does it.
func rollPage(s *room.Stage, q api.RollQuery, v *api.RollDone, after func() tea.Cmd) text {
	t := text{title: fmt.Sprintf("revision %d", v.Number), about: fmt.Sprintf("would go to %s",
		room.Count(len(v.Hosts),
			"host")), where: "before rolling out", does: "roll it out"}
	if v.Words != "" {
		t.lines = append(t.lines, line{"what differs from the one before", "head"}, line{"    " + v.Words, ""},
			line{"", ""})
	} else if v.Same {
		t.lines = append(t.lines, line{"nothing differs: the last revision goes to more hosts", "dim"}, line{"", ""})
	} else {
		t.lines = append(t.lines, line{"no block differs: only what stands between them does", "dim"}, line{"", ""})
	}
	t.lines = append(t.lines, line{"hosts", "head"}, line{"    " + strings.Join(v.Hosts, ", "), ""}, line{"", ""},
		line{"Each tries it: one that finds an error, or a test that fails, goes on with what it had, and says why.",
			"dim"})
	t.do = func() tea.Cmd {
		q.Do = true
		return room.Ask(s, api.DoRoll, q, room.Patience, func(v *api.RollDone, err error) tea.Cmd {
			if !s.Failed(err) {
				s.Say(fmt.Sprintf("revision %d is on its way to %s", v.Number, room.Count(len(v.Hosts),
					"host")))
			}
			return after()
		})
	}
	return t
}
