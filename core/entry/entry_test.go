package entry

import (
	"fmt"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestParseNumber(t *testing.T) {
	for _, good := range []string{"0", "-0", "+7", "1.50", "1e3", "1E-3", "5%", "10kB", "1.5GiB", "00012",
		"999999999999999999999999.000000001"} {
		_, ok := ParseNumber(good)
		assert.True(t, ok, good)
	}
	for _, bad := range []string{"", "-", ".5", "1.", "1e", "0x10", "1 2", "5 %", "10 MB", "5kb", "1,5", "NaN", "5%%",
		"--1", "1e+"} {
		_, ok := ParseNumber(bad)
		assert.False(t, ok, bad)
	}
}

// Numbers compare as exact fractions do, whatever they are followed by.
func TestNumbersAreExact(t *testing.T) {
	factor := map[string]*big.Rat{"": big.NewRat(1, 1), "%": big.NewRat(1, 1), "kB": big.NewRat(1000, 1),
		"MB": big.NewRat(1e6, 1),
		"GB": big.NewRat(1e9, 1), "KiB": big.NewRat(1<<10, 1), "MiB": big.NewRat(1<<20, 1),
		"GiB": big.NewRat(1<<30, 1)}
	draw := func(t *rapid.T, name string) (string, *big.Rat) {
		digits := rapid.StringMatching(`[+-]?[0-9]{1,22}(\.[0-9]{1,12})?([eE][+-]?[0-9]{1,2})?`).Draw(t, name)
		unit := rapid.SampledFrom([]string{"", "", "%", "kB", "MB", "GB", "KiB", "MiB", "GiB"}).Draw(t, name+" unit")
		r, ok := new(big.Rat).SetString(strings.TrimPrefix(digits, "+"))
		require.True(t, ok, digits)
		return digits + unit, r.Mul(r, factor[unit])
	}
	rapid.Check(t, func(t *rapid.T) {
		a, x := draw(t, "a")
		b, y := draw(t, "b")
		if rapid.Bool().Draw(t, "equal") {
			b, y = a+"", x
			if !strings.ContainsAny(a, ".eE") && strings.Trim(a, "+-0123456789") == "" {
				b = a + ".000"
			}
		}
		m, ok := ParseNumber(a)
		require.True(t, ok, a)
		n, ok := ParseNumber(b)
		require.True(t, ok, b)
		require.Equal(t, x.Cmp(y), m.Compare(n), "%s and %s", a, b)
	})
}

// A duration is written as it is read.
func TestDurationsThereAndBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d := time.Duration(rapid.Int64Range(0, 1<<50).Draw(t, "ms")) * time.Millisecond / 4 * 4
		if d < 0 {
			return
		}
		got, err := ParseDuration(Span(d))
		require.NoError(t, err)
		require.Equal(t, d.Truncate(time.Millisecond), got)
	})
	for _, bad := range []string{"", "5", "m", "5x", "1m1h", "5m5m", "-5m", "1.5h", "99999999999w"} {
		_, err := ParseDuration(bad)
		assert.Error(t, err, bad)
	}
	assert.Equal(t, "16m47s", RoughSpan(16*time.Minute+47*time.Second+36*time.Millisecond))
	assert.Equal(t, "1h", RoughSpan(time.Hour+3*time.Second))
	assert.Equal(t, "0s", RoughSpan(0))
	assert.Equal(t, "2d", RoughSpan(48*time.Hour))
}

func TestInstant(t *testing.T) {
	at := Of(time.Date(2026, 11, 24, 5, 33, 10, 114_999_999, time.UTC))
	assert.Equal(t, "2026-11-24T05:33:10.114Z", at.String(), "decimals are cut off")
	assert.Equal(t, "", None.String())
	assert.Equal(t, "1970-01-01T00:00:00.000Z", fmt.Sprint(Instant(0)))
}
