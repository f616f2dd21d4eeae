package lang

import "fmt"

// Kind is an expression with a name, which other expressions use: is NAME. Its captures are the
// user's, as if it were written there.
type Kind struct {
	Pos   Pos
	Name  string
	Where Expr // nil where it has an error, and then it holds for nothing
	Note  string
	About []string
	Off   bool
	For   []string // the groups of hosts that it is for; nil: it is for this machine

	uses []*Is // in its own expression
}

// Is holds where the expression of a kind does.
type Is struct {
	Name string
	Kind *Kind
	Pos  Pos
}

func (e *Is) String() string { return "is " + e.Name }

// Place is where the word is stands.
func (e *Is) Place() Pos { return e.Pos }

// Plain is an expression with the expressions of kinds in the place of their names.
func Plain(e Expr) Expr {
	each := func(list []Expr) []Expr {
		out := make([]Expr, len(list))
		for i, x := range list {
			out[i] = Plain(x)
		}
		return out
	}
	switch e := e.(type) {
	case *And:
		return &And{each(e.Of)}
	case *Or:
		return &Or{each(e.Of)}
	case *Not:
		return &Not{Plain(e.Of)}
	case *Is:
		if e.Kind.Where != nil {
			return Plain(e.Kind.Where)
		}
	}
	return e
}

// kindOf reads the name behind is.
func (c *cursor) kindOf(is token) Expr {
	t := c.next()
	if t.kind != name || contains(reserved, t.src) {
		c.expected(t, "the name of a kind", "write: is NAME, and a block kind NAME { where EXPR }")
		return &Phrase{}
	}
	k := c.file.kinds[t.src]
	if k == nil {
		var all []string
		for n := range c.file.kinds {
			all = append(all, n)
		}
		c.fail(t, "unknown-name", fmt.Sprintf("there is no kind %q", t.src), meant(t.src, all))
		return &Phrase{}
	}
	x := &Is{Name: t.src, Kind: k, Pos: is.pos}
	if in, ok := c.file.reading.(*Kind); ok {
		in.uses = append(in.uses, x)
	}
	return x
}

func readKindWhere(c *cursor, node any) {
	if x := c.whole(); !c.failed {
		node.(*Kind).Where = either(node.(*Kind).Where, x)
	}
}

// nameKinds gives the files the names of all kinds, before anything in them is read.
func nameKinds(files []*File) {
	kinds := map[string]*Kind{}
	for _, f := range files {
		f.kinds = kinds
		for _, b := range f.blocks {
			if b.kind.src == "kind" && b.name.kind == name && kinds[b.name.src] == nil {
				kinds[b.name.src] = &Kind{Pos: b.name.pos, Name: b.name.src}
			}
		}
	}
}

// circles refuses kinds that are made of themselves.
func (k *checker) circles() {
	const open, done = 1, 2
	state := map[*Kind]int{}
	var visit func(x *Kind) bool
	visit = func(x *Kind) bool {
		switch state[x] {
		case done:
			return true
		case open:
			return false
		}
		state[x] = open
		for _, u := range x.uses {
			if visit(u.Kind) || x.Where == nil {
				continue
			}
			k.at(
				k.file[x],
				x,
				"kind",
				"where",
				u.Name,
				Err,
				"kind-circle",
				fmt.Sprintf(
					"the kind %s is made of %s, which is made of it",
					x.Name,
					u.Name,
				),
				"say one of them without the other",
			)
			x.Where = nil
		}
		state[x] = done
		return true
	}
	for _, x := range k.settings.Kinds {
		visit(x)
	}
}
