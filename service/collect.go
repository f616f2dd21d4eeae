package service

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"dimlantern/intake/spool"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
	"dimlantern/intake/feed"
)

// collector takes what the feeds of a source bring, and keeps it.
type collector struct {
	w      *ways
	source *lang.Source
	plan   *match.Plan
	spec   string
	feeds  []feed.Feed
	stop   context.CancelFunc
	done   chan struct{}

	// holds tells that something was taken which is neither kept nor noted as waiting.
	holds atomic.Bool

	mu      sync.Mutex
	waiting int // entries that were taken, and could not be kept yet
	since   time.Time
	hosts   map[string]map[string]bool // by way, those that have a log of their own
	senders int                        // of all ways together
	shared  atomic.Bool                // others share a log

	arrived   entry.Instant // of the newest entry
	positions spool.Positions
	skip      map[spool.Origin]string // the newest entry of an origin that is kept, though its position is not
}

// resume finds out which entries were kept, but come once more: what was kept after
// the positions were, and what had to be passed over before and was not yet.
func (c *collector) resume(p spool.Positions) {
	c.positions, c.skip, c.arrived = p, map[spool.Origin]string{}, entry.None
	newest := entry.None
	for _, x := range p.Streams {
		newest = entry.Later(newest, x.Arrived)
	}
	c.arrived = newest
	for _, o := range c.w.kept.Origins(c.source.Name) {
		c.own(o)
		last, ok := c.w.kept.Last(o)
		if !ok {
			continue
		}
		c.arrived = entry.Later(c.arrived, last.Arrived)
		if last.Arrived > newest {
			c.skip[o] = last.Peer
		} else if mark := p.Skip[match.KeptFolder(o.Host, o.Way)]; mark != "" {
			c.skip[o] = mark
		}
	}
}

// atOnce is how many messages are kept together.
const atOnce = 1000

// run takes and keeps until the context ends, and then what is left.
func (c *collector) run(ctx context.Context) {
	var all sync.WaitGroup
	ready := make(chan struct{}, 1)
	for _, f := range c.feeds {
		all.Go(func() { f.Run(ctx) })
		all.Go(func() {
			for {
				select {
				case <-ctx.Done():
					return
				case <-f.Ready():
					select {
					case ready <- struct{}{}:
					default:
					}
				}
			}
		})
	}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
		case <-ready:
		case <-tick.C:
		}
		for c.once(ctx) {
		}
		c.passOn()
	}
	all.Wait()
	for c.once(ctx) {
	}
	c.passOn()
}

// once keeps what each feed has; it answers true where more may be there.
func (c *collector) once(ctx context.Context) bool {
	defer c.holds.Store(false)
	more := false
	for _, f := range c.feeds {
		c.w.pace(ctx)
		c.holds.Store(true)
		batch := f.Take(atOnce)
		if len(batch) == 0 {
			c.holds.Store(false)
			continue
		}
		more = true
		for !c.keep(batch) { // nothing is taken until this could be kept
			select {
			case <-ctx.Done():
				return false
			case <-time.After(time.Second):
			}
		}
		c.holds.Store(false)
	}
	return more
}

// keep keeps messages, each with its origin. What was kept is taken out of the
// batch, so that it may be called again with the rest.
func (c *collector) keep(batch []feed.Message) bool {
	c.mu.Lock()
	source, plan := c.source, c.plan
	c.mu.Unlock()
	d := &layout.Divider{Layout: plan.Layout}
	groups := map[spool.Origin][]spool.Entry{}
	members := map[spool.Origin][]*feed.Message{}
	var order []spool.Origin
	moved := false
	for i := range batch {
		m := &batch[i]
		if m.Stream != "" {
			// Each arrives later than the one before, so that what is kept can be told
			// from what is not.
			if m.Arrived = m.Arrived / 1000 * 1000; m.Text != nil && m.Arrived <= c.arrived {
				m.Arrived = c.arrived + 1000
			}
			c.arrived = entry.Later(c.arrived, m.Arrived)
			if m.Position != "" {
				c.positions.Streams[m.Stream] = spool.Position{Position: m.Position, Arrived: c.arrived}
				moved = true
			}
		}
		if m.Text == nil {
			continue
		}
		o := c.originOf(source, m)
		if last := c.skip[o]; last != "" && m.Stream != "" {
			if last == m.Peer {
				delete(c.skip, o)
			}
			m.Text = nil
			continue
		}
		if !plan.Wants(d, m.Arrived, o.Host, m.Text) {
			m.Text = nil
			continue
		}
		if groups[o] == nil {
			order = append(order, o)
		}
		groups[o] = append(groups[o], spool.Entry{Arrived: m.Arrived, Peer: m.Peer,
			Text: plan.Conceal(d, m.Arrived, m.Text)})
		members[o] = append(members[o], m)
	}
	now := time.Now()
	for _, o := range order {
		path, err := c.w.kept.Write(o, groups[o], now)
		if err != nil {
			c.wait(batch, now)
			return false
		}
		for _, e := range groups[o] {
			c.w.ahead.Add(int64(len(e.Text)))
		}
		for _, m := range members[o] { // it is kept
			m.Text = nil
		}
		c.w.tell(source.Name, path)
	}
	if moved {
		c.positions.Skip = map[string]string{}
		for o, mark := range c.skip {
			c.positions.Skip[match.KeptFolder(o.Host, o.Way)] = mark
		}
		if err := c.w.kept.SetPositions(source.Name, c.positions); err != nil {
			c.wait(batch, now)
			return false
		}
	}
	c.wait(nil, now)
	return true
}

// wait remembers what waits to be kept.
func (c *collector) wait(batch []feed.Message, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.waiting == 0 {
		c.since = now
	}
	c.waiting = len(batch)
}

// Bounds of who has a log of its own: hosts that one peer speaks for, and all of a source
// together. Over UDP both addresses and names can be forged. The entries of the others
// are in one log, each with its peer.
const (
	maxHosts   = 500
	maxSenders = 1000
)

// originOf is the log in which a message is kept: that of its host, as it says itself,
// else of its peer; or the one that many share.
func (c *collector) originOf(s *lang.Source, m *feed.Message) spool.Origin {
	host := m.Host
	if host == "" && s.LayoutName() == "syslog" {
		host = layout.SyslogHost(m.Text)
	}
	switch {
	case host != "" && len(match.KeptFolder(host, m.Way)) > longestName, host == "" && len(s.Listen) > 0:
		host = m.Way
	case host == "":
		return spool.Origin{Source: s.Name, Host: c.w.host, Way: m.Way}
	}
	o := spool.Origin{Source: s.Name, Host: host, Way: m.Way}
	if len(s.Listen) == 0 || c.own(o) {
		return o
	}
	c.shared.Store(true)
	return spool.Origin{Source: s.Name, Host: match.Many, Way: match.Many}
}

// longestName is how long the name of a folder may be, in bytes.
const longestName = 240

// own tells whether a sender has a log of its own, and gives it one while there is room.
func (c *collector) own(o spool.Origin) bool {
	seen := c.hosts[o.Way]
	if seen[o.Host] {
		return true
	}
	if len(seen) >= maxHosts || c.senders >= maxSenders {
		return false
	}
	if seen == nil {
		seen = map[string]bool{}
		c.hosts[o.Way] = seen
	}
	seen[o.Host] = true
	c.senders++
	return true
}

// passOn passes on what the ways in have to say.
func (c *collector) passOn() {
	for _, f := range c.feeds {
		if t, ok := f.(feed.Teller); ok {
			for _, words := range t.Told() {
				c.w.notice(c.source.Name + ": " + words)
			}
		}
	}
}
