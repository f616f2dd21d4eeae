// Package origin is how a log can be seen, and the way by which its entries come, in plain types
// that those who read logs, those who answer questions and those who draw have in common.
package origin

import (
	"time"
)

// Way is how a way in is.
type Way struct {
	Since time.Time `json:"since"`
	Words string    `json:"words,omitempty"` // why nothing can be received; "" where it can
	Mend  string    `json:"mend,omitempty"`
	// Behind tells that something is known to be there which was not taken yet.
	Behind bool `json:"behind"`
	// Ended tells that nothing more will come; what did may still have to be taken.
	Ended bool `json:"ended,omitempty"`
	// Ways are those that cannot be seen, though others can; the words why.
	Ways map[string]Trouble `json:"ways,omitempty"`
	// Senders are those who send, the latest first.
	Senders []Sender `json:"senders,omitempty"`
	// Lost is how many messages the system dropped before they could be read.
	Lost int64 `json:"lost,omitempty"`
	// Note is what else is to be said of the way.
	Note string `json:"note,omitempty"`
}

// Trouble is why something cannot be seen, and what mends it.
type Trouble struct {
	Words string `json:"words"`
	Mend  string `json:"mend,omitempty"`
}

// Sender is who sends, and how much.
type Sender struct {
	Name     string    `json:"name"` // an address, a channel's name
	Received int64     `json:"received"`
	Dropped  int64     `json:"dropped"` // for want of room
	Last     time.Time `json:"last"`
	Streams  int       `json:"streams,omitempty"` // connections that are open
	Note     string    `json:"note,omitempty"`
}

// Condition is how an origin, or a source without any, can be seen.
type Condition string

// The conditions of an origin.
const (
	Seen       Condition = "seen"
	Catching   Condition = "catching up"
	Waiting    Condition = "waiting"
	Resting    Condition = "resting"
	Gone       Condition = "gone"
	Unreadable Condition = "not readable"
	Folder     Condition = "a folder"
	NoFile     Condition = "no file"
	Unreached  Condition = "not reached"
	HeldUp     Condition = "held up" // nothing is read, for want of room for what comes of it
	Off        Condition = "off"
	Late       Condition = "late"
	Bursts     Condition = "writes in bursts"
	NoFit      Condition = "no longer fits"
	WrongClock Condition = "wrong clock"
)

// Blind tells whether an origin in that condition cannot be seen.
func (c Condition) Blind() bool {
	return c == Gone || c == Unreadable || c == Folder || c == NoFile || c == Unreached
}

// State is what is known of an origin now.
type State struct {
	Condition Condition     `json:"state"`
	Words     string        `json:"words,omitempty"` // what is the matter, in a sentence
	Mend      string        `json:"mend,omitempty"`
	Since     time.Time     `json:"since"`
	Behind    int64         `json:"behind_bytes"`
	Left      time.Duration `json:"left,omitempty"` // how long it takes to catch up
	Lag       time.Duration `json:"lag"`            // from an entry's own time to its arrival, of the newest
	Worst     time.Duration `json:"worst"`          // of the last hour
	WorstAt   time.Time     `json:"worst_at"`
	Skew      time.Duration `json:"clock_behind,omitempty"` // of its writer's clock, and taken off
	Misfits   int64         `json:"misfits"`                // of so many of its newest entries that were looked at
	Looked    int64         `json:"looked"`
	Misfit    string        `json:"misfit,omitempty"` // the newest one of them
	Gaps      int64         `json:"lost_bytes"`
	Cut       int64         `json:"cut_entries"`
}
