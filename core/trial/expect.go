// Package trial runs rules over entries that have been: the entries of an
// expect, which stand beside the rule, and the lines of files that somebody
// reads for it. It answers with the transitions that would have been.
package trial

import (
	"fmt"
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

// monday is the day on which an expect plays.
var monday = entry.Of(time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC))

// host is where the entries of an expect come from where none is named.
const host = "expect"

// Outcome is what became of one expect.
type Outcome struct {
	Rule   string // "" of a layout's
	Layout string // "" of a rule's
	Expect *lang.Expect
	Failed bool
	Step   lang.Step // where it failed
	Why    string
	// Accounted are the then lines before that one that came true.
	Accounted []lang.Step
	// Instead is what happened since the steps before it, each with the step that made it.
	Instead []Happened
}

// Happened is a transition of an expect as a then line would have it, and its step.
type Happened struct {
	Then string
	Step lang.Step
}

// Expects runs every expect of the layouts and of the rules, those that are off
// included.
func Expects(s *lang.Settings) []Outcome {
	var out []Outcome
	for _, l := range s.Layouts {
		for _, x := range l.Expects {
			out = append(out, runLayout(s, l, x))
		}
	}
	for _, r := range s.EveryRule() {
		out = append(out, ExpectsOf(s, r)...)
	}
	return out
}

// ExpectsOf runs the expects of one rule.
func ExpectsOf(s *lang.Settings, r *lang.Rule) []Outcome {
	var out []Outcome
	for _, x := range r.Expects {
		out = append(out, run(s, r, x))
	}
	return out
}

// stage is an expect being played.
type stage struct {
	settings *lang.Settings
	rule     *lang.Rule
	source   *lang.Source
	engine   *engine.Engine
	readers  map[string]*match.Reader
	at       entry.Instant // the own time of the step before
	offset   int64
	hosts    []string
	happened []engine.Transition
	by       []lang.Step // of each, what made it
	playing  lang.Step
}

// newStage is a stage for a rule, which plays as if it were not off.
func newStage(s *lang.Settings, r *lang.Rule) *stage {
	on := *r
	on.Off, on.Zone = false, time.UTC
	st := &stage{settings: s, rule: &on, engine: engine.New([]*lang.Rule{&on}), readers: map[string]*match.Reader{},
		at: monday}
	if len(r.On) > 0 {
		st.source = s.Source(r.On[0])
	} else if len(s.Sources) > 0 {
		st.source = s.Sources[0]
	}
	return st
}

func run(s *lang.Settings, r *lang.Rule, x *lang.Expect) Outcome {
	st := newStage(s, r)
	out := Outcome{Rule: r.Name, Expect: x}
	for i := 0; i < len(x.Steps); {
		if x.Steps[i].Kind != "then" {
			st.happened, st.by = st.happened[:0], st.by[:0]
			st.playing = x.Steps[i]
			st.step(x.Steps[i])
			i++
			continue
		}
		j := i
		for j < len(x.Steps) && x.Steps[j].Kind == "then" {
			j++
		}
		if step, why := st.compare(x.Steps[i:j]); why != "" {
			out.Failed, out.Step, out.Why = true, step, why
			for k := range st.happened {
				out.Instead = append(out.Instead, Happened{told(st.happened[k : k+1]), st.by[k]})
			}
			return out
		}
		out.Accounted = append(out.Accounted, x.Steps[i:j]...)
		i = j
	}
	return out
}

// runLayout plays the expect of a layout: each line is divided, and what follows
// speaks of it.
func runLayout(s *lang.Settings, l *lang.Layout, x *lang.Expect) Outcome {
	out := Outcome{Layout: l.Name, Expect: x}
	compiled := layout.Compile(l, time.UTC, s.Secret)
	compiled.Unmasked()
	d := &layout.Divider{Layout: compiled}
	var got layout.Division
	fed := false
	for _, step := range x.Steps {
		switch {
		case step.Kind == "line":
			if compiled.Headed() {
				d.See([]byte(step.Text))
			}
			got, fed = d.Divide([]byte(step.Text), monday), true
			continue
		case !fed:
			out.Why = `no line was given before: line "WHOLE LINE"`
		case step.Change == "misfit":
			if got.Fits && len(got.Misfits) == 0 {
				out.Why = "it fits: " + fieldsTold(got.Fields)
			}
		case !got.Fits:
			out.Why = "it does not fit the layout"
		}
		for _, w := range step.With {
			i := slices.IndexFunc(got.Fields, func(f entry.Field) bool { return f.Name == w.Name })
			if out.Why == "" && (i < 0 || got.Fields[i].Value != w.Value) {
				out.Why = "the line has " + fieldsTold(got.Fields)
			}
		}
		if out.Why != "" {
			out.Failed, out.Step = true, step
			return out
		}
	}
	return out
}

// fieldsTold puts fields into words, as a then would write them.
func fieldsTold(fields []entry.Field) string {
	var out []string
	for _, f := range fields {
		out = append(out, f.Name+" "+lang.Quote(f.Value))
	}
	if len(out) == 0 {
		return "no fields"
	}
	return strings.Join(out, ", ")
}

func (st *stage) note(ts []engine.Transition) {
	st.happened = append(st.happened, ts...)
	for range ts {
		st.by = append(st.by, st.playing)
	}
}

func (st *stage) step(s lang.Step) {
	switch s.Kind {
	case "at":
		at := monday.Add(s.At)
		if s.After {
			at = st.at.Add(s.At)
		}
		st.at = at
		st.feed(s, at)
	case "line":
		st.line(s)
	case "wait":
		st.begin(st.at)
		from := entry.Later(st.at, st.engine.Clock())
		st.at = from.Add(s.At)
		st.apply(engine.Reach{At: st.at})
	case "blind", "seen":
		hosts := st.hosts
		if s.From != "" {
			hosts = []string{s.From}
		}
		for _, h := range hosts {
			now := entry.Later(st.at, st.engine.Clock())
			if s.Kind == "blind" {
				st.apply(engine.Blind{Origin: st.origin(h), At: now})
			} else {
				st.apply(engine.Seen{Origin: st.origin(h), At: now})
			}
		}
	}
}

// apply tells the engine one thing, and notes what comes of it.
func (st *stage) apply(in engine.Input) {
	ts, _ := st.engine.Apply(in)
	st.note(ts)
}

func (st *stage) origin(host string) string { return host + ":expect" }

func (st *stage) seen(host string) {
	if !slices.Contains(st.hosts, host) {
		st.hosts = append(st.hosts, host)
	}
}

// feed gives the rule an entry of that text, with its fields as they are.
func (st *stage) feed(s lang.Step, at entry.Instant) {
	from := s.From
	if from == "" {
		from = host
	}
	st.seen(from)
	e := &entry.Entry{Host: from, Origin: st.origin(from), Offset: st.offset, Raw: s.Text, At: at, Fits: true,
		Fields: s.With}
	if st.source != nil {
		e.Source = st.source.Name
	}
	st.offset += int64(len(s.Text)) + 1
	reached := entry.Later(st.engine.Clock(), at)
	e.Arrived = reached
	j := &verdict.Judged{Entry: e, Reached: reached}
	if v, ok := match.Judge(st.rule, e, match.MayAll, st.rule.Vars()); ok {
		j.Verdicts = []verdict.Verdict{v}
	}
	st.begin(at)
	st.apply(engine.Entry{Judged: j})
}

// begin lets watching begin with the first step, and makes hosts known as they speak.
func (st *stage) begin(at entry.Instant) {
	var all []engine.Origin
	for _, h := range st.hosts {
		all = append(all, AwaitedOrigin(st.settings, st.source, st.origin(h), h, ""))
	}
	st.engine.Apply(engine.Begin{At: at, Origins: all})
}

// line sends a whole line through the layout of the rule's first source.
func (st *stage) line(s lang.Step) {
	path := s.From
	if path == "" {
		path = "/expect"
	}
	h := host
	if st.source != nil {
		h = HostOf(st.source, path, host)
	}
	r := st.readers[path]
	if r == nil {
		plan := match.NewPlan(st.settings, st.source, []*lang.Rule{st.rule}, time.UTC)
		plan.Layout.Unmasked() // a test speaks of what it wrote itself
		r = match.NewReader(plan, h+":"+path, h, false)
		r.Near = monday
		st.readers[path] = r
	}
	now := entry.Later(st.at, st.engine.Clock())
	if !r.Plan.Timed() || r.Reached == entry.None {
		r.Near = now
	}
	if !r.Plan.Timed() {
		r.Reached = now
	}
	first, _ := r.Times([]byte(s.Text), now)
	if first == entry.None {
		first = now
	}
	st.seen(h)
	st.begin(first)
	r.Scan([]byte(s.Text), st.offset, now, func(j *verdict.Judged) { st.apply(engine.Entry{Judged: j}) }, nil)
	st.offset += int64(len(s.Text)) + 1
	st.apply(engine.Reach{At: r.Reached})
	st.at = r.Last
}

// OriginOf names the origin of a log, and its host: by its path, or, of kept entries,
// by who sent them and on which way they came.
func OriginOf(s *lang.Source, path, fallback string) (name, host string) {
	if s.Kept() {
		if h, way, ok := match.KeptIn(path); ok {
			if s.Host != "" {
				h = s.Host
			}
			return h + ":" + way, h
		}
	}
	host = HostOf(s, path, fallback)
	return host + ":" + path, host
}

// HostOf is the host of an origin: what the source says, else fallback.
func HostOf(s *lang.Source, path, fallback string) string {
	if s.Host != "" {
		return s.Host
	}
	if s.HostFrom != nil {
		if m := s.HostFrom.FindStringSubmatch(path); m != nil {
			if h := m[s.HostFrom.SubexpIndex("host")]; h != "" {
				return h
			}
		}
	}
	return fallback
}

// compare holds the then lines against what happened since the step before:
// each must be one of them, and nothing may be left over.
func (st *stage) compare(thens []lang.Step) (lang.Step, string) {
	if thens[0].Change == "nothing" || slices.ContainsFunc(thens,
		func(s lang.Step) bool { return s.Change == "nothing" }) {
		if len(st.happened) == 0 && len(thens) == 1 {
			return lang.Step{}, ""
		}
		if len(st.happened) > 0 {
			return thens[0], "nothing was expected, but this happened: " + told(st.happened)
		}
		return thens[0], "then nothing stands alone"
	}
	if len(st.happened) == 0 {
		return thens[0], "nothing happened"
	}
	pairs := make([]int, len(st.happened)) // transition → then, or -1
	for i := range pairs {
		pairs[i] = -1
	}
	for i, s := range thens {
		if !assign(thens, st.happened, i, pairs, make([]bool, len(st.happened))) {
			return s, "this did not happen, but: " + told(st.happened)
		}
	}
	for i, p := range pairs {
		if p < 0 {
			return thens[len(thens)-1], "this happened as well: " + told(st.happened[i:i+1])
		}
	}
	return lang.Step{}, ""
}

// assign finds a transition for then i, moving others where need be.
func assign(thens []lang.Step, ts []engine.Transition, i int, pairs []int, tried []bool) bool {
	for k := range ts {
		if tried[k] || !fits(thens[i], &ts[k]) {
			continue
		}
		tried[k] = true
		if pairs[k] < 0 || assign(thens, ts, pairs[k], pairs, tried) {
			pairs[k] = i
			return true
		}
	}
	return false
}

func fits(s lang.Step, t *engine.Transition) bool {
	if s.Change != t.Change || s.Sev != 0 && s.Sev != t.Severity {
		return false
	}
	for _, w := range s.With {
		i := slices.Index(t.Fields, w.Name)
		if i < 0 || t.Key[i] != w.Value {
			return false
		}
	}
	return true
}

// told puts transitions into words, as a then would write them.
func told(ts []engine.Transition) string {
	var out []string
	for _, t := range ts {
		s := fmt.Sprintf("%s %s", t.Change, t.Severity)
		for i, f := range t.Fields {
			s += " " + f + " " + lang.Quote(t.Key[i])
		}
		out = append(out, s)
	}
	return strings.Join(out, "; ")
}
