package lang

import (
	"regexp/syntax"
	"strings"
)

// hides tells whether a pattern by which a layout masks covers what a group of another
// pattern captures. It is found on a made-up text that the other pattern fits, so that no is
// not sure.
func hides(mask, p *Pattern, group string) bool {
	re := p.Tree()
	if re == nil {
		return false
	}
	var b strings.Builder
	madeUp(&b, re)
	text := b.String()
	m := p.Re().FindStringSubmatchIndex(text)
	i := p.Re().SubexpIndex(group)
	if m == nil || i < 0 || m[2*i] < 0 || m[2*i] == m[2*i+1] {
		return false
	}
	from, to := m[2*i], m[2*i+1]
	for _, x := range mask.Re().FindAllStringSubmatchIndex(text, -1) {
		spans := x[:2]
		if len(x) > 2 {
			spans = x[2:]
		}
		for k := 0; k+1 < len(spans); k += 2 {
			if spans[k] >= 0 && spans[k] < to && from < spans[k+1] {
				return true
			}
		}
	}
	return false
}

// madeUp writes a text that a regular expression fits, but for what stands at its edges.
func madeUp(b *strings.Builder, re *syntax.Regexp) {
	switch re.Op {
	case syntax.OpLiteral:
		b.WriteString(string(re.Rune))
	case syntax.OpCharClass:
		b.WriteRune(memberOf(re))
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		b.WriteByte('x')
	case syntax.OpConcat, syntax.OpCapture:
		for _, sub := range re.Sub {
			madeUp(b, sub)
		}
	case syntax.OpAlternate:
		madeUp(b, re.Sub[0])
	case syntax.OpStar, syntax.OpPlus, syntax.OpQuest:
		madeUp(b, re.Sub[0])
	case syntax.OpRepeat:
		for range max(re.Min, 1) {
			madeUp(b, re.Sub[0])
		}
	}
}

// memberOf is a character of a class: a letter or a digit where it has one.
func memberOf(re *syntax.Regexp) rune {
	in := func(r rune) bool {
		for i := 0; i+1 < len(re.Rune); i += 2 {
			if re.Rune[i] <= r && r <= re.Rune[i+1] {
				return true
			}
		}
		return false
	}
	for _, r := range "x1X_- " {
		if in(r) {
			return r
		}
	}
	if len(re.Rune) > 0 {
		return re.Rune[0]
	}
	return 'x'
}

// lintMasks looks for what a rule takes of an entry that a mask hides.
func (k *checker) lintMasks(r *Rule, finding func(word, arg, code, what, mend string)) {
	told := map[string]bool{}
	tell := func(l *Layout, field string, m *Mask) {
		by := "mask " + m.Field
		mend := "mask " + m.Field + " as token"
		if m.Pattern != nil {
			by, mend = "mask /"+m.Pattern.Source+"/", "leave out of the mask what may be shown, or of the rule "+
				"what may not"
		}
		switch {
		case told[field], m.Token: // which says what stands there
		case contains(r.Per, field):
			told[field] = true
			if m.Pattern == nil {
				mend = "write in the layout " + l.Name + ": " + mend
			}
			finding("per", field, "masked-key", field+" is masked in the layout "+l.Name+" ("+by+
				"): a stand-in for its value is the key, and what is shown of it", mend)
		default:
			for word, text := range map[string]string{"say": r.Say, "advise": r.Advise} {
				for _, p := range Template(text) {
					if p.Field == field && !told[field] && !contains(r.Per, field) {
						told[field] = true
						finding(word, "", "masked-value", "{"+field+"} is masked in the layout "+l.Name+" ("+by+
							"): its text says *** or what the mask leaves of it", mend)
					}
				}
			}
		}
	}
	exprs := []Expr{r.Problem, r.Awaits, r.Once, r.Among, r.Recovery}
	for _, src := range k.settings.Sources {
		l := k.settings.Layout(src.LayoutName())
		if l == nil || len(r.On) > 0 && !contains(r.On, src.Name) {
			continue
		}
		for i := range l.Masks {
			m := &l.Masks[i]
			if m.Field != "" {
				tell(l, l.Resolve(m.Field), m)
				continue
			}
			for _, e := range exprs {
				Walk(e, func(part Expr, under bool) {
					x, ok := part.(*Match)
					if !ok || under || x.Neg {
						return
					}
					for _, g := range x.Pattern.Groups {
						if hides(m.Pattern, x.Pattern, g) {
							tell(l, g, m)
						}
					}
				})
			}
		}
	}
}
