package service

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/core/trial"
	"dimlantern/intake"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// recount is the counting anew, beside the loop, of what logs have said by when, after an edit that
// reads their times in another way: else the tide would show it where it arrived.
type recount struct {
	sources []string                  // whose logs are counted, or will be
	known   bool                      // sources has those that a crash left
	due     bool                      // it has to begin
	since   map[string]map[int64]said // what their origins have said since it was begun, by bucket
	stop    context.CancelFunc
	turn    int // which one it is
}

// metaRecount is where is kept whose logs are still to be counted, in case of a crash.
const metaRecount = "recount"

// came notes what an origin says while it is being counted.
func (r *recount) came(origin string, bucket int64, x said) {
	if since := r.since[origin]; since != nil {
		y := since[bucket]
		since[bucket] = said{y.entries + x.entries, y.bytes + x.bytes}
	}
}

// retimed are the sources whose times new settings read in another way than before, or for the first
// time.
func retimed(before, after *lang.Settings) []string {
	var out []string
	for _, src := range after.Sources {
		if old := before.Source(src.Name); old != nil && !src.Off {
			if now := trial.Times(after, src); now != "" && now != trial.Times(before, old) {
				out = append(out, src.Name)
			}
		}
	}
	return out
}

// countLater notes sources whose logs are to be counted, with those of before that are not counted yet.
// It is for the loop, behind new settings.
func (s *Service) countLater(sources []string) {
	if b, err := s.store.Meta(metaRecount); err == nil && !s.recount.known {
		json.Unmarshal(b, &s.recount.sources) // what cannot be read is not counted
		s.recount.known, s.recount.due = true, len(s.recount.sources) > 0
	}
	for _, name := range sources {
		if !slices.Contains(s.recount.sources, name) {
			s.recount.sources = append(s.recount.sources, name)
		}
	}
	if len(sources) > 0 {
		s.recount.due = true
		b, _ := json.Marshal(s.recount.sources)
		s.batch.SetMeta(metaRecount, b)
	}
}

// countAnew has the logs counted that are to be. It is for the loop, when their files are known.
func (s *Service) countAnew() {
	r := &s.recount
	if !r.due {
		return
	}
	if r.stop != nil {
		r.stop() // it goes by what the settings were
	}
	ctx, stop := context.WithCancel(s.beside.ctx)
	r.due, r.stop, r.since = false, stop, map[string]map[int64]said{}
	r.turn++
	turn := r.turn
	var origins []*intake.Origin
	for _, o := range s.follower.Frozen() {
		if slices.Contains(r.sources, o.Source.Name) {
			origins = append(origins, o)
			r.since[o.Name] = map[int64]said{}
		}
	}
	settings := s.settings
	s.beside.start(func(context.Context) {
		defer stop()
		retold, redated, err := s.countLogs(ctx, settings, origins)
		if err != nil {
			if ctx.Err() == nil {
				s.o.Log.Warn("what logs said cannot be counted anew", "reason", err)
			}
			return
		}
		s.do(ctx, func() error {
			if r.turn == turn {
				s.takeRecount(retold, redated)
			}
			return nil
		})
	})
}

// countLogs counts what has been read of origins, and finds the hits that were kept under other times
// than their entries have.
func (s *Service) countLogs(ctx context.Context, settings *lang.Settings,
	origins []*intake.Origin) ([]store.Retold, []store.Redated, error) {
	last := store.BucketOf(entry.Of(time.Now()))
	var retold []store.Retold
	plans := map[string]*match.Plan{}
	for _, o := range origins {
		bare := *settings.Source(o.Source.Name) // what is kept with a hit is its entry alone
		bare.Layout = bare.LayoutName()
		bare.Channels, bare.Listen, bare.Input, bare.Command = nil, nil, false, nil
		plans[o.Name] = match.NewPlan(settings, &bare, nil, time.Local)
		x := store.Retold{Origin: o.Name, From: last + 1}
		counts := map[int64]said{}
		err := snapshot.Recount(ctx, settings, o, func(t match.Tick) {
			b := min(store.BucketOf(t.At), last)
			c := counts[b]
			counts[b] = said{c.entries + int64(t.Lines), c.bytes + t.Bytes}
		})
		if err != nil {
			return nil, nil, err
		}
		addTicks(&x, counts)
		retold = append(retold, x)
	}
	redated, err := s.store.Redate(ctx, func(origin string, at entry.Instant, text string) entry.Instant {
		if plan := plans[origin]; plan != nil {
			if own := snapshot.OwnTime(plan, text, at); own != entry.None && own <= at.Add(match.Future) {
				return own
			}
		}
		return at
	})
	return retold, redated, err
}

// takeRecount takes up what was counted, with what came meanwhile.
func (s *Service) takeRecount(retold []store.Retold, redated []store.Redated) {
	for i := range retold {
		x := &retold[i]
		n := int64(0)
		for _, t := range x.Ticks {
			n += t.N
		}
		for _, c := range s.recount.since[x.Origin] {
			n += c.entries
		}
		for _, o := range s.follower.Origins() {
			if o.Name == x.Origin {
				o.Counted(n)
			}
		}
		addTicks(x, s.recount.since[x.Origin])
		maps.DeleteFunc(s.ticks, func(k tickKey, _ said) bool { return k.origin == x.Origin })
		s.batch.Ticks = slices.DeleteFunc(s.batch.Ticks, func(t store.Tick) bool { return t.Origin == x.Origin })
	}
	s.batch.Retold, s.batch.Redated = retold, redated
	s.batch.SetMeta(metaRecount, []byte{})
	s.recount.sources, s.recount.since = nil, nil
	s.flow, s.seq = s.flow+1, s.seq+1
}

// addTicks adds counts by bucket to what an origin said.
func addTicks(x *store.Retold, counts map[int64]said) {
	for b, c := range counts {
		x.From = min(x.From, b)
		x.Ticks = append(x.Ticks, store.Tick{Origin: x.Origin, Bucket: b, N: c.entries, Bytes: c.bytes})
	}
}
