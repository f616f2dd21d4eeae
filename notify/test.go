package notify

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/notify/via"
)

// Test tells a contact of the settings a test by each of its ways, as alerts are told.
func (o *Outbox) Test(ctx context.Context, q api.TestQuery) (*api.Tested, error) {
	sn := o.Window.Now()
	c := sn.Settings.Contact(q.Contact)
	if c == nil {
		return nil, NoContact(sn.Settings, q.Contact)
	}
	words, err := o.wordsNow()
	if err != nil {
		return nil, err
	}
	return TestOf(ctx, words, sn.Settings, c, o.Roots, sn.Host, q.Name())
}

// NoContact says that there is no such contact, and which there are.
func NoContact(s *lang.Settings, name string) error {
	var names []string
	for _, x := range s.Contacts {
		names = append(names, x.Name)
	}
	if len(names) == 0 {
		return errors.New("the settings have no contact: write contact NAME { mail \"ADDRESS\" }")
	}
	return fmt.Errorf("there is no contact %s; there are: %s", name, strings.Join(names, ", "))
}

// TestOf tells a contact a test by each of its ways, and answers what came of it.
func TestOf(ctx context.Context, words *via.Words, s *lang.Settings, c *lang.Contact, roots *x509.CertPool, host,
	by string) (*api.Tested, error) {
	out := &api.Tested{Contact: c.Name}
	now := time.Now()
	for i, w := range waysOf(c, s.Mail, roots) {
		m := &via.Message{ID: fmt.Sprintf("test-%d.%d", now.UnixNano(), i), Kind: via.KindTest, Made: now.UTC(),
			Host: host, Contact: c.Name, Severity: entry.Notice.String(),
			Subject: "a test of the contact " + c.Name + " by " + by}
		if err := words.Fill(m, true); err != nil {
			return nil, err
		}
		t := api.TestedWay{Way: w.String()}
		answer, err := w.Tell(ctx, m)
		var p *via.Problem
		switch {
		case err == nil:
			t.OK, t.Answer = true, answer
		case errors.As(err, &p):
			t.Where, t.What, t.Mend = p.Where, p.What, p.Mend
		default:
			t.What = err.Error()
		}
		out.Ways = append(out.Ways, t)
	}
	return out, nil
}
