package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/store"
	"dimlantern/tell"
)

// Bounds of telling. A message that has not gone out within toldWithin makes its contact
// one that cannot be reached; after giveUpAfter it is given up.
const (
	tellEvery   = 300 * time.Millisecond
	mostPause   = 5 * time.Minute
	giveUpAfter = 24 * time.Hour
	tellAtOnce  = 20_000 // tellings that are looked at together
	evidenceOf  = 12     // lines of evidence in a message
	keptOutbox  = 30 * 24 * time.Hour
)

// Tests make these shorter.
var (
	firstPause = 2 * time.Second
	toldWithin = 5 * time.Minute
)

// pauseAfter is how long to wait before a message is tried once more.
func pauseAfter(tries int) time.Duration {
	d := firstPause
	for range tries - 1 {
		if d *= 2; d > mostPause {
			return mostPause
		}
	}
	return d
}

// outbox sends what was decided. Each way of each contact has a worker of its own, so that
// a slow receiver delays only itself.
type outbox struct {
	s      *Service
	mu     sync.Mutex
	busy   map[string]bool // contacts that messages are made for, and ways that are being told
	missed map[string]bool // ways of which it was noticed that they cannot be told
	held   map[string]bool // contacts whose limit was reached
	all    sync.WaitGroup
	words  *tell.Words
	wrong  string // with the templates
	of     string // which templates and zone words was made of
}

// Telling sends until the context ends.
func (s *Service) runOutbox(ctx context.Context) {
	o := &outbox{s: s, busy: map[string]bool{}, missed: map[string]bool{}, held: map[string]bool{}}
	defer o.all.Wait()
	timer := time.NewTimer(0)
	defer timer.Stop()
	trimmed := time.Now()
	for {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		case <-s.telling.wake:
		}
		timer.Reset(tellEvery)
		names, err := s.store.WaitingContacts()
		if err != nil {
			if ctx.Err() == nil {
				s.o.Log.Warn("what is to be told cannot be read", "reason", err)
			}
			continue
		}
		for _, n := range names {
			o.start(ctx, n, func() { o.serve(ctx, n) })
		}
		if out, err := s.store.Outgoings(); err == nil {
			s.mu.Lock()
			s.telling.out = out
			s.mu.Unlock()
		}
		if time.Since(trimmed) > time.Hour {
			trimmed = time.Now()
			if err := s.store.TrimOutbox(entry.Of(time.Now().Add(-keptOutbox))); err != nil {
				s.o.Log.Warn("old messages could not be let go of", "reason", err)
			}
		}
	}
}

// start does something in a goroutine of its own, unless that is being done already.
func (o *outbox) start(ctx context.Context, what string, do func()) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.busy[what] || ctx.Err() != nil {
		return
	}
	o.busy[what] = true
	o.all.Add(1)
	go func() {
		defer o.all.Done()
		do()
		o.mu.Lock()
		delete(o.busy, what)
		o.mu.Unlock()
	}()
}

// serve puts what a contact is to be told into messages, and has them sent.
func (o *outbox) serve(ctx context.Context, name string) {
	o.s.mu.Lock()
	c, mail := o.s.settings.Contact(name), o.s.settings.Mail
	o.s.mu.Unlock()
	if err := o.form(ctx, name, c); err != nil && ctx.Err() == nil {
		o.s.o.Log.Warn("messages cannot be made", "contact", name, "reason", err)
	}
	waiting, err := o.s.store.Unsent(name)
	if err != nil || len(waiting) == 0 {
		return
	}
	ways := waysOf(c, mail, o.s.o.Roots)
	for i := range max(len(ways), maxWay(waiting)+1) {
		var mine []store.Message
		for _, m := range waiting {
			if m.Way == i {
				mine = append(mine, m)
			}
		}
		if len(mine) == 0 {
			continue
		}
		var way tell.Way
		if i < len(ways) {
			way = ways[i]
		}
		o.start(ctx, fmt.Sprintf("%s\x00%d", name, i), func() { o.send(ctx, name, way, mine) })
	}
}

func maxWay(list []store.Message) int {
	n := -1
	for _, m := range list {
		n = max(n, m.Way)
	}
	return n
}

// waysOf are the ways of a contact, in their order.
func waysOf(c *lang.Contact, mail *lang.Mail, roots *Roots) []tell.Way {
	var out []tell.Way
	if c == nil {
		return nil
	}
	if len(c.Mail) > 0 {
		server := lang.Mail{}
		if mail != nil {
			server = *mail
		}
		out = append(out, tell.Mail(server, c.Mail, roots))
	}
	for _, w := range c.Webhook {
		out = append(out, tell.Webhook(w, roots))
	}
	for _, l := range c.Syslog {
		out = append(out, tell.Syslog(l, roots))
	}
	for _, words := range c.Command {
		out = append(out, tell.Command(words))
	}
	return out
}

// form puts what is due into messages.
func (o *outbox) form(ctx context.Context, name string, c *lang.Contact) error {
	waits, err := o.s.store.Waits(name, tellAtOnce)
	if err != nil || len(waits) == 0 {
		return err
	}
	if c == nil || c.Off {
		var all []int64
		for _, t := range waits {
			all = append(all, t.Seq)
		}
		return o.s.store.Drop(all, "there is no such contact any more")
	}
	now := entry.Of(time.Now())
	var ready []store.Telling
	drops := map[string][]int64{}
	for _, t := range waits {
		if t.Due > now {
			continue
		}
		if why := o.dropped(&t); why != "" {
			drops[why] = append(drops[why], t.Seq)
			continue
		}
		ready = append(ready, t)
	}
	for why, seqs := range drops {
		if err := o.s.store.Drop(seqs, why); err != nil {
			return err
		}
	}
	if len(ready) == 0 || c.Gather > 0 && ready[0].Due.Add(c.Gather) > now {
		return nil
	}
	for len(ready) > 0 && ctx.Err() == nil {
		left := -1
		if c.Most > 0 {
			n, _, err := o.s.store.GroupsSince(name, now.Add(-c.MostIn), c.Most)
			if err != nil {
				return err
			}
			if left = c.Most - n; left <= 0 {
				o.held[name] = true
				return nil
			}
		}
		group, kind := o.next(ready, c, o.held[name])
		if kind == tell.KindSummary {
			o.held[name] = false
		}
		if err := o.make(ctx, name, c, kind, group); err != nil {
			return err
		}
		ready = slices.DeleteFunc(ready, func(t store.Telling) bool {
			return slices.ContainsFunc(group, func(g store.Telling) bool { return g.Seq == t.Seq })
		})
	}
	return nil
}

// next is what the next message is about, and its kind. After a limit was reached it is one
// summary of all that was held back.
func (o *outbox) next(ready []store.Telling, c *lang.Contact, held bool) ([]store.Telling, string) {
	first := ready[0]
	switch first.Change {
	case "caught up":
		var all []store.Telling
		for _, t := range ready {
			if t.Change == "caught up" {
				all = append(all, t)
			}
		}
		return all, tell.KindCaught
	case "blind":
		return ready[:1], tell.KindBlind
	}
	if !held && c.Gather == 0 {
		return ready[:1], tell.KindAlert
	}
	var all []store.Telling
	for _, t := range ready {
		if t.Change != "caught up" && t.Change != "blind" {
			all = append(all, t)
		}
	}
	switch {
	case held && len(all) > 1:
		return all, tell.KindSummary
	case len(all) > 1:
		return all, tell.KindSeveral
	}
	return all, tell.KindAlert
}

// dropped is why something is not told after all, now that it is due; "" where it is.
func (o *outbox) dropped(t *store.Telling) string {
	if t.Only == "" {
		return ""
	}
	if t.Only == store.OnlyTold {
		if o.s.store.FirstGroup(t.Contact, t.Alert) == "" {
			return "it was never told that it is open"
		}
		return ""
	}
	o.s.mu.Lock()
	defer o.s.mu.Unlock()
	var l kept
	json.Unmarshal([]byte(t.Line), &l)
	k, open := o.s.openAlert(t.Alert, l.Rule, o.s.keyOf(&l))
	_, quiet := o.s.telling.quiet[t.Alert]
	switch {
	case !open:
		return "it is over"
	case t.Only == store.OnlyUntaken && o.s.telling.taken[t.Alert] != "":
		return "it was taken by " + o.s.telling.taken[t.Alert]
	case quiet || o.s.stillQuiet(&k, "", time.Now()):
		return "it was kept quiet"
	}
	return ""
}

// send tells one way of a contact what waits for it. One that fails is tried again after a
// pause, and what is behind it waits: it would fail as well.
func (o *outbox) send(ctx context.Context, name string, way tell.Way, list []store.Message) {
	for i := range list {
		m := &list[i]
		now := entry.Of(time.Now())
		if m.Next > now {
			if m.Tries > 0 { // the way failed a moment ago
				return
			}
			continue
		}
		var body tell.Message
		var answer string
		err := json.Unmarshal(m.Body, &body)
		switch {
		case err != nil:
			m.State, m.Words = store.GivenUp, "it cannot be read any more: "+err.Error()
		case way == nil:
			m.State, m.Words = store.GivenUp, "the contact has no such way any more"
		default:
			answer, err = way.Tell(ctx, &body)
		}
		if ctx.Err() != nil { // it is told after the next start, under the same identifier
			return
		}
		m.Tries++
		late := now.Sub(m.Made)
		switch {
		case m.State == store.GivenUp:
		case err == nil:
			m.State, m.Told, m.Words = store.Told, entry.Of(time.Now()), answer
		case late > giveUpAfter:
			m.State, m.Words = store.GivenUp, err.Error()
		default:
			m.Next, m.Words = entry.Of(time.Now().Add(pauseAfter(m.Tries))), err.Error()
		}
		if e := o.s.store.Tried(m); e != nil {
			o.s.o.Log.Warn("what became of a message cannot be noted; it may be sent once more", "reason", e)
			return
		}
		o.notice(name, way, m, err, late)
		if err != nil && m.State == store.Waiting {
			o.s.o.Log.Warn("a contact could not be told", "contact", name, "way", way.String(), "tries", m.Tries, "reason", err)
			return
		}
	}
}

// notice writes into Dim Lantern's own log when a contact cannot be told within its time,
// and when it can be again.
func (o *outbox) notice(name string, way tell.Way, m *store.Message, err error, late time.Duration) {
	if way == nil {
		return
	}
	key := name + "\x00" + way.String()
	o.mu.Lock()
	was := o.missed[key]
	lost := err != nil && (late > toldWithin || tell.Final(err) || m.State == store.GivenUp)
	if lost {
		o.missed[key] = true
	} else if err == nil {
		delete(o.missed, key)
	}
	o.mu.Unlock()
	fields := map[string]any{"contact": name, "way": way.String()}
	o.s.mu.Lock()
	defer o.s.mu.Unlock()
	k, _ := o.s.engine.KeyOf(unreachableRule, []string{name})
	switch {
	case lost && !was:
		fields["event"], fields["reason"] = unreachableRule, err.Error()
		fields["text"] = fmt.Sprintf("contact %s cannot be told by %s: %v", name, way, err)
	case err == nil && (was || k.Alert != ""):
		fields["event"], fields["text"] = "contact-reached", fmt.Sprintf("contact %s is told again by %s", name, way)
	default:
		return
	}
	o.s.writeItself(time.Now(), fields)
}

// waitingWords says of each contact for which messages wait why they do.
func waitingWords(list []store.Outgoing) []string {
	var out []string
	for _, o := range list {
		if o.Tries == 0 {
			continue
		}
		out = append(out, fmt.Sprintf("%s to %s %s since %s: %s", countOf(o.Waiting, "message", "messages"), o.Contact, plural(o.Waiting, "waits", "wait"), clockWords(o.Oldest), cmp.Or(o.Words, "not tried yet")))
	}
	return out
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// WaysOf are the ways of a contact, in the order in which the language has them: mail,
// webhooks, syslog, commands.
func WaysOf(c *lang.Contact, mail *lang.Mail) []tell.Way { return waysOf(c, mail, nil) }
