package match

import (
	"bytes"
	"slices"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// NewTaking plans how the entries of a source are taken that may fit an expression, nil being all of
// them, as anybody may see them. Who takes them asks the expression itself: what it looks for is
// searched for in whole blocks, so that almost only entries that fit are divided. Of their fields those
// that are named are given, nil being all; their text is where "" or text is among them.
func NewTaking(s *lang.Settings, src *lang.Source, x lang.Expr, fields []string, zone *time.Location) *Plan {
	p := NewPlan(s, src, nil, zone)
	p.take = true
	p.rules = []planned{{rule: &lang.Rule{Problem: x, Per: fields}}}
	p.costs = []Cost{{}}
	if p.text = fields == nil; !p.text {
		asked := append(slices.Clone(fields), p.asked()...)
		p.text = slices.Contains(fields, "") || slices.Contains(fields, "text")
		lang.Walk(x, func(part lang.Expr, _ bool) {
			switch part := part.(type) {
			case *lang.Phrase:
				p.text = true
			case *lang.Match:
				p.text = p.text || part.Field == "" || part.Field == "text"
			}
		})
		if !p.text {
			asked = slices.DeleteFunc(asked, func(f string) bool { return f == "text" || f == "" })
		}
		p.Layout.Narrow(asked)
	}
	return p
}

// NewTaker returns a reader for a plan of NewTaking.
func NewTaker(p *Plan, origin, host string) *Reader {
	r := NewReader(p, origin, host, false)
	r.divider.Reuse = true
	return r
}

// Yearly tells whether the times that were read last have a year: then they mean the same wherever
// they are read.
func (r *Reader) Yearly() bool { return !r.Plan.Layout.Timed() || r.divider.Yearly() }

// takeEntry hands on the entry of a line.
func (s *scan) takeEntry(at, end, stop int) {
	r := s.r
	p := r.Plan
	e := &r.taken
	hides := s.entry(e, at, end, stop)
	if p.only != nil && !Eval(p.only, &Subject{Entry: e}) {
		return
	}
	if hides != nil {
		e.Raw = hides.Hide(e.Raw)
		e.Fields = slices.Clone(e.Fields)
		for i := range e.Fields {
			e.Fields[i].Value = hides.Hide(e.Fields[i].Value)
		}
	}
	r.Take(e, s.offset(stop))
}

// LeanOn lets Lean get entries that are as usual, with the values of some fields, where all of them are
// taken, or those whose text has a phrase: Lean gets only those. It is false where the source's entries have
// to be divided as a whole.
func (r *Reader) LeanOn(fields []string) bool {
	p := r.Plan
	if !p.take {
		return false
	}
	phrase, phrased := p.rules[0].rule.Problem.(*lang.Phrase)
	if p.rules[0].rule.Problem != nil && !phrased || p.kept || p.entry != nil || p.only != nil || len(r.constant) > 0 ||
		p.Layout.Headed() || !r.Sure && p.Timed() {
		return false
	}
	r.lean, r.phrase = r.divider.Lean(fields, phrased), ""
	if phrased {
		r.phrase = phrase.Text
	}
	return r.lean != nil
}

// takeAll hands on what is wanted of every line.
func (s *scan) takeAll() {
	lean := s.r.lean
	lean.Plain = lean.ByPattern() && ascii(s.slab)
	defer func() { lean.Plain = false }()
	for at := 0; at < len(s.slab); s.lines++ {
		if n := lean.Ahead(s.slab[at:]); n > 0 && n <= MaxLine {
			s.leanly(at)
			at += n
			continue
		}
		end, stop := bytes.IndexByte(s.slab[at:], '\n')+at, 0
		if stop = end + 1; end < at {
			end, stop = len(s.slab), len(s.slab)
		}
		if !s.takeLean(at, end) {
			s.takeEntry(at, end, stop)
		}
		at = stop
	}
}

// takeLean hands on what is wanted of the entry of a line; false where it is not as usual.
func (s *scan) takeLean(at, end int) bool {
	r := s.r
	if !r.lean.Divide(s.line(at, end), s.near()) {
		return false
	}
	if r.phrase != "" && !HasPhrase(r.lean.Text, r.phrase) {
		return true
	}
	s.leanly(at)
	return true
}

// leanly hands on what was taken out of the line that begins at a place.
func (s *scan) leanly(at int) {
	r := s.r
	own := r.Last
	if r.Plan.Timed() {
		own = s.bounded(r.lean.At.Add(r.Skew))
		r.Reached = entry.Later(r.Reached, own)
	}
	r.Lean(r.lean.Values, own, s.offset(at))
}
