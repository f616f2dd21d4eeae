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
	series := w.series
	if w.src.Kept() {
		series = w.path
	}
	seen := 0
	err := intake.Sample(ctx, series, plan, w.q.Wide, func(text []byte, header string) {
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
		out[i].Body = f.Format()
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
	all := layout.Detect(raw, entry.Of(time.Now()))
	for _, p := range all {
		w.out.Found = append(w.out.Found, p.Describe())
	}
	p := all[n%len(all)]
	clauses := p.Clauses
	if p.Name != "" {
		clauses = []string{p.Name}
	}
	w.out.Words = p.Describe()
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
	groups, words := w.group(plan, lines)
	if words != "" {
		w.out.Words = words
		return text
	}
	var clauses []string
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

// plan is how the settings divide the source.
func (w *work) plan(settings *lang.Settings) *match.Plan {
	src := settings.Source(w.src.Name)
	if src == nil {
		src = w.src
	}
	return match.NewPlan(settings, src, nil, time.Local)
}

// plainText is an entry as a mark's line has it.
func plainText(plan *match.Plan, x sampled) string {
	d := &layout.Divider{Layout: plan.Layout, Header: x.header}
	_, s := plan.Shown(d, []byte(x.line), entry.Of(time.Now()))
	return cutLine(s)
}

// valueOf is the value of a field of an entry; of text, where there is none, the whole
// entry.
func valueOf(plan *match.Plan, x sampled, field string) (string, bool) {
	d := &layout.Divider{Layout: plan.Layout, Header: x.header}
	v, raw := plan.Divide(d, []byte(x.line), entry.Of(time.Now()))
	if !v.Fits {
		return "", false
	}
	for _, f := range v.Fields {
		if f.Name == field {
			return f.Value, true
		}
	}
	return valid(raw), field == "text"
}

// within finds the field in whose value a mark stands, and where in it.
func within(plan *match.Plan, x sampled, m api.Mark) (field string, start, end int, ok bool) {
	d := &layout.Divider{Layout: plan.Layout, Header: x.header}
	v, raw := plan.Divide(d, []byte(x.line), entry.Of(time.Now()))
	text := valid(raw)
	if !v.Fits || m.Start < 0 || m.End > len(m.Line) || m.Start >= m.End {
		return "", 0, 0, false
	}
	mark := m.Line[m.Start:m.End]
	if m.Start >= len(text) || !strings.HasPrefix(text[m.Start:], mark) { // something before it is masked
		at := strings.Index(text, mark)
		if at < 0 {
			return "", 0, 0, false
		}
		m.Start, m.End = at, at+len(mark)
	}
	best := -1
	spans := spansOf(text, v.Fields, v.Written)
	for i, s := range spans {
		if s.Start <= m.Start && m.End <= s.End && (best < 0 || s.Name == "text" || spans[best].Name != "text" &&
			s.End-s.Start > spans[best].End-spans[best].Start) {
			best = i
		}
	}
	switch {
	case best >= 0:
		return spans[best].Name, m.Start - spans[best].Start, m.End - spans[best].Start, true
	case !slices.ContainsFunc(v.Fields, func(f entry.Field) bool { return f.Name == "text" }):
		return "text", m.Start, m.End, true
	}
	return "", 0, 0, false
}

// spansOf finds the places of fields' values in a line, those that come first first.
func spansOf(line string, fields, written []entry.Field) []api.FieldSpan {
	var out []api.FieldSpan
	at := 0
	for _, f := range fields {
		if i := slices.IndexFunc(written, func(x entry.Field) bool { return x.Name == f.Name }); i >= 0 {
			f = written[i]
		}
		if f.Value == "" || f.Name == "request" {
			continue
		}
		i := -1
		if at <= len(line) {
			i = strings.Index(line[at:], f.Value)
		}
		switch {
		case i >= 0:
			i += at
		default:
			if i = strings.Index(line, f.Value); i < 0 {
				continue
			}
		}
		out = append(out, api.FieldSpan{Start: i, End: i + len(f.Value), Name: f.Name})
		if i >= at {
			at = i + len(f.Value)
			if f.Name == "text" {
				at = i
			}
		}
	}
	return out
}

// cutLine bounds what is shown of an entry.
func cutLine(s string) string {
	s, _, _ = strings.Cut(s, "\n")
	return strings.ToValidUTF8(s[:min(len(s), 4000)], "\uFFFD")
}

// divide divides the sample, and counts.
func (w *work) divide(settings *lang.Settings, lines []sampled) {
	plan, out := w.plan(settings), w.out
	shaper, counter, chosen := layout.NewShaper(), layout.NewCounter(), layout.NewCounter()
	shapes := make([]*layout.Shape, len(lines))
	reasons := map[string]*api.MisfitCount{}
	var misfits []int
	d := &layout.Divider{Layout: plan.Layout}
	near := entry.Of(time.Now())
	for i := range lines {
		d.Header = lines[i].header
		x, raw := plan.Divide(d, []byte(lines[i].line), near)
		shapes[i] = shaper.Add(raw)
		out.Looked++
		if x.Fits {
			out.Fits++
		}
		if x.Timed {
			out.Timed++
		}
		if !x.Fits || len(x.Misfits) > 0 {
			misfits = append(misfits, i)
			for _, m := range d.Why(&x, raw) {
				c := reasons[m.Reason]
				if c == nil {
					if len(reasons) >= 200 {
						continue
					}
					c = &api.MisfitCount{Reason: m.Reason, Example: x.Hide(cmp.Or(m.Value, cutLine(valid(raw))))}
					reasons[m.Reason] = c
					out.Misfits = append(out.Misfits, *c)
				}
				c.Count++
			}
		}
		fields := x.Fields
		if x.Hides() {
			fields = x.HideFields()
		}
		counter.Add(fields, i, "")
		if k := slices.IndexFunc(fields, func(f entry.Field) bool { return f.Name == w.q.Field }); k >= 0 {
			chosen.Add(fields[k:k+1], i, cutLine(x.Hide(valid(raw))))
		}
	}
	for i := range out.Misfits {
		out.Misfits[i].Count = reasons[out.Misfits[i].Reason].Count
	}
	slices.SortStableFunc(out.Misfits, func(a, b api.MisfitCount) int { return b.Count - a.Count })
	out.Shapes = len(shaper.Shapes())
	l := settings.Layout(w.out.Layout)
	told := func(v *layout.Values) api.FieldCount {
		c := api.FieldCount{Name: v.Name, Type: v.Type, Entries: v.Entries, Distinct: v.Distinct}
		if l != nil && l.Time != nil && slices.ContainsFunc(l.Time.Fields,
			func(f string) bool { return l.Resolve(f) == v.Name }) {
			c.Type = "time"
		} else if l != nil && l.Types[v.Name] != "" {
			c.Type = l.Types[v.Name]
		}
		return c
	}
	for _, v := range counter.Fields(0) {
		out.Fields = append(out.Fields, told(v))
	}
	if v := chosen.Field(w.q.Field, 1<<20); v != nil {
		out.Values = &api.FieldValues{FieldCount: told(v), More: v.More, Top: v.Top[:min(len(v.Top), 40)],
			Numbers: v.Numbers}
		for i := len(v.Top) - 1; i >= 40 && len(out.Values.Rare) < 6; i-- {
			out.Values.Rare = append(out.Values.Rare, v.Top[i])
		}
		for i := range out.Values.Top { // their lines need not be shown
			out.Values.Top[i].Lines = nil
		}
	}
	for _, i := range w.chosen(shaper, lines, misfits) {
		d.Header = lines[i].header
		x, shown := plan.Shown(d, []byte(lines[i].line), near)
		v := api.FieldLine{Raw: cutLine(shown), At: entry.None, Fits: x.Fits, Fields: x.Fields}
		if x.Timed {
			v.At = x.At
		}
		v.Spans = spansOf(v.Raw, x.Fields, x.Written)
		if !x.Fits || len(x.Misfits) > 0 {
			var all []string
			for _, m := range d.Why(&x, []byte(shown)) {
				all = append(all, m.String())
			}
			v.Misfit = strings.Join(all, "; ")
		}
		v.Kin = shapes[i].Whole().Count
		out.Lines = append(out.Lines, v)
	}
}

// chosen are the numbers of the lines that are wanted.
func (w *work) chosen(shaper *layout.Shaper, lines []sampled, misfits []int) []int {
	most := max(w.q.Lines, 1)
	var out []int
	switch w.q.Which {
	case "newest":
		for i := len(lines) - 1; i >= 0 && len(out) < most; i-- {
			out = append(out, i)
		}
		return out
	case "misfits":
		step := max(1, len(misfits)/most)
		for i := 0; i < len(misfits) && len(out) < most; i += step {
			out = append(out, misfits[i])
		}
		return out
	}
	drawn := shaper.Draw(most, nil)
	list := drawn.Usual
	if w.q.Which == "odd" {
		list = drawn.Odd
	}
	for _, s := range list {
		out = append(out, s.Line)
	}
	return out
}
