package lang

import (
	"slices"
	"strings"
)

// Block is the text of a block in its canonical form, with the comments in it and
// above it; "" where there is none.
func (f *File) Block(kind, name string) string {
	i := f.find(kind, name)
	if i < 0 {
		return ""
	}
	return (&File{blocks: f.blocks[i : i+1]}).Format()
}

func (f *File) find(kind, name string) int {
	return slices.IndexFunc(f.blocks, func(b *block) bool { return b.kind.src == kind && b.name.src == name })
}

// Put puts the blocks of another file in the place of the one of that kind and name,
// or, where there is none, behind all others. Everything else stays as it is.
func (f *File) Put(kind, name string, other *File) {
	i := f.find(kind, name)
	if i < 0 {
		if n := len(other.blocks); n > 0 && len(f.blocks) == 0 {
			other.blocks[0].kind.lead = append(f.tail, other.blocks[0].kind.lead...)
			f.tail = nil
		}
		f.blocks = append(f.blocks, other.blocks...)
	} else {
		f.blocks = slices.Replace(f.blocks, i, i+1, other.blocks...)
	}
	f.tail = append(f.tail, other.tail...)
}

// SetClause writes a clause into the block of that kind and name, in the place of the
// one that begins with the same word, or behind all others. It answers false where
// there is no such block.
func (f *File) SetClause(kind, name, clause string) bool {
	i := f.find(kind, name)
	other := Parse("", []byte(kind+" "+name+" {\n"+clause+"\n}\n"))
	if i < 0 || len(other.blocks) != 1 || len(other.blocks[0].clauses) == 0 {
		return false
	}
	b, c := f.blocks[i], other.blocks[0].clauses[0]
	b.inline = false
	for k, old := range b.clauses {
		if old.keyword() == c.keyword() {
			c.toks[0].lead, c.toks[0].blank = old.toks[0].lead, old.toks[0].blank
			c.toks[len(c.toks)-1].trail = old.toks[len(old.toks)-1].trail
			b.clauses[k] = c
			return true
		}
	}
	c.toks[0].newline = true
	b.clauses = append(b.clauses, c)
	return true
}

// SetField writes a clause about a field, such as its type, in the place of the one of
// the same word about the same field; a time in the place of the time that there is.
// It answers false where there is no such block.
func (f *File) SetField(kind, name, clause string) bool {
	i := f.find(kind, name)
	other := Parse("", []byte(kind+" "+name+" {\n"+clause+"\n}\n"))
	if i < 0 || len(other.blocks) != 1 || len(other.blocks[0].clauses) == 0 {
		return false
	}
	b, c := f.blocks[i], other.blocks[0].clauses[0]
	b.inline = false
	for k, old := range b.clauses {
		if old.keyword() == c.keyword() && (c.keyword() == "time" || len(old.toks) > 1 && len(c.toks) > 1 &&
			old.toks[1].src == c.toks[1].src) {
			c.toks[0].lead, c.toks[0].blank = old.toks[0].lead, old.toks[0].blank
			b.clauses[k] = c
			return true
		}
	}
	c.toks[0].newline = true
	b.clauses = append(b.clauses, c)
	return true
}

// Rename gives a rule or a source another name, in its own block and wherever one is named: a
// rule in the unless of rules, and in what a hush keeps quiet; a source in the on of rules. It
// answers in how many places.
func (f *File) Rename(kind, from, to string) int {
	n := 0
	change := func(t *token) {
		if t.kind == name && t.src == from {
			t.src, t.val = to, to
			n++
		}
	}
	for _, b := range f.blocks {
		if b.kind.src == kind {
			change(&b.name)
		}
		for _, c := range b.clauses {
			names := 0 // of the words behind the keyword
			switch at := b.kind.src + " " + c.keyword(); {
			case kind == "rule" && at == "rule unless":
				names = min(len(c.toks)-1, 1)
			case kind == "rule" && at == "hush rules", kind == "ask" && at == "report ask",
				kind == "source" && contains([]string{"rule on", "ask on", "measure on", "deliver on"}, at):
				names = len(c.toks) - 1
			}
			for i := range names {
				change(&c.toks[1+i])
			}
		}
	}
	return n
}

// Remove takes a block out, with the comments that stand right above it. It answers false
// where there is no such block.
func (f *File) Remove(kind, name string) bool {
	i := f.find(kind, name)
	if i < 0 {
		return false
	}
	lead := f.blocks[i].kind.lead
	if k := lastBlank(lead); k >= 0 { // what stands apart from it stays
		f.leadOf(i+1, lead[:k])
	}
	f.blocks = slices.Delete(f.blocks, i, i+1)
	return true
}

// lastBlank is the place of the last blank line among comment lines; -1 where there is none.
func lastBlank(lines []string) int {
	for k := len(lines) - 1; k >= 0; k-- {
		if lines[k] == "" {
			return k
		}
	}
	return -1
}

// leadOf puts comment lines above those of a block, or at the file's end.
func (f *File) leadOf(i int, lines []string) {
	at := &f.tail
	if i < len(f.blocks) {
		at = &f.blocks[i].kind.lead
	}
	*at = append(append(slices.Clone(lines), ""), *at...)
}

// Empty tells whether the file has no block and no comment.
func (f *File) Empty() bool { return len(f.blocks) == 0 && len(f.tail) == 0 }

// Copy puts a copy of a block behind it, of another name. It answers false where there is
// no such block.
func (f *File) Copy(kind, name, to string) bool {
	i := f.find(kind, name)
	if i < 0 {
		return false
	}
	other := Parse("", []byte((&File{blocks: f.blocks[i : i+1]}).Format()))
	if len(other.blocks) != 1 {
		return false
	}
	b := other.blocks[0]
	b.kind.lead, b.kind.blank = nil, true
	b.name.src, b.name.val = to, to
	f.blocks = slices.Insert(f.blocks, i+1, b)
	return true
}

// SetOff switches a block off, or on again. It answers false where there is no such block.
func (f *File) SetOff(kind, name string, off bool) bool {
	i := f.find(kind, name)
	if i < 0 {
		return false
	}
	b := f.blocks[i]
	b.clauses = slices.DeleteFunc(b.clauses, func(c *clause) bool { return c.keyword() == "off" && len(c.toks) == 1 })
	return !off || f.SetClause(kind, name, "off")
}

// ReplacePattern puts another source, as Pattern has it, in the place of a pattern of a
// text. It answers false where the text has no such pattern there.
func ReplacePattern(body string, p *Pattern, source string) (string, bool) {
	toks, _, _ := lex("", []byte(body))
	i := slices.IndexFunc(toks, func(t token) bool {
		return t.kind == regex && t.pos.Line == p.Pos.Line &&
			t.pos.Col == p.Pos.Col
	})
	if i < 0 {
		return "", false
	}
	lines := strings.SplitAfter(body, "\n")
	runes := []rune(lines[p.Pos.Line-1])
	from := p.Pos.Col - 1
	to := from + len([]rune(toks[i].src))
	flags := ""
	if toks[i].flags != "" {
		flags, source = toks[i].flags, strings.TrimPrefix(source, "(?"+toks[i].flags+")")
	}
	now := "/" + strings.ReplaceAll(strings.ReplaceAll(source, `\/`, "/"), "/", `\/`) + "/" + flags
	lines[p.Pos.Line-1] = string(runes[:from]) + now + string(runes[to:])
	return strings.Join(lines, ""), true
}

// Matches are the patterns of a rule's expressions.
func Matches(r *Rule) []*Match {
	var out []*Match
	for _, c := range r.Exprs() {
		Walk(c.Expr, func(part Expr, _ bool) {
			if m, ok := part.(*Match); ok {
				out = append(out, m)
			}
		})
	}
	return out
}

// AddClause writes a clause into the block of that kind and name, behind all others. It answers false where there
// is no such block.
func (f *File) AddClause(kind, name, clause string) bool {
	i := f.find(kind, name)
	other := Parse("", []byte(kind+" "+name+" {\n"+clause+"\n}\n"))
	if i < 0 || len(other.blocks) != 1 || len(other.blocks[0].clauses) == 0 {
		return false
	}
	b, c := f.blocks[i], other.blocks[0].clauses[0]
	b.inline, c.toks[0].newline = false, true
	b.clauses = append(b.clauses, c)
	return true
}

// DropClause takes the clauses of a word out of the block of that kind and name. It answers false where there was
// none.
func (f *File) DropClause(kind, name, word string) bool {
	i := f.find(kind, name)
	if i < 0 {
		return false
	}
	b := f.blocks[i]
	n := len(b.clauses)
	b.clauses = slices.DeleteFunc(b.clauses, func(c *clause) bool { return c.keyword() == word })
	return len(b.clauses) < n
}
