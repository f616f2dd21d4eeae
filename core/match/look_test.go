package match

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// everyPlace is where literals stand, by looking for them at each place.
func everyPlace(lits []literal, slab []byte) (out []spot) {
	for at := range slab {
		for i, l := range lits {
			if same(slab[at:], l.text, l.fold) {
				out = append(out, spot{at, i})
			}
		}
	}
	return out
}

// Whatever literals there are, and however they are searched for, each place of each is found.
func TestSearchFindsEveryPlace(t *testing.T) {
	kinds := []string{"pump %d: pressure low (", "%d", "a%dz", "xy%d", "lost after %d ms",
		"error %d in the harbour's own words", "Überlauf %d", "ſ%d"}
	sieved, indexed, twos := 0, 0, 0
	rapid.Check(t, func(t *rapid.T) {
		var lits []literal
		known := map[string]bool{}
		mixed := rapid.Bool().Draw(t, "mixed")
		kind := rapid.SampledFrom(kinds).Draw(t, "kind")
		for range rapid.IntRange(1, 60).Draw(t, "literals") {
			if mixed {
				kind = rapid.SampledFrom(kinds).Draw(t, "kind")
			}
			text := fmt.Sprintf(kind, rapid.IntRange(10, 300).Draw(t, "number"))
			fold := rapid.IntRange(0, 3).Draw(t, "fold") == 0
			if !known[fmt.Sprint(text, fold)] {
				known[fmt.Sprint(text, fold)] = true
				lits = append(lits, literal{text: text, fold: fold})
			}
		}
		var slab []byte
		for range rapid.IntRange(0, 120).Draw(t, "pieces") {
			text := lits[rapid.IntRange(0, len(lits)-1).Draw(t, "which")].text
			switch rapid.IntRange(0, 5).Draw(t, "piece") {
			case 0:
				text = strings.ToUpper(text)
			case 1:
				text = text[:rapid.IntRange(0, len(text)).Draw(t, "cut")]
			case 2:
				text = rapid.StringOfN(rapid.SampledFrom([]rune("pump 10azxyſ:\n")), 1, 40, -1).Draw(t, "text")
			case 3:
				text += "\n"
			}
			slab = append(slab, text...)
		}
		sample := slab[:rapid.IntRange(0, len(slab)).Draw(t, "sample")]
		want := everyPlace(lits, slab)
		check := func() {
			s := newSearcher(lits, sample)
			for i := range s.groups {
				if s.groups[i].sieve != nil {
					sieved++
				}
				if s.groups[i].two != nil {
					twos++
				}
				if slices.ContainsFunc(s.groups[i].windows, func(w window) bool { return len(w.by.places) > 0 }) {
					indexed++
				}
			}
			got := s.search(slab, nil)
			require.True(t, slices.IsSortedFunc(got, func(a, b spot) int { return a.at - b.at }))
			slices.SortFunc(got, func(a, b spot) int { return 1000*(a.at-b.at) + a.lit - b.lit })
			require.Equal(t, want, got)
		}
		check()
		withoutWide(check)
		sample = bytes.Repeat(append([]byte("all else is as usual. "), sample...),
			1+rapid.IntRange(0, 20).Draw(t, "often"))
		check()
	})
	assert.True(t, sieved > 0 || !wide, "no literals were sieved")
	assert.True(t, twos > 0 || !wide, "no literal was looked for by two bytes")
	assert.Positive(t, indexed, "no literals shared a window")
}

// What is done with wide instructions is what is done without them.
func TestWideIsPlain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		slab := []byte(rapid.StringOfN(rapid.SampledFrom([]rune("abcdefgh0123")), 0, 3000, -1).Draw(t, "slab"))
		stride := rapid.SampledFrom(strides).Draw(t, "stride")
		f := new(filter)
		for range rapid.IntRange(0, 3000).Draw(t, "bits") {
			h := rapid.IntRange(0, 1<<16-1).Draw(t, "bit")
			f[h>>6] |= 1 << (h & 63)
		}
		m := masks(rapid.IntRange(2, 4).Draw(t, "q"), rapid.Bool().Draw(t, "fold"))
		var got, want found
		for p := 0; ; {
			next, n := look(f, m.or, m.and, slab, p, stride, &got)
			// The plain one goes on to the end; what it notes up to there must be the same.
			end := min(len(slab), next+3)
			if next <= p {
				end = p
			}
			_, k := lookPlain(f, m.or, m.and, slab[:end], p, stride, &want)
			require.Equal(t, want[:k], got[:n])
			assert.True(t, n > looks-reach || next+3*stride+4 > len(slab), "%d of %d", next, len(slab))
			if p = next; n <= looks-reach {
				break
			}
		}
		if len(slab) > 0 && rapid.Bool().Draw(t, "high") {
			at := rapid.IntRange(0, len(slab)-1).Draw(t, "high at")
			slab[at] |= 0x80
			assert.False(t, ascii(slab))
			assert.False(t, asciiPlain(slab))
			slab[at] &= 0x7f
		}
		assert.True(t, ascii(slab))
		assert.True(t, asciiPlain(slab))
		if !wide {
			return
		}
		var s tables
		places := rapid.IntRange(3, 4).Draw(t, "places")
		for i := range s {
			s[i] = rapid.Byte().Draw(t, "table")
			if i&16 != 0 {
				s[i] = s[i-16] // each table stands twice
			}
		}
		for p := 0; ; {
			next, n := sift(&s, places, slab, p, &got)
			_, k := siftPlain(&s, places, slab[:min(len(slab), next+3)], p, &want)
			require.Equal(t, want[:k], got[:n])
			assert.True(t, n > looks-reach || next+35 > len(slab))
			if p = next; n <= looks-reach {
				break
			}
		}
	})
}

func BenchmarkSetUp(b *testing.B) {
	var lits []literal
	for i := range 1000 {
		lits = append(lits, literal{text: fmt.Sprintf("pump %d: pressure low (", 1000+i)})
	}
	var sample []byte
	for i := range 3000 {
		sample = fmt.Appendf(sample, "2026-11-24 05:32:28.114 pump-%02d pumpd[%d]: flow %d l/min at %d rpm, "+
			"station 7 reports all else as usual\n", i%40, i%900, i*7%1000, i*13%1000)
	}
	for _, n := range []int{200, 1000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				newSearcher(lits[:n], sample[:256<<10])
			}
		})
	}
}
