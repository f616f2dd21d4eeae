package lang

import (
	"fmt"
	"slices"
	"strings"

	"dimlantern/core/entry"
)

// AlertFields are the fields of alerts as entries, besides those of their keys.
var AlertFields = []string{
	"at",
	"rule",
	"severity",
	"why",
	"ended",
	"ended-by",
	"lasted",
	"open",
	"hits",
	"told",
	"untold",
	"taken-by",
	"taken-after",
	"reopened",
	"host",
}

// CalendarFields are fields that every entry has in questions, by its own time in the settings' zone,
// where no other field has their name.
var CalendarFields = []string{"weekday", "hour"}

// completeQuestion tells what of a question does not go together, whatever its sources are.
func (k *checker) completeQuestion(f *File, b *block, q *Question) {
	wrong := func(word, arg, code, what, mend string) { k.clause(f, b, word, arg, Err, code, what, mend) }
	cols := q.Columns()
	entries := cols[0].Fn == "entries"
	numeric := slices.ContainsFunc(cols, Column.Numeric)
	grouped := len(q.Per) > 0 || q.Each
	switch {
	case q.Where != nil && q.Join != nil:
		wrong("join", "", "where-and-join", "a question has a where, or it joins entries",
			"write what both halves need "+"into the join, or as ignore")
	case q.Join != nil && q.Alerts:
		wrong("join", "", "does-not-apply",
			"an alert has its begin and its end already: nothing is there to be joined",
			"take the clause out; lasted is how long one was open")
	case entries && q.Every != nil:
		wrong("every", "", "does-not-apply", "entries are not counted by periods",
			"show a number, such as count, or "+"take the clause out")
	case entries && q.Beside != nil:
		wrong("beside", "", "does-not-apply", "what stands beside is a number, and entries are none",
			"show a number, such as count, or take the clause out")
	case q.Each && len(cols) == 1 && entries:
		wrong("per", "", "does-not-apply", "each field's values are counted, and entries are not",
			"write: show count per "+"each field")
	case q.Most != nil && !grouped:
		wrong(mostWord(q.Most), "", "does-not-apply", "there is one group only, since per says nothing",
			"write per FIELD, "+"or take the clause out")
	case q.New > 0 && !grouped:
		wrong("new", "", "does-not-apply", "new are groups, and per names none", "write: per FIELD")
	case q.Most != nil && q.Most.By == nil && !cols[0].Numeric():
		wrong(mostWord(q.Most), "", "does-not-apply", fmt.Sprintf("%s is no number by which groups could be chosen",
			cols[0]), "write: "+mostWord(q.Most)+" "+fmt.Sprint(q.Most.N)+" by count")
	case q.Most != nil && q.Most.Difference && q.Beside == nil:
		wrong(mostWord(q.Most), "difference", "does-not-apply", "nothing stands beside from which it could differ",
			"write: beside before")
	case q.Beside != nil && q.Every != nil && !q.Beside.Before && !shiftFits(q.Every, q.Beside):
		wrong("beside", "", "shift-period",
			fmt.Sprintf("%s is no multiple of the periods of %s, so they would not stand "+"side by side",
				entry.Span(q.Beside.D), q.Every), "write a multiple of it")
	case q.Each && slices.ContainsFunc(q.Shown(), func(c Column) bool { return c.Fn != "count" && c.Fn != "rate" }):
		wrong("show", "", "does-not-apply", "of every field at once only count and rate make sense",
			"write: show count "+"per each field, or name the field: per FIELD")
	case !numeric && !entries && len(cols) == 1 && cols[0].Fn == "gaps" && q.Beside != nil:
		wrong("beside", "", "does-not-apply", "gaps as rows have nothing beside them",
			"show count as well, or take the "+"clause out")
	}
	if h := q.Having; h != nil {
		k.unitsOf(q, "", h.Column, h.Value, func(what, mend string) {
			wrong("having", "", "units-differ", what,
				mend)
		})
	}
	if j := q.Join; j != nil {
		if len(j.By) > 0 && j.First.String() == j.Second.String() {
			wrong("join", "", "join-never-meets",
				"both halves are the same entries: every second one would end the one "+"before it",
				"say what tells them apart")
		}
		if g := disjointHalves(j); g != "" {
			wrong("join", "", "join-never-meets",
				fmt.Sprintf("what the one half captures as %s never equals what the other "+
					"does, so they never meet", g), "make both patterns capture the same text")
		}
	}
}

func mostWord(m *Most) string {
	if m.Least {
		return "least"
	}
	return "most"
}

// shiftFits tells whether a shift is a multiple of the periods.
func shiftFits(p *Period, s *Shift) bool {
	switch p.Unit {
	case "week":
		return s.D%(7*Day) == 0
	case "month":
		return false
	}
	return s.D%p.D == 0
}

// disjointHalves is the field by which two halves are joined that never agrees; "" is none.
func disjointHalves(j *Join) string {
	r := &Rule{Per: j.By, Problem: j.First, Recovery: j.Second}
	return disjoint(r)
}

// unitsOf tells where a number is compared with a value of another unit.
func (k *checker) unitsOf(q *Question, unit string, c Column, v Value, wrong func(what, mend string)) {
	written := strings.ReplaceAll(v.Src, " ", "")
	pure := contains([]string{"count", "rate", "different", "share"}, c.Fn)
	switch {
	case pure && v.Kind == DurationValue:
		wrong(fmt.Sprintf("%s is a number, and %s a duration", c, v), "write a number without a unit")
	case c.Fn != "share" && pure && strings.HasSuffix(written, "%"):
		wrong(fmt.Sprintf("%s is no share, and is compared with one", c), "write a number, or share(EXPR)")
	case unit == "duration" && v.Kind == NumberValue:
		wrong(fmt.Sprintf("%s is a duration, and %s a number without a unit", c, v),
			"write "+v.Src+"s, or "+v.Src+"ms")
	case unit == "number" && v.Kind == DurationValue:
		wrong(fmt.Sprintf("%s is a number, and %s a duration", c, v),
			"write a number, or give the layout: type "+c.Field+" duration in s")
	}
}

// questions resolves the names that questions use, and tells which of their fields do not exist.
func (k *checker) questions() {
	s := k.settings
	asks := s.Asks[:0]
	for _, q := range s.Asks {
		f, ok := k.file[q], true
		for _, on := range q.On {
			if s.Source(on) != nil || on == Itself {
				continue
			}
			ok = false
			if !contains(k.names["source"], on) {
				k.at(f, q, "ask", "on", on, Err, "unknown-name", fmt.Sprintf("there is no source %q", on),
					meant(on, append([]string{"alerts"}, k.names["source"]...)))
			}
		}
		if !ok {
			continue
		}
		k.asked(q, "ask", q)
		asks = append(asks, q)
	}
	s.Asks = asks
}

// Sources are the sources on which a question is.
func (s *Settings) SourcesOf(q *Question) []*Source {
	var out []*Source
	for _, x := range append(slices.Clip(s.Sources), s.SentSources...) {
		if !q.Alerts && (contains(q.On, x.Name) || len(q.On) == 0 && x.Name != Itself && !x.Off) {
			out = append(out, x)
		}
	}
	return out
}

// asked looks at the fields of a question by what its sources give. Node is the block of that kind in
// which it stands.
func (k *checker) asked(node any, kind string, q *Question) {
	f, s := k.file[node], k.settings
	known, open := append(append(slices.Clone(builtIn), "reporter"), CalendarFields...), len(s.Sources) == 0 ||
		contains(q.On, Itself)
	q.Units = map[string]string{}
	types := map[string]string{}
	if q.Alerts {
		known, open = append(append([]string{"text"}, AlertFields...), CalendarFields...), false
		types["lasted"], types["taken-after"] = "duration", "duration"
		for _, r := range s.Rules {
			for _, p := range r.Per {
				known = append(known, p, "key."+p)
			}
		}
	} else {
		for _, src := range s.SourcesOf(q) {
			for _, x := range src.Fields {
				known = append(known, x.Name)
			}
			l := s.Layout(src.LayoutName())
			if l == nil {
				continue
			}
			known, open = append(known, l.Fields()...), open || l.Open()
			for name, t := range l.Types {
				types[name] = t
			}
		}
	}
	own := q.Captures()
	if q.Join != nil {
		types["lasted"] = "duration"
	}
	for name, t := range types {
		if t == "duration" && !contains(Captures(q.Where), name) {
			q.Units[name] = t
		}
	}
	missing := func(word, field string, known []string) {
		if open || contains(known, field) || contains(own, field) {
			return
		}
		what := fmt.Sprintf("no layout of its sources gives the field %s, and nothing of the question captures it",
			field)
		if q.Alerts {
			what = fmt.Sprintf("alerts have no field %s, and no rule counts by it", field)
		}
		k.at(f, node, kind,
			word,
			field,
			Err,
			"unknown-field",
			what,
			meant(field, append(slices.Clone(own), known...)),
		)
	}
	look := func(word string, x Expr, known []string) {
		Walk(x, func(part Expr, _ bool) {
			field := ""
			switch part := part.(type) {
			case *Match:
				field = part.Field
			case *Compare:
				field = part.Field
			case *In:
				field = part.Field
			case *Has:
				field = part.Field
			}
			if field != "" {
				missing(word, field, known)
			}
		})
	}
	look("where", q.Where, known)
	look("ignore", q.Ignore, known)
	if q.Join != nil {
		look("join", q.Join.First, known)
		look("join", q.Join.Second, known)
		for _, by := range q.Join.By {
			missing("join", by, known)
			one, other := contains(Captures(q.Join.First), by), contains(Captures(q.Join.Second), by)
			if one != other && !open && !contains(known, by) {
				k.at(f, node, kind,
					"join",
					by,
					Err,
					"join-never-meets",
					fmt.Sprintf("only one half has a %s, so the two never "+
						"agree on it", by),
					"capture it in both patterns, or join by another field",
				)
			}
		}
	}
	for _, r := range q.Reckon {
		unit := k.calcUnit(q, types, r, func(what, mend string) {
			k.tell(f, Err, "units-differ", r.Pos, len("reckon"), what, mend)
		})
		r.Calc.Walk(func(c *Calc) {
			if c.Field != "" {
				missing("reckon", c.Field, known)
			}
		})
		known = append(known, r.Field)
		delete(q.Units, r.Field)
		types[r.Field] = "decimal"
		if unit == "duration" {
			q.Units[r.Field], types[r.Field] = unit, "reckoned"
		}
	}
	for _, c := range q.Shown() {
		if c.Field != "" {
			missing("show", c.Field, known)
		}
		look("show", c.Expr, known)
	}
	for _, p := range q.Per {
		missing("per", p, known)
		if contains([]string{"at", "arrived", "text"}, p) && !contains(own, p) {
			k.at(f, node, kind,
				"per",
				p,
				Finding,
				"group-an-entry",
				fmt.Sprintf("almost every entry has a %s of its own, so "+
					"each would be a group", p),
				"group by what entries have in common; every 10m is for times",
			)
		}
	}
	if h := q.Having; h != nil && h.Column.Field != "" {
		unit := ""
		switch t := types[h.Column.Field]; {
		case contains(Captures(q.Where), h.Column.Field), h.Column.Fn == "different":
		case t == "duration":
			unit = t
		case t == "integer", t == "decimal":
			unit = "number"
		}
		k.unitsOf(q, unit, h.Column, h.Value, func(what, mend string) {
			k.at(f, node, kind, "having", "", Err, "units-differ", what, mend)
		})
	}
	if slices.Equal(q.Per, []string{"host"}) {
		for _, r := range s.Rules {
			for _, src := range s.SourcesOf(q) {
				if len(r.From) > 0 && !r.Off && r.LooksAt(src.Name) {
					q.Hosts = append(q.Hosts, r.From...)
				}
			}
		}
		slices.Sort(q.Hosts)
		q.Hosts = slices.Compact(q.Hosts)
	}
}

// calcUnit is the unit of a calculation, "duration" or "": what is added to a duration has to be one.
func (k *checker) calcUnit(q *Question, types map[string]string, r Reckon, wrong func(what, mend string)) string {
	var unit func(c *Calc) string
	unit = func(c *Calc) string {
		switch c.Op {
		case "+", "-":
			a, b := unit(c.Parts[0]), unit(c.Parts[1])
			if a != "" && b != "" && a != b {
				wrong(fmt.Sprintf("%s adds a duration and a number without a unit", c),
					"give the number its unit, such as 5s")
			}
			if a == "duration" || b == "duration" {
				return "duration"
			}
			return ""
		case "*":
			a, b := unit(c.Parts[0]), unit(c.Parts[1])
			if a == "duration" && b == "duration" {
				wrong(fmt.Sprintf("%s multiplies two durations", c), "divide one by the other, or by a number")
			}
			if a == "duration" || b == "duration" {
				return "duration"
			}
			return ""
		case "/":
			a, b := unit(c.Parts[0]), unit(c.Parts[1])
			if a == "duration" && b != "duration" {
				return a
			}
			return ""
		case "neg":
			return unit(c.Parts[0])
		case "length":
			return "number"
		case "since":
			if c.Field == "at" || q.Units[c.Field] == "duration" {
				return "duration"
			}
			return ""
		}
		switch {
		case c.Field != "" && q.Units[c.Field] != "":
			return "duration"
		case c.Field != "" && (types[c.Field] == "integer" || types[c.Field] == "decimal"):
			return "number"
		case c.Field != "":
			return ""
		case c.Value.Kind == DurationValue:
			return "duration"
		}
		return "number"
	}
	return unit(r.Calc)
}
