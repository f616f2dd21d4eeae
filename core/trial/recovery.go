package trial

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"dimlantern/core/verdict"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

// Recovery is a kind of entries that may say that a problem is over: it tends to follow
// the problem for the same key, and the problem stops then.
type Recovery struct {
	Source  string
	Shape   string // the kind's ID
	Text    string // its words, masked
	Example string // the newest entry of it, masked
	Ended   int    // cases that it came after
	Cases   int    // of which there were so many: hits of a key until it came
	Idle    int    // how often it came with no case before it
	Median  time.Duration
}

// ProposeRecovery looks through a sample for what may end the problem of a rule, the
// likeliest first. Entries agree with a key where they have its fields, and hold the values
// that the problem captured. What follows each single hit, or comes all the time, is none.
func ProposeRecovery(s *lang.Settings, r *lang.Rule, sample []*Said, o Options) ([]Recovery, error) {
	if r.Problem == nil {
		return nil, nil
	}
	p := &proposer{captured: capturedOf(s, r), shapers: map[string]*layout.EntryShaper{},
		followers: map[*layout.Shape]*follower{}, cases: map[string]map[string]*caseOf{}}
	for _, d := range sample { // which shapes there are, before what comes after what
		if d.Source == nil || !r.LooksAt(d.Source.Name) {
			continue
		}
		if p.shapers[d.Source.Name] == nil {
			p.shapers[d.Source.Name] = shaperOf(s, d.Source, o.Zone)
		}
		n := 0
		plan := match.NewPlan(s, d.Source, nil, o.Zone)
		d.Entries(plan, func(line []byte) {
			if n++; len(line) > 0 && (o.Stop == nil || n%4096 > 0 || o.Stop() == nil) {
				p.shapers[d.Source.Name].Add(plan.Bare(line))
			}
		})
	}
	never := []lang.Raise{{Severity: entry.Notice, At: 1 << 30}}
	hits := &lang.Rule{Name: "hits", On: r.On, Problem: r.Problem, Ignore: r.Ignore, Per: r.Per, During: r.During,
		Zone: r.Zone, ByHand: true, Raises: never}
	all := &lang.Rule{Name: "all", On: r.On, Problem: everything, Ignore: r.Ignore, Per: r.Per, During: r.During,
		Zone: r.Zone, ByHand: true, Raises: never}
	var hit *entry.Entry
	o.Saw = func(rule string, v *verdict.Verdict, x *entry.Entry) {
		switch {
		case rule == "hits":
			hit = x
			p.hit(v.Key, x)
		case x != hit:
			p.other(v.Key, x)
		}
	}
	if err := newReplay(s, []*lang.Rule{hits, all}, inputsOf(s, r, sample), o).run(); err != nil {
		return nil, err
	}
	for _, x := range p.shapers {
		x.Shapes() // gives each its ID and its text
	}
	return p.best(), nil
}

// everything fits every entry.
var everything lang.Expr = &lang.Not{Of: &lang.Has{Field: "origin", Lacks: true}}

func inputsOf(s *lang.Settings, r *lang.Rule, sample []*Said) []*Input {
	var inputs []*Input
	for _, d := range sample {
		if d.Source == nil || !r.LooksAt(d.Source.Name) {
			continue
		}
		in := d.Input
		if in.Source = s.Source(d.Source.Name); in.Source == nil {
			continue
		}
		inputs = append(inputs, &in)
	}
	return inputs
}

// capturedOf are the key's fields that the problem captures and no layout gives.
func capturedOf(s *lang.Settings, r *lang.Rule) []bool {
	captures := lang.Captures(r.Problem)
	out := make([]bool, len(r.Per))
	for i, f := range r.Per {
		out[i] = slices.Contains(captures, f)
	}
	return out
}

type proposer struct {
	captured  []bool
	shapers   map[string]*layout.EntryShaper
	cases     map[string]map[string]*caseOf // by what entries have of the key, then by what was captured
	followers map[*layout.Shape]*follower
	order     []*follower
}

// caseOf counts the hits of a key.
type caseOf struct {
	captured []string
	hits     int
	at       []entry.Instant // of each hit
}

// follower is a kind of entries, and after how many hits of each key it came last.
type follower struct {
	Recovery
	after  map[*caseOf]int
	lasted []time.Duration
	shape  *layout.Shape
	text   string // what the shape of the newest one is made of
}

// hit takes in an entry that the problem catches.
func (p *proposer) hit(key []string, x *entry.Entry) {
	base, captured := p.split(key)
	if p.cases[base] == nil {
		p.cases[base] = map[string]*caseOf{}
	}
	id := strings.Join(captured, "\x00")
	c := p.cases[base][id]
	if c == nil {
		c = &caseOf{captured: captured}
		p.cases[base][id] = c
	}
	c.hits++
	c.at = append(c.at, x.At)
}

// other takes in an entry that may say that it is over.
func (p *proposer) other(key []string, x *entry.Entry) {
	base, _ := p.split(key)
	shape := p.shapers[x.Source].Add([]byte(x.Raw)).Whole()
	f := p.followers[shape]
	if f == nil {
		f = &follower{after: map[*caseOf]int{}, shape: shape}
		f.Source = x.Source
		p.followers[shape] = f
		p.order = append(p.order, f)
	}
	f.Example, f.text = x.Raw, p.shapers[x.Source].Text(x.Fits, x.Fields, x.Raw)
	came := false
	var words map[string]bool
	for _, c := range p.cases[base] {
		if len(c.captured) > 0 && words == nil {
			words = wordsIn(x.Text())
		}
		if !slices.ContainsFunc(c.captured, func(v string) bool { return !words[v] }) {
			if n := f.after[c]; n < c.hits {
				f.Ended++
				f.lasted = append(f.lasted, x.At.Sub(c.at[n]))
				f.after[c] = c.hits
				came = true
			}
		}
	}
	if !came {
		f.Idle++
	}
}

// split divides a key into what any entry has of it, and what the problem captured.
func (p *proposer) split(key []string) (base string, captured []string) {
	var own []string
	for i, v := range key {
		if p.captured[i] {
			captured = append(captured, v)
		} else {
			own = append(own, v)
		}
	}
	return strings.Join(own, "\x00"), captured
}

// wordsIn are the words of a text, with what stands within them apart.
func wordsIn(text string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.FieldsFunc(text, func(r rune) bool {
		return r == ' ' || r == '\t' ||
			strings.ContainsRune(`,;"'()[]{}<>=`, r)
	}) {
		out[w] = true
		out[strings.TrimRight(w, ".:!?")] = true
		for _, part := range strings.FieldsFunc(w, func(r rune) bool { return strings.ContainsRune(":/-_.", r) }) {
			out[part] = true
		}
	}
	return out
}

// mostProposed is how many kinds are proposed.
const mostProposed = 5

func (p *proposer) best() []Recovery {
	var list []*follower
	fewest := 0
	for _, f := range p.order {
		f.Cases = f.Ended
		for _, by := range p.cases {
			for _, c := range by {
				if f.after[c] < c.hits {
					f.Cases++
				}
			}
		}
		if f.Ended == 0 || 2*f.Ended < f.Cases || f.Idle > f.Ended {
			continue
		}
		slices.Sort(f.lasted)
		f.Median = f.lasted[len(f.lasted)/2]
		list = append(list, f)
		if fewest == 0 || f.Cases < fewest {
			fewest = f.Cases
		}
	}
	score := func(f *follower) float64 {
		return float64(f.Ended) / float64(f.Cases) * float64(f.Ended) / float64(f.Ended+
			f.Idle) * float64(fewest) / float64(f.Cases)
	}
	slices.SortStableFunc(list, func(a, b *follower) int {
		return cmp.Or(cmp.Compare(score(b), score(a)), b.Ended-a.Ended, cmp.Compare(b.Median, a.Median))
	})
	// Of those that do equally well, the one that comes last: the others come on the way.
	var out []Recovery
	for _, f := range list[:min(len(list), mostProposed)] {
		if score(f) >= 0.25 {
			// what is masked may be among the words of the shape
			f.Shape, f.Text = f.shape.ID, layout.ShapeOf(f.text)
			out = append(out, f.Recovery)
		}
	}
	return out
}
