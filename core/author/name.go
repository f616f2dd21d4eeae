package author

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// NameValue makes a field of a value of an entry, in the pattern of the rule that the entry fits: of
// what the pattern leaves open, of a part of that, or of words that it asks for, which it then leaves
// open. Other entries of the same kind that the pattern fits, it fits still.
func NameValue(r *lang.Rule, body string, e *entry.Entry, others []string, from, to int, name string) (string, int,
	error) {
	if !lang.IsName(name) {
		return "", 0, lang.NotAName(name)
	}
	text := e.Text()
	err := fmt.Errorf("no pattern of this rule fits this entry: p makes one of it, and then n names the value")
	for _, m := range lang.Matches(r) {
		if m.Field != "" || m.Neg || !m.Pattern.Re().MatchString(text) {
			continue
		}
		if slices.Contains(m.Pattern.Groups, name) {
			return "", 0, fmt.Errorf("the pattern has a field %s already", name)
		}
		var named string
		if named, err = nameIn(m.Pattern.Source, text, others, from, to, name); err != nil {
			continue
		}
		if out, ok := lang.ReplacePattern(body, m.Pattern, named); ok {
			return out, m.Pattern.Pos.Line, nil
		}
	}
	return "", 0, err
}

// part is a part of a pattern's source that fits a stretch of a text.
type part struct {
	from, to int  // in the source
	open     bool // it fits several texts
	field    bool // it has a capture
	s, e     int  // where it fits, -1 where it does not
}

// What a pattern consists of: what fits no text of its own, one character or class, and how often.
var (
	bare = regexp.MustCompile(`^(?:\^|\$|\\[bBAz]|\(\?[imsU]+\))`)
	unit = regexp.MustCompile(`^(?:\\x\{[0-9a-fA-F]+\}|\\x[0-9a-fA-F]{2}|\\[pP](?:\{[^}]*\}|.)|\\.|` +
		`\[\^?\]?(?:\[:\^?\w+:\]|\\.|[^\]\\])*\]|(?s:.))`)
	times = regexp.MustCompile(`^(?:[*+?]|\{\d+(?:,\d*)?\})\??`)
)

// parts cuts a pattern into what follows one another in it; false where it has alternatives.
func parts(src string) ([]part, bool) {
	var out []part
	for i := 0; i < len(src); {
		if m := bare.FindString(src[i:]); m != "" {
			i += len(m)
			continue
		}
		p := part{from: i, to: i}
		switch {
		case src[i] == '|':
			return nil, false
		case src[i] == '(':
			p.open = true
			for depth := 0; p.to < len(src); {
				u := unit.FindString(src[p.to:])
				p.to += len(u)
				if u == "(" {
					depth++
					p.field = p.field || strings.HasPrefix(src[p.to:], "?<") || strings.HasPrefix(src[p.to:], "?P<")
				} else if u == ")" {
					if depth--; depth == 0 {
						break
					}
				}
			}
		default:
			u := unit.FindString(src[i:])
			p.to += len(u)
			p.open = u == "." || u[0] == '[' ||
				len(u) > 1 && u[0] == '\\' && strings.IndexByte("dDwWsSpP", u[1]) >= 0
		}
		if m := times.FindString(src[p.to:]); m != "" {
			p.to, p.open = p.to+len(m), true
		}
		out = append(out, p)
		i = p.to
	}
	return out, true
}

// fit says where each part of a pattern fits a text.
func fit(src, text string, list []part) bool {
	var b strings.Builder
	at := 0
	for i, p := range list {
		fmt.Fprintf(&b, "%s(?<z%d>%s)", src[at:p.from], i, src[p.from:p.to])
		at = p.to
	}
	b.WriteString(src[at:])
	re, err := regexp.Compile(b.String())
	if err != nil {
		return false
	}
	m := re.FindStringSubmatchIndex(text)
	if m == nil {
		return false
	}
	for i := range list {
		g := 2 * re.SubexpIndex(fmt.Sprintf("z%d", i))
		list[i].s, list[i].e = m[g], m[g+1]
	}
	return true
}

// nameIn gives a stretch of a text that a pattern fits a name in the pattern.
func nameIn(src, text string, others []string, from, to int, name string) (string, error) {
	cannot := fmt.Errorf("the pattern /%s/ has no place for a name there: write it by hand", src)
	list, ok := parts(src)
	if !ok || !fit(src, text, list) {
		return "", cannot
	}
	first := slices.IndexFunc(list, func(p part) bool { return p.s <= from && from < p.e })
	last := slices.IndexFunc(list, func(p part) bool { return p.s < to && to <= p.e })
	if first < 0 || last < first {
		return "", fmt.Errorf("the pattern /%s/ does not look there: p makes one of the whole entry", src)
	}
	for _, p := range list[first : last+1] {
		if p.field {
			return "", fmt.Errorf("the pattern has a field there already: /%s/", src[p.from:p.to])
		}
	}
	was, err := regexp.Compile(src)
	if err != nil {
		return "", cannot
	}
	others = slices.DeleteFunc(slices.Clone(others), func(t string) bool { return !was.MatchString(t) })
	a, b := list[first], list[last]
	for _, left := range beside(src[a.from:a.to], text[a.s:from], false) {
		for _, right := range beside(src[b.from:b.to], text[to:b.e], true) {
			for _, value := range valuePatterns(src[a.from:b.to], text, from, to,
				first == last && a.open && a.s == from && a.e == to) {
				named := src[:a.from] + left + "(?<" + name + ">" + value + ")" + right + src[b.to:]
				re, err := regexp.Compile(named)
				if err != nil {
					continue
				}
				m, g := re.FindStringSubmatchIndex(text), 2*re.SubexpIndex(name)
				if m != nil && m[g] == from && m[g+1] == to &&
					!slices.ContainsFunc(others, func(t string) bool { return !re.MatchString(t) }) {
					return named, nil
				}
			}
		}
	}
	return "", cannot
}

// beside are patterns for what is left of an open part beside a value in it: on its left, or on its
// right.
func beside(source, rest string, right bool) []string {
	if rest == "" {
		return []string{""}
	}
	class := `\S`
	if u := unit.FindString(source); u != "(" {
		class = u
	}
	next, _ := utf8.DecodeLastRuneInString(rest)
	if right {
		next, _ = utf8.DecodeRuneInString(rest)
	}
	var out []string
	if !strings.ContainsAny(rest, "0123456789") {
		out = append(out, regexp.QuoteMeta(rest))
	}
	edge := ""
	if next >= 0x80 || !alnum(byte(next)) {
		edge = regexp.QuoteMeta(string(next))
	}
	if right {
		return append(out, edge+class+"*", edge+class+"*?")
	}
	return append(out, class+"*?"+edge, class+"*"+edge)
}

// valuePatterns are patterns for a value, the tightest first; whole tells that an open part of the
// pattern stands for it.
func valuePatterns(source, text string, from, to int, whole bool) []string {
	value := text[from:to]
	var out []string
	if whole {
		out = append(out, source)
	}
	switch {
	case strings.Trim(value, "0123456789") == "":
		out = append(out, `\d+`)
	case strings.Trim(value, "0123456789.:,") == "":
		out = append(out, `[\d.:,]+`)
	}
	if to < len(text) {
		switch c := text[to]; {
		case from > 0 && text[from-1] == c && strings.IndexByte("\"'`", c) >= 0:
			out = append(out, "[^"+string(c)+"]*")
		case c == ' ' || c == '\t':
			out = append(out, `\S+`)
		case c < 0x80 && !alnum(c):
			out = append(out, `[^\s\`+string(c)+`]+`)
		}
	} else {
		out = append(out, `\S+`)
	}
	return append(out, `\w+`, `\S+`, `.+?`, `.+`)
}
