package match

import (
	"encoding/binary"
	"slices"
)

// looks is how many positions at most wait for being verified, reach how many of them a
// step of a search may note; found are those that wait.
const looks, reach = 512, 32

type found [looks]uint32

// lookPlain notes the positions from p on, a stride apart, whose four bytes, folded by or
// and cut by and, the filter lets through. It stops behind the last position that has four
// bytes, or when there is no room for one more step; it may also stop up to three strides
// before the end. Next is the position that it did not look at, n how many it noted.
//
// Whether a position is let through decides where the next one is noted, and nothing else:
// a branch would be foretold wrong for most of them.
func lookPlain(f *filter, or, and uint32, slab []byte, p, stride int, out *found) (next, n int) {
	for ; p+4 <= len(slab) && n <= looks-reach; p += stride {
		out[n] = uint32(p)
		if f.passes((binary.LittleEndian.Uint32(slab[p:]) | or) & and) {
			n++
		}
	}
	return p, n
}

// sieve tells whether a q-gram may begin with a byte, by it and the two or three bytes
// behind it.
type sieve struct {
	places int // 3 or 4
	tables
}

// tables are two for each place: one by the byte's lower half and one by its upper half, each
// of them twice, for instructions of 32 bytes. An entry has a bit for each of eight sorts
// of q-grams; what has a bit in all tables may be of that sort.
type tables [4 * 2 * 32]byte

// mostSieved is how many q-grams may be looked for by a sieve: more would let all through.
const mostSieved = 300

// sieveCost is how many positions a sieve looks at in the time of a look at one by a filter,
// by its places.
var sieveCost = [5]int{3: 20, 4: 14}

// passes tells whether a sieve of some places lets a word through.
func (t *tables) passes(w uint32, places int) bool {
	m := byte(255)
	for i := range places {
		b := byte(w >> (8 * i))
		m &= t[64*i+int(b&15)] & t[64*i+32+int(b>>4)]
	}
	return m != 0
}

// gramSort is one of the eight: which halves its q-grams have in each of the four places.
type gramSort [4]struct{ low, high uint16 }

func (s *gramSort) add(gram uint32, g *group) {
	for i := range 4 {
		b := byte(gram >> (8 * i))
		switch {
		case i >= g.q:
			s[i].low, s[i].high = 1<<16-1, 1<<16-1
		case g.fold:
			s[i].high |= 1 << (b >> 4 & 13)
			fallthrough
		default:
			s[i].low |= 1 << (b & 15)
			s[i].high |= 1 << (b >> 4)
		}
	}
}

// newSieve sorts the q-grams of a group so that little of the sample is let through.
func newSieve(g *group, sample []byte) *sieve {
	var often [16][16]float64 // how often a byte stands in the sample, by its halves
	for _, b := range sample {
		often[b>>4][b&15] += 1 / float64(len(sample))
	}
	passed := func(s *gramSort) float64 {
		all := 1.0
		for i := range g.q {
			one := 1e-4 // what no sample has may come all the same
			for h := range 16 {
				for l := range 16 {
					if s[i].high>>h&1 != 0 && s[i].low>>l&1 != 0 {
						one += often[h][l]
					}
				}
			}
			all *= one
		}
		return all
	}
	var sorts [8]gramSort
	var cost [8]float64
	var grams []uint32
	for _, s := range g.grams.slots {
		if s.to > 0 {
			grams = append(grams, s.gram)
		}
	}
	slices.Sort(grams)
	for _, gram := range grams {
		best, least := 0, -1.0
		for k := range sorts {
			s := sorts[k]
			s.add(gram, g)
			if more := passed(&s) - cost[k]; least < 0 || more < least {
				best, least = k, more
			}
		}
		sorts[best].add(gram, g)
		cost[best] += least
	}
	out := &sieve{places: max(3, g.q)}
	for k, s := range sorts {
		for i := range s {
			for half := range 16 {
				for twice := range 2 {
					out.tables[64*i+16*twice+half] |= byte(s[i].low>>half&1) << k
					out.tables[64*i+32+16*twice+half] |= byte(s[i].high>>half&1) << k
				}
			}
		}
	}
	return out
}

// two are the bytes that one literal is looked for by, the second one apart from the first: they are
// rare in the sample. Of a text or is added to each.
type two struct {
	first, second, or, apart byte
}

// twoCost is how many positions are looked at for two bytes in the time of a look at one by a filter.
const twoCost = 40

// newTwo chooses the bytes, and tells where in the literal the first one stands, and how much work they
// make on the sample. The literal has more than one byte.
func newTwo(l *literal, sample []byte) (t *two, at, work int) {
	var often [256]int
	or := byte(0)
	if l.fold {
		or = 0x20
	}
	for _, b := range sample {
		often[b|or]++
	}
	const far = 255
	best := -1
	for i := range len(l.text) - 1 {
		for k := i + 1; k < min(len(l.text), i+far+1); k++ {
			if n := (1 + often[l.text[i]|or]) * (1 + often[l.text[k]|or]); best < 0 || n < best {
				best, at = n, i
				t = &two{l.text[i] | or, l.text[k] | or, or, byte(k - i)}
			}
		}
	}
	work = len(sample) / twoCost
	for p := 0; p+int(t.apart) < len(sample); p++ {
		if t.passes(sample, p) {
			work += 10
		}
	}
	return t, at, work
}

// passes tells whether both bytes stand at a position, which has them.
func (t *two) passes(slab []byte, p int) bool {
	return slab[p]|t.or == t.first && slab[p+int(t.apart)]|t.or == t.second
}

// siftPlain is lookPlain for each position, and with the tables of a sieve.
func siftPlain(t *tables, places int, slab []byte, p int, out *found) (next, n int) {
	for ; p+4 <= len(slab) && n <= looks-reach; p++ {
		out[n] = uint32(p)
		if t.passes(binary.LittleEndian.Uint32(slab[p:]), places) {
			n++
		}
	}
	return p, n
}

// asciiPlain tells whether a text is nothing but ASCII.
func asciiPlain(b []byte) bool {
	for ; len(b) >= 8; b = b[8:] {
		if binary.LittleEndian.Uint64(b)&0x8080808080808080 != 0 {
			return false
		}
	}
	for _, c := range b {
		if c >= 0x80 {
			return false
		}
	}
	return true
}
