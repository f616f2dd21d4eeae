package service

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"slices"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/folder"
)

// The journal is what the engine was told since its state was written out whole: inputs, and
// between them edits, which are what was written in the settings then. An edit so is as
// short as the settings are, however many keys there are.

// editMark begins an edit, where else the kind of an input stands; behind it come its length,
// as a uvarint, and an edit as JSON.
const editMark = 0xff

// edit is new rules that were taken up, and what the engine cannot find out again from them.
type edit struct {
	Texts []byte `json:"texts"` // the settings, see folder.Encode
	// Built is the state of rules that was built anew from logs, and Rules which they are.
	Built []byte   `json:"built,omitempty"`
	Rules []string `json:"rules,omitempty"`
	// First says of rules before when nothing that was built anew counts.
	First map[string]entry.Instant `json:"first,omitempty"`
	Again string                   `json:"again,omitempty"` // a source that began again from its oldest entry
}

// journalEdit writes an edit into the journal, before it is done.
func (s *Service) journalEdit(d *draft, first func(*lang.Rule) entry.Instant) error {
	x := edit{Texts: folder.Encode(d.texts), Again: d.anew}
	if built := d.again.Engine(); built != nil {
		x.Built, x.First = built.Encode(), map[string]entry.Instant{}
		for _, r := range built.Rules() {
			x.Rules = append(x.Rules, r.Name)
			x.First[r.Name] = first(r)
		}
	}
	b, err := json.Marshal(x)
	if err != nil {
		return err
	}
	s.flushReach()
	s.batch.Journal = binary.AppendUvarint(append(s.batch.Journal, editMark), uint64(len(b)))
	s.batch.Journal = append(s.batch.Journal, b...)
	return nil
}

// replayJournal tells the engine what a piece of the journal says, and goes by the settings
// that were taken up then.
func (s *Service) replayJournal(b []byte) error {
	for len(b) > 0 {
		if b[0] != editMark {
			in, rest, err := engine.ReadInput(b)
			if err != nil {
				return err
			}
			s.engine.Apply(in)
			b = rest
			continue
		}
		n, size := binary.Uvarint(b[1:])
		if size <= 0 || n > uint64(len(b)-1-size) {
			return engine.ErrInput
		}
		from := 1 + size
		var x edit
		if err := json.Unmarshal(b[from:from+int(n)], &x); err != nil {
			return fmt.Errorf("an edit in the journal cannot be read: %w", err)
		}
		if err := s.replayEdit(&x); err != nil {
			return err
		}
		b = b[from+int(n):]
	}
	return nil
}

// replayEdit does an edit once more.
func (s *Service) replayEdit(x *edit) error {
	texts, err := folder.Decode(x.Texts)
	if err != nil {
		return err
	}
	settings, _ := s.house.CheckErrors(texts)
	rules := trial.Active(settings)
	var built *engine.Engine
	if x.Built != nil {
		var of []*lang.Rule
		for _, r := range rules {
			if slices.Contains(x.Rules, r.Name) {
				of = append(of, r)
			}
		}
		if built, err = engine.Decode(of, x.Built); err != nil {
			return err
		}
	}
	same := unchanged(s.texts, s.settings, texts, settings)
	s.editEngine(settings, rules, built, same, func(r *lang.Rule) entry.Instant { return x.First[r.Name] },
		x.Again)
	s.texts, s.settings = texts, settings
	return nil
}

// editEngine lets the engine go by the rules of new settings.
func (s *Service) editEngine(settings *lang.Settings, rules []*lang.Rule, built *engine.Engine,
	unchanged map[string]bool, first func(*lang.Rule) entry.Instant, again string) []engine.Transition {
	before := s.settings
	changes := s.engine.Edit(rules, engine.Change{Built: built, First: first,
		SameMatch: func(a, b *lang.Rule) bool {
			return trial.MeansSame(before, a, settings, b) && (again == "" || !b.LooksAt(again))
		},
		Unchanged: func(old, _ *lang.Rule) bool { return unchanged[old.Name] }})
	s.engine.MostKeys = settings.Keys()
	return changes
}
