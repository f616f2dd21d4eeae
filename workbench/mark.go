package workbench

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/core/author"

	"github.com/dustin/go-humanize/english"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
	"dimlantern/core/trial"
	"dimlantern/folder"
)

// Mark writes into a text what entries are for its rule. It writes a clause that the entries
// fit: their words stay, their numbers are left open, and the first number behind a word is a field of that name.
func (s *Workbench) Mark(_ context.Context, q api.MarkQuery) (*api.Marked, error) {
	switch q.Is {
	case "expect":
		return s.keepFed(q)
	case "name":
		return s.markName(q)
	}
	settings := s.Window.Now().Settings
	src := settings.Source(q.Source)
	if src == nil {
		return nil, fmt.Errorf("no source is called %s", q.Source)
	}
	if !slices.Contains([]string{"problem", "recovery", "ignore"}, q.Is) {
		return nil, fmt.Errorf("an entry is a problem, a recovery, or ignored, not %s", q.Is)
	}
	plan := match.NewPlan(settings, src, nil, time.Local)
	var patterns []string
	named, why := "", "" // the field that identifies what the entries speak of, and how that is known
	for i, raw := range q.Texts {
		text := raw
		x, _ := plan.Divide(&layout.Divider{Layout: plan.Layout}, []byte(raw), entry.Of(time.Now()))
		event := ""
		for _, f := range x.Fields {
			if f.Name == "text" {
				text = f.Value
			}
			if l := settings.Layout(src.LayoutName()); f.Name == "event" && l != nil && l.Format == "event-xml" {
				event = f.Value
			}
		}
		text, _, _ = strings.Cut(text, "\n")
		var kind, others []string
		if i < len(q.Kinds) {
			kind, others = s.alike(plan, q.Source, q.Kinds[i])
		}
		v := author.Over(text, kind, others)
		key := v.Key()
		if key != nil && (q.Is == "ignore" || q.Is == "recovery" && !strings.Contains(q.Body, "(?<"+key.Name+">")) {
			key = nil
		}
		p := v.Pattern(key)
		if key != nil && named == "" {
			named, why = key.Name, keyWords(&v, key)
		}
		if event != "" {
			p, named = "event == "+lang.Quote(event), ""
			if strings.Trim(event, "0123456789") == "" {
				p = "event == " + event
			}
		}
		if !slices.Contains(patterns, p) {
			patterns = append(patterns, p)
		}
	}
	if len(patterns) == 0 {
		return nil, fmt.Errorf("no entry is marked")
	}
	clause := strings.Join(patterns, " or ")
	before := q.Body
	if m := s.already(q); m != nil {
		return m, nil
	}
	if q.Is == "ignore" {
		if m := s.tighter(q); m != nil {
			return m, nil
		}
	}
	if q.Is == "problem" && named != "" {
		before = author.WithKey(before, q.Line, named)
	}
	body, line, err := author.InsertClause(before, q.Line, q.Is, clause)
	if err != nil {
		return nil, err
	}
	m := &api.Marked{Body: body, Line: line, Clause: q.Is + " " + clause}
	if q.Is == "ignore" {
		m.Costs = s.costs(q, body)
	} else if before != q.Body {
		m.Costs = why
	}
	return m, nil
}

// keyWords say by what hits are counted, and by what not.
func keyWords(v *author.Several, key *author.Slot) string {
	words := "per " + key.Name + ": " + key.Say()
	for i := range v.Slots {
		if x := &v.Slots[i]; x.Why != "" && x.Name != "" {
			return words + "; not per " + x.Name + ": " + x.Why
		}
	}
	return words
}

// already says that the rule takes what is marked for that as it stands, so that nothing has to be
// written; nil where it does not.
func (s *Workbench) already(q api.MarkQuery) *api.Marked {
	says := map[string]string{"problem": trial.KindProblem, "recovery": trial.KindOver,
		"ignore": trial.KindIgnored}[q.Is]
	is, r := s.kindsAs(q, q.Body)
	if r != nil {
		for _, id := range q.Kinds {
			switch {
			case q.Is == "recovery" && is[id] == trial.KindProblem:
				return &api.Marked{Body: q.Body, Line: q.Line,
					Already: "the problem catches it, so it cannot mean over as well: nothing is written"}
			case q.Is == "problem" && is[id] == trial.KindOver:
				return &api.Marked{Body: q.Body, Line: q.Line,
					Already: "it means over, so it cannot be the problem as well: nothing is written"}
			}
		}
	}
	if r == nil || len(q.Kinds) == 0 ||
		slices.ContainsFunc(q.Kinds, func(id string) bool { return is[id] != says }) {
		return nil
	}
	word := map[string]string{"problem": "the problem catches it", "recovery": "it ends it", "ignore": "it is ignored"}
	return &api.Marked{Body: q.Body, Line: q.Line, Already: word[q.Is] + " already: nothing is written"}
}

// tighter finds a pattern in the place of the problem's that no longer catches the kinds
// that are not meant, and still all others that it caught: a whole word instead of a part
// of one, or capitals as written; nil where there is none.
func (s *Workbench) tighter(q api.MarkQuery) *api.Marked {
	before, r := s.kindsAs(q, q.Body)
	if r == nil || r.Problem == nil || len(q.Kinds) == 0 {
		return nil
	}
	for _, m := range lang.Matches(r) {
		if m.Field != "" || m.Neg {
			continue
		}
		for _, source := range author.Tighter(m.Pattern.Source) {
			body, ok := lang.ReplacePattern(q.Body, m.Pattern, source)
			if !ok {
				continue
			}
			after, now := s.kindsAs(q, body)
			if now == nil {
				continue
			}
			good := true
			for id, was := range before {
				wanted := was
				if slices.Contains(q.Kinds, id) {
					wanted = trial.KindNothing
					good = good && was == trial.KindProblem
				}
				good = good && caught(after[id]) == caught(wanted)
			}
			if good {
				return &api.Marked{Body: body, Line: m.Pattern.Pos.Line, Clause: "the problem is tighter: " +
					(&lang.Pattern{Source: source}).String(), Costs: "it catches all else that it caught"}
			}
		}
	}
	return nil
}

// caught takes what is near for nothing.
func caught(is string) string {
	if is == trial.KindNear {
		return trial.KindNothing
	}
	return is
}

// kindsAs is what the rule at the cursor makes of the kinds of the sample, with a body in
// the place of the query's; no rule where it has errors.
func (s *Workbench) kindsAs(q api.MarkQuery, body string) (map[string]string, *lang.Rule) {
	s.bench.mu.Lock()
	sample := s.bench.now
	s.bench.mu.Unlock()
	if sample == nil {
		return nil, nil
	}
	settings, r, at := s.benchRule(api.BenchQuery{File: q.File, Body: body, Line: q.Line})
	if r == nil {
		return nil, nil
	}
	out := map[string]string{}
	for _, k := range trial.SaysOf(settings, r, sample.kinds, nil, time.Local, at) {
		if k.Kind.Source == q.Source {
			out[k.Shape.ID] = k.Is
		}
	}
	return out, r
}

// costs says what an ignore takes from the problem.
func (s *Workbench) costs(q api.MarkQuery, body string) string {
	before, r := s.kindsAs(q, q.Body)
	after, now := s.kindsAs(q, body)
	if r == nil || now == nil {
		return ""
	}
	s.bench.mu.Lock()
	defer s.bench.mu.Unlock()
	if s.bench.now == nil {
		return ""
	}
	entries, others := 0, 0
	for _, k := range s.bench.now.kinds.Of {
		id := k.Shape.ID
		if k.Source != q.Source || caught(before[id]) == caught(after[id]) || before[id] == trial.KindNothing ||
			before[id] == trial.KindNear {
			continue
		}
		if entries += k.Shape.Count; !slices.Contains(q.Kinds, id) {
			others++
		}
	}
	words := fmt.Sprintf("it takes %s from the rule", english.Plural(entries, "entry", "entries"))
	if others > 0 {
		words += fmt.Sprintf(", of %s besides as well", english.Plural(others, "kind", "kinds"))
	}
	return words
}

// alike are the texts of entries of a kind, as far as they may be shown, and those of all other kinds of
// the source.
func (s *Workbench) alike(plan *match.Plan, source, id string) (kind, others []string) {
	s.bench.mu.Lock()
	sample := s.bench.now
	s.bench.mu.Unlock()
	if sample == nil {
		return nil, nil
	}
	for _, k := range sample.kinds.Of {
		if k.Source != source {
			continue
		}
		d := &layout.Divider{Layout: plan.Layout}
		for _, sample := range k.Shape.Samples {
			x := d.Divide([]byte(sample.Text), 0)
			text := sample.Text
			for _, f := range x.Fields {
				if f.Name == "text" {
					text = f.Value
				}
			}
			text, _, _ = strings.Cut(x.Hide(text), "\n")
			if k.Shape.ID == id {
				kind = append(kind, text)
			} else {
				others = append(others, text)
			}
		}
	}
	return kind, others
}

// markName gives a value of an entry a name in the pattern that the entry fits.
func (s *Workbench) markName(q api.MarkQuery) (*api.Marked, error) {
	settings, r, at := s.benchRule(api.BenchQuery{File: q.File, Body: q.Body, Line: q.Line})
	src := settings.Source(q.Source)
	switch {
	case r == nil:
		return nil, fmt.Errorf("the rule has errors: they come first")
	case src == nil || len(q.Texts) == 0 || q.From < 0 || q.To <= q.From || q.To > len(q.Texts[0]):
		return nil, fmt.Errorf("no value is chosen")
	}
	plan := match.NewPlan(settings, src, nil, time.Local)
	raw := q.Texts[0]
	x, _ := plan.Divide(&layout.Divider{Layout: plan.Layout}, []byte(raw), at)
	e := &entry.Entry{Source: q.Source, Raw: raw, Fits: x.Fits, Fields: x.Fields, At: at}
	shift := strings.LastIndex(raw, e.Text())
	if shift < 0 || q.From < shift {
		return nil, fmt.Errorf("the layout gives that value already, as a field of its own")
	}
	var alike []string
	for _, id := range q.Kinds {
		kind, _ := s.alike(plan, q.Source, id)
		alike = append(alike, kind...)
	}
	body, line, err := author.NameValue(r, q.Body, e, alike, q.From-shift, q.To-shift, q.Name)
	if err != nil {
		return nil, err
	}
	return &api.Marked{Body: body, Line: line, Clause: "a field " + q.Name + ", for per, say and where"}, nil
}

// keepFed writes lines that were fed to a rule into it, with what they brought, as an expect.
func (s *Workbench) keepFed(q api.MarkQuery) (*api.Marked, error) {
	sn := s.Window.Now()
	settings, _ := sn.CheckErrors(folder.With(sn.Texts, q.File, q.Body))
	r := settings.RuleNear(q.File, q.Line)
	switch {
	case r == nil:
		return nil, fmt.Errorf("the rule has errors: they come first")
	case len(q.Texts) == 0:
		return nil, fmt.Errorf("no line was fed: a feeds the chosen one")
	}
	title := fmt.Sprintf("fed on the bench, %d lines", len(q.Texts))
	for n := 2; slices.ContainsFunc(r.Expects, func(x *lang.Expect) bool { return x.Title == title }); n++ {
		title = fmt.Sprintf("fed on the bench, %d lines, %d", len(q.Texts), n)
	}
	lines := strings.Split(strings.TrimRight(q.Body, "\n"), "\n")
	end := r.Pos.Line
	for end < len(lines) && lines[end] != "}" {
		end++
	}
	block := "\n" + trial.ExpectOf(settings, r, title, q.Texts)
	lines = slices.Insert(lines, min(end, len(lines)), strings.Split(strings.TrimRight(block, "\n"), "\n")...)
	text := strings.Join(lines, "\n") + "\n"
	text = lang.Tidied(q.Body, text)
	return &api.Marked{Body: text, Line: q.Line, Clause: "expect " + lang.Quote(title)}, nil
}
