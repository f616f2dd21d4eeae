package layout

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
)

// Of the hour that a change of clocks brings twice, the nearer one is meant; where the
// time says the letters of its zone, that one. An hour that is left out is read as if
// the clocks had not changed yet.
func TestChangesOfClocks(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	for _, c := range []struct{ like, value, near, want string }{
		{"2026-11-24 05:32:28", "2026-10-25 01:30:00", "2026-10-25T00:20:00Z", "2026-10-25T00:30:00Z"},
		{"2026-11-24 05:32:28", "2026-10-25 01:30:00", "2026-10-25T01:20:00Z", "2026-10-25T01:30:00Z"},
		{"2026-11-24 05:32:28 GMT", "2026-10-25 01:30:00 IST", "2026-10-25T01:20:00Z", "2026-10-25T00:30:00Z"},
		{"2026-11-24 05:32:28", "2026-03-29 01:30:00", "2026-03-29T01:20:00Z", "2026-03-29T01:30:00Z"},
		{"2026-11-24 05:32:28", "2026-03-29 02:00:00", "2026-03-29T01:20:00Z", "2026-03-29T01:00:00Z"},
		{"Nov 24 05:32:28", "Oct 25 01:30:00", "2026-10-25T00:20:00Z", "2026-10-25T00:30:00Z"},
		{"2026-11-24 05:32:28 CET", "2026-07-01 05:00:00 CEST", "2026-07-01T00:00:00Z", "2026-07-01T03:00:00Z"},
		{"2026-11-24 05:32:28 CET", "2026-07-01 05:00:00 EDT", "2026-07-01T00:00:00Z", "2026-07-01T09:00:00Z"},
	} {
		f, err := TimeLike(c.like, "")
		require.NoError(t, err)
		var cache timeCache
		for range 2 { // the second time from what was remembered
			got, ok := cache.parse(f, c.value, zone, at(c.near))
			require.True(t, ok, c.value)
			assert.Equal(t, at(c.want), got, "%s near %s: %s", c.value, c.near, got)
		}
	}
}

// A time without its year is the nearest one: over the turn of a year, and on a day
// that only some years have.
func TestYearsThatLack(t *testing.T) {
	f, err := TimeLike("Nov 24 05:32:28", "")
	require.NoError(t, err)
	for _, c := range [][3]string{
		{"Dec 31 23:59:59", "2026-01-01T00:00:05Z", "2025-12-31T23:59:59Z"},
		{"Jan 01 00:00:01", "2025-12-31T23:59:59Z", "2026-01-01T00:00:01Z"},
		{"Feb 29 12:00:00", "2025-01-15T00:00:00Z", "2024-02-29T12:00:00Z"},
		{"Feb 29 12:00:00", "2024-03-01T00:00:00Z", "2024-02-29T12:00:00Z"},
	} {
		got, ok := f.Parse(c[0], time.UTC, at(c[1]))
		require.True(t, ok, c)
		assert.Equal(t, at(c[2]), got, c)
	}
}

// families are examples of all kinds of times, and how the library writes such.
var families = [][3]string{
	{"2026-11-24 05:32:28.114", "", "2006-01-02 15:04:05.000"},
	{"2026-11-24T05:32:28Z", "", "2006-01-02T15:04:05.000Z07:00"},
	{"2026-11-24T05:32:28+01:00", "", time.RFC3339Nano},
	{"20261124T053228Z", "", "20060102T150405.000Z0700"}, {"20261124053228", "", "20060102150405.000"},
	{"2026/11/24 05:32:28", "", "2006/01/02 15:04:05.000"},
	{"24/Nov/2026:05:32:28 +0000", "", "02/Jan/2006:15:04:05.000 -0700"},
	{"11/24/2026 05:32:28 PM", "", "01/02/2006 03:04:05.000 PM"},
	{"03/04/2026 05:32:28", "day", "02/01/2006 15:04:05.000"},
	{"03/04/2026 05:32:28", "month", "01/02/2006 15:04:05.000"},
	{"24.11.2026 05:32:28", "", "02.01.2006 15:04:05.000"}, {"24.11.26 05:32:28", "", "02.01.06 15:04:05.000"},
	{"26-11-24 05:32:28", "year", "06-01-02 15:04:05.000"},
	{"Tue Nov 24 05:32:28 2026", "", "Mon Jan 2 15:04:05.000 2006"},
	{"Tue, 24 Nov 2026 05:32:28 GMT", "", "Mon, 02 Jan 2006 15:04:05.000 MST"},
	{"24-Nov-2026 05:32:28,114", "", "02-Jan-2006 15:04:05,000"},
	{"Nov 24, 2026 5:32:28 PM", "", "Jan 2, 2006 3:04:05.000 PM"},
	{"24 November 2026 05:32:28", "", "2 January 2006 15:04:05.000"},
	{"2026-328T05:32:28Z", "", "2006-002T15:04:05.000Z07:00"},
	{"2026-11-24-05.32.28.114000", "", "2006-01-02-15.04.05.000000"},
	{"2026-Nov-24 05:32:28", "", "2006-Jan-02 15:04:05.000"},
	{"Nov 24 05:32:28", "", "Jan _2 15:04:05.000"}, {"24 Nov 05:32:28", "", "2 Jan 15:04:05.000"},
}

// Whatever an instant, it is read back as it was written, in every family; and where
// it stands in a line, it is found whole.
func TestTimesThereAndBack(t *testing.T) {
	caches := map[string]*timeCache{}
	rapid.Check(t, func(t *rapid.T) {
		want := time.Unix(rapid.Int64Range(946684800, 3e9).Draw(t, "s"),
			rapid.Int64Range(0, 999).Draw(t, "ms")*1e6).UTC()
		zone := time.FixedZone("", 1800*rapid.IntRange(-23, 23).Draw(t, "zone"))
		for _, x := range families {
			f, err := TimeLike(x[0], x[1])
			require.NoError(t, err, x[0])
			w := want
			if f.HasZone() && !strings.Contains(x[2], "MST") {
				w = want.In(zone)
			}
			if caches[x[0]] == nil {
				caches[x[0]] = &timeCache{}
			}
			written := w.Format(x[2])
			near := entry.Of(want.Add(time.Duration(want.Nanosecond()%100) * 24 * time.Hour))
			got, ok := caches[x[0]].parse(f, written, time.UTC, near)
			require.True(t, ok, "%s like %s", written, x[0])
			require.Equal(t, entry.Of(want), got, "%s like %s is %s", written, x[0], got)
			in, ok := FindTime("pump-03 [" + written + "] low")
			require.True(t, ok, written)
			require.Equal(t, [2]int{9, 9 + len(written)}, [2]int{in.Start, in.End}, written)
		}
		for _, unit := range []int64{1e9, 1e6, 1e3, 1} {
			f, err := TimeLike(fmt.Sprint(1795498348000000000/unit), "")
			require.NoError(t, err)
			got, ok := f.Parse(fmt.Sprint((want.Unix()+1e9)*1e9/unit), time.UTC, 0)
			require.True(t, ok)
			require.Equal(t, entry.Of(time.Unix(want.Unix()+1e9, 0)), got)
		}
	})
}
