package api

import (
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/origin"
)

// SourcesView is what is watched, at one instant.
type SourcesView struct {
	At      entry.Instant `json:"at"`
	From    entry.Instant `json:"from"`
	Until   entry.Instant `json:"until"`
	Column  time.Duration `json:"column"`
	Sources []SourceView  `json:"sources"`
	Out     []OutView     `json:"out,omitempty"` // what goes out to other systems
}

// OutView is a delivery or a measure among what is watched.
type OutView struct {
	Kind    string   `json:"kind"` // deliver or measure
	Name    string   `json:"name"`
	Where   string   `json:"where"` // where to, or what is counted
	State   string   `json:"state"` // in a word or two
	Words   string   `json:"words,omitempty"`
	Mend    string   `json:"mend,omitempty"`
	Facts   []string `json:"facts,omitempty"`
	Trouble bool     `json:"trouble,omitempty"`
	Off     bool     `json:"off,omitempty"`
	File    string   `json:"file,omitempty"`
	Line    int      `json:"line,omitempty"`
}

// SourceView is a source with its origins.
type SourceView struct {
	Name    string       `json:"name"`
	File    string       `json:"file,omitempty"` // of the settings, in which it stands
	Line    int          `json:"line,omitempty"` // there, from 1
	Where   string       `json:"where"`          // in words, where its entries come from
	Files   []string     `json:"files,omitempty"`
	Way     *WayView     `json:"way,omitempty"` // of entries that exist nowhere else
	Layout  string       `json:"layout"`
	Begin   string       `json:"begin"`
	Rules   []string     `json:"rules"` // that look here
	Words   string       `json:"words,omitempty"`
	Mend    string       `json:"mend,omitempty"`
	Off     bool         `json:"off,omitempty"`
	Today   int64        `json:"today"`       // entries since midnight, up to the lamp
	Bytes   int64        `json:"today_bytes"` // of their files
	Origins []OriginView `json:"origins"`
	Cost    *SourceCost  `json:"cost,omitempty"` // of reading it
}

// OriginView is an origin on the time axis.
type OriginView struct {
	Name    string        `json:"name"`
	Host    string        `json:"host"`
	Path    string        `json:"path"`
	Way     string        `json:"way,omitempty"` // of kept entries: a peer's address, a channel's name
	State   origin.State  `json:"state"`
	Blind   bool          `json:"blind"`
	Entries int64         `json:"entries"` // read in all
	Minute  int64         `json:"minute"`  // in the last whole minute
	Newest  entry.Instant `json:"newest"`
	Kept    *KeptView     `json:"kept,omitempty"` // of entries that exist nowhere else
	Began   string        `json:"began"`
	Read    string        `json:"read"` // in words, what was read
	Flow    []int64       `json:"flow"` // entries by column
	Dark    []Span        `json:"dark"`
}

// KeptView is what is kept of an origin; it lags behind by half a minute.
type KeptView struct {
	Entries int64         `json:"entries"`
	Bytes   int64         `json:"bytes"` // as they lie on the disk
	First   entry.Instant `json:"first"` // when the oldest of them arrived
}

// EntriesQuery asks for entries of an origin.
type EntriesQuery struct {
	Origin string        `json:"origin"`
	At     entry.Instant `json:"at"` // 0 is now
	Filter string        `json:"filter"`
	// Misfits asks for those that do not fit the layout alone.
	Misfits bool `json:"misfits"`
	Lines   int  `json:"lines"`
}

// Entries are the newest entries of an origin, newest first.
type Entries struct {
	Origin string         `json:"origin"`
	Layout string         `json:"layout"`
	Named  bool           `json:"named"` // its format gives every part a name
	Lines  []EntryView    `json:"lines"`
	Fields []string       `json:"fields"` // of the layout, but for its time and text
	Values map[string]int `json:"values"` // how many different ones each field has here
	Shown  int            `json:"shown"`
	Looked int            `json:"looked"` // entries that were looked at
	Words  string         `json:"words"`  // why there are none
}

// EntryView is one entry, divided.
type EntryView struct {
	At     entry.Instant `json:"at"`
	Text   string        `json:"text"` // what the layout gives as text, or the whole
	Raw    string        `json:"raw"`
	Fields []entry.Field `json:"fields"`
	Fits   bool          `json:"fits"`
}

// WayView is the way in of a source, as it is now.
type WayView struct {
	State origin.Way `json:"state"`
	// Waiting is how many entries were taken, and cannot be kept.
	Waiting int `json:"waiting,omitempty"`
}
