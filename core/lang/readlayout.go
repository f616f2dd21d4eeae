package lang

import (
	"fmt"
	"strings"
)

func readTime(c *cursor, node any) {
	l := node.(*Layout)
	spec := &TimeSpec{Pos: c.toks[0].pos}
	for {
		spec.Fields = append(spec.Fields, c.fieldName("the field that holds the time"))
		if !c.accept(",") {
			break
		}
	}
	const mend = `write: time at like "2026-11-24 05:32:28.114", or time at rfc3339`
	t := c.next()
	spec.How = t.src
	ex := c.peek()
	switch t.src {
	case "like":
		spec.Like = c.text("an example of the time")
		for _, word := range []string{"day", "month", "year"} {
			if c.accept(word) {
				spec.Order = word
				if !c.accept("first") {
					c.expected(c.peek(), "first", "write: day first, month first, or year first")
				}
				break
			}
		}
	case TimeRFC3339, TimeEpoch, TimeEpochMS:
		ex = t
	case TimeStrftime:
		spec.Like = c.text("the format")
	default:
		c.expected(t, "how the time is written", mend)
	}
	if !c.failed && c.file.env.Time != nil {
		if what, mend := c.file.env.Time(spec); what != "" {
			c.fail(ex, "bad-time-example", what, mend)
		}
	}
	c.done(mend)
	l.Time = spec
}

var (
	fieldTypes    = []string{"integer", "decimal", "time", "duration", "address", "boolean", "text"}
	durationUnits = []string{"ns", "us", "ms", "s", "m", "h", "d"}
)

func readType(c *cursor, node any) {
	l := node.(*Layout)
	f := c.fieldName("a field")
	t := c.next()
	switch {
	case t.kind != name:
		c.expected(t, "a type", "types are "+strings.Join(fieldTypes, ", "))
	case !contains(fieldTypes, t.src):
		c.fail(t, "unknown-type", fmt.Sprintf("there is no type %q", t.src), meant(t.src, fieldTypes))
	}
	if in := c.peek(); c.accept("in") {
		if t.src != "duration" {
			c.fail(in, "syntax", "only a duration has a unit", "leave the unit out")
		}
		u := c.peek()
		unit := c.fieldName("a unit")
		if unit = strings.Replace(unit, "µs", "us", 1); !c.failed && !contains(durationUnits, unit) {
			c.fail(u, "unknown-unit", fmt.Sprintf("there is no unit %q", u.src), meant(u.src, durationUnits))
		}
		if l.Units == nil {
			l.Units = map[string]string{}
		}
		l.Units[f] = unit
	}
	c.done("write: type FIELD TYPE, or type FIELD duration in ms")
	if l.Types == nil {
		l.Types = map[string]string{}
	}
	l.Types[f] = t.src
}

func readFormat(c *cursor, node any) {
	l := node.(*Layout)
	if l.Format != "" {
		c.fail(c.toks[0], "two-formats", "a layout has one format", "keep one of them")
	}
	l.Format = c.toks[0].src
	c.done("the format stands alone")
}

func readPlain(c *cursor, _ any) { c.done("plain stands alone") }

func readPattern(c *cursor, node any) {
	l := node.(*Layout)
	t := c.peek()
	if p := c.pattern("a pattern"); p != nil {
		if len(p.Groups) == 0 {
			c.fail(t, "no-groups", "the pattern names no part of the line, so it gives no field",
				"name the parts: (?<at>…) (?<host>…) (?<text>…)")
		}
		l.Patterns = append(l.Patterns, p)
	}
	c.done("one pattern a clause; further ones in clauses of their own")
}

func readDelimited(c *cursor, node any) {
	const mend = `write: delimited "\t" columns at, host, text, or delimited "," header`
	d := &Delimited{}
	t := c.peek()
	if d.By = c.text("what stands between the columns"); d.By == "" && !c.failed {
		c.fail(t, "bad-delimiter", "columns need something between them", mend)
	}
	for c.more() {
		switch t := c.next(); t.src {
		case "columns":
			for {
				at := c.peek()
				f := c.fieldName("a column's name")
				if contains(d.Columns, f) {
					c.fail(at, "twice", fmt.Sprintf("two columns are named %s", f), "give each a name of its own")
				}
				d.Columns = append(d.Columns, f)
				if !c.accept(",") {
					break
				}
			}
		case "header":
			d.Header = true
		case "drop":
			d.Drop = c.text("the characters to drop")
		default:
			c.i--
			c.done(mend)
		}
	}
	if len(d.Columns) == 0 && !d.Header && !c.failed {
		c.fail(c.toks[0], "incomplete", "the columns have no names", mend)
	}
	node.(*Layout).Delimited = d
}

func readFind(c *cursor, node any) {
	const mend = `write: find in text /pump (?<pump>\d+)/`
	l := node.(*Layout)
	if !c.accept("in") {
		c.expected(c.peek(), "in", mend)
	}
	s := FieldStep{Pos: c.toks[0].pos, Kind: StepFind, Field: c.fieldName("a field")}
	t := c.peek()
	if s.Pattern = c.pattern("a pattern"); s.Pattern != nil && len(s.Pattern.Groups) == 0 {
		c.fail(t, "no-groups", "the pattern names no part of the field, so it gives no field",
			"name the part: (?<pump>…)")
	}
	c.done(mend)
	if !c.failed {
		l.Steps = append(l.Steps, s)
	}
}

func readMap(c *cursor, node any) {
	const mend = "write: map hostname to host"
	s := FieldStep{Pos: c.toks[0].pos, Kind: StepMap, Field: c.fieldName("a field")}
	if !c.accept("to") {
		c.expected(c.peek(), "to", mend)
	}
	t := c.peek()
	if s.To = c.fieldName("its new name"); s.To == s.Field && !c.failed {
		c.fail(t, "does-not-apply", fmt.Sprintf("%s has that name already", s.To), "take the clause out")
	}
	c.done(mend)
	if l := node.(*Layout); !c.failed {
		l.Steps = append(l.Steps, s)
	}
}

func readSet(c *cursor, node any) {
	const mend = `write: set site "north quay", or set place "{host} {bay}"`
	s := FieldStep{Pos: c.toks[0].pos, Kind: StepSet, Field: c.fieldName("a field"), To: c.text("its value")}
	c.done(mend)
	if l := node.(*Layout); !c.failed {
		l.Steps = append(l.Steps, s)
	}
}

func readLower(c *cursor, node any) {
	s := FieldStep{Pos: c.toks[0].pos, Kind: StepLower, Field: c.fieldName("a field")}
	c.done("write: lower FIELD")
	if l := node.(*Layout); !c.failed {
		l.Steps = append(l.Steps, s)
	}
}

func readMask(c *cursor, node any) {
	const mend = "write: mask card keep last 4, mask account as token, or mask /password=(?<secret>\\S+)/"
	m := Mask{Pos: c.toks[0].pos}
	if c.peek().kind == regex {
		m.Pattern = c.pattern("a pattern")
		c.done("a pattern stands alone")
	} else {
		m.Field = c.fieldName("a field, or a pattern")
		if c.accept("as") {
			if !c.accept("token") {
				c.expected(c.peek(), "token", mend)
			}
			m.Token = true
		}
		for c.more() && !m.Token && c.accept("keep") {
			switch t := c.next(); t.src {
			case "first":
				m.First = c.count("the number of characters")
			case "last":
				m.Last = c.count("the number of characters")
			default:
				c.expected(t, "first or last", mend)
			}
		}
		c.done(mend)
	}
	if l := node.(*Layout); !c.failed {
		l.Masks = append(l.Masks, m)
	}
}

func readInclude(c *cursor, node any) {
	l := node.(*Layout)
	t := c.next()
	if t.kind != name {
		c.expected(t, "a layout's name", "write: include NAME")
	}
	c.done("one layout a clause")
	if !c.failed {
		l.includes = append(l.includes, include{t.src, t, len(l.Patterns), len(l.Steps)})
	}
}

// readNames stands for readNamesClause in the list of clauses.
func readNames(*cursor, any) {}

// maxNames bounds how many values of a field can have a word.
const maxNames = 10_000

func (f *File) readNamesClause(c *clause, l *Layout) {
	const mend = `write: names event { 4310 "gate refused" }, or names event from file "events.csv"`
	cur := &cursor{file: f, toks: c.toks, i: 1}
	n := Names{Field: cur.fieldName("a field"), Words: map[string]string{}}
	if cur.accept("from") {
		if !cur.accept("file") {
			cur.expected(cur.peek(), "file", mend)
		}
		n.at = cur.peek()
		n.file = cur.text("a file's name")
	}
	cur.done(mend)
	for _, had := range l.Names {
		if had.Field == n.Field {
			f.report(Err, "twice", c.toks[0], "names for "+n.Field+" are written twice", "put them into one block")
		}
	}
	l.Names = append(l.Names, n)
	if n.file != "" && c.body == nil {
		return
	}
	if c.body == nil || len(c.body.clauses) == 0 {
		f.report(Err, "incomplete", c.toks[0], "no value has a word here", mend)
		return
	}
	for _, x := range c.body.clauses {
		cur := &cursor{file: f, toks: x.toks}
		t := cur.next()
		value := t.src
		switch t.kind {
		case text:
			value = t.val
		case number, name:
		default:
			cur.expected(t, "a value", mend)
		}
		word := cur.text("a word for it")
		cur.done("one value and its word a line")
		if _, twice := n.Words[value]; twice && !cur.failed {
			f.report(Err, "twice", t, fmt.Sprintf("%s has a word already", visible(value)), "keep one of them")
		}
		n.Words[value] = word
	}
	if len(n.Words) > maxNames {
		f.report(Err, "too-many", c.toks[0], fmt.Sprintf("%d values have words, and %d can", len(n.Words), maxNames),
			"leave out those that no rule and nobody needs")
	}
}
