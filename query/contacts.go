package query

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Contacts are all contacts, and how each of their ways goes.
func (s *Asker) Contacts(context.Context, api.None) (*api.ContactList, error) {
	told, err := s.Store.WaysTold()
	if err != nil {
		return nil, err
	}
	waits, err := s.Store.Undecided()
	if err != nil {
		return nil, err
	}
	out := &api.ContactList{List: []api.ContactView{}}
	for _, c := range s.Window.Now().Settings.Contacts {
		v := api.ContactView{Name: c.Name, Off: c.Off, Limits: limitsOf(c), Waits: waits[c.Name],
			Ways: []api.WayTold{}}
		places := placesOf(c)
		for i, name := range c.WayNames() {
			w := api.WayTold{Way: name, Where: places[i], Told: entry.None, Failed: entry.None}
			for _, t := range told {
				if t.Contact == c.Name && t.Way == i {
					w.Waiting, w.GivenUp, w.Told, w.Answer = t.Waiting, t.GivenUp, t.Told, t.Answer
					w.Failed, w.Error = t.Failed, t.Error
				}
			}
			v.Ways = append(v.Ways, w)
		}
		out.List = append(out.List, v)
	}
	slices.SortFunc(out.List, func(a, b api.ContactView) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// placesOf are where the ways of a contact go, in their order.
func placesOf(c *lang.Contact) []string {
	var out []string
	if len(c.Mail) > 0 {
		out = append(out, strings.Join(c.Mail, ", "))
	}
	for _, w := range c.Webhook { // what is behind the host may be a secret
		scheme, rest, _ := strings.Cut(w.URL, "://")
		host, path, _ := strings.Cut(rest, "/")
		if _, after, user := strings.Cut(host, "@"); user {
			host = after
		}
		if path != "" {
			host += "/…"
		}
		out = append(out, scheme+"://"+host)
	}
	for _, l := range c.Syslog {
		out = append(out, l.Proto+" "+l.Address)
	}
	for _, words := range c.Command {
		out = append(out, words[0])
	}
	return out
}

// limitsOf says what a contact is told, when, and how much.
func limitsOf(c *lang.Contact) []string {
	var out []string
	switch {
	case c.From == entry.Critical:
		out = append(out, "critical alone")
	case c.From > 0:
		out = append(out, c.From.String()+" or worse")
	}
	if len(c.On) > 0 {
		out = append(out, "what was "+strings.Join(c.On, " or "))
	}
	for _, h := range c.Hours {
		out = append(out, "hours "+h.String())
	}
	if c.Gather > 0 {
		out = append(out, "gathered for "+entry.Span(c.Gather))
	}
	if c.Most > 0 {
		out = append(out, fmt.Sprintf("%d in %s at most", c.Most, entry.Span(c.MostIn)))
	}
	return out
}
