//go:build !amd64 || purego

package layout

// wide tells whether this processor has wide instructions that are made use of.
const wide = false

func lineStarts(b []byte, starts []uint32) (n, seen int) { return lineStartsPlain(b, starts) }

func glances(b []byte, starts []uint32, g *glanced) int { return glancesPlain(b, starts, g) }

func nextPair(b []byte, dist int, first, last byte) (at, seen int) {
	return nextPairPlain(b, dist, first, last)
}

func markAt([]byte) int { return 0 }
