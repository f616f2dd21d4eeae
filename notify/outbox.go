// Package notify decides whom to tell what and when, makes messages of it, and sends them.
// A Decider, which belongs to the loop, writes into the loop's batch who is told of a
// transition; an Outbox makes messages of what is committed, by the ways of package via,
// until they are taken or given up.
package notify

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/notify/via"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// Bounds of telling. A message that has not gone out within toldWithin makes its contact
// one that cannot be reached; after giveUpAfter it is given up.
const (
	tellEvery   = time.Second // where something waits for no instant that is known
	lookAgain   = 100 * time.Millisecond
	tellSeldom  = 2 * time.Second // where nothing waits: it is woken when something does
	mostPause   = 5 * time.Minute
	giveUpAfter = 24 * time.Hour
	tellAtOnce  = 20_000 // tellings that are looked at together
	evidenceOf  = 12     // lines of evidence in a message
	keptOutbox  = 30 * 24 * time.Hour
)

// Tests make these shorter.
var (
	FirstPause = 2 * time.Second
	ToldWithin = 5 * time.Minute
)

// refusedPause is how long to wait before a message is tried once more that its receiver
// would not have, while it takes others.
const refusedPause = 25 * time.Millisecond

// pauseAfter is how long to wait before a way that is shut is tried once more.
func pauseAfter(tries int) time.Duration { return pauseFrom(FirstPause, tries) }

func pauseFrom(d time.Duration, tries int) time.Duration {
	for range tries - 1 {
		if d *= 2; d > mostPause {
			return mostPause
		}
	}
	return d
}

// Outbox sends what was decided. Each way of each contact has a worker of its own, so that
// a slow receiver delays only itself; what is worst goes first, and what one alert has to
// say keeps its order. See NewOutbox.
type Outbox struct {
	OutboxOptions
	wakes  chan struct{}
	state  atomic.Pointer[OutboxState]
	mu     sync.Mutex
	busy   map[string]bool  // contacts that messages are made for, and lanes that are being told
	missed map[string]bool  // ways of which it was noticed that they cannot be told
	held   map[string]bool  // contacts whose limit was reached
	lanes  map[string]*lane // by contact and place of the way
	ways   map[string]waysMade
	made   entry.Instant // of the newest message
	all    sync.WaitGroup
	words  *via.Words
	of     string // which templates and zone words was made of
	// Told and Refused count messages since the service began: those that were told, and tries that a
	// receiver refused.
	Told, Refused atomic.Int64
}

// OutboxOptions say what an outbox works with. All of them must be given but for Roots.
type OutboxOptions struct {
	Window *snapshot.Window
	Store  *store.Store
	Log    *slog.Logger
	Roots  *x509.CertPool // trusted besides the system's
	// Detail is what is known of an alert, for messages.
	Detail func(context.Context, api.DetailQuery) (*api.Detail, error)
	// Notice writes into Dim Lantern's own log.
	Notice func(fields map[string]any)
}

// OutboxState is what waits, as it was looked at last.
type OutboxState struct {
	Waiting []store.Outgoing // by contact
	Limits  []string         // contacts whose limit is reached, in words
}

// NewOutbox returns an outbox that sends once it runs.
func NewOutbox(o OutboxOptions) *Outbox {
	x := &Outbox{OutboxOptions: o, wakes: make(chan struct{}, 1), busy: map[string]bool{}, missed: map[string]bool{},
		held:  map[string]bool{},
		lanes: map[string]*lane{}, ways: map[string]waysMade{}}
	x.state.Store(&OutboxState{})
	return x
}

// State is what waits, as it was looked at last. It is never nil.
func (o *Outbox) State() *OutboxState { return o.state.Load() }

// Wake tells that there may be something to send. It never waits.
func (o *Outbox) Wake() {
	select {
	case o.wakes <- struct{}{}:
	default:
	}
}

// waysMade are the ways of a contact, made once for its settings, so that connections last.
type waysMade struct {
	contact *lang.Contact
	mail    *lang.Mail
	ways    []via.Way
}

func (o *Outbox) waysOf(name string, c *lang.Contact, mail *lang.Mail) []via.Way {
	o.mu.Lock()
	defer o.mu.Unlock()
	if m := o.ways[name]; m.contact == c && m.mail == mail && c != nil {
		return m.ways
	}
	o.ways[name] = waysMade{c, mail, waysOf(c, mail, o.Roots)}
	return o.ways[name].ways
}

// Run sends until the context ends.
func (o *Outbox) Run(ctx context.Context) {
	defer o.all.Wait()
	timer := time.NewTimer(0)
	defer timer.Stop()
	trimmed := time.Now()
	for {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		case <-o.wakes:
		}
		now := time.Now()
		names, due, err := o.Store.WaitingContacts(entry.Of(now))
		wait := tellEvery
		if err == nil && len(names) == 0 {
			wait = tellSeldom
		}
		if due != entry.None {
			wait = min(wait, due.Sub(entry.Of(now)))
		}
		timer.Reset(wait)
		if err != nil {
			if ctx.Err() == nil {
				o.Log.Warn("what is to be told cannot be read", "reason", err)
			}
			continue
		}
		for _, n := range names {
			o.start(ctx, n, func() { o.serve(ctx, n) })
		}
		if out, err := o.Store.Outgoings(); err == nil {
			o.state.Store(&OutboxState{out, o.heldWords(o.Window.Now().Settings)})
		}
		if time.Since(trimmed) > time.Hour {
			trimmed = time.Now()
			if err := o.Store.TrimOutbox(entry.Of(time.Now().Add(-keptOutbox))); err != nil {
				o.Log.Warn("old messages could not be let go of", "reason", err)
			}
		}
	}
}

// start does something in a goroutine of its own, unless that is being done already.
func (o *Outbox) start(ctx context.Context, what string, do func()) {
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

// serve puts what a contact is to be told into messages, and has them sent meanwhile.
func (o *Outbox) serve(ctx context.Context, name string) {
	settings := o.Window.Now().Settings
	c, mail := settings.Contact(name), settings.Mail
	ways := o.waysOf(name, c, mail)
	for ctx.Err() == nil {
		more, err := o.form(ctx, name, c)
		if err != nil && ctx.Err() == nil {
			o.Log.Warn("messages cannot be made", "contact", name, "reason", err)
		}
		waiting, err := o.Store.UnsentWays(name)
		if err != nil {
			return
		}
		for _, i := range waiting {
			var way via.Way
			if i < len(ways) {
				way = ways[i]
			}
			key := fmt.Sprintf("%s\x00%d", name, i)
			o.start(ctx, key, func() { o.send(ctx, name, i, way, o.lane(key)) })
		}
		if !more {
			return
		}
	}
}

// waysOf are the ways of a contact, in their order.
func waysOf(c *lang.Contact, mail *lang.Mail, roots *x509.CertPool) []via.Way {
	var out []via.Way
	if c == nil {
		return nil
	}
	if len(c.Mail) > 0 {
		server := lang.Mail{}
		if mail != nil {
			server = *mail
		}
		out = append(out, via.Mail(server, c.Mail, roots))
	}
	for _, w := range c.Webhook {
		out = append(out, via.Webhook(w, roots))
	}
	for _, l := range c.Syslog {
		out = append(out, via.Syslog(l, roots))
	}
	for _, words := range c.Command {
		out = append(out, via.Command(words))
	}
	return out
}

// formAtOnce is how many messages are made before the next look at what is worst now.
const formAtOnce = 50

// form puts some of what is due into messages; it answers true where more may be due.
func (o *Outbox) form(ctx context.Context, name string, c *lang.Contact) (more bool, err error) {
	now := entry.Of(time.Now())
	together := c != nil && (c.Gather > 0 || c.Most > 0)
	var waits []store.Telling
	if together { // what is told together has to be looked at together
		waits, err = o.Store.Waits(name, tellAtOnce)
	} else {
		waits, err = o.Store.Urgent(name, now, formAtOnce)
		if more = len(waits) == formAtOnce; err == nil &&
			slices.ContainsFunc(waits, func(t store.Telling) bool { return t.Change == "caught up" }) {
			waits, err = o.Store.Waits(name, tellAtOnce)
		}
	}
	if err != nil || len(waits) == 0 {
		return false, err
	}
	if c == nil || c.Off {
		var all []int64
		for _, t := range waits {
			all = append(all, t.Seq)
		}
		return more, o.Store.Drop(all, "there is no such contact any more")
	}
	var ready []store.Telling
	drops := map[string][]int64{}
	for _, t := range waits {
		// else what it goes by is not known yet
		if t.Due > now {
			continue
		}
		if t.Only != "" && t.Made > entry.Of(o.Window.Now().At) {
			o.wakeAt(ctx, now.Add(lookAgain))
			continue
		}
		if why := o.dropped(&t); why != "" {
			drops[why] = append(drops[why], t.Seq)
			continue
		}
		ready = append(ready, t)
	}
	for why, seqs := range drops {
		if err := o.Store.Drop(seqs, why); err != nil {
			return false, err
		}
	}
	if len(ready) == 0 {
		return more, nil
	}
	if soon := ready[0].Due.Add(c.Gather); soon > now {
		o.wakeAt(ctx, soon)
		return more, nil
	}
	var all []store.Made
	for len(ready) > 0 && ctx.Err() == nil {
		if c.Most > 0 {
			n, _, err := o.Store.GroupsSince(name, now.Add(-c.MostIn), c.Most)
			if err != nil {
				return false, err
			}
			if n+len(all) >= c.Most {
				o.hold(name, true)
				break
			}
		}
		group, kind := o.next(ready, c, o.holds(name))
		if kind == via.KindSummary {
			o.hold(name, false)
		}
		made, err := o.make(ctx, name, c, kind, group, more)
		if err != nil {
			return false, err
		}
		if len(made.Messages) > 0 {
			all = append(all, made)
		}
		done := map[int64]bool{}
		for _, g := range group {
			done[g.Seq] = true
		}
		ready = slices.DeleteFunc(ready, func(t store.Telling) bool { return done[t.Seq] })
	}
	if len(all) == 0 || ctx.Err() != nil {
		return false, ctx.Err()
	}
	return more, o.Store.PutMessages(all)
}

// hold notes whether the limit of a contact was reached.
func (o *Outbox) hold(name string, held bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.held[name] = held
}

// heldWords say which contacts' limits are reached.
func (o *Outbox) heldWords(settings *lang.Settings) []string {
	o.mu.Lock()
	defer o.mu.Unlock()
	var out []string
	for _, c := range settings.Contacts {
		if o.held[c.Name] && c.Most > 0 {
			out = append(out, fmt.Sprintf("contact %s has been told %d times in %s, which is its limit: the rest "+
				"waits for a summary", c.Name, c.Most, entry.Span(c.MostIn)))
		}
	}
	return out
}

func (o *Outbox) holds(name string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.held[name]
}

// next is what the next message is about, and its kind. After a limit was reached it is one
// summary of all that was held back.
func (o *Outbox) next(ready []store.Telling, c *lang.Contact, held bool) ([]store.Telling, string) {
	first := ready[0]
	switch first.Change {
	case "caught up":
		var all []store.Telling
		for _, t := range ready {
			if t.Change == "caught up" {
				all = append(all, t)
			}
		}
		return all, via.KindCaught
	case "blind":
		return ready[:1], via.KindBlind
	}
	if !held && c.Gather == 0 {
		return ready[:1], via.KindAlert
	}
	var all []store.Telling
	for _, t := range ready {
		if t.Change != "caught up" && t.Change != "blind" {
			all = append(all, t)
		}
	}
	switch {
	case held && len(all) > 1:
		return all, via.KindSummary
	case len(all) > 1:
		return all, via.KindSeveral
	}
	return all, via.KindAlert
}

// dropped is why something is not told after all, now that it is due; "" where it is.
func (o *Outbox) dropped(t *store.Telling) string {
	if t.Only == "" {
		return ""
	}
	if t.Only == store.OnlyTold {
		if o.Store.FirstGroup(t.Contact, t.Alert) == "" {
			return "it was never told that it is open"
		}
		return ""
	}
	var l engine.Transition
	if json.Unmarshal([]byte(t.Line), &l) != nil {
		return ""
	}
	sn := o.Window.Now()
	k, open := sn.OpenAlert(t.Alert, l.Rule, keyNow(sn.Settings, &l))
	_, quiet := sn.Quiet[t.Alert]
	switch {
	case !open:
		return "it is over"
	case t.Only == store.OnlyUntaken && sn.Taken[t.Alert] != "":
		return "it was taken by " + sn.Taken[t.Alert]
	case quiet || (&facts{sn.Settings, sn.Hushes, sn.OpenOf}).still(&k, "", time.Now()):
		return "it was kept quiet"
	}
	return ""
}

// notice writes into Dim Lantern's own log when a contact cannot be told within its time,
// and when it can be again.
func (o *Outbox) notice(name string, way via.Way, m *store.Message, err error, late time.Duration) {
	if way == nil {
		return
	}
	key := name + "\x00" + way.String()
	o.mu.Lock()
	was := o.missed[key]
	lost := err != nil && (late > ToldWithin || via.Final(err) || m.State == store.GivenUp)
	if lost {
		o.missed[key] = true
	} else if err == nil {
		delete(o.missed, key)
	}
	o.mu.Unlock()
	fields := map[string]any{"contact": name, "way": way.String()}
	k, _ := o.Window.Now().Engine.KeyOf(snapshot.Unreachable, []string{name})
	switch {
	case lost && !was:
		fields["event"], fields["reason"] = snapshot.Unreachable, err.Error()
		fields["text"] = fmt.Sprintf("contact %s cannot be told by %s: %v", name, way, err)
	case err == nil && (was || k.Alert != ""):
		fields["event"], fields["text"] = "contact-reached", fmt.Sprintf("contact %s is told again by %s", name, way)
	default:
		return
	}
	o.Notice(fields)
}
