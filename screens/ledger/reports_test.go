package ledger_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"dimlantern/api"
	"dimlantern/screens/room"
	"dimlantern/screens/room/roomtest"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// withReports lets the service have reports, and notes what is done with them.
func withReports(t *testing.T) (*roomtest.Hand, *answers, *[]api.ReportQuery) {
	h, a := sits(t)
	did := &[]api.ReportQuery{}
	api.AskReports.Answer(a.desk, func(context.Context, api.None) (*api.ReportList, error) {
		return &api.ReportList{List: []api.ReportView{
			{Name: "gates-week", Title: "Gates", Asks: []string{"gate-refusals"}, Every: "Monday at 07:00",
				Forms: []string{"html", "pdf"}, Tell: []string{"duty"}, File: "/s/r.lantern", Line: 4,
				Next: now.Add(26 * time.Hour), Results: []api.ReportResult{{Due: now, Made: now, Finished: true,
					Files: []api.ReportFile{{Form: "html", Size: 3000, Path: "/d/results/a.html"}},
					Told:  []api.ReportTold{{Contact: "duty", State: "waiting", Words: "it is greylisted"}}}}},
			{Name: "by-hand", Title: "by-hand", Asks: []string{"handover"}, Forms: []string{"csv"},
				File: "/s/r.lantern"},
		}}, nil
	})
	api.DoReport.Answer(a.desk, func(_ context.Context, q api.ReportQuery) (*api.ReportDone, error) {
		*did = append(*did, q)
		return &api.ReportDone{Body: []byte("x"), Form: "csv", Result: api.ReportResult{Size: 4096}}, nil
	})
	api.AskContacts.Answer(a.desk, func(context.Context, api.None) (*api.ContactList, error) {
		return &api.ContactList{List: []api.ContactView{{Name: "hook", Ways: []api.WayTold{{Way: "webhook"}}},
			{Name: "duty", Ways: []api.WayTold{{Way: "mail"}}}}}, nil
	})
	return h, a, did
}

// R lists the reports, with what came of each, when it is due and who gets it; from there one is made, told
// again, and its text opened.
func TestReportsAreListed(t *testing.T) {
	h, _, did := withReports(t)
	h.Press("R")
	text := h.Text()
	for _, words := range []string{"gates-week", "gate-refusals as html, pdf", "every Monday at 07:00, next Wed 25 Nov",
		"made: html 2.9 KiB in /d/results", "waits to be told to duty (it is greylisted)", "when somebody asks for it",
		"nothing was made yet"} {
		assert.Contains(t, text, words)
	}
	h.Press("m")
	assert.Equal(t, api.ReportQuery{Name: "gates-week", Now: true}, (*did)[0])
	h.Press("t")
	assert.Equal(t, api.ReportQuery{Name: "gates-week", Tell: true}, (*did)[1])
	h.Press("down", "t")
	assert.Len(t, *did, 2, "who tells nobody tells nobody again")
	h.Press("w")
	assert.Contains(t, h.Stage.Note, "nothing was made of by-hand yet")
	h.Press("up", "e")
	assert.Equal(t, room.OpenText{File: "/s/r.lantern", Line: 4}, h.Sent[len(h.Sent)-1])
}

// R on a question that is kept makes a report of it, told to who has mail, once it was seen what is written.
func TestReportOfAQuestion(t *testing.T) {
	h, a, _ := withReports(t)
	h.Press("enter", "R")
	h.Answers("gates-weekly")
	require.Len(t, a.kept, 1)
	assert.Equal(t, &api.KeptAsk{Kind: "report", Name: "gates-weekly", Text: "ask gate-refusals\nevery mon at 07:00\n" +
		"covers last week\nas html, pdf\ntell duty"}, a.kept[0].Ask)
	assert.False(t, a.kept[0].Do)
}

// Whatever keys come in whatever window, what is drawn fits into it, and esc leads back to the room.
func TestAnyKeysInTheLedger(t *testing.T) {
	t.Chdir(t.TempDir())
	keys := []string{"enter", "esc", "tab", "up", "down", "left", "right", "shift+left", "home", "end", "pgup",
		"pgdown", "v", "i", "x", "g", "u", "[", "]", "b", "R", "m", "t", "w", "e", "n", "backspace", "ctrl+s",
		"ctrl+u", "/", "(", "a", "space", "?", "<", ">"}
	rapid.Check(t, func(rt *rapid.T) {
		h, a, _ := withReports(t)
		h.Stage.W, h.Stage.H = rapid.IntRange(60, 200).Draw(rt, "w"), rapid.IntRange(10, 50).Draw(rt, "h")
		if rapid.Bool().Draw(rt, "gaps") {
			a.gaps = []api.Span{{From: now.Add(-50 * time.Minute), To: now.Add(-40 * time.Minute)}}
		}
		for range rapid.IntRange(0, 40).Draw(rt, "keys") {
			h.Press(rapid.SampledFrom(keys).Draw(rt, "key"))
			for _, l := range strings.Split(h.Text(), "\n") {
				require.LessOrEqual(rt, ansi.StringWidth(l), h.Stage.W)
			}
			if rapid.IntRange(0, 3).Draw(rt, "mouse") == 0 {
				at := tea.Mouse{X: rapid.IntRange(0, 200).Draw(rt, "x"), Y: rapid.IntRange(0, 50).Draw(rt, "y"),
					Button: tea.MouseLeft}
				h.Do(h.On().Update(tea.MouseClickMsg(at)))
				h.Do(h.On().Update(tea.MouseReleaseMsg(at)))
			}
		}
		for range 8 {
			h.Press("esc")
		}
		require.Empty(rt, h.Stage.Pages)
	})
}
