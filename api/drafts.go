package api

import "dimlantern/core/entry"

// Draft is a text that somebody types and has not written yet. It is theirs alone, and offered again
// to them, also after the screens have ended.
type Draft struct {
	Name string        `json:"name"`           // what it is, in words, such as the text of pumps.lantern
	File string        `json:"file,omitempty"` // the settings file that it is of; "" is none
	Was  string        `json:"was,omitempty"`  // what stood in it then
	Text string        `json:"text"`           // "" lets go of it
	Line int           `json:"line,omitempty"` // where the cursor stood, from 1
	At   entry.Instant `json:"at"`             // when it was kept
}

// DraftsQuery keeps drafts of a person, or asks for all of them where it has none.
type DraftsQuery struct {
	Person
	Keep []Draft `json:"keep,omitempty"`
}

// Drafts are those of a person, the oldest first.
type Drafts struct {
	List []Draft `json:"list"`
}

// Bounds of drafts: so many of a person, and so long each, in bytes. Of more the oldest go; one that is
// longer is refused.
const (
	MostDrafts   = 50
	LongestDraft = 2 << 20
)
