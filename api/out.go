package api

import (
	"path/filepath"
	"time"

	"github.com/dustin/go-humanize"

	"dimlantern/core/entry"
)

// Delivery is how a delivery stands.
type Delivery struct {
	Name      string        `json:"name"`
	To        string        `json:"to"`
	Off       bool          `json:"off,omitempty"`
	Trouble   bool          `json:"trouble"`
	Words     string        `json:"words"` // what is the matter, or how it goes
	Mend      string        `json:"mend,omitempty"`
	Since     entry.Instant `json:"since,omitempty"` // of the trouble
	Sent      int64         `json:"delivered"`       // entries, in all
	Refused   int64         `json:"refused"`         // entries that the receiver refused for good
	Lost      int64         `json:"lost_bytes"`
	Waiting   int64         `json:"waiting_bytes"`   // that are there and not delivered
	Entries   int64         `json:"unsure"`          // of those, entries that were sent and not surely taken yet
	Oldest    time.Duration `json:"oldest_ns"`       // since when the oldest of it waits
	Buffer    int64         `json:"buffer_bytes"`    // how much may wait of what exists nowhere else
	WhenFull  string        `json:"when_full"`       // in words
	LastTaken entry.Instant `json:"taken,omitempty"` // when the receiver took something last; 0 is never
}

// ReportList are all reports of the settings, by their names.
type ReportList struct {
	List []ReportView `json:"list"`
}

// ReportView is a report, and how it stands.
type ReportView struct {
	Name    string         `json:"name"`
	Title   string         `json:"title"`
	Asks    []string       `json:"asks"`
	Every   string         `json:"every,omitempty"` // in words; "" is only when somebody asks for it
	Covers  string         `json:"covers,omitempty"`
	Forms   []string       `json:"forms"`
	Tell    []string       `json:"tell,omitempty"`
	Write   string         `json:"write,omitempty"`
	Keep    int            `json:"keep"`
	Off     bool           `json:"off,omitempty"`
	File    string         `json:"file"`
	Line    int            `json:"line"`
	Next    entry.Instant  `json:"next,omitempty"` // when it is due; 0 is never
	Results []ReportResult `json:"results"`        // the newest first
}

// ReportResult is what came of a report.
type ReportResult struct {
	Due      entry.Instant `json:"due"`
	Made     entry.Instant `json:"made"`
	From     entry.Instant `json:"from"`
	To       entry.Instant `json:"to"`
	Asked    bool          `json:"asked,omitempty"`
	Empty    bool          `json:"empty,omitempty"`
	Skipped  bool          `json:"skipped,omitempty"`
	Failed   string        `json:"failed,omitempty"`
	Finished bool          `json:"finished"`
	Size     int64         `json:"size"`
	Files    []ReportFile  `json:"files,omitempty"`
	Told     []ReportTold  `json:"told,omitempty"`
}

// ReportFile is a form of a result.
type ReportFile struct {
	Form string `json:"form"`
	Size int64  `json:"size"`
	Path string `json:"path"`
}

// ReportTold is how a contact was told of a result.
type ReportTold struct {
	Contact string        `json:"contact"`
	State   string        `json:"state"` // waiting, told, given up; "" where nobody knows any more
	Words   string        `json:"words,omitempty"`
	At      entry.Instant `json:"at,omitempty"`
}

// ReportQuery asks for a result of a report, or to make one.
type ReportQuery struct {
	Name   string        `json:"name"`
	Now    bool          `json:"now"`    // make one
	Due    entry.Instant `json:"due"`    // which one; 0 is the newest
	Covers string        `json:"covers"` // instead of what the report says, as it says that
	Form   string        `json:"form"`   // "" is its first one
	Tell   bool          `json:"tell"`   // tell the report's contacts, once more
}

// ReportDone is a result.
type ReportDone struct {
	Body   []byte       `json:"body"`
	Form   string       `json:"form"`
	Result ReportResult `json:"result"`
}

// DeliveryList are all deliveries, by their names.
type DeliveryList struct {
	List []Delivery `json:"list"`
}

// MeasureList are all measures of the settings, and where they go.
type MeasureList struct {
	Listen string        `json:"listen,omitempty"`
	To     string        `json:"to,omitempty"`
	Words  string        `json:"words,omitempty"` // what keeps them from going there
	Most   int           `json:"most"`            // series
	Beyond int64         `json:"beyond"`          // entries that found no series of their own
	List   []MeasureView `json:"list"`
}

// MeasureView is a measure, and what it has counted.
type MeasureView struct {
	Name     string   `json:"name"`
	Out      string   `json:"out"` // its name for other systems
	Kind     string   `json:"kind"`
	Shown    string   `json:"shown"`
	On       []string `json:"on,omitempty"`
	Per      []string `json:"per,omitempty"`
	Off      bool     `json:"off,omitempty"`
	Series   int      `json:"series"`
	Entries  int64    `json:"entries"` // that were counted
	NoNumber int64    `json:"no_number,omitempty"`
	Negative int64    `json:"negative,omitempty"`
}

// Say says what came of it.
func (r *ReportResult) Say() string {
	s := "of " + Moment(r.Due) + ": "
	switch {
	case r.Failed != "" && !r.Finished:
		return s + "it could not be made yet: " + r.Failed
	case r.Failed != "":
		return s + "it could not be made: " + r.Failed
	case r.Skipped:
		return s + "it was empty, and left out"
	}
	s += "made"
	if r.Empty {
		s += ", empty"
	}
	for i, f := range r.Files {
		s += map[bool]string{true: ": ", false: ", "}[i == 0] + f.Form + " " + humanize.IBytes(uint64(f.Size))
	}
	if len(r.Files) > 0 {
		s += " in " + filepath.Dir(r.Files[0].Path)
	}
	for _, t := range r.Told {
		switch t.State {
		case "told":
			s += ", told " + t.Contact + " at " + Moment(t.At)
		case "waiting":
			s += ", waits to be told to " + t.Contact
			if t.Words != "" {
				s += " (" + t.Words + ")"
			}
		case "":
		default:
			s += ", " + t.Contact + " could not be told (" + t.Words + ")"
		}
	}
	return s
}

// KeepList is what is kept.
type KeepList struct {
	List  []Kept `json:"list"`
	Bytes int64  `json:"bytes"`          // all together
	Month int64  `json:"bytes_in_month"` // what it will be in a month
	Free  int64  `json:"free"`           // of the database's file, used again
}

// Kept is something that is kept.
type Kept struct {
	Name    string        `json:"name"`
	What    string        `json:"what"`
	For     string        `json:"for"`     // how long, in words
	Entries int64         `json:"entries"` // or alerts, messages, …
	Bytes   int64         `json:"bytes"`   // on the disk
	Month   int64         `json:"bytes_in_month"`
	Oldest  entry.Instant `json:"oldest,omitempty"` // 0 where there is none
}
