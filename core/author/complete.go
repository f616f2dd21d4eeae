package author

import (
	"slices"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
)

// mostComplete is how many words are proposed.
const mostComplete = 12

// Complete proposes words for what is being typed at a column of a line: those that begin
// as it does, and how long that beginning is.
func Complete(s *lang.Settings, r *lang.Rule, kinds []trial.KindSays, body string, line, col int) (words []string,
	typed int) {
	lines := strings.Split(body, "\n")
	if line < 1 || line > len(lines) {
		return nil, 0
	}
	text := []rune(lines[line-1])
	if col > len(text) || col < len(text) && wordRune(text[col]) {
		return nil, 0
	}
	before := string(text[:col])
	if strings.Count(before, `"`)%2 == 1 || strings.Count(before, "/")%2 == 1 || strings.Contains(before, "#") {
		return completeValue(kinds, before)
	}
	at := col
	for at > 0 && wordRune(text[at-1]) {
		at--
	}
	prefix := string(text[at:col])
	head := strings.Fields(string(text[:at]))
	var from []string
	switch {
	case len(head) == 0:
		if kind := lang.Parse("text", []byte(body)).Within(line); kind != "" {
			from = lang.ClauseNames(kind)
		} else {
			from = []string{"rule", "source", "layout", "contact", "hush", "settings", "kind", "ask", "report",
				"measure", "deliver"}
		}
	case head[0] == "on":
		for _, x := range s.Sources {
			from = append(from, x.Name)
		}
	case head[0] == "layout":
		for _, x := range s.Layouts {
			from = append(from, x.Name)
		}
		from = append(from, "plain", "json", "logfmt", "syslog", "csv", "combined", "journal", "event-xml")
	case head[0] == "ask":
		from = append(from, lang.Handover)
		for _, q := range s.Asks {
			from = append(from, q.Name)
		}
	case head[0] == "covers":
		from = []string{"yesterday", "today", "this week", "last week", "this month", "last month", "24h", "7d"}
	case head[0] == "as":
		from = lang.ReportForms
	case head[0] == "to" && len(head) == 1:
		from = []string{"syslog", "otlp", "files", "nats"}
	case head[0] == "use":
		from = completeUse(s, head)
	case head[0] == "tell":
		for _, x := range s.Contacts {
			from = append(from, x.Name)
		}
	case head[0] == "unless" && len(head) == 1:
		for _, x := range s.Rules {
			from = append(from, x.Name)
		}
	case head[0] == "raise" && len(head) == 1:
		from = entry.Severities
	case head[0] == "raise":
		from = append([]string{"at", "in", "when", "after", "by", "where", "different", "without", "open"},
			append(slices.Clone(lang.Aggregates), fieldsOf(s, r, kinds)...)...)
	case head[0] == "clear":
		from = append([]string{"on", "recovery", "after", "quiet", "open", "when", "by", "hand"},
			append(slices.Clone(lang.Aggregates), fieldsOf(s, r, kinds)...)...)
	case head[0] == "per":
		from = append(fieldsOf(s, r, kinds), "nothing")
	case slices.Contains([]string{"problem", "recovery", "ignore", "awaits", "once", "among", "where"}, head[0]):
		from = append(fieldsOf(s, r, kinds), "and", "or", "not", "has", "lacks", "in")
	}
	for _, w := range from {
		if strings.HasPrefix(w, prefix) && w != prefix && !slices.Contains(words, w) &&
			!slices.Contains(head[min(1, len(head)):], w) {
			words = append(words, w)
		}
	}
	slices.Sort(words)
	return words[:min(len(words), mostComplete)], len([]rune(prefix))
}

// completeUse proposes how a clause that uses a kit goes on.
func completeUse(s *lang.Settings, head []string) []string {
	switch {
	case len(head) == 1:
		return []string{"kit"}
	case len(head) == 2:
		return s.KitNames
	}
	k := s.Kit(head[2])
	if k == nil || head[len(head)-1] == "but" {
		return []string{"with", "but", "not"}
	}
	if slices.Contains(head, "not") {
		var out []string
		for _, r := range s.Rules {
			if s.KitOf(r.Pos) == k.Name {
				out = append(out, r.Name)
			}
		}
		for _, x := range s.Sources {
			if s.KitOf(x.Pos) == k.Name {
				out = append(out, x.Name)
			}
		}
		return out
	}
	out := []string{"with", "but"}
	for _, g := range k.Given {
		out = append(out, g.Name)
	}
	return out
}

func wordRune(r rune) bool {
	return r == '-' || r == '_' || r == '.' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9'
}

// completeValue proposes the commonest values of a field within the quotes of a
// comparison.
func completeValue(kinds []trial.KindSays, before string) ([]string, int) {
	at := strings.LastIndexByte(before, '"')
	if at < 0 || strings.Contains(before, "#") {
		return nil, 0
	}
	words := strings.Fields(before[:at])
	if n := len(words); n < 2 || words[n-1] != "==" && words[n-1] != "!=" {
		return nil, 0
	}
	field, prefix := words[len(words)-2], before[at+1:]
	counts := map[string]int{}
	for _, k := range kinds {
		for _, f := range k.Fields {
			if f.Name == field && strings.HasPrefix(f.Value, prefix) && len(f.Value) < 60 {
				counts[f.Value] += k.Shape.Count
			}
		}
	}
	var out []string
	for v := range counts {
		out = append(out, v)
	}
	slices.SortFunc(out, func(a, b string) int {
		if counts[a] != counts[b] {
			return counts[b] - counts[a]
		}
		return strings.Compare(a, b)
	})
	return out[:min(len(out), mostComplete)], len([]rune(prefix))
}

// fieldsOf are the fields that a rule can speak of.
func fieldsOf(s *lang.Settings, r *lang.Rule, kinds []trial.KindSays) []string {
	out := slices.Clone(entry.BuiltIn)
	add := func(list []string) {
		for _, f := range list {
			if !slices.Contains(out, f) {
				out = append(out, f)
			}
		}
	}
	for _, k := range kinds {
		for _, f := range k.Fields {
			add([]string{f.Name})
		}
	}
	if r != nil {
		add(lang.Captures(r.Problem))
		for _, src := range s.Sources {
			if l := s.Layout(src.LayoutName()); l != nil && r.LooksAt(src.Name) {
				add(l.Fields())
			}
		}
	}
	return out
}
