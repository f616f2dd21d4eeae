package layout

import (
	"fmt"
	"regexp/syntax"
	"strings"

	"dimlantern/core/steps"
)

// Explain says in words what each part of a pattern stands for.
func Explain(pattern string) []Explained {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return nil
	}
	var out []Explained
	for _, x := range steps.Flatten(re) {
		out = append(out, Explained{plainly2(x), explained(x)})
	}
	return out
}

// plainly2 writes a part as patterns are written here: (?<name>…) for its groups.
func plainly2(x *syntax.Regexp) string {
	s := strings.NewReplacer("(?P<", "(?<", "[0-9]", `\d`, "[0-9A-Z_a-z]", `\w`, "[^\\t-\\n\\f-\\r ]", `\S`,
		"[\\t-\\n\\f-\\r ]", `\s`, "(?-s:.)", ".", "(?-m:$)", "$", `\A`, "^", "(?-s:.*)", ".*", "(?-s:.+)", ".+",
		"(?-s:.*?)", ".*?", "(?-s:.+?)", ".+?").Replace(x.String())
	return s
}

func explained(x *syntax.Regexp) string {
	switch x.Op {
	case syntax.OpBeginText, syntax.OpBeginLine:
		return "the line begins"
	case syntax.OpEndText, syntax.OpEndLine:
		return "the line ends"
	case syntax.OpWordBoundary:
		return "a word begins or ends"
	case syntax.OpLiteral:
		s := string(x.Rune)
		switch {
		case strings.Trim(s, " ") == "" && len(s) == 1:
			return "a blank"
		case x.Flags&syntax.FoldCase != 0:
			return "the text `" + s + "`, capitals or not"
		}
		return "the text `" + s + "`"
	case syntax.OpCapture:
		return "the field " + x.Name + ": " + explained(x.Sub[0])
	case syntax.OpQuest:
		return "perhaps " + explained(x.Sub[0])
	case syntax.OpAlternate:
		var parts []string
		for _, s := range x.Sub {
			parts = append(parts, explained(s))
		}
		return strings.Join(parts, ", or ")
	case syntax.OpConcat:
		src := plainly2(x)
		for _, c := range classes {
			if src == c.pattern {
				return c.words
			}
		}
		var parts []string
		for _, s := range x.Sub {
			parts = append(parts, explained(s))
		}
		return strings.Join(parts, ", then ")
	case syntax.OpPlus, syntax.OpStar, syntax.OpRepeat, syntax.OpCharClass, syntax.OpAnyCharNotNL, syntax.OpAnyChar:
		src := plainly2(x)
		for _, c := range classes {
			if src == c.pattern || src == strings.ReplaceAll(c.pattern, `\/`, "/") {
				return c.words
			}
		}
		return repeated(x)
	}
	return "`" + plainly2(x) + "`"
}

// repeated says how often what may stand.
func repeated(x *syntax.Regexp) string {
	of := func(s *syntax.Regexp) string {
		switch s.Op {
		case syntax.OpAnyCharNotNL, syntax.OpAnyChar:
			return "anything"
		case syntax.OpLiteral:
			return "`" + string(s.Rune) + "`"
		case syntax.OpCharClass:
			src := plainly2(s)
			switch src {
			case `\d`:
				return "digits"
			case `\w`:
				return "letters, digits and _"
			case `\s`:
				return "blanks"
			case `\S`:
				return "anything without blanks"
			}
			if strings.HasPrefix(src, "[^") {
				return "anything but " + strings.TrimSuffix(strings.TrimPrefix(src, "[^"), "]")
			}
			return "characters of " + src
		}
		return explained(s)
	}
	switch x.Op {
	case syntax.OpPlus:
		if x.Flags&syntax.NonGreedy != 0 {
			return of(x.Sub[0]) + ", as little as will do"
		}
		return of(x.Sub[0])
	case syntax.OpStar:
		if x.Flags&syntax.NonGreedy != 0 {
			return of(x.Sub[0]) + " or nothing, as little as will do"
		}
		return of(x.Sub[0]) + ", or nothing"
	case syntax.OpRepeat:
		switch {
		case x.Max == x.Min:
			return fmt.Sprintf("%d of %s", x.Min, of(x.Sub[0]))
		case x.Max < 0:
			return fmt.Sprintf("%d or more of %s", x.Min, of(x.Sub[0]))
		}
		return fmt.Sprintf("%d to %d of %s", x.Min, x.Max, of(x.Sub[0]))
	}
	return "one of " + of(x)
}
