package entry

import (
	"fmt"
	"math"
	"strings"
	"time"
)

var durationUnits = []struct {
	name string
	d    time.Duration
}{
	{"w", 7 * 24 * time.Hour}, {"d", 24 * time.Hour}, {"h", time.Hour},
	{"m", time.Minute}, {"s", time.Second}, {"ms", time.Millisecond},
}

// ParseDuration reads durations as rules write them: whole numbers with the
// units ms, s, m, h, d, w, larger units first, such as "250ms", "5m", "1h30m".
func ParseDuration(s string) (time.Duration, error) {
	rest, total, last := s, int64(0), -1
	for rest != "" {
		i, n := 0, int64(0)
		for i < len(rest) && isDigit(rest[i]) {
			if n > math.MaxInt64/10-10 {
				return 0, fmt.Errorf("%q is longer than 292 years", s)
			}
			n = n*10 + int64(rest[i]-'0')
			i++
		}
		j := i
		for j < len(rest) && rest[j] >= 'a' && rest[j] <= 'z' {
			j++
		}
		unit := -1
		for k, u := range durationUnits {
			if rest[i:j] == u.name {
				unit = k
			}
		}
		if i == 0 || unit < 0 {
			return 0, fmt.Errorf("%q is no duration: write it like 250ms, 30s, 5m, 1h30m, 2d or 1w", s)
		}
		if unit <= last {
			return 0, fmt.Errorf("%q: larger units come first, each once, as in 1h30m", s)
		}
		last = unit
		if n > (math.MaxInt64-total)/int64(durationUnits[unit].d) {
			return 0, fmt.Errorf("%q is longer than 292 years", s)
		}
		total += n * int64(durationUnits[unit].d)
		rest = rest[j:]
	}
	if s == "" {
		return 0, fmt.Errorf("a duration is missing: write it like 30s, 5m or 1h30m")
	}
	return time.Duration(total), nil
}

// Span writes a duration as rules write it, in days and smaller units: "1h30m",
// "2d", "250ms", "0s". What is less than a millisecond is cut off.
func Span(d time.Duration) string { return span(d, len(durationUnits)) }

// RoughSpan is Span with the largest unit and the next one only; the rest is cut
// off: "16m47s", "1h30m".
func RoughSpan(d time.Duration) string { return span(d, 2) }

// span writes the largest unit that there is and those behind it, as many as are
// wanted in all.
func span(d time.Duration, wanted int) string {
	if d < 0 {
		return "-" + span(-d, wanted)
	}
	var b strings.Builder
	for _, u := range durationUnits[1:] {
		n := d / u.d
		if n > 0 {
			fmt.Fprintf(&b, "%d%s", n, u.name)
			d -= n * u.d
		}
		if b.Len() > 0 {
			if wanted--; wanted == 0 {
				break
			}
		}
	}
	if b.Len() == 0 {
		return "0s"
	}
	return b.String()
}
