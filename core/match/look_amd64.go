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
func sift(s *sieve, slab []byte, p int, out *found) (next, n int)
