package match

import (
	"slices"
	"strings"
	"time"

	"dimlantern/core/verdict"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

// oneJudged is what is judged with memory for one verdict, since mostly there is no more,
// and its key.
type oneJudged struct {
	verdict.Judged
	one [1]verdict.Verdict
	key [2]string
}

// entry makes an entry of a line. What of it is to be shown to nobody is hidden in hides; nil is nothing.
func (s *scan) entry(e *entry.Entry, at, end, stop int) (hides *layout.Division) {
	r := s.r
	p := r.Plan
	*e = entry.Entry{Source: p.Source, Origin: r.Origin, Host: r.Host, Offset: s.offset(at)}
	raw := s.line(at, end)
	e.Cut = len(raw) == MaxLine
	arrived := s.now
	if p.kept {
		if a, peer, text, ok := CutKept(raw); ok {
			arrived, raw = a, p.Unkept(text)
			if r.Host == Many {
				e.Host = hostOfPeer(peer)
			}
		}
	}
	line := ""
	if p.Layout.Plain() && !p.kept {
		e.Fits = true
	} else {
		d := s.divide(at, end)
		timed := d.Timed
		e.Fits, e.Fields, line = d.Fits, d.Fields, d.Line
		if d.Hides() {
			copied := *d
			hides = &copied
		}
		if timed {
			e.At, e.Skew = d.At, r.Skew
			if s.topAt == at { // the latest time is this line's own
				r.Reached = entry.Later(r.Reached, d.At)
				s.topAt = -1
			}
		}
		if r.divider.Reuse && (!timed || !e.Fits || s.topAt >= 0) { // other lines are divided in its place
			e.Fields = slices.Clone(e.Fields)
		}
		if !timed || !e.Fits {
			last, host := s.before(at)
			if !timed {
				e.At = last
			}
			if !e.Fits {
				r.Misfits++
				if p.Layout.GivesHost() && host != "" {
					e.Host = host
				}
			}
		}
	}
	if !p.Timed() {
		e.At = r.Last
	}
	if e.Raw = line; len(line) != len(raw) && (!p.take || p.text) {
		e.Raw = strings.ToValidUTF8(string(raw), "\uFFFD")
	}
	s.sync(stop)
	r.Reached = entry.Later(r.Reached, e.At)
	e.Arrived = arrived
	if !r.Live {
		e.Arrived = r.Reached
	}
	e.Fields = Given(e.Fields, r.constant)
	return hides
}

// judge divides a line that some rule may care about, and asks the rules.
func (s *scan) judge(at, end, stop int) {
	r := s.r
	p := r.Plan
	e := &entry.Entry{}
	hides := s.entry(e, at, end, stop)
	if p.only != nil && !Eval(p.only, &Subject{Entry: e}) {
		return
	}
	slices.Sort(s.conds)
	if len(r.spare) == 0 {
		r.spare = make([]oneJudged, 8)
	}
	both := &r.spare[0]
	r.spare = r.spare[1:]
	both.Judged = verdict.Judged{Entry: e, Reached: r.Reached, Next: s.offset(stop)}
	j := &both.Judged
	j.Verdicts = both.one[:0]
	room := both.key[:]
	slow, slowest := -1, time.Duration(0)
	for i := 0; i < len(s.conds); {
		n := s.conds[i] / kinds
		var may Roles
		for ; i < len(s.conds) && s.conds[i]/kinds == n; i++ {
			may |= 1 << (s.conds[i] % kinds)
		}
		if p.rules[n].shares {
			may = MayAll
		}
		cost := &p.costs[n]
		cost.Judged++
		p.turn++
		sampled := p.turn%costEvery == 0
		timed := p.Now != nil && (sampled || len(e.Raw) > longEntry)
		var began time.Duration
		if timed {
			began = p.Now()
		}
		j.Verdicts = append(j.Verdicts, verdict.Verdict{})
		v := &j.Verdicts[len(j.Verdicts)-1]
		ok := judgeInto(v, &p.rules[n], e, may, &s.captures, room)
		room = nil // it has been used
		if timed {
			took := p.Now() - began
			if sampled {
				cost.Took += costEvery * took
			}
			if took > cost.Slow.Took && took > slowest {
				slow, slowest = n, took
			}
		}
		if !ok {
			j.Verdicts = j.Verdicts[:len(j.Verdicts)-1]
			continue
		}
		v.Rule = p.rules[n].index
		if hides != nil {
			p.rules[n].hide(v, hides, e.Raw)
		}
		p.rules[n].shorten(v)
	}
	if hides != nil { // rules have seen it; nobody else does
		e.Raw = hides.Hide(e.Raw)
		for i := range e.Fields {
			e.Fields[i].Value = hides.Hide(e.Fields[i].Value)
		}
	}
	if slow >= 0 { // what is remembered of it is masked
		p.costs[slow].Slow.note(slowest, e)
	}
	if len(j.Verdicts) > 0 {
		s.emit(j)
	}
}

// hide masks what a verdict took of an entry, of which text is the whole. The rule has
// seen it as it is; what is kept of it still differs where it did. Numbers that are summed
// stay: where something is masked the engine's state is kept sealed.
func (p *planned) hide(v *verdict.Verdict, d *layout.Division, text string) {
	for _, key := range v.Keys() {
		for i := range key {
			key[i] = d.Key(key[i], text)
		}
	}
	for i := range v.Values {
		if !p.summed[i] {
			v.Values[i] = d.Key(v.Values[i], text)
		}
	}
	for i := range v.Vars {
		v.Vars[i].Value = d.Taken(v.Vars[i].Value, text)
	}
}

// shorten bounds what is kept of an entry for each key.
func (p *planned) shorten(v *verdict.Verdict) {
	for _, key := range v.Keys() {
		for i := range key {
			key[i] = entry.Bounded(key[i])
		}
	}
	for i := range v.Values {
		v.Values[i] = entry.Bounded(v.Values[i])
	}
	for i := range v.Vars {
		v.Vars[i].Value = entry.Bounded(v.Vars[i].Value)
	}
}

func fieldOf(fields []entry.Field, name string) string {
	for _, f := range fields {
		if f.Name == name {
			return f.Value
		}
	}
	return ""
}

// Roles are what an entry may be for a rule: a set of the bits below.
type Roles uint8

// The roles. Problem stands for what is awaited as well.
const (
	MayProblem Roles = 1 << iota
	MayRecovery
	MayQuestion
	MayFollow
	MayAll Roles = 15
)

// Judge says what an entry is for one rule. May tells what it may be at all. The answer
// is false where it is nothing. Which of several roles counts is the engine's to say.
func Judge(r *lang.Rule, e *entry.Entry, may Roles, vars []string) (v verdict.Verdict, ok bool) {
	p := &planned{rule: r, vars: vars, shares: r.Shares()}
	if ok = judgeInto(&v, p, e, may, new([]entry.Field), nil); ok {
		p.shorten(&v)
	}
	return v, ok
}

// judgeInto is Judge with a place for what comes out, which is empty, memory for captures,
// which it may replace, and for the key.
func judgeInto(v *verdict.Verdict, p *planned, e *entry.Entry, may Roles, captures *[]entry.Field,
	room []string) bool {
	r, shares := p.rule, p.shares
	v.At = e.At
	if r.Arrival {
		v.At = e.Arrived
	}
	if len(r.During) > 0 && !r.Inside(v.At) {
		return false
	}
	some := shares
	hit, recovery := Subject{Entry: e, Captures: (*captures)[:0]}, Subject{Entry: e}
	defer func() { *captures = hit.Captures }()
	if may&MayFollow != 0 {
		for i := range r.Raises {
			if x := r.Raises[i].Then; x != nil {
				s := Subject{Entry: e}
				if Eval(x, &s) {
					v.Follows = append(v.Follows, verdict.Follow{Raise: i, Key: keyOf(r, &s)})
					some = true
				}
			}
		}
	}
	if may&MayRecovery != 0 && Eval(r.Recovery, &recovery) {
		v.Recovery, some = true, true
		v.RecoveryKey = keyOf(r, &recovery)
	}
	switch {
	case may&MayProblem != 0 && Eval(r.Problem, &hit):
		v.Hit, some = true, true
	case may&MayProblem != 0 && Eval(r.Awaits, &hit):
		v.Awaited, some = true, true
	case may&MayQuestion != 0 && Eval(r.Once, &hit):
		v.Question, some = true, true
	}
	if !some || r.Ignore != nil && Eval(r.Ignore, &Subject{Entry: e}) {
		return false
	}
	v.Key = keyInto(room, r, &hit)
	if shares {
		among := Subject{Entry: e}
		v.Counted = r.Among == nil || Eval(r.Among, &among)
		// The entry's key is made of what any of the three captured, the problem's first.
		for i, f := range r.Per {
			for _, s := range []*Subject{&hit, &recovery, &among} {
				if k := slices.IndexFunc(s.Captures,
					func(x entry.Field) bool { return x.Name == f && x.Value != "" }); k >= 0 {
					v.Key[i], _ = s.Get(f)
					break
				}
			}
		}
		if !v.Counted && !v.Hit && !v.Recovery && len(v.Follows) == 0 {
			return false
		}
	}
	if v.Hit {
		for i := range r.Raises {
			if x := r.Raises[i].Where; x != nil {
				s := Subject{Entry: e, Captures: slices.Clip(hit.Captures)}
				if Eval(x, &s) {
					v.Where |= 1 << i
				}
			}
		}
		for _, f := range r.Measured() {
			x, _ := hit.Get(f)
			v.Values = append(v.Values, x)
		}
		for _, f := range p.vars {
			if x, ok := hit.Get(f); ok {
				v.Vars = append(v.Vars, entry.Field{Name: f, Value: x})
			}
		}
	}
	return true
}

func keyOf(r *lang.Rule, s *Subject) []string { return keyInto(nil, r, s) }

// keyInto is keyOf with memory for it, where that is enough.
func keyInto(room []string, r *lang.Rule, s *Subject) []string {
	if len(room) < len(r.Per) {
		room = make([]string, len(r.Per))
	}
	key := room[:len(r.Per):len(r.Per)]
	for i, f := range r.Per {
		key[i], _ = s.Get(f)
	}
	return key
}
