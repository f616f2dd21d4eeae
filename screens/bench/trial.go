package bench

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/room"
	"dimlantern/screens/why"

	tea "charm.land/bubbletea/v2"
)

const (
	// patience is how long a trial may take.
	patience = 2 * time.Minute
	// freshFor is how long a trial over live logs stands.
	freshFor = 10 * time.Second
	// pause is how long a text must not have changed before it is tried.
	pause = 40 * time.Millisecond
)

// askRules asks for the list of rules.
func (r *Room) askRules() tea.Cmd {
	return room.Ask(r.stage, api.AskRules, api.None{}, room.Patience, func(v *api.RulesView, err error) tea.Cmd {
		if !r.stage.Failed(err) {
			r.rules = v
			r.chooseRule(0)
		}
		return nil
	})
}

// query is the text as it is, and the sample that it is tried on.
func (r *Room) query() api.BenchQuery {
	v, t := r.stage.View, &r.text
	q := api.BenchQuery{File: t.file, Body: t.Body(), Line: t.Line(), Col: t.Column(), At: r.stage.Held,
		From: v.From, Column: v.Column, Columns: room.ColumnsOf(r.stage.W).LifeWidth, Fed: r.fed,
		Files: r.sample.files, Filter: r.sample.words}
	q.Span = v.At.Sub(q.From)
	if from := r.sample.from; from != 0 && from < v.At {
		q.Span = v.At.Sub(from)
	}
	return q
}

// try lets the text be tried as it is, where that was not done yet: one trial at a time, and
// only once typing pauses, so that what is being typed stands on the screen first.
func (r *Room) try() tea.Cmd {
	if r.pane == ruleList || r.stage.View == nil || r.stage.W == 0 {
		return nil
	}
	q := r.query()
	asked := fmt.Sprint(q.Span, q.File, q.Line, q.Col, len(q.Fed), q.At, q.Column, q.Columns, q.Files, q.Filter,
		q.Body)
	if q.At == 0 {
		asked += fmt.Sprint(time.Now().Truncate(freshFor))
	}
	if asked == r.trial.asked {
		return nil
	}
	r.trial.asked = asked
	if r.trial.others != nil {
		r.trial.others()
	}
	if r.trial.stop != nil { // the newest text follows once it has stopped
		r.trial.stop()
		r.trial.later = true
		return nil
	}
	ctx, cancel := context.WithCancel(context.Background())
	r.trial.stop = cancel
	ask := room.AskContext(ctx, r.stage, api.TryText, q, patience, func(v *api.BenchView, err error) tea.Cmd {
		cancel()
		return r.tried(asked, q, v, err)
	})
	wait := r.pause
	return func() tea.Msg {
		select {
		case <-time.After(wait):
		case <-ctx.Done():
		}
		return ask()
	}
}

// tried takes the outcome of a trial in.
func (r *Room) tried(asked string, q api.BenchQuery, v *api.BenchView, err error) tea.Cmd {
	r.trial.stop = nil
	if r.trial.later {
		r.trial.later, r.trial.asked = false, ""
		return r.try()
	}
	if asked != r.trial.asked || r.stage.Failed(err) {
		return nil
	}
	r.take(v)
	if len(q.Files) > 0 && r.sample.follow && v.Ends != entry.None && v.Tried != nil {
		r.sample.follow = false
		r.stage.Until = v.Ends
		return tea.Batch(r.askProposals(q), r.stage.HoldAt(v.Ends))
	}
	return tea.Batch(r.askProposals(q), r.askOthers(q))
}

// take takes an answer in. One without a trial leaves what was judged last.
func (r *Room) take(v *api.BenchView) {
	failed := slices.ContainsFunc(v.Findings, func(f api.BenchFinding) bool { return f.Error })
	if v.Tried == nil && failed && r.view != nil {
		old := *r.view
		old.Findings, old.Complete, old.Typed = v.Findings, v.Complete, v.Typed
		old.Errors, old.Doubts = v.Errors, v.Doubts
		r.view, r.stale = &old, true
		return
	}
	r.view, r.stale = v, false
	if kinds := r.shownKinds(); r.pane == entryKinds && r.kind() == nil && len(kinds) > 0 {
		r.kinds.chosen = kinds[0].ID + kinds[0].Source
	}
}

// askOthers asks what other numbers would give, behind the answer that is shown already.
func (r *Room) askOthers(q api.BenchQuery) tea.Cmd {
	if r.pane != ruleText {
		return nil
	}
	asked := r.trial.asked
	ctx, cancel := context.WithCancel(context.Background())
	r.trial.others = cancel
	return room.AskContext(ctx, r.stage, api.TryOthers, q, patience, func(x *api.BenchOthers, err error) tea.Cmd {
		cancel()
		if err == nil && asked == r.trial.asked {
			r.others, r.othersAt = x.Words, q.Line-1
		}
		return nil
	})
}

// askProposals asks what may end the problem of the rule at the cursor.
func (r *Room) askProposals(q api.BenchQuery) tea.Cmd {
	v := r.view
	if v == nil || !v.Endless {
		r.proposals = nil
		return nil
	}
	asked := fmt.Sprint(v.Rule, v.Problem, q.Span, q.At)
	if asked == r.trial.proposed {
		return nil
	}
	r.trial.proposed, r.proposals = asked, nil
	return room.Ask(r.stage, api.Propose, q, patience, func(p *api.Proposals, err error) tea.Cmd {
		if err == nil && asked == r.trial.proposed {
			r.proposals = p
		}
		return nil
	})
}

// whyKind asks why about the example of the chosen kind.
func (r *Room) whyKind() tea.Cmd {
	k := r.kind()
	if k == nil {
		r.stage.Say("no kind of entries is chosen")
		return nil
	}
	typed := r.query()
	return why.Open(r.stage, api.WhyQuery{At: r.stage.Held, Origin: k.Origin, Source: k.Source, Text: k.Example,
		Typed: &typed})
}

// whyLife asks how the rule that is being typed would stand for the chosen key at the lamp.
func (r *Room) whyLife() tea.Cmd {
	x := r.life()
	if x == nil {
		return nil
	}
	typed := r.query()
	return why.Open(r.stage, api.WhyQuery{At: r.stage.Held, Key: x.Key, Typed: &typed})
}

// openFile opens a file, with the cursor on a line of it; instead is a text that stands there,
// changed, instead of the file's.
func (r *Room) openFile(file string, line int, instead string) tea.Cmd {
	return room.Ask(r.stage, api.OpenText, api.BenchFile{File: file, Line: line}, room.Patience,
		func(f *api.BenchFile, err error) tea.Cmd {
			switch {
			case err != nil && instead != "": // it is gone: it comes back as a new one
				r.open(&api.BenchFile{File: file, Body: instead}, line, true)
			case r.stage.Failed(err):
				return nil
			case instead != "":
				r.open(f, line, false)
				r.text.Replace(instead, 1)
				r.stage.Say("the text from before; ^p shows what putting it to work changes")
			case f.New:
				r.open(f, f.Line, true)
				r.stage.Say(f.Says)
			default:
				r.open(f, line, false)
				r.restore()
			}
			return r.try()
		})
}

// openChosen opens the file of the chosen rule, with the cursor on it.
func (r *Room) openChosen() tea.Cmd {
	x := r.rule()
	if x == nil {
		return nil
	}
	return r.openFile(x.File, x.Line, "")
}

// openNamed opens the file of a rule.
func (r *Room) openNamed(rule string) tea.Cmd {
	return room.Ask(r.stage, api.AskRules, api.None{}, room.Patience, func(v *api.RulesView, err error) tea.Cmd {
		if r.stage.Failed(err) {
			return nil
		}
		for _, x := range v.Rules {
			if x.Rule == rule && filepath.Ext(x.File) == ".lantern" {
				return r.openFile(x.File, x.Line, "")
			}
		}
		r.stage.Say(rule + " is built in: it stands in no file")
		return nil
	})
}

// begin begins a rule in a file of its own, and marks an entry there where one is given.
func (r *Room) begin(source string, mark *api.MarkQuery) tea.Cmd {
	return room.Ask(r.stage, api.NewText, api.BenchBegin{Source: source}, room.Patience,
		func(f *api.BenchFile, err error) tea.Cmd {
			if r.stage.Failed(err) {
				return nil
			}
			r.open(f, 2, true)
			r.restore()
			if mark == nil {
				return r.try()
			}
			return r.askMark(*mark)
		})
}

// beginText begins a rule in a file of its own, with a text.
func (r *Room) beginText(text string) tea.Cmd {
	return room.Ask(r.stage, api.NewText, api.BenchBegin{}, room.Patience, func(f *api.BenchFile, err error) tea.Cmd {
		if r.stage.Failed(err) {
			return nil
		}
		f.Body = text
		r.open(f, 2, true)
		return r.try()
	})
}
