package match

import (
	"container/heap"
	"encoding/binary"
	"slices"
)

// shorter are the strides that are tried besides the longest one: a shorter window may
// lie in a stretch that many literals share.
var shorter = []int{12, 8}

// longTwo is how long a literal may be of which two bytes are chosen.
const longTwo = 200

// bestGroup makes the group that makes the least work on the sample.
func bestGroup(lits []literal, which []int, longest, q int, fold bool, sample []byte) group {
	freq := frequencies(q, fold, sample)
	best := newGroup(lits, which, longest, q, fold, freq)
	part := sample[:min(len(sample), 32<<10)]
	least := best.work(part)
	try := func(g group) {
		if w := g.work(part); w < least {
			best, least = g, w
		}
	}
	// What looks at each position, even if none passed, is not tried where it can be no better.
	for places := 3; wide && places <= 4 && least > len(part)/sieveCost[places]; places++ {
		q, freq := min(places, shortestOf(lits, which)), freq
		if q < places && places > 3 {
			break
		}
		if q != best.q {
			freq = frequencies(q, fold, sample)
		}
		// Long literals that share no windows stand in many sorts of text.
		g := newGroup(lits, which, 1, q, fold, freq)
		if len(g.windows) > mostSieved || longest >= 8 && len(g.windows) > len(which)/2 {
			break
		}
		g.sieve = newSieve(&g, sample)
		try(g)
	}
	for _, stride := range shorter {
		if stride < longest && least > len(part)/stride {
			try(newGroup(lits, which, stride, q, fold, freq))
		}
	}
	for i := range best.windows {
		best.windows[i].index(lits, best.or)
	}
	if l := &lits[which[0]]; wide && len(which) == 1 && len(l.text) > 1 && len(l.text) <= longTwo {
		if t, at, w := newTwo(l, part); w < least {
			best.two, best.twoAt, best.only = t, at, which[0]
		}
	}
	return best
}

// shortestOf is how long the shortest of some literals is.
func shortestOf(lits []literal, which []int) int {
	n := len(lits[which[0]].text)
	for _, i := range which {
		n = min(n, len(lits[i].text))
	}
	return n
}

// work estimates the work of a search over a sample, in looks at a position.
func (g *group) work(sample []byte) int {
	sum := 0
	if g.sieve != nil {
		sum = len(sample) / sieveCost[g.sieve.places]
	}
	for p := 0; p+4 <= len(sample); p += g.stride {
		word := binary.LittleEndian.Uint32(sample[p:])
		w := g.mask(word)
		if g.sieve == nil {
			sum++
			if !g.filter.passes(w) {
				continue
			}
			sum += 3
		} else {
			if !g.sieve.passes(word, g.sieve.places) {
				continue
			}
			sum += 10
		}
		sum += 4
		for _, pl := range g.grams.find(w) {
			sum += 3
			if w := &g.windows[pl.window]; p >= int(pl.off) && same(sample[p-int(pl.off):], w.text, g.fold) {
				sum += 3 + 3*min(len(w.lits), fewLits+1) // the rest is told apart
			}
		}
	}
	return sum
}

// strides are those that there are for q-grams of four bytes: a window is as long as its
// stride, and the rest of a q-gram.
var strides = []int{16, 12, 8, 4, 2}

// allowed is the longest stride that a literal of that length allows, and the length of
// the q-gram that it is looked for by.
func allowed(n int) (stride, q int) {
	for _, st := range strides {
		if n >= st+3 {
			return st, 4
		}
	}
	if n == 4 {
		return 2, 3
	}
	return 1, n
}

// strideOf is the stride of a group: that of its shortest literal.
func strideOf(lits []literal, group []int) (stride, q int) {
	stride = strides[0] + 1
	for _, i := range group {
		if st, n := allowed(len(lits[i].text)); st < stride || st == stride && n < q {
			stride, q = st, n
		}
	}
	return stride, q
}

// grouped divides literals into groups that are searched one after the other: folded ones
// and others, those of ASCII and others, and of each as few groups, with strides as long, as make the least work. A
// search takes 1/stride looks at each byte, so that a few short literals among many long
// ones are better off on their own.
func grouped(lits []literal) [][]int {
	var out [][]int
	for _, sort := range [][2]bool{{false, false}, {true, false}, {false, true}, {true, true}} {
		by := map[[2]int][]int{} // stride and q → literals
		for i, l := range lits {
			if l.fold == sort[0] && l.high() == sort[1] {
				st, q := allowed(len(l.text))
				by[[2]int{st, q}] = append(by[[2]int{st, q}], i)
			}
		}
		var kinds [][2]int
		for k := range by {
			kinds = append(kinds, k)
		}
		// The longest strides first; those with a q-gram of their own stand alone.
		slices.SortFunc(kinds, func(a, b [2]int) int {
			if a[1] != b[1] {
				return b[1] - a[1]
			}
			return b[0] - a[0]
		})
		// least[i] is the least work for kinds[i:], until[i] where its first group ends.
		least, until := make([]float64, len(kinds)+1), make([]int, len(kinds)+1)
		for i := len(kinds) - 1; i >= 0; i-- {
			least[i] = -1
			for j := i + 1; j <= len(kinds) && kinds[j-1][1] == kinds[i][1]; j++ {
				if c := 1/float64(kinds[j-1][0]) + least[j]; least[i] < 0 || c < least[i] {
					least[i], until[i] = c, j
				}
			}
		}
		for i := 0; i < len(kinds); i = until[i] {
			var g []int
			for _, k := range kinds[i:until[i]] {
				g = append(g, by[k]...)
			}
			slices.Sort(g)
			out = append(out, g)
		}
	}
	return out
}

const gramHash = 0x9E3779B1

// freqBits is how many bits of a q-gram's hash its frequency in the sample is known by,
// freqStep how far apart in the sample q-grams are counted.
const freqBits, freqStep = 16, 3

// frequencies are how often q-grams stand in a sample, by their hashes.
func frequencies(q int, fold bool, sample []byte) []uint16 {
	g := masks(q, fold)
	freq := make([]uint16, 1<<freqBits)
	for i := 0; i+4 <= len(sample); i += freqStep {
		if n := &freq[g.mask(binary.LittleEndian.Uint32(sample[i:]))*gramHash>>(32-freqBits)]; *n < 1<<16-1 {
			*n++
		}
	}
	return freq
}

// masks is a group that has nothing but how it looks at q-grams.
func masks(q int, fold bool) group {
	g := group{q: q, fold: fold, and: 1<<(8*q) - 1}
	if fold {
		g.or = 0x20202020
	}
	return g
}

// choice is a window that could be chosen, with the literals that it stands in.
type choice struct {
	text string
	lits []litAt
	// alone is what it costs, found what each literal costs where it is found; all in q-grams
	// that are found in the sample in vain.
	alone, found float64
	left         int // how many of its literals have no window yet
	last         int // the literal that was added last
	score        float64
}

// choices is a heap of them, the one that costs least for each of its literals first.
type choices []*choice

func (c choices) Len() int           { return len(c) }
func (c choices) Less(i, j int) bool { return c[i].score < c[j].score }
func (c choices) Swap(i, j int)      { c[i], c[j] = c[j], c[i] }
func (c *choices) Push(x any)        { *c = append(*c, x.(*choice)) }
func (c *choices) Pop() any {
	last := (*c)[len(*c)-1]
	*c = (*c)[:len(*c)-1]
	return last
}

func (c *choice) scored() float64 {
	return (c.alone + float64(min(c.left, fewLits+1))*c.found) / float64(c.left)
}

// newGroup chooses windows so that each literal has one: always the window next that costs
// least for each literal which gets its window by it.
func newGroup(lits []literal, which []int, stride, q int, fold bool, freq []uint16) group {
	g := masks(q, fold)
	g.stride = stride
	width := q + stride - 1
	most := 0
	for _, i := range which {
		most += len(lits[i].text) - width + 1
	}
	index := make(map[string]int32, most)
	store := make([]choice, 0, most)
	type in struct {
		choice int32
		litAt
	}
	places := make([]in, 0, most)
	for _, i := range which {
		text := lits[i].text
		for off := 0; off+width <= len(text); off++ {
			w := text[off : off+width]
			n, known := index[w]
			if !known {
				n = int32(len(store))
				index[w] = n
				c := choice{text: w, last: -1, alone: 1.5} // for what it lets through the filter by chance
				rarest := 1 << 30
				for k := range stride {
					n := int(freq[g.gram(w[k:])*gramHash>>(32-freqBits)])
					rarest = min(rarest, n)
					c.alone += float64(n) / float64(stride)
				}
				c.found = float64(rarest) / 4
				store = append(store, c)
			}
			if c := &store[n]; c.last != i { // the first place of a literal does
				c.last = i
				c.left++
				places = append(places, in{n, litAt{i, off}})
			}
		}
	}
	room := make([]litAt, len(places))
	all := make(choices, len(store))
	for i := range store {
		c := &store[i]
		all[i] = c
		c.lits, room = room[:0:c.left], room[c.left:]
	}
	for _, x := range places {
		c := &store[x.choice]
		c.lits = append(c.lits, x.litAt)
	}
	for _, c := range all {
		c.score = c.scored()
	}
	heap.Init(&all)
	grams := make([]gramAt, 0, stride*len(which))
	done := make(map[int]bool, len(which))
	for len(done) < len(which) {
		c := all[0]
		left := 0
		for _, l := range c.lits {
			if !done[l.lit] {
				left++
			}
		}
		if left == 0 {
			heap.Pop(&all)
			continue
		}
		if left < c.left {
			c.left = left
			c.score = c.scored()
			heap.Fix(&all, 0)
			continue
		}
		heap.Pop(&all)
		n := int32(len(g.windows))
		w := window{text: c.text}
		for _, l := range c.lits {
			if !done[l.lit] {
				done[l.lit] = true
				w.lits = append(w.lits, l)
			}
		}
		g.windows = append(g.windows, w)
		for k := range stride {
			grams = append(grams, gramAt{g.gram(c.text[k:]), place{n, int32(k)}})
		}
	}
	g.filter = new(filter)
	for _, x := range grams {
		h := x.gram * gramHash >> filterShift
		g.filter[h>>6] |= 1 << (h & 63)
	}
	g.grams = newGramTable(inOrder(grams))
	return g
}

// fewLits is how many literals of a window are compared one by one.
const fewLits = 4

// index lets the literals of a window be told apart by four bytes before it, in it or
// behind it, where there are many of them: by those that differ most.
func (w *window) index(lits []literal, or uint32) {
	if len(w.lits) <= fewLits {
		return
	}
	best, least := 0, len(w.lits)*len(w.lits)
	words := make([]uint32, 0, len(w.lits))
	for d := -16; d < len(w.text)+16; d++ {
		words = words[:0]
		for _, l := range w.lits {
			if text := lits[l.lit].text; l.off+d >= 0 && l.off+d+4 <= len(text) {
				words = append(words, wordAt(text, l.off+d)|or)
			}
		}
		slices.Sort(words)
		compared := (len(w.lits) - len(words)) * len(w.lits) // those that have no such bytes, always
		for i := 0; i < len(words); {
			k := i
			for ; k < len(words) && words[k] == words[i]; k++ {
			}
			compared += (k - i) * (k - i)
			i = k
		}
		if compared < least {
			best, least = d, compared
		}
	}
	var grams []gramAt
	var rest []litAt
	for _, l := range w.lits {
		if text := lits[l.lit].text; l.off+best >= 0 && l.off+best+4 <= len(text) {
			grams = append(grams, gramAt{wordAt(text, l.off+best) | or, place{int32(l.lit), int32(l.off)}})
		} else {
			rest = append(rest, l)
		}
	}
	w.lits, w.apart, w.by = rest, best, newGramTable(inOrder(grams))
}

// wordAt are the four bytes of a text at a place.
func wordAt(text string, at int) uint32 {
	return uint32(text[at]) | uint32(text[at+1])<<8 | uint32(text[at+2])<<16 | uint32(text[at+3])<<24
}
