package store

import (
	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// SeenBefore says from when on a rule of some settings may find in its logs what opens an
// alert: nothing that lay before its sources were first seen, but for one that begins again from its
// oldest entry; "" where none does.
func (s *Store) SeenBefore(settings *lang.Settings, again string) func(*lang.Rule) entry.Instant {
	return func(r *lang.Rule) entry.Instant {
		first := entry.None
		for _, src := range settings.Sources {
			if r.LooksAt(src.Name) && src.Name != lang.Itself && src.Name != again {
				first = max(first, s.FirstSeen(src.Name))
			}
		}
		return first
	}
}
