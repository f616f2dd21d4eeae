// Package layout divides entries into fields. A line and the layout of its
// source come in; its fields, its own time and whether it fits go out. A line
// that does not fit stays whole. No clock is read here: where a time lacks its
// year, the caller says near which instant it lies.
package layout

import (
	"bytes"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/steps"
)

// Layout is a compiled layout. It may be used by several goroutines at once,
// each with a Divider of its own.
type Layout struct {
	patterns []compiled
	columns  *columns // nil where no delimiter divides
	format   format   // nil where patterns or a delimiter divide
	name     string   // of the open format
	glance   glance   // of the open format, or nil
	early    bool     // entries of the open format may begin with their time
	wants    map[string]bool
	time     *TimeFormat // nil where the layout gives no time, or the format finds it
	timeIn   []string
	zones    Zones
	types    map[string]string
	units    map[string]string
	zone     *time.Location
	host     bool // it gives the field host
	steps    []lang.FieldStep
	names    []lang.Names
	masks    []mask
	// How the events of a channel are told.
	essentials bool
	account    string
}

type compiled struct {
	pattern *lang.Pattern
	steps   *steps.Steps // nil where only the regular expression serves
	must    []byte       // what every line has that the expression fits; empty is not known
	names   []string
	gives   []int // the groups that are fields, and wanted
	timeAt  int   // the group that holds the whole time as it is written, or -1
	// behind is the byte that ends the time's group, where the line begins with
	// that group and its last run holds digits, points and commas, but not that
	// byte; -1 where it is not so.
	behind int
	lead   string // what stands in front of that group, always
	// past matches what stands behind that group, whatever time it has; nil is that it cannot.
	past *steps.Steps
}

// mustHave is the longest text that every line has that a pattern fits; "" where none is known.
func mustHave(p *lang.Pattern) (most string) {
	for _, set := range lang.Choices(p) {
		if len(set) == 1 && !set[0].Fold && len(set[0].Text) > len(most) {
			most = set[0].Text
		}
	}
	return most
}

// Compile makes a layout of its settings; nil stands for plain. Times without a
// zone are read in zone; secret is the key of the stand-ins of masks.
func Compile(l *lang.Layout, zone *time.Location, secret []byte) *Layout {
	out := &Layout{zone: zone}
	if l == nil {
		return out
	}
	out.name, out.zones = l.Format, l.Zones
	out.format = formats[l.Format]
	if d := l.Delimited; d != nil {
		out.columns = newColumns(d)
	} else if l.Format == "csv" {
		out.columns = newColumns(&lang.Delimited{By: ",", Header: true})
	}
	out.steps, out.names, out.units = l.Steps, l.Names, l.Units
	out.masks = compileMasks(l, secret)
	if l.Time != nil {
		for _, f := range l.Time.Fields {
			out.timeIn = append(out.timeIn, l.Resolve(f))
		}
		out.time, _ = out.zones.TimeOf(l.Time)
	}
	out.types = map[string]string{}
	for f, t := range l.Types {
		if t != "text" {
			out.types[l.Resolve(f)] = t
		}
		if u := l.Units[f]; u != "" && l.Resolve(f) != f {
			out.units = maps.Clone(out.units)
			out.units[l.Resolve(f)] = u
		}
	}
	for _, p := range l.Patterns {
		c := compiled{pattern: p, names: p.Names(), timeAt: -1, behind: -1}
		if c.steps = steps.Compile(p.Tree(), c.names); c.steps == nil {
			c.must = []byte(mustHave(p))
		}
		for i, n := range c.names {
			for k, f := range out.timeIn {
				if f == n {
					out.timeIn[k] = n // of one place in memory they are compared at once
				}
			}
			if n != "" && len(out.timeIn) == 1 && n == out.timeIn[0] && !out.retimed() && out.types[n] == "" {
				c.timeAt = i
			}
		}
		if c.steps != nil && c.timeAt > 0 {
			c.lead, c.behind = c.steps.Behind(c.timeAt)
			c.past = c.steps.Past(c.timeAt)
		}
		out.patterns = append(out.patterns, c)
	}
	out.settle()
	out.glance, out.early = glancer(out), out.name == "syslog"
	out.host = l.Open() || slices.Contains(l.Fields(), "host")
	return out
}

// Narrow makes the layout give no more than some fields, and what its time and its
// steps need, so that dividing costs less.
func (l *Layout) Narrow(fields []string) {
	l.wants = map[string]bool{}
	for _, f := range append(slices.Clone(fields), l.timeIn...) {
		l.wants[f] = true
		l.wants[strings.TrimSuffix(f, "-name")] = true
	}
	if len(l.masks) > 0 {
		l.wants = nil // what is masked may stand in any field
	}
	for _, s := range l.steps {
		switch {
		case l.wants == nil:
		case s.Kind == lang.StepSet:
			for _, p := range lang.Template(s.To) {
				l.wants[p.Field] = true
			}
		default:
			l.wants[s.Field] = true
		}
	}
	l.settle()
}

// settle notes which groups of the patterns are fields that are wanted.
func (l *Layout) settle() {
	for i := range l.patterns {
		c := &l.patterns[i]
		c.gives = c.gives[:0]
		for g, name := range c.names {
			if name != "" && l.wanted(name) {
				c.gives = append(c.gives, g)
			}
		}
	}
}

// retimed tells whether a step may change the field that holds the time.
func (l *Layout) retimed() bool {
	return slices.ContainsFunc(l.steps, func(s lang.FieldStep) bool {
		switch s.Kind {
		case lang.StepMap:
			return slices.Contains(l.timeIn, s.Field) || slices.Contains(l.timeIn, s.To)
		case lang.StepFind:
			return slices.ContainsFunc(s.Pattern.Groups, func(g string) bool { return slices.Contains(l.timeIn, g) })
		}
		return slices.Contains(l.timeIn, s.Field)
	})
}

// wanted tells whether a field is asked for.
func (l *Layout) wanted(name string) bool { return l.wants == nil || l.wants[name] }

// Timed tells whether the layout gives entries a time of their own.
func (l *Layout) Timed() bool {
	return l.time != nil || l.format != nil || l.columns != nil && l.columns.guess
}

// Tell says how the events of a channel are told: of their messages the essentials
// alone, and their accounts by "id", "name" or "both".
func (l *Layout) Tell(essentials bool, account string) { l.essentials, l.account = essentials, account }

// Plain tells whether the layout gives no fields at all.
func (l *Layout) Plain() bool {
	return len(l.patterns) == 0 && l.format == nil && l.columns == nil && len(l.steps) == 0 && len(l.types) == 0 &&
		len(l.masks) == 0 && len(l.names) == 0
}

// Divides tells whether the layout divides entries by itself; else they are plain, and what it
// finds in them is found besides.
func (l *Layout) Divides() bool { return len(l.patterns) > 0 || l.format != nil || l.columns != nil }

// GivesHost tells whether the layout gives the field host.
func (l *Layout) GivesHost() bool { return l.host }

// Zoned tells whether the times that the layout reads say their zone.
func (l *Layout) Zoned() bool { return l.time == nil || l.time.HasZone() }

// Divider divides the lines of one origin. It is not for several goroutines at
// once. The zero value with a Layout is ready.
type Divider struct {
	Layout *Layout
	// Header is the line that names the columns of those behind it, where the layout
	// has such lines: See sets it.
	Header string

	spans []int
	cache timeCache
	look  glanced // how lines look that are of the minute of the last one
	// yearless tells that the time of the last entry of syslog had no year.
	yearless bool
	// starts is memory for where lines begin.
	starts *[mostStarts]uint32
	heads  head // what Header says
	keys   map[string]*keyed
	order  []*keyed // as they came in the entry before
	guess  guessed
	lead   lead // of entries that have their time in front
	cells  []cell
	reuse  fields
	from   []*keyed        // memory for what open formats are divided into
	text   strings.Builder // the lines of late, with Reuse
	typed  []typeOf        // of the fields of the entry before, in their order
	// Reuse makes each division use the memory of the one before.
	Reuse bool
}

// typeOf is the type of a field of some name.
type typeOf struct{ name, typ string }

// typeAt is the type of the field of a name, which is the i-th of an entry.
func (d *Divider) typeAt(i int, name string) string {
	for len(d.typed) <= i {
		d.typed = append(d.typed, typeOf{})
	}
	t := &d.typed[i]
	if t.name != name {
		*t = typeOf{name, d.Layout.types[name]}
	}
	return t.typ
}

// textChunk is how much text of lines is kept in one piece, in bytes.
const textChunk = 16 << 10

// textOf is a line as a string. With Reuse many lines share one piece of memory.
func (d *Divider) textOf(line []byte) string {
	if !d.Reuse || len(line) > textChunk/4 {
		return string(line)
	}
	if d.text.Cap()-d.text.Len() < len(line) {
		d.text.Reset()
		d.text.Grow(textChunk)
	}
	n := d.text.Len()
	d.text.Write(line)
	return d.text.String()[n:]
}

// Division is what became of one line.
type Division struct {
	Fields []entry.Field
	At     entry.Instant
	Timed  bool // At was found and read
	Fits   bool
	Header bool // it is no entry, but names the columns of those that come
	// Line is the line as text, where the fields are parts of it; else "".
	Line string
	// Written are values as they stand in the entry, of fields whose type writes them
	// in another form.
	Written []entry.Field
	Misfits []Misfit // why it does not fit, or which values do not fit their types

	hidden []hidden
	masks  []mask
}

// Misfit is why an entry, or a value of it, does not fit.
type Misfit struct {
	Field  string // "" where the entry does not fit as a whole
	Reason string // in words; entries of one reason belong together
	Value  string // what does not fit
}

func (m Misfit) String() string {
	if m.Value == "" {
		return m.Reason
	}
	return m.Reason + ": `" + m.Value + "`"
}

// Divide divides a line. Near is where a time without a year, or an hour that
// occurs twice, is to be looked for.
//
// An entry of many lines that no pattern fits as a whole is divided by its first
// line; the further ones then belong to the field text, where the first line ends
// with it.
func (d *Divider) Divide(line []byte, near entry.Instant) (out Division) {
	d.DivideInto(&out, line, near)
	return out
}

// DivideInto is Divide with a place for what comes out.
func (d *Divider) DivideInto(out *Division, line []byte, near entry.Instant) {
	*out = Division{}
	d.whole(out, line, near)
	d.finish(out, line, near)
}

func (d *Divider) whole(out *Division, line []byte, near entry.Instant) {
	if d.divide(out, line, near); out.Fits {
		return
	}
	if i := bytes.IndexByte(line, '\n'); i >= 0 {
		var first Division
		if d.divide(&first, line[:i], near); first.Fits {
			for k := range first.Fields {
				if f := &first.Fields[k]; f.Name == "text" && strings.HasSuffix(string(line[:i]), f.Value) {
					f.Value += valid(line[i:])
				}
			}
			*out = first
		}
	}
}

func (d *Divider) divide(out *Division, line []byte, near entry.Instant) {
	l := d.Layout
	switch {
	case l.columns != nil:
		*out = d.delimited(line, near)
		return
	case l.format != nil:
		*out = l.format(d, line, near)
		return
	case len(l.patterns) == 0:
		out.Fits = true
		return
	}
	for i := range l.patterns {
		c := &l.patterns[i]
		spans := d.match(c, line, -1)
		if spans == nil {
			continue
		}
		list := d.fields(len(c.gives) + 1)
		text := d.textOf(line)
		sound := utf8.ValidString(text)
		for _, g := range c.gives {
			if spans[2*g] < 0 {
				continue
			}
			v := text[spans[2*g]:spans[2*g+1]]
			if !sound {
				v = strings.ToValidUTF8(v, "\uFFFD")
			}
			list = append(list, entry.Field{Name: c.names[g], Value: v})
		}
		out.Fits, out.Fields = true, list
		if sound {
			out.Line = text
		}
		if d.Reuse {
			d.reuse = list
		}
		return
	}
}

// fields is memory for some fields.
func (d *Divider) fields(most int) fields {
	if d.Reuse && cap(d.reuse) >= most {
		return d.reuse[:0]
	}
	return make(fields, 0, most)
}

// finish does what a layout does behind the division: its steps, types, names and
// time; and notes what nobody is to be shown.
func (d *Divider) finish(out *Division, line []byte, near entry.Instant) {
	l := d.Layout
	out.masks = l.masks
	if len(l.masks) > 0 && !out.Header {
		out.cover(l.masks, string(line))
	}
	if !out.Fits || out.Header {
		return
	}
	if len(l.masks) > 0 {
		out.hide(l.masks)
	}
	if len(l.steps) > 0 {
		f := fields(out.Fields)
		for i := range l.steps {
			f.change(&l.steps[i], line)
		}
		out.Fields = f
	}
	if len(l.types) > 0 {
		for i := range out.Fields {
			f := &out.Fields[i]
			t := d.typeAt(i, f.Name)
			if t == "" || f.Value == "" {
				continue
			}
			v, ok := typed(f.Value, t, l.units[f.Name], l.zone, near)
			if !ok {
				out.Misfits = append(out.Misfits, Misfit{f.Name, "`" + f.Name + "` is " + typeWords[t], f.Value})
			} else if v != f.Value {
				out.Written = append(out.Written, *f)
				f.Value = v
			}
		}
	}
	for i := range l.names {
		n := &l.names[i]
		for _, f := range out.Fields {
			if f.Name == n.Field {
				if word := n.Words[f.Value]; word != "" {
					out.Fields = append(out.Fields, entry.Field{Name: n.Name(), Value: word})
				}
				break
			}
		}
	}
	if l.time != nil {
		var bad string
		if out.At, out.Timed, bad = d.time(out.Fields, near); bad != "" {
			out.Misfits = append(out.Misfits, Misfit{l.timeIn[0], "`" + strings.Join(l.timeIn, ", ") +
				"` is no time as the layout has it", bad})
		}
	}
	if len(l.masks) > 0 {
		out.settle(l.masks)
	}
}

// change makes one change of the fields.
func (f *fields) change(s *lang.FieldStep, line []byte) {
	switch s.Kind {
	case lang.StepFind:
		v, ok := f.look(s.Field)
		if !ok && s.Field == "text" {
			v, ok = valid(line), true
		}
		if !ok {
			return
		}
		m := s.Pattern.Re().FindStringSubmatchIndex(v)
		if m == nil {
			return
		}
		for g, name := range s.Pattern.Re().SubexpNames() {
			if name != "" && m[2*g] >= 0 {
				f.put(name, v[m[2*g]:m[2*g+1]])
			}
		}
	case lang.StepMap:
		v, ok := f.look(s.Field)
		if !ok {
			return
		}
		*f = slices.DeleteFunc(*f, func(x entry.Field) bool { return x.Name == s.Field })
		f.put(s.To, v)
	case lang.StepSet:
		v := ""
		for _, p := range lang.Template(s.To) {
			if p.Field == "" {
				v += p.Text
			} else {
				x, _ := f.look(p.Field)
				v += x
			}
		}
		f.put(s.Field, v)
	case lang.StepLower:
		for i := range *f {
			if x := &(*f)[i]; x.Name == s.Field {
				x.Value = strings.ToLower(x.Value)
			}
		}
	}
}

func (d *Divider) match(c *compiled, line []byte, stop int) []int {
	if c.steps == nil {
		if !bytes.Contains(line, c.must) {
			return nil
		}
		return c.pattern.Re().FindSubmatchIndex(line)
	}
	if spans := d.room(c); c.steps.Match(line, spans, stop) {
		return spans
	}
	return nil
}

// room is for the spans of a pattern's groups.
func (d *Divider) room(c *compiled) []int {
	if n := 2 * len(c.names); cap(d.spans) < n {
		d.spans = make([]int, n)
	} else {
		d.spans = d.spans[:n]
	}
	return d.spans
}

// time reads the entry's own time; bad is what stands there instead of one.
func (d *Divider) time(fields []entry.Field, near entry.Instant) (at entry.Instant, ok bool, bad string) {
	l := d.Layout
	whole := ""
	for i, name := range l.timeIn {
		v := ""
		for k := range fields {
			if fields[k].Name == name {
				v = fields[k].Value
				break
			}
		}
		switch {
		case v == "":
			return 0, false, ""
		case i == 0:
			whole = v
		default:
			whole += " " + v
		}
	}
	if at, ok = d.cache.parse(l.time, whole, l.zone, near); !ok {
		bad = whole
	}
	return at, ok, bad
}

// Yearly tells whether the layout's times have a year; where entries differ in that, as
// those of syslog may, whether that of the last one had one.
func (d *Divider) Yearly() bool {
	l := d.Layout
	return l.time != nil && l.time.hasYear || l.time == nil && l.glance != nil && !d.yearless
}

// Steady tells whether a time that was read last means the same wherever it stands: it has
// a year, and a zone, or no change of clocks is near it.
func (d *Divider) Steady(at entry.Instant) bool {
	return d.Yearly() && d.cache.n > 0 && at >= d.cache.base && at < d.cache.base.Add(time.Second)
}

// ZoneName is the name of the zone in which times are read that do not say theirs.
func (l *Layout) ZoneName() string {
	if l.zone == nil {
		return ""
	}
	return l.zone.String()
}
