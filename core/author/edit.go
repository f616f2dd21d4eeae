package author

import (
	"fmt"
	"slices"
	"strings"

	"dimlantern/core/lang"
)

// WithKey adds a field to the key of a rule that has no problem yet.
func WithKey(body string, line int, field string) string {
	p, ok := lang.Parse("text", []byte(body)).RuleNear(line)
	if !ok {
		return body
	}
	per := 0
	for _, c := range p.Clauses {
		switch c.Word {
		case "problem":
			return body
		case "per":
			if per = c.Last; slices.Contains(c.Words, "nothing") || slices.Contains(c.Words, field) {
				return body
			}
		}
	}
	if per == 0 {
		return body
	}
	lines := strings.Split(body, "\n")
	lines[per-1] += ", " + field
	return strings.Join(lines, "\n")
}

// behind are the clauses behind which one is written, the likeliest last.
var behind = map[string][]string{
	"problem":  {"on", "problem"},
	"recovery": {"on", "problem", "recovery"},
	"ignore":   {"on", "problem", "recovery", "ignore"},
}

// InsertClause writes a clause into the rule of a text in which a line lies, and brings the
// text into its form. What was there stays, comments included.
func InsertClause(body string, line int, word, arg string) (string, int, error) {
	p, ok := lang.Parse("text", []byte(body)).RuleNear(line)
	if !ok {
		return "", 0, fmt.Errorf("the cursor stands in no rule")
	}
	lines := strings.Split(strings.TrimRight(body, "\n"), "\n")
	start := p.First - 1
	at, rank := start, -1
	for _, c := range p.Clauses {
		if c.Word == "expect" {
			break
		}
		if k := slices.Index(behind[word], c.Word); k >= 0 && k >= rank {
			at, rank = c.Last-1, k
		}
	}
	lines = slices.Insert(lines, at+1, "  "+word+" "+arg)
	text := strings.Join(lines, "\n") + "\n"
	text = lang.Tidied(body, text)
	for i, l := range strings.Split(text, "\n") { // where it is now
		if i > start && strings.HasPrefix(strings.TrimSpace(l), word+" ") && strings.HasSuffix(l, arg) {
			return text, i + 1, nil
		}
	}
	return text, at + 2, nil
}
