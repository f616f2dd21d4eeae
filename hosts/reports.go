package hosts

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// mostTaken is how many rows are handed over at once.
const mostTaken = 2000

// takeAll hands the rows of hosts over, and lets go of those that were committed.
func (c *Centre) takeAll(js jetstream.JetStream, up jetstream.Consumer) {
	for {
		if up != nil {
			c.takeFrom(up)
		}
		select {
		case <-c.ctx.Done():
			return
		case <-time.After(time.Second):
		}
		var err error // the brokers may have lost what was kept there
		if up, err = c.reports(js); err != nil {
			c.o.Log.Debug("the broker says", "words", err.Error())
		}
	}
}

// takeFrom is takeAll as long as the consumer is there.
func (c *Centre) takeFrom(up jetstream.Consumer) {
	it, err := up.Messages(jetstream.PullMaxMessages(mostTaken))
	if err != nil {
		c.o.Log.Error("what hosts report cannot be read", "reason", err)
		return
	}
	defer it.Stop()
	msgs := make(chan jetstream.Msg, mostTaken)
	go func() {
		defer close(msgs)
		for {
			m, err := it.Next(jetstream.NextContext(c.ctx))
			if err != nil {
				if c.ctx.Err() != nil || errors.Is(err, jetstream.ErrMsgIteratorClosed) {
					return
				}
				c.o.Log.Debug("the broker says", "words", err.Error())
				if errors.Is(err, jetstream.ErrConsumerDeleted) || errors.Is(err, jetstream.ErrConsumerNotFound) ||
					errors.Is(err, jetstream.ErrStreamNotFound) || errors.Is(err, jetstream.ErrNoHeartbeat) {
					return
				}
				select {
				case <-c.ctx.Done():
					return
				case <-time.After(100 * time.Millisecond):
				}
				continue
			}
			select {
			case msgs <- m:
			case <-c.ctx.Done():
				return
			}
		}
	}()
	for m := range msgs {
		batch := []jetstream.Msg{m}
	more:
		for len(batch) < mostTaken {
			select {
			case m, ok := <-msgs:
				if !ok {
					break more
				}
				batch = append(batch, m)
			default:
				break more
			}
		}
		c.take(batch)
	}
}

// take hands rows over, again and again until they are committed.
func (c *Centre) take(batch []jetstream.Msg) {
	var rows []Sent
	var of []jetstream.Msg
	for _, m := range batch {
		id, _ := hostOf(m.Subject(), subjectUp)
		var r Row
		if err := json.Unmarshal(m.Data(), &r); err != nil || c.nameOf(id) == "" {
			m.Ack() // of no host, or nothing that a host sends
			if err != nil {
				c.o.Office.Told(fmt.Sprintf("the host %s sent what is no row: %v", cmp.Or(c.nameOf(id), id), err))
			}
			continue
		}
		rows, of = append(rows, Sent{id, r}), append(of, m)
	}
	if len(rows) == 0 {
		return
	}
	var what []Taken
	for {
		var err error
		if what, err = c.o.Office.Take(c.ctx, rows); err == nil {
			break
		}
		select {
		case <-c.ctx.Done():
			return
		case <-time.After(500 * time.Millisecond):
		}
	}
	again := map[string]bool{}
	for i, m := range of {
		m.Ack() // also of those that come again: the host sends them anew
		again[rows[i].ID] = again[rows[i].ID] || what[i] == TakeAgain
	}
	for id, needed := range again {
		if needed {
			c.wake(id)
		}
	}
}

// wake lets a host ask now.
func (c *Centre) wake(id string) {
	if nc := c.nc.Load(); nc != nil {
		nc.Publish(subjectDown+id+".news", nil)
	}
}

// problem is an answer that says what is wrong.
type problem struct {
	Problem string `json:"problem,omitempty"`
}

func reply(m *nats.Msg, v any) {
	b, err := json.Marshal(v)
	if err != nil {
		b, _ = json.Marshal(problem{err.Error()})
	}
	m.Respond(b)
}

// answer answers what a host asks.
func (c *Centre) answer(m *nats.Msg) {
	id, what := hostOf(m.Subject, subjectAsk)
	switch what {
	case "alive":
		var s State
		if err := json.Unmarshal(m.Data, &s); err != nil {
			reply(m, problem{"what came is no state of a host: " + err.Error()})
			return
		}
		reply(m, c.alive(id, &s))
	case "keep":
		go c.keepEntries(m, id)
	case "revision":
		b, err := c.revisionOf(id)
		if err != nil {
			reply(m, problem{err.Error()})
			return
		}
		m.Respond(b)
	case "renew":
		reply(m, c.renew(id, m.Data))
	case "pass":
		reply(m, c.passFor(id, m.Data))
	default:
		reply(m, problem{"the centre does not know what is asked: is the host newer than the centre?"})
	}
}

// keepEntries keeps entries that a host hands over, and says so once they are.
func (c *Centre) keepEntries(m *nats.Msg, id string) {
	var k KeptEntries
	if err := json.Unmarshal(m.Data, &k); err != nil {
		reply(m, problem{"what came are no entries: " + err.Error()})
		return
	}
	name := c.nameOf(id)
	if name == "" {
		reply(m, problem{"this host is not joined any more"})
		return
	}
	if err := c.o.Office.KeepEntries(id, name, &k); err != nil {
		reply(m, problem{err.Error()})
		return
	}
	reply(m, problem{})
}

// alive notes how a host is, and says what it has to hear.
func (c *Centre) alive(id string, s *State) any {
	now := c.o.Now()
	done, sum, again := c.o.Books(id)
	c.mu.Lock()
	h := c.hosts[id]
	if h == nil {
		c.mu.Unlock()
		return problem{"this host is not joined any more"}
	}
	was := h.State
	h.State, h.Heard = *s, now
	h.Clock = s.At.Time().Sub(now)
	back := h.Silent
	h.Silent = false
	if s.Bye {
		h.Since = now
	}
	cloned := c.noteRun(h, s)
	heard := Heard{At: entry.Of(now), Name: h.Name, Done: done, Sum: sum, Again: again, Head: h.Head, Acts: h.Acts}
	keep := h.Last == nil || h.Last.Runs.Number != s.Runs.Number || h.Last.Run != s.Run ||
		(h.Last.Runs.Refuses == nil) !=
			(s.Runs.Refuses == nil) || len(h.Last.Blocks) != len(s.Blocks) || h.Last.Bye != s.Bye ||
		blindKeys(h.Last.Blindings) != blindKeys(s.Blindings)
	var kept []byte
	if keep {
		last := *s
		h.Last = &last
		kept, _ = json.Marshal(h.Host)
	}
	name := h.Name
	c.mu.Unlock()
	if kept != nil {
		c.o.Office.Keep(c.ctx, map[string][]byte{"host/" + id: kept})
		c.progress()
	}
	if cloned != "" {
		c.o.Office.Told(fmt.Sprintf("the host %s: %s", name, cloned))
	}
	if len(s.Beyond) > len(was.Beyond) {
		c.o.Office.Told(fmt.Sprintf("the host %s does not let the centre: %s", name, strings.Join(s.Beyond, "; ")))
	}
	if back || was.Bye != s.Bye || keep || !slices.Equal(was.Origins, s.Origins) || was.Minute != s.Minute ||
		!slices.EqualFunc(was.Stirring, s.Stirring, func(a, b Stir) bool {
			return a.Rule == b.Rule && a.Near == b.Near && slices.Equal(a.Key, b.Key)
		}) {
		c.o.Changed()
	}
	return heard
}

// blindKeys is how many keys rules raise where they cannot be seen.
func blindKeys(list []Blinding) (n int) {
	for i := range list {
		n += len(list[i].Keys)
	}
	return n
}

// noteRun notices a host whose key two machines have: their runs take turns.
func (c *Centre) noteRun(h *Status, s *State) string {
	runs := c.runs[h.ID]
	if n := len(runs); n > 0 && runs[n-1] == s.Run {
		return ""
	}
	turns := slices.Contains(runs, s.Run)
	if runs = append(runs, s.Run); len(runs) > 4 {
		runs = slices.Clone(runs[len(runs)-4:])
	}
	c.runs[h.ID] = runs
	if !turns || h.Cloned != "" {
		return ""
	}
	h.Cloned = "two machines speak under its key"
	return h.Cloned + ": has one been cloned? Let it join anew: dimlantern join --again"
}

// watch notices who has fallen silent, and what has to go on.
func (c *Centre) watch() {
	t := time.NewTicker(time.Second)
	defer t.Stop()
	for {
		select {
		case <-c.ctx.Done():
			return
		case <-t.C:
		}
		now := c.o.Now()
		changed := false
		c.mu.Lock()
		for _, h := range c.hosts {
			from := h.Heard
			if from.Before(c.began) {
				from = c.began
			}
			if silent := !h.State.Bye && now.Sub(from) >= Silence; silent && !h.Silent {
				h.Silent, h.Since, changed = true, from, true
			}
		}
		c.mu.Unlock()
		if changed {
			c.o.Changed()
		}
		c.progress()
	}
}
