package export

import (
	"context"

	"dimlantern/core/entry"
)

// CentreKind is the kind of a target that is the centre which this machine has joined.
const CentreKind = "centre"

// CentreEntry is an entry that is kept at the centre.
type CentreEntry struct {
	// ID is the same each time that the entry is handed over: the origin's part, and a number that grows.
	ID     string        `json:"id"`
	Origin string        `json:"origin"`
	At     entry.Instant `json:"at"`
	Text   string        `json:"text"` // as anybody may see it
}

// centreReceiver hands entries over to the centre.
type centreReceiver struct {
	hand func(ctx context.Context, source string, entries []CentreEntry) error
}

func (r *centreReceiver) send(ctx context.Context, list []*item) error {
	ctx, end := context.WithTimeout(ctx, patience)
	defer end()
	entries := make([]CentreEntry, 0, len(list))
	for _, x := range list {
		entries = append(entries, CentreEntry{ID: x.id, Origin: x.entry.Origin, At: x.entry.At, Text: x.entry.Raw})
	}
	return r.hand(ctx, list[0].entry.Source, entries)
}

func (r *centreReceiver) confirm(context.Context) error { return nil }

func (r *centreReceiver) answers() bool { return true }

func (r *centreReceiver) close() {}
