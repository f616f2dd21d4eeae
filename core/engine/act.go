package engine

import "dimlantern/core/entry"

// The changes of an alert that people make, besides ending it.
const (
	Taken    = "taken"
	Noted    = "noted"
	Hushed   = "hushed"
	Unhushed = "unhushed"
)

// act does what a person does, at an instant to which the engine has been advanced. It
// answers false where no such alert is open.
func (e *Engine) act(a Act) bool {
	s := e.keyWith(a.Alert)
	if s == nil {
		return false
	}
	e.clock = entry.Later(e.clock, a.At)
	switch {
	case a.Change == Taken:
		s.alert.taken = true
	case a.LetGo:
		s.alert.taken, s.alert.told = false, e.clock
	}
	e.changed(s)
	e.emit(s, a.Change, e.clock, s.alert.why, nil)
	t := &e.out[len(e.out)-1]
	t.By, t.Words, t.Until, t.LetGo, t.Untold = a.By, a.Words, a.Until, a.LetGo, ""
	if s.rule.index >= 0 {
		e.rearm(s)
	}
	return true
}
