package ledger

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

// patience is how long one look at an answer may take.
const patience = time.Minute

// query is the question as it is.
func (r *Room) query() api.LedgerQuery {
	s := r.stage
	q := api.LedgerQuery{
		Room: s.Terminal + " " + s.User,
		Text: r.text.body(),
		Line: r.text.area.Line + 1,
		Col:  r.text.area.Col,
		At:   s.Held,
	}
	if s.View != nil {
		q.From, q.Until, q.Column = s.View.From, s.View.At, s.View.Column
	}
	return q
}

// askNow asks the question as it is typed, and follows its answer; what was asked before is passed over.
func (r *Room) askNow() tea.Cmd {
	if r.stage.View == nil {
		return nil
	}
	r.asking.turn++
	r.asking.at = time.Now()
	if r.asking.stop != nil {
		r.asking.stop()
	}
	q := r.query()
	r.asking.of = q.Text
	return r.follow(r.asking.turn, q)
}

// follow asks for an answer that is newer than what is known.
func (r *Room) follow(turn int, q api.LedgerQuery) tea.Cmd {
	ctx, cancel := context.WithCancel(context.Background())
	r.asking.stop = cancel
	return room.AskContext(ctx, r.stage, api.AskLedger, q, patience, func(v *api.LedgerView, err error) tea.Cmd {
		cancel()
		if turn != r.asking.turn || r.stage.Failed(err) {
			return nil
		}
		cmd := r.take(v)
		if v.Done {
			return tea.Batch(cmd, r.askInside())
		}
		q.Seen = v.Version
		return tea.Batch(cmd, r.follow(turn, q))
	})
}

// stop ends the reading for an answer; what there is of it stays.
func (r *Room) stop() tea.Cmd {
	r.asking.turn++
	if r.asking.stop != nil {
		r.asking.stop()
	}
	r.view.Done = true
	r.view.Rests = append([]string{"stopped: this is of what had been read by then"}, r.view.Rests...)
	q := r.query()
	q.Stop = true
	return room.Ask(r.stage, api.AskLedger, q, room.Patience, func(*api.LedgerView, error) tea.Cmd { return nil })
}

// take takes an answer in. One of a text with errors leaves what was there.
func (r *Room) take(v *api.LedgerView) tea.Cmd {
	failed := slices.ContainsFunc(v.Problems, func(f api.BenchFinding) bool { return f.Error })
	if (failed || !v.Done && len(v.Groups) == 0 && len(v.Lines) == 0) && r.view != nil && !r.empty() {
		old := *r.view
		old.Problems, old.Complete, old.Typed, old.Done = v.Problems, v.Complete, v.Typed, v.Done
		if !failed {
			old.Words, old.Rests = v.Words, v.Rests
		}
		r.view, r.stale = &old, true
		return nil
	}
	var key string
	if g := r.chosen(); g != nil && r.view != nil {
		key = strings.Join(g.Key, "\x00")
	}
	r.view, r.stale = v, false
	if key != "" { // the same group stays chosen
		same := func(g api.LedgerGroup) bool { return strings.Join(g.Key, "\x00") == key }
		if i := slices.IndexFunc(v.Groups, same); i >= 0 {
			r.group = i
		}
	}
	r.column = min(r.column, max(len(v.Columns)-1, 0))
	return r.fit(v)
}

// fit lets the axis show the span of the question, once for each.
func (r *Room) fit(v *api.LedgerView) tea.Cmd {
	if r.empty() || v.From == 0 || len(v.Columns) == 0 {
		return nil
	}
	spans := ""
	for _, l := range strings.Split(r.text.body(), "\n") {
		for _, w := range []string{"over ", "from "} {
			if i := strings.Index(" "+l, " "+w); i >= 0 {
				spans += l[i:]
			}
		}
	}
	if r.name != "" {
		spans += r.name
	}
	if spans != "" { // a window of another width shows as much
		spans += fmt.Sprint(r.stage.W)
	}
	if spans == r.fitted || spans == "" {
		r.fitted = spans
		return nil
	}
	r.fitted = spans
	s := r.stage
	zoom := len(room.Widths) - 1
	for i, w := range room.Widths {
		if time.Duration(room.ColumnsOf(s.W).LifeWidth-1)*w >= v.To.Sub(v.From) {
			zoom = i
			break
		}
	}
	if zoom == s.Zoom && v.To >= s.View.At {
		return nil
	}
	s.Zoom = zoom
	if s.Held == 0 && v.At.Sub(v.To) > s.Column() { // it lies in the past
		s.Until = v.To
		return s.Refresh()
	}
	s.Until = 0
	if s.Held != 0 {
		s.Until = s.Held
	}
	return s.Refresh()
}

// again asks once more, where what is shown may be older than what is known.
func (r *Room) again() tea.Cmd {
	if r.view == nil || r.asking.of != r.text.body() {
		return r.askNow()
	}
	if r.empty() && r.pane == askList && time.Since(r.asking.at) > 10*time.Second {
		return tea.Batch(r.askNow(), r.askAbout())
	}
	s := r.stage
	moved := r.view.At != s.Held && s.Held != 0
	age := time.Since(r.asking.at)
	switch {
	case moved,
		s.Held == 0 && r.view.Done && age > max(min(max(s.Column()/4, 2*time.Second), time.Minute), 100*r.view.Took):
		return r.askNow()
	}
	return nil
}

// askInside asks what is in what is marked, or in all, of the chosen group.
func (r *Room) askInside() tea.Cmd {
	v := r.view
	if v == nil || !v.Done || r.empty() || r.stale || len(v.Per) == 2 && v.Per[0] == "field" {
		if v == nil || r.empty() || len(v.Per) == 2 && v.Per[0] == "field" {
			r.inside = nil
		}
		return nil
	}
	q := api.InsideQuery{
		Room:  r.query().Room,
		Text:  r.text.body(),
		At:    r.stage.Held,
		From:  v.From,
		To:    v.To,
		Field: r.field,
		Lines: 60,
	}
	if from, to, ok := r.marked(); ok {
		q.From, q.To = from, to
	}
	if g := r.chosen(); g != nil && !g.Rest && len(v.Per) > 0 {
		q.Group = g.Key
	}
	asked := fmt.Sprint(q, v.At)
	if asked == r.asking.inside {
		return nil
	}
	r.asking.inside = asked
	return room.Ask(r.stage, api.AskInside, q, patience, func(x *api.Inside, err error) tea.Cmd {
		if asked != r.asking.inside || err != nil {
			return nil
		}
		r.inside = x
		r.value, r.line = min(r.value, max(len(x.Values)-1, 0)), min(r.line, max(len(x.Lines)-1, 0))
		return nil
	})
}

// askAbout asks what the chosen source says.
func (r *Room) askAbout() tea.Cmd {
	if r.view == nil || r.ask >= len(r.view.Asks) || r.view.Asks[r.ask].Kind != "source" {
		return nil
	}
	q := r.query()
	q.Room += " about a source"
	source := r.view.Asks[r.ask].Name
	q.Text = "on " + source + " show count per each field most 400"
	asked := fmt.Sprint(q.Text, q.From, q.Column)
	if asked == r.about.asked {
		return nil
	}
	r.about.asked = asked
	return r.followAbout(asked, source, q)
}

func (r *Room) followAbout(asked, source string, q api.LedgerQuery) tea.Cmd {
	return room.Ask(r.stage, api.AskLedger, q, patience, func(v *api.LedgerView, err error) tea.Cmd {
		if asked != r.about.asked || err != nil {
			return nil
		}
		if len(v.Groups) > 0 || v.Done {
			r.about.source, r.about.view = source, v
		}
		if v.Done {
			return nil
		}
		q.Seen = v.Version
		return r.followAbout(asked, source, q)
	})
}

// gap holds the lamp at the end of the gap before it, or of the next one, so that all of the gap is to be
// seen. What was a gap in later answers to the same question is one still.
func (r *Room) gap(by int) tea.Cmd {
	g := r.chosen()
	if g == nil {
		return nil
	}
	at := r.stage.Held
	if at == 0 {
		at = r.view.At
	}
	gaps := r.gapsSeen(g)
	best := entry.None
	for _, x := range gaps {
		if by > 0 && x.To > at && (best == entry.None || x.To < best) || by < 0 && x.To < at && x.To > best {
			best = x.To
		}
	}
	if best == entry.None {
		if len(gaps) == 0 {
			r.stage.Say("no period is without entries; show gaps longer than 5m finds shorter ones")
		} else {
			r.stage.Say("no gap lies there")
		}
		return nil
	}
	return r.stage.HoldAt(best)
}

// gapsSeen are the gaps of a group in all answers to the question so far: of some that overlap, the one
// that ends last, since an answer ends at its lamp.
func (r *Room) gapsSeen(g *api.LedgerGroup) []api.Span {
	of := r.text.body() + "\x00" + strings.Join(g.Key, "\x00")
	if r.gaps.of != of {
		r.gaps.of, r.gaps.list = of, nil
	}
	for _, x := range r.gapsOf(g) {
		i := slices.IndexFunc(r.gaps.list, func(o api.Span) bool { return o.From <= x.To && x.From <= o.To })
		switch {
		case i < 0:
			r.gaps.list = append(r.gaps.list, x)
		default:
			o := &r.gaps.list[i]
			o.From, o.To = min(o.From, x.From), max(o.To, x.To)
		}
	}
	return r.gaps.list
}

// gapsOf are the gaps of a group: those that were asked for, else periods without an entry.
func (r *Room) gapsOf(g *api.LedgerGroup) []api.Span {
	if len(g.Gaps) > 0 {
		return g.Gaps
	}
	var out []api.Span
	for i, c := range r.view.Columns {
		if c.Name != "count" {
			continue
		}
		for k, f := range g.Series[i] {
			if k+1 >= len(r.view.Bounds) || f == nil || *f != 0 {
				continue
			}
			from, to := max(r.view.Bounds[k], r.view.From), min(r.view.Bounds[k+1], r.view.To)
			if n := len(out); n > 0 && out[n-1].To == from {
				out[n-1].To = to
			} else {
				out = append(out, api.Span{From: from, To: to})
			}
		}
	}
	return out
}
