package bench

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What was typed can be taken back, and come again.
func TestUndo(t *testing.T) {
	r := &text{}
	r.Open("f.lantern", "rule r {\n  raise error at 3\n}\n", 2, false)
	assert.Equal(t, 2, r.Line())
	assert.False(t, r.Changed())
	r.Replace("rule r {\n  problem \"x\"\n  raise error at 3\n}\n", 2)
	r.Paste("# ")
	assert.Equal(t, "rule r {\n#   problem \"x\"\n  raise error at 3\n}\n", r.Body())
	assert.True(t, r.Undo())
	assert.True(t, r.Undo())
	assert.Equal(t, "rule r {\n  raise error at 3\n}\n", r.Body())
	assert.False(t, r.Undo())
	assert.True(t, r.back(&r.redo, &r.undo))
	assert.Contains(t, r.Body(), "problem")
}
