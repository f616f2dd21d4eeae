package sources

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dimlantern/api"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
	"dimlantern/core/origin"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

func draw(r *Room, v *api.SourcesView, e *api.Entries, w, h int) string {
	r.view, r.entries = v, e
	r.take()
	r.stage.W, r.stage.H = w, h
	r.stage.View = &api.View{At: v.At, Column: v.Column, Tide: make([]int64, 88)}
	c := paint.New(w, h, paint.Color{})
	r.Draw(c, 0, h)
	return ansi.Strip(c.String())
}

// alone is the room as it is without a service.
func alone() *Room { return New(room.NewStage(nil, func() tea.Cmd { return nil })) }

func originOf(source, host, path, way string, c origin.Condition, words string) api.OriginView {
	name := host + ":" + path
	if way != "" {
		name = host + ":" + way
	}
	return api.OriginView{Name: name, Host: host, Path: path, Way: way,
		State: origin.State{Condition: c, Words: words, Mend: "mend it"}, Blind: c.Blind(),
		Minute: 7, Flow: make([]int64, 88), Read: "all 10 bytes"}
}

func view() *api.SourcesView {
	v := &api.SourcesView{At: entry.Instant(88 * time.Minute), Column: time.Minute}
	v.Sources = []api.SourceView{
		{Name: "pumps", File: "/s/harbour.lantern", Line: 3, Where: "files /v/pump-*.log", Layout: "plain",
			Origins: []api.OriginView{
				originOf("pumps", "a", "/v/pump-1.log", "", origin.Seen, ""),
				originOf("pumps", "a", "/v/pump-2.log", "", origin.Unreadable, "its owner is root"),
			}},
		{Name: "gauges", Where: "files /v/**/level.log", Origins: []api.OriginView{
			originOf("gauges", "a", "/v/north/level.log", "", origin.Gone, "the file is gone"),
			originOf("gauges", "a", "/v/south/level.log", "", origin.Catching, "catching up: 4 MB still to go"),
		}},
		{Name: "boxes", Where: "syslog udp :514", Layout: "syslog",
			Way: &api.WayView{State: origin.Way{Lost: 3,
				Senders: []origin.Sender{{Name: "192.0.2.7", Received: 90, Dropped: 5}}}, Waiting: 2},
			Origins: []api.OriginView{
				originOf("boxes", "lock-3", "/data/kept/boxes/x/entries.log", "192.0.2.7", origin.Seen, ""),
				originOf("boxes", "lock-3", "/data/kept/boxes/y/entries.log", "192.0.2.8", origin.Seen, ""),
				originOf("boxes", "lock-4", "/data/kept/boxes/z/entries.log", "192.0.2.7", origin.Seen, ""),
			}},
		{Name: "control", Where: "channel Access, Valves", Layout: "event-xml", Words: "Valves: is it switched on?",
			Way: &api.WayView{},
			Origins: []api.OriginView{originOf("control", "lock-1", "/data/kept/control/x/entries.log", "Access",
				origin.Seen, "")}},
	}
	v.Sources[1].Origins[0].Flow = []int64{1} // it said something, and is not folded away
	return v
}

// Each origin is called by what tells it from the others of its source.
func TestLabels(t *testing.T) {
	v := view()
	var got []string
	for i := range v.Sources {
		for k := range v.Sources[i].Origins {
			got = append(got, label(&v.Sources[i], &v.Sources[i].Origins[k]))
		}
	}
	assert.Equal(t, []string{"pump-1.log", "pump-2.log", "north/level.log", "south/level.log", "lock-3 192.0.2.7",
		"lock-3 192.0.2.8", "lock-4", "Access"}, got)
}

// What is the matter stands beside the origin in a word, and below in full with its
// mend; of a way in, who sends and what was lost.
func TestStatesAreSaid(t *testing.T) {
	r := alone()
	v := view()
	s := draw(r, v, nil, 160, 44)
	for _, want := range []string{"4 sources", "8 origins, 6 seen", "not readable", "gone", "catching up",
		"files /v/pump-*.log", "syslog udp :514", "channel Access, Valves", "is it switched on?"} {
		assert.Contains(t, s, want)
	}
	r.Move(1)
	s = draw(r, v, nil, 160, 44)
	assert.Contains(t, s, "its owner is root")
	assert.Contains(t, s, "mend it")
	r.Move(3)
	s = draw(r, v, nil, 160, 44)
	for _, want := range []string{"90 came since the start", "5 were dropped for want of room",
		"3 datagrams were dropped by the system", "2 entries wait until they can be kept"} {
		assert.Contains(t, s, want)
	}
	r.Find("blind-nothing")
	assert.NotContains(t, draw(r, v, nil, 160, 44), "pump-1.log")
}

// An event in full says all that it has by name, in as many lines as that takes.
func TestEventInFull(t *testing.T) {
	v := view()
	r := alone()
	r.inside, r.full, r.chosen = true, true, "lock-1:Access"
	e := &api.Entries{Origin: "lock-1:Access", Layout: "event-xml", Named: true, Shown: 1, Looked: 1,
		Lines: []api.EntryView{{At: v.At, Text: "A sign-in was refused.", Fits: true,
			Fields: []entry.Field{{Name: "event", Value: "5120"}, {Name: "account", Value: "night-crew"},
				{Name: "Panel", Value: "4"}, {Name: "text", Value: "A sign-in was refused."},
				{Name: "Long", Value: strings.Repeat("x", 300)}}}}}
	s := draw(r, v, e, 100, 20)
	assert.Contains(t, s, "A sign-in was refused.")
	assert.Contains(t, s, "event 5120   account night-crew   Panel 4")
	assert.NotContains(t, s, "text A sign")
	for i := range 20 {
		draw(r, v, e, 10+7*i, 2+i)
	}
}

// Whatever is said of whatever is watched, in whatever window: it is drawn within its
// lines, and what is chosen is among them.
func TestDrawsWithinItsLines(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.SampledFrom([]string{"", "a", "pump 7 low", "日本語のログ", "\x1b[2J\u202e",
			strings.Repeat("long ", 60)})
		v := &api.SourcesView{At: entry.Instant(time.Hour), Column: time.Minute}
		for i := range rapid.IntRange(0, 6).Draw(t, "sources") {
			s := api.SourceView{Name: fmt.Sprint("s", i),
				Where: rapid.SampledFrom([]string{"files /v/*.log", "channel A", "channel journal", "syslog udp :514",
					"standard input"}).Draw(t, "where"), Words: text.Draw(t, "words")}
			if rapid.Bool().Draw(t, "way") {
				s.Way = &api.WayView{State: origin.Way{Senders: []origin.Sender{{Name: "w",
					Note: text.Draw(t, "note"), Dropped: 1}}}}
			}
			for k := range rapid.IntRange(0, 7).Draw(t, "origins") {
				way := ""
				if s.Way != nil {
					way = "w"
				}
				o := originOf(s.Name, text.Draw(t, "host"), fmt.Sprintf("/v/%d/%s.log", k, text.Draw(t, "file")), way,
					rapid.SampledFrom([]origin.Condition{origin.Seen, origin.Gone, origin.Waiting, origin.Late,
						origin.Unreached}).Draw(t, "condition"), text.Draw(t, "state"))
				o.Name += fmt.Sprint(i, k)
				o.Flow = make([]int64, rapid.IntRange(0, 300).Draw(t, "columns"))
				s.Origins = append(s.Origins, o)
			}
			v.Sources = append(v.Sources, s)
		}
		r := alone()
		r.view = v
		r.take()
		r.Move(rapid.IntRange(0, 30).Draw(t, "move"))
		r.inside, r.full = rapid.Bool().Draw(t, "inside"), rapid.Bool().Draw(t, "full")
		r.misfits = rapid.Bool().Draw(t, "misfits")
		var e *api.Entries
		if _, o := r.Chosen(); o != nil && rapid.Bool().Draw(t, "entries") {
			e = &api.Entries{Origin: o.Name, Named: rapid.Bool().Draw(t, "named"), Fields: []string{"host", "level"},
				Values: map[string]int{}, Words: text.Draw(t, "why")}
			for range rapid.IntRange(0, 30).Draw(t, "lines") {
				e.Lines = append(e.Lines, api.EntryView{At: entry.Instant(rapid.Int64Range(0, 1e12).Draw(t, "at")),
					Text: text.Draw(t, "text"), Raw: text.Draw(t, "raw"), Fits: rapid.Bool().Draw(t, "fits"),
					Fields: []entry.Field{{Name: "host", Value: text.Draw(t, "value")}}})
			}
		}
		w, h := rapid.IntRange(1, 220).Draw(t, "width"), rapid.IntRange(1, 60).Draw(t, "height")
		s := draw(r, v, e, w, h)
		lines := strings.Split(strings.TrimRight(s, "\n"), "\n")
		require.LessOrEqual(t, len(lines), h)
		for _, l := range lines {
			require.LessOrEqual(t, ansi.StringWidth(l), w, "%q", l)
			require.NotContains(t, l, "\u202e")
		}
		if _, o := r.Chosen(); o != nil && !r.inside && w >= 80 && h >= 24 {
			require.Contains(t, r.lines, r.index(), "what is chosen is shown")
		}
	})
}

// What goes out stands below what comes in: chosen, it says how it goes and what would mend it, and its text
// opens; it is switched off and renamed like a source.
func TestWhatGoesOut(t *testing.T) {
	h := sits()
	h.out = []api.OutView{
		{Kind: "deliver", Name: "mainland", Where: "to syslog tcp cable:514", State: "waits 3m: nobody listens",
			Words: "nobody listens at cable:514", Mend: "start the receiver",
			Facts: []string{"17 entries were handed over"}, Trouble: true, File: "/s/out.lantern", Line: 9},
		{Kind: "measure", Name: "passages", Where: "count per gate", State: "5 entries in 2 groups", Off: true},
	}
	h.Do(h.r.Update(room.Fresh{}))
	h.Press("end", "up")
	text := h.Text()
	for _, words := range []string{"going out", "waits 3m: nobody listens", "nobody listens at cable:514",
		"start the receiver", "17 entries were handed over", "count per gate", "5 entries in 2 groups"} {
		assert.Contains(t, text, words)
	}
	h.Press("enter")
	assert.Equal(t, room.OpenText{File: "/s/out.lantern", Line: 9}, h.Sent[len(h.Sent)-1])
	h.Press("o", "esc", "down", "o", "esc", "R")
	h.Answers("ships")
	assert.Equal(t, &api.BlockChange{Kind: "deliver", What: "off", Of: "mainland"}, h.puts[0].Block)
	assert.Equal(t, &api.BlockChange{Kind: "measure", What: "on", Of: "passages"}, h.puts[1].Block)
	assert.Equal(t, &api.BlockChange{Kind: "measure", What: "rename", Of: "passages", Name: "ships"}, h.puts[2].Block)
	h.Press("esc")
	h.Do(h.r.Find("mainland"))
	assert.Contains(t, h.Text(), "going out")
	assert.NotContains(t, h.Text(), "passages")
	for _, key := range []string{"l", "v", "r", "y", "m", "f", "n", "B"} { // which are about what comes in
		h.Press(key)
	}
}
