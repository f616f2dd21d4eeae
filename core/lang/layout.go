package lang

import (
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
)

// Layout says how the entries of a source divide into fields. Once it was checked,
// what it includes stands in it.
type Layout struct {
	Pos       Pos
	Name      string
	Format    string     // an open format; "" where patterns or a delimiter divide
	Delimited *Delimited // nil where nothing is delimited
	Patterns  []*Pattern // the first that fits
	Time      *TimeSpec
	// Zones is the Env's Zone, by which times that name their zone are read.
	Zones   func(name string) *time.Location
	Types   map[string]string // field → type
	Units   map[string]string // field of type duration → the unit of its bare numbers
	Steps   []FieldStep       // in the order in which they are written
	Names   []Names
	Masks   []Mask
	Expects []*Expect
	About   []string
	Note    string
	Off     bool     // sources that name it read plain entries
	For     []string // the groups of hosts that it is for; nil: it is for this machine
	Sent    bool     // a centre has sent it; set by who reads settings

	includes []include
}

// Delimited says how columns are told apart.
type Delimited struct {
	By      string
	Columns []string // names; of none the first line of a file names them
	Header  bool     // the first line of a file names the columns
	Drop    string   // characters that are taken out of the values
}

// The kinds of steps.
const (
	StepFind  = "find"  // fields out of a field
	StepMap   = "map"   // a field gets another name
	StepSet   = "set"   // a field is put together
	StepLower = "lower" // a value is written in small letters
)

// FieldStep is one change of the fields that the division gave.
type FieldStep struct {
	Pos     Pos
	Kind    string
	Field   string   // what is changed
	To      string   // with StepMap: the new name; with StepSet: the text with {field}
	Pattern *Pattern // with StepFind
}

// Mask says what nobody is shown: the values of a field, or what a pattern fits.
type Mask struct {
	Pos         Pos
	Field       string   // "" with Pattern
	Pattern     *Pattern // what its groups hold, or, where it has none, all that it fits
	First, Last int      // so many characters are kept
	Token       bool     // a stable stand-in instead
}

// include is a layout that is written into another: its patterns come before those
// from `patterns` on, its steps before those from `steps` on.
type include struct {
	name            string
	pos             token
	patterns, steps int
}

// Names are words for the values of a field. An entry whose value has one has it as
// the field FIELD-name.
type Names struct {
	Field string
	Words map[string]string // value → word

	file string // they stand in a file beside the settings
	at   token
}

// Name is the field that holds the word.
func (n Names) Name() string { return n.Field + "-name" }

// Named tells whether a field of the layout holds words for values of another.
func (l *Layout) Named(field string) bool {
	return slices.ContainsFunc(l.Names, func(n Names) bool { return n.Name() == field })
}

// Divides tells whether the layout divides entries by itself; else they are plain.
func (l *Layout) Divides() bool {
	return l.Format != "" || l.Delimited != nil || len(l.Patterns) > 0
}

// GivesUp tells whether a pattern of it begins with anything at all, so that what it fits says
// little.
func (l *Layout) GivesUp() bool {
	return slices.ContainsFunc(l.Patterns, func(p *Pattern) bool {
		return strings.HasPrefix(strings.TrimPrefix(p.Source, "^"), ".*")
	})
}

// Fields are the names that the layout can give.
func (l *Layout) Fields() []string {
	out := l.divided()
	if !l.Divides() {
		out = []string{"text"}
	}
	for _, s := range l.Steps {
		switch s.Kind {
		case StepFind:
			for _, g := range s.Pattern.Groups {
				out = with(out, g)
			}
		case StepMap:
			out = with(slices.DeleteFunc(out, func(x string) bool { return x == s.Field }), s.To)
		case StepSet:
			out = with(out, s.Field)
		}
	}
	for _, n := range l.Names {
		out = with(out, n.Name())
	}
	return out
}

func with(list []string, s string) []string {
	if contains(list, s) {
		return list
	}
	return append(list, s)
}

// divided are the fields that the format, the columns or the patterns give.
func (l *Layout) divided() []string {
	out := slices.Clone(formats[l.Format])
	if l.Delimited != nil {
		for _, c := range l.Delimited.Columns {
			out = with(out, c)
		}
	}
	for _, p := range l.Patterns {
		for _, n := range p.Groups {
			out = with(out, n)
		}
	}
	return out
}

// Trace follows a field back to the fields of the division that its value comes from.
// Computed tells that it need not stand in the entry as it is.
func (l *Layout) Trace(field string) (from []string, computed bool) {
	if l.Named(field) {
		return nil, true
	}
	for f, t := range l.Types {
		if t != "text" && l.Resolve(f) == field {
			return nil, true
		}
	}
	return l.trace(field, len(l.Steps))
}

func (l *Layout) trace(field string, steps int) (from []string, computed bool) {
	for i := steps - 1; i >= 0; i-- {
		switch s := &l.Steps[i]; {
		case s.Kind == StepMap && s.To == field:
			field = s.Field
		case s.Kind == StepFind && contains(s.Pattern.Groups, field):
			a, c1 := l.trace(s.Field, i)
			b, c2 := l.trace(field, i)
			return append(a, b...), c1 || c2
		case (s.Kind == StepSet || s.Kind == StepLower) && s.Field == field:
			return nil, true
		}
	}
	return []string{field}, false
}

// Open tells whether entries can have further fields of names that are not known
// before.
func (l *Layout) Open() bool {
	return l.Format != "" && l.Format != "clf" && l.Format != "combined" || l.Delimited != nil &&
		l.Delimited.Columns == nil
}

// Meaning tells layouts apart that divide differently, or mask differently.
func (l *Layout) Meaning() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %+v %v %v", l.Format, l.Delimited, l.Types, l.Units)
	if l.Time != nil {
		fmt.Fprintf(&b, " %q %q %q %q", l.Time.Fields, l.Time.How, l.Time.Like, l.Time.Order)
	}
	source := func(p *Pattern) string {
		if p == nil {
			return ""
		}
		return p.Source
	}
	for _, p := range l.Patterns {
		fmt.Fprintf(&b, " %q", p.Source)
	}
	for _, s := range l.Steps {
		fmt.Fprintf(&b, " %s %q %q %q", s.Kind, s.Field, s.To, source(s.Pattern))
	}
	for _, n := range l.Names {
		fmt.Fprintf(&b, " %s %v", n.Field, n.Words)
	}
	for _, m := range l.Masks {
		fmt.Fprintf(&b, " %s %q %d %d %v", m.Field, source(m.Pattern), m.First, m.Last, m.Token)
	}
	return b.String()
}

// Resolve is the name that a field has in the end, where it was mapped to another.
func (l *Layout) Resolve(field string) string {
	for _, s := range l.Steps {
		if s.Kind == StepMap && s.Field == field {
			field = s.To
		}
	}
	return field
}

// The ways in which a time is written that are no example.
const (
	TimeRFC3339  = "rfc3339"
	TimeEpoch    = "epoch"
	TimeEpochMS  = "epoch-ms"
	TimeStrftime = "strftime"
)

// TimeSpec says in which fields an entry's own time stands and how it is
// written.
type TimeSpec struct {
	Pos    Pos
	Fields []string
	How    string // "like", or one of the others
	Like   string // an example, or with TimeStrftime the format
	Order  string // "day", "month", "year" or ""
}

// Tables are the names of the files beside this one in which words for values stand.
func (f *File) Tables() []string {
	var out []string
	for _, b := range f.blocks {
		for _, c := range b.clauses {
			if t := c.toks; b.kind.src == "layout" && c.keyword() == "names" && len(t) > 4 && t[2].is("from") &&
				t[3].is("file") && t[4].kind == text {
				out = append(out, beside(f.Name, t[4].val))
			}
		}
	}
	return out
}

// beside is the place of a file that is named in another one.
func beside(file, ref string) string {
	if strings.HasPrefix(ref, "/") {
		return ref
	}
	return file[:strings.LastIndexByte(file, '/')+1] + ref
}

// Table makes a file of words for values, as CSV: a value and its word a line.
func Table(name string, body []byte) *File { return &File{Name: name, table: body, isTable: true} }

// words reads the tables that the layout's names stand in.
func (k *checker) words(l *Layout) {
	f := k.file[l]
	for i := range l.Names {
		n := &l.Names[i]
		if n.file == "" {
			continue
		}
		place := beside(f.Name, n.file)
		body, ok := k.tables[place]
		if !ok {
			f.report(Err, "no-file", n.at, fmt.Sprintf("there is no file %s", visible(place)),
				"put it there: a value and its word a line, with a comma between")
			continue
		}
		r := csv.NewReader(strings.NewReader(strings.TrimPrefix(string(body), "\ufeff")))
		r.FieldsPerRecord, r.Comment, r.TrimLeadingSpace = -1, '#', true
		for {
			row, err := r.Read()
			if err == io.EOF {
				break
			}
			line, _ := 0, 0
			if err == nil {
				line, _ = r.FieldPos(0)
			}
			switch {
			case err != nil:
				f.report(Err, "bad-table", n.at, fmt.Sprintf("%s is no CSV: %v", visible(place), err),
					"write a value and its word a line, with a comma between")
			case len(row) < 2:
				f.report(Err, "bad-table", n.at, fmt.Sprintf("%s: line %d has no word", visible(place), line),
					"write a value and its word a line, with a comma between")
			case len(n.Words) >= maxNames:
				f.report(Err, "too-many", n.at, fmt.Sprintf("%s has words for more than %d values", visible(place),
					maxNames), "leave out those that no rule and nobody needs")
				err = io.EOF
			default:
				if _, twice := n.Words[row[0]]; !twice {
					n.Words[row[0]] = row[1]
				}
			}
			if err != nil {
				break
			}
		}
	}
}

// spread writes into the layout what it includes.
func (k *checker) spread(l *Layout, above []string) {
	f := k.file[l]
	included := l.includes
	l.includes = nil
	for i := len(included) - 1; i >= 0; i-- { // the last first, so that the places stay
		x := included[i]
		if contains(above, x.name) || x.name == l.Name {
			f.report(Err, "include-circle", x.pos,
				fmt.Sprintf("%s includes itself: %s", x.name, strings.Join(append(above, l.Name, x.name), " → ")),
				"take one of them out")
			continue
		}
		if contains(builtInLayouts, x.name) {
			if l.Format != "" && l.Format != x.name {
				f.report(Err, "two-formats", x.pos, "a layout has one format", "keep one of them")
			}
			l.Format = x.name
			continue
		}
		var o *Layout
		for _, y := range k.settings.Layouts {
			if y.Name == x.name {
				o = y
			}
		}
		if o == nil {
			if !contains(k.names["layout"], x.name) {
				f.report(Err, "unknown-name", x.pos, fmt.Sprintf("there is no layout %q", x.name),
					meant(x.name, k.names["layout"]))
			}
			continue
		}
		k.spread(o, append(above, l.Name))
		if o.Format != "" && l.Format != "" && o.Format != l.Format || o.Delimited != nil && l.Delimited != nil {
			f.report(Err, "two-formats", x.pos, fmt.Sprintf("%s divides in another way", x.name), "keep one of them")
			continue
		}
		if o.Format != "" {
			l.Format = o.Format
		}
		if o.Delimited != nil {
			l.Delimited = o.Delimited
		}
		l.Patterns = slices.Insert(l.Patterns, x.patterns, o.Patterns...)
		l.Steps = slices.Insert(l.Steps, x.steps, o.Steps...)
		if l.Time == nil {
			l.Time = o.Time
		}
		l.Types, l.Units = underlaid(l.Types, o.Types), underlaid(l.Units, o.Units)
		for _, n := range o.Names {
			if !slices.ContainsFunc(l.Names, func(m Names) bool { return m.Field == n.Field }) {
				l.Names = append(l.Names, n)
			}
		}
		l.Masks = append(l.Masks, o.Masks...)
	}
}

func underlaid(over, under map[string]string) map[string]string {
	for k, v := range under {
		if _, had := over[k]; !had {
			if over == nil {
				over = map[string]string{}
			}
			over[k] = v
		}
	}
	return over
}

// whole checks a layout with all that it includes.
func (k *checker) whole(l *Layout) {
	f := k.file[l]
	ways := 0
	for _, has := range []bool{l.Format != "", l.Delimited != nil, len(l.Patterns) > 0} {
		if has {
			ways++
		}
	}
	tell := func(word, arg, code, what, mend string) { k.at(f, l, "layout", word, arg, Err, code, what, mend) }
	if ways > 1 {
		tell("", "", "two-formats", fmt.Sprintf("the layout %s divides in two ways", l.Name),
			"keep one of them: a format, delimited, or patterns; find in FIELD divides further")
		return
	}
	if ways == 0 || l.Open() { // a part of others, or of names that nobody knows before
		return
	}
	known := l.divided()
	unknown := func(word, field string) {
		if !contains(known, field) {
			tell(word, field, "unknown-field", fmt.Sprintf("nothing in this layout gives the field %s", field),
				meant(field, known))
		}
	}
	for _, s := range l.Steps {
		switch s.Kind {
		case StepFind:
			if s.Field != "text" {
				unknown("find", s.Field)
			}
			known = append(known, s.Pattern.Groups...)
		case StepMap:
			unknown("map", s.Field)
			known = append(known, s.To)
		case StepSet:
			for _, p := range Template(s.To) {
				if p.Field != "" && !contains(known, p.Field) {
					tell("set", s.Field, "unknown-field", fmt.Sprintf("{%s} is no field that is known here", p.Field),
						meant(p.Field, known))
				}
			}
			known = append(known, s.Field)
		case StepLower:
			unknown("lower", s.Field)
		}
	}
	for _, n := range l.Names {
		unknown("names", n.Field)
		known = append(known, n.Name())
	}
	if l.Time != nil {
		for _, x := range l.Time.Fields {
			unknown("time", x)
		}
	}
	for x := range l.Types {
		unknown("type", x)
	}
	for _, m := range l.Masks {
		if m.Field != "" {
			unknown("mask", m.Field)
		}
	}
}

// Clauses writes clauses that stand behind each other on a line each on one of its
// own, where the next one begins with a word that only a clause begins with.
func Clauses(kind, text string) string {
	toks, _, _ := lex("", []byte(text))
	var b strings.Builder
	depth := 0
	for i, t := range toks {
		if t.kind == end {
			break
		}
		switch {
		case i == 0:
		case t.newline:
			b.WriteByte('\n')
		case depth == 0 && t.kind == name && !toks[i-1].is(",") && clauses[kind][t.src] != nil &&
			!takesName(toks[:i]):
			b.WriteByte('\n')
		default:
			b.WriteByte(' ')
		}
		b.WriteString(t.src)
		switch {
		case t.is("{"), t.is("("):
			depth++
		case t.is("}"), t.is(")"):
			depth--
		}
	}
	return b.String()
}

// takesName tells whether a name is still to come in the clause that the tokens end
// with.
func takesName(toks []token) bool {
	last := toks[len(toks)-1]
	if last.kind != name {
		return false
	}
	switch last.src {
	case "time", "type", "in", "map", "to", "set", "names", "lower", "mask", "include", "columns", "as", "like",
		"keep", "from":
		return true
	}
	return len(toks) > 1 && toks[len(toks)-2].is("type")
}
