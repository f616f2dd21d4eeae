// Package api is what can be asked of Dim Lantern, and what it can be told to do: the
// types of the questions and answers, and one table of endpoints. A client over a socket,
// the server behind it, and the desk at which both screens of the same process and tests
// ask, are made from that table; so a question is written down once.
//
// Answers are never changed by who gave them, and must not be by who got them: at a desk
// they may be shared. Nothing is computed here, and nothing is known of files, rules that
// are at work, or the database.
package api

import (
	"context"
	"fmt"
)

// Lantern answers what the endpoints ask. A *Desk in this process and a *Client over a
// socket are the same Lantern. It may be asked concurrently. An end of the context ends
// the work on the answer as well.
type Lantern interface {
	answer(ctx context.Context, path string, q, into any) error
}

// None is the question or the answer of an endpoint that has none.
type None = struct{}

// Endpoint is one question, or one thing that can be told to be done: Q is what is asked,
// A the answer.
type Endpoint[Q, A any] struct{ path string }

// table has the path of every endpoint, in the order in which they are declared.
var table []string

func endpoint[Q, A any](path string) Endpoint[Q, A] {
	table = append(table, path)
	return Endpoint[Q, A]{path}
}

// Call asks l. An error is a *Problem wherever the one who answers knew more than that it
// failed; see [Problem].
func (e Endpoint[Q, A]) Call(ctx context.Context, l Lantern, q Q) (*A, error) {
	a := new(A)
	if err := l.answer(ctx, e.path, q, a); err != nil {
		return nil, err
	}
	return a, nil
}

// Answer lets f answer at a desk. It must happen before anybody asks there; f may be
// called concurrently.
func (e Endpoint[Q, A]) Answer(d *Desk, f func(context.Context, Q) (*A, error)) {
	d.answers[e.path] = handler{
		question: func() any { return new(Q) },
		answer:   func(ctx context.Context, q any) (any, error) { return f(ctx, *q.(*Q)) },
		direct: func(ctx context.Context, q, into any) error {
			a, err := f(ctx, q.(Q))
			if err == nil && a != nil {
				*into.(*A) = *a
			}
			return err
		},
	}
}

// Desk answers in its own process, by what Answer was given for each endpoint.
type Desk struct{ answers map[string]handler }

// handler is how an endpoint is answered: from its question as it came over the wire, or
// directly.
type handler struct {
	question func() any
	answer   func(ctx context.Context, q any) (any, error)
	direct   func(ctx context.Context, q, into any) error
}

// NewDesk returns a desk at which nothing is answered yet.
func NewDesk() *Desk { return &Desk{map[string]handler{}} }

func (d *Desk) answer(ctx context.Context, path string, q, into any) error {
	h, ok := d.answers[path]
	if !ok {
		return unknown(path)
	}
	return h.direct(ctx, q, into)
}

// Missing are the endpoints that are not answered at the desk.
func (d *Desk) Missing() []string {
	var out []string
	for _, path := range table {
		if _, ok := d.answers[path]; !ok {
			out = append(out, path)
		}
	}
	return out
}

func unknown(path string) *Problem {
	return &Problem{Code: Unknown, What: fmt.Sprintf("%s is not answered here", path),
		Mend: "the screens and the service are of different versions: restart the older one"}
}
