package snapshot

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/core/trial"
	"dimlantern/core/verdict"
	"dimlantern/intake"
	"dimlantern/store"
)

// Past is what rules make of entries that lay in the logs of a source before it was watched: alerts
// that were raised and cleared again, and hits. Of more than it keeps, the newest count.
type Past struct {
	Transitions []engine.Transition
	Hits        []store.Hit   // the evidence of each key
	Counts      []store.Count // how many hits each key had, by bucket
	Untimed     bool          // the entries say no time: nothing of it has a place in the past

	until map[string]entry.Instant // by origin, when the first entry was written that had been read
	open  map[string][]engine.Transition
	hits  map[string][]store.Hit
	marks map[pastMark]int
	names map[string]pastKey
}

type pastKey struct {
	rule string
	key  []string
}

type pastMark struct {
	key    string
	bucket int64
}

// Bounds of what is kept of the past.
const (
	mostPast     = 5_000 // transitions
	mostPastKey  = 20    // hits of a key
	mostPastHits = 5_000
	mostMarks    = 20_000
)

// rebuildFromOldest runs the rules that look at a source over all that it has, and over what the other
// sources that they look at were read of.
func (s *Snapshot) rebuildFromOldest(ctx context.Context, b *Rebuilding, rules []*lang.Rule) error {
	for _, r := range rules {
		if r.LooksAt(b.Again) {
			b.rules = append(b.rules, r)
		}
	}
	if len(b.rules) == 0 {
		return nil
	}
	b.Past = &Past{until: map[string]entry.Instant{}, open: map[string][]engine.Transition{},
		hits: map[string][]store.Hit{}, marks: map[pastMark]int{}, names: map[string]pastKey{}}
	var inputs []*trial.Input
	for _, o := range s.Origins {
		if !b.concerns(o) {
			continue
		}
		said := o.SaidSince(nil)
		if o.Source.Name == b.Again {
			b.Past.until[o.Name] = firstTime(b.settings, o, said)
			b.Past.Untimed = b.Past.Untimed || b.Past.until[o.Name] == entry.None
			said.Close()
			said = o.Again(1, 1<<62, true)
		}
		defer said.Close()
		inputs = append(inputs, &trial.Input{Source: b.settings.Source(o.Source.Name), Path: o.Series, Host: o.Host,
			Origin: o.Name, Files: said.Files, Near: said.Near, Header: said.Header, Skew: o.Skew()})
	}
	var err error
	b.engine, err = trial.Rebuild(b.settings, b.rules, inputs, trial.Options{Zone: time.Local, From: 1,
		Reporter: s.Reporter(), Stop: ctx.Err,
		Saw: b.Past.saw, Emit: b.Past.emit})
	b.Past.end()
	return err
}

// firstTime is when the first entry was written that has been read of an origin; None where no entry
// says when.
func firstTime(settings *lang.Settings, o *intake.Origin, said *intake.Again) entry.Instant {
	plan := match.NewPlan(settings, settings.Source(o.Source.Name), nil, time.Local)
	if !plan.Timed() {
		return entry.None
	}
	if len(said.Files) == 0 {
		return 1<<63 - 1 // nothing has been read
	}
	buf := make([]byte, 64<<10)
	n, _ := said.Files[0].Read(buf)
	if n == 0 {
		return 1<<63 - 1
	}
	r := match.NewReader(plan, "", "", false)
	r.Near = said.Near
	first, _ := r.Times(buf[:n], entry.Of(time.Now()))
	return first
}

// saw takes a hit that was not seen when it came.
func (p *Past) saw(rule string, v *verdict.Verdict, x *entry.Entry) {
	until, of := p.until[x.Origin]
	if !of || until == entry.None || x.At >= until || !v.Hit {
		return
	}
	key := engine.Written(v.Key)
	id := rule + "\x00" + strings.Join(key, "\x00")
	p.names[id] = pastKey{rule, key}
	p.marks[pastMark{id, store.BucketOf(x.At)}]++
	list := append(p.hits[id], store.Hit{Rule: rule, Key: key, At: x.At, Origin: x.Origin, Offset: x.Offset,
		Text: entry.Evidence(x.Raw), Skew: x.Skew, Counted: true})
	if len(list) >= 2*mostPastKey {
		list = slices.Clone(list[len(list)-mostPastKey:])
	}
	p.hits[id] = list
}

// emit takes what would have come of it, until the first entry that had been read.
func (p *Past) emit(t *engine.Transition) {
	until := entry.None
	for _, at := range p.until {
		if at != entry.None && (until == entry.None || at < until) {
			until = at
		}
	}
	if until == entry.None || t.At >= until {
		return
	}
	x := *t
	x.Untold = engine.CatchingUp
	list := append(p.open[t.Alert], x)
	if t.Change != engine.Cleared {
		p.open[t.Alert] = list
		return
	}
	delete(p.open, t.Alert)
	p.Transitions = append(p.Transitions, list...)
	if n := len(p.Transitions); n > 2*mostPast {
		p.Transitions = slices.Clone(p.Transitions[n-mostPast:])
	}
}

// end lets go of all but the newest.
func (p *Past) end() {
	newest := func(n, most int) int { return max(n-most, 0) }
	p.Transitions = p.Transitions[newest(len(p.Transitions), mostPast):]
	for _, list := range p.hits {
		p.Hits = append(p.Hits, list[newest(len(list), mostPastKey):]...)
	}
	slices.SortFunc(p.Hits, func(a, b store.Hit) int {
		return cmp.Or(cmp.Compare(a.At, b.At), cmp.Compare(a.Offset, b.Offset), cmp.Compare(a.Rule, b.Rule))
	})
	p.Hits = p.Hits[newest(len(p.Hits), mostPastHits):]
	for m, n := range p.marks {
		k := p.names[m.key]
		p.Counts = append(p.Counts, store.Count{Rule: k.rule, Key: k.key, Bucket: m.bucket, N: n})
	}
	slices.SortFunc(p.Counts, func(a, b store.Count) int { return cmp.Compare(a.Bucket, b.Bucket) })
	p.Counts = p.Counts[newest(len(p.Counts), mostMarks):]
	p.open, p.hits, p.marks, p.names = nil, nil, nil, nil
}
