package intake

import (
	"maps"
	"slices"

	"dimlantern/core/match"
)

// Frozen is the origin as it is now. It never changes, and may be read by several
// goroutines while the origin itself goes on: what State, Again, Holding and the other
// exported methods say of it is what they would have said then, though what lies in the
// files may have changed.
func (o *Origin) Frozen() *Origin {
	if o.frozen != nil {
		return o.frozen
	}
	c := *o
	c.queue, c.head, c.told, c.zips, c.skew = nil, 0, nil, nil, skew{}
	c.foreign, c.moved = maps.Clone(o.foreign), slices.Clone(o.moved)
	c.place.Finished = slices.Clone(o.place.Finished)
	c.place.Members = make([]*member, len(o.place.Members))
	for i, m := range o.place.Members {
		x := *m
		x.file, x.zip = nil, nil
		c.place.Members[i] = &x
	}
	c.fit.divider.Layout = nil
	c.reader = &match.Reader{Plan: o.reader.Plan, Origin: o.Name, Host: o.Host, Reached: o.reader.Reached,
		Future: o.reader.Future, Ahead: o.reader.Ahead}
	c.reader.SetHeader(o.reader.Header())
	o.frozen = &c
	return o.frozen
}

// thaw notes that the origin is not as it was when it was frozen.
func (o *Origin) thaw() { o.frozen = nil }

// Frozen are all origins as they are now, by source and series; see Origin.Frozen. The
// slice is not changed any more.
func (f *Follower) Frozen() []*Origin {
	same := len(f.frozen) == len(f.order)
	for i, o := range f.order {
		same = same && o.frozen != nil && f.frozen[i] == o.frozen
	}
	if same {
		return f.frozen
	}
	f.frozen = make([]*Origin, len(f.order))
	for i, o := range f.order {
		f.frozen[i] = o.Frozen()
	}
	return f.frozen
}

// Judged counts the bytes of the origin's files that have been judged, of those that are
// followed or remembered; of two states of an origin the difference is what came between.
func (o *Origin) Judged() int64 {
	n := int64(0)
	for _, m := range o.place.Members {
		n += m.Offset
	}
	for _, d := range o.place.Finished {
		n += d.Size
	}
	return n
}
