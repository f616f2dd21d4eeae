package lang

import (
	"fmt"
	"strings"
)

// Words is the question as sentences.
func (q *Question) Words() []string {
	what := "entries of any source"
	switch {
	case q.Alerts:
		what = "alerts"
	case len(q.On) > 0:
		what = "entries of " + listed(q.On, "and")
	}
	var which string
	switch {
	case q.Join != nil:
		by := "of one origin"
		if len(q.Join.By) > 0 {
			by = "with the same " + listed(q.Join.By, "and")
		}
		what = strings.Replace(what, "entries", "pairs of entries", 1)
		which = fmt.Sprintf(" where %s, and then, %s and less than %s later, %s", spoken(q.Join.First), by,
			longer(q.Join.Within), spoken(q.Join.Second))
	case q.Where != nil:
		which = " where " + spoken(q.Where)
	}
	if q.Ignore != nil {
		which += ", but not where " + spoken(q.Ignore)
	}
	var cols []string
	count := false
	for _, c := range q.Columns() {
		if c.Fn == "count" {
			count = true
			continue
		}
		cols = append(cols, c.words())
	}
	s := ""
	switch {
	case len(q.Show) == 0 || q.Show[0].Fn == "entries":
		s = "The " + what + which
	case len(q.Show) == 1 && q.Show[0].Fn == "gaps":
		s = "Stretches of more than " + longer(
			q.Show[0].Longer,
		) + " without any " + strings.Replace(
			what,
			"entries",
			"entry",
			1,
		) + which
	case count && len(cols) == 0:
		s = "How many " + what + " there are" + which
	case count:
		s = "How many " + what + " there are" + which + ", and " + listed(cols, "and")
	default:
		s = upper(listed(cols, "and")) + " in " + what + which
	}
	switch {
	case q.Each:
		s += ", for every value of every field"
	case len(q.Per) > 0:
		s += ", for each " + listed(q.Per, "and")
	}
	if q.Every != nil {
		s += ", " + q.Every.words()
	}
	if q.Over != nil {
		s += ", " + q.Over.words()
	}
	if q.Beside != nil {
		s += "; beside it the same " + q.Beside.words()
	}
	out := []string{s + "."}
	for _, r := range q.Reckon {
		out = append(out, fmt.Sprintf("%s is %s.", upper(r.Field), r.Calc))
	}
	if q.Having != nil {
		out = append(
			out,
			fmt.Sprintf("Only groups of which %s %s %s.", q.Having.Column.words(), opWords[q.Having.Op],
				q.Having.Value),
		)
	}
	if q.New > 0 {
		out = append(out, fmt.Sprintf("Only groups that had no entry in the %s before.", longer(q.New)))
	}
	if m := q.Most; m != nil {
		by := q.Columns()[0].words()
		if m.By != nil {
			by = m.By.words()
		}
		if m.Difference {
			by = "the difference"
		}
		how := "most"
		if m.Least {
			how = "least"
		}
		out = append(out, fmt.Sprintf("The %d groups of the %s by %s, and all others together.", m.N, how, by))
	}
	return out
}

var opWords = map[string]string{">": "is more than", ">=": "is at least", "<": "is less than", "<=": "is at most",
	"==": "is", "!=": "is not"}

func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func (c Column) words() string {
	if c.Expr != nil {
		return "the share of which " + spoken(c.Expr)
	}
	switch c.Fn {
	case "gaps":
		return "stretches of more than " + longer(c.Longer) + " without any entry"
	case "rate":
		return "how many a second"
	case "count":
		return "the number of entries"
	case "entries":
		return "the entries"
	}
	return map[string]string{"sum": "the sum of", "avg": "the mean of", "min": "the least", "max": "the greatest",
		"median": "the median of", "p50": "the median of", "p90": "the 90th percentile of",
		"p95": "the 95th percentile of",
		"p99": "the 99th percentile of", "different": "the number of different values of", "first": "the first",
		"last": "the last"}[c.Fn] + " " + c.Field
}

func (p Period) words() string {
	if p.Unit != "" {
		return "every " + p.Unit
	}
	return "every " + strings.TrimPrefix(longer(p.D), "1 ")
}

func (o Over) words() string {
	switch {
	case o.D > 0:
		if o.D == Day {
			return "of the last 24 hours"
		}
		return "of the last " + strings.TrimPrefix(longer(o.D), "1 ")
	case o.Named == "today", o.Named == "yesterday":
		return "of " + o.Named
	case o.Named != "":
		return "of " + o.Named
	}
	return "from " + o.From.Src + " to " + o.To.Src
}

func (s Shift) words() string {
	if s.Before {
		return "for the span just before"
	}
	return longer(s.D) + " before"
}
