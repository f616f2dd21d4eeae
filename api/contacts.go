package api

import (
	"fmt"

	"dimlantern/core/entry"
)

// ContactList are all contacts of the settings, in the order of their names.
type ContactList struct {
	List []ContactView `json:"list"`
}

// ContactView is a contact, and how each of its ways goes.
type ContactView struct {
	Name   string    `json:"name"`
	Off    bool      `json:"off,omitempty"`
	Limits []string  `json:"limits,omitempty"` // in words: what it is told, when, and how much
	Waits  int       `json:"waits"`            // what was decided, and is in no message yet
	Ways   []WayTold `json:"ways"`
}

// WayTold is how a way of a contact goes.
type WayTold struct {
	Way     string        `json:"way"`   // mail, webhook, …
	Where   string        `json:"where"` // without anything secret
	Waiting int           `json:"waiting"`
	Told    entry.Instant `json:"told"`             // when it worked last; None where it never has
	Answer  string        `json:"answer,omitempty"` // what the receiver said then
	Failed  entry.Instant `json:"failed"`           // when what could not be told last was made; None
	Error   string        `json:"error,omitempty"`  // why it could not
	GivenUp int           `json:"given_up,omitempty"`
}

// Say says how the way goes.
func (w *WayTold) Say() string {
	s := "nothing was told yet"
	if w.Told != entry.None {
		s = "told last at " + Moment(w.Told)
	}
	if w.Waiting > 0 {
		s += fmt.Sprintf(", %d waiting", w.Waiting)
	}
	if w.GivenUp > 0 {
		s += fmt.Sprintf(", %d given up", w.GivenUp)
	}
	if w.Error != "" && w.Failed > w.Told {
		s += "; of " + Moment(w.Failed) + ": " + w.Error
	}
	return s
}

// TestQuery tells a contact a test, by all of its ways.
type TestQuery struct {
	Person
	Contact string `json:"contact"`
}

// Tested is what came of a test, a way each.
type Tested struct {
	Contact string      `json:"contact"`
	Ways    []TestedWay `json:"ways"`
}

// TestedWay is what came of a test by one way.
type TestedWay struct {
	Way    string `json:"way"`
	OK     bool   `json:"ok"`
	Answer string `json:"answer,omitempty"` // of the receiver, where it was told
	Where  string `json:"where,omitempty"`  // what was being done when it failed
	What   string `json:"what,omitempty"`
	Mend   string `json:"mend,omitempty"`
}
