package hosts_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/hosts"
	"dimlantern/screens/room/roomtest"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var now = entry.Of(time.Date(2026, 11, 24, 5, 41, 22, 0, time.UTC))

// centre is a service with hosts of its own making, which notes what it is told to do.
type centre struct {
	view   api.HostsView
	did    []api.HostQuery
	rolled []api.RollQuery
	bad    error
}

func newCentre() *centre {
	c := &centre{view: api.HostsView{At: now, From: now.Add(-88 * time.Minute), Until: now, Column: time.Minute,
		Live: true, Centre: true, Address: "10.1.1.1:7422", Name: "lock-3", Newest: 41}}
	flow := make([]int64, 88)
	for i := range flow {
		flow[i] = int64(i % 5)
	}
	host := func(group, name string) *api.HostView {
		c.view.Hosts = append(c.view.Hosts, api.HostView{Name: name, Groups: []string{group}, Reports: true, Runs: 41,
			Head: 41, RunsFrom: now.Add(-40 * time.Minute), Flow: flow, Joined: now.Add(-time.Hour), Minute: 1234,
			Origins: []api.HostOrigin{{Name: name + ":/var/log/pump.log", Source: "pump-log", State: "seen",
				Rules: 2}},
			Blocks: []api.HostBlock{{Kind: "rule", Name: "pressure", From: "kit pump"},
				{Kind: "contact", Name: "crew", From: "written here",
					Differs: "also written here: the centre's stands"}}})
		return &c.view.Hosts[len(c.view.Hosts)-1]
	}
	var names []string
	for i := range 6 {
		names = append(names, fmt.Sprintf("pump-%02d", i+1))
		host("pumps", names[i])
	}
	c.view.Hosts[2].Silent, c.view.Hosts[2].Reports = true, false
	c.view.Hosts[2].Since = now.Add(-29 * time.Minute)
	c.view.Hosts[2].Dark = []api.Span{{From: now.Add(-29 * time.Minute), To: entry.None}}
	c.view.Hosts[4].Runs = 40
	c.view.Hosts[4].Refuses = &api.RefusalView{Number: 41, At: now.Add(-39 * time.Minute), Where: "pump.lantern:31",
		Why: "expect \"a slow pump\" fails", Mend: "say the zone in the kit"}
	c.view.Hosts[1].Worst, c.view.Hosts[1].Open = entry.Error, 2
	host("gauges", "gauge-1").Behind = 3 * time.Minute
	c.view.Groups = []api.HostGroup{{Name: "pumps", Words: "6 hosts by name pump-*", Hosts: names,
		Kits: []string{"pump"}},
		{Name: "gauges", Words: "1 host by name gauge-*", Hosts: []string{"gauge-1"}, Kits: []string{"pump",
			"linux"}}}
	return c
}

// sits is a person before the room.
func sits(t *testing.T, c *centre) *roomtest.Hand {
	t.Helper()
	d := api.NewDesk()
	api.AskHosts.Answer(d, func(context.Context, api.ViewQuery) (*api.HostsView, error) {
		v := c.view
		return &v,
			c.bad
	})
	api.DoHost.Answer(d, func(_ context.Context, q api.HostQuery) (*api.None, error) {
		c.did = append(c.did, q)
		return nil, c.bad
	})
	api.DoRoll.Answer(d, func(_ context.Context, q api.RollQuery) (*api.RollDone, error) {
		c.rolled = append(c.rolled, q)
		return &api.RollDone{Number: 42, Hosts: []string{"pump-01", "pump-02"}, Words: "changed: rule pressure"},
			c.bad
	})
	api.DoInvite.Answer(d, func(_ context.Context, q api.InviteQuery) (*api.Invited, error) {
		return &api.Invited{Code: "dim-lantern-invitation:abc", Address: "10.1.1.1:7422",
			Invite: api.InviteView{Names: q.Names, Left: 1, Until: now}}, c.bad
	})
	api.AskEffective.Answer(d, func(_ context.Context, q api.EffectiveQuery) (*api.Effective, error) {
		return &api.Effective{Host: q.Host, Number: 41, Blocks: []api.HostBlock{{Kind: "rule", Name: "pressure",
			From: "kit pump", Text: "rule pressure {\n  raise error\n}\n"}}}, c.bad
	})
	h := roomtest.New(d)
	h.Room = hosts.New(h.Stage)
	h.Stage.View = &api.View{Now: now, At: now, From: c.view.From, Until: now, Column: time.Minute,
		Tide: make([]int64, 88), Sources: 1}
	h.Do(h.Stage.Refresh())
	return h
}

// has checks that lines are drawn, each with all of its parts in their order.
func has(t *testing.T, h *roomtest.Hand, lines ...string) {
	t.Helper()
	text := h.Text()
	for _, want := range lines {
		found := false
		for _, line := range strings.Split(text, "\n") {
			rest, ok := line, true
			for _, part := range strings.Split(want, " … ") {
				_, behind, is := strings.Cut(rest, part)
				rest, ok = behind, ok && is
			}
			found = found || ok
		}
		assert.True(t, found, "%q in\n%s", want, text)
	}
}

// What needs a look stands first, what is well is folded, and the chosen one is told whole.
func TestHosts(t *testing.T) {
	h := sits(t, newCentre())
	has(t, h, "7 hosts … 6 report, 1 silent, 1 refuse", "pumps … 6 hosts by name pump-* … runs 41 since",
		"pump-03 … ╱╱╱ … silent 29m", "pump-05 … 40, refuses 41", "▋ … pump-02 … 2", "3 more, all well",
		"gauge-1 … 3 min … 41, behind", "silent … nothing was heard since", "mend … can it reach",
		"pump.log … unseen")
	lines := strings.Split(h.Text(), "\n")
	at := func(name string) int {
		for i, l := range lines {
			if strings.Contains(l[:min(len(l), 30)], name) {
				return i
			}
		}
		return -1
	}
	assert.Less(t, at("pump-03"), at("pump-05"), "who is silent first")
	assert.Less(t, at("pump-05"), at("pump-02"))
	h.Press("down")
	has(t, h, "runs … 40 since … 41 came at … and is refused", "why … pump.lantern:31: expect",
		"mend … say the zone in the kit",
		"so far … goes on with 40", "contact crew … written here … also written here", "rule pressure … kit pump")
	h.Press("down", "down", "enter")
	has(t, h, "pump-01", "pump-04", "pump-06")
	h.Press("/")
	h.Do(h.Room.(interface{ Find(string) tea.Cmd }).Find("silent"))
	text := h.Text()
	assert.Contains(t, text, "pump-03")
	assert.NotContains(t, text, "pump-02")
	h.Press("esc")
	has(t, h, "pump-02")
}

// Pages lie over the room: settings, logs, groups with their kits.
func TestPages(t *testing.T) {
	h := sits(t, newCentre())
	h.Press("s")
	has(t, h, "what pump-03 runs … revision 41", "rule pressure, from kit pump", "raise error")
	h.Press("esc", "enter")
	has(t, h, "pump-03:/var/log/pump.log", "source pump-log, seen")
	h.Press("esc", "g")
	has(t, h, "groups and kits … 2 groups", "pump on 7 hosts", "linux on 1 host")
	h.Press("down", "esc")
	has(t, h, "7 hosts")
}

// What is done is asked for first, and done to the host that was chosen.
func TestDoing(t *testing.T) {
	c := newCentre()
	h := sits(t, c)
	h.Press("i")
	h.Answers("pump-*")
	has(t, h, "an invitation … called pump-*", "dim-lantern-invitation:abc", "It is secret")
	h.Press("esc", "R")
	h.Answers("pump-33")
	require.Len(t, c.did, 1)
	assert.Equal(t, api.HostQuery{Person: api.Person{By: "mira"}, What: "rename", Host: "pump-03", To: "pump-33"},
		c.did[0])
	h.Press("F")
	h.Answers("no")
	require.Len(t, c.did, 1, "its name was not typed")
	h.Press("F")
	h.Answers("pump-03")
	require.Len(t, c.did, 2)
	assert.Equal(t, "forget", c.did[1].What)
	h.Press("p")
	h.Answers("group pumps")
	has(t, h, "revision 42 … would go to 2 hosts", "changed: rule pressure", "pump-01, pump-02")
	require.False(t, c.rolled[0].Do)
	h.Press("enter")
	require.Len(t, c.rolled, 2)
	assert.True(t, c.rolled[1].Do)
	assert.Equal(t, []string{"group pumps"}, c.rolled[1].To)
	assert.Contains(t, h.Stage.Note, "revision 42 is on its way to 2 hosts")
	c.bad = errors.New("the disk is full")
	h.Press("p")
	h.Answers("all")
	assert.Equal(t, "the disk is full", h.Stage.Note)
	c.bad = nil
	h.Stage.Held = now.Add(-time.Hour)
	h.Press("i")
	assert.Contains(t, h.Stage.Note, "actions are off")
}

// A machine alone is shown as it is, and how others would join.
func TestAlone(t *testing.T) {
	c := newCentre()
	c.view.Centre, c.view.Groups = false, nil
	c.view.Hosts = c.view.Hosts[:1]
	c.view.Hosts[0].Name, c.view.Hosts[0].Runs = "lock-3", 0
	h := sits(t, c)
	has(t, h, "1 host … alone", "this machine", "lock-3")
	h.Press("p")
	assert.Contains(t, h.Stage.Note, "is no centre")
	c.view.Link = &api.LinkView{Name: "lock-3", Centre: "mast", Since: now}
	h.Do(h.Stage.Refresh())
	has(t, h, "cut off from mast since")
	c.view.Hosts = nil
	c.view.Centre = true
	h.Do(h.Stage.Refresh())
	has(t, h, "No host has joined yet: i invites one")
}

// In a small window there is what matters, and nothing is drawn outside of it.
func TestSmall(t *testing.T) {
	h := sits(t, newCentre())
	h.Stage.W, h.Stage.H = 80, 18
	h.Do(h.Stage.Refresh())
	has(t, h, "pump-03 … silent 29m", "pump-05 … refuses 41", "pump-02 … 41")
	for range 20 {
		h.Press("down")
	}
	has(t, h, "gauge-1")
}
