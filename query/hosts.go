package query

import (
	"context"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/hosts"
	"dimlantern/snapshot"
	"dimlantern/store"

	"github.com/dustin/go-humanize/english"
)

// HostMark stands before the name of a host where one stands for an origin: as long as it is silent, that is blind.
const HostMark = "\x01"

// Hosts is who reports, at an instant.
func (s *Asker) Hosts(_ context.Context, q api.ViewQuery) (*api.HostsView, error) {
	q.Columns = min(max(q.Columns, 1), MaxColumns)
	q.Column = max(q.Column.Truncate(store.Bucket), store.Bucket)
	now := entry.Of(time.Now())
	sn := s.Window.Now()
	v := &api.HostsView{At: q.At, Live: q.At == 0, Column: q.Column, Centre: sn.Hosts != nil, Name: sn.Host,
		Link: LinkOf(sn)}
	if v.Live {
		v.At = now
	}
	v.Until = entry.Later(q.Until, v.At)
	v.From = (v.Until/entry.Instant(q.Column) - entry.Instant(q.Columns) + 1) * entry.Instant(q.Column)
	v.Groups = groupsOf(sn)
	if h := sn.Hosts; h != nil {
		v.Address, v.Newest, v.Pending, v.Halted = h.Address, h.Newest, h.Pending, h.Halted
		for i := range h.List {
			v.Hosts = append(v.Hosts, hostView(&h.List[i], sn.At))
		}
	} else {
		v.Hosts = []api.HostView{itself(sn)}
	}
	x := &hostsLooking{s: s, sn: sn, v: v, of: map[string]*api.HostView{}}
	for i := range v.Hosts {
		h := &v.Hosts[i]
		h.Flow = make([]int64, q.Columns)
		x.of[h.Name] = h
	}
	if err := x.alerts(); err != nil {
		return nil, err
	}
	return v, x.flows()
}

// hostsLooking is a HostsView being made.
type hostsLooking struct {
	s  *Asker
	sn *snapshot.Snapshot
	v  *api.HostsView
	of map[string]*api.HostView
}

// reporter is the host of a key's alert, of a centre; of a machine alone it is the machine.
func (x *hostsLooking) reporter(rule string, key []string) *api.HostView {
	if !x.v.Centre {
		return x.of[x.v.Name]
	}
	r := x.sn.Settings.Rule(rule)
	if n := len(key) - 1; n >= 0 && (r == nil || len(r.Per) == n) {
		return x.of[key[n]]
	}
	return nil
}

// alerts says which are open at each host.
func (x *hostsLooking) alerts() error {
	alerts, err := x.s.Store.Alerts(x.v.From, x.v.At)
	if err != nil {
		return err
	}
	for _, a := range alerts {
		h := x.reporter(a.Rule, a.Key)
		switch {
		case h == nil:
		case a.Cleared == entry.None || a.Cleared > x.v.At:
			h.Open++
			h.Worst = max(h.Worst, entry.Severity(a.Severity))
		default:
			h.Over = true
		}
	}
	return nil
}

// hostOfOrigin is the host that an origin is of.
func hostOfOrigin(origin string) string {
	host, _, _ := strings.Cut(origin, ":")
	return host
}

// flows says what each host has logged when, and when it was silent.
func (x *hostsLooking) flows() error {
	v := x.v
	flows, err := x.s.Store.Flows(store.BucketOf(v.From), store.BucketOf(v.Until))
	if err != nil {
		return err
	}
	last := store.BucketOf(v.At)
	for origin, list := range flows {
		h := x.of[hostOfOrigin(origin)]
		if h == nil && !v.Centre {
			h = x.of[v.Name]
		}
		if h == nil {
			continue
		}
		minute := int64(0)
		for _, t := range list {
			at := entry.Instant(t.Bucket * int64(store.Bucket))
			if c := int((at - v.From) / entry.Instant(v.Column)); c >= 0 && c < len(h.Flow) && at <= v.At {
				h.Flow[c] += t.N
			}
			if t.Bucket < last && t.Bucket >= last-6 {
				minute += t.N
			}
		}
		if !v.Live || !v.Centre {
			h.Minute += minute
		}
	}
	darks, err := x.s.Store.Darks(v.From, v.At)
	if err != nil {
		return err
	}
	for _, d := range darks {
		name, is := strings.CutPrefix(d.Origin, HostMark)
		if h := x.of[name]; is && h != nil {
			h.Dark = append(h.Dark, api.Span{From: d.Since, To: d.Until, Why: d.Words})
			if !v.Live { // as it was then
				if silent := d.Until == entry.None || d.Until > v.At; silent {
					h.Silent, h.Reports, h.Since = true, false, d.Since
				}
			}
		}
	}
	if !v.Live {
		for _, h := range x.of {
			asThen(h, v.At)
			if h.Silent && !slices.ContainsFunc(h.Dark, func(d api.Span) bool {
				return d.To == entry.None ||
					d.To > v.At
			}) {
				h.Silent, h.Reports = false, true
			}
		}
	}
	return nil
}

// groupsOf are the groups of the settings.
func groupsOf(sn *snapshot.Snapshot) []api.HostGroup {
	out := []api.HostGroup{}
	for _, g := range sn.Settings.Groups {
		if g.Off {
			continue
		}
		x := api.HostGroup{Name: g.Name, Note: g.Note, File: g.Pos.File, Line: g.Pos.Line, Kits: []string{},
			Hosts: []string{}}
		for _, u := range g.Uses {
			x.Kits = append(x.Kits, u.Kit)
		}
		if sn.Hosts != nil {
			for i := range sn.Hosts.List {
				if h := &sn.Hosts.List[i]; slices.Contains(h.Groups, g.Name) {
					x.Hosts = append(x.Hosts, h.Name)
				}
			}
		}
		x.Words = english.Plural(len(x.Hosts), "host", "hosts")
		switch {
		case g.Where != nil:
			x.Words += " where " + g.Where.String()
		default:
			x.Words += " by name " + strings.Join(g.Hosts, ", ")
		}
		if len(g.Except) > 0 {
			x.Words += " except " + strings.Join(g.Except, ", ")
		}
		if len(x.Kits) > 0 {
			x.Words += "; " + english.PluralWord(len(x.Kits), "kit", "kits") + " " + strings.Join(x.Kits, ", ")
		}
		out = append(out, x)
	}
	return out
}

// hostView is a host as it is now.
func hostView(h *hosts.Status, now time.Time) api.HostView {
	s := &h.State
	v := api.HostView{Name: h.Name, Groups: h.Groups, Silent: h.Silent, Bye: s.Bye, Since: entry.Of(h.Since),
		Joined: h.Joined, Clock: h.Clock, Waits: s.Waiting, Head: h.Head, Runs: s.Runs.Number, RunsFrom: s.Runs.Since,
		Cloned: h.Cloned, Beyond: s.Beyond, Acts: len(h.Acts), OS: s.OS, Version: s.Version, Minute: s.Minute,
		Reports: !h.Silent && !s.Bye && !h.Heard.IsZero()}
	if v.Groups == nil {
		v.Groups = []string{}
	}
	if c := s.Cut; c != nil {
		v.Cut, v.CutAt = c.For, c.From
	}
	if r := s.Runs.Refuses; r != nil {
		v.Refuses = &api.RefusalView{Number: r.Number, At: r.At, Where: r.Where, Why: r.Why, Mend: r.Mend}
	}
	for _, o := range s.Origins {
		v.Origins = append(v.Origins, api.HostOrigin(o))
		v.Behind = max(v.Behind, o.Behind)
	}
	for _, b := range s.Blocks {
		v.Blocks = append(v.Blocks, api.HostBlock{Kind: b.Kind, Name: b.Name, From: b.From, Differs: b.Differs,
			Aside: b.Aside})
	}
	return v
}

// itself is this machine, as one that is alone.
func itself(sn *snapshot.Snapshot) api.HostView {
	v := api.HostView{Name: sn.Host, Groups: []string{}, Reports: true, Since: sn.Began}
	for _, o := range sn.Origins {
		if o.Source.Name == lang.Itself {
			continue
		}
		x := api.HostOrigin{Name: o.Name, Source: o.Source.Name, State: string(o.Condition), Words: o.Words,
			Behind: o.State(sn.At).Lag}
		for _, r := range sn.Settings.Rules {
			if !r.Off && r.LooksAt(o.Source.Name) {
				x.Rules++
			}
		}
		v.Origins = append(v.Origins, x)
		v.Behind = max(v.Behind, x.Behind)
	}
	return v
}

// LinkOf is how this machine stands to its centre; nil where it has joined none.
func LinkOf(sn *snapshot.Snapshot) *api.LinkView {
	l := sn.Link
	if l == nil {
		return nil
	}
	return &api.LinkView{Name: l.Name, Centre: l.Centre, Up: l.Up, Since: entry.Of(l.Since), Clock: l.Clock,
		Waits:  l.Waits,
		Number: l.Number, Refuses: l.Why, Beyond: sn.Settings.Beyond}
}

// asThen takes out of what is known of a host now what was not so at an instant.
func asThen(v *api.HostView, at entry.Instant) {
	if v.Joined > at {
		v.Reports, v.Later = false, true
	}
	if v.Refuses != nil && v.Refuses.At > at {
		v.Refuses = nil
	}
	if v.RunsFrom > at {
		v.Runs, v.Head, v.Blocks = 0, 0, nil
	}
	if v.CutAt > at {
		v.Cut = 0
	}
}
