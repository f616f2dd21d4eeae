package author

import (
	"regexp"
	"strings"
)

// Spoken are the words of a text.
var Spoken = regexp.MustCompile(`[A-Za-z]{3,}`)

// hidden is what a mask has left of a value.
var hidden = regexp.MustCompile(`(?:\\\*){2,}`)

// PatternOver is a pattern that all lines of a kind match, as tight as they allow: what is
// the same in all of them stays, what is not is left open. What identifies has its name, which comes
// with it.
func PatternOver(texts []string) (pattern, named string) {
	v := Over(texts[0], texts[1:], nil)
	key := v.Key()
	if key != nil {
		named = key.Name
	}
	return v.Pattern(key), named
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
