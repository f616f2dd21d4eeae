package service

import (
	"context"
	"fmt"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"dimlantern/api"
	"dimlantern/core/lang"
	"dimlantern/folder"
	"dimlantern/hosts"
)

// version is that of the program: its revision where it was built from one.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" && len(s.Value) >= 8 {
			return s.Value[:8]
		}
	}
	return strings.Trim(info.Main.Version, "()")
}

// speaking is the centre of this machine; it is held by nobody.
func (s *Service) speaking(ctx context.Context) (c *hosts.Centre, err error) {
	err = s.do(ctx, func() error {
		if s.centre == nil {
			if words := s.trouble["hosts"]; words != "" {
				return &api.Problem{Code: api.Refused, What: words}
			}
			return errNoCentre
		}
		c = s.centre.c
		return nil
	})
	return c, err
}

// Invite makes an invitation.
func (s *Service) Invite(ctx context.Context, q api.InviteQuery) (*api.Invited, error) {
	c, err := s.speaking(ctx)
	if err != nil {
		return nil, err
	}
	if q.Hosts == 0 {
		q.Hosts = 1
	}
	if q.For == 0 {
		q.For = time.Hour
	}
	code, i, err := c.Invite(ctx, q.Names, q.Hosts, q.For, q.Address, q.Name())
	if err != nil {
		return nil, err
	}
	return &api.Invited{Code: code.Text(), Address: code.Address, Invite: inviteView(&i)}, nil
}

func inviteView(i *hosts.Invitation) api.InviteView {
	return api.InviteView{ID: i.ID, Names: i.Names, Left: i.Hosts - len(i.Used), Used: i.Used, Until: i.Until,
		By: i.By}
}

// Hosts is who reports, at an instant.
func (s *Service) Hosts(ctx context.Context, q api.ViewQuery) (*api.HostsView, error) {
	v, err := s.query.Hosts(ctx, q)
	if err != nil || !v.Centre {
		return v, err
	}
	c, err := s.speaking(ctx)
	if err != nil {
		return v, nil // it ended just now
	}
	for _, i := range c.Invitations() {
		v.Invites = append(v.Invites, inviteView(&i))
	}
	return v, nil
}

// DoHost renames a host, forgets one, or takes an invitation back.
func (s *Service) DoHost(ctx context.Context, q api.HostQuery) (*api.None, error) {
	switch q.What {
	case "rename":
		return nil, s.Rename(ctx, q.Host, q.To)
	case "forget":
		return nil, s.Forget(ctx, q.Host)
	case "take back":
		c, err := s.speaking(ctx)
		if err != nil {
			return nil, err
		}
		return nil, c.TakeBack(ctx, q.Host)
	}
	return nil, fmt.Errorf("one renames or forgets a host, or takes an invitation back; not %q", q.What)
}

// Roll rolls the settings out, or says what that would do.
func (s *Service) Roll(ctx context.Context, q api.RollQuery) (*api.RollDone, error) {
	c, err := s.speaking(ctx)
	if err != nil {
		return nil, err
	}
	if r := api.RightsOf(ctx); r.All < api.Change {
		for _, to := range q.To {
			g, group := strings.CutPrefix(to, "group ")
			groups := []string{g}
			if h := s.window.Now().Hosts.Host(to); !group && h != nil {
				groups = h.Groups
			}
			if r.On(groups) < api.Change {
				return nil, api.Forbidden(r, api.Change)
			}
		}
	}
	if q.Do && q.Back == 0 { // what stands in the folder is what is meant
		if _, err := s.Apply(ctx, api.None{}); err != nil {
			return nil, err
		}
	}
	done, err := c.Roll(hosts.RollQuery{To: q.To, Stop: q.Stop, Back: q.Back, By: q.Name()}, q.Do)
	if err != nil {
		what := err.Error()
		if wrong := s.window.Now().Trouble["settings"]; wrong != "" {
			what = wrong + "; " + what
		}
		return nil, &api.Problem{Code: api.Refused, What: what}
	}
	return &api.RollDone{Number: done.Number, Hosts: done.Hosts, Words: done.Words, Same: done.Same}, nil
}

// Revisions are all that were rolled out.
func (s *Service) Revisions(ctx context.Context, _ api.None) (*api.RevisionList, error) {
	c, err := s.speaking(ctx)
	if err != nil {
		return nil, err
	}
	list, halted := c.Revisions()
	out := &api.RevisionList{Halted: halted, Revisions: []api.RevisionView{}}
	all := c.Statuses()
	for _, r := range list {
		v := api.RevisionView{Number: r.Number, At: r.At, By: r.By, Words: r.Words, Back: r.Back, To: r.To,
			Run: []string{}}
		for _, h := range all {
			if h.State.Runs.Number == r.Number {
				v.Run = append(v.Run, h.Name)
			}
		}
		out.Revisions = append(out.Revisions, v)
	}
	return out, nil
}

// Effective is what a host runs, or this machine, block by block.
func (s *Service) Effective(ctx context.Context, q api.EffectiveQuery) (*api.Effective, error) {
	if q.Host == "" {
		sn := s.window.Now()
		out := &api.Effective{Host: sn.Host}
		var r *hosts.Revision
		if l := sn.Link; l != nil {
			out.Host, out.Number = l.Name, l.Number
			if id, err := hosts.Joined(s.o.Data); err == nil && id != nil {
				r, _ = hosts.Kept(s.o.Data, id)
			}
		}
		out.Blocks = withTexts(blocksNow(s.o.Settings, sn.Texts, r), sn.Texts)
		return out, nil
	}
	c, err := s.speaking(ctx)
	if err != nil {
		return nil, err
	}
	var h *hosts.Status
	for _, x := range c.Statuses() {
		if x.Name == q.Host {
			h = &x
		}
	}
	if h == nil {
		return nil, &api.Problem{Code: api.Unknown, What: fmt.Sprintf("no host called %s has joined", q.Host)}
	}
	out := &api.Effective{Host: h.Name, Number: h.State.Runs.Number}
	if r, err := c.RevisionFor(h.Name, h.State.Runs.Number); err == nil {
		texts, _ := hosts.Merge(nil, r)
		out.Blocks = withTexts(h.State.Blocks, texts)
	} else {
		out.Blocks = withTexts(h.State.Blocks, nil)
	}
	return out, nil
}

// withTexts gives blocks their texts as they are at work.
func withTexts(list []hosts.Block, texts []folder.Text) []api.HostBlock {
	placed, _ := folder.Blocks(texts)
	out := []api.HostBlock{}
	for _, b := range list {
		v := api.HostBlock{Kind: b.Kind, Name: b.Name, From: b.From, Differs: b.Differs, Aside: b.Aside}
		if i := slices.IndexFunc(placed, func(p lang.Placed) bool {
			return p.Kind == b.Kind &&
				p.Name == b.Name
		}); i >= 0 &&
			!b.Aside {
			v.Text = placed[i].Text
		}
		out = append(out, v)
	}
	return out
}

// askHosts is a query.Remote.
func (s *Service) askHosts(ctx context.Context, groups []string, q []byte,
	got func(name string, answer []byte, err error)) []string {
	sn := s.window.Now()
	if sn.Hosts == nil {
		return nil
	}
	var names []string
	for i := range sn.Hosts.List {
		h := &sn.Hosts.List[i]
		if h.State.Runs.Number > 0 && slices.ContainsFunc(h.Groups, func(g string) bool {
			return slices.Contains(groups, g)
		}) {
			names = append(names, h.Name)
		}
	}
	c, err := s.speaking(ctx)
	if err != nil {
		for _, n := range names {
			got(n, nil, err)
		}
		return names
	}
	c.Ask(ctx, names, q, got)
	return names
}

// AskOthers asks the hosts of groups, for who answers a question beside the service.
func (s *Service) AskOthers(ctx context.Context, q api.OthersQuery) (*api.OthersAnswers, error) {
	out := &api.OthersAnswers{Answers: []api.OthersAnswer{}}
	var mu sync.Mutex
	ctx, end := context.WithTimeout(ctx, 10*time.Second)
	defer end()
	out.Names = s.askHosts(ctx, q.Groups, q.Question, func(name string, answer []byte, err error) {
		a := api.OthersAnswer{Name: name, Answer: answer}
		if err != nil {
			a.Problem = err.Error()
		}
		mu.Lock()
		defer mu.Unlock()
		out.Answers = append(out.Answers, a)
	})
	return out, nil
}
