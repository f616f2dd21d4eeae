package lang

import (
	"fmt"
	"strconv"
	"strings"
)

// spans are the durations that a step goes through.
var spans = []string{"10s", "15s", "30s", "1m", "2m", "3m", "5m", "10m", "15m", "20m", "30m", "45m", "1h", "2h", "3h",
	"6h", "12h", "1d", "2d", "1w"}

// Stepped changes the number or the duration at a place of a line of a rule, or the next
// behind it, by a sensible step, and says where it begins; false where there is none.
func Stepped(line string, col int, up bool) (string, int, bool) {
	from, to := numberAt(line, col)
	if from == to {
		return line, col, false
	}
	was := line[from:to]
	now, ok := step(was, up)
	if !ok {
		return line, col, false
	}
	return line[:from] + now + line[to:], from, true
}

// NumberAt is the number, with its unit, at a place of a line or next behind it.
func NumberAt(line string, col int) string {
	from, to := numberAt(line, col)
	return line[from:to]
}

// numberAt is where that number stands.
func numberAt(line string, col int) (from, to int) {
	is := func(i int) bool {
		return i >= 0 && i < len(line) && (line[i] >= '0' && line[i] <= '9' || line[i] == '.')
	}
	unit := func(i int) bool { return i < len(line) && line[i] >= 'a' && line[i] <= 'z' }
	at := min(col, len(line))
	for at > 0 && (is(at-1) || unit(at-1)) {
		at--
	}
	for at < len(line) && (!is(at) || at > 0 && (unit(at-1) || line[at-1] == '-')) {
		at++
	}
	to = at
	for is(to) {
		to++
	}
	for to > at && (unit(to) || is(to) || to < len(line) && line[to] == '%') {
		to++
	}
	return at, to
}

func step(s string, up bool) (string, bool) {
	for i, d := range spans {
		if d == s {
			if up {
				i++
			} else {
				i--
			}
			if i < 0 || i >= len(spans) {
				return s, false
			}
			return spans[i], true
		}
	}
	number := strings.TrimRight(s, "%abcdefghijklmnopqrstuvwxyz")
	unit := s[len(number):]
	if n, err := strconv.Atoi(number); err == nil {
		by := 1
		for n >= 20*by && by < 1<<30 {
			by *= 10
		}
		if by > 1 {
			by /= 2
		}
		if !up {
			by = -by
		}
		if n+by < 1 {
			return s, false
		}
		return fmt.Sprint(n+by) + unit, true
	}
	x, err := strconv.ParseFloat(number, 64)
	if err != nil {
		return s, false
	}
	by := 0.1
	if !up {
		by = -by
	}
	return strconv.FormatFloat(float64(int((x+by)*1000+0.5))/1000, 'f', -1, 64) + unit, true
}
