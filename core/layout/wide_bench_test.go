package layout

import (
	"bytes"
	"testing"
)

// What each routine for wide instructions earns, against the plain one beside it.
func BenchmarkWide(b *testing.B) {
	slab := bytes.Repeat([]byte("2026-11-24T05:32:28.114Z pump-03 pump 7: pressure low, "+
		"4.5 bar behind the strainer\n"), 3000)
	starts := make([]uint32, 8192)
	for name, f := range map[string]func([]byte, []uint32) (int, int){"wide": lineStarts, "plain": lineStartsPlain} {
		b.Run("lineStarts/"+name, func(b *testing.B) {
			b.SetBytes(int64(len(slab)))
			for b.Loop() {
				f(slab, starts)
			}
		})
	}
	n, _ := lineStartsPlain(slab, starts)
	g := glanced{at: 17, first: 1<<64 - 1, second: 1<<64 - 1<<32, least: 1 << 63, topLine: 1 << 63}
	for i := range g.high {
		g.high[i] = 255
	}
	for name, f := range map[string]func([]byte, []uint32, *glanced) int{"wide": glances, "plain": glancesPlain} {
		b.Run("glances/"+name, func(b *testing.B) {
			b.SetBytes(int64(len(slab)))
			for b.Loop() {
				h := g
				f(slab, starts[:n-2], &h)
			}
		})
	}
	lines := bytes.Repeat([]byte(`{"at":"2026-11-24T05:32:28.114Z","host":"pump-03",`+
		`"text":"low behind the strainer"}`+"\n"),
		3000)
	for name, f := range map[string]func(b, word []byte) int{"wide": count, "plain": bytes.Count} {
		b.Run("count/"+name, func(b *testing.B) {
			b.SetBytes(int64(len(lines)))
			for b.Loop() {
				f(lines, []byte(`"at"`))
			}
		})
	}
}
