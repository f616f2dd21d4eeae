package layout

import (
	"net/netip"
	"strconv"
	"strings"
	"time"

	"dimlantern/core/entry"
)

// typeWords say what a value of each type should have been.
var typeWords = map[string]string{"integer": "not an integer", "decimal": "not a decimal number",
	"time":     "not a time",
	"duration": "not a duration", "address": "not an address", "boolean": "neither true nor false"}

// Typed writes a value in the one form of its type, so that keys agree: 007 is the
// integer 7. A value that its type does not fit stays as it is, and is answered with
// false. Unit is that of a duration's bare numbers.
func Typed(v, typ, unit string) (string, bool) { return typed(v, typ, unit, time.UTC, 0) }

func typed(v, typ, unit string, zone *time.Location, near entry.Instant) (string, bool) {
	switch typ {
	case "integer":
		return integer(v)
	case "decimal":
		return decimal(v)
	case "time":
		if f := AnyTime(v); f != nil {
			if at, ok := f.Parse(v, zone, near); ok {
				return at.Time().Format("2006-01-02T15:04:05.999999999Z07:00"), true
			}
		}
		return v, false
	case "duration":
		return duration(v, unit)
	case "address":
		if a, err := netip.ParseAddr(strings.Trim(v, "[]")); err == nil {
			return a.String(), true
		}
		if p, err := netip.ParsePrefix(v); err == nil {
			return p.String(), true
		}
		return v, false
	case "boolean":
		switch strings.ToLower(v) {
		case "true", "yes", "on", "1", "t", "y":
			return "true", true
		case "false", "no", "off", "0", "f", "n":
			return "false", true
		}
		return v, false
	}
	return v, true
}

func integer(v string) (string, bool) {
	if v[0] > '0' && v[0] <= '9' && digits(v, 0) == len(v) {
		return v, true
	}
	neg := strings.HasPrefix(v, "-")
	n := strings.TrimLeft(v, "+-")
	if n == "" || len(v)-len(n) > 1 || digits(n, 0) != len(n) {
		return v, false
	}
	if n[0] == '0' {
		if n = strings.TrimLeft(n, "0"); n == "" {
			return "0", true
		}
	} else if !neg {
		return n, true
	}
	if neg {
		return "-" + n, true
	}
	return n, true
}

// decimal reads a number as data have them: with a decimal comma, with marks between
// thousands, with a unit behind it. What is left is a number as rules know them; %
// and units of size stay, since they mean something to rules.
func decimal(v string) (string, bool) {
	if _, ok := entry.ParseNumber(v); ok {
		return strings.TrimPrefix(v, "+"), true
	}
	s := strings.TrimPrefix(v, "+")
	end := strings.LastIndexAny(s, "0123456789") + 1
	if end == 0 {
		return v, false
	}
	number, suffix := s[:end], strings.TrimSpace(s[end:])
	if i := strings.IndexAny(number, "0123456789"); i > 1 || i == 1 && number[0] != '-' && number[0] != '.' {
		return v, false
	}
	if !unitLike(suffix) {
		// Units such as m3 and m² end with a digit of their own.
		k := 0
		for k < len(s) && (s[k] == '-' || s[k] == '.' || s[k] == ',' || s[k] >= '0' && s[k] <= '9') {
			k++
		}
		if number, suffix = s[:k], strings.TrimSpace(s[k:]); !unitLike(suffix) || number == "" {
			return v, false
		}
	} else if k := strings.IndexFunc(number, func(r rune) bool {
		return r != '-' && r != '.' && r != ',' && r != '\'' && r != ' ' && (r < '0' || r > '9')
	}); k > 0 {
		if _, ok := entry.ParseNumber(number); !ok { // 1e5 is a number; 5m3 is 5
			if number, suffix = s[:k], strings.TrimSpace(s[k:]); !unitLike(suffix) {
				return v, false
			}
		}
	}
	number, ok := thousands(number)
	if !ok {
		return v, false
	}
	if _, ok := entry.ParseNumber(number + suffix); ok { // % or a unit of size
		return number + suffix, true
	}
	_, ok = entry.ParseNumber(number)
	if !ok {
		return v, false
	}
	return number, true
}

// thousands takes marks out of a number and makes its decimal mark a point. A single
// comma with three digits behind it could be either, and is refused.
func thousands(s string) (string, bool) {
	s = strings.NewReplacer("'", "", " ", "", "\u00a0", "").Replace(s)
	point, comma := strings.Count(s, "."), strings.Count(s, ",")
	switch {
	case comma == 0 && point <= 1:
	case comma == 1 && point == 0:
		if i := strings.IndexByte(s, ','); len(s)-i-1 == 3 && strings.TrimLeft(s[:i], "-0") != "" {
			return s, false
		}
		s = strings.Replace(s, ",", ".", 1)
	case point == 1 && strings.LastIndexByte(s, ',') < strings.IndexByte(s, '.') &&
		grouped(s[:strings.IndexByte(s, '.')], ","), point == 0 && grouped(s, ","):
		s = strings.ReplaceAll(s, ",", "")
	case comma == 1 && strings.LastIndexByte(s, '.') < strings.IndexByte(s, ',') &&
		grouped(s[:strings.IndexByte(s, ',')], "."), comma == 0 && grouped(s, "."):
		s = strings.Replace(strings.ReplaceAll(s, ".", ""), ",", ".", 1)
	default:
		return s, false
	}
	if strings.HasPrefix(s, ".") {
		s = "0" + s
	}
	return s, true
}

// grouped tells whether marks stand before each three digits.
func grouped(s, mark string) bool {
	parts := strings.Split(strings.TrimPrefix(s, "-"), mark)
	for i, p := range parts {
		if i > 0 && len(p) != 3 || i == 0 && (p == "" || len(p) > 3) {
			return false
		}
	}
	return true
}

// unitLike tells whether what stands behind a number can be its unit.
func unitLike(s string) bool {
	if len(s) > 12 {
		return false
	}
	for _, r := range s {
		if r == '.' || r == ',' || r == '-' || r == ':' || r == '=' || r == '_' || r == '(' || r == ')' || r == ' ' {
			return false
		}
	}
	return true
}

// unitsOfTime are the units of durations, as data have them.
var unitsOfTime = map[string]time.Duration{"ns": 1, "us": 1e3, "µs": 1e3, "μs": 1e3, "usec": 1e3, "ms": 1e6,
	"msec": 1e6, "msecs": 1e6, "millis": 1e6, "milliseconds": 1e6,
	"s": 1e9, "sec": 1e9, "secs": 1e9, "second": 1e9, "seconds": 1e9, "m": 60e9, "min": 60e9, "mins": 60e9,
	"minute": 60e9, "minutes": 60e9,
	"h": 3600e9, "hr": 3600e9, "hrs": 3600e9, "hour": 3600e9, "hours": 3600e9, "d": 86400e9, "day": 86400e9,
	"days": 86400e9, "w": 604800e9, "week": 604800e9, "weeks": 604800e9}

// duration reads a span of time: a bare number of the unit, numbers with units, or
// H:MM:SS and MM:SS. It is written as rules have durations, with decimals of
// milliseconds cut off.
func duration(v, unit string) (string, bool) {
	s, neg := strings.CutPrefix(strings.TrimSpace(v), "-")
	if s == "" || neg {
		return v, false
	}
	total := time.Duration(0)
	switch {
	case unit != "" && strings.Trim(s, "0123456789.") == "":
		f, err := strconv.ParseFloat(s, 64)
		if f *= float64(unitsOfTime[unit]); err != nil || f >= 1<<63 {
			return v, false
		}
		total = time.Duration(f)
	case strings.Count(s, ":") > 0:
		parts := strings.Split(s, ":")
		factor := time.Second
		if len(parts) > 3 {
			return v, false
		}
		for i := len(parts) - 1; i >= 0; i-- {
			f, err := strconv.ParseFloat(parts[i], 64)
			if err != nil || parts[i] == "" || strings.Trim(parts[i], "0123456789.") != "" || i < len(parts)-1 &&
				strings.Contains(parts[i], ".") || f > 1e9 {
				return v, false
			}
			total += time.Duration(f * float64(factor))
			factor *= 60
		}
	default:
		for rest := s; rest != ""; {
			n := 0
			for n < len(rest) && (rest[n] >= '0' && rest[n] <= '9' || rest[n] == '.') {
				n++
			}
			k := n
			for k < len(rest) && rest[k] == ' ' {
				k++
			}
			e := k
			for e < len(rest) && rest[e] != ' ' && rest[e] != ',' && (rest[e] < '0' || rest[e] > '9') {
				e++
			}
			f, err := strconv.ParseFloat(rest[:n], 64)
			u := unitsOfTime[strings.ToLower(rest[k:e])]
			if rest[k:e] == "M" || err != nil || u == 0 || float64(total)+f*float64(u) >= 1<<63 {
				return v, false
			}
			total += time.Duration(f*float64(u) + 0.5)
			rest = strings.TrimLeft(rest[e:], " ,")
		}
	}
	if total < time.Millisecond && total > 0 {
		return "0ms", true
	}
	return entry.Span(total), true
}
