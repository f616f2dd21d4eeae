//go:build amd64 && !purego

package match

import "golang.org/x/sys/cpu"

// wide tells whether this processor has the wide instructions that are made use of.
var wide = cpu.X86.HasAVX2 && cpu.X86.HasBMI1

// look is lookPlain, four positions at a time.
//
//go:noescape
func look(f *filter, or, and uint32, slab []byte, p, stride int, out *found) (next, n int)

// sift is siftPlain, 32 positions at a time. It needs wide instructions.
//
//go:noescape
func sift(t *tables, places int, slab []byte, p int, out *found) (next, n int)

// twos notes the positions from p on at which both bytes stand, 64 at a time; next is the position that
// it did not look at. It stops where fewer than 64 have their second byte, or when there is no room for
// so many. It needs wide instructions.
//
//go:noescape
func twos(t *two, slab []byte, p int, out *found) (next, n int)

// ascii is asciiPlain.
func ascii(b []byte) bool {
	if !wide {
		return asciiPlain(b)
	}
	n := asciiUpTo(b)
	return n == len(b)&^127 && asciiPlain(b[n:])
}

// asciiUpTo is how far a text is nothing but ASCII, in whole steps of 128 bytes. It needs
// wide instructions.
//
//go:noescape
func asciiUpTo(b []byte) int
