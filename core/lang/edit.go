package lang

import "slices"

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
		if old.keyword() == c.keyword() && (c.keyword() == "time" || len(old.toks) > 1 && len(c.toks) > 1 && old.toks[1].src == c.toks[1].src) {
			c.toks[0].lead, c.toks[0].blank = old.toks[0].lead, old.toks[0].blank
			b.clauses[k] = c
			return true
		}
	}
	c.toks[0].newline = true
	b.clauses = append(b.clauses, c)
	return true
}
