package api

import "dimlantern/core/entry"

// TurnQuery asks for the transition before an instant, or behind it: of a key, of a rule where no key is
// given, or of all.
type TurnQuery struct {
	Rule  string        `json:"rule,omitempty"`
	Key   []string      `json:"key,omitempty"`
	At    entry.Instant `json:"at"`
	After bool          `json:"after"`
}

// Turn is when that is; None where there is none.
type Turn struct {
	At entry.Instant `json:"at"`
}
