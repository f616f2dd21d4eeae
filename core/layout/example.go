package layout

import (
	"fmt"
	"slices"
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
			// of blanks any number stands for any
			if n := len(x.f.elems); c != ' ' || n == 0 || x.f.elems[n-1] != (element{partMark, ' '}) {
				x.mark(c)
			}
			x.i++
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (x *exampleReader) unknown() error {
	return &TimeError{What: fmt.Sprintf("the example %q is not understood from %q on", x.s, x.s[x.i:]),
		Mend: `give one such as "2026-11-24 05:32:28.114", "Nov 24 05:32:28" or "24/Nov/2026:05:32:28 +0000"`}
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
	case !x.date && !x.clock && !x.named && !x.day && (n == 10 || n == 13 || n == 16 || n == 19) &&
		!strings.ContainsRune("-/:T", rune(after)):
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
	case !x.date && !x.named && n == 6 && (after == ' ' || after == '-' || after == 'T' || after == '_') &&
		x.s[x.i:x.i+2] >= "20":
		x.add(partCompact2)
		x.i += n
		x.date, x.day = true, true
	case !x.date && n == 8:
		x.add(partCompact)
		x.i += n
		x.date = true
	case x.date && !x.clock && n == 6:
		x.add(partCompactClock)
		x.i += n
		x.fraction()
		x.clock = true
	case !x.date && n == 4 && after == '-' && m == 3:
		x.add(partYear)
		x.mark(after)
		x.add(partYearDay)
		x.i += n + 1 + m
		x.date, x.day = true, true
	case !x.date && n == 4 && (after == '-' || after == '/' || after == ' ') && m == 0 && x.i+n+1 < len(x.s) &&
		letter(x.s[x.i+n+1]) && !x.named:
		x.add(partYear) // 2026-Nov-24
		x.i += n
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
	case !x.clock && n <= 2 && (after == ':' || after == '.' && (x.date || x.day && x.named)) && m == 2:
		x.add(partHour)
		x.mark(after)
		x.add(partMinute)
		x.i += n + 3
		if x.i < len(x.s) && x.s[x.i] == after && digits(x.s, x.i+1) == 2 {
			x.mark(after)
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
	case n == 2 && x.named && x.day && !x.clock && !x.date:
		x.add(partYear2)
		x.i += n
		x.date = true
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
	} else if x.i < len(x.s) && colonFraction(x.s[x.i:]) {
		x.i += 1 + digits(x.s, x.i+1)
		x.f.colon = true
	}
}

// orders are the ways in which day, month and a year stand in numbers.
var orders = []struct {
	first string
	parts [3]part
}{{"day", [3]part{partDay, partMonth, partYear}}, {"month", [3]part{partMonth, partDay, partYear}},
	{"year", [3]part{partYear2, partMonth, partDay}}}

// dayMonthYear reads a date of two or three short numbers. Where several readings
// are possible, order must tell them apart.
func (x *exampleReader) dayMonthYear(n, m int, sep byte) error {
	k := x.i + n + 1 + m
	y := 0
	if k < len(x.s) && x.s[k] == sep {
		y = digits(x.s, k+1)
	}
	if y != 4 && y != 2 && (y != 0 || n != 2 || m != 2 || k >= len(x.s) || x.s[k] != ' ' && x.s[k] != 'T') {
		return x.unknown()
	}
	numbers := []int{atoi(x.s[x.i : x.i+n]), atoi(x.s[x.i+n+1 : k]), -1}
	if y > 0 {
		numbers[2] = atoi(x.s[k+1 : k+1+y])
	}
	type reading struct {
		order string
		parts [3]part
		words string
	}
	var all []reading
	for _, o := range orders {
		r := reading{o.first, o.parts, ""}
		if o.first == "year" && (y != 2 || sep == '.') {
			continue
		}
		if y == 2 && o.first != "year" {
			r.parts[2] = partYear2
		}
		day, month, year := 0, 0, ""
		for i, p := range r.parts {
			switch p {
			case partDay:
				day = numbers[i]
			case partMonth:
				month = numbers[i]
			default:
				if year = fmt.Sprintf(" %02d", numbers[i]); numbers[i] < 0 {
					year = ""
				}
			}
		}
		if day < 1 || day > 31 || month < 1 || month > 12 {
			continue
		}
		r.words = fmt.Sprintf("the %d of %s%s", day, monthNames[month-1], year)
		all = append(all, r)
	}
	if len(all) == 0 {
		return x.unknown()
	}
	chosen := all[0]
	if len(all) > 1 {
		i := slices.IndexFunc(all, func(r reading) bool { return r.order == x.order })
		if i < 0 {
			var words, mends []string
			for _, r := range all {
				words = append(words, r.words)
				mends = append(mends, fmt.Sprintf("like %q %s first", x.s, r.order))
			}
			count := "two"
			if len(all) == 3 {
				count = "three"
			}
			return &TimeError{Open: true, What: fmt.Sprintf("the example %q has %s readings: %s", x.s, count,
				strings.Join(words, ", or ")),
				Mend: "write: " + strings.Join(mends, ", or ") + "; or take an example from after the 12th of a month"}
		}
		chosen = all[i]
	}
	last := 3
	if y == 0 {
		last = 2
	}
	for i, p := range chosen.parts[:last] {
		if i > 0 {
			x.mark(sep)
		}
		x.add(p)
	}
	x.i = k
	if y > 0 {
		x.i = k + 1 + y
	}
	x.date, x.day = true, true
	return nil
}

func letter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }

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
		if strings.EqualFold(s[:n], name) || strings.EqualFold(s[:n], name[:3]) || n == 4 &&
			strings.EqualFold(s[:4], "sept") && name == "September" {
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
		x.i += halfLen(rest)
		return nil
	}
	if n, ok := zoneLen(rest); ok && x.clock {
		_, letters := zoneLetters[strings.ToUpper(rest[:n])]
		if !letters && (strings.IndexByte(rest[:n], '/') < 0 || x.f.zones.of(rest[:n]) == nil) {
			return &TimeError{What: fmt.Sprintf("the zone %q of the example is not known", rest[:n]),
				Mend: `leave it out of the field, and write: zone "Europe/Dublin" in the source`}
		}
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
	if len(s) >= 4 && s[1] == '.' && s[2]|0x20 == 'm' && s[3] == '.' {
		s = s[:1] + s[2:3]
	}
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

// halfLen is how many bytes am, pm, a.m. or p.m. take.
func halfLen(s string) int {
	if s[1] == '.' {
		return 4
	}
	return 2
}

// zoneLetters are the letters by which zones are known, with their minutes ahead of
// UTC: those of RFC 5322, section 4.3, and others that mean one zone only.
var zoneLetters = map[string]int{"Z": 0, "UTC": 0, "GMT": 0, "UT": 0, "WET": 0, "WEST": 60, "BST": 60, "CET": 60,
	"CEST": 120, "MEZ": 60, "MESZ": 120,
	"EET": 120, "EEST": 180, "MSK": 180, "EST": -300, "EDT": -240, "CST": -360, "CDT": -300, "MST": -420, "MDT": -360,
	"PST": -480, "PDT": -420,
	"AKST": -540, "AKDT": -480, "HST": -600, "JST": 540, "KST": 540, "HKT": 480, "SGT": 480, "AWST": 480, "ACST": 570,
	"ACDT": 630,
	"AEST": 600, "AEDT": 660, "NZST": 720, "NZDT": 780, "SAST": 120, "BRT": -180, "IST": 330}

// zoneLen measures Z, an offset (+01:00, +0100, +01), or the name of a zone: CET,
// Europe/Dublin.
func zoneLen(s string) (int, bool) {
	switch {
	case s == "":
		return 0, false
	case s[0] == '+' || s[0] == '-':
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
	n, area := 0, false
	for n < len(s) && (letter(s[n]) || area && (s[n] == '_' || s[n] == '-' || s[n] == '+' || s[n] >= '0' &&
		s[n] <= '9') || s[n] == '/' && n > 1) {
		area = area || s[n] == '/'
		n++
	}
	switch {
	case n == 1 && s[0]|0x20 == 'z':
		return 1, true
	case area:
		return n, s[n-1] != '/'
	case n >= 2 && n <= 5 && strings.ToUpper(s[:n]) == s[:n]:
		return n, true
	}
	return 0, false
}

// strftime makes a format of one that is written in letters.
func strftime(s string) (*TimeFormat, error) {
	f := &TimeFormat{}
	bad := func(what string) (*TimeFormat, error) {
		return nil, &TimeError{What: what, Mend: `there are %Y %y %m %d %e %j %b %B %a %A %H %I %M %S %f %p %z %Z ` +
			`%s %T %D %F %R %n %t %%; or give an example: time at like "2026-11-24 05:32:28"`}
	}
	s = strings.NewReplacer("%%", "%%", "%T", "%H:%M:%S", "%D", "%m/%d/%y", "%F", "%Y-%m-%d", "%R",
		"%H:%M").Replace(s)
	for i := 0; i < len(s); i++ {
		if s[i] != '%' {
			f.elems = append(f.elems, element{partMark, s[i]})
			continue
		}
		i++
		// how it is padded
		if i < len(s) && (s[i] == '-' || s[i] == '0' || s[i] == '_' || s[i] == '3' || s[i] == '6' || s[i] == '9') &&
			i+1 < len(s) {
			i++
		}
		if i == len(s) {
			return bad("the format ends with a single %")
		}
		p, known := map[byte]part{'Y': partYear, 'y': partYear2, 'm': partMonth, 'd': partDay, 'e': partDay,
			'j': partYearDay, 'b': partName, 'B': partName,
			'h': partName, 'a': partWeekday, 'A': partWeekday, 'H': partHour, 'I': partHour, 'k': partHour,
			'l': partHour, 'M': partMinute, 'S': partSecond,
			'p': partHalf, 'P': partHalf, 'z': partZone, 'Z': partZone, 's': partSeconds}[s[i]]
		switch {
		case known:
			f.elems = append(f.elems, element{part: p})
		case s[i] == 'f' || s[i] == 'N' || s[i] == 'L': // decimals, which seconds have anyway
			n := len(f.elems)
			if n < 2 || f.elems[n-1].part != partMark || f.elems[n-2].part != partSecond {
				return bad(fmt.Sprintf("%%%c does not stand behind seconds", s[i]))
			}
			f.elems = f.elems[:n-1]
		case s[i] == 'n' || s[i] == 't':
			f.elems = append(f.elems, element{partMark, ' '})
		case s[i] == '%':
			f.elems = append(f.elems, element{partMark, '%'})
		default:
			return bad(fmt.Sprintf("%%%c is not known", s[i]))
		}
	}
	if lacks := f.complete(); lacks != "" {
		return bad(fmt.Sprintf("the format %q has %s", s, lacks))
	}
	return f, nil
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
