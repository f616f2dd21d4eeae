package export

import (
	"fmt"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
)

// How long nothing may be taken before people are told, and before rules notice.
const (
	tellAfter = time.Minute
	behindFor = 5 * time.Minute
)

// trouble says what keeps it from going on.
func (d *delivery) trouble(err error) {
	words, mend := inWords(&d.of.To, err)
	was := d.state.Load()
	now := d.now()
	now.Trouble, now.Words, now.Mend, now.Since = true, words, mend, entry.Of(time.Now())
	if was.Trouble {
		now.Since = was.Since
	}
	d.state.Store(now)
	lasts := entry.Of(time.Now()).Sub(now.Since)
	if !d.told && lasts > tellAfter {
		d.told = true
		d.site.Told(fmt.Sprintf("delivery %s waits since %s: %s", d.of.Name, api.Moment(now.Since), words))
	}
	if !d.reported && lasts > behindFor {
		d.reported = true
		d.site.Noticed(map[string]any{"event": "delivery-behind", "delivery": d.of.Name, "lost": 0, "reason": words})
	}
}

// well says how it goes where nothing is the matter.
func (d *delivery) well() {
	if d.told {
		d.told = false
		d.site.Told(fmt.Sprintf("delivery %s goes on", d.of.Name))
	}
	now := d.now()
	now.Words = "up to date"
	if now.Waiting > 0 {
		now.Words = "it delivers"
	} else if d.reported {
		d.reported = false
		d.site.Noticed(map[string]any{"event": "delivery-well", "delivery": d.of.Name})
	}
	d.state.Store(now)
}

// now is how it stands in numbers.
func (d *delivery) now() *api.Delivery {
	s := &api.Delivery{Name: d.of.Name, To: d.of.To.String(), Sent: d.kept.Sent, Refused: d.kept.Refused,
		Lost: d.kept.Lost, LastTaken: d.kept.Taken, Waiting: d.sentSize, Entries: int64(len(d.sent)),
		Buffer: d.of.Waiting(),
		WhenFull: "logs are their own buffer, as long as they lie there; of what is kept here alone the oldest goes " +
			"when more waits, and that is counted and told"}
	if d.follower != nil {
		for _, o := range d.follower.Origins() {
			s.Waiting += o.Behind()
		}
	}
	if s.Waiting > 0 {
		s.Oldest = time.Since(d.since)
	}
	return s
}
