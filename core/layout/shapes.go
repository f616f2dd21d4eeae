package layout

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
)

// Shape is a kind of line: what stays the same when numbers, names, identifiers,
// addresses, quoted parts and times change.
type Shape struct {
	ID      string   // the same from run to run
	Text    string   // with <number>, <time>, <id>, <name>, <address>, <text> for what changes
	Count   int      // lines
	First   int      // the number of its first line, from 0
	Last    int      // of its newest one
	Samples []Sample // spread over all that came, the newest last

	key   string // its template
	every int    // each so many-th line is kept as a sample
	into  *Shape // it became part of another
}

// Sample is a line with its number.
type Sample struct {
	Line int    `json:"line"`
	Text string `json:"text"`
}

// The bounds of shapes: how many there are, how many lines of each are kept, how many
// forms of lines are known at sight, how much of a line is looked at, and how many
// different words at one place make it a name.
const (
	maxShapes  = 4000
	perShape   = 24
	maxForms   = 200_000
	shapeBytes = 600
	shapeWords = 60
	manyWords  = 10
)

// Shaper groups lines by their shapes in one pass. The same lines in the same order
// give the same shapes.
type Shaper struct {
	Lines  int
	shapes map[string]*Shape // by template
	forms  map[uint64]*Shape // by a hash of the line with its changing parts taken out
	many   map[string]bool   // templates with a word taken out that stand for a shape
	words  map[string]map[string]bool
	buf    []byte
	other  *Shape
}

// NewShaper returns a shaper that has seen nothing.
func NewShaper() *Shaper {
	return &Shaper{shapes: map[string]*Shape{}, forms: map[uint64]*Shape{}, many: map[string]bool{},
		words: map[string]map[string]bool{}}
}

// Add takes the next line, and returns its shape as it is now.
func (s *Shaper) Add(line []byte) *Shape { return s.AddText(line, line) }

// AddText is Add with another text than the whole line of which the shape is made.
func (s *Shaper) AddText(text, line []byte) *Shape {
	s.buf = shapeOf(s.buf[:0], text)
	h := uint64(14695981039346656037)
	for _, c := range s.buf {
		h = (h ^ uint64(c)) * 1099511628211
	}
	x := s.forms[h]
	if x == nil {
		x = s.find(string(s.buf))
		if len(s.forms) >= maxForms {
			clear(s.forms)
		}
		s.forms[h] = x
	}
	x = x.Whole()
	x.take(s.Lines, line)
	s.Lines++
	return x
}

// Known is the shape of a text such as were taken; nil where none like it was.
func (s *Shaper) Known(text string) *Shape {
	if x := s.shapes[s.named(string(shapeOf(nil, []byte(text))))]; x != nil {
		return x.Whole()
	}
	return s.other
}

// named is a template with names in the places where many words were seen.
func (s *Shaper) named(t string) string {
	words := wordsOf(t)
	for again := true; again; {
		again = false
		for _, w := range words {
			if k := t[:w[0]] + string(markName) + t[w[1]:]; s.many[k] {
				t, words, again = k, wordsOf(k), true
				break
			}
		}
	}
	return t
}

// Whole is the shape that it has become a part of, or itself.
func (x *Shape) Whole() *Shape {
	for x.into != nil {
		x = x.into
	}
	return x
}

// take counts a line, and keeps it where it is one of those that are kept.
func (x *Shape) take(n int, line []byte) {
	if x.Count == 0 {
		x.First, x.every = n, 1
	}
	if x.Count%x.every == 0 {
		x.Samples = append(x.Samples, Sample{n, valid(line[:min(len(line), 4000)])})
		if len(x.Samples) > perShape {
			x.thin()
		}
	}
	x.Count++
	x.Last = n
}

// thin keeps every second sample.
func (x *Shape) thin() {
	kept := x.Samples[:0]
	for i, s := range x.Samples {
		if i%2 == 0 {
			kept = append(kept, s)
		}
	}
	clear(x.Samples[len(kept):])
	x.Samples = kept
	x.every *= 2
}

// find finds or makes the shape of a template. A word becomes a name where many
// others stand at its place while all else stays.
func (s *Shaper) find(t string) *Shape {
	t = s.named(t)
	words := wordsOf(t)
	if x := s.shapes[t]; x != nil {
		return x
	}
	if len(s.shapes) >= maxShapes {
		if s.other == nil {
			s.other = &Shape{key: string(markName)}
			s.shapes[s.other.key] = s.other
		}
		return s.other
	}
	x := &Shape{key: t}
	s.shapes[t] = x
	for _, w := range words {
		k := t[:w[0]] + string(markName) + t[w[1]:]
		at := s.words[k]
		if at == nil {
			at = map[string]bool{}
			s.words[k] = at
		}
		if at[t] = true; len(at) >= manyWords {
			return s.join(k, at)
		}
	}
	return x
}

// join makes one shape of those that differ in one word.
func (s *Shaper) join(k string, parts map[string]bool) *Shape {
	s.many[k] = true
	delete(s.words, k)
	whole := s.shapes[k]
	if whole == nil {
		whole = s.find(k)
	}
	var list []*Shape
	for t := range parts {
		if p := s.shapes[t]; p != nil && p != whole {
			list = append(list, p)
			delete(s.shapes, t)
		}
	}
	slices.SortFunc(list, func(a, b *Shape) int {
		return cmp.Or(cmp.Compare(a.First, b.First),
			strings.Compare(a.key, b.key))
	})
	for _, p := range list {
		p.into = whole
		if p.Count == 0 {
			continue
		}
		if whole.Count == 0 {
			whole.First, whole.every = p.First, 1
		}
		whole.First, whole.Last = min(whole.First, p.First), max(whole.Last, p.Last)
		whole.Count += p.Count
		whole.every = max(whole.every, p.every)
		whole.Samples = append(whole.Samples, p.Samples...)
		p.Samples = nil
	}
	slices.SortFunc(whole.Samples, func(a, b Sample) int { return a.Line - b.Line })
	for len(whole.Samples) > perShape {
		whole.thin()
	}
	return whole
}

// wordsOf are the places of the words in a template that may turn out to be names.
func wordsOf(t string) [][2]int {
	var out [][2]int
	for i := 0; i < len(t) && len(out) < shapeWords; {
		if !wordByte[t[i]] {
			i++
			continue
		}
		from := i
		for i < len(t) && wordByte[t[i]] {
			i++
		}
		out = append(out, [2]int{from, i})
	}
	return tokensIn(out, t)
}

// shapeToken is how long what stands between blanks may be that can turn out to be a name.
const shapeToken = 120

// tokensIn adds the places of what stands between blanks and is more than a word: a path, a
// version, a name with marks in it.
func tokensIn(out [][2]int, t string) [][2]int {
	for from := 0; from < len(t) && len(out) < 2*shapeWords; {
		end := strings.IndexByte(t[from:], ' ')
		if end < 0 {
			end = len(t)
		} else {
			end += from
		}
		token := strings.TrimRight(t[from:end], ":,;.)]'\"")
		start := from + len(token) - len(strings.TrimLeft(token, "(['\""))
		words, marks := 0, 0
		for i := start; i < from+len(token); i++ {
			switch c := t[i]; {
			case wordByte[c]:
				words++
			case c == '"', c == '{', c == '=':
				marks = -shapeToken // a value in it changes, not all of it
			default:
				marks++
			}
		}
		if words > 0 && marks > 0 && len(token) <= shapeToken && (start > 0 || from+len(token) < len(t)) {
			out = append(out, [2]int{start, from + len(token)})
		}
		from = end + 1
	}
	return out
}

// Shapes are the shapes so far, the largest first.
func (s *Shaper) Shapes() []*Shape {
	var out []*Shape
	for _, x := range s.shapes {
		if x.Count > 0 {
			out = append(out, x)
		}
	}
	slices.SortFunc(out, func(a, b *Shape) int {
		return cmp.Or(b.Count-a.Count, a.First-b.First,
			strings.Compare(a.key, b.key))
	})
	for _, x := range out {
		h := fnv.New64a()
		h.Write([]byte(x.key))
		x.ID = fmt.Sprintf("%012x", h.Sum64()>>16)
		if x.Text = shapeText(x.key); x == s.other {
			x.Text = "lines of other shapes"
		}
	}
	return out
}

// Drawn are lines for people to look at.
type Drawn struct {
	Usual, Odd, Newest []Sample
}

// Draw draws samples: of the large shapes, of the small ones, and the last lines,
// spread over all that came.
func (s *Shaper) Draw(most int, newest []Sample) Drawn {
	all := s.Shapes()
	d := Drawn{Newest: newest}
	covered, split := 0, 0
	for split < len(all) && (covered*20 < s.Lines*19 || split < 1) && split < most {
		covered += all[split].Count
		split++
	}
	take := func(shapes []*Shape) []Sample {
		var out []Sample
		for round := 0; len(out) < most; round++ {
			some := false
			for _, x := range shapes {
				// From the middle of its lines outwards, so that few are spread as well.
				if round < len(x.Samples) && len(out) < most {
					out = append(out, x.Samples[outwards(len(x.Samples))[round]])
					some = true
				}
			}
			if !some {
				break
			}
		}
		return out
	}
	d.Usual = take(all[:split])
	odd := slices.Clone(all[split:])
	slices.Reverse(odd)
	d.Odd = take(odd)
	return d
}

// outwards are the places of some samples: the middle first, then the middles of what
// is left.
func outwards(n int) []int {
	var out []int
	for queue := [][2]int{{0, n}}; len(queue) > 0; queue = queue[1:] {
		if lo, hi := queue[0][0], queue[0][1]; lo < hi {
			mid := (lo + hi) / 2
			out = append(out, mid)
			queue = append(queue, [2]int{lo, mid}, [2]int{mid + 1, hi})
		}
	}
	return out
}
