package lang

import (
	"regexp/syntax"
	"strings"
	"unicode/utf8"
)

// Literal is a text that an entry must hold for a pattern to fit. Where Fold is
// set, ASCII letters stand for their capitals as well; such a text has neither
// k nor s, which have a third form outside ASCII.
type Literal struct {
	Text string
	Fold bool
}

// Needs returns a set of literals of which every text that fits the pattern
// holds at least one; nil where there is no such set. The literals stand in the
// text as contiguous bytes; where one is folded, a text may have the Kelvin sign in the
// place of a k, and the long s in that of an s.
func Needs(p *Pattern) []Literal {
	re := p.Tree()
	if re == nil {
		return nil
	}
	a := analyse(re.Simplify())
	return a.choose()
}

// Choices returns all sets that Needs chooses from: of each of them, every text that fits the
// pattern holds at least one literal.
func Choices(p *Pattern) [][]Literal {
	re := p.Tree()
	if re == nil {
		return nil
	}
	return analyse(re.Simplify()).sets()
}

// maxAlternatives bounds the sets that alternations are multiplied out to.
const maxAlternatives = 32

// needs is what is known of a part of a pattern: all texts that it fits (exact),
// or a set of texts one of which stands in all that it fits (some). Both may be
// nil.
type needs struct {
	exact []Literal
	some  []Literal
	all   [][]Literal // of some, every such set that is known
}

// sets are all sets that are known.
func (n needs) sets() [][]Literal {
	out := n.all
	for _, set := range [][]Literal{usable(n.exact), usable(n.some)} {
		if set != nil {
			out = append(out, set)
		}
	}
	return out
}

// choose returns the better of the two sets.
func (n needs) choose() []Literal { return better(usable(n.exact), usable(n.some)) }

// usable writes folded literals in small letters, and refuses sets with a literal that is
// too short to search for. A folded k also stands for the Kelvin sign, an s for the long s.
func usable(set []Literal) []Literal {
	var out []Literal
	for _, l := range set {
		if l.Fold {
			best := ""
			for _, piece := range strings.FieldsFunc(l.Text, func(r rune) bool {
				return r >= utf8.RuneSelf
			}) {
				if len(piece) > len(best) {
					best = piece
				}
			}
			l.Text = strings.ToLower(best)
		}
		if len(l.Text) < 2 || strings.Contains(l.Text, "\n") { // line ends inside entries are not searched for
			return nil
		}
		out = append(out, l)
	}
	return out
}

// better prefers the set whose shortest literal is the longer one, then the
// smaller set.
func better(a, b []Literal) []Literal {
	switch {
	case a == nil:
		return b
	case b == nil:
		return a
	}
	la, lb := shortest(a), shortest(b)
	if min(lb, 16) > min(la, 16) || min(lb, 16) == min(la, 16) && len(b) < len(a) {
		return b
	}
	return a
}

func shortest(set []Literal) int {
	n := 1 << 20
	for _, l := range set {
		n = min(n, len(l.Text))
	}
	return n
}

func analyse(re *syntax.Regexp) needs {
	switch re.Op {
	case syntax.OpEmptyMatch, syntax.OpBeginLine, syntax.OpEndLine, syntax.OpBeginText, syntax.OpEndText,
		syntax.OpWordBoundary, syntax.OpNoWordBoundary:
		return needs{exact: []Literal{{}}}
	case syntax.OpLiteral:
		for _, r := range re.Rune {
			if r == utf8.RuneError {
				return needs{} // it also fits bytes that are no UTF-8
			}
		}
		return needs{exact: []Literal{{string(re.Rune), re.Flags&syntax.FoldCase != 0}}}
	case syntax.OpCharClass:
		n := 0
		for i := 0; i+1 < len(re.Rune); i += 2 {
			n += int(re.Rune[i+1]-re.Rune[i]) + 1
			if n > 10 {
				return needs{}
			}
		}
		var out []Literal
		for i := 0; i+1 < len(re.Rune); i += 2 {
			for r := re.Rune[i]; r <= re.Rune[i+1]; r++ {
				if r == utf8.RuneError {
					return needs{} // it also fits bytes that are no UTF-8
				}
				out = append(out, Literal{Text: string(r)})
			}
		}
		return needs{exact: out}
	case syntax.OpCapture:
		return analyse(re.Sub[0])
	case syntax.OpPlus:
		a := analyse(re.Sub[0])
		return needs{some: a.choose(), all: a.sets()}
	case syntax.OpQuest:
		if x := analyse(re.Sub[0]).exact; x != nil && len(x) < maxAlternatives/2 {
			return needs{exact: append([]Literal{{}}, x...)}
		}
	case syntax.OpAlternate:
		return alternate(re.Sub)
	case syntax.OpConcat:
		return concat(re.Sub)
	}
	return needs{}
}

func alternate(subs []*syntax.Regexp) needs {
	var n needs
	exact, some := true, true
	for _, s := range subs {
		a := analyse(s)
		if exact = exact && a.exact != nil; exact {
			n.exact = append(n.exact, a.exact...)
		}
		c := a.choose()
		if some = some && c != nil; some {
			n.some = append(n.some, c...)
		}
	}
	if !exact || len(n.exact) > maxAlternatives {
		n.exact = nil
	}
	if !some || len(n.some) > maxAlternatives {
		n.some = nil
	}
	return n
}

func concat(subs []*syntax.Regexp) needs {
	var best []Literal
	var all [][]Literal
	keep := func(set []Literal) {
		if set = usable(set); set != nil {
			best, all = better(best, set), append(all, set)
		}
	}
	run := []Literal{{}}
	whole := true
	for _, s := range subs {
		a := analyse(s)
		if a.exact != nil && len(run)*len(a.exact) <= maxAlternatives {
			run = cross(run, a.exact)
			continue
		}
		whole = false
		keep(run)
		run = []Literal{{}}
		switch {
		case a.exact != nil:
			run = a.exact
		case a.some != nil:
			keep(a.some)
			all = append(all, a.all...)
		}
	}
	if whole {
		return needs{exact: run}
	}
	keep(run)
	return needs{some: best, all: all}
}

func cross(a, b []Literal) []Literal {
	out := make([]Literal, 0, len(a)*len(b))
	for _, x := range a {
		for _, y := range b {
			fold := x.Fold || y.Fold
			out = append(out, Literal{x.Text + y.Text, fold})
		}
	}
	return out
}
