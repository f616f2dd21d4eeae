// Package steps matches the patterns that are sequences of literals and runs of classes
// of characters, without ever trying anything twice.
package steps

import (
	"bytes"
	"math/bits"
	"regexp/syntax"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Steps is a hand-made matcher for the patterns that layouts and rules mostly are:
// sequences of literals and runs of a class of characters, where no
// run may hold what follows it, so that nothing is ever tried twice. It gives
// exactly what the regular expression gives, some twenty times faster.
type Steps struct {
	ops    []step
	run    []step // ops, with each group that is one run, and the literal behind a run, as one step: what is matched
	groups int
	skips  bool // some groups may take no part
	// lead is what every match begins with, where one may begin anywhere.
	lead string
}

type stepKind uint8

const (
	stepLiteral stepKind = iota
	stepOne              // one byte of the class
	stepRun              // as many bytes of the class as there are, at least min
	stepOpen             // a group begins
	stepShut             // a group ends
	stepMaybe            // where the next byte is not of the class, skip to `to`
	stepEnd              // the text ends here
	stepGroup            // a group that is one run
)

type step struct {
	kind  stepKind
	text  string
	class *[256]bool
	line  bool // the class is all but the line end
	min   int
	group int
	to    int
	then  string // a literal that has to follow a run
	wide  bool   // the class has all bytes above the space
}

// maxSteps bounds the work of compiling.
const maxSteps = 200

// Compile returns nil where the pattern is not of that kind, or does not begin where the
// text does. Names are those of its groups, the whole match first.
func Compile(re *syntax.Regexp, names []string) *Steps {
	flat := Flatten(re.Simplify())
	if len(flat) == 0 || flat[0].Op != syntax.OpBeginText && flat[0].Op != syntax.OpBeginLine {
		return nil
	}
	return compile(flat[1:], names)
}

// CompileAnywhere is Compile for what matches anywhere in a text of several lines, but
// begins with a literal, or where the text does: it is for Find.
func CompileAnywhere(re *syntax.Regexp, names []string) *Steps {
	flat := Flatten(re.Simplify())
	if len(flat) > 0 && flat[0].Op == syntax.OpBeginText {
		return compile(flat[1:], names)
	}
	s := compile(flat, names)
	if s == nil {
		return nil
	}
	for _, op := range s.ops {
		if op.kind == stepLiteral {
			s.lead = op.text
			return s
		}
		if op.kind != stepOpen {
			break
		}
	}
	return nil
}

func compile(flat []*syntax.Regexp, names []string) *Steps {
	s := &Steps{groups: len(names)}
	if !s.sequence(flat) || len(s.ops) > maxSteps || !s.determined() {
		return nil
	}
	s.join()
	return s
}

// join makes one step of each group that is a run, and of a run and the literal behind it.
func (s *Steps) join() {
	target := make([]bool, len(s.ops)+1) // of a stepMaybe
	for i := range s.ops {
		if s.ops[i].kind == stepMaybe {
			target[s.ops[i].to] = true
		}
	}
	place := make([]int, len(s.ops)+1) // of each op in run
	for i := 0; i < len(s.ops); i++ {
		place[i] = len(s.run)
		x := s.ops[i]
		if i+2 < len(s.ops) && x.kind == stepOpen && s.ops[i+1].kind == stepRun && s.ops[i+2].kind == stepShut {
			group := x.group
			x = s.ops[i+1]
			x.kind, x.group = stepGroup, group
			place[i+1], place[i+2] = place[i], place[i]
			i += 2
		}
		if (x.kind == stepGroup || x.kind == stepRun) && i+1 < len(s.ops) && s.ops[i+1].kind == stepLiteral &&
			!target[i+1] {
			i++
			x.then, place[i] = s.ops[i].text, len(s.run)
		}
		if x.class != nil {
			x.wide = wide(x.class)
		}
		s.run = append(s.run, x)
	}
	place[len(s.ops)] = len(s.run)
	for i := range s.run {
		if s.run[i].kind == stepMaybe {
			s.skips = true
			s.run[i].to = place[s.run[i].to]
		}
	}
}

func wide(class *[256]bool) bool {
	for c := ' ' + 1; c < 256; c++ {
		if !class[c] {
			return false
		}
	}
	return true
}

// Flatten are the parts of a sequence, also of sequences in it.
func Flatten(re *syntax.Regexp) []*syntax.Regexp {
	if re.Op != syntax.OpConcat {
		return []*syntax.Regexp{re}
	}
	var out []*syntax.Regexp
	for _, x := range re.Sub {
		out = append(out, Flatten(x)...)
	}
	return out
}

func (s *Steps) add(x step) { s.ops = append(s.ops, x) }

func (s *Steps) sequence(list []*syntax.Regexp) bool {
	for _, re := range list {
		if !s.one(re) {
			return false
		}
	}
	return true
}

func (s *Steps) one(re *syntax.Regexp) bool {
	switch re.Op {
	case syntax.OpEmptyMatch:
		return true
	case syntax.OpLiteral:
		if re.Flags&syntax.FoldCase != 0 {
			return false
		}
		for _, r := range re.Rune {
			if r == utf8.RuneError {
				return false
			}
		}
		s.add(step{kind: stepLiteral, text: string(re.Rune)})
		return true
	case syntax.OpCharClass, syntax.OpAnyCharNotNL, syntax.OpAnyChar:
		class, high := classOf(re)
		if class == nil || high {
			return false
		}
		s.add(step{kind: stepOne, class: class})
		return true
	case syntax.OpPlus, syntax.OpStar:
		if re.Flags&syntax.NonGreedy != 0 {
			return false
		}
		class, _ := classOf(re.Sub[0])
		if class == nil {
			return false
		}
		n := 0
		if re.Op == syntax.OpPlus {
			n = 1
		}
		s.add(step{kind: stepRun, class: class, line: re.Sub[0].Op == syntax.OpAnyCharNotNL, min: n})
		return true
	case syntax.OpCapture:
		s.add(step{kind: stepOpen, group: re.Cap})
		if !s.sequence(Flatten(re.Sub[0])) {
			return false
		}
		s.add(step{kind: stepShut, group: re.Cap})
		return true
	case syntax.OpQuest:
		if re.Flags&syntax.NonGreedy != 0 {
			return false
		}
		at := len(s.ops)
		s.add(step{kind: stepMaybe})
		if !s.sequence(Flatten(re.Sub[0])) {
			return false
		}
		s.ops[at].to = len(s.ops)
		return true
	case syntax.OpEndText:
		s.add(step{kind: stepEnd})
		return true
	}
	return false
}

// classOf returns the bytes of a class, and whether it holds characters outside
// ASCII: all of them, or the class is none that bytes can stand for (nil).
func classOf(re *syntax.Regexp) (*[256]bool, bool) {
	var set [256]bool
	switch re.Op {
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		for i := range set {
			set[i] = re.Op == syntax.OpAnyChar || i != '\n'
		}
		return &set, true
	case syntax.OpLiteral:
		if len(re.Rune) != 1 || re.Rune[0] >= utf8.RuneSelf || re.Flags&syntax.FoldCase != 0 {
			return nil, false
		}
		set[re.Rune[0]] = true
		return &set, false
	case syntax.OpCharClass:
	default:
		return nil, false
	}
	high := false
	for i := 0; i+1 < len(re.Rune); i += 2 {
		lo, hi := re.Rune[i], re.Rune[i+1]
		for r := lo; r <= hi && r < utf8.RuneSelf; r++ {
			set[r] = true
		}
		if hi >= utf8.RuneSelf {
			if lo > utf8.RuneSelf || hi != unicode.MaxRune {
				return nil, false
			}
			high = true
		}
	}
	if high {
		for i := utf8.RuneSelf; i < 256; i++ {
			set[i] = true
		}
	}
	return &set, high
}

// first is what a sequence of ops can begin with, and whether it can also fit
// nothing at all and leave what follows alone.
type first struct {
	set  [256]bool
	open bool
}

// firsts computes, from the end, what the ops from each place on can begin with.
func firsts(ops []step) []first {
	out := make([]first, len(ops)+1)
	out[len(ops)].open = true
	for i := len(ops) - 1; i >= 0; i-- {
		next := &out[i+1]
		switch op := &ops[i]; op.kind {
		case stepLiteral:
			out[i].set[op.text[0]] = true
		case stepOne:
			out[i].set = *op.class
		case stepRun:
			out[i].set = *op.class
			if op.min == 0 {
				out[i] = first{union(*op.class, next.set), next.open}
			}
		case stepMaybe:
			past := &out[min(op.to, len(ops))]
			out[i] = first{union(next.set, past.set), past.open}
		case stepEnd:
		default:
			out[i] = *next
		}
	}
	return out
}

func union(a, b [256]bool) [256]bool {
	for i, x := range b {
		a[i] = a[i] || x
	}
	return a
}

// determined tells whether every choice can be made by the next byte alone.
func (s *Steps) determined() bool {
	all := firsts(s.ops)
	for i := range s.ops {
		op := &s.ops[i]
		switch op.kind {
		case stepRun:
			if meets(*op.class, all[i+1].set) {
				return false
			}
		case stepMaybe:
			inner := firstWithin(s.ops, i+1, op.to)
			past := &all[op.to]
			if inner.open || past.open || meets(inner.set, past.set) {
				return false
			}
			op.class = &inner.set
		}
	}
	return true
}

// firstWithin is what the ops from i up to end, taken alone, can begin with.
func firstWithin(ops []step, i, end int) first {
	sub := append([]step(nil), ops[i:end]...)
	for j := range sub {
		sub[j].to -= i
	}
	return firsts(sub)[0]
}

func meets(a, b [256]bool) bool {
	for i := range a {
		if a[i] && b[i] {
			return true
		}
	}
	return false
}

// Behind returns what stands in front of a group, and the byte that ends it, where nothing
// but a fixed text stands in front: that byte must be fixed, and the group must end with a
// run that holds what decimals are written with, and not that byte. It is -1 where it is
// not so.
func (s *Steps) Behind(group int) (lead string, behind int) {
	i := 0
	for ; i < len(s.ops) && s.ops[i].kind == stepLiteral; i++ {
		lead += s.ops[i].text
	}
	if i == len(s.ops) || s.ops[i].kind != stepOpen || s.ops[i].group != group {
		return "", -1
	}
	reach := 0 // how far what may lack reaches
	for i++; i+1 < len(s.ops); i++ {
		switch op := s.ops[i]; {
		case op.kind == stepMaybe:
			reach = op.to
		case op.kind == stepShut && op.group == group:
			last, next := s.ops[i-1], s.ops[i+1]
			if reach > i-1 || last.kind != stepRun || next.kind != stepLiteral || last.class[next.text[0]] {
				return "", -1
			}
			for _, c := range ".,0123456789" {
				if !last.class[c] {
					return "", -1
				}
			}
			return lead, int(next.text[0])
		}
	}
	return "", -1
}

// free is what a text may have more or less of, and other ones, and be the same to Past.
const free = "0123456789.,"

// Past returns what matches the rest of a line behind a group that Behind knows: where the group took a text,
// it would take any other that differs from it in nothing but which digits stand where it has some, and in a
// row of digits, points and commas behind some of those. It is nil where that is not sure.
func (s *Steps) Past(group int) *Steps {
	if _, behind := s.Behind(group); behind < 0 || s.skips {
		return nil
	}
	inside := false
	for i := range s.run {
		op := &s.run[i]
		runs := op.class != nil && op.min < 2 && !strings.ContainsFunc(free, func(c rune) bool { return !op.class[c] })
		switch {
		case op.kind == stepGroup && op.group == group && runs:
			rest := s.run[i+1:]
			if op.then != "" {
				rest = append([]step{{kind: stepLiteral, text: op.then}}, rest...)
			}
			return &Steps{run: rest, groups: s.groups}
		case op.kind == stepShut && op.group == group:
			return &Steps{run: s.run[i+1:], groups: s.groups}
		case op.kind == stepOpen && op.group == group:
			inside = true
		case inside && op.kind == stepRun && runs && !strings.ContainsAny(op.then, free):
		case op.kind == stepLiteral && !(inside && strings.ContainsAny(op.text, free)):
		default:
			return nil
		}
	}
	return nil
}

// runEnd is where a run of a class ends that begins at p. Eight bytes are looked at together where
// that can be: how long a run is nobody foresees, so that a branch for each byte costs more.
func runEnd[T string | []byte](text T, p int, op *step) int {
	class := op.class
	if op.wide {
		const ones, above, highs = 0x0101010101010101, 0x21, 0x8080808080808080
		for len(text)-p >= 8 {
			b := text[p : p+8]
			w := uint64(b[0]) | uint64(b[1])<<8 | uint64(b[2])<<16 | uint64(b[3])<<24 |
				uint64(b[4])<<32 | uint64(b[5])<<40 | uint64(b[6])<<48 | uint64(b[7])<<56
			low := (w - above*ones) &^ w & highs // the first one that is set is a byte below
			if low == 0 {
				p += 8
				continue
			}
			p += bits.TrailingZeros64(low) / 8
			if !class[text[p]] {
				return p
			}
			p++
		}
	}
	for p < len(text) && class[text[p]] {
		p++
	}
	return p
}

// lineEnd is where the line ends that p is in. Plain says that a text has no line end.
func lineEnd[T string | []byte](text T, p int, plain bool) int {
	if plain {
		return len(text)
	}
	n := -1
	switch text := any(text).(type) {
	case string:
		n = strings.IndexByte(text[p:], '\n')
	case []byte:
		n = bytes.IndexByte(text[p:], '\n')
	}
	if n < 0 {
		return len(text)
	}
	return p + n
}

// Match fills spans with the start and end of every group (-1 where it took no
// part), as regexp's FindSubmatchIndex does, and tells whether line fits. With
// stop >= 0 it ends as soon as that group has ended. The whole match is not filled in.
func (s *Steps) Match(line []byte, spans []int, stop int) bool {
	_, ok := match(s, line, 0, spans, stop, false)
	return ok
}

// MatchLine is Match for what has no line end in it, without a stop.
func (s *Steps) MatchLine(line []byte, spans []int) bool {
	if !s.skips {
		return matchLine(s.run, line, 0, spans)
	}
	_, ok := match(s, line, 0, spans, -1, true)
	return ok
}

// MatchFrom is MatchLine of what stands from a place on.
func (s *Steps) MatchFrom(line []byte, place int, spans []int) bool {
	return matchLine(s.run, line, place, spans)
}

// Find fills spans as regexp's FindStringSubmatchIndex does, and tells whether the pattern
// matches anywhere. Sure is false where finding out would take long: then only the regular
// expression knows.
func (s *Steps) Find(text string, spans []int) (ok, sure bool) {
	if s.lead == "" {
		end, ok := match(s, text, 0, spans, -1, false)
		spans[0], spans[1] = 0, end
		return ok, true
	}
	// A match that fails may have read far; so that all reading together is bounded by the
	// length of the text, so is how much of it may be read in vain.
	vain := 0
	for at := 0; ; {
		k := strings.Index(text[at:], s.lead)
		if k < 0 {
			return false, true
		}
		at += k
		end, ok := match(s, text, at, spans, -1, false)
		if ok {
			spans[0], spans[1] = at, end
			return true, true
		}
		if vain += end - at; vain > 4*len(text) {
			return false, false
		}
		at++
	}
}

// match matches from p on; end is how far it has read. Plain says that there is no line end.
func match[T string | []byte](s *Steps, line T, p int, spans []int, stop int, plain bool) (end int, ok bool) {
	if s.skips || stop >= 0 {
		for i := range spans {
			spans[i] = -1
		}
	}
	ops := s.run
	for i := 0; i < len(ops); i++ {
		op := &ops[i]
		switch op.kind {
		case stepGroup, stepRun:
			from := p
			if op.line {
				p = lineEnd(line, p, plain)
			} else {
				p = runEnd(line, p, op)
			}
			if p-from < op.min {
				return from, false
			}
			if op.kind == stepGroup {
				spans[2*op.group], spans[2*op.group+1] = from, p
				if op.group == stop {
					return p, true
				}
			}
			if op.then != "" {
				if !begins(line, p, op.then) {
					return p, false
				}
				p += len(op.then)
			}
		case stepLiteral:
			if !begins(line, p, op.text) {
				return p, false
			}
			p += len(op.text)
		case stepOne:
			if p >= len(line) || !op.class[line[p]] {
				return p, false
			}
			p++
		case stepOpen:
			spans[2*op.group] = p
		case stepShut:
			spans[2*op.group+1] = p
			if op.group == stop {
				return p, true
			}
		case stepMaybe:
			if p >= len(line) || !op.class[line[p]] {
				i = op.to - 1
			}
		case stepEnd:
			if p != len(line) {
				return p, false
			}
		}
	}
	return p, true
}

// begins tells whether a text goes on with a literal at p. Literals are short.
func begins[T string | []byte](line T, p int, text string) bool {
	if len(line)-p < len(text) {
		return false
	}
	for k := range len(text) {
		if line[p+k] != text[k] {
			return false
		}
	}
	return true
}
