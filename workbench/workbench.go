// Package workbench answers what is asked while settings are written: what a text means and
// would have done, how a layout divides, what a new log looks like, what a change would do.
// It reads logs and the settings folder, and writes settings files where that is asked for;
// taking them up is the service's.
package workbench

import (
	"context"
	"sync/atomic"

	"dimlantern/query"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// Workbench answers what is asked while settings are written: what a text means and would
// have done, how a layout divides, what a new log looks like. It may be asked concurrently;
// it holds one sample at a time.
type Workbench struct {
	Window *snapshot.Window
	Store  *store.Store
	Query  *query.Asker
	// Reload lets the service look at its settings folder now.
	Reload func()
	// TakeUp has the service take up what was written, and answers what came of it. A source that is
	// named begins again from its oldest entry with it.
	TakeUp func(ctx context.Context, by store.Action, again string) (said []string, err error)
	// TakeUpAll is TakeUp, with kits that have changed with the program.
	TakeUpAll func(ctx context.Context, by store.Action) (said []string, err error)
	// State is the engine's whole state, encoded.
	State func(ctx context.Context) ([]byte, error)
	// Remote asks hosts that have joined; nil where none can.
	Remote query.Remote
	bench  benchSamples
	does   atomic.Value // what reading a sample does just now, in words
	tries  portTrials
	looks  looks
}

// Close lets go of the ports at which it listens to see who sends.
func (s *Workbench) Close() { s.tries.end() }

// Busy is what the workbench does just now, in words; "" is nothing.
func (s *Workbench) Busy() string {
	words, _ := s.does.Load().(string)
	return words
}
