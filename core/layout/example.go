package layout

import (
	"fmt"
	"strings"
)

// exampleReader cuts an example into the elements of a format.
type exampleReader struct {
	s     string
	i     int
	order string
	f     *TimeFormat
	named bool // a month's name was seen
	day   bool
	date  bool
	clock bool
}

func (x *exampleReader) add(p part) { x.f.elems = append(x.f.elems, element{part: p}) }
func (x *exampleReader) mark(c byte) {
	x.f.elems = append(x.f.elems, element{partMark, c})
}

// digits counts the digits from i on.
func digits(s string, i int) int {
	n := 0
	for i+n < len(s) && s[i+n] >= '0' && s[i+n] <= '9' {
		n++
	}
	return n
}

func (x *exampleReader) read() error {
	for x.i < len(x.s) {
		c := x.s[x.i]
		var err error
		switch {
		case c >= '0' && c <= '9':
			err = x.number()
		case c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z':
			err = x.word()
		case (c == '+' || c == '-') && x.clock && digits(x.s, x.i+1) >= 2:
			n, ok := zoneLen(x.s[x.i:])
			if !ok {
				return x.unknown()
			}
			x.add(partZone)
			x.i += n
		default:
			x.mark(c)
			x.i++
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (x *exampleReader) unknown() error {
	return &TimeError{fmt.Sprintf("the example %q is not understood from %q on", x.s, x.s[x.i:]),
		`give one such as "2026-11-24 05:32:28.114", "Nov 24 05:32:28" or "24/Nov/2026:05:32:28 +0000"`}
}

func isSep(c byte) bool { return c == '-' || c == '/' || c == '.' }

func (x *exampleReader) number() error {
	n := digits(x.s, x.i)
	after := byte(0)
	if x.i+n < len(x.s) {
		after = x.s[x.i+n]
	}
	m := 0 // digits behind the separator
	if after != 0 {
		m = digits(x.s, x.i+n+1)
	}
	switch {
	case !x.date && !x.clock && !x.named && (n == 10 || n == 13 || n == 16 || n == 19) && x.i == 0 && (x.i+n == len(x.s) || after == '.'):
		x.add(partEpoch)
		x.i += n
		if after == '.' {
			x.i += 1 + m
		}
		x.date, x.clock = true, true
	case !x.date && n == 14:
		x.add(partCompact)
		x.add(partCompactClock)
		x.i += n
		x.fraction()
		x.date, x.clock = true, true
	case !x.date && n == 8:
		x.add(partCompact)
		x.i += n
		x.date = true
	case x.date && !x.clock && n == 6:
		x.add(partCompactClock)
		x.i += n
		x.fraction()
		x.clock = true
	case !x.date && n == 4 && isSep(after) && (m == 1 || m == 2):
		k := x.i + n + 1 + m
		if k >= len(x.s) || x.s[k] != after || digits(x.s, k+1) < 1 || digits(x.s, k+1) > 2 {
			return x.unknown()
		}
		x.add(partYear)
		x.mark(after)
		x.add(partMonth)
		x.mark(after)
		x.add(partDay)
		x.i = k + 1 + digits(x.s, k+1)
		x.date, x.day = true, true
	case !x.clock && n <= 2 && after == ':' && m == 2:
		x.add(partHour)
		x.mark(':')
		x.add(partMinute)
		x.i += n + 3
		if x.i < len(x.s) && x.s[x.i] == ':' && digits(x.s, x.i+1) == 2 {
			x.mark(':')
			x.add(partSecond)
			x.i += 3
			x.fraction()
		}
		x.clock = true
	case !x.date && n <= 2 && isSep(after) && (m == 1 || m == 2):
		return x.dayMonthYear(n, m, after)
	case !x.day && n <= 2:
		x.add(partDay)
		x.i += n
		x.day = true
	case n == 4 && (x.named || x.clock):
		x.add(partYear)
		x.i += n
	default:
		return x.unknown()
	}
	return nil
}

// fraction passes the decimals behind the seconds; reading takes any number of
// them.
func (x *exampleReader) fraction() {
	if x.i < len(x.s) && (x.s[x.i] == '.' || x.s[x.i] == ',') {
		if m := digits(x.s, x.i+1); m > 0 {
			x.i += 1 + m
		}
	}
}

func (x *exampleReader) dayMonthYear(n, m int, sep byte) error {
	k := x.i + n + 1 + m
	y := 0
	if k < len(x.s) && x.s[k] == sep {
		y = digits(x.s, k+1)
	}
	if y != 4 && y != 2 {
		return x.unknown()
	}
	a, b := atoi(x.s[x.i:x.i+n]), atoi(x.s[x.i+n+1:k])
	order := x.order
	switch {
	case a > 12 && b <= 12:
		order = "day"
	case b > 12 && a <= 12:
		order = "month"
	case order == "":
		year := x.s[k+1 : k+1+y]
		return &TimeError{fmt.Sprintf("the example %q has two readings: the %d of %s %s, or the %d of %s %s", x.s,
			a, monthNames[(b-1)%12], year, b, monthNames[(a-1)%12], year),
			fmt.Sprintf("write: like %q day first, or like %q month first; or take an example from after the 12th of a month", x.s, x.s)}
	}
	if order == "day" {
		x.add(partDay)
		x.mark(sep)
		x.add(partMonth)
	} else {
		x.add(partMonth)
		x.mark(sep)
		x.add(partDay)
	}
	x.mark(sep)
	if y == 4 {
		x.add(partYear)
	} else {
		x.add(partYear2)
	}
	x.i = k + 1 + y
	x.date, x.day = true, true
	return nil
}

var monthNames = []string{"January", "February", "March", "April", "May", "June", "July",
	"August", "September", "October", "November", "December"}

var weekdayNames = []string{"Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"}

// nameIn finds the name, whole or its first three letters, capitals or not, and
// how many bytes it takes; -1 where it is none.
func nameIn(names []string, s string) (int, int) {
	n := 0
	for n < len(s) && (s[n]|0x20) >= 'a' && (s[n]|0x20) <= 'z' {
		n++
	}
	if n < 3 {
		return -1, 0
	}
	for i, name := range names {
		if strings.EqualFold(s[:n], name) || strings.EqualFold(s[:n], name[:3]) || n == 4 && strings.EqualFold(s[:4], "sept") && name == "September" {
			return i, n
		}
	}
	return -1, 0
}

func (x *exampleReader) word() error {
	rest := x.s[x.i:]
	if i, n := nameIn(monthNames, rest); i >= 0 && !x.named {
		x.add(partName)
		x.named = true
		x.i += n
		return nil
	}
	if i, n := nameIn(weekdayNames, rest); i >= 0 {
		x.add(partWeekday)
		x.i += n
		return nil
	}
	if h := half(rest); h >= 0 && x.clock {
		x.add(partHalf)
		x.i += 2
		return nil
	}
	if n, ok := zoneLen(rest); ok && x.clock {
		x.add(partZone)
		x.i += n
		return nil
	}
	if rest[0] == 'T' || rest[0] == 't' {
		x.mark('T')
		x.i++
		return nil
	}
	return x.unknown()
}

// half tells am (0) and pm (1) from anything else (-1).
func half(s string) int {
	if len(s) >= 2 && s[1]|0x20 == 'm' && (len(s) == 2 || s[2]|0x20 < 'a' || s[2]|0x20 > 'z') {
		switch s[0] | 0x20 {
		case 'a':
			return 0
		case 'p':
			return 1
		}
	}
	return -1
}

// zoneLen measures Z, UTC, GMT, or an offset: +01:00, +0100, +01.
func zoneLen(s string) (int, bool) {
	switch {
	case s == "":
		return 0, false
	case strings.HasPrefix(s, "UTC"), strings.HasPrefix(s, "GMT"):
		return 3, true
	case s[0] == 'Z' || s[0] == 'z':
		return 1, true
	case s[0] != '+' && s[0] != '-':
		return 0, false
	}
	switch n := digits(s, 1); {
	case n == 4:
		return 5, true
	case n == 2 && len(s) > 3 && s[3] == ':' && digits(s, 4) == 2:
		return 6, true
	case n == 2:
		return 3, true
	}
	return 0, false
}

func atoi(s string) int {
	n := 0
	for i := 0; i < len(s); i++ {
		n = n*10 + int(s[i]-'0')
	}
	return n
}

// fixedWidth measures the bytes up to the seconds where every element before
// them is of a fixed width, as in "2026-11-24 05:32:28".
func (f *TimeFormat) fixedWidth(example string) int {
	n := 0
	for _, e := range f.elems {
		switch e.part {
		case partYear:
			n += 4
		case partMonth, partDay, partHour, partMinute:
			n += 2
		case partMark:
			n++
		case partSecond:
			n += 2
			if n <= len(example) && n <= 32 && example[n-2] >= '0' && example[n-2] <= '9' {
				return n
			}
			return 0
		default:
			return 0
		}
	}
	return 0
}
