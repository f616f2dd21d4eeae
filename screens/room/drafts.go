package room

import (
	"maps"
	"slices"

	"dimlantern/api"

	tea "charm.land/bubbletea/v2"
	"github.com/dustin/go-humanize/english"
)

// Keep keeps a text that is not written, to be offered again; with an empty text it lets go of it.
// The service hears of it with Settle.
func (s *Stage) Keep(d api.Draft) {
	had, there := s.drafts[d.Name]
	switch {
	case d.Text == "" && !there || there && had.Text == d.Text && had.Was == d.Was:
		return
	case d.Text == "":
		delete(s.drafts, d.Name)
	default:
		s.drafts[d.Name] = d
	}
	s.unkept[d.Name] = true
}

// Draft is a text that was not written; false where there is none of that name.
func (s *Stage) Draft(name string) (api.Draft, bool) {
	d, ok := s.drafts[name]
	return d, ok
}

// Unwritten are the names of the texts that are not written.
func (s *Stage) Unwritten() []string { return slices.Sorted(maps.Keys(s.drafts)) }

// Settle tells the service of the texts that have changed; nil where none have.
func (s *Stage) Settle() tea.Cmd {
	if len(s.unkept) == 0 {
		return nil
	}
	q := api.DraftsQuery{Person: s.Person()}
	for _, name := range slices.Sorted(maps.Keys(s.unkept)) {
		d := s.drafts[name]
		d.Name = name
		q.Keep = append(q.Keep, d)
	}
	clear(s.unkept)
	return Ask(s, api.KeepDrafts, q, Patience, func(_ *api.Drafts, err error) tea.Cmd {
		s.Failed(err)
		return nil
	})
}

// Recall asks for what was not written when the screens were left, and says that it is there.
func (s *Stage) Recall() tea.Cmd {
	q := api.DraftsQuery{Person: s.Person()}
	return Ask(s, api.KeepDrafts, q, Patience, func(v *api.Drafts, err error) tea.Cmd {
		if s.Failed(err) {
			return nil
		}
		for _, d := range v.List {
			if _, there := s.drafts[d.Name]; !there {
				s.drafts[d.Name] = d
			}
		}
		if len(v.List) > 0 {
			s.Say("kept, and not written yet: " + english.WordSeries(s.Unwritten(), "and") +
				"; it is offered where it was typed")
		}
		return nil
	})
}
