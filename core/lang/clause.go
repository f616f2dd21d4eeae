package lang

import (
	"fmt"
	"slices"
	"strings"
)

// clauses are the clauses of each kind of block, and what reads each.
var clauses map[string]map[string]func(*cursor, any)

func init() { // it refers to itself through the readers
	clauses = map[string]map[string]func(*cursor, any){
		"source": {
			"files": readFiles, "begin": readBegin, "layout": readSourceLayout, "host": readHost,
			"note": readNote, "about": readAbout, "off": readOff,
			"channel": readChannel, "message": readMessage, "account": readAccount, "listen": readListen,
			"command": readSourceCommand, "input": readInput,
			"entry": readEntry, "encoding": readEncoding,
			"zone": readZone, "field": readSourceField, "keep": readKeep, "only": readOnly,
			"for": readFor,
		},
		"layout": {
			"pattern": readPattern, "time": readTime, "type": readType, "plain": readPlain,
			"note": readNote, "about": readAbout, "off": readOff,
			"delimited": readDelimited, "json": readFormat, "logfmt": readFormat, "csv": readFormat,
			"clf": readFormat, "combined": readFormat, "w3c": readFormat,
			"syslog": readFormat, "event-xml": readFormat, "journal": readFormat, "find": readFind, "map": readMap,
			"set": readSet, "names": readNames,
			"lower": readLower, "mask": readMask, "include": readInclude, "expect": readExpect,
			"for": readFor,
		},
		"rule": {
			"on": readOn, "problem": readProblem, "recovery": readRecovery, "ignore": readIgnore, "per": readPer,
			"raise": readRaise, "clear": readClear, "remind": readRemind, "say": readSay, "advise": readAdvise,
			"note": readNote, "about": readAbout, "off": readOff, "expect": readExpect,
			"among": readAmong, "awaits": readAwaits, "once": readOnce, "empty": readEmpty, "blind": readBlindClause,
			"reopen": readReopen, "unless": readUnless,
			"during": readDuring, "tell": readTell, "clock": readClock, "grace": readGrace,
			"for": readFor, "at": readAtCentre,
		},
		"expect": {
			"at": readAt, "line": readLine, "wait": readWait, "blind": readBlind, "seen": readBlind, "then": readThen,
		},
		"expect of a layout": {"line": readLine, "then": readThenFields},
		"contact": {
			"mail": readMail, "webhook": readWebhook, "syslog": readContactSyslog, "command": readCommand,
			"from": readContactFrom, "hours": readContactHours,
			"gather": readGather, "most": readMost, "on": readContactOn, "note": readNote, "about": readAbout,
			"off": readOff,
		},
		"hush": {
			"rules": readHushRules, "about": readAbout, "where": readHushWhere, "from": readHushFrom,
			"why": readHushWhy, "note": readNote, "off": readOff,
		},
		"kind": {
			"where": readKindWhere, "note": readNote, "about": readAbout, "off": readOff,
			"for": readFor,
		},
		"ask": {
			"on": readAskOn, "where": readAskWhere, "ignore": readAskIgnore, "join": readAskJoin,
			"reckon": readAskReckon, "show": readAskShow, "per": readAskPer, "every": readAskEvery,
			"over": readAskOver, "from": readAskFrom, "beside": readAskBeside, "having": readAskHaving,
			"most": readAskMost, "least": readAskMost, "new": readAskNew,
			"for":  readFor,
			"note": readNote, "about": readAbout, "off": readOff,
		},
		"report": {
			"title": readReportTitle, "ask": readReportAsk, "every": readReportEvery, "covers": readReportCovers,
			"as": readReportAs, "tell": readReportTell, "write": readReportWrite, "skip": readReportSkip,
			"keep": readReportKeep, "note": readNote,
			"for": readFor, "about": readAbout, "off": readOff,
		},
		"measure": {
			"on": readMeasureOn, "where": readMeasureWhere, "ignore": readMeasureIgnore, "per": readMeasurePer,
			"show": readMeasureShow, "note": readNote,
			"for": readFor, "about": readAbout, "off": readOff,
		},
		"deliver": {
			"on": readDeliverOn, "where": readDeliverWhere, "ignore": readDeliverIgnore, "to": readDeliverTo,
			"buffer": readDeliverBuffer, "begin": readDeliverBegin, "note": readNote,
			"for": readFor, "about": readAbout,
			"off": readOff,
		},
		"settings": {
			"mail": readMail, "tell": readSettingsTell, "heartbeat": readHeartbeat, "zone": readZone,
			"apply": readApply, "keep": readStays, "most": readMost, "built-in": readBuiltIn, "measures": readMeasures,
			"use": readUse, "centre": readCentre, "cut": readCutOff, "people": readPeople,
			"note": readNote, "about": readAbout, "off": readOff,
		},
		"group": {
			"hosts": readGroupHosts, "kit": readGroupKit, "tag": readGroupTag, "local": readGroupLocal,
			"note": readNote, "about": readAbout, "off": readOff,
		},
		"kit": {"needs": readNeeds, "given": readGiven, "note": readNote, "about": readAbout},
	}
}

// builtInLayouts are the open formats that a source can name; formats are the fields
// that entries of each always can have.
var (
	builtInLayouts = []string{"json", "logfmt", "csv", "clf", "combined", "w3c", "syslog", "event-xml", "journal"}
	formats        = map[string][]string{
		"syslog": {"at", "host", "program", "pid", "msgid", "facility", "level", "text"},
		"journal": {"at", "host", "program", "pid", "unit", "level", "facility", "transport", "boot-id", "machine-id",
			"cursor", "uid", "text"},
		"event-xml": {"at", "host", "provider", "channel", "event", "level", "category", "account", "account-id",
			"account-name", "record",
			"keywords", "opcode", "pid", "thread", "text"},
		"clf": {"client", "ident", "account", "at", "request", "method", "path", "query", "protocol", "status",
			"bytes"},
		"combined": {"client", "ident", "account", "at", "request", "method", "path", "query", "protocol", "status",
			"bytes", "referrer", "agent"},
	}
)

// ClauseNames are the clauses of a kind of block, in their order.
func ClauseNames(kind string) []string {
	out := clauseNames(kind)
	slices.Sort(out)
	return out
}

// clauseNames lists the clauses of a kind of block.
func clauseNames(kind string) []string {
	var out []string
	for n := range clauses[kind] {
		out = append(out, n)
	}
	return out
}

// readBlock reads the clauses of b into node.
func (f *File) readBlock(b *block, kind string, node any) {
	seen := map[string]token{}
	for _, c := range b.clauses {
		key := c.toks[0]
		reader, known := clauses[kind][key.src]
		if kind == "hush" && !known && beginsHours(key) {
			readHushHours(&cursor{file: f, toks: c.toks}, node)
			continue
		}
		if key.kind != name || !known {
			if key.kind == bad {
				continue
			}
			mend := meant(key.src, clauseNames(kind))
			if key.kind != name {
				mend = "a clause begins with its word: " +
					strings.TrimPrefix(meant("", clauseNames(kind)), "there are: ")
			}
			f.report(Err, "unknown-clause", key, fmt.Sprintf("%s has no clause %s", article(kind), visible(key.src)),
				mend)
			continue
		}
		if first, twice := seen[key.src]; twice && once[kind+" "+key.src] {
			f.report(Err, "twice", key, fmt.Sprintf("%s is written twice; the first stands in line %d", key.src,
				first.pos.Line), "keep one of them")
			continue
		}
		seen[key.src] = key
		if kind == "layout" && key.src == "names" {
			f.readNamesClause(c, node.(*Layout))
			continue
		}
		if c.body != nil && key.src != "expect" {
			f.report(Err, "syntax", c.body.open, fmt.Sprintf("the clause %s has no { }", key.src),
				"end the clause at the end of its line")
			continue
		}
		if key.src == "expect" {
			f.readExpectBlock(c, node)
			continue
		}
		reader(&cursor{file: f, toks: c.toks, i: 1, kind: kind}, node)
	}
}

// once are the clauses that a block can have one of.
var once = map[string]bool{
	"source begin": true, "source layout": true, "source host": true, "source entry": true, "source encoding": true,
	"source channel": true, "source message": true, "source account": true, "source input": true, "source zone": true,
	"settings zone": true, "settings mail": true, "settings heartbeat": true,
	"settings most": true,
	"contact from":  true, "contact gather": true, "contact most": true, "hush from": true, "hush why": true,
	"layout time": true, "layout delimited": true, "rule per": true, "rule on": true, "rule remind": true,
	"rule say": true, "rule advise": true,
	"rule awaits": true, "rule once": true, "rule among": true, "rule empty": true, "rule blind": true,
	"rule reopen": true, "rule clock": true, "rule grace": true,
	"ask on": true, "ask where": true, "ask join": true, "ask show": true, "ask per": true, "ask every": true,
	"ask over": true, "ask from": true, "ask beside": true, "ask having": true, "ask most": true, "ask least": true,
	"ask new":      true,
	"report title": true, "report every": true, "report covers": true, "report write": true, "report keep": true,
	"measure on": true, "measure per": true, "measure show": true,
	"group local": true,
	"deliver on":  true, "deliver to": true, "deliver buffer": true, "deliver begin": true,
}

func article(kind string) string {
	if strings.ContainsRune("aeiou", rune(kind[0])) {
		return "an " + kind
	}
	return "a " + kind
}

func readNote(c *cursor, node any) {
	s := c.text("a note")
	c.done("a note is one text")
	switch n := node.(type) {
	case *Source:
		n.Note = s
	case *Layout:
		n.Note = s
	case *Rule:
		n.Note = s
	case *Contact:
		n.Note = s
	case *Hush:
		n.Note = s
	case *Kind:
		n.Note = s
	case *Question:
		n.Note = s
	case *Report:
		n.Note = s
	case *Measure:
		n.Note = s
	case *Deliver:
		n.Note = s
	case *Kit:
		n.Note = s
	case *Group:
		n.Note = s
	case *Settings:
		n.Note = s
	}
}

func readAbout(c *cursor, node any) {
	words := c.names("a word")
	switch n := node.(type) {
	case *Source:
		n.About = append(n.About, words...)
	case *Layout:
		n.About = append(n.About, words...)
	case *Rule:
		n.About = append(n.About, words...)
	case *Contact:
		n.About = append(n.About, words...)
	case *Hush:
		n.Words = append(n.Words, words...)
	case *Kind:
		n.About = append(n.About, words...)
	case *Question:
		n.About = append(n.About, words...)
	case *Report:
		n.About = append(n.About, words...)
	case *Measure:
		n.About = append(n.About, words...)
	case *Deliver:
		n.About = append(n.About, words...)
	case *Kit:
		n.About = append(n.About, words...)
	case *Group:
		n.About = append(n.About, words...)
	}
}

func readOff(c *cursor, node any) {
	c.done("off stands alone")
	switch n := node.(type) {
	case *Source:
		n.Off = true
	case *Layout:
		n.Off = true
	case *Rule:
		n.Off = true
	case *Contact:
		n.Off = true
	case *Hush:
		n.Off = true
	case *Kind:
		n.Off = true
	case *Question:
		n.Off = true
	case *Report:
		n.Off = true
	case *Measure:
		n.Off = true
	case *Deliver:
		n.Off = true
	case *Group:
		n.Off = true
	case *Settings:
		n.off = true
	}
}

// names reads NAME, NAME, …
func (c *cursor) names(what string) []string {
	var out []string
	for {
		t := c.next()
		if t.kind != name {
			c.expected(t, what, "names stand without quotes, with commas between them")
			return out
		}
		out = append(out, t.src)
		if !c.accept(",") {
			c.done("put a comma between names")
			return out
		}
	}
}

func readOn(c *cursor, node any) {
	r := node.(*Rule)
	r.On = append(r.On, c.names("a source's name")...)
}

// either adds an expression to those that any of suffices.
func either(have, more Expr) Expr {
	if have == nil {
		return more
	}
	return &Or{[]Expr{have, more}}
}

func (c *cursor) whole() Expr {
	x := c.expr()
	if c.more() {
		t := c.peek()
		switch {
		case t.kind == regex || t.kind == text || t.kind == name:
			c.fail(t, "syntax", fmt.Sprintf("and or or is missing before %s", visible(t.src)),
				"join expressions with and, or; or write a clause for each")
		default:
			c.done("join expressions with and, or")
		}
	}
	return x
}

func readProblem(c *cursor, node any) {
	if x := c.whole(); !c.failed {
		node.(*Rule).Problem = either(node.(*Rule).Problem, x)
	}
}

func readRecovery(c *cursor, node any) {
	if x := c.whole(); !c.failed {
		node.(*Rule).Recovery = either(node.(*Rule).Recovery, x)
		node.(*Rule).OnRecovery = true
	}
}

func readIgnore(c *cursor, node any) {
	if x := c.whole(); !c.failed {
		node.(*Rule).Ignore = either(node.(*Rule).Ignore, x)
	}
}

func readPer(c *cursor, node any) {
	r := node.(*Rule)
	r.Per = []string{}
	if c.more() && c.peek().is("nothing") && len(c.toks) == 2 {
		return
	}
	for {
		t := c.peek()
		f := c.fieldName("a field")
		if contains(r.Per, f) {
			c.fail(t, "twice", fmt.Sprintf("%s is named twice", f), "name each field once")
		}
		r.Per = append(r.Per, f)
		if !c.accept(",") {
			break
		}
	}
	c.done("put a comma between fields")
}

// maxThreshold bounds `at N`, because the newest 2N hits of a key are kept.
const maxThreshold = 1_000_000

// count reads a whole number from 1 on.
func (c *cursor) count(what string) int {
	t := c.next()
	n := 0
	for i := 0; i < len(t.src) && n <= maxThreshold; i++ {
		if !isDigit(t.src[i]) {
			c.fail(t, "bad-number", fmt.Sprintf("%s should be a whole number, not %s", what, visible(t.src)),
				"write a whole number from 1 on")
			return 1
		}
		n = n*10 + int(t.src[i]-'0')
	}
	switch {
	case t.kind != number:
		c.expected(t, what, "write a whole number from 1 on")
	case n < 1 || n > maxThreshold:
		c.fail(t, "bad-number", fmt.Sprintf("%s goes from 1 to %d", what, maxThreshold),
			"write a number in that range")
	}
	return n
}

func readRemind(c *cursor, node any) {
	if !c.accept("every") {
		c.expected(c.peek(), "every", "write: remind every 1h")
	}
	node.(*Rule).Remind = c.duration("a time")
	c.done("write: remind every 1h")
}

func readSay(c *cursor, node any) {
	node.(*Rule).Say = c.text("what to say")
	c.done("say is one text")
}

func readAdvise(c *cursor, node any) {
	node.(*Rule).Advise = c.text("an advice")
	c.done("advise is one text")
}
