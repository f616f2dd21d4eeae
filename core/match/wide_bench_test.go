package match

import (
	"bytes"
	"testing"
)

// What each routine for wide instructions earns, against the plain one beside it.
func BenchmarkWide(b *testing.B) {
	slab := bytes.Repeat([]byte("2026-11-24T05:32:28.114Z pump-03 pump 7: pressure low, "+
		"4.5 bar behind the strainer\n"), 3000)
	f := new(filter)
	for i := range 200 {
		f[i*5&1023] |= 1 << (i & 63)
	}
	m := masks(4, false)
	var s tables
	for i := range s {
		s[i] = byte(i * 7)
		if i&16 != 0 {
			s[i] = s[i-16]
		}
	}
	var out found
	over := func(step func(p int) (next, n int)) func(*testing.B) {
		return func(b *testing.B) {
			b.SetBytes(int64(len(slab)))
			for b.Loop() {
				for p := 0; ; {
					next, n := step(p)
					if n <= looks-reach {
						break
					}
					p = next
				}
			}
		}
	}
	for _, stride := range []int{1, 4, 8} {
		name := map[int]string{1: "look every", 4: "look every fourth", 8: "look every eighth"}[stride]
		b.Run(name+"/wide", over(func(p int) (int, int) { return look(f, m.or, m.and, slab, p, stride, &out) }))
		b.Run(name+"/plain", over(func(p int) (int, int) { return lookPlain(f, m.or, m.and, slab, p, stride, &out) }))
	}
	if wide {
		b.Run("sift/wide", over(func(p int) (int, int) { return sift(&s, 3, slab, p, &out) }))
		b.Run("sift/plain", over(func(p int) (int, int) { return siftPlain(&s, 3, slab, p, &out) }))
		pair := &two{first: 'b', second: 'z', apart: 2} // as rare as they are where it is chosen
		b.Run("two bytes/wide", over(func(p int) (int, int) { return twos(pair, slab, p, &out) }))
		b.Run("two bytes/plain", func(b *testing.B) {
			b.SetBytes(int64(len(slab)))
			for b.Loop() {
				n := 0
				for p := 0; p+int(pair.apart) < len(slab); p++ {
					if pair.passes(slab, p) {
						n++
					}
				}
			}
		})
	}
	for name, is := range map[string]func([]byte) bool{"wide": ascii, "plain": asciiPlain} {
		b.Run("ascii/"+name, func(b *testing.B) {
			b.SetBytes(int64(len(slab)))
			for b.Loop() {
				is(slab)
			}
		})
	}
}
