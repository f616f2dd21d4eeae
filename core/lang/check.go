package lang

import (
	"fmt"
	"regexp/syntax"
	"slices"
	"sort"
	"strings"
	"unicode"
)

// Check reads the blocks of all files into settings, and tells everything that
// is wrong or doubtful. A block with an error is left out; what names it is told
// so only where it does not exist at all. Check may be called with no files.
func Check(files []*File) (*Settings, []Diagnostic) {
	k := &checker{settings: &Settings{}, first: map[string]token{}, file: map[any]*File{}, tables: map[string][]byte{}}
	for _, f := range files {
		if f.isTable {
			k.tables[f.Name] = f.table
			continue
		}
		k.read(f)
	}
	sort.SliceStable(k.settings.Sources, func(i, j int) bool { return k.settings.Sources[i].Name < k.settings.Sources[j].Name })
	sort.SliceStable(k.settings.Layouts, func(i, j int) bool { return k.settings.Layouts[i].Name < k.settings.Layouts[j].Name })
	sort.SliceStable(k.settings.Rules, func(i, j int) bool { return k.settings.Rules[i].Name < k.settings.Rules[j].Name })
	k.resolve()
	k.lint()
	var ds []Diagnostic
	for _, f := range files {
		ds = append(ds, f.diags...)
	}
	ds = append(ds, k.diags...)
	sortDiagnostics(ds)
	return k.settings, ds
}

type checker struct {
	settings *Settings
	names    map[string][]string // kind → all names, also of blocks with errors
	first    map[string]token    // kind and name → where it was first
	file     map[any]*File       // node → its file
	tables   map[string][]byte   // files with words for values
	diags    []Diagnostic
}

// read makes the nodes of a file's blocks.
func (k *checker) read(f *File) {
	if k.names == nil {
		k.names = map[string][]string{}
	}
	for _, b := range f.blocks {
		kind := b.kind.src
		switch kind {
		case "source", "layout", "rule":
		case "settings":
			if b.name.src != "" {
				f.report(Err, "bad-name", b.name, "settings have no name", "write: settings {")
			}
			f.readBlock(b, kind, k.settings)
			continue
		case "contact", "hush", "group", "kit", "report", "deliver":
			f.report(Err, "not-in-this-version", b.kind, notYet+": "+kind, "take the block out, or put # before its lines")
			continue
		default:
			continue
		}
		if b.name.kind != name {
			if b.name.src == "" {
				f.report(Err, "bad-name", b.kind, article(kind)+" needs a name", "write: "+kind+" NAME {")
			}
			continue
		}
		if contains(reserved, b.name.src) {
			f.report(Err, "bad-name", b.name, fmt.Sprintf("%q is a word of the language and no name", b.name.src), "give it another name")
		}
		if kind == "layout" && (b.name.src == "plain" || contains(builtInLayouts, b.name.src)) {
			f.report(Err, "bad-name", b.name, fmt.Sprintf("the layout %s is built in", b.name.src), "give yours another name")
		}
		key := kind + " " + b.name.src
		if t, twice := k.first[key]; twice {
			f.report(Err, "twice", b.name, fmt.Sprintf("there is another %s %s, at %s", kind, b.name.src, t.pos), "give each its own name")
			continue
		}
		k.first[key] = b.name
		k.names[kind] = append(k.names[kind], b.name.src)
		var node any
		switch kind {
		case "source":
			node = &Source{Pos: b.name.pos, Name: b.name.src}
		case "layout":
			node = &Layout{Pos: b.name.pos, Name: b.name.src}
			f.reading = node
		case "rule":
			r := &Rule{Pos: b.name.pos, Name: b.name.src}
			for _, c := range b.clauses { // the steps of an expect look at the key
				if c.keyword() == "per" {
					quiet := &File{lines: f.lines}
					readPer(&cursor{file: quiet, toks: c.toks, i: 1}, r)
				}
			}
			f.reading = r
			node = r
		}
		f.readBlock(b, kind, node)
		f.reading = nil
		k.complete(f, b, node)
		if f.broken(b) {
			continue
		}
		k.file[node] = f
		switch n := node.(type) {
		case *Source:
			k.settings.Sources = append(k.settings.Sources, n)
		case *Layout:
			k.settings.Layouts = append(k.settings.Layouts, n)
		case *Rule:
			k.settings.Rules = append(k.settings.Rules, n)
		}
	}
}

// broken tells whether an error stands somewhere in the block of a layout.
func (k *checker) broken(l *Layout) bool {
	f := k.file[l]
	for _, b := range f.blocks {
		if b.kind.src == "layout" && b.name.src == l.Name && b.name.pos == l.Pos {
			return f.broken(b)
		}
	}
	return false
}

// broken tells whether an error stands somewhere in the block.
func (f *File) broken(b *block) bool {
	if !b.complete {
		return true
	}
	for _, d := range f.diags {
		if d.Weight == Err && d.Pos.off >= b.kind.pos.off && d.Pos.off <= b.shut.pos.off {
			return true
		}
	}
	return false
}

// complete tells what a block lacks, unless it has other errors.
func (k *checker) complete(f *File, b *block, node any) {
	if f.broken(b) {
		return
	}
	switch n := node.(type) {
	case *Source:
		k.completeSource(f, b, n)
	case *Rule:
		k.completeRule(f, b, n)
	}
}

func (k *checker) tell(f *File, w Weight, code string, p Pos, n int, what, mend string) {
	f.report(w, code, token{pos: p, src: strings.Repeat("x", max(1, n))}, what, mend)
}

// clause reports at the clause of b that begins with that word and names arg.
func (k *checker) clause(f *File, b *block, word, arg string, w Weight, code, what, mend string) {
	for _, c := range b.clauses {
		for _, t := range c.toks[1:] {
			if c.keyword() == word && (arg == "" || t.src == arg) {
				f.report(w, code, t, what, mend)
				return
			}
		}
	}
	f.report(w, code, b.name, what, mend)
}

// resolve looks up the names that blocks use of each other.
func (k *checker) resolve() {
	s := k.settings
	for _, l := range s.Layouts {
		k.words(l)
	}
	for _, l := range s.Layouts {
		k.spread(l, nil)
	}
	for _, l := range s.Layouts {
		k.whole(l)
	}
	s.Layouts = slices.DeleteFunc(s.Layouts, func(l *Layout) bool { return k.broken(l) })
	keep := s.Sources[:0]
	for _, x := range s.Sources {
		f := k.file[x]
		switch {
		case x.Layout == "" || x.Layout == "plain" || s.Layout(x.Layout) != nil: // those that are built in among them
			if l := s.Layout(x.Layout); l != nil && l.Time != nil && !l.Divides() && len(l.Steps) == 0 {
				k.at(f, x, "source", "layout", x.Layout, Err, "incomplete", fmt.Sprintf("the layout %s divides nothing, so there is no field %s", x.Layout, l.Time.Fields[0]), "write a pattern into it: pattern /^(?<at>\\S+ \\S+) (?<text>.*)$/")
				continue
			}
			keep = append(keep, x)
		case contains(k.names["layout"], x.Layout): // it has errors of its own
		default:
			k.at(f, x, "source", "layout", x.Layout, Err, "unknown-name", fmt.Sprintf("there is no layout %q", x.Layout),
				meant(x.Layout, append(append([]string{"plain"}, builtInLayouts...), k.names["layout"]...)))
		}
	}
	s.Sources = keep
	rules := s.Rules[:0]
	for _, r := range s.Rules {
		f, ok := k.file[r], true
		for _, on := range r.On {
			if s.Source(on) != nil {
				continue
			}
			ok = false
			if !contains(k.names["source"], on) {
				k.at(f, r, "rule", "on", on, Err, "unknown-name", fmt.Sprintf("there is no source %q", on), meant(on, k.names["source"]))
			}
		}
		if ok {
			rules = append(rules, r)
		}
	}
	s.Rules = rules
	k.shadows()
	s.Rules = slices.DeleteFunc(s.Rules, func(r *Rule) bool { return k.brokenRule(r) })
}

// brokenRule tells whether an error stands somewhere in the block of a rule.
func (k *checker) brokenRule(r *Rule) bool {
	f := k.file[r]
	for _, b := range f.blocks {
		if b.kind.src == "rule" && b.name.pos == r.Pos {
			return f.broken(b)
		}
	}
	return false
}

// at reports at a word of a clause of the block that node was made of.
func (k *checker) at(f *File, node any, kind, word, arg string, w Weight, code, what, mend string) {
	var nodeName string
	switch n := node.(type) {
	case *Source:
		nodeName = n.Name
	case *Layout:
		nodeName = n.Name
	case *Rule:
		nodeName = n.Name
	}
	for _, b := range f.blocks {
		if b.kind.src == kind && b.name.src == nodeName {
			k.clause(f, b, word, arg, w, code, what, mend)
			return
		}
	}
}

// lint tells what is doubtful in rules that run.
func (k *checker) lint() {
	for _, r := range k.settings.Rules {
		f := k.file[r]
		finding := func(word, arg, code, what, mend string) {
			k.at(f, r, "rule", word, arg, Finding, code, what, mend)
		}
		if !r.OnRecovery && r.Quiet == 0 && !r.ByHand && r.Age == 0 && len(r.ClearWhens) == 0 && r.Awaits == nil && !r.Eases() && len(r.Raises) > 0 {
			finding("", "", "no-way-to-clear", fmt.Sprintf("nothing ever clears an alert of %s", r.Name),
				"write: recovery /…/, clear after 30m quiet, or, where only a person can know, clear by hand")
		}
		k.lintFields(r, finding)
		k.lintExprs(r)
		if r.Recovery != nil {
			if r.Problem != nil && r.Recovery.String() == r.Problem.String() {
				finding("recovery", "", "same-lines", "the recovery fits the same lines as the problem, so nothing is ever a hit", "write what the entry says when it is over")
			}
			if g := disjoint(r); g != "" {
				finding("recovery", "", "recovery-never-agrees", fmt.Sprintf("what the recovery captures as %s never equals what the problem captures, so it clears nothing", g), "make both patterns capture the same text")
			}
		}
		for i, a := range r.Raises {
			for j, b := range r.Raises {
				if !a.Hits() || !b.Hits() || a.Where != nil || b.Where != nil || a.Then != nil || b.Then != nil || a.Different != b.Different {
					continue
				}
				if i != j && a.Severity < b.Severity && a.At >= b.At && (b.In == 0 || a.In > 0 && a.In <= b.In) {
					k.tell(f, Finding, "unreachable", a.Pos, len("raise"), fmt.Sprintf("%s is never shown: wherever %s holds, %s holds as well and is worse", a.Severity, a.Why(), b.Why()),
						"give the worse severity the higher threshold")
					break
				}
			}
			if a.Hits() && a.At > 1 && a.In == 0 && r.Recovery == nil {
				k.tell(f, Finding, "counts-for-ever", a.Pos, len("raise"), fmt.Sprintf("%s without a time, and no recovery that would start the count anew", a.Why()),
					fmt.Sprintf("write: raise %s at %d in 5m, or a recovery", a.Severity, a.At))
			}
		}
		if len(r.Expects) == 0 {
			finding("", "", "untested", fmt.Sprintf("no expect tests %s", r.Name), "write: expect \"…\" { at 10:00 \"an entry\"  then raised … }")
		}
	}
}

// lintFields looks for fields that nothing gives, and captures that nothing uses.
func (k *checker) lintFields(r *Rule, finding func(word, arg, code, what, mend string)) {
	s := k.settings
	given := append([]string(nil), builtIn...)
	open := len(s.Sources) == 0
	for _, src := range s.Sources {
		if len(r.On) > 0 && !contains(r.On, src.Name) {
			continue
		}
		if l := s.Layout(src.LayoutName()); l != nil {
			given = append(given, l.Fields()...)
			open = open || l.Open()
			for _, m := range l.Masks {
				if f := l.Resolve(m.Field); m.Field != "" && !m.Token && contains(r.Per, f) {
					finding("per", f, "masked-key", fmt.Sprintf("%s is masked, so values of it that look alike are counted together", f), fmt.Sprintf("write in the layout %s: mask %s as token", l.Name, m.Field))
				}
			}
		}
		for _, x := range src.Fields {
			given = append(given, x.Name)
		}
	}
	captured := append(append(append(Captures(r.Problem), Captures(r.Awaits)...), Captures(r.Once)...), Captures(r.Among)...)
	all := append(append(append([]string(nil), given...), captured...), Captures(r.Recovery)...)
	check := func(word, field string, known []string) {
		if !contains(known, field) && !open {
			finding(word, field, "unknown-field", fmt.Sprintf("no layout of its sources gives the field %s, and no group of this rule does", field), meant(field, known))
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
			if !contains(templateWords, p.Field) && !contains(all, p.Field) && !open {
				finding(word, "", "unknown-field", fmt.Sprintf("{%s} is no field that the rule or its layouts give", p.Field), meant(p.Field, append(all, templateWords...)))
			}
		}
	}
	for _, c := range Captures(r.Problem) {
		if !used[c] {
			finding("problem", "", "unused-capture", fmt.Sprintf("nothing uses the group %s", c), fmt.Sprintf("name it in per or say, or write (?:…) instead of (?<%s>…)", c))
		}
	}
}

var templateWords = []string{"count", "span", "first", "last", "severity"}

var builtIn = []string{"text", "origin", "host", "source", "channel", "provider", "event", "level", "account", "at", "arrived", "fits"}

// lintExprs looks at the patterns themselves.
func (k *checker) lintExprs(r *Rule) {
	f := k.file[r]
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
				k.tell(f, Finding, "slow-pattern", m.Pattern.Pos, n, "the pattern has no text that every fitting entry must hold, so every entry is tried against it", "add a word that these entries always have")
			}
			if num := bareNumber(m.Pattern.Source); num != "" && !m.Neg {
				k.tell(f, Finding, "bare-number", m.Pattern.Pos, n, fmt.Sprintf("%s is also in a longer number such as 1%s7", num, num), fmt.Sprintf(`write \b%s\b, or the phrase "%s", which is whole words only`, num, num))
			}
		})
	}
}

// hasLiteral tells whether an entry must hold some fixed text for x to fit.
func hasLiteral(x Expr) bool {
	switch x := x.(type) {
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
func bareNumber(src string) string {
	re, err := syntax.Parse(src, syntax.Perl)
	if err != nil {
		return ""
	}
	found := ""
	var scan func(*syntax.Regexp, bool, bool)
	scan = func(re *syntax.Regexp, openLeft, openRight bool) {
		switch re.Op {
		case syntax.OpLiteral:
			s := string(re.Rune)
			if strings.IndexFunc(s, func(r rune) bool { return !unicode.IsDigit(r) }) < 0 && len(s) >= 2 && openLeft && openRight {
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
		re, err := syntax.Parse(m.Pattern.Source, syntax.Perl)
		if err != nil {
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

// Part is a stretch of a template: a text, or the name of a field.
type Part struct{ Text, Field string }

// Template divides a text such as "Pump {pump} at {host}" into its parts. What
// is no {name} stays as it is.
func Template(s string) []Part {
	var out []Part
	text := ""
	for s != "" {
		i := strings.IndexByte(s, '{')
		if i < 0 {
			break
		}
		j := strings.IndexByte(s[i:], '}')
		if j < 0 {
			break
		}
		word := s[i+1 : i+j]
		if word == "" || strings.IndexFunc(word, func(r rune) bool { return !nameRune(r) }) >= 0 {
			text += s[:i+1]
			s = s[i+1:]
			continue
		}
		if text+s[:i] != "" {
			out = append(out, Part{Text: text + s[:i]})
		}
		out = append(out, Part{Field: word})
		text, s = "", s[i+j+1:]
	}
	if text+s != "" {
		out = append(out, Part{Text: text + s})
	}
	return out
}
