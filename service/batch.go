package service

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"dimlantern/core/verdict"
	"dimlantern/folder"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/match"
	"dimlantern/intake"
	"dimlantern/store"
)

// seenSources notes the sources that have been seen for the first time.
func (s *Service) seenSources() {
	for _, src := range s.settings.Sources {
		if !src.Off && !s.store.Knows(src.Name) && !slices.Contains(s.batch.Sources, src.Name) {
			s.batch.Sources = append(s.batch.Sources, src.Name)
		}
	}
}

// Take is part of intake.Sink.
func (s *Service) Take(o *intake.Origin, j *verdict.Judged) {
	s.count(o, j)
	if s.handOn(j); len(j.Verdicts) > 0 {
		s.take(o.Name, j)
	}
}

// take lets the engine judge an entry of an origin, and keeps it as evidence.
func (s *Service) take(origin string, j *verdict.Judged) {
	for _, v := range j.Verdicts {
		if !v.Hit {
			continue
		}
		s.batch.Hits = append(s.batch.Hits, store.Hit{Rule: s.engine.Name(v.Rule), Key: engine.Written(v.Key),
			At: j.Entry.At, Origin: origin, Offset: j.Entry.Offset, Text: entry.Evidence(j.Entry.Raw),
			Skew: j.Entry.Skew})
	}
	ts, _ := s.apply(engine.Entry{Judged: j})
	for _, t := range ts {
		if t.Change == engine.Cleared && t.Entry != nil {
			s.batch.Hits = append(s.batch.Hits, store.Hit{Rule: t.Rule, Key: t.Key, At: j.Entry.At, Recovery: true,
				Origin: origin, Offset: j.Entry.Offset, Text: entry.Evidence(j.Entry.Raw), Skew: j.Entry.Skew})
		}
	}
}

// Passed is part of intake.Sink.
func (s *Service) Passed(o *intake.Origin, reached entry.Instant, ticks []match.Tick) {
	if reached != entry.None {
		s.reached(reached)
	}
	for _, t := range ticks {
		k := tickKey{o.Name, store.BucketOf(t.At)}
		x := s.ticks[k]
		s.ticks[k] = said{x.entries + int64(t.Lines), x.bytes + t.Bytes}
		n := s.meter.read[o.Source.Name]
		s.meter.read[o.Source.Name] = said{n.entries + int64(t.Lines), n.bytes + t.Bytes}
		s.recount.came(k.origin, k.bucket, said{int64(t.Lines), t.Bytes})
	}
	s.flow++
}

// record takes transitions into the batch.
// What happens before the present has been reached is recorded, and told nobody.
func (s *Service) record(ts []engine.Transition) {
	from := len(s.batch.Transitions)
	s.batch.Transitions = append(s.batch.Transitions, ts...)
	for i := range s.batch.Transitions[from:] {
		s.bare.remember(s.follower.Origins(), &s.batch.Transitions[from+i])
		s.decider.Take(&s.batch.Transitions[from+i])
	}
	if len(ts) > 0 {
		s.seq++
	}
}

// commit keeps the batch; a batch that could not be kept stays, to be tried
// again.
func (s *Service) commit() error {
	s.flushReach()
	places := s.batch.Places
	for _, o := range s.follower.Dirty() {
		places = append(places, store.Place{Source: o.Source.Name, Series: o.Series, Origin: o.Name,
			Data: o.MarshalPlace()})
	}
	s.batch.Places = places
	for k, x := range s.ticks {
		s.batch.Ticks = append(s.batch.Ticks, store.Tick{Origin: k.origin, Bucket: k.bucket, N: x.entries,
			Bytes: x.bytes})
	}
	clear(s.ticks)
	s.batch.Series = append(s.batch.Series, s.counted.Changed()...)
	s.times.placed = time.Now()
	if s.whole {
		s.batch.Snapshot = s.engine.Encode()
		s.batch.SetMeta("settings", folder.Encode(s.texts)) // whose rules it is of
	}
	if n := s.engine.Dropped; n > 0 && n != s.dropped {
		s.dropped, s.seq = n, s.seq+1
		s.trouble["keys"] = fmt.Sprintf("rules keep %d keys each; the longest idle went, %d so far: settings { "+
			"most N keys a rule } keeps more, fewer fields in per need fewer", s.engine.MostKeys, n)
	}
	s.tellCentre()
	if s.batch.Empty() {
		return nil
	}
	b := s.batch
	b.Journal, b.Snapshot = s.seal(b.Journal), s.seal(b.Snapshot)
	if err := s.store.Commit(&b); err != nil {
		if s.trouble["store"] == "" {
			s.stuck = time.Now()
		}
		s.trouble["store"] = fmt.Sprintf("%s cannot be written (%v); reading waits, and nothing is lost",
			s.store.Path, err)
		s.o.Log.Error("the database cannot be written", "reason", err)
		s.seq++
		return err
	}
	if _, was := s.trouble["store"]; was {
		delete(s.trouble, "store")
		s.notice("the database can be written again")
	}
	s.toldCentre()
	s.rest += len(s.batch.Journal)
	if s.whole {
		s.rest, s.times.snapped, s.whole = 0, time.Now(), false
	}
	s.fired = append(s.fired, s.batch.Transitions...)
	s.batch = store.Batch{Journal: s.batch.Journal[:0]}
	return nil
}

// close commits what is left, with a snapshot, and lets go of everything.
func (s *Service) close() error {
	s.bench.Close()
	kept := s.ways.close()
	s.tellAll()
	s.whole = true
	s.batch.Now = entry.Of(time.Now())
	err := s.commit()
	if s.trouble["damage"] != "" {
		err = errors.Join(err, s.known().write(s.o.Data))
	}
	if s.o.Committed != nil && len(s.fired) > 0 {
		s.o.Committed(s.fired)
	}
	s.follower.Close()
	return errors.Join(err, kept, s.store.Close(), s.lock.Close())
}
