package trial

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

// Reason is why one line is a hit of a rule, a recovery, or nothing.
type Reason struct {
	Rule    string       `json:"rule"`
	Source  string       `json:"source,omitempty"`
	Verdict string       `json:"verdict"` // hit, recovery or nothing
	Because string       `json:"because"`
	Key     [][2]string  `json:"key,omitempty"`
	Clauses []ClauseSays `json:"clauses"`
	Text    string       `json:"text"` // what bare patterns and phrases look at
	Fields  [][2]string  `json:"fields"`
	Layout  string       `json:"layout"`
	Fits    bool         `json:"fits"`
}

// ClauseSays is what one clause says of the line.
type ClauseSays struct {
	Clause   string      `json:"clause"`
	Holds    bool        `json:"holds"`
	Parts    []string    `json:"parts"` // each with its own answer
	Captured [][2]string `json:"captured,omitempty"`
	// Marks are what bare patterns and phrases matched, as bytes of the text from the
	// first up to the second; none where parts of the text are masked.
	Marks [][2]int `json:"marks,omitempty"`
}

// Why asks a rule about one line of a source, which may be nil. Origin is the log that
// it stands in; "" is one without a path.
func Why(s *lang.Settings, r *lang.Rule, src *lang.Source, host, origin, line string, zone *time.Location,
	now entry.Instant) Reason {
	var x layout.Division
	out := why(s, r, src, host, origin, line, zone, now, &x)
	hide := func(pairs [][2]string) {
		for i := range pairs {
			pairs[i][1] = x.Hide(pairs[i][1])
		}
	}
	hide(out.Key)
	hide(out.Fields)
	if masked := x.Hide(out.Text); masked != out.Text {
		out.Text = masked
		for i := range out.Clauses {
			out.Clauses[i].Marks = nil
		}
	}
	for i := range out.Clauses {
		hide(out.Clauses[i].Captured)
	}
	return out
}

func why(s *lang.Settings, r *lang.Rule, src *lang.Source, host, origin, line string, zone *time.Location,
	now entry.Instant, x *layout.Division) Reason {
	e := &entry.Entry{Host: host, Raw: strings.ToValidUTF8(line, "\uFFFD"), At: now, Arrived: now, Fits: true}
	out := Reason{Rule: r.Name, Layout: "plain"}
	if src != nil {
		out.Source, e.Source = src.Name, src.Name
		e.Host = HostOf(src, "", host)
		if l := s.Layout(src.LayoutName()); l != nil {
			out.Layout = l.Name
			d := layout.Divider{Layout: layout.Compile(l, zone, s.Secret)}
			*x = d.Divide([]byte(line), now)
			e.Fits, e.Fields = x.Fits, x.Fields
			if x.Timed {
				e.At = x.At
			}
		}
	}
	e.Origin = cmp.Or(origin, e.Host+":")
	out.Fits, out.Text = e.Fits, e.Text()
	for _, f := range e.Fields {
		out.Fields = append(out.Fields, [2]string{f.Name, f.Value})
	}
	clauses := r.Exprs()
	slices.SortStableFunc(clauses, func(a, b lang.Clause) int { return whyOrder(a.Word) - whyOrder(b.Word) })
	for _, c := range clauses {
		out.Clauses = append(out.Clauses, says(c.Word, c.Expr, e))
	}
	out.Verdict = "nothing"
	v, ok := match.Judge(r, e, match.MayAll, r.Vars())
	switch {
	case len(r.On) > 0 && src != nil && !slices.Contains(r.On, src.Name):
		out.Because = fmt.Sprintf("the rule does not look at %s: it is on %s", src.Name, strings.Join(r.On, ", "))
		return out
	case ok && v.Recovery:
		out.Verdict, out.Because = "recovery", "the recovery fits, and nothing of it is ignored"
		if r.Problem != nil && v.Hit {
			out.Because = "the recovery fits; the problem does as well, but what fits both is a recovery"
		}
	case ok && v.Hit:
		out.Verdict, out.Because = "hit", "the problem fits, and nothing of it is ignored"
	case ok && v.Awaited:
		out.Verdict, out.Because = "awaited", "it is what the rule awaits, and nothing of it is ignored"
	case ok && v.Question:
		out.Verdict, out.Because = "question", "the awaiting starts with it"
	case ok && v.Counted:
		out.Verdict, out.Because = "counted", "it is no hit, but one of the entries of which a share is taken"
	case ok && len(v.Follows) > 0:
		out.Verdict, out.Because = "follower", "it follows a threshold, where that was met for the same key before"
	case len(r.During) > 0 && !r.Inside(e.At):
		out.Because = "it lies outside the rule's hours"
	case r.Ignore != nil && out.Clauses[0].Holds:
		out.Because = "it is ignored"
	case !e.Fits:
		out.Because = "neither problem nor recovery fits; the line does not fit the layout " + out.Layout +
			" either, so it has no fields"
	default:
		out.Because = "neither problem nor recovery fits"
		if r.Recovery == nil {
			out.Because = "the problem does not fit"
		}
	}
	if ok {
		for i, f := range r.Per {
			val := v.Key[i]
			if v.Recovery {
				val = v.RecoveryKey[i]
			}
			if val == "" {
				if v.Recovery {
					continue
				}
				val = "?"
			}
			out.Key = append(out.Key, [2]string{f, val})
		}
	}
	return out
}

// whyOrder is the order in which clauses are asked.
func whyOrder(word string) int {
	return slices.Index([]string{"ignore", "recovery", "problem", "awaits", "once", "among", "raise"}, word)
}

func says(name string, x lang.Expr, e *entry.Entry) ClauseSays {
	s := match.Subject{Entry: e}
	c := ClauseSays{Clause: name + " " + x.String(), Holds: match.Eval(x, &s)}
	for _, f := range s.Captures {
		c.Captured = append(c.Captured, [2]string{f.Name, f.Value})
	}
	t := match.Subject{Entry: e}
	explain(x, &t, "", &c)
	return c
}

// explain lists the parts of an expression with their own answers.
func explain(x lang.Expr, s *match.Subject, indent string, out *ClauseSays) {
	var parts []lang.Expr
	word := ""
	switch x := x.(type) {
	case *lang.And:
		parts, word = x.Of, "all of"
	case *lang.Or:
		parts, word = x.Of, "any of"
	case *lang.Not:
		parts, word = []lang.Expr{x.Of}, "not"
	case *lang.Is:
		if x.Kind.Where != nil {
			parts, word = []lang.Expr{x.Kind.Where}, x.String()
		}
	}
	if parts == nil {
		ok := match.Eval(x, s)
		out.Parts = append(out.Parts, indent+mark(ok)+x.String()+near(x, s, ok))
		if from, to := found(x, s.Entry.Text()); ok && to > from {
			out.Marks = append(out.Marks, [2]int{from, to})
		}
		return
	}
	probe := match.Subject{Entry: s.Entry, Captures: slices.Clone(s.Captures)}
	out.Parts = append(out.Parts, indent+mark(match.Eval(x, &probe))+word)
	for _, p := range parts {
		explain(p, s, indent+"  ", out)
	}
}

// found is where a bare pattern or phrase stands in a text; nowhere for what is neither.
func found(x lang.Expr, text string) (from, to int) {
	switch x := x.(type) {
	case *lang.Match:
		if at := x.Pattern.Re().FindStringIndex(text); x.Field == "" && !x.Neg && at != nil {
			return at[0], at[1]
		}
	case *lang.Phrase:
		if at := match.FindPhrase(text, x.Text); at >= 0 {
			return at, at + len(x.Text)
		}
	}
	return 0, 0
}

func mark(ok bool) string {
	if ok {
		return "yes  "
	}
	return "no   "
}

// near says of a part that does not hold what stands there instead, or how far
// it fits.
func near(x lang.Expr, s *match.Subject, ok bool) string {
	if ok {
		return ""
	}
	field := ""
	switch x := x.(type) {
	case *lang.Compare:
		field = x.Field
	case *lang.In:
		field = x.Field
	case *lang.Has:
		if x.Lacks {
			v, _ := s.Get(x.Field)
			return fmt.Sprintf("   (%s is %s)", x.Field, lang.Quote(v))
		}
		return "   (" + x.Field + " is lacking)"
	case *lang.Match:
		field = x.Field
		if field == "" {
			return nearPattern(x.Pattern, s.Entry.Text())
		}
	case *lang.Phrase:
		text := s.Entry.Text()
		switch {
		case strings.Contains(text, x.Text):
			return "   (it stands there, but inside a longer word)"
		case strings.Contains(strings.ToLower(text), strings.ToLower(x.Text)):
			return "   (it stands there, but with other capitals)"
		}
		return ""
	}
	v, has := s.Get(field)
	if !has {
		return "   (" + field + " is lacking, and no comparison holds for what is lacking)"
	}
	return fmt.Sprintf("   (%s is %s)", field, lang.Quote(v))
}

// nearPattern says which of the texts that the pattern needs are missing.
func nearPattern(p *lang.Pattern, text string) string {
	set := lang.Needs(p)
	low := strings.ToLower(text)
	for _, l := range set {
		if strings.Contains(text, l.Text) || l.Fold && strings.Contains(low, l.Text) {
			return fmt.Sprintf("   (%s is there, but not what should stand around it)", lang.Quote(l.Text))
		}
	}
	for _, l := range set {
		if strings.Contains(low, strings.ToLower(l.Text)) {
			return fmt.Sprintf("   (%s is there only with other capitals)", lang.Quote(l.Text))
		}
	}
	if len(set) == 1 {
		return fmt.Sprintf("   (%s is nowhere in it)", lang.Quote(set[0].Text))
	}
	return ""
}

// marked are lines that mark below the text what the clauses matched.
func (r *Reason) marked() []string {
	var out []string
	for _, c := range r.Clauses {
		if len(c.Marks) == 0 {
			continue
		}
		line := []rune{}
		put := func(to int, mark rune) {
			for len(line) < utf8.RuneCountInString(r.Text[:to]) {
				line = append(line, mark)
			}
		}
		marks := slices.Clone(c.Marks)
		slices.SortFunc(marks, func(a, b [2]int) int { return a[0] - b[0] })
		for _, m := range marks {
			put(m[0], ' ')
			put(m[1], '^')
		}
		word, _, _ := strings.Cut(c.Clause, " ")
		out = append(out, string(line)+" "+word)
	}
	return out
}

// String writes the reason for people.
func (r Reason) String() string {
	var b strings.Builder
	verdict := cmp.Or(map[string]string{"hit": "a hit", "recovery": "a recovery", "question": "a question",
		"follower": "a follower"}[r.Verdict], r.Verdict)
	fmt.Fprintf(&b, "for %s this line is %s: %s\n", r.Rule, verdict, r.Because)
	fmt.Fprintf(&b, "  text  %s\n", r.Text)
	for _, m := range r.marked() {
		fmt.Fprintf(&b, "        %s\n", m)
	}
	for _, k := range r.Key {
		fmt.Fprintf(&b, "  key   %s %s\n", k[0], lang.Quote(k[1]))
	}
	b.WriteString("\n")
	for _, c := range r.Clauses {
		word, _, _ := strings.Cut(c.Clause, " ")
		for i, p := range c.Parts {
			head := ""
			if i == 0 {
				head = word
			}
			fmt.Fprintf(&b, "  %-9s %s\n", head, p)
		}
		for _, f := range c.Captured {
			fmt.Fprintf(&b, "  %-9s      %s = %s\n", "", f[0], lang.Quote(f[1]))
		}
	}
	b.WriteString("\n")
	if !r.Fits {
		fmt.Fprintf(&b, "  the layout %s does not fit this line\n", r.Layout)
	}
	for i, f := range r.Fields {
		head := ""
		if i == 0 {
			head = "fields"
		}
		fmt.Fprintf(&b, "  %-9s %s = %s\n", head, f[0], lang.Quote(f[1]))
	}
	return b.String()
}
