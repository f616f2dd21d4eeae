package service

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/hosts"
	"dimlantern/store"
)

// How long what is no more than counts of entries waits to be told with other things, and how many hits of a key
// are told with their text in one row.
const (
	ticksWait = 10 * time.Second
	toldHits  = 20
	mostFacts = 4 << 20 // bytes of hits in one row
)

// mostAgain is how many rows may be told again.
const mostAgain = 20_000

// tellCentre writes into the batch what the centre is to be told of it.
func (s *Service) tellCentre() {
	j := s.joined
	if j == nil {
		return
	}
	b := &s.batch
	b.Up, j.next, j.told = nil, nil, false
	f := hosts.Facts{Made: entry.Of(time.Now()), Acted: j.acted, Told: j.toldHere}
	for i := range b.Transitions {
		if j.own[i] {
			continue
		}
		t := b.Transitions[i]
		if t.Reporter != "" {
			continue
		}
		if t.Untold != engine.CatchingUp {
			t.Untold = ""
		}
		if line, err := t.MarshalJSON(); err == nil {
			f.Transitions = append(f.Transitions, line)
		}
	}
	if j.whole {
		f.Whole, f.Transitions = true, j.open()
	}
	j.hits(&f)
	for _, x := range b.Blind {
		f.Blind = append(f.Blind, hosts.Blind{Origin: x.Origin, At: x.At, Seen: x.Seen, Words: x.Words})
	}
	for alert, lines := range b.Around {
		if f.Around == nil {
			f.Around = map[string]json.RawMessage{}
		}
		f.Around[alert] = lines
	}
	s.feedCentre(&f)
	ticks := slices.Clone(j.ticks)
	for _, t := range b.Ticks {
		ticks = addTick(ticks, hosts.Tick{Origin: t.Origin, Bucket: t.Bucket, N: t.N, Bytes: t.Bytes})
	}
	if len(ticks) == 0 &&
		len(f.Transitions)+len(f.Hits)+len(f.Counts)+len(f.Blind)+len(f.Around)+len(f.Acted)+
			len(f.Told) == 0 && f.Held == nil && f.Reached == 0 && !f.Whole {
		return
	}
	waits := len(f.Transitions)+len(f.Hits)+len(f.Blind)+len(f.Around)+len(f.Acted)+len(f.Told) == 0 &&
		f.Held == nil && f.Reached == 0 && !f.Whole && (j.ticked.IsZero() || time.Since(j.ticked) < ticksWait)
	if waits {
		kept, _ := json.Marshal(ticks)
		b.SetMeta("up-ticks", kept)
		return
	}
	f.Ticks = ticks
	j.told = true
	facts, err := json.Marshal(f)
	if err != nil {
		s.o.Log.Error("the centre cannot be told", "reason", err)
		return
	}
	b.SetMeta("up-ticks", nil)
	if len(j.acted) > 0 {
		kept, _ := json.Marshal(slices.Sorted(func(yield func(string) bool) {
			for a := range j.done {
				if !yield(a) {
					return
				}
			}
		}))
		b.SetMeta("up-acted", kept)
	}
	j.next = &store.Up{Seq: j.seq + 1, Prev: j.sum, Sum: hosts.SumOf(j.sum, facts), Facts: facts}
	b.Up = []store.Up{*j.next}
	if f.Whole {
		if err := j.tellAgain(&f); err != nil {
			s.o.Log.Error("the centre cannot be told again", "reason", err)
		}
	}
}

func addTick(list []hosts.Tick, t hosts.Tick) []hosts.Tick {
	for i := range list {
		if list[i].Origin == t.Origin && list[i].Bucket == t.Bucket {
			list[i].N += t.N
			list[i].Bytes += t.Bytes
			return list
		}
	}
	return append(list, t)
}

// hits takes the hits of the batch into facts: the newest of each key with their text, the others as numbers.
func (j *joined) hits(f *hosts.Facts) {
	s := j.s
	of := map[string]int{}
	counts := map[string]*hosts.Count{}
	size := 0
	for i := len(s.batch.Hits) - 1; i >= 0; i-- {
		h := &s.batch.Hits[i]
		r := s.settings.Rule(h.Rule)
		if r == nil {
			continue
		}
		id := h.Rule + "\x00" + strings.Join(h.Key, "\x00")
		of[id]++
		if size += len(h.Text); of[id] <= toldHits && size < mostFacts || h.Recovery {
			f.Hits = append(f.Hits, hosts.Hit{Rule: h.Rule, Fields: r.Per, Key: h.Key, At: h.At, Recovery: h.Recovery,
				Origin: h.Origin, Offset: h.Offset, Text: h.Text})
			continue
		}
		b := store.BucketOf(h.At)
		id = fmt.Sprint(id, "\x00", b)
		if counts[id] == nil {
			counts[id] = &hosts.Count{Rule: h.Rule, Fields: r.Per, Key: h.Key, Bucket: b}
		}
		counts[id].N++
	}
	slices.Reverse(f.Hits)
	for _, c := range counts {
		f.Counts = append(f.Counts, *c)
	}
}

// open are the transitions that say all that is open.
func (j *joined) open() []json.RawMessage {
	var out []json.RawMessage
	for _, k := range j.s.engine.Keys() {
		if k.Alert == "" {
			continue
		}
		changes, err := j.s.store.Changes(k.Alert)
		if err != nil {
			continue
		}
		for _, t := range changes {
			if t.Untold != engine.CatchingUp {
				t.Untold = ""
			}
			if line, err := t.MarshalJSON(); err == nil && t.Reporter == "" {
				out = append(out, line)
			}
		}
	}
	return out
}

// toldCentre notes that the commit went through.
func (s *Service) toldCentre() {
	j := s.joined
	if j == nil {
		return
	}
	if j.next == nil {
		for _, t := range s.batch.Ticks {
			j.ticks = addTick(j.ticks, hosts.Tick{Origin: t.Origin, Bucket: t.Bucket, N: t.N, Bytes: t.Bytes})
		}
		if len(j.ticks) > 0 && j.ticked.IsZero() {
			j.ticked = time.Now()
		}
		clear(j.own)
		return
	}
	j.seq, j.sum, j.ticks, j.ticked, j.acted, j.whole = j.next.Seq, j.next.Sum, nil, time.Time{}, nil, false
	if j.again != nil {
		j.mu.Lock()
		j.first, j.again = j.seq, nil
		j.mu.Unlock()
	}
	j.toldHere = nil
	j.next = nil
	if j.held != nil || len(s.feeds) > 0 {
		j.held, j.fed = nil, time.Now()
	}
	clear(j.own)
	j.member.Fresh()
}

// Rows is part of hosts.Machine.
func (j *joined) Rows(_ context.Context, after int64, most int) ([]hosts.Row, error) {
	list, err := j.s.store.UpAfter(after, most)
	out := make([]hosts.Row, len(list))
	for i, u := range list {
		out[i] = hosts.Row{Folder: j.folder, Seq: u.Seq, Sum: u.Sum, Prev: u.Prev, Facts: u.Facts}
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	for alert, in := range j.toldIn {
		for i := range out {
			if r := &out[i]; r.Seq < in && bytes.Contains(r.Facts, []byte(alert)) {
				r.Told = append(r.Told, alert)
			}
		}
	}
	return out, err
}

// Done is part of hosts.Machine.
func (j *joined) Done(ctx context.Context, seq int64, sum string) error {
	oldest, newest, _, err := j.s.store.UpEnds()
	if err != nil {
		return err
	}
	j.mu.Lock()
	j.committed = seq
	maps.DeleteFunc(j.toldIn, func(_ string, in int64) bool { return in <= seq })
	trim := time.Since(j.trimmed) > time.Hour
	if trim {
		j.trimmed = time.Now()
	}
	j.mu.Unlock()
	lost := newest > 0 && (seq+1 < oldest || seq > newest)
	if !lost && seq > 0 { // another history than the centre's
		rows, err := j.s.store.UpAfter(seq-1, 1)
		lost = err == nil && len(rows) == 1 && rows[0].Seq == seq && rows[0].Sum != sum && sum != ""
	}
	if !lost {
		j.mu.Lock()
		j.first = max(j.first, seq)
		j.mu.Unlock()
	}
	if !lost && !trim {
		return nil
	}
	return j.s.do(ctx, func() error {
		if lost {
			if err := j.unheard(); err != nil {
				return err
			}
			j.whole = true
			j.seq = max(j.seq, seq)
			return j.s.commitAt(entry.Of(time.Now()))
		}
		return j.s.store.LetGoUp(seq, entry.Of(time.Now().Add(-hosts.KeptSent)))
	})
}

// unheard gets what this run of the service told in rows of which the centre had the numbers already: the data folder
// was put back from a backup, and those rows are not taken. What is open is told anew by a whole row; behind it they
// stand once more, under new numbers.
func (j *joined) unheard() error {
	if j.again != nil {
		return nil
	}
	j.mu.Lock()
	from := j.first
	j.mu.Unlock()
	rows, err := j.s.store.UpAfter(from, mostAgain)
	if err != nil {
		return err
	}
	if len(rows) == mostAgain {
		j.s.notice(fmt.Sprintf("of what was told in vain only the first %d commits are told again", mostAgain))
	}
	j.again = make([]hosts.Facts, len(rows))
	for i := range rows {
		if err := json.Unmarshal(rows[i].Facts, &j.again[i]); err != nil {
			return err
		}
	}
	return nil
}

// tellAgain adds rows that were told in vain behind the one with all that is open; what was told of open alerts is in
// that one.
func (j *joined) tellAgain(whole *hosts.Facts) error {
	open := map[string]bool{}
	for _, line := range whole.Transitions {
		open[alertOf(line)] = true
	}
	for _, f := range j.again {
		f.Whole = false
		f.Transitions = slices.DeleteFunc(slices.Clone(f.Transitions), func(line json.RawMessage) bool {
			return open[alertOf(line)]
		})
		facts, err := json.Marshal(f)
		if err != nil {
			return err
		}
		j.next = &store.Up{Seq: j.next.Seq + 1, Prev: j.next.Sum, Sum: hosts.SumOf(j.next.Sum, facts), Facts: facts}
		j.s.batch.Up = append(j.s.batch.Up, *j.next)
	}
	return nil
}

func alertOf(line []byte) string {
	var t engine.Transition
	if t.UnmarshalJSON(line) != nil {
		return ""
	}
	return t.Alert
}
