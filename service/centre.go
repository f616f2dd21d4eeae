package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/hosts"
	"dimlantern/intake/spool"
	"dimlantern/query"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// centre is what a service is that others have joined.
type centre struct {
	s    *Service
	c    *hosts.Centre
	over string // what settings say of where hosts reach it

	// What belongs to the loop.
	books   hosts.Books
	feeding feeding
	told    map[string]bool // alerts of which a host has told by itself
	// places are those of the rules in the engine that are judged here for hosts, by name.
	places   map[string]int
	placesOf *lang.Settings
	silent   map[string]bool            // hosts of which it was noticed that they are silent, by name
	missed   map[string]bool            // those of them of which that was told
	cut      bool                       // that the brokers cannot be reached was told
	unheard  map[string]map[string]bool // of a silent host, the rules for which that was raised
	refuses  map[string]int64
	now      *snapshot.Hosts
	looked   time.Time

	mu    sync.Mutex // for what follows
	pages map[string]hosts.Page

	keeping  sync.Mutex              // for what follows
	lastKept map[spool.Origin]string // the identifier of the newest entry of a host that is kept here
}

// hostsFolder is the folder of a centre in its data, hostsPrefix stands before what is kept of hosts.
const (
	hostsFolder = "hosts"
	hostsPrefix = "hosts/"
)

// useCentre begins to wait for hosts where settings say so, or no longer does.
func (s *Service) useCentre(settings *lang.Settings) {
	h := &settings.Hosts
	over := strings.Join(append([]string{h.Listen, h.Creds}, h.Through...), " ")
	if s.centre != nil && s.centre.over == over {
		return
	}
	s.closeCentre()
	delete(s.trouble, "hosts")
	delete(s.trouble, "brokers")
	if !h.IsCentre() {
		return
	}
	values, err := s.store.MetaAll(hostsPrefix)
	if err != nil {
		s.trouble["hosts"] = "what is kept of hosts cannot be read: " + err.Error()
		return
	}
	n := &centre{s: s, over: over, silent: map[string]bool{}, missed: map[string]bool{}, pages: map[string]hosts.Page{},
		refuses: map[string]int64{}}
	n.told, n.unheard = map[string]bool{}, map[string]map[string]bool{}
	for _, name := range s.engine.Unheard() {
		n.unheard[name] = map[string]bool{}
	}
	for _, k := range s.engine.Keys() { // what was told before the start has an end as well
		switch {
		case k.Alert == "":
		case k.Rule == snapshot.BrokersUnreachable:
			n.cut = true
		case k.Rule == snapshot.HostSilent && len(k.Key) == 1:
			n.silent[k.Key[0]], n.missed[k.Key[0]] = true, true
		}
	}
	s.decider.ToldThere = func(t *engine.Transition) bool { return t.Reporter != "" && n.told[t.Alert] }
	for name, b := range values {
		if alert, ok := strings.CutPrefix(name, "told/"); ok {
			n.told[alert] = true
		}
		if id, ok := strings.CutPrefix(name, "taken/"); ok {
			p, err := hosts.ReadPage(b)
			if err != nil {
				s.trouble["hosts"] = fmt.Sprintf("how far the rows of a host were taken cannot be read (%v)", err)
				return
			}
			if n.books.Pages == nil {
				n.books.Pages = map[string]*hosts.Page{}
			}
			n.books.Pages[id] = p
			n.pages[id] = *p
		}
	}
	s.centre = n
	n.c, err = hosts.OpenCentre(hosts.Options{Listen: h.Listen, Through: h.Through, Creds: h.Creds,
		Dir: filepath.Join(s.o.Data, hostsFolder), Office: n, Values: values, Books: n.page, Settle: n.settle,
		Log: s.o.Log, Changed: n.changed})
	if err != nil {
		s.centre = nil
		s.trouble["hosts"] = err.Error()
		s.o.Log.Error("hosts cannot join", "reason", err)
		return
	}
	if err := n.openFeeding(); err != nil {
		s.trouble["hosts"] = "what hosts have handed on cannot be read: " + err.Error()
	}
	s.o.Log.Info("waits for hosts", "at", n.c.Address())
}

// closeCentre lets go of the hosts.
func (s *Service) closeCentre() {
	n := s.centre
	if n == nil {
		return
	}
	s.centre = nil
	done := make(chan struct{})
	go func() {
		n.c.Close()
		close(done)
	}()
	for { // who waits for the loop is let in meanwhile
		select {
		case <-done:
			return
		case f := <-s.commands:
			f()
		}
	}
}

func (n *centre) changed() {
	select {
	case n.s.hostNews <- struct{}{}:
	default:
	}
}

func (n *centre) settle() hosts.Settings {
	sn := n.s.window.Now()
	return hosts.Settings{Lang: sn.Settings, Texts: sn.Texts, Folder: sn.House.Settings, Secret: sn.Secret}
}

// page says how far the rows of a host are committed.
func (n *centre) page(id string) (done int64, sum string, again int64) {
	n.mu.Lock()
	defer n.mu.Unlock()
	p := n.pages[id]
	return p.Seq, p.Sum, p.Again
}

// Told is part of hosts.Office.
func (n *centre) Told(words string) { n.s.remark(words) }

// Keep is part of hosts.Office.
func (n *centre) Keep(ctx context.Context, values map[string][]byte) error {
	return n.s.do(ctx, func() error {
		n.keep(values)
		return n.s.commitAt(entry.Of(time.Now()))
	})
}

func (n *centre) keep(values map[string][]byte) {
	for name, b := range values {
		n.s.batch.SetMeta(hostsPrefix+name, b)
	}
}

// Take is part of hosts.Office.
func (n *centre) Take(ctx context.Context, rows []hosts.Sent) (out []hosts.Taken, err error) {
	s := n.s
	facts := make([]hosts.Facts, len(rows))
	for i := range rows { // beside the loop
		if json.Unmarshal(rows[i].Row.Facts, &facts[i]) != nil {
			rows[i].Row.Sum = "" // which drops it
		}
	}
	err = s.do(ctx, func() error {
		if s.centre != n {
			return context.Canceled
		}
		if !s.failed.IsZero() { // what was taken before has to be kept first
			if err := s.commit(); err != nil {
				return err
			}
			s.failed = time.Time{}
		}
		out = make([]hosts.Taken, len(rows))
		touched := map[string]bool{}
		for i := range rows {
			r := &rows[i]
			name := n.c.Name(r.ID)
			if name == "" {
				out[i] = hosts.Dropped
				continue
			}
			what, take, words := n.books.Judge(r.ID, &r.Row, facts[i].Whole)
			out[i], touched[r.ID] = what, true
			if words != "" {
				s.notice("the host " + name + " " + words)
			}
			if take {
				facts[i].Told = append(facts[i].Told, r.Row.Told...)
				n.takeFacts(r.ID, name, r.Row.Seq, &facts[i])
			}
		}
		for id := range touched {
			s.batch.SetMeta(hostsPrefix+"taken/"+id, n.books.Page(id).Encode())
		}
		s.flow++
		if err := s.commitAt(entry.Of(time.Now())); err != nil {
			return err
		}
		n.mu.Lock()
		for id := range touched {
			n.pages[id] = *n.books.Page(id)
		}
		n.mu.Unlock()
		return nil
	})
	return out, err
}

// takeFacts does what a row says.
func (n *centre) takeFacts(id, name string, seq int64, f *hosts.Facts) {
	s := n.s
	if f.Whole {
		n.onlyThese(name, f)
	}
	for _, a := range f.Told {
		n.told[a] = true
		s.batch.SetMeta(hostsPrefix+"told/"+a, []byte{1})
	}
	for _, line := range f.Transitions {
		var t engine.Transition
		if t.UnmarshalJSON(line) != nil || t.Rule == "" || t.Alert == "" {
			continue
		}
		t.Reporter = name
		if t.Entry != nil {
			t.Entry.Origin = hosts.OriginAt(name, t.Entry.Origin)
		}
		s.apply(engine.Relayed{Transition: t})
		if t.Change == engine.Cleared && n.told[t.Alert] {
			delete(n.told, t.Alert)
			s.batch.SetMeta(hostsPrefix+"told/"+t.Alert, nil)
		}
	}
	for i := range f.Hits {
		h := &f.Hits[i]
		s.batch.Hits = append(s.batch.Hits, store.Hit{Rule: h.Rule, Key: append(h.Key, name), At: h.At,
			Recovery: h.Recovery,
			Origin:   hosts.OriginAt(name, h.Origin), Offset: h.Offset, Text: h.Text})
	}
	for i := range f.Counts {
		c := &f.Counts[i]
		s.batch.Counts = append(s.batch.Counts, store.Count{Rule: c.Rule, Key: append(c.Key, name), Bucket: c.Bucket,
			N: c.N})
	}
	for _, t := range f.Ticks {
		k := tickKey{hosts.OriginAt(name, t.Origin), t.Bucket}
		x := s.ticks[k]
		s.ticks[k] = said{x.entries + t.N, x.bytes + t.Bytes}
	}
	for _, b := range f.Blind {
		s.batch.Blind = append(s.batch.Blind, store.Blind{Origin: hosts.OriginAt(name, b.Origin), At: b.At,
			Seen:  b.Seen,
			Words: b.Words})
	}
	for alert, lines := range f.Around {
		if s.batch.Around == nil {
			s.batch.Around = map[string][]byte{}
		}
		s.batch.Around[alert] = lines
	}
	if len(f.Acted) > 0 {
		n.keep(n.c.Acted(id, f.Acted))
	}
	n.feed(id, name, seq, f)
}

// onlyThese ends the alerts of a host that a row with all that is open does not have.
func (n *centre) onlyThese(name string, f *hosts.Facts) {
	s := n.s
	open := map[string]bool{}
	var newest entry.Instant = entry.None
	for _, line := range f.Transitions {
		var t engine.Transition
		if t.UnmarshalJSON(line) == nil {
			open[t.Alert] = t.Change != engine.Cleared
			newest = entry.Later(newest, t.At)
		}
	}
	for _, k := range s.engine.Keys() {
		if k.Alert == "" || !reportedBy(&k, name) || open[k.Alert] {
			continue
		}
		fields := k.Fields[:len(k.Fields)-1]
		s.apply(engine.Relayed{Transition: engine.Transition{At: f.Made, Change: engine.Cleared, Rule: k.Rule,
			Fields: fields, Key: k.Key[:len(fields)], Severity: k.Severity, Alert: k.Alert, Count: k.Count,
			First: entry.None, Last: entry.None, Why: "not open any more", Say: k.Rule, Reporter: name}})
	}
}

// reportedBy tells whether a key's alert is one of a host.
func reportedBy(k *engine.KeyView, host string) bool {
	n := len(k.Key) - 1
	return n >= 0 && len(k.Fields) == n+1 && k.Fields[n] == engine.ReporterField && k.Key[n] == host
}

// reporterOf is the host whose alert a key has; "" where it is this machine's.
func reporterOf(k *engine.KeyView) string {
	if n := len(k.Key) - 1; n >= 0 && len(k.Fields) == n+1 && k.Fields[n] == engine.ReporterField {
		return k.Key[n]
	}
	return ""
}

// lookHosts notices which hosts have fallen silent, and which are heard again; and whether a centre was joined.
func (s *Service) lookHosts(now time.Time) {
	if now.Sub(s.times.hosts) < time.Second {
		return
	}
	s.times.hosts = now
	s.lookJoined()
	s.lookCutOff(now)
	n := s.centre
	if n == nil || n.now == nil {
		return
	}
	at := entry.Of(now)
	steady := n.lookBrokers(now)
	for i := range n.now.List {
		h := &n.now.List[i]
		known := h.Silent || !h.Heard.IsZero() // of one that was silent before the start, only when it speaks
		if h.Silent != n.silent[h.Name] && known {
			n.silent[h.Name] = h.Silent
			n.blindHost(h, at)
		}
		if h.Silent != n.missed[h.Name] && known && (steady || !h.Silent) {
			n.missed[h.Name] = h.Silent
			n.tellSilent(h, at)
		}
		n.raiseUnheard(h, at)
		number := int64(0)
		if h.State.Runs.Refuses != nil {
			number = h.State.Runs.Refuses.Number
		}
		if number != n.refuses[h.Name] {
			if n.refuses[h.Name] = number; number != 0 {
				s.notice(fmt.Sprintf("the host %s refuses revision %d: %s", h.Name, number,
					h.State.Runs.Refuses.Error()))
			}
		}
	}
}

// raiseUnheard raises what rules of a host make of keys that cannot be seen, while nothing is heard of it.
func (n *centre) raiseUnheard(h *hosts.Status, at entry.Instant) {
	raised := n.unheard[h.Name]
	if !h.Silent {
		if raised != nil && !h.Heard.IsZero() {
			delete(n.unheard, h.Name)
			n.s.apply(engine.HostHeard{Reporter: h.Name, At: at})
		}
		return
	}
	for i := range h.State.Blindings {
		b := &h.State.Blindings[i]
		if raised[b.Rule] || at < entry.Of(h.Since).Add(b.After) {
			continue
		}
		if raised == nil {
			raised = map[string]bool{}
			n.unheard[h.Name] = raised
		}
		raised[b.Rule] = true
		why := "blind"
		if b.After > 0 {
			why = "blind for " + entry.Span(b.After)
		}
		n.s.apply(engine.HostUnheard{Reporter: h.Name, At: at, Rule: b.Rule, Fields: b.Fields, Keys: b.Keys,
			Severity: b.Severity, Why: why + ": the host is silent"})
	}
}

// lookBrokers notices that the brokers of a cluster cannot be reached, or can be again. It answers whether they could
// be for so long that a host of which nothing is heard is silent by itself.
func (n *centre) lookBrokers(now time.Time) bool {
	since, why := n.c.Reached()
	long := !since.IsZero() && now.Sub(since) >= hosts.Silence
	s := n.s
	if why == nil {
		if s.trouble["brokers"] != "" {
			delete(s.trouble, "brokers")
			s.seq++
		}
		if n.cut {
			n.cut = false
			s.writeItself(now, map[string]any{"event": "brokers-reached", "text": "the brokers can be used again"})
		}
		return long || since.IsZero()
	}
	words := fmt.Sprintf("the brokers of the cluster cannot be used since %s: %s", since.Format("15:04:05"), why)
	if s.trouble["brokers"] != words {
		s.trouble["brokers"] = words
		s.seq++
	}
	if long && !n.cut {
		n.cut = true
		s.writeItself(now, map[string]any{"event": "brokers-unreachable", "since": entry.Of(since).String(),
			"reason": why.Error(), "text": words})
	}
	return false
}

// blindHost writes down that nothing can be seen of a host's logs, or can be again.
func (n *centre) blindHost(h *hosts.Status, at entry.Instant) {
	s := n.s
	since := entry.Of(h.Since)
	if !h.Silent {
		since = at
	}
	s.batch.Blind = append(s.batch.Blind, store.Blind{Origin: query.HostMark + h.Name, At: since, Seen: !h.Silent,
		Words: "silent"})
	if n.joins() {
		for _, o := range h.State.Origins {
			if name := hosts.OriginAt(h.Name, o.Name); h.Silent {
				s.apply(engine.Blind{Origin: name, At: at})
			} else if s.engine.IsBlind(name) {
				s.apply(engine.Seen{Origin: name, At: at})
			}
		}
	}
	s.seq++
}

// tellSilent writes down that a host is silent, or is no more.
func (n *centre) tellSilent(h *hosts.Status, at entry.Instant) {
	since := entry.Of(h.Since)
	fields := map[string]any{"event": "host-heard", "name": h.Name,
		"text": fmt.Sprintf("the host %s is heard again", h.Name)}
	if h.Silent {
		fields = map[string]any{"event": "host-silent", "name": h.Name, "since": since.String(),
			"text": fmt.Sprintf("the host %s has said nothing since %s, and no goodbye", h.Name, since)}
	}
	n.s.writeItself(at.Time(), fields)
	n.s.seq++
}

// hostsNow is what is known of hosts; it may be a second old where nothing has changed.
func (s *Service) hostsNow(now time.Time) *snapshot.Hosts {
	n := s.centre
	if n == nil {
		return nil
	}
	if n.now != nil && now.Sub(n.looked) < time.Second {
		return n.now
	}
	n.looked = now
	v := &snapshot.Hosts{Address: n.c.Address(), List: n.c.Statuses()}
	v.Newest, v.Halted, v.Pending = n.c.Standing()
	n.now = v
	return v
}

// ofHost is the host whose alert that is, and the alert's key; "" where it is this machine's.
func (s *Service) ofHost(alert string) (string, engine.KeyView) {
	k, ok := s.engine.Find(alert)
	if !ok {
		return "", k
	}
	return reporterOf(&k), k
}

// passOn lets a host do what somebody did to one of its alerts.
func (s *Service) passOn(host string, a hosts.Act) error {
	if s.centre == nil {
		return fmt.Errorf("the alert is one of the host %s, and this machine is no centre any more", host)
	}
	keep, err := s.centre.c.Do(host, a)
	if err == nil {
		s.centre.keep(keep)
	}
	return err
}

// Forget ends a host's rights, and its alerts.
func (s *Service) Forget(ctx context.Context, name string) error {
	return s.withCentre(ctx, func(n *centre) error {
		id, err := n.c.ID(name)
		if err != nil {
			return err
		}
		keep, err := n.c.Forget(name)
		if err != nil {
			return err
		}
		n.keep(keep)
		delete(n.books.Pages, id)
		at := entry.Of(time.Now())
		if n.silent[name] {
			delete(n.silent, name)
			n.blindHost(&hosts.Status{Host: hosts.Host{Name: name}}, at)
		}
		if n.missed[name] {
			delete(n.missed, name)
			n.tellSilent(&hosts.Status{Host: hosts.Host{Name: name}}, at)
		}
		delete(n.unheard, name)
		s.apply(engine.HostGone{Reporter: name, At: at})
		return nil
	})
}

// Rename calls a host otherwise; its alerts and what was go on under the new name.
func (s *Service) Rename(ctx context.Context, name, to string) error {
	return s.withCentre(ctx, func(n *centre) error {
		id, err := n.c.ID(name)
		if err != nil {
			return err
		}
		keep, err := n.c.Rename(name, to)
		if err != nil {
			return err
		}
		n.keep(keep)
		s.apply(engine.HostRenamed{From: name, To: to})
		n.silent[to], n.refuses[to] = n.silent[name], n.refuses[name]
		n.missed[to] = n.missed[name]
		delete(n.silent, name)
		delete(n.missed, name)
		if raised := n.unheard[name]; raised != nil {
			n.unheard[to] = raised
			delete(n.unheard, name)
		}
		if err := s.ways.kept.Rename(query.KeptFrom+id+" ", to); err != nil {
			s.notice(fmt.Sprintf("what is kept here of %s keeps its old name: %v", to, err))
		}
		n.keeping.Lock()
		n.lastKept = nil
		n.keeping.Unlock()
		s.batch.Renamed = append(s.batch.Renamed, [2]string{name, to})
		return nil
	})
}

// withCentre does something to the hosts of this centre between two rounds, and commits it.
func (s *Service) withCentre(ctx context.Context, f func(*centre) error) error {
	return s.do(ctx, func() error {
		if s.centre == nil {
			return errNoCentre
		}
		if err := f(s.centre); err != nil {
			return err
		}
		s.centre.looked = time.Time{}
		s.seq++
		return s.commitAt(entry.Of(time.Now()))
	})
}

var errNoCentre = errors.New("this machine is no centre: settings { centre listen \":7422\" } makes it one")
