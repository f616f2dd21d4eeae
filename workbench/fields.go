package workbench

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dimlantern/core/author"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
	"dimlantern/folder"
	"dimlantern/intake"
	"dimlantern/intake/regular"
	"dimlantern/query"
)

// work is one question about fields being answered.
type work struct {
	s        *Workbench
	q        api.FieldsQuery
	settings *lang.Settings
	texts    []folder.Text
	src      *lang.Source
	path     string
	series   string
	out      *api.FieldsView
}

// Fields says how a layout divides the entries of an origin.
func (s *Workbench) Fields(ctx context.Context, q api.FieldsQuery) (*api.FieldsView, error) {
	w := &work{s: s, q: q, out: &api.FieldsView{}}
	sn := s.Window.Now()
	w.settings, w.texts = sn.Settings, sn.Texts
	o := sn.Origin(q.Origin)
	if o == nil {
		return nil, query.NoOrigin(q.Origin)
	}
	w.src, w.path, w.series = sn.Source(q.Origin), o.Newest(), o.Series
	w.out.Source = w.src.Name
	lines, err := w.sample(ctx)
	if err != nil {
		return nil, err
	}
	was := w.block()
	text := cmp.Or(q.Text, was)
	for _, src := range w.settings.Sources {
		if src.Name != w.src.Name && src.LayoutName() == w.out.Layout {
			w.out.Others = append(w.out.Others, src.Name)
		}
	}
	if q.Detect > 0 {
		text = w.detected(lines, q.Detect-1, text)
	}
	if len(q.Marks) > 0 {
		text = w.marked(text, lines)
	}
	f := lang.Parse(w.out.File, []byte(text))
	if !lang.Errors(f.Diagnostics()) {
		text = f.Format()
	}
	w.out.Text, w.out.Changed = text, text != was
	settings, words := w.with(text)
	if words != "" {
		w.out.Words = cmp.Or(w.out.Words, words)
		settings = w.settings
	}
	w.divide(settings, lines)
	if q.Write && words == "" {
		if err := w.write(text); err != nil {
			return nil, err
		}
		w.out.Done = true
		s.Reload()
	}
	return w.out, nil
}

// maxSampled bounds how many entries of a sample are looked at.
const maxSampled = 20_000

// sample reads entries of the origin.
func (w *work) sample(ctx context.Context) ([]sampled, error) {
	plan := match.NewPlan(w.settings, w.src, nil, time.Local)
	var out []sampled
	words := strings.Fields(strings.ToLower(w.q.Filter))
	seen := 0
	err := intake.Sample(ctx, w.series, plan, w.q.Wide, func(text []byte, header string) {
		d := &layout.Divider{Layout: plan.Layout, Header: header}
		plan.Entries(text, func(line []byte) {
			if plan.Layout.Headed() && d.See(line) {
				return
			}
			if seen++; len(words) > 0 && !query.HasAll(strings.ToLower(string(line)), words) {
				return
			}
			out = append(out, sampled{line: string(line), header: d.Header})
		})
		if !w.q.Wide && len(out) > 2*maxSampled {
			out = thinned(out)
		}
	})
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", w.path, folder.Reason(err))
	}
	if !w.q.Wide {
		for len(out) > maxSampled {
			out = thinned(out)
		}
	}
	return out, nil
}

// sampled is an entry as it stands in its log.
type sampled struct{ line, header string }

// thinned keeps every second entry, and the newest ones.
func thinned(all []sampled) []sampled {
	keep := len(all) - 500
	out := all[:0]
	for i, x := range all {
		if i%2 == 0 || i >= keep {
			out = append(out, x)
		}
	}
	return out
}

// block is the layout of the source as a block of its own: the one that is written, or
// one that is the same as what is built in.
func (w *work) block() string {
	name := w.src.LayoutName()
	for _, t := range w.texts {
		if t.Table {
			continue
		}
		f := lang.Parse(t.Name, []byte(t.Body))
		if b := f.Block("layout", name); b != "" {
			w.out.Layout, w.out.File = name, t.Name
			return b
		}
		if f.Block("source", w.src.Name) != "" {
			w.out.File = t.Name
		}
	}
	w.out.Layout = author.OwnLayout(w.settings, w.src.Name)
	return "layout " + w.out.Layout + " {\n  " + name + "\n}\n"
}

// with are the settings as they would be with the layout; words say what is wrong.
func (w *work) with(text string) (*lang.Settings, string) {
	texts, err := w.edited(text)
	if err != nil {
		return nil, err.Error()
	}
	settings, ds := w.s.Window.Now().Check(texts)
	for _, d := range ds {
		if d.Weight == lang.Err {
			what := d.What
			if d.Mend != "" {
				what += "; " + d.Mend
			}
			return nil, what
		}
	}
	return settings, ""
}

// edited are the settings' texts with the layout in its place.
func (w *work) edited(text string) ([]folder.Text, error) {
	block := lang.Parse(w.out.File, []byte(text))
	for _, d := range block.Diagnostics() {
		if d.Weight == lang.Err {
			return nil, fmt.Errorf("line %d: %s; %s", d.Pos.Line, d.What, d.Mend)
		}
	}
	if block.Block("layout", w.out.Layout) == "" {
		return nil, fmt.Errorf("the text is no layout called %s; it begins with: layout %s {", w.out.Layout,
			w.out.Layout)
	}
	out := slices.Clone(w.texts)
	for i, t := range out {
		if t.Name != w.out.File || t.Table {
			continue
		}
		f := lang.Parse(t.Name, []byte(t.Body))
		if lang.Errors(f.Diagnostics()) {
			return nil, fmt.Errorf("%s has errors: mend them first", filepath.Base(t.Name))
		}
		f.Put("layout", w.out.Layout, block)
		if w.src.LayoutName() != w.out.Layout {
			f.SetClause("source", w.src.Name, "layout "+w.out.Layout)
		}
		out[i].Body = f.Edited()
		return out, nil
	}
	return nil, fmt.Errorf("the file in which the source stands is not there any more")
}

// write writes the layout into its file, in the file's one form, comments kept.
func (w *work) write(text string) error {
	texts, err := w.edited(text)
	if err != nil {
		return err
	}
	for _, t := range texts {
		if t.Name == w.out.File && !t.Table {
			now, err := regular.Read(t.Name, folder.MaxFile)
			if err != nil {
				return fmt.Errorf("%s cannot be read: %w", t.Name, folder.Reason(err))
			}
			if !slices.ContainsFunc(w.texts, func(x folder.Text) bool {
				return x.Name == t.Name &&
					x.Body == string(now)
			}) {
				return fmt.Errorf("%s has changed meanwhile: look again, then write", filepath.Base(t.Name))
			}
			return folder.Replace(t.Name, t.Body)
		}
	}
	return nil
}

// detected is the block of a proposal; with none of that number it stays as it is.
func (w *work) detected(lines []sampled, n int, text string) string {
	var raw []string
	if len(lines) > 0 && lines[0].header != "" {
		raw = append(raw, lines[0].header)
	}
	for _, l := range lines {
		raw = append(raw, l.line)
	}
	near := entry.Of(time.Now())
	if len(w.src.Files) > 0 && w.q.Filter == "" && !w.q.Wide { // as the command does it
		if ends, at, err := intake.Ends(w.path); err == nil {
			raw, near = ends, at
		}
	}
	all := layout.Detect(raw, near)
	for _, p := range all {
		w.out.Found = append(w.out.Found, p.Describe())
	}
	p := all[n%len(all)]
	clauses := p.Clauses
	if p.Name != "" {
		clauses = []string{p.Name}
	}
	w.out.Words = p.Describe()
	if len(w.out.Others) > 0 {
		w.out.Words += "; " + strings.Join(w.out.Others, ", ") + " have this layout as well"
	}
	if p.Starts != "" {
		w.out.Words += `; write into the source: entry starts ` + (&lang.Pattern{Source: p.Starts}).String()
	}
	return "layout " + w.out.Layout + " {\n" + strings.Join(clauses, "\n") + "\n}\n"
}

// marked adds to the layout what finds the values that were pointed at.
func (w *work) marked(text string, lines []sampled) string {
	settings, words := w.with(text)
	if words != "" {
		w.out.Words = words
		return text
	}
	plan := w.plan(settings)
	l := settings.Layout(w.out.Layout)
	clauses := w.renamed(plan, lines)
	if w.q.Marks = w.leftOf(l, plan, lines, &text); len(w.q.Marks) == 0 && len(clauses) == 0 {
		return text
	}
	groups, words := w.group(plan, lines)
	if words != "" {
		w.out.Words = words
		return text
	}
	for _, g := range groups {
		var sample []string
		for _, x := range lines[max(0, len(lines)-4000):] {
			if v, ok := valueOf(plan, x, g.field); ok {
				sample = append(sample, v)
			}
		}
		got, err := layout.Induce(g.examples, sample)
		if err != nil {
			w.out.Words = err.Error()
			return text
		}
		w.out.Parts = got.Parts
		clauses = append(clauses, "find in "+g.field+" "+(&lang.Pattern{Source: got.Pattern}).String())
		for _, group := range slices.Sorted(maps.Keys(g.renamed)) {
			clauses = append(clauses, "map "+group+" to "+g.renamed[group])
		}
		if l != nil && l.Time == nil {
			clauses = append(clauses, timeClauses(g)...)
		}
	}
	trimmed := strings.TrimRight(text, " \n")
	body := strings.TrimSuffix(trimmed, "}")
	if body == trimmed {
		return text
	}
	if len(l.Patterns) == 0 && l.Format == "" && l.Delimited == nil { // plain is said by saying nothing else
		body = strings.Replace(body, "\n  plain\n", "\n", 1)
	}
	return body + strings.Join(clauses, "\n") + "\n}\n"
}

// renamed takes the marks that are the whole value of a field, which need no pattern, and gives
// the clauses that call the field so.
func (w *work) renamed(plan *match.Plan, lines []sampled) []string {
	var clauses []string
	var left []api.Mark
	for _, m := range w.q.Marks {
		x := sampled{line: m.Line}
		if i := slices.IndexFunc(lines, func(l sampled) bool { return plainText(plan, l) == m.Line }); i >= 0 {
			x = lines[i]
		}
		field, start, end, ok := within(plan, x, m)
		value, _ := valueOf(plan, x, field)
		if !ok || m.Not || field == "text" || start != 0 || end != len(value) {
			left = append(left, m)
			continue
		}
		if clause := "map " + field + " to " + m.Name; field != m.Name && !slices.Contains(clauses, clause) {
			clauses = append(clauses, clause)
		}
	}
	w.q.Marks = left
	return clauses
}

// leftOf takes the marks that lie in no field, such as left of the time, into the layout's
// pattern, which is built anew of what it finds on those lines and of the marks. It returns the
// others.
func (w *work) leftOf(l *lang.Layout, plan *match.Plan, lines []sampled, text *string) []api.Mark {
	if l == nil || len(l.Patterns) != 1 {
		return w.q.Marks
	}
	re := l.Patterns[0].Re()
	var left []api.Mark
	var examples []layout.Example
	for _, m := range w.q.Marks {
		x := sampled{line: m.Line}
		if _, _, _, ok := within(plan, x, m); ok || m.Not {
			left = append(left, m)
			continue
		}
		at := re.FindStringSubmatchIndex(m.Line)
		if at == nil {
			left = append(left, m)
			continue
		}
		e := layout.Example{Line: m.Line, Is: []layout.Span{{Start: m.Start, End: m.End, Name: groupName(m.Name)}}}
		for g, name := range re.SubexpNames() {
			if name != "" && at[2*g] < at[2*g+1] {
				e.Is = append(e.Is, layout.Span{Start: at[2*g], End: at[2*g+1], Name: name})
			}
		}
		examples = append(examples, e)
	}
	if len(examples) == 0 {
		return left
	}
	var sample []string
	for _, x := range lines[max(0, len(lines)-4000):] {
		sample = append(sample, plainText(plan, x))
	}
	got, err := layout.Induce(examples, sample)
	if err != nil {
		w.out.Words = err.Error()
		return left
	}
	w.out.Parts = got.Parts
	was, is := l.Patterns[0].String(), (&lang.Pattern{Source: got.Pattern}).String()
	*text = strings.Replace(*text, "pattern "+was, "pattern "+is, 1)
	return left
}

// timeClauses says that a marked value is the entry's time, where it is one.
func timeClauses(g together) []string {
	for _, e := range g.examples {
		for _, s := range e.Is {
			v := e.Line[s.Start:s.End]
			if layout.AnyTime(v) != nil && s.Name == "at" {
				if _, err := layout.TimeLike(v, ""); err == nil {
					return []string{"time at like " + lang.Quote(v)}
				}
			}
		}
	}
	return nil
}

// together are marks that one pattern finds: in one field, together on some line.
type together struct {
	field    string
	examples []layout.Example
	renamed  map[string]string // names of groups → names of fields that no group can have
}

// group puts the marks together that stand on one line, or have a name in common.
func (w *work) group(plan *match.Plan, lines []sampled) ([]together, string) {
	var out []together
	for _, m := range w.q.Marks {
		x := sampled{line: m.Line}
		if i := slices.IndexFunc(lines, func(l sampled) bool { return plainText(plan, l) == m.Line }); i >= 0 {
			x = lines[i]
		}
		field, start, end, ok := within(plan, x, m)
		if !ok {
			return nil, "what is marked belongs to no field: mark it in the text, or write the pattern by hand"
		}
		value, _ := valueOf(plan, x, field)
		at := slices.IndexFunc(out, func(g together) bool {
			return g.field == field && slices.ContainsFunc(g.examples, func(e layout.Example) bool {
				return e.Line == value || m.Name != "" &&
					slices.ContainsFunc(append(slices.Clone(e.Is), e.Not...),
						func(s layout.Span) bool { return s.Name == groupName(m.Name) })
			})
		})
		if at < 0 {
			out = append(out, together{field: field})
			at = len(out) - 1
		}
		g := &out[at]
		k := slices.IndexFunc(g.examples, func(e layout.Example) bool { return e.Line == value })
		if k < 0 {
			g.examples = append(g.examples, layout.Example{Line: value})
			k = len(g.examples) - 1
		}
		s := layout.Span{Start: start, End: end, Name: groupName(m.Name)}
		if s.Name != m.Name {
			if g.renamed == nil {
				g.renamed = map[string]string{}
			}
			g.renamed[s.Name] = m.Name
		}
		if m.Not {
			g.examples[k].Not = append(g.examples[k].Not, s)
		} else {
			g.examples[k].Is = append(g.examples[k].Is, s)
		}
	}
	return out, ""
}

// groupName is a field's name as a group of a pattern can have it.
func groupName(name string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9', r == '_':
			return r
		}
		return '_'
	}, name)
}
