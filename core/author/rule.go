package author

import (
	"fmt"
	"slices"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

// Rule writes a rule of which the entry is a hit: its text with its numbers left
// open, and counted by the host or another field that tells writers apart, and by
// the number that a word names.
func Rule(s *lang.Settings, src *lang.Source, plan *match.Plan, sample []byte, raw string, severity entry.Severity,
	now entry.Instant) string {
	text, hosted := strings.ToValidUTF8(raw, ""), false
	by, event := "", ""
	var data []string // the data that an event names
	if l := s.Layout(src.LayoutName()); l != nil {
		hosted = plan.Layout.GivesHost()
		by = tellsApart(l, plan, sample, now)
		x, _ := plan.Divide(&layout.Divider{Layout: plan.Layout}, []byte(raw), now)
		for _, f := range x.Fields {
			switch {
			case f.Name == "text":
				text = f.Value
			case f.Name == "event" && l.Format == "event-xml":
				event = f.Value
			case event != "" && !slices.Contains(l.Fields(), f.Name):
				data = append(data, f.Name)
			}
		}
	}
	text, _, _ = strings.Cut(text, "\n")
	pattern, named := PatternOf(text)
	if event != "" { // its identifier says what it is, however it is worded
		pattern, named = "event == "+lang.Quote(event), ""
		if strings.Trim(event, "0123456789") == "" {
			pattern = "event == " + event
		}
		if len(data) > 0 && !lang.Reserved(data[0]) {
			named = data[0]
		}
	}
	per := []string{}
	if hosted || src.Host != "" || src.HostFrom != nil {
		per = append(per, "host")
	} else if by != "" {
		per = append(per, by)
	}
	if named != "" {
		per = append(per, named)
	}
	if severity == 0 {
		severity = entry.Warning
	}
	var b strings.Builder
	fmt.Fprintf(&b, "rule %s {\non %s\nproblem %s\n", ruleName(text, src.Name, s), src.Name, pattern)
	if len(per) > 0 {
		fmt.Fprintf(&b, "per %s\n", strings.Join(per, ", "))
	}
	fmt.Fprintf(&b, "raise %s\nclear after 1h quiet\n\nexpect \"the entry that it began with\" {\nline %s\nthen "+
		"raised %s\n}\n}\n", severity, lang.Quote(strings.ToValidUTF8(raw, "\uFFFD")), severity)
	return lang.Parse("new", []byte(b.String())).Format()
}

// tellsApart is the first field of a layout that has several values, and not many:
// a machine or a place, but no number and no text.
func tellsApart(l *lang.Layout, plan *match.Plan, sample []byte, now entry.Instant) string {
	values := map[string]map[string]bool{}
	d := layout.Divider{Layout: plan.Layout}
	plan.Entries(sample, func(line []byte) {
		x, _ := plan.Divide(&d, line, now)
		for _, f := range x.Fields {
			if values[f.Name] == nil {
				values[f.Name] = map[string]bool{}
			}
			if len(values[f.Name]) < 100 {
				values[f.Name][f.Value] = true
			}
		}
	})
	for _, f := range l.Fields() {
		kind := l.Types[f]
		if n := len(values[f]); n > 1 && n < 50 && (kind == "" || kind == "text") &&
			!slices.Contains([]string{"text", "level", "program", "pid"}, f) {
			return f
		}
	}
	return ""
}

// ruleName makes a name of a text that no other rule has.
func ruleName(text, source string, s *lang.Settings) string {
	words := Spoken.FindAllString(strings.ToLower(text), 3)
	if len(words) == 0 {
		words = []string{source}
	}
	if lang.Reserved(words[0]) {
		words = append([]string{source}, words...)
	}
	want := strings.Join(words, "-")
	name := want
	for n := 2; s.Rule(name) != nil || s.Source(name) != nil; n++ {
		name = fmt.Sprintf("%s-%d", want, n)
	}
	return name
}
