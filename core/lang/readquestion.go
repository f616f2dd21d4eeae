package lang

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"
)

// Typed is the name of a question that stands in no settings file.
const Typed = "?"

// ParseQuestion reads the clauses of a question that stands in no block, as it is typed: one clause
// behind the other, in lines or not. Check makes of it the question [Typed].
func ParseQuestion(file, src string) *File {
	toks, lines, diags := lex(file, []byte(src))
	p := &parser{file: &File{Name: file, lines: lines, diags: diags}, toks: toks}
	first, last := toks[0], toks[len(toks)-1]
	b := &block{
		kind:     token{kind: name, src: "ask", pos: first.pos},
		name:     token{kind: name, src: Typed, pos: first.pos},
		open:     first,
		shut:     last,
		complete: true,
	}
	for p.peek().kind != end {
		switch t := p.peek(); {
		case t.kind == bad:
			p.next()
		case t.is("}"), t.is("{"):
			p.file.report(Err, "syntax", t, "a question that is typed has no braces", "take the "+t.src+" out")
			p.next()
		default:
			p.parseClause(b)
		}
	}
	p.file.blocks, p.file.born = []*block{b}, []*block{b}
	return p.file
}

// TypedText writes a question that was typed, one clause a line, in the canonical form.
func (f *File) TypedText() string {
	var p printer
	b := f.blocks[0]
	for i, c := range b.clauses {
		if i > 0 {
			p.b.WriteString("\n")
		}
		p.lead(c.toks[0], 0)
		p.clause(c, 0, 0)
	}
	return p.b.String()
}

// TypedClauses are the clauses of a question that was typed: the line of each, from 1, and its words.
func (f *File) TypedClauses() []ClausePlace { return f.blocks[0].place(len(f.lines)).Clauses }

// askWords are the words with which a clause of a question begins.
var askWords = []string{"on", "where", "ignore", "join", "reckon", "show", "per", "every", "over", "from", "beside",
	"having", "most", "least", "new", "note", "about", "off"}

// endsAsk tells whether a clause of a question ends before a token: it begins another one, and what
// stands there is complete without it.
func endsAsk(toks []token, t token) bool {
	if t.kind != name || !contains(askWords, t.src) {
		return false
	}
	last := toks[len(toks)-1]
	switch {
	case len(toks) == 1:
		return last.src == "off"
	case last.kind == op, last.continues():
		return false
	case last.kind == name:
		return !contains([]string{"has", "lacks", "is", "in", "by", "to", "as", "within", "than", "longer",
			"since"}, last.src) ||
			len(toks) > 1 && toks[len(toks)-2].is(",") ||
			named(toks)
	}
	return true
}

// named tells whether the last token, which could be a word that needs another, is a field's name where
// one was due: behind the clause's own word, or such a word.
func named(toks []token) bool {
	before := toks[len(toks)-2]
	if len(toks) == 2 {
		return contains([]string{"on", "per", "show", "about"}, before.src)
	}
	return contains([]string{"has", "lacks", "is", "by"}, before.src)
}

func readAskOn(c *cursor, node any) {
	q := node.(*Question)
	if c.peek().is("alerts") {
		c.next()
		q.Alerts = true
		if c.accept(",") {
			c.fail(c.toks[1], "syntax", "alerts and sources are not asked together", "write: on alerts, or on "+
				joined(c.toks[3:]))
		}
		c.done("alerts stand alone: on alerts")
		return
	}
	q.On = append(q.On, c.names("a source's name, or alerts")...)
	if contains(q.On, "alerts") {
		c.fail(c.toks[1], "syntax", "alerts and sources are not asked together", "write: on alerts, or on "+
			strings.Join(slices.DeleteFunc(slices.Clone(q.On), func(s string) bool { return s == "alerts" }), ", "))
	}
}

func readAskWhere(c *cursor, node any) {
	if x := c.whole(); !c.failed {
		node.(*Question).Where = x
	}
}

func readAskIgnore(c *cursor, node any) {
	if x := c.whole(); !c.failed {
		node.(*Question).Ignore = either(node.(*Question).Ignore, x)
	}
}

func readAskJoin(c *cursor, node any) {
	const mend = "write: join EXPR to EXPR by FIELD within 5m"
	j := &Join{First: c.expr()}
	if !c.accept("to") {
		c.expected(c.peek(), "to", mend)
	}
	j.Second = c.expr()
	if c.accept("by") {
		for {
			j.By = append(j.By, c.fieldName("a field"))
			if !c.accept(",") {
				break
			}
		}
	}
	if !c.accept("within") {
		c.expected(c.peek(), "within", mend)
	}
	j.Within = c.duration("a time")
	c.done(mend)
	if !c.failed {
		node.(*Question).Join = j
	}
}

func readAskReckon(c *cursor, node any) {
	const mend = "write: reckon FIELD as (FIELD / 1000)"
	q := node.(*Question)
	r := Reckon{Pos: c.toks[0].pos, Field: c.fieldName("the name of a field")}
	if !c.accept("as") {
		c.expected(c.peek(), "as", mend)
	}
	if !c.peek().is("(") {
		c.expected(c.peek(), "a calculation in ( )", mend)
		return
	}
	c.next()
	r.Calc = c.calc(0)
	if !c.accept(")") {
		c.expected(c.peek(), "+, -, *, / or )", mend)
	}
	c.done("a calculation stands in one pair of ( )")
	if q.Reckoned(r.Field) {
		c.fail(c.toks[1], "twice", r.Field+" is reckoned twice", "give one of them another name")
	}
	if !c.failed {
		q.Reckon = append(q.Reckon, r)
	}
}

// calc reads a sum of products.
func (c *cursor) calc(depth int) *Calc {
	if depth > 50 {
		c.fail(c.peek(), "syntax", "parentheses nest too deeply", "reckon a part of it as a field of its own")
		return &Calc{}
	}
	x := c.product(depth)
	for c.more() && (c.peek().src == "+" || c.peek().src == "-") && c.peek().kind == op {
		t := c.next()
		x = &Calc{Op: t.src, Parts: [2]*Calc{x, c.product(depth)}, Pos: t.pos}
	}
	return x
}

func (c *cursor) product(depth int) *Calc {
	x := c.factor(depth)
	for c.more() && (c.peek().src == "*" || c.peek().src == "/") && c.peek().kind == op {
		t := c.next()
		x = &Calc{Op: t.src, Parts: [2]*Calc{x, c.factor(depth)}, Pos: t.pos}
	}
	return x
}

func (c *cursor) factor(depth int) *Calc {
	switch t := c.next(); {
	case t.kind == op && t.src == "-" && depth < 50:
		return &Calc{Op: "neg", Parts: [2]*Calc{c.factor(depth + 1), nil}, Pos: t.pos}
	case t.is("("):
		x := c.calc(depth + 1)
		if !c.accept(")") {
			c.expected(c.peek(), "+, -, *, / or )", "close the parenthesis")
		}
		return x
	case t.kind == number:
		v := c.numeric(t, "==")
		if v.Kind != NumberValue && v.Kind != DurationValue {
			c.fail(
				t,
				"bad-value",
				visible(t.src)+" is no number and no duration",
				"write it like 1000, 0.5 or 250ms",
			)
		}
		return &Calc{Value: v, Pos: t.pos}
	case (t.is("length") || t.is("since")) && c.peek().is("("):
		c.next()
		x := &Calc{Op: t.src, Field: c.fieldName("a field"), Pos: t.pos}
		if !c.accept(")") {
			c.expected(c.peek(), ")", "write: "+t.src+"(FIELD)")
		}
		return x
	case t.kind == name:
		if contains(reserved, t.src) {
			c.fail(t, "bad-name", fmt.Sprintf("%q is a word of the language and no name", t.src),
				"give the field another name")
		}
		return &Calc{Field: t.src, Pos: t.pos}
	default:
		c.expected(t, "a field or a number", "write: reckon FIELD as (FIELD / 1000)")
	}
	return &Calc{}
}

func readAskShow(c *cursor, node any) {
	q := node.(*Question)
	for {
		t := c.peek()
		col := c.column()
		for _, x := range q.Show {
			if !c.failed && x.String() == col.String() {
				c.fail(t, "twice", col.String()+" is shown twice", "take one of the two out")
			}
		}
		q.Show = append(q.Show, col)
		if !c.accept(",") {
			break
		}
	}
	c.done("put a comma between columns")
	if c.failed {
		q.Show = nil
		return
	}
	for _, x := range q.Show {
		if x.Fn == "entries" && len(q.Show) > 1 {
			c.fail(
				c.toks[1],
				"does-not-apply",
				"the entries themselves stand alone",
				"write: show entries, or the "+
					"numbers without it",
			)
		}
	}
}

// column reads one column.
func (c *cursor) column() Column {
	t := c.next()
	col := Column{Pos: t.pos, Fn: t.src}
	switch {
	case t.kind != name:
		c.expected(t, "a column", "columns are "+strings.Join(ColumnWords(), ", "))
	case col.Fn == "gaps":
		if !c.accept("longer") || !c.accept("than") {
			c.expected(c.peek(), "longer than", "write: gaps longer than 1h")
		}
		col.Longer = c.duration("a time")
	case col.Fn == "share":
		if !c.accept("(") {
			c.expected(c.peek(), "( and an expression", "write: share(FIELD > 0.4)")
			break
		}
		col.Expr = c.expr()
		if !c.accept(")") {
			c.expected(c.peek(), "and, or, or )", "write: share(FIELD > 0.4)")
		}
	case contains(others, col.Fn):
	case contains(ofField, col.Fn):
		if !c.accept("(") {
			c.expected(c.peek(), "( and a field", "write: "+col.Fn+"(FIELD)")
			break
		}
		col.Field = c.fieldName("a field")
		if !c.accept(")") {
			c.expected(c.peek(), ")", "write: "+col.Fn+"("+col.Field+")")
		}
	default:
		mend := meant(col.Fn, ColumnWords())
		if !strings.HasPrefix(mend, "did") && !c.peek().is("(") {
			mend = "write: last(" + t.src + "), different(" + t.src + "), or count per " + t.src
		}
		c.fail(t, "unknown-column", fmt.Sprintf("%s is no column", visible(t.src)), mend)
	}
	return col
}

func readAskPer(c *cursor, node any) {
	q := node.(*Question)
	if c.peek().is("each") && len(c.toks) > 2 && c.toks[2].is("field") {
		c.next()
		c.next()
		q.Each = true
		c.done("each field stands alone: per each field")
		return
	}
	var r Rule
	readPer(c, &r)
	q.Per = r.Per
}

func readAskEvery(c *cursor, node any) {
	q := node.(*Question)
	t := c.peek()
	p := &Period{}
	switch {
	case c.accept("day"):
		p.D = Day
	case c.accept("week"), c.accept("month"):
		p.Unit = t.src
	default:
		p.D = c.duration("a duration, or day, week, month")
		switch {
		case p.D > Day && p.D%Day != 0:
			c.fail(
				t,
				"bad-duration",
				entry.Span(p.D)+" is more than a day and no whole days, so its periods would "+
					"begin at another time each day",
				"write every 12h, day, 2d, week or month",
			)
		case p.D == 7*Day && strings.HasSuffix(t.src, "w"):
			p.D, p.Unit = 0, "week"
		case p.D%time.Millisecond != 0:
			c.fail(t, "bad-duration", "periods are whole milliseconds", "write every 1s")
		}
	}
	c.done("write: every 10m, or every day, week, month")
	if !c.failed {
		q.Every = p
	}
}

func readAskOver(c *cursor, node any) { c.span1(node.(*Question), c.overWhat("over")) }

// span1 takes the span of a question, of which there is one.
func (c *cursor) span1(q *Question, o *Over) {
	if q.Over != nil {
		c.fail(c.toks[0], "twice", "the span is said twice: "+q.Over.String(), "keep one of them")
	}
	if !c.failed {
		q.Over = o
	}
}

func readAskFrom(c *cursor, node any) {
	o := &Over{From: c.time()}
	if !c.accept("to") {
		c.expected(c.peek(), "to", "write: from 2026-11-20 to 2026-11-21, or from 13:20 to 15:00")
	}
	o.To = c.time()
	c.done("write: from TIME to TIME")
	a, b := o.From, o.To
	if !c.failed && a.Is == b.Is && (a.Is == Instantly && a.At >= b.At || a.Is == OfDay && !a.Day.Before(b.Day) ||
		a.Is == OfClock && a.Clock == b.Clock) {
		mend := "the end comes behind the begin, and does not belong to the span"
		if a.Is == OfDay && a.Day.Equal(b.Day) {
			mend = "a day ends with the begin of the next: from " + a.Src + " to " +
				a.Day.AddDate(0, 0, 1).Format(time.DateOnly)
		}
		c.fail(c.toks[1], "empty-span", "from "+a.Src+" to "+b.Src+" is no time at all", mend)
	}
	c.span1(node.(*Question), o)
}

// time reads RFC 3339, a day or a time of day.
func (c *cursor) time() Time {
	t := c.next()
	out := Time{Src: t.src}
	if t.kind != number {
		c.expected(t, "a time", "times are written 2026-11-20T13:20:00Z, 2026-11-20 or 13:20")
		return out
	}
	if at, err := time.Parse(time.RFC3339Nano, t.src); err == nil {
		out.At = entry.Of(at)
		return out
	}
	if d, err := time.Parse(time.DateOnly, t.src); err == nil {
		out.Is, out.Day = OfDay, d
		return out
	}
	clock, ok := parseClock(t.src)
	if out.Is, out.Clock = OfClock, clock; !ok {
		c.fail(
			t,
			"bad-time",
			visible(t.src)+" is no time",
			"times are written 2026-11-20T13:20:00Z, 2026-11-20 or 13:20",
		)
	}
	return out
}

func readAskBeside(c *cursor, node any) {
	const mend = "write: beside 7d ago, or beside before"
	s := &Shift{}
	if !c.accept("before") {
		s.D = c.duration("a time, or before")
		if !c.accept("ago") {
			c.expected(c.peek(), "ago", mend)
		}
	} else {
		s.Before = true
	}
	c.done(mend)
	if !c.failed {
		node.(*Question).Beside = s
	}
}

func readAskHaving(c *cursor, node any) {
	const mend = "write: having count > 10"
	h := &Having{Column: c.column()}
	t := c.next()
	if t.kind != op || t.src == "~" || t.src == "!~" {
		c.expected(t, "a comparison", mend)
	}
	h.Op = t.src
	v := c.next()
	if v.kind != number {
		c.expected(v, "a number", mend)
	}
	if h.Value = c.value(v, t.src); !c.failed && h.Value.Kind != NumberValue && h.Value.Kind != DurationValue {
		c.fail(v, "bad-value", visible(v.src)+" is no number", mend)
	}
	if !c.failed && !h.Column.Numeric() {
		c.fail(c.toks[1], "does-not-apply", h.Column.String()+" is no number that could be compared", mend)
	}
	c.done(mend)
	if !c.failed {
		node.(*Question).Having = h
	}
}

func readAskMost(c *cursor, node any) {
	q := node.(*Question)
	m := &Most{Least: c.toks[0].is("least"), N: c.count("the number of groups")}
	if c.accept("by") {
		if c.peek().is("difference") {
			c.next()
			m.Difference = true
		} else {
			t := c.peek()
			col := c.column()
			if !c.failed && !col.Numeric() {
				c.fail(t, "does-not-apply", col.String()+" is no number", "write: "+c.toks[0].src+" 10 by count")
			}
			m.By = &col
		}
	}
	c.done("write: " + c.toks[0].src + " 10, or " + c.toks[0].src + " 10 by COLUMN")
	if q.Most != nil {
		c.fail(c.toks[0], "twice", "how many groups is said twice", "keep one of them")
	}
	if !c.failed {
		q.Most = m
	}
}

func readAskNew(c *cursor, node any) {
	const mend = "write: new since 7d ago"
	if !c.accept("since") {
		c.expected(c.peek(), "since", mend)
	}
	d := c.duration("a time")
	if !c.accept("ago") {
		c.expected(c.peek(), "ago", mend)
	}
	c.done(mend)
	if !c.failed {
		node.(*Question).New = d
	}
}

// TypedList writes the clauses of a question that was typed, each in the canonical form.
func (f *File) TypedList() []string {
	var out []string
	for _, c := range f.blocks[0].clauses {
		var p printer
		p.clause(c, 0, 0)
		out = append(out, p.b.String())
	}
	return out
}

// ClauseOrder is where a clause of a question stands among others.
func ClauseOrder(word string) int { return slices.Index(askWords, word) }
