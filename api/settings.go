package api

import (
	"dimlantern/core/entry"
)

// PutQuery asks what a change of the settings would do, and has it done where Do says so.
// It is files, or something that is done to a block of them, or a source that begins again from the
// oldest entry that there is.
type PutQuery struct {
	Person
	Files []BenchSave  `json:"files,omitempty"`
	Block *BlockChange `json:"block,omitempty"`
	Ask   *KeptAsk     `json:"ask,omitempty"`   // a question that is to be kept
	Again string       `json:"again,omitempty"` // the source
	Kits  []string     `json:"kits,omitempty"`  // that are to be used
	Newer bool         `json:"newer,omitempty"` // kits that have changed with the program are taken up
	Do    bool         `json:"do"`
}

// BlockChange is what is done to a rule or a source wherever it is named.
type BlockChange struct {
	Kind string `json:"kind"`           // rule, source, report, measure or deliver
	What string `json:"what"`           // copy, rename, off, on or delete
	Of   string `json:"of"`             // its name
	Name string `json:"name,omitempty"` // the new one
}

// Put is what a change of the settings does.
type Put struct {
	Title   string      `json:"title"`
	Files   []BenchSave `json:"files"` // as they will be written
	Lines   []PutLine   `json:"lines"`
	Refused string      `json:"refused,omitempty"` // why it cannot be done
	Done    string      `json:"done,omitempty"`    // what came of it
	Tests   bool        `json:"tests,omitempty"`   // it only says which tests pass
	Goes    []string    `json:"goes,omitempty"`    // the groups of hosts that it is to be rolled out to
}

// PutLine is one thing that will change.
type PutLine struct {
	Word string `json:"word"`
	Text string `json:"text"`
	Bad  bool   `json:"bad,omitempty"`
}

// Title says what is done.
func (c *BlockChange) Title() string {
	switch c.What {
	case "copy":
		return "copy " + c.Of + " to " + c.Name
	case "rename":
		return "rename " + c.Of + " to " + c.Name
	case "off":
		return "switch " + c.Of + " off"
	case "on":
		return "switch " + c.Of + " on"
	}
	return "delete " + c.Of
}

// PastQuery asks for what was put to work before.
type PastQuery struct {
	Limit int `json:"limit"`
}

// PastPuts are changes of the settings, newest first.
type PastPuts struct {
	List []PastPut `json:"list"`
}

// PastPut is one change of one settings file.
type PastPut struct {
	At   entry.Instant `json:"at"`
	By   string        `json:"by"`
	From string        `json:"from,omitempty"`
	What string        `json:"what"` // what was done, in words
	Did  string        `json:"did"`  // and what came of it
	File string        `json:"file"`
	Was  string        `json:"was"`
	Now  string        `json:"now"`
}
