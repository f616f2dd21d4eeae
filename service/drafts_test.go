package service

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/api"
)

// Drafts are each person's own, outlive the service, and are bounded in number and length.
func TestDraftsAreKept(t *testing.T) {
	ctx := context.Background()
	s, data, stop := running(t, "source a {\n files \"/nowhere/*.log\"\n}\n", nil)
	ask := func(by string, keep ...api.Draft) []string {
		v, err := s.Drafts(ctx, api.DraftsQuery{Person: api.Person{By: by}, Keep: keep})
		require.NoError(t, err)
		var names []string
		for _, d := range v.List {
			names = append(names, d.Name+"="+d.Text)
		}
		return names
	}
	ask("mira", api.Draft{Name: "a", Text: "1"}, api.Draft{Name: "b", Text: "2"})
	assert.Equal(t, []string{"b=2", "a=3"}, ask("mira", api.Draft{Name: "a", Text: "3"}))
	assert.Empty(t, ask("tolan"))
	stop()
	s, err := Open(Options{Settings: filepath.Join(filepath.Dir(data), "settings"), Data: data})
	require.NoError(t, err)
	ended := make(chan error, 1)
	run, end := context.WithCancel(ctx)
	go func() { ended <- s.Run(run) }()
	assert.Equal(t, []string{"b=2", "a=3"}, ask("mira"))
	assert.Equal(t, []string{"a=3"}, ask("mira", api.Draft{Name: "b"}))
	for i := range 2 * api.MostDrafts {
		ask("mira", api.Draft{Name: fmt.Sprint("n", i), Text: "x"})
	}
	list := ask("mira")
	assert.Len(t, list, api.MostDrafts)
	assert.Equal(t, fmt.Sprintf("n%d=x", 2*api.MostDrafts-1), list[len(list)-1])
	_, err = s.Drafts(ctx, api.DraftsQuery{Keep: []api.Draft{{Name: "long",
		Text: strings.Repeat("x", 2*api.LongestDraft+1)}}})
	assert.ErrorContains(t, err, "too long to be kept")
	end()
	require.NoError(t, <-ended)
}
