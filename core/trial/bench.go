package trial

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"

	"dimlantern/core/verdict"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

// Tried is what a rule would have done over a sample.
type Tried struct {
	Entries, Hits, Raised, Open int64
	Ends                        map[string]int // alerts that ended, by why
	Longest, Median             time.Duration  // of those that ended
	Recoveries                  int            // entries that mean over
	OverKey                     []string       // the key of the newest of them, "?" where it lacks a field
	Told                        int            // raised, worsened, cleared and repeated, outside of shadows
	Rows                        []TriedRow     // keys with an alert first, then by their hits
	Keys                        int            // of which Rows are the first
	Some                        SomeHits       // spread over all hits
	// the first and the newest own time of the sample; None where it has none
	First, Clock entry.Instant

	lasted []time.Duration
}

// SomeHits are some of the entries that were hits.
type SomeHits struct {
	Of       []*entry.Entry
	n, every int
}

// mostSome is how many of them there are at most.
const mostSome = 512

func (h *SomeHits) take(e *entry.Entry) {
	if h.every == 0 {
		h.every = 1
	}
	if h.n++; (h.n-1)%h.every != 0 {
		return
	}
	if h.Of = append(h.Of, e); len(h.Of) < mostSome {
		return
	}
	kept := h.Of[:0]
	for i, x := range h.Of {
		if i%2 == 0 {
			kept = append(kept, x)
		}
	}
	clear(h.Of[len(kept):])
	h.Of, h.every = kept, h.every*2
}

// TriedRow is the lifeline of one key.
type TriedRow struct {
	Key []string
	// Reporter is the host that judges it, and stands behind the key; "" is this machine, or the centre.
	Reporter string
	Hits     []entry.Instant
	Alerts   []TriedAlert
}

// TriedAlert is an alert of a lifeline. To is None where it is still open.
type TriedAlert struct {
	From, To entry.Instant
	Why      string
	Steps    []TriedStep
}

// TriedStep is when an alert got a severity.
type TriedStep struct {
	At       entry.Instant
	Severity entry.Severity
}

// mostTried is how many lifelines a trial gives.
const mostTried = 200

// TryRule runs a rule over a sample, with those in whose shadow it may stand. A rule that hosts judge is run over the
// logs of each by themselves, and the host's name stands behind the key.
func TryRule(s *lang.Settings, r *lang.Rule, sample []*Said, o Options) (*Tried, error) {
	apart := map[string][]*Said{}
	if !r.AtCentre {
		for _, d := range sample {
			apart[d.Reporter] = append(apart[d.Reporter], d)
		}
	}
	if len(apart) == 0 || len(apart) == 1 && apart[""] != nil {
		out, err := tryTogether(s, r, sample, o)
		out.sum()
		return out, err
	}
	out := &Tried{Ends: map[string]int{}, First: entry.None, Clock: entry.None}
	recall := o.Recall
	for _, name := range slices.Sorted(maps.Keys(apart)) {
		o.Recall = recall.part(name)
		t, err := tryTogether(s, r, apart[name], o)
		if out.add(t, name); err != nil {
			return out, err
		}
	}
	out.sum()
	return out, nil
}

// add adds what was tried on the logs of a host.
func (t *Tried) add(o *Tried, host string) {
	t.Entries, t.Hits, t.Raised, t.Open = t.Entries+o.Entries, t.Hits+o.Hits, t.Raised+o.Raised, t.Open+o.Open
	t.Recoveries, t.Told = t.Recoveries+o.Recoveries, t.Told+o.Told
	for why, n := range o.Ends {
		t.Ends[why] += n
	}
	if o.OverKey != nil {
		t.OverKey = o.OverKey
	}
	for _, e := range o.Some.Of {
		t.Some.take(e)
	}
	for _, row := range o.Rows {
		if host != "" {
			row.Key, row.Reporter = append(slices.Clone(row.Key), host), host
		}
		t.Rows = append(t.Rows, row)
	}
	if t.First == entry.None || o.First != entry.None && o.First < t.First {
		t.First = o.First
	}
	t.Clock = entry.Later(t.Clock, o.Clock)
	t.lasted = append(t.lasted, o.lasted...)
}

// sum orders what was tried, and counts what it comes to.
func (t *Tried) sum() {
	slices.SortFunc(t.Rows, func(a, b TriedRow) int {
		return cmp.Or(len(b.Alerts)-len(a.Alerts), len(b.Hits)-len(a.Hits), slices.Compare(a.Key, b.Key))
	})
	t.Keys = len(t.Rows)
	t.Rows = t.Rows[:min(len(t.Rows), mostTried)]
	if slices.Sort(t.lasted); len(t.lasted) > 0 {
		t.Longest, t.Median = t.lasted[len(t.lasted)-1], t.lasted[len(t.lasted)/2]
	}
}

// tryTogether runs a rule over a sample as one machine would that has all of it.
func tryTogether(s *lang.Settings, r *lang.Rule, sample []*Said, o Options) (*Tried, error) {
	out := &Tried{Ends: map[string]int{}}
	rows := map[string]*TriedRow{}
	row := func(key []string) *TriedRow {
		id := strings.Join(key, "\x00")
		if rows[id] == nil {
			rows[id] = &TriedRow{Key: key}
		}
		return rows[id]
	}
	o.AsLogged = true
	o.Hit = func(rule string, key []string, at entry.Instant) {
		if rule == r.Name {
			x := row(key)
			x.Hits = append(x.Hits, at)
			out.Hits++
		}
	}
	o.Saw = func(rule string, v *verdict.Verdict, e *entry.Entry) {
		if rule == r.Name && v.Hit {
			out.Some.take(e)
		}
		if rule == r.Name && v.Recovery {
			out.Recoveries++
			out.OverKey = engine.Written(v.RecoveryKey)
		}
	}
	o.Emit = func(t *engine.Transition) {
		if t.Rule != r.Name {
			return
		}
		if t.Untold == "" {
			out.Told++
		}
		x := row(t.Key)
		switch t.Change {
		case engine.Raised, engine.Reopened:
			if t.Change == engine.Raised {
				out.Raised++
			}
			x.Alerts = append(x.Alerts, TriedAlert{From: t.At, To: entry.None,
				Steps: []TriedStep{{t.At, t.Severity}}})
		case engine.Worsened:
			a := &x.Alerts[len(x.Alerts)-1]
			a.Steps = append(a.Steps, TriedStep{t.At, t.Severity})
		case engine.Cleared:
			a := &x.Alerts[len(x.Alerts)-1]
			a.To, a.Why = t.At, t.Why
			out.Ends[t.Why]++
			out.lasted = append(out.lasted, t.At.Sub(a.From))
		}
	}
	run := newReplay(s, shadowing(s, r), inputsOf(s, r, sample), o)
	err := run.run()
	out.Entries, out.First, out.Clock = run.sum.Entries, entry.None, run.engine.Clock()
	if o.Recall != nil && o.Recall.sign != "" {
		out.First = o.Recall.from
	}
	for _, x := range run.streams {
		if x.first != entry.None && (out.First == entry.None || x.first < out.First) {
			out.First = x.first
		}
	}
	for _, x := range rows {
		if n := len(x.Alerts); n > 0 && x.Alerts[n-1].To == entry.None {
			out.Open++
		}
		out.Rows = append(out.Rows, *x)
	}
	return out, err
}

// Kinds are the shapes of the entries of a sample, with what is needed to ask a rule
// about them.
type Kinds struct {
	Of    []Kind
	Lines int

	shapers map[string]*layout.EntryShaper // by source
}

// Kind is a shape of one source.
type Kind struct {
	Source string
	Origin string
	Host   string
	Shape  *layout.Shape
	Newest int // the number of its newest line among all of the sample
}

// KindsOf groups the entries of a sample by their shapes. Stop is asked from time to time.
func KindsOf(s *lang.Settings, sample []*Said, zone *time.Location, stop func() error) (*Kinds, error) {
	out := &Kinds{shapers: map[string]*layout.EntryShaper{}}
	type place struct{ origin, host string }
	by := out.shapers
	at := map[string]map[*layout.Shape]place{}
	var order []string
	for _, d := range sample {
		name := d.Source.Name
		if by[name] == nil {
			by[name], at[name] = shaperOf(s, d.Source, zone), map[*layout.Shape]place{}
			order = append(order, name)
		}
		plan := match.NewPlan(s, d.Source, nil, zone)
		var err error
		n := 0
		d.Entries(plan, func(line []byte) {
			if n++; err != nil || n%4096 == 0 && stop != nil {
				if err == nil {
					err = stop()
				}
				if err != nil {
					return
				}
			}
			if len(line) == 0 {
				return
			}
			x := by[name].Add(plan.Bare(line))
			if _, known := at[name][x]; !known {
				at[name][x] = place{d.Origin, d.Host}
			}
		})
		if err != nil {
			return nil, err
		}
	}
	for _, name := range order {
		for _, x := range by[name].Shapes() {
			p := at[name][x]
			out.Of = append(out.Of, Kind{Source: name, Origin: p.origin, Host: p.host, Shape: x, Newest: x.Last})
		}
		out.Lines += by[name].Lines
	}
	slices.SortStableFunc(out.Of, func(a, b Kind) int { return b.Shape.Count - a.Shape.Count })
	return out, nil
}

// shaperOf groups the entries of a source.
func shaperOf(s *lang.Settings, src *lang.Source, zone *time.Location) *layout.EntryShaper {
	return layout.NewEntryShaper(layout.Compile(s.Layout(src.LayoutName()), zone, s.Secret))
}

// What a rule makes of a kind of entries.
const (
	KindProblem = "problem"
	KindOver    = "over"
	KindIgnored = "ignored"
	KindNear    = "near"
	KindNothing = ""
)

// KindSays is what a rule makes of a kind.
type KindSays struct {
	Kind
	Text    string // the shape, masked
	Is      string
	Partly  bool   // of its samples only some are that
	Note    string // what differs where it is near
	Example string // an entry of it, masked
	Lit     [][2]int
	Fields  []entry.Field // of the example
}

// SaysOf asks a rule about kinds, by the samples that were kept of them, and by some of the hits that it
// had: a kind with a hit is one of the problem's, though none of its samples is one.
func SaysOf(s *lang.Settings, r *lang.Rule, kinds *Kinds, hits []*entry.Entry, zone *time.Location,
	near entry.Instant) []KindSays {
	hit := map[*layout.Shape]*entry.Entry{}
	for _, e := range hits {
		if by := kinds.shapers[e.Source]; by != nil {
			if x := by.Known(by.Text(e.Fits, e.Fields, e.Raw)); x != nil {
				hit[x] = e
			}
		}
	}
	dividers := map[string]*layout.Divider{}
	var out []KindSays
	for _, k := range kinds.Of {
		src := s.Source(k.Source)
		if src == nil || !r.LooksAt(k.Source) {
			continue
		}
		d := dividers[k.Source]
		if d == nil {
			d = &layout.Divider{Layout: layout.Compile(s.Layout(src.LayoutName()), zone, s.Secret)}
			dividers[k.Source] = d
		}
		out = append(out, saysOf(s, r, src, k, hit[k.Shape], d, near))
	}
	return out
}

func saysOf(s *lang.Settings, r *lang.Rule, src *lang.Source, k Kind, hit *entry.Entry, d *layout.Divider,
	near entry.Instant) KindSays {
	x := KindSays{Kind: k}
	counts := map[string]int{}
	score := 0
	example := map[string]*entry.Entry{}
	for _, sample := range k.Shape.Samples {
		v := d.Divide([]byte(sample.Text), near)
		e := &entry.Entry{Source: src.Name, Origin: k.Origin, Host: k.Host, Raw: sample.Text, At: near, Arrived: near,
			Fits: v.Fits, Fields: slices.Clone(v.Fields)}
		if v.Timed {
			e.At = v.At
		}
		is := KindNothing
		judged, ok := match.Judge(r, e, match.MayAll, nil)
		switch {
		case ok && judged.Recovery:
			is = KindOver
		case ok && (judged.Hit || judged.Question):
			is = KindProblem
		case ok && judged.Awaited:
			is = KindOver
		case r.Ignore != nil && match.Eval(r.Ignore, &match.Subject{Entry: e}):
			is = KindIgnored
		case r.Problem != nil:
			if n, part := nearness(r.Problem, e); n > score {
				score, x.Note = n, part
			}
		}
		counts[is]++
		e.Raw = v.Hide(e.Raw)
		e.Fields = v.HideFields()
		example[is] = e
	}
	for _, is := range []string{KindProblem, KindOver, KindIgnored} {
		if counts[is] > 0 && (x.Is == "" || counts[is] > counts[x.Is]) {
			x.Is = is
		}
	}
	if hit != nil && x.Is != KindProblem && x.Is != KindOver {
		v := d.Divide([]byte(hit.Raw), near)
		e := &entry.Entry{Source: src.Name, Origin: k.Origin, Host: k.Host, Raw: v.Hide(hit.Raw), Fits: v.Fits,
			At: hit.At}
		e.Fields = v.HideFields()
		x.Is, example[KindProblem] = KindProblem, e
	}
	x.Partly = x.Is != "" && counts[x.Is] < len(k.Shape.Samples)
	e := example[x.Is]
	if x.Text = k.Shape.Text; d.Layout.Masked() { // what is masked may be among the words that stay the same
		x.Text = ""
		if e != nil {
			x.Text = layout.ShapeOf(d.Layout.ShapeText(e.Fits, e.Fields, e.Raw))
		}
		x.Note = ""
	}
	if e != nil {
		x.Example, x.Fields = e.Raw, e.Fields
		for _, c := range r.Exprs() {
			var says ClauseSays
			if x.Is == KindProblem && c.Word != "problem" || x.Is == KindOver && c.Word != "recovery" &&
				c.Word != "awaits" || x.Is == "" {
				continue
			}
			explain(c.Expr, &match.Subject{Entry: e}, "", &says)
			if at := strings.LastIndex(e.Raw, e.Text()); at >= 0 {
				for _, m := range says.Marks {
					x.Lit = append(x.Lit, [2]int{m[0] + at, m[1] + at})
				}
			}
		}
	}
	switch {
	case x.Is != "":
		x.Note = ""
	case score > 0:
		x.Is = KindNear
	}
	return x
}

// Feed gives a rule lines, one after the other, and answers what each of them brought, as
// then lines would have it: see fedStep.
func Feed(s *lang.Settings, r *lang.Rule, lines []string) [][]string {
	st := newStage(s, r)
	var out [][]string
	for _, l := range lines {
		st.happened, st.by = st.happened[:0], st.by[:0]
		st.step(st.fedStep(l))
		brought := []string{}
		for k := range st.happened {
			brought = append(brought, told(st.happened[k:k+1]))
		}
		out = append(out, brought)
	}
	return out
}

// fedStep is a line that was given by hand as the step of an expect. One that fits the
// layout of the rule's first source goes through it, any other is a text; behind +D it is
// one that comes so long after the one before, and +D alone is time that passes.
func (st *stage) fedStep(l string) lang.Step {
	word, rest, _ := strings.Cut(l, " ")
	if d, err := entry.ParseDuration(strings.TrimPrefix(word, "+")); err == nil && strings.HasPrefix(word, "+") {
		if strings.TrimSpace(rest) == "" {
			return lang.Step{Kind: "wait", At: d}
		}
		return lang.Step{Kind: "at", At: d, After: true, Text: rest}
	}
	if src := st.source; src != nil && st.settings.Layout(src.LayoutName()) != nil {
		plan := match.NewPlan(st.settings, src, nil, time.UTC)
		if x, _ := plan.Divide(&layout.Divider{Layout: plan.Layout}, []byte(l), monday); !x.Fits {
			return lang.Step{Kind: "at", After: true, Text: l}
		}
	}
	return lang.Step{Kind: "line", Text: l}
}

// ExpectOf writes fed lines, and what they brought, as an expect of a rule.
func ExpectOf(s *lang.Settings, r *lang.Rule, title string, lines []string) string {
	brought := Feed(s, r, lines)
	st := newStage(s, r)
	var b strings.Builder
	b.WriteString("  expect " + lang.Quote(title) + " {\n")
	for i, l := range lines {
		switch x := st.fedStep(l); x.Kind {
		case "wait":
			b.WriteString("    wait " + entry.Span(x.At) + "\n")
		case "at":
			at := "+" + entry.Span(x.At)
			if x.At == 0 {
				at = "+0s"
			}
			b.WriteString("    at " + at + " " + lang.Quote(x.Text) + "\n")
		default:
			b.WriteString("    line " + lang.Quote(l) + "\n")
		}
		for _, t := range brought[i] {
			b.WriteString("    then " + t + "\n")
		}
		if len(brought[i]) == 0 {
			b.WriteString("    then nothing\n")
		}
	}
	return b.String() + "  }\n"
}
