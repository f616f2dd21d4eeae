package lang

import (
	"slices"
	"strings"
)

// Kit is a folder of settings for one kind of machine or program, ready to be used.
type Kit struct {
	Pos   Pos
	Name  string
	Note  string
	About []string
	Needs []Need  // each has to be there
	Given []Given // values that its users may set, in the order in which they are written
	// Used tells whether settings say `use kit`; a kit that is read by itself is not.
	Used bool

	by *File // where it is used
	at token
}

// Need is what a machine has to have for a kit to fit it: any of these.
type Need []Wanted

// Wanted is something that a machine has.
type Wanted struct {
	Kind string // program, files, channel or unit
	Name string // the program's, the channel's, the unit's, or a glob of files; of the journal "journal"
}

func (w Wanted) String() string {
	if w.Kind == "channel" && w.Name == "journal" {
		return "channel journal"
	}
	return w.Kind + " " + Quote(w.Name)
}

func (n Need) String() string {
	var out []string
	for _, w := range n {
		out = append(out, w.String())
	}
	return strings.Join(out, " or ")
}

// Given is a value that a kit's users may set.
type Given struct {
	Name  string
	Value string // as it is written: "/var/log/postgresql", 5s
	Kit   string // the value that the kit has for it, written likewise
	tok   token
}

// Text is the value without its quotes.
func (g Given) Text() string { return g.tok.val }

// Set tells whether the settings gave another value than the kit has.
func (g Given) Set() bool { return g.Value != g.Kit }

// Use is `use kit NAME with … but not …` in the settings.
type Use struct {
	Kit  string
	With []Given
	But  []string // names of blocks that are left out

	kit   token
	names []token // of With
	but   []token
}

// Aside is a block of a kit that does not run as it stands there.
type Aside struct {
	Kind, Name string
	Kit        string
	Pos        Pos
	Why        string
}

// ParseKit reads a settings file that belongs to a kit, as Parse reads others.
func ParseKit(kit, name string, src []byte) *File {
	f := Parse(name, src)
	f.kit = kit
	return f
}

// KitName is the name of the kit whose block stands in the file; "" where there is none.
func (f *File) KitName() string {
	for _, b := range f.born {
		if b.kind.src == "kit" && b.name.kind == name {
			return b.name.src
		}
	}
	return ""
}

// Uses are the kits that the settings in the file use, in the order in which they are written.
func (f *File) Uses() []Use {
	var out []Use
	quiet := &File{Name: f.Name, lines: f.lines}
	for _, b := range f.born {
		if b.kind.src != "settings" || b.isOff() {
			continue
		}
		for _, c := range b.clauses {
			if c.keyword() == "use" {
				if u := readUseClause(&cursor{file: quiet, toks: c.toks, i: 1}); u.Kit != "" {
					out = append(out, u)
				}
			}
		}
	}
	return out
}

// Sends are the kits that groups in the file send to hosts, by group.
func (f *File) Sends() map[string][]Use {
	out := map[string][]Use{}
	quiet := &File{Name: f.Name, lines: f.lines}
	for _, b := range f.born {
		if b.kind.src != "group" || b.isOff() {
			continue
		}
		for _, c := range b.clauses {
			if c.keyword() == "kit" {
				if u := (&cursor{file: quiet, toks: c.toks, i: 1}).useOf(); u.Kit != "" {
					out[b.name.src] = append(out[b.name.src], u)
				}
			}
		}
	}
	return out
}

func (b *block) isOff() bool {
	return slices.ContainsFunc(b.clauses, func(c *clause) bool { return c.keyword() == "off" })
}

const useMend = `write: use kit NAME, and then perhaps: with logs "/srv/log", slow 2s but not RULE, SOURCE`

func readUse(c *cursor, _ any) { readUseClause(c) }

// readUseClause reads what stands behind the word use.
func readUseClause(c *cursor) (u Use) {
	if !c.accept("kit") {
		c.expected(c.peek(), "kit", useMend)
		return u
	}
	return c.useOf()
}

// useOf reads which kit is used, and how.
func (c *cursor) useOf() (u Use) {
	if u.kit = c.next(); u.kit.kind != name {
		c.expected(u.kit, "the name of a kit", useMend)
		return u
	}
	if c.accept("with") {
		for {
			n := c.next()
			if n.kind != name {
				c.expected(n, "the name of a value that the kit has", useMend)
				return u
			}
			g, ok := c.given(n)
			if !ok {
				return u
			}
			u.With, u.names = append(u.With, g), append(u.names, n)
			if !c.accept(",") {
				break
			}
		}
	}
	if c.accept("but") {
		if !c.accept("not") {
			c.expected(c.peek(), "not", useMend)
			return u
		}
		for {
			n := c.next()
			if n.kind != name {
				c.expected(n, "the name of a block of the kit", useMend)
				return u
			}
			u.But, u.but = append(u.But, n.src), append(u.but, n)
			if !c.accept(",") {
				break
			}
		}
	}
	if c.done(useMend); !c.failed {
		u.Kit = u.kit.src
	}
	return u
}

// given reads the value behind the name of one that a kit has.
func (c *cursor) given(n token) (Given, bool) {
	v := c.next()
	if v.kind != text && v.kind != number {
		c.expected(v, "a text, a number or a duration", `write it like: logs "/var/log/x", or: slow 5s`)
		return Given{}, false
	}
	return Given{Name: n.src, Value: v.src, Kit: v.src, tok: v}, true
}

func readNeeds(c *cursor, node any) {
	const mend = `write: needs program "sshd" or files "{logs}/auth.log"; also: channel "NAME", channel journal, ` +
		`unit "NAME"`
	var n Need
	for {
		w := Wanted{Kind: c.oneOf("program, files, channel or unit", "program", "files", "channel", "unit")}
		if w.Kind == "channel" && c.accept("journal") {
			w.Name = "journal"
		} else {
			w.Name = c.text("what is needed")
		}
		n = append(n, w)
		for c.accept(",") {
			n = append(n, Wanted{Kind: w.Kind, Name: c.text("what is needed")})
		}
		if !c.accept("or") {
			break
		}
	}
	if c.done(mend); !c.failed {
		k := node.(*Kit)
		k.Needs = append(k.Needs, n)
	}
}

func readGiven(c *cursor, node any) {
	k, n := node.(*Kit), c.next()
	if n.kind != name {
		c.expected(n, "the name of the value", `write: given logs "/var/log/x", or: given slow 5s`)
		return
	}
	if _, twice := k.given(n.src); twice {
		c.fail(n, "twice", n.src+" is given twice", "keep one of them")
		return
	}
	g, _ := c.given(n)
	if c.done("a value is one text, number or duration"); !c.failed {
		k.Given = append(k.Given, g)
	}
}

func (k *Kit) given(n string) (int, bool) {
	i := slices.IndexFunc(k.Given, func(g Given) bool { return g.Name == n })
	return i, i >= 0
}

// KitOf is the kit that a block at that place comes from; "" where it stands in the settings themselves.
func (s *Settings) KitOf(p Pos) string { return s.kitFiles[p.File] }

// Kit returns the kit of that name, or nil where it is not used.
func (s *Settings) Kit(name string) *Kit {
	for _, x := range s.Kits {
		if x.Name == name {
			return x
		}
	}
	return nil
}

// UsedAt is where the settings use the kit; the zero value where they do not.
func (k *Kit) UsedAt() Pos { return k.at.pos }

// LeaveOut adds a name to what the settings leave out of a kit. It answers false where they do not use it.
func (f *File) LeaveOut(kit, block string) bool {
	for _, b := range f.blocks {
		for _, c := range b.clauses {
			if b.kind.src != "settings" || c.keyword() != "use" || len(c.toks) < 3 || c.toks[2].src != kit {
				continue
			}
			last := len(c.toks) - 1
			more := []token{{kind: name, src: "but"}, {kind: name, src: "not"}, {kind: name, src: block}}
			if slices.ContainsFunc(c.toks, func(t token) bool { return t.is("but") }) {
				more = []token{{kind: punct, src: ","}, {kind: name, src: block}}
			}
			more[len(more)-1].trail, c.toks[last].trail = c.toks[last].trail, ""
			c.toks = append(c.toks, more...)
			return true
		}
	}
	return false
}
