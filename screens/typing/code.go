package typing

import (
	"unicode/utf8"

	"dimlantern/core/entry"
	"dimlantern/screens/paint"

	"github.com/charmbracelet/x/ansi"
)

// DrawCode draws a line of a settings file: the word of its clause, texts and patterns, and
// comments apart from each other.
func DrawCode(c *paint.Canvas, x, y, width int, line string, shift int, own bool, p paint.Palette, base paint.Style) {
	runes := []rune(line)
	style := make([]paint.Style, len(runes))
	plain := base
	if !own {
		plain = base.With(p.Dim)
	}
	word, quote := true, rune(0)
	started := false
	for i, k := range runes {
		switch {
		case quote == '#':
			style[i] = base.With(p.Dim)
			continue
		case quote != 0:
			style[i] = base.With(p.Over)
			if !own {
				style[i] = plain
			}
			if k == quote && runes[i-1] != '\\' {
				quote = 0
			}
			continue
		case k == '#' && (i == 0 || runes[i-1] == ' '):
			quote = '#'
			style[i] = base.With(p.Dim)
			continue
		case k == '"' || k == '/' && (i == 0 || runes[i-1] == ' ' || runes[i-1] == '('):
			quote = k
			style[i] = base.With(p.Over)
			if !own {
				style[i] = plain
			}
			continue
		}
		if k != ' ' {
			started = true
		} else if started {
			word = false
		}
		style[i] = plain
		if word && own {
			style[i] = base.With(p.Severity[entry.Notice])
		}
	}
	at, i := -shift, 0
	for rest := line; rest != "" && at < width; {
		cluster, cells := ansi.FirstGraphemeCluster(rest, ansi.GraphemeWidth)
		if at >= 0 && at+cells <= width {
			c.Cut(x+at, y, cells, style[i], cluster)
		}
		rest, at, i = rest[len(cluster):], at+cells, i+utf8.RuneCountInString(cluster)
	}
	if i < len(runes) {
		c.Put(x+width-1, y, base.With(p.Dim), "…")
	}
}

// CellsBefore is how many cells of a terminal stand before a character of a line, in characters; marks
// that go with the character before them have none.
func CellsBefore(line string, col int) int {
	cells := 0
	for i := 0; line != ""; {
		cluster, w := ansi.FirstGraphemeCluster(line, ansi.GraphemeWidth)
		if i += utf8.RuneCountInString(cluster); i > col {
			break
		}
		line, cells = line[len(cluster):], cells+w
	}
	return cells
}

// CharAt is the character of a line that stands at a cell of it.
func CharAt(line string, cell int) int {
	i := 0
	for cells := 0; line != ""; {
		cluster, w := ansi.FirstGraphemeCluster(line, ansi.GraphemeWidth)
		if cells += w; cells > cell {
			break
		}
		line, i = line[len(cluster):], i+utf8.RuneCountInString(cluster)
	}
	return i
}
