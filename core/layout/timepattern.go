package layout

import (
	"regexp"
	"slices"
	"strings"
)

// timePattern is a pattern for the times of a format; next is what stands behind them.
// It is made so that it can be matched byte by byte: see steps.
func timePattern(f *TimeFormat, next byte) string {
	var b strings.Builder
	seconds := func() {
		zone := slices.ContainsFunc(f.elems, func(e element) bool { return e.part == partZone })
		last := f.elems[len(f.elems)-1].part
		switch {
		case f.colon:
			b.WriteString(`(?::\d+)?`)
		case zone && last == partZone && f.elems[len(f.elems)-2].part != partMark && next != ':':
			b.WriteString(`[\w.,:+-]*`) // decimals and the zone
		case next == ',' || next == '.':
			b.WriteString(`(?:[.,]\d+)?`)
		default:
			b.WriteString(`[\d.,]*`)
		}
	}
	for i, e := range f.elems {
		switch e.part {
		case partMark:
			if e.mark == ' ' {
				b.WriteString(` +`)
			} else {
				b.WriteString(regexp.QuoteMeta(string(e.mark)))
			}
		case partYear:
			b.WriteString(`\d{4}`)
		case partYear2, partMinute:
			b.WriteString(`\d\d`)
		case partMonth, partDay, partHour:
			b.WriteString(`\d{1,2}`)
		case partSecond:
			b.WriteString(`\d\d`)
			seconds()
		case partCompactClock:
			b.WriteString(`\d{6}`)
			seconds()
		case partName, partWeekday:
			b.WriteString(`[A-Za-z]+`)
		case partHalf:
			b.WriteString(`[AaPp]\.?[Mm]\.?`)
		case partZone:
			switch before := f.elems[i-1].part; {
			case before == partMark:
				b.WriteString(`[\w:+/-]+`)
			case next == ':' || i+1 < len(f.elems):
				b.WriteString(`(?:[+-]\d\d:?\d*|[A-Za-z_/]+)`)
			case before != partSecond && before != partCompactClock:
				b.WriteString(`[\w:+-]+`)
			}
		case partYearDay:
			b.WriteString(`\d{3}`)
		case partCompact:
			b.WriteString(`\d{8}`)
		case partCompact2:
			b.WriteString(`\d{6}`)
		default:
			b.WriteString(`\d+`)
			if next != ',' && next != '.' {
				b.WriteString(`[\d.]*`)
			}
		}
	}
	return strings.NewReplacer(`\d{4}-\d{1,2}-\d{1,2}`, `\d{4}-\d\d-\d\d`, `\d+[\d.]*`, `[\d.]+`).Replace(b.String())
}

// startOf is the pattern up to the end of its time, without groups.
func startOf(pattern string) string {
	open := strings.Index(pattern, "(?<at>")
	depth, i := 1, open+len("(?<at>")
	for ; i < len(pattern) && depth > 0; i++ {
		switch pattern[i] {
		case '\\':
			i++
		case '[':
			for i++; i < len(pattern) && pattern[i] != ']'; i++ {
				if pattern[i] == '\\' {
					i++
				}
			}
		case '(':
			depth++
		case ')':
			depth--
		}
	}
	return regexp.MustCompile(`\(\?<\w+>`).ReplaceAllString(pattern[:i], "(?:")
}
