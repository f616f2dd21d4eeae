package export

import (
	"errors"
	"fmt"
	"time"
)

// hand hands over what has been read, as often as it takes. It answers false where the context has ended.
func (d *delivery) hand() bool {
	if len(d.sent) == 0 {
		d.sentAt = time.Now()
	}
	d.sent, d.sentSize = append(d.sent, d.batch...), d.sentSize+d.bytes
	d.batch, d.bytes = nil, 0
	return d.until(d.push)
}

// until tries something until it goes, or the context has ended: then it answers false. After a failure
// all that is not surely the receiver's is sent again.
func (d *delivery) until(try func() error) bool {
	pause := firstPause
	for {
		err := try()
		if err == nil {
			return true
		}
		if !d.to.answers() {
			d.pushed = 0
		}
		d.to.close()
		if d.ctx.Err() != nil {
			return false
		}
		d.trouble(err)
		wait := pause
		var l *later
		if errors.As(err, &l) {
			wait = max(wait, l.after)
		}
		d.follower.Look(time.Now()) // how much waits by now
		d.hold()
		if !d.sleep(wait) {
			return false
		}
		pause = min(2*pause, mostPause)
	}
}

// leastPiece is so many that a single entry that is too large stands among others that are taken.
const leastPiece = 16

// push sends what has not been sent, in pieces of a size that the receiver takes.
func (d *delivery) push() error {
	for d.pushed < len(d.sent) {
		if d.piece == 0 {
			d.piece = batchEntries
		}
		piece := d.piece
		next := min(d.pushed+piece, len(d.sent))
		if err := d.send(d.sent[d.pushed:next]); err != nil {
			return err
		}
		d.pushed = next
		if d.piece == piece { // it takes more, perhaps
			d.piece = min(piece+piece/16+1, batchEntries)
		}
	}
	return nil
}

// send sends entries. What the receiver will never take is found by halves and left out, as long as it
// takes any other of them: one that refuses all is asked again.
func (d *delivery) send(list []*item) error {
	taken, refused := 0, 0
	var words string
	var halves func(list []*item) error
	halves = func(list []*item) error {
		err := d.to.send(d.ctx, list)
		var no *refusal
		switch {
		case err == nil:
			taken += len(list)
			return nil
		case !errors.As(err, &no):
			return err
		case no.part > 0:
			taken, refused, words = taken+len(list)-no.part, refused+no.part, no.words
			return nil
		case len(list) == 1:
			refused, words = refused+1, no.words
			return nil
		}
		if no.large {
			d.piece = max(len(list)/2, leastPiece)
		}
		if err := halves(list[:len(list)/2]); err != nil {
			return err
		}
		return halves(list[len(list)/2:])
	}
	// One that refuses everything is not believed; of an entry that is alone it is, where others were taken since
	// the last time.
	switch err := halves(list); {
	case err != nil:
		return err
	case refused == 0:
		d.takes = true
	case refused > 0 && taken == 0 && (len(list) > 1 || !d.takes):
		return errors.New(words)
	case refused > 0:
		d.takes = taken > 0
		d.kept.Refused += int64(refused)
		d.site.Told(fmt.Sprintf("delivery %s: %d entries were refused, and will not be sent again: %s", d.of.Name,
			refused, words))
	}
	return nil
}
