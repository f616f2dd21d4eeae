package paint

import (
	"math"
	"strconv"
	"strings"

	"dimlantern/api"

	"dimlantern/core/entry"
)

// Curve draws a number over time in some rows from top on, on the columns of an axis, with
// the threshold as a line; what is beyond it has the colour of its severity. At its left
// stands which number it is, at its right the threshold.
func (c *Canvas) Curve(top, rows int, a Axis, v api.Curve, p Palette, base Style) {
	lo, hi, newest := v.Limit, v.Limit, math.NaN()
	for _, x := range v.Values {
		if x != nil {
			lo, hi, newest = min(lo, *x), max(hi, *x), *x
		}
	}
	if fromZero(v.Name) {
		lo, hi = min(lo, 0), max(hi, 0)
	}
	if hi == lo {
		hi = lo + 1
	}
	margin := (hi - lo) / float64(4*rows) // so that the least is seen, and the line has room
	if hi += margin; !fromZero(v.Name) || lo < 0 {
		lo -= margin
	}
	eighths := func(x float64) int { return min(max(int(math.Round((x-lo)/(hi-lo)*float64(8*rows))), 1), 8*rows) }
	line := top + rows - 1 - (eighths(v.Limit)-1)/8
	severity := base.With(p.Severity[min(int(v.Severity), 4)])
	if v.Severity == 0 { // it clears
		severity = base.With(p.Over)
	}
	lamp := min(a.ColumnOf(a.Lamp), a.Columns-1)
	for k := 0; k <= lamp; k++ {
		c.Put(a.X+k, line, base.With(p.Dim), "─")
		if k >= len(v.Values) || v.Values[k] == nil {
			continue
		}
		style := base.With(p.Tide)
		if entry.Holds(compare(*v.Values[k], v.Limit), v.Op) {
			style = severity
		}
		for r, level := 0, eighths(*v.Values[k]); r < rows; r++ {
			if n := min(max(level-8*r, 0), 8); n > 0 {
				c.Put(a.X+k, top+rows-1-r, style, heights[n])
			}
		}
	}
	c.Cut(3, top, a.X-4, base, v.Name)
	if !math.IsNaN(newest) {
		c.Cut(3, top+1, a.X-4, base.With(p.Dim), "is "+short(newest))
	} else {
		c.Cut(3, top+1, a.X-4, base.With(p.Dim), "no value in this span")
	}
	right := a.X + a.Columns + 1
	words := v.Op + " " + short(v.Limit)
	if v.Severity > 0 {
		words += " " + v.Severity.String()
	} else {
		words += " clears"
	}
	c.Cut(right, line, c.W-right, severity, words)
	for _, at := range []int{top, top + rows - 1} {
		if at != line && at-line != 1 && line-at != 1 {
			c.Cut(right, at, c.W-right, base.With(p.Dim), short(map[bool]float64{true: hi, false: lo}[at == top]))
		}
	}
}

// fromZero tells whether a number is of those whose height says how much it is: an axis that begins
// elsewhere would lie about it.
func fromZero(name string) bool {
	for _, w := range []string{"sum(", "count", "different(", "share"} {
		if strings.HasPrefix(name, w) {
			return true
		}
	}
	return false
}

func compare(a, b float64) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// short writes a number in at most four digits, or as a whole one.
func short(x float64) string {
	if math.Abs(x) >= 1000 {
		return strconv.FormatFloat(math.Round(x), 'f', -1, 64)
	}
	return strconv.FormatFloat(x, 'g', 4, 64)
}
