package match_test

import (
	"fmt"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"dimlantern/core/verdict"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/match"
)

func encode(s string, enc match.Encoding) []byte {
	switch enc {
	case match.Latin1:
		var b []byte
		for _, r := range s {
			b = append(b, byte(r))
		}
		return b
	case match.UTF16LE, match.UTF16BE:
		var b []byte
		for _, u := range utf16.Encode([]rune(s)) {
			if enc == match.UTF16LE {
				b = append(b, byte(u), byte(u>>8))
			} else {
				b = append(b, byte(u>>8), byte(u))
			}
		}
		return b
	}
	return []byte(s)
}

// frames reads bytes as they come in pieces, and returns the entries with their
// places.
func frames(t require.TestingT, p *match.Plan, raw []byte, enc match.Encoding, pieces []int) []string {
	r := match.NewReader(p, "h:/x", "h", false)
	r.Encoding = enc
	var out []string
	base, have := 0, 0
	scan := func(end int) {
		r.Scan(raw[base:end], int64(base), 0, func(j *verdict.Judged) {
			out = append(out, fmt.Sprintf("%d %d %q", j.Entry.Offset, j.Next, j.Entry.Raw))
		}, nil)
		base = end
	}
	for _, n := range pieces {
		have = min(have+n, len(raw))
		cut := p.Cut(raw[base:have], enc, false)
		require.LessOrEqual(t, cut, have-base)
		if cut > 0 {
			scan(base + cut)
		}
	}
	if base < len(raw) {
		scan(len(raw))
	}
	return out
}

// However the bytes of a file come, in whatever encoding, the entries are the same
// and stand at the same places; lines that belong together are one entry.
func TestFramesDoNotDependOnPieces(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		enc := rapid.SampledFrom([]match.Encoding{match.UTF8, match.UTF16LE, match.UTF16BE, match.Latin1}).Draw(t,
			"encoding")
		many := rapid.Bool().Draw(t, "entries of many lines")
		src := "source s {\n files \"/x\"\n}\n"
		if many {
			src = "source s {\n files \"/x\"\n entry starts /^\\d/ at most 3 lines\n}\n"
		}
		s := settings(t, src+"rule r {\n problem /(?s).*/\n per nothing\n raise error\n clear by hand\n}\n")
		p := match.NewPlan(s, s.Sources[0], s.Rules, time.UTC)
		lines := rapid.SliceOfN(rapid.SampledFrom([]string{"1 a", "2 é", "  at x", "", "3 Ċ", "plain", "\t- y",
			"4 ਊ"}), 1, 20).Draw(t, "lines")
		if enc == match.Latin1 {
			for i := range lines {
				lines[i] = strings.Map(func(r rune) rune { return min(r, 0xff) }, lines[i])
			}
		}
		text := strings.Join(lines, "\n") + "\n"
		raw := encode(text, enc)
		whole := frames(t, p, raw, enc, []int{len(raw)})
		pieces := rapid.SliceOfN(rapid.IntRange(0, 40), 0, 30).Draw(t, "pieces")
		require.Equal(t, whole, frames(t, p, raw, enc, pieces), "%q", text)
		if !many {
			require.Len(t, whole, len(lines))
		}
		n := 0
		for rest := raw; len(rest) > 0; n++ {
			k := p.First(rest, enc)
			require.Positive(t, k)
			rest = rest[k:]
		}
		require.Equal(t, len(whole), n)
	})
}

func TestEncodingOf(t *testing.T) {
	long := "a log line in plain letters\n"
	for _, c := range []struct {
		word string
		head []byte
		want match.Encoding
	}{
		{"", []byte(long), match.UTF8}, {"auto", encode(long, match.UTF16LE), match.UTF16LE},
		{"auto", encode(long, match.UTF16BE), match.UTF16BE},
		{"auto", encode("\ufeffx", match.UTF16BE), match.UTF16BE},
		{"utf-16", encode(long, match.UTF16BE), match.UTF16BE}, {"utf-16", []byte("x"), match.UTF16LE},
		{"latin-1", []byte(long), match.Latin1}, {"utf-8", encode("\ufeffx", match.UTF16LE), match.UTF8},
		{"auto", nil, match.UTF8},
		{"auto", []byte("text\x00\x00\x00\x00\x00\x00"), match.UTF8},
	} {
		assert.Equal(t, c.want, match.EncodingOf(c.word, c.head), "%s %q", c.word, c.head)
	}
}

// No bytes at all can make reading crash, hang, or pass over the end.
func FuzzFrames(f *testing.F) {
	f.Add([]byte("1 a\n b\r\n\x00\x00\xff\xfe2 c"), byte(0), true)
	f.Add([]byte("\xff\xfe1\x00\n\x00"), byte(1), false)
	f.Fuzz(func(t *testing.T, raw []byte, enc byte, many bool) {
		src := "source s {\n files \"/x\"\n layout l\n}\n"
		if many {
			src = "source s {\n files \"/x\"\n layout l\n entry starts /^\\d/ at most 5 lines\n}\n"
		}
		s := settings(t, src+"layout l {\n pattern /^(?<at>\\S+) (?<text>.*)$/\n time at rfc3339\n}\nrule r {\n "+
			"problem /[a-c]/\n per nothing\n raise error\n clear by hand\n}\n")
		p := match.NewPlan(s, s.Sources[0], s.Rules, time.UTC)
		e := match.Encoding(enc % 4)
		cut := p.Cut(raw, e, false)
		require.True(t, cut >= 0 && cut <= len(raw))
		frames(t, p, raw, e, []int{3, 7, 1, 50})
		for rest := raw; len(rest) > 0; {
			k := p.First(rest, e)
			require.True(t, k > 0 && k <= len(rest), "%d of %d", k, len(rest))
			rest = rest[k:]
		}
	})
}
