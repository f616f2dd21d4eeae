package service

import (
	"fmt"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/store"

	"github.com/dustin/go-humanize/english"
)

// begunAgain records, behind the edit that did it, that a source began again from its oldest entry:
// what lay before counts as read, what rules would have made of it is written into the past, and the
// tide is counted anew. Nothing of the past is told.
func (s *Service) begunAgain(d *draft) {
	logs := 0
	for _, o := range s.follower.Origins() {
		if o.Source.Name == d.anew {
			o.ReadBefore()
			logs++
		}
	}
	s.batch.Oldest = append(s.batch.Oldest, d.anew)
	did := fmt.Sprintf("the source %s began again from its oldest entry: %s", d.anew,
		english.Plural(logs, "log was read once more", "logs were read once more"))
	if p := d.again.Past; p != nil {
		s.batch.Transitions = append(s.batch.Transitions, p.Transitions...)
		s.batch.Hits = append(s.batch.Hits, p.Hits...)
		s.batch.Counts = append(s.batch.Counts, p.Counts...)
		raised := 0
		for i := range p.Transitions {
			if p.Transitions[i].Change == engine.Raised {
				raised++
			}
		}
		did += fmt.Sprintf("; %s and ended in it, and %s told", english.Plural(raised, "alert began", "alerts began"),
			english.PluralWord(raised, "is not", "are not"))
	}
	s.notice(did)
	s.countLater([]string{d.anew})
	act := store.Action{By: "somebody"}
	for _, a := range d.asked {
		if a.by != nil {
			act = *a.by
		}
	}
	act.What, act.At, act.Did = "settings", entry.Of(time.Now()), did
	s.batch.Actions = append(s.batch.Actions, act)
	s.seq++
}
