// Package query answers what people and programs ask of a running service: the overview,
// details, what is watched, why something is so or not, what rules cost, what happened in a
// shift. An answer is made of the newest snapshot and of the store; it holds up nobody, and
// changes nothing.
package query

import (
	"context"
	"sync"
	"time"

	"dimlantern/core/engine"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// keyOrigins remembers which origins gave keys their hits, of keys that are not live: that
// hardly changes.
type keyOrigins struct {
	mu   sync.Mutex
	at   time.Time // when it was begun
	list map[int64][]string
}

// originsFresh is how long that is remembered.
const originsFresh = time.Minute

func (s *Asker) originsOf(key int64) ([]string, error) {
	x := &s.from
	x.mu.Lock()
	defer x.mu.Unlock()
	if time.Since(x.at) > originsFresh {
		x.at, x.list = time.Now(), map[int64][]string{}
	}
	if list, known := x.list[key]; known {
		return list, nil
	}
	list, err := s.Store.OriginsOf(key)
	if err == nil {
		x.list[key] = list
	}
	return list, err
}

// Asker answers from the newest snapshot and the store. It may be asked concurrently.
type Asker struct {
	Window *snapshot.Window
	Store  *store.Store
	// Do has the loop do something with its engine between two rounds.
	Do func(ctx context.Context, f func(*engine.Engine)) error
	// Busy is what the workbench does just now, in words; "" is nothing.
	Busy func() string
	day  dayHits
	week weekAlerts
	said dayCount
	from keyOrigins
}
