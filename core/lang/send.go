package lang

import (
	"bytes"
	"slices"
	"strings"
)

// Sent is the text of a file as it is sent to hosts: what is not for them is blank, so that each line stands
// where it stands in the settings that it comes from.
type Sent struct {
	Name string // of the file
	Body string
	Has  []Placed // the blocks in it, and of which group each comes
}

// Send is what hosts that are in some groups run of the settings in files: the blocks that are for any of them,
// what these name, and the groups' kits as if the host's own settings used them. Of two groups that use one kit
// the later stands. Files of kits are left out, as are those that give nothing.
func Send(files []*File, groups []string) []Sent {
	in := func(name string) bool { return slices.Contains(groups, name) }
	last := map[string]token{} // kit → the clause that stands
	taken := map[*block]bool{}
	sources := map[string][]string{} // source → the groups that it is for
	for _, f := range files {
		if f.isTable || f.kit != "" {
			continue
		}
		for _, b := range f.born {
			switch b.kind.src {
			case "group":
				for _, c := range b.clauses {
					if c.keyword() == "kit" && len(c.toks) > 1 && in(b.name.src) && !b.isOff() {
						last[c.toks[1].src] = c.toks[0]
					}
				}
			case "source":
				sources[b.name.src] = b.sentTo()
				fallthrough
			case "layout", "kind", "deliver", "rule":
				taken[b] = slices.ContainsFunc(b.sentTo(), in)
			}
		}
	}
	named := map[string]bool{}
	eachBlock := func(visit func(*block)) {
		for _, f := range files {
			if f.kit == "" {
				for _, b := range f.born {
					visit(b)
				}
			}
		}
	}
	eachBlock(func(b *block) {
		if b.kind.src == "rule" && b.says("at", "centre") && len(b.sentTo()) == 0 {
			for _, c := range b.clauses {
				if kind, list := c.namesBlocks("rule"); kind == "source" && c.keyword() == "on" {
					for _, t := range list {
						taken[b] = taken[b] || slices.ContainsFunc(sources[t.src], in)
					}
				}
			}
		}
	})
	for changed := true; changed; { // what they name comes with them
		changed = false
		eachBlock(func(b *block) {
			if !taken[b] {
				return
			}
			for _, n := range b.words() {
				named[n] = true
			}
		})
		eachBlock(func(b *block) {
			if k := b.kind.src; (k == "layout" || k == "kind") && !taken[b] && named[b.name.src] {
				taken[b], changed = true, true
			}
		})
	}
	var out []Sent
	for _, f := range files {
		if f.isTable || f.kit != "" {
			continue
		}
		s := Sent{Name: f.Name}
		var body strings.Builder
		line := 1
		for _, b := range f.born {
			if !b.complete {
				continue
			}
			text := ""
			switch {
			case b.kind.src == "group" && in(b.name.src) && !b.isOff():
				text = b.asUse(f.src, last)
			case taken[b]:
				text = b.asSent(f.src)
				s.Has = append(s.Has, Placed{Kind: b.kind.src, Name: b.name.src, Pos: b.name.pos, Text: text})
			}
			if text == "" {
				continue
			}
			for ; line < b.kind.pos.Line; line++ {
				body.WriteByte('\n')
			}
			body.WriteString(text)
			line += strings.Count(text, "\n")
		}
		if body.Len() > 0 {
			body.WriteByte('\n')
			s.Body = body.String()
			out = append(out, s)
		}
	}
	return out
}

// text is a block as it is written, and where it begins in src.
func (b *block) text(src []byte) (text []byte, from int) {
	from = b.kind.pos.off
	return bytes.Clone(src[from : b.shut.pos.off+len(b.shut.src)]), from
}

// asSent is a block as hosts get it: whom to tell, and which alerts shadow its own, is decided at the centre.
func (b *block) asSent(src []byte) string {
	out, from := b.text(src)
	for _, c := range b.clauses {
		w := c.keyword()
		if w == "for" || b.kind.src == "rule" && (w == "tell" || w == "unless") {
			blankOut(out, c, from)
		}
	}
	return string(out)
}

// asUse is a group as settings that use its kits; "" where it has none.
func (b *block) asUse(src []byte, last map[string]token) string {
	out, from := b.text(src)
	var uses []int // where its clauses begin
	for _, c := range b.clauses {
		if c.keyword() == "kit" && len(c.toks) > 1 && last[c.toks[1].src].pos == c.toks[0].pos {
			uses = append(uses, c.toks[0].pos.off-from)
		} else {
			blankOut(out, c, from)
		}
	}
	if len(uses) == 0 {
		return ""
	}
	for _, at := range slices.Backward(uses) {
		out = slices.Insert(out, at, []byte("use ")...)
	}
	return "settings " + string(out[b.open.pos.off-from:])
}

// blankOut puts spaces for a clause in the text of its block.
func blankOut(text []byte, c *clause, from int) {
	end := c.toks[len(c.toks)-1]
	for i := c.toks[0].pos.off - from; i < end.pos.off-from+len(end.src); i++ {
		if text[i] != '\n' {
			text[i] = ' '
		}
	}
}

// sentTo are the groups that the block is for.
func (b *block) sentTo() []string {
	var out []string
	for _, c := range b.clauses {
		if c.keyword() == "for" {
			for _, t := range c.toks[1:] {
				if t.kind == name {
					out = append(out, t.src)
				}
			}
		}
	}
	return out
}

// says tells whether the block has a clause that begins with these words.
func (b *block) says(word, then string) bool {
	return slices.ContainsFunc(b.clauses, func(c *clause) bool {
		return c.keyword() == word && len(c.toks) > 1 && c.toks[1].is(then)
	})
}

// words are all words in the block that may be names of others.
func (b *block) words() []string {
	var out []string
	for _, c := range b.clauses {
		for _, t := range c.toks[1:] {
			if t.kind == name {
				out = append(out, t.src)
			}
		}
	}
	return out
}

// Without is the text of a file in which some blocks, and the uses of some kits, are blank; and which those are.
func (f *File) Without(block func(kind, name string) bool, kit func(name string) bool) (string, []Placed) {
	out := bytes.Clone(f.src)
	var gone []Placed
	for _, b := range f.born {
		if !b.complete {
			continue
		}
		text, from := b.text(f.src)
		switch {
		case b.kind.src == "settings":
			for _, c := range b.clauses {
				if c.keyword() == "use" && len(c.toks) > 2 && kit(c.toks[2].src) {
					blankOut(text, c, from)
					gone = append(gone, Placed{Kind: "kit", Name: c.toks[2].src, Pos: c.toks[0].pos})
				}
			}
			copy(out[from:], text)
		case block(b.kind.src, b.name.src):
			for i := range text {
				if text[i] != '\n' {
					out[from+i] = ' '
				}
			}
			gone = append(gone, Placed{Kind: b.kind.src, Name: b.name.src, Pos: b.name.pos, Text: string(text)})
		}
	}
	return string(out), gone
}

// Written are the blocks of the file as they stand there.
func (f *File) Written() []Placed {
	var out []Placed
	for _, b := range f.born {
		if b.complete {
			text, _ := b.text(f.src)
			out = append(out, Placed{Kind: b.kind.src, Name: b.name.src, Kit: f.kit, Pos: b.name.pos,
				Text: string(text)})
		}
	}
	return out
}
