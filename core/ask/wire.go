package ask

import (
	"cmp"
	"encoding/json"
	"errors"
	"math/big"
	"slices"
	"time"

	"dimlantern/core/entry"
)

// What several machines have added up of one question is one answer: each sends what it has, as counts, sums and
// sketches, and who asked puts them together. Pairs are found on each machine by itself.

// Bounds of what is sent: groups, numbers of which percentiles are wanted before they are sketched, and entries.
const (
	sentGroups  = 10_000
	sentValues  = 20_000
	sentEntries = 2_000
)

type (
	wireAcc struct {
		Looked, Fit, Fitted, Ignored, Dropped, Pending int64
		TooMuch                                        bool `json:",omitempty"`
		Main                                           *wireTable
		Beside                                         *wireTable  `json:",omitempty"`
		Old                                            [][]byte    `json:",omitempty"`
		Rows                                           []wireEntry `json:",omitempty"`
	}
	wireTable struct {
		Groups        []wireGroup       `json:",omitempty"`
		Extra         *wireGroup        `json:",omitempty"`
		Extras        int64             `json:",omitempty"`
		NoNum, Lacked map[string]int64  `json:",omitempty"`
		Misfit        map[string]string `json:",omitempty"`
		Rough, Vague  bool              `json:",omitempty"`
	}
	wireGroup struct {
		Key   []byte
		Cells []wireCell
	}
	wireCell struct {
		P     int32      `json:",omitempty"`
		N     int64      `json:",omitempty"`
		Parts []wirePart `json:",omitempty"`
	}
	wirePart struct {
		N      int64           `json:",omitempty"`
		Sum    string          `json:",omitempty"`
		Least  string          `json:",omitempty"`
		Values []float64       `json:",omitempty"`
		Large  []string        `json:",omitempty"`
		Sketch *wireSketch     `json:",omitempty"`
		Set    []uint64        `json:",omitempty"`
		Regs   []byte          `json:",omitempty"`
		Few    []uint64        `json:",omitempty"` // of a sketch of few
		Vague  bool            `json:",omitempty"`
		Cover  []Stretch       `json:",omitempty"`
		Longer int64           `json:",omitempty"`
		Stamp  *wireStamp      `json:",omitempty"`
		Has    map[string]bool `json:",omitempty"`
	}
	wireSketch struct {
		Pos, Neg map[int32]int64 `json:",omitempty"`
		Zero, N  int64           `json:",omitempty"`
	}
	wireStamp struct {
		At    entry.Instant
		Place Place
		Value string
	}
	wireEntry struct {
		At     entry.Instant
		Source string
		Origin string
		Host   string
		Offset int64
		Raw    string
		Fits   bool
		Fields []entry.Field
		Per    []string
		Place  Place
	}
)

// Encode is what was added up so far, for who asked. Of more than 10,000 groups the smallest count together.
func (a *Acc) Encode() ([]byte, error) {
	src, pending := a, int64(0)
	if a.Plan.ordered {
		src, pending = a.inOrder()
	}
	w := wireAcc{Looked: a.Looked, Fit: src.fit, Fitted: a.fitted, Ignored: a.ignored, Dropped: src.dropped,
		Pending: pending, TooMuch: a.tooMuch, Main: src.main.wire()}
	if src.beside != nil {
		w.Beside = src.beside.wire()
	}
	for k := range src.old {
		w.Old = append(w.Old, []byte(k))
	}
	slices.SortFunc(w.Old, slices.Compare)
	rows := slices.Clone(src.rows)
	slices.SortFunc(rows, compareEntries)
	if n := len(rows) - min(src.most(), sentEntries); n > 0 {
		rows = rows[n:]
		w.Dropped += int64(n)
	}
	for _, r := range rows {
		w.Rows = append(w.Rows, wireEntry{r.At, r.Source, r.Origin, r.Host, r.Offset, r.Raw, r.Fits, r.Fields, r.Per,
			r.Place})
	}
	return json.Marshal(w)
}

func (t *table) wire() *wireTable {
	w := &wireTable{Extras: t.extras, NoNum: t.noNum, Lacked: t.lacked, Misfit: t.misfit, Rough: t.rough,
		Vague: t.vague}
	list := make([]*group, 0, len(t.groups))
	for _, g := range t.groups {
		list = append(list, g)
	}
	count := func(g *group) (n int64) {
		for i := range g.cells {
			n += g.cells[i].n
		}
		return n
	}
	slices.SortFunc(list, func(x, y *group) int {
		return cmp.Or(cmp.Compare(count(y), count(x)), cmp.Compare(x.key, y.key))
	})
	extra := t.extra
	if len(list) > sentGroups {
		sum := &table{p: t.p, span: t.span, groups: map[string]*group{}, extra: &group{}, rough: t.rough,
			vague: t.vague}
		if extra != nil {
			sum.mergeGroup(sum.extra, copied(extra))
		}
		for _, g := range list[sentGroups:] {
			sum.mergeGroup(sum.extra, copied(g))
			w.Extras += count(g)
		}
		extra, list = sum.extra, list[:sentGroups]
	}
	for _, g := range list {
		w.Groups = append(w.Groups, t.wireGroup(g))
	}
	if extra != nil {
		x := t.wireGroup(extra)
		w.Extra = &x
	}
	return w
}

func (t *table) wireGroup(g *group) wireGroup {
	w := wireGroup{Key: []byte(g.key)}
	for i := range g.cells {
		c := &g.cells[i]
		x := wireCell{P: c.period, N: c.n}
		for k := range c.parts {
			x.Parts = append(x.Parts, c.parts[k].wire(t.p.columns[k].Fn))
		}
		w.Cells = append(w.Cells, x)
	}
	return w
}

func (p *part) wire(fn string) wirePart {
	w := wirePart{N: p.n}
	if p.sum != nil {
		w.Sum = p.sum.rat().RatString()
	}
	if (fn == "min" || fn == "max") && p.n > 0 {
		w.Least = p.least.rat().RatString()
	}
	if v := p.values; v != nil {
		if v.sketch == nil && v.n > sentValues {
			rough := &values{sketch: &sketch{}}
			rough.sketch.addAll(v)
			v = rough
		}
		if v.sketch != nil {
			w.Sketch = &wireSketch{v.sketch.pos, v.sketch.neg, v.sketch.zero, v.sketch.n}
		} else {
			w.Values = v.all(nil)
			for _, n := range v.large {
				w.Large = append(w.Large, n.rat().RatString())
			}
		}
	}
	if d := p.set; d != nil {
		w.Vague, w.Few, w.Regs = d.sketched, d.list, d.regs
		for x := range d.set {
			w.Set = append(w.Set, x)
		}
		slices.Sort(w.Set)
		w.Has = map[string]bool{"set": true}
	}
	if c := p.cover; c != nil {
		w.Cover, w.Longer = c.list, int64(c.longer)
	}
	if s := p.stamp; s != nil {
		w.Stamp = &wireStamp{s.at, s.place, s.value}
	}
	return w
}

// ErrSent says that bytes are no answer to the question, or that of another version.
var ErrSent = errors.New("what came is no answer to this question: has the host another version?")

// Absorb adds what Encode has given on another machine, of the same question for the same moment.
func (a *Acc) Absorb(b []byte) error {
	o, _, err := a.Plan.decode(b)
	if err != nil {
		return err
	}
	if a.Plan.ordered { // it is found already; see Answer
		a.apart = append(a.apart, b)
		a.Looked += o.Looked
		a.fitted += o.fitted
		a.ignored += o.ignored
		a.tooMuch = a.tooMuch || o.tooMuch
		return nil
	}
	a.Merge(o)
	return nil
}

// withApart adds what other machines have found to what was found here.
func (a *Acc) withApart(done *Acc) (pending int64) {
	for _, b := range a.apart {
		o, n, err := a.Plan.decode(b)
		if err != nil {
			continue // it was decoded before
		}
		o.Looked, o.fitted, o.ignored = 0, 0, 0
		done.Merge(o)
		pending += n
	}
	return pending
}

// decode reads what Encode wrote.
func (p *Plan) decode(b []byte) (a *Acc, pending int64, err error) {
	var w wireAcc
	if json.Unmarshal(b, &w) != nil || w.Main == nil || (w.Beside != nil) != (p.Beside != nil) {
		return nil, 0, ErrSent
	}
	a = NewAcc(p)
	a.Looked, a.fit, a.fitted, a.ignored, a.dropped = w.Looked, w.Fit, w.Fitted, w.Ignored, w.Dropped
	a.tooMuch = w.TooMuch
	if err = a.main.read(w.Main); err == nil && w.Beside != nil {
		err = a.beside.read(w.Beside)
	}
	if err != nil {
		return nil, 0, err
	}
	for _, k := range w.Old {
		if a.old != nil {
			a.old[string(k)] = struct{}{}
		}
	}
	for _, r := range w.Rows {
		a.rows = append(a.rows, Entry{Entry: entry.Entry{At: r.At, Arrived: r.At, Source: r.Source, Origin: r.Origin,
			Host: r.Host, Offset: r.Offset, Raw: r.Raw, Fits: r.Fits, Fields: r.Fields}, Per: r.Per, Place: r.Place})
		a.size += sizeOf(&a.rows[len(a.rows)-1].Entry)
	}
	return a, w.Pending, nil
}

func (t *table) read(w *wireTable) error {
	t.rough, t.vague, t.extras = w.Rough, w.Vague, w.Extras
	if len(w.NoNum) > 0 {
		t.noNum, t.lacked, t.misfit = w.NoNum, w.Lacked, w.Misfit
		if t.lacked == nil {
			t.lacked = map[string]int64{}
		}
		if t.misfit == nil {
			t.misfit = map[string]string{}
		}
	}
	for i := range w.Groups {
		g, err := t.readGroup(&w.Groups[i])
		if err != nil {
			return err
		}
		t.groups[g.key] = g
	}
	if w.Extra != nil {
		g, err := t.readGroup(w.Extra)
		if err != nil {
			return err
		}
		t.extra = g
	}
	return nil
}

func (t *table) readGroup(w *wireGroup) (*group, error) {
	g := &group{key: string(w.Key)}
	last := int32(-1)
	for i := range w.Cells {
		c := &w.Cells[i]
		if c.P <= last && i > 0 || c.P < 0 || len(c.Parts) != t.p.parts() || c.N < 0 {
			return nil, ErrSent
		}
		last = c.P
		x := cell{period: c.P, n: c.N}
		for k := range c.Parts {
			p, err := c.Parts[k].read()
			if err != nil {
				return nil, err
			}
			x.parts = append(x.parts, p)
		}
		g.cells = append(g.cells, x)
	}
	return g, nil
}

func (w *wirePart) read() (p part, err error) {
	rat := func(s string) *big.Rat {
		r, ok := new(big.Rat).SetString(s)
		if !ok || len(s) > 1<<14 {
			err = ErrSent
			return new(big.Rat)
		}
		return r
	}
	p.n = w.N
	if w.Sum != "" {
		p.sum = &total{}
		p.sum.add(ratNum(rat(w.Sum)))
	}
	if w.Least != "" {
		p.least = ratNum(rat(w.Least))
	}
	switch {
	case w.Sketch != nil:
		p.values = &values{sketch: &sketch{w.Sketch.Pos, w.Sketch.Neg, w.Sketch.Zero, w.Sketch.N}}
	case len(w.Values)+len(w.Large) > 0:
		p.values = &values{list: w.Values, n: len(w.Values)}
		for _, n := range w.Large {
			p.values.large = append(p.values.large, ratNum(rat(n)))
		}
	}
	if w.Has["set"] {
		if len(w.Regs) != 0 && len(w.Regs) != 1<<precision {
			return p, ErrSent
		}
		p.set = &distinct{sketched: w.Vague, list: w.Few, regs: w.Regs}
		if !w.Vague {
			p.set.set = map[uint64]struct{}{}
			for _, x := range w.Set {
				p.set.set[x] = struct{}{}
			}
		}
	}
	if w.Cover != nil {
		p.cover = &cover{longer: time.Duration(w.Longer), list: w.Cover}
	}
	if s := w.Stamp; s != nil {
		p.stamp = &stamp{s.At, s.Place, s.Value}
	}
	return p, err
}
