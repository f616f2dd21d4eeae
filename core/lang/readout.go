package lang

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// What reports, measures and deliveries say, read clause by clause.

func readReportTitle(c *cursor, node any) {
	node.(*Report).Title = c.text("a title")
	c.done("a title is one text")
}

func readReportAsk(c *cursor, node any) {
	r := node.(*Report)
	for _, n := range c.names("a question's name, or handover") {
		if contains(r.Asks, n) {
			c.fail(c.toks[0], "twice", n+" is asked twice", "take one of the two out")
		}
		r.Asks = append(r.Asks, n)
	}
}

const scheduleMend = "write: every day at 07:00, every mon at 07:00, every mon-fri at 18:00, every month on 1 at " +
	"06:00, or every 6h"

func readReportEvery(c *cursor, node any) {
	s := &Schedule{}
	t := c.peek()
	switch {
	case t.kind == number:
		s.D = c.duration("a duration")
		if !c.failed && (s.D < time.Minute || s.D > Day || Day%s.D != 0) {
			c.fail(t, "bad-duration", visible(t.src)+" does not divide a day, so it would be due at other times "+
				"each day", "write every 1h, 2h, 3h, 4h, 6h, 8h or 12h, or every day at 07:00")
		}
	case c.accept("day"):
	case c.accept("month"):
		s.Month = 1
		if c.accept("on") {
			t := c.peek()
			if s.Month = c.count("the day of the month"); !c.failed && s.Month > 31 {
				c.fail(t, "bad-number", "no month has so many days", "write a day from 1 to 31; in a shorter month "+
					"it is the last one")
			}
		}
	default:
		if s.Days = c.days(); s.Days == 0 && !c.failed {
			c.expected(t, "day, a day of the week, month, or a duration", scheduleMend)
		}
	}
	if at := c.peek(); c.accept("at") {
		at = c.next()
		clock, ok := parseClock(at.src)
		if s.At = clock; !c.failed && (at.kind != number || !ok || clock >= Day) {
			c.fail(at, "bad-time", visible(at.src)+" is no time of day", "times of day are written 07:00")
		}
	}
	c.done(scheduleMend)
	if !c.failed {
		node.(*Report).Every = s
	}
}

func readReportCovers(c *cursor, node any) {
	if o := c.overWhat("covers"); !c.failed {
		node.(*Report).Covers = o
	}
}

func readReportAs(c *cursor, node any) {
	r := node.(*Report)
	for {
		t := c.peek()
		f := c.oneOf("a form", ReportForms...)
		if contains(r.As, f) {
			c.fail(t, "twice", f+" is written twice", "take one of the two out")
		}
		r.As = append(r.As, f)
		if !c.accept(",") {
			break
		}
	}
	c.done("write: as pdf, csv")
}

func readReportTell(c *cursor, node any) {
	r := node.(*Report)
	all := c.names("a contact's name")
	if c.failed {
		return
	}
	r.Tell = append(r.Tell, all...)
	for _, t := range c.toks[1:] {
		if t.kind == name {
			r.tells = append(r.tells, t)
		}
	}
}

func readReportWrite(c *cursor, node any) {
	node.(*Report).Write = c.rooted("a folder")
	c.done(`write: write "/srv/reports"`)
}

// rooted reads a path that begins with /.
func (c *cursor) rooted(what string) string {
	t := c.peek()
	path := c.text(what)
	if !c.failed && !strings.HasPrefix(path, "/") {
		c.fail(t, "relative-path", fmt.Sprintf("the path %s does not begin with /", Quote(path)),
			"write where it lies from the root")
	}
	return path
}

func readReportSkip(c *cursor, node any) {
	const mend = "write: skip when empty"
	if !c.accept("when") || !c.accept("empty") {
		c.expected(c.peek(), "when empty", mend)
	}
	c.done(mend)
	node.(*Report).Skip = true
}

func readReportKeep(c *cursor, node any) {
	t := c.peek()
	if t.kind == number && strings.TrimLeft(t.src, "0123456789") != "" {
		c.next()
		c.fail(t, "bad-number", "a report keeps a number of its results, and "+visible(t.src)+" is none",
			"write: keep 12; how long results of all reports stay is said in settings: keep results 90d")
		return
	}
	node.(*Report).Keep = c.count("the number of results")
	c.done("write: keep 12")
}

func readMeasureOn(c *cursor, node any) {
	m := node.(*Measure)
	m.On = append(m.On, c.sourceNames()...)
}

// sourceNames reads sources' names; all is nil.
func (c *cursor) sourceNames() []string {
	if c.peek().is("all") && len(c.toks) == 2 {
		c.next()
		return nil
	}
	list := c.names("a source's name, or all")
	if contains(list, "all") {
		c.fail(c.toks[0], "syntax", "all stands alone", "write: on all")
	}
	return list
}

func readMeasureWhere(c *cursor, node any) {
	if x := c.whole(); !c.failed {
		node.(*Measure).Where = either(node.(*Measure).Where, x)
	}
}

func readMeasureIgnore(c *cursor, node any) {
	if x := c.whole(); !c.failed {
		node.(*Measure).Ignore = either(node.(*Measure).Ignore, x)
	}
}

func readMeasurePer(c *cursor, node any) {
	var r Rule
	readPer(c, &r)
	node.(*Measure).Per = r.Per
}

func readMeasureShow(c *cursor, node any) {
	m := node.(*Measure)
	const mend = "write: show count, show sum(FIELD), show last(FIELD), or show spread(FIELD) at 0.2, 0.8, 3"
	if t := c.next(); t.kind != name || !contains(MeasureWords, t.src) {
		c.expected(t, "count, sum, last or spread", mend)
	} else {
		m.Fn = t.src
	}
	if m.Fn != "count" && !c.failed {
		if !c.accept("(") {
			c.expected(c.peek(), "( and a field", mend)
		}
		m.Field = c.fieldName("a field")
		if !c.accept(")") {
			c.expected(c.peek(), ")", mend)
		}
	}
	if m.Fn == "spread" && !c.failed {
		c.bounds(m, mend)
	}
	if c.more() && c.peek().is(",") {
		c.fail(c.peek(), "syntax", "a measure is one number", "write a measure of its own for the other one")
	}
	c.done(mend)
}

// bounds reads the bounds of a spread.
func (c *cursor) bounds(m *Measure, mend string) {
	if !c.accept("at") {
		c.expected(c.peek(), "at", mend)
	}
	for !c.failed {
		t := c.next()
		if t.kind != number {
			c.expected(t, "a number or a duration", mend)
			return
		}
		v := c.numeric(t, "==")
		var b float64
		switch r, ok := v.Number.Rat(); {
		case v.Kind == DurationValue:
			b = v.Duration.Seconds()
		case v.Kind == NumberValue && ok:
			b, _ = r.Float64()
		default:
			c.fail(t, "bad-value", visible(t.src)+" is no number and no duration", mend)
			return
		}
		if n := len(m.Bounds); n > 0 && b <= m.Bounds[n-1] {
			c.fail(t, "bad-value", "the bounds of a spread grow, and "+visible(t.src)+" does not", mend)
			return
		}
		if m.Bounds = append(m.Bounds, b); len(m.Bounds) > 100 {
			c.fail(t, "bad-number", "a spread has at most 100 bounds", "leave some out")
			return
		}
		if !c.accept(",") {
			return
		}
	}
}

func readDeliverOn(c *cursor, node any) {
	d := node.(*Deliver)
	d.On = append(d.On, c.sourceNames()...)
}

func readDeliverWhere(c *cursor, node any) {
	if x := c.whole(); !c.failed {
		node.(*Deliver).Where = either(node.(*Deliver).Where, x)
	}
}

func readDeliverIgnore(c *cursor, node any) {
	if x := c.whole(); !c.failed {
		node.(*Deliver).Ignore = either(node.(*Deliver).Ignore, x)
	}
}

const toMend = `write: to syslog tls "HOST:6514", to otlp "https://HOST:4318", to files ` +
	`"/archive/{host}/{date}.log", or to nats "SUBJECT" at "nats://HOST:4222"`

func readDeliverTo(c *cursor, node any) {
	t := &node.(*Deliver).To
	switch kind := c.next(); {
	case kind.is("syslog"):
		t.Proto = c.oneOf("udp, tcp or tls", "udp", "tcp", "tls")
		t.Address = c.hostPort("collector.gullhaven.example:6514")
		t.Kind = kind.src
		c.trust(t)
		if t.Trust != "" && t.Proto != "tls" {
			c.fail(c.toks[0], "does-not-apply", t.Proto+" trusts nobody: it asks for no certificate",
				`write: to syslog tls "HOST:6514" trust "FILE"`)
		}
	case kind.is("otlp"):
		t.Address = c.url()
		t.Kind = kind.src
		c.trust(t)
	case kind.is("nats"):
		t.Kind = kind.src
		t.Subject = c.subject()
		if !c.accept("at") {
			c.expected(c.peek(), "at", toMend)
		}
		a := c.peek()
		t.Address = c.text("an address")
		scheme, host, _ := strings.Cut(t.Address, "://")
		if !c.failed && (scheme != "nats" && scheme != "tls" || host == "") {
			c.fail(a, "bad-address", Quote(t.Address)+" is no address of a broker",
				`write: at "nats://broker.gullhaven.example:4222", or tls:// where it speaks TLS`)
		}
		c.trust(t)
	case kind.is("files"):
		t.Kind = kind.src
		t.Path = c.outPath()
		c.fileWords(t)
	default:
		c.expected(kind, "syslog, otlp, files or nats", toMend)
	}
	c.done(toMend)
}

func (c *cursor) trust(t *Target) {
	if !c.accept("trust") {
		return
	}
	t.Trust = c.besideSettings("a file with certificates")
}

// subject reads a subject of NATS, which may hold fields.
func (c *cursor) subject() string {
	t := c.peek()
	s := c.text("a subject")
	if c.failed {
		return s
	}
	for _, token := range strings.Split(s, ".") {
		if token == "" || strings.ContainsAny(token, " \t\n*>") {
			c.fail(t, "bad-subject", Quote(s)+" is no subject to publish under",
				`write: "logs.{host}.{source}"; no part is empty, and none is * or >`)
			return s
		}
	}
	return s
}

// outPath reads where files are written to.
func (c *cursor) outPath() string {
	t := c.peek()
	path := c.rooted("a path")
	if c.failed {
		return path
	}
	for _, part := range strings.Split(strings.TrimPrefix(path, "/"), "/") {
		if part == ".." || part == "." || part == "" {
			c.fail(t, "bad-path", fmt.Sprintf("the path %s goes through %s", Quote(path), Quote(part)),
				`write: "/archive/{host}/{date}.log"`)
			return path
		}
	}
	if first, _, _ := strings.Cut(strings.TrimPrefix(path, "/"), "/"); strings.Contains(first, "{") {
		c.fail(t, "bad-path", "the first folder of the path comes from a field, so entries would say where in the "+
			"whole system it lies", `begin with a folder of its own: "/archive/{host}/{date}.log"`)
	}
	return path
}

// fileWords reads what follows the path of files.
func (c *cursor) fileWords(t *Target) {
	const mend = `write: to files "PATH" as json zstd by arrival new file after 1h, 100000 entries, 100 MB`
	if c.accept("as") {
		t.As = c.oneOf("lines, json or csv", "lines", "json", "csv")
	}
	t.Packed = c.accept("zstd")
	if c.accept("by") {
		if !c.accept("arrival") {
			c.expected(c.peek(), "arrival", mend)
		}
		t.Arrival = true
	}
	if !c.accept("new") {
		return
	}
	if !c.accept("file") || !c.accept("after") {
		c.expected(c.peek(), "file after", mend)
	}
	for !c.failed {
		c.newFile(t, mend)
		if !c.accept(",") {
			return
		}
	}
}

// newFile reads one of the bounds after which a new file is begun.
func (c *cursor) newFile(t *Target, mend string) {
	at := c.next()
	if at.kind != number {
		c.expected(at, "a time, a number of entries, or a size", mend)
		return
	}
	v := c.numeric(at, "==")
	n, whole := v.Number.Int()
	plain := strings.TrimLeft(v.Src, "0123456789") == ""
	switch {
	case c.failed:
	case v.Kind == DurationValue && v.Duration >= time.Second:
		t.NewAfter = v.Duration
	case v.Kind == NumberValue && whole && n > 0 && plain && c.accept("entries"):
		t.NewEntries = n
	case v.Kind == NumberValue && whole && n > 0 && !plain:
		t.NewSize = n
	default:
		c.fail(at, "bad-value", visible(v.Src)+" is no time of a second or more, no number of entries and no size",
			mend)
	}
}

func readDeliverBuffer(c *cursor, node any) {
	const mend = "write: buffer at most 2 GiB, or buffer at most 2 GiB, 1000000 entries"
	d := node.(*Deliver)
	if !c.accept("at") || !c.accept("most") {
		c.expected(c.peek(), "at most", mend)
	}
	t := c.next()
	if t.kind != number {
		c.expected(t, "a size", mend)
		return
	}
	v := c.numeric(t, "==")
	if n, ok := v.Number.Int(); !c.failed && (v.Kind != NumberValue || !ok || n < leastAtMost) {
		c.fail(t, "bad-size", fmt.Sprintf("%s is no size of a MiB or more", visible(v.Src)), mend)
	} else {
		d.Buffer = n
	}
	if c.accept(",") {
		d.Entries = int64(c.count("the number of entries"))
		if !c.accept("entries") {
			c.expected(c.peek(), "entries", mend)
		}
	}
	c.done(mend)
}

func readDeliverBegin(c *cursor, node any) {
	var s Source
	readBegin(c, &s)
	node.(*Deliver).Begin = s.Begin
}

func readMeasures(c *cursor, node any) {
	const mend = `write: measures listen "127.0.0.1:7424", measures to "http://HOST:4318" every 30s, or measures at ` +
		`most 20000 series`
	s := node.(*Settings)
	switch {
	case c.accept("listen"):
		s.Measures.Listen = c.listenPort("127.0.0.1:7424")
	case c.accept("to"):
		s.Measures.To, s.Measures.Every = c.url(), time.Minute
		if c.accept("every") {
			t := c.peek()
			if s.Measures.Every = c.duration("a time"); !c.failed && s.Measures.Every < time.Second {
				c.fail(t, "bad-duration", "measures are sent once a second at most", mend)
			}
		}
	case c.accept("at"):
		if !c.accept("most") {
			c.expected(c.peek(), "most", mend)
		}
		s.Measures.Most = c.count("the number of series")
		if !c.accept("series") {
			c.expected(c.peek(), "series", mend)
		}
	default:
		c.expected(c.peek(), "listen, to, or at most", mend)
	}
	c.done(mend)
}

// readStays reads how long something is kept: at most SIZE, or alerts, history, results D.
func readStays(c *cursor, node any) {
	stays := &node.(*Settings).Stays
	var into *time.Duration
	switch t := c.peek(); {
	case t.is("alerts"):
		into = &stays.Alerts
	case t.is("history"):
		into = &stays.History
	case t.is("results"):
		into = &stays.Results
	default:
		readAtMost(c, node)
		return
	}
	what := c.next()
	const mend = "write: keep alerts 180d, keep history 1y, keep results 90d, or keep at most 2 GiB"
	t := c.peek()
	d := c.duration("a time")
	switch {
	case c.failed:
	case d < Day:
		c.fail(t, "bad-duration", fmt.Sprintf("%s are kept for a day at least", what.src), mend)
	case *into != 0:
		c.fail(what, "twice", "how long "+what.src+" are kept is written twice", "keep one of them")
	default:
		*into = d
	}
	c.done(mend)
}

// overWhat reads a span behind the word of its clause.
func (c *cursor) overWhat(word string) *Over {
	mend := fmt.Sprintf("write: %s 24h, or %[1]s today, yesterday, this week, last week, this month or last month",
		word)
	if word == "over" {
		mend += ", or from TIME to TIME"
	}
	o := &Over{}
	t := c.peek()
	switch {
	case t.kind == number:
		o.D, o.Src = c.duration("a time"), t.src
	case c.accept("today"), c.accept("yesterday"):
		o.Named = t.src
	case c.accept("this"), c.accept("last"):
		u := c.next()
		if o.Named = t.src + " " + u.src; !slices.Contains(stretches, o.Named) {
			c.expected(u, "week or month", mend)
		}
	default:
		c.expected(t, "a duration, today, yesterday, this or last", mend)
	}
	c.done(mend)
	return o
}
