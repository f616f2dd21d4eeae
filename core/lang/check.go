package lang

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Check reads the blocks of all files into settings, and tells everything that
// is wrong or doubtful. A block with an error is left out; what names it is told
// so only where it does not exist at all. Check may be called with no files.
func Check(files []*File, env Env) (*Settings, []Diagnostic) {
	k := &checker{env: env, settings: &Settings{}, first: map[string]token{}, file: map[any]*File{},
		settingsFile: map[string]*File{}, tables: map[string][]byte{}}
	k.kits(files)
	nameKinds(files)
	for _, f := range files {
		if f.isTable {
			k.tables[f.Name] = f.table
			continue
		}
		k.read(f, func(kind string) bool { return kind == "kind" })
	}
	k.circles()
	for _, f := range files {
		if !f.isTable {
			k.read(f, func(kind string) bool { return kind != "kind" })
		}
	}
	k.builtInAsks()
	byName(k.settings.Sources, func(x *Source) string { return x.Name })
	byName(k.settings.Layouts, func(x *Layout) string { return x.Name })
	byName(k.settings.Rules, func(x *Rule) string { return x.Name })
	byName(k.settings.Contacts, func(x *Contact) string { return x.Name })
	byName(k.settings.Hushes, func(x *Hush) string { return x.Name })
	byName(k.settings.Kinds, func(x *Kind) string { return x.Name })
	byName(k.settings.Asks, func(x *Question) string { return x.Name })
	byName(k.settings.Reports, func(x *Report) string { return x.Name })
	byName(k.settings.Counts, func(x *Measure) string { return x.Name })
	byName(k.settings.Delivers, func(x *Deliver) string { return x.Name })
	k.settings.zones, k.settings.KitNames = env.Zone, env.Kits
	for _, l := range k.settings.Layouts {
		l.Zones = env.Zone
	}
	k.resolve()
	k.groups()
	if !env.ErrorsOnly {
		k.lint()
		k.kitFindings()
	}
	k.apart()
	var ds []Diagnostic
	for _, f := range files {
		ds = append(ds, f.diags...)
	}
	ds = append(ds, k.diags...)
	sortDiagnostics(ds)
	return k.settings, ds
}

// byName sorts blocks by their names; of the same name they stay as they were written.
func byName[T any](list []T, name func(T) string) {
	slices.SortStableFunc(list, func(a, b T) int { return strings.Compare(name(a), name(b)) })
}

// Env is what the language does not know by itself and what settings are checked against.
// The zero value knows nothing, and takes everything of it for right.
type Env struct {
	// Zone returns a zone of the time zone database; nil where there is none of that name.
	Zone func(name string) *time.Location
	// ErrorsOnly leaves out what is doubtful, which takes as long to find as all the rest.
	ErrorsOnly bool
	// Kits are the names of the kits that there are, beside those whose files are read.
	Kits []string
	// Time says what is wrong with how a time is written, and the mend; "" where it is
	// understood. The package layout has it.
	Time func(spec *TimeSpec) (what, mend string)
}

type checker struct {
	env      Env
	settings *Settings
	names    map[string][]string // kind → all names, also of blocks with errors
	first    map[string]token    // kind and name → where it was first
	file     map[any]*File       // node → its file
	// settingsFile says in which file each clause of the settings stands.
	settingsFile map[string]*File
	tables       map[string][]byte // files with words for values
	diags        []Diagnostic
	indexes      map[*File]*blockIndex
	joined       *joiner
}

// blockIndex finds the blocks of a file: by kind and name, of which the first counts, and by where their
// name stands.
type blockIndex struct {
	named map[string]*block
	at    map[Pos]*block
}

func (k *checker) index(f *File) *blockIndex {
	if x := k.indexes[f]; x != nil {
		return x
	}
	x := &blockIndex{map[string]*block{}, map[Pos]*block{}}
	for _, b := range f.blocks {
		x.at[b.name.pos] = b
		if id := b.kind.src + " " + b.name.src; x.named[id] == nil {
			x.named[id] = b
		}
	}
	if k.indexes == nil {
		k.indexes = map[*File]*blockIndex{}
	}
	k.indexes[f] = x
	return x
}

// read makes the nodes of those of a file's blocks that are wanted now.
func (k *checker) read(f *File, wanted func(kind string) bool) {
	f.env = k.env
	if k.names == nil {
		k.names = map[string][]string{}
	}
	for _, b := range f.blocks {
		kind := b.kind.src
		if !wanted(kind) {
			continue
		}
		switch kind {
		case "source", "layout", "rule", "contact", "hush", "kind", "ask", "report", "measure", "deliver",
			"group":
		case "settings":
			k.readSettings(f, b)
			continue
		case "kit":
			f.report(Err, "not-here", b.kind, "a kit stands in a folder of its own",
				fmt.Sprintf("put it into kits/%s beside the settings: all files of that folder are the kit",
					b.name.src))
			continue
		default:
			continue
		}
		if b.name.kind != name {
			if b.name.src == "" {
				f.report(Err, "bad-name", b.kind, article(kind)+" needs a name", "write: "+kind+" NAME {")
			}
			continue
		}
		if contains(reserved, b.name.src) {
			f.report(Err, "bad-name", b.name, fmt.Sprintf("%q is a word of the language and no name", b.name.src),
				"give it another name")
		}
		if kind == "layout" && (b.name.src == "plain" || contains(builtInLayouts, b.name.src)) {
			f.report(Err, "bad-name", b.name, fmt.Sprintf("the layout %s is built in", b.name.src),
				"give yours another name")
		}
		key := kind + " " + b.name.src
		if t, twice := k.first[key]; twice {
			f.report(Err, "twice", b.name, fmt.Sprintf("there is another %s %s, at %s", kind, b.name.src, t.pos),
				"give each its own name")
			continue
		}
		k.first[key] = b.name
		k.names[kind] = append(k.names[kind], b.name.src)
		var node any
		switch kind {
		case "source":
			node = &Source{Pos: b.name.pos, Name: b.name.src}
		case "layout":
			node = &Layout{Pos: b.name.pos, Name: b.name.src}
			f.reading = node
		case "contact":
			node = &Contact{Pos: b.name.pos, Name: b.name.src}
		case "hush":
			node = &Hush{Pos: b.name.pos, Name: b.name.src}
		case "kind":
			x := f.kinds[b.name.src]
			f.reading, node = x, x
		case "ask":
			node = &Question{Pos: b.name.pos, Name: b.name.src}
		case "report":
			node = &Report{Pos: b.name.pos, Name: b.name.src}
		case "measure":
			node = &Measure{Pos: b.name.pos, Name: b.name.src}
		case "deliver":
			node = &Deliver{Pos: b.name.pos, Name: b.name.src}
		case "group":
			node = &Group{Pos: b.name.pos, Name: b.name.src}
		case "rule":
			r := &Rule{Pos: b.name.pos, Name: b.name.src}
			for _, c := range b.clauses { // the steps of an expect look at the key
				if c.keyword() == "per" {
					quiet := &File{lines: f.lines}
					readPer(&cursor{file: quiet, toks: c.toks, i: 1}, r)
				}
			}
			f.reading = r
			node = r
		}
		f.readBlock(b, kind, node)
		f.reading = nil
		k.complete(f, b, node)
		if f.broken(b) {
			continue
		}
		k.file[node] = f
		switch n := node.(type) {
		case *Source:
			k.settings.Sources = append(k.settings.Sources, n)
		case *Layout:
			k.settings.Layouts = append(k.settings.Layouts, n)
		case *Rule:
			k.settings.Rules = append(k.settings.Rules, n)
		case *Contact:
			k.settings.Contacts = append(k.settings.Contacts, n)
		case *Hush:
			k.settings.Hushes = append(k.settings.Hushes, n)
		case *Kind:
			k.settings.Kinds = append(k.settings.Kinds, n)
		case *Question:
			k.settings.Asks = append(k.settings.Asks, n)
		case *Report:
			k.settings.Reports = append(k.settings.Reports, n)
		case *Measure:
			k.settings.Counts = append(k.settings.Counts, n)
		case *Deliver:
			k.settings.Delivers = append(k.settings.Delivers, n)
		case *Group:
			k.settings.Groups = append(k.settings.Groups, n)
		}
	}
}

// readSettings reads a settings block; there may be several, each with clauses of
// its own.
func (k *checker) readSettings(f *File, b *block) {
	if b.name.src != "" {
		f.report(Err, "bad-name", b.name, "settings have no name", "write: settings {")
	}
	into := k.settings
	for _, c := range b.clauses {
		word := c.keyword()
		if word == "off" {
			into = &Settings{} // written and checked, and that is all
		}
		if t, twice := k.first["settings."+word]; twice && once["settings "+word] && t.pos.File+
			t.pos.String() != c.toks[0].pos.File+c.toks[0].pos.String() {
			f.report(Err, "twice", c.toks[0], fmt.Sprintf("%s is written twice; the first stands at %s", word, t.pos),
				"keep one of them")
		} else if !twice && into == k.settings {
			k.first["settings."+word], k.settingsFile[word] = c.toks[0], f
		}
	}
	f.readBlock(b, "settings", into)
}

// broken tells whether an error stands somewhere in the block of a layout.
func (k *checker) broken(l *Layout) bool {
	f := k.file[l]
	for _, b := range f.blocks {
		if b.kind.src == "layout" && b.name.src == l.Name && b.name.pos == l.Pos {
			return f.broken(b)
		}
	}
	return false
}

// broken tells whether an error stands somewhere in the block.
func (f *File) broken(b *block) bool {
	if !b.complete {
		return true
	}
	for _, d := range f.diags {
		if d.Weight == Err && d.Pos.off >= b.kind.pos.off && d.Pos.off <= b.shut.pos.off {
			return true
		}
	}
	return false
}

// complete tells what a block lacks, unless it has other errors.
func (k *checker) complete(f *File, b *block, node any) {
	if f.broken(b) {
		return
	}
	switch n := node.(type) {
	case *Source:
		k.completeSource(f, b, n)
	case *Rule:
		k.completeRule(f, b, n)
	case *Contact:
		k.completeContact(f, b, n)
	case *Hush:
		k.completeHush(f, b, n)
	case *Kind:
		if n.Where == nil {
			f.report(Err, "incomplete", b.name, fmt.Sprintf("the kind %s does not say which entries are of it",
				n.Name),
				"write: where EXPR")
		}
	case *Question:
		k.completeQuestion(f, b, n)
	case *Report:
		if len(n.Asks) == 0 {
			f.report(Err, "incomplete", b.name, fmt.Sprintf("the report %s does not say what is in it", n.Name),
				"write: ask QUESTION, … or ask handover")
		}
	case *Measure:
		if n.Fn == "" {
			f.report(Err, "incomplete", b.name, fmt.Sprintf("the measure %s does not say which number it is", n.Name),
				"write: show count")
		}
	case *Group:
		if len(n.Hosts) == 0 && n.Where == nil {
			f.report(Err, "incomplete", b.name, fmt.Sprintf("the group %s does not say which hosts are in it", n.Name),
				groupMend)
		}
	case *Deliver:
		if n.To.Kind == "" {
			f.report(Err, "incomplete", b.name, fmt.Sprintf("the delivery %s does not say where to", n.Name), toMend)
		}
	}
}

func (k *checker) tell(f *File, w Weight, code string, p Pos, n int, what, mend string) {
	f.report(w, code, token{pos: p, src: strings.Repeat("x", max(1, n))}, what, mend)
}

// clause reports at the clause of b that begins with that word and names arg.
func (k *checker) clause(f *File, b *block, word, arg string, w Weight, code, what, mend string) {
	for _, c := range b.clauses {
		for _, t := range c.toks[1:] {
			if c.keyword() == word && (arg == "" || t.src == arg) {
				f.report(w, code, t, what, mend)
				return
			}
		}
	}
	f.report(w, code, b.name, what, mend)
}

// resolve looks up the names that blocks use of each other.
func (k *checker) resolve() {
	s := k.settings
	for _, l := range s.Layouts {
		k.words(l)
	}
	for _, l := range s.Layouts {
		k.spread(l, nil)
	}
	for _, l := range s.Layouts {
		k.whole(l)
	}
	s.Layouts = slices.DeleteFunc(s.Layouts, func(l *Layout) bool { return k.broken(l) })
	keep := s.Sources[:0]
	for _, x := range s.Sources {
		f := k.file[x]
		switch {
		case x.Layout == "" || x.Layout == "plain" || s.Layout(x.Layout) != nil: // those that are built in among them
			if l := s.Layout(x.Layout); l != nil && l.Time != nil && !l.Divides() && len(l.Steps) == 0 {
				k.at(f, x, "source", "layout", x.Layout, Err, "incomplete",
					fmt.Sprintf("the layout %s divides nothing, so there is no field %s", x.Layout, l.Time.Fields[0]),
					"write a pattern into it: pattern /^(?<at>\\S+ \\S+) (?<text>.*)$/")
				continue
			}
			keep = append(keep, x)
		case contains(k.names["layout"], x.Layout): // it has errors of its own
		default:
			k.at(f, x, "source", "layout", x.Layout, Err, "unknown-name",
				fmt.Sprintf("there is no layout %q", x.Layout),
				meant(x.Layout, append(append([]string{"plain"}, builtInLayouts...), k.names["layout"]...)))
		}
	}
	s.Sources = keep
	rules := s.Rules[:0]
	for _, r := range s.Rules {
		f, ok := k.file[r], true
		for _, on := range r.On {
			if s.Source(on) != nil || on == Itself {
				continue
			}
			ok = false
			if !contains(k.names["source"], on) {
				k.at(f, r, "rule", "on", on, Err, "unknown-name", fmt.Sprintf("there is no source %q", on),
					meant(on, k.names["source"]))
			}
		}
		if ok {
			rules = append(rules, r)
		}
	}
	s.Rules = rules
	k.questions()
	k.out()
	k.shadows()
	k.people()
	s.Rules = slices.DeleteFunc(s.Rules, func(r *Rule) bool { return k.brokenRule(r) })
}

// brokenRule tells whether an error stands somewhere in the block of a rule.
func (k *checker) brokenRule(r *Rule) bool {
	f := k.file[r]
	b := k.index(f).at[r.Pos]
	return b != nil && b.kind.src == "rule" && f.broken(b)
}

// at reports at a word of a clause of the block that node was made of.
func (k *checker) at(f *File, node any, kind, word, arg string, w Weight, code, what, mend string) {
	var nodeName string
	switch n := node.(type) {
	case *Source:
		nodeName = n.Name
	case *Layout:
		nodeName = n.Name
	case *Rule:
		nodeName = n.Name
	case *Contact:
		nodeName = n.Name
	case *Hush:
		nodeName = n.Name
	case *Kind:
		nodeName = n.Name
	case *Question:
		nodeName = n.Name
	case *Report:
		nodeName = n.Name
	case *Measure:
		nodeName = n.Name
	case *Deliver:
		nodeName = n.Name
	}
	if b := k.index(f).named[kind+" "+nodeName]; b != nil {
		k.clause(f, b, word, arg, w, code, what, mend)
	}
}

// Part is a stretch of a template: a text, or the name of a field.
type Part struct{ Text, Field string }

// Template divides a text such as "Pump {pump} at {host}" into its parts. What
// is no {name} stays as it is.
func Template(s string) []Part {
	var out []Part
	text := ""
	for s != "" {
		i := strings.IndexByte(s, '{')
		if i < 0 {
			break
		}
		j := strings.IndexByte(s[i:], '}')
		if j < 0 {
			break
		}
		word := s[i+1 : i+j]
		if word == "" || strings.IndexFunc(word, func(r rune) bool { return !nameRune(r) }) >= 0 {
			text += s[:i+1]
			s = s[i+1:]
			continue
		}
		if text+s[:i] != "" {
			out = append(out, Part{Text: text + s[:i]})
		}
		out = append(out, Part{Field: word})
		text, s = "", s[i+j+1:]
	}
	if text+s != "" {
		out = append(out, Part{Text: text + s})
	}
	return out
}
