package author

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

var (
	varying = regexp.MustCompile(`([A-Za-z][A-Za-z_]{2,15})([ #:=]{1,2})(\d+(?:[.:,]\d+)*)\b|\d+(?:[.:,]\d+)*`)
	Spoken  = regexp.MustCompile(`[A-Za-z]{3,}`)
)

// PatternOf is a pattern that a line matches, with its numbers left open. The first
// whole number behind a word is a field of that name, which comes with it.
func PatternOf(text string) (pattern, named string) {
	var b strings.Builder
	at := 0
	for _, m := range varying.FindAllStringSubmatchIndex(text, -1) {
		b.WriteString(regexp.QuoteMeta(text[at:m[0]]))
		at = m[1]
		word, number := "", m[0]
		if m[2] >= 0 {
			number = m[6]
			word = strings.ToLower(text[m[2]:m[3]])
			b.WriteString(regexp.QuoteMeta(text[m[2]:m[6]]))
		}
		switch {
		case strings.ContainsAny(text[number:m[1]], ".:,"):
			b.WriteString(`[\d.:,]+`)
		case word != "" && named == "" && !slices.Contains(entry.BuiltIn, word) && !lang.Reserved(word):
			named = word
			fmt.Fprintf(&b, `(?<%s>\d+)`, word)
		default:
			b.WriteString(`\d+`)
		}
	}
	b.WriteString(regexp.QuoteMeta(text[at:]))
	return "/" + strings.ReplaceAll(b.String(), "/", `\/`) + "/", named
}

// hidden is what a mask has left of a value.
var hidden = regexp.MustCompile(`(?:\\\*){2,}`)

// PatternOver is a pattern that all lines of a kind match, as tight as they allow: what is
// the same in all of them stays, what is not is left open.
func PatternOver(texts []string) (pattern, named string) {
	pattern, named = PatternOf(texts[0])
	pattern = hidden.ReplaceAllString(pattern, `\S+`)
	words := strings.Split(texts[0], " ")
	differ := make([][]string, len(words))
	any := false
	re, err := regexp.Compile(strings.ReplaceAll(pattern[1:len(pattern)-1], `\/`, "/"))
	for _, t := range texts[1:] {
		if err == nil && re.MatchString(t) {
			continue
		}
		other := strings.Split(t, " ")
		if len(other) != len(words) {
			continue // of another build: the rest decides
		}
		for i, w := range other {
			if varying.ReplaceAllString(w, "0") != varying.ReplaceAllString(words[i], "0") {
				differ[i] = append(differ[i], w)
				any = true
			}
		}
	}
	if !any {
		return pattern, named
	}
	var parts []string
	for from := 0; from < len(words); {
		if differ[from] != nil {
			parts = append(parts, openWord(words[from], differ[from]))
			from++
			continue
		}
		to := from
		for to < len(words) && differ[to] == nil {
			to++
		}
		p, name := PatternOf(strings.Join(words[from:to], " "))
		if named == "" || name != named { // the first name alone
			p = strings.Replace(p, "(?<"+name+`>\d+)`, `\d+`, 1)
		}
		parts = append(parts, hidden.ReplaceAllString(p[1:len(p)-1], `\S+`))
		from = to
	}
	pattern = "/" + strings.Join(parts, " ") + "/"
	if named != "" && !strings.Contains(pattern, "(?<"+named+">") {
		named = ""
	}
	return pattern, named
}

// openWord leaves open what differs in a word; what it begins and ends with in all cases
// stays where that is no part of a word.
func openWord(word string, others []string) string {
	common := func(at func(s string) byte, cut func(s string) string) string {
		var out []byte
		w, rest := word, slices.Clone(others)
		for w != "" && !alnum(at(w)) {
			for i := range rest {
				if rest[i] == "" || at(rest[i]) != at(w) {
					return string(out)
				}
				rest[i] = cut(rest[i])
			}
			out = append(out, at(w))
			w = cut(w)
		}
		return string(out)
	}
	head := common(func(s string) byte { return s[0] }, func(s string) string { return s[1:] })
	tail := []byte(common(func(s string) byte { return s[len(s)-1] }, func(s string) string { return s[:len(s)-1] }))
	slices.Reverse(tail)
	return strings.ReplaceAll(regexp.QuoteMeta(head)+`\S+`+regexp.QuoteMeta(string(tail)), "/", `\/`)
}

func alnum(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c >= 0x80
}

// Tighter are patterns that fit less than one does.
func Tighter(source string) []string {
	var out []string
	rest, folded := strings.CutPrefix(source, "(?i)")
	if folded {
		out = append(out, rest)
	}
	word := func(c byte) bool { return alnum(c) }
	if n := len(rest); n > 0 {
		tight := rest
		if word(rest[0]) {
			tight = `\b` + tight
		}
		if word(rest[n-1]) && !strings.HasSuffix(rest, `\`+rest[n-1:]) {
			tight += `\b`
		}
		if tight != rest {
			out = append(out, source[:len(source)-len(rest)]+tight)
			if folded {
				out = append(out, tight)
			}
		}
	}
	return out
}
