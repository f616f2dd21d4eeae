package lang

import (
	"fmt"
	"regexp"
	"strings"
	"time"

	"dimlantern/core/entry"
)

// readExpect stands in the table of clauses; readExpectBlock does its work.
func readExpect(*cursor, any) {}

func (f *File) readExpectBlock(c *clause, node any) {
	x := &Expect{Pos: c.toks[0].pos}
	cur := &cursor{file: f, toks: c.toks, i: 1}
	x.Title = cur.text("what is expected, as a text")
	cur.done(`write: expect "what is expected" {`)
	if c.body == nil {
		f.report(Err, "incomplete", c.toks[0], "this expect has no steps", `write: expect "three lows raise" { … }`)
		return
	}
	before := len(f.diags)
	kind := "expect"
	l, ofLayout := node.(*Layout)
	if ofLayout {
		kind = "expect of a layout"
	}
	f.readBlock(c.body, kind, x)
	if len(f.diags) == before && len(x.Steps) == 0 {
		f.report(Err, "incomplete", c.toks[0], "this expect has no steps",
			`feed it entries: at 10:00:00 "pump 7: pressure low", then say what should follow: then raised warning`)
	}
	if ofLayout {
		l.Expects = append(l.Expects, x)
	} else {
		r := node.(*Rule)
		r.Expects = append(r.Expects, x)
	}
}

func (c *cursor) step(kind string) Step {
	s := Step{Pos: c.toks[0].pos, Kind: kind}
	if n := s.Pos.Line; n >= 1 && n <= len(c.file.lines) {
		s.Line = strings.TrimSpace(c.file.lines[n-1])
	}
	return s
}

func (c *cursor) add(node any, s Step) {
	if !c.failed {
		x := node.(*Expect)
		x.Steps = append(x.Steps, s)
	}
}

var timeOfDay = regexp.MustCompile(`^(\d{1,2}):(\d\d)(?::(\d\d)(\.\d{1,9})?)?$`)

func readAt(c *cursor, node any) {
	s := c.step("at")
	const mend = `write: at 10:00:00 from "pump-03" "the text", or at +5m "the text"`
	t := c.next()
	if t.kind != number {
		c.expected(t, "a time of day or +D", mend)
	} else if d, ok := strings.CutPrefix(t.src, "+"); ok {
		var err error
		if s.At, err = entry.ParseDuration(d); err != nil {
			c.fail(t, "bad-duration", err.Error(), mend)
		}
		s.After = true
	} else if m := timeOfDay.FindStringSubmatch(t.src); m == nil {
		c.fail(t, "bad-time", visible(t.src)+" is no time of day", mend)
	} else {
		at, err := time.Parse("15:04:05.999999999", fmt.Sprintf("%02s:%s:%02s%s", m[1], m[2], m[3], m[4]))
		if err != nil {
			c.fail(t, "bad-time", visible(t.src)+" is no time of day", "times of day go from 00:00 to 23:59:59")
		}
		s.At = at.Sub(time.Date(0, 1, 1, 0, 0, 0, 0, time.UTC))
	}
	if c.accept("from") {
		s.From = c.text("a host's name")
	}
	if c.accept("with") {
		for {
			s.With = append(s.With, c.pair())
			if !c.accept(",") {
				break
			}
		}
	}
	s.Text = c.text("the entry's text")
	c.done(mend)
	c.add(node, s)
}

// pair reads FIELD V.
func (c *cursor) pair() entry.Field {
	f := entry.Field{Name: c.fieldName("a field")}
	switch t := c.next(); t.kind {
	case text:
		f.Value = t.val
	case number, name:
		f.Value = t.src
	default:
		c.expected(t, "a value", `write: FIELD "value"`)
	}
	return f
}

func readLine(c *cursor, node any) {
	s := c.step("line")
	s.Text = c.text("a whole line")
	if c.accept("from") {
		if !c.accept("path") {
			c.expected(c.peek(), "path", `write: line "…" from path "/var/log/…"`)
		}
		s.From = c.text("a path")
	}
	c.done(`write: line "WHOLE LINE" [from path "…"]`)
	c.add(node, s)
}

func readWait(c *cursor, node any) {
	s := c.step("wait")
	s.At = c.duration("a time")
	c.done("write: wait 30m")
	c.add(node, s)
}

func readBlind(c *cursor, node any) {
	s := c.step(c.toks[0].src)
	if c.accept("from") {
		s.From = c.text("a host's name")
	}
	c.done(`write: ` + s.Kind + `, or ` + s.Kind + ` from "HOST"`)
	c.add(node, s)
}

var changes = []string{"raised", "worsened", "repeated", "cleared", "reopened", "nothing"}

func readThen(c *cursor, node any) {
	s := c.step("then")
	t := c.next()
	const mend = `write: then raised warning pump "7", or then nothing`
	switch {
	case t.kind != name:
		c.expected(t, "what should have happened", mend)
	case !contains(changes, t.src):
		c.fail(t, "unknown-change", fmt.Sprintf("nothing is ever %q", visible(t.src)), meant(t.src, changes))
	}
	s.Change = t.src
	if s.Change == "nothing" {
		c.done("then nothing stands alone")
		c.add(node, s)
		return
	}
	if c.more() && c.peek().kind == name {
		if sev := entry.SeverityOf(c.peek().src); sev > 0 {
			s.Sev = sev
			c.next()
		}
	}
	for c.more() {
		c.accept(",")
		p := c.pair()
		if r, ok := c.file.reading.(*Rule); ok && !c.failed && r.Per != nil && !contains(r.Per, p.Name) {
			c.fail(c.toks[c.i-2], "unknown-field", fmt.Sprintf("%s is not in the key of %s", p.Name, r.Name),
				meant(p.Name, r.Per))
		}
		s.With = append(s.With, p)
	}
	c.add(node, s)
}

// readThenFields reads what a layout's expect says of a line: its fields, or that
// it does not fit.
func readThenFields(c *cursor, node any) {
	s := c.step("then")
	if len(c.toks) == 2 && c.peek().is("misfit") {
		s.Change = "misfit"
		c.add(node, s)
		return
	}
	s.Change = "fields"
	for {
		s.With = append(s.With, c.pair())
		if !c.accept(",") {
			break
		}
	}
	c.done(`write: then pump "7", state "low", or then misfit`)
	c.add(node, s)
}
