package lang

import (
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"
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
	Types     map[string]string // field → type
	Units     map[string]string // field of type duration → the unit of its bare numbers
	Steps     []FieldStep       // in the order in which they are written
	Names     []Names
	Masks     []Mask
	Expects   []*Expect
	About     []string
	Note      string
	Off       bool // sources that name it read plain entries

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
	return l.Format != "" && l.Format != "clf" && l.Format != "combined" || l.Delimited != nil && l.Delimited.Columns == nil
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

// CheckTime says what is wrong with how a time is written, and the mend; "" where
// it is understood. The package layout provides it.
var CheckTime func(spec *TimeSpec) (what, mend string)

func readTime(c *cursor, node any) {
	l := node.(*Layout)
	spec := &TimeSpec{Pos: c.toks[0].pos}
	for {
		spec.Fields = append(spec.Fields, c.fieldName("the field that holds the time"))
		if !c.accept(",") {
			break
		}
	}
	const mend = `write: time at like "2026-11-24 05:32:28.114", or time at rfc3339`
	t := c.next()
	spec.How = t.src
	ex := c.peek()
	switch t.src {
	case "like":
		spec.Like = c.text("an example of the time")
		for _, word := range []string{"day", "month", "year"} {
			if c.accept(word) {
				spec.Order = word
				if !c.accept("first") {
					c.expected(c.peek(), "first", "write: day first, month first, or year first")
				}
				break
			}
		}
	case TimeRFC3339, TimeEpoch, TimeEpochMS:
		ex = t
	case TimeStrftime:
		spec.Like = c.text("the format")
	default:
		c.expected(t, "how the time is written", mend)
	}
	if !c.failed && CheckTime != nil {
		if what, mend := CheckTime(spec); what != "" {
			c.fail(ex, "bad-time-example", what, mend)
		}
	}
	c.done(mend)
	l.Time = spec
}

var (
	fieldTypes    = []string{"integer", "decimal", "time", "duration", "address", "boolean", "text"}
	durationUnits = []string{"ns", "us", "ms", "s", "m", "h", "d"}
)

func readType(c *cursor, node any) {
	l := node.(*Layout)
	f := c.fieldName("a field")
	t := c.next()
	switch {
	case t.kind != name:
		c.expected(t, "a type", "types are "+strings.Join(fieldTypes, ", "))
	case !contains(fieldTypes, t.src):
		c.fail(t, "unknown-type", fmt.Sprintf("there is no type %q", t.src), meant(t.src, fieldTypes))
	}
	if in := c.peek(); c.accept("in") {
		if t.src != "duration" {
			c.fail(in, "syntax", "only a duration has a unit", "leave the unit out")
		}
		u := c.peek()
		unit := c.fieldName("a unit")
		if unit = strings.Replace(unit, "µs", "us", 1); !c.failed && !contains(durationUnits, unit) {
			c.fail(u, "unknown-unit", fmt.Sprintf("there is no unit %q", u.src), meant(u.src, durationUnits))
		}
		if l.Units == nil {
			l.Units = map[string]string{}
		}
		l.Units[f] = unit
	}
	c.done("write: type FIELD TYPE, or type FIELD duration in ms")
	if l.Types == nil {
		l.Types = map[string]string{}
	}
	l.Types[f] = t.src
}

func readFormat(c *cursor, node any) {
	l := node.(*Layout)
	if l.Format != "" {
		c.fail(c.toks[0], "two-formats", "a layout has one format", "keep one of them")
	}
	l.Format = c.toks[0].src
	c.done("the format stands alone")
}

func readPlain(c *cursor, _ any) { c.done("plain stands alone") }

func readPattern(c *cursor, node any) {
	l := node.(*Layout)
	t := c.peek()
	if p := c.pattern("a pattern"); p != nil {
		if len(p.Groups) == 0 {
			c.fail(t, "no-groups", "the pattern names no part of the line, so it gives no field", "name the parts: (?<at>…) (?<host>…) (?<text>…)")
		}
		l.Patterns = append(l.Patterns, p)
	}
	c.done("one pattern a clause; further ones in clauses of their own")
}

func readDelimited(c *cursor, node any) {
	const mend = `write: delimited "\t" columns at, host, text, or delimited "," header`
	d := &Delimited{}
	t := c.peek()
	if d.By = c.text("what stands between the columns"); d.By == "" && !c.failed {
		c.fail(t, "bad-delimiter", "columns need something between them", mend)
	}
	for c.more() {
		switch t := c.next(); t.src {
		case "columns":
			for {
				at := c.peek()
				f := c.fieldName("a column's name")
				if contains(d.Columns, f) {
					c.fail(at, "twice", fmt.Sprintf("two columns are named %s", f), "give each a name of its own")
				}
				d.Columns = append(d.Columns, f)
				if !c.accept(",") {
					break
				}
			}
		case "header":
			d.Header = true
		case "drop":
			d.Drop = c.text("the characters to drop")
		default:
			c.i--
			c.done(mend)
		}
	}
	if len(d.Columns) == 0 && !d.Header && !c.failed {
		c.fail(c.toks[0], "incomplete", "the columns have no names", mend)
	}
	node.(*Layout).Delimited = d
}

func readFind(c *cursor, node any) {
	const mend = `write: find in text /pump (?<pump>\d+)/`
	l := node.(*Layout)
	if !c.accept("in") {
		c.expected(c.peek(), "in", mend)
	}
	s := FieldStep{Pos: c.toks[0].pos, Kind: StepFind, Field: c.fieldName("a field")}
	t := c.peek()
	if s.Pattern = c.pattern("a pattern"); s.Pattern != nil && len(s.Pattern.Groups) == 0 {
		c.fail(t, "no-groups", "the pattern names no part of the field, so it gives no field", "name the part: (?<pump>…)")
	}
	c.done(mend)
	if !c.failed {
		l.Steps = append(l.Steps, s)
	}
}

func readMap(c *cursor, node any) {
	const mend = "write: map hostname to host"
	s := FieldStep{Pos: c.toks[0].pos, Kind: StepMap, Field: c.fieldName("a field")}
	if !c.accept("to") {
		c.expected(c.peek(), "to", mend)
	}
	t := c.peek()
	if s.To = c.fieldName("its new name"); s.To == s.Field && !c.failed {
		c.fail(t, "does-not-apply", fmt.Sprintf("%s has that name already", s.To), "take the clause out")
	}
	c.done(mend)
	if l := node.(*Layout); !c.failed {
		l.Steps = append(l.Steps, s)
	}
}

func readSet(c *cursor, node any) {
	const mend = `write: set site "north quay", or set place "{host} {bay}"`
	s := FieldStep{Pos: c.toks[0].pos, Kind: StepSet, Field: c.fieldName("a field"), To: c.text("its value")}
	c.done(mend)
	if l := node.(*Layout); !c.failed {
		l.Steps = append(l.Steps, s)
	}
}

func readLower(c *cursor, node any) {
	s := FieldStep{Pos: c.toks[0].pos, Kind: StepLower, Field: c.fieldName("a field")}
	c.done("write: lower FIELD")
	if l := node.(*Layout); !c.failed {
		l.Steps = append(l.Steps, s)
	}
}

func readMask(c *cursor, node any) {
	const mend = "write: mask card keep last 4, mask account as token, or mask /password=(?<secret>\\S+)/"
	m := Mask{Pos: c.toks[0].pos}
	if c.peek().kind == regex {
		m.Pattern = c.pattern("a pattern")
		c.done("a pattern stands alone")
	} else {
		m.Field = c.fieldName("a field, or a pattern")
		if c.accept("as") {
			if !c.accept("token") {
				c.expected(c.peek(), "token", mend)
			}
			m.Token = true
		}
		for c.more() && !m.Token && c.accept("keep") {
			switch t := c.next(); t.src {
			case "first":
				m.First = c.count("the number of characters")
			case "last":
				m.Last = c.count("the number of characters")
			default:
				c.expected(t, "first or last", mend)
			}
		}
		c.done(mend)
	}
	if l := node.(*Layout); !c.failed {
		l.Masks = append(l.Masks, m)
	}
}

func readInclude(c *cursor, node any) {
	l := node.(*Layout)
	t := c.next()
	if t.kind != name {
		c.expected(t, "a layout's name", "write: include NAME")
	}
	c.done("one layout a clause")
	if !c.failed {
		l.includes = append(l.includes, include{t.src, t, len(l.Patterns), len(l.Steps)})
	}
}

// readNames stands for readNamesClause in the list of clauses.
func readNames(*cursor, any) {}

// maxNames bounds how many values of a field can have a word.
const maxNames = 10_000

func (f *File) readNamesClause(c *clause, l *Layout) {
	const mend = `write: names event { 4310 "gate refused" }, or names event from file "events.csv"`
	cur := &cursor{file: f, toks: c.toks, i: 1}
	n := Names{Field: cur.fieldName("a field"), Words: map[string]string{}}
	if cur.accept("from") {
		if !cur.accept("file") {
			cur.expected(cur.peek(), "file", mend)
		}
		n.at = cur.peek()
		n.file = cur.text("a file's name")
	}
	cur.done(mend)
	for _, had := range l.Names {
		if had.Field == n.Field {
			f.report(Err, "twice", c.toks[0], "names for "+n.Field+" are written twice", "put them into one block")
		}
	}
	l.Names = append(l.Names, n)
	if n.file != "" && c.body == nil {
		return
	}
	if c.body == nil || len(c.body.clauses) == 0 {
		f.report(Err, "incomplete", c.toks[0], "no value has a word here", mend)
		return
	}
	for _, x := range c.body.clauses {
		cur := &cursor{file: f, toks: x.toks}
		t := cur.next()
		value := t.src
		switch t.kind {
		case text:
			value = t.val
		case number, name:
		default:
			cur.expected(t, "a value", mend)
		}
		word := cur.text("a word for it")
		cur.done("one value and its word a line")
		if _, twice := n.Words[value]; twice && !cur.failed {
			f.report(Err, "twice", t, fmt.Sprintf("%s has a word already", visible(value)), "keep one of them")
		}
		n.Words[value] = word
	}
	if len(n.Words) > maxNames {
		f.report(Err, "too-many", c.toks[0], fmt.Sprintf("%d values have words, and %d can", len(n.Words), maxNames), "leave out those that no rule and nobody needs")
	}
}

// Tables are the names of the files beside this one in which words for values stand.
func (f *File) Tables() []string {
	var out []string
	for _, b := range f.blocks {
		for _, c := range b.clauses {
			if t := c.toks; b.kind.src == "layout" && c.keyword() == "names" && len(t) > 4 && t[2].is("from") && t[3].is("file") && t[4].kind == text {
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
			f.report(Err, "no-file", n.at, fmt.Sprintf("there is no file %s", visible(place)), "put it there: a value and its word a line, with a comma between")
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
				f.report(Err, "bad-table", n.at, fmt.Sprintf("%s is no CSV: %v", visible(place), err), "write a value and its word a line, with a comma between")
			case len(row) < 2:
				f.report(Err, "bad-table", n.at, fmt.Sprintf("%s: line %d has no word", visible(place), line), "write a value and its word a line, with a comma between")
			case len(n.Words) >= maxNames:
				f.report(Err, "too-many", n.at, fmt.Sprintf("%s has words for more than %d values", visible(place), maxNames), "leave out those that no rule and nobody needs")
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
			f.report(Err, "include-circle", x.pos, fmt.Sprintf("%s includes itself: %s", x.name, strings.Join(append(above, l.Name, x.name), " → ")), "take one of them out")
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
				f.report(Err, "unknown-name", x.pos, fmt.Sprintf("there is no layout %q", x.name), meant(x.name, k.names["layout"]))
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
		tell("", "", "two-formats", fmt.Sprintf("the layout %s divides in two ways", l.Name), "keep one of them: a format, delimited, or patterns; find in FIELD divides further")
		return
	}
	if ways == 0 || l.Open() { // a part of others, or of names that nobody knows before
		return
	}
	known := l.divided()
	unknown := func(word, field string) {
		if !contains(known, field) {
			tell(word, field, "unknown-field", fmt.Sprintf("nothing in this layout gives the field %s", field), meant(field, known))
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
					tell("set", s.Field, "unknown-field", fmt.Sprintf("{%s} is no field that is known here", p.Field), meant(p.Field, known))
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
		case depth == 0 && t.kind == name && !toks[i-1].is(",") && clauses[kind][t.src] != nil && !takesName(toks[:i]):
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
	case "time", "type", "in", "map", "to", "set", "names", "lower", "mask", "include", "columns", "as", "like", "keep", "from":
		return true
	}
	return len(toks) > 1 && toks[len(toks)-2].is("type")
}
