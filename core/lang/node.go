package lang

import (
	"net/netip"
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"
	"sync"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/steps"
)

// Settings are what a folder of settings files says, checked and resolved: what
// the engine, the matcher and the readers work with.
type Settings struct {
	Sources []*Source // by name
	Layouts []*Layout // by name; the built-in ones are not among them
	Rules   []*Rule   // by name; those that are off are among them
	// Contacts and Hushes are in the order of their names; those that are off are among them.
	Contacts []*Contact
	Hushes   []*Hush
	Kinds    []*Kind     // by name
	Asks     []*Question // by name; those that are off are among them
	Reports  []*Report   // by name, as are the next two; those that are off are among them
	Counts   []*Measure
	Delivers []*Deliver
	Measures Measures // where measures go
	Kits     []*Kit   // those that are used, in the order in which that is written
	Asides   []Aside  // blocks of kits that do not run as they stand there
	KitNames []string // of all kits that can be used, as far as they are known
	Stays    Stays
	Groups   []*Group // in the order in which they are written
	Hosts    Hosts    // what is said of many machines
	// Beyond is what a centre asks of this machine that it does not allow; set by who reads settings.
	Beyond []string
	// SentSources, SentRules and SentDelivers are sent to hosts; they are not among those above.
	SentSources  []*Source
	SentRules    []*Rule
	SentDelivers []*Deliver
	// Tell are the contacts that are told where a rule names nobody.
	Tell      []string
	Mail      *Mail      // nil where there is no mail server
	Heartbeat *Heartbeat // nil where there is none
	ByHand    bool       // changed files are taken up when told to only
	MostKeys  int        // of each rule; 0 is DefaultKeys
	// BuiltInOff are the built-in rules that are switched off; AllBuiltInOff: all of them.
	BuiltInOff    []string
	AllBuiltInOff bool
	Note          string
	Zone          string // of times without one; "" is the machine's
	// AtMost is how many bytes kept entries may take; 0 is DefaultAtMost.
	AtMost int64
	// Secret is the key of the stand-ins that a mask puts for values. Who reads
	// settings sets it; where it is empty, such values are masked whole.
	Secret []byte
	// Tokens is that key for layouts that a centre has sent, so that all hosts put the same for a value; "" is
	// Secret. Who reads settings sets it.
	Tokens []byte

	zones func(name string) *time.Location // see Env.Zone
	tells []token                          // where Tell stands
	off   bool

	kitFiles map[string]string // the kit of each of the files of kits
}

// DefaultAtMost is how many bytes kept entries may take where nothing is said.
const DefaultAtMost = 2 << 30

// Capacity is how many bytes kept entries may take.
func (s *Settings) Capacity() int64 {
	if s.AtMost == 0 {
		return DefaultAtMost
	}
	return s.AtMost
}

// Source returns the source of that name, or nil.
func (s *Settings) Source(name string) *Source {
	for _, x := range s.Sources {
		if x.Name == name {
			return x
		}
	}
	for _, x := range s.SentSources {
		if x.Name == name {
			return x
		}
	}
	return nil
}

// LookedAt are the sources that a rule looks at, those that are sent to hosts among them where it names them or is for
// hosts itself.
func (s *Settings) LookedAt(r *Rule) []*Source {
	var out []*Source
	for _, x := range s.Sources {
		if r.LooksAt(x.Name) {
			out = append(out, x)
		}
	}
	for _, x := range s.SentSources {
		if r.LooksAt(x.Name) && (len(r.On) > 0 || len(r.For) > 0) {
			out = append(out, x)
		}
	}
	return out
}

// Layout returns the layout of that name, or nil; nil stands for plain.
func (s *Settings) Layout(name string) *Layout {
	if contains(builtInLayouts, name) {
		return &Layout{Name: name, Format: name, Zones: s.zones}
	}
	for _, x := range s.Layouts {
		if x.Name == name && !x.Off {
			return x
		}
	}
	return nil
}

// Rule returns the rule of that name, or nil.
func (s *Settings) Rule(name string) *Rule {
	for _, x := range s.Rules {
		if x.Name == name {
			return x
		}
	}
	for _, x := range s.SentRules {
		if x.Name == name {
			return x
		}
	}
	return nil
}

// TokensOf is the key of the stand-ins of a layout.
func (s *Settings) TokensOf(l *Layout) []byte {
	if l != nil && l.Sent && len(s.Tokens) > 0 {
		return s.Tokens
	}
	return s.Secret
}

// EveryRule are all rules, those that are sent to hosts behind the others.
func (s *Settings) EveryRule() []*Rule { return append(slices.Clip(s.Rules), s.SentRules...) }

// RulesFor returns the rules that look at a source, in the order of their
// names. An empty name stands for lines that belong to no source; all rules
// without `on` look at them.
func (s *Settings) RulesFor(source string) []*Rule {
	var out []*Rule
	for _, r := range s.Rules {
		if !r.Off && (source == "" && len(r.On) == 0 || r.LooksAt(source)) {
			out = append(out, r)
		}
	}
	return out
}

// Itself is the name of the source in which Dim Lantern says what it has noticed about
// its own rules and layouts. Only rules that name it look at it.
const Itself = "dim-lantern"

// BuiltInRules are the rules that look at it where the settings do not switch them off.
var BuiltInRules = []string{"rule-silent", "layout-fits-less", "contact-unreachable", "report-failed",
	"delivery-behind", "host-silent"}

// LooksAt tells whether the rule looks at a source.
func (r *Rule) LooksAt(source string) bool {
	return len(r.On) == 0 && source != Itself || contains(r.On, source)
}

// Expect is a test of a rule, written beside it.
type Expect struct {
	Pos   Pos
	Title string
	Steps []Step
}

// Step is one line of an expect: an entry that is fed, a wait, or what should
// have followed.
type Step struct {
	Pos  Pos
	Kind string // at, line, wait, blind, seen, then
	Line string // the source line, for messages

	At     time.Duration // at: the time of day, or with After the time since the step before; wait: how long
	After  bool
	From   string        // a host; for a line its path; for blind and seen a host or ""
	With   []entry.Field // fields of the entry; of a then, parts of the key
	Text   string
	Change string // of a then: raised, …, or nothing
	Sev    entry.Severity
}

// Pattern is a regular expression of the RE2 syntax.
type Pattern struct {
	Source string   // without slashes, flags put in front as (?i)
	Groups []string // names of its groups, in their order
	Pos    Pos
	steps  *steps.Steps // nil where only the regular expression serves
	tree   *syntax.Regexp
	names  []string
	once   sync.Once
	re     *regexp.Regexp
}

// Re is the pattern's regular expression; it is compiled when it is first wanted. It may be
// called concurrently.
func (p *Pattern) Re() *regexp.Regexp {
	p.once.Do(func() { p.re = regexp.MustCompile(p.Source) })
	return p.re
}

// Tree is the pattern's syntax tree, which must not be changed; nil where its source is none.
func (p *Pattern) Tree() *syntax.Regexp {
	if p.tree != nil {
		return p.tree
	}
	tree, err := syntax.Parse(p.Source, syntax.Perl)
	if err != nil {
		return nil
	}
	return tree
}

// Names are the names of the pattern's groups by their numbers, "" of one without; the
// first stands for the whole match.
func (p *Pattern) Names() []string {
	if p.names != nil {
		return p.names
	}
	return p.Re().SubexpNames()
}

// Find is FindStringSubmatchIndex of the pattern's regular expression; what comes may lie
// in room, if that is long enough.
func (p *Pattern) Find(text string, room []int) []int {
	n := 2 * len(p.Names())
	if p.steps == nil || n > len(room) {
		return p.Re().FindStringSubmatchIndex(text)
	}
	ok, sure := p.steps.Find(text, room[:n])
	switch {
	case !sure:
		return p.Re().FindStringSubmatchIndex(text)
	case !ok:
		return nil
	}
	return room[:n]
}

func (p *Pattern) String() string {
	if !strings.Contains(p.Source, "/") {
		return "/" + p.Source + "/"
	}
	return "re`" + p.Source + "`"
}

// Expr is an expression about one entry.
type Expr interface {
	// String writes the expression as rules write it.
	String() string
	// Place is where the expression begins.
	Place() Pos
}

// The expressions. And and Or have two or more parts; Is stands in kind.go.
type (
	And   struct{ Of []Expr }
	Or    struct{ Of []Expr }
	Not   struct{ Of Expr }
	Match struct { // /re/ on the text, or on a field
		Field   string // "" is the text
		Neg     bool
		Pattern *Pattern
		Pos     Pos
	}
	Phrase struct {
		Text string
		Pos  Pos
	}
	Compare struct {
		Field string
		Op    string // == != < <= > >=
		Value Value
		Pos   Pos
	}
	In struct {
		Field  string
		Values []Value
		Pos    Pos
	}
	Has struct {
		Field string
		Lacks bool
		Pos   Pos
	}
)

// ValueKind says as what a value compares.
type ValueKind uint8

// The kinds of values.
const (
	TextValue ValueKind = iota
	NumberValue
	DurationValue
	LevelValue
	TimeValue
	AddressValue
	RangeValue // of numbers, both ends included
	NetValue
)

// Value is what a field is compared with.
type Value struct {
	Kind     ValueKind
	Src      string // as written
	Text     string
	Number   entry.Number // of a range, its lower end
	Upper    entry.Number
	Duration time.Duration
	Level    int
	Time     entry.Instant
	Net      netip.Prefix // of an address, the prefix of that one
}

func (v Value) String() string { return v.Src }

func join(parts []Expr, word string) string {
	var out []string
	for _, p := range parts {
		s := p.String()
		if _, or := p.(*Or); or && word == " and " {
			s = "(" + s + ")"
		}
		out = append(out, s)
	}
	return strings.Join(out, word)
}

func (e *And) String() string { return join(e.Of, " and ") }
func (e *Or) String() string  { return join(e.Of, " or ") }
func (e *Not) String() string {
	switch e.Of.(type) {
	case *And, *Or:
		return "not (" + e.Of.String() + ")"
	}
	return "not " + e.Of.String()
}

func (e *Match) String() string {
	switch {
	case e.Field == "":
		return e.Pattern.String()
	case e.Neg:
		return e.Field + " !~ " + e.Pattern.String()
	}
	return e.Field + " ~ " + e.Pattern.String()
}

// Quote writes a text as rules write it.
func Quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`).Replace(s) + `"`
}

func (e *Phrase) String() string  { return Quote(e.Text) }
func (e *Compare) String() string { return e.Field + " " + e.Op + " " + e.Value.String() }
func (e *In) String() string {
	var vs []string
	for _, v := range e.Values {
		vs = append(vs, v.String())
	}
	return e.Field + " in (" + strings.Join(vs, ", ") + ")"
}

func (e *Has) String() string {
	if e.Lacks {
		return "lacks " + e.Field
	}
	return "has " + e.Field
}

func (e *And) Place() Pos     { return e.Of[0].Place() }
func (e *Or) Place() Pos      { return e.Of[0].Place() }
func (e *Not) Place() Pos     { return e.Of.Place() }
func (e *Match) Place() Pos   { return e.Pos }
func (e *Phrase) Place() Pos  { return e.Pos }
func (e *Compare) Place() Pos { return e.Pos }
func (e *In) Place() Pos      { return e.Pos }
func (e *Has) Place() Pos     { return e.Pos }

// Walk calls visit for the expression and all its parts; under tells whether
// the part stands under a not.
func Walk(e Expr, visit func(part Expr, under bool)) { walk(e, false, visit) }

func walk(e Expr, under bool, visit func(Expr, bool)) {
	if e == nil {
		return
	}
	visit(e, under)
	switch e := e.(type) {
	case *And:
		for _, x := range e.Of {
			walk(x, under, visit)
		}
	case *Or:
		for _, x := range e.Of {
			walk(x, under, visit)
		}
	case *Not:
		walk(e.Of, true, visit)
	case *Is:
		walk(e.Kind.Where, under, visit)
	}
}

// Captures are the names of the fields that the expression can give.
func Captures(e Expr) []string {
	var out []string
	Walk(e, func(part Expr, under bool) {
		if m, ok := part.(*Match); ok && !under && !m.Neg {
			for _, g := range m.Pattern.Groups {
				if !contains(out, g) {
					out = append(out, g)
				}
			}
		}
	})
	return out
}
