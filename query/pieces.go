package query

import (
	"context"
	"time"

	"dimlantern/core/ask"
	"dimlantern/core/entry"
)

// pieceEntries is how many entries a piece of an answer is to have, about; pieceLooks in how many periods they
// are counted for that.
const pieceEntries, pieceLooks = 20_000, 2_000

// HasPieces tells whether [Asking.Pieces] can answer the question: it is about entries, each for itself.
func (x *Asking) HasPieces() bool {
	if x.Others != nil { // hosts send the newest alone
		return false
	}
	p, err := x.Plan.Piece(x.Plan.Span.From, x.Plan.Span.To, 0)
	return p != nil && err == nil
}

// Pieces answers a question about entries themselves once more, in pieces of its span, the oldest first,
// each of them so small that it leaves nothing out: where an answer as a whole had no room for all. It
// tells how many entries were left out all the same, which are those of one millisecond.
func (x *Asking) Pieces(ctx context.Context, each func(*Asked) error) (left int64, err error) {
	span := x.Plan.Span
	every := max(span.To.Sub(span.From)/time.Duration(pieceLooks), time.Millisecond)
	counts, err := x.Plan.Piece(span.From, span.To, every)
	if err != nil {
		return 0, err
	}
	a, err := x.as(counts).Answer(ctx)
	if err != nil || len(a.Groups) == 0 {
		return 0, err
	}
	from, sum := span.From, 0.0
	for k, values := range a.Groups[0].Series {
		n, _ := values[0].Float()
		at := max(counts.Span.Bounds[k], span.From)
		if sum > 0 && sum+n > float64(pieceEntries) && at > from {
			if err := x.piece(ctx, from, at, each, &left); err != nil {
				return left, err
			}
			from, sum = at, 0
		}
		sum += n
	}
	return left, x.piece(ctx, from, span.To, each, &left)
}

// as is the same question with another plan.
func (x *Asking) as(p *ask.Plan) *Asking {
	y := *x
	y.Plan, y.Each = p, nil
	return &y
}

// piece answers a part of the span, or its halves where that has no room either.
func (x *Asking) piece(ctx context.Context, from, to entry.Instant, each func(*Asked) error, left *int64) error {
	p, err := x.Plan.Piece(from, to, 0)
	if err != nil {
		return err
	}
	a, err := x.as(p).Answer(ctx)
	if err != nil {
		return err
	}
	if half := from.Add(to.Sub(from) / 2); a.Dropped > 0 && to.Sub(from) > time.Millisecond {
		if err := x.piece(ctx, from, half, each, left); err != nil {
			return err
		}
		return x.piece(ctx, half, to, each, left)
	}
	*left += a.Dropped
	if len(a.Entries) == 0 {
		return nil
	}
	return each(a)
}
