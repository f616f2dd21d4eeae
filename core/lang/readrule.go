package lang

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"
)

func readAmong(c *cursor, node any) {
	if x := c.whole(); !c.failed {
		node.(*Rule).Among = x
	}
}

func readAwaits(c *cursor, node any) {
	r := node.(*Rule)
	x := c.expr()
	if c.accept("from") {
		for {
			r.From = append(r.From, c.text("a host's name"))
			if !c.accept(",") {
				break
			}
		}
	}
	c.done(`write: awaits /…/ from "HOST", "HOST"`)
	if !c.failed {
		r.Awaits = x
	}
}

func readOnce(c *cursor, node any) {
	if x := c.whole(); !c.failed {
		node.(*Rule).Once = x
	}
}

func readEmpty(c *cursor, node any) {
	const mend = "write: empty counts as good, as bad, or as neither"
	if !c.accept("counts") || !c.accept("as") {
		c.expected(c.peek(), "counts as", mend)
	}
	node.(*Rule).Empty = c.oneOf("good, bad or neither", "good", "bad", "neither")
	c.done(mend)
}

func readBlindClause(c *cursor, node any) {
	const mend = "write: blind holds, or blind raises warning after 10m"
	r := node.(*Rule)
	switch t := c.next(); {
	case t.is("holds"):
	case t.is("raises"):
		r.Blind = c.severity()
		if c.accept("after") {
			r.BlindIn = c.duration("a time")
		}
	default:
		c.expected(t, "holds, or raises", mend)
	}
	c.done(mend)
}

func readReopen(c *cursor, node any) {
	if !c.accept("within") {
		c.expected(c.peek(), "within", "write: reopen within 5m")
	}
	node.(*Rule).Reopen = c.duration("a time")
	c.done("write: reopen within 5m")
}

func readUnless(c *cursor, node any) {
	const mend = "write: unless mast-down open, or unless mast-down open same host"
	r := node.(*Rule)
	if c.peek().is("taken") && len(c.toks) > c.i+1 && c.toks[c.i+1].is("in") {
		c.next()
		c.next()
		t := Tell{Pos: c.toks[0].pos, Untaken: c.duration("a time")}
		if !c.accept("tell") {
			c.expected(c.peek(), "tell", "write: unless taken in 30m tell CONTACT")
		}
		c.tell(r, t)
		return
	}
	t := c.next()
	u := Unless{Rule: t.src, pos: t}
	if t.kind != name {
		c.expected(t, "a rule's name", mend)
	}
	if !c.accept("open") {
		c.expected(c.peek(), "open", mend)
	}
	if c.accept("same") {
		for {
			u.Same = append(u.Same, c.fieldName("a field"))
			if !c.accept(",") {
				break
			}
		}
	}
	c.done(mend)
	if !c.failed {
		r.Unless = append(r.Unless, u)
	}
}

func readTell(c *cursor, node any) { c.tell(node.(*Rule), Tell{Pos: c.toks[0].pos}) }

var toldChanges = []string{"raised", "worsened", "repeated", "cleared", "reopened", "blind"}

// tell reads CONTACT, … [from SEV] [on CHANGE, …].
func (c *cursor) tell(r *Rule, t Tell) {
	const mend = "write: tell CONTACT, CONTACT from error on raised, cleared"
	for {
		n := c.next()
		if n.kind != name || contains(reserved, n.src) {
			c.expected(n, "a contact's name", mend)
		}
		t.Contacts = append(t.Contacts, n.src)
		t.names = append(t.names, n)
		if !c.accept(",") {
			break
		}
	}
	for c.more() {
		switch n := c.next(); {
		case n.is("from"):
			t.From = c.severity()
		case n.is("on"):
			t.On = append(t.On, c.changes()...)
		default:
			c.i--
			c.done(mend)
		}
	}
	if !c.failed {
		r.Tells = append(r.Tells, t)
	}
}

func readClock(c *cursor, node any) {
	node.(*Rule).Arrival = c.oneOf("entry or arrival", "entry", "arrival") == "arrival"
	c.done("write: clock entry, or clock arrival")
}

func readGrace(c *cursor, node any) {
	node.(*Rule).Grace = c.duration("a time")
	c.done("write: grace 30s")
}

func readDuring(c *cursor, node any) {
	const mend = "write: during mon-fri 08:00-18:00, or during 22:00-06:00"
	h, ok := c.span(mend)
	c.done(mend)
	if ok && !c.failed {
		r := node.(*Rule)
		r.During = append(r.During, h)
	}
}

// span reads [DAYS] HH:MM-HH:MM.
func (c *cursor) span(mend string) (Hours, bool) {
	h := Hours{Days: c.days()}
	if c.failed {
		return h, false
	}
	t := c.next()
	if c.peek().kind == bad { // it has been told already
		c.failed = true
		return h, false
	}
	from, to, ok := strings.Cut(t.src, "-")
	var good [2]bool
	h.From, good[0] = parseClock(from)
	h.To, good[1] = parseClock(to)
	switch {
	case t.kind != number:
		c.expected(t, "a span of time", mend)
	case !ok || !good[0] || !good[1]:
		c.fail(t, "bad-time", visible(t.src)+" is no span of time", mend)
	case h.From == h.To && h.From != 0:
		c.fail(t, "bad-time", visible(t.src)+" is a whole day, or nothing",
			"write 00:00-24:00 for a whole day, or leave the clause out")
	case h.To <= h.From:
		h.To += 24 * time.Hour
	}
	return h, !c.failed
}

// parseClock reads HH:MM[:SS].
func parseClock(s string) (time.Duration, bool) {
	m := timeOfDay.FindStringSubmatch(s)
	switch {
	case s == "24:00":
		return 24 * time.Hour, true
	case m == nil || m[4] != "":
		return 0, false
	}
	at, err := time.Parse("15:04:05", fmt.Sprintf("%02s:%s:%02s", m[1], m[2], m[3]))
	if err != nil {
		return 0, false
	}
	return at.Sub(time.Date(0, 1, 1, 0, 0, 0, 0, time.UTC)), true
}

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// days reads mon-fri, or mon, wed; nothing is every day.
func (c *cursor) days() Days {
	var out Days
	for c.more() && c.peek().kind == name {
		t := c.next()
		from, to, span := strings.Cut(t.src, "-")
		a, b := slices.Index(weekdays, from), slices.Index(weekdays, to)
		if !span {
			b = a
		}
		if a < 0 || b < 0 {
			if len(t.src) > 3 && slices.Contains(weekdays, t.src[:3]) && !span {
				c.fail(t, "unknown-day", fmt.Sprintf("%s is no day", visible(t.src)), "write: "+t.src[:3]+
					", or mon-fri for a span")
			}
			c.fail(t, "unknown-day", fmt.Sprintf("%s is no day", visible(t.src)), "days are "+
				strings.Join(weekdays, ", ")+"; write mon-fri, or mon, wed")
			return 0
		}
		for d := a; ; d = (d + 1) % 7 {
			out |= 1 << d
			if d == b {
				break
			}
		}
		if !c.accept(",") {
			break
		}
	}
	return out
}

func (c *cursor) severity() entry.Severity {
	t := c.next()
	if t.kind != name {
		c.expected(t, "a severity", "severities are "+strings.Join(entry.Severities, ", "))
		return 0
	}
	s := entry.SeverityOf(t.src)
	if s == 0 {
		c.fail(t, "unknown-severity", fmt.Sprintf("there is no severity %q", t.src), meant(t.src, entry.Severities))
	}
	return s
}

func readRaise(c *cursor, node any) {
	r := node.(*Rule)
	raise := Raise{Pos: c.toks[0].pos, At: 1, Severity: c.severity()}
	const mend = "write: raise warning, raise warning at 3 in 5m, raise error when avg(FIELD) > 5 in 10m, raise " +
		"error after 10m without, or raise critical after 1h open"
	word := c.toks[min(1, len(c.toks)-1)].src
	switch t := c.peek(); {
	case c.accept("when"):
		raise.When = c.when()
	case c.accept("after"):
		d := c.duration("a time")
		switch {
		case c.accept("without"):
			raise.Without = d
		case c.accept("open"):
			raise.Open, raise.Untaken = d, c.accept("untaken")
		default:
			mend := mend
			if !c.more() {
				mend = "an alert that has been open so long: raise " + word + " after " + entry.Span(d) +
					" open; a problem that is not over by then: once PROBLEM, awaits RECOVERY, raise " + word +
					" after " + entry.Span(d) + " without"
			}
			c.expected(c.peek(), "without or open", mend)
		}
	case c.accept("by"):
		t := c.next()
		at, ok := parseClock(t.src)
		if t.kind != number || !ok {
			c.fail(t, "bad-time", visible(t.src)+" is no time of day", "write: raise "+word+" by 06:00 without")
		}
		raise.By = &By{At: at}
		if c.accept("on") {
			raise.By.Days = c.days()
		}
		if !c.accept("without") {
			c.expected(c.peek(), "without", "write: raise "+word+" by "+t.src+" without for every day, or by "+t.src+
				" on mon-fri without")
		}
	case t.is("in"):
		c.fail(t, "syntax", "in D needs a number of hits before it", "write: raise "+word+" at 3 in 5m")
	case t.kind == number:
		c.fail(t, "syntax", "at is missing before "+visible(t.src), "write: raise "+word+" at "+t.src+" in 5m")
	default:
		c.threshold(&raise)
	}
	if c.more() && c.peek().is("within") {
		c.fail(c.peek(), "syntax", "a threshold counts in a time, not within one",
			"write in instead of within: raise "+word+" at 3 in 5m")
	}
	c.done(mend)
	if !c.failed {
		r.Raises = append(r.Raises, raise)
	}
}

// threshold reads [at N [different FIELD] [in D]] [where EXPR] [, then EXPR within D].
func (c *cursor) threshold(r *Raise) {
	if c.accept("at") {
		r.At = c.count("the number of hits")
		if c.accept("different") {
			r.Different = c.fieldName("a field")
		}
		if c.accept("in") {
			r.In = c.duration("a time")
		}
	}
	if c.accept("where") {
		r.Where = c.expr()
	}
	if c.accept(",") {
		if !c.accept("then") {
			mend := "write: raise error at 5 in 10m, then EXPR within 5m"
			if t := c.peek(); entry.SeverityOf(t.src) != 0 {
				mend = "each raise is a clause of its own, on a line of its own: raise " + joined(c.toks[c.i:])
			}
			c.expected(c.peek(), "then", mend)
		}
		r.Then = c.expr()
		if !c.accept("within") {
			c.expected(c.peek(), "within", "write: …, then EXPR within 5m")
		}
		r.Within = c.duration("a time")
	}
}

// when reads AGG OP NUMBER in D[, at least N][, K in a row | K of M].
func (c *cursor) when() *When {
	const mend = "write: count > 10 in 5m, avg(FIELD) >= 3.5 in 10m, or share >= 5% in 5m, at least 100, 3 in a row"
	w := &When{Pos: c.peek().pos}
	t := c.next()
	switch {
	case t.kind != name:
		c.expected(t, "a number over time", mend)
	case !contains(Aggregates, t.src):
		c.fail(t, "unknown-aggregate", fmt.Sprintf("there is no number over time called %q", t.src),
			meant(t.src, Aggregates))
	}
	w.Agg = t.src
	if (w.Agg == "count" || w.Agg == "share") && c.more() && c.peek().is("(") {
		c.fail(c.peek(), "syntax", w.Agg+" is of hits, and has no field", "write: "+w.Agg+
			" without ( ), or different(FIELD) for its values")
	}
	if w.Agg != "count" && w.Agg != "share" {
		if !c.accept("(") {
			c.expected(c.peek(), "( with a field", "write: "+w.Agg+"(FIELD)")
		}
		w.Field = c.fieldName("a field")
		if !c.accept(")") {
			c.expected(c.peek(), ")", "write: "+w.Agg+"(FIELD)")
		}
	}
	o := c.next()
	if o.kind != op || o.src == "~" || o.src == "!~" {
		c.expected(o, "a comparison", mend)
	}
	w.Op = o.src
	v := c.next()
	if v.kind != number {
		c.expected(v, "a number", mend)
		return w
	}
	w.Value = c.numeric(v, w.Op)
	percent := strings.HasSuffix(v.src, "%")
	switch {
	case c.failed:
	case w.Value.Kind == DurationValue && w.Field != "":
	case w.Value.Kind != NumberValue:
		c.fail(v, "bad-value", visible(v.src)+" is no number", mend)
	case w.Agg == "share" && !percent:
		c.fail(v, "bad-value", "a share is compared with a percentage",
			fmt.Sprintf("write: share %s %s%%", w.Op, v.src))
	case w.Agg != "share" && percent:
		c.fail(v, "bad-value", fmt.Sprintf("only a share is compared with a percentage, and %s is none", w.Agg),
			"leave the % out")
	}
	if !c.accept("in") {
		c.expected(c.peek(), "in", mend)
	}
	w.In = c.duration("a time")
	for c.more() && c.accept(",") {
		if c.accept("at") {
			if !c.accept("least") {
				c.expected(c.peek(), "least", mend)
			}
			w.AtLeast = c.count("the number of entries")
			continue
		}
		w.K = c.count("the number of periods")
		switch {
		case c.accept("of"):
			m := c.peek()
			w.M = c.count("the number of periods")
			if w.K > w.M && !c.failed {
				c.fail(m, "bad-number", fmt.Sprintf("%d of %d can never be", w.K, w.M),
					fmt.Sprintf("write: %d of %d", w.M, w.K))
			}
		case c.accept("in"):
			if !c.accept("a") || !c.accept("row") {
				c.expected(c.peek(), "a row", mend)
			}
			w.M, w.Row = w.K, true
		default:
			c.expected(c.peek(), "in a row, or of M", mend)
		}
		if w.M > 1000 && !c.failed {
			c.fail(c.toks[0], "bad-number", "periods go up to 1000", "write a smaller number, or longer periods")
		}
	}
	return w
}

func readClear(c *cursor, node any) {
	r := node.(*Rule)
	const mend = "write: clear on recovery, clear after 30m quiet, clear after 1d open, clear when share < 2% in " +
		"10m, or clear by hand"
	switch t := c.next(); {
	case t.is("on"):
		if !c.accept("recovery") {
			c.expected(c.peek(), "recovery", mend)
		}
		if c.accept("at") {
			r.RecoverAt = c.count("the number of recoveries")
			if c.accept("in") {
				r.RecoverIn = c.duration("a time")
			}
		}
		r.clearOn = &c.toks[0]
		r.OnRecovery = true
	case t.is("after"):
		d := c.duration("a time")
		switch {
		case c.accept("quiet"):
			if !c.failed && (r.Quiet == 0 || d < r.Quiet) {
				r.Quiet = d
			}
		case c.accept("open"):
			if !c.failed && (r.Age == 0 || d < r.Age) {
				r.Age = d
			}
		default:
			c.expected(c.peek(), "quiet or open", mend)
		}
	case t.is("by"):
		if !c.accept("hand") {
			c.expected(c.peek(), "hand", mend)
		}
		r.clearHand = &c.toks[0]
		r.ByHand = true
	case t.is("when"):
		if w := c.when(); !c.failed {
			r.ClearWhens = append(r.ClearWhens, *w)
		}
	default:
		c.expected(t, "on recovery, after … quiet, after … open, when …, or by hand", mend)
	}
	c.done(mend)
}
