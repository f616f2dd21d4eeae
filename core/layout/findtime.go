package layout

import (
	"errors"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"
)

// Written is a time as it stands in a line: its place, and the format that it is
// written in.
type Written struct {
	Start, End int
	Format     *TimeFormat
	Order      string // where day and month can be told apart only by it
	Open       bool   // both orders are possible
}

// How far into a line a time is looked for, and how long one is, in bytes.
const (
	timeWithin  = 160
	longestTime = 44
)

// FindTime finds the first time in a line that has a day and a time of day; false
// where there is none. Bare numbers count as seconds since 1970 only where a line
// begins with them, or where a name in front says so.
func FindTime(line string) (Written, bool) {
	for start := 0; start < len(line) && start < timeWithin; start++ {
		c := line[start]
		if !isAlnum(c) || start > 0 && isAlnum(line[start-1]) {
			continue
		}
		if start > 0 && (line[start-1] == '.' || line[start-1] == '-' || line[start-1] == '_') {
			continue
		}
		if w, ok := timeFrom(line, start); ok {
			return w, true
		}
	}
	return Written{}, false
}

func isAlnum(c byte) bool { return c-'0' <= 9 || letter(c) || c >= 0x80 }

// timeFrom finds the longest time that begins at a place.
func timeFrom(line string, start int) (Written, bool) {
	rest := line[start:min(len(line), start+longestTime)]
	if n := digits(rest, 0); n == 0 {
		i, _ := nameIn(monthNames, rest)
		k, _ := nameIn(weekdayNames, rest)
		if i < 0 && k < 0 {
			return Written{}, false
		}
	} else if n == 3 || n == 5 || n == 7 || n == 9 || n > 19 {
		return Written{}, false
	}
	best, found := Written{}, false
	words := 0
	for end := 8; end <= len(rest); end++ {
		if end < len(rest) {
			c, before := rest[end], rest[end-1]
			if isAlnum(c) && isAlnum(before) && !(c-'0' > 9 && before-'0' <= 9 && found) {
				continue
			}
			if c == '.' || c == ',' || c == ':' || c == '/' || c == '+' || c == '-' {
				if end+1 < len(rest) && isAlnum(rest[end+1]) && isAlnum(before) {
					continue // more of it follows
				}
			}
		}
		s := rest[:end]
		last := s[len(s)-1]
		if last == ' ' {
			if words++; words > 7 {
				break
			}
			continue
		}
		if !isAlnum(last) && last != ']' && last != '.' || last == ']' && strings.IndexByte(s, '[') < 0 ||
			last == '.' && !strings.HasSuffix(s, "m.") {
			continue
		}
		if w, ok := timeIs(s); ok && plausible(line, start, s, w.Format) {
			w.Start, w.End = start, start+end
			best, found = w, true
		}
	}
	return best, found
}

// timeIs reads a text as a time.
func timeIs(s string) (Written, bool) {
	f, err := TimeLike(s, "")
	if err == nil {
		return Written{Format: f}, true
	}
	var bad *TimeError
	if !errors.As(err, &bad) || !bad.Open {
		return Written{}, false
	}
	for _, order := range []string{"day", "month", "year"} {
		if f, err := TimeLike(s, order); err == nil {
			return Written{Format: f, Order: order, Open: true}, true
		}
	}
	return Written{}, false
}

// plausible refuses numbers that only could be a time.
func plausible(line string, start int, s string, f *TimeFormat) bool {
	n := digits(s, 0)
	if n < len(s) && n != 6 && n != 8 && n != 14 {
		return true
	}
	at, ok := f.Parse(s, time.UTC, 0)
	if !ok || at < entry.Of(time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)) ||
		at > entry.Of(time.Date(2100, 1, 1, 0, 0, 0, 0, time.UTC)) {
		return false
	}
	if n < len(s) {
		return true
	}
	before := strings.TrimRight(line[:start], "=:\"[( ")
	i := len(before)
	for i > 0 && (isAlnum(before[i-1]) || before[i-1] == '_') {
		i--
	}
	return before == "" || timeRank(before[i:]) >= 0
}

// signature tells formats apart.
func (f *TimeFormat) signature() string {
	var b strings.Builder
	for _, e := range f.elems {
		b.WriteByte(byte('A' + e.part))
		if e.part == partMark {
			b.WriteByte(e.mark)
		}
	}
	return b.String()
}

// orderOf tells from times in the order of their lines which of day, month and year
// comes first. Sure is false where several orders are as good.
func orderOf(times []string) (order string, sure bool) {
	type vote struct {
		order        string
		reads, rises int
	}
	var votes []vote
	for _, o := range []string{"day", "month", "year"} {
		v := vote{order: o}
		var f *TimeFormat
		for _, t := range times {
			if f, _ = TimeLike(t, o); f != nil {
				break
			}
		}
		if f == nil {
			continue
		}
		last := entry.None
		for _, t := range times {
			at, ok := f.Parse(t, time.UTC, 0)
			if !ok {
				continue
			}
			v.reads++
			if last == entry.None || at >= last && at.Sub(last) < 20*24*time.Hour {
				v.rises++
			}
			last = at
		}
		votes = append(votes, v)
	}
	slices.SortStableFunc(votes, func(a, b vote) int { return b.reads + b.rises - a.reads - a.rises })
	switch {
	case len(votes) == 0:
		return "", false
	case len(votes) == 1:
		return votes[0].order, true
	}
	return votes[0].order, votes[0].reads+votes[0].rises > votes[1].reads+votes[1].rises
}
