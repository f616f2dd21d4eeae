package match

import (
	"slices"
	"strings"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

// judge divides a line that some rule may care about, and asks the rules.
func (s *scan) judge(at, end, stop int) {
	r := s.r
	p := r.Plan
	e := &entry.Entry{Source: p.Source, Origin: r.Origin, Host: r.Host, Offset: s.offset(at)}
	raw := s.line(at, end)
	e.Cut = len(raw) == MaxLine
	arrived := s.now
	if p.kept {
		if a, _, text, ok := CutKept(raw); ok {
			arrived, raw = a, p.Unkept(text)
		}
	}
	var d layout.Division
	if p.Layout.Plain() && !p.kept {
		e.Fits = true
	} else {
		d = s.divide(at, end)
		e.Fits, e.Fields = d.Fits, d.Fields
		if d.Timed {
			e.At, e.Skew = d.At, r.Skew
			if s.topAt == at { // the latest time is this line's own
				r.Reached = entry.Later(r.Reached, d.At)
				s.topAt = -1
			}
		}
		if !d.Timed || !d.Fits {
			last, host := s.before(at)
			if !d.Timed {
				e.At = last
			}
			if !d.Fits {
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
	e.Raw = strings.ToValidUTF8(string(raw), "\uFFFD")
	s.sync(stop)
	r.Reached = entry.Later(r.Reached, e.At)
	e.Arrived = arrived
	if !r.Live {
		e.Arrived = r.Reached
	}
	for _, f := range r.constant {
		if !slices.ContainsFunc(e.Fields, func(x entry.Field) bool { return x.Name == f.Name }) {
			e.Fields = append(e.Fields, f)
		}
	}
	if p.only != nil && !Eval(p.only, &Subject{Entry: e}) {
		return
	}
	slices.Sort(s.conds)
	j := &engine.Judged{Entry: e, Reached: r.Reached, Next: s.offset(stop)}
	for i := 0; i < len(s.conds); {
		n := s.conds[i] / 2
		problem, recovery := false, false
		for ; i < len(s.conds) && s.conds[i]/2 == n; i++ {
			if s.conds[i]%2 == 0 {
				problem = true
			} else {
				recovery = true
			}
		}
		if v, ok := Judge(p.rules[n].rule, e, problem, recovery, p.rules[n].vars); ok {
			v.Rule = p.rules[n].index
			if d.Hides() {
				for i := range v.Key {
					v.Key[i] = d.Hide(v.Key[i])
				}
				for i := range v.Vars {
					v.Vars[i].Value = d.Hide(v.Vars[i].Value)
				}
			}
			j.Verdicts = append(j.Verdicts, v)
		}
	}
	if d.Hides() { // rules have seen it; nobody else does
		e.Raw = d.Hide(e.Raw)
		for i := range e.Fields {
			e.Fields[i].Value = d.Hide(e.Fields[i].Value)
		}
	}
	if len(j.Verdicts) > 0 {
		s.emit(j)
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

// Judge says what an entry is for one rule. Problem and recovery tell which of
// the two it may be at all. The answer is false where it is neither, or ignored.
func Judge(r *lang.Rule, e *entry.Entry, problem, recovery bool, vars []string) (engine.Verdict, bool) {
	s := Subject{Entry: e}
	v := engine.Verdict{}
	switch {
	case recovery && Eval(r.Recovery, &s):
		v.Recovery = true
	case problem && Eval(r.Problem, &s):
	default:
		return v, false
	}
	if r.Ignore != nil && Eval(r.Ignore, &Subject{Entry: e}) {
		return v, false
	}
	v.Key = make([]string, len(r.Per))
	for i, f := range r.Per {
		v.Key[i], _ = s.Get(f)
	}
	if !v.Recovery && len(vars) > 0 {
		for _, f := range vars {
			if x, ok := s.Get(f); ok {
				v.Vars = append(v.Vars, entry.Field{Name: f, Value: x})
			}
		}
	}
	return v, true
}
