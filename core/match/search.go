package match

import (
	"cmp"
	"encoding/binary"
	"math/bits"
	"slices"
	"strings"
	"unicode/utf8"

	"dimlantern/core/lang"
)

// searcher finds many literals in a slab at once. It is built for text in which
// most bytes belong to no literal: it looks at every stride-th position only,
// and asks a small table whether the four bytes there belong to any window that
// was chosen out of the literals. What the table lets through is compared.
//
// A searcher does not change after it was made.
type searcher struct {
	lits   []literal
	groups []group // literals by the stride that their length allows
}

// literal is one text to find, and what it stands for.
type literal struct {
	text string
	fold bool
	cond []int // the conditions that need it
}

// high tells whether the literal has bytes that are not ASCII.
func (l *literal) high() bool {
	return strings.ContainsFunc(l.text, func(r rune) bool { return r >= utf8.RuneSelf })
}

// spot is a literal found at a place of the slab.
type spot struct{ at, lit int }

// group are the literals that share a stride and a length of the q-gram.
type group struct {
	stride, q int
	fold      bool
	or, and   uint32    // fold a q-gram, and cut it to its length
	filter    *filter   // a bit for each hash that a q-gram of a window has
	grams     gramTable // q-gram → the windows that hold it
	windows   []window
	sieve     *sieve // instead of the filter, where it is not nil
	high      bool   // each of its literals has a byte that is not ASCII
	// Where two is not nil, the only literal is looked for by two bytes, the first of which stands at
	// twoAt.
	two         *two
	twoAt, only int
}

// filter is small enough to stay in the processor's nearest cache.
type filter [1 << 10]uint64

const filterShift = 16 // of a hash of 32 bits, to one of the filter's bits

// gramTable finds the places of a q-gram: an open table of q-grams, each with a
// stretch of places.
type gramTable struct {
	shift  uint
	slots  []gramSlot
	places []place
}

type gramSlot struct {
	gram     uint32
	from, to int32 // an empty slot has none
}

// gramAt is a q-gram and a place where it stands.
type gramAt struct {
	gram uint32
	place
}

func inOrder(grams []gramAt) []gramAt {
	slices.SortFunc(grams, func(a, b gramAt) int {
		return cmp.Or(cmp.Compare(a.gram, b.gram), cmp.Compare(a.window, b.window), cmp.Compare(a.off, b.off))
	})
	return grams
}

// newGramTable makes a table of q-grams, which come in their order.
func newGramTable(grams []gramAt) gramTable {
	size := bits.Len(uint(2*len(grams) + 1))
	t := gramTable{shift: uint(32 - size), slots: make([]gramSlot, 1<<size), places: make([]place, 0, len(grams))}
	for n := 0; n < len(grams); {
		gram, from := grams[n].gram, int32(n)
		for ; n < len(grams) && grams[n].gram == gram; n++ {
			t.places = append(t.places, grams[n].place)
		}
		i := int(gram * gramHash >> t.shift)
		for t.slots[i].to > 0 {
			i = (i + 1) & (len(t.slots) - 1)
		}
		t.slots[i] = gramSlot{gram, from, int32(n)}
	}
	return t
}

func (t *gramTable) find(gram uint32) []place {
	for i := int(gram * gramHash >> t.shift); t.slots[i].to > 0; i = (i + 1) & (len(t.slots) - 1) {
		if s := &t.slots[i]; s.gram == gram {
			return t.places[s.from:s.to]
		}
	}
	return nil
}

// place is where in a window a q-gram stands; in the table of a window, in which literal the
// window stands, and where.
type place struct{ window, off int32 }

// window is a stretch of one or more literals.
type window struct {
	text string
	lits []litAt
	// Where there are many, most are found by the four bytes that stand apart from where the
	// window begins.
	apart int
	by    gramTable
}

type litAt struct{ lit, off int }

// newSearcher makes a searcher for literals. Windows are chosen so that their
// q-grams are rare in the sample, which may be empty.
func newSearcher(lits []literal, sample []byte) *searcher {
	s := &searcher{lits: lits}
	for _, g := range grouped(lits) {
		stride, q := strideOf(lits, g)
		best := bestGroup(lits, g, stride, q, lits[g[0]].fold, sample)
		best.high = lits[g[0]].high()
		s.groups = append(s.groups, best)
	}
	return s
}

// mask cuts a word to the q-gram's length and folds it.
func (g *group) mask(w uint32) uint32 { return (w | g.or) & g.and }

// gram is the q-gram that a text begins with.
func (g *group) gram(s string) uint32 {
	var b [4]byte
	copy(b[:], s)
	return g.mask(binary.LittleEndian.Uint32(b[:]))
}

// search appends all spots of the slab to out, in the order of their places.
func (s *searcher) search(slab []byte, out []spot) []spot {
	plain, known := false, false
	for i := range s.groups {
		g := &s.groups[i]
		if g.high && !known {
			plain, known = ascii(slab), true
		}
		if !g.high || !plain {
			out = g.search(s.lits, slab, out)
		}
	}
	slices.SortFunc(out, func(a, b spot) int { return a.at - b.at })
	return out
}

// search looks at every stride-th position. Those that the filter lets through are noted
// without a branch, which nobody could foretell, and verified afterwards.
func (g *group) search(lits []literal, slab []byte, out []spot) []spot {
	var f found
	p := 0
	if g.two != nil {
		for end := len(slab) - int(g.two.apart) - 64; p <= end; {
			n := 0
			p, n = twos(g.two, slab, p, &f)
			for _, at := range f[:n] {
				out = g.verifyOne(lits, slab, int(at)-g.twoAt, g.only, out)
			}
		}
		for ; p+int(g.two.apart) < len(slab); p++ {
			if g.two.passes(slab, p) {
				out = g.verifyOne(lits, slab, p-g.twoAt, g.only, out)
			}
		}
		return out
	}
	for n := looks; n > looks-reach; {
		if g.sieve != nil {
			p, n = sift(&g.sieve.tables, g.sieve.places, slab, p, &f)
		} else {
			p, n = look(g.filter, g.or, g.and, slab, p, g.stride, &f)
		}
		for _, at := range f[:n] {
			out = g.verify(lits, slab, int(at), g.mask(binary.LittleEndian.Uint32(slab[at:])), out)
		}
	}
	for ; p+g.q <= len(slab); p += g.stride {
		if w := g.gram(string(slab[p:min(p+4, len(slab))])); g.filter.passes(w) {
			out = g.verify(lits, slab, p, w, out)
		}
	}
	return out
}

// passes tells whether a q-gram may belong to a window.
func (f *filter) passes(w uint32) bool {
	h := w * gramHash >> filterShift
	return f[h>>6]>>(h&63)&1 != 0
}

// verify compares the windows that hold the q-gram at p, then their literals.
func (g *group) verify(lits []literal, slab []byte, p int, gram uint32, out []spot) []spot {
	for _, pl := range g.grams.find(gram) {
		w := &g.windows[pl.window]
		start := p - int(pl.off)
		if start < 0 || start+len(w.text) > len(slab) || !same(slab[start:], w.text, g.fold) {
			continue
		}
		for _, l := range w.lits {
			out = g.verifyOne(lits, slab, start-l.off, l.lit, out)
		}
		if at := start + w.apart; len(w.by.places) > 0 && at >= 0 && at+4 <= len(slab) {
			for _, pl := range w.by.find(binary.LittleEndian.Uint32(slab[at:]) | g.or) {
				out = g.verifyOne(lits, slab, start-int(pl.off), int(pl.window), out)
			}
		}
	}
	return out
}

func (g *group) verifyOne(lits []literal, slab []byte, at, lit int, out []spot) []spot {
	text := lits[lit].text
	if at >= 0 && at+len(text) <= len(slab) && same(slab[at:], text, g.fold) {
		out = append(out, spot{at, lit})
	}
	return out
}

// same tells whether b begins with text, which is in small letters where it is
// folded.
func same(b []byte, text string, fold bool) bool {
	if len(b) < len(text) {
		return false
	}
	if !fold {
		return string(b[:len(text)]) == text
	}
	for i := range len(text) {
		c := b[i]
		if c >= 'A' && c <= 'Z' {
			c |= 0x20
		}
		if c != text[i] {
			return false
		}
	}
	return true
}

// needsOf returns literals of which every entry that fits x holds at least one;
// nil where there are none. Where there is a choice between such sets, pick makes it. Built-in
// fields and typed ones need not stand in the line as they are.
func needsOf(x lang.Expr, typed func(field string) bool, pick func([][]lang.Literal) []lang.Literal) []lang.Literal {
	inLine := func(field string) bool { return !typed(field) && !slices.Contains(entryBuiltIn, field) }
	switch x := x.(type) {
	case *lang.Is:
		return needsOf(x.Kind.Where, typed, pick)
	case *lang.And:
		var sets [][]lang.Literal
		for _, p := range x.Of {
			if n := needsOf(p, typed, pick); n != nil {
				sets = append(sets, n)
			}
		}
		return pick(sets)
	case *lang.Or:
		var all []lang.Literal
		for _, p := range x.Of {
			n := needsOf(p, typed, pick)
			if n == nil {
				return nil
			}
			all = append(all, n...)
		}
		return all
	case *lang.Match:
		if !x.Neg && (x.Field == "" || x.Field == "text") && !typed("text") || !x.Neg && x.Field != "" &&
			inLine(x.Field) {
			sets := lang.Choices(x.Pattern)
			for i := range sets {
				sets[i] = withFolded(sets[i])
			}
			return pick(sets)
		}
	case *lang.Phrase:
		if typed("text") {
			return nil
		}
		return textNeeds(x.Text)
	case *lang.Compare:
		if x.Op == "==" && x.Value.Kind == lang.TextValue && inLine(x.Field) {
			return textNeeds(x.Value.Text)
		}
	case *lang.In:
		var all []lang.Literal
		for _, v := range x.Values {
			n := textNeeds(v.Text)
			if v.Kind != lang.TextValue || n == nil || !inLine(x.Field) {
				return nil
			}
			all = append(all, n...)
		}
		return all
	}
	return nil
}

// withFolded adds what else fits a k or an s where capitals do not matter: the Kelvin sign
// and the long s, of which a text is to hold one where it does not hold the letter itself.
func withFolded(needs []lang.Literal) []lang.Literal {
	var kelvin, long bool
	for _, l := range needs {
		kelvin = kelvin || l.Fold && strings.Contains(l.Text, "k")
		long = long || l.Fold && strings.Contains(l.Text, "s")
	}
	out := slices.Clip(needs)
	if kelvin {
		out = append(out, lang.Literal{Text: "\u212a"})
	}
	if long {
		out = append(out, lang.Literal{Text: "\u017f"})
	}
	return out
}

func textNeeds(s string) []lang.Literal {
	if len(s) < 2 || strings.ContainsAny(s, "\uFFFD\n") {
		return nil
	}
	return []lang.Literal{{Text: s}}
}

func shortest(set []lang.Literal) int {
	n := 1 << 20
	for _, l := range set {
		n = min(n, len(l.Text))
	}
	return n
}
