package lang

import (
	"strings"
	"unicode/utf8"
)

// Format writes the file in its one canonical form, comments kept. It changes
// blank space and line ends only; what is wrong in the file stays as it is, so
// a file with errors should not be overwritten with it.
func (f *File) Format() string {
	p := &printer{}
	for i, b := range f.blocks {
		if i > 0 && !(b.inline && f.blocks[i-1].inline && !b.kind.blank && len(b.kind.lead) == 0) {
			p.b.WriteString("\n")
		}
		p.lead(b.kind, 0)
		p.b.WriteString(b.kind.src)
		if b.name.src != "" {
			p.b.WriteString(" " + b.name.src)
		}
		p.b.WriteString(" ")
		p.body(b, 0)
		p.comment(b.shut)
		p.b.WriteString("\n")
	}
	if len(f.tail) > 0 {
		if len(f.blocks) > 0 {
			p.b.WriteString("\n")
		}
		p.comments(f.tail, 0)
	}
	return p.b.String()
}

type printer struct{ b strings.Builder }

func (p *printer) indent(n int) { p.b.WriteString(strings.Repeat(" ", n)) }

// lead writes the comment lines that stand before a token.
func (p *printer) lead(t token, indent int) { p.comments(t.lead, indent) }

func (p *printer) comments(lines []string, indent int) {
	for _, c := range lines {
		if c != "" {
			p.indent(indent)
		}
		p.b.WriteString(c + "\n")
	}
}

func (p *printer) comment(t token) {
	if t.trail != "" {
		p.b.WriteString("  " + t.trail)
	}
}

// body writes { clauses }, one a line unless the block was written on one.
func (p *printer) body(b *block, indent int) {
	if b.inline && !b.commented() {
		p.b.WriteString("{")
		for _, c := range b.clauses {
			p.b.WriteString(" ")
			p.clause(c, 0, 0)
		}
		p.b.WriteString(" }")
		return
	}
	p.b.WriteString("{")
	p.comment(b.open)
	p.b.WriteString("\n")
	width := 0
	for _, c := range b.clauses {
		if c.body == nil {
			width = max(width, utf8.RuneCountInString(c.keyword()))
		}
	}
	switch b.kind.src {
	case "rule":
		width = max(width, len("problem"))
	case "expect", "names":
		width = 0
	}
	for i, c := range b.clauses {
		if first := c.toks[0]; i > 0 && first.blank {
			p.b.WriteString("\n")
		}
		p.lead(c.toks[0], indent+2)
		p.indent(indent + 2)
		p.clause(c, indent+2, width)
		p.b.WriteString("\n")
	}
	if b.shut.blank && len(b.shut.lead) > 0 {
		p.b.WriteString("\n")
	}
	p.lead(b.shut, indent+2)
	p.indent(indent)
	p.b.WriteString("}")
}

// commented tells whether a comment stands anywhere inside, so that the block
// cannot be written on one line.
func (b *block) commented() bool {
	if b.open.trail != "" || len(b.shut.lead) > 0 {
		return true
	}
	for _, c := range b.clauses {
		if c.body != nil && c.body.commented() {
			return true
		}
		for _, t := range c.toks {
			if t.trail != "" || len(t.lead) > 0 || t.newline {
				return true
			}
		}
	}
	return false
}

// clause writes a clause; lines that went on go on, under its first argument.
func (p *printer) clause(c *clause, indent, width int) {
	for i, t := range c.toks {
		switch {
		case i == 0:
		case t.newline:
			p.b.WriteString("\n")
			hang := indent + max(width, utf8.RuneCountInString(c.keyword())) + 1
			p.lead(t, hang)
			p.indent(hang)
		case i == 1 && width > 0 && c.body == nil:
			p.indent(max(width-utf8.RuneCountInString(c.keyword()), 0) + 1)
		case spaced(c.toks[i-1], t):
			p.b.WriteString(" ")
		}
		p.b.WriteString(t.src)
		p.comment(t)
	}
	if c.body != nil {
		p.b.WriteString(" ")
		p.body(c.body, indent)
		p.comment(c.body.shut)
	}
}

// spaced tells whether a blank stands between two tokens of a line.
func spaced(a, b token) bool {
	switch {
	case b.is(","), b.is(")"), a.is("("):
		return false
	case b.is("("):
		return a.kind != name || !contains(aggregates, a.src)
	}
	return true
}

var aggregates = []string{
	"sum",
	"avg",
	"min",
	"max",
	"median",
	"p50",
	"p90",
	"p95",
	"p99",
	"different",
	"first",
	"last",
	"share",
	"length",
	"since",
}
