// Package entry holds what every other package of the core speaks about: an
// entry of a log with its fields, the instants at which things happen, the
// severities of alerts, and the numbers and durations that values are read as.
//
// Nothing in here reads a clock, a file or a setting.
package entry

import (
	"crypto/sha256"
	"fmt"
	"time"
	"unicode/utf8"
)

// Instant is a moment in nanoseconds since 1970-01-01T00:00:00Z. It reaches
// from the year 1678 to 2262. The zero value is the epoch itself; None stands
// for "no instant".
type Instant int64

// None is the instant of what has no time. It lies before every other one.
const None Instant = -1 << 63

// Of returns the instant of t.
func Of(t time.Time) Instant { return Instant(t.UnixNano()) }

// Time returns the instant in UTC.
func (t Instant) Time() time.Time { return time.Unix(0, int64(t)).UTC() }

// Add returns the instant d later.
func (t Instant) Add(d time.Duration) Instant { return t + Instant(d) }

// Sub returns the time from u to t.
func (t Instant) Sub(u Instant) time.Duration { return time.Duration(t - u) }

// String writes the instant in UTC as RFC 3339 with exactly three decimals,
// the rest cut off; None is "".
func (t Instant) String() string {
	if t == None {
		return ""
	}
	return t.Time().Truncate(time.Millisecond).Format("2006-01-02T15:04:05.000Z")
}

// Later returns the later of two instants.
func Later(a, b Instant) Instant { return max(a, b) }

// Field is a named value of an entry, as text. A value that is empty counts as
// lacking.
type Field struct{ Name, Value string }

// Entry is one log record.
type Entry struct {
	Source string // the name of the configured way in
	Origin string // "HOST:PATH": one log as its writer sees it
	Host   string // the origin's host; a field of that name hides it
	Offset int64  // bytes from the start of the file to the entry's first byte
	Raw    string // the whole entry without its line end
	At     Instant
	// Arrived is when the entry was read; in a replay, its own time.
	Arrived Instant
	// Skew is how far the clock of its writer was found to lie back; At has it
	// taken off.
	Skew   time.Duration
	Fits   bool    // whether the source's layout fitted
	Cut    bool    // it was longer than an entry may be, and Raw is its beginning
	Fields []Field // what the layout gave
}

// Get returns the value of a field: what the layout gave, else what is built in
// on every entry. It answers false where the value is absent or empty.
func (e *Entry) Get(name string) (string, bool) {
	for i := range e.Fields {
		if e.Fields[i].Name == name {
			return e.Fields[i].Value, e.Fields[i].Value != ""
		}
	}
	v := ""
	switch name {
	case "text":
		v = e.Raw
	case "origin":
		v = e.Origin
	case "host":
		v = e.Host
	case "source":
		v = e.Source
	case "at":
		v = e.At.String()
	case "arrived":
		v = e.Arrived.String()
	case "fits":
		if e.Fits {
			v = "true"
		} else {
			v = "false"
		}
	}
	return v, v != ""
}

// Bounds of what is kept of an entry, in bytes: of a value for each key, and of the text
// as evidence.
const (
	MostValue = 4096
	MostText  = 64 << 10
)

// Bounded is a value as it is kept for a key: one that is longer than MostValue is its
// beginning, with a digest behind it, so that values that differ still do.
func Bounded(v string) string {
	if len(v) <= MostValue {
		return v
	}
	sum := sha256.Sum256([]byte(v))
	return fmt.Sprintf("%s… (%d bytes, %x)", cut(v, MostValue-64), len(v), sum[:8])
}

// Evidence is the text of an entry as it is kept and told: at most MostText of it.
func Evidence(text string) string {
	if len(text) <= MostText {
		return text
	}
	return cut(text, MostText-3) + "…"
}

// cut is a beginning of at most n bytes that ends with a whole character.
func cut(s string, n int) string {
	for n > 0 && !utf8.RuneStart(s[n]) {
		n--
	}
	return s[:n]
}

// Text is what a bare pattern or phrase looks at: the field text where the
// layout gives it, even when it is empty, else the whole entry.
func (e *Entry) Text() string {
	for i := range e.Fields {
		if e.Fields[i].Name == "text" {
			return e.Fields[i].Value
		}
	}
	return e.Raw
}

// BuiltIn lists the fields that every entry has a place for.
var BuiltIn = []string{"text", "origin", "host", "source", "channel", "provider",
	"event", "level", "account", "at", "arrived", "fits"}
