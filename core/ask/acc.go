package ask

import (
	"cmp"
	"math/big"
	"slices"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
)

// Acc adds entries up. It is not for several goroutines at once.
type Acc struct {
	Plan *Plan
	// Looked is how many entries were looked at, fitting ones or not: who reads says so.
	Looked int64

	main, beside *table
	old          map[string]struct{} // groups that had an entry before the span
	rows         []Entry             // the entries themselves
	size         int
	dropped      int64 // of those, for want of room
	held         []subject
	heldSize     int
	tooMuch      bool // more is held than there is room for
	fit          int64
	fitted       int64 // whatever their times
	ignored      int64
	sub          subject
	lean         *lean
	apart        [][]byte // what other machines have found, of a plan for which the order of entries matters
}

// Entry is an entry of an answer.
type Entry struct {
	entry.Entry
	Place Place
	Per   []string
}

// Bounds of what is kept of entries themselves.
const (
	mostEntries = 50_000
	mostBytes   = 24 << 20
	mostHeld    = 96 << 20
)

// NewAcc begins an answer.
func NewAcc(p *Plan) *Acc {
	a := &Acc{Plan: p, main: newTable(p, &p.Span)}
	if p.Beside != nil {
		a.beside = newTable(p, p.Beside)
	}
	if p.News != nil {
		a.old = map[string]struct{}{}
	}
	return a
}

// Add looks at an entry, and counts it where it fits. The entry and what it holds may be changed once
// Add returns.
func (a *Acc) Add(e *entry.Entry, place Place, captures []entry.Field) []entry.Field {
	q := a.Plan.Q
	s := &a.sub
	*s = subject{Subject: match.Subject{Entry: e, Captures: captures[:0]}, p: a.Plan, at: e.At, place: place,
		lasted: entry.None, reckoned: s.reckoned[:0]}
	switch {
	case q.Join != nil:
		if !match.Eval(q.Join.First, &s.Subject) && !match.Eval(q.Join.Second, &s.Subject) {
			return s.Captures
		}
	case q.Where != nil:
		if !match.Eval(q.Where, &s.Subject) {
			return s.Captures
		}
	}
	a.fitted++
	if q.Ignore != nil && match.Eval(q.Ignore, &match.Subject{Entry: e}) {
		a.ignored++
		return s.Captures
	}
	if !a.Plan.Wants(e.At) {
		return s.Captures
	}
	if a.Plan.ordered {
		a.hold(s)
		return s.Captures
	}
	a.take(s)
	return s.Captures
}

// take counts an entry that fits.
func (a *Acc) take(s *subject) {
	s.reckon(a.Plan.Q, nil)
	p := a.Plan
	if !s.inside() {
		return
	}
	if a.old != nil && s.at >= p.News.From && s.at < p.News.To {
		key := s.key(a.main.key[:0])
		a.main.key = key
		if _, known := a.old[string(key)]; !known && len(a.old) < mostRoom/groupRoom {
			a.old[string(key)] = struct{}{}
		}
	}
	if p.Beside != nil && s.at >= p.Beside.From && s.at < p.Beside.To {
		a.beside.add(s)
	}
	if s.at < p.Span.From || s.at >= p.Span.To {
		return
	}
	a.fit++
	if p.columns[0].Fn == "entries" {
		a.keep(s)
		return
	}
	a.main.add(s)
}

// keep keeps an entry itself.
func (a *Acc) keep(s *subject) {
	e := Entry{Entry: *s.Entry, Place: s.place}
	e.Fields = slices.Clone(e.Fields)
	for _, c := range s.Captures {
		if i := slices.IndexFunc(e.Fields, func(f entry.Field) bool { return f.Name == c.Name }); i >= 0 {
			e.Fields[i].Value = c.Value
		} else {
			e.Fields = append(e.Fields, c)
		}
	}
	for _, r := range s.reckoned {
		if r.ok {
			e.Fields = append(e.Fields, entry.Field{Name: r.field, Value: r.value.String()})
		}
	}
	for _, f := range a.Plan.per {
		v, _ := s.get(f)
		e.Per = append(e.Per, v)
	}
	own(&e.Entry)
	a.rows = append(a.rows, e)
	a.size += sizeOf(&e.Entry)
	if len(a.rows) >= 2*a.most() || a.size >= 2*mostBytes {
		a.thin()
	}
}

// most is how many entries are kept.
func (a *Acc) most() int {
	if a.Plan.Newest > 0 {
		return a.Plan.Newest
	}
	return mostEntries
}

// own copies the texts of an entry, which may share memory with others.
func own(e *entry.Entry) {
	e.Raw = string([]byte(e.Raw))
	for i := range e.Fields {
		f := &e.Fields[i]
		f.Value = string([]byte(f.Value))
	}
}

func sizeOf(e *entry.Entry) int {
	n := len(e.Raw) + 300
	for _, f := range e.Fields {
		n += len(f.Value) + 40
	}
	return n
}

// thin keeps the newest entries.
func (a *Acc) thin() {
	slices.SortFunc(a.rows, compareEntries)
	n, size := len(a.rows), 0
	for n > 0 && len(a.rows)-n < a.most() && size < mostBytes {
		n--
		size += sizeOf(&a.rows[n].Entry)
	}
	a.dropped += int64(n)
	a.rows, a.size = slices.Clone(a.rows[n:]), size
}

func compareEntries(x, y Entry) int {
	return cmp.Or(
		cmp.Compare(x.At, y.At),
		cmp.Compare(x.Place.Log, y.Place.Log),
		cmp.Compare(x.Place.File, y.Place.File),
		cmp.Compare(x.Place.Offset, y.Place.Offset),
	)
}

// hold keeps an entry until all are there, since their order matters.
func (a *Acc) hold(s *subject) {
	if a.tooMuch {
		return
	}
	x := *s
	e := *s.Entry
	e.Fields = slices.Clone(e.Fields)
	if !a.Plan.text {
		e.Raw = ""
	}
	own(&e)
	x.Entry, x.reckoned = &e, nil
	x.Captures = slices.Clone(s.Captures)
	for i := range x.Captures {
		x.Captures[i].Value = string([]byte(x.Captures[i].Value))
	}
	a.held = append(a.held, x)
	if a.heldSize += sizeOf(&e) + 200; a.heldSize > mostHeld {
		a.tooMuch, a.held = true, nil
	}
}

// Merge adds what another Acc of the same plan has, which must not be used any more.
func (a *Acc) Merge(o *Acc) {
	a.Looked += o.Looked
	a.fit += o.fit
	a.fitted += o.fitted
	a.ignored += o.ignored
	a.main.merge(o.main)
	if a.beside != nil {
		a.beside.merge(o.beside)
	}
	for k := range o.old {
		a.old[k] = struct{}{}
	}
	a.rows, a.size, a.dropped = append(a.rows, o.rows...), a.size+o.size, a.dropped+o.dropped
	if len(a.rows) >= 2*a.most() || a.size >= 2*mostBytes {
		a.thin()
	}
	a.held, a.heldSize = append(a.held, o.held...), a.heldSize+o.heldSize
	if a.tooMuch = a.tooMuch || o.tooMuch || a.heldSize > mostHeld; a.tooMuch {
		a.held = nil
	}
}

// Fit is how many entries of the span fit so far.
func (a *Acc) Fit() int64 {
	if a.Plan.ordered {
		return int64(len(a.held))
	}
	return a.fit
}

// inOrder counts what was held, in the order of its times; pending is how many pairs are still to be
// completed.
func (a *Acc) inOrder() (done *Acc, pending int64) {
	done = NewAcc(a.Plan)
	done.Looked, done.fitted, done.ignored = a.Looked, a.fitted, a.ignored
	list := slices.Clone(a.held)
	slices.SortStableFunc(list, func(x, y subject) int {
		switch {
		case x.at != y.at:
			return cmp.Compare(x.at, y.at)
		case x.place.before(y.place):
			return -1
		case y.place.before(x.place):
			return 1
		}
		return 0
	})
	if a.Plan.Q.Join == nil {
		for i := range list {
			done.take(&list[i])
		}
		return done, 0
	}
	pending = done.join(list, a.Plan.Span.From, a.Plan.Span.To)
	if b := a.Plan.Beside; b != nil {
		apart := NewAcc(a.Plan)
		apart.join(list, b.From, b.To)
		done.beside = apart.beside
	}
	if n := a.Plan.News; n != nil {
		apart := NewAcc(a.Plan)
		apart.join(list, n.From, n.To)
		done.old = apart.old
	}
	return done, pending
}

// join makes one of each two entries that belong together, of which the first lies in a span.
func (a *Acc) join(list []subject, from, to entry.Instant) (pending int64) {
	j := a.Plan.Q.Join
	waiting := map[string][]*subject{}
	key := func(s *subject) string {
		if len(j.By) == 0 {
			return s.Entry.Origin
		}
		var b []byte
		for _, f := range j.By {
			v, _ := s.get(f)
			b = append(append(b, v...), 0)
		}
		return string(b)
	}
	pairs := make([]subject, 0, len(list)/2)
	lone := func(first *subject) {
		if !a.Plan.alone && first.at.Add(j.Within) > a.Plan.Lamp {
			pending++
			return
		}
		pairs = append(pairs, paired(first, nil))
	}
	for i := range list {
		s := &list[i]
		if s.at < from || s.at >= to.Add(j.Within) {
			continue
		}
		second := subject{
			Subject: match.Subject{Entry: s.Entry},
			p:       s.p,
			at:      s.at,
			place:   s.place,
			lasted:  entry.None,
		}
		if match.Eval(j.Second, &second.Subject) {
			k := key(&second)
			list := waiting[k]
			for len(list) > 0 && s.at.Sub(list[0].at) >= j.Within {
				lone(list[0])
				list = list[1:]
			}
			waiting[k] = list
			if len(list) > 0 {
				pairs = append(pairs, paired(list[0], &second))
				waiting[k] = list[1:]
				continue
			}
		}
		first := second
		first.Captures = nil
		if s.at < to && match.Eval(j.First, &first.Subject) {
			x := first
			k := key(&x)
			waiting[k] = append(waiting[k], &x)
		}
	}
	for _, list := range waiting {
		for _, first := range list {
			lone(first)
		}
	}
	slices.SortStableFunc(pairs, func(x, y subject) int {
		if x.at == y.at && x.place != y.place {
			if x.place.before(y.place) {
				return -1
			}
			return 1
		}
		return cmp.Compare(x.at, y.at)
	})
	for i := range pairs {
		a.take(&pairs[i])
	}
	return pending
}

// paired is one entry made of two; the second is nil where it did not come.
func paired(first, second *subject) subject {
	out := *first
	e := *first.Entry
	e.Fields = slices.Clone(e.Fields)
	add := func(f entry.Field) {
		if !slices.ContainsFunc(e.Fields, func(x entry.Field) bool { return x.Name == f.Name }) &&
			!slices.ContainsFunc(first.Captures, func(x entry.Field) bool { return x.Name == f.Name }) {
			e.Fields = append(e.Fields, f)
		}
	}
	out.pair = true
	captures := []entry.Field{{Name: "began", Value: first.at.String()}}
	if second != nil {
		for _, f := range second.Captures {
			add(f)
		}
		for _, f := range second.Entry.Fields {
			if f.Name != "at" && f.Name != "text" {
				add(f)
			}
		}
		took := second.at.Sub(first.at)
		out.lasted = entry.Instant(took)
		captures = append(captures, entry.Field{Name: "ended", Value: second.at.String()},
			entry.Field{Name: "lasted", Value: entry.Span(took)})
	}
	out.Entry, out.Captures = &e, append(slices.Clone(first.Captures), captures...)
	return out
}

// remember reckons again what depends on the entry of the group before.
func (t *table) remember(g *group, s *subject) {
	if g == t.extra { // of which group it was is not known
		return
	}
	before := g.was
	s.reckoned = s.reckoned[:0]
	s.reckon(t.p.Q, func(field string) (num, bool) {
		i := slices.Index(t.p.since, field)
		if before == nil || !before[i].ok {
			return num{}, false
		}
		return before[i].n, true
	})
	now := make([]was, len(t.p.since))
	for i, f := range t.p.since {
		now[i].n, now[i].ok = s.since(f)
	}
	g.was = now
}

// since is the number of a field from which differences are reckoned.
func (s *subject) since(field string) (num, bool) {
	if field == "at" {
		return ratNum(big.NewRat(int64(s.at), 1e9)), true
	}
	n, ok, _ := s.number(field)
	return n, ok
}

// reckon works the question's calculations out. Before gives the number of the group's entry before;
// nil is that there is none.
func (s *subject) reckon(q *lang.Question, before func(field string) (num, bool)) {
	for i := range q.Reckon {
		r := &q.Reckon[i]
		x, ok := s.calc(r.Calc, before)
		y := reckoned{field: r.Field, ok: ok}
		if ok {
			y.value = ended(x)
		}
		s.reckoned = append(s.reckoned, y)
	}
}

// ended is a result: exact where its decimals end, else with 25 digits.
func ended(r *big.Rat) num {
	if n, exact := r.FloatPrec(); exact && n <= 1000 {
		return ratNum(r)
	}
	x, _ := new(big.Rat).SetString(rounded(r, 25))
	return ratNum(x)
}

// calc works a calculation out; false where a part of it is no number.
func (s *subject) calc(c *lang.Calc, before func(field string) (num, bool)) (*big.Rat, bool) {
	switch c.Op {
	case "":
		if c.Field != "" {
			n, ok, _ := s.number(c.Field)
			return n.rat(), ok
		}
		if c.Value.Kind == lang.DurationValue {
			return big.NewRat(int64(c.Value.Duration), 1e9), true
		}
		return c.Value.Number.Rat()
	case "neg":
		x, ok := s.calc(c.Parts[0], before)
		if !ok {
			return nil, false
		}
		return new(big.Rat).Neg(x), true
	case "length":
		v, ok := s.get(c.Field)
		return new(big.Rat).SetInt64(int64(len([]rune(v)))), ok
	case "since":
		if before == nil {
			return nil, false
		}
		now, ok := s.since(c.Field)
		was, had := before(c.Field)
		if !ok || !had {
			return nil, false
		}
		return new(big.Rat).Sub(now.rat(), was.rat()), true
	}
	a, ok := s.calc(c.Parts[0], before)
	if !ok {
		return nil, false
	}
	b, ok := s.calc(c.Parts[1], before)
	if !ok {
		return nil, false
	}
	out := new(big.Rat)
	switch c.Op {
	case "+":
		out.Add(a, b)
	case "-":
		out.Sub(a, b)
	case "*":
		out.Mul(a, b)
	default:
		if b.Sign() == 0 {
			return nil, false
		}
		out.Quo(a, b)
	}
	return out, out.Denom().BitLen()+out.Num().BitLen() < 1<<13
}
