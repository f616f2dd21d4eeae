package ask

import "slices"

// values are numbers of which percentiles are wanted: the numbers themselves, or, once there are too
// many of them in an answer, a sketch.
type values struct {
	list   []float64   // see num.float
	full   [][]float64 // more of them, which are not changed any more, and may belong to others as well
	n      int         // how many they are together
	large  []num       // those that no float64 stands for
	sketch *sketch
}

// Between these bounds a list that has become full stays as it is, and another one is begun.
const leastList, mostList = 16, 4096

// valueBytes is what each number takes.
const valueBytes = 8

func (v *values) add(n num) {
	f, ok := n.float()
	switch {
	case v.sketch != nil:
		v.sketch.add(f, 1)
	case ok:
		v.addFloat(f)
	default:
		v.large = append(v.large, n)
	}
}

// addFloat is add of a number that a float64 stands for.
func (v *values) addFloat(f float64) {
	if v.sketch != nil {
		v.sketch.add(f, 1)
		return
	}
	if n := len(v.list); n == cap(v.list) && n >= leastList {
		v.full, v.list = append(v.full, v.list), make([]float64, 0, min(v.n, mostList))
	}
	v.list = append(v.list, f)
	v.n++
}

// all appends all numbers but the large ones.
func (v *values) all(to []float64) []float64 {
	for _, l := range v.full {
		to = append(to, l...)
	}
	return append(to, v.list...)
}

// size is how much room the numbers take, in bytes.
func (v *values) size() int { return valueBytes*v.n + 64*len(v.large) }

// rough puts a sketch in the place of the numbers.
func (v *values) rough() {
	if v.sketch != nil {
		return
	}
	v.sketch = &sketch{}
	v.sketch.addAll(v)
	v.list, v.full, v.n, v.large = nil, nil, 0, nil
}

// addAll adds numbers that are none of a sketch.
func (s *sketch) addAll(v *values) {
	for _, f := range v.all(nil) {
		s.add(f, 1)
	}
	for _, n := range v.large {
		f, _ := n.float()
		s.add(f, 1)
	}
}

// merge adds the numbers of another, which may go on being added to.
func (v *values) merge(o *values) {
	switch {
	case v.sketch == nil && o.sketch == nil:
		if v.full = append(v.full, o.full...); len(o.list) > 0 {
			v.full = append(v.full, o.list)
		}
		v.n, v.large = v.n+o.n, append(v.large, o.large...)
	case o.sketch == nil:
		v.sketch.addAll(o)
	default:
		v.rough()
		v.sketch.merge(o.sketch)
	}
}

// percentile is the least number with at least that many percent of the numbers at or below it (point
// 28); of a sketch one within 1 % of it. Room is memory that it may make use of, and gives back.
func (v *values) percentile(percent int, room []float64) (n num, approx bool, _ []float64) {
	if v.sketch != nil {
		return floatNum(v.sketch.percentile(percent)), true, room
	}
	rank := max(((v.n+len(v.large))*percent+99)/100, 1)
	room = v.all(slices.Grow(room[:0], v.n))
	if len(v.large) == 0 {
		return floatNum(nth(room, rank-1)), false, room
	}
	all := slices.Clone(v.large)
	for _, f := range room {
		all = append(all, floatNum(f))
	}
	slices.SortFunc(all, num.compare)
	return all[rank-1], false, room
}

// nth is what would stand at a place of a list if it were sorted; the list is put in another order.
func nth(list []float64, k int) float64 {
	lo, hi := 0, len(list)-1
	for lo < hi {
		a, b, c := list[lo], list[lo+(hi-lo)/2], list[hi]
		pivot := max(min(a, b), min(max(a, b), c)) // the middle one
		i, j := lo, hi
		for i <= j {
			for list[i] < pivot {
				i++
			}
			for list[j] > pivot {
				j--
			}
			if i <= j {
				list[i], list[j] = list[j], list[i]
				i++
				j--
			}
		}
		switch {
		case k <= j:
			hi = j
		case k >= i:
			lo = i
		default:
			return list[k]
		}
	}
	return list[k]
}
