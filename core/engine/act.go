package engine

import "dimlantern/core/entry"

// The changes of an alert that people make, besides ending it.
const (
	Taken    = "taken"
	Noted    = "noted"
	Hushed   = "hushed"
	Unhushed = "unhushed"
)

// Act is what a person does to an open alert. To take it keeps it from being told again and
// from raises that are for untaken ones; the others change no state.
type Act struct {
	Alert  string        `json:"alert"`
	Change string        `json:"change"` // taken, noted, hushed or unhushed
	By     string        `json:"by"`
	Words  string        `json:"words,omitempty"`
	Until  entry.Instant `json:"until,omitempty"` // of a hush; 0 where it has no end
	// LetGo takes back that somebody has taken it.
	LetGo bool `json:"let_go,omitempty"`
}

// Act does what a person does at an instant, to which the engine has been advanced. It
// answers false where no such alert is open.
func (e *Engine) Act(a Act, at entry.Instant) ([]Transition, bool) {
	e.out = e.out[:0]
	for _, r := range e.rules {
		for _, s := range r.keys {
			if s.alert == nil || s.alert.id != a.Alert {
				continue
			}
			e.clock = entry.Later(e.clock, at)
			switch {
			case a.Change == Taken:
				s.alert.taken = true
			case a.LetGo:
				s.alert.taken, s.alert.told = false, e.clock
			}
			e.emit(s, a.Change, e.clock, s.alert.why, nil)
			t := &e.out[len(e.out)-1]
			t.By, t.Words, t.Until, t.Untold = a.By, a.Words, a.Until, ""
			e.rearm(s)
			return e.out, true
		}
	}
	return nil, false
}
