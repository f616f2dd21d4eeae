package workbench

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

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
		shapes[i] = shaper.AddText([]byte(plan.Layout.ShapeText(x.Fits, x.Fields, string(raw))), raw)
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
	out.Shapes, out.Unfit = len(shaper.Shapes()), len(misfits)
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
