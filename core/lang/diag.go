package lang

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"
)

// Pos is a place in a settings file. Line and Col count from 1; Col counts
// characters. The zero value is no place.
type Pos struct {
	File string `json:"file"`
	Line int    `json:"line"`
	Col  int    `json:"column"`
	off  int
}

func (p Pos) String() string { return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Col) }

// Weight says what a diagnostic means for the settings.
type Weight uint8

// An Err keeps the block that it stands in from running. A Finding is what the
// linter has to say of settings that run. A Note only informs.
const (
	Err Weight = iota
	Finding
	Note
)

func (w Weight) String() string { return [...]string{"error", "finding", "note"}[w] }

// Diagnostic is one thing that is wrong, or doubtful, in a settings file.
type Diagnostic struct {
	Code   string // stable, in small letters with "-"
	Weight Weight
	Pos    Pos
	Len    int    // bytes to underline from Pos on, at least 1
	Line   string // the source line that Pos is on
	What   string // what is wrong and why
	Mend   string // what to write instead; may be empty
}

// String writes the diagnostic as people read it: the place, the reason, the
// line with a caret below the place, and what to write instead.
func (d Diagnostic) String() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s: %s %s: %s\n", d.Pos, d.Weight, d.Code, d.What)
	if d.Line != "" || d.Pos.Line > 0 {
		line := visible(strings.ReplaceAll(d.Line, "\t", " "))
		if utf8.RuneCountInString(line) > 160 {
			line = string([]rune(line)[:159]) + "…"
		}
		carets := max(1, min(d.Len, len(d.Line)-(d.Pos.Col-1)))
		if carets > 60 {
			carets = 60
		}
		fmt.Fprintf(&b, "%5d | %s\n", d.Pos.Line, line)
		fmt.Fprintf(&b, "      | %s%s\n", strings.Repeat(" ", d.Pos.Col-1), strings.Repeat("^", carets))
	}
	if d.Mend != "" {
		fmt.Fprintf(&b, "        %s\n", strings.ReplaceAll(d.Mend, "\n", "\n        "))
	}
	return b.String()
}

// visible replaces control characters, so that a settings file cannot change
// the terminal that a message about it is shown on.
func visible(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r < 0x20:
			return 0x2400 + r
		case r == 0x7f:
			return 0x2421
		case r >= 0x80 && r < 0xa0, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069:
			return '\uFFFD'
		}
		return r
	}, s)
}

// sortDiagnostics puts diagnostics in the order of their places.
func sortDiagnostics(ds []Diagnostic) {
	sort.SliceStable(ds, func(i, j int) bool {
		a, b := ds[i].Pos, ds[j].Pos
		switch {
		case a.File != b.File:
			return a.File < b.File
		case a.Line != b.Line:
			return a.Line < b.Line
		}
		return a.Col < b.Col
	})
}

// Errors tells whether any of the diagnostics is an error.
func Errors(ds []Diagnostic) bool {
	for _, d := range ds {
		if d.Weight == Err {
			return true
		}
	}
	return false
}

// nearest returns the candidate that word was most likely meant to be, or ""
// where none is near.
func nearest(word string, candidates []string) string {
	best, bestDist := "", 1+max(1, len(word)/3)
	for _, c := range candidates {
		if len(word) >= 3 && strings.HasPrefix(c, strings.ToLower(word)) {
			return c
		}
	}
	for _, c := range candidates {
		if d := distance(strings.ToLower(word), strings.ToLower(c), bestDist); d < bestDist {
			best, bestDist = c, d
		}
	}
	return best
}

// distance counts the insertions, deletions, replacements and swaps of
// neighbours between two words; at limit or beyond it may answer limit.
func distance(a, b string, limit int) int {
	x, y := []rune(a), []rune(b)
	if len(x)-len(y) >= limit || len(y)-len(x) >= limit {
		return limit
	}
	before, prev, cur := make([]int, len(y)+1), make([]int, len(y)+1), make([]int, len(y)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := 1; i <= len(x); i++ {
		cur[0] = i
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			cur[j] = min(prev[j]+1, cur[j-1]+1, prev[j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				cur[j] = min(cur[j], before[j-2]+1)
			}
		}
		before, prev, cur = prev, cur, before
	}
	return prev[len(y)]
}

// meant is the sentence that suggests the nearest of the candidates, or lists
// them where they are few.
func meant(word string, candidates []string) string {
	if n := nearest(word, candidates); n != "" {
		return "did you mean: " + n
	}
	if len(candidates) == 0 {
		return ""
	}
	list := append([]string(nil), candidates...)
	sort.Strings(list)
	list = slices.Compact(list)
	if len(list) > 24 {
		list = append(list[:24], "…")
	}
	return "there are: " + strings.Join(list, ", ")
}
