package notify

import (
	"fmt"
	"slices"
	"strings"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/store"
)

// Hearing is a contact of the settings, and what it would hear of a transition.
type Hearing struct {
	Contact string
	Due     entry.Instant // when it would be told; None where it would not
	Ways    []string
	Words   string // on which condition, or why it would not
}

// Would says who would be told of a transition that happened at an instant, when and on which condition,
// and of everybody else why not. Quiet is why nobody is told; "" where somebody may be. What people have
// hushed, and what stands in the shadow of another alert, it does not know.
func Would(s *lang.Settings, t *engine.Transition) (list []Hearing, quiet string) {
	r := s.Rule(t.Rule)
	if r == nil {
		return nil, "there is no rule " + t.Rule
	}
	d := &Decider{Settings: s, opens: map[string]opening{}}
	if why := (&facts{settings: s}).because(t); why != "" {
		quiet = "it is kept quiet then: " + string(why)
	}
	who := d.recipients(r, t, t.At)
	for _, c := range s.Contacts {
		h := Hearing{Contact: c.Name, Due: entry.None, Ways: c.WayNames()}
		i := slices.IndexFunc(who, func(x recipient) bool { return x.contact == c.Name })
		if i < 0 {
			h.Words = d.whyNot(r, c, t)
		} else {
			h.Due, h.Words = who[i].due, d.condition(c, &who[i], t)
		}
		list = append(list, h)
	}
	slices.SortFunc(list, func(a, b Hearing) int { return strings.Compare(a.Contact, b.Contact) })
	return list, quiet
}

// condition says on which condition, and with what else, a contact is told.
func (s *Decider) condition(c *lang.Contact, x *recipient, t *engine.Transition) string {
	var out []string
	if x.due > t.At && len(c.Hours) > 0 && x.only != store.OnlyUntaken {
		out = append(out, "when its hours begin")
	}
	switch x.only {
	case store.OnlyUntaken:
		out = append(out, "if nobody has taken it by then")
	case store.OnlyOpen:
		out = append(out, "if it is still open then")
	case store.OnlyTold:
		out = append(out, "if it was told before that it is open")
	}
	if c.Gather > 0 {
		out = append(out, "together with what comes within "+entry.Span(c.Gather))
	}
	if c.Most > 0 {
		out = append(out, fmt.Sprintf("in a summary where it was told %d times in %s by then", c.Most,
			entry.Span(c.MostIn)))
	}
	return strings.Join(out, "; ")
}

// whyNot says why a contact is not told of a transition.
func (s *Decider) whyNot(r *lang.Rule, c *lang.Contact, t *engine.Transition) string {
	tells := r.Tells
	if !slices.ContainsFunc(tells, func(x lang.Tell) bool { return x.Untaken == 0 }) {
		tells = append(slices.Clone(tells), lang.Tell{Contacts: s.defaultContacts(r, t)})
	}
	why := ""
	for _, x := range tells {
		switch {
		case !slices.Contains(x.Contacts, c.Name):
		case t.Severity < x.From:
			why = fmt.Sprintf("the rule tells it from %s on", x.From)
		case len(x.On) > 0 && !slices.Contains(x.On, t.Change):
			why = "the rule tells it only what was " + strings.Join(x.On, " or ")
		case c.Off:
			return "it is off"
		case t.Severity < c.From:
			return fmt.Sprintf("it hears from %s on", c.From)
		case len(c.On) > 0 && !slices.Contains(c.On, t.Change):
			return "it hears only what was " + strings.Join(c.On, " or ")
		}
	}
	if why != "" {
		return why
	}
	if len(r.Tells) > 0 {
		return "the rule does not tell it"
	}
	return "the rule names nobody, and the settings (tell …) do not name it"
}
