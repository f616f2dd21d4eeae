package room

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
)

func drawn(l *EntryList, w, h int) string {
	c := paint.New(w, h, paint.Color{})
	l.Draw(c, 1, 0, w-2, h, paint.Dark())
	return ansi.Strip(c.String())
}

// Of entries with a text the fields that differ stand in columns, those that say most first;
// what is the same everywhere, an identifier, or said already, does not.
func TestEntryColumns(t *testing.T) {
	now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.Local)
	l := &EntryList{Chosen: -1, Now: now}
	for i := range 20 {
		gate := fmt.Sprintf("gate-%d", i%3)
		l.Lines = append(l.Lines, api.EntryView{At: entry.Of(now.Add(time.Duration(-i) * time.Second)), Fits: true,
			Text: fmt.Sprintf("refused %d\n  and more\n  of it", i), Fields: []entry.Field{{Name: "at", Value: "x"},
				{Name: "site", Value: "north"}, {Name: "session", Value: fmt.Sprintf("%08x", i*7919)},
				{Name: "gate", Value: gate}, {Name: "gate-name", Value: gate},
				{Name: "level", Value: []string{"warning", "error"}[i%2]}}})
	}
	out := drawn(l, 120, 6)
	head := strings.Join(strings.Fields(strings.Split(out, "\n")[0]), " ")
	assert.Equal(t, "at level gate session text", head)
	assert.Contains(t, out, "12:00:00  warning  gate-0")
	assert.Contains(t, out, "refused 0 +2 lines")
	l.Lines[3].At = entry.Of(now.AddDate(0, 0, -1))
	assert.Contains(t, drawn(l, 120, 6), "Nov 24 12:00:00")
	l.Lines[3].At = entry.Of(now.AddDate(-1, 0, 0))
	assert.Contains(t, drawn(l, 120, 6), "2026-11-24 12:00:00")
}

// Entries without a text show their fields by name.
func TestEntriesWithoutText(t *testing.T) {
	now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.Local)
	l := &EntryList{Chosen: 0, Now: now}
	for i := range 4 {
		l.Lines = append(l.Lines, api.EntryView{At: entry.Of(now), Fits: true, Fields: []entry.Field{
			{Name: "client", Value: "10.0.0.7"}, {Name: "account", Value: "-"}, {Name: "request", Value: "GET /a"},
			{Name: "path", Value: fmt.Sprintf("/tickets/%d", i)}, {Name: "status", Value: fmt.Sprint(200 + i)}}})
	}
	out := drawn(l, 120, 6)
	assert.Contains(t, out, "status 200  path /tickets/0  client 10.0.0.7")
	assert.NotContains(t, out, "account")
	assert.NotContains(t, out, "request")
	names, different := l.Values(2)
	assert.Equal(t, []string{"status", "path"}, names)
	assert.Equal(t, []int{4, 4}, different)
}

// An entry in full says when it was, each of its fields, and what it is as it stands.
func TestEntryInFull(t *testing.T) {
	c := paint.New(80, 20, paint.Color{})
	e := &api.EntryView{At: entry.Of(time.Date(2026, 11, 24, 12, 0, 0, 0, time.Local)), Raw: "GET /a\nmore\x1b",
		Fields: []entry.Field{{Name: "path", Value: "/a"}, {Name: "empty"}}}
	end := DrawEntry(c, 1, 0, 78, 0, 20, e, paint.Dark())
	out := ansi.Strip(c.String())
	for _, want := range []string{"Tuesday 2026-11-24 12:00:00.000", "it does not fit its layout", "path", "/a",
		"GET /a",
		"more␛"} {
		assert.Contains(t, out, want)
	}
	assert.NotContains(t, out, "empty")
	assert.Equal(t, 6, end)
}
