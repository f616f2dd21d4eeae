package api

import (
	"strings"

	"github.com/pmezard/go-difflib/difflib"
)

// Diff are the lines in which two texts differ, with one line around them; what went begins
// with -, what came with +, what is the same with spaces.
func Diff(was, now string) []string {
	a, b := textLines(was), textLines(now)
	m := difflib.NewMatcherWithJunk(a, b, false, nil)
	var out []string
	for _, group := range m.GetGroupedOpCodes(1) {
		for _, op := range group {
			if op.Tag == 'e' {
				out = appendLines(out, "  ", a[op.I1:op.I2])
				continue
			}
			out = appendLines(out, "- ", a[op.I1:op.I2])
			out = appendLines(out, "+ ", b[op.J1:op.J2])
		}
	}
	return out
}

func appendLines(out []string, before string, lines []string) []string {
	for _, l := range lines {
		out = append(out, before+l)
	}
	return out
}

func textLines(s string) []string {
	if s == "" {
		return nil
	}
	return strings.Split(strings.TrimRight(s, "\n"), "\n")
}
