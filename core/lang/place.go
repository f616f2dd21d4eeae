package lang

// Place is where a block stands in its file, for those who edit the text of it. Lines count
// from 1.
type Place struct {
	Kind, Name  string
	First, Last int // of its lines; of a block that is not closed yet, up to the next one
	Clauses     []ClausePlace
}

// ClausePlace is where a clause stands, and its words behind the first.
type ClausePlace struct {
	Word        string
	Words       []string // as they are written, commas and braces apart
	First, Last int
	Nested      *Place // what stands in its { }, as in an expect; nil where it has none
}

// BlockAt is the block in which a line lies; false where it lies in none.
func (f *File) BlockAt(line int) (Place, bool) {
	for _, p := range f.Places() {
		if line >= p.First && line <= p.Last {
			return p, true
		}
	}
	return Place{}, false
}

// RuleNear is the rule in which a line lies, or the last one before it, or else the first; false
// where there is none.
func (f *File) RuleNear(line int) (out Place, found bool) {
	for _, p := range f.Places() {
		if p.Kind == "rule" && (p.First <= line || !found) {
			out, found = p, true
		}
	}
	return out, found
}

// Places are where all blocks of the file stand, in its order.
func (f *File) Places() []Place {
	out := make([]Place, len(f.blocks))
	for i, b := range f.blocks {
		end := len(f.lines)
		if i+1 < len(f.blocks) {
			end = f.blocks[i+1].kind.pos.Line - 1
		}
		out[i] = b.place(end)
	}
	return out
}

// place is where a block stands; one that is not closed ends at end.
func (b *block) place(end int) Place {
	p := Place{Kind: b.kind.src, Name: b.name.src, First: b.kind.pos.Line, Last: end}
	if b.complete {
		p.Last = b.shut.pos.Line
	}
	for i, c := range b.clauses {
		x := ClausePlace{Word: c.keyword(), First: c.toks[0].pos.Line, Last: c.toks[len(c.toks)-1].pos.Line}
		for _, t := range c.toks[1:] {
			if t.src != "," {
				x.Words = append(x.Words, t.src)
			}
		}
		if c.body != nil {
			last := p.Last
			if i+1 < len(b.clauses) {
				last = b.clauses[i+1].toks[0].pos.Line - 1
			}
			n := c.body.place(last)
			x.Nested, x.Last = &n, n.Last
		}
		p.Clauses = append(p.Clauses, x)
	}
	return p
}

// Within is the kind of what a line stands in: of the block, or of a clause with { } in it;
// "" where it stands in none, or begins or ends one.
func (f *File) Within(line int) string {
	p, ok := f.BlockAt(line)
	if !ok || line == p.First || line == p.Last && f.closes(line) {
		return ""
	}
	for _, c := range p.Clauses {
		if n := c.Nested; n != nil && line > c.First && (line < n.Last || line == n.Last && !f.closes(line)) {
			return c.Word
		}
	}
	return p.Kind
}

// closes tells whether a line ends a block.
func (f *File) closes(line int) bool {
	for _, b := range f.blocks {
		if b.complete && b.shut.pos.Line == line {
			return true
		}
		for _, c := range b.clauses {
			if c.body != nil && c.body.complete && c.body.shut.pos.Line == line {
				return true
			}
		}
	}
	return false
}
