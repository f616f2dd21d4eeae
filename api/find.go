package api

import "dimlantern/core/entry"

// Where entries are looked for.
const (
	InOrigin = "origin"
	InSource = "source"
	InAll    = "all"
)

// FindQuery looks for entries among all that there are, newest first, as far as an answer
// takes no longer than a moment; the next one goes on where it ended.
type FindQuery struct {
	Text   string        `json:"text"`             // an EXPR of the language, or words
	Where  string        `json:"where"`            // InOrigin, InSource or InAll
	Origin string        `json:"origin,omitempty"` // with InOrigin
	Source string        `json:"source,omitempty"` // with InSource
	At     entry.Instant `json:"at,omitempty"`     // only entries up to then; 0 is now
	From   entry.Instant `json:"from,omitempty"`   // only entries from then on; 0 is any
	Lines  int           `json:"lines"`            // so many entries at most
	Go     *FindPlace    `json:"go,omitempty"`     // as the answer before had it; nil begins
}

// FindPlace is how far was looked.
type FindPlace struct {
	Logs []FindLog `json:"logs"`
	Of   int64     `json:"of"` // bytes in all
}

// FindLog is how far was looked in a log: members newer than the one of that path are done.
type FindLog struct {
	Origin string        `json:"origin"`
	Path   string        `json:"path"`  // "" is all that there is
	End    int64         `json:"end"`   // what lies behind it is done; below 0 nothing is
	Until  entry.Instant `json:"until"` // what is left is no newer
	Left   int64         `json:"left"`  // bytes
}

// Found are entries that were found since the answer before, newest first.
type Found struct {
	Expr   bool          `json:"expr"` // the text is an expression, not words
	Lines  []FoundEntry  `json:"lines"`
	Looked int64         `json:"looked"`           // entries that were looked at
	Left   int64         `json:"left"`             // bytes that were not
	Until  entry.Instant `json:"until"`            // what is not yet found is no newer
	Go     *FindPlace    `json:"go,omitempty"`     // nil: that was all
	Unread []string      `json:"unread,omitempty"` // files that cannot be read, and why
}

// FoundEntry is an entry that was found.
type FoundEntry struct {
	EntryView
	Source string `json:"source"`
	Origin string `json:"origin"`
	Offset int64  `json:"offset"` // of its first byte in its file
}
