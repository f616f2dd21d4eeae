package api

import (
	"time"

	"dimlantern/core/entry"
)

// Clock is an instant as a clock on the wall shows it.
func Clock(t entry.Instant) string { return time.Unix(0, int64(t)).Format("15:04:05") }

// Moment is Clock, with the day where that is not today or last night.
func Moment(t entry.Instant) string {
	at := time.Unix(0, int64(t))
	if time.Since(at) < 20*time.Hour {
		return at.Format("15:04:05")
	}
	return at.Format("2 Jan 15:04")
}
