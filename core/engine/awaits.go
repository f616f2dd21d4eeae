package engine

import (
	"slices"

	"dimlantern/core/verdict"

	"dimlantern/core/entry"
)

// waiting is what a key of a rule that awaits is waiting for.
type waiting struct {
	waits bool          // it is
	aged  bool          // a clear by age ended the waiting of `after D without`
	asked entry.Instant // the own time from which the time without counts; None: from when watching began
	heard entry.Instant // the newest awaited entry's own time; None: never
	by    entry.Instant // up to when the times of day have been judged
}

var noWait = waiting{asked: entry.None, heard: entry.None, by: entry.None}

// begin lets rules that await wait. It answers true where something is new.
func (e *Engine) begin(at entry.Instant, origins []Origin) bool {
	changed := false
	for _, r := range e.rules {
		if r.Awaits == nil {
			changed = e.watches(r, at, origins) || changed
			continue
		}
		if r.began == entry.None {
			r.began, changed = at, true
		}
		if r.Once != nil {
			continue
		}
		start := func(key []string, origin string) {
			if s := r.keys[keyID(Written(key))]; s != nil &&
				(s.wait.waits || s.alert != nil || origin == "" || slices.Contains(s.origins, origin)) {
				return
			}
			was := e.clock
			e.clock = entry.Later(e.clock, at)
			s := e.known(r, key, origin)
			e.clock = was
			s.wait.waits, s.wait.by = true, at
			s.zero = at
			changed = true
			e.unseen(s, at)
			e.rearm(s)
		}
		if len(r.Per) == 0 {
			start(nil, "")
		}
		for _, h := range r.From {
			start([]string{h}, "")
		}
		for _, o := range origins {
			if key := r.keyOf(o); key != nil && len(r.From) == 0 {
				start(key, o.Name)
			}
		}
	}
	return changed
}

// keyOf is the key that a log itself gives; nil where it gives none, or the rule does not
// look at it.
func (r *rule) keyOf(o Origin) []string {
	if !r.origin || !r.LooksAt(o.Source) {
		return nil
	}
	key := make([]string, len(r.Per))
	for i, f := range r.Per {
		key[i] = map[string]string{"origin": o.Name, "source": o.Source, "channel": o.Channel, "host": o.Host}[f]
	}
	if slices.Contains(key, "") {
		return nil
	}
	return key
}

// watches makes the keys known that logs themselves give to a rule that blindness raises,
// so that a log that has never said anything for it can be missed.
func (e *Engine) watches(r *rule, at entry.Instant, origins []Origin) bool {
	if !r.watchful() {
		return false
	}
	changed := false
	for _, o := range origins {
		key := r.keyOf(o)
		if s := r.keys[keyID(key)]; key == nil || s != nil && slices.Contains(s.origins, o.Name) {
			continue
		}
		was := e.clock
		e.clock = entry.Later(e.clock, at)
		s := e.known(r, key, o.Name)
		e.clock = was
		changed = true
		e.unseen(s, at)
	}
	return changed
}

// unseen tells a key that is new that none of its logs can be seen, where that is so.
func (e *Engine) unseen(s *state, at entry.Instant) {
	if s.blindAt == entry.None && e.allBlind(s) {
		s.blindAt = at
		e.rearm(s)
	}
}

// watchful tells whether the keys that logs give are known from when watching starts.
// Numbers over time look at when a key was first seen, so they wait for its first entry.
func (r *rule) watchful() bool {
	return r.Blind > 0 && r.Awaits == nil && r.origin && len(r.whens) == 0
}

// heard takes an awaited entry.
func (e *Engine) heard(r *rule, v *verdict.Verdict, x *entry.Entry) {
	if r.Once != nil { // an answer
		for _, s := range r.agreeing(v.Key) {
			e.changed(s)
			if s.wait.waits || s.alert != nil {
				if s.alert != nil {
					e.clear(s, e.clock, "heard", x)
				}
				s.wait = noWait
				e.restart(s)
			}
		}
		return
	}
	s := e.known(r, v.Key, x.Origin)
	old := r.shortest > 0 && e.clock.Sub(v.At) > r.shortest // it ends nothing
	first := s.wait.heard == entry.None && !s.wait.waits
	s.wait.waits, s.wait.aged = true, false
	s.wait.asked = entry.Later(s.wait.asked, v.At)
	s.wait.heard = entry.Later(s.wait.heard, v.At)
	if first {
		s.wait.by = e.clock
	}
	if s.alert != nil && !old {
		e.clear(s, e.clock, "heard", x)
		e.restart(s)
		return
	}
	e.rearm(s)
}

// asked takes a question: its key waits for the answer.
func (e *Engine) asked(r *rule, v *verdict.Verdict, x *entry.Entry) {
	s := e.known(r, v.Key, x.Origin)
	if s.wait.waits && !s.wait.aged {
		return
	}
	s.wait = waiting{waits: true, asked: v.At, heard: entry.None, by: e.clock}
	e.rearm(s)
}

// without is when a raise of a key that waits falls due; None where it does not.
func (s *state) without(i int) entry.Instant {
	r := s.rule
	x := &r.Raises[i]
	if !s.wait.waits || s.alert != nil && x.Severity <= s.alert.severity {
		return entry.None
	}
	switch {
	case x.Without > 0:
		from := s.wait.asked
		if r.Once == nil {
			from = entry.Later(from, r.began)
		}
		if s.wait.aged || from == entry.None {
			return entry.None
		}
		return r.Lasting(from, x.Without)
	case x.By != nil:
		from := entry.Later(s.wait.by, r.began)
		for day := 0; day < 8; day++ {
			at := r.OnDay(from, day, x.By.At)
			if at > from && x.By.Days.Has(r.Weekday(at)) && (len(r.During) == 0 || r.Inside(at-1)) {
				return at
			}
		}
		if len(r.During) > 0 { // look again from a week on
			return r.OnDay(from, 8, x.By.At)
		}
	}
	return entry.None
}

// misses tells whether what was awaited had not come by a time of day.
func (s *state) misses(i int, at entry.Instant) bool {
	r := s.rule
	b := r.Raises[i].By
	if !b.Days.Has(r.Weekday(at)) || len(r.During) > 0 && !r.Inside(at-1) {
		return false
	}
	if r.Once != nil {
		return true
	}
	day := r.Midnight(at, 0)
	if s.wait.heard == entry.None && r.began >= day {
		return false // it was not watched all day
	}
	return s.wait.heard == entry.None || s.wait.heard < day
}
