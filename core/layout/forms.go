package layout

import (
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// tokens cuts a text into words, numbers, blanks and single marks.
func tokens(s string) []string {
	var out []string
	for i := 0; i < len(s); {
		from := i
		switch c := s[i]; {
		case c-'0' <= 9:
			for i < len(s) && s[i]-'0' <= 9 {
				i++
			}
		case wordByte[c]:
			for i < len(s) && (wordByte[s[i]] || s[i]-'0' <= 9) {
				i++
			}
		case c == ' ' || c == '\t':
			for i < len(s) && (s[i] == ' ' || s[i] == '\t') {
				i++
			}
		default:
			i++
		}
		out = append(out, s[from:i])
	}
	return out
}

// tokenKind is what a token is: n a number, w a word, blank, or the mark itself.
func tokenKind(t string) string {
	switch c := t[0]; {
	case c-'0' <= 9:
		return "n"
	case wordByte[c]:
		return "w"
	case c == ' ' || c == '\t':
		return " "
	}
	return t
}

// common counts how many tokens of all lists are of one kind, from the end or from the
// start on.
func common(lists [][]string, fromEnd bool) (int, bool) {
	n := len(lists[0])
	for _, l := range lists {
		n = min(n, len(l))
	}
	for k := range n {
		kind := ""
		for _, l := range lists {
			t := l[k]
			if fromEnd {
				t = l[len(l)-1-k]
			}
			kd := tokenKind(t)
			if kind == "" {
				kind = kd
			}
			if kind != kd {
				return k, false
			}
		}
	}
	same := true
	for _, l := range lists {
		same = same && len(l) == n
	}
	return n, same
}

// tokenForms are the ways to write a token that the examples have at one place. An
// edge is the first one of a pattern that does not begin with the line.
func tokenForms(all []string, edge bool) []string {
	equal := true
	for _, t := range all {
		equal = equal && t == all[0]
	}
	t := all[0]
	switch tokenKind(t) {
	case "n":
		return []string{`\d+`, `[\w.:-]+`}
	case "w":
		forms := []string{`[A-Za-z]+`, `\w+`, `[\w.-]+`, `\S+`}
		if strings.IndexFunc(strings.Join(all, ""),
			func(r rune) bool { return !(r|0x20 >= 'a' && r|0x20 <= 'z') }) >= 0 {
			forms = forms[1:]
		}
		if strings.IndexFunc(strings.Join(all, ""), func(r rune) bool { return r >= utf8.RuneSelf }) >= 0 {
			forms = []string{`\S+`}
		}
		if !equal {
			return forms
		}
		word := regexp.QuoteMeta(t)
		if edge {
			word = `\b` + word
			if t[0] >= utf8.RuneSelf {
				word = regexp.QuoteMeta(t)
			}
		}
		return append([]string{word}, forms...)
	case " ":
		one := true
		for _, t := range all {
			one = one && t == " "
		}
		if one {
			return []string{" ", `\s+`}
		}
		return []string{`\s+`}
	}
	return []string{regexp.QuoteMeta(t)}
}

// gapPieces writes what stands between two values.
func gapPieces(gaps [][]string) []piece {
	n, same := common(gaps, false)
	var out []piece
	add := func(list [][]string, k int) {
		var all []string
		for _, g := range list {
			all = append(all, g[k])
		}
		out = append(out, piece{forms: tokenForms(all, false)})
	}
	if same {
		for k := range n {
			add(gaps, k)
		}
		return out
	}
	// What they have in common behind the one and before the other.
	for k := range n {
		add(gaps, k)
	}
	var rests [][]string
	for _, g := range gaps {
		rests = append(rests, g[n:])
	}
	m, _ := common(rests, true)
	out = append(out, piece{forms: []string{`.*?`}})
	for k := range m {
		var all []string
		for _, r := range rests {
			all = append(all, r[len(r)-m+k])
		}
		out = append(out, piece{forms: tokenForms(all, false)})
	}
	return out
}

// classes are the ways to write a value, from the narrowest on, with their words.
var classes = []struct{ pattern, words string }{
	{`\d+`, "digits"},
	{`-?\d+`, "a whole number"},
	{`-?\d+(?:\.\d+)?`, "a number"},
	{`-?\d+(?:[.,]\d+)*`, "a number, with . or , in it"},
	{`[a-z]+`, "small letters"},
	{`[A-Z]+`, "capitals"},
	{`[A-Za-z]+`, "letters"},
	{`[0-9a-f]+`, "digits and a to f"},
	{`\d+(?:\.\d+){3}`, "an address of four numbers"},
	{`\w+`, "letters, digits and _"},
	{`[\w-]+`, "letters, digits, _ and -"},
	{`[\w.-]+`, "letters, digits, _, . and -"},
	{`[\w.:-]+`, "letters, digits, _, . : and -"},
	{`[\w.\/-]+`, "letters, digits, _, . / and -"},
	{`[\w.:@\/-]+`, "letters, digits, _ . : @ / and -"},
	{`\S+`, "anything without blanks"},
}

var classREs = func() []*regexp.Regexp {
	var out []*regexp.Regexp
	for _, c := range classes {
		out = append(out, regexp.MustCompile(`^(?:`+c.pattern+`)$`))
	}
	return out
}()

// valueForms are the ways to write values: classes that all of them fit, then anything
// up to what stands behind them, then anything.
func valueForms(name string, values, after []string) []string {
	var out []string
	add := func(p string) { out = append(out, "(?<"+name+">"+p+")") }
	for i, re := range classREs {
		if !slices.ContainsFunc(values, func(v string) bool { return !re.MatchString(v) }) {
			add(classes[i].pattern)
		}
	}
	next := ""
	for i, a := range after {
		c := ""
		if a != "" {
			_, n := utf8.DecodeRuneInString(a)
			c = a[:n]
		}
		if i > 0 && c != next || strings.Contains(values[i], c) {
			next = ""
			break
		}
		next = c
	}
	if next != "" && next != " " {
		q := regexp.QuoteMeta(next)
		if next == "]" || next == "-" || next == "^" {
			q = `\` + next
		}
		add(`[^` + q + `]+`)
	}
	add(`.+?`)
	add(`.+`)
	return out
}
