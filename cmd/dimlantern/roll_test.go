package main

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dimlantern/api"
)

// The words behind --to group and --stop after may stand in any order.
func TestRollWords(t *testing.T) {
	for _, x := range []struct {
		to   []string
		stop string
		args []string
		want []string
		n    int
		err  string
	}{
		{[]string{"all"}, "after", []string{"3"}, []string{"all"}, 3, ""},
		{[]string{"all"}, "3", nil, []string{"all"}, 3, ""},
		{[]string{"group"}, "after", []string{"pumps", "2"}, []string{"group pumps"}, 2, ""},
		{[]string{"group"}, "after", []string{"2", "pumps"}, []string{"group pumps"}, 2, ""},
		{[]string{"group", "mast", "group"}, "", []string{"a", "b"}, []string{"group a", "mast", "group b"}, 0, ""},
		{[]string{"pump-01"}, "", []string{"pump-02"}, nil, 0, `"pump-02" says nothing here`},
		{[]string{"all"}, "after", nil, nil, 0, "after how many refusals?"},
		{[]string{"all"}, "after", []string{"0"}, nil, 0, "after how many refusals?"},
	} {
		q := api.RollQuery{To: x.to}
		err := rollWords(&q, x.stop, x.args)
		if x.err != "" {
			assert.ErrorContains(t, err, x.err)
			continue
		}
		assert.NoError(t, err)
		assert.Equal(t, x.want, q.To)
		assert.Equal(t, x.n, q.Stop)
	}
}
