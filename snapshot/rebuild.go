package snapshot

import (
	"context"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/intake"
)

// Rebuilding runs the rules that match differently in new settings over what their logs
// have said, from before their oldest open alert and as long as they look back: so an edit
// ends no alert that would be open under the new rule. That may take long, and is done
// beside the loop: what the logs say meanwhile is read in further steps, the last of which
// the loop waits for.
type Rebuilding struct {
	settings *lang.Settings
	rules    []*lang.Rule
	at       *Snapshot // up to which it has read
	engine   *engine.Engine
	// Again is the source that begins again from its oldest entry; "" where none does. The rules
	// that look at it are built anew whatever they were.
	Again string
	// Past is what those rules make of what had not been read of it; nil where none does.
	Past *Past
}

// Rebuild reads once more what the logs had said when the snapshot was made, for those of
// the rules of new settings that need it; Engine is nil where none does. Again is a source that
// begins again from its oldest entry; "" where none does.
func (s *Snapshot) Rebuild(ctx context.Context, settings *lang.Settings, rules []*lang.Rule,
	again string) (*Rebuilding, error) {
	b := &Rebuilding{settings: settings, at: s, Again: again}
	if again != "" {
		return b, s.rebuildFromOldest(ctx, b, rules)
	}
	from := s.Engine.Clock
	for _, r := range rules {
		old := s.Settings.Rule(r.Name)
		if old == nil || old.Off || trial.MeansSame(s.Settings, old, settings, r) {
			continue
		}
		b.rules = append(b.rules, r)
		begins := s.Engine.Clock
		s.Engine.Open(func(k *engine.KeyView) bool {
			if k.Rule == r.Name {
				begins = min(begins, k.Raised)
			}
			return true
		})
		from = min(from, begins.Add(-max(r.Longest(), old.Longest())))
	}
	if len(b.rules) == 0 || s.Engine.Clock == entry.None {
		b.rules = nil
		return b, nil
	}
	inputs, done := s.Again(settings, from, b.rules, intake.MostAgain, false)
	defer done()
	var err error
	b.engine, err = trial.Rebuild(settings, b.rules, inputs,
		trial.Options{Zone: time.Local, From: max(from, 1), Reporter: s.Reporter(), Stop: ctx.Err})
	return b, err
}

// Behind is how many bytes have been judged by the time of a snapshot that are not read yet.
func (b *Rebuilding) Behind(now *Snapshot) int64 {
	if b.engine == nil {
		return 0
	}
	n := int64(0)
	for _, o := range now.Origins {
		if b.concerns(o) {
			n += o.Judged()
			if was := b.at.Origin(o.Name); was != nil {
				n -= was.Judged()
			}
		}
	}
	return n
}

// CatchUp reads what the logs have said since, up to a snapshot.
func (b *Rebuilding) CatchUp(ctx context.Context, now *Snapshot) error {
	if b.engine == nil {
		return nil
	}
	var inputs []*trial.Input
	for _, o := range now.Origins {
		if !b.concerns(o) {
			continue
		}
		said := o.SaidSince(b.at.Origin(o.Name))
		defer said.Close()
		inputs = append(inputs, &trial.Input{Source: b.settings.Source(o.Source.Name), Path: o.Series, Host: o.Host,
			Origin: o.Name, Files: said.Files,
			Near: said.Near, Header: said.Header, Skew: o.Skew()})
	}
	b.at = now
	_, err := trial.Rebuild(b.settings, b.rules, inputs,
		trial.Options{Zone: time.Local, Engine: b.engine, Stop: ctx.Err})
	return err
}

// Engine has the state of the rules that were rebuilt; nil where none needed it.
func (b *Rebuilding) Engine() *engine.Engine { return b.engine }

// concerns tells whether one of the rules looks at an origin.
func (b *Rebuilding) concerns(o *intake.Origin) bool {
	src := b.settings.Source(o.Source.Name)
	if src == nil {
		return false
	}
	for _, r := range b.rules {
		if r.LooksAt(src.Name) {
			return true
		}
	}
	return false
}
