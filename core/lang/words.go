package lang

import (
	"fmt"
	"strings"
	"time"

	"dimlantern/core/entry"
)

// Words is the rule as sentences, one for each thing that it says, so that two rules of
// different meaning never read the same.
func (r *Rule) Words() []string {
	var out []string
	say := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	where := "any source"
	if len(r.On) > 0 {
		where = listed(r.On, "or")
	}
	key := "all together"
	if len(r.Per) > 0 {
		key = "each " + listed(r.Per, "and") + " on its own"
	}
	switch {
	case r.Awaits != nil && r.Once != nil:
		say("After an entry of %s where %s, one is awaited where %s; %s.", where, spoken(r.Once), spoken(r.Awaits),
			key)
	case r.Awaits != nil:
		say("Entries of %s are awaited again and again where %s; %s.", where, spoken(r.Awaits), key)
	case r.Problem != nil:
		say("A hit is an entry of %s where %s; hits count for %s.", where, spoken(r.Problem), key)
	}
	if len(r.From) > 0 {
		say("They are awaited from %s, also where nothing was ever heard of them.", listed(r.From, "and"))
	}
	if r.Ignore != nil {
		say("Entries where %s are nothing for it.", spoken(r.Ignore))
	}
	if r.Among != nil {
		say("A share is one of the entries where %s.", spoken(r.Among))
	}
	for i := range r.Raises {
		say("%s", r.Raises[i].words())
	}
	if r.Blind > 0 {
		say("Where none of its logs can be seen for %s, that is %s.", longer(r.BlindIn), articleFor(r.Blind.String()))
	}
	out = append(out, r.endings()...)
	if r.Reopen > 0 {
		say("What is raised again within %s of its end is the same alert.", longer(r.Reopen))
	}
	if r.Empty != "" {
		say("A time without entries counts as %s.",
			map[string]string{"good": "good", "bad": "bad", "neither": "neither good nor bad"}[r.Empty])
	}
	if r.Grace > 0 {
		say("A period waits %s for entries that are late.", longer(r.Grace))
	}
	if len(r.During) > 0 {
		var hours []string
		for _, h := range r.During {
			hours = append(hours, h.String())
		}
		say("Only entries from %s count.", listed(hours, "or"))
	}
	if r.Arrival {
		say("An entry counts at the time when it came, not at its own.")
	}
	for _, u := range r.Unless {
		same := ""
		if len(u.Same) > 0 {
			same = " with the same " + listed(u.Same, "and")
		}
		say("While an alert of %s%s is open, nothing is told.", u.Rule, same)
	}
	for _, t := range r.Tells {
		say("%s", t.words())
	}
	if r.Remind > 0 {
		say("While it is open and nobody has taken it, it is told again every %s.", longer(r.Remind))
	}
	if r.Say != "" {
		say("It says %s.", Quote(r.Say))
	}
	if r.Advise != "" {
		say("It advises %s.", Quote(r.Advise))
	}
	if len(r.About) > 0 {
		say("It is about %s.", listed(r.About, "and"))
	}
	if r.Off {
		say("It is off.")
	}
	return out
}

// words says what a raise takes, and what it makes of it.
func (x *Raise) words() string {
	is := "that is " + articleFor(x.Severity.String())
	switch {
	case x.When != nil:
		return fmt.Sprintf("When %s, %s.", x.When.words(), is)
	case x.Without > 0:
		return fmt.Sprintf("When nothing was heard for %s, %s.", longer(x.Without), is)
	case x.By != nil:
		days := ""
		if x.By.Days != 0 {
			days = " on " + x.By.Days.words()
		}
		return fmt.Sprintf("When nothing was heard by %s%s, %s.", clockOf(x.By.At), days, is)
	case x.Open > 0:
		taken := ""
		if x.Untaken {
			taken = ", and nobody has taken it"
		}
		return fmt.Sprintf("When the alert has been open for %s%s, %s.", longer(x.Open), taken, is)
	}
	what := "hit"
	n := fmt.Sprint(x.At)
	switch {
	case x.Different != "":
		what = "different values of " + x.Different
	case x.At == 1:
		n = "Each"
	default:
		what = "hits"
	}
	if x.Where != nil {
		what += " where " + spoken(x.Where)
	}
	if x.In > 0 {
		what += " that lie within less than " + longer(x.In)
	} else if x.At > 1 {
		what += ", whenever they come,"
	}
	if x.Then != nil {
		what += fmt.Sprintf(", and then, less than %s later, an entry where %s,", longer(x.Within), spoken(x.Then))
	}
	if x.At == 1 && x.Different == "" {
		return fmt.Sprintf("%s %s is %s.", n, what, articleFor(x.Severity.String()))
	}
	return fmt.Sprintf("%s %s are %s.", n, what, articleFor(x.Severity.String()))
}

func (w *When) words() string {
	name := map[string]string{"count": "the number of hits", "share": "the share of hits", "sum": "the sum of " +
		w.Field, "avg": "the mean of " + w.Field,
		"min": "the least " + w.Field, "max": "the greatest " + w.Field, "p50": "the median of " + w.Field,
		"p95": "the 95th percentile of " + w.Field,
		"p99": "the 99th percentile of " + w.Field, "different": "the number of different values of " +
			w.Field}[w.Agg]
	op := map[string]string{">": "more than", ">=": "at least", "<": "less than", "<=": "at most", "==": "exactly",
		"!=": "not"}[w.Op]
	s := fmt.Sprintf("%s is %s %s", name, op, w.Value)
	switch {
	case w.Row:
		s += fmt.Sprintf(" in %d periods of %s in a row", w.K, longer(w.In))
	case w.K > 0:
		s += fmt.Sprintf(" in %d of %d periods of %s", w.K, w.M, longer(w.In))
	default:
		s += " over the last " + longer(w.In)
	}
	if w.AtLeast > 0 {
		s += fmt.Sprintf(", of at least %d entries", w.AtLeast)
	}
	return s
}

// endings say what ends an alert.
func (r *Rule) endings() []string {
	var ways []string
	if r.OnRecovery && r.Recovery != nil {
		n := "an entry comes"
		if r.RecoverAt > 1 {
			n = fmt.Sprintf("%d entries come", r.RecoverAt)
			if r.RecoverIn > 0 {
				n += " within less than " + longer(r.RecoverIn)
			}
		}
		ways = append(ways, n+" where "+spoken(r.Recovery))
	}
	if r.Awaits != nil {
		ways = append(ways, "what is awaited comes")
	}
	for i := range r.ClearWhens {
		ways = append(ways, r.ClearWhens[i].words())
	}
	if r.Eases() {
		ways = append(ways, "none of these numbers holds any more")
	}
	if r.Quiet > 0 {
		ways = append(ways, "no hit has come for "+longer(r.Quiet))
	}
	if r.Age > 0 {
		ways = append(ways, "it has been open for "+longer(r.Age))
	}
	var out []string
	switch {
	case len(ways) > 0:
		out = append(out, "It ends when "+listed(ways, "or")+".")
	case r.ByHand:
		out = append(out, "Only a person ends it, and says so.")
	default:
		out = append(out, "Only a person ends it.")
	}
	if r.Recovery != nil && !r.OnRecovery {
		out = append(out, "An entry where "+spoken(r.Recovery)+" lets counts begin anew.")
	}
	return out
}

func (t *Tell) words() string {
	s := listed(t.Contacts, "and") + " are told"
	if len(t.Contacts) == 1 {
		s = t.Contacts[0] + " is told"
	}
	if t.Untaken > 0 {
		s = "Where nobody has taken it in " + longer(t.Untaken) + ", " + s
	}
	if t.From > 0 {
		s += " from " + t.From.String() + " on"
	}
	if len(t.On) > 0 {
		s += " when it is " + listed(t.On, "or")
	}
	return s + "."
}

// String says when that is, in words.
func (h Hours) String() string {
	s := clockOf(h.From) + " to " + clockOf(h.To%(24*time.Hour))
	if h.To == 24*time.Hour {
		s = clockOf(h.From) + " to 24:00"
	}
	if h.Days != 0 {
		s = h.Days.words() + " " + s
	}
	return s
}

func (d Days) words() string {
	var out []string
	for k, n := range []string{"Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"} {
		if d&(1<<k) != 0 {
			out = append(out, n)
		}
	}
	return listed(out, "and")
}

// spoken says what holds of an entry where an expression does.
func spoken(x Expr) string {
	switch x := x.(type) {
	case *And:
		return spokenAll(x.Of, "and")
	case *Or:
		return spokenAll(x.Of, "or")
	case *Not:
		return "not (" + spoken(x.Of) + ")"
	case *Phrase:
		return "the text has the words " + Quote(x.Text)
	case *Match:
		field := x.Field
		if field == "" {
			field = "the text"
		}
		fits := "fits"
		if x.Neg {
			fits = "does not fit"
		}
		return field + " " + fits + " " + x.Pattern.String()
	case *Has:
		if x.Lacks {
			return x.Field + " is lacking"
		}
		return "there is a " + x.Field
	case *Compare:
		op := map[string]string{"==": "is", "!=": "is there and is not", "<": "is less than", "<=": "is at most",
			">": "is more than", ">=": "is at least"}[x.Op]
		return x.Field + " " + op + " " + x.Value.String()
	case *In:
		var all []string
		for _, v := range x.Values {
			all = append(all, v.String())
		}
		return x.Field + " is one of " + strings.Join(all, ", ")
	case *Is:
		return "it is " + articleFor(x.Name)
	}
	return x.String()
}

func spokenAll(list []Expr, word string) string {
	var out []string
	for _, p := range list {
		s := spoken(p)
		switch p.(type) {
		case *And, *Or:
			s = "(" + s + ")"
		}
		out = append(out, s)
	}
	return strings.Join(out, " "+word+" ")
}

// listed is a, b and c.
func listed(list []string, word string) string {
	if len(list) < 2 {
		return strings.Join(list, "")
	}
	return strings.Join(list[:len(list)-1], ", ") + " " + word + " " + list[len(list)-1]
}

func articleFor(s string) string {
	switch s[0] {
	case 'a', 'e', 'i', 'o', 'u':
		return "an " + s
	case 'c':
		return s // critical is no noun
	}
	return "a " + s
}

// longer writes a duration in words where it is of one unit: 5 minutes.
func longer(d time.Duration) string {
	for _, u := range []struct {
		d    time.Duration
		name string
	}{{7 * 24 * time.Hour, "week"}, {24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"},
		{time.Second, "second"}} {
		if d >= u.d && d%u.d == 0 {
			n := d / u.d
			if n == 1 {
				return "1 " + u.name
			}
			return fmt.Sprintf("%d %ss", n, u.name)
		}
	}
	return entry.Span(d)
}

// When says in words when a hush holds.
func (h *Hush) When() string {
	if h.From != 0 {
		return "from " + h.From.String() + " to " + h.To.String()
	}
	var out []string
	for i := range h.Hours {
		out = append(out, h.Hours[i].String())
	}
	return strings.Join(out, " and ")
}

// NotAName says that something is no name of a block or field, and what one looks like.
func NotAName(s string) error {
	return fmt.Errorf("%q is no name: names begin with a letter and go on with letters, digits, the marks - and "+
		"_, and dots", s)
}
