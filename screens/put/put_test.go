package put_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"dimlantern/api"
	"dimlantern/screens/put"
	"dimlantern/screens/room/roomtest"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sits is a person whose changes of settings are answered.
func sits(answer func(q api.PutQuery) (*api.Put, error)) *roomtest.Hand {
	desk := api.NewDesk()
	api.DoPut.Answer(desk, func(_ context.Context, q api.PutQuery) (*api.Put, error) { return answer(q) })
	return roomtest.New(desk)
}

// A change is seen with all that it does before it is done; esc leaves everything as it was.
func TestSeenBeforeItIsDone(t *testing.T) {
	var asked []api.PutQuery
	h := sits(func(q api.PutQuery) (*api.Put, error) {
		asked = append(asked, q)
		p := &api.Put{Title: q.Block.Title(), Done: "it is written", Files: []api.BenchSave{{File: "/s/harbour.lantern",
			Was: "source pumps {\n}\n", Body: "source stations {\n}\n"}}}
		for i := range 60 {
			p.Lines = append(p.Lines, api.PutLine{Word: "ends", Text: fmt.Sprintf("pump-low pump %d", i), Bad: true})
		}
		return p, nil
	})
	done := 0
	ask := func() {
		h.Do(put.Ask(h.Stage, api.PutQuery{Block: &api.BlockChange{Kind: "source", What: "rename", Of: "pumps",
			Name: "stations"}}, put.Told{Done: func(*api.Put) { done++ }}))
	}
	ask()
	text := h.Text()
	assert.Contains(t, text, "rename pumps to stations")
	assert.Contains(t, text, "nothing is changed yet")
	assert.Equal(t, 1, strings.Count(text, "ends"), "a word stands once for its lines")
	assert.NotContains(t, text, "source stations")
	for range 10 {
		h.Press("pgdown")
	}
	assert.Contains(t, h.Text(), "source stations {")
	h.Press("esc")
	assert.Empty(t, h.Stage.Pages)
	assert.Equal(t, []int{1, 0}, []int{len(asked), done})
	assert.Equal(t, "mira", asked[0].By)

	ask()
	h.Press("enter")
	assert.Equal(t, []int{3, 1}, []int{len(asked), done})
	assert.True(t, asked[2].Do)
	assert.Equal(t, "it is written", h.Stage.Note)
	assert.Empty(t, h.Stage.Pages)
}

// What cannot be done says why, and offers nothing but to go back; what fails is told.
func TestRefused(t *testing.T) {
	var fail error
	h := sits(func(api.PutQuery) (*api.Put, error) {
		return &api.Put{Title: "delete pumps", Refused: "errors come first: there is no source pumps"}, fail
	})
	failed := 0
	q := api.PutQuery{Block: &api.BlockChange{Kind: "source", What: "delete", Of: "pumps"}, Do: true}
	told := put.Told{Failed: func(error) tea.Cmd { failed++; return nil }}
	h.Do(put.Ask(h.Stage, q, told))
	assert.Contains(t, h.Text(), "It cannot be put to work: errors come first")
	require.NotContains(t, h.On().Keys().Where, "before it is done")
	h.Press("enter")
	assert.Empty(t, h.Stage.Pages)
	fail = &api.Problem{Code: api.Changed, What: "harbour.lantern was changed by somebody else"}
	h.Do(put.Ask(h.Stage, q, told))
	assert.Equal(t, 1, failed)
	assert.Contains(t, h.Stage.Note, "changed by somebody else")

	put.Read(h.Stage, &api.Put{Title: "3 passed, 0 failed", Tests: true,
		Lines: []api.PutLine{{Word: "passes", Text: "pump-low: three lows"}}})
	assert.Contains(t, h.Text(), "pump-low: three lows")
	assert.NotContains(t, h.Text(), "nothing is changed yet")
}
