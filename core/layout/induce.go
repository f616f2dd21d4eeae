package layout

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// Span is a stretch of a line in bytes, and the field that it is.
type Span struct {
	Start, End int
	Name       string
}

// Example is a line with the values that somebody pointed at.
type Example struct {
	Line string
	Is   []Span
	Not  []Span // values that are not to be found
}

// Induced is a pattern that was built from examples.
type Induced struct {
	Pattern string
	Parts   []Explained
	Fits    int // lines of the sample that it fits
	Kin     int // lines of the sample of the same shapes as those that were pointed at
}

// Explained is a part of a pattern, in words.
type Explained struct{ Part, Words string }

// Contradiction says why no pattern finds what was pointed at.
type Contradiction struct{ What, Mend string }

func (e *Contradiction) Error() string { return e.What + "; " + e.Mend }

// Induce builds a pattern that finds in each example the values that were pointed at,
// each whole, and none of those that are not meant. It is held by what stays the same
// around the values, and is no narrower than the lines of the sample allow that are of
// the same shape. It answers with a *Contradiction where there is none.
func Induce(examples []Example, sample []string) (Induced, error) {
	x := &induction{}
	for i, e := range examples {
		e.Is = slices.Clone(e.Is)
		slices.SortFunc(e.Is, func(a, b Span) int { return a.Start - b.Start })
		for k, s := range e.Is {
			if s.Start < 0 || s.End > len(e.Line) || s.Start >= s.End || k > 0 && s.Start < e.Is[k-1].End {
				return Induced{}, &Contradiction{fmt.Sprintf("on line %d two values overlap, or nothing is marked",
					i+1), "mark each value apart"}
			}
			if !named(s.Name) || strings.ContainsAny(s.Name, "-.") ||
				strings.IndexFunc(s.Name, func(r rune) bool { return r >= utf8.RuneSelf }) >= 0 {
				return Induced{}, &Contradiction{fmt.Sprintf("%q is no name for a part of a pattern", s.Name),
					"begin with a letter, and go on with letters, digits and _"}
			}
			if k > 0 && slices.ContainsFunc(e.Is[:k], func(o Span) bool { return o.Name == s.Name }) {
				return Induced{}, &Contradiction{fmt.Sprintf("on line %d two values are named %s", i+1, s.Name),
					"give each a name of its own"}
			}
		}
		if len(e.Is) > 0 {
			x.marked = append(x.marked, e)
		}
		if len(e.Not) > 0 {
			x.against = append(x.against, e)
		}
	}
	if len(x.marked) == 0 {
		return Induced{}, &Contradiction{"nothing is marked", "mark a value, and name it"}
	}
	if err := x.sameOrder(); err != nil {
		return Induced{}, err
	}
	x.findKin(sample)
	out, ok := x.build()
	if !ok {
		return Induced{}, x.contradiction()
	}
	out.Parts = Explain(out.Pattern)
	re := regexp.MustCompile(out.Pattern)
	for _, l := range sample {
		if re.MatchString(l) {
			out.Fits++
		}
	}
	out.Kin = len(x.kin)
	return out, nil
}

type induction struct {
	marked, against []Example
	kin             []string // lines of the same shapes
}

// sameOrder makes sure that the values stand in one order.
func (x *induction) sameOrder() error {
	for i, a := range x.marked {
		for k, b := range x.marked[:i] {
			for _, s := range a.Is {
				for _, t := range a.Is {
					u, v := spanOf(b, s.Name), spanOf(b, t.Name)
					if u != nil && v != nil && s.Start < t.Start && u.Start > v.Start {
						return &Contradiction{fmt.Sprintf("on line %d %s stands before %s, on line %d behind it", i+1,
							s.Name, t.Name, k+1), "make a pattern for each kind of line"}
					}
				}
			}
		}
	}
	return nil
}

func spanOf(e Example, name string) *Span {
	for i := range e.Is {
		if e.Is[i].Name == name {
			return &e.Is[i]
		}
	}
	return nil
}

// maxKin bounds how many lines of the sample a pattern is tried on.
const maxKin = 400

func (x *induction) findKin(sample []string) {
	shaper := NewShaper()
	for _, l := range sample {
		shaper.Add([]byte(l))
	}
	shapes := map[*Shape]bool{}
	for _, e := range x.marked {
		shapes[shaper.Add([]byte(e.Line))] = true
	}
	step := max(1, len(sample)/20_000)
	for i := 0; i < len(sample) && len(x.kin) < maxKin; i += step {
		if s := shaper.Add([]byte(sample[i])); shapes[s] {
			x.kin = append(x.kin, sample[i])
		}
	}
}

// names are the names of all values in their order.
func (x *induction) names() []string {
	var out []string
	for _, e := range x.marked {
		at := 0
		for _, s := range e.Is {
			if i := slices.Index(out, s.Name); i >= 0 {
				at = i + 1
			} else {
				out = slices.Insert(out, at, s.Name)
				at++
			}
		}
	}
	return out
}

// build tries patterns, from those that are held by little around the values to those
// that are held by more, and takes the first that finds all that was meant and nothing
// that was not.
func (x *induction) build() (Induced, bool) {
	names := x.names()
	var whole []Example // with all values marked
	for _, e := range x.marked {
		if len(e.Is) == len(names) {
			whole = append(whole, e)
		}
	}
	if len(whole) == 0 {
		return Induced{}, false
	}
	best, bestKin := "", -1
	for _, reach := range []struct{ left, right int }{{3, 1}, {5, 2}, {2, 3}, {8, 3}, {8, 6}, {100, 2}, {100, 100}} {
		p, kin, ok := x.attempt(names, whole, reach.left, reach.right)
		if ok && kin > bestKin {
			best, bestKin = p, kin
			if kin == len(x.kin) {
				break
			}
		}
		if ok && len(x.against) == 0 && reach.left == 8 {
			break
		}
	}
	return Induced{Pattern: best}, best != ""
}

// piece is a part of a pattern that is being built: a value, or what stands between
// values; forms are its ways to be written, from the narrowest on.
type piece struct {
	forms []string
	at    int
	value bool
}

// attempt builds a pattern with so many tokens on the left of the first value and on
// the right of the last one.
func (x *induction) attempt(names []string, whole []Example, left, right int) (string, int, bool) {
	var pieces []piece
	base := whole[0]
	first, last := base.Is[0], base.Is[len(base.Is)-1]
	// On the left.
	var lefts [][]string
	for _, e := range whole {
		t := tokens(e.Line[:e.Is[0].Start])
		if len(t) > left {
			t = t[len(t)-left:]
		}
		lefts = append(lefts, t)
	}
	n, begins := common(lefts, true)
	for i, t := range lefts {
		begins = begins && len(t) == n && len(tokens(whole[i].Line[:whole[i].Is[0].Start])) == n
	}
	if begins {
		pieces = append(pieces, piece{forms: []string{"^"}})
	}
	if n > 1 && !begins && tokenKind(lefts[0][len(lefts[0])-n]) == " " { // a blank holds nothing
		n--
	}
	for k := range n {
		var all []string
		for _, t := range lefts {
			all = append(all, t[len(t)-n+k])
		}
		pieces = append(pieces, piece{forms: tokenForms(all, k == 0 && !begins)})
	}
	for i, s := range base.Is {
		var values, after []string
		for _, e := range whole {
			values = append(values, e.Line[e.Is[i].Start:e.Is[i].End])
			after = append(after, e.Line[e.Is[i].End:])
		}
		pieces = append(pieces, piece{forms: valueForms(s.Name, values, after), value: true})
		if i+1 == len(base.Is) {
			break
		}
		var gaps [][]string
		for _, e := range whole {
			gaps = append(gaps, tokens(e.Line[e.Is[i].End:e.Is[i+1].Start]))
		}
		pieces = append(pieces, gapPieces(gaps)...)
	}
	// On the right.
	var rights [][]string
	for _, e := range whole {
		t := tokens(e.Line[e.Is[len(e.Is)-1].End:])
		rights = append(rights, t[:min(len(t), right)])
	}
	n, _ = common(rights, false)
	ends := true
	for i, e := range whole {
		ends = ends && len(tokens(e.Line[e.Is[len(e.Is)-1].End:])) == n
		_ = i
	}
	for k := range n {
		var all []string
		for _, t := range rights {
			all = append(all, t[k])
		}
		pieces = append(pieces, piece{forms: tokenForms(all, false)})
	}
	if ends {
		pieces = append(pieces, piece{forms: []string{"$"}})
	}
	_, _ = first, last
	return x.loosen(pieces)
}

// loosen writes the pieces as narrowly as the examples and the lines of the same shape
// allow.
func (x *induction) loosen(pieces []piece) (string, int, bool) {
	score := func() int { return x.score(written(pieces)) }
	best := score()
	for round := 0; round < 3; round++ {
		moved := false
		for i := range pieces {
			p := &pieces[i]
			was := p.at
			for at := was + 1; at < len(p.forms); at++ {
				p.at = at
				if s := score(); s > best {
					best, was, moved = s, at, true
				}
			}
			p.at = was
		}
		if !moved && best < 0 { // the first examples do not fit yet: widen all together
			for i := range pieces {
				if p := &pieces[i]; p.at+1 < len(p.forms) {
					p.at++
					moved = true
				}
			}
			best = score()
		}
		if !moved {
			break
		}
	}
	if best < 0 {
		return "", 0, false
	}
	return written(pieces), best, true
}

func written(pieces []piece) string {
	var b strings.Builder
	for _, p := range pieces {
		b.WriteString(p.forms[p.at])
	}
	return b.String()
}

// score is how many lines of the same shapes a pattern fits; below 0 where it does not
// find what was meant: the nearer to 0, the more of it.
func (x *induction) score(pattern string) int {
	re, err := regexp.Compile(pattern)
	if err != nil {
		return -1 << 20
	}
	bad := 0
	for _, e := range x.marked {
		m := re.FindStringSubmatchIndex(e.Line)
		for _, s := range e.Is {
			g := re.SubexpIndex(s.Name)
			if m == nil || g < 0 || m[2*g] != s.Start || m[2*g+1] != s.End {
				bad--
			}
		}
	}
	for _, e := range x.against {
		m := re.FindStringSubmatchIndex(e.Line)
		for _, s := range e.Not {
			for g := 1; m != nil && g <= re.NumSubexp(); g++ {
				if (s.Name == "" || re.SubexpNames()[g] == s.Name) && m[2*g] < s.End && m[2*g+1] > s.Start {
					bad--
				}
			}
		}
	}
	if bad < 0 {
		return bad
	}
	n := 0
	for _, l := range x.kin {
		if re.MatchString(l) {
			n++
		}
	}
	return n
}

// contradiction says for which value no pattern could be found, and why.
func (x *induction) contradiction() error {
	names := x.names()
	for _, n := range names {
		alone := &induction{against: x.against}
		for _, e := range x.marked {
			if s := spanOf(e, n); s != nil {
				alone.marked = append(alone.marked, Example{Line: e.Line, Is: []Span{*s}})
			}
		}
		if _, ok := alone.build(); ok {
			continue
		}
		if len(alone.marked) > 1 {
			a := alone.marked[0]
			for i, b := range alone.marked[1:] {
				pair := &induction{marked: []Example{a, b}, against: x.against}
				if _, ok := pair.build(); !ok {
					return &Contradiction{fmt.Sprintf("on line 1 %s is %s, on line %d it is %s: nothing that "+
						"stays the same stands beside both", n, placed(a), i+2, placed(b)),
						"mark one kind of line at a time; each gets a pattern of its own"}
				}
			}
		}
		if len(x.against) > 0 {
			return &Contradiction{fmt.Sprintf("%s cannot be told apart from a value that is not meant", n),
				"mark it on one more line, or mark what stands beside it as well"}
		}
		return &Contradiction{fmt.Sprintf("no pattern finds %s on every line", n), "mark one kind of line at a time"}
	}
	for i, a := range x.marked {
		if len(a.Is) < len(names) {
			continue
		}
		for k, b := range x.marked {
			for _, s := range b.Is {
				if one := spanOf(a, s.Name); k != i && one != nil {
					return &Contradiction{fmt.Sprintf("on line %d %s is %s, on line %d it is %s: no one pattern "+
						"finds both beside the other values", i+1, s.Name,
						placed(Example{Line: a.Line, Is: []Span{*one}}), k+1,
						placed(Example{Line: b.Line, Is: []Span{s}})),
						"mark one kind of line at a time; each gets a pattern of its own"}
				}
			}
		}
	}
	return &Contradiction{"the values do not stand together on any line", "mark all of them on one line"}
}

// placed says where a value stands, and what it is.
func placed(e Example) string {
	s := e.Is[0]
	v := e.Line[s.Start:s.End]
	n := len(strings.Fields(e.Line[:s.Start])) + 1
	if s.Start > 0 && e.Line[s.Start-1] != ' ' {
		n--
	}
	kind := "text"
	switch {
	case classREs[2].MatchString(v):
		kind = "a number"
	case classREs[6].MatchString(v):
		kind = "a name"
	}
	return fmt.Sprintf("in the %s word, %s (`%s`)", ordinal(max(n, 1)), kind, v)
}

func ordinal(n int) string {
	words := []string{"", "first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth",
		"tenth"}
	if n < len(words) {
		return words[n]
	}
	return fmt.Sprintf("%d.", n)
}
