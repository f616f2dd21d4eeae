package lang

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A number, a duration or a share at the cursor goes up and down by sensible steps.
func TestStepped(t *testing.T) {
	for _, c := range []struct {
		line string
		col  int
		up   bool
		want string
	}{
		{"raise warning at 3 in 5m", 17, true, "raise warning at 4 in 5m"},
		{"raise warning at 3 in 5m", 18, false, "raise warning at 2 in 5m"},
		{"raise warning at 3 in 5m", 0, true, "raise warning at 4 in 5m"},
		{"raise warning at 3 in 5m", 22, true, "raise warning at 3 in 10m"},
		{"raise warning at 3 in 5m", 24, false, "raise warning at 3 in 3m"},
		{"raise error when share >= 30% in 5m", 26, true, "raise error when share >= 35% in 5m"},
		{"raise error when avg(temp) > 1.5 in 1h", 30, true, "raise error when avg(temp) > 1.6 in 1h"},
		{"raise critical at 1 in 10s", 18, false, "raise critical at 1 in 10s"},
		{"no number here", 3, true, "no number here"},
	} {
		got, _, _ := Stepped(c.line, c.col, c.up)
		assert.Equal(t, c.want, got, "%s at %d", c.line, c.col)
	}
}
