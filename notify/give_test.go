package notify

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/folder"
	"dimlantern/notify/via"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// What is given is sent once for its identifier, in the contact's hours, within what it is told at most, and
// in brief where no mail shows it whole.
func TestGive(t *testing.T) {
	s, ds := folder.CheckErrors([]folder.Text{{Name: "s", Body: `settings {
  zone "UTC"
  mail server "mail.gullhaven.example:25" from "lantern@gullhaven.example"
}
contact day {
  mail    "day@gullhaven.example"
  webhook "https://hooks.gullhaven.example/x"
  hours   mon-fri 08:00-18:00
}
contact few {
  mail "few@gullhaven.example"
  most 2 in 1h
}
`}})
	require.False(t, lang.Errors(ds), "%v", ds)
	st, err := store.Open(t.TempDir())
	require.NoError(t, err)
	defer st.Close()
	o := NewOutbox(OutboxOptions{Store: st, Window: snapshot.NewWindow(&snapshot.Snapshot{House: &snapshot.House{},
		Settings: s, Engine: &engine.View{}})})
	saturday := time.Date(2026, 11, 28, 7, 0, 0, 0, time.UTC)
	give := func(contact, id string) {
		require.NoError(t, o.Give(contact, &via.Message{ID: id, Made: saturday, Text: "whole", Brief: "brief",
			HTML: "<p>", Files: []via.File{{Name: "x.pdf"}}}))
	}
	unsent := func(contact string, way int, at time.Time) (out []via.Message) {
		list, err := st.Unsent(contact, way, entry.Of(at), 100)
		require.NoError(t, err)
		for _, m := range list {
			var x via.Message
			require.NoError(t, json.Unmarshal(m.Body, &x))
			out = append(out, x)
		}
		return out
	}
	monday := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	give("day", "a")
	give("day", "a")
	assert.Empty(t, unsent("day", 0, monday.Add(-time.Second)))
	mail, hook := unsent("day", 0, monday), unsent("day", 1, monday)
	require.Len(t, mail, 1)
	require.Len(t, hook, 1)
	assert.Equal(t, "whole", mail[0].Text)
	assert.Len(t, mail[0].Files, 1)
	assert.Equal(t, via.Message{ID: "a.1", Made: saturday, Text: "brief"}, hook[0])

	for _, id := range []string{"b", "c", "d"} {
		give("few", id)
	}
	assert.Len(t, unsent("few", 0, saturday), 2)
	assert.Len(t, unsent("few", 0, saturday.Add(59*time.Minute)), 2)
	assert.Len(t, unsent("few", 0, saturday.Add(time.Hour)), 3)
	assert.ErrorContains(t, o.Give("nobody", &via.Message{}), "there are: day, few")
}
