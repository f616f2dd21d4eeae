package query

import (
	"context"

	"dimlantern/api"
)

// Turn is the transition before an instant, or behind it.
func (s *Asker) Turn(_ context.Context, q api.TurnQuery) (*api.Turn, error) {
	at, err := s.Store.Turn(q.Rule, q.Key, q.At, q.After)
	return &api.Turn{At: at}, err
}
