package watch

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dimlantern/api"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

func viewRow(rule, key string, sev entry.Severity) api.Row {
	return api.Row{Rule: rule, Key: []string{key}, Alert: rule + key, Severity: sev, Cleared: entry.None,
		Note: "open 5m", Count: 3,
		Life: api.Life{Hits: make([]int, 88)}}
}

func view() *api.View {
	v := &api.View{Rules: 3, Sources: 1, Column: time.Minute, At: entry.Instant(88 * time.Minute),
		Tide: make([]int64, 88)}
	for i := range 6 {
		v.Open = append(v.Open, viewRow("pump-low", fmt.Sprintf("pump-%d", i), entry.Severity(1+i%4)))
	}
	v.Open = append(v.Open, viewRow("gate-refused", "gate-a1", entry.Error))
	v.Over = append(v.Over, viewRow("beacon-dark", "mast", entry.Critical))
	return v
}

func draw(r *Room, w, h int) string {
	r.stage.W, r.stage.H = w, h
	r.detail = &api.Detail{Clears: []string{"by hand"}}
	c := paint.New(w, h, paint.Color{})
	r.Draw(c, 0, h)
	return ansi.Strip(c.String())
}

// alone is the room with a view, as it is without a service.
func alone(v *api.View) *Room {
	r := New(room.NewStage(nil, func() tea.Cmd { return nil }))
	r.stage.View = v
	r.take(v)
	return r
}

// Many keys of one rule are one row until it is unfolded; what is chosen stays
// chosen.
func TestFolding(t *testing.T) {
	v := view()
	r := alone(v)
	s := draw(r, 160, 40)
	assert.Contains(t, s, "6 keys")
	assert.NotContains(t, s, "pump-3")
	assert.Contains(t, s, "18 hits")
	require.True(t, r.folded())
	r.open()
	assert.Contains(t, draw(r, 160, 40), "pump-3")
	r.Move(4)
	assert.Equal(t, []string{"pump-3"}, r.Chosen().Key)
	v.Open[0], v.Open[3] = v.Open[3], v.Open[0]
	r.take(v)
	assert.Equal(t, []string{"pump-3"}, r.Chosen().Key)
	r.Move(100)
	assert.Equal(t, "beacon-dark", r.Chosen().Rule)
	assert.False(t, r.folded())
}

func TestFilter(t *testing.T) {
	r := alone(view())
	r.Find("GATE error")
	s := draw(r, 160, 40)
	assert.Contains(t, s, "gate-a1")
	assert.NotContains(t, s, "pump-low")
	r.Find("nowhere")
	assert.Nil(t, r.Chosen())
	assert.Contains(t, draw(r, 160, 40), "nothing here has nowhere")
}

// However small the window and however many the rows, the chosen one is shown,
// and a click finds the row that was drawn.
func TestChosenIsAlwaysShown(t *testing.T) {
	v := view()
	v.Open = nil
	for i := range 60 {
		v.Open = append(v.Open, viewRow(fmt.Sprintf("rule-%02d", i), "k", entry.Warning))
	}
	for _, size := range [][2]int{{160, 40}, {80, 20}, {60, 12}} {
		r := alone(v)
		for i := range 60 {
			s := draw(r, size[0], size[1])
			require.Contains(t, s, fmt.Sprintf("rule-%02d", i), "%v", size)
			for y, l := range strings.Split(s, "\n") {
				if strings.Contains(l, fmt.Sprintf("rule-%02d ", i)) && !strings.Contains(l, "── ") {
					require.True(t, r.click(y))
					require.Equal(t, fmt.Sprintf("rule-%02d", i), r.Chosen().Rule)
				}
			}
			r.Move(1)
		}
	}
}
