package notify

import (
	"cmp"
	"encoding/json"
	"fmt"

	"dimlantern/core/entry"
	"dimlantern/notify/via"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// Give has a message sent that is about no alert, such as a report: once for its ID, in the contact's
// hours, and within what it is told at most. Other ways than mail get it in brief.
func (o *Outbox) Give(contact string, m *via.Message) error {
	sn := o.Window.Now()
	c := sn.Settings.Contact(contact)
	if c == nil {
		return NoContact(sn.Settings, contact)
	}
	at := opensAt(c, snapshot.ZoneOf(sn.Settings), entry.Of(m.Made))
	if c.Most > 0 {
		n, oldest, err := o.Store.GroupsSince(contact, at.Add(-c.MostIn), c.Most)
		if err != nil {
			return err
		}
		if n >= c.Most { // its turn comes once the oldest of them no longer counts
			at = opensAt(c, snapshot.ZoneOf(sn.Settings), max(at, oldest.Add(c.MostIn)))
		}
	}
	made := store.Made{}
	for i := range o.waysOf(contact, c, sn.Settings.Mail) {
		x := *m
		x.Brief = ""
		x.ID = fmt.Sprintf("%s.%d", m.ID, i)
		if i > 0 || len(c.Mail) == 0 {
			x.HTML, x.Files, x.Text = "", nil, cmp.Or(m.Brief, m.Text)
		}
		body, err := json.Marshal(x)
		if err != nil {
			return err
		}
		made.Messages = append(made.Messages, store.Message{ID: x.ID, Group: m.ID, Contact: contact, Way: i,
			Severity: entry.Notice, Made: at, Body: body})
	}
	if len(made.Messages) == 0 {
		return fmt.Errorf("the contact %s has no way to be told", contact)
	}
	defer o.Wake()
	return o.Store.PutMessages([]store.Made{made})
}
