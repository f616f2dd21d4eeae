// Package query answers what people and programs ask of a running service: the overview,
// details, what is watched, why something is so or not, what rules cost, what happened in a
// shift. An answer is made of the newest snapshot and of the store; it holds up nobody, and
// changes nothing.
package query

import (
	"context"

	"dimlantern/core/engine"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// Asker answers from the newest snapshot and the store. It may be asked concurrently.
type Asker struct {
	Window *snapshot.Window
	Store  *store.Store
	// Do has the loop do something with its engine between two rounds.
	Do func(ctx context.Context, f func(*engine.Engine)) error
	// Busy is what the workbench does just now, in words; "" is nothing.
	Busy func() string
	day  dayHits
}
