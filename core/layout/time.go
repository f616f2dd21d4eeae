package layout

import (
	"fmt"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Zones looks up a zone of the time zone database by its name; it returns nil where there is
// none. The core knows no machine, so who reads settings provides it; nil knows no zone.
type Zones func(name string) *time.Location

// of is the zone of a name; nil where it is not known.
func (z Zones) of(name string) *time.Location {
	if z == nil {
		return nil
	}
	return z(name)
}

// CheckTime says what is wrong with a layout's time clause, and the mend; "" where it is
// understood. It is what lang.Env wants as Time.
func (z Zones) CheckTime(spec *lang.TimeSpec) (what, mend string) {
	_, err := z.TimeOf(spec)
	if e, ok := err.(*TimeError); ok {
		return e.What, e.Mend
	}
	return "", ""
}

// CheckTime is Zones.CheckTime where no zone is known by its name.
func CheckTime(spec *lang.TimeSpec) (what, mend string) { return Zones(nil).CheckTime(spec) }

// TimeOf makes the format that a layout's time clause describes.
func (z Zones) TimeOf(spec *lang.TimeSpec) (*TimeFormat, error) {
	switch spec.How {
	case lang.TimeRFC3339:
		return RFC3339, nil
	case lang.TimeEpoch:
		return &TimeFormat{elems: []element{{part: partSeconds}}, hasYear: true, hasZone: true}, nil
	case lang.TimeEpochMS:
		return &TimeFormat{elems: []element{{part: partMillis}}, hasYear: true, hasZone: true}, nil
	case lang.TimeStrftime:
		f, err := strftime(spec.Like)
		if err == nil {
			f.zones = z
		}
		return f, err
	}
	return z.TimeLike(spec.Like, spec.Order)
}

// TimeError says why an example of a time is not understood, and what would be.
type TimeError struct {
	What, Mend string
	Open       bool // it has several readings
}

func (e *TimeError) Error() string { return e.What + ": " + e.Mend }

// part is one element of a written time.
type part uint8

const (
	partMark         part = iota // a character that stands there; blanks stand for any number of blanks
	partYear                     // four digits
	partYear2                    // two digits: 1970 to 2069
	partMonth                    // 1 or 2 digits
	partDay                      // 1 or 2 digits
	partHour                     // 1 or 2 digits
	partMinute                   // 2 digits
	partSecond                   // 2 digits, then perhaps a fraction
	partName                     // the name of a month, short or long
	partWeekday                  // the name of a weekday; it is passed over
	partHalf                     // am or pm
	partZone                     // Z, an offset such as +01:00, or the name of a zone: CET, Europe/Dublin
	partYearDay                  // the day of the year in 3 digits, as ISO 8601 has it
	partCompact2                 // YYMMDD
	partSeconds                  // seconds since 1970, perhaps with decimals
	partMillis                   // milliseconds since 1970
	partCompact                  // YYYYMMDD
	partCompactClock             // HHMMSS
	partEpoch                    // digits since 1970: s, ms, µs or ns by their number
)

type element struct {
	part part
	mark byte
}

// TimeFormat reads times that are written like one example. It may be used by
// several goroutines at once.
type TimeFormat struct {
	elems   []element
	hasYear bool
	hasZone bool
	zones   Zones
	colon   bool // the decimals stand behind a colon
	fixed   int  // bytes of date and time up to the seconds where all widths are fixed, else 0
}

// HasZone tells whether the written times say their zone.
func (f *TimeFormat) HasZone() bool { return f.hasZone }

// RFC3339 is the format of RFC 3339, section 5.6.
var RFC3339 = func() *TimeFormat {
	f, err := TimeLike("2026-11-24T05:32:28Z", "")
	if err != nil {
		panic(err)
	}
	return f
}()

// TimeLike makes a format of an example. The order of day and month, where the
// example leaves it open, is "day" or "month". An ambiguous example is refused
// with its two readings.
func (z Zones) TimeLike(example, order string) (*TimeFormat, error) {
	x := &exampleReader{s: example, order: order, f: &TimeFormat{zones: z}}
	if err := x.read(); err != nil {
		return nil, err
	}
	f := x.f
	if lacks := f.complete(); lacks != "" {
		return nil, &TimeError{What: fmt.Sprintf("the example %q has %s", example, lacks),
			Mend: `give a whole one, such as "2026-11-24 05:32:28.114", "Nov 24 05:32:28" or ` +
				`"24/Nov/2026:05:32:28 +0000"`}
	}
	f.fixed = f.fixedWidth(example)
	if _, ok := f.Parse(example, time.UTC, leap); !ok {
		return nil, &TimeError{What: fmt.Sprintf("the example %q is no time that exists", example),
			Mend: "take a line from the log"}
	}
	return f, nil
}

// TimeLike is Zones.TimeLike where no zone is known by its name.
func TimeLike(example, order string) (*TimeFormat, error) { return Zones(nil).TimeLike(example, order) }

// leap lies in a year that has a 29th of February, which times without a year may name.
var leap = entry.Of(time.Date(2028, 1, 1, 0, 0, 0, 0, time.UTC))

// complete notes what the elements are together, and says what they lack.
func (f *TimeFormat) complete() string {
	has := map[part]bool{}
	for _, e := range f.elems {
		has[e.part] = true
	}
	epoch := has[partEpoch] || has[partSeconds] || has[partMillis]
	f.hasYear = has[partYear] || has[partYear2] || has[partCompact] || has[partCompact2] || epoch
	f.hasZone = has[partZone] || epoch
	switch {
	case !(has[partDay] || has[partYearDay] || has[partCompact] || has[partCompact2] || epoch):
		return "no day"
	case !(has[partHour] || has[partCompactClock] || epoch):
		return "no time of day"
	}
	return ""
}

// civil is a time as written, before its zone is known.
type civil struct {
	zones                                        Zones
	year, month, day, hour, minute, second, nano int
	half                                         int    // 0 none, 1 am, 2 pm
	offset                                       int    // seconds east of Greenwich
	yearDay                                      int    // 1 to 366, instead of month and day; 0 is none
	zone                                         string // a zone's name, instead of an offset
	zoned                                        bool
	epoch                                        bool
	at                                           entry.Instant // with epoch
}

// Parse reads a time. Without a zone of its own it is taken to be in loc;
// without a year it is the one nearest to ref, as is an hour that occurs twice.
// It answers false where s is not written like the example.
func (f *TimeFormat) Parse(s string, loc *time.Location, ref entry.Instant) (entry.Instant, bool) {
	c := civil{zones: f.zones, year: -1, month: 1, day: 1}
	rest, ok := f.scan(s, &c)
	if !ok || strings.TrimRight(rest, " ") != "" {
		return 0, false
	}
	return c.instant(loc, ref)
}

func (f *TimeFormat) scan(s string, c *civil) (string, bool) {
	for i := range f.elems {
		e := &f.elems[i]
		n, ok := 0, false
		switch e.part {
		case partMark:
			s, ok = scanMark(s, e.mark)
			n = 1
		case partYear:
			c.year, n = scanDigits(s, 4, 4)
		case partYear2:
			c.year, n = scanDigits(s, 2, 2)
			c.year += 1900
			if c.year < 1970 {
				c.year += 100
			}
		case partMonth:
			c.month, n = scanDigits(s, 1, 2)
		case partDay:
			for s != "" && s[0] == ' ' {
				s = s[1:]
			}
			c.day, n = scanDigits(s, 1, 2)
		case partHour:
			c.hour, n = scanDigits(s, 1, 2)
		case partMinute:
			c.minute, n = scanDigits(s, 2, 2)
		case partSecond:
			c.second, n = scanDigits(s, 2, 2)
			if n > 0 {
				c.nano, s = scanFraction(s[n:])
				continue
			}
		case partName:
			c.month, n = nameIn(monthNames, s)
			c.month++
		case partWeekday:
			_, n = nameIn(weekdayNames, s)
		case partHalf:
			if c.half = half(s) + 1; c.half > 0 {
				n = halfLen(s)
			}
		case partZone:
			if n, ok = zoneLen(s); ok {
				switch w := s[:n]; {
				case w[0] == '+' || w[0] == '-' || n == 1 || w == "UTC" || w == "GMT":
					c.zoned, c.offset = true, zoneOffset(w)
				default:
					c.zone = w
				}
			}
		case partYearDay:
			c.yearDay, n = scanDigits(s, 3, 3)
		case partCompact2:
			if digits(s, 0) == 6 {
				c.year, c.month, c.day, n = 1900+atoi(s[:2]), atoi(s[2:4]), atoi(s[4:6]), 6
				if c.year < 1970 {
					c.year += 100
				}
			}
		case partSeconds, partMillis:
			return c.scanCount(s, e.part)
		case partCompact:
			if digits(s, 0) >= 8 {
				c.year, c.month, c.day, n = atoi(s[:4]), atoi(s[4:6]), atoi(s[6:8]), 8
			}
		case partCompactClock:
			if digits(s, 0) == 6 {
				c.hour, c.minute, c.second = atoi(s[:2]), atoi(s[2:4]), atoi(s[4:6])
				c.nano, s = scanFraction(s[6:])
				continue
			}
		case partEpoch:
			return c.scanEpoch(s)
		}
		switch {
		case e.part == partMark && !ok, n == 0:
			return s, false
		case e.part != partMark:
			s = s[n:]
		}
	}
	return s, true
}

func scanMark(s string, mark byte) (string, bool) {
	switch {
	case mark == ' ':
		t := strings.TrimLeft(s, " ")
		return t, len(t) < len(s)
	case s == "":
		return s, false
	case mark == 'T' && (s[0] == 't' || s[0] == ' '), s[0] == mark:
		return s[1:], true
	}
	return s, false
}

func scanDigits(s string, least, most int) (int, int) {
	n, v := 0, 0
	for n < len(s) && n < most && s[n] >= '0' && s[n] <= '9' {
		v = v*10 + int(s[n]-'0')
		n++
	}
	if n < least {
		return 0, 0
	}
	return v, n
}

// scanFraction reads . or , and decimals, to nanoseconds; further ones are cut. Behind :
// there are milliseconds or microseconds, always with all their digits.
func scanFraction(s string) (int, string) {
	if len(s) < 2 || s[0] != '.' && s[0] != ',' && s[0] != ':' || s[1] < '0' || s[1] > '9' {
		return 0, s
	}
	if s[0] == ':' && !colonFraction(s) {
		return 0, s
	}
	n, v := 1, 0
	for ; n < len(s) && s[n] >= '0' && s[n] <= '9'; n++ {
		if n <= 9 {
			v = v*10 + int(s[n]-'0')
		}
	}
	for k := n; k <= 9; k++ {
		v *= 10
	}
	return v, s[n:]
}

// colonFraction tells whether a text begins with : and three or six digits.
func colonFraction(s string) bool {
	n := digits(s, 1)
	return s[0] == ':' && (n == 3 || n == 6)
}

func zoneOffset(s string) int {
	if s[0] != '+' && s[0] != '-' {
		return 0
	}
	o := atoi(s[1:3]) * 3600
	if len(s) >= 5 {
		o += atoi(s[len(s)-2:]) * 60
	}
	if s[0] == '-' {
		return -o
	}
	return o
}

func (c *civil) scanEpoch(s string) (string, bool) {
	n := digits(s, 0)
	unit := map[int]int64{10: 1e9, 13: 1e6, 16: 1e3, 19: 1}[n]
	if unit == 0 {
		return s, false
	}
	v := int64(0)
	for i := range n {
		v = v*10 + int64(s[i]-'0')
		if v < 0 || v > (1<<63-1)/unit {
			return s, false
		}
	}
	c.epoch, c.at = true, entry.Instant(v*unit)
	if n == 10 {
		var nano int
		nano, s = scanFraction(s[n:])
		c.at += entry.Instant(nano)
		return s, true
	}
	return s[n:], true
}

// scanCount reads seconds or milliseconds since 1970.
func (c *civil) scanCount(s string, p part) (string, bool) {
	unit, n := int64(1e9), digits(s, 0)
	if p == partMillis {
		unit = 1e6
	}
	if n == 0 || n > 16 || int64(atoi(s[:n])) > (1<<63-1)/unit {
		return s, false
	}
	c.epoch, c.at = true, entry.Instant(int64(atoi(s[:n]))*unit)
	nano, rest := scanFraction(s[n:])
	c.at += entry.Instant(int64(nano) * unit / 1e9)
	return rest, true
}

func (c *civil) instant(loc *time.Location, ref entry.Instant) (entry.Instant, bool) {
	if c.epoch {
		return c.at, true
	}
	if c.half > 0 {
		if c.hour < 1 || c.hour > 12 {
			return 0, false
		}
		c.hour = c.hour%12 + 12*(c.half-1)
	}
	if c.hour > 23 || c.minute > 59 || c.second > 60 || c.month < 1 || c.month > 12 || c.day < 1 || c.day > 31 {
		return 0, false
	}
	if c.zone != "" {
		if loc = c.named(loc, ref); loc == nil && !c.zoned {
			return 0, false
		}
	}
	if c.year >= 0 {
		return c.in(loc, ref)
	}
	// Without a year: the reading nearest to ref.
	best, found := entry.Instant(0), false
	base := ref.Time().Year()
	for _, y := range [3]int{base, base - 1, base + 1} {
		c.year = y
		if at, ok := c.in(loc, ref); ok && (!found || gap(at, ref) < gap(best, ref)) {
			best, found = at, true
		}
	}
	return best, found
}

func gap(a, b entry.Instant) entry.Instant { return max(a-b, b-a) }

// in reads the civil time with its year in its own zone, or in loc.
func (c *civil) in(loc *time.Location, ref entry.Instant) (entry.Instant, bool) {
	if c.yearDay > 0 {
		if c.yearDay > 365 && daysIn(c.year, 2) == 28 || c.yearDay > 366 {
			return 0, false
		}
		c.month, c.day = 1, c.yearDay
		for c.day > daysIn(c.year, c.month) {
			c.day -= daysIn(c.year, c.month)
			c.month++
		}
	}
	if c.year < 1678 || c.year > 2261 || c.day > daysIn(c.year, c.month) {
		return 0, false
	}
	if c.zoned || loc == time.UTC || loc == nil {
		days := daysSince1970(c.year, c.month, c.day)
		return entry.Instant((int64(days)*86400+int64(c.hour*3600+c.minute*60+c.second-c.offset))*1e9 +
			int64(c.nano)), true
	}
	// The offsets before and after a change of clocks that may be near.
	naive := entry.Instant(int64(daysSince1970(c.year, c.month, c.day))*86400e9 +
		int64(c.hour*3600+c.minute*60+c.second)*1e9 + int64(c.nano))
	before, after := offsetAt(loc, naive-day), offsetAt(loc, naive+day)
	a, b := naive-entry.Instant(before)*1e9, naive-entry.Instant(after)*1e9
	switch okA, okB := offsetAt(loc, a) == before, offsetAt(loc, b) == after; {
	case okA && okB && gap(b, ref) < gap(a, ref), okB && !okA:
		return b, true
	}
	return a, true // also of an hour that there is not: as if the clocks had not changed yet
}

const day = entry.Instant(24 * time.Hour)

// offsetAt is how many seconds a zone is ahead of UTC at an instant.
func offsetAt(loc *time.Location, at entry.Instant) int {
	_, n := at.Time().In(loc).Zone()
	return n
}

// named finds the zone that the time names. Zones known by some letters have these
// in several countries: those of loc itself come first. Where it is an offset that
// the letters stand for, zoned is set.
func (c *civil) named(loc *time.Location, ref entry.Instant) *time.Location {
	if strings.IndexByte(c.zone, '/') > 0 {
		return c.zones.of(c.zone)
	}
	if loc != nil && loc != time.UTC {
		for _, half := range [2]int{0, 182} { // its letters of both halves of the year
			at := ref + entry.Instant(half)*day
			if name, n := at.Time().In(loc).Zone(); name == c.zone {
				c.zoned, c.offset = true, n
				return loc
			}
		}
	}
	n, ok := zoneLetters[c.zone]
	c.zoned, c.offset = ok, n*60
	return nil
}

func daysIn(year, month int) int {
	switch month {
	case 4, 6, 9, 11:
		return 30
	case 2:
		if year%4 == 0 && (year%100 != 0 || year%400 == 0) {
			return 29
		}
		return 28
	}
	return 31
}

// daysSince1970 counts the days of the Gregorian calendar.
func daysSince1970(y, m, d int) int {
	if m <= 2 {
		y--
	}
	era := y / 400
	yoe := y - era*400
	mp := (m + 9) % 12
	doy := (153*mp+2)/5 + d - 1
	doe := yoe*365 + yoe/4 - yoe/100 + doy
	return era*146097 + doe - 719468
}

// timeCache remembers the last date and time up to the seconds that was read,
// since lines in a row mostly share them.
type timeCache struct {
	prefix [32]byte
	n      int
	base   entry.Instant
	zone   string // what stood behind the decimals
	turn   int    // how often another minute or form was put there
}

// parse is Parse with the cache.
func (tc *timeCache) parse(f *TimeFormat, s string, loc *time.Location, ref entry.Instant) (entry.Instant, bool) {
	n := f.fixed
	if n == 0 || len(s) < n {
		return f.Parse(s, loc, ref)
	}
	if tc.n == n && string(tc.prefix[:n]) == s[:n] {
		if nano, rest := scanFraction(s[n:]); rest == tc.zone {
			return tc.base + entry.Instant(nano), true
		}
	}
	at, ok := f.Parse(s, loc, ref)
	if ok {
		nano, rest := scanFraction(s[n:])
		// A second means the same for all lines unless the clocks change near it.
		if f.hasZone && len(rest) <= 6 && (rest == "Z" || rest != "" && (rest[0] == '+' || rest[0] == '-')) ||
			!f.hasZone && rest == "" && steady(loc, at) {
			tc.n = copy(tc.prefix[:], s[:n])
			tc.base, tc.zone = at-entry.Instant(nano), rest
			tc.turn++
		}
	}
	return at, ok
}

// keep remembers a time that was read, whatever its width, if it has hours, minutes and
// seconds of two digits each, with colons between them.
func (tc *timeCache) keep(written string, at entry.Instant, zoned bool, loc *time.Location) {
	n := 6
	for ; n <= len(written); n++ {
		if s := written[n-6 : n]; s[0] == ':' && s[3] == ':' && digits(s[1:3], 0)+digits(s[4:], 0) == 4 &&
			(n == len(written) || written[n] != ':') {
			break
		}
	}
	if n > len(written) || n < 10 || n > len(tc.prefix) || !zoned && !steady(loc, at) {
		return
	}
	nano, rest := scanFraction(written[n:])
	if zoned != (rest != "") || len(rest) > 7 {
		return
	}
	tc.n, tc.base, tc.zone = copy(tc.prefix[:], written[:n]), at-entry.Instant(nano), rest
	tc.turn++
}

// steady tells whether no change of clocks is near an instant.
func steady(loc *time.Location, at entry.Instant) bool {
	return loc == time.UTC || loc == nil || offsetAt(loc, at-2*day) == offsetAt(loc, at+2*day)
}
