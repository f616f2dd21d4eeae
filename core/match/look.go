package match

import "encoding/binary"

// lookPlain notes the positions from p on, a stride apart, whose four bytes, folded by or
// and cut by and, the filter lets through. It stops behind the last position that has four
// bytes, or when no more than three can be noted; it may also stop up to three strides
// before the end. Next is the position that it did not look at, n how many it noted.
//
// Whether a position is let through decides where the next one is noted, and nothing else:
// a branch would be foretold wrong for most of them.
func lookPlain(f *filter, or, and uint32, slab []byte, p, stride int, out *found) (next, n int) {
	for ; p+4 <= len(slab) && n < looks-3; p += stride {
		out[n] = uint32(p)
		if f.passes((binary.LittleEndian.Uint32(slab[p:]) | or) & and) {
			n++
		}
	}
	return p, n
}
