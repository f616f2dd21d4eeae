package entry

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Times are read as people mean them: what has been, for what lies back, and what is to come, for ends.
func TestParseTime(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	now := time.Date(2026, 11, 24, 14, 30, 0, 0, zone) // a Tuesday
	for s, want := range map[string][2]string{
		"20:33":                {"2026-11-23 20:33:00", "2026-11-24 20:33:00"},
		"09:10:11":             {"2026-11-24 09:10:11", "2026-11-25 09:10:11"},
		"yesterday 20:33":      {"2026-11-23 20:33:00", "2026-11-23 20:33:00"},
		"Yesterday":            {"2026-11-23 00:00:00", "2026-11-23 00:00:00"},
		"tomorrow 06:00":       {"2026-11-25 06:00:00", "2026-11-25 06:00:00"},
		"today":                {"2026-11-24 00:00:00", "2026-11-24 00:00:00"},
		"2h ago":               {"2026-11-24 12:30:00", "2026-11-24 12:30:00"},
		"in 90m":               {"2026-11-24 16:00:00", "2026-11-24 16:00:00"},
		"2h":                   {"2026-11-24 12:30:00", "2026-11-24 16:30:00"},
		"now":                  {"2026-11-24 14:30:00", "2026-11-24 14:30:00"},
		"2026-11-20":           {"2026-11-20 00:00:00", "2026-11-20 00:00:00"},
		"2026-11-20 05:06":     {"2026-11-20 05:06:00", "2026-11-20 05:06:00"},
		"mon 08:00":            {"2026-11-23 08:00:00", "2026-11-30 08:00:00"},
		"tue 08:00":            {"2026-11-24 08:00:00", "2026-12-01 08:00:00"},
		"tuesday 20:00":        {"2026-11-17 20:00:00", "2026-11-24 20:00:00"},
		"2026-11-24T05:00:00Z": {"2026-11-24 05:00:00", "2026-11-24 05:00:00"},
	} {
		for i, ahead := range []bool{false, true} {
			at, err := ParseTime(s, now, ahead)
			require.NoError(t, err, s)
			assert.Equal(t, want[i], at.In(zone).Format(time.DateTime), "%s, ahead %v", s, ahead)
		}
	}
	for _, s := range []string{"", "25:00", "noon", "20:33 yesterday", "2026-13-01", "ago", "x ago", "1 2 3"} {
		_, err := ParseTime(s, now, false)
		assert.ErrorContains(t, err, "is no time: write 20:33, yesterday 20:33", s)
	}
}
