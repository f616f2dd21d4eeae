// Package feed is what the ways in have in common by which entries come that exist
// nowhere else: entries come out, with who sent them and how; what they mean is
// never decided here.
package feed

import (
	"context"
	"time"

	"dimlantern/core/entry"
)

// Message is one entry as it came.
type Message struct {
	Host     string // who sent it, as it says itself; "" where it does not
	Way      string // how it came: a peer's address, a channel's name
	Peer     string // the peer's address and port, or what tells this entry from all others of its way
	Arrived  entry.Instant
	Text     []byte // nil: nothing but a position
	Stream   string // what Position is a position in
	Position string // up to where the stream has been read with it; "" where it has none
}

// Feed is a way in. Run receives until its context ends; all other methods may be
// called at any time, by any goroutine.
type Feed interface {
	Run(ctx context.Context)
	// Ready delivers when there is something to take.
	Ready() <-chan struct{}
	// Take takes messages, at most so many, in turn from each who sends.
	Take(most int) []Message
	// State says whether the way is open.
	State() State
}

// State is how a way in is.
type State struct {
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

// Teller is a feed that tells of what happened, once.
type Teller interface {
	Told() []string
}
