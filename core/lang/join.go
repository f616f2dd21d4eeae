package lang

import (
	"fmt"
	"slices"
	"strings"
)

// kits puts the blocks of the kits that are used among those of the settings: values in their places, without
// what the settings leave out or have themselves. Other kits' files give nothing. A kit whose files are
// read though no settings use any kit stands for itself.
func (k *checker) kits(files []*File) {
	j := &joiner{k: k, kits: map[string]*Kit{}, files: map[string][]*File{}, own: map[string]bool{},
		reads: map[string]string{}, alias: map[string]string{}}
	for _, f := range files {
		if f.isTable {
			continue
		}
		f.env = k.env
		f.blocks = slices.Clone(f.born)
		if f.kit == "" {
			for _, b := range f.blocks {
				j.own[b.kind.src+" "+b.name.src] = true
				if b.kind.src == "source" && !b.isOff() {
					j.reads[b.said()] = b.name.src
				}
			}
			continue
		}
		if j.files[f.kit] == nil {
			j.order = append(j.order, f.kit)
		}
		j.files[f.kit] = append(j.files[f.kit], f)
	}
	for _, name := range j.order {
		j.readKit(name)
	}
	var uses []Use
	wanted := false
	j.here, j.sent = map[string]bool{}, map[string][]string{}
	for _, f := range files {
		if f.isTable || f.kit != "" {
			continue
		}
		wanted = wanted || f.uses()
		for _, u := range f.Uses() {
			if j.use(f, u, uses) {
				uses, j.here[u.Kit] = append(uses, u), true
			}
		}
	}
	for _, f := range files {
		wanted = j.sends(f, &uses) || wanted
	}
	if !wanted {
		for _, name := range j.order {
			uses = append(uses, Use{Kit: name})
		}
	}
	j.shared = map[string]shared{}
	for _, u := range uses {
		j.join(u)
	}
	for _, name := range j.order {
		if !slices.ContainsFunc(uses, func(u Use) bool { return u.Kit == name }) {
			for _, f := range j.files[name] {
				f.blocks = nil
			}
		}
	}
	j.rename(files)
	k.joined = j
}

// sends adds the kits that groups in a file send to hosts, each as the first of them uses it. It answers whether
// there are any.
func (j *joiner) sends(f *File, uses *[]Use) bool {
	if f.isTable || f.kit != "" {
		return false
	}
	of := f.Sends()
	for _, b := range f.born {
		for _, u := range of[b.name.src] {
			if b.kind.src != "group" {
				continue
			}
			before := slices.DeleteFunc(slices.Clone(*uses), func(x Use) bool { return x.Kit == u.Kit })
			again := j.here[u.Kit] || j.sent[u.Kit] != nil
			if again && j.kits[u.Kit] != nil {
				kept := *j.kits[u.Kit]
				kept.Given = slices.Clone(kept.Given)
				j.use(f, u, before) // whether it can be
				*j.kits[u.Kit] = kept
			} else if j.use(f, u, before) {
				*uses = append(*uses, u)
			}
			j.sent[u.Kit] = append(j.sent[u.Kit], b.name.src)
		}
	}
	return len(of) > 0
}

// rename lets everybody look at the sources that stand for others.
func (j *joiner) rename(files []*File) {
	if len(j.alias) == 0 {
		return
	}
	for _, f := range files {
		for i, b := range f.blocks {
			for n, c := range b.clauses {
				kind, list := c.namesBlocks(b.kind.src)
				if kind != "source" || !slices.ContainsFunc(list, func(t token) bool {
					return j.alias[t.src] != ""
				}) {
					continue
				}
				other := *b // those who hold what was parsed see it as it was
				other.clauses = slices.Clone(b.clauses)
				named := &clause{toks: c.toks[:1:1], body: c.body}
				for _, t := range c.toks[1:] {
					if to := j.alias[t.src]; to != "" && t.kind == name {
						t.src, t.val = to, to
					}
					if t.kind != name || !slices.ContainsFunc(named.toks[1:], func(x token) bool {
						return x.src == t.src
					}) {
						named.toks = append(named.toks, t)
					}
				}
				other.clauses[n] = named.tidyCommas()
				f.blocks[i], b = &other, &other
			}
		}
	}
}

// tidyCommas takes out commas that stand behind each other or at the end, where a name between them is gone.
func (c *clause) tidyCommas() *clause {
	out := c.toks[:1:1]
	for i, t := range c.toks[1:] {
		next := i + 2
		if t.is(",") && (len(out) == 1 || out[len(out)-1].is(",") || next >= len(c.toks) || c.toks[next].is(",")) {
			continue
		}
		out = append(out, t)
	}
	return &clause{toks: out, body: c.body}
}

// uses tells whether a settings block in the file uses a kit, rightly or not.
func (f *File) uses() bool {
	return slices.ContainsFunc(f.born, func(b *block) bool {
		return b.kind.src == "settings" && slices.ContainsFunc(b.clauses, func(c *clause) bool {
			return c.keyword() == "use"
		})
	})
}

// joiner puts kits among settings.
type joiner struct {
	k      *checker
	order  []string // of the kits, as their files come
	kits   map[string]*Kit
	files  map[string][]*File
	own    map[string]bool // the blocks that stand in the settings themselves
	shared map[string]shared
	reads  map[string]string   // what a source says → its name: the same files are read once
	alias  map[string]string   // sources of kits that another one stands for
	here   map[string]bool     // the kits that are used here
	sent   map[string][]string // the groups that use a kit, by its name
}

// shared is a block that a kit has brought.
type shared struct{ kit, text string }

// readKit reads the block that a kit has about itself.
func (j *joiner) readKit(name string) {
	var where token
	for _, f := range j.files[name] {
		f.blocks = slices.DeleteFunc(f.blocks, func(b *block) bool {
			switch b.kind.src {
			case "kit":
				if b.name.src != name || j.kits[name] != nil {
					f.report(Err, "twice", b.name, fmt.Sprintf("the kit %s says twice what it is", name),
						"one file of its folder holds one block: kit "+name+" {")
					return true
				}
				x := &Kit{Pos: b.name.pos, Name: name}
				f.readBlock(b, "kit", x)
				j.kits[name], where = x, b.name
			case "settings", "group":
				f.report(Err, "not-here", b.kind, fmt.Sprintf("a kit has no block %s", b.kind.src),
					"write it into the settings that use the kit")
			default:
				return false
			}
			return true
		})
	}
	if x := j.kits[name]; x != nil && len(x.Needs) == 0 {
		f := j.fileOf(where)
		f.report(Finding, "fits-everything", where, fmt.Sprintf("the kit %s does not say what it is for", name),
			`write: needs program "NAME" or files "GLOB"`)
	}
}

func (j *joiner) fileOf(t token) *File {
	for _, list := range j.files {
		for _, f := range list {
			if f.Name == t.pos.File {
				return f
			}
		}
	}
	return nil
}

// use gives a kit the values of a clause; it answers false where the clause cannot be.
func (j *joiner) use(f *File, u Use, before []Use) bool {
	x := j.kits[u.Kit]
	if x == nil && len(j.files[u.Kit]) > 0 {
		f.report(Err, "incomplete", u.kit, fmt.Sprintf("the kit %s has no block that says what it is", u.Kit),
			fmt.Sprintf("write into one file of its folder: kit %s { needs … }", u.Kit))
		return false
	}
	if x == nil {
		all := append(slices.Clone(j.k.env.Kits), j.order...)
		f.report(Err, "unknown-name", u.kit, fmt.Sprintf("there is no kit %q", u.Kit), meant(u.Kit, all))
		return false
	}
	if slices.ContainsFunc(before, func(b Use) bool { return b.Kit == u.Kit }) {
		f.report(Err, "twice", u.kit, fmt.Sprintf("the kit %s is used twice", u.Kit),
			"put what it is used with into one clause")
		return false
	}
	x.Used, x.at, x.by = true, u.kit, f
	good := true
	for i, g := range u.With {
		n, known := x.given(g.Name)
		if !known {
			var all []string
			for _, g := range x.Given {
				all = append(all, g.Name)
			}
			mend := meant(g.Name, all)
			if len(all) == 0 {
				mend = "it has none: a block of your own with the name of its block stands in its place"
			}
			f.report(Err, "unknown-name", u.names[i], fmt.Sprintf("the kit %s has no value %q", u.Kit, g.Name), mend)
			good = false
			continue
		}
		if a, b := kindOfValue(x.Given[n].tok), kindOfValue(g.tok); a != b {
			f.report(Err, "wrong-kind", g.tok, fmt.Sprintf("%s of the kit %s is %s, and %s is %s", g.Name, u.Kit, a,
				visible(g.Value), b), "write it like the one that the kit has: "+g.Name+" "+x.Given[n].Kit)
			good = false
			continue
		}
		x.Given[n].Value, x.Given[n].tok = g.Value, g.tok
	}
	for i, n := range u.But {
		var all []string
		for _, kf := range j.files[u.Kit] {
			for _, b := range kf.blocks {
				all = append(all, b.name.src)
			}
		}
		if !contains(all, n) {
			f.report(Err, "unknown-name", u.but[i], fmt.Sprintf("the kit %s has no block %q", u.Kit, n), meant(n,
				all))
			good = false
		}
	}
	return good
}

// kindOfValue says in words what a value is.
func kindOfValue(t token) string {
	c := &cursor{file: &File{}, toks: []token{t}}
	switch {
	case t.kind == text:
		return "a text"
	case c.duration("") > 0 && !c.failed:
		return "a duration"
	case strings.HasSuffix(t.src, "%"):
		return "a percentage"
	}
	return "a number"
}

// join puts the blocks of a kit into its files as they are to be read.
func (j *joiner) join(u Use) {
	x := j.kits[u.Kit]
	if x == nil {
		for _, f := range j.files[u.Kit] {
			f.tail = nil
		}
		if list := j.files[u.Kit]; len(list) > 0 {
			list[0].report(Err, "incomplete", token{pos: Pos{File: list[0].Name, Line: 1, Col: 1}, src: " "},
				"no file of this folder says what the kit is", "write: kit "+u.Kit+" { needs … }")
			for _, f := range list {
				f.blocks = nil
			}
		}
		return
	}
	s := j.k.settings
	s.Kits = append(s.Kits, x)
	gone := map[string]bool{} // sources, rules and questions that are not there
	for _, f := range j.files[u.Kit] {
		if s.kitFiles == nil {
			s.kitFiles = map[string]string{}
		}
		s.kitFiles[f.Name] = u.Kit
		for _, b := range f.blocks {
			if contains(u.But, b.name.src) {
				gone[b.kind.src+" "+b.name.src] = true
			}
		}
	}
	for changed := true; changed; { // a rule that is left with no source is gone as well
		changed = false
		for _, f := range j.files[u.Kit] {
			for _, b := range f.blocks {
				id := b.kind.src + " " + b.name.src
				if !gone[id] && !j.own[id] && b.bereft(gone) {
					gone[id], changed = true, true
				}
			}
		}
	}
	for _, f := range j.files[u.Kit] {
		kept := f.blocks[:0:0]
		for _, b := range f.blocks {
			aside := Aside{Kind: b.kind.src, Name: b.name.src, Kit: u.Kit, Pos: b.name.pos}
			id := aside.Kind + " " + aside.Name
			switch {
			case contains(u.But, b.name.src):
				aside.Why = "left out by the settings"
			case j.own[id]:
				aside.Why = "the settings have their own"
			case gone[id]:
				aside.Why = "all that it looks at is left out"
			default:
				b = b.filled(f, x)
				b.leaveOut(gone)
				if x.Used { // its tests hold for the values that it has by itself
					b.clauses = slices.DeleteFunc(b.clauses, func(c *clause) bool { return c.keyword() == "expect" })
				}
				said := b.said()
				if before, twice := j.shared[id]; twice {
					if before.text != said {
						j.clash(x, b, before.kit)
					}
					aside.Why = "the kit " + before.kit + " has brought it"
					break
				}
				if other := j.reads[said]; b.kind.src == "source" && other != "" {
					j.alias[b.name.src] = other
					aside.Why = "the source " + other + " reads the same"
					break
				} else if b.kind.src == "source" {
					j.reads[said] = b.name.src
				}
				j.shared[id] = shared{u.Kit, said}
				kept = append(kept, b)
				continue
			}
			s.Asides = append(s.Asides, aside)
		}
		f.blocks = kept
	}
}

// clash tells that two kits have blocks of one name that say different things.
func (j *joiner) clash(x *Kit, b *block, before string) {
	f, at := x.by, x.at
	if f == nil {
		f, at = j.fileOf(b.name), b.name
	}
	f.report(Finding, "kits-differ", at,
		fmt.Sprintf("the kits %s and %s both have a %s %s, and say different things; that of %s stands", before,
			x.Name, b.kind.src, b.name.src, before),
		fmt.Sprintf("give both the same values, or write a %s %s of your own, which stands for both", b.kind.src,
			b.name.src))
}

// said is what a block says, without its comments.
func (b *block) said() string {
	var out strings.Builder
	for _, c := range b.clauses {
		if w := c.keyword(); w == "note" || w == "about" || w == "expect" {
			continue
		}
		for _, t := range c.toks {
			if t.kind == text {
				t.src = Quote(t.val)
			}
			out.WriteString(t.src + " ")
		}
		if c.body != nil {
			out.WriteString("{" + c.body.said() + "}")
		}
		out.WriteString("\n")
	}
	return out.String()
}

// names are the words of a clause that name blocks of a kind; nil where it names none.
func (c *clause) namesBlocks(of string) (kind string, list []token) {
	switch c.keyword() {
	case "on":
		if of == "rule" || of == "ask" || of == "measure" || of == "deliver" {
			return "source", c.toks[1:]
		}
	case "ask":
		if of == "report" {
			return "ask", c.toks[1:]
		}
	case "rules":
		if of == "hush" {
			return "rule", c.toks[1:]
		}
	case "unless":
		if of == "rule" && len(c.toks) > 2 && c.toks[2].src == "open" {
			return "rule", c.toks[1:2]
		}
	}
	return "", nil
}

// bereft tells whether all that a block looks at is gone.
func (b *block) bereft(gone map[string]bool) bool {
	for _, c := range b.clauses {
		kind, list := c.namesBlocks(b.kind.src)
		if kind == "" || c.keyword() == "unless" {
			continue
		}
		left, there := 0, 0
		for _, t := range list {
			if t.kind == name {
				if there++; !gone[kind+" "+t.src] {
					left++
				}
			}
		}
		if there > 0 && left == 0 {
			return true
		}
	}
	return false
}

// leaveOut takes the names of blocks that are gone out of the clauses of one that stays.
func (b *block) leaveOut(gone map[string]bool) {
	b.clauses = slices.DeleteFunc(b.clauses, func(c *clause) bool {
		kind, list := c.namesBlocks(b.kind.src)
		if kind == "" || !slices.ContainsFunc(list, func(t token) bool { return gone[kind+" "+t.src] }) {
			return false
		}
		if c.keyword() == "unless" {
			return true
		}
		out := c.toks[:1:1]
		for _, t := range list {
			if t.kind != name || gone[kind+" "+t.src] {
				continue
			}
			if len(out) > 1 {
				out = append(out, token{kind: punct, src: ",", val: ",", pos: t.pos})
				t.newline = false
			}
			out = append(out, t)
		}
		c.toks = out
		return false
	})
}

// filled is a copy of a block with the kit's values in their places.
func (b *block) filled(f *File, x *Kit) *block {
	out := *b
	out.clauses = make([]*clause, len(b.clauses))
	quoted := contains([]string{"source", "contact", "deliver"}, b.kind.src)
	for i, c := range b.clauses {
		out.clauses[i] = c.filled(f, x, quoted && c.keyword() != "note" && c.keyword() != "about")
	}
	return &out
}

func (c *clause) filled(f *File, x *Kit, quoted bool) *clause {
	out := &clause{toks: make([]token, 0, len(c.toks))}
	for i := 0; i < len(c.toks); i++ {
		t := c.toks[i]
		switch {
		case quoted && t.kind == text && strings.ContainsRune(t.val, '{'):
			if val := x.fill(t.val); val != t.val {
				t.val, t.src = val, Quote(val)
			}
		case t.is("given") && i > 0 && i+1 < len(c.toks) && c.toks[i+1].kind == name:
			n := c.toks[i+1]
			k, known := x.given(n.src)
			switch {
			case !known:
				var all []string
				for _, g := range x.Given {
					all = append(all, g.Name)
				}
				f.report(Err, "unknown-name", n, fmt.Sprintf("the kit %s has no value %q", x.Name, n.src),
					meant(n.src, all))
			case x.Given[k].tok.kind == text:
				f.report(Err, "wrong-kind", n, fmt.Sprintf("%s is a text, and stands for no number", n.src),
					"write {"+n.src+"} in a quoted text of a source, a contact or a delivery")
			}
			i++
			if known && x.Given[k].tok.kind != text {
				v := x.Given[k].tok
				v.pos, v.newline, v.blank, v.lead, v.trail = t.pos, t.newline, t.blank, t.lead, n.trail
				t = v
			} else {
				t.kind = bad // so that nothing more is said of it
			}
		}
		out.toks = append(out.toks, t)
	}
	if c.body != nil {
		body := *c.body
		body.clauses = make([]*clause, len(c.body.clauses))
		for i, y := range c.body.clauses {
			body.clauses[i] = y.filled(f, x, false)
		}
		out.body = &body
	}
	return out
}

// fill puts the kit's values into a text.
func (k *Kit) fill(s string) string {
	for _, g := range k.Given {
		s = strings.ReplaceAll(s, "{"+g.Name+"}", g.Text())
	}
	return s
}

// Fill puts the kit's values into the name of something that is wanted.
func (k *Kit) Fill(w Wanted) string { return k.fill(w.Name) }
