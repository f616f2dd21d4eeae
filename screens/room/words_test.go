package room

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A text is cut at blanks; a name with hyphens stays whole where it fits into a line.
func TestWrap(t *testing.T) {
	assert.Equal(t, []string{"without pump-01,", "pump-02 and", "gauge-03"},
		Wrap("without pump-01, pump-02 and gauge-03", 16))
	assert.Equal(t, []string{"a-very", "-long-", "name"}, Wrap("a-very-long-name", 6))
	assert.Equal(t, []string{"as it is"}, Wrap("as it is", 3))
}
