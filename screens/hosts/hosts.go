// Package hosts is the room that shows who reports to a centre: groups and their hosts on the common time axis,
// what needs a look first; below, what the chosen one runs, refuses and why, and its logs. On a machine alone it
// shows that machine, and how others would join.
//
// This file is the room; draw.go draws it, page.go the pages over it.
package hosts

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"dimlantern/api"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

// Room is the room hosts.
type Room struct {
	stage *room.Stage
	view  *api.HostsView

	filter string
	chosen string          // "GROUP\x00HOST"; of a heading, "GROUP\x00"
	open   map[string]bool // groups of which those that are well are shown as well
	rows   []row
	top    int
	lines  []int
	drawn  int
}

// row is a line of the list: a group, a host, or those that are folded.
type row struct {
	group  string
	head   *api.HostGroup
	host   *api.HostView
	folded []*api.HostView
}

func (x *row) id() string {
	switch {
	case x.host != nil:
		return x.group + "\x00" + x.host.Name
	case x.folded != nil:
		return x.group + "\x00\x00"
	}
	return x.group + "\x00"
}

// New returns the room, which asks by a stage.
func New(s *room.Stage) *Room { return &Room{stage: s, open: map[string]bool{}} }

// Update is part of room.Room.
func (r *Room) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case room.Fresh:
		return r.ask()
	case tea.MouseClickMsg:
		if k := msg.Y - r.drawn; k >= 0 && k < len(r.lines) && r.lines[k] >= 0 {
			r.chosen = r.rows[r.lines[k]].id()
		}
	}
	return nil
}

func (r *Room) ask() tea.Cmd {
	s := r.stage
	q := api.ViewQuery{At: s.Held, Until: s.Until, Column: s.Column(), Columns: room.ColumnsOf(s.W).LifeWidth}
	return room.Ask(s, api.AskHosts, q, room.Patience, func(v *api.HostsView, err error) tea.Cmd {
		if !s.Failed(err) {
			r.view = v
			r.take()
		}
		return nil
	})
}

// trouble is how much a host needs a look; 0 where all is well.
func trouble(h *api.HostView) int {
	n := int(h.Worst)
	if h.Refuses != nil || h.Cloned != "" || len(h.Beyond) > 0 {
		n += 10
	}
	if h.Silent {
		n += 20
	}
	if late(h) {
		n += 5
	}
	return n
}

// take makes the rows of what was answered.
func (r *Room) take() {
	r.rows = nil
	v := r.view
	if v == nil {
		return
	}
	seen := map[string]bool{}
	add := func(g *api.HostGroup, list []*api.HostView) {
		slices.SortStableFunc(list, func(a, b *api.HostView) int {
			return cmp.Or(cmp.Compare(trouble(b), trouble(a)), strings.Compare(a.Name, b.Name))
		})
		rows := []row{{group: g.Name, head: g}}
		var well []*api.HostView
		for _, h := range list {
			seen[h.Name] = true
			if r.filter != "" && !strings.Contains(strings.ToLower(h.Name+" "+strings.Join(h.Groups,
				" ")+" "+stateWords(h,
				v.At)), strings.ToLower(r.filter)) {
				continue
			}
			if trouble(h) == 0 && !h.Over && r.filter == "" && !r.open[g.Name] && len(list) > 3 {
				well = append(well, h)
				continue
			}
			rows = append(rows, row{group: g.Name, host: h})
		}
		if len(well) == 1 {
			rows = append(rows, row{group: g.Name, host: well[0]})
		} else if len(well) > 1 {
			rows = append(rows, row{group: g.Name, folded: well})
		}
		if len(rows) > 1 || r.filter == "" {
			r.rows = append(r.rows, rows...)
		}
	}
	byName := map[string]*api.HostView{}
	for i := range v.Hosts {
		byName[v.Hosts[i].Name] = &v.Hosts[i]
	}
	for i := range v.Groups {
		g := &v.Groups[i]
		var list []*api.HostView
		for _, n := range g.Hosts {
			if h := byName[n]; h != nil {
				list = append(list, h)
			}
		}
		add(g, list)
	}
	var rest []*api.HostView
	for i := range v.Hosts {
		if !seen[v.Hosts[i].Name] {
			rest = append(rest, &v.Hosts[i])
		}
	}
	if len(rest) > 0 {
		g := &api.HostGroup{Name: "in no group", Words: room.Count(len(rest), "host") +
			"; the centre sends them nothing"}
		if !v.Centre {
			g = &api.HostGroup{Name: "this machine"}
		}
		add(g, rest)
	}
	if r.index() < 0 {
		r.chosen = ""
		for i := range r.rows {
			if r.rows[i].host != nil {
				r.chosen = r.rows[i].id()
				break
			}
		}
	}
}

func (r *Room) index() int {
	return slices.IndexFunc(r.rows, func(x row) bool { return x.id() == r.chosen })
}

// Chosen is the host that is chosen; nil where none is.
func (r *Room) Chosen() *api.HostView {
	if i := r.index(); i >= 0 {
		return r.rows[i].host
	}
	return nil
}

// Move is part of room.Finder.
func (r *Room) Move(by int) tea.Cmd {
	i := r.index()
	step := 1
	if by < 0 {
		step = -1
	}
	for n := min(max(by, -len(r.rows)), len(r.rows)); n != 0; n -= step {
		next := i + step
		for next >= 0 && next < len(r.rows) && r.rows[next].head != nil {
			next += step
		}
		if next < 0 || next >= len(r.rows) {
			break
		}
		i = next
	}
	if i >= 0 && i < len(r.rows) {
		r.chosen = r.rows[i].id()
	}
	return nil
}

// Find is part of room.Finder.
func (r *Room) Find(words string) tea.Cmd {
	r.filter = words
	r.take()
	return nil
}

// Found is part of room.Finder.
func (r *Room) Found() string { return r.filter }

// About is part of room.Asked: what the chosen host logged.
func (r *Room) About() (room.AskAbout, bool) {
	h := r.Chosen()
	if h == nil || len(h.Origins) == 0 {
		return room.AskAbout{}, false
	}
	return room.AskAbout{Source: h.Origins[0].Source, Origin: h.Origins[0].Name}, true
}

// Keys is part of room.Room.
func (r *Room) Keys() room.Keys {
	k := room.Keys{Where: "choosing hosts", List: []room.Key{
		room.On("up down shift+up shift+down pgup pgdown home end", func(n string) tea.Cmd {
			return r.Move(room.Steps(n, 10))
		}).Marked("↑↓").Said("which", "which").Told("choose a host; with shift ten further"),
		room.Do("enter", r.enter).Said("its logs", "logs").
			Told("the logs of the host, each with how it is; of hosts that are folded, each of them"),
		room.Do("s", r.settings).Said("its settings", "settings").
			Told("what the host runs, block by block, with where each comes from"),
		room.Do("g", r.groups).Said("groups, kits", "groups").Told("groups and kits, with how many hosts each has"),
		room.Do("i", r.invite).Needs(api.Change).Said("invite a host",
			"invite").Told("make a code by which machines join"),
		room.Do("p", r.roll).Needs(api.Change).Said("roll out",
			"roll").Told("roll the settings out, after showing what that changes"),
		room.Do("F", r.forget).Needs(api.Change).Told("forget the host: its rights end, and its alerts"),
		room.Do("R", r.rename).Needs(api.Change).Told("call the host otherwise"),
	}}
	if i := r.index(); i >= 0 && r.rows[i].folded != nil {
		k.Reword("enter", "show them", "show")
	}
	if r.filter != "" {
		k.List = append(k.List, room.Do("esc", func() tea.Cmd { return r.Find("") }).Told("shows all again"))
	}
	if v := r.view; v != nil && !v.Centre {
		k.Reword("i", "", "", "p", "", "", "g", "", "")
	}
	return k
}

// Help is part of room.Explained.
func (r *Room) Help() room.Help {
	return room.Help{Title: "hosts",
		About: "who reports to this centre: groups with their hosts, each with what it " +
			"logged and how it is; those that are well are folded",
		Last: "╱ is silence: nothing was heard, and no goodbye; the wick at the left is the worst alert that is open"}
}

// enter shows the logs of the chosen host, or the hosts that are folded.
func (r *Room) enter() tea.Cmd {
	i := r.index()
	switch {
	case i < 0:
	case r.rows[i].folded != nil:
		first := r.rows[i].folded[0].Name
		g := r.rows[i].group
		r.open[g] = true
		r.take()
		r.chosen = g + "\x00" + first
	case r.rows[i].host != nil:
		r.stage.Lay(newPage(r.stage, r.logsPage(r.rows[i].host)))
	}
	return nil
}

func (r *Room) settings() tea.Cmd {
	h := r.Chosen()
	if h == nil {
		return nil
	}
	name := h.Name
	if !r.view.Centre {
		name = ""
	}
	return room.Ask(r.stage, api.AskEffective, api.EffectiveQuery{Host: name}, room.Patience,
		func(v *api.Effective, err error) tea.Cmd {
			if !r.stage.Failed(err) {
				r.stage.Lay(newPage(r.stage, settingsPage(h, v)))
			}
			return nil
		})
}

func (r *Room) groups() tea.Cmd {
	if r.view != nil {
		r.stage.Lay(newPage(r.stage, r.groupsPage()))
	}
	return nil
}

// acting tells whether something may be done now; it says why where not.
func (r *Room) acting() bool {
	switch {
	case r.view == nil:
		return false
	case r.stage.Held != 0:
		r.stage.Say("the lamp is held: actions are off; space shows what is now")
		return false
	case !r.view.Centre:
		r.stage.Say("this machine is no centre: settings { centre listen \":7422\" } makes it one")
		return false
	}
	return true
}

func (r *Room) invite() tea.Cmd {
	if !r.acting() {
		return nil
	}
	r.stage.Prompt(room.Prompt{Label: "invite hosts called",
		Hint: "a pattern, such as pump-*; enter makes a code for an " +
			"hour   esc leaves it",
		Then: func(name string) tea.Cmd {
			q := api.InviteQuery{Person: r.stage.Person()}
			if name = strings.TrimSpace(name); name != "" {
				q.Names = []string{name}
			}
			return room.Ask(r.stage, api.DoInvite, q, room.Patience, func(v *api.Invited, err error) tea.Cmd {
				if !r.stage.Failed(err) {
					r.stage.Lay(newPage(r.stage, invitePage(v)))
				}
				return nil
			})
		}}, "*")
	return nil
}

func (r *Room) roll() tea.Cmd {
	if !r.acting() {
		return nil
	}
	to := "all"
	if i := r.index(); i >= 0 && r.rows[i].host != nil {
		to = r.rows[i].host.Name
	} else if i >= 0 {
		to = "group " + r.rows[i].group
	}
	RollOut(r.stage, to, r.ask)
	return nil
}

// RollOut asks to whom the settings of the centre are to go, shows what that does, and does it; then follows what is to
// be done after it.
func RollOut(s *room.Stage, to string, after func() tea.Cmd) {
	s.Prompt(room.Prompt{Label: "roll out to",
		Hint: "all, group NAME, or a host; enter shows what that does   esc leaves it",
		Then: func(to string) tea.Cmd {
			q := api.RollQuery{Person: s.Person(), To: []string{strings.TrimSpace(to)}}
			return room.Ask(s, api.DoRoll, q, room.Patience, func(v *api.RollDone, err error) tea.Cmd {
				if !s.Failed(err) {
					s.Lay(newPage(s, rollPage(s, q, v, after)))
				}
				return nil
			})
		}}, to)
}

func (r *Room) forget() tea.Cmd {
	h := r.Chosen()
	if h == nil || !r.acting() {
		return nil
	}
	r.stage.Prompt(room.Prompt{Label: "forget " + h.Name + "? type its name",
		Hint: "enter ends its rights and clears its " +
			"alerts   esc leaves it",
		Then: func(name string) tea.Cmd {
			if strings.TrimSpace(name) != h.Name {
				r.stage.Say(fmt.Sprintf("%s stays: what was typed is not its name", h.Name))
				return nil
			}
			return r.do(api.HostQuery{What: "forget", Host: h.Name}, h.Name+" is forgotten")
		}}, "")
	return nil
}

func (r *Room) rename() tea.Cmd {
	h := r.Chosen()
	if h == nil || !r.acting() {
		return nil
	}
	r.stage.Prompt(room.Prompt{Label: "call " + h.Name,
		Hint: "enter renames it; alerts and history go on   esc leaves it",
		Then: func(name string) tea.Cmd {
			return r.do(api.HostQuery{What: "rename", Host: h.Name, To: strings.TrimSpace(name)},
				h.Name+" is called "+name)
		}}, h.Name)
	return nil
}

func (r *Room) do(q api.HostQuery, did string) tea.Cmd {
	q.Person = r.stage.Person()
	return room.Ask(r.stage, api.DoHost, q, room.Patience, func(_ *api.None, err error) tea.Cmd {
		if !r.stage.Failed(err) {
			r.stage.Say(did)
		}
		return r.ask()
	})
}
