package author

import (
	"fmt"
	"slices"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// clauseWord is the word of a clause as it is written.
func clauseWord(clause string) string {
	word, _, _ := strings.Cut(clause, " ")
	return word
}

// SetClauses writes clauses into the text of a question, in the place of those of the same words; one
// that is a word alone is taken out, an ignore is added. What it says of the span, it says once.
func SetClauses(text string, clauses ...string) string {
	list := lang.ParseQuestion("", text).TypedList()
	span := []string{"over", "from"}
	for _, c := range clauses {
		word := clauseWord(c)
		place := -1
		if word != "ignore" {
			for i := 0; i < len(list); i++ {
				w := clauseWord(list[i])
				if w == word || slices.Contains(span, w) && slices.Contains(span, word) ||
					(w == "most" || w == "least") && (word == "most" || word == "least") {
					if place < 0 {
						place = i
					}
					list = slices.Delete(list, i, i+1)
					i--
				}
			}
		}
		if c == word && word != "off" {
			continue
		}
		if place < 0 {
			place = len(list)
			for place > 0 && lang.ClauseOrder(clauseWord(list[place-1])) > lang.ClauseOrder(word) {
				place--
			}
		}
		list = slices.Insert(list, place, c)
	}
	return strings.Join(list, "\n")
}

// is says that a field has a value.
func is(field, value string) string {
	if value == "" || value == "?" {
		return "lacks " + field
	}
	return field + " == " + lang.Quote(value)
}

// OnlyWhere lets a question be about entries alone in which a field has a value.
func OnlyWhere(text, field, value string) string {
	old := ""
	for _, c := range lang.ParseQuestion("", text).TypedList() {
		if clauseWord(c) == "where" {
			old = strings.TrimSpace(strings.TrimPrefix(c, "where"))
		}
	}
	if old == "" {
		return SetClauses(text, "where "+is(field, value))
	}
	s, _ := lang.Check([]*lang.File{lang.ParseQuestion("", "where "+old)}, lang.Env{})
	if q := s.Ask(lang.Typed); q != nil {
		if _, or := q.Where.(*lang.Or); or {
			old = "(" + old + ")"
		}
	}
	return SetClauses(text, "where "+old+" and "+is(field, value))
}

// NotWhere lets a question pass over entries in which a field has a value.
func NotWhere(text, field, value string) string { return SetClauses(text, "ignore "+is(field, value)) }

// AddColumn shows one more number, or does not show it any more; where only entries were shown it is the
// only one.
func AddColumn(text, column string) string {
	var columns []string
	s, _ := lang.Check([]*lang.File{lang.ParseQuestion("", text)}, lang.Env{})
	if q := s.Ask(lang.Typed); q != nil {
		for _, c := range q.Show {
			if c.Fn != "entries" {
				columns = append(columns, c.String())
			}
		}
	}
	if i := slices.Index(columns, column); i >= 0 && len(columns) > 1 {
		columns = slices.Delete(columns, i, i+1)
	} else if i < 0 {
		columns = append(columns, column)
	}
	return SetClauses(text, "show "+strings.Join(columns, ", "))
}

// CompleteQuestion proposes words for what is being typed in a question at a column of a line, as
// [Complete] does; fields are those that its entries have.
func CompleteQuestion(s *lang.Settings, fields []string, text string, line, col int) (words []string, typed int) {
	lines := strings.Split(text, "\n")
	if line < 1 || line > len(lines) {
		return nil, 0
	}
	here := []rune(lines[line-1])
	if col > len(here) || col < len(here) && wordRune(here[col]) {
		return nil, 0
	}
	before := strings.Join(append(slices.Clone(lines[:line-1]), string(here[:col])), "\n")
	last := string(here[:col])
	if strings.Count(last, `"`)%2 == 1 || strings.Count(last, "/")%2 == 1 || strings.Contains(last, "#") {
		return nil, 0
	}
	at := len(before)
	for at > 0 && wordRune(rune(before[at-1])) {
		at--
	}
	prefix := before[at:]
	clauses := lang.ParseQuestion("", before[:at]).TypedClauses()
	var from, used []string
	for _, c := range clauses {
		used = append(used, c.Word)
	}
	starts := func() {
		for _, w := range lang.ClauseNames("ask") {
			if !slices.Contains(used, w) || w == "ignore" || w == "reckon" {
				from = append(from, w)
			}
		}
	}
	if len(clauses) == 0 {
		starts()
	} else {
		c := clauses[len(clauses)-1]
		end := strings.TrimRight(before[:at], " ")
		open := strings.Count(before[:at], "(") > strings.Count(before[:at], ")")
		whole := len(c.Words) > 0 && !strings.HasSuffix(end, ",") // another clause may begin
		prev := c.Word
		if len(c.Words) > 0 {
			prev = c.Words[len(c.Words)-1]
		}
		switch c.Word {
		case "on":
			if !whole {
				from = []string{"alerts"}
				for _, x := range s.Sources {
					from = append(from, x.Name)
				}
			}
		case "where", "ignore", "join":
			if prev == "is" {
				for _, k := range s.Kinds {
					from = append(from, k.Name)
				}
				whole = false
				break
			}
			from = append(from, fields...)
			from = append(from, "and", "or", "not", "has", "lacks", "is", "in")
		case "show", "having", "most", "least":
			switch {
			case open:
				from = fields
			case c.Word == "show" && !whole, c.Word == "having" && !whole, prev == "by":
				from = lang.ColumnWords()
				if prev == "by" {
					from = append(from, "difference")
				}
				whole = false
			case prev == "gaps":
				from, whole = []string{"longer"}, false
			case prev == "longer":
				from, whole = []string{"than"}, false
			case c.Word != "show":
				from = []string{"by"}
			}
			whole = whole && !open
		case "per":
			if !whole {
				from = append(append([]string{"each field"}, lang.CalendarFields...), fields...)
			}
		case "every":
			if !whole {
				from = []string{"1m", "10m", "1h", "day", "week", "month"}
			}
		case "over":
			if !whole {
				from = []string{"1h", "24h", "7d", "28d", "today", "yesterday",
					"this week", "last week", "this month", "last month"}
			}
		case "beside":
			if !whole {
				from = []string{"before", "24h ago", "7d ago"}
			} else if prev != "before" && prev != "ago" {
				from, whole = []string{"ago"}, false
			}
		case "new":
			if !whole {
				from = []string{"since 7d ago"}
			}
		case "from":
			if len(c.Words) == 1 {
				from, whole = []string{"to"}, false
			}
		case "reckon":
			from = fields
			whole = whole && !open && len(c.Words) > 2
		}
		if whole {
			starts()
		}
	}
	for _, w := range from {
		if strings.HasPrefix(w, prefix) && w != prefix && !slices.Contains(words, w) {
			words = append(words, w)
		}
	}
	return words[:min(len(words), mostComplete)], len([]rune(prefix))
}

// RuleOf is a rule that watches what a question asks: its where is the problem, its number what raises,
// beyond a limit that is seldom passed. Why says what of the question a rule has not.
func RuleOf(q *lang.Question, column int, limit string, every string) (text string, why []string) {
	c := q.Columns()[min(column, len(q.Columns())-1)]
	name := q.Name
	if name == lang.Typed {
		name = "new-rule"
	} else {
		name = "watch-" + name
	}
	var b strings.Builder
	fmt.Fprintf(&b, "rule %s {\n", name)
	if len(q.On) > 0 {
		fmt.Fprintf(&b, "on %s\n", strings.Join(q.On, ", "))
	}
	problem := "has origin"
	if q.Where != nil {
		problem = q.Where.String()
	}
	number := c.String()
	switch c.Fn {
	case "share":
		if q.Where != nil {
			fmt.Fprintf(&b, "among %s\n", problem)
		}
		problem, number = c.Expr.String(), "share"
	case "median":
		number = "p50(" + c.Field + ")"
	case "p90":
		number = "p95(" + c.Field + ")"
		why = append(why, "rules know no p90: it watches the 95th percentile")
	case "rate":
		number = "count"
	case "first", "last":
		number = "max(" + c.Field + ")"
		why = append(why, "rules know no "+c.Fn+": it watches the greatest "+c.Field)
	case "gaps", "entries":
		number = "count"
	}
	fmt.Fprintf(&b, "problem %s\n", problem)
	if q.Ignore != nil {
		fmt.Fprintf(&b, "ignore %s\n", q.Ignore)
	}
	var per []string
	for _, f := range q.Per {
		if slices.Contains(lang.CalendarFields, f) || q.Reckoned(f) {
			why = append(why, "rules know no "+f+" as a key")
			continue
		}
		per = append(per, f)
	}
	if len(per) > 0 {
		fmt.Fprintf(&b, "per %s\n", strings.Join(per, ", "))
	} else {
		b.WriteString("per nothing\n")
	}
	if q.Reckoned(c.Field) {
		why = append(why, "rules do not reckon: "+c.Field+" has to come from the layout")
	}
	if q.Join != nil {
		why = append(why, "rules do not join entries: once EXPR and awaits EXPR say that something does not come")
	}
	if _, err := entry.ParseDuration(every); err != nil {
		every = "10m"
	}
	if c.Fn == "gaps" {
		fmt.Fprintf(&b, "raise warning when count == 0 in %s\n", entry.Span(c.Longer))
	} else {
		fmt.Fprintf(&b, "raise warning when %s > %s in %s\n", number, limit, every)
	}
	b.WriteString("}\n")
	return lang.Parse("new", []byte(b.String())).Format(), why
}

// AskOfRule is a question about the hits of a rule, for a key, whose values are as they are written; nil is
// every key.
func AskOfRule(r *lang.Rule, key []string) string {
	var out []string
	if len(r.On) > 0 {
		out = append(out, "on "+strings.Join(r.On, ", "))
	}
	x := r.Problem
	if x == nil {
		x = r.Awaits
	}
	where := ""
	if x != nil {
		if where = x.String(); len(key) > 0 {
			if _, or := x.(*lang.Or); or {
				where = "(" + where + ")"
			}
		}
	}
	for i, f := range r.Per {
		if i >= len(key) {
			break
		}
		if where != "" {
			where += " and "
		}
		where += is(f, key[i])
	}
	if where != "" {
		out = append(out, "where "+where)
	}
	if r.Ignore != nil {
		out = append(out, "ignore "+r.Ignore.String())
	}
	show := "show count"
	for _, w := range r.Whens() {
		if w.Field != "" && !strings.Contains(show, w.Agg+"("+w.Field+")") {
			show += ", " + w.Agg + "(" + w.Field + ")"
		}
	}
	out = append(out, show)
	if len(key) == 0 && len(r.Per) > 0 {
		out = append(out, "per "+strings.Join(r.Per, ", "))
	}
	return strings.Join(out, "\n")
}
