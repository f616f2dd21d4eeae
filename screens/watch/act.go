package watch

import (
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

// open one on which something can be done now is what canAct returns; else it says why not.
func (r *Room) canAct(what string) *api.Row {
	x := r.Chosen()
	switch {
	case r.stage.Held != 0:
		r.stage.Say("actions are off while the lamp is held; space makes it live")
	case x == nil || x.Alert == "" || x.Cleared != entry.None:
		r.stage.Say("only an open alert can be " + what)
	case r.folded():
		r.stage.Say("this row stands for several keys; enter unfolds it")
	default:
		return x
	}
	return nil
}

// act has something done in the user's name, and keeps what takes it back.
func (r *Room) act(q api.ActQuery) tea.Cmd {
	s := r.stage
	q.Person = s.Person()
	return room.Ask(s, api.DoAct, q, room.Patience, func(done *api.ActDone, err error) tea.Cmd {
		r.sign = "" // what is known of it has changed
		if s.Failed(err) {
			return s.Refresh()
		}
		words := done.Words
		switch q.What {
		case "take", "hand over":
			r.undo = &api.ActQuery{What: "let go", Alert: q.Alert}
			words += "; u takes it back"
		case "hush":
			r.undo = &api.ActQuery{What: "unhush", Hush: &api.ByHand{ID: done.Hush}}
			words += "; u takes it back"
		default:
			r.undo = nil
		}
		s.Say(words)
		return s.Refresh()
	})
}

// takeBack takes back what was done last.
func (r *Room) takeBack() tea.Cmd {
	if r.undo == nil {
		r.stage.Say("nothing of yours can be taken back")
		return nil
	}
	return r.act(*r.undo)
}

// takeIt asks for a word with which the chosen alert is taken.
func (r *Room) takeIt() {
	if x := r.canAct("taken"); x != nil {
		r.stage.Prompt(room.Prompt{Label: "take " + Headline(x) + ", a word to it",
			Hint: "enter takes it   esc leaves it", Then: func(words string) tea.Cmd {
				return r.act(api.ActQuery{What: "take", Alert: x.Alert, Words: words})
			}}, "")
	}
}

// handOver asks to whom the chosen alert is handed over.
func (r *Room) handOver() {
	if x := r.canAct("handed over"); x != nil {
		r.stage.Prompt(room.Prompt{Label: "hand " + Headline(x) + " over to",
			Hint: "a name, then a word to it   enter   esc", Then: func(words string) tea.Cmd {
				to, rest, _ := strings.Cut(strings.TrimSpace(words), " ")
				return r.act(api.ActQuery{What: "hand over", Alert: x.Alert, To: to, Words: strings.TrimSpace(rest)})
			}}, "")
	}
}

// note asks for a note to the chosen alert.
func (r *Room) note() {
	if x := r.canAct("noted about"); x != nil {
		r.stage.Prompt(room.Prompt{Label: "note to " + Headline(x), Hint: "enter keeps it   esc leaves it",
			Then: func(words string) tea.Cmd {
				return r.act(api.ActQuery{What: "note", Alert: x.Alert, Words: words})
			}}, "")
	}
}

// clear asks for the words with which the chosen alert is cleared.
func (r *Room) clear() {
	x, s := r.canAct("cleared"), r.stage
	if x == nil {
		return
	}
	name := Headline(x)
	s.Prompt(room.Prompt{Label: "clear " + name + " because", Hint: "enter clear it   esc leave it open",
		Then: func(words string) tea.Cmd {
			q := api.ClearQuery{Person: s.Person(), Alert: x.Alert, Words: words}
			return room.Ask(s, api.DoClear, q, room.Patience, func(_ *api.None, err error) tea.Cmd {
				r.sign = ""
				if !s.Failed(err) {
					s.Say(name + " is cleared")
				}
				return s.Refresh()
			})
		}}, "")
}

// hush asks for how long, and why, the chosen alert, its rule or its host is kept quiet.
func (r *Room) hush() {
	x := r.canAct("hushed")
	if x == nil {
		return
	}
	kinds := []api.ByHand{{Alert: x.Alert}, {Rule: x.Rule}}
	names := []string{Headline(x), "all of " + x.Rule}
	if d := r.detail; d != nil {
		if i := slices.Index(d.Fields, "host"); i >= 0 && i < len(x.Key) {
			kinds, names = append(kinds, api.ByHand{Host: x.Key[i]}), append(names, "all of host "+x.Key[i])
		}
		for _, w := range d.About {
			kinds, names = append(kinds, api.ByHand{About: w}), append(names, "all about "+w)
		}
	}
	at := 0
	label := func() string { return "hush " + names[at] + " for" }
	becomes := func(text string) string {
		until, why, problem := hushWords(text, time.Now())
		words := "until it is ended"
		switch {
		case problem != "":
			return problem
		case until != 0:
			words = "until " + until.Time().Local().Format("Mon 15:04 MST")
		}
		if why != "" {
			words += ", because: " + why
		}
		return words + "   tab: what   enter   esc"
	}
	r.stage.Prompt(room.Prompt{Label: label(), Hint: becomes("1h"), Offered: true,
		Changed: func(text string) tea.Cmd {
			if p := r.stage.Typed; p != nil {
				p.Hint = becomes(text)
			}
			return nil
		},
		Next: func(p *room.Prompt) tea.Cmd {
			at = (at + 1) % len(kinds)
			p.Label = label()
			return nil
		},
		Then: func(text string) tea.Cmd {
			until, why, problem := hushWords(text, time.Now())
			if problem != "" {
				r.stage.Say(problem)
				return nil
			}
			h := kinds[at]
			h.Until = until
			return r.act(api.ActQuery{What: "hush", Alert: h.Alert, Hush: &h, Words: why})
		}}, "1h")
}

// hushWords reads how long something is hushed, and why: a span, or a time to come, and behind it why;
// the why alone, where it is for an hour; or nothing at all, where it is until somebody ends it.
func hushWords(text string, now time.Time) (until entry.Instant, why, problem string) {
	words := strings.Fields(text)
	if len(words) == 0 {
		return 0, "", ""
	}
	for n := min(2, len(words)); n > 0; n-- {
		if at, err := entry.ParseTime(strings.Join(words[:n], " "), now, true); err == nil && at.After(now) {
			return entry.Of(at), strings.Join(words[n:], " "), ""
		}
	}
	if strings.ContainsAny(words[0], "0123456789") {
		return 0, "", words[0] + " is no time: 30m, 2h, 1d, or 06:00, and behind it why"
	}
	return entry.Of(now.Add(time.Hour)), strings.Join(words, " "), ""
}
