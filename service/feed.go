package service

import (
	"cmp"
	"container/heap"
	"encoding/json"
	"slices"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/verdict"
	"dimlantern/hosts"
	"dimlantern/store"
)

// Rules that join hosts are judged at the centre. A host finds what is something for them, with its own matcher, and
// hands that on with how far it has read; the centre takes it in the order of own times, as one machine would that
// read all logs.

// feedsOf are the rules of settings of which a host hands on what is something for them.
func feedsOf(settings *lang.Settings) []*lang.Rule {
	var out []*lang.Rule
	for _, r := range settings.Rules {
		if r.Feeds && !r.Off {
			out = append(out, r)
		}
	}
	return out
}

// handOn takes verdicts about rules that are judged at the centre off an entry, and keeps them to be handed on.
func (s *Service) handOn(j *verdict.Judged) {
	feeds := s.feeds
	if len(feeds) == 0 || s.joined == nil {
		return
	}
	rules := len(s.engine.Rules())
	var held []verdict.Verdict
	own := j.Verdicts[:0]
	for _, v := range j.Verdicts {
		if v.Rule >= rules && v.Rule < rules+len(feeds) {
			v.Rule -= rules
			held = append(held, v)
		} else {
			own = append(own, v)
		}
	}
	if j.Verdicts = own; len(held) == 0 {
		return
	}
	if s.joined.held == nil {
		s.joined.held = &hosts.Held{}
		for _, r := range feeds {
			s.joined.held.Rules = append(s.joined.held.Rules, r.Name)
		}
	}
	s.joined.held.Inputs = engine.AppendInput(s.joined.held.Inputs,
		engine.Entry{Judged: &verdict.Judged{Entry: j.Entry, Reached: j.Reached, Verdicts: held}})
}

// feedEvery is how often a host that feeds rules of the centre says how far it has read.
const feedEvery = time.Second

// feedCentre adds to facts what rules that are judged at the centre need.
func (s *Service) feedCentre(f *hosts.Facts) {
	j := s.joined
	f.Held = j.held
	now := time.Now()
	if len(s.feeds) == 0 || j.held == nil && (s.catching || now.Sub(j.fed) < feedEvery) {
		return
	}
	reached := entry.Of(now)
	for _, o := range s.follower.Origins() {
		if slices.ContainsFunc(s.feeds, func(r *lang.Rule) bool { return r.LooksAt(o.Source.Name) }) {
			reached = min(reached, o.ReadTo(now))
		}
	}
	f.Reached = reached
}

// waitingEntry is an entry that waits at the centre for its turn.
type waitingEntry struct {
	at       entry.Instant
	host     string // its identifier
	seq      int64
	index    int
	judged   *verdict.Judged
	reporter string
}

// before is the order in which entries have their turn.
func (w *waitingEntry) before(o *waitingEntry) bool {
	return cmp.Or(cmp.Compare(w.at, o.at), cmp.Compare(w.host, o.host), cmp.Compare(w.seq, o.seq),
		cmp.Compare(w.index, o.index)) < 0
}

type waitingEntries []*waitingEntry

func (q waitingEntries) Len() int           { return len(q) }
func (q waitingEntries) Less(i, j int) bool { return q[i].before(q[j]) }
func (q waitingEntries) Swap(i, j int)      { q[i], q[j] = q[j], q[i] }
func (q *waitingEntries) Push(x any)        { *q = append(*q, x.(*waitingEntry)) }
func (q *waitingEntries) Pop() any {
	old := *q
	x := old[len(old)-1]
	*q = old[:len(old)-1]
	return x
}

// feeding is what a centre knows of those who feed its rules.
type feeding struct {
	queue   waitingEntries
	reached map[string]entry.Instant // by the host's identifier
	said    map[string]time.Time     // when it said something last
	left    map[heldRow]int          // of each row that is kept, how many of its entries wait
	upTo    turn                     // the last that had its turn
	clock   entry.Instant            // the latest own time that had its turn
	changed bool                     // upTo is not kept yet
}

// turn is the place of an entry in the order of turns.
type turn struct {
	At    entry.Instant `json:"at"`
	Host  string        `json:"host"`
	Seq   int64         `json:"seq"`
	Index int           `json:"index"`
}

func (t turn) entry() *waitingEntry {
	return &waitingEntry{at: t.At, host: t.Host, seq: t.Seq, index: t.Index}
}

// mostHeld bounds how many entries wait for their turn: past that the oldest have it.
const mostHeld = 2_000_000

// openFeeding takes up what waited when the service ended.
func (n *centre) openFeeding() error {
	f := &n.feeding
	*f = feeding{reached: map[string]entry.Instant{}, said: map[string]time.Time{}, left: map[heldRow]int{},
		clock: entry.None}
	f.upTo.At = entry.None
	b, err := n.s.store.Meta(hostsPrefix + "turn")
	if err == nil && b != nil {
		err = json.Unmarshal(b, &f.upTo)
	}
	if err != nil {
		return err
	}
	f.clock = f.upTo.At
	for _, h := range n.c.Statuses() { // nobody's turn has come before those who feed are heard again
		if h.State.Feeds {
			f.reached[h.ID], f.said[h.ID] = entry.None, time.Now()
		}
	}
	rows, err := n.s.store.Held()
	if err != nil {
		return err
	}
	for _, r := range rows {
		var held hosts.Held
		if err := json.Unmarshal(r.Body, &held); err != nil {
			return err
		}
		if n.queueUp(r.Host, n.c.Name(r.Host), r.Seq, &held, true) == 0 {
			n.s.batch.HeldOut = append(n.s.batch.HeldOut, r)
		}
	}
	return nil
}

// feed takes what a host says for rules that are judged here.
func (n *centre) feed(id, name string, seq int64, f *hosts.Facts) {
	s := n.s
	n.feeding.said[id] = time.Now()
	if f.Held != nil {
		if waits := n.queueUp(id, name, seq, f.Held, false); waits > 0 {
			body, _ := json.Marshal(f.Held)
			s.batch.HeldIn = append(s.batch.HeldIn, store.HeldRow{Host: id, Seq: seq, Body: body})
		}
	}
	if f.Reached != 0 {
		n.feeding.reached[id] = entry.Later(n.feeding.reached[id], f.Reached)
	}
}

// queueUp lets entries of a row wait for their turn, and answers how many do. One whose turn has passed is late, and
// has it now; of a row that is read again those that had their turn are left out.
func (n *centre) queueUp(id, name string, seq int64, held *hosts.Held, again bool) (waits int) {
	q := &n.feeding
	last := q.upTo.entry()
	places := make([]int, len(held.Rules)) // in the engine
	for i, name := range held.Rules {
		places[i] = n.ruleAt(name)
	}
	rest := held.Inputs
	for i := 0; len(rest) > 0; i++ {
		in, behind, err := engine.ReadInput(rest)
		x, ok := in.(engine.Entry)
		if err != nil || !ok {
			break
		}
		rest = behind
		w := &waitingEntry{at: x.Judged.Entry.At, host: id, seq: seq, index: i, judged: x.Judged, reporter: name}
		kept := x.Judged.Verdicts[:0]
		for _, v := range x.Judged.Verdicts {
			if v.Rule < len(places) && places[v.Rule] >= 0 {
				v.Rule = places[v.Rule]
				kept = append(kept, v)
			}
		}
		if x.Judged.Verdicts = kept; len(kept) == 0 {
			continue
		}
		if w.at <= q.clock && !again {
			if n.onlyNew(w); len(w.judged.Verdicts) == 0 {
				continue
			}
		}
		switch late := !last.before(w); {
		case late && again:
		case late:
			n.judge(w)
		default:
			heap.Push(&q.queue, w)
			waits++
		}
	}
	if waits > 0 {
		q.left[heldRow{id, seq}] = waits
	}
	return waits
}

// onlyNew leaves out of an entry, whose time others have had, for which rules it was a hit already: a host whose data
// folder was put back from a backup reads anew what it has handed on. Such doubles are known by their origin and place,
// time and text.
func (n *centre) onlyNew(w *waitingEntry) {
	j := w.judged
	e := j.Entry
	j.Verdicts = slices.DeleteFunc(j.Verdicts, func(v verdict.Verdict) bool {
		if !v.Hit {
			return false
		}
		known, err := n.s.store.HasHit(&store.Hit{Rule: n.s.engine.Name(v.Rule), Key: engine.Written(v.Key), At: e.At,
			Origin: hosts.OriginAt(w.reporter, e.Origin), Offset: e.Offset, Text: entry.Evidence(e.Raw)})
		return err == nil && known
	})
}

// heldRow is a row of a host some of whose entries wait.
type heldRow struct {
	host string
	seq  int64
}

// ruleAt is the place in the engine of a rule that is judged here; -1 where there is none.
func (n *centre) ruleAt(name string) int {
	if n.placesOf != n.s.settings {
		n.places, n.placesOf = map[string]int{}, n.s.settings
		for i, r := range n.s.engine.Rules() {
			if r.AtCentre {
				n.places[r.Name] = i
			}
		}
	}
	if i, ok := n.places[name]; ok {
		return i
	}
	return -1
}

// judge lets the engine judge an entry of a host.
func (n *centre) judge(w *waitingEntry) {
	s, q := n.s, &n.feeding
	j := w.judged
	slices.SortStableFunc(j.Verdicts, func(a, b verdict.Verdict) int { return cmp.Compare(a.Rule, b.Rule) })
	j.Entry.Origin = hosts.OriginAt(w.reporter, j.Entry.Origin)
	q.clock = entry.Later(q.clock, w.at)
	j.Reached = q.clock
	s.take(j.Entry.Origin, j)
}

// release lets those have their turn of which nobody can have an earlier one: all hosts that feed have been read
// further, or have said nothing for too long.
func (n *centre) release(now time.Time) (mark entry.Instant, holds bool) {
	q := &n.feeding
	mark = entry.Of(now)
	waits := n.s.settings.Hosts.Waits()
	for id, at := range q.reached {
		if now.Sub(q.said[id]) > waits {
			continue
		}
		mark, holds = min(mark, at), true
	}
	for len(q.queue) > 0 && (q.queue[0].at < mark || len(q.queue) > mostHeld) {
		w := heap.Pop(&q.queue).(*waitingEntry)
		n.judge(w)
		q.upTo, q.changed = turn{w.at, w.host, w.seq, w.index}, true
		row := heldRow{w.host, w.seq}
		if q.left[row]--; q.left[row] == 0 {
			delete(q.left, row)
			n.s.batch.HeldOut = append(n.s.batch.HeldOut, store.HeldRow{Host: w.host, Seq: w.seq})
		}
	}
	if q.changed {
		b, _ := json.Marshal(q.upTo)
		n.s.batch.SetMeta(hostsPrefix+"turn", b)
		q.changed = false
	}
	return mark, holds
}

// joins tells whether some rule is judged here with what hosts hand on.
func (n *centre) joins() bool {
	return slices.ContainsFunc(n.s.engine.Rules(), func(r *lang.Rule) bool { return r.AtCentre })
}
