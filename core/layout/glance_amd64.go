//go:build amd64 && !purego

package layout

import "golang.org/x/sys/cpu"

// wide tells whether this processor has the wide instructions that are made use of.
var wide = cpu.X86.HasAVX2 && cpu.X86.HasBMI1 && cpu.X86.HasPOPCNT

// lineStarts is lineStartsPlain, 64 bytes at a time.
//
//go:noescape
func lineStarts(b []byte, starts []uint32) (n, seen int)

// glances is glancesPlain, a line at a time; look is its g.
//
//go:noescape
func glances(b []byte, starts []uint32, look *glanced) int

// nextPair is nextPairPlain, 32 bytes at a time.
//
//go:noescape
func nextPair(b []byte, dist int, first, last byte) (at, seen int)

// markAt is where the first byte stands that is a quote, a backslash or no printable ASCII, as far as it
// looks: in whole steps of 32 bytes.
//
//go:noescape
func markAt(b []byte) int
