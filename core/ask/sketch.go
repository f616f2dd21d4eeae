package ask

import (
	"math"
	"math/bits"
	"slices"
	"sort"
)

// sketch counts numbers in geometric buckets: each number of a bucket lies within 1 % of its middle.
// The sum of two sketches is the sketch of both.
type sketch struct {
	pos, neg map[int32]int64
	zero     int64
	n        int64
}

// gamma is how much wider a bucket is than the one before.
const gamma = 1.0095 / 0.9905

var logGamma = math.Log(gamma)

func (s *sketch) add(f float64, n int64) {
	s.n += n
	switch {
	case f == 0:
		s.zero += n
	case f > 0:
		if s.pos == nil {
			s.pos = map[int32]int64{}
		}
		s.pos[bucketOf(f)] += n
	default:
		if s.neg == nil {
			s.neg = map[int32]int64{}
		}
		s.neg[bucketOf(-f)] += n
	}
}

func bucketOf(f float64) int32 { return int32(math.Ceil(math.Log(f) / logGamma)) }

// middle is the number that stands for a bucket.
func middle(b int32) float64 {
	f := math.Exp(float64(b)*logGamma) * 2 / (1 + gamma)
	// Five digits are enough, and fewer look less exact than they are.
	scale := math.Pow(10, 4-math.Floor(math.Log10(f)))
	if r := math.Round(f*scale) / scale; !math.IsInf(r, 0) && !math.IsNaN(r) && r != 0 {
		return r
	}
	return f
}

func (s *sketch) merge(o *sketch) {
	s.n += o.n
	s.zero += o.zero
	for _, m := range [][2]*map[int32]int64{{&s.pos, &o.pos}, {&s.neg, &o.neg}} {
		if *m[0] == nil && len(*m[1]) > 0 {
			*m[0] = map[int32]int64{}
		}
		for b, n := range *m[1] {
			(*m[0])[b] += n
		}
	}
}

func (s *sketch) percentile(percent int) float64 {
	rank := max((s.n*int64(percent)+99)/100, 1)
	order := func(m map[int32]int64, down bool) []int32 {
		var out []int32
		for b := range m {
			out = append(out, b)
		}
		sort.Slice(out, func(i, j int) bool { return (out[i] < out[j]) != down })
		return out
	}
	seen := int64(0)
	for _, b := range order(s.neg, true) {
		if seen += s.neg[b]; seen >= rank {
			return -middle(b)
		}
	}
	if seen += s.zero; seen >= rank {
		return 0
	}
	for _, b := range order(s.pos, false) {
		if seen += s.pos[b]; seen >= rank {
			return middle(b)
		}
	}
	return 0
}

// distinct counts different values: the digests of the values themselves, or, once there are too many in
// an answer, how far the digests reach (a hyperloglog).
type distinct struct {
	set  map[uint64]struct{}
	list []uint64 // instead of set where a sketch is wanted and there are few
	regs []uint8  // of a sketch of many
	// sketched tells that it is a sketch.
	sketched bool
}

// precision is how many bits of a digest choose a register: 2^14 registers err by 0.8 %.
const precision = 14

// fewDigests is up to how many a sketch keeps as they are.
const fewDigests = 1 << 11

func (d *distinct) add(digest uint64) (more bool) {
	if d.sketched {
		d.take(digest)
		return false
	}
	if d.set == nil {
		d.set = map[uint64]struct{}{}
	}
	n := len(d.set)
	d.set[digest] = struct{}{}
	return len(d.set) > n
}

func (d *distinct) take(digest uint64) {
	if d.regs == nil {
		if i, found := slices.BinarySearch(d.list, digest); !found {
			d.list = slices.Insert(d.list, i, digest)
		}
		if len(d.list) <= fewDigests {
			return
		}
		d.regs = make([]uint8, 1<<precision)
		for _, x := range d.list {
			d.register(x)
		}
		d.list = nil
		return
	}
	d.register(digest)
}

func (d *distinct) register(digest uint64) {
	i := digest >> (64 - precision)
	rank := uint8(bits.LeadingZeros64(digest<<precision|1<<(precision-1))) + 1
	d.regs[i] = max(d.regs[i], rank)
}

// rough makes a sketch of it.
func (d *distinct) rough() {
	if d.sketched {
		return
	}
	d.sketched = true
	if len(d.set) <= fewDigests {
		for x := range d.set {
			d.list = append(d.list, x)
		}
		slices.Sort(d.list)
	} else {
		d.regs = make([]uint8, 1<<precision)
		for x := range d.set {
			d.register(x)
		}
	}
	d.set = nil
}

// merge adds the values of another; more is by how many the exact ones grew.
func (d *distinct) merge(o *distinct) (more int) {
	if o.sketched {
		d.rough()
		if o.regs == nil {
			for _, x := range o.list {
				d.take(x)
			}
			return 0
		}
		if d.regs == nil {
			d.regs = make([]uint8, 1<<precision)
			for _, x := range d.list {
				d.register(x)
			}
			d.list = nil
		}
		for i, r := range o.regs {
			d.regs[i] = max(d.regs[i], r)
		}
		return 0
	}
	for x := range o.set {
		if d.add(x) {
			more++
		}
	}
	return more
}

// count is how many there are. Of a sketch of many it is an estimate by the method of Ertl ("New
// cardinality estimation algorithms for HyperLogLog sketches", 2017, algorithm 6), which has no bias at
// any size.
func (d *distinct) count() (n int64, approx bool) {
	switch {
	case !d.sketched:
		return int64(len(d.set)), false
	case d.regs == nil:
		return int64(len(d.list)), true
	}
	const m, q = 1 << precision, 64 - precision
	var counts [q + 2]int
	for _, r := range d.regs {
		counts[r]++
	}
	z := m * tau(1-float64(counts[q+1])/m)
	for k := q; k >= 1; k-- {
		z = 0.5 * (z + float64(counts[k]))
	}
	z += m * sigma(float64(counts[0])/m)
	return int64(math.Round(m / (2 * math.Ln2) * m / z)), true
}

func sigma(x float64) float64 {
	if x == 1 {
		return math.Inf(1)
	}
	y, z := 1.0, x
	for was := math.NaN(); z != was; {
		x *= x
		was = z
		z += x * y
		y += y
	}
	return z
}

func tau(x float64) float64 {
	if x == 0 || x == 1 {
		return 0
	}
	y, z := 1.0, 1-x
	for was := math.NaN(); z != was; {
		x = math.Sqrt(x)
		was = z
		y *= 0.5
		z -= (1 - x) * (1 - x) * y
	}
	return z / 3
}

// digest is a number of a value: of two values the same by a chance of one in 2^64. It is the same on
// every machine (FNV-1a, its bits mixed once more).
func digest(s string) uint64 {
	h := uint64(14695981039346656037)
	for i := range len(s) {
		h ^= uint64(s[i])
		h *= 1099511628211
	}
	h ^= h >> 33
	h *= 0xff51afd7ed558ccd
	h ^= h >> 33
	h *= 0xc4ceb9fe1a85ec53
	return h ^ h>>33
}
