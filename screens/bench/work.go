package bench

import (
	"errors"
	"path/filepath"
	"strings"

	"dimlantern/api"
	"dimlantern/screens/hosts"
	"dimlantern/screens/put"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

// save writes the text into its file.
func (r *Room) save() tea.Cmd {
	r.text.Canonical()
	if !r.text.Changed() {
		r.stage.Say(filepath.Base(r.text.file) + " has this text already")
		return nil
	}
	q := r.text.saved()
	w := api.WriteQuery{Person: r.stage.Person(), BenchSave: q}
	return room.Ask(r.stage, api.WriteText, w, patience, func(x *api.Written, err error) tea.Cmd {
		if r.stage.Failed(err) {
			return r.askTheirs(err)
		}
		r.stage.Keep(api.Draft{Name: r.draftName()})
		r.text.Saved(q.File, q.Body)
		words := " is written and at work; no rule means anything else than before"
		switch {
		case x.ByHand:
			words = " is written, and not at work: ^p puts it to work, after showing what that changes"
		case len(x.Said) > 0:
			words = " is written and at work: " + strings.TrimPrefix(strings.Join(x.Said, "; "), "new settings: ")
		}
		r.stage.Say(filepath.Base(q.File) + words)
		return nil
	})
}

// saved is the text as it is to be saved; a new file is called as its first rule.
func (t *text) saved() api.BenchSave {
	file := t.file
	if name := t.Name(); t.fresh && name != "" {
		file = filepath.Join(filepath.Dir(file), name+".lantern")
	}
	return api.BenchSave{File: file, Body: t.Body(), Was: t.was, New: t.fresh}
}

// askTheirs shows what somebody else has changed in the open file meanwhile, where that is
// why it was not written.
func (r *Room) askTheirs(err error) tea.Cmd {
	if !errors.Is(err, api.Changed) {
		return nil
	}
	file, was := r.text.file, r.text.was
	return room.Ask(r.stage, api.OpenText, api.BenchFile{File: file}, room.Patience,
		func(f *api.BenchFile, err error) tea.Cmd {
			if err != nil {
				return nil
			}
			p := &api.Put{Title: filepath.Base(file) + " was changed by somebody else meanwhile; nothing is " +
				"written, and what you typed is still here", Tests: true}
			for _, l := range api.Diff(was, f.Body) {
				p.Lines = append(p.Lines, api.PutLine{Word: map[byte]string{'+': "theirs", '-': "was"}[l[0]],
					Text: strings.TrimRight(l[2:], " "), Bad: l[0] == '+'})
			}
			put.Read(r.stage, p)
			return nil
		})
}

// put shows what putting the open text to work would do.
func (r *Room) put() tea.Cmd {
	r.text.Canonical()
	return r.askPut(api.PutQuery{Files: []api.BenchSave{r.text.saved()}})
}

// changeRule shows what something done to the chosen rule would do.
func (r *Room) changeRule(what string) tea.Cmd {
	x := r.rule()
	if x == nil {
		return nil
	}
	change := api.BlockChange{Kind: "rule", What: what, Of: x.Rule}
	switch {
	case what == "off" && x.Off:
		change.What = "on"
	case what == "copy" || what == "rename":
		r.stage.Prompt(room.Prompt{Label: what + " " + x.Rule + " to",
			Hint: "enter shows what that changes   esc leaves it", Then: func(name string) tea.Cmd {
				change.Name = strings.TrimSpace(name)
				return r.askPut(api.PutQuery{Block: &change})
			}}, x.Rule)
		return nil
	}
	return r.askPut(api.PutQuery{Block: &change})
}

// askPut asks what a change would do, and shows that before it is done.
func (r *Room) askPut(q api.PutQuery) tea.Cmd {
	return put.Ask(r.stage, q, put.Told{Failed: r.askTheirs, Done: func(p *api.Put) {
		if q.Block == nil && len(p.Files) == 1 {
			r.stage.Keep(api.Draft{Name: r.draftName()})
			r.text.Saved(p.Files[0].File, p.Files[0].Body)
		}
		if q.Block != nil && q.Block.Name != "" { // the copy, or what is called otherwise now
			r.chosen = q.Block.Name
		}
		switch len(p.Goes) {
		case 0:
		case 1:
			hosts.RollOut(r.stage, "group "+p.Goes[0], r.stage.Refresh)
		default:
			hosts.RollOut(r.stage, "all", r.stage.Refresh)
		}
	}})
}

// askTests asks which tests of the settings pass, with the open text in them.
func (r *Room) askTests() tea.Cmd {
	q := api.BenchQuery{File: r.text.file, Body: r.text.Body(), Line: r.text.Line()}
	return room.Ask(r.stage, api.TryTests, q, patience, func(p *api.Put, err error) tea.Cmd {
		if !r.stage.Failed(err) {
			put.Read(r.stage, p)
		}
		return nil
	})
}
