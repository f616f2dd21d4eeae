package lang

import (
	"fmt"
	"net/netip"
	"regexp/syntax"
	"strconv"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/steps"
)

// cursor walks over the tokens of one clause. After the first mistake it stays
// failed, so that one mistake gives one message.
type cursor struct {
	file   *File
	toks   []token
	i      int
	kind   string // of the block
	failed bool
}

// over is the token behind a clause's last one, for messages.
func (c *cursor) over() token {
	last := c.toks[len(c.toks)-1]
	p := last.pos
	p.Col += len([]rune(last.src))
	p.off += len(last.src)
	return token{kind: end, pos: p}
}

func (c *cursor) peek() token {
	if c.failed || c.i >= len(c.toks) {
		return c.over()
	}
	return c.toks[c.i]
}

func (c *cursor) next() token {
	t := c.peek()
	if t.kind != end {
		c.i++
	}
	return t
}

func (c *cursor) more() bool { return !c.failed && c.i < len(c.toks) }

// accept takes the next token where it is that word or mark.
func (c *cursor) accept(src string) bool {
	if c.more() && c.peek().is(src) {
		c.i++
		return true
	}
	return false
}

func (c *cursor) fail(t token, code, what, mend string) {
	if c.failed {
		return
	}
	c.failed = true
	if t.kind == bad { // it has been told already
		return
	}
	c.file.report(Err, code, t, what, mend)
}

// expected fails with what should stand at t.
func (c *cursor) expected(t token, want, mend string) {
	if t.kind == end {
		c.fail(t, "incomplete", "the clause ends where "+want+" was expected", mend)
		return
	}
	c.fail(t, "syntax", want+" was expected, not "+visible(t.src), mend)
}

// done fails where something is left over.
func (c *cursor) done(mend string) {
	if c.more() {
		t := c.peek()
		if t.kind == bad {
			c.failed = true
			return
		}
		c.fail(t, "syntax", "the clause should end before "+visible(t.src), c.instead(t, mend))
	}
}

// instead is what to write instead of a clause that goes on at t, where what stands there
// says what was meant; else mend.
func (c *cursor) instead(t token, mend string) string {
	first := c.toks[0].src
	rest := ""
	if c.i+1 < len(c.toks) {
		rest = c.toks[c.i+1].src
	}
	switch {
	case t.is("at") && rest == "least":
		return "a comma stands before it: …, at least N"
	case t.is(",") && first == "clear" && (rest == "on" || rest == "after" || rest == "when" || rest == "by"):
		return "each way to clear is a clause of its own, on a line of its own: clear " + joined(c.toks[c.i+1:])
	case first == "raise" && t.is("without") && rest != "":
		return "write: raise " + c.toks[1].src + " after " + rest + " without"
	case first == "raise" && t.is("for"):
		return "for a value that stays so long beyond a bound: raise " + c.toks[1].src + " when min(FIELD) > 80 in " +
			orElse(rest, "5m") + "; for an alert that is open so long: raise " + c.toks[1].src + " after " +
			orElse(rest, "5m") + " open"
	case first == "raise" && (t.is("times") || t.is("hits")):
		return "the number stands alone: raise " + c.toks[1].src + " at " + c.toks[c.i-1].src + " in 10m"
	case first == "raise" && t.is(","):
		return "each raise is a clause of its own, on a line of its own: raise " + joined(c.toks[c.i+1:])
	case t.kind == name && clauses[c.kind][t.src] != nil:
		return t.src + " begins a clause of its own: write it on a line of its own"
	}
	return mend
}

func orElse(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

// joined are tokens as they would be written.
func joined(toks []token) string {
	var out []string
	for _, t := range toks {
		out = append(out, t.src)
	}
	return visible(strings.ReplaceAll(strings.Join(out, " "), " ,", ","))
}

func (c *cursor) text(what string) string {
	t := c.next()
	if t.kind != text {
		c.expected(t, what, `texts are quoted: "…"`)
	}
	return t.val
}

func (c *cursor) duration(what string) time.Duration {
	t := c.next()
	if t.kind != number {
		c.expected(t, what, "durations are written 250ms, 30s, 5m, 1h30m, 2d or 1w")
		return 0
	}
	d, err := entry.ParseDuration(t.src)
	if err != nil {
		mend := "write it like 250ms, 30s, 5m, 1h30m, 2d or 1w"
		if u := c.peek(); strings.Trim(t.src, "0123456789") == "" && u.kind == name && u.src != "" &&
			strings.ContainsRune("smhdw", rune(u.src[0])) {
			unit := u.src[:1]
			if strings.HasPrefix(u.src, "ms") || strings.HasPrefix(u.src, "milli") {
				unit = "ms"
			}
			mend = "write it as one: " + t.src + unit
		}
		c.fail(t, "bad-duration", err.Error(), mend)
	} else if d == 0 {
		c.fail(t, "bad-duration", what+" cannot be nothing", "write a duration of 1ms or more")
	}
	return d
}

func (c *cursor) fieldName(what string) string {
	t := c.next()
	if t.kind != name {
		c.expected(t, what, "a field's name begins with a letter, and stands without quotes")
		return ""
	}
	if contains(reserved, t.src) {
		c.fail(t, "bad-name", fmt.Sprintf("%q is a word of the language and no name", t.src),
			"give the field another name")
	}
	return t.src
}

// Reserved tells whether a word is no name.
func Reserved(word string) bool { return contains(reserved, word) }

// IsName tells whether a text is a name.
func IsName(s string) bool {
	toks, _, diags := lex("", []byte(s))
	return len(diags) == 0 && len(toks) == 2 && toks[0].kind == name && toks[0].src == s && !Reserved(s)
}

var reserved = []string{"and", "or", "not", "in", "has", "lacks", "is", "then", "within", "where", "from", "alerts",
	"all"}

// maxPattern bounds the length of a pattern in bytes.
const maxPattern = 4096

func (c *cursor) pattern(what string) *Pattern {
	t := c.next()
	if t.kind != regex {
		c.expected(t, what, "patterns stand between slashes: /…/")
		return nil
	}
	return c.compile(t)
}

func (c *cursor) compile(t token) *Pattern {
	if c.failed {
		return nil
	}
	src := t.val
	if t.flags != "" {
		src = "(?" + t.flags + ")" + src
	}
	if len(src) > maxPattern {
		c.fail(t, "bad-pattern", fmt.Sprintf("this pattern is %d bytes long, %d are the most", len(src), maxPattern),
			"divide it: several problem clauses count as one")
		return nil
	}
	if src == "" {
		c.fail(t, "bad-pattern", "an empty pattern fits every entry", "write what the entry says")
		return nil
	}
	tree, err := syntax.Parse(src, syntax.Perl)
	if err != nil {
		c.fail(t, "bad-pattern", "this pattern does not work: "+patternError(err), patternMend(src, err))
		return nil
	}
	names := tree.CapNames()
	p := &Pattern{Source: src, Pos: t.pos, tree: tree, names: names, steps: steps.CompileAnywhere(tree, names)}
	for _, g := range names {
		if g == "" {
			continue
		}
		if contains(p.Groups, g) {
			c.fail(t, "bad-pattern", fmt.Sprintf("two groups are named %q", g), "give each group a name of its own")
			return nil
		}
		p.Groups = append(p.Groups, g)
	}
	return p
}

// patternError puts the regexp package's reasons into words.
func patternError(err error) string {
	s := strings.TrimPrefix(err.Error(), "error parsing regexp: ")
	for from, to := range map[string]string{
		"missing closing )":                       "a ( is never closed",
		"missing closing ]":                       "a [ is never closed",
		"unexpected )":                            "a ) closes nothing",
		"missing argument to repetition":          "there is nothing before the * + or ? that could be repeated",
		"invalid repeat count":                    "a repetition goes up to 1000",
		"invalid nested repetition operator":      "two signs of repetition follow each other",
		"trailing backslash at end of expression": "it ends with a single \\",
		"invalid or unsupported Perl syntax":      "RE2 has no look-ahead, look-behind or back-reference",
		"expression nests too deeply":             "it nests too deeply",
		"expression too large":                    "it is too large",
	} {
		if strings.HasPrefix(s, from) {
			return to + strings.TrimPrefix(s, from)
		}
	}
	return s
}

func patternMend(src string, err error) string {
	switch s := err.Error(); {
	case strings.Contains(s, "Perl syntax") && strings.Contains(src, "(?!"):
		return "write what must not stand there as a clause of its own: problem /…/ and not /…/, or ignore /…/"
	case strings.Contains(s, "closing )"), strings.Contains(s, "unexpected )"):
		return `a parenthesis that is meant as such is written \( or \)`
	case strings.Contains(s, "closing ]"):
		return `a bracket that is meant as such is written \[`
	case strings.Contains(s, "repetition"):
		return `a sign that is meant as such is written \* \+ \?`
	}
	return "patterns have the RE2 syntax"
}

// expr reads an expression: or of and of not.
func (c *cursor) expr() Expr {
	parts := []Expr{c.and()}
	for c.accept("or") {
		parts = append(parts, c.and())
	}
	if len(parts) == 1 {
		return parts[0]
	}
	return &Or{parts}
}

func (c *cursor) and() Expr {
	parts := []Expr{c.not()}
	for c.accept("and") {
		parts = append(parts, c.not())
	}
	if len(parts) == 1 {
		return parts[0]
	}
	return &And{parts}
}

// maxNesting bounds how deep expressions nest.
const maxNesting = 200

func (c *cursor) not() Expr {
	if c.accept("not") {
		depth := 1
		for c.accept("not") {
			depth++
		}
		if depth > maxNesting {
			c.fail(c.peek(), "syntax", "this nests too deeply", "say it with fewer words")
		}
		x := c.primary()
		for range depth {
			x = &Not{x}
		}
		return x
	}
	return c.primary()
}

const exprMend = `an expression is /pattern/, "phrase", FIELD == VALUE, FIELD ~ /pattern/, FIELD in (…), has ` +
	`FIELD, lacks FIELD or is KIND`

func (c *cursor) primary() Expr {
	t := c.next()
	switch {
	case t.is("("):
		if c.depth(t) {
			return &Phrase{}
		}
		x := c.expr()
		if !c.accept(")") {
			c.expected(c.peek(), "and, or, or )", exprMend)
		}
		return x
	case t.kind == regex:
		return &Match{Pattern: c.compile(t), Pos: t.pos}
	case t.kind == text:
		if strings.TrimSpace(t.val) == "" && !c.failed {
			c.fail(t, "bad-phrase", "an empty phrase stands in every entry", "write the words to look for")
		}
		return &Phrase{Text: t.val, Pos: t.pos}
	case t.is("has"), t.is("lacks"):
		return &Has{Field: c.fieldName("a field's name"), Lacks: t.src == "lacks", Pos: t.pos}
	case t.is("is"):
		return c.kindOf(t)
	case t.kind == name && !contains(reserved, t.src):
		return c.comparison(t)
	case t.kind == number:
		c.fail(t, "syntax", fmt.Sprintf("%s alone says nothing about an entry", visible(t.src)),
			"a phrase is quoted: "+Quote(t.src))
		return &Phrase{}
	}
	c.expected(t, "an expression", exprMend)
	return &Phrase{}
}

// depth fails where parentheses nest too deeply.
func (c *cursor) depth(t token) bool {
	n := 0
	for _, x := range c.toks[:c.i] {
		switch {
		case x.is("("):
			n++
		case x.is(")"):
			n--
		}
	}
	if n > maxNesting {
		c.fail(t, "syntax", "parentheses nest too deeply", "say it with fewer of them")
	}
	return n > maxNesting
}

func (c *cursor) comparison(field token) Expr {
	t := c.peek()
	switch {
	case t.kind == op && (t.src == "~" || t.src == "!~"):
		c.next()
		p := c.pattern("a pattern")
		return &Match{Field: field.src, Neg: t.src == "!~", Pattern: p, Pos: field.pos}
	case t.kind == op:
		c.next()
		v := c.next()
		return &Compare{Field: field.src, Op: t.src, Value: c.value(v, t.src), Pos: field.pos}
	case t.is("in"):
		c.next()
		if !c.accept("(") {
			c.expected(c.peek(), "a ( with the values", "write: "+field.src+" in (VALUE, VALUE, 10..19)")
		}
		x := &In{Field: field.src, Pos: field.pos}
		for !c.failed {
			x.Values = append(x.Values, c.value(c.next(), "in"))
			if c.accept(")") {
				return x
			}
			if !c.accept(",") {
				c.expected(c.peek(), ", or )", "write: "+field.src+" in (VALUE, VALUE, 10..19)")
			}
		}
		return x
	case t.is("not"):
		c.fail(t, "syntax", "not stands before what it negates", "write: not "+field.src+" in (…)")
	case t.kind == end, t.is("and"), t.is("or"), t.is(")"):
		c.fail(field, "syntax", fmt.Sprintf("%q alone says nothing about an entry", field.src),
			fmt.Sprintf("a phrase is quoted: %s; that a field is there is: has %s", Quote(field.src), field.src))
	default:
		c.fail(t, "syntax", fmt.Sprintf("after the field %s a comparison was expected, not %s", field.src,
			visible(t.src)), "compare with ==, !=, <, <=, >, >=, ~, !~ or in (…)")
	}
	return &Phrase{}
}

// value reads one value to compare with; how is the comparison, or "in".
func (c *cursor) value(t token, how string) Value {
	v := Value{Src: t.src}
	equality := how == "==" || how == "!=" || how == "in"
	switch t.kind {
	case text:
		v.Kind, v.Text = TextValue, t.val
		return v
	case regex:
		c.fail(t, "bad-value", "a pattern is not compared with "+how, "write: FIELD ~ "+t.src)
		return v
	case name:
		v.Text = t.src
		if v.Level = entry.Level(t.src); v.Level > 0 {
			v.Kind = LevelValue
			return v
		}
		if (t.src == "true" || t.src == "false") && equality {
			v.Kind = TextValue
			return v
		}
		c.fail(t, "bad-value", fmt.Sprintf("%s is neither a number nor the name of a level", visible(t.src)),
			"a text is quoted: "+Quote(t.src))
		return v
	case number:
		return c.numeric(t, how)
	}
	c.expected(t, "a value", `a value is 42, 1.5, 10 MB, 5m, "text", warning or 10.0.0.1`)
	return v
}

func (c *cursor) numeric(t token, how string) Value {
	v := Value{Src: t.src}
	if lo, hi, ok := strings.Cut(t.src, ".."); ok {
		if how != "in" {
			c.fail(t, "bad-value", "a range stands in a list", "write: FIELD in ("+t.src+")")
			return v
		}
		var okLo, okHi bool
		v.Kind = RangeValue
		v.Number, okLo = entry.ParseNumber(lo)
		v.Upper, okHi = entry.ParseNumber(hi)
		if !okLo || !okHi {
			c.fail(t, "bad-value", visible(t.src)+" is no range of numbers",
				"a range is written 10..19, both ends included")
		} else if v.Number.Compare(v.Upper) > 0 {
			c.fail(t, "bad-value", "this range is empty: its first number is the greater one", "write: "+hi+".."+lo)
		}
		return v
	}
	if n, ok := entry.ParseNumber(t.src); ok {
		// A unit may stand apart from its number: 10 MB.
		if u := c.peek(); u.kind == name && u.pos.Line == t.pos.Line && isUnit(u.src) {
			c.next()
			if n, ok = entry.ParseNumber(t.src + u.src); ok {
				v.Src = t.src + " " + u.src
			}
		}
		v.Kind, v.Number = NumberValue, n
		return v
	}
	if d, err := entry.ParseDuration(t.src); err == nil {
		v.Kind, v.Duration = DurationValue, d
		return v
	}
	if at, err := time.Parse(time.RFC3339Nano, t.src); err == nil {
		v.Kind, v.Time = TimeValue, entry.Of(at)
		return v
	}
	if a, err := netip.ParseAddr(t.src); err == nil {
		v.Kind, v.Net = AddressValue, netip.PrefixFrom(a, a.BitLen())
		if how != "==" && how != "!=" && how != "in" {
			c.fail(t, "bad-value", "addresses are not more or less than each other",
				"compare with ==, != or in (10.0.0.0/8)")
		}
		return v
	}
	if n, err := netip.ParsePrefix(t.src); err == nil {
		v.Kind, v.Net = NetValue, n
		if how != "in" {
			c.fail(t, "bad-value", "a net stands in a list", "write: FIELD in ("+t.src+")")
		}
		if n.Masked() != n && !c.failed {
			c.file.report(Finding, "net-bits", t, fmt.Sprintf("%s has bits behind its /%d", t.src, n.Bits()),
				"write: "+n.Masked().String())
		}
		return v
	}
	c.fail(t, "bad-value", visible(t.src)+" is no number, duration, time or address", "a text is quoted: "+
		Quote(t.src))
	return v
}

func isUnit(s string) bool {
	_, err := strconv.Atoi("0" + s)
	_, ok := entry.ParseNumber("0" + s)
	return err != nil && ok
}
