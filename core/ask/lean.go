package ask

import (
	"bytes"
	"encoding/binary"
	"slices"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Lean are the fields of which the values alone suffice for the question; false where it needs whole
// entries. Then AddLean takes those values, of entries that fit.
func (p *Plan) Lean() (fields []string, ok bool) {
	q := p.Q
	if _, phrase := q.Where.(*lang.Phrase); q.Where != nil && !phrase {
		return nil, false
	}
	if q.Ignore != nil || p.ordered || q.Each || q.Alerts || len(q.Reckon) > 0 || p.within != nil ||
		slices.Contains(q.Fields(), "reporter") {
		return nil, false
	}
	for _, c := range p.columns {
		switch c.Fn {
		case "entries", "share", "first", "last":
			return nil, false
		}
	}
	return q.Fields(), true
}

// lean is where the values stand that a question needs.
type lean struct {
	per      []int // by the fields of per
	columns  []int // by column; -1 is none
	numbers  []bool
	percents []bool
}

// AddLean is Add for an entry of which only the values of the fields are given that Lean names; nil is
// lacking.
func (a *Acc) AddLean(values [][]byte, at entry.Instant) {
	p := a.Plan
	if a.lean == nil {
		fields, _ := p.Lean()
		a.lean = &lean{}
		for _, f := range p.per {
			a.lean.per = append(a.lean.per, slices.Index(fields, f))
		}
		for _, c := range p.columns {
			a.lean.columns = append(a.lean.columns, slices.Index(fields, c.Field))
			a.lean.percents = append(a.lean.percents, percents[c.Fn] > 0)
			a.lean.numbers = append(a.lean.numbers, c.Fn != "different" && c.Fn != "gaps")
		}
	}
	a.fitted++
	if at >= p.Span.From && at < p.Span.To {
		a.fit++
		a.main.addLean(a.lean, values, at)
	}
	if p.Beside != nil && at >= p.Beside.From && at < p.Beside.To {
		a.beside.addLean(a.lean, values, at)
	}
	if a.old != nil && at >= p.News.From && at < p.News.To {
		a.main.key = a.lean.key(a.main.key[:0], values)
		if _, known := a.old[string(a.main.key)]; !known && len(a.old) < mostRoom/groupRoom {
			a.old[string(a.main.key)] = struct{}{}
		}
	}
}

// key is subject.key of values.
func (l *lean) key(b []byte, values [][]byte) []byte {
	for i, at := range l.per {
		if i > 0 {
			b = append(b, 0)
		}
		v := values[at]
		switch {
		case len(v) == 1 && v[0] == '?':
		case len(v) > entry.MostValue || bytes.IndexByte(v, 0) >= 0:
			b = append(b, entry.Bounded(strings.ReplaceAll(string(v), "\x00", "␀"))...)
		default:
			b = append(b, v...)
		}
	}
	return b
}

// lean is the group of values. Those that came lately are found again by what stands in the line.
func (t *table) lean(l *lean, values [][]byte) *group {
	raw := t.key[:0]
	if len(l.per) == 1 {
		raw = values[l.per[0]]
	} else {
		t.key = l.key(raw, values)
		raw = t.key
	}
	lately := &t.lately[slotOf(raw)]
	if g := *lately; g != nil && g.key == string(raw) {
		return g
	}
	if len(l.per) == 1 {
		t.key = l.key(t.key[:0], values)
	}
	g := t.groups[string(t.key)]
	if g == nil {
		g = t.named(string(t.key))
	}
	if g != t.extra {
		*lately = g
	}
	return g
}

// slotOf is where among those that came lately a group is looked for.
func slotOf(b []byte) uint64 {
	var h uint64
	if n := len(b); n >= 8 {
		h = binary.LittleEndian.Uint64(b) ^ binary.LittleEndian.Uint64(b[n-8:])<<1
	} else {
		for _, c := range b {
			h = h<<8 | uint64(c)
		}
	}
	return h * 0x9e3779b97f4a7c15 >> (64 - latelyBits)
}

// addLean is add of values.
func (t *table) addLean(l *lean, values [][]byte, at entry.Instant) {
	g := t.lean(l, values)
	if g == t.extra {
		t.extras++
	}
	c := t.cell(g, t.period(at))
	c.n++
	for i := range c.parts {
		x, col := &c.parts[i], &t.p.columns[i]
		if k := l.columns[i]; k >= 0 {
			if l.percents[i] {
				if f, ok := plainFloat(values[k]); ok {
					x.n++
					t.valuesOf(x).addFloat(f)
					t.took(valueBytes)
					continue
				}
			} else if l.numbers[i] {
				if n, ok := plainNum(values[k]); ok {
					t.numbered(x, col, n)
					continue
				}
			}
			s := subject{p: t.p, at: at, lean: values[k]}
			s.Entry = &noEntry
			t.part(x, col, &s)
		} else if col.Fn == "gaps" {
			t.part(x, col, &subject{p: t.p, at: at})
		}
	}
}

var noEntry entry.Entry
