package entry

import (
	"fmt"
	"strings"
	"time"
)

// Times are the ways in which people write a time; see ParseTime.
const Times = "20:33, yesterday 20:33, 2h ago, 2026-11-24 20:33, or RFC 3339 such as 2026-11-24T20:33:00Z"

// ParseTime reads a time as people write it, in the zone of now: RFC 3339; a day, 2026-11-24, today,
// yesterday, tomorrow or mon, which is its begin, or with a time of day behind it; a time of day, with
// seconds or without; an age, 2h ago; a span to come, in 2h; now. Where a time of day, a day of the week
// or a bare span (2h) can be meant twice, ahead takes the next one, else it is the last one.
func ParseTime(s string, now time.Time, ahead bool) (time.Time, error) {
	s = strings.TrimSpace(s)
	if t, err := time.Parse(time.RFC3339Nano, s); err == nil {
		return t, nil
	}
	words := strings.Fields(strings.ToLower(s))
	no := fmt.Errorf("%q is no time: write %s", s, Times)
	switch n := len(words); {
	case n == 0 || n > 2:
		return time.Time{}, no
	case n == 1 && words[0] == "now":
		return now, nil
	case n == 2 && words[1] == "ago":
		if d, err := ParseDuration(words[0]); err == nil {
			return now.Add(-d), nil
		}
		return time.Time{}, no
	case n == 2 && words[0] == "in":
		if d, err := ParseDuration(words[1]); err == nil {
			return now.Add(d), nil
		}
		return time.Time{}, no
	case n == 1:
		if d, err := ParseDuration(words[0]); err == nil {
			if ahead {
				return now.Add(d), nil
			}
			return now.Add(-d), nil
		}
		if h, m, sec, ok := clockIn(words[0]); ok {
			at := time.Date(now.Year(), now.Month(), now.Day(), h, m, sec, 0, now.Location())
			switch {
			case ahead && !at.After(now):
				at = time.Date(now.Year(), now.Month(), now.Day()+1, h, m, sec, 0, now.Location())
			case !ahead && at.After(now):
				at = time.Date(now.Year(), now.Month(), now.Day()-1, h, m, sec, 0, now.Location())
			}
			return at, nil
		}
	}
	day, weekday, ok := dayIn(words[0], now, ahead)
	if !ok {
		return time.Time{}, no
	}
	h, m, sec := 0, 0, 0
	if len(words) == 2 {
		if h, m, sec, ok = clockIn(words[1]); !ok {
			return time.Time{}, no
		}
	}
	at := time.Date(day.Year(), day.Month(), day.Day(), h, m, sec, 0, now.Location())
	switch {
	case weekday && ahead && !at.After(now):
		at = time.Date(day.Year(), day.Month(), day.Day()+7, h, m, sec, 0, now.Location())
	case weekday && !ahead && at.After(now):
		at = time.Date(day.Year(), day.Month(), day.Day()-7, h, m, sec, 0, now.Location())
	}
	return at, nil
}

func clockIn(s string) (h, m, sec int, ok bool) {
	for _, form := range []string{"15:04", "15:04:05"} {
		if t, err := time.Parse(form, s); err == nil {
			return t.Hour(), t.Minute(), t.Second(), true
		}
	}
	return 0, 0, 0, false
}

// dayIn is the day that a word names; of a day of the week the nearest that is not past, or not to come.
func dayIn(s string, now time.Time, ahead bool) (day time.Time, weekday, ok bool) {
	switch s {
	case "today":
		return now, false, true
	case "yesterday":
		return now.AddDate(0, 0, -1), false, true
	case "tomorrow":
		return now.AddDate(0, 0, 1), false, true
	}
	if t, err := time.Parse("2006-01-02", s); err == nil {
		return t, false, true
	}
	for d := range 7 {
		step := -d
		if ahead {
			step = d
		}
		x := now.AddDate(0, 0, step)
		name := strings.ToLower(x.Weekday().String())
		if s == name || s == name[:3] {
			return x, true, true
		}
	}
	return now, false, false
}
