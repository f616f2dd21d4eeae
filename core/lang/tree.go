package lang

import (
	"fmt"
	"slices"
	"strings"
)

// File is the syntax tree of one settings file: its blocks in their order, each
// with its clauses as tokens, comments kept. What the clauses mean stands in
// the nodes that Check makes of them.
type File struct {
	Name   string
	blocks []*block
	born   []*block // those that were parsed
	tail   []string // comments behind the last block
	lines  []string
	src    []byte
	diags  []Diagnostic

	reading any // the rule, layout or kind whose clauses are being read
	kinds   map[string]*Kind
	env     Env // as Check was given it
	isTable bool
	table   []byte
	kit     string // that the file belongs to; "" is none
}

// block is KIND NAME { clauses }. Settings has no name.
type block struct {
	kind, name token
	open, shut token
	clauses    []*clause
	inline     bool // it was written on one line
	complete   bool // its closing brace was found
}

// clause is a keyword with what follows it; an expect has a body of steps, and
// names a body of words.
type clause struct {
	toks []token // the keyword first
	body *block
}

func (c *clause) keyword() string { return c.toks[0].src }

// Parse reads a settings file into its tree. It never fails: what is wrong is
// among the file's diagnostics, and the rest of the file is there all the same.
func Parse(name string, src []byte) *File {
	toks, lines, diags := lex(name, src)
	// A comment between a block's name and its { moves behind the {.
	for i := 1; i < len(toks); i++ {
		if toks[i].is("{") {
			behind := append([]string{toks[i-1].trail}, toks[i].lead...)
			behind = append(behind, toks[i].trail)
			toks[i].trail = strings.Join(strings.Fields(strings.Join(behind, " ")), " ")
			toks[i-1].trail, toks[i].lead, toks[i].newline = "", nil, false
		}
	}
	p := &parser{file: &File{Name: name, lines: lines, src: src, diags: diags}, toks: toks}
	p.parseFile()
	p.file.born = slices.Clone(p.file.blocks)
	return p.file
}

// parser builds the tree from the tokens.
type parser struct {
	file  *File
	toks  []token
	i     int
	depth int // of the braces that are open
}

// maxDepth bounds how deep blocks nest; none of the language nests deeper than 2.
const maxDepth = 8

func (p *parser) peek() token { return p.toks[p.i] }

func (p *parser) next() token {
	t := p.toks[p.i]
	if t.kind != end {
		p.i++
	}
	return t
}

func (f *File) report(w Weight, code string, t token, what, mend string) {
	d := Diagnostic{Code: code, Weight: w, Pos: t.pos, Len: max(1, len(t.src)), What: what, Mend: mend}
	if n := t.pos.Line; n >= 1 && n <= len(f.lines) {
		d.Line = f.lines[n-1]
	}
	f.diags = append(f.diags, d)
}

var blockKinds = []string{"source", "layout", "rule", "contact", "hush", "settings", "kind", "ask", "group", "kit",
	"report", "measure", "deliver"}

func (p *parser) parseFile() {
	for {
		t := p.peek()
		switch {
		case t.kind == end:
			p.file.tail = t.lead
			return
		case t.kind == name:
			p.parseBlock()
		case t.kind == bad:
			p.next()
		case t.is("}"):
			p.file.report(Err, "syntax", t, "this } closes nothing",
				"take it out, or look for a block that was closed too early above")
			p.next()
		default:
			p.file.report(Err, "syntax", t, fmt.Sprintf("a block was expected here, not %s", visible(t.src)),
				"begin with source, layout or rule, then a name and {")
			p.skipToBlock()
		}
	}
}

// skipToBlock passes tokens up to one that begins a line and a block.
func (p *parser) skipToBlock() {
	for p.next(); p.peek().kind != end; p.next() {
		if t := p.peek(); t.newline && t.kind == name && contains(blockKinds, t.src) {
			return
		}
	}
}

func (p *parser) parseBlock() {
	b := &block{kind: p.next()}
	known := contains(blockKinds, b.kind.src)
	if !known {
		p.file.report(Err, "unknown-block", b.kind, fmt.Sprintf("there is no block %q", b.kind.src),
			meant(b.kind.src, blockKinds))
	}
	if t := p.peek(); !t.is("{") && t.kind != end && !t.newline {
		b.name = p.next()
		if b.name.kind != name && known {
			p.file.report(Err, "bad-name", b.name, fmt.Sprintf("%s is no name", visible(b.name.src)),
				"names begin with a letter and go on with letters, digits, -, _ and .")
		}
	}
	if !p.peek().is("{") {
		if known {
			p.file.report(Err, "syntax", p.peek(),
				fmt.Sprintf("a { was expected after %s %s", b.kind.src, visible(b.name.src)),
				fmt.Sprintf("write: %s NAME {", b.kind.src))
		}
		p.i--
		p.skipToBlock()
		return
	}
	p.parseBody(b)
	p.file.blocks = append(p.file.blocks, b)
}

// parseBody reads { clauses } into b.
func (p *parser) parseBody(b *block) {
	b.open = p.next()
	p.depth++
	defer func() { p.depth-- }()
	if p.depth > maxDepth {
		p.file.report(Err, "syntax", b.open, "blocks nest too deeply", "take out a {")
		for n := 1; n > 0 && p.peek().kind != end; {
			switch t := p.next(); {
			case t.is("{"):
				n++
			case t.is("}"):
				n--
			}
		}
		return
	}
	for {
		t := p.peek()
		switch {
		case t.is("}"):
			b.shut = p.next()
			b.complete = true
			b.inline = b.shut.pos.Line == b.open.pos.Line && len(b.clauses) <= 1
			return
		case t.kind == end, t.newline && p.beginsBlock():
			p.file.report(Err, "unclosed", b.open,
				fmt.Sprintf("this { of %s %s is never closed", b.kind.src, visible(b.name.src)),
				"close the block with }")
			return
		}
		p.parseClause(b)
	}
}

// beginsBlock tells whether a new block begins here: its kind, a name and {, at
// the start of a line's first column. So a brace that was forgotten costs one
// message and not one a line.
func (p *parser) beginsBlock() bool {
	t := p.peek()
	return t.kind == name && t.pos.Col == 1 && contains(blockKinds, t.src) && p.i+2 < len(p.toks) &&
		(p.toks[p.i+2].is("{") || p.toks[p.i+1].is("{"))
}

// parseClause takes the tokens up to the clause's end: the end of its line, or
// the block's }, unless the line ends with a comma, and, or, not, or a
// parenthesis is open.
func (p *parser) parseClause(b *block) {
	c := &clause{toks: []token{p.next()}}
	b.clauses = append(b.clauses, c)
	var open []token
	for {
		t := p.peek()
		last := c.toks[len(c.toks)-1]
		if t.kind == end || t.is("}") && len(open) == 0 {
			break
		}
		if len(open) == 0 && (t.newline && !last.continues() || b.kind.src == "ask" && endsAsk(c.toks, t)) {
			break
		}
		if t.newline && len(open) > 0 && !last.continues() && (p.beginsClause(b) || t.is("}") || p.beginsBlock()) {
			break
		}
		if t.is("}") {
			break
		}
		if t.is("{") {
			c.body = &block{kind: c.toks[0], name: last}
			p.parseBody(c.body)
			break
		}
		switch {
		case t.is("("):
			open = append(open, t)
		case t.is(")") && len(open) > 0:
			open = open[:len(open)-1]
		}
		c.toks = append(c.toks, p.next())
	}
	if len(open) > 0 {
		p.file.report(Err, "unclosed", open[len(open)-1], "this ( is never closed", "close it with )")
		c.toks = append(c.toks, token{kind: bad, pos: open[len(open)-1].pos})
	}
}

// beginsClause tells whether the next token looks like the keyword of a clause.
func (p *parser) beginsClause(b *block) bool {
	t := p.peek()
	if t.kind != name || !contains(clauseNames(b.kind.src), t.src) {
		return false
	}
	after := p.toks[min(p.i+1, len(p.toks)-1)]
	return after.kind != op && !after.is("in") && !after.is(")")
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

// Diagnostics are what was wrong with the file's syntax.
func (f *File) Diagnostics() []Diagnostic { return f.diags }
