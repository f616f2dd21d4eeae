package intake

import (
	"time"

	"dimlantern/core/entry"
)

// How a wrong clock is told from a late writer: over some time, everything that
// was written while the log was being read at its end lies equally far back.
const (
	clockOff = 5 * time.Minute // less than that is no wrong clock
	// how much the differences may differ: whole seconds, and the time until a log is read
	clockEqual   = 5 * time.Second
	clockSamples = 5
	clockSpan    = 30 * time.Second
	clockMemory  = 10 * time.Minute
)

// behindness is how far back what came in one slab lay when it arrived.
type behindness struct {
	arrived     time.Time
	least, most time.Duration
}

// skew measures how far the clock of an origin's writer lies back.
type skew struct {
	seen []behindness
}

// came takes the raw own times of the first and the last entry of what was written
// just before it arrived, and what is taken to be the clock's difference so far. It
// returns the difference as it is taken to be now; 0 is none.
func (s *skew) came(first, last entry.Instant, now time.Time, off time.Duration) time.Duration {
	a, b := entry.Of(now).Sub(first), entry.Of(now).Sub(last)
	x := behindness{now, min(a, b), max(a, b)}
	if x.least <= clockOff {
		s.seen = s.seen[:0]
		return 0
	}
	for len(s.seen) > 0 && (now.Sub(s.seen[0].arrived) > clockMemory || len(s.seen) >= 64) {
		s.seen = s.seen[1:]
	}
	s.seen = append(s.seen, x)
	least, most := x.least, x.most
	for _, y := range s.seen {
		least, most = min(least, y.least), max(most, y.most)
	}
	if len(s.seen) < clockSamples || now.Sub(s.seen[0].arrived) < clockSpan || most-least > clockEqual {
		if most-least > 2*clockEqual { // what lies so far apart says nothing of what comes
			s.seen = append(s.seen[:0], x)
		}
		return off
	}
	if d := least - off; off != 0 && d <= clockEqual && d >= -clockEqual {
		return off
	}
	return least.Truncate(time.Millisecond)
}
