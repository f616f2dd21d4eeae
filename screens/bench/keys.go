package bench

import (
	"dimlantern/api"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

// Keys is part of room.Room.
func (r *Room) Keys() room.Keys {
	switch r.pane {
	case ruleText:
		return r.textKeys()
	case entryKinds:
		return r.kindKeys()
	case lifeList:
		return r.lifeKeys()
	}
	return r.listKeys()
}

// Help is part of room.Explained.
func (r *Room) Help() room.Help {
	return room.Help{Title: "bench",
		About: "where rules are made: the text, what it means, what it would have done " +
			"over what the axis shows, and the shapes of entries",
		Keys: []room.Keys{r.listKeys(), r.textKeys(), r.kindKeys(), r.lifeKeys()},
		Last: "bright lines belong to the rule at the cursor, which is the one that is tried; with errors in it the " +
			"last one that had none is shown dim"}
}

// listKeys are the keys among the rules.
func (r *Room) listKeys() room.Keys {
	return room.Keys{Where: "choosing rules", List: []room.Key{
		room.Move(10, r.Move).Said("which", ""),
		room.Do("enter", r.openChosen).Said("open it", "open").Told("opens the file that the rule stands in"),
		room.Do("n", func() tea.Cmd { return r.begin("", nil) }).Said("a new one", "new").
			Told("a new rule in a file of its own"),
		room.Do("c", func() tea.Cmd { return r.changeRule("copy") }).Needs(api.Change).Said("copy", "copy").
			Told("copy the rule; what that changes is shown first"),
		room.Do("r", func() tea.Cmd { return r.changeRule("rename") }).Needs(api.Change).Said("rename", "rename").
			Told("rename it, wherever it is named"),
		room.Do("o", func() tea.Cmd { return r.changeRule("off") }).Needs(api.Change).Said("off, on", "off, on").
			Told("switch it off, or on"),
		room.Do("D delete", func() tea.Cmd {
			return r.changeRule("delete")
		}).Needs(api.Change).Marked("D").Said("delete", "delete").
			Told("delete it"),
		room.Do("b", r.askPast).Said("what was before", "before").
			Told("what was put to work before, by whom, with a way back"),
	}}
}

// textKeys are the keys in the text: all others type.
func (r *Room) textKeys() room.Keys {
	k := room.Keys{Where: "typing a rule", Alone: true, List: []room.Key{
		room.Now("esc", r.toKinds).Said("to the kinds", "kinds").
			Told("to the kinds of entries, from where enter leads back; all other keys type"),
		room.Do("tab", r.complete).Said("complete", "").Told("takes the first word that is proposed"),
		room.On("alt+up alt+down", nil).Marked("alt ↑↓").Said("change a number", "number").
			Told("the number or the duration at the cursor, by a sensible step"),
		room.On("ctrl+z ctrl+r", nil).Said("undo, redo", "undo").Told("undo, redo, as often as you like"),
	}}
	k.List = append(k.List, r.fileKeys()...)
	return k
}

// fileKeys are the keys that concern the text that is open, wherever one is in it.
func (r *Room) fileKeys() []room.Key {
	return []room.Key{
		room.Now("ctrl+f", r.askSearch).Said("search", "").Told("search in the text"),
		room.Do("ctrl+t", r.askTests).Said("tests", "").Told("the tests of all rules"),
		room.Do("ctrl+s", r.save).Needs(api.Change).Said("save", "save").
			Told("write the file; not where somebody else has written into it meanwhile"),
		room.Do("ctrl+p", r.put).Needs(api.Change).Said("put to work", "to work").
			Told("put it to work: first what that changes, which tests fail, which alerts end"),
	}
}

// kindKeys are the keys on a kind of entries.
func (r *Room) kindKeys() room.Keys {
	k := room.Keys{Where: "choosing kinds", List: []room.Key{
		room.Do("p", func() tea.Cmd { return r.mark("problem") }).Said("problem", "problem").
			Told("this is the problem: a pattern that is as tight as its entries, with its numbers left open"),
		room.Do("o", func() tea.Cmd { return r.mark("recovery") }).Said("over", "over").Told("this means over"),
		room.Do("x", func() tea.Cmd { return r.mark("ignore") }).Said("not this", "not").Told("not this"),
		room.Now("n", r.askName).Said("name a value", "name").
			Told("name a value of the entry, tab goes to the next: a field for per, say and where"),
		room.Now("space", func() { r.pick(); r.moveKind(1) }).Said("several", "").
			Told("pick several, and let p, o or x speak of all"),
		room.On("a i", func(name string) tea.Cmd { return r.feed(name == "i") }).Said("feed", "").
			Told("feed the entry to the rule; type a line to feed (+5m before it lets time pass)"),
		room.Do("A", func() tea.Cmd { r.fed = nil; return r.try() }).Told("take back all that was fed"),
		room.Do("k", func() tea.Cmd { return r.markTexts("expect", "", r.fed, nil) }).Said("keep", "").
			Told("keep what was fed, with what it brought, as an expect of the rule"),
		room.Now("f", r.nextOnly).Said("which", "").
			Told("which: all, caught, nearly caught, the usual and the odd ones of the others, the newest"),
		room.Now("/", r.askWords).Told("only entries with some words"),
		room.Do("y", r.whyKind).Said("why", "why").
			Told("why: what the entry is for the rule as it is typed, part by part, and for the others"),
		room.Do("u ctrl+z", r.undo).Marked("u").Said("undo", "undo").Told("undo"),
		room.Do("s", r.markSample).Told("the sample begins where the lamp is held, and ends where it goes then"),
		room.Now("F", r.askFiles).Told("try it on files that you name, instead of what its sources say"),
		room.Do("E", r.editOutside).Told("the text in your own editor; it comes back changed, and not saved"),
		room.Now("tab", r.toLives).Told("to the lifelines"),
		room.Now("enter", r.toText).Said("", "text").Told("to the text"),
		room.Move(10, r.Move),
	}}
	for _, f := range r.fileKeys() {
		if f.Binding.Keys()[0] != "ctrl+p" {
			f = f.Said("", "")
		}
		f.Long = "" // it stands with the text
		k.List = append(k.List, f)
	}
	leave := room.Do("esc", r.close).Said("rules", "rules").Told("back to the rules")
	if r.sample.words != "" {
		leave = leave.Said("all entries", "all")
	}
	k.List = append(k.List, leave)
	return k
}

// lifeKeys are the keys among the lifelines.
func (r *Room) lifeKeys() room.Keys {
	return room.Keys{Where: "choosing lifelines", List: append([]room.Key{
		room.Move(10, r.Move).Said("which", "which"),
		room.Do("y", r.whyLife).Said("why, at the lamp", "why").Told("why it would stand so at the lamp"),
		room.Now("tab enter", r.toText).Marked("tab").Said("text", "text").Told("to the text"),
		room.Now("esc", r.toKinds).Said("to the kinds", "kinds").Told("to the kinds"),
	}, hidden(r.fileKeys())...)}
}

// hidden are keys that are said elsewhere.
func hidden(list []room.Key) []room.Key {
	for i := range list {
		list[i] = list[i].Said("", "")
		list[i].Long = ""
	}
	return list
}
