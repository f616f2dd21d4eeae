package api

import (
	"time"

	"dimlantern/core/entry"
)

// Delivery is how a delivery stands.
type Delivery struct {
	Name      string        `json:"name"`
	To        string        `json:"to"`
	Off       bool          `json:"off,omitempty"`
	Trouble   bool          `json:"trouble"`
	Words     string        `json:"words"` // what is the matter, or how it goes
	Mend      string        `json:"mend,omitempty"`
	Since     entry.Instant `json:"-"`         // of the trouble
	Sent      int64         `json:"delivered"` // entries, in all
	Refused   int64         `json:"refused"`   // entries that the receiver refused for good
	Lost      int64         `json:"lost_bytes"`
	Waiting   int64         `json:"waiting_bytes"` // that are there and not delivered
	Entries   int64         `json:"unsure"`        // of those, entries that were sent and not surely taken yet
	Oldest    time.Duration `json:"oldest_ns"`     // since when the oldest of it waits
	Buffer    int64         `json:"buffer_bytes"`  // how much may wait of what exists nowhere else
	WhenFull  string        `json:"when_full"`     // in words
	LastTaken entry.Instant `json:"-"`             // when the receiver took something last; 0 is never
}
