package lang

import (
	"fmt"
	"regexp/syntax"
	"strings"
	"time"
	"unicode"

	"dimlantern/core/entry"
)

// lint tells what is doubtful in rules that run.
func (k *checker) lint() {
	for _, x := range k.settings.Sources {
		l := k.settings.Layout(x.LayoutName())
		for _, sf := range x.Fields {
			if l != nil && contains(l.Fields(), sf.Name) {
				k.at(k.file[x], x, "source", "field", sf.Name, Finding, "field-hidden",
					fmt.Sprintf("the layout %s gives a field %s as well: entries of %s have the source's",
						x.LayoutName(),
						sf.Name, x.Name),
					"give the source's another name, or the layout's: map "+sf.Name+" to …")
			}
		}
	}
	for _, r := range k.settings.Rules {
		f := k.file[r]
		finding := func(word, arg, code, what, mend string) {
			k.at(f, r, "rule", word, arg, Finding, code, what, mend)
		}
		if !r.OnRecovery && r.Quiet == 0 && !r.ByHand && r.Age == 0 && len(r.ClearWhens) == 0 && r.Awaits == nil &&
			!r.Eases() && len(r.Raises) > 0 {
			finding("", "", "no-way-to-clear", fmt.Sprintf("nothing ever clears an alert of %s", r.Name),
				"write: recovery /…/, clear after 30m quiet, or, where only a person can know, clear by hand")
		}
		k.whereItRuns(r)
		k.lintFields(r, finding)
		k.lintExprs(r)
		k.lintDurations(r)
		if r.Recovery != nil {
			if r.Problem != nil && r.Recovery.String() == r.Problem.String() {
				finding("recovery", "", "same-lines", "the recovery fits the same lines as the problem, so "+
					"nothing is ever a hit", "write what the entry says when it is over")
			}
			if g := disjoint(r); g != "" {
				finding("recovery", "", "recovery-never-agrees",
					fmt.Sprintf("what the recovery captures as %s never equals what the problem captures, so it "+
						"clears nothing", g), "make both patterns capture the same text")
			}
		}
		for i, a := range r.Raises {
			for j, b := range r.Raises {
				if !a.Hits() || !b.Hits() || a.Where != nil || b.Where != nil || a.Then != nil || b.Then != nil ||
					a.Different != b.Different {
					continue
				}
				if i != j && a.Severity < b.Severity && a.At >= b.At && (b.In == 0 || a.In > 0 && a.In <= b.In) {
					k.tell(f, Finding, "unreachable", a.Pos, len("raise"),
						fmt.Sprintf("%s is never shown: wherever %s holds, %s holds as well and is worse", a.Severity,
							a.Why(), b.Why()),
						"give the worse severity the higher threshold")
					break
				}
			}
			if a.Hits() && a.At > 1 && a.In == 0 && r.Recovery == nil {
				k.tell(f, Finding, "counts-for-ever", a.Pos, len("raise"),
					fmt.Sprintf("%s without a time, and no recovery that would start the count anew", a.Why()),
					fmt.Sprintf("write: raise %s at %d in 5m, or a recovery", a.Severity, a.At))
			}
		}
		k.lintWays(r, finding)
		if len(r.Expects) == 0 {
			finding("", "", "untested", fmt.Sprintf("no expect tests %s", r.Name),
				"write: expect \"…\" { at 10:00 \"an entry\"  then raised … }")
		}
	}
}

// lintWays looks at where entries of a rule come from, and who hears of it.
func (k *checker) lintWays(r *Rule, finding func(word, arg, code, what, mend string)) {
	s := k.settings
	if r.Recovery != nil && (contains(r.Per, "origin") || contains(r.Per, "source")) {
		a, b := sourceOf(r.Problem), sourceOf(r.Recovery)
		if a != "" && b != "" && a != b {
			finding("recovery", "", "recovery-elsewhere", fmt.Sprintf("the recovery comes from %s and the problem "+
				"from %s, so no key that has the %s agrees", b, a, r.Per[0]),
				"write per with fields that both sources give, such as: per host")
		}
	}
	if r.Shares() && r.Problem != nil {
		others := append(Captures(r.Among), Captures(r.Recovery)...)
		given, open := k.given(r)
		for _, p := range r.Per {
			if contains(Captures(r.Problem), p) && !contains(others, p) && !contains(given, p) &&
				(!open || len(s.Sources) == 0) {
				finding("per", p, "share-key", fmt.Sprintf("only the problem captures %s, so entries that are no "+
					"problem have no %s, and the share is always 100%%", p, p),
					fmt.Sprintf("capture %s in among as well, or in the layout", p))
			}
		}
	}
	for i := range r.Raises {
		x := &r.Raises[i]
		for _, src := range s.Sources {
			if on := len(r.On) == 0 || contains(r.On, src.Name); on && x.Without > 0 && src.Every >= x.Without {
				k.tell(k.file[r], Finding, "wait-too-short", x.Pos, len("raise"),
					fmt.Sprintf("the files of %s are looked at every %s only, so nothing can be heard sooner",
						src.Name, entry.Span(src.Every)),
					fmt.Sprintf("write: raise %s after %s without, or a shorter every", x.Severity,
						entry.Span(3*src.Every)))
			}
		}
		if beat := r.beat(); x.Without > 0 && r.Once == nil && beat >= x.Without {
			k.tell(k.file[r], Finding, "wait-too-short", x.Pos, len("raise"),
				fmt.Sprintf("its expect shows an awaited entry every %s, and the wait is no longer than that",
					entry.Span(beat)),
				fmt.Sprintf("write: raise %s after %s without", x.Severity, entry.Span(2*beat)))
		}
	}
	if len(r.Tells) == 0 && len(s.Tell) == 0 && len(k.names["contact"]) > 0 && !r.Off {
		finding("", "", "tells-nobody", fmt.Sprintf("nobody is told of %s", r.Name),
			fmt.Sprintf("write: tell %s, or in settings { tell … } for all rules that name nobody",
				k.names["contact"][0]))
	}
}

// beat is the shortest time between two entries of an expect in which nothing is
// raised: they stand for how often the awaited comes. 0 where none shows it.
func (r *Rule) beat() time.Duration {
	var out time.Duration
	for _, x := range r.Expects {
		at := time.Duration(-1)
		for _, s := range x.Steps {
			switch {
			case s.Kind == "then" && s.Change != "nothing":
				at = -1
			case s.Kind == "at" && s.After:
				if d := s.At; at >= 0 && (out == 0 || d < out) {
					out = d
				}
				at = 0
			case s.Kind == "at":
				if d := s.At - at; at >= 0 && d > 0 && (out == 0 || d < out) {
					out = d
				}
				at = s.At
			default:
				at = -1
			}
		}
	}
	return out
}

// sourceOf is the source that an expression asks for; "" where it asks for none.
func sourceOf(x Expr) string {
	switch x := x.(type) {
	case *Is:
		return sourceOf(x.Kind.Where)
	case *And:
		for _, p := range x.Of {
			if s := sourceOf(p); s != "" {
				return s
			}
		}
	case *Compare:
		if x.Field == "source" && x.Op == "==" {
			return x.Value.Text
		}
	}
	return ""
}

// given are the fields that the rule's sources give, and whether there may be more.
func (k *checker) given(r *Rule) ([]string, bool) {
	s := k.settings
	out, open := append([]string(nil), builtIn...), len(s.Sources) == 0
	for _, src := range s.Sources {
		if len(r.On) > 0 && !contains(r.On, src.Name) {
			continue
		}
		if l := s.Layout(src.LayoutName()); l != nil {
			out, open = append(out, l.Fields()...), open || l.Open()
		}
		for _, x := range src.Fields {
			out = append(out, x.Name)
		}
	}
	return out, open
}

// lintFields looks for fields that nothing gives, and captures that nothing uses.
func (k *checker) lintFields(r *Rule, finding func(word, arg, code, what, mend string)) {
	given, open := k.given(r)
	k.lintMasks(r, finding)
	captured := append(append(append(Captures(r.Problem), Captures(r.Awaits)...), Captures(r.Once)...),
		Captures(r.Among)...)
	all := append(append(append([]string(nil), given...), captured...), Captures(r.Recovery)...)
	check := func(word, field string, known []string) {
		if !contains(known, field) && !open {
			finding(word, field, "unknown-field", fmt.Sprintf("no layout of its sources gives the field %s, and "+
				"no group of this rule does", field), meant(field, known))
		}
	}
	used := map[string]bool{}
	for _, p := range r.Per {
		used[p] = true
		check("per", p, append(append([]string(nil), given...), captured...))
	}
	for i := range r.Raises {
		if f := r.Raises[i].Different; f != "" {
			used[f] = true
			check("raise", f, append(append([]string(nil), given...), captured...))
		}
	}
	for _, w := range r.Whens() {
		if w.Field != "" {
			used[w.Field] = true
			check("raise", w.Field, append(append([]string(nil), given...), captured...))
		}
	}
	for _, c := range r.Exprs() {
		Walk(c.Expr, func(part Expr, _ bool) {
			field := ""
			switch part := part.(type) {
			case *Match:
				field = part.Field
			case *Compare:
				field = part.Field
			case *In:
				field = part.Field
			case *Has:
				field = part.Field
			}
			if field != "" {
				used[field] = true
				known := append(append([]string(nil), given...), Captures(c.Expr)...)
				if c.Word == "raise" { // of hits, it sees what the problem captured
					known = append(known, captured...)
				}
				check(c.Word, field, known)
			}
		})
	}
	for _, t := range []string{r.Say, r.Advise} {
		word := "say"
		if t != r.Say {
			word = "advise"
		}
		for _, p := range Template(t) {
			if p.Field == "" {
				continue
			}
			used[p.Field] = true
			if r.Awaits != nil && p.Field != "span" && p.Field != "severity" && !contains(r.Per, p.Field) {
				finding(word, "", "no-value", fmt.Sprintf("{%s} has no value where something does not come: there "+
					"is no entry that could give it", p.Field), "{span} is how long it has been waited for, and the "+
					"fields of per are there")
				continue
			}
			if !contains(templateWords, p.Field) && !contains(all, p.Field) && !open {
				finding(word, "", "unknown-field", fmt.Sprintf("{%s} is no field that the rule or its layouts give",
					p.Field), meant(p.Field, append(all, templateWords...)))
			}
		}
	}
	for _, c := range Captures(r.Problem) {
		if !used[c] {
			finding("problem", "", "unused-capture", fmt.Sprintf("nothing uses the group %s", c),
				fmt.Sprintf("name it in per or say, or write (?:…) instead of (?<%s>…)", c))
		}
	}
}

var templateWords = []string{"count", "span", "first", "last", "severity"}

var builtIn = []string{"text", "origin", "host", "source", "channel", "provider", "event", "level", "account", "at",
	"arrived", "fits"}

// lintDurations tells of what a pattern captures as digits alone, and is compared with a
// duration: 120 is none, 120ms is.
func (k *checker) lintDurations(r *Rule) {
	f := k.file[r]
	bare := map[string]bool{}
	for _, x := range r.Exprs() {
		Walk(x.Expr, func(part Expr, _ bool) {
			switch p := part.(type) {
			case *Match:
				for _, g := range p.Pattern.Groups {
					bare[g] = digitsOnly(p.Pattern, g)
				}
			case *Compare:
				if p.Value.Kind == DurationValue && bare[p.Field] {
					k.tell(f, Finding, "never-a-duration", p.Pos, len(p.Field),
						p.Field+" is captured as digits alone, which are a number and no duration, so it never "+
							"compares", "capture its unit as well: (?<"+p.Field+">\\d+ms), or compare with a number")
				}
			}
		})
	}
	for _, w := range r.Whens() {
		if w.Value.Kind == DurationValue && bare[w.Field] {
			k.tell(f, Finding, "never-a-duration", w.Pos, len(w.Agg),
				w.Field+" is captured as digits alone, which are a number and no duration, so none of its values "+
					"counts", "capture its unit as well: (?<"+w.Field+">\\d+ms), or compare with a number")
		}
	}
}

// digitsOnly tells whether what a group captures can hold digits, signs and points alone.
func digitsOnly(p *Pattern, group string) bool {
	re := p.Tree()
	if re == nil {
		return false
	}
	found, only := false, true
	var within func(x *syntax.Regexp)
	within = func(x *syntax.Regexp) {
		switch x.Op {
		case syntax.OpLiteral:
			for _, r := range x.Rune {
				only = only && strings.ContainsRune("0123456789.,+-", r)
			}
		case syntax.OpCharClass:
			for i := 0; i+1 < len(x.Rune); i += 2 {
				only = only && (x.Rune[i] >= '0' && x.Rune[i+1] <= '9' || x.Rune[i] >= '+' && x.Rune[i+1] <= '.')
			}
		case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
			only = false
		}
		for _, s := range x.Sub {
			within(s)
		}
	}
	var look func(x *syntax.Regexp)
	look = func(x *syntax.Regexp) {
		if x.Op == syntax.OpCapture && x.Name == group {
			found = true
			within(x)
			return
		}
		for _, s := range x.Sub {
			look(s)
		}
	}
	look(re)
	return found && only
}

// lintExprs looks at the patterns themselves.
func (k *checker) lintExprs(r *Rule) {
	f := k.file[r]
	for _, c := range r.Exprs() {
		Walk(c.Expr, func(part Expr, _ bool) {
			var of []Expr
			switch x := part.(type) {
			case *And:
				of = x.Of
			case *Or:
				of = x.Of
			}
			seen := map[string]bool{}
			for _, x := range of {
				text := x.String()
				if seen[text] {
					k.tell(f, Finding, "said-twice", x.Place(), len([]rune(text)), fmt.Sprintf("%s stands in the %s "+
						"already", visible(text), c.Word), "take one of the two out")
				}
				seen[text] = true
			}
		})
	}
	for _, x := range []Expr{r.Problem, r.Recovery, r.Awaits, r.Once} {
		slow := x != nil && !hasLiteral(x)
		Walk(x, func(part Expr, _ bool) {
			m, ok := part.(*Match)
			if !ok {
				return
			}
			n := len(m.Pattern.Source) + 2
			if slow && m.Field == "" {
				slow = false
				k.tell(f, Finding, "slow-pattern", m.Pattern.Pos, n,
					"the pattern has no text that every fitting entry must hold, so every entry is tried against it",
					"add a word that these entries always have")
			}
			if num := bareNumber(m.Pattern); num != "" && !m.Neg {
				k.tell(f, Finding, "bare-number", m.Pattern.Pos, n,
					fmt.Sprintf("%s is also in a longer number such as 1%s7", num, num),
					fmt.Sprintf(`write \b%s\b, or the phrase "%s", which is whole words only`, num, num))
			}
		})
	}
}

// hasLiteral tells whether an entry must hold some fixed text for x to fit.
func hasLiteral(x Expr) bool {
	switch x := x.(type) {
	case *Is:
		return hasLiteral(x.Kind.Where)
	case *And:
		for _, p := range x.Of {
			if hasLiteral(p) {
				return true
			}
		}
		return false
	case *Or:
		for _, p := range x.Of {
			if !hasLiteral(p) {
				return false
			}
		}
		return true
	case *Match:
		return !x.Neg && x.Pattern != nil && Needs(x.Pattern) != nil
	case *Phrase:
		return true
	case *Compare:
		return x.Op == "==" && x.Value.Kind != DurationValue
	case *In:
		return true
	}
	return false
}

// bareNumber finds a number of two digits or more in a pattern that could stand
// inside a longer one: no letter, digit or \b beside it.
func bareNumber(p *Pattern) string {
	re := p.Tree()
	if re == nil {
		return ""
	}
	found := ""
	var scan func(*syntax.Regexp, bool, bool)
	scan = func(re *syntax.Regexp, openLeft, openRight bool) {
		switch re.Op {
		case syntax.OpLiteral:
			s := string(re.Rune)
			if strings.IndexFunc(s, func(r rune) bool { return !unicode.IsDigit(r) }) < 0 && len(s) >= 2 &&
				openLeft && openRight {
				found = s
			}
		case syntax.OpCapture:
			scan(re.Sub[0], openLeft, openRight)
		case syntax.OpAlternate:
			for _, x := range re.Sub {
				scan(x, openLeft, openRight)
			}
		case syntax.OpConcat:
			for i, x := range re.Sub {
				scan(x, openLeft && i == 0, openRight && i == len(re.Sub)-1)
			}
		}
	}
	scan(re, true, true)
	return found
}

// disjoint finds a field of the key that both patterns capture, and whose texts
// can never be equal, judged by the characters that they can begin with.
func disjoint(r *Rule) string {
	for _, g := range r.Per {
		a, b := firstRunes(r.Problem, g), firstRunes(r.Recovery, g)
		if a == nil || b == nil {
			continue
		}
		meet := false
		for i := 0; i+1 < len(a); i += 2 {
			for j := 0; j+1 < len(b); j += 2 {
				if a[i] <= b[j+1] && b[j] <= a[i+1] {
					meet = true
				}
			}
		}
		if !meet {
			return g
		}
	}
	return ""
}

// firstRunes gives the ranges of characters that a group can begin with; nil
// where that cannot be told, or where several patterns have the group.
func firstRunes(x Expr, group string) []rune {
	var out []rune
	n := 0
	Walk(x, func(part Expr, under bool) {
		m, ok := part.(*Match)
		if !ok || under || m.Neg || !contains(m.Pattern.Groups, group) {
			return
		}
		n++
		re := m.Pattern.Tree()
		if re == nil {
			return
		}
		if sub := findGroup(re, group); sub != nil {
			out = begins(sub)
		}
	})
	if n != 1 {
		return nil
	}
	return out
}

func findGroup(re *syntax.Regexp, group string) *syntax.Regexp {
	if re.Op == syntax.OpCapture && re.Name == group {
		return re.Sub[0]
	}
	for _, s := range re.Sub {
		if f := findGroup(s, group); f != nil {
			return f
		}
	}
	return nil
}

func begins(re *syntax.Regexp) []rune {
	switch re.Op {
	case syntax.OpLiteral:
		if re.Flags&syntax.FoldCase == 0 {
			return []rune{re.Rune[0], re.Rune[0]}
		}
	case syntax.OpCharClass:
		return re.Rune
	case syntax.OpPlus, syntax.OpCapture, syntax.OpConcat:
		return begins(re.Sub[0])
	case syntax.OpRepeat:
		if re.Min > 0 {
			return begins(re.Sub[0])
		}
	case syntax.OpAlternate:
		var out []rune
		for _, s := range re.Sub {
			b := begins(s)
			if b == nil {
				return nil
			}
			out = append(out, b...)
		}
		return out
	}
	return nil
}
