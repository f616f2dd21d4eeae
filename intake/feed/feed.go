// Package feed is what the ways in have in common by which entries come that exist
// nowhere else: entries come out, with who sent them and how; what they mean is
// never decided here.
package feed

import (
	"context"

	"dimlantern/core/origin"

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

// Feed is a way in. Run receives until its context ends, once; all other methods may be
// called at any time, by any goroutine. What has been received and not taken is lost with
// the process: who takes it keeps it before anything else is told of it.
type Feed interface {
	Run(ctx context.Context)
	// Ready delivers when there is something to take.
	Ready() <-chan struct{}
	// Take takes messages, at most so many, in turn from each who sends; none where there is
	// nothing. They belong to the caller.
	Take(most int) []Message
	// State says whether the way is open.
	State() origin.Way
}

// Teller is a feed that tells of what happened. Told answers with each thing once, and may be
// called by any goroutine.
type Teller interface {
	Told() []string
}
