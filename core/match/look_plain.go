//go:build !amd64 || purego

package match

// wide tells whether this processor has wide instructions that are made use of.
const wide = false

func look(f *filter, or, and uint32, slab []byte, p, stride int, out *found) (next, n int) {
	return lookPlain(f, or, and, slab, p, stride, out)
}

func sift(t *tables, places int, slab []byte, p int, out *found) (next, n int) {
	return siftPlain(t, places, slab, p, out)
}

func ascii(b []byte) bool { return asciiPlain(b) }

func twos(t *two, slab []byte, p int, out *found) (next, n int) {
	panic("there are no wide instructions")
}
