package api

import (
	"time"

	"dimlantern/core/entry"
)

// BeginQuery asks for a first rule about an entry of an origin.
type BeginQuery struct {
	Origin   string         `json:"origin"`
	Raw      string         `json:"raw"`      // the entry as it stands in the log
	Severity entry.Severity `json:"severity"` // 0 is a warning
	Write    bool           `json:"write"`
}

// Begun is a proposal for a rule, and what it would have done.
type Begun struct {
	Name   string `json:"name"` // the file that will be, or was, written
	Text   string `json:"text"`
	Done   bool   `json:"done"`
	Hits   int64  `json:"hits"` // among the newest entries
	Looked int64  `json:"looked"`
	Raised int64  `json:"raised"`
	// Why says by what hits are counted, and by what not.
	Why []string `json:"why,omitempty"`
}

// Offer is something other than a file that can be brought in.
type Offer struct {
	Type   string   `json:"type"`  // what is typed to choose it
	Words  string   `json:"words"` // what is known of it
	Mend   string   `json:"mend,omitempty"`
	Bad    bool     `json:"bad,omitempty"`    // it cannot be read
	Detail []string `json:"detail,omitempty"` // what it has written lately, who is sending
}

// BringQuery names a log.
type BringQuery struct {
	Path   string `json:"path"`
	Begin  string `json:"begin"`          // as a rule file has it; "" is now
	Layout string `json:"layout"`         // "" is the one that fits best
	Name   string `json:"name,omitempty"` // of the source; "" is one by the path
	Write  bool   `json:"write"`
}

// Brought is a proposal for settings of a log.
type Brought struct {
	Files  []BroughtFile `json:"files"` // that fit the path
	Fit    int           `json:"fit"`   // how many those are; Files are the first of them
	Words  string        `json:"words"` // what is the matter with the path, or ""
	Mend   string        `json:"mend"`
	Name   string        `json:"name"`             // the file that will be, or was, written
	Source string        `json:"source,omitempty"` // how the first source in it is called
	Text   string        `json:"text"`
	Done   bool          `json:"done"`

	Formats []FileFormat `json:"formats,omitempty"` // where the files are in several: each gets a source
	Layouts []LayoutFit  `json:"layouts"`           // that could be used, best first; plain is the last
	Layout  string       `json:"layout"`            // the one in Text
	Usual   []EntryView  `json:"usual"`             // entries of the kinds of which there are most
	Odd     []EntryView  `json:"odd"`               // of those of which there are few
	Looked  int          `json:"looked"`            // entries that were looked at
	Copies  int          `json:"copies"`            // rotated copies beside the files
	Offers  []Offer      `json:"offers"`            // what can be brought in that is no file
}

// LayoutFit says how many of the entries that were looked at a layout fits.
type LayoutFit struct {
	Name  string `json:"name"`
	Fits  int    `json:"fits"`
	Of    int    `json:"of"`
	Times string `json:"times"` // how many have a time, and in which span, in words
}

// FileFormat is a form that some of several files are written in.
type FileFormat struct {
	What  string   `json:"what"` // with how many entries it fits
	Files []string `json:"files"`
}

// BroughtFile is a file that fits a path.
type BroughtFile struct {
	Path  string    `json:"path"`
	Size  int64     `json:"size"`
	Mod   time.Time `json:"mod"`
	Words string    `json:"words"` // why it cannot be read, or ""
	Mend  string    `json:"mend"`
}
