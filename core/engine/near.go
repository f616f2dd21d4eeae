package engine

import (
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Near is how near a key is to a threshold: Have hits of the Need that its rule raises at, within In; In is 0 where
// hits count without end. The zero value is a key that is near none.
type Near struct {
	Have int           `json:"have"`
	Need int           `json:"need"`
	In   time.Duration `json:"in,omitempty"`
}

// NearestRaise is the raise of a rule that lacks the fewest hits, of those that count all hits; have says how many
// there are within a time.
func NearestRaise(r *lang.Rule, have func(in time.Duration) int) Near {
	best := Near{}
	for i := range r.Raises {
		a := &r.Raises[i]
		if !a.Hits() || a.Different != "" || a.Where != nil { // not all hits count for it
			continue
		}
		n := min(have(a.In), a.At-1)
		if n > 0 && (best.Have == 0 || a.At-n < best.Need-best.Have) {
			best = Near{n, a.At, a.In}
		}
	}
	return best
}

// Near is how near the key is to a threshold of its rule at a moment, by the hits that it has.
func (k *KeyView) Near(r *lang.Rule, at entry.Instant) Near {
	return NearestRaise(r, func(in time.Duration) int {
		if in == 0 {
			return k.Total
		}
		n := 0
		for _, h := range k.Hits {
			if h <= at && at.Sub(h) < in {
				n++
			}
		}
		return n
	})
}
