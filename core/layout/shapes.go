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

// The marks of what changes in a template: bytes that stand in no text.
const (
	markNumber byte = iota + 1
	markTime
	markID
	markName
	markAddress
	markText
	markRest
)

var markWords = map[byte]string{markNumber: "<number>", markTime: "<time>", markID: "<id>", markName: "<name>",
	markAddress: "<address>", markText: "<text>", markRest: "…"}

// ShapeOf is the shape of one line on its own, as Shape.Text writes it.
func ShapeOf(line string) string { return shapeText(string(shapeOf(nil, []byte(line)))) }

func shapeText(t string) string {
	var b strings.Builder
	for i := range len(t) {
		if w := markWords[t[i]]; w != "" {
			b.WriteString(w)
		} else {
			b.WriteByte(t[i])
		}
	}
	return b.String()
}

var wordByte = func() (set [256]bool) {
	for c := range 256 {
		set[c] = letter(byte(c)) && c < 0x80 || c == '_' || c >= 0x80
	}
	return set
}()

func hexByte(c byte) bool { return c-'0' <= 9 || c|0x20 >= 'a' && c|0x20 <= 'f' }

// shapeOf writes the template of a line: the line with marks for what changes.
func shapeOf(out, line []byte) []byte {
	cut := len(line) > shapeBytes
	if cut {
		line = line[:shapeBytes]
	}
	for i := 0; i < len(line); {
		c := line[i]
		switch {
		case c-'0' <= 9, wordByte[c]:
			out, i = shapeWord(out, line, i)
		case (c == '-' || c == '+') && i+1 < len(line) && line[i+1]-'0' <= 9 &&
			(i == 0 || !wordByte[line[i-1]] && line[i-1]-'0' > 9 && line[i-1] != ']' && line[i-1] != ')'):
			i++ // a sign belongs to its number
		case c == ':' && i+2 < len(line) && line[i+1] == ':' && hexByte(line[i+2]):
			if end := addressEnd(line, i); end > 0 {
				out, i = append(out, markAddress), end
				continue
			}
			out = append(out, c)
			i++
		case c == '"':
			end := i + 1
			for end < len(line) && line[end] != '"' {
				if line[end] == '\\' {
					end++
				}
				end++
			}
			if end >= len(line) || end+1 < len(line) && line[end+1] == ':' { // a key of JSON stays
				out = append(out, c)
				i++
				if end < len(line) {
					out = append(out, line[i:end+1]...)
					i = end + 1
				}
				continue
			}
			out = append(append(out, '"'), markText, '"')
			i = end + 1
		case c == '\'' || c == '`':
			end := quotedEnd(line, i)
			if end == 0 {
				out = append(out, c)
				i++
				continue
			}
			out = append(append(out, c), markText, c)
			i = end
		case c == ' ' || c == '\t':
			for i < len(line) && (line[i] == ' ' || line[i] == '\t') {
				i++
			}
			out = append(out, ' ')
		case c < ' ':
			out = append(out, '?')
			i++
		default:
			out = append(out, c)
			i++
		}
	}
	if cut {
		out = append(out, markRest)
	}
	return out
}

// longestQuote is how long a text between single quotes may be.
const longestQuote = 200

// quotedEnd is the place behind a text between single quotes or backquotes that begins at a
// place; 0 where none does, as with an apostrophe.
func quotedEnd(line []byte, i int) int {
	if i > 0 && (wordByte[line[i-1]] || line[i-1]-'0' <= 9) {
		return 0
	}
	for end := i + 1; end < len(line) && end < i+longestQuote; end++ {
		if line[end] != line[i] && !(line[i] == '`' && line[end] == '\'') {
			continue
		}
		if end > i+1 && (end+1 == len(line) || !wordByte[line[end+1]] && line[end+1]-'0' > 9) {
			return end + 1
		}
	}
	return 0
}

// encodedEnd is the place behind a run of base64 (RFC 4648), or of the like, that begins at a
// place; 0 where none does. Such runs are long, and change between small letters, capitals and
// digits all the time.
func encodedEnd(line []byte, i int) int {
	class := func(c byte) int {
		switch {
		case c >= 'a' && c <= 'z':
			return 1
		case c >= 'A' && c <= 'Z':
			return 2
		case c-'0' <= 9:
			return 3
		}
		return 0
	}
	end, changes, last := i, 0, 0
	var seen [4]bool
	for ; end < len(line); end++ {
		c := line[end]
		k := class(c)
		if k == 0 && c != '+' && c != '/' && c != '-' && c != '_' {
			break
		}
		if k > 0 && k != last {
			changes++
			last = k
		}
		seen[k] = true
	}
	for end < len(line) && line[end] == '=' {
		end++
	}
	if n := end - i; n < 16 || !seen[1] || !seen[2] || !seen[3] && line[end-1] != '=' || 3*changes < n {
		return 0
	}
	return end
}

// shapeWord writes what begins with a letter or a digit.
func shapeWord(out, line []byte, i int) ([]byte, int) {
	if len(line)-i >= 16 {
		if end := encodedEnd(line, i); end > 0 {
			return append(out, markID), end
		}
	}
	if line[i] == '0' && i+2 < len(line) && line[i+1]|0x20 == 'x' && hexByte(line[i+2]) {
		end := i + 2
		for end < len(line) && hexByte(line[end]) {
			end++
		}
		if end == len(line) || !wordByte[line[end]] {
			return append(out, markID), end
		}
	}
	if line[i]-'0' > 9 { // words without digits are most
		end := i
		for end < len(line) && wordByte[line[end]] {
			end++
		}
		if end == len(line) || line[end]-'0' > 9 && (line[end] != '-' && line[end] != ':' || !hexByte(line[i])) {
			if end-i == 3 && end+1 < len(line) && line[end] == ' ' && (line[end+1]-'0' <= 9 || line[end+1] == ' ') {
				if k, _ := nameIn(monthNames, string(line[i:end])); k >= 0 { // Nov 24
					return append(out, markTime), end
				}
			}
			return append(out, line[i:end]...), end
		}
	}
	end, digit, other, hex := i, 0, 0, true
	for end < len(line) && (line[end]-'0' <= 9 || wordByte[line[end]]) {
		if c := line[end]; c-'0' <= 9 {
			digit++
		} else {
			other++
			hex = hex && hexByte(c)
		}
		end++
	}
	switch {
	case hex && end-i == 8 && end+28 <= len(line) && line[end] == '-' && uuid(line[i:end+28]):
		return append(out, markID), end + 28
	case hex && end < len(line) && line[end] == ':' && end-i <= 4:
		if stop := addressEnd(line, i); stop > 0 {
			return append(out, markAddress), stop
		}
	}
	switch {
	case digit > 0 && other > 0 && (hex && end-i >= 6 || end-i >= 14 && digit >= 3 && line[i]-'0' <= 9 ||
		end-i >= 20 && digit >= 4):
		return append(out, markID), end
	case other == 0:
		return shapeNumber(out, line, i)
	}
	for i < end { // digits in a word are a number, letters stay
		if line[i]-'0' <= 9 {
			if other > 0 && line[i:end][0]-'0' <= 9 {
				n := i
				for n < end && line[n]-'0' <= 9 {
					n++
				}
				if n == end || line[n] == 'T' && n+1 < end { // a time goes on behind T
					return shapeNumber(out, line, i)
				}
				out, i = append(out, markNumber), n
				continue
			}
		}
		out = append(out, line[i])
		i++
	}
	return out, end
}

// shapeNumber writes numbers that are joined by marks as one: 4.5, 10.0.0.1, a date, a
// time of day.
func shapeNumber(out, line []byte, i int) ([]byte, int) {
	dots, colons, dashes := 0, 0, 0
	for {
		for i < len(line) && line[i]-'0' <= 9 {
			i++
		}
		if i+1 >= len(line) || line[i+1]-'0' > 9 {
			break
		}
		switch line[i] {
		case '.':
			dots++
		case ':':
			colons++
		case '-', '/':
			dashes++
		case ',':
		case 'T':
			if dashes < 2 && colons == 0 {
				goto end
			}
		default:
			goto end
		}
		i++
	}
end:
	switch {
	case dots == 3 && dashes == 0:
		return append(out, markAddress), i
	case colons > 0 || dashes > 1:
		if i < len(line) && line[i] == 'Z' {
			i++
		} else if i+3 < len(line) && (line[i] == '+' || line[i] == '-') && line[i+1]-'0' <= 9 && line[i+2]-'0' <= 9 {
			for i++; i < len(line) && (line[i]-'0' <= 9 || line[i] == ':'); i++ {
			}
		}
		// A date and a time of day are one.
		if n := len(out); n > 1 && out[n-1] == ' ' && out[n-2] == markTime {
			return out[:n-1], i
		}
		return append(out, markTime), i
	}
	if n := len(out); n > 1 && out[n-1] == ' ' && out[n-2] == markTime && dots == 0 { // the day behind a month
		return out[:n-1], i
	}
	return append(out, markNumber), i
}

// uuid tells whether 36 bytes are one.
func uuid(b []byte) bool {
	for i, c := range b {
		if i == 8 || i == 13 || i == 18 || i == 23 {
			if c != '-' {
				return false
			}
		} else if !hexByte(c) {
			return false
		}
	}
	return true
}

// addressEnd is where an IPv6 or a MAC address ends that begins at a place; 0 where
// none does.
func addressEnd(line []byte, i int) int {
	end, colons, double := i, 0, false
	for end < len(line) && (hexByte(line[end]) || line[end] == ':') {
		if line[end] == ':' {
			colons++
			double = double || end > i && line[end-1] == ':'
		}
		end++
	}
	if line[end-1] == ':' && !double {
		end--
		colons--
	}
	if end < len(line) && wordByte[line[end]] || !(double && colons < 8 || colons == 7 || colons == 5 &&
		end-i == 17) {
		return 0
	}
	return end
}
