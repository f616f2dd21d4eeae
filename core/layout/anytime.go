package layout

import (
	"strings"

	"dimlantern/core/entry"
)

// anyTimes are the forms that AnyTime knows: those that can be read in one way only.
var anyTimes = func() []*TimeFormat {
	var out []*TimeFormat
	for _, example := range []string{"2026-11-24T05:32:28Z", "2026-11-24T05:32:28", "2026-11-24 05:32:28",
		"2026-11-24 05:32:28 +0000", "1795498348", "2026/11/24 05:32:28",
		"Tue, 24 Nov 2026 05:32:28 GMT", "24/Nov/2026:05:32:28 +0000", "24 Nov 2026 05:32:28", "Nov 24 05:32:28",
		"Nov 24 2026 05:32:28", "Tue Nov 24 05:32:28 2026",
		"20261124T053228Z", "20261124T053228", "20261124053228", "2026-11-24 05:32", "24-Nov-2026 05:32:28",
		"Nov 24, 2026 5:32:28 PM"} {
		out = append(out, mustTime(example))
	}
	return out
}()

// AnyTime is the form that a time is written in; nil where it is none, or where it
// could be read in several ways.
func (z Zones) AnyTime(v string) *TimeFormat {
	if len(v) < 10 || len(v) > 40 {
		return nil
	}
	for _, f := range anyTimes {
		if _, ok := f.Parse(v, nil, leap); ok {
			return f
		}
	}
	f, err := z.TimeLike(v, "")
	if err != nil {
		return nil
	}
	return f
}

// AnyTime is Zones.AnyTime where no zone is known by its name.
func AnyTime(v string) *TimeFormat { return Zones(nil).AnyTime(v) }

// timeNames are the names by which fields are known that hold an entry's time, without
// capitals and marks; the first one that an entry has is it.
var timeNames = []string{"at", "timestamp", "time", "ts", "datetime", "eventtime", "logtime", "date", "asctime",
	"timegenerated", "timecreated", "created", "when", "t"}

// bareName is a name without capitals and marks.
func bareName(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '-' || r == '_' || r == '.' || r == '@' || r == ' ' {
			return -1
		}
		return r
	}, strings.ToLower(s))
}

// timeRank is how likely a field of that name holds the time: the lower the likelier;
// -1 where it does not.
func timeRank(name string) int {
	bare := bareName(name)
	for i, n := range timeNames {
		if bare == n {
			return i
		}
	}
	return -1
}

// guessed remembers where an open format's entries have their time.
type guessed struct {
	field  string
	format *TimeFormat
}

// guessTime finds the time of an entry of an open format by the names of its fields.
func (d *Divider) guessTime(out *Division, near entry.Instant) {
	if d.Layout.time != nil {
		return
	}
	if d.guess.format != nil {
		for i := range out.Fields {
			if f := &out.Fields[i]; f.Name == d.guess.field {
				if out.At, out.Timed = d.cache.parse(d.guess.format, f.Value, d.Layout.zone, near); out.Timed {
					return
				}
			}
		}
	}
	best, rank := -1, len(timeNames)
	for i := range out.Fields {
		if r := timeRank(out.Fields[i].Name); r >= 0 && r < rank && d.Layout.zones.AnyTime(out.Fields[i].Value) != nil {
			best, rank = i, r
		}
	}
	if best >= 0 {
		v := out.Fields[best].Value
		d.guess = guessed{out.Fields[best].Name, d.Layout.zones.AnyTime(v)}
		d.cache = timeCache{}
		out.At, out.Timed = d.guess.format.Parse(v, d.Layout.zone, near)
	}
}
