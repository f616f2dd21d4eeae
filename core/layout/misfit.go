package layout

import (
	"fmt"
	"regexp"
	"regexp/syntax"
	"strings"

	"dimlantern/core/steps"
)

// formatWords say what an entry is not that an open format does not fit.
var formatWords = map[string]string{"json": "it is no object of JSON", "logfmt": "it is no row of key=value",
	"clf":      "it is no entry of a common web log",
	"combined": "it is no entry of a combined web log", "w3c": "it is no entry of a W3C extended log",
	"syslog":  "it is no syslog message",
	"journal": "it is no entry of the journal", "event-xml": "it is no event XML"}

// Why says why an entry does not fit, or which of its values do not fit their types.
// It does more than Divide, and is for those who want to know.
func (d *Divider) Why(x *Division, line []byte) []Misfit {
	l := d.Layout
	switch {
	case x.Fits || len(x.Misfits) > 0:
		return x.Misfits
	case len(line) == 0:
		return []Misfit{{Reason: "it is empty"}}
	case l.format != nil:
		return []Misfit{{Reason: formatWords[l.name]}}
	case l.columns != nil:
		return []Misfit{{Reason: "it cannot be divided into columns"}}
	}
	text := valid(line)
	best, at := "", -1
	for i := range l.patterns {
		words, end := stops(l.patterns[i].pattern.Source, text)
		if end > at {
			best, at = words, end
		}
	}
	if len(l.patterns) > 1 {
		best = "no pattern fits; the nearest one: " + best
	}
	return []Misfit{{Reason: best}}
}

// stops says how far a pattern fits a text, and what it wants there.
func stops(pattern, text string) (words string, end int) {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return "the pattern does not fit", 0
	}
	parts := steps.Flatten(re)
	lo, hi, reached := 0, len(parts), 0 // the first lo parts fit, the first hi do not
	for hi-lo > 1 {
		mid := (lo + hi) / 2
		var b strings.Builder
		for _, p := range parts[:mid] {
			b.WriteString("(?:" + p.String() + ")")
		}
		x, err := regexp.Compile(b.String())
		if err != nil {
			return "the pattern does not fit", 0
		}
		if m := x.FindStringIndex(text); m != nil {
			lo, reached = mid, m[1]
		} else {
			hi = mid
		}
	}
	wanted := wants(parts[lo])
	if reached >= len(text) && lo > 0 {
		return "the line ends where the pattern wants " + wanted, reached
	}
	if x := parts[lo]; lo == 0 && len(parts) > 1 && (x.Op == syntax.OpBeginText || x.Op == syntax.OpBeginLine) {
		wanted = wants(parts[1])
	}
	if lo <= 1 {
		return "it does not begin with " + wanted, reached
	}
	return fmt.Sprintf("the pattern wants %s behind %s", wanted, wants(parts[lo-1])), reached
}

// wants says what a part of a pattern stands for, in few words.
func wants(x *syntax.Regexp) string {
	switch x.Op {
	case syntax.OpCapture:
		words := explained(x.Sub[0])
		if len(words) > 40 || strings.Contains(words, "then") {
			return "`" + x.Name + "`"
		}
		return "`" + x.Name + "` (" + words + ")"
	case syntax.OpLiteral:
		return "`" + string(x.Rune) + "`"
	case syntax.OpEndText, syntax.OpEndLine:
		return "the line's end"
	}
	return explained(x)
}
